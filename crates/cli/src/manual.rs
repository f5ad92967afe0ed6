//! The manual pages, and the reference of the guide: both are made from what the program itself
//! says of its commands, options and keys.

use crate::config::Content;
use clap::{Arg, Command};
use serde_json::Value;
use std::fmt::Write as _;
use std::path::Path;

/// Writes a manual page for the program and one for each command into a folder (roff, section 1).
///
/// # Errors
///
/// Where a page cannot be written.
pub fn manual_pages(all: Command, folder: &Path) -> std::io::Result<()> {
    clap_mangen::generate_to(all.disable_help_subcommand(true), folder)
}

/// The reference of all commands, options and keys, as Markdown.
pub fn reference(mut all: Command) -> String {
    all.build();
    let mut text = String::from(
        "# Reference\n\nMade from the program itself; a test keeps it true. The [guide](guide.md) \
         says how things go\ntogether.\n\n- [Everywhere](#everywhere)\n",
    );
    let shown = || all.get_subcommands().filter(|command| !command.is_hide_set());
    for command in shown() {
        let name = command.get_name();
        let _ = writeln!(text, "- [fernweh {name}](#fernweh-{name})");
    }
    text.push_str("- [fernweh.toml](#fernwehtoml)\n\n## Everywhere\n\n");
    let global = |arg: &&Arg| arg.is_global_set();
    all.get_arguments().filter(global).for_each(|arg| option(&mut text, arg));
    for command in shown() {
        let _ = writeln!(text, "\n## fernweh {}\n", command.get_name());
        let about = command.get_long_about().or(command.get_about());
        let about = about.map(ToString::to_string).unwrap_or_default();
        let (words, examples) = match about.split_once("Example") {
            Some((words, examples)) => (words, examples.split_once(":\n").map(|found| found.1)),
            None => (about.as_str(), None),
        };
        let _ = writeln!(text, "{}\n", words.trim());
        if let Some(examples) = examples {
            let lines: Vec<&str> = examples.trim_end().lines().map(str::trim_start).collect();
            let _ = writeln!(text, "```\n{}\n```\n", lines.join("\n"));
        }
        let own = command.get_arguments().filter(|arg| !arg.is_global_set() && !arg.is_hide_set());
        let own: Vec<&Arg> = own.filter(|arg| arg.get_id() != "help").collect();
        own.iter().for_each(|arg| option(&mut text, arg));
    }
    text.push_str("\n## fernweh.toml\n");
    let schema = schemars::schema_for!(Content);
    let schema = schema.as_value();
    let section = |text: &mut String, title: &str, of: &Value| keys(text, schema, title, of);
    for (title, name) in [
        ("[site.NAME]", "SiteSection"),
        ("[pack], [site.NAME.pack]", "PackSection"),
        ("[unpack], [site.NAME.unpack]", "UnpackSection"),
        ("[[rule]]", "RuleSection"),
        ("[before], [site.NAME.before]", "BeforeSection"),
        ("[after], [site.NAME.after]", "AfterSection"),
        ("[tell]", "TellSection"),
        ("[log]", "LogSection"),
    ] {
        section(&mut text, title, &schema["$defs"][name]);
    }
    text
}

fn option(text: &mut String, arg: &Arg) {
    let mut name = String::new();
    if let Some(short) = arg.get_short() {
        let _ = write!(name, "-{short}, ");
    }
    let values: Vec<String> =
        arg.get_value_names().unwrap_or_default().iter().map(ToString::to_string).collect();
    match arg.get_long() {
        Some(long) => {
            let _ = write!(name, "--{long}");
            if arg.get_action().takes_values() {
                let _ = write!(name, " {}", values.join(" "));
            }
        }
        None => name.push_str(&values.join(" ")),
    }
    let help = arg.get_help().map(ToString::to_string).unwrap_or_default();
    let mut help = help.replace('\n', " ");
    let possible: Vec<String> = match arg.is_hide_possible_values_set() {
        true => Vec::new(),
        false => arg.get_possible_values().iter().map(|one| one.get_name().to_owned()).collect(),
    };
    if arg.get_action().takes_values() && !possible.is_empty() {
        let _ = write!(help, " ({})", possible.join(", "));
    }
    let default: Vec<_> =
        arg.get_default_values().iter().map(|one| one.to_string_lossy()).collect();
    if arg.get_action().takes_values() && !default.is_empty() {
        let _ = write!(help, " (default: {})", default.join(", "));
    }
    let _ = writeln!(text, "- `{name}`: {help}");
}

/// The keys of a section, with what each may hold.
fn keys(text: &mut String, schema: &Value, title: &str, of: &Value) {
    let _ = writeln!(text, "\n### {title}\n");
    for (key, value) in of["properties"].as_object().into_iter().flatten() {
        let about = value["description"].as_str().unwrap_or_default().replace('\n', " ");
        // Tables of their own are described where they stand.
        if is_section(value) {
            let _ = writeln!(text, "- `{key}`: {about} A table of its own, see below.");
            continue;
        }
        let _ = writeln!(text, "- `{key}` ({}): {about}", kind(schema, value));
    }
}

fn is_section(value: &Value) -> bool {
    let text = value.to_string();
    ["Section\"", "Section\","].iter().any(|end| text.contains(end))
}

/// What a key may hold, in words.
fn kind(schema: &Value, value: &Value) -> String {
    if let Some(name) = value["$ref"].as_str().and_then(|path| path.rsplit('/').next()) {
        return match name {
            "Secret" => "`{ env = \"…\" }`, `{ file = \"…\" }`, `{ command = \"…\" }` or \
                         `{ ask = true }`"
                .into(),
            "Passwords" => "one per connection: `database`, `files`, `through`, `login`".into(),
            _ => kind(schema, &schema["$defs"][name]),
        };
    }
    let any = value["anyOf"].as_array().or(value["oneOf"].as_array());
    if let Some(any) = any {
        let words = any.iter().filter(|one| one["type"] != "null").map(|one| kind(schema, one));
        let mut words: Vec<String> = words.collect();
        words.dedup();
        return words.join(" or ");
    }
    if let Some(constant) = value["const"].as_str() {
        return format!("\"{constant}\"");
    }
    if let Some(values) = value["enum"].as_array() {
        let words: Vec<String> = values.iter().map(ToString::to_string).collect();
        return words.join(" or ");
    }
    let one = |name: &str| match name {
        "string" => "text".to_owned(),
        "boolean" => "true or false".into(),
        "integer" => "whole number".into(),
        "array" => format!("list: {}", kind(schema, &value["items"])),
        "object" => {
            let keys: Vec<&String> =
                value["properties"].as_object().into_iter().flatten().map(|(key, _)| key).collect();
            let keys: Vec<String> = keys.iter().map(|key| format!("{key} = …")).collect();
            format!("`{{ {} }}`", keys.join(", "))
        }
        other => other.to_owned(),
    };
    match &value["type"] {
        Value::String(name) => one(name),
        Value::Array(names) => {
            let names = names.iter().filter_map(Value::as_str).filter(|name| *name != "null");
            names.map(one).collect::<Vec<_>>().join(" or ")
        }
        _ => "text".into(),
    }
}
