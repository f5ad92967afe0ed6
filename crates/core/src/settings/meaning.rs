//! What values are for, by the words of their names, and which of them make one connection.
//!
//! Names are taken apart into words (`dbUserName`, `DB_USER_NAME`, `db.user-name`). The last word
//! says what a value is, those before it, and the names around it, what it is about. Values whose
//! names differ in the last word alone belong together.

use super::address::parts;
use super::spelling::{Decoded, Layer};
use super::{Connection, Role, Setting};
use std::ops::Range;

/// A value with the names that lead to it; the last is its own.
#[derive(Clone, Debug)]
pub(super) struct Found {
    pub path: Vec<String>,
    pub layer: Layer,
    pub decoded: Decoded,
}

impl Found {
    /// A value, by the names that lead to it. The nearest ones say what it is, and little of each;
    /// a file that is no settings file may hold thousands, and long ones.
    pub fn new<'a>(
        names: impl DoubleEndedIterator<Item = &'a str>,
        layer: Layer,
        decoded: Decoded,
    ) -> Self {
        Self { path: path(names), layer, decoded }
    }
}

/// Names that lead to a value at most, and characters of each.
const NEAREST: usize = 16;
const LONGEST: usize = 64;

/// The nearest of these names, the outermost first.
pub(super) fn path<'a>(names: impl DoubleEndedIterator<Item = &'a str>) -> Vec<String> {
    let nearest = names.rev().take(NEAREST);
    let mut path: Vec<String> = nearest.map(|name| name.chars().take(LONGEST).collect()).collect();
    path.reverse();
    path
}

/// Words that say that something is about a database.
const ABOUT: [&str; 17] = [
    "DB",
    "DATABASE",
    "DATABASES",
    "SQL",
    "MYSQL",
    "MYSQLI",
    "MARIADB",
    "SQLITE",
    "SQLITE3",
    "PGSQL",
    "PG",
    "POSTGRES",
    "POSTGRESQL",
    "PDO",
    "DATASOURCE",
    "DATASOURCES",
    "DSN",
];

/// Words that only say that a value is an address.
const ADDRESS: [&str; 5] = ["URL", "URI", "DSN", "ADDRESS", "STRING"];

/// The words of a name, in capitals.
fn words(name: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut before = ' ';
    for ch in name.chars() {
        let begins = !ch.is_alphanumeric() || ch.is_uppercase() && before.is_lowercase();
        if begins && words.last().is_some_and(|word| !word.is_empty()) {
            words.push(String::new());
        }
        if ch.is_alphanumeric()
            && let Some(word) = words.last_mut()
        {
            word.extend(ch.to_uppercase());
        }
        before = ch;
    }
    words.retain(|word| !word.is_empty());
    // `dbname`, `PGHOST`: two words without a sign between them.
    let split = |word: String| {
        let both = ["DB", "DATABASE", "MYSQL", "SQL", "PG"].iter().find_map(|about| {
            let rest = word.strip_prefix(about)?;
            role_of_word(rest).map(|_| vec![(*about).to_owned(), rest.to_owned()])
        });
        both.unwrap_or_else(|| vec![word])
    };
    let mut words: Vec<String> = words.into_iter().flat_map(split).collect();
    // `userName`, `host_name`: one word with a sign between them.
    for at in (1..words.len()).rev() {
        let both = [words[at - 1].as_str(), words[at].as_str()].concat();
        if matches!(both.as_str(), "USERNAME" | "HOSTNAME" | "SERVERNAME" | "PASSWORD") {
            words[at - 1] = both;
            words.remove(at);
        }
    }
    words
}

