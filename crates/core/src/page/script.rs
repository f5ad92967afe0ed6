//! Addresses in scripts: static imports of modules, import maps, and texts that look like addresses.
//!
//! Scripts are not run. What a script may fetch is [`Usage::Possible`]; only the static imports of
//! modules (ECMAScript, "Imports") are fetched for certain.

use super::{Link, LinkKind, Usage};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// Whether browsers run scripts of this type (WHATWG, "JavaScript MIME type").
pub(super) fn is_script_type(media_type: &str) -> bool {
    let known = [
        "application/ecmascript",
        "application/javascript",
        "application/x-ecmascript",
        "application/x-javascript",
        "text/ecmascript",
        "text/javascript",
        "text/javascript1.0",
        "text/javascript1.1",
        "text/javascript1.2",
        "text/javascript1.3",
        "text/javascript1.4",
        "text/javascript1.5",
        "text/jscript",
        "text/livescript",
        "text/x-ecmascript",
        "text/x-javascript",
    ];
    known.contains(&media_type.trim())
}

/// Names of modules and where they are (HTML standard, "Import maps"); `scopes` are not applied.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ImportMap {
    names: BTreeMap<String, String>,
}

impl ImportMap {
    /// Reads the text of a `<script type="importmap">`.
    pub fn read(text: &str) -> Option<Self> {
        let Ok(Value::Object(map)) = serde_json::from_str(text) else { return None };
        let imports = map.get("imports")?.as_object()?;
        let names = imports
            .iter()
            .filter_map(|(name, address)| Some((name.clone(), address.as_str()?.to_owned())))
            .collect();
        Some(Self { names })
    }

    /// Where a name leads, if the map has it.
    pub fn look_up(&self, name: &str) -> Option<String> {
        if let Some(address) = self.names.get(name) {
            return Some(address.clone());
        }
        // The longest prefix that ends with a slash counts.
        let best = self
            .names
            .iter()
            .filter(|(prefix, _)| prefix.ends_with('/') && name.starts_with(prefix.as_str()));
        let (prefix, address) = best.max_by_key(|(prefix, _)| prefix.len())?;
        Some(format!("{address}{}", &name[prefix.len()..]))
    }
}

/// Every address of a script.
pub fn script_links(text: &str, is_module: bool, imports: Option<&ImportMap>) -> Vec<Link> {
    let mut found = Vec::new();
    let mut places = super::Places::new(text);
    // Each address is given once.
    let mut named = BTreeSet::new();
    let mut nameless = false;
    for Literal { value, at, import } in Lexer::new(text, is_module) {
        let (kind, usage, part) = match import {
            Import::Static => (LinkKind::Module, Usage::Loaded, "import"),
            Import::Dynamic => (LinkKind::Module, Usage::Possible, "import()"),
            Import::None => (LinkKind::Other, Usage::Possible, "text"),
        };
        let address = if import == Import::None {
            if !is_absolute(value) {
                continue;
            }
            value.replace("\\/", "/")
        } else {
            let Some(address) = resolved(value, imports) else {
                nameless |= import == Import::Static;
                continue;
            };
            address
        };
        if !named.insert(address.clone()) {
            continue;
        }
        let at = places.at(at);
        found.push(Link { kind, usage, element: part.into(), address, at, span: 0..0 });
    }
    // A module with an import that leads nowhere is given up whole.
    if nameless {
        found.iter_mut().for_each(|link| link.usage = Usage::Possible);
    }
    found
}

/// The address of a module specifier; a bare name leads nowhere without a map.
fn resolved(specifier: &str, imports: Option<&ImportMap>) -> Option<String> {
    if let Some(address) = imports.and_then(|map| map.look_up(specifier)) {
        return Some(address);
    }
    let direct = ["/", "./", "../"].iter().any(|start| specifier.starts_with(start));
    (direct || specifier.contains("://")).then(|| specifier.to_owned())
}

fn is_absolute(text: &str) -> bool {
    let start = &text.as_bytes()[..text.len().min(12)];
    let lower = start.to_ascii_lowercase();
    let web = [&b"http://"[..], b"https://", b"http:\\/\\/", b"https:\\/\\/"];
    web.iter().any(|scheme| lower.starts_with(scheme))
        && !text.contains(|c: char| c.is_whitespace() || "<>\"'`{}$|^*".contains(c))
        && text.len() > 10
}

