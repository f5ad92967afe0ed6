//! Addresses in style sheets (CSS Syntax Level 3), read with `cssparser`.
//!
//! Which elements a rule matches is not looked at: what a rule names is [`Usage::Styled`].

use super::media::applies_to;
use super::{Link, LinkKind, Place, Places, Usage};
use crate::limits;
use cssparser::{Parser, ParserInput, Token};

/// Every address of a style sheet.
pub fn css_links(css: &str) -> Vec<Link> {
    read(css, true)
}

/// Every address of the declarations of a `style` attribute.
pub(super) fn declared_links(css: &str) -> Vec<Link> {
    read(css, false)
}

fn read(css: &str, is_sheet: bool) -> Vec<Link> {
    let mut input = ParserInput::new(css);
    let mut parser = Parser::new(&mut input);
    let mut sheet = Sheet { found: Vec::new(), imports: is_sheet };
    let (block, applies) = (if is_sheet { Block::Sheet } else { Block::Rule }, true);
    sheet.block(&mut parser, block, applies, 0);
    placed(css, sheet.found)
}

/// Links with lines and characters in place of offsets, from the first place on.
fn placed(css: &str, mut found: Vec<Link>) -> Vec<Link> {
    let mut order: Vec<usize> = (0..found.len()).collect();
    order.sort_by_key(|number| found[*number].span.start);
    let mut places = Places::new(css);
    for number in order {
        let link = &mut found[number];
        link.at = places.at(link.span.start);
        link.span = 0..0;
    }
    found
}

#[derive(Clone, Copy, PartialEq)]
enum Block {
    /// The outermost level of a sheet.
    Sheet,
    /// Where declarations and further rules stand.
    Rule,
    FontFace,
}

/// What kind of statement is being read.
#[derive(Clone, Copy, PartialEq)]
enum Statement {
    /// Not known yet.
    Begun,
    /// A selector, or a declaration: the end tells.
    Plain,
    /// A declaration of a variable.
    Variable,
    Import,
    /// Another rule with `@`: addresses before its block are names.
    Named(Block, bool),
}

struct Sheet {
    found: Vec<Link>,
    /// Whether `@import` may still stand here.
    imports: bool,
}

impl Sheet {
    /// What lies in more brackets than [`limits::CSS_DEPTH`] is passed over: no style sheet that a
    /// browser would follow goes so deep, and each bracket takes room on the stack.
    fn block(&mut self, parser: &mut Parser<'_, '_>, block: Block, applies: bool, depth: usize) {
        let first = self.found.len();
        while !parser.is_exhausted() {
            self.statement(parser, block, applies, depth);
        }
        if block == Block::FontFace {
            self.choose_font(first);
        }
    }

    /// One declaration with its `;`, or one rule with its block.
    fn statement(
        &mut self,
        parser: &mut Parser<'_, '_>,
        block: Block,
        applies: bool,
        depth: usize,
    ) {
        let before = self.found.len();
        let mut kind = Statement::Begun;
        let font = block == Block::FontFace;
        let link = if font { LinkKind::Font } else { LinkKind::Picture };
        let (mut words, mut nested) = (0, false);
        loop {
            let at = place(parser);
            let Ok(token) = parser.next() else { break };
            let token = token.clone();
            match token {
                Token::Semicolon => break,
                Token::CDO | Token::CDC if block == Block::Sheet => continue,
                Token::AtKeyword(ref name) if kind == Statement::Begun => {
                    let is = |other: &str| name.eq_ignore_ascii_case(other);
                    kind = if is("import") && self.imports && block == Block::Sheet {
                        Statement::Import
                    } else if is("media") {
                        let held = prelude_applies(parser);
                        Statement::Named(Block::Rule, applies && held)
                    } else if is("font-face") {
                        Statement::Named(Block::FontFace, applies)
                    } else {
                        Statement::Named(Block::Rule, applies)
                    };
                    let stays = is("charset") || is("layer") || kind == Statement::Import;
                    self.imports &= stays;
                }
                Token::QuotedString(ref address) if kind == Statement::Import => {
                    self.import(parser, at, address);
                    break;
                }
                Token::UnquotedUrl(ref address) if kind == Statement::Import => {
                    self.import(parser, at, address);
                    break;
                }
                Token::Function(ref name)
                    if kind == Statement::Import && name.eq_ignore_ascii_case("url") =>
                {
                    match quoted(parser) {
                        Some(address) => self.import(parser, at, &address),
                        None => drop(prelude_applies(parser)),
                    }
                    break;
                }
                Token::CurlyBracketBlock => {
                    // What stood before a block were names, selectors, conditions.
                    if kind != Statement::Variable {
                        self.found.truncate(before);
                    }
                    self.imports = false;
                    nested = true;
                    let (block, applies) = match kind {
                        Statement::Named(block, applies) => (block, applies),
                        _ => (Block::Rule, applies),
                    };
                    self.nested(parser, block, applies, depth);
                    if kind != Statement::Variable {
                        break;
                    }
                }
                _ => {
                    if kind == Statement::Begun {
                        let variable =
                            matches!(&token, Token::Ident(name) if name.starts_with("--"));
                        kind = if variable { Statement::Variable } else { Statement::Plain };
                    }
                    words += 1;
                    let usage = match kind {
                        Statement::Plain | Statement::Variable if applies => Usage::Styled,
                        _ => Usage::Possible,
                    };
                    // A declaration begins with its name.
                    if words > 1 {
                        self.value(parser, &token, at, link, usage, depth);
                    } else {
                        skip(parser, &token);
                    }
                }
            }
        }
        // Of `@namespace` and the like no address is fetched.
        if matches!(kind, Statement::Named(..)) && !nested {
            self.found.truncate(before);
        }
    }

