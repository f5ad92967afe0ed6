//! The domain name system (RFC 1034, RFC 1035) as checks see it: one question to one server, and
//! what came back.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use thiserror::Error;

/// A kind of record.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum RecordKind {
    /// An address of version 4.
    A,
    /// An address of version 6 (RFC 3596).
    Aaaa,
    /// Another name for this one.
    Cname,
    /// A name server of the zone.
    Ns,
    /// The start of a zone.
    Soa,
    /// Where mail goes.
    Mx,
    /// Text.
    Txt,
    /// Who may issue certificates (RFC 8659).
    Caa,
}

impl RecordKind {
    /// Its name, as in zone files.
    pub fn name(self) -> &'static str {
        match self {
            RecordKind::A => "A",
            RecordKind::Aaaa => "AAAA",
            RecordKind::Cname => "CNAME",
            RecordKind::Ns => "NS",
            RecordKind::Soa => "SOA",
            RecordKind::Mx => "MX",
            RecordKind::Txt => "TXT",
            RecordKind::Caa => "CAA",
        }
    }
}

/// What a record says. Names are in lower case, without a dot at the end.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum RecordData {
    /// An address.
    Address(IpAddr),
    /// Another name for this one.
    Cname(String),
    /// A name server.
    Ns(String),
    /// The serial number of a zone.
    Soa(u32),
    /// A mail server, the one with the lowest number first.
    Mx(u16, String),
    /// Text, its parts joined.
    Txt(String),
    /// What a property of the domain says about issuing certificates.
    Caa(String, String),
    /// Something that nobody asked for.
    Other,
}

impl From<Ipv4Addr> for RecordData {
    fn from(address: Ipv4Addr) -> Self {
        RecordData::Address(address.into())
    }
}

impl From<Ipv6Addr> for RecordData {
    fn from(address: Ipv6Addr) -> Self {
        RecordData::Address(address.into())
    }
}

impl fmt::Display for RecordData {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RecordData::Address(address) => address.fmt(f),
            RecordData::Cname(name) | RecordData::Ns(name) => f.write_str(name),
            RecordData::Soa(serial) => write!(f, "serial number {serial}"),
            RecordData::Mx(preference, name) => write!(f, "{preference} {name}"),
            RecordData::Txt(text) => write!(f, "\"{text}\""),
            RecordData::Caa(tag, value) => write!(f, "{tag} \"{value}\""),
            RecordData::Other => f.write_str("another record"),
        }
    }
}

/// A record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameRecord {
    /// The name it belongs to, in lower case, without a dot at the end.
    pub owner: String,
    /// For how many seconds it may be remembered.
    pub seconds: u32,
    /// What it says.
    pub data: RecordData,
}

/// What a server says of a question as a whole (RFC 1035, 4.1.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NameStatus {
    /// It has answered; there may be no record of the kind.
    Fine,
    /// There is no such name.
    NoName,
    /// It does not want to answer.
    Refused,
    /// It cannot answer now.
    ServerFailure,
    /// Another number.
    Other(u16),
}

impl NameStatus {
    /// In words.
    pub fn words(self) -> String {
        match self {
            NameStatus::Fine => "no such record".into(),
            NameStatus::NoName => "there is no such name".into(),
            NameStatus::Refused => "refused".into(),
            NameStatus::ServerFailure => "server failure".into(),
            NameStatus::Other(number) => format!("error {number}"),
        }
    }
}

/// What came back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameAnswer {
    /// As a whole.
    pub status: NameStatus,
    /// Whether the server speaks for the zone.
    pub authoritative: bool,
    /// The answer.
    pub records: Vec<NameRecord>,
    /// The servers that are to be asked instead, and their addresses.
    pub referral: Vec<NameRecord>,
}

/// Why nothing came back.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Error, Serialize, Deserialize, JsonSchema)]
pub enum NameProblem {
    /// It took too long.
    #[error("no answer in time")]
    Time,
    /// No connection.
    #[error("cannot be reached ({0})")]
    Reach(String),
    /// What came is no answer to the question.
    #[error("an answer that cannot be read ({0})")]
    Garbled(String),
}

/// The way a question goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NameWay {
    /// UDP, and TCP where an answer does not fit (RFC 7766).
    Usual,
    /// TCP alone.
    Tcp,
}

/// A server: its name, if it has one, and its addresses.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NameServer {
    /// What people call it: a name, or an address, perhaps with a port.
    pub name: String,
    /// Where it is; empty where the name is an address.
    pub addresses: Vec<IpAddr>,
}

/// Who answers questions about names.
pub trait NameSource: Sync {
    /// The resolvers that are asked first: those of the configuration, or of this machine.
    fn resolvers(&self) -> Vec<NameServer>;

    /// Whether it is known where a server is, beside its addresses.
    fn knows(&self, server: &str) -> bool;

    /// Asks one server one question. A resolver is asked to find the answer; any other server for
    /// what it knows itself.
    fn ask(
        &self,
        server: &NameServer,
        name: &str,
        kind: RecordKind,
        resolve: bool,
        way: NameWay,
    ) -> Result<NameAnswer, NameProblem>;
}