/// Addresses in a short script, as of an `onclick`.
pub(super) fn addresses_in(text: &str) -> impl Iterator<Item = &str> {
    Lexer::new(text, false).map(|literal| literal.value).filter(|value| is_absolute(value))
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Import {
    None,
    Static,
    Dynamic,
}

struct Literal<'a> {
    value: &'a str,
    at: usize,
    import: Import,
}

/// Finds string literals, and knows which are those of imports. Comments, regular expressions and
/// templates are passed over by the rules of ECMAScript's lexical grammar; whether a slash divides
/// or begins an expression is told by what stands before it.
struct Lexer<'a> {
    text: &'a str,
    at: usize,
    is_module: bool,
    /// The last token before: a word, or a sign.
    last: Last<'a>,
    /// An `import` or `export` at the top level has begun, and is not followed by a bracket.
    import: Import,
    /// Brackets and templates that are open; a template counts the brackets of its parts.
    brackets: Vec<u8>,
}

#[derive(Clone, Copy, PartialEq)]
enum Last<'a> {
    Start,
    Word(&'a str),
    Sign(u8),
    Value,
}

impl<'a> Lexer<'a> {
    fn new(text: &'a str, is_module: bool) -> Self {
        let (last, import, brackets) = (Last::Start, Import::None, Vec::new());
        Lexer { text, at: 0, is_module, last, import, brackets }
    }

    /// Whether a slash here begins a regular expression.
    fn expression_may_begin(&self) -> bool {
        match self.last {
            Last::Start => true,
            Last::Value => false,
            Last::Sign(sign) => !matches!(sign, b')' | b']' | b'}'),
            Last::Word(word) => matches!(
                word,
                "return"
                    | "typeof"
                    | "case"
                    | "in"
                    | "of"
                    | "delete"
                    | "void"
                    | "throw"
                    | "new"
                    | "do"
                    | "else"
                    | "await"
                    | "yield"
                    | "instanceof"
            ),
        }
    }

    /// Passes over a quoted text whose first quote is here; gives its inside.
    fn quoted(&mut self, quote: u8) -> &'a str {
        let bytes = self.text.as_bytes();
        let begins = self.at + 1;
        let mut at = begins;
        while at < bytes.len() && bytes[at] != quote && bytes[at] != b'\n' {
            at += if bytes[at] == b'\\' { 2 } else { 1 };
        }
        let end = at.min(bytes.len());
        self.at = end + 1;
        self.text.get(begins..end).unwrap_or_default()
    }

    /// Passes over the literal part of a template, up to its end or to a `${`.
    fn template(&mut self) {
        let bytes = self.text.as_bytes();
        while self.at < bytes.len() {
            match bytes[self.at] {
                b'\\' => self.at += 2,
                b'`' => {
                    self.at += 1;
                    self.last = Last::Value;
                    return;
                }
                b'$' if bytes.get(self.at + 1) == Some(&b'{') => {
                    self.brackets.push(b'`');
                    self.at += 2;
                    self.last = Last::Sign(b'{');
                    return;
                }
                _ => self.at += 1,
            }
        }
    }

    fn regular_expression(&mut self) {
        let bytes = self.text.as_bytes();
        let mut class = false;
        self.at += 1;
        while self.at < bytes.len() && bytes[self.at] != b'\n' {
            match bytes[self.at] {
                b'\\' => self.at += 1,
                b'[' => class = true,
                b']' => class = false,
                b'/' if !class => break,
                _ => {}
            }
            self.at += 1;
        }
        self.at += 1;
        self.last = Last::Value;
    }
}

impl<'a> Iterator for Lexer<'a> {
    type Item = Literal<'a>;