/// What a value is whose name ends so.
fn role_of_word(word: &str) -> Option<Role> {
    Some(match word {
        "HOST" | "HOSTNAME" | "SERVER" | "SERVERNAME" => Role::Host,
        "PORT" => Role::Port,
        "SOCKET" => Role::Socket,
        "NAME" | "DATABASE" | "DB" | "DBNAME" | "SCHEMA" => Role::Name,
        "USER" | "USERNAME" | "LOGIN" | "UID" | "USR" => Role::User,
        "PASSWORD" | "PASS" | "PASSWD" | "PWD" | "PW" => Role::Password,
        "DRIVER" | "ENGINE" | "TYPE" | "ADAPTER" | "DIALECT" | "CONNECTION" | "DBMS" => {
            Role::Engine
        }
        "FILE" | "PATH" | "FILENAME" | "STORAGE" => Role::File,
        _ => return None,
    })
}

/// What a name says.
struct Said {
    /// What the value is; `None` for an address.
    role: Option<Role>,
    /// The words that values of one connection share.
    shared: Vec<String>,
    /// It says that this is about a database.
    about: bool,
    /// It can be the name of nothing but a database.
    names_database: bool,
}

fn said(path: &[String]) -> Option<Said> {
    let (name, above) = path.split_last()?;
    let mut shared = words(name);
    let last = shared.pop()?;
    let role = role_of_word(&last);
    if role.is_none() && !ADDRESS.contains(&last.as_str()) {
        return None;
    }
    if role == Some(Role::Socket) {
        shared.retain(|word| word != "UNIX");
    }
    let is_about = |word: &String| ABOUT.contains(&word.as_str());
    let about = shared.iter().any(is_about)
        || is_about(&last)
        || above.iter().any(|name| words(name).iter().any(is_about));
    let names_database = matches!(last.as_str(), "DATABASE" | "DB" | "DBNAME");
    Some(Said { role, shared, about, names_database })
}

/// Values that may make a connection.
struct Group {
    above: Vec<String>,
    shared: Vec<String>,
    about: bool,
    names_database: bool,
    settings: Vec<Setting>,
}

impl Group {
    fn has(&self, role: Role) -> bool {
        self.settings.iter().any(|setting| setting.role == role)
    }

    fn value(&self, role: Role) -> &str {
        let setting = self.settings.iter().find(|setting| setting.role == role);
        setting.map_or("", |setting| setting.value.as_str())
    }

    /// Whether this is how to reach a database, and no text about that.
    fn is_connection(&self) -> bool {
        let file = self.value(Role::File);
        let ends = [".db", ".sqlite", ".sqlite3", ".db3"].iter().any(|end| file.ends_with(end));
        if !file.is_empty() && !file.contains(['\n', '<']) && (self.about || ends) {
            return true;
        }
        let whole = self.names_database && self.has(Role::Host) && self.has(Role::Password);
        let about = self.about || whole;
        let (name, user) = (self.value(Role::Name), self.value(Role::User));
        // Forms and their translations call their fields so, too.
        let is_word = |value: &str| {
            let words = words(value);
            words.last().is_some_and(|word| role_of_word(word).is_some())
        };
        about && is_plausible(name) && is_plausible(user) && !(is_word(name) && is_word(user))
    }
}

fn is_plausible(value: &str) -> bool {
    let odd = |ch: char| ch.is_whitespace() || ch.is_control() || "<>{}%$\"'`()".contains(ch);
    !value.is_empty() && value.len() <= 128 && !value.contains(odd)
}

