//! Rules of Apache's `mod_rewrite`, for `.htaccess`. `THE_REQUEST` is the request line as it was
//! sent; `NE` keeps the server from encoding it a second time.

use super::{CHALLENGES, Rule, any_of, escaped};

pub(super) fn lines(rules: &[Rule]) -> Vec<String> {
    let mut lines = vec!["<IfModule mod_rewrite.c>".to_owned(), "RewriteEngine On".to_owned()];
    for rule in rules {
        lines.push(format!("# {}", rule.about));
        lines.push(format!(
            "RewriteCond %{{HTTP_HOST}} ^{}(?::\\d+)?$ [NC]",
            any_of(&rule.hosts)
        ));
        if rule.plain {
            // Something in front may speak https in this server's place.
            lines.push("RewriteCond %{HTTPS} !=on".into());
            lines.push("RewriteCond %{HTTP:X-Forwarded-Proto} !^https [NC]".into());
        }
        lines.push(format!("RewriteCond %{{REQUEST_URI}} !^{}", escaped(CHALLENGES)));
        let request = rule.request.replace(".*", "[^ ]*").replace("[^?]*", "[^? ]*");
        lines.push(format!(
            "RewriteCond %{{THE_REQUEST}} \"^[A-Z]+ (?:https?://[^/ ]+)?{request} \""
        ));
        let groups: String = (1..=rule.groups).map(|number| format!("%{number}")).collect();
        let to = rule.to.replace('%', "\\%").replace('$', "\\$");
        lines.push(format!("RewriteRule ^ \"{to}{groups}\" [R=301,L,NE]"));
    }
    lines.push("</IfModule>".into());
    lines
}
