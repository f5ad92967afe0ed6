//! A web server that answers as a test says, and remembers what it was asked.

use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::thread;

/// A request: its path, and its header lines in small letters.
#[derive(Clone, Debug)]
pub struct Asked {
    /// The path with its query.
    pub path: String,
    /// The header lines.
    pub headers: Vec<String>,
}

/// What is answered: the media type and the body; `None` is "not found".
pub type Answer = Option<(&'static str, String)>;

/// A server on a free port of this machine.
pub struct Web {
    /// Its port.
    pub port: u16,
    asked: Arc<Mutex<Vec<Asked>>>,
}

impl Web {
    /// Starts one; it lasts as long as the tests.
    pub fn start(answer: impl Fn(&str) -> Answer + Send + Sync + 'static) -> Self {
        let listener = TcpListener::bind(("127.0.0.1", 0)).expect("a free port");
        let port = listener.local_addr().expect("an address").port();
        let (asked, answer) = (Arc::new(Mutex::new(Vec::new())), Arc::new(answer));
        let noted = asked.clone();
        thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (noted, answer) = (noted.clone(), answer.clone());
                thread::spawn(move || serve(stream, &noted, &*answer));
            }
        });
        Self { port, asked }
    }

    /// What it was asked so far.
    pub fn asked(&self) -> Vec<Asked> {
        self.asked.lock().expect("nobody panics").clone()
    }
}

fn serve(stream: TcpStream, noted: &Mutex<Vec<Asked>>, answer: &dyn Fn(&str) -> Answer) {
    let Ok(twin) = stream.try_clone() else { return };
    let (mut lines, mut stream) = (BufReader::new(twin), stream);
    loop {
        let mut head = Vec::new();
        loop {
            let mut line = String::new();
            match lines.read_line(&mut line) {
                Ok(length) if length > 0 => {}
                _ => return,
            }
            if line.trim().is_empty() {
                break;
            }
            head.push(line.trim().to_owned());
        }
        let Some(path) = head.first().and_then(|line| line.split(' ').nth(1)) else { return };
        let headers = head[1..].iter().map(|line| line.to_lowercase()).collect();
        let asked = Asked { path: path.to_owned(), headers };
        noted.lock().expect("nobody panics").push(asked);
        let (status, media, body) = match answer(path) {
            Some((media, body)) => ("200 OK", media, body),
            None => ("404 Not Found", "text/plain", String::new()),
        };
        let is_head = head[0].starts_with("HEAD");
        let length = body.len();
        let body = if is_head { String::new() } else { body };
        let text = format!(
            "HTTP/1.1 {status}\r\ncontent-type: {media}\r\ncontent-length: {length}\r\n\r\n{body}"
        );
        if stream.write_all(text.as_bytes()).is_err() {
            return;
        }
    }
}
