//! Rules of Caddy, for the inside of a site block whose address names all hosts.

use super::{CHALLENGES, Rule};

pub(super) fn lines(rules: &[Rule]) -> Vec<String> {
    let mut lines = Vec::new();
    for (number, rule) in rules.iter().enumerate() {
        let name = format!("fernweh{}", number + 1);
        lines.push(format!("# {}", rule.about));
        lines.push(format!("@{name} {{"));
        if !rule.hosts.is_empty() {
            lines.push(format!("\thost {}", rule.hosts.join(" ")));
        }
        if rule.plain {
            lines.push("\tprotocol http".into());
            // Something in front may speak https in this server's place.
            lines.push("\tnot header X-Forwarded-Proto https".into());
        }
        lines.push(format!("\tnot path {CHALLENGES}*"));
        let (request, groups) = rule.request();
        // Its expressions know no condition that something does not follow.
        if let Some(path) = &rule.except {
            lines.push(format!("\tnot path {path} {path}/*"));
        }
        lines.push(format!("\tvars_regexp {name} {{http.request.orig_uri}} `^{request}$`"));
        lines.push("}".into());
        let groups: String = (1..=groups).map(|group| format!("{{re.{name}.{group}}}")).collect();
        lines.push(format!("redir @{name} `{}{groups}` 301", rule.to));
    }
    lines
}
