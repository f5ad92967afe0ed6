//! Addresses in style sheets (CSS Syntax Level 3), read with `cssparser`.

use super::{Link, LinkKind};
use crate::limits;
use cssparser::{Parser, ParserInput, Token};

/// Every `url()` and `@import` of a style sheet or of a `style` attribute.
pub fn css_links(css: &str) -> Vec<Link> {
    let mut input = ParserInput::new(css);
    let mut parser = Parser::new(&mut input);
    let mut found = Vec::new();
    walk(&mut parser, Inside::Sheet, 0, &mut found);
    found
}

#[derive(Clone, Copy, PartialEq)]
enum Inside {
    Sheet,
    FontFace,
}

/// What lies in more brackets than [`limits::CSS_DEPTH`] is passed over: no style sheet that a
/// browser would follow goes so deep, and each bracket takes room on the stack.
fn walk(parser: &mut Parser<'_, '_>, inside: Inside, depth: usize, found: &mut Vec<Link>) {
    let mut import = false;
    let mut block = inside;
    loop {
        let line = parser.current_source_location().line as usize + 1;
        let Ok(token) = parser.next() else { return };
        let mut add = |kind, element: &str, address: &str| {
            let (element, address) = (element.to_owned(), address.to_owned());
            found.push(Link { kind, element, address, line });
        };
        let kind = if inside == Inside::FontFace { LinkKind::Font } else { LinkKind::Picture };
        match token {
            Token::AtKeyword(name) => {
                import = name.eq_ignore_ascii_case("import");
                let font = name.eq_ignore_ascii_case("font-face");
                block = if font { Inside::FontFace } else { inside };
            }
            Token::QuotedString(address) if import => {
                add(LinkKind::Style, "@import", address);
                import = false;
            }
            Token::UnquotedUrl(address) if import => {
                add(LinkKind::Style, "@import", address);
                import = false;
            }
            Token::UnquotedUrl(address) => add(kind, element_of(kind), address),
            Token::Semicolon => import = false,
            Token::Function(name) if name.eq_ignore_ascii_case("url") => {
                let _ = parser.parse_nested_block(|inner| {
                    if let Ok(address) = inner.expect_string() {
                        let kind = if import { LinkKind::Style } else { kind };
                        let element = if import { "@import" } else { element_of(kind) };
                        let (element, address) = (element.to_owned(), address.to_string());
                        found.push(Link { kind, element, address, line });
                    }
                    Ok::<(), cssparser::ParseError<'_, ()>>(())
                });
                import = false;
            }
            Token::CurlyBracketBlock
            | Token::ParenthesisBlock
            | Token::SquareBracketBlock
            | Token::Function(_)
                if depth < limits::CSS_DEPTH =>
            {
                let _ = parser.parse_nested_block(|inner| {
                    walk(inner, block, depth + 1, found);
                    Ok::<(), cssparser::ParseError<'_, ()>>(())
                });
                block = inside;
            }
            _ => {}
        }
    }
}

fn element_of(kind: LinkKind) -> &'static str {
    if kind == LinkKind::Font { "@font-face url()" } else { "url()" }
}
