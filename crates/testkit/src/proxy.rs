//! A network between the program and a server that can be told to fail.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::{Arc, Condvar, Mutex};
use std::time::Duration;

/// How the network behaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Weather {
    /// Everything passes.
    Fair,
    /// Each piece of data comes late by this time.
    Slow(Duration),
    /// Nothing passes, and nobody is told.
    Silent,
    /// New connections are closed at once.
    Closed,
}

#[derive(Debug)]
struct Shared {
    weather: Mutex<(Weather, Vec<TcpStream>)>,
    changed: Condvar,
    /// How many more pieces pass to the server before nothing does.
    left: Mutex<Option<u64>>,
}

impl Shared {
    /// Waits until a piece may pass.
    fn let_pass(&self, to_server: bool) {
        loop {
            let mut weather = self.weather.lock().unwrap();
            while weather.0 == Weather::Silent {
                weather = self.changed.wait(weather).unwrap();
            }
            // While one piece is the last, no other one passes.
            if let Some(left) = self.left.lock().unwrap().as_mut().filter(|_| to_server) {
                if *left == 0 {
                    weather.0 = Weather::Silent;
                    continue;
                }
                *left -= 1;
                if *left == 0 {
                    weather.0 = Weather::Silent;
                }
            }
            let pause = weather.0;
            drop(weather);
            if let Weather::Slow(pause) = pause {
                std::thread::sleep(pause);
            }
            return;
        }
    }
}

/// A proxy on a port of 127.0.0.1. It ends with the process.
#[derive(Clone, Debug)]
pub struct Proxy {
    port: u16,
    shared: Arc<Shared>,
}

impl Proxy {
    /// To a server on another port of 127.0.0.1.
    pub fn to(server: u16) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let shared = Arc::new(Shared {
            weather: Mutex::new((Weather::Fair, Vec::new())),
            changed: Condvar::new(),
            left: Mutex::new(None),
        });
        let proxy = Self { port, shared: shared.clone() };
        std::thread::spawn(move || {
            for client in listener.incoming().map_while(Result::ok) {
                if shared.weather.lock().unwrap().0 == Weather::Closed {
                    continue;
                }
                let Ok(server) = TcpStream::connect(("127.0.0.1", server)) else { continue };
                let both = [client.try_clone().unwrap(), server.try_clone().unwrap()];
                shared.weather.lock().unwrap().1.extend(both);
                pump(client.try_clone().unwrap(), server.try_clone().unwrap(), shared.clone(), true);
                pump(server, client, shared.clone(), false);
            }
        });
        proxy
    }

    /// Its port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Changes how it behaves, also for connections that are there.
    pub fn set(&self, weather: Weather) {
        self.shared.weather.lock().unwrap().0 = weather;
        self.shared.changed.notify_all();
    }

    /// Lets so many more pieces of data pass to the server, and then nothing in either direction: the last one arrives, and its
    /// answer does not.
    pub fn falls_silent_after(&self, pieces: u64) {
        *self.shared.left.lock().unwrap() = Some(pieces);
    }

    /// Whether nothing passes.
    pub fn is_silent(&self) -> bool {
        self.shared.weather.lock().unwrap().0 == Weather::Silent
    }

    /// Lets everything pass that was held up, and that comes.
    pub fn goes_on(&self) {
        *self.shared.left.lock().unwrap() = None;
        self.set(Weather::Fair);
    }

    /// Cuts what there is, and lets everything pass that comes.
    pub fn clears_up(&self) {
        *self.shared.left.lock().unwrap() = None;
        self.cut();
        self.set(Weather::Fair);
    }

    /// Cuts all connections that are there.
    pub fn cut(&self) {
        for stream in self.shared.weather.lock().unwrap().1.drain(..) {
            // It may be closed already.
            let _ = stream.shutdown(Shutdown::Both);
        }
    }

    /// Closes one direction of all connections that are there.
    pub fn half_close(&self) {
        for stream in &self.shared.weather.lock().unwrap().1 {
            let _ = stream.shutdown(Shutdown::Write);
        }
    }
}

fn pump(mut from: TcpStream, mut to: TcpStream, shared: Arc<Shared>, to_server: bool) {
    std::thread::spawn(move || {
        let mut piece = vec![0; 64 << 10];
        while let Ok(length @ 1..) = from.read(&mut piece) {
            shared.let_pass(to_server);
            if to.write_all(&piece[..length]).is_err() {
                break;
            }
        }
        let _ = (from.shutdown(Shutdown::Both), to.shutdown(Shutdown::Both));
    });
}
