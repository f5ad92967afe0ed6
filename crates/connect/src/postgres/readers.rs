//! Reading a large table in parts, by several connections that see the same moment
//! (PostgreSQL documentation, "Snapshot Synchronization Functions").
//!
//! The parts follow each other in the order of the key where the rows lie about in that
//! order, so that reading can go on behind any row; otherwise in the order in which the rows
//! lie. They are handed over in their order, whichever is read first.

use super::copy::{BEGIN, copy_lines};
use super::{Link, quoted, text};
use crate::server::{ServerAddress, Session};
use fernweh_core::limits;
use fernweh_core::record::Table;
use fernweh_core::sql::Qualified;
use fernweh_ports::{KeyPosition, Lines, Result, Trouble, TroubleKind, pipe};

/// Bytes of a part, as the server stores them: about as many as a reader may be ahead.
const PART: i128 = 8 << 20;
/// Connections that read, at most.
const MOST: usize = 4;
/// How well the order of the key must agree with that in which the rows lie, for reading in
/// the order of the key not to jump about on the server's disk.
const IN_ORDER: f64 = 0.9;

/// Connections that see the same moment as another one.
#[derive(Default)]
pub(super) struct Readers {
    links: Vec<Link>,
    /// Whether they were asked for already.
    asked: bool,
}

impl Readers {
    /// As many as help; the first one itself where the server gives no more.
    fn links<'a>(&'a mut self, first: &'a mut Link, address: &ServerAddress) -> &'a mut [Link] {
        if !self.asked {
            self.asked = true;
            let count = std::thread::available_parallelism().map_or(1, usize::from).min(MOST);
            let more = || Self::open(first, address);
            // Hosts limit connections; whatever the reason, one reader is enough.
            let count = if count > 1 { count } else { 0 };
            self.links = std::iter::repeat_with(more).take(count).map_while(Result::ok).collect();
        }
        match self.links.len() {
            0 | 1 => std::slice::from_mut(first),
            _ => &mut self.links,
        }
    }

    fn open(first: &mut Link, address: &ServerAddress) -> Result<Link> {
        let moment = first.one("SELECT pg_catalog.pg_export_snapshot()")?.unwrap_or_default();
        let mut link = Link::open(address)?;
        link.run(BEGIN)?;
        link.run(format!("SET TRANSACTION SNAPSHOT {}", text(&moment)))?;
        // A part is a small share of its table; the order of the key decides how it is found.
        link.run("SET LOCAL enable_seqscan = off")?;
        Ok(link)
    }

    /// Reads the parts of a table, and hands their rows over in order.
    pub fn read(
        &mut self,
        (first, address): (&mut Link, &ServerAddress),
        table: &Table,
        parts: &[String],
        sink: &mut dyn FnMut(Lines) -> Result<()>,
    ) -> Result<()> {
        let links = self.links(first, address);
        let count = links.len();
        std::thread::scope(|scope| {
            let (mut outlets, mut readers) = (Vec::new(), Vec::new());
            for (number, link) in links.iter_mut().enumerate() {
                let (inlet, outlet) = pipe::<Lines>();
                outlets.push(outlet);
                readers.push(scope.spawn(move || -> Result<()> {
                    let mut send = |lines: Lines| {
                        let weight = lines.text.len();
                        // Whoever has stopped taking them tells why.
                        let stopped = Trouble::interrupted("the rows are not wanted any more");
                        inlet.send(lines, weight).then_some(()).ok_or(stopped)
                    };
                    for query in parts.iter().skip(number).step_by(count) {
                        let mut lines = Collected::new(table, &mut send);
                        copy_lines(link, query, &mut |line| lines.add(line))?;
                        lines.close()?;
                        // No rows: the part ends.
                        send(Lines::default())?;
                    }
                    Ok(())
                }));
            }
            let mut taken = Ok(());
            'parts: for part in 0..parts.len() {
                loop {
                    match outlets[part % count].next() {
                        Some(lines) if lines.rows > 0 => taken = sink(lines),
                        Some(_) => break,
                        // The reader has stopped within the part: what others have read lies
                        // behind rows that are missing.
                        None => break 'parts,
                    }
                    if taken.is_err() {
                        break 'parts;
                    }
                }
            }
            drop(outlets);
            let unexpected = |_| Err(Trouble::outside("reading records ended unexpectedly"));
            let read = readers.into_iter().map(|reader| reader.join().unwrap_or_else(unexpected));
            let mut troubles: Vec<Trouble> = read.filter_map(Result::err).collect();
            // The others were only told to stop.
            troubles.sort_by_key(|trouble| trouble.kind == TroubleKind::Interrupted);
            taken.and(troubles.into_iter().next().map_or(Ok(()), Err))
        })
    }
}

