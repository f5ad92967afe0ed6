//! Connection settings of a site, found by the syntax of the file they stand in:
//! constants of PHP, `KEY=value` lines of dotenv and INI files.
//!
//! No program is known by name. A setting counts when its name says both that it
//! is about a database and what it is, as in `SITE_DB_PASSWORD`.

use std::ops::Range;

/// What a setting stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Role {
    /// Which engine.
    Engine,
    /// The host, perhaps with `:port`.
    Host,
    /// The port.
    Port,
    /// The socket on the host.
    Socket,
    /// The database.
    Name,
    /// The user.
    User,
    /// The password.
    Password,
    /// The file of an embedded database.
    File,
}

/// One setting: a name, its role, its value and where the value stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Setting {
    /// The name as written.
    pub name: String,
    /// What it stands for.
    pub role: Role,
    /// The value, unescaped.
    pub value: String,
    /// The bytes of the value in the file, without quotes.
    pub range: Range<usize>,
    /// The quote around the value: `'`, `"` or none.
    pub quote: Option<u8>,
    /// The line, counted from 1.
    pub line: usize,
}

/// The connection settings of one file, or `None` if it holds none that would do:
/// a database file, or at least the name of a database and a user.
pub fn find(text: &[u8]) -> Option<Vec<Setting>> {
    let mut found = Vec::new();
    let mut start = 0;
    for (number, line) in text.split(|byte| *byte == b'\n').enumerate() {
        if let Some((name, value)) = constant(line).or_else(|| assignment(line))
            && let Some(role) = role_of(&name)
        {
            let (range, quote) = value;
            found.push(Setting {
                name,
                role,
                value: unescape(&line[range.clone()], quote),
                range: start + range.start..start + range.end,
                quote,
                line: number + 1,
            });
        }
        start += line.len() + 1;
    }
    let has = |role| found.iter().any(|setting: &Setting| setting.role == role);
    (has(Role::File) || (has(Role::Name) && has(Role::User))).then_some(found)
}

/// Writes new values in place of the old ones; everything else stays to the byte.
pub fn write(
    text: &[u8],
    settings: &[Setting],
    mut new: impl FnMut(&Setting) -> Option<String>,
) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len());
    let mut at = 0;
    for setting in settings {
        let Some(value) = new(setting).filter(|value| *value != setting.value) else {
            continue;
        };
        out.extend_from_slice(&text[at..setting.range.start]);
        out.extend_from_slice(escape(&value, setting.quote).as_bytes());
        at = setting.range.end;
    }
    out.extend_from_slice(&text[at..]);
    out
}

type Place = (Range<usize>, Option<u8>);

/// `define('NAME', 'value');` or `const NAME = 'value';`
fn constant(line: &[u8]) -> Option<(String, Place)> {
    let text = std::str::from_utf8(line).ok()?;
    let trimmed = text.trim_start();
    let indent = text.len() - trimmed.len();
    if let Some(rest) = trimmed.strip_prefix("define") {
        let open = rest.trim_start().strip_prefix('(')?.trim_start();
        let at = text.len() - open.len();
        let name = quoted(line, at)?;
        let comma = text[name.end + 1..].find(',')? + name.end + 2;
        let value = skip_space(line, comma);
        let range = quoted(line, value)?;
        return Some((text[name].to_owned(), (range, Some(line[value]))));
    }
    if let Some(rest) = trimmed.strip_prefix("const ") {
        let name_start = indent + 6;
        let equals = rest.find('=')?;
        let value = skip_space(line, name_start + equals + 1);
        let range = quoted(line, value)?;
        return Some((rest[..equals].trim().to_owned(), (range, Some(line[value]))));
    }
    None
}

/// `NAME=value` and `name = "value"`, as in dotenv and INI files.
fn assignment(line: &[u8]) -> Option<(String, Place)> {
    let text = std::str::from_utf8(line).ok()?;
    let equals = text.find('=')?;
    let name = text[..equals].trim();
    let name = name.strip_prefix("export ").unwrap_or(name).trim();
    let good = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '.';
    if name.is_empty() || !name.chars().all(good) {
        return None;
    }
    let value = skip_space(line, equals + 1);
    if matches!(line.get(value), Some(b'"' | b'\'')) {
        return Some((name.to_owned(), (quoted(line, value)?, Some(line[value]))));
    }
    let end = value + text[value..].trim_end().len();
    Some((name.to_owned(), (value..end, None)))
}

fn skip_space(line: &[u8], at: usize) -> usize {
    at + line[at..].iter().take_while(|c| c.is_ascii_whitespace()).count()
}

