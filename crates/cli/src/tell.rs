//! Word of a move to those who are not watching: by mail, or by a command of theirs.

use crate::config::{Config, TellSection};
use crate::hosts::{login_of, user_of};
use crate::secrets::expanded;
use fernweh_connect::mail::MailServer;
use fernweh_ports::{Progress, Result, Trouble};
use std::io::Write;
use std::process::{Command, Stdio};

/// Sends word if that is configured. A move does not fail because of it.
pub fn notify(progress: &dyn Progress, config: &Config, subject: &str, text: &str) {
    if let Some(section) = &config.content.tell
        && let Err(trouble) = send(config, section, subject, text)
    {
        progress.note(&format!("no message was sent: {trouble}\n"));
    }
}

/// Sends word by every way that is configured; gives the ways.
pub fn send(
    config: &Config,
    section: &TellSection,
    subject: &str,
    text: &str,
) -> Result<Vec<String>> {
    let mut told = Vec::new();
    let incomplete = |what: &str| {
        Trouble::usage(format!("[tell] has no {what}")).at(config.shown()).hint(
            "mail needs to = [\"keeper@glimmer.example\"], from and \
             server = \"smtp://keeper@mail.example:587\"",
        )
    };
    if !section.to.is_empty() {
        let from = section.from.as_ref().ok_or_else(|| incomplete("from"))?;
        let address = section.server.as_ref().ok_or_else(|| incomplete("server"))?;
        let url = login_of(address, "write it as in smtp://keeper@mail.example:587")?;
        let encrypted_at_once = match url.scheme() {
            "smtp" => false,
            "smtps" => true,
            _ => return Err(incomplete("server of mail")),
        };
        let password = section.password.as_ref();
        let password = password.map(|one| one.fetch("password of [tell]", &config.folder));
        let login = match (user_of(&url), password.transpose()?) {
            (Some(user), Some(password)) => Some((user, password)),
            (Some(_), None) => return Err(incomplete("password, and its server has a user")),
            _ => None,
        };
        let server = MailServer {
            host: url.host_str().unwrap_or_default().to_owned(),
            port: url.port().unwrap_or(if encrypted_at_once { 465 } else { 587 }),
            encrypted_at_once,
            login,
            authority: section.authority.as_ref().map(|path| config.folder.join(expanded(path))),
        };
        server.send(from, &section.to, subject, text)?;
        told.push(format!("{} by mail", section.to.join(", ")));
    }
    if let Some(command) = &section.command {
        hand_over(command, subject, text)?;
        told.push(format!("the command {command}"));
    }
    match told.is_empty() {
        true => Err(incomplete("to and no command")),
        false => Ok(told),
    }
}

/// Gives the message to a command: the subject as a variable, the text as its input.
fn hand_over(command: &str, subject: &str, text: &str) -> Result<()> {
    let failed = |because: String| {
        Trouble::outside("the command of [tell] failed")
            .at(command.to_owned())
            .because(because)
            .hint("type it alone and see what it says, then: fernweh tell --test")
    };
    let mut child = Command::new("sh")
        .args(["-c", command])
        .env("FERNWEH_SUBJECT", subject)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .map_err(|error| failed(error.to_string()))?;
    if let Some(mut input) = child.stdin.take() {
        // A command that does not read its input is fine.
        let _ = input.write_all(text.as_bytes());
    }
    let ended = child.wait().map_err(|error| failed(error.to_string()))?;
    match ended.success() {
        true => Ok(()),
        false => Err(failed(format!("it ended with {ended}"))),
    }
}
