//! The one kind of error that operations and connectors give: what was wanted, what
//! is in the way, and what to try.

use std::fmt;

/// A result of the outside world.
pub type Result<T> = std::result::Result<T, Trouble>;

/// Which kind of trouble; decides the exit code.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TroubleKind {
    /// The command, its options or the configuration are not right (exit code 2).
    Usage,
    /// The outside refused: not reachable, no login, no right, no room (3).
    Outside,
    /// Data is damaged, or does not prove complete (4).
    Damaged,
    /// Interrupted, or not complete (5).
    Interrupted,
}

/// An error as people need it; small, because it travels in every result.
#[derive(Clone, Debug)]
pub struct Trouble(Box<Told>);

/// What an error tells.
#[derive(Clone, Debug)]
pub struct Told {
    /// Which kind.
    pub kind: TroubleKind,
    /// The heading: what cannot be done.
    pub what: String,
    /// What the program was doing.
    pub doing: Option<String>,
    /// The file, server or site concerned; never with a password.
    pub place: Option<String>,
    /// What went wrong, ending with the exact message of the other side.
    pub because: Option<String>,
    /// What to try.
    pub hint: Option<String>,
    /// What has changed, if anything has; otherwise nothing was changed.
    pub changed: Option<String>,
    /// Whether a connection was lost that may come back.
    pub lost: bool,
}

impl Trouble {
    fn new(kind: TroubleKind, what: impl Into<String>) -> Self {
        let what = what.into();
        let (doing, place, because, hint, changed) = (None, None, None, None, None);
        Self(Box::new(Told { kind, what, doing, place, because, hint, changed, lost: false }))
    }

    /// A mistake in the command or the configuration.
    pub fn usage(what: impl Into<String>) -> Self {
        Self::new(TroubleKind::Usage, what)
    }

    /// A refusal of the outside world.
    pub fn outside(what: impl Into<String>) -> Self {
        Self::new(TroubleKind::Outside, what)
    }

    /// Damaged or unproven data.
    pub fn damaged(what: impl Into<String>) -> Self {
        Self::new(TroubleKind::Damaged, what)
    }

    /// An interruption.
    pub fn interrupted(what: impl Into<String>) -> Self {
        Self::new(TroubleKind::Interrupted, what)
    }

    /// Adds what the program was doing; what is known already is kept.
    pub fn doing(mut self, doing: impl Into<String>) -> Self {
        self.doing.get_or_insert_with(|| doing.into());
        self
    }

    /// Adds the place concerned; a place already known is kept.
    pub fn at(mut self, place: impl Into<String>) -> Self {
        self.place.get_or_insert_with(|| place.into());
        self
    }

    /// Adds the cause, in plain words: what a library or the operating system says, once and
    /// without its numbers.
    pub fn because(mut self, because: impl fmt::Display) -> Self {
        self.because = Some(plain(&because.to_string()));
        self
    }

