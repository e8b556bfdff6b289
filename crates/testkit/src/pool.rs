//! A stand-in for a pool of connections: hands everything on, but leaves out the session settings that a client
//! asks for when it connects, as such pools do.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};

/// Starts one before a server on a port of 127.0.0.1; gives its own port. It ends with the process.
pub fn pool_before(server_port: u16) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for client in listener.incoming().flatten() {
            std::thread::spawn(move || hand_on(client, server_port));
        }
    });
    port
}

fn hand_on(mut client: TcpStream, server_port: u16) -> std::io::Result<()> {
    let mut server = TcpStream::connect(("127.0.0.1", server_port))?;
    loop {
        let mut length = [0; 4];
        client.read_exact(&mut length)?;
        let mut body = vec![0; u32::from_be_bytes(length) as usize - 4];
        client.read_exact(&mut body)?;
        // A request for encryption comes first, and is refused (PostgreSQL manual, section 55.2.10).
        if body == 80_877_103_u32.to_be_bytes() {
            client.write_all(b"N")?;
            continue;
        }
        let mut kept = body[..4].to_vec();
        let mut words = body[4..].split(|b| *b == 0);
        while let (Some(name), Some(value)) = (words.next().filter(|n| !n.is_empty()), words.next()) {
            if name != b"options" {
                kept.extend([name, &[0], value, &[0]].concat());
            }
        }
        kept.push(0);
        server.write_all(&(kept.len() as u32 + 4).to_be_bytes())?;
        server.write_all(&kept)?;
        break;
    }
    let (mut from, mut to) = (client.try_clone()?, server.try_clone()?);
    std::thread::spawn(move || {
        let _ = std::io::copy(&mut from, &mut to);
        let _ = to.shutdown(Shutdown::Write);
    });
    std::io::copy(&mut server, &mut client)?;
    client.shutdown(Shutdown::Both)
}
