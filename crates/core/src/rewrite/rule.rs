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
}

/// A web address or a path of a file system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// `http://…` or `https://…`
    Web(WebAddress),
    /// An absolute path, without trailing slash.
    Path(String),
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
            Place::Path(path) => f.write_str(path),
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
        };
        match (&rule.from, &rule.to) {
            (Place::Web(_), Place::Web(_)) | (Place::Path(_), Place::Path(_)) => Ok(rule),
            _ => Err(RuleError::Mixed(from.into(), to.into())),
        }
    }

    /// The rule that goes the other way.
    pub fn reversed(&self) -> Self {
        Rule { from: self.to.clone(), to: self.from.clone(), ..self.clone() }
    }

    /// What the matcher compares: two rules with the same key match the same text.
    fn key(&self) -> String {
        match &self.from {
            Place::Path(path) => path.clone(),
            Place::Web(web) => {
                let host = if self.exact { &web.host } else { web.stem_host() };
                format!("//{host}:{:?}{}", web.port, web.path)
            }
        }
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

/// How an address was written, for the report.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Spelling {
    /// The scheme, or `None` for a scheme-relative address or a path.
    pub scheme: Option<Scheme>,
    /// How its slashes were written.
    pub encoding: super::spelling::Encoding,
}

impl std::fmt::Display for Spelling {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let scheme = self.scheme.map_or("//", |scheme| match scheme {
            Scheme::Http => "http:",
            Scheme::Https => "https:",
        });
        write!(f, "{scheme} {}", self.encoding.name())
    }
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
