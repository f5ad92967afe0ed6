//! A stand-in for the names of the sample site: one server that speaks for its domains and for the
//! zone above, over UDP and TCP, and that answers like a resolver, too.

use crate::database::Failure;
use hickory_proto::op::{Message, OpCode, ResponseCode};
use hickory_proto::rr::rdata::{A, MX, NS, SOA, TXT};
use hickory_proto::rr::{Name, RData, Record, RecordType};
use std::io::{Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// The name under which the server is known in the zones.
pub const SERVER: &str = "ns1.observatory.example";

/// The server; it lasts as long as the program.
pub struct Names {
    /// Where it listens.
    pub address: SocketAddr,
    zones: Arc<Mutex<Vec<Zone>>>,
}

/// A zone.
struct Zone {
    apex: Name,
    records: Vec<Record>,
}

/// For how long answers may be remembered, in seconds.
const SECONDS: u32 = 300;

fn name(text: &str) -> Result<Name, Failure> {
    let mut name = Name::from_ascii(text)?;
    name.set_fqdn(true);
    Ok(name)
}

impl Names {
    /// Starts a server for these domains; their hosts, with and without `www.`, lead to these
    /// addresses.
    pub fn start(domains: &[(&str, Ipv4Addr)]) -> Result<Self, Failure> {
        let mut zones = vec![Zone::of("example", Vec::new())?];
        for (domain, host) in domains {
            zones.push(Zone::of_site(domain, *host)?);
        }
        // The most exact zone answers.
        zones.sort_by_key(|zone| std::cmp::Reverse(zone.apex.num_labels()));
        let tcp = TcpListener::bind("127.0.0.1:0")?;
        let address = tcp.local_addr()?;
        let udp = UdpSocket::bind(address)?;
        let zones = Arc::new(Mutex::new(zones));
        let (of_udp, of_tcp) = (zones.clone(), zones.clone());
        std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok((length, from)) = udp.recv_from(&mut buffer) {
                if let Some(answer) = answer(&of_udp, &buffer[..length]) {
                    let _ = udp.send_to(&answer, from);
                }
            }
        });
        std::thread::spawn(move || {
            for stream in tcp.incoming().flatten() {
                let _ = talk(&of_tcp, stream);
            }
        });
        Ok(Self { address, zones })
    }

    /// Lets a domain lead to another address.
    ///
    /// # Errors
    ///
    /// Where it is no domain.
    pub fn switch(&self, domain: &str, host: Ipv4Addr) -> Result<(), Failure> {
        let new = Zone::of_site(domain, host)?;
        let mut zones = self.zones.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(zone) = zones.iter_mut().find(|zone| zone.apex == new.apex) {
            *zone = new;
        }
        Ok(())
    }
}

impl Zone {
    fn of(apex: &str, more: Vec<Record>) -> Result<Self, Failure> {
        let apex = name(apex)?;
        let (server, keeper) = (name(SERVER)?, name("keeper.observatory.example")?);
        let start = SOA::new(server.clone(), keeper, 2_026_113_001, 3600, 600, 86_400, 300);
        let mut records = vec![
            Record::from_rdata(apex.clone(), SECONDS, RData::SOA(start)),
            Record::from_rdata(apex.clone(), SECONDS, RData::NS(NS(server))),
        ];
        records.extend(more);
        Ok(Self { apex, records })
    }

    fn of_site(domain: &str, host: Ipv4Addr) -> Result<Self, Failure> {
        let (bare, www) = (name(domain)?, name(&format!("www.{domain}"))?);
        let rule = "v=spf1 mx -all".to_owned();
        let post = name("post.observatory.example")?;
        let record = |owner: &Name, data| Record::from_rdata(owner.clone(), SECONDS, data);
        let records = vec![
            record(&bare, RData::A(A(host))),
            record(&www, RData::A(A(host))),
            record(&bare, RData::MX(MX::new(10, post))),
            record(&bare, RData::TXT(TXT::new(vec![rule]))),
        ];
        Self::of(domain, records)
    }
}

fn answer(zones: &Mutex<Vec<Zone>>, question: &[u8]) -> Option<Vec<u8>> {
    let question = Message::from_vec(question).ok()?;
    let asked = question.queries.first()?;
    let (wanted, kind) = (asked.name().to_lowercase(), asked.query_type());
    let mut answer = Message::response(question.metadata.id, OpCode::Query);
    answer.metadata.recursion_desired = question.metadata.recursion_desired;
    answer.metadata.recursion_available = true;
    answer.add_query(asked.clone());
    let zones = zones.lock().unwrap_or_else(PoisonError::into_inner);
    match zones.iter().find(|zone| zone.apex.zone_of(&wanted)) {
        None => answer.metadata.response_code = ResponseCode::Refused,
        Some(zone) => {
            answer.metadata.authoritative = true;
            let of_name = zone.records.iter().filter(|record| record.name == wanted);
            let of_name: Vec<&Record> = of_name.collect();
            let found = of_name.iter().filter(|record| record.record_type() == kind);
            answer.add_answers(found.map(|record| (*record).clone()));
            if of_name.is_empty() {
                answer.metadata.response_code = ResponseCode::NXDomain;
            }
            if answer.answers.is_empty() {
                let is_start = |record: &&Record| record.record_type() == RecordType::SOA;
                answer.add_authorities(zone.records.iter().find(is_start).cloned());
            }
        }
    }
    answer.to_vec().ok()
}

fn talk(zones: &Mutex<Vec<Zone>>, mut stream: TcpStream) -> std::io::Result<()> {
    stream.set_read_timeout(Some(Duration::from_secs(5)))?;
    let mut head = [0; 2];
    stream.read_exact(&mut head)?;
    let mut question = vec![0; usize::from(u16::from_be_bytes(head))];
    stream.read_exact(&mut question)?;
    let Some(answer) = answer(zones, &question) else { return Ok(()) };
    let length = u16::try_from(answer.len()).unwrap_or(u16::MAX).to_be_bytes();
    stream.write_all(&[&length[..], &answer].concat())
}