/// Rows that are handed over together, at most.
const TOGETHER: u64 = 1024;

/// Collects lines.
pub(super) struct Collected<'a> {
    lines: Lines,
    /// Where the last line begins.
    last: usize,
    /// The places of the key's columns in a row.
    key: Vec<usize>,
    sink: &'a mut dyn FnMut(Lines) -> Result<()>,
}

impl<'a> Collected<'a> {
    /// Lines of this table, for `sink`.
    pub fn new(table: &Table, sink: &'a mut dyn FnMut(Lines) -> Result<()>) -> Self {
        let place = |name: &String| table.columns.iter().position(|column| column.name == *name);
        let key = table.key.iter().filter_map(place).collect();
        Self { lines: Lines::default(), last: 0, key, sink }
    }

    /// Adds a line.
    pub fn add(&mut self, line: &[u8]) -> Result<()> {
        if self.lines.text.is_empty() {
            self.lines.text.reserve(line.len().max(limits::READER_ROWS));
        }
        self.last = self.lines.text.len();
        self.lines.text.extend_from_slice(line);
        self.lines.rows += 1;
        let full = self.lines.rows >= TOGETHER || self.lines.text.len() >= limits::READER_ROWS;
        if full { self.close() } else { Ok(()) }
    }

    /// Hands over what waits; more lines may follow.
    pub fn close(&mut self) -> Result<()> {
        if self.lines.rows == 0 {
            return Ok(());
        }
        let mut lines = std::mem::take(&mut self.lines);
        lines.last = key_of(&lines.text[self.last..], &self.key);
        (self.sink)(lines)
    }
}

/// The key of a line, if it is made of whole numbers.
fn key_of(line: &[u8], places: &[usize]) -> Option<KeyPosition> {
    let fields: Vec<&[u8]> = line.trim_ascii_end().split(|byte| *byte == b'\t').collect();
    let number = |place: &usize| {
        let digits = std::str::from_utf8(fields.get(*place)?).ok()?;
        digits.parse::<i128>().ok().map(|_| digits.to_owned())
    };
    if places.is_empty() { None } else { places.iter().map(number).collect() }
}

/// Whether the key of a table is made of whole numbers, and its rows lie about in its order.
pub(super) fn in_order(link: &mut Link, table: &Table) -> Result<bool> {
    let Some(first) = table.key.first() else { return Ok(false) };
    let place = Qualified::parse(&table.name);
    let names: Vec<String> = table.key.iter().map(|name| text(name)).collect();
    let found = link.ask(&format!(
        "SELECT (SELECT count(*) FROM pg_catalog.pg_attribute a WHERE a.attrelid = {}::regclass \
         AND a.attname IN ({}) AND a.atttypid IN ('int2'::regtype, 'int4'::regtype, 'int8'::regtype)), \
         (SELECT s.correlation FROM pg_catalog.pg_stats s WHERE s.schemaname = {} \
         AND s.tablename = {} AND s.attname = {} AND NOT s.inherited)",
        text(&place.sql()),
        names.join(","),
        text(&place.schema),
        text(&place.name),
        text(first)
    ))?;
    let cell = |n: usize| found.first().and_then(|row| row.get(n).cloned().flatten());
    let whole = cell(0).and_then(|count| count.parse().ok()) == Some(table.key.len());
    let lies = cell(1).and_then(|share| share.parse::<f64>().ok()).unwrap_or(0.0);
    Ok(whole && lies >= IN_ORDER)
}

