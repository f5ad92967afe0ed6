//! Pages over HTTP and HTTPS.

use crate::tls::Trust;
use fernweh_ports::{
    Fetching, PageProblem, PageRequest, PageResponse, PageSource, Result, Trouble, holds_addresses,
};
use reqwest::Client;
use reqwest::header::{CONTENT_TYPE, HeaderValue, LOCATION};
use reqwest::redirect::Policy;
use std::net::{SocketAddr, ToSocketAddrs};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::runtime::{Builder, Runtime};
use url::{Origin, Url};

/// How to reach a site before the domain points there, and how to get in.
#[derive(Clone)]
pub struct HttpOptions {
    /// The host of the site.
    pub host: String,
    /// Scheme, host and port of the site: only it gets the login.
    pub origin: Option<Origin>,
    /// The host or address, perhaps with a port, that is connected to in its place.
    pub address: Option<String>,
    /// User and password of HTTP basic authentication (RFC 7617), for the site only.
    pub login: Option<(String, String)>,
    /// Who is trusted for this site, beside the authorities of this machine.
    pub trust: Trust,
    /// How long one answer may take, from the request to its last byte.
    pub patience: Duration,
}

/// How long an answer may take where nothing else is said.
pub const PATIENCE: Duration = Duration::from_secs(30);

/// Fetches pages; several may be under way at once.
pub struct HttpSource {
    clients: Arc<Clients>,
    runtime: Runtime,
}

struct Clients {
    /// For the site itself.
    own: Client,
    /// For `http:` elsewhere.
    plain: Client,
    /// For `https:` elsewhere: other ports of its host, other hosts.
    others: Client,
    origin: Option<Origin>,
    login: Option<(String, String)>,
}

/// Where the hosts of a site are asked, whatever their names say.
#[derive(Clone, Debug)]
pub struct HostPlace {
    /// The hosts.
    pub hosts: Vec<String>,
    /// Where `http:` addresses without a port are asked.
    pub http: SocketAddr,
    /// Where `https:` addresses without a port are asked.
    pub https: SocketAddr,
    /// Whether certificates are judged; where they are not, no login is sent.
    pub judged: bool,
}

impl HttpSource {
    /// Prepares connections; nothing is fetched yet.
    pub fn new(options: &HttpOptions) -> Result<Self> {
        let address = options.address.as_deref().map(socket_address).transpose()?;
        // The port belongs to the site's own address alone.
        let elsewhere = address.map(|address| SocketAddr::new(address.ip(), 0));
        let hosts = std::slice::from_ref(&options.host);
        let own = client(options, hosts, address, Judge::Of(&options.trust))?;
        // Whoever is named for the site vouches for nobody else.
        let others = client(options, hosts, elsewhere, Judge::Usual)?;
        Self::with(options, options.login.clone(), [own, others.clone(), others])
    }

    /// Prepares connections to a host, for several names.
    pub fn at(options: &HttpOptions, place: &HostPlace) -> Result<Self> {
        let judge = || match place.judged {
            true => Judge::Of(&options.trust),
            false => Judge::Nobody,
        };
        let plain = client(options, &place.hosts, Some(place.http), judge())?;
        let secure = client(options, &place.hosts, Some(place.https), judge())?;
        let is_plain =
            matches!(&options.origin, Some(Origin::Tuple(scheme, ..)) if scheme == "http");
        let own = if is_plain { plain.clone() } else { secure.clone() };
        // Whoever shows any certificate is told nothing.
        let login = options.login.clone().filter(|_| place.judged);
        Self::with(options, login, [own, plain, secure])
    }

    fn with(
        options: &HttpOptions,
        login: Option<(String, String)>,
        [own, plain, others]: [Client; 3],
    ) -> Result<Self> {
        let runtime = Builder::new_multi_thread()
            .worker_threads(2)
            .enable_all()
            .build()
            .map_err(|error| Trouble::outside(UNPREPARED).because(error))?;
        let origin = options.origin.clone();
        Ok(Self { clients: Arc::new(Clients { own, plain, others, origin, login }), runtime })
    }
}

