//! The site that the pages are on, and the table of constructed pages.

use fernweh_testkit::{Reply, Request, Visit};
use std::fs;
use std::path::PathBuf;

/// One page.
#[derive(Clone, Debug, Default)]
pub struct Case {
    pub name: String,
    pub headers: Vec<(String, String)>,
    pub markup: Vec<u8>,
    /// What the browser did, if the table says it.
    pub seen: Option<Vec<String>>,
    /// What the browser's look-ahead asks for, or refuses, although the page itself does not.
    pub ahead: Vec<String>,
}

fn table() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/browser/pages.txt")
}

/// The table: `= name`, header lines, the markup in one line (`\n`, `\\` and `\xff` escaped), and a
/// line for each request that was made (`+`) or refused (`-`). `~` names an address that the browser
/// asks for before it has read the page properly, or refuses beside asking for it: not compared.
pub fn constructed() -> Vec<Case> {
    let text = fs::read_to_string(table()).expect("the table");
    let mut cases: Vec<Case> = Vec::new();
    for line in text.lines().filter(|line| !line.starts_with("# ")) {
        if let Some(name) = line.strip_prefix("= ") {
            cases.push(Case { name: name.into(), seen: Some(Vec::new()), ..Case::default() });
            continue;
        }
        let Some(case) = cases.last_mut() else { continue };
        if let Some((name, value)) =
            line.strip_prefix("header ").and_then(|header| header.split_once(": "))
        {
            case.headers.push((name.into(), value.into()));
        } else if line.starts_with("+ ") || line.starts_with("- ") {
            case.seen.get_or_insert_default().push(line.into());
        } else if let Some(url) = line.strip_prefix("~ ") {
            case.ahead.push(url.into());
        } else if !line.is_empty() {
            case.markup = unescape(line);
        }
    }
    cases
}

/// Writes the table anew, with what the browser did.
pub fn write_table(cases: &[Case], visits: &[Visit]) {
    let mut text = fs::read_to_string(table()).expect("the table");
    let blocks: Vec<&str> = text.split("\n= ").collect();
    let mut out = Vec::new();
    let mut number = 0;
    for (first, block) in blocks.iter().enumerate() {
        let kept: Vec<&str> =
            block.lines().filter(|l| !l.starts_with("+ ") && !l.starts_with("- ")).collect();
        let mut lines: Vec<String> =
            kept.iter().filter(|line| !line.is_empty()).map(|line| (*line).to_owned()).collect();
        let is_case = first > 0 || block.starts_with("= ");
        if is_case {
            assert!(lines[0].ends_with(&cases[number].name));
            lines.extend(lines_of(&visits[number]));
            number += 1;
        }
        out.push(lines.join("\n"));
    }
    text = out.join("\n\n= ") + "\n";
    fs::write(table(), text).expect("the table is written");
}

/// What a browser did, as lines of the table.
pub fn lines_of(visit: &Visit) -> Vec<String> {
    let made = visit.requests.iter().filter(|url| counts(url)).map(|url| format!("+ {url}"));
    made.chain(visit.blocked.iter().map(|url| format!("- {url}"))).collect()
}

/// The page itself and the picture of the tab are not what is compared.
pub fn counts(url: &str) -> bool {
    !url.ends_with(".page") && !url.ends_with("/favicon.ico")
}

fn unescape(line: &str) -> Vec<u8> {
    let mut out = Vec::new();
    let mut rest = line;
    while let Some(at) = rest.find('\\') {
        out.extend_from_slice(&rest.as_bytes()[..at]);
        let escape = &rest[at + 1..];
        rest = match escape.as_bytes().first() {
            Some(b'n') => {
                out.push(b'\n');
                &escape[1..]
            }
            Some(b'x') => {
                out.push(u8::from_str_radix(&escape[1..3], 16).expect("two digits"));
                &escape[3..]
            }
            _ => {
                out.push(b'\\');
                &escape[1..]
            }
        };
    }
    out.extend_from_slice(rest.as_bytes());
    out
}