/// The statements that read a table, all of it or what is behind a key, one part each; none
/// if it is too small to be worth parts and can be read from its beginning.
pub(super) fn parts(
    link: &mut Link,
    table: &Table,
    behind: Option<&KeyPosition>,
) -> Result<Vec<String>> {
    let place = Qualified::parse(&table.name).sql();
    let ordered = in_order(link, table)?;
    let sizes = format!(
        "SELECT pg_table_size({0}::regclass), pg_relation_size({0}::regclass) \
         / current_setting('block_size')::int",
        text(&place)
    );
    let [bytes, pages] = two(link, &sizes)?.unwrap_or_default();
    let count = (bytes / PART).max(1);
    if count == 1 && behind.is_none() {
        return Ok(Vec::new());
    }
    let keys: Vec<String> = table.key.iter().map(|name| quoted(name)).collect();
    let behind = behind.map(|place| format!("({}) > ({})", keys.join(","), place.join(",")));
    let (ranges, order) = match (keys.first(), ordered) {
        (Some(key), true) => {
            let only = behind.as_ref().map(|behind| format!(" WHERE {behind}")).unwrap_or_default();
            let ends = format!("SELECT min({key}), max({key}) FROM ONLY {place}{only}");
            let Some([least, most]) = two(link, &ends)? else { return Ok(Vec::new()) };
            let bound = |border: i128| border.to_string();
            (ranges(key, (least, most), count, bound), format!(" ORDER BY {}", keys.join(",")))
        }
        _ => {
            let bound = |page: i128| format!("'({page},0)'::tid");
            (ranges("ctid", (0, pages), count, bound), String::new())
        }
    };
    let columns: Vec<String> = table.columns.iter().map(|column| quoted(&column.name)).collect();
    let columns = columns.join(",");
    let query = |range: Option<String>| {
        let conditions: Vec<String> = behind.iter().cloned().chain(range).collect();
        let only = if conditions.is_empty() { "true".into() } else { conditions.join(" AND ") };
        format!("COPY (SELECT {columns} FROM ONLY {place} WHERE {only}{order}) TO STDOUT")
    };
    Ok(ranges.into_iter().map(query).collect())
}

/// Cuts what lies between two ends into ranges of the same width, as conditions; the first
/// and the last are open, so that nothing falls outside.
fn ranges(
    what: &str,
    (least, most): (i128, i128),
    count: i128,
    bound: impl Fn(i128) -> String,
) -> Vec<Option<String>> {
    let width = ((most - least) / count).max(1);
    let count = count.min((most - least) / width).max(1);
    let border = |number: i128| bound(least + number * width);
    let range = |number: i128| {
        let from = (number > 0).then(|| format!("{what} >= {}", border(number)));
        let to = (number + 1 < count).then(|| format!("{what} < {}", border(number + 1)));
        from.into_iter().chain(to).reduce(|from, to| format!("{from} AND {to}"))
    };
    (0..count).map(range).collect()
}

/// Two whole numbers that a question gives; `None` if it gives none.
fn two(link: &mut Link, question: &str) -> Result<Option<[i128; 2]>> {
    let found = link.ask(question)?;
    let cell = |n: usize| found.first()?.get(n)?.as_deref()?.parse().ok();
    Ok(cell(0).zip(cell(1)).map(|(first, second)| [first, second]))
}

#[cfg(test)]
mod tests {
    use super::{Collected, key_of, ranges};
    use fernweh_core::record::{Column, Table};
    use fernweh_ports::Lines;
    use proptest::prelude::*;

    /// Whether a number is in a range written as `n >= 3 AND n < 5`.
    fn holds(range: &Option<String>, number: i128) -> bool {
        range.iter().flat_map(|range| range.split(" AND ")).all(|condition| {
            let (sign, border) = condition[2..].split_once(' ').unwrap();
            let border: i128 = border.parse().unwrap();
            if sign == ">=" { number >= border } else { number < border }
        })
    }

    proptest! {
        #[test]
        fn every_number_is_in_one_range_and_they_follow_each_other(
            least in -50_i128..50, span in 0_i128..200, count in 1_i128..40, number in -100_i128..300
        ) {
            let found = ranges("n", (least, least + span), count, |border| border.to_string());
            let place = |number| found.iter().position(|range| holds(range, number)).unwrap();
            prop_assert_eq!(found.iter().filter(|range| holds(range, number)).count(), 1);
            prop_assert!(place(number) <= place(number + 1));
            prop_assert!(found.len() as i128 <= count);
        }
    }
    #[test]
    fn lines_are_handed_over_with_the_key_of_the_last_one() {
        let column = |name: &str| Column { name: name.into(), text: None };
        let columns = vec![column("note"), column("id")];
        let table = Table { name: "nights".into(), columns, key: vec!["id".into()] };
        let mut found: Vec<Lines> = Vec::new();
        let mut sink = |lines| {
            found.push(lines);
            Ok(())
        };
        let mut lines = Collected::new(&table, &mut sink);
        for id in 1..=1030 {
            lines.add(format!("x\t{id}\n").as_bytes()).unwrap();
        }
        lines.close().unwrap();
        lines.close().unwrap();
        let told: Vec<_> = found.iter().map(|l| (l.rows, l.last.clone().unwrap())).collect();
        assert_eq!(told, [(1024, vec!["1024".to_owned()]), (6, vec!["1030".to_owned()])]);
        assert_eq!(key_of(b"7\tx\n", &[0, 1]), None);
        assert_eq!(key_of(b"\\N\n", &[0]), None);
    }
}
