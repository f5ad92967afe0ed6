//! Listings of FTP hosts: facts (MLSD, RFC 3659), or lines as `ls -l` prints them.

use super::pool::as_bytes;
use crate::remote::{FoundKind, RemoteEntry};
use std::time::{SystemTime, UNIX_EPOCH};
use suppaftp::list::{ListParser, PosixPexQuery};

/// An entry, and where it leads if it is a link and the host says so.
pub(super) type Listed = (RemoteEntry, Option<Vec<u8>>);

/// What a line of a listing says.
#[derive(Clone, Debug)]
pub(super) enum Line {
    /// An entry of the folder.
    Entry(Listed),
    /// None: the folder itself, the one above it, or how many entries there are.
    Nothing,
    /// Something that is not understood, and may be an entry.
    Unknown(String),
}

/// One line of facts, as `type=file;size=7;modify=20261123091500; name`.
pub(super) fn of_facts(line: &str) -> Line {
    if line.is_empty() {
        return Line::Nothing;
    }
    match facts_of(line) {
        Some(Some(listed)) => Line::Entry(listed),
        Some(None) => Line::Nothing,
        None => Line::Unknown(line.to_owned()),
    }
}

/// The entry of a line of facts; the folder itself and the one above it are none.
fn facts_of(line: &str) -> Option<Option<Listed>> {
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
        "cdir" | "pdir" => return Some(None),
        "link" => FoundKind::Link,
        _ => FoundKind::Other,
    };
    Some(Some((found, link)))
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

/// One line as `ls -l` prints it, in any of its forms, or as DOS does.
pub(super) fn of_line(line: &str) -> Line {
    let mut words = line.split_whitespace();
    // `total 12`, in the language of the host.
    let is_total = |line: &str| {
        let words: Vec<&str> = line.split_whitespace().collect();
        words.len() == 2 && words[1].bytes().all(|byte| byte.is_ascii_digit())
    };
    if words.next().is_none() || is_total(line) {
        return Line::Nothing;
    }
    match usual(line).or_else(|| dated_otherwise(line)) {
        Some(listed) => Line::Entry(listed),
        None => Line::Unknown(line.to_owned()),
    }
}

/// A line with its date in another order or language, as `28. Okt 10:00` or `2026-11-28 10:00`,
/// or without a group.
fn dated_otherwise(line: &str) -> Option<Listed> {
    let rights = line.split_whitespace().next()?;
    let kind = rights.chars().next()?;
    let bits = rights.get(1..10)?;
    if !"-dlpscbD".contains(kind) || !bits.bytes().all(|byte| b"rwxsStTl-".contains(&byte)) {
        return None;
    }
    let words = places(line);
    let text = |at: usize| words.get(at).map(|word| &line[word.clone()]);
    let (size, dated, mtime) = (2..words.len()).find_map(|at| {
        let size = text(at - 1)?.parse::<u64>().ok()?;
        let (length, mtime) = date_at(&[text(at), text(at + 1), text(at + 2)])?;
        Some((size, at + length, mtime))
    })?;
    let name = line.get(words.get(dated - 1)?.end + 1..).filter(|name| !name.is_empty())?;
    let (name, link) = match name.split_once(" -> ").filter(|_| kind == 'l') {
        Some((name, to)) => (name, Some(as_bytes(to))),
        None => (name, None),
    };
    let mode = bits.bytes().fold(0, |mode, bit| mode << 1 | u32::from(!b"-ST".contains(&bit)));
    let kind = match kind {
        '-' => FoundKind::File(size),
        'd' => FoundKind::Folder,
        'l' => FoundKind::Link,
        _ => FoundKind::Other,
    };
    let name = as_bytes(name);
    Some((RemoteEntry { name, kind, mode: Some(mode), mtime, owner: (0, 0) }, link))
}