/// The inside of the quoted string that begins at `at`.
fn quoted(line: &[u8], at: usize) -> Option<Range<usize>> {
    let quote = *line.get(at).filter(|c| matches!(c, b'\'' | b'"'))?;
    let mut end = at + 1;
    loop {
        match *line.get(end)? {
            b'\\' => end += 2,
            c if c == quote => return Some(at + 1..end),
            _ => end += 1,
        }
    }
}

fn unescape(value: &[u8], quote: Option<u8>) -> String {
    let text = String::from_utf8_lossy(value);
    let Some(quote) = quote else {
        return text.into_owned();
    };
    let mut out = String::new();
    let mut chars = text.chars().peekable();
    while let Some(ch) = chars.next() {
        let next = chars.peek().copied();
        let escapes = |c: char| c == '\\' || c == quote as char || (quote == b'"' && c == '$');
        match next {
            Some(c) if ch == '\\' && escapes(c) => {
                out.push(c);
                chars.next();
            }
            _ => out.push(ch),
        }
    }
    out
}

fn escape(value: &str, quote: Option<u8>) -> String {
    let Some(quote) = quote else {
        return value.to_owned();
    };
    let mut out = String::new();
    for ch in value.chars() {
        if ch == '\\' || ch == quote as char || (quote == b'"' && ch == '$') {
            out.push('\\');
        }
        out.push(ch);
    }
    out
}

fn role_of(name: &str) -> Option<Role> {
    let upper = name.to_ascii_uppercase();
    let words: Vec<&str> = upper.split(['_', '.']).filter(|word| !word.is_empty()).collect();
    let about = ["DB", "DATABASE", "SQL", "MYSQL", "MARIADB", "SQLITE", "PGSQL"];
    let first = words.iter().position(|word| about.contains(word))?;
    // `DB_DATABASE` names the database; a lone `DATABASE` names it too.
    let last = *words.last()?;
    let is_last = first + 1 == words.len();
    Some(match last {
        "DRIVER" | "ENGINE" | "TYPE" | "CONNECTION" => Role::Engine,
        "HOST" | "SERVER" | "HOSTNAME" => Role::Host,
        "PORT" => Role::Port,
        "SOCKET" => Role::Socket,
        "NAME" | "SCHEMA" => Role::Name,
        "DATABASE" if !is_last || words.len() == 1 => Role::Name,
        "USER" | "USERNAME" | "LOGIN" => Role::User,
        "PASSWORD" | "PASS" | "PASSWD" | "PWD" => Role::Password,
        "FILE" | "PATH" => Role::File,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const PHP: &str = "<?php\n// settings\ndefine('GP_DB_HOST', 'localhost');\n  define( \"GP_DB_NAME\" , \"glimmer\" );\ndefine('GP_DB_USER', 'keeper');\ndefine('GP_DB_PASSWORD', 'it\\'s; \\\\x');\ndefine('GP_TITLE', 'DB_HOST');\n";

    #[test]
    fn constants_are_found_with_their_lines() {
        let found = find(PHP.as_bytes()).unwrap();
        let shown: Vec<_> = found.iter().map(|s| (s.role, s.value.as_str(), s.line)).collect();
        assert_eq!(
            shown,
            [
                (Role::Host, "localhost", 3),
                (Role::Name, "glimmer", 4),
                (Role::User, "keeper", 5),
                (Role::Password, "it's; \\x", 6),
            ]
        );
    }

    #[test]
    fn only_the_values_are_written_and_special_characters_survive() {
        let found = find(PHP.as_bytes()).unwrap();
        let new = |s: &Setting| (s.role == Role::Password).then(|| "a'b\\c$d".to_owned());
        let written = write(PHP.as_bytes(), &found, new);
        let expected = PHP.replace("it\\'s; \\\\x", "a\\'b\\\\c$d");
        assert_eq!(String::from_utf8(written.clone()).unwrap(), expected);
        assert_eq!(find(&written).unwrap()[3].value, "a'b\\c$d");
    }

    #[test]
    fn dotenv_and_ini_lines_are_read_too() {
        let env = "APP=x\nDB_DATABASE=glimmer\nDB_USERNAME=\"keeper\"\nDB_PASSWORD=a b \n";
        let found = find(env.as_bytes()).unwrap();
        assert_eq!(found.len(), 3);
        assert_eq!(found[2].value, "a b");
        let written = write(env.as_bytes(), &found, |_| Some("new".into()));
        assert_eq!(written, b"APP=x\nDB_DATABASE=new\nDB_USERNAME=\"new\"\nDB_PASSWORD=new \n");
    }

    #[test]
    fn a_file_without_a_full_set_holds_no_settings() {
        assert!(find(b"define('GP_DB_HOST', 'localhost');").is_none());
        assert!(find(b"$x = 'DB_NAME';\nDB_NAME").is_none());
        assert!(find(b"define('GP_DB_FILE', 'data/site.db');").is_some());
    }
}
