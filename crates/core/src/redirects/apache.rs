//! Rules of Apache's `mod_rewrite`, for `.htaccess`. `THE_REQUEST` is the request line as it was
//! sent; `NE` keeps the server from encoding it a second time. The query is left to the server: it
//! refuses (403) what takes a question mark from a request into an address.

use super::{CHALLENGES, Query, Rule, any_of, escaped, escaped_path};

pub(super) fn lines(rules: &[Rule]) -> Vec<String> {
    let mut lines = vec!["<IfModule mod_rewrite.c>".to_owned(), "RewriteEngine On".to_owned()];
    for rule in rules {
        lines.push(format!("# {}", rule.about));
        if !rule.hosts.is_empty() {
            let hosts = any_of(&rule.hosts);
            lines.push(format!("RewriteCond %{{HTTP_HOST}} ^{hosts}(?::\\d+)?$ [NC]"));
        }
        if rule.plain {
            // Something in front may speak https in this server's place.
            lines.push("RewriteCond %{HTTPS} !=on".into());
            lines.push("RewriteCond %{HTTP:X-Forwarded-Proto} !^https [NC]".into());
        }
        lines.push(format!("RewriteCond %{{REQUEST_URI}} !^{}", escaped(CHALLENGES)));
        // In the middle of a line a path also ends with a space.
        let path = (rule.guard() + &rule.path).replace("[^?]", "[^? ]").replace("|$)", "| )");
        let (query, flag) = match &rule.query {
            Query::Kept | Query::Dropped => ("(?:\\?[^ ]*)?".to_owned(), ""),
            Query::Is(query) => (format!("\\?{}", escaped_path(query)), ",QSD"),
        };
        // One of its own takes the place of the one that was asked.
        let flag = if rule.to.contains('?') { "" } else { flag };
        lines.push(format!(
            "RewriteCond %{{THE_REQUEST}} \"^[A-Z]+ (?:https?://[^/ ]+)?{path}{query} \""
        ));
        let group = if rule.has_group { "%1" } else { "" };
        let to = rule.to.replace('%', "\\%").replace('$', "\\$");
        lines.push(format!("RewriteRule ^ \"{to}{group}\" [R=301,L,NE{flag}]"));
    }
    lines.push("</IfModule>".into());
    lines
}
