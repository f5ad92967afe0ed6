//! The stand-in host: a small web server that renders the sample site from its database
//! and its files, for tests and for the demonstration. It answers to the site's host
//! name whatever the address it listens on, over HTTP and HTTPS on the same port.

mod php;
mod render;
mod tls;

pub use tls::Authority;

use crate::database::Failure;
use axum::Router;
use axum::body::Body;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::Response;
use hyper_util::rt::TokioIo;
use hyper_util::service::TowerToHyperService;
use render::Answer;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::net::{TcpListener, TcpStream};
use tokio::runtime::Runtime;
use tokio_rustls::TlsAcceptor;

/// How a site is served.
#[derive(Clone, Debug)]
pub struct HostOptions {
    /// The folder of the site; it may not be there yet.
    pub root: PathBuf,
    /// The host name that the server answers to.
    pub host: String,
    /// Send visitors who come over http to https.
    pub https: bool,
    /// User and password of HTTP basic authentication.
    pub login: Option<(String, String)>,
    /// The port; 0 for any that is free.
    pub port: u16,
    /// The address of this machine.
    pub ip: Ipv4Addr,
}

/// A running server; it ends when this is dropped.
pub struct StandIn {
    _runtime: Runtime,
    /// Where it listens.
    pub address: SocketAddr,
    leads_to: LeadsTo,
}

/// Where an old host sends everybody.
type LeadsTo = Arc<Mutex<Option<String>>>;

struct Site {
    options: HostOptions,
    leads_to: LeadsTo,
    credentials: Option<String>,
}

impl StandIn {
    /// Starts to serve a site.
    pub fn start(options: HostOptions, authority: &Authority) -> Result<Self, Failure> {
        let runtime =
            tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
        let acceptor = TlsAcceptor::from(authority.serve(&[&options.host, &twin(&options.host)])?);
        let listener = runtime.block_on(TcpListener::bind((options.ip, options.port)))?;
        let address = listener.local_addr()?;
        let credentials =
            options.login.as_ref().map(|(user, password)| base64(&format!("{user}:{password}")));
        let leads_to = LeadsTo::default();
        let site = Arc::new(Site { options, leads_to: leads_to.clone(), credentials });
        runtime.spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let (site, acceptor) = (site.clone(), acceptor.clone());
                tokio::spawn(async move {
                    let _ = serve(stream, site, acceptor).await;
                });
            }
        });
        Ok(Self { _runtime: runtime, address, leads_to })
    }

    /// From now on every address leads to the same one of another site, or to none.
    pub fn lead_to(&self, url: Option<&str>) {
        *self.leads_to.lock().unwrap_or_else(PoisonError::into_inner) = url.map(str::to_owned);
    }
}

async fn serve(stream: TcpStream, site: Arc<Site>, acceptor: TlsAcceptor) -> Result<(), Failure> {
    let mut first = [0];
    stream.peek(&mut first).await?;
    // A TLS handshake begins with record type 22 (RFC 8446, 5.1).
    let secure = first[0] == 22;
    let router = Router::new()
        .fallback(move |State(site): State<Arc<Site>>, request: Request| async move {
            answer(site, request, secure).await
        })
        .with_state(site);
    let service = TowerToHyperService::new(router);
    let http = hyper::server::conn::http1::Builder::new();
    if secure {
        let stream = acceptor.accept(stream).await?;
        http.serve_connection(TokioIo::new(stream), service).await?;
    } else {
        http.serve_connection(TokioIo::new(stream), service).await?;
    }
    Ok(())
}

async fn answer(site: Arc<Site>, request: Request, secure: bool) -> Response {
    let headers = request.headers().clone();
    let path = request.uri().path().to_owned();
    let query = request.uri().query().unwrap_or_default().to_owned();
    if let Some(refused) = refuse(&site, &headers, &path, &query, secure) {
        return refused;
    }
    // The database connections are plain and blocking.
    let rendered =
        tokio::task::spawn_blocking(move || render::page(&site.options, &path, &query)).await;
    match rendered {
        Ok(Ok(answer)) => respond(answer),
        Ok(Err(error)) => {
            respond(Answer::text(500, &format!("The site's program failed: {error}")))
        }
        Err(_) => respond(Answer::text(500, "The site's program stopped.")),
    }
}

fn refuse(
    site: &Site,
    headers: &HeaderMap,
    path: &str,
    query: &str,
    secure: bool,
) -> Option<Response> {
    let named = headers.get(header::HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
    let host = named.split(':').next().unwrap_or_default();
    let query_of = |query: &str| match query.is_empty() {
        true => String::new(),
        false => format!("?{query}"),
    };
    let leads_to = site.leads_to.lock().unwrap_or_else(PoisonError::into_inner).clone();
    if let Some(to) = leads_to {
        return Some(respond(Answer::redirect(301, &format!("{to}{path}{}", query_of(query)))));
    }
    if host == twin(&site.options.host) {
        let scheme = if site.options.https { "https" } else { "http" };
        let to = format!("{scheme}://{}{path}{}", site.options.host, query_of(query));
        return Some(respond(Answer::redirect(301, &to)));
    }
    if host != site.options.host {
        return Some(respond(Answer::text(421, "This host serves another site.")));
    }
    if let Some(wanted) = &site.credentials {
        let given = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
        if given != Some(&format!("Basic {wanted}")) {
            let mut refused = respond(Answer::text(401, "A password is wanted."));
            let challenge = header::HeaderValue::from_static("Basic realm=\"Glimmer Point\"");
            refused.headers_mut().insert(header::WWW_AUTHENTICATE, challenge);
            return Some(refused);
        }
    }
    if site.options.https && !secure {
        let to = format!("https://{named}{path}{}", query_of(query));
        return Some(respond(Answer::redirect(301, &to)));
    }
    None
}

/// The same host with or without `www.`
fn twin(host: &str) -> String {
    host.strip_prefix("www.").map_or_else(|| format!("www.{host}"), str::to_owned)
}

fn respond(answer: Answer) -> Response {
    let mut response = Response::new(Body::from(answer.body));
    *response.status_mut() = StatusCode::from_u16(answer.status).unwrap_or_default();
    if let Ok(kind) = answer.media_type.parse() {
        response.headers_mut().insert(header::CONTENT_TYPE, kind);
    }
    if let Some(Ok(location)) = answer.location.map(|location| location.parse()) {
        response.headers_mut().insert(header::LOCATION, location);
    }
    response
}

/// Base64 (RFC 4648, 4) of a short text.
fn base64(text: &str) -> String {
    const LETTERS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let mut out = String::new();
    for group in text.as_bytes().chunks(3) {
        let bits = group.iter().fold(0u32, |bits, byte| bits << 8 | u32::from(*byte))
            << (8 * (3 - group.len()));
        for n in 0..4 {
            let letter = LETTERS[(bits >> (18 - 6 * n) & 63) as usize] as char;
            out.push(if n <= group.len() { letter } else { '=' });
        }
    }
    out
}

#[cfg(test)]
mod tests {
    #[test]
    fn credentials_are_encoded_as_the_standard_says() {
        for (text, expected) in
            [("f", "Zg=="), ("fo", "Zm8="), ("foo", "Zm9v"), ("a:b:c", "YTpiOmM=")]
        {
            assert_eq!(super::base64(text), expected);
        }
    }
}
