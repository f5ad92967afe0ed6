//! Permanent redirects to a site, as rules for web servers: every other spelling of its address,
//! its old address, and pages that have moved lead there in one step, with path and query.
//!
//! Requests are compared as they were sent, and what is kept of them is sent back as it came: a
//! server that decodes a path and encodes it again makes another address of some.

mod apache;
mod caddy;
mod nginx;
mod php;

use crate::address::{Scheme, WebAddress};
use std::fmt::Write as _;
use thiserror::Error;
use url::Url;

/// A web server whose rules are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Server {
    /// Apache httpd, in `.htaccess`.
    Apache,
    /// nginx, inside of a `server` block.
    Nginx,
    /// Caddy, inside of a site block.
    Caddy,
    /// PHP, before anything else of the site's own programs.
    Php,
}

/// A page, or everything below it, that has moved.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Moved {
    /// Only on the old hosts; on every host of the site otherwise.
    pub old_only: bool,
    /// The path as it is sent, percent-encoded.
    pub path: String,
    /// The query that belongs to the address.
    pub query: Option<String>,
    /// Whether everything below moved, too.
    pub below: bool,
    /// The full address to which it leads.
    pub to: String,
}

/// The redirects of a site.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Redirects {
    /// The one right address.
    pub to: WebAddress,
    /// The other spelling of its host, with or without `www.`
    pub twin: Option<String>,
    /// Old addresses, where they are others.
    pub old: Vec<WebAddress>,
    /// Pages that have moved.
    pub moved: Vec<Moved>,
}

/// Why a redirect cannot be written.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RedirectError {
    /// Neither a path nor an address.
    #[error("`{0}` is neither a path that begins with / nor an address")]
    Unreadable(String),
    /// An address of another site.
    #[error("`{0}` is an address of neither the old nor the new site")]
    Foreign(String),
    /// It leads back to itself.
    #[error("`{0}` leads back to itself")]
    Circle(String),
    /// One address with two targets.
    #[error("`{0}` has two targets")]
    Twice(String),
}

/// One rule: which hosts, which requests, and where they lead.
struct Rule {
    hosts: Vec<String>,
    /// Only requests that were not encrypted.
    plain: bool,
    /// What matches the path of a request, without what holds it at the beginning; its group, if
    /// it has one, follows the target.
    path: String,
    has_group: bool,
    /// What lies at or below this path is where it leads already.
    except: Option<String>,
    query: Query,
    to: String,
    about: String,
}

/// What becomes of the query.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Query {
    /// It follows the target.
    Kept,
    /// It goes: the target has one of its own.
    Dropped,
    /// It must be this one, and goes.
    Is(String),
}

impl Rule {
    /// Every path, to the same path of another place.
    fn all_to(to: String) -> Self {
        let path = "(/[^?]*)".to_owned();
        let (hosts, about, query) = (Vec::new(), String::new(), Query::Kept);
        Self { hosts, plain: false, path, has_group: true, except: None, query, to, about }
    }

    /// What matches path and query of a request as they were sent, and how many groups it has.
    fn request(&self) -> (String, usize) {
        let (path, groups) = (&self.path, usize::from(self.has_group));
        match &self.query {
            Query::Kept => (format!("{path}(\\?.*)?"), groups + 1),
            Query::Dropped => (format!("{path}(?:\\?.*)?"), groups),
            Query::Is(query) => (format!("{path}\\?{}", escaped_path(query)), groups),
        }
    }

    /// What keeps that out which is where it should be, before a request.
    fn guard(&self) -> String {
        match &self.except {
            Some(path) => format!("(?!{}(?:[/?]|$))", escaped_path(path)),
            None => String::new(),
        }
    }
}

/// Requests by which certificate authorities see who has a host (RFC 8555, 8.3).
const CHALLENGES: &str = "/.well-known/acme-challenge/";

impl Redirects {
    /// Those between two addresses.
    pub fn new(to: &WebAddress, old: Option<&WebAddress>) -> Self {
        let twin = match to.host.strip_prefix("www.") {
            Some(stem) => Some(stem.to_owned()),
            None if to.host.contains('.') => Some(format!("www.{}", to.host)),
            None => None,
        };
        let is_own = |host: &str| host == to.host || Some(host) == twin.as_deref();
        let old = old.filter(|old| !is_own(&old.host) || old.path != to.path);
        Self { to: to.clone(), twin, old: old.into_iter().cloned().collect(), moved: Vec::new() }
    }

    fn own_hosts(&self) -> Vec<String> {
        [self.to.host.clone()].into_iter().chain(self.twin.clone()).collect()
    }

    fn old_hosts(&self) -> Vec<String> {
        let own = self.own_hosts();
        let mut hosts: Vec<String> = Vec::new();
        for old in &self.old {
            let stem = old.stem_host();
            for host in [stem.to_owned(), format!("www.{stem}")] {
                if !own.contains(&host) && !hosts.contains(&host) {
                    hosts.push(host);
                }
            }
        }
        hosts
    }

