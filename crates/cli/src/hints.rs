//! Commands in texts, made ready to be pasted: operations know the names of sites; which
//! configuration is in use, and how a site without one was described, is known here.

use std::borrow::Cow;
use std::path::Path;
use std::sync::OnceLock;

/// The name of a site that is described by options alone.
pub const UNNAMED: &str = "site";

/// The configuration that was named, as a word for the shell.
static NAMED_CONFIG: OnceLock<String> = OnceLock::new();
/// The options that describe the site that has no name.
static PLACES: OnceLock<String> = OnceLock::new();

/// A word of a command as a shell takes it.
pub fn word(text: &str) -> String {
    // What holds a zero byte cannot be typed at all.
    shlex::try_quote(text).map_or_else(|_| text.to_owned(), std::borrow::Cow::into_owned)
}

/// Remembers the configuration that was named with `-c`.
pub fn configuration(path: Option<&Path>) {
    if let Some(path) = path {
        let _ = NAMED_CONFIG.set(word(&path.display().to_string()));
    }
}

/// Remembers the options by which a site without a name was described.
pub fn places(typed: String) {
    if !typed.is_empty() {
        let _ = PLACES.set(typed);
    }
}

/// A text in which every command can be pasted.
pub fn pasted(text: &str) -> Cow<'_, str> {
    completed(text, NAMED_CONFIG.get().map(String::as_str), PLACES.get().map(String::as_str))
}

/// Commands that take a configuration.
const COMMANDS: [&str; 12] = [
    "survey", "pack", "unpack", "rewrite", "scan", "trace", "move", "undo", "runs", "tell",
    "sites", "show",
];

fn completed<'a>(text: &'a str, config: Option<&str>, places: Option<&str>) -> Cow<'a, str> {
    const PROGRAM: &str = "fernweh ";
    if config.is_none() && places.is_none() {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 32);
    let mut rest = text;
    while let Some(at) = rest.find(PROGRAM) {
        let (before, after) = rest.split_at(at + PROGRAM.len());
        out.push_str(before);
        rest = after;
        let is_command = |name: &&&str| {
            after.strip_prefix(**name).is_some_and(|end| !end.starts_with(char::is_alphanumeric))
        };
        let Some(command) = COMMANDS.iter().find(is_command) else { continue };
        if let Some(config) = config {
            out.push_str(&format!("-c {config} "));
        }
        out.push_str(command);
        rest = &after[command.len()..];
        let unnamed = rest.strip_prefix(' ').and_then(|rest| rest.strip_prefix(UNNAMED));
        if let (Some(places), Some(behind)) = (places, unnamed)
            && !behind.starts_with(|ch: char| ch.is_alphanumeric() || "-_.".contains(ch))
        {
            out.push_str(&format!(" {places}"));
            rest = behind;
        }
    }
    out.push_str(rest);
    if places.is_some() {
        out = out.replace(&format!("site {UNNAMED}"), "the site");
    }
    match config {
        Some(config) => Cow::Owned(out.replace("fernweh.toml", config)),
        None => Cow::Owned(out),
    }
}

#[cfg(test)]
mod tests {
    use super::completed;

    #[test]
    fn commands_name_the_configuration_in_use() {
        let told = completed("fernweh undo new; fernweh scans", Some("'my sites.toml'"), None);
        assert_eq!(told, "fernweh -c 'my sites.toml' undo new; fernweh scans");
        assert_eq!(completed("set url in fernweh.toml", Some("b.toml"), None), "set url in b.toml");
        assert_eq!(completed("fernweh undo new", None, None), "fernweh undo new");
    }

    #[test]
    fn a_site_without_a_name_is_described_again() {
        let places = Some("--files htdocs");
        assert_eq!(completed("fernweh pack site", None, places), "fernweh pack --files htdocs");
        assert_eq!(completed("fernweh pack sites", None, places), "fernweh pack sites");
        assert_eq!(completed("packing site site", None, places), "packing the site");
    }
}
