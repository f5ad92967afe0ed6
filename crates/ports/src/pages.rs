//! Web pages as a scanner fetches them.

use serde::{Deserialize, Serialize};
use std::sync::mpsc::channel;
use std::time::Duration;
use thiserror::Error;

/// A request for a page; redirects are not followed.
#[derive(Clone, Debug, Default)]
pub struct PageRequest {
    /// The full address.
    pub url: String,
    /// Read the body, up to so many bytes; otherwise only the head is asked for.
    pub body: Option<usize>,
    /// Read the body only if it is a text that may hold addresses, by its media type.
    pub texts_only: bool,
}

/// What came back.
#[derive(Clone, Debug, Default)]
pub struct PageResponse {
    /// The status of HTTP.
    pub status: u16,
    /// Where a redirect leads, as written.
    pub location: Option<String>,
    /// The media type, without parameters, in lower case.
    pub media_type: String,
    /// The character set that the header names.
    pub charset: Option<String>,
    /// Other header lines, names in lower case.
    pub headers: Vec<(String, String)>,
    /// The body, decompressed, cut at the limit.
    pub body: Vec<u8>,
    /// Whether the body is longer than the limit.
    pub is_cut: bool,
    /// Time until the head of the answer was there.
    pub waited: Duration,
}

impl PageResponse {
    /// The values of a header, by its name in lower case.
    pub fn header<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        self.headers.iter().filter(move |(is, _)| is == name).map(|(_, value)| value.as_str())
    }
}

/// Whether a text of this media type may hold addresses.
pub fn holds_addresses(media_type: &str) -> bool {
    media_type.is_empty()
        || media_type.ends_with("xml")
        || media_type.ends_with("json")
        || media_type.ends_with("gzip")
        || media_type.ends_with("javascript")
        || media_type.ends_with("ecmascript")
        || matches!(media_type, "text/html" | "text/css" | "text/plain")
}

/// Why nothing came back.
#[derive(Clone, Debug, PartialEq, Eq, Error, Serialize, Deserialize)]
pub enum PageProblem {
    /// No address belongs to the name.
    #[error("no address is known for this name ({0})")]
    Name(String),
    /// No connection.
    #[error("cannot be reached ({0})")]
    Reach(String),
    /// The certificate is not accepted.
    #[error("the certificate is not accepted ({0})")]
    Certificate(String),
    /// It took too long.
    #[error("no answer in time")]
    Time,
    /// The connection ended before the answer was whole.
    #[error("the connection broke off ({0})")]
    Broken(String),
    /// What came is no answer, or one that cannot be read.
    #[error("{0}")]
    Other(String),
}

impl PageProblem {
    /// One stable word for the cause.
    pub fn cause(&self) -> &'static str {
        match self {
            PageProblem::Name(_) => "name-unknown",
            PageProblem::Reach(_) => "unreachable",
            PageProblem::Certificate(_) => "certificate",
            PageProblem::Time => "time-out",
            PageProblem::Broken(_) => "broken-off",
            PageProblem::Other(_) => "bad-answer",
        }
    }
}

/// What a request came to.
pub type Fetched = Result<PageResponse, PageProblem>;

/// Is told once what a request came to, from whatever thread.
pub type Fetching = Box<dyn FnOnce(Fetched) + Send>;

/// Where pages come from.
pub trait PageSource: Send + Sync {
    /// Begins to fetch one page, and does not wait for it.
    fn begin(&self, request: PageRequest, done: Fetching);

    /// Fetches one page.
    fn fetch(&self, request: &PageRequest) -> Fetched {
        let (tell, told) = channel();
        self.begin(request.clone(), Box::new(move |fetched| drop(tell.send(fetched))));
        told.recv().unwrap_or_else(|_| Err(PageProblem::Other("stopped".into())))
    }
}
