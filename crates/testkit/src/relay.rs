//! A relay that delays what passes, as a long way between two hosts does.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::mpsc;
use std::time::{Duration, Instant};

/// Listens on a free port and hands everything on, each way after half the delay. It lasts as
/// long as the process.
pub fn delaying_relay(to_port: u16, round_trip: Duration) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a free port");
    let port = listener.local_addr().expect("its address").port();
    std::thread::spawn(move || {
        for near in listener.incoming().flatten() {
            let Ok(far) = TcpStream::connect(("127.0.0.1", to_port)) else { continue };
            let both = near.try_clone().and_then(|near| Ok((near, far.try_clone()?)));
            let Ok((near_too, far_too)) = both else { continue };
            forward(near, far, round_trip / 2);
            forward(far_too, near_too, round_trip / 2);
        }
    });
    port
}

fn forward(mut from: TcpStream, mut to: TcpStream, delay: Duration) {
    let _ = (from.set_nodelay(true), to.set_nodelay(true));
    let (queue, waiting) = mpsc::sync_channel::<(Instant, Vec<u8>)>(4096);
    std::thread::spawn(move || {
        let mut buffer = vec![0; 64 << 10];
        while let Ok(length) = from.read(&mut buffer) {
            let sent = queue.send((Instant::now() + delay, buffer[..length].to_vec()));
            if length == 0 || sent.is_err() {
                break;
            }
        }
    });
    std::thread::spawn(move || {
        for (due, portion) in waiting {
            std::thread::sleep(due.saturating_duration_since(Instant::now()));
            if portion.is_empty() || to.write_all(&portion).is_err() {
                let _ = to.shutdown(std::net::Shutdown::Write);
                break;
            }
        }
    });
}
