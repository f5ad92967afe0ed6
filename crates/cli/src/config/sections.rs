//! The sections of `fernweh.toml` and their keys. The reference of the guide is made from what is
//! said here of each.

use crate::secrets::Secret;
use fernweh_flow::notice::Notice;
use fernweh_flow::refresh::Refresh;
use fernweh_flow::run::KeptBounds;
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::path::PathBuf;

/// The content of the file.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Content {
    /// The sites by name.
    #[serde(default)]
    pub site: BTreeMap<String, SiteSection>,
    /// How every site is packed that has no `[site.NAME.pack]` of its own.
    #[serde(default)]
    pub pack: PackSection,
    /// How every site is filled that has no `[site.NAME.unpack]` of its own.
    #[serde(default)]
    pub unpack: UnpackSection,
    /// Rules beyond those that follow from the addresses of two sites.
    #[serde(default)]
    pub rule: Vec<RuleSection>,
    /// What is done on the host of the sites named by `into` while a new state takes its place.
    #[serde(default)]
    pub before: BeforeSection,
    /// What is done after a move to one of the sites named by `into`.
    #[serde(default)]
    pub after: AfterSection,
    /// What `fernweh ready` asks, and the steps of your own.
    #[serde(default)]
    pub ready: ReadySection,
    /// Who is told about a move.
    pub tell: Option<TellSection>,
    /// Where what was printed is kept.
    pub log: Option<LogSection>,
}

/// `[ready]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ReadySection {
    /// The resolvers that are asked for names: addresses, a port may follow, or `machine` for
    /// those of this machine; `machine` alone without it.
    #[serde(default)]
    pub resolvers: Vec<String>,
    /// Where name servers are asked that are not reached at their own addresses, as
    /// `{ "ns1.glimmer.example" = "192.0.2.53:5353" }`.
    #[serde(default)]
    pub servers: BTreeMap<String, String>,
    /// Steps of your own, for the list at the end.
    #[serde(default)]
    pub steps: Vec<String>,
}

/// `[log]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LogSection {
    /// The file at whose end every line is added, with its time.
    pub file: PathBuf,
}

/// `[before]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct BeforeSection {
    /// The sites for which this holds; needed outside of a site's own section.
    #[serde(default)]
    pub into: Vec<String>,
    /// Commands run on the host in the site's folder, right before the switch.
    #[serde(default)]
    pub command: Vec<String>,
    /// Addresses that are requested; each must answer with 200 or the given status.
    #[serde(default)]
    pub request: Vec<Requested>,
    /// Commands run at the end, however the run ends.
    #[serde(default)]
    pub end_command: Vec<String>,
    /// Addresses that are requested at the end; each must answer with 200 or the given status.
    #[serde(default)]
    pub end_request: Vec<Requested>,
}

impl BeforeSection {
    /// Whether it says nothing.
    pub fn is_empty(&self) -> bool {
        self.command.is_empty()
            && self.request.is_empty()
            && self.end_command.is_empty()
            && self.end_request.is_empty()
    }

    /// The steps.
    pub fn notice(&self) -> Notice {
        let requests = |all: &[Requested]| all.iter().map(Requested::expected).collect();
        Notice {
            command: self.command.clone(),
            request: requests(&self.request),
            end_command: self.end_command.clone(),
            end_request: requests(&self.end_request),
        }
    }
}

/// `[after]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct AfterSection {
    /// The sites for which this holds; needed outside of a site's own section.
    #[serde(default)]
    pub into: Vec<String>,
    /// Tables that are emptied, wholly or where a condition holds.
    #[serde(default)]
    pub empty: Vec<Emptied>,
    /// SQL statements for the database.
    #[serde(default)]
    pub sql: Vec<String>,
    /// Files that are removed, as patterns.
    #[serde(default)]
    pub remove: Vec<String>,
    /// Commands run on the host in the site's folder.
    #[serde(default)]
    pub command: Vec<String>,
    /// Addresses that are requested; each must answer with 200 or the given status.
    #[serde(default)]
    pub request: Vec<Requested>,
}

impl AfterSection {
    /// Whether it says nothing.
    pub fn is_empty(&self) -> bool {
        self.empty.is_empty()
            && self.sql.is_empty()
            && self.remove.is_empty()
            && self.command.is_empty()
            && self.request.is_empty()
    }

