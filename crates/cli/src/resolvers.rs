//! Who is asked for names: as `[ready]` says.

use crate::config::{Config, ReadySection};
use fernweh_connect::http::socket_address;
use fernweh_connect::names::NameClient;
use fernweh_ports::{Result, Trouble};
use std::net::SocketAddr;

/// The word that stands for the resolvers of this machine.
const MACHINE: &str = "machine";
/// The port of name servers.
const PORT: u16 = 53;

/// The client that the configuration describes.
pub fn of(config: &Config) -> Result<NameClient> {
    let ReadySection { resolvers, servers, .. } = &config.content.ready;
    let at = |trouble: Trouble| trouble.at(format!("[ready] of {}", config.shown()));
    let own = resolvers.iter().filter(|resolver| *resolver != MACHINE);
    let places = servers.iter().map(|(server, place)| {
        let name = server.trim_end_matches('.').to_ascii_lowercase();
        Ok((name, place_of(place)?))
    });
    Ok(NameClient {
        resolvers: own.map(|text| place_of(text)).collect::<Result<_>>().map_err(at)?,
        machine: resolvers.is_empty() || resolvers.iter().any(|resolver| resolver == MACHINE),
        places: places.collect::<Result<_>>().map_err(at)?,
    })
}

fn place_of(text: &str) -> Result<SocketAddr> {
    let wrong = |_| {
        Trouble::usage(format!("`{text}` is not the address of a name server"))
            .hint("write an address, and a port if it is not 53, as in \"192.0.2.53:5353\"")
    };
    let mut place = socket_address(text).map_err(wrong)?;
    if place.port() == 0 {
        place.set_port(PORT);
    }
    Ok(place)
}
