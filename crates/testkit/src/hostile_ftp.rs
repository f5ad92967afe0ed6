//! An FTP host that means harm: it lists names that lead elsewhere, trees that do not end,
//! and sizes that are not true.

use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};

/// What it does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Trick {
    /// Lists a file of this name.
    Names(&'static str),
    /// Each folder holds another folder.
    Deep,
    /// A listing does not end.
    Wide,
    /// A file has more or fewer bytes than it was said to have.
    Sizes {
        /// Bytes that the listing tells.
        said: usize,
        /// Bytes that come.
        sent: usize,
    },
    /// An upload is cut behind so many bytes, and said to be complete.
    Cuts(u64),
    /// The host lists by lines as `ls -l` prints them, and these are the lines.
    Lines(&'static str),
}

/// Starts one on a free port; it lasts as long as the process.
pub fn hostile_ftp(trick: Trick) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a free port");
    let port = listener.local_addr().expect("its address").port();
    std::thread::spawn(move || {
        for control in listener.incoming().flatten() {
            std::thread::spawn(move || serve(control, trick));
        }
    });
    port
}

/// One control connection (RFC 959, RFC 3659); it ends with the client.
fn serve(control: TcpStream, trick: Trick) -> Option<()> {
    let mut lines = BufReader::new(control.try_clone().ok()?).lines();
    let mut control = control;
    let mut say = |text: &str| control.write_all(format!("{text}\r\n").as_bytes()).ok();
    let mut data = None;
    let mut stored = 0;
    say("220 ready")?;
    while let Some(Ok(line)) = lines.next() {
        let verb = line.split(' ').next().unwrap_or_default().to_ascii_uppercase();
        match verb.as_str() {
            "USER" => say("331 password")?,
            "PASS" => say("230 in")?,
            "FEAT" if matches!(trick, Trick::Lines(_)) => say("211-Features:\r\n UTF8\r\n211 End")?,
            "FEAT" => say("211-Features:\r\n MLST type*;size*;modify*;\r\n UTF8\r\n211 End")?,
            "PWD" => say("257 \"/\"")?,
            "CWD" => say("250 there")?,
            "PASV" => {
                let listener = TcpListener::bind("127.0.0.1:0").ok()?;
                let port = listener.local_addr().ok()?.port();
                say(&format!("227 Entering (127,0,0,1,{},{})", port / 256, port % 256))?;
                data = Some(listener);
            }
            "STOR" => {
                let Trick::Cuts(most) = trick else { return None };
                say("150 send")?;
                let (from, _) = data.take()?.accept().ok()?;
                stored = std::io::copy(&mut &from, &mut std::io::sink()).ok()?.min(most);
                say("226 done")?;
            }
            "SIZE" if matches!(trick, Trick::Cuts(_)) => say(&format!("213 {stored}"))?,
            "RNFR" => say("350 and its new name")?,
            "MKD" | "RMD" | "DELE" | "RNTO" => say("250 done")?,
            "MLSD" | "LIST" | "RETR" => {
                say("150 comes")?;
                let (mut to, _) = data.take()?.accept().ok()?;
                match verb.as_str() {
                    "MLSD" | "LIST" => list(&mut to, trick),
                    _ => {
                        let sent = match trick {
                            Trick::Sizes { sent, .. } => sent,
                            Trick::Lines(_) => 4,
                            _ => return None,
                        };
                        to.write_all(&vec![7; sent]).ok()
                    }
                };
                drop(to);
                say("226 done")?;
            }
            "QUIT" => return say("221 bye"),
            "TYPE" | "OPTS" | "NOOP" => say("200 yes")?,
            _ => say("502 no")?,
        }
    }
    Some(())
}

fn list(to: &mut TcpStream, trick: Trick) -> Option<()> {
    let file = |name: &str, size: usize| {
        format!("type=file;size={size};modify=20261123091500; {name}\r\n")
    };
    match trick {
        Trick::Names(name) => to.write_all(file(name, 3).as_bytes()).ok(),
        Trick::Cuts(_) => Some(()),
        Trick::Lines(lines) => to.write_all(lines.as_bytes()).ok(),
        Trick::Deep => to.write_all(b"type=dir;modify=20261123091500; deeper\r\n").ok(),
        Trick::Sizes { said, .. } => to.write_all(file("page.html", said).as_bytes()).ok(),
        Trick::Wide => {
            let many: String = (0..1000).map(|n| file(&format!("{n}"), 3)).collect();
            loop {
                to.write_all(many.as_bytes()).ok()?;
            }
        }
    }
}