const UNPREPARED: &str = "cannot prepare the connection to the site";

/// Who judges certificates.
enum Judge<'a> {
    /// This machine.
    Usual,
    /// This machine, and whoever is named for the site.
    Of(&'a Trust),
    /// Nobody: what is read is not trusted.
    Nobody,
}

impl Clients {
    async fn get(&self, request: &PageRequest) -> std::result::Result<PageResponse, Failure> {
        // Another port or scheme of the same host may belong to anybody.
        let url = Url::parse(&request.url).ok();
        let own = url.as_ref().is_some_and(|url| Some(url.origin()) == self.origin);
        let client = match own {
            true => &self.own,
            false if url.is_some_and(|url| url.scheme() == "http") => &self.plain,
            false => &self.others,
        };
        let asked = match request.body {
            Some(_) => client.get(&request.url),
            None => client.head(&request.url),
        };
        let asked = match self.login.as_ref().filter(|_| own) {
            Some((user, password)) => asked.basic_auth(user, Some(password)),
            None => asked,
        };
        let began = Instant::now();
        let mut answer = asked.send().await.map_err(|error| Failure { error, in_body: false })?;
        let waited = began.elapsed();
        let text = |value: &HeaderValue| String::from_utf8_lossy(value.as_bytes()).into_owned();
        let headers = answer.headers();
        let media = headers.get(CONTENT_TYPE).map(text).unwrap_or_default();
        let (media_type, charset) = media_type(&media);
        let mut response = PageResponse {
            status: answer.status().as_u16(),
            location: headers.get(LOCATION).map(text),
            headers: headers
                .iter()
                .filter(|(name, _)| KEPT.contains(&name.as_str()))
                .map(|(name, value)| (name.as_str().to_owned(), text(value)))
                .collect(),
            media_type,
            charset,
            waited,
            ..PageResponse::default()
        };
        let wanted = !request.texts_only || holds_addresses(&response.media_type);
        let limit = request.body.filter(|_| wanted).unwrap_or(0);
        if limit == 0 {
            return Ok(response);
        }
        let broken = |error| Failure { error, in_body: true };
        while let Some(chunk) = answer.chunk().await.map_err(broken)? {
            let room = limit - response.body.len();
            response.body.extend_from_slice(&chunk[..chunk.len().min(room)]);
            if chunk.len() > room {
                response.is_cut = true;
                break;
            }
        }
        Ok(response)
    }
}

/// Header lines of answers that matter to whoever reads a page.
const KEPT: [&str; 13] = [
    "access-control-allow-origin",
    "content-disposition",
    "content-language",
    "content-length",
    "content-security-policy",
    "date",
    "link",
    "refresh",
    "retry-after",
    "set-cookie",
    "strict-transport-security",
    "x-frame-options",
    "x-robots-tag",
];

/// A media type and its character set, from the header.
fn media_type(header: &str) -> (String, Option<String>) {
    let mut parts = header.split(';').map(str::trim);
    let media_type = parts.next().unwrap_or_default().to_ascii_lowercase();
    let charset = parts.find_map(|part| {
        let (name, value) = part.split_once('=')?;
        let value = value.trim().trim_matches('"');
        (name.trim().eq_ignore_ascii_case("charset") && !value.is_empty()).then(|| value.to_owned())
    });
    (media_type, charset)
}

/// Why there is no answer, or no whole one.
struct Failure {
    error: reqwest::Error,
    in_body: bool,
}

