//! Pages over HTTP and HTTPS.

use crate::tls::Trust;
use fernweh_ports::{PageProblem, PageRequest, PageResponse, PageSource, Result, Trouble};
use reqwest::Client;
use reqwest::header::{CONTENT_TYPE, LOCATION};
use reqwest::redirect::Policy;
use std::net::{SocketAddr, ToSocketAddrs};
use std::time::Duration;
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
}

/// Fetches pages; several threads may ask at once.
pub struct HttpSource {
    /// For the site itself.
    client: Client,
    /// For whatever else: other ports of its host, other hosts.
    others: Client,
    runtime: Runtime,
    origin: Option<Origin>,
    login: Option<(String, String)>,
}

impl HttpSource {
    /// Prepares connections; nothing is fetched yet.
    pub fn new(options: &HttpOptions) -> Result<Self> {
        let what = "cannot prepare the connection to the site";
        let runtime = Builder::new_multi_thread()
            .worker_threads(2)
            .enable_all()
            .build()
            .map_err(|error| Trouble::outside(what).because(error))?;
        let address = options.address.as_deref().map(socket_address).transpose()?;
        // The port belongs to the site's own address alone.
        let elsewhere = address.map(|address| SocketAddr::new(address.ip(), 0));
        let (origin, login) = (options.origin.clone(), options.login.clone());
        let client = client(&options.host, address, Some(&options.trust))?;
        // Whoever is named for the site vouches for nobody else.
        let others = self::client(&options.host, elsewhere, None)?;
        Ok(Self { client, others, runtime, origin, login })
    }

    async fn get(&self, request: &PageRequest) -> reqwest::Result<PageResponse> {
        // Another port or scheme of the same host may belong to anybody.
        let own = Url::parse(&request.url).is_ok_and(|url| Some(url.origin()) == self.origin);
        let client = if own { &self.client } else { &self.others };
        let asked = match request.body {
            Some(_) => client.get(&request.url),
            None => client.head(&request.url),
        };
        let asked = match self.login.as_ref().filter(|_| own) {
            Some((user, password)) => asked.basic_auth(user, Some(password)),
            None => asked,
        };
        let mut answer = asked.send().await?;
        let header = |name| {
            answer
                .headers()
                .get(name)
                .map(|value| String::from_utf8_lossy(value.as_bytes()).into_owned())
        };
        let media: Option<String> = header(CONTENT_TYPE);
        let media = media.unwrap_or_default();
        let mut response = PageResponse {
            status: answer.status().as_u16(),
            location: header(LOCATION),
            media_type: media.split(';').next().unwrap_or_default().trim().to_ascii_lowercase(),
            body: Vec::new(),
        };
        let limit = request.body.unwrap_or(0);
        while response.body.len() < limit {
            let Some(chunk) = answer.chunk().await? else { break };
            let room = limit - response.body.len();
            response.body.extend_from_slice(&chunk[..chunk.len().min(room)]);
        }
        Ok(response)
    }
}

impl PageSource for HttpSource {
    fn fetch(&self, request: &PageRequest) -> std::result::Result<PageResponse, PageProblem> {
        let got = self.runtime.block_on(async {
            tokio::select! {
                got = self.get(request) => Some(got),
                () = crate::stop::wanted() => None,
            }
        });
        let got = got.ok_or_else(|| PageProblem::Other("stopped".into()))?;
        got.map_err(|error| {
            let words = chain(&error);
            if error.is_timeout() {
                PageProblem::Time
            } else if words.contains("certificate") {
                PageProblem::Certificate(words)
            } else if error.is_connect() {
                PageProblem::Reach(words)
            } else {
                PageProblem::Other(words)
            }
        })
    }
}

fn client(host: &str, address: Option<SocketAddr>, trust: Option<&Trust>) -> Result<Client> {
    let what = "cannot prepare the connection to the site";
    let mut builder = Client::builder()
        .redirect(Policy::none())
        .connect_timeout(Duration::from_secs(10))
        .timeout(Duration::from_secs(30))
        .user_agent(concat!("Fernweh/", env!("CARGO_PKG_VERSION")))
        .no_proxy();
    if let Some(address) = address {
        builder = builder.resolve(host, address);
    }
    if let Some(trust) = trust {
        let mut tls = crate::tls::client(trust)?;
        tls.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        builder = builder.tls_backend_preconfigured(tls);
    }
    builder.build().map_err(|error| Trouble::outside(what).because(chain(&error)))
}

fn socket_address(text: &str) -> Result<SocketAddr> {
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
