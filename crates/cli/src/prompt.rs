//! Questions that only a person at the terminal can answer.

use fernweh_connect::ssh::Asks;
use fernweh_ports::shown;
use std::collections::BTreeMap;
use std::io::{BufRead, IsTerminal, Write};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Whoever is at the terminal.
pub fn person() -> Arc<dyn Asks> {
    Arc::new(Person)
}

/// The same for further logins at a host: what was answered at the first is not asked again.
pub fn person_again() -> Arc<dyn Asks> {
    Arc::new(PersonAgain)
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