impl From<Failure> for PageProblem {
    fn from(failure: Failure) -> Self {
        let Failure { error, in_body } = failure;
        let words = chain(&error);
        if error.is_timeout() {
            PageProblem::Time
        } else if words.contains("certificate") {
            PageProblem::Certificate(words)
        } else if words.starts_with("no address is known") {
            let host = error.url().and_then(Url::host_str).unwrap_or_default();
            PageProblem::Name(host.to_owned())
        } else if error.is_connect() {
            PageProblem::Reach(words)
        } else if ["close_notify", "end of file", "before message length"]
            .iter()
            .any(|sign| words.contains(sign))
        {
            PageProblem::Broken("it ended before the answer was whole".into())
        } else if error.is_decode() {
            PageProblem::Other(format!("its content cannot be read: {words}"))
        } else if in_body || error.is_request() {
            PageProblem::Broken(words)
        } else {
            PageProblem::Other(words)
        }
    }
}

impl PageSource for HttpSource {
    fn begin(&self, request: PageRequest, done: Fetching) {
        let clients = self.clients.clone();
        self.runtime.spawn(async move {
            let got = tokio::select! {
                got = clients.get(&request) => got.map_err(PageProblem::from),
                () = crate::stop::wanted() => Err(PageProblem::Other("stopped".into())),
            };
            done(got);
        });
    }
}

fn client(
    options: &HttpOptions,
    hosts: &[String],
    address: Option<SocketAddr>,
    judge: Judge<'_>,
) -> Result<Client> {
    let mut builder = Client::builder()
        .redirect(Policy::none())
        .connect_timeout(options.patience / 3)
        .timeout(options.patience)
        .cookie_store(true)
        .user_agent(concat!("Fernweh/", env!("CARGO_PKG_VERSION")))
        .no_proxy();
    for (host, address) in hosts.iter().zip(address.into_iter().cycle()) {
        builder = builder.resolve(host, address);
    }
    match judge {
        Judge::Usual => {}
        Judge::Of(trust) => {
            let mut tls = crate::tls::client(trust)?;
            tls.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
            builder = builder.tls_backend_preconfigured(tls);
        }
        Judge::Nobody => builder = builder.tls_danger_accept_invalid_certs(true),
    }
    builder.build().map_err(|error| Trouble::outside(UNPREPARED).because(chain(&error)))
}

/// An address, and perhaps a port; the port is 0 where none is named.
///
/// # Errors
///
/// Where it is none, and no host of this name is known.
pub fn socket_address(text: &str) -> Result<SocketAddr> {
    let with_port = if text.parse::<std::net::IpAddr>().is_ok() || !text.contains(':') {
        (text, 0).to_socket_addrs()
    } else {
        text.to_socket_addrs()
    };
    with_port.ok().and_then(|mut found| found.next()).ok_or_else(|| {
        Trouble::usage(format!("`{text}` is not an address")).hint(
            "connect-to is an IP address or a host name; a port may follow, as in 203.0.113.9:8443",
        )
    })
}

/// The last cause says what happened; the ones before it only who passed it on.
fn chain(error: &reqwest::Error) -> String {
    let mut words = error.to_string();
    let mut source = std::error::Error::source(error);
    while let Some(cause) = source {
        words = cause.to_string();
        source = cause.source();
    }
    let host = error.url().and_then(|url| url.host_str()).unwrap_or("this name");
    fernweh_ports::without_address(host, &words).unwrap_or_else(|| fernweh_ports::plain(&words))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_may_have_a_port() {
        let shown = |text| socket_address(text).map(|address| address.to_string()).ok();
        assert_eq!(shown("203.0.113.9").as_deref(), Some("203.0.113.9:0"));
        assert_eq!(shown("203.0.113.9:8443").as_deref(), Some("203.0.113.9:8443"));
        assert_eq!(shown("[2001:db8::1]:80").as_deref(), Some("[2001:db8::1]:80"));
        assert_eq!(shown("2001:db8::1").as_deref(), Some("[2001:db8::1]:0"));
        assert!(socket_address("203.0.113.9:port").is_err());
    }
}
