//! A web server over HTTP and HTTPS on one port, that answers for any host as a test says: whole
//! answers, or raw bytes as a hostile server would send them.

use fernweh_demo::host::Authority;
use rustls::{ServerConfig, ServerConnection, StreamOwned};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::thread;

/// What was asked for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Request {
    /// Over HTTPS.
    pub secure: bool,
    /// `GET`, `HEAD`, …
    pub method: String,
    /// The host, without its port.
    pub host: String,
    /// The path with its query.
    pub path: String,
    /// Header lines, names in lower case.
    pub headers: Vec<(String, String)>,
}

impl Request {
    /// The value of a header, by its name in lower case.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(is, _)| is == name).map(|(_, value)| value.as_str())
    }

    /// The whole address, without a port.
    pub fn address(&self) -> String {
        let scheme = if self.secure { "https" } else { "http" };
        format!("{scheme}://{}{}", self.host, self.path)
    }
}

/// Writes whatever it likes; the connection ends with it.
pub type Trickster = Box<dyn FnOnce(&mut dyn Write) + Send>;

/// An answer.
pub enum Reply {
    /// A status, header lines, and a body.
    Whole(u16, Vec<(String, String)>, Vec<u8>),
    /// Anything at all.
    Raw(Trickster),
}

impl Reply {
    /// An answer with a media type.
    pub fn of(status: u16, media_type: &str, body: impl Into<Vec<u8>>) -> Self {
        Reply::Whole(status, vec![("Content-Type".into(), media_type.into())], body.into())
    }

    /// A redirect.
    pub fn to(status: u16, location: &str) -> Self {
        Reply::Whole(status, vec![("Location".into(), location.into())], Vec::new())
    }

    /// The same with one more header line.
    pub fn with(self, name: &str, value: &str) -> Self {
        match self {
            Reply::Whole(status, mut headers, body) => {
                headers.push((name.into(), value.into()));
                Reply::Whole(status, headers, body)
            }
            raw => raw,
        }
    }
}

/// A server; it lasts as long as the tests.
pub struct Stage {
    /// Its port, for HTTP and HTTPS.
    pub port: u16,
    asked: Arc<Mutex<Vec<Request>>>,
}

impl Stage {
    /// Starts one, with a certificate for these hosts.
    pub fn start(
        authority: &Authority,
        hosts: &[&str],
        answer: impl Fn(&Request) -> Reply + Send + Sync + 'static,
    ) -> Self {
        let config = authority.serve(hosts).expect("a certificate");
        let listener = TcpListener::bind(("127.0.0.1", 0)).expect("a free port");
        let port = listener.local_addr().expect("an address").port();
        let (asked, answer) = (Arc::new(Mutex::new(Vec::new())), Arc::new(answer));
        let noted = asked.clone();
        thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (noted, answer, config) = (noted.clone(), answer.clone(), config.clone());
                thread::spawn(move || drop(connection(stream, config, &noted, &*answer)));
            }
        });
        Self { port, asked }
    }

    /// What it was asked so far.
    pub fn asked(&self) -> Vec<Request> {
        self.asked.lock().expect("nobody panics").clone()
    }
}

type Answerer = dyn Fn(&Request) -> Reply + Send + Sync;

fn connection(
    stream: TcpStream,
    config: Arc<ServerConfig>,
    noted: &Mutex<Vec<Request>>,
    answer: &Answerer,
) -> std::io::Result<()> {
    stream.set_nodelay(true)?;
    let mut first = [0];
    stream.peek(&mut first)?;
    // A TLS handshake begins with record type 22 (RFC 8446, 5.1).
    if first[0] == 22 {
        let session = ServerConnection::new(config).map_err(std::io::Error::other)?;
        talk(&mut StreamOwned::new(session, stream), true, noted, answer)
    } else {
        talk(&mut &stream, false, noted, answer)
    }
}

fn talk<S: Read + Write>(
    stream: &mut S,
    secure: bool,
    noted: &Mutex<Vec<Request>>,
    answer: &Answerer,
) -> std::io::Result<()> {
    let mut stream = BufReader::new(stream);
    loop {
        let mut lines = Vec::new();
        loop {
            let mut line = String::new();
            if stream.read_line(&mut line)? == 0 {
                return Ok(());
            }
            match line.trim_end() {
                "" if lines.is_empty() => {}
                "" => break,
                line => lines.push(line.to_owned()),
            }
        }
        let mut words = lines[0].split(' ').map(str::to_owned);
        let headers = lines[1..].iter().filter_map(|line| line.split_once(':'));
        let mut request = Request {
            secure,
            method: words.next().unwrap_or_default(),
            path: words.next().unwrap_or_default(),
            headers: headers.map(|(n, v)| (n.to_ascii_lowercase(), v.trim().to_owned())).collect(),
            ..Request::default()
        };
        let host = request.header("host").unwrap_or_default().to_owned();
        request.host = host.rsplit_once(':').map_or(&*host, |(host, _)| host).to_owned();
        let length = request.header("content-length").and_then(|it| it.parse().ok()).unwrap_or(0);
        std::io::copy(&mut (&mut stream).take(length), &mut std::io::sink())?;
        noted.lock().expect("nobody panics").push(request.clone());
        match answer(&request) {
            Reply::Raw(trick) => {
                trick(stream.get_mut());
                return stream.get_mut().flush();
            }
            Reply::Whole(status, headers, body) => {
                let mut head = format!("HTTP/1.1 {status} Status\r\n");
                for (name, value) in headers {
                    head.push_str(&format!("{name}: {value}\r\n"));
                }
                head.push_str(&format!("Content-Length: {}\r\n\r\n", body.len()));
                let mut bytes = head.into_bytes();
                if request.method != "HEAD" {
                    bytes.extend(body);
                }
                stream.get_mut().write_all(&bytes)?;
                stream.get_mut().flush()?;
            }
        }
    }
}
