//! `fernweh.toml`.

mod errors;
mod sections;

pub use sections::{
    AfterSection, Assist, BeforeSection, Content, PackSection, Passwords, ReadySection, RuleKind,
    RuleSection, SiteSection, TellSection, UnpackSection,
};

use crate::plain_file::plain_text;
use errors::{explained, without_passwords};
use fernweh_ports::{Result, Trouble};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// The name of the file that is looked for.
pub const FILE: &str = "fernweh.toml";

/// The configuration and where it lies.
#[derive(Clone, Debug, Default)]
pub struct Config {
    /// The folder from which relative paths are meant.
    pub folder: PathBuf,
    /// The file, if there is one.
    pub path: Option<PathBuf>,
    /// What it says.
    pub content: Content,
}

impl Config {
    /// Reads the file named, or the nearest `fernweh.toml` in this folder and those above it; an
    /// empty one if there is none.
    pub fn load(named: Option<&Path>) -> Result<Self> {
        let found = match named {
            Some(path) => Some(path.to_owned()),
            None => nearest()?,
        };
        let Some(path) = found else {
            return Ok(Self { folder: PathBuf::from("."), ..Self::default() });
        };
        let text = plain_text("cannot read the configuration", &path)?;
        let content = toml::from_str(&text).map_err(|error| explained(&path, &text, &error))?;
        without_passwords(&path, &text)?;
        let folder = match path.parent() {
            Some(folder) if !folder.as_os_str().is_empty() => folder.to_owned(),
            _ => PathBuf::from("."),
        };
        let config = Self { folder, path: Some(path), content };
        config.check_names()?;
        Ok(config)
    }

    /// What is said where a configuration is needed and none was found.
    pub fn missing() -> Trouble {
        let here = std::env::current_dir().unwrap_or_default().display().to_string();
        Trouble::usage("no fernweh.toml was found")
            .at(format!("{here} and the folders above it"))
            .hint("write one with: fernweh init; or name one with -c FILE")
    }

    /// The file for people.
    pub fn shown(&self) -> String {
        self.path.as_ref().map_or(FILE.into(), |path| path.display().to_string())
    }

    /// How a site is packed.
    pub fn packing(&self, site: &str) -> &PackSection {
        let own = self.content.site.get(site).and_then(|section| section.pack.as_ref());
        own.unwrap_or(&self.content.pack)
    }

    /// How a site is filled.
    pub fn unpacking(&self, site: &str) -> &UnpackSection {
        let own = self.content.site.get(site).and_then(|section| section.unpack.as_ref());
        own.unwrap_or(&self.content.unpack)
    }

    /// What is done while a new state of a site takes its place.
    pub fn before(&self, site: &str) -> Option<&BeforeSection> {
        let own = self.content.site.get(site).and_then(|section| section.before.as_ref());
        let general = &self.content.before;
        own.or_else(|| general.into.iter().any(|name| name == site).then_some(general))
    }

    /// What is done after a move to a site.
    pub fn after(&self, site: &str) -> Option<&AfterSection> {
        let own = self.content.site.get(site).and_then(|section| section.after.as_ref());
        let general = &self.content.after;
        own.or_else(|| general.into.iter().any(|name| name == site).then_some(general))
    }

    /// Names of sites stand in commands and in names of files; and what is done at a site must say
    /// at which one.
    fn check_names(&self) -> Result<()> {
        let fits = |ch: char| ch.is_ascii_alphanumeric() || "-_.".contains(ch);
        let usable = |name: &str| {
            name.starts_with(|ch: char| ch.is_ascii_alphanumeric()) && name.chars().all(fits)
        };
        if let Some(name) = self.content.site.keys().find(|name| !usable(name)) {
            return Err(Trouble::usage(format!("`{name}` cannot be the name of a site"))
                .at(self.shown())
                .hint("use letters without accents, digits, - _ and ., a letter or digit first"));
        }
        let content = &self.content;
        let general = [
            ("[before]", content.before.is_empty(), &content.before.into),
            ("[after]", content.after.is_empty(), &content.after.into),
        ];
        for (section, is_empty, into) in general {
            if !is_empty && into.is_empty() {
                return Err(Trouble::usage(format!("{section} does not say for which site"))
                    .at(self.shown())
                    .because("what is meant for one site must never be done at another")
                    .hint(format!(
                        "add into = [\"NAME\"] to it, or call it [site.NAME.{}]",
                        section.trim_matches(['[', ']'])
                    )));
            }
            self.check_into(section, into)?;
        }
        content.rule.iter().try_for_each(|rule| self.check_into("[[rule]]", &rule.into))
    }

    fn check_into(&self, section: &str, into: &[String]) -> Result<()> {
        match into.iter().find(|name| !self.content.site.contains_key(*name)) {
            None => Ok(()),
            Some(name) => Err(Trouble::usage(format!("{section} names a site `{name}`"))
                .at(self.shown())
                .because("there is no such site")
                .hint(self.known_sites())),
        }
    }

    /// The sites that there are, for people.
    pub fn known_sites(&self) -> String {
        let names: Vec<&str> = self.content.site.keys().map(String::as_str).collect();
        match names.is_empty() {
            true => format!("{} describes no site; fernweh init writes one", self.shown()),
            false => format!("sites in {}: {}", self.shown(), names.join(", ")),
        }
    }
}

/// The nearest `fernweh.toml`, from this folder upwards. One above it that belongs to somebody
/// else could run that person's commands.
fn nearest() -> Result<Option<PathBuf>> {
    let here = std::env::current_dir()
        .map_err(|error| Trouble::file("cannot tell this folder", Path::new("."), &error))?;
    let mut way = PathBuf::new();
    for folder in here.ancestors() {
        let path = way.join(FILE);
        if let Ok(found) = std::fs::metadata(folder.join(FILE)) {
            let me = rustix::process::geteuid().as_raw();
            if folder != here && ![0, me].contains(&found.uid()) {
                return Err(Trouble::usage("the nearest fernweh.toml is not yours")
                    .at(folder.join(FILE).display().to_string())
                    .because("it belongs to another user, and a configuration can run commands")
                    .hint("if it is the right one, name it with -c"));
            }
            return Ok(Some(path));
        }
        way.push("..");
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::sections::Room;
    use super::*;
    use crate::secrets::Secret;

    #[test]
    fn every_key_of_the_design_is_read() {
        let text = r#"
            [site.old]
            url = "http://glimmerpoint.example"
            files = "./htdocs"
            database = "mariadb://keeper@localhost/glimmer"
            tables = ["gp_*"]
            connect-to = "203.0.113.9"
            final = true
            login = "preview"
            password.database = { env = "OLD_DB_PASSWORD" }
            password.login = { file = "~/.keys/login" }
            password.files = { command = "cat x" }
            [pack]
            leave-out = ["cache/**"]
            without-rows = ["sessions"]
            [unpack]
            keep = ["uploads/private/**"]
            prefix-in = ["gp_settings.name"]
            keep-states = 5
            keep-room = "1.5 GB"
            [[rule]]
            from = "/home/keeper/htdocs"
            to = "/srv/www/glimmer"
            into = ["new"]
        "#;
        let content: Content = toml::from_str(text).unwrap();
        assert!(
            matches!(&content.site["old"].password.database, Some(Secret::Env(name)) if name == "OLD_DB_PASSWORD")
        );
        assert_eq!(content.rule[0].into, ["new"]);
        let bounds = content.unpack.kept_bounds();
        assert_eq!((bounds.states, bounds.bytes), (5, Some(1_500_000_000)));
        assert!(Room::try_from("much".to_owned()).is_err());
    }
}