    /// Adds what a rule of rewriting moves: everything below one address to another one.
    ///
    /// # Errors
    ///
    /// Where it leads back to itself.
    pub fn add_rule(&mut self, from: &WebAddress, to: &WebAddress) -> Result<(), RedirectError> {
        let is_old = self.old_hosts().contains(&from.host);
        let is_own = self.own_hosts().contains(&from.host);
        if !(is_old || is_own) || from.path.is_empty() {
            return Ok(());
        }
        let moved = Moved {
            old_only: is_old,
            path: from.path.clone(),
            query: None,
            below: true,
            to: to.to_string(),
        };
        self.add(moved)
    }

    /// Adds one page: a path or an address of the site, and where it is now.
    ///
    /// # Errors
    ///
    /// Where one of them is not of the site.
    pub fn add_page(&mut self, from: &str, to: &str) -> Result<(), RedirectError> {
        let (host, path, query) = self.asked(from)?;
        let to = match to.starts_with('/') && !to.starts_with("//") {
            true => self.joined(to)?,
            false => Url::parse(to).map_err(|_| RedirectError::Unreadable(to.into()))?,
        };
        if !matches!(to.scheme(), "http" | "https") {
            return Err(RedirectError::Unreadable(to.to_string()));
        }
        let old_only = host.is_some_and(|host| self.old_hosts().contains(&host));
        self.add(Moved { old_only, path, query, below: false, to: to.to_string() })
    }

    fn joined(&self, path: &str) -> Result<Url, RedirectError> {
        let origin = Url::parse(&self.to.origin());
        origin
            .and_then(|origin| origin.join(path))
            .map_err(|_| RedirectError::Unreadable(path.into()))
    }

    /// Host, path and query of what was asked.
    fn asked(&self, from: &str) -> Result<(Option<String>, String, Option<String>), RedirectError> {
        let is_path = from.starts_with('/') && !from.starts_with("//");
        let url = match is_path {
            true => self.joined(from)?,
            false => Url::parse(from).map_err(|_| RedirectError::Unreadable(from.into()))?,
        };
        let host = url.host_str().unwrap_or_default().to_owned();
        if !is_path && !self.own_hosts().contains(&host) && !self.old_hosts().contains(&host) {
            return Err(RedirectError::Foreign(from.into()));
        }
        let query = url.query().map(str::to_owned);
        Ok(((!is_path).then_some(host), url.path().to_owned(), query))
    }

    fn add(&mut self, mut moved: Moved) -> Result<(), RedirectError> {
        let same = |other: &Moved| {
            (other.old_only, &other.path, &other.query, other.below)
                == (moved.old_only, &moved.path, &moved.query, moved.below)
        };
        if let Some(known) = self.moved.iter().find(|other| same(other)) {
            return match known.to == moved.to {
                true => Ok(()),
                false => Err(RedirectError::Twice(moved.path)),
            };
        }
        // One step: what has moved on from there is where it leads.
        let mut before = Vec::new();
        while let Some(next) = self.moved.iter().find(|other| self.leads_to(&moved.to, other)) {
            if before.contains(&next.to) {
                break;
            }
            before.push(moved.to.clone());
            moved.to.clone_from(&next.to);
        }
        if !moved.below && self.leads_to(&moved.to, &moved) {
            return Err(RedirectError::Circle(moved.path));
        }
        let through: Vec<usize> = (0..self.moved.len())
            .filter(|number| self.leads_to(&self.moved[*number].to, &moved))
            .collect();
        for number in through {
            self.moved[number].to.clone_from(&moved.to);
        }
        self.moved.push(moved);
        Ok(())
    }

    /// Whether an address is one that a single page has moved from.
    fn leads_to(&self, to: &str, moved: &Moved) -> bool {
        let Ok(url) = Url::parse(to) else { return false };
        let host = url.host_str().unwrap_or_default();
        let is_there = self.own_hosts().iter().any(|own| own == host);
        !moved.below
            && is_there
            && !moved.old_only
            && url.path() == moved.path
            && (moved.query.is_none() || url.query() == moved.query.as_deref())
    }

