//! A bench behind its HTTP interface in this process, for measurements, and a connection to it.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpStream};
use workshop::Workshop;

/// Serves a workshop on a free port.
pub fn serve(w: Workshop) -> SocketAddr {
    let listener = server::listen("127.0.0.1:0".parse().expect("an address")).expect("a port");
    let served =
        server::Server::new(w, listener, server::Door::default(), server::Limits::default()).expect("a server");
    let address = served.address();
    std::thread::spawn(move || {
        tokio::runtime::Runtime::new().expect("a runtime").block_on(served.run()).expect("answers");
    });
    address
}

/// One connection that is kept.
pub struct Wire {
    stream: BufReader<TcpStream>,
    address: SocketAddr,
}

impl Wire {
    pub fn to(address: SocketAddr) -> Wire {
        Wire { stream: BufReader::new(TcpStream::connect(address).expect("a connection")), address }
    }

    /// Status and body of an answer.
    pub fn ask(&mut self, method: &str, path: &str, body: &str) -> std::io::Result<(u16, Vec<u8>)> {
        let head = format!("{method} {path} HTTP/1.1\r\nHost: {}\r\nContent-Type: application/json\r\n", self.address);
        self.stream.get_mut().write_all(format!("{head}Content-Length: {}\r\n\r\n{body}", body.len()).as_bytes())?;
        let (mut status, mut length) = (0, 0);
        loop {
            let mut line = String::new();
            if self.stream.read_line(&mut line)? == 0 {
                return Err(std::io::ErrorKind::UnexpectedEof.into());
            }
            let line = line.trim().to_ascii_lowercase();
            if let Some(rest) = line.strip_prefix("http/1.1 ") {
                status = rest.split(' ').next().and_then(|s| s.parse().ok()).unwrap_or(0);
            } else if let Some(n) = line.strip_prefix("content-length: ") {
                length = n.parse().unwrap_or(0);
            } else if line.is_empty() {
                break;
            }
        }
        let mut bytes = vec![0; length];
        self.stream.read_exact(&mut bytes)?;
        Ok((status, bytes))
    }
}

/// Bytes in memory (Linux).
pub fn resident() -> f64 {
    let text = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    text.split_whitespace().nth(1).and_then(|n| n.parse::<f64>().ok()).unwrap_or(0.0) * 4096.0
}
