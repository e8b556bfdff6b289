//! A receiver of alerts on loopback: an HTTP server that keeps what is posted to it.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, AtomicU16, Ordering};
use std::sync::{Arc, Mutex};

/// A request that came.
#[derive(Clone, Debug)]
pub struct Posted {
    /// Its target: `/hook?x=1`.
    pub path: String,
    /// Its headers, names in lower case.
    pub headers: Vec<(String, String)>,
    /// Its body.
    pub body: String,
}

impl Posted {
    /// The value of a header.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }
}

/// What such a server has and does.
pub(crate) struct Shared<T> {
    pub(crate) address: SocketAddr,
    pub(crate) got: Mutex<Vec<T>>,
    ends: AtomicBool,
}

impl<T: Send + 'static> Shared<T> {
    /// Listens at a port, or at a free one, and answers each connection in a thread of its own.
    pub(crate) fn listen(port: u16, serve: impl Fn(&Self, TcpStream) + Send + Sync + 'static) -> Arc<Self> {
        let listener = TcpListener::bind(("127.0.0.1", port)).expect("a port of loopback");
        let address = listener.local_addr().expect("its address");
        let shared = Arc::new(Self { address, got: Mutex::default(), ends: AtomicBool::new(false) });
        let (mine, serve) = (shared.clone(), Arc::new(serve));
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                if mine.ends.load(Ordering::Relaxed) {
                    break;
                }
                let Ok(stream) = stream else { continue };
                let (mine, serve) = (mine.clone(), serve.clone());
                std::thread::spawn(move || serve(&mine, stream));
            }
        });
        shared
    }

    pub(crate) fn end(&self) {
        self.ends.store(true, Ordering::Relaxed);
        // Wakes it up.
        let _ = TcpStream::connect(self.address);
    }

    pub(crate) fn keep(&self, got: T) {
        self.got.lock().expect("nobody panicked").push(got);
    }
}

/// An HTTP server that keeps what is posted to it. It ends when it is dropped.
pub struct HttpReceiver {
    shared: Arc<Shared<Posted>>,
    status: Arc<AtomicU16>,
}

impl HttpReceiver {
    /// At a free port.
    pub fn start() -> Self {
        Self::start_at(0)
    }

    /// At a port, which is free.
    pub fn start_at(port: u16) -> Self {
        let status = Arc::new(AtomicU16::new(204));
        let answers = status.clone();
        let shared = Shared::listen(port, move |shared: &Shared<Posted>, stream| {
            if let Some(posted) = read_request(&stream) {
                let status = answers.load(Ordering::Relaxed);
                if status < 300 {
                    shared.keep(posted);
                }
                let words = "said by the receiver";
                let answer = match status {
                    // RFC 9110, 15.3.5: no content.
                    204 => "HTTP/1.1 204 No Content\r\nConnection: close\r\n\r\n".to_string(),
                    _ => format!(
                        "HTTP/1.1 {status} Told\r\nConnection: close\r\nLocation: /elsewhere\r\nContent-Length: {}\r\n\r\n{words}",
                        words.len()
                    ),
                };
                let _ = (&stream).write_all(answer.as_bytes());
            }
        });
        Self { shared, status }
    }

    /// Answers with this status from now on. What is not below 300 is not kept.
    pub fn answers(&self, status: u16) {
        self.status.store(status, Ordering::Relaxed);
    }

    /// Its port.
    pub fn port(&self) -> u16 {
        self.shared.address.port()
    }

    /// What came, in order.
    pub fn got(&self) -> Vec<Posted> {
        self.shared.got.lock().expect("nobody panicked").clone()
    }
}

impl Drop for HttpReceiver {
    fn drop(&mut self) {
        self.shared.end();
    }
}

fn read_request(stream: &TcpStream) -> Option<Posted> {
    let mut reader = BufReader::new(stream);
    let mut line = String::new();
    reader.read_line(&mut line).ok()?;
    let path = line.split(' ').nth(1)?.to_string();
    let mut headers = Vec::new();
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).ok()?;
        let Some((name, value)) = line.trim_end().split_once(':') else { break };
        headers.push((name.to_lowercase(), value.trim().to_string()));
    }
    let length = headers.iter().find(|(name, _)| name == "content-length");
    let mut body = vec![0; length.and_then(|(_, value)| value.parse().ok()).unwrap_or(0)];
    reader.read_exact(&mut body).ok()?;
    Some(Posted { path, headers, body: String::from_utf8(body).ok()? })
}
