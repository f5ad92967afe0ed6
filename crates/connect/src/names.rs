//! Questions about names over UDP and TCP (RFC 1035, 4.2), to one server at a time: a resolver of
//! this machine would answer from its memory, and say nothing of who disagrees.

use fernweh_ports::{
    NameAnswer, NameProblem, NameRecord, NameServer, NameSource, NameStatus, NameWay, RecordData,
    RecordKind, plain,
};
use hickory_proto::op::{Edns, Message, MessageType, Query, ResponseCode};
use hickory_proto::rr::{Name, RData, Record, RecordType};
use std::collections::BTreeMap;
use std::io::{ErrorKind, Read, Write};
use std::net::{IpAddr, SocketAddr, TcpStream, UdpSocket};
use std::time::{Duration, Instant};

/// The port of name servers.
const PORT: u16 = 53;
/// How long a server may take to answer; over UDP it is asked a second time meanwhile.
pub const PATIENCE: Duration = Duration::from_secs(4);
/// How often the wish to stop is looked at.
const MOMENT: Duration = Duration::from_millis(200);
/// The largest answer over UDP that is asked for: larger ones are lost on the way too often.
const LARGEST: u16 = 1232;

/// Asks name servers.
#[derive(Clone, Debug, Default)]
pub struct NameClient {
    /// The resolvers to ask in place of this machine's.
    pub resolvers: Vec<SocketAddr>,
    /// Whether those of this machine are asked as well.
    pub machine: bool,
    /// Where servers are reached that are not reached at their own addresses.
    pub places: BTreeMap<String, SocketAddr>,
}

impl NameClient {
    /// Where a server is asked, in this order.
    fn places(&self, server: &NameServer) -> Vec<SocketAddr> {
        if let Some(place) = self.places.get(&server.name) {
            return vec![*place];
        }
        if let Ok(place) = server.name.parse() {
            return vec![place];
        }
        let of = |address: &IpAddr| {
            let known = self.places.get(&address.to_string());
            known.copied().unwrap_or(SocketAddr::new(*address, PORT))
        };
        let named = server.name.parse::<IpAddr>().ok();
        let mut addresses: Vec<&IpAddr> = named.iter().chain(&server.addresses).collect();
        // Where a machine has no way to addresses of version 6, they would only cost time.
        addresses.sort_by_key(|address| address.is_ipv6());
        addresses.into_iter().map(of).collect()
    }
}

impl NameSource for NameClient {
    fn resolvers(&self) -> Vec<NameServer> {
        let of = |name: String| NameServer { name, addresses: Vec::new() };
        let own = self.resolvers.iter().map(|place| match place.port() {
            PORT => of(place.ip().to_string()),
            _ => of(place.to_string()),
        });
        let machine = match self.machine {
            true => std::fs::read("/etc/resolv.conf").unwrap_or_default(),
            false => return own.collect(),
        };
        let (known, _) = resolv_conf::Config::parse_with_errors(&machine);
        let machine = known.get_nameservers_or_local().into_iter().take(2);
        machine.map(|address| of(IpAddr::from(address).to_string())).chain(own).collect()
    }

    fn knows(&self, server: &str) -> bool {
        self.places.contains_key(server) || server.parse::<IpAddr>().is_ok()
    }

    fn ask(
        &self,
        server: &NameServer,
        name: &str,
        kind: RecordKind,
        resolve: bool,
        way: NameWay,
    ) -> Result<NameAnswer, NameProblem> {
        let mut problem = NameProblem::Reach("no address is known for it".into());
        for place in self.places(server).into_iter().take(2) {
            match exchange(place, name, kind, resolve, way) {
                Ok(answer) => return Ok(answer),
                Err(other) => problem = other,
            }
        }
        Err(problem)
    }
}

fn exchange(
    place: SocketAddr,
    name: &str,
    kind: RecordKind,
    resolve: bool,
    way: NameWay,
) -> Result<NameAnswer, NameProblem> {
    let garbled = |error: &dyn std::fmt::Display| NameProblem::Garbled(plain(&error.to_string()));
    let mut asked_for = Name::from_ascii(name).map_err(|error| garbled(&error))?;
    asked_for.set_fqdn(true);
    let mut question = Message::query();
    question.metadata.recursion_desired = resolve;
    question.add_query(Query::query(asked_for, type_of(kind)));
    let mut edns = Edns::new();
    edns.set_max_payload(LARGEST);
    question.set_edns(edns);
    let bytes = question.to_vec().map_err(|error| garbled(&error))?;
    let ends = Instant::now() + PATIENCE;
    if way == NameWay::Usual {
        let answer = over_udp(place, &bytes, &question, ends)?;
        if !answer.metadata.truncation {
            return Ok(read(&answer));
        }
    }
    over_tcp(place, &bytes, &question, ends).map(|answer| read(&answer))
}

/// What is left until a moment, in parts after which the wish to stop is looked at.
fn a_moment_of(ends: Instant) -> Result<Duration, NameProblem> {
    let left = ends.saturating_duration_since(Instant::now());
    match left.is_zero() || crate::stop::asked() {
        true => Err(NameProblem::Time),
        false => Ok(left.min(MOMENT)),
    }
}

fn problem_of(error: &std::io::Error) -> NameProblem {
    match error.kind() {
        ErrorKind::TimedOut | ErrorKind::WouldBlock => NameProblem::Time,
        _ => NameProblem::Reach(plain(&error.to_string())),
    }
}

fn is_timeout(error: &std::io::Error) -> bool {
    matches!(error.kind(), ErrorKind::TimedOut | ErrorKind::WouldBlock | ErrorKind::Interrupted)
}