/// The connections among these values, in the order in which they begin.
pub(super) fn connections(text: &str, found: Vec<Found>) -> Vec<Connection> {
    let mut groups: Vec<Group> = Vec::new();
    for one in &found {
        let (Some(said), Some((name, above))) = (said(&one.path), one.path.split_last()) else {
            // An address says by itself what it is.
            let parts = parts(&one.decoded.text);
            if !parts.is_empty() {
                let settings = settings_of(text, one, parts);
                let (above, shared) = (one.path.clone(), Vec::new());
                groups.push(Group { above, shared, about: true, names_database: true, settings });
            }
            continue;
        };
        let parts = parts(&one.decoded.text);
        let (about, settings) = match (said.role, parts.is_empty()) {
            (_, false) => (true, settings_of(text, one, parts)),
            (Some(role), true) => {
                (said.about, vec![setting(text, one, name, role, 0..one.decoded.text.len(), None)])
            }
            (None, true) => continue,
        };
        let same = |group: &&mut Group| group.above == above && group.shared == said.shared;
        // What comes a second time begins another connection.
        let again = |group: &Group| settings.iter().any(|setting| group.has(setting.role));
        match groups.iter_mut().rev().find(same).filter(|group| !again(group)) {
            Some(group) => {
                group.about |= about;
                group.names_database |= said.names_database;
                group.settings.extend(settings);
            }
            None => groups.push(Group {
                above: above.to_vec(),
                shared: said.shared,
                about,
                names_database: said.names_database,
                settings,
            }),
        }
    }
    complete(&mut groups);
    groups.retain(Group::is_connection);
    groups
        .into_iter()
        .map(|mut group| {
            group.settings.sort_by_key(|setting| setting.range.start);
            Connection { settings: group.settings }
        })
        .collect()
}

/// What lacks in a connection and stands beside it under a name of another form: `$database` beside
/// `$dbuser`, `dbdriver` beside `username`.
fn complete(groups: &mut [Group]) {
    for at in 0..groups.len() {
        if !groups[at].has(Role::User) || !groups[at].has(Role::Password) && !groups[at].about {
            continue;
        }
        for other in 0..groups.len() {
            let wanted = other != at
                && !groups[other].has(Role::User)
                && groups[other].above == groups[at].above
                && groups[other].settings.iter().all(|one| !groups[at].has(one.role))
                && (groups[at].shared.is_empty() || groups[other].shared.is_empty());
            if wanted {
                let taken = std::mem::take(&mut groups[other].settings);
                groups[at].about |= groups[other].about;
                groups[at].names_database |= groups[other].names_database;
                groups[at].settings.extend(taken);
            }
        }
    }
}

fn settings_of(text: &str, one: &Found, parts: Vec<(Role, Range<usize>, Layer)>) -> Vec<Setting> {
    let name = one.path.last().map_or("", String::as_str);
    let setting = |(role, range, layer)| setting(text, one, name, role, range, Some(layer));
    parts.into_iter().map(setting).collect()
}

/// A value, or a part of it that is written in a way of its own.
fn setting(
    text: &str,
    one: &Found,
    name: &str,
    role: Role,
    part: Range<usize>,
    inner: Option<Layer>,
) -> Setting {
    let range = one.decoded.place(&part);
    let value = &one.decoded.text[part];
    let value = match inner {
        Some(layer) => super::spelling::decode(layer, value, 0).map(|inner| inner.text),
        None => Some(value.to_owned()),
    };
    let line = text[..range.start].bytes().filter(|byte| *byte == b'\n').count() + 1;
    Setting {
        name: name.to_owned(),
        role,
        value: value.unwrap_or_default(),
        range,
        layers: std::iter::once(one.layer).chain(inner).collect(),
        line,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_nearest_names_are_held_and_little_of_each() {
        let names = ["a".repeat(1000), "é".repeat(1000)];
        let many: Vec<&str> = (0..1000).map(|n| names[n % 2].as_str()).collect();
        let held = path(many.into_iter().chain(["db", "host"]));
        assert_eq!((held.len(), &held[14..]), (16, &["db".to_owned(), "host".to_owned()][..]));
        assert!(held.iter().all(|name| name.chars().count() <= 64));
    }

    #[test]
    fn names_are_taken_apart() {
        assert_eq!(words("GP_DB_HOST"), ["GP", "DB", "HOST"]);
        assert_eq!(words("$dbUserName"), ["DB", "USERNAME"]);
        assert_eq!(words("host_name"), ["HOSTNAME"]);
        assert_eq!(words("dbname"), ["DB", "NAME"]);
        assert_eq!(words("PGPASSWORD"), ["PG", "PASSWORD"]);
        assert_eq!(words("unix_socket"), ["UNIX", "SOCKET"]);
        assert!(words("--").is_empty());
    }
}
