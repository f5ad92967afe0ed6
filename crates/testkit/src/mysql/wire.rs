//! Packets of the MySQL client/server protocol ("Packets", "Protocol::Data types").

use std::io::{self, BufReader, Read, Write};
use std::net::TcpStream;

/// The longest piece of a packet.
const PIECE: usize = 0xff_ffff;

/// One end of a connection.
pub(super) struct Wire {
    from: BufReader<TcpStream>,
    to: TcpStream,
    /// The number of the next packet.
    pub number: u8,
}

impl Wire {
    pub fn new(stream: TcpStream) -> io::Result<Self> {
        stream.set_nodelay(true)?;
        Ok(Self {
            from: BufReader::with_capacity(64 << 10, stream.try_clone()?),
            to: stream,
            number: 0,
        })
    }

    /// The next packet, with all of its pieces.
    pub fn read(&mut self) -> io::Result<Vec<u8>> {
        let mut packet = Vec::new();
        loop {
            let mut head = [0; 4];
            self.from.read_exact(&mut head)?;
            let length = u32::from_le_bytes([head[0], head[1], head[2], 0]) as usize;
            self.number = head[3].wrapping_add(1);
            let start = packet.len();
            packet.resize(start + length, 0);
            self.from.read_exact(&mut packet[start..])?;
            if length < PIECE {
                return Ok(packet);
            }
        }
    }

    /// Sends a packet.
    pub fn write(&mut self, packet: &[u8]) -> io::Result<()> {
        let mut pieces: Vec<&[u8]> = packet.chunks(PIECE).collect();
        if packet.len().is_multiple_of(PIECE) {
            pieces.push(&[]);
        }
        let mut bytes = Vec::with_capacity(packet.len() + 4 * pieces.len());
        for piece in pieces {
            bytes.extend_from_slice(&(piece.len() as u32).to_le_bytes()[..3]);
            bytes.push(self.number);
            self.number = self.number.wrapping_add(1);
            bytes.extend_from_slice(piece);
        }
        self.to.write_all(&bytes)
    }

    /// Sends a command: its packets are counted from 0.
    pub fn command(&mut self, packet: &[u8]) -> io::Result<()> {
        self.number = 0;
        self.write(packet)
    }

    /// Sends an error.
    pub fn refuse(&mut self, code: u16, state: &str, message: &str) -> io::Result<()> {
        let mut packet = vec![0xff];
        packet.extend_from_slice(&code.to_le_bytes());
        packet.extend_from_slice(format!("#{state}{message}").as_bytes());
        self.write(&packet)
    }
}

/// A length-encoded integer at the beginning, which is taken off.
pub(super) fn integer(bytes: &mut &[u8]) -> Option<u64> {
    let (first, rest) = bytes.split_first()?;
    let width = match first {
        0xfc => 2,
        0xfd => 3,
        0xfe => 8,
        0xfb | 0xff => return None,
        small => {
            *bytes = rest;
            return Some(u64::from(*small));
        }
    };
    let mut number = [0; 8];
    number[..width].copy_from_slice(rest.get(..width)?);
    *bytes = &rest[width..];
    Some(u64::from_le_bytes(number))
}

/// The cells of a row of the text protocol.
pub(super) fn cells(mut row: &[u8]) -> Vec<Option<Vec<u8>>> {
    let mut cells = Vec::new();
    while let Some(first) = row.first() {
        if *first == 0xfb {
            row = &row[1..];
            cells.push(None);
            continue;
        }
        let length = integer(&mut row).expect("a row of text") as usize;
        let (cell, rest) = row.split_at(length);
        cells.push(Some(cell.to_vec()));
        row = rest;
    }
    cells
}

/// The row of these cells.
pub(super) fn row(cells: &[Option<Vec<u8>>]) -> Vec<u8> {
    let mut row = Vec::new();
    for cell in cells {
        match cell {
            None => row.push(0xfb),
            Some(cell) => {
                let length = cell.len() as u64;
                match length {
                    0..=250 => row.push(length as u8),
                    251..=0xffff => {
                        row.push(0xfc);
                        row.extend_from_slice(&length.to_le_bytes()[..2]);
                    }
                    0x1_0000..=0xff_ffff => {
                        row.push(0xfd);
                        row.extend_from_slice(&length.to_le_bytes()[..3]);
                    }
                    _ => {
                        row.push(0xfe);
                        row.extend_from_slice(&length.to_le_bytes());
                    }
                }
                row.extend_from_slice(cell);
            }
        }
    }
    row
}

/// The bytes up to a NUL, which are taken off with it.
pub(super) fn until_nul<'a>(bytes: &mut &'a [u8]) -> &'a [u8] {
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    let found = &bytes[..end];
    *bytes = bytes.get(end + 1..).unwrap_or_default();
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_what_their_cells_say() {
        for length in [0, 1, 250, 251, 65_535, 65_536, 70_000] {
            let all = vec![Some(vec![b'x'; length]), None, Some(b"end".to_vec())];
            assert_eq!(cells(&row(&all)), all, "{length}");
        }
        let row = row(&[Some(vec![b'x'; 300])]);
        assert_eq!(row[..3], [0xfc, 0x2c, 0x01]);
    }
}