fn over_udp(
    place: SocketAddr,
    bytes: &[u8],
    question: &Message,
    ends: Instant,
) -> Result<Message, NameProblem> {
    let here = if place.is_ipv4() { "0.0.0.0:0" } else { "[::]:0" };
    let open = || -> std::io::Result<UdpSocket> {
        let socket = UdpSocket::bind(here)?;
        socket.connect(place)?;
        socket.send(bytes)?;
        Ok(socket)
    };
    let socket = open().map_err(|error| problem_of(&error))?;
    // A packet may be lost on the way.
    let mut again = Some(Instant::now() + PATIENCE / 3);
    let mut buffer = vec![0; usize::from(u16::MAX)];
    loop {
        let moment = a_moment_of(ends)?;
        socket.set_read_timeout(Some(moment)).map_err(|error| problem_of(&error))?;
        match socket.recv(&mut buffer) {
            Ok(length) => {
                // What is no answer to this question may come from anybody.
                if let Some(answer) = answer_to(question, &buffer[..length]) {
                    return Ok(answer);
                }
            }
            Err(error) if is_timeout(&error) => {}
            Err(error) => return Err(problem_of(&error)),
        }
        if again.is_some_and(|at| Instant::now() >= at) {
            again = None;
            socket.send(bytes).map_err(|error| problem_of(&error))?;
        }
    }
}

fn over_tcp(
    place: SocketAddr,
    bytes: &[u8],
    question: &Message,
    ends: Instant,
) -> Result<Message, NameProblem> {
    let failed = |error: std::io::Error| problem_of(&error);
    let left = ends.saturating_duration_since(Instant::now()).max(MOMENT);
    let mut stream = TcpStream::connect_timeout(&place, left).map_err(failed)?;
    let length = u16::try_from(bytes.len()).unwrap_or(u16::MAX).to_be_bytes();
    stream.write_all(&[&length[..], bytes].concat()).map_err(failed)?;
    let mut head = [0; 2];
    fill(&mut stream, &mut head, ends)?;
    let mut buffer = vec![0; usize::from(u16::from_be_bytes(head))];
    fill(&mut stream, &mut buffer, ends)?;
    answer_to(question, &buffer)
        .ok_or_else(|| NameProblem::Garbled("not an answer to the question".into()))
}

fn fill(stream: &mut TcpStream, buffer: &mut [u8], ends: Instant) -> Result<(), NameProblem> {
    let mut filled = 0;
    while filled < buffer.len() {
        let moment = a_moment_of(ends)?;
        stream.set_read_timeout(Some(moment)).map_err(|error| problem_of(&error))?;
        match stream.read(&mut buffer[filled..]) {
            Ok(0) => return Err(NameProblem::Reach("the connection was closed".into())),
            Ok(length) => filled += length,
            Err(error) if is_timeout(&error) => {}
            Err(error) => return Err(problem_of(&error)),
        }
    }
    Ok(())
}

/// The answer, if it is one to this question.
fn answer_to(question: &Message, bytes: &[u8]) -> Option<Message> {
    let answer = Message::from_vec(bytes).ok()?;
    let is_answer = answer.metadata.message_type == MessageType::Response
        && answer.metadata.id == question.metadata.id;
    // Some servers that refuse leave the question out.
    let same = answer.queries.is_empty() || answer.queries == question.queries;
    (is_answer && same).then_some(answer)
}

fn type_of(kind: RecordKind) -> RecordType {
    match kind {
        RecordKind::A => RecordType::A,
        RecordKind::Aaaa => RecordType::AAAA,
        RecordKind::Cname => RecordType::CNAME,
        RecordKind::Ns => RecordType::NS,
        RecordKind::Soa => RecordType::SOA,
        RecordKind::Mx => RecordType::MX,
        RecordKind::Txt => RecordType::TXT,
        RecordKind::Caa => RecordType::CAA,
    }
}

fn read(message: &Message) -> NameAnswer {
    let status = match message.metadata.response_code {
        ResponseCode::NoError => NameStatus::Fine,
        ResponseCode::NXDomain => NameStatus::NoName,
        ResponseCode::Refused => NameStatus::Refused,
        ResponseCode::ServFail => NameStatus::ServerFailure,
        other => NameStatus::Other(other.into()),
    };
    NameAnswer {
        status,
        authoritative: message.metadata.authoritative,
        records: message.answers.iter().map(record).collect(),
        referral: message.authorities.iter().chain(&message.additionals).map(record).collect(),
    }
}

fn shown(name: &Name) -> String {
    name.to_lowercase().to_ascii().trim_end_matches('.').to_owned()
}

fn record(record: &Record) -> NameRecord {
    let data = match &record.data {
        RData::A(address) => address.0.into(),
        RData::AAAA(address) => address.0.into(),
        RData::CNAME(name) => RecordData::Cname(shown(name)),
        RData::NS(name) => RecordData::Ns(shown(name)),
        RData::SOA(soa) => RecordData::Soa(soa.serial),
        RData::MX(mx) => RecordData::Mx(mx.preference, shown(&mx.exchange)),
        RData::TXT(text) => {
            RecordData::Txt(String::from_utf8_lossy(&text.txt_data.concat()).into_owned())
        }
        RData::CAA(caa) => {
            let value = String::from_utf8_lossy(&caa.value).into_owned();
            RecordData::Caa(caa.tag.to_ascii_lowercase(), value)
        }
        _ => RecordData::Other,
    };
    NameRecord { owner: shown(&record.name), seconds: record.ttl, data }
}
