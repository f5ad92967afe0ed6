//! What is to become what: pairs of addresses or of paths.

use crate::address::{AddressError, Scheme, WebAddress};
use thiserror::Error;

/// One pair, as configured.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rule {
    /// What is looked for.
    pub from: Place,
    /// What it becomes; the same kind of place.
    pub to: Place,
    /// Match the host only as it is written, not with or without a leading `www.`.
    pub exact: bool,
    /// Rewrite the host also where it stands alone, without scheme or `//`.
    pub bare_host: bool,
    /// Patterns of the tables (`gp_*`), columns (`gp_articles.body`) and files in which it
    /// holds; everywhere if there are none.
    pub only: Vec<String>,
    /// Patterns of those in which it does not.
    pub not: Vec<String>,
}

/// A web address or a path of a file system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// `http://…` or `https://…`
    Web(WebAddress),
    /// An absolute path, without trailing slash: from the root (`/srv/a`), or from a drive
    /// (`C:\sites\a`).
    Path(String),
    /// Any words.
    Text(String),
}

/// Why rules cannot be used.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum RuleError {
    /// One side is unreadable.
    #[error(transparent)]
    Address(#[from] AddressError),
    /// A path rule needs two absolute paths below the root.
    #[error("`{0}` is not an absolute path below /")]
    Path(String),
    /// A rule for words needs some to look for.
    #[error("a rule for words needs at least two letters or digits to look for, not `{0}`")]
    Words(String),
    /// The two sides are of different kinds.
    #[error("the rule `{0}` → `{1}` mixes a web address with a path")]
    Mixed(String, String),
    /// One source with two destinations.
    #[error("two rules rewrite `{from}`: to `{first}` and to `{second}`; keep one of them")]
    Ambiguous {
        /// The source.
        from: String,
        /// The destination of the first rule.
        first: String,
        /// The destination of the second rule.
        second: String,
    },
}

impl Place {
    /// Reads an address, or a path if the text begins with a slash.
    pub fn parse(text: &str) -> Result<Self, RuleError> {
        if super::windows_path::is_drive(text) {
            return Ok(Place::Path(text.trim_end_matches(['/', '\\']).into()));
        }
        if text.starts_with('/') && !text.starts_with("//") {
            let path = text.trim_end_matches('/');
            if path.is_empty() {
                return Err(RuleError::Path(text.into()));
            }
            return Ok(Place::Path(path.into()));
        }
        Ok(Place::Web(WebAddress::parse(text)?))
    }
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Place::Web(address) => address.fmt(f),
            Place::Path(path) | Place::Text(path) => f.write_str(path),
        }
    }
}

impl Rule {
    /// A rule with the usual behaviour.
    pub fn new(from: &str, to: &str) -> Result<Self, RuleError> {
        let rule = Rule {
            from: Place::parse(from)?,
            to: Place::parse(to)?,
            exact: false,
            bare_host: false,
            only: Vec::new(),
            not: Vec::new(),
        };
        match (&rule.from, &rule.to) {
            (Place::Web(_), Place::Web(_)) | (Place::Path(_), Place::Path(_)) => Ok(rule),
            _ => Err(RuleError::Mixed(from.into(), to.into())),
        }
    }

    /// A rule for words, which are matched as they are written, between boundaries of words.
    pub fn words(from: &str, to: &str) -> Result<Self, RuleError> {
        if from.chars().filter(|ch| ch.is_alphanumeric()).count() < 2 {
            return Err(RuleError::Words(from.into()));
        }
        let (from, to) = (Place::Text(from.into()), Place::Text(to.into()));
        Ok(Rule { from, to, exact: false, bare_host: false, only: Vec::new(), not: Vec::new() })
    }

    /// From `http:` to `https:` of one address.
    pub fn to_https(address: &str) -> Result<Self, RuleError> {
        let WebAddress { host, port, path, .. } = WebAddress::parse(address)?;
        let of = |scheme| {
            Place::Web(WebAddress { scheme, host: host.clone(), port, path: path.clone() })
        };
        let (from, to) = (of(Scheme::Http), of(Scheme::Https));
        // The host stays as it is written, with www. or without.
        Ok(Rule { from, to, exact: true, bare_host: false, only: Vec::new(), not: Vec::new() })
    }