/// Where the words of a line stand.
fn places(line: &str) -> Vec<std::ops::Range<usize>> {
    let start = line.as_ptr() as usize;
    let words = line.split_whitespace();
    words
        .map(|word| word.as_ptr() as usize - start)
        .zip(line.split_whitespace())
        .map(|(at, word)| at..at + word.len())
        .collect()
}

/// A date that begins here: how many words it has, and when that is, if it can be known.
fn date_at(words: &[Option<&str>; 3]) -> Option<(usize, Option<i64>)> {
    let [first, second, third] = *words;
    let (first, second) = (first?, second?);
    if let Some((year, month, day)) = iso_date(first) {
        let (hour, minute) = clock(second)?;
        let zone = third.filter(|word| word.len() == 5 && word.starts_with(['+', '-']));
        let moment = days(year, month, day) * 86_400 + hour * 3_600 + minute * 60;
        return Some((if zone.is_some() { 3 } else { 2 }, Some(moment)));
    }
    let day = |word: &str| {
        let day = word.trim_end_matches('.').parse::<i64>().ok();
        day.filter(|day| (1..=31).contains(day))
    };
    let is_word = |word: &str| word.chars().next().is_some_and(char::is_alphabetic);
    let (day, month) = match (day(first), day(second)) {
        (Some(day), None) if is_word(second) => (day, second),
        (None, Some(day)) if is_word(first) => (day, first),
        _ => return None,
    };
    let month = month_of(month);
    if let Some(year) = third?.parse::<i64>().ok().filter(|year| (1970..10_000).contains(year)) {
        return Some((3, month.map(|month| days(year, month, day) * 86_400)));
    }
    let (hour, minute) = clock(third?)?;
    // Without its year a date is one of the last twelve months; clocks may differ by a day.
    let latest = SystemTime::now().duration_since(UNIX_EPOCH).ok()?.as_secs() as i64 + 86_400;
    let moment = month.and_then(|month| {
        let year = 1970 + latest / (365 * 86_400);
        (year - 2..=year)
            .rev()
            .map(|year| days(year, month, day) * 86_400 + hour * 3_600 + minute * 60)
            .find(|moment| *moment <= latest)
    });
    Some((3, moment))
}

fn iso_date(word: &str) -> Option<(i64, i64, i64)> {
    let mut parts = word.split('-').map(|part| part.parse::<i64>().ok());
    let date = (parts.next()??, parts.next()??, parts.next()??);
    let fits = date.0 >= 1970 && (1..=12).contains(&date.1) && (1..=31).contains(&date.2);
    (fits && parts.next().is_none()).then_some(date)
}

fn clock(word: &str) -> Option<(i64, i64)> {
    let (hour, rest) = word.split_once(':')?;
    let minute = rest.split(':').next()?;
    Some((hour.parse().ok()?, minute.parse().ok()?))
}

/// The number of a month by its name in the languages that hosts are set to.
fn month_of(word: &str) -> Option<i64> {
    const MONTHS: [&[&str]; 12] = [
        &["jan", "gen", "ene", "sty"],
        &["feb", "fév", "fev", "lut"],
        &["mar", "mär", "mrz", "mrt", "maa"],
        &["apr", "avr", "abr", "kwi"],
        &["may", "mai", "mei", "mag", "maj"],
        &["jun", "juin", "giu", "cze"],
        &["jul", "juil", "lug", "lip"],
        &["aug", "aoû", "aou", "ago", "sie"],
        &["sep", "set", "wrz"],
        &["oct", "okt", "ott", "out", "paź"],
        &["nov", "lis"],
        &["dec", "dez", "déc", "dic", "gru"],
    ];
    let word = word.to_lowercase();
    let month = MONTHS.iter().position(|names| names.iter().any(|name| word.starts_with(name)));
    month.map(|month| month as i64 + 1)
}

