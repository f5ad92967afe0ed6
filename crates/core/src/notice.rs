//! A notice in place of a site, for the minutes in which it moves: status 503 with `Retry-After`
//! (RFC 9110, 15.6.4 and 10.2.3). It ends by itself at a moment, so that a site never stays
//! closed because somebody's desk is dead.

/// A notice.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Notice {
    /// What visitors read.
    pub text: String,
    /// After how many seconds they may come again.
    pub retry: u64,
}

/// What visitors read where nothing else is said.
pub const TEXT: &str = "This site is being moved and will be back in a few minutes.";

impl Notice {
    fn page(&self) -> String {
        let text = self.text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;");
        format!("<!DOCTYPE html><meta charset=utf-8><title>Back soon</title><p>{text}")
    }

    /// Lines for Apache. `until` is a moment of the server's own clock, as it says it itself:
    /// twelve digits more than the year, `20261130120500`.
    pub fn apache(&self, until: &str) -> Vec<String> {
        let page = self.page().replace('%', "&#37;").replace('\\', "&#92;");
        vec![
            "<IfModule mod_rewrite.c>".into(),
            "RewriteEngine On".into(),
            format!("RewriteCond %{{TIME}} <{until}"),
            "RewriteCond %{ENV:REDIRECT_STATUS} ^$".into(),
            "RewriteRule ^ - [R=503,L]".into(),
            "</IfModule>".into(),
            format!("ErrorDocument 503 \"{page}\""),
            "<IfModule mod_headers.c>".into(),
            format!(
                "Header always set Retry-After {} \"expr=%{{REQUEST_STATUS}} == 503\"",
                self.retry
            ),
            "</IfModule>".into(),
        ]
    }

    /// A program that answers first. `until` is in seconds since 1970; from then on the program
    /// `then` in the same folder answers, if there is one.
    pub fn php(&self, until: i64, then: Option<&str>) -> Vec<String> {
        let then = match then {
            Some(name) => format!("return require __DIR__ . '/{name}';"),
            None => "http_response_code(404);".into(),
        };
        vec![
            format!("if (time() < {until}) {{"),
            "    http_response_code(503);".into(),
            format!("    header('Retry-After: {}');", self.retry),
            "    header('Content-Type: text/html; charset=utf-8');".into(),
            format!("    echo '{}';", self.page().replace('\\', "\\\\").replace('\'', "\\'")),
            "    exit;".into(),
            "}".into(),
            then,
        ]
    }
}

/// Lines for Apache that tell the time of its clock where nobody else asks: an answer that leads
/// to it.
pub fn apache_clock(secret: &str) -> Vec<String> {
    vec![
        "<IfModule mod_rewrite.c>".into(),
        "RewriteEngine On".into(),
        format!("RewriteRule {secret}$ /%{{TIME}} [R=302,L]"),
        "</IfModule>".into(),
    ]
}