    /// The rule that goes the other way.
    pub fn reversed(&self) -> Self {
        Rule { from: self.to.clone(), to: self.from.clone(), ..self.clone() }
    }

    /// What the matcher compares: two rules with the same key match the same text.
    fn key(&self) -> String {
        let source = match &self.from {
            Place::Path(path) => path.clone(),
            Place::Text(words) => format!("words {words}"),
            Place::Web(web) => {
                let host = if self.exact { &web.host } else { web.stem_host() };
                format!("//{host}:{:?}{}", web.port, web.path)
            }
        };
        // Two rules may divide the places among them.
        format!("{source} {:?} {:?}", self.only, self.not)
    }
}

/// Refuses one source with two destinations; drops exact repetitions.
pub fn without_contradiction(rules: Vec<Rule>) -> Result<Vec<Rule>, RuleError> {
    let mut kept: Vec<Rule> = Vec::new();
    for rule in rules {
        match kept.iter().find(|other| other.key() == rule.key()) {
            Some(other) if other.to == rule.to => {}
            Some(other) => {
                return Err(RuleError::Ambiguous {
                    from: rule.from.to_string(),
                    first: other.to.to_string(),
                    second: rule.to.to_string(),
                });
            }
            None => kept.push(rule),
        }
    }
    Ok(kept)
}

/// What of an address was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Shape {
    /// An address with its scheme.
    Scheme(Scheme),
    /// An address that begins with `//`.
    Relative,
    /// A host alone.
    Host,
    /// A path of a file system.
    Path,
    /// Words.
    Words,
}

/// How an address was written, for the report.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Spelling {
    /// What was found.
    pub shape: Shape,
    /// How its slashes were written.
    pub encoding: super::spelling::Encoding,
}

impl std::fmt::Display for Spelling {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let shape = match self.shape {
            Shape::Scheme(Scheme::Http) => "http:",
            Shape::Scheme(Scheme::Https) => "https:",
            Shape::Relative => "//",
            Shape::Host => "host",
            Shape::Path => "path",
            Shape::Words => "words",
        };
        write!(f, "{shape} {}", self.encoding.name())
    }
}

/// Pairs of rules of which the second never applies where the first does: it looks for the
/// same or less, and comes later. By number.
pub fn shadowed(rules: &[Rule]) -> Vec<(usize, usize)> {
    let mut found = Vec::new();
    for (later, rule) in rules.iter().enumerate() {
        for (earlier, other) in rules.iter().enumerate() {
            let (Place::Web(web), Place::Web(by)) = (&rule.from, &other.from) else { continue };
            // An exact host is one of those that the other rule takes as well.
            let within = rule.exact
                && !other.exact
                && web.stem_host() == by.stem_host()
                && (web.port, &web.path) == (by.port, &by.path);
            let everywhere = other.only.is_empty() && other.not.is_empty();
            if within && everywhere && earlier < later {
                found.push((earlier, later));
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_source_with_two_destinations_is_refused_with_both_named() {
        let rules = vec![
            Rule::new("http://a.example", "https://b.example").unwrap(),
            Rule::new("https://www.a.example/", "https://c.example").unwrap(),
        ];
        let error = without_contradiction(rules).unwrap_err().to_string();
        assert_eq!(
            error,
            "two rules rewrite `https://www.a.example`: to `https://b.example` and to \
             `https://c.example`; keep one of them"
        );
    }

    #[test]
    fn a_swap_and_a_repetition_are_legal() {
        let swap = Rule::new("http://a.example", "http://b.example").unwrap();
        let rules = vec![swap.clone(), swap.reversed(), swap.clone()];
        assert_eq!(without_contradiction(rules).unwrap().len(), 2);
    }

    #[test]
    fn kinds_are_not_mixed_and_the_root_is_no_path() {
        assert!(matches!(Rule::new("/srv/a", "http://a.example"), Err(RuleError::Mixed(..))));
        assert!(matches!(Rule::new("/", "/srv"), Err(RuleError::Path(_))));
    }
}
