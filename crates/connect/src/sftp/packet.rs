//! The packets of SFTP version 3 (draft-ietf-secsh-filexfer-02), which is what hosts speak.
//!
//! Names are bytes: they need not be UTF-8.

use bytes::{Buf, BufMut, Bytes, BytesMut};

/// Kinds of packets.
pub(super) mod kind {
    pub const INIT: u8 = 1;
    pub const VERSION: u8 = 2;
    pub const OPEN: u8 = 3;
    pub const CLOSE: u8 = 4;
    pub const READ: u8 = 5;
    pub const WRITE: u8 = 6;
    pub const LSTAT: u8 = 7;
    pub const SETSTAT: u8 = 9;
    pub const FSETSTAT: u8 = 10;
    pub const OPENDIR: u8 = 11;
    pub const READDIR: u8 = 12;
    pub const REMOVE: u8 = 13;
    pub const MKDIR: u8 = 14;
    pub const RMDIR: u8 = 15;
    pub const REALPATH: u8 = 16;
    pub const RENAME: u8 = 18;
    pub const READLINK: u8 = 19;
    pub const SYMLINK: u8 = 20;
    pub const STATUS: u8 = 101;
    pub const HANDLE: u8 = 102;
    pub const DATA: u8 = 103;
    pub const NAME: u8 = 104;
    pub const ATTRS: u8 = 105;
    pub const EXTENDED: u8 = 200;
    pub const EXTENDED_REPLY: u8 = 201;
}

/// Codes of a status.
pub(super) mod status {
    pub const OK: u32 = 0;
    pub const EOF: u32 = 1;
    pub const NO_SUCH_FILE: u32 = 2;
    pub const PERMISSION_DENIED: u32 = 3;
    pub const FAILURE: u32 = 4;
    pub const UNSUPPORTED: u32 = 8;
}

/// How a file is opened.
pub(super) mod open {
    pub const READ: u32 = 1;
    pub const WRITE: u32 = 2;
    pub const CREATE: u32 = 8;
    pub const EXCLUSIVE: u32 = 32;
}

/// What is known of an entry.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Attrs {
    pub size: Option<u64>,
    pub owner: Option<(u32, u32)>,
    /// With the bits of the kind of file.
    pub mode: Option<u32>,
    /// Last access and last change, seconds since 1970.
    pub times: Option<(u32, u32)>,
}

impl Attrs {
    const SIZE: u32 = 1;
    const OWNER: u32 = 2;
    const MODE: u32 = 4;
    const TIMES: u32 = 8;
    const EXTENDED: u32 = 0x8000_0000;

    pub fn put(&self, to: &mut BytesMut) {
        let mut flags = 0;
        for (is_there, flag) in [
            (self.size.is_some(), Self::SIZE),
            (self.owner.is_some(), Self::OWNER),
            (self.mode.is_some(), Self::MODE),
            (self.times.is_some(), Self::TIMES),
        ] {
            if is_there {
                flags |= flag;
            }
        }
        to.put_u32(flags);
        if let Some(size) = self.size {
            to.put_u64(size);
        }
        if let Some((user, group)) = self.owner {
            to.put_u32(user);
            to.put_u32(group);
        }
        if let Some(mode) = self.mode {
            to.put_u32(mode);
        }
        if let Some((access, change)) = self.times {
            to.put_u32(access);
            to.put_u32(change);
        }
    }

    fn take(from: &mut Bytes) -> Option<Self> {
        let flags = take_u32(from)?;
        let mut attrs = Self::default();
        if flags & Self::SIZE != 0 {
            attrs.size = Some(take_u64(from)?);
        }
        if flags & Self::OWNER != 0 {
            attrs.owner = Some((take_u32(from)?, take_u32(from)?));
        }
        if flags & Self::MODE != 0 {
            attrs.mode = Some(take_u32(from)?);
        }
        if flags & Self::TIMES != 0 {
            attrs.times = Some((take_u32(from)?, take_u32(from)?));
        }
        if flags & Self::EXTENDED != 0 {
            for _ in 0..take_u32(from)? {
                take_text(from)?;
                take_text(from)?;
            }
        }
        Some(attrs)
    }
}

