//! A site as a section of `fernweh.toml`: everything that is known of it, ready to be pasted.

use super::{DatabasePlace, Site};
use crate::config::{Assist, Passwords};
use crate::hosts::FilesPlace;
use crate::secrets::Secret;

/// A key of a section, its value as TOML, and what it means.
struct Line {
    key: &'static str,
    value: String,
    about: &'static str,
}

/// A text as TOML writes it.
pub fn quoted(text: &str) -> String {
    toml::Value::from(text).to_string()
}

/// A list of texts as TOML writes it.
fn list(texts: &[String]) -> String {
    let texts: Vec<String> = texts.iter().map(|text| quoted(text)).collect();
    format!("[{}]", texts.join(", "))
}

/// The head of a site's section.
pub fn head(name: &str) -> String {
    match name.contains('.') {
        true => format!("[site.{}]", quoted(name)),
        false => format!("[site.{name}]"),
    }
}

impl Site {
    /// The site's whole section but for some keys; with a word on each line if that is wished.
    pub fn written(&self, without: &[&str], explain: bool) -> String {
        let section = &self.section;
        let text = |value: &Option<String>| value.as_deref().map(quoted);
        let path = |value: &Option<std::path::PathBuf>| {
            value.as_ref().map(|path| quoted(&path.display().to_string()))
        };
        // As it was written or typed; what was found otherwise as it is shown.
        let files = section.files.clone().or(self.files.as_ref().map(FilesPlace::shown));
        let database = section.database.clone();
        let database = database.or(self.database.as_ref().map(DatabasePlace::shown));
        let assist = section.assist.map(|Assist::CopySelf| quoted("copy-self"));
        let all = [
            ("url", text(&section.url), "the address that visitors type"),
            ("files", text(&files), "where its files are"),
            ("database", text(&database), "where its database is"),
            ("through", text(&section.through), "the host from which the database is reached"),
            ("key", path(&section.key), "the private key for logins over SSH"),
            ("assist", assist, "what may be done where that host forbids forwarding"),
            (
                "encrypted",
                section.encrypted.then(|| "true".to_owned()),
                "no connection to the database without TLS",
            ),
            (
                "tables",
                (!section.tables.is_empty()).then(|| list(&section.tables)),
                "which tables are this site's",
            ),
            ("connect-to", text(&section.connect_to), "the host that is asked for pages"),
            ("connect-to-http", text(&section.connect_to_http), "the same for http: addresses"),
            (
                "hidden",
                section.hidden.then(|| "true".to_owned()),
                "a copy that search engines are kept out of",
            ),
            ("login", text(&section.login), "the user of the password in front of the pages"),
            ("authority", path(&section.authority), "who vouches for its certificates"),
            (
                "trust",
                (!section.trust.is_empty()).then(|| list(&section.trust)),
                "certificates that are trusted, by their SHA-256",
            ),
            (
                "final",
                section.r#final.map(|said| said.to_string()),
                "whether this is where the public finds the site",
            ),
        ];
        let lines = all.into_iter();
        let lines =
            lines.filter_map(|(key, value, about)| Some(Line { key, value: value?, about }));
        let mut lines: Vec<Line> = lines.collect();
        lines.extend(self.passwords());
        lines.retain(|line| !without.contains(&line.key));
        let wide = lines.iter().map(|line| line.key.len()).max().unwrap_or(0);
        let mut text = format!("{}\n", head(&self.name));
        for Line { key, value, about } in lines {
            let comment = if explain { format!("   # {about}") } else { String::new() };
            text.push_str(&format!("{key:<wide$} = {value}{comment}\n"));
        }
        text
    }

    /// Where its passwords come from; for a database that has none configured, where it could.
    fn passwords(&self) -> Vec<Line> {
        let Passwords { database, files, through, login } = &self.section.password;
        let server =
            matches!(self.database, Some(DatabasePlace::Mariadb(_) | DatabasePlace::Postgres(_)));
        let name = self.name.to_ascii_uppercase().replace(['-', '.'], "_");
        let usual = Secret::Env(format!("{name}_DB_PASSWORD"));
        let database = database.as_ref().or(server.then_some(&usual));
        let all = [
            ("password.database", database, "where the password of the database comes from"),
            ("password.files", files.as_ref(), "the password, or passphrase, for the files"),
            ("password.through", through.as_ref(), "the same for the host in between"),
            ("password.login", login.as_ref(), "the password in front of the pages"),
        ];
        let lines = all
            .into_iter()
            .filter_map(|(key, secret, about)| Some(Line { key, value: source(secret?), about }));
        lines.collect()
    }
}

/// Where a password comes from, as TOML. The password itself never stands in a configuration.
fn source(secret: &Secret) -> String {
    match secret {
        Secret::Env(name) => format!("{{ env = {} }}", quoted(name)),
        Secret::File(path) => format!("{{ file = {} }}", quoted(&path.display().to_string())),
        Secret::Command(command) => format!("{{ command = {} }}", quoted(command)),
        Secret::Ask(ask) => format!("{{ ask = {ask} }}"),
    }
}