    fn next(&mut self) -> Option<Literal<'a>> {
        let bytes = self.text.as_bytes();
        while self.at < bytes.len() {
            let here = bytes[self.at];
            let rest = &bytes[self.at..];
            match here {
                b'/' if rest.starts_with(b"//") => {
                    self.at += memchr::memchr(b'\n', rest).unwrap_or(rest.len());
                }
                b'/' if rest.starts_with(b"/*") => {
                    let end = memchr::memmem::find(&rest[2..], b"*/");
                    self.at += end.map_or(rest.len(), |end| end + 4);
                }
                b'/' if self.expression_may_begin() => self.regular_expression(),
                b'"' | b'\'' => {
                    let at = self.at + 1;
                    let before = self.last;
                    let value = self.quoted(here);
                    self.last = Last::Value;
                    let import = match (self.import, before) {
                        (Import::Static, Last::Word("from" | "import")) => Import::Static,
                        (Import::Dynamic, Last::Sign(b'(')) => Import::Dynamic,
                        _ => Import::None,
                    };
                    self.import = Import::None;
                    return Some(Literal { value, at, import });
                }
                b'`' => {
                    self.at += 1;
                    self.template();
                }
                _ if here.is_ascii_alphanumeric()
                    || here == b'_'
                    || here == b'$'
                    || here >= 0x80 =>
                {
                    let word = |b: &u8| {
                        b.is_ascii_alphanumeric() || *b == b'_' || *b == b'$' || *b >= 0x80
                    };
                    let length = rest.iter().position(|b| !word(b)).unwrap_or(rest.len());
                    let text = self.text.get(self.at..self.at + length).unwrap_or_default();
                    let top = self.brackets.is_empty() && self.last != Last::Sign(b'.');
                    if top && self.is_module && matches!(text, "import" | "export") {
                        self.import = Import::Static;
                    } else if text == "import" && self.last != Last::Sign(b'.') {
                        self.import = Import::Dynamic;
                    }
                    self.at += length;
                    self.last = Last::Word(text);
                }
                _ if here.is_ascii_whitespace() => self.at += 1,
                _ => {
                    self.at += 1;
                    match here {
                        b'(' | b'[' | b'{' => {
                            // `import {a} from` has brackets, `import(` and `export {}` do not lead on.
                            if here == b'(' && matches!(self.last, Last::Word("import")) {
                                self.import = Import::Dynamic;
                            }
                            if self.import != Import::Static || here != b'{' {
                                self.brackets.push(here);
                            } else {
                                self.brackets.push(b'i');
                            }
                        }
                        b')' | b']' | b'}' if self.brackets.pop() == Some(b'`') => {
                            self.template();
                            continue;
                        }
                        b';' | b'=' => self.import = Import::None,
                        _ => {}
                    }
                    self.last = Last::Sign(here);
                }
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::super::Place;
    use super::*;

    fn only_places(links: &[Link]) -> Vec<(&str, Usage, Place)> {
        links.iter().map(|link| (link.address.as_str(), link.usage, link.at)).collect()
    }

    #[test]
    fn static_imports_are_loaded_and_other_texts_may_be() {
        let text = "import a, {b} from './a.js'; import '/b.js'\nexport * from \"../c.js\";\n\
            const x = import('./e.js'); // import 'no.js'\n\
            /* import 'no.js' */ let r = /import 'no.js'/; let t = `import 'no.js' ${'http://a.test/t'}`;\n\
            fetch('https://a.test/f'); if (x) { y = a / b / 'http:\\/\\/a.test\\/g' }";
        let links = script_links(text, true, None);
        let at = |line, column| Place { line, column };
        assert_eq!(
            only_places(&links),
            [
                ("./a.js", Usage::Loaded, at(1, 21)),
                ("/b.js", Usage::Loaded, at(1, 38)),
                ("../c.js", Usage::Loaded, at(2, 16)),
                ("./e.js", Usage::Possible, at(3, 19)),
                ("http://a.test/t", Usage::Possible, at(4, 75)),
                ("https://a.test/f", Usage::Possible, at(5, 8)),
                ("http://a.test/g", Usage::Possible, at(5, 50)),
            ]
        );
        assert!(script_links("import './a.js'", false, None).is_empty());
    }

    #[test]
    fn an_import_map_says_where_names_lead() {
        let map =
            ImportMap::read(r#"{"imports": {"sky": "/sky.js", "lib/": "/lib/v1/"}}"#).unwrap();
        let links =
            script_links("import 'sky'; import 'lib/moon.js'; import 'other'", true, Some(&map));
        let found: Vec<&str> = links.iter().map(|link| link.address.as_str()).collect();
        assert_eq!(found, ["/sky.js", "/lib/v1/moon.js"]);
    }
}
