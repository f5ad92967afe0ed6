//! What was typed, to be typed again: with the same options, without the trial.

use crate::hints::word;
use std::ffi::OsString;

/// Words that make a command a trial.
const TRIAL: [&str; 4] = ["--preview", "--dry-run", "-n", "--rehearse"];

/// The words of one command line.
#[derive(Clone, Debug, Default)]
pub struct Typed(Vec<OsString>);

impl Typed {
    /// The words; the first is the program.
    pub fn new(words: Vec<OsString>) -> Self {
        Self(words)
    }

    /// Whether a word was typed, before a `--`.
    pub fn holds(&self, word: &str) -> bool {
        self.0.iter().take_while(|typed| *typed != "--").any(|typed| typed == word)
    }

    /// The command that does for real what was tried.
    pub fn for_real(&self, more: &[&str]) -> String {
        let words = self.without_config();
        let words = words.iter().filter(|typed| !TRIAL.contains(&typed.as_ref()));
        let words = words.map(|typed| word(typed));
        let more = more.iter().filter(|option| !self.holds(option));
        let all = std::iter::once("fernweh".to_owned()).chain(words);
        all.chain(more.map(|option| (*option).to_owned())).collect::<Vec<_>>().join(" ")
    }

    /// The words behind the program, without the configuration: hints get it where they are shown.
    fn without_config(&self) -> Vec<String> {
        let mut words = self.0.iter().skip(1).map(|typed| typed.to_string_lossy().into_owned());
        let mut kept = Vec::new();
        while let Some(typed) = words.next() {
            if typed == "-c" || typed == "--config" {
                words.next();
            } else if !typed.starts_with("--config=") && !is_short_config(&typed) {
                kept.push(typed);
            }
        }
        kept
    }

    /// The command without these options, which take no values.
    pub fn without(&self, options: &[&str]) -> String {
        let kept = self.0.iter().filter(|typed| !options.iter().any(|option| *typed == option));
        Self(kept.cloned().collect()).again()
    }

    /// The command as it was typed.
    pub fn again(&self) -> String {
        self.for_real(&[])
    }
}

/// Whether a word is `-c` with its value behind it.
fn is_short_config(word: &str) -> bool {
    word.starts_with("-c") && !word.starts_with("--")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_trial_is_repeated_without_what_made_it_one() {
        let words = "fernweh|unpack|my site.tar|new|--tables|gp_*|--dry-run|--overwrite";
        let typed = Typed::new(words.split('|').map(OsString::from).collect());
        let real = typed.for_real(&["--overwrite", "--apply"]);
        assert_eq!(real, "fernweh unpack 'my site.tar' new --tables 'gp_*' --overwrite --apply");
    }
}
