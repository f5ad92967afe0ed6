//! Rules of nginx, for the inside of a `server` block. `$request_uri` is what was sent.

use super::{CHALLENGES, Rule, any_of, escaped};

pub(super) fn lines(rules: &[Rule]) -> Vec<String> {
    let mut lines = vec![
        "set $fernweh_asked \"$host$request_uri\";".to_owned(),
        format!("if ($request_uri ~ \"^{}\") {{ set $fernweh_asked \"\"; }}", escaped(CHALLENGES)),
        // Something in front may speak https in this server's place.
        "set $fernweh_plain \"$scheme:$http_x_forwarded_proto:$fernweh_asked\";".to_owned(),
    ];
    for rule in rules {
        lines.push(format!("# {}", rule.about));
        let (subject, start) = match rule.plain {
            true => ("$fernweh_plain", "^http:(?!https:)[^:]*:"),
            false => ("$fernweh_asked", "^"),
        };
        let (request, groups) = rule.request();
        let groups: String = (1..=groups).map(|number| format!("${number}")).collect();
        // A dollar sign cannot be written otherwise.
        let to = rule.to.replace('$', "%24");
        lines.push(format!(
            "if ({subject} ~ \"{start}{}{}{request}$\") {{ return 301 \"{to}{groups}\"; }}",
            any_of(&rule.hosts),
            rule.guard()
        ));
    }
    lines
}