    /// The steps.
    pub fn refresh(&self) -> Refresh {
        let empty = self.empty.iter().map(|one| match one {
            Emptied::All(tables) => (tables.clone(), None),
            Emptied::Some { tables, r#where } => (tables.clone(), Some(r#where.clone())),
        });
        Refresh {
            empty: empty.collect(),
            sql: self.sql.clone(),
            remove: self.remove.clone(),
            command: self.command.clone(),
            request: self.request.iter().map(Requested::expected).collect(),
        }
    }
}

/// Tables whose records go: a pattern, or a pattern with a condition.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Emptied {
    /// All records.
    All(String),
    /// Some records.
    Some {
        /// The pattern of tables.
        tables: String,
        /// What holds for the records, as it stands behind `WHERE`.
        r#where: String,
    },
}

/// An address to be asked for: alone, or with the status that is expected.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Requested {
    /// It must answer with status 200.
    Usual(String),
    /// It must answer with another one.
    With {
        /// The address.
        url: String,
        /// The status.
        status: u16,
    },
}

impl Requested {
    /// The address, and the status that it must answer with.
    pub fn expected(&self) -> (String, u16) {
        match self {
            Requested::Usual(url) => (url.clone(), 200),
            Requested::With { url, status } => (url.clone(), *status),
        }
    }
}

/// `[tell]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct TellSection {
    /// Who gets mail about a move.
    #[serde(default)]
    pub to: Vec<String>,
    /// The sender of the mail.
    pub from: Option<String>,
    /// The mail server, as `smtp://keeper@mail.example:587`.
    pub server: Option<String>,
    /// The password for it.
    pub password: Option<Secret>,
    /// A certificate authority (PEM file) that is trusted for the mail server.
    pub authority: Option<PathBuf>,
    /// A command that gets the message on its standard input.
    pub command: Option<String>,
}

/// `[site.NAME]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SiteSection {
    /// Its web address, as `https://www.glimmer-point.example`.
    pub url: Option<String>,
    /// The folder of its files: a path, or `sftp://`, `ftps://` or `ftp://USER@HOST/FOLDER`.
    pub files: Option<String>,
    /// The file of a private key for logins over SSH.
    pub key: Option<PathBuf>,
    /// Its database: `mariadb://`, `mysql://` or `postgres://USER@HOST/NAME`, `sqlite:PATH`, or `none`; without it the site's own settings are read.
    pub database: Option<String>,
    /// Whether the connection to the database must be encrypted.
    #[serde(default)]
    pub encrypted: bool,
    /// The host through which the database is reached, as `ssh://USER@HOST`.
    pub through: Option<String>,
    /// What Fernweh may do on that host if it forbids forwarding: copy itself there during the run.
    pub assist: Option<Assist>,
    /// Which tables are the site's, as patterns; all without it.
    #[serde(default)]
    pub tables: Vec<String>,
    /// Where its passwords come from.
    #[serde(default)]
    pub password: Passwords,
    /// The host that is asked for pages in place of the one that the domain points to; a port may
    /// follow, as in `203.0.113.9:8443`.
    pub connect_to: Option<String>,
    /// Where addresses of `http:` are asked, if `connect-to` names the port of `https:`.
    pub connect_to_http: Option<String>,
    /// Whether this is where the public will find the site: only then a move says that the old
    /// address is to be redirected. Without it, a public address says so.
    pub r#final: Option<bool>,
    /// Whether this is a copy that nobody should find: search engines are kept out of it.
    #[serde(default)]
    pub hidden: bool,
    /// The user of HTTP basic authentication.
    pub login: Option<String>,
    /// A certificate authority (PEM file) that is trusted for this site, too.
    pub authority: Option<PathBuf>,
    /// Certificates of its servers that are trusted, by their SHA-256.
    #[serde(default, deserialize_with = "one_or_more")]
    pub trust: Vec<String>,
    /// How this site is packed, in place of `[pack]`.
    pub pack: Option<PackSection>,
    /// How this site is filled, in place of `[unpack]`.
    pub unpack: Option<UnpackSection>,
    /// What is done on its host while a new state takes its place, in place of `[before]`.
    pub before: Option<BeforeSection>,
    /// What is done after a move to it, in place of `[after]`.
    pub after: Option<AfterSection>,
}