    fn nested(&mut self, parser: &mut Parser<'_, '_>, block: Block, applies: bool, depth: usize) {
        let _ = parser.parse_nested_block(|inner| {
            match depth < limits::CSS_DEPTH {
                true => self.block(inner, block, applies, depth + 1),
                false => while inner.next().is_ok() {},
            }
            Ok::<(), cssparser::ParseError<'_, ()>>(())
        });
    }

    fn import(&mut self, parser: &mut Parser<'_, '_>, at: usize, address: &str) {
        // `layer` and `supports()` may stand before the media.
        let _ = parser.try_parse(|parser| parser.expect_ident_matching("layer"));
        while parser
            .try_parse(|parser| {
                let name = parser.expect_function()?.clone();
                let known = ["layer", "supports"].iter().any(|k| name.eq_ignore_ascii_case(k));
                parser.parse_nested_block(|inner| {
                    while inner.next().is_ok() {}
                    Ok::<(), cssparser::ParseError<'_, ()>>(())
                })?;
                if known { Ok(()) } else { Err(parser.new_custom_error::<(), ()>(())) }
            })
            .is_ok()
        {}
        // It is fetched for whatever media.
        prelude_applies(parser);
        let _ = parser.try_parse(|parser| parser.expect_semicolon());
        self.add(LinkKind::Style, "@import", address, at, Usage::Loaded);
    }

    /// One token of a value, and what lies in its brackets.
    fn value(
        &mut self,
        parser: &mut Parser<'_, '_>,
        token: &Token<'_>,
        at: usize,
        kind: LinkKind,
        usage: Usage,
        depth: usize,
    ) {
        let part = if kind == LinkKind::Font { "@font-face url()" } else { "url()" };
        match token {
            Token::UnquotedUrl(address) => self.add(kind, part, address, at, usage),
            Token::Function(name) if name.eq_ignore_ascii_case("url") => {
                if let Some(address) = quoted(parser) {
                    self.add(kind, part, &address, at, usage);
                }
            }
            Token::Function(name)
                if name.eq_ignore_ascii_case("image-set")
                    || name.eq_ignore_ascii_case("-webkit-image-set") =>
            {
                self.image_set(parser, usage);
            }
            Token::Function(_)
            | Token::ParenthesisBlock
            | Token::SquareBracketBlock
            | Token::CurlyBracketBlock => {
                let _ = parser.parse_nested_block(|inner| {
                    loop {
                        let at = place(inner);
                        let Ok(token) = inner.next() else { break };
                        let token = token.clone();
                        match depth < limits::CSS_DEPTH {
                            true => self.value(inner, &token, at, kind, usage, depth + 1),
                            false => skip(inner, &token),
                        }
                    }
                    Ok::<(), cssparser::ParseError<'_, ()>>(())
                });
            }
            _ => {}
        }
    }