/// What lies at an address of the site.
pub fn body(path: &str, cases: &[Case]) -> (u16, Vec<(String, String)>, Vec<u8>) {
    let path = path.split('?').next().unwrap_or_default();
    let file = path.rsplit('/').next().unwrap_or_default();
    if let Some(name) = file.strip_suffix(".page") {
        let Some(case) = cases.iter().find(|case| case.name == name) else {
            return (404, Vec::new(), Vec::new());
        };
        let mut headers = case.headers.clone();
        if !headers.iter().any(|(name, _)| name == "Content-Type") {
            headers.push(("Content-Type".into(), "text/html; charset=utf-8".into()));
        }
        return (200, headers, case.markup.clone());
    }
    if let Some((target, kind)) = file.strip_prefix("to-").and_then(|rest| rest.rsplit_once('.')) {
        let to = format!("{target}://other.test/r/landed.{kind}");
        return (302, vec![("Location".into(), to)], Vec::new());
    }
    let text: &[u8] = match file {
        "import.css" => b"@import 'deep.css'; body { background: url(body.png) }",
        "mixed.css" => {
            b"@import 'http://other.test/r/i.css'; \
              body { background: url(http://other.test/r/bg.png) }"
        }
        "mod.js" => b"import './dep.js'; export default 1",
        "dep2.js" => b"export const y = 1",
        "frame.html" => b"<img src=in-frame.png>",
        "mixed-frame.html" => {
            b"<img src=http://other.test/r/f.png><script src=http://other.test/r/f.js></script>"
        }
        "draw.svg" => {
            b"<svg xmlns='http://www.w3.org/2000/svg'><image href='in-svg.png' width='9' height='9'/></svg>"
        }
        _ => b"",
    };
    let kind = file.rsplit_once('.').map_or("", |(_, kind)| kind);
    let (media_type, usual): (&str, &[u8]) = match kind {
        "png" | "webp" | "gif" | "cur" | "xyz" => ("image/png", PICTURE),
        "css" => ("text/css", b""),
        "js" => ("text/javascript", b"export default 0"),
        "json" => ("application/json", b"{}"),
        "svg" => ("image/svg+xml", b"<svg xmlns='http://www.w3.org/2000/svg'><g id='x'/></svg>"),
        "wav" | "webm" => ("audio/wav", SOUND),
        "vtt" => ("text/vtt", b"WEBVTT\n"),
        "woff2" => ("font/woff2", b"wOF2"),
        _ => ("text/html", b"<p>a page"),
    };
    let bytes = if text.is_empty() { usual } else { text };
    let bytes =
        if kind == "js" && text.is_empty() && file.starts_with("classic") { b"" } else { bytes };
    let headers = vec![
        ("Content-Type".into(), media_type.into()),
        ("Access-Control-Allow-Origin".into(), "*".into()),
    ];
    (200, headers, bytes.to_vec())
}

pub fn reply(request: &Request, cases: &[Case]) -> Reply {
    let (status, headers, body) = body(&request.path, cases);
    Reply::Whole(status, headers, body)
}

/// One pixel.
const PICTURE: &[u8] = b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR\0\0\0\x01\0\0\0\x01\x08\x06\0\0\0\x1f\x15\xc4\x89\0\0\0\rIDATx\x9cc\xf8\xff\xff?\0\x05\xfe\x02\xfe\xa75\x81\x84\0\0\0\0IEND\xaeB`\x82";

/// A moment of silence.
const SOUND: &[u8] = b"RIFF\x2c\0\0\0WAVEfmt \x10\0\0\0\x01\0\x01\0\x40\x1f\0\0\x40\x1f\0\0\x01\0\x08\0data\x08\0\0\0\x80\x80\x80\x80\x80\x80\x80\x80";