    /// Adds what to try; a hint already there is kept.
    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint.get_or_insert_with(|| hint.into());
        self
    }

    /// Says that a connection was lost that may come back.
    pub fn lost(mut self, lost: bool) -> Self {
        self.lost = lost;
        self
    }

    /// Says what has changed all the same, and how to go on; the work is incomplete,
    /// whatever was in its way.
    pub fn incomplete(mut self, changed: impl Into<String>) -> Self {
        self.kind = TroubleKind::Interrupted;
        self.changed = Some(changed.into());
        self
    }

    /// A file that would be written is there already, and is not replaced.
    pub fn already_there(what: &str, path: &std::path::Path) -> Self {
        Self::usage(what)
            .at(path.display().to_string())
            .because("a file of this name is already there")
            .hint("choose another name, or remove the file")
    }

    /// An error of the file system, in plain words.
    pub fn file(what: impl Into<String>, path: &std::path::Path, error: &std::io::Error) -> Self {
        use std::io::ErrorKind::*;
        let (because, hint) = match error.kind() {
            NotFound => ("there is no such file or folder", "check the path"),
            PermissionDenied => ("permission denied", "check owner and permissions"),
            StorageFull | QuotaExceeded => {
                ("the disk is full", "make room, or choose another disk")
            }
            FileTooLarge => ("the file is too large for this file system", "choose another place"),
            AlreadyExists if path.exists() && !path.is_dir() => {
                ("a file is where a folder is needed", "choose another place")
            }
            AlreadyExists => ("something of this name is already there", "choose another name"),
            ReadOnlyFilesystem => ("the file system is read-only", "choose another place"),
            NotADirectory => ("a part of the path is not a folder", "check the path"),
            IsADirectory => ("this is a folder, not a file", "name the file"),
            _ => (OTHER, "try again; check the disk"),
        };
        Self::outside(what)
            .at(path.display().to_string())
            .because(match error.raw_os_error() {
                // Plain words say what the number means.
                Some(_) if because != OTHER => because.to_owned(),
                _ => format!("{because}: {error}"),
            })
            .hint(hint)
    }
}

/// What is said of an error of the file system that has no words of its own here.
const OTHER: &str = "the file system reports an error";

/// A message of a library or the operating system without its error number, and without a part
/// that repeats the one before it.
pub fn plain(message: &str) -> String {
    let mut text = message.to_owned();
    while let Some(at) = text.find(" (os error ") {
        let Some(end) = text[at..].find(')') else { break };
        text.replace_range(at..=at + end, "");
    }
    let mut parts: Vec<&str> = Vec::new();
    for part in text.split(": ") {
        let is_new = parts.last().is_none_or(|last| {
            let (last, part) = (last.trim_end_matches('.'), part.trim_end_matches('.'));
            !last.eq_ignore_ascii_case(part)
        });
        if is_new || part.is_empty() {
            parts.push(part);
        }
    }
    parts.join(": ")
}

/// What is said where a name leads to no address; `None` if the message is about something else.
pub fn without_address(host: &str, message: &str) -> Option<String> {
    let message = message.to_lowercase();
    let signs = [
        "failed to lookup address",
        "name or service not known",
        "name resolution",
        "no address associated",
        "nodename nor servname",
        "dns error",
        "no such host",
    ];
    let found = signs.iter().any(|sign| message.contains(sign));
    found.then(|| format!("no address is known for {host}"))
}

impl std::ops::Deref for Trouble {
    type Target = Told;

    fn deref(&self) -> &Told {
        &self.0
    }
}

impl std::ops::DerefMut for Trouble {
    fn deref_mut(&mut self) -> &mut Told {
        &mut self.0
    }
}

impl fmt::Display for Trouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.what)?;
        if let Some(because) = &self.because {
            write!(f, ": {because}")?;
        }
        Ok(())
    }
}

impl std::error::Error for Trouble {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_of_others_are_said_once_and_without_numbers() {
        let of = |message: &str| Trouble::outside("x").because(message).because.clone();
        assert_eq!(of("Connection refused (os error 111)").as_deref(), Some("Connection refused"));
        assert_eq!(
            of("error: connection closed: Connection closed.: by the host").as_deref(),
            Some("error: connection closed: by the host")
        );
        assert_eq!(of("http://a.example: b").as_deref(), Some("http://a.example: b"));
        let missing = std::fs::File::open("/nowhere/at/all").unwrap_err();
        let trouble = Trouble::file("cannot read", std::path::Path::new("/nowhere"), &missing);
        assert_eq!(trouble.because.as_deref(), Some("there is no such file or folder"));
    }

    #[test]
    fn a_name_without_an_address_is_said_as_that() {
        let message = "failed to lookup address information: Name or service not known";
        let told = without_address("db.example", message);
        assert_eq!(told.as_deref(), Some("no address is known for db.example"));
        assert_eq!(without_address("db.example", "connection refused"), None);
    }
}