    /// `image-set("a.png" 1x, url(b.png) 2x)`: one is fetched.
    fn image_set(&mut self, parser: &mut Parser<'_, '_>, usage: Usage) {
        let first = self.found.len();
        let mut densities = Vec::new();
        let _ = parser.parse_nested_block(|inner| {
            let each = inner.parse_comma_separated(|part| {
                let mut density = 1.0;
                let (mut known, mut address) = (true, None);
                loop {
                    let at = place(part);
                    let Ok(token) = part.next() else { break };
                    match token.clone() {
                        Token::QuotedString(text) | Token::UnquotedUrl(text) => {
                            address = Some((text.to_string(), at));
                        }
                        Token::Function(name) if name.eq_ignore_ascii_case("url") => {
                            address = quoted(part).map(|text| (text, at));
                        }
                        Token::Function(name) if name.eq_ignore_ascii_case("type") => {
                            known = quoted(part).is_some_and(|text| super::is_known_picture(&text));
                        }
                        Token::Dimension { value, unit, .. } => {
                            let dots = unit.eq_ignore_ascii_case("dpi");
                            density = if dots { value / 96.0 } else { value };
                        }
                        _ => {}
                    }
                }
                if let Some((text, at)) = address {
                    densities.push((density, known));
                    self.add(LinkKind::Picture, "image-set()", &text, at, Usage::Possible);
                }
                Ok::<(), cssparser::ParseError<'_, ()>>(())
            });
            each.map(drop)
        });
        // The least density that is enough, else the greatest.
        let best = densities.iter().enumerate().filter(|(_, (_, known))| *known).min_by(|a, b| {
            let rank = |density: f32| {
                if density >= 1.0 { (0, density) } else { (1, -density) }
            };
            let (a, b) = (rank(a.1.0), rank(b.1.0));
            a.0.cmp(&b.0).then(a.1.total_cmp(&b.1))
        });
        if let Some((number, _)) = best {
            self.found[first + number].usage = usage;
        }
    }

    /// Of the sources of a font the browser takes the first that it can read.
    fn choose_font(&mut self, first: usize) {
        let mut taken = false;
        for link in &mut self.found[first..] {
            if link.kind == LinkKind::Font && link.usage == Usage::Styled {
                let path = link.address.split(['?', '#']).next().unwrap_or_default();
                let old = path.ends_with(".eot") || path.ends_with(".svg");
                if taken || old {
                    link.usage = Usage::Possible;
                }
                taken |= !old;
            }
        }
    }

    fn add(&mut self, kind: LinkKind, part: &'static str, address: &str, at: usize, usage: Usage) {
        let (address, element) = (address.to_owned(), part.into());
        let (place, span) = (Place::default(), at..at);
        self.found.push(Link { kind, usage, element, address, at: place, span });
    }
}

/// The text of `url("…")` and the like, whose bracket has just been opened.
fn quoted(parser: &mut Parser<'_, '_>) -> Option<String> {
    let found = parser.parse_nested_block(|inner| {
        let text = inner.expect_string()?.to_string();
        while inner.next().is_ok() {}
        Ok::<String, cssparser::ParseError<'_, ()>>(text)
    });
    found.ok()
}

fn skip(parser: &mut Parser<'_, '_>, token: &Token<'_>) {
    if matches!(
        token,
        Token::Function(_)
            | Token::ParenthesisBlock
            | Token::SquareBracketBlock
            | Token::CurlyBracketBlock
    ) {
        let _ = parser.parse_nested_block(|inner| {
            while inner.next().is_ok() {}
            Ok::<(), cssparser::ParseError<'_, ()>>(())
        });
    }
}

/// Whether the media before the next `;` or block apply.
fn prelude_applies(parser: &mut Parser<'_, '_>) -> bool {
    use cssparser::{Delimiter, ParseError};
    let read = parser
        .parse_until_before(Delimiter::Semicolon | Delimiter::CurlyBracketBlock, |it| {
            Ok::<bool, ParseError<'_, ()>>(applies_to(it))
        });
    read.unwrap_or(false)
}

/// The offset of the next token. (The lines of `cssparser` also end at form feeds, and its columns
/// count halves of characters.)
fn place(parser: &mut Parser<'_, '_>) -> usize {
    parser.skip_whitespace();
    parser.position().byte_index()
}