/// One text, or a list of them.
fn one_or_more<'de, D: serde::Deserializer<'de>>(
    from: D,
) -> std::result::Result<Vec<String>, D::Error> {
    #[derive(Deserialize, JsonSchema)]
    #[serde(untagged)]
    enum Said {
        One(String),
        More(Vec<String>),
    }
    Ok(match Said::deserialize(from)? {
        Said::One(one) => vec![one],
        Said::More(more) => more,
    })
}

/// What Fernweh may do on a host that forbids forwarding.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Assist {
    /// Copy itself there for the time of the run, and hand connections on.
    CopySelf,
}

/// `password.…` of a site, one per connection.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Passwords {
    /// Of the database.
    pub database: Option<Secret>,
    /// Of the file connection.
    pub files: Option<Secret>,
    /// Of the host in between.
    pub through: Option<Secret>,
    /// Of HTTP basic authentication.
    pub login: Option<Secret>,
}

/// `[pack]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PackSection {
    /// Files and folders that are not packed, as patterns.
    #[serde(default)]
    pub leave_out: Vec<String>,
    /// Tables that are packed without their rows, as patterns.
    #[serde(default)]
    pub without_rows: Vec<String>,
}

/// `[unpack]`
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct UnpackSection {
    /// Files of the destination that stay when it is replaced, as patterns.
    #[serde(default)]
    pub keep: Vec<String>,
    /// Columns whose values carry the prefix of tables, as `table.column` of the archive.
    #[serde(default)]
    pub prefix_in: Vec<String>,
    /// How many earlier states of a site are kept for undo: 3 without it, 0 for no limit.
    pub keep_states: Option<usize>,
    /// How much room they may take, as `"20 GB"`.
    pub keep_room: Option<Room>,
}

impl UnpackSection {
    /// How much of earlier states is kept.
    pub fn kept_bounds(&self) -> KeptBounds {
        let states = self.keep_states.unwrap_or(KEPT_STATES);
        KeptBounds { states, bytes: self.keep_room.map(|room| room.0) }
    }
}

/// How many earlier states are kept where nobody says it.
const KEPT_STATES: usize = 3;

/// Bytes, written as a number and `kB`, `MB`, `GB` or `TB` (decimal).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(try_from = "String")]
#[schemars(with = "String")]
pub struct Room(pub u64);

impl TryFrom<String> for Room {
    type Error = String;

    fn try_from(text: String) -> std::result::Result<Self, String> {
        let wrong = || format!("`{text}` is not a size; write it as in \"20 GB\"");
        let end = text.find(|ch: char| ch.is_alphabetic()).ok_or_else(wrong)?;
        let number: f64 = text[..end].trim().parse().map_err(|_| wrong())?;
        let unit = match text[end..].to_ascii_lowercase().as_str() {
            "kb" => 1e3,
            "mb" => 1e6,
            "gb" => 1e9,
            "tb" => 1e12,
            _ => return Err(wrong()),
        };
        if number < 0.0 {
            return Err(wrong());
        }
        Ok(Self((number * unit) as u64))
    }
}

/// `[[rule]]`
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RuleSection {
    /// What is looked for.
    pub from: String,
    /// What it becomes; not needed with `https`.
    #[serde(default)]
    pub to: String,
    /// What the two sides are: addresses or paths, or any text.
    #[serde(default)]
    pub kind: RuleKind,
    /// Rewrites `http:` to `https:` of this address; the rest of it stays.
    #[serde(default)]
    pub https: bool,
    /// The sites for which the rule holds; all without it.
    #[serde(default)]
    pub into: Vec<String>,
    /// Patterns of the tables, columns and files in which it holds.
    #[serde(default)]
    pub only: Vec<String>,
    /// Patterns of the tables, columns and files in which it does not hold.
    #[serde(default)]
    pub not: Vec<String>,
    /// Matches the host only as it is written, not with and without `www.`
    #[serde(default)]
    pub exact: bool,
    /// Also rewrites the bare host name.
    #[serde(default)]
    pub bare_host: bool,
}

/// What the two sides of a rule are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RuleKind {
    /// Web addresses, or paths of a file system.
    #[default]
    Address,
    /// Any words.
    Text,
}
