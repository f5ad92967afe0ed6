//! Rules of Caddy, for the inside of a site block whose address names all hosts.

use super::{CHALLENGES, Rule};

pub(super) fn lines(rules: &[Rule]) -> Vec<String> {
    let mut lines = Vec::new();
    for (number, rule) in rules.iter().enumerate() {
        let name = format!("fernweh{}", number + 1);
        lines.push(format!("# {}", rule.about));
        lines.push(format!("@{name} {{"));
        lines.push(format!("\thost {}", rule.hosts.join(" ")));
        if rule.plain {
            lines.push("\tprotocol http".into());
            // Something in front may speak https in this server's place.
            lines.push("\tnot header X-Forwarded-Proto https".into());
        }
        lines.push(format!("\tnot path {CHALLENGES}*"));
        lines.push(format!("\tvars_regexp {name} {{http.request.orig_uri}} `^{}$`", request(rule)));
        lines.push("}".into());
        let groups: String =
            (1..=rule.groups).map(|group| format!("{{re.{name}.{group}}}")).collect();
        lines.push(format!("redir @{name} `{}{groups}` 301", rule.to));
    }
    lines
}

/// Its regular expressions know no condition that something does not follow; what such a condition
/// keeps out is caught by a rule before it where it matters.
fn request(rule: &Rule) -> String {
    let Some(start) = rule.request.find("(?!") else { return rule.request.clone() };
    let mut depth = 0;
    let end = rule.request[start..].char_indices().find_map(|(at, ch)| {
        depth += match ch {
            '(' => 1,
            ')' => -1,
            _ => 0,
        };
        (depth == 0).then_some(start + at + 1)
    });
    let end = end.unwrap_or(rule.request.len());
    format!("{}{}", &rule.request[..start], &rule.request[end..])
}
