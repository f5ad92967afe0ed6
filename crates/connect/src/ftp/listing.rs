//! Listings of FTP hosts: facts (MLSD, RFC 3659), or lines as `ls -l` prints them.

use super::pool::as_bytes;
use crate::remote::{FoundKind, RemoteEntry};
use std::time::UNIX_EPOCH;
use suppaftp::list::{ListParser, PosixPexQuery};

/// An entry, and where it leads if it is a link and the host says so.
pub(super) type Listed = (RemoteEntry, Option<Vec<u8>>);

/// One line of facts, as `type=file;size=7;modify=20261123091500; name`.
pub(super) fn of_facts(line: &str) -> Option<Listed> {
    let (facts, name) = line.split_once(' ')?;
    let mut found = RemoteEntry {
        name: as_bytes(name),
        kind: FoundKind::Other,
        mode: None,
        mtime: None,
        owner: (0, 0),
    };
    let mut size = 0;
    let mut link = None;
    let mut kind = String::new();
    for fact in facts.split(';').filter(|fact| !fact.is_empty()) {
        let (key, value) = fact.split_once('=')?;
        match key.to_ascii_lowercase().as_str() {
            "type" => {
                kind = value.to_ascii_lowercase();
                let is_link =
                    kind.starts_with("os.unix=slink") || kind.starts_with("os.unix=symlink");
                if is_link {
                    kind = "link".into();
                    link = value.split_once(':').map(|(_, to)| as_bytes(to));
                }
            }
            "size" => size = value.parse().ok()?,
            "modify" => found.mtime = moment(value),
            "unix.mode" => {
                found.mode = u32::from_str_radix(value, 8).ok().map(|mode| mode & 0o7777)
            }
            "unix.uid" => found.owner.0 = value.parse().unwrap_or(0),
            "unix.gid" => found.owner.1 = value.parse().unwrap_or(0),
            _ => {}
        }
    }
    found.kind = match kind.as_str() {
        "file" => FoundKind::File(size),
        "dir" => FoundKind::Folder,
        // The folder itself, and the one above it.
        "cdir" | "pdir" => return None,
        "link" => FoundKind::Link,
        _ => FoundKind::Other,
    };
    Some((found, link))
}

/// `YYYYMMDDHHMMSS`, in universal time, as seconds since 1970.
fn moment(text: &str) -> Option<i64> {
    let part = |from: usize, to: usize| text.get(from..to)?.parse::<i64>().ok();
    let (year, month, day) = (part(0, 4)?, part(4, 6)?, part(6, 8)?);
    let (hour, minute, second) = (part(8, 10)?, part(10, 12)?, part(12, 14)?);
    Some(days(year, month, day) * 86_400 + hour * 3_600 + minute * 60 + second)
}

/// Seconds since 1970 as `YYYYMMDDHHMMSS`, in universal time.
pub(super) fn written(moment: i64) -> String {
    let (day, rest) = (moment.div_euclid(86_400), moment.rem_euclid(86_400));
    // The year is found from above: it is one of two.
    let mut year = 1970 + day.div_euclid(365);
    while days(year, 1, 1) > day {
        year -= 1;
    }
    let month = (1..=12).rev().find(|month| days(year, *month, 1) <= day).unwrap_or(1);
    let date = day - days(year, month, 1) + 1;
    let (hour, minute, second) = (rest / 3_600, rest / 60 % 60, rest % 60);
    format!("{year:04}{month:02}{date:02}{hour:02}{minute:02}{second:02}")
}

/// Days since 1970-01-01 of a date of the Gregorian calendar, counted in years that begin in
/// March, so that the leap day is the last one.
fn days(year: i64, month: i64, day: i64) -> i64 {
    let year = if month <= 2 { year - 1 } else { year };
    let month = (month + 9) % 12;
    let leap = year.div_euclid(4) - year.div_euclid(100) + year.div_euclid(400);
    365 * year + leap + (153 * month + 2) / 5 + day - 719_469
}

/// One line as `ls -l` prints it.
pub(super) fn of_line(line: &str) -> Option<Listed> {
    if line.starts_with("total ") {
        return None;
    }
    let file = ListParser::parse_posix(line).or_else(|_| ListParser::parse_dos(line)).ok()?;
    let kind = if file.is_directory() {
        FoundKind::Folder
    } else if file.is_symlink() {
        FoundKind::Link
    } else if line.starts_with(['p', 's', 'c', 'b']) {
        FoundKind::Other
    } else {
        FoundKind::File(file.size() as u64)
    };
    let mut mode = 0;
    for (who, shift) in
        [(PosixPexQuery::Owner, 6), (PosixPexQuery::Group, 3), (PosixPexQuery::Others, 0)]
    {
        let rights = [file.can_read(who), file.can_write(who), file.can_execute(who)];
        let bits = rights.iter().fold(0, |bits, right| bits << 1 | u32::from(*right));
        mode |= bits << shift;
    }
    let since = file.modified().duration_since(UNIX_EPOCH).ok();
    let found = RemoteEntry {
        name: as_bytes(file.name()),
        kind,
        mode: Some(mode),
        mtime: since.and_then(|since| i64::try_from(since.as_secs()).ok()),
        owner: (file.uid().unwrap_or(0).into(), file.gid().unwrap_or(0).into()),
    };
    let link = file.symlink().map(|to| as_bytes(&to.to_string_lossy()));
    Some((found, link))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_are_read_as_they_were_written() {
        assert_eq!(written(0), "19700101000000");
        assert_eq!(written(1_709_210_096), "20240229123456");
        for moment in (0..4_000_000_000).step_by(12_345_678) {
            assert_eq!(super::moment(&written(moment)), Some(moment));
        }
    }

    #[test]
    fn facts_are_read_whatever_their_order() {
        let line = "modify=20240229123456;unix.mode=0644;size=7;type=file;  two spaces.txt";
        let (found, link) = of_facts(line).unwrap();
        assert_eq!((found.name, found.kind), (b" two spaces.txt".to_vec(), FoundKind::File(7)));
        assert_eq!((found.mode, found.mtime, link), (Some(0o644), Some(1_709_210_096), None));
        assert!(of_facts("type=cdir; .").is_none());
        let (found, link) = of_facts("type=OS.unix=slink:shelf/a;size=9; near").unwrap();
        assert_eq!((found.kind, link), (FoundKind::Link, Some(b"shelf/a".to_vec())));
    }

    #[test]
    fn lines_give_kind_rights_and_where_a_link_leads() {
        let (found, _) =
            of_line("-rw-r-----    1 1000     1000          412 Feb 29  2024 a b.txt").unwrap();
        assert_eq!((found.name, found.kind), (b"a b.txt".to_vec(), FoundKind::File(412)));
        assert_eq!(found.mode, Some(0o640));
        let (found, _) = of_line("drwxr-xr-x    2 0  0  4096 Jan 02 10:11 shelf").unwrap();
        assert_eq!((found.kind, found.mode), (FoundKind::Folder, Some(0o755)));
        let (found, link) = of_line("lrwxrwxrwx 1 0 0 5 Jan 02 10:11 near -> shelf/a").unwrap();
        assert_eq!((found.name, found.kind), (b"near".to_vec(), FoundKind::Link));
        assert_eq!(link, Some(b"shelf/a".to_vec()));
    }
}