fn usual(line: &str) -> Option<Listed> {
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

    fn entry(line: Line) -> Listed {
        match line {
            Line::Entry(listed) => listed,
            other => panic!("no entry: {other:?}"),
        }
    }

    #[test]
    fn dates_are_read_in_the_orders_and_languages_of_hosts() {
        let christmas = 1_735_084_800;
        for (date, moment) in [
            ("2024-12-25 10:00", Some(christmas + 36_000)),
            ("2024-12-25 10:00:07 +0100", None),
            ("25. Dez  2024", Some(christmas)),
            ("25 déc.  2024", Some(christmas)),
            ("Dez 25  2024", Some(christmas)),
            ("dic 25 2024", Some(christmas)),
        ] {
            for owner in ["1 keeper site", "1 keeper", "1 1000 1000"] {
                let line = format!("-rw-r--r-- {owner}   4120 {date} a  b.txt");
                let (found, _) = entry(of_line(&line));
                assert_eq!(found.name, b"a  b.txt", "{line}");
                assert_eq!(found.kind, FoundKind::File(4120), "{line}");
                assert_eq!(found.mode, Some(0o644), "{line}");
                if moment.is_some() {
                    assert_eq!(found.mtime, moment, "{line}");
                }
            }
        }
        let (found, _) = entry(of_line("drwx--x--x 2 keeper site 4096 28. Okt 10:00 bilder"));
        assert_eq!((found.kind, found.mode), (FoundKind::Folder, Some(0o711)));
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs() as i64;
        let year = 366 * 86_400;
        assert!(found.mtime.is_some_and(|time| (now - year..=now + 86_400).contains(&time)));
        let (_, link) = entry(of_line("lrwxrwxrwx 1 k s 5 2024-12-25 10:00 near -> shelf/a"));
        assert_eq!(link, Some(b"shelf/a".to_vec()));
    }

    #[test]
    fn what_is_not_understood_is_not_passed_over() {
        for nothing in ["", "total 12", "insgesamt 12"] {
            assert!(matches!(of_line(nothing), Line::Nothing), "{nothing}");
        }
        for line in ["-rw-r--r-- 1 keeper site 12 sometime a.txt", "a.txt", "12 a.txt maybe"] {
            assert!(matches!(of_line(line), Line::Unknown(_)), "{line}");
        }
    }

    #[test]
    fn facts_are_read_whatever_their_order() {
        let line = "modify=20240229123456;unix.mode=0644;size=7;type=file;  two spaces.txt";
        let (found, link) = entry(of_facts(line));
        assert_eq!((found.name, found.kind), (b" two spaces.txt".to_vec(), FoundKind::File(7)));
        assert_eq!((found.mode, found.mtime, link), (Some(0o644), Some(1_709_210_096), None));
        assert!(matches!(of_facts("type=cdir; ."), Line::Nothing));
        assert!(matches!(of_facts("type=file;size=many; a.txt"), Line::Unknown(_)));
        let (found, link) = entry(of_facts("type=OS.unix=slink:shelf/a;size=9; near"));
        assert_eq!((found.kind, link), (FoundKind::Link, Some(b"shelf/a".to_vec())));
    }

    #[test]
    fn lines_give_kind_rights_and_where_a_link_leads() {
        let (found, _) =
            entry(of_line("-rw-r-----    1 1000     1000          412 Feb 29  2024 a b.txt"));
        assert_eq!((found.name, found.kind), (b"a b.txt".to_vec(), FoundKind::File(412)));
        assert_eq!(found.mode, Some(0o640));
        let (found, _) = entry(of_line("drwxr-xr-x    2 0  0  4096 Jan 02 10:11 shelf"));
        assert_eq!((found.kind, found.mode), (FoundKind::Folder, Some(0o755)));
        let (found, link) = entry(of_line("lrwxrwxrwx 1 0 0 5 Jan 02 10:11 near -> shelf/a"));
        assert_eq!((found.name, found.kind), (b"near".to_vec(), FoundKind::Link));
        assert_eq!(link, Some(b"shelf/a".to_vec()));
    }
}