/// What the host answers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Reply {
    Status { code: u32, message: String },
    Handle(Bytes),
    Data(Bytes),
    Names(Vec<(Bytes, Attrs)>),
    Attrs(Attrs),
    Extended(Bytes),
}

impl Reply {
    /// Reads the packet behind its length; gives the number of the request as well.
    pub fn read(mut packet: Bytes) -> Option<(u32, Self)> {
        if packet.is_empty() {
            return None;
        }
        let kind = packet.get_u8();
        let number = take_u32(&mut packet)?;
        let reply = match kind {
            kind::STATUS => {
                let code = take_u32(&mut packet)?;
                // Old hosts leave the message out.
                let message = take_text(&mut packet).unwrap_or_default();
                Self::Status { code, message: String::from_utf8_lossy(&message).into_owned() }
            }
            kind::HANDLE => Self::Handle(take_text(&mut packet)?),
            kind::DATA => Self::Data(take_text(&mut packet)?),
            kind::ATTRS => Self::Attrs(Attrs::take(&mut packet)?),
            kind::NAME => {
                let count = take_u32(&mut packet)?;
                let mut names = Vec::new();
                for _ in 0..count {
                    let name = take_text(&mut packet)?;
                    // A line for people, which nobody needs.
                    take_text(&mut packet)?;
                    names.push((name, Attrs::take(&mut packet)?));
                }
                Self::Names(names)
            }
            kind::EXTENDED_REPLY => Self::Extended(packet),
            _ => return None,
        };
        Some((number, reply))
    }
}

/// The extensions that a host names in its first packet.
pub(super) fn read_version(mut packet: Bytes) -> Option<(u32, Vec<String>)> {
    if packet.is_empty() || packet.get_u8() != kind::VERSION {
        return None;
    }
    let version = take_u32(&mut packet)?;
    let mut extensions = Vec::new();
    while let Some(name) = take_text(&mut packet) {
        take_text(&mut packet)?;
        extensions.push(String::from_utf8_lossy(&name).into_owned());
    }
    Some((version, extensions))
}

pub(super) fn put_text(to: &mut BytesMut, text: &[u8]) {
    to.put_u32(text.len() as u32);
    to.put_slice(text);
}

fn take_u32(from: &mut Bytes) -> Option<u32> {
    (from.len() >= 4).then(|| from.get_u32())
}

pub(super) fn take_u64(from: &mut Bytes) -> Option<u64> {
    (from.len() >= 8).then(|| from.get_u64())
}

fn take_text(from: &mut Bytes) -> Option<Bytes> {
    let length = take_u32(from)? as usize;
    (from.len() >= length).then(|| from.split_to(length))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_known_of_an_entry_is_read_as_it_was_written() {
        for attrs in [
            Attrs::default(),
            Attrs { size: Some(1 << 40), ..Attrs::default() },
            Attrs { size: Some(7), owner: Some((1, 2)), mode: Some(0o100644), times: Some((3, 4)) },
        ] {
            let mut bytes = BytesMut::new();
            attrs.put(&mut bytes);
            assert_eq!(Attrs::take(&mut bytes.freeze()), Some(attrs));
        }
    }

    #[test]
    fn packets_that_promise_more_than_they_hold_are_refused() {
        let mut packet = BytesMut::new();
        packet.put_u8(kind::NAME);
        packet.put_u32(9);
        packet.put_u32(u32::MAX);
        put_text(&mut packet, b"only-one");
        let whole = packet.freeze();
        for length in 0..=whole.len() {
            assert_eq!(Reply::read(whole.slice(..length)), None);
        }
    }

    #[test]
    fn names_keep_bytes_that_are_not_utf8() {
        let mut packet = BytesMut::new();
        packet.put_u8(kind::NAME);
        packet.put_u32(1);
        packet.put_u32(1);
        put_text(&mut packet, b"caf\xe9");
        put_text(&mut packet, b"a line");
        Attrs::default().put(&mut packet);
        let Some((1, Reply::Names(names))) = Reply::read(packet.freeze()) else { panic!() };
        assert_eq!(&names[0].0[..], b"caf\xe9");
    }
}