    /// Every rule, in the order in which they are tried.
    fn rules(&self) -> Vec<Rule> {
        let (own, old) = (self.own_hosts(), self.old_hosts());
        let mut moved: Vec<&Moved> = self.moved.iter().collect();
        // The most exact first: single pages, then the longer path.
        moved.sort_by_key(|moved| {
            (moved.below, moved.query.is_none(), std::cmp::Reverse(moved.path.len()))
        });
        let mut rules: Vec<Rule> = Vec::new();
        for moved in moved {
            let hosts = match moved.old_only {
                true => old.clone(),
                false => [own.clone(), old.clone()].concat(),
            };
            let (path, query, except) = self.request_of(moved);
            let about = format!("{} is at {}", moved.path, moved.to);
            let to = moved.to.trim_end_matches('/');
            let to = if moved.below { to } else { &moved.to };
            let (plain, has_group, to) = (false, moved.below, to.to_owned());
            rules.push(Rule { hosts, plain, path, has_group, except, query, to, about });
        }
        for from in &self.old {
            let stem = from.stem_host();
            let both = [stem.to_owned(), format!("www.{stem}")];
            let hosts: Vec<String> = both.into_iter().filter(|host| old.contains(host)).collect();
            let hosts = if hosts.is_empty() { own.clone() } else { hosts };
            let except = self.already(&self.to.to_string(), &hosts, &from.path);
            // Below the root every path begins with a slash.
            let path = match from.path.is_empty() {
                true => "(/[^?]*)".to_owned(),
                false => format!("{}(/[^?]*)?", escaped_path(&from.path)),
            };
            let about = format!("the old address {from}");
            rules.push(Rule { hosts, path, except, about, ..Rule::all_to(self.to.to_string()) });
        }
        let origin = self.to.origin();
        if let Some(twin) = &self.twin {
            let about = format!("the other spelling of the host, {twin}");
            rules.push(Rule { hosts: vec![twin.clone()], about, ..Rule::all_to(origin.clone()) });
        }
        if self.to.scheme == Scheme::Https {
            let (hosts, about) = (vec![self.to.host.clone()], "http to https".to_owned());
            rules.push(Rule { hosts, plain: true, about, ..Rule::all_to(origin) });
        }
        rules
    }

    fn request_of(&self, moved: &Moved) -> (String, Query, Option<String>) {
        let path = escaped_path(&moved.path);
        if moved.below {
            let hosts = match moved.old_only {
                true => self.old_hosts(),
                false => self.own_hosts(),
            };
            let except = self.already(&moved.to, &hosts, &moved.path);
            return (format!("{path}(/[^?]*)?"), Query::Kept, except);
        }
        let query = match &moved.query {
            Some(query) => Query::Is(query.clone()),
            None if moved.to.contains('?') => Query::Dropped,
            None => Query::Kept,
        };
        (path, query, None)
    }

    /// The path of a target that lies at or below a path of the same hosts: what is there must
    /// not be sent there again.
    fn already(&self, to: &str, hosts: &[String], path: &str) -> Option<String> {
        let url = Url::parse(to).ok()?;
        let host = url.host_str()?;
        if !hosts.iter().any(|known| known == host) {
            return None;
        }
        let there = url.path().trim_end_matches('/');
        let rest = there.strip_prefix(path)?;
        (rest.starts_with('/') || (rest.is_empty() && !there.is_empty())).then(|| there.to_owned())
    }

    /// The rules in the words of a server, one line each, without what marks them.
    pub fn lines(&self, server: Server) -> Vec<String> {
        let rules = self.rules();
        match server {
            Server::Apache => apache::lines(&rules),
            Server::Nginx => nginx::lines(&rules),
            Server::Caddy => caddy::lines(&rules),
            Server::Php => php::lines(&rules),
        }
    }
}

/// Rules that send every request, whatever host it names, to the same path of another site: an old
/// site that is closed.
pub fn everything(from: &WebAddress, to: &WebAddress, server: Server) -> Vec<String> {
    let path = match from.path.is_empty() {
        true => "(/[^?]*)".to_owned(),
        false => format!("{}(/[^?]*)?", escaped_path(&from.path)),
    };
    let about = format!("the site has moved to {to}");
    let rule = Rule { path, about, ..Rule::all_to(to.to_string()) };
    match server {
        Server::Apache => apache::lines(&[rule]),
        Server::Nginx => nginx::lines(&[rule]),
        Server::Caddy => caddy::lines(&[rule]),
        Server::Php => php::lines(&[rule]),
    }
}

/// A path or query as a regular expression that matches it alone, however its escapes are
/// written.
fn escaped_path(path: &str) -> String {
    let mut out = String::new();
    let mut rest = path.chars();
    while let Some(ch) = rest.next() {
        match ch {
            '%' => {
                out.push('%');
                for digit in rest.by_ref().take(2) {
                    let (lower, upper) = (digit.to_ascii_lowercase(), digit.to_ascii_uppercase());
                    match lower == upper {
                        true => out.push(digit),
                        false => {
                            let _ = write!(out, "[{upper}{lower}]");
                        }
                    }
                }
            }
            _ => out.push_str(&escaped(ch.encode_utf8(&mut [0; 4]))),
        }
    }
    out
}

/// A text as a regular expression that matches it alone.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for ch in text.chars() {
        if !ch.is_ascii_alphanumeric() && ch.is_ascii() && !"/-_%=&,~: ".contains(ch) {
            out.push('\\');
        }
        out.push(ch);
    }
    out
}

/// One of several hosts, as a regular expression; any where none is named.
fn any_of(hosts: &[String]) -> String {
    if hosts.is_empty() {
        return "[^/]*".into();
    }
    let all: Vec<String> = hosts.iter().map(|host| escaped(host)).collect();
    match &all[..] {
        [one] => one.clone(),
        _ => format!("(?:{})", all.join("|")),
    }
}

#[cfg(test)]
mod tests;
