//! Questions that only a person at the terminal can answer.

use fernweh_connect::ssh::Asks;
use fernweh_ports::shown;
use std::collections::BTreeMap;
use std::io::{BufRead, IsTerminal, Write};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Whoever is at the terminal.
pub fn person() -> Arc<dyn Asks> {
    Arc::new(Person)
}

/// The same for further logins at a host: what was answered at the first is not asked again.
pub fn person_again() -> Arc<dyn Asks> {
    Arc::new(PersonAgain)
}

/// What somebody typed in answer to a question.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Answer {
    /// A text, or what stood there already.
    Typed(String),
    /// Nothing.
    Empty,
    /// Nobody is there.
    Nobody,
}

impl Answer {
    /// The text, if there is one.
    pub fn typed(self) -> Option<String> {
        match self {
            Self::Typed(text) => Some(text),
            Self::Empty | Self::Nobody => None,
        }
    }
}

/// Asks for a line of text; an empty one means what is proposed.
pub fn asked(question: &str, proposed: Option<&str>) -> Answer {
    if !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal() {
        return Answer::Nobody;
    }
    let _alone = one_at_a_time();
    let _asking = Asking::begin();
    let default = proposed.map(|text| format!(" [{}]", shown(text))).unwrap_or_default();
    let _ = write!(std::io::stderr(), "{question}{default}\n> ");
    let mut line = String::new();
    if std::io::stdin().lock().read_line(&mut line).is_err() || line.is_empty() {
        return Answer::Nobody;
    }
    match (line.trim(), proposed) {
        ("", Some(proposed)) => Answer::Typed(proposed.to_owned()),
        ("", None) => Answer::Empty,
        (text, _) => Answer::Typed(text.to_owned()),
    }
}

/// A question is on the terminal: from then until it is answered a wish to stop ends the program,
/// for a line that is waited for cannot be taken back.
struct Asking;

/// How many questions wait, and whether what is typed is hidden.
static ASKING: AtomicUsize = AtomicUsize::new(0);

impl Asking {
    fn begin() -> Self {
        ASKING.fetch_add(1, Ordering::SeqCst);
        Self
    }
}

impl Drop for Asking {
    fn drop(&mut self) {
        ASKING.fetch_sub(1, Ordering::SeqCst);
    }
}

/// Ends the program if a question waits for its answer. What is typed is shown again.
pub fn give_up() {
    if ASKING.load(Ordering::SeqCst) == 0 {
        return;
    }
    if let Ok(mut state) = rustix::termios::tcgetattr(std::io::stdin()) {
        state.local_modes.insert(rustix::termios::LocalModes::ECHO);
        let now = rustix::termios::OptionalActions::Now;
        let _ = rustix::termios::tcsetattr(std::io::stdin(), now, &state);
    }
    crate::messages::always("\nfernweh: interrupted at a question; the same command asks again\n");
    std::process::exit(5);
}

struct Person;

struct PersonAgain;

/// Answers of this run, by their questions.
fn answered() -> MutexGuard<'static, BTreeMap<String, String>> {
    static ANSWERED: Mutex<BTreeMap<String, String>> = Mutex::new(BTreeMap::new());
    ANSWERED.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Asks for PersonAgain {
    fn secret(&self, prompt: &str) -> Option<String> {
        let known = answered().get(prompt).cloned();
        known.or_else(|| Person.secret(prompt))
    }

    fn agrees(&self, question: &str) -> Option<bool> {
        Person.agrees(question)
    }
}

/// Two hosts may be reached at the same time; questions come one after the other.
fn one_at_a_time() -> MutexGuard<'static, ()> {
    static ASKING: Mutex<()> = Mutex::new(());
    ASKING.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Asks for Person {
    fn secret(&self, prompt: &str) -> Option<String> {
        let terminal = console::Term::stderr();
        if !std::io::stdin().is_terminal() || !terminal.is_term() {
            return None;
        }
        let _alone = one_at_a_time();
        let _asking = Asking::begin();
        let _ = write!(std::io::stderr(), "{}: ", shown(prompt));
        let answer = terminal.read_secure_line().ok()?;
        answered().insert(prompt.to_owned(), answer.clone());
        Some(answer)
    }

    fn agrees(&self, question: &str) -> Option<bool> {
        if !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal() {
            return None;
        }
        let _alone = one_at_a_time();
        let _asking = Asking::begin();
        // A break before it parts it from what stands above.
        let text = shown(question.trim_start_matches('\n')).into_owned();
        let gap = if question.starts_with('\n') { "\n" } else { "" };
        let _ = write!(std::io::stderr(), "{gap}{text} [y/N] ");
        let mut answer = String::new();
        std::io::stdin().lock().read_line(&mut answer).ok()?;
        Some(matches!(answer.trim().to_lowercase().as_str(), "yes" | "y"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_answered_is_not_asked_again() {
        answered().insert("passphrase of a key".into(), "night sky".into());
        let again = person_again();
        assert_eq!(again.secret("passphrase of a key").as_deref(), Some("night sky"));
    }
}
