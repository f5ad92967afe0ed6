//! What a site asks of robots (RFC 9309), and which sitemaps it names (sitemaps.org).

/// A `robots.txt`, read for one robot.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Robots {
    /// Paths and whether they may be fetched.
    rules: Vec<(bool, String)>,
    /// Addresses of sitemaps.
    pub sitemaps: Vec<String>,
}

impl Robots {
    /// Reads a file for a robot of this name, in lower case. What is no rule is passed over.
    pub fn read(text: &str, robot: &str) -> Self {
        let mut sitemaps = Vec::new();
        let (mut own, mut general) = (Vec::new(), Vec::new());
        let (mut names, mut rules_began, mut has_own) = (Vec::new(), false, false);
        for line in text.trim_start_matches('\u{feff}').lines() {
            let line = line.split('#').next().unwrap_or_default();
            let Some((key, value)) = line.split_once(':') else { continue };
            let (key, value) = (key.trim().to_ascii_lowercase(), value.trim());
            match key.as_str() {
                "user-agent" => {
                    if std::mem::take(&mut rules_began) {
                        names.clear();
                    }
                    names.push(value.to_ascii_lowercase());
                    has_own |= value.eq_ignore_ascii_case(robot);
                }
                "allow" | "disallow" => {
                    rules_began = true;
                    if value.is_empty() {
                        continue;
                    }
                    let rule = (key == "allow", value.to_owned());
                    if names.iter().any(|name| name == robot) {
                        own.push(rule);
                    } else if names.iter().any(|name| name == "*") {
                        general.push(rule);
                    }
                }
                "sitemap" => sitemaps.push(value.to_owned()),
                _ => {}
            }
        }
        Self { rules: if has_own { own } else { general }, sitemaps }
    }

    /// Whether a path with its query may be fetched: the longest rule that matches says so.
    pub fn allows(&self, path: &str) -> bool {
        if path == "/robots.txt" {
            return true;
        }
        let matching = self.rules.iter().filter(|(_, rule)| matches(rule, path));
        matching.max_by_key(|(allow, rule)| (rule.len(), *allow)).is_none_or(|(allow, _)| *allow)
    }
}

/// `*` stands for anything, `$` for the end.
fn matches(rule: &str, path: &str) -> bool {
    let (rule, whole) = match rule.strip_suffix('$') {
        Some(rule) => (rule, true),
        None => (rule, false),
    };
    let mut parts = rule.split('*');
    let first = parts.next().unwrap_or_default();
    let Some(mut rest) = path.strip_prefix(first) else { return false };
    let parts: Vec<&str> = parts.collect();
    for (number, part) in parts.iter().enumerate() {
        if whole && number + 1 == parts.len() {
            return rest.ends_with(part);
        }
        match rest.find(part) {
            Some(at) => rest = &rest[at + part.len()..],
            None => return false,
        }
    }
    !whole || rest.is_empty()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_longest_rule_of_the_own_group_counts() {
        let text = "User-agent: *\nDisallow: /\n\nUser-agent: Fernweh\nUser-agent: other\n\
            Disallow: /private/ # not this\nAllow: /private/open\nDisallow: /*.pdf$\n\
            Sitemap: https://a.example/map.xml\n";
        let robots = Robots::read(text, "fernweh");
        assert!(robots.allows("/"));
        assert!(!robots.allows("/private/x"));
        assert!(robots.allows("/private/open/x"));
        assert!(!robots.allows("/a/b.pdf"));
        assert!(robots.allows("/a/b.pdf?x"));
        assert_eq!(robots.sitemaps, ["https://a.example/map.xml"]);
        let others = Robots::read(text, "somebody");
        assert!(!others.allows("/a"));
        assert!(others.allows("/robots.txt"));
        assert!(Robots::read("nonsense", "fernweh").allows("/a"));
    }
}
