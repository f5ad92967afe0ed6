//! Errors of the argument parser, in the same words and form as all others.

use crate::args::Arguments;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{CommandFactory, Error};
use fernweh_ports::Trouble;
use std::ffi::OsString;

/// Options that people bring along from elsewhere, or that had another name here, and what to type.
const OTHER_WORDS: [(&str, &str); 8] = [
    ("--force", "to replace what is there, add --overwrite: it is kept for undo"),
    ("-f", "to replace what is there, add --overwrite: it is kept for undo"),
    ("--dry-run", "this command changes no site, so it needs no trial"),
    ("-n", "this command changes no site, so it needs no trial"),
    ("--file", "to choose files use --paths PATTERN; --files is the site's folder"),
    ("--continue", "leave it out: the same command goes on by itself; --fresh begins anew"),
    ("--into", "name that site as the destination: fernweh move FROM SITE"),
    ("--apply", "leave it out: this command acts, unless you add --preview"),
];

/// An error of the parser as people need it.
pub fn explained(error: &Error, typed: &[OsString]) -> Trouble {
    let command = command_of(typed);
    let help = match &command {
        Some(name) => format!("fernweh {name} --help"),
        None => "fernweh --help".to_owned(),
    };
    let lists = format!("{help} lists what can be typed");
    let argument = text(error, ContextKind::InvalidArg);
    let argument = argument.split_whitespace().next().unwrap_or_default();
    let argument = argument.trim_matches(['<', '>', '[', ']']).to_owned();
    match error.kind() {
        ErrorKind::UnknownArgument => unknown(error, &argument, command.as_deref(), &lists),
        ErrorKind::InvalidSubcommand => {
            let name = text(error, ContextKind::InvalidSubcommand);
            let near = nearest(error, ContextKind::SuggestedSubcommand);
            Trouble::usage(format!("there is no command `{name}`"))
                .hint(near.unwrap_or_else(|| "fernweh --help lists the commands".into()))
        }
        ErrorKind::InvalidValue => invalid(error, &argument, lists),
        ErrorKind::ValueValidation => {
            let value = text(error, ContextKind::InvalidValue);
            let source = std::error::Error::source(error).map(ToString::to_string);
            let trouble = Trouble::usage(format!("`{value}` does not fit {argument}"));
            match source {
                Some(source) => trouble.because(in_words(&source)).hint(lists),
                None => trouble.hint(lists),
            }
        }
        ErrorKind::NoEquals => Trouble::usage(format!("{argument} takes its value behind a ="))
            .hint(format!("write {argument}=VALUE; {lists}")),
        ErrorKind::TooManyValues | ErrorKind::WrongNumberOfValues | ErrorKind::TooFewValues => {
            Trouble::usage(format!("{argument} does not take so many values")).hint(lists)
        }
        ErrorKind::ArgumentConflict => {
            let other = text(error, ContextKind::PriorArg);
            let other = other.split_whitespace().next().unwrap_or_default();
            match other == argument {
                true => Trouble::usage(format!("{argument} can be given once only")).hint(lists),
                false => Trouble::usage(format!("{argument} and {other} do not go together"))
                    .hint("leave one of them out"),
            }
        }
        ErrorKind::MissingRequiredArgument => missing(error, &help),
        ErrorKind::InvalidUtf8 => {
            Trouble::usage("a word of the command is not readable text (UTF-8)").hint(lists)
        }
        _ => {
            let text = error.render().to_string();
            let first = text.lines().next().unwrap_or_default();
            Trouble::usage(first.trim_start_matches("error: ").to_owned()).hint(lists)
        }
    }
}

/// The command that was typed, if it is one.
fn command_of(typed: &[OsString]) -> Option<String> {
    let all = Arguments::command();
    let words = typed.iter().skip(1).filter_map(|word| word.to_str());
    let mut words = words.filter(|word| all.find_subcommand(word).is_some());
    words.next().map(str::to_owned)
}

/// What a parser of numbers says of a range, in words.
fn in_words(message: &str) -> String {
    match message.split_once(" is not in ").and_then(|(_, range)| range.split_once("..=")) {
        Some((least, most)) => format!("it must be a number from {least} to {most}"),
        None => message.to_owned(),
    }
}

fn text(error: &Error, kind: ContextKind) -> String {
    all(error, kind).into_iter().next().unwrap_or_default()
}

fn all(error: &Error, kind: ContextKind) -> Vec<String> {
    match error.get(kind) {
        Some(ContextValue::String(text)) => vec![text.clone()],
        Some(ContextValue::Strings(texts)) => texts.clone(),
        Some(ContextValue::StyledStr(text)) => vec![text.to_string()],
        Some(ContextValue::StyledStrs(texts)) => texts.iter().map(ToString::to_string).collect(),
        _ => Vec::new(),
    }
}

fn nearest(error: &Error, kind: ContextKind) -> Option<String> {
    let near = all(error, kind);
    (!near.is_empty()).then(|| format!("did you mean {}?", near.join(" or ")))
}

fn unknown(error: &Error, argument: &str, command: Option<&str>, lists: &str) -> Trouble {
    let trouble = match (argument.starts_with('-'), command) {
        (false, Some(command)) => {
            let what = format!("`{argument}` is one word too many for {command}");
            return Trouble::usage(what).hint(lists.to_owned());
        }
        (_, Some(command)) => Trouble::usage(format!("{command} has no option {argument}")),
        (_, None) => Trouble::usage(format!("there is no option {argument}")),
    };
    if let ("--only", Some("survey")) = (argument, command) {
        return trouble.hint("to repeat one test use --check NAME");
    }
    if let (true, Some("pack")) = (matches!(argument, "--force" | "-f"), command) {
        return trouble.hint("choose another name with -o; --fresh begins an archive anew");
    }
    if let Some((_, hint)) = OTHER_WORDS.iter().find(|(word, _)| *word == argument) {
        return trouble.hint(*hint);
    }
    trouble.hint(nearest(error, ContextKind::SuggestedArg).unwrap_or_else(|| lists.to_owned()))
}

fn invalid(error: &Error, argument: &str, lists: String) -> Trouble {
    let value = text(error, ContextKind::InvalidValue);
    let known = all(error, ContextKind::ValidValue);
    if value.is_empty() {
        let trouble = Trouble::usage(format!("{argument} needs a value"));
        return match known.is_empty() {
            true => trouble.hint(lists),
            false => trouble.hint(format!("one of {}", known.join(", "))),
        };
    }
    let trouble = Trouble::usage(format!("`{value}` is no value of {argument}"));
    match nearest(error, ContextKind::SuggestedValue) {
        Some(near) => trouble.because(format!("it takes {}", known.join(", "))).hint(near),
        None => trouble.hint(format!("one of {}", known.join(", "))),
    }
}

fn missing(error: &Error, help: &str) -> Trouble {
    let names = all(error, ContextKind::InvalidArg);
    let plain = |name: &String| name.trim_matches(['<', '>', '.']).to_owned();
    let names: Vec<String> = names.iter().map(plain).collect();
    let usage = text(error, ContextKind::Usage);
    let usage = usage.trim_start_matches("Usage: ").lines().next().unwrap_or_default().trim();
    let verb = if names.len() == 1 { "is" } else { "are" };
    let what = format!("{} {verb} missing", names.join(" and "));
    let usage = if usage.is_empty() { help.to_owned() } else { usage.to_owned() };
    Trouble::usage(what).hint(format!("{usage}   ({help} explains it)"))
}
