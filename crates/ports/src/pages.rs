//! Web pages as a scanner fetches them.

use thiserror::Error;

/// A request for a page; redirects are not followed.
#[derive(Clone, Debug)]
pub struct PageRequest {
    /// The full address.
    pub url: String,
    /// Read the body, up to so many bytes; otherwise only the head is asked for.
    pub body: Option<usize>,
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
    /// The body, decompressed, cut at the limit.
    pub body: Vec<u8>,
}

/// Why nothing came back.
#[derive(Clone, Debug, Error)]
pub enum PageProblem {
    /// No connection.
    #[error("cannot be reached ({0})")]
    Reach(String),
    /// The certificate is not accepted.
    #[error("the certificate is not accepted ({0})")]
    Certificate(String),
    /// It took too long.
    #[error("no answer in time")]
    Time,
    /// Anything else.
    #[error("{0}")]
    Other(String),
}

/// Where pages come from. Several threads ask at once.
pub trait PageSource: Sync {
    /// Fetches one page.
    fn fetch(&self, request: &PageRequest) -> Result<PageResponse, PageProblem>;
}
