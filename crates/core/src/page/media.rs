//! Media queries (Media Queries Level 4) and lengths, for one stated viewport.
//!
//! Which picture of several a browser fetches, and whether a style sheet applies, depends on the
//! screen. Everything here is answered for the same one: [`WIDTH`] by [`HEIGHT`] CSS pixels at one
//! device pixel each, with a mouse, in colour, light.

use cssparser::{ParseError, Parser, ParserInput, Token};

/// Width of the viewport in CSS pixels.
pub const WIDTH: f32 = 1280.0;
/// Height of the viewport in CSS pixels.
pub const HEIGHT: f32 = 800.0;
/// CSS pixels of a font whose size nobody has set.
const EM: f32 = 16.0;

type Parsed<'i, T> = Result<T, ParseError<'i, ()>>;

/// Whether a list of media queries applies. One that cannot be read does not.
pub fn applies(queries: &str) -> bool {
    let mut input = ParserInput::new(queries);
    applies_to(&mut Parser::new(&mut input))
}

/// Reads the rest of a prelude as a list of media queries; an empty one applies.
pub(super) fn applies_to(parser: &mut Parser<'_, '_>) -> bool {
    if parser.is_exhausted() {
        return true;
    }
    let each = parser.parse_comma_separated(|query| {
        let held: Parsed<'_, bool> = query.try_parse(self::query);
        // A query that cannot be read counts as `not all`; the others of its list still count.
        while query.next_including_whitespace().is_ok() {}
        Ok::<bool, ParseError<'_, ()>>(held.unwrap_or(false))
    });
    each.is_ok_and(|each| each.contains(&true))
}

fn query<'i>(parser: &mut Parser<'i, '_>) -> Parsed<'i, bool> {
    let start = parser.state();
    let first = parser.try_parse(|parser| parser.expect_ident_cloned()).ok();
    let Some(first) = first else {
        let held = condition(parser, 0)?;
        parser.expect_exhausted()?;
        return Ok(held == Some(true));
    };
    let (negated, media) = match &first {
        word if word.eq_ignore_ascii_case("not") || word.eq_ignore_ascii_case("only") => {
            match parser.try_parse(|parser| parser.expect_ident_cloned()) {
                Ok(media) => (word.eq_ignore_ascii_case("not"), media),
                Err(_) => {
                    parser.reset(&start);
                    let held = condition(parser, 0)?;
                    parser.expect_exhausted()?;
                    return Ok(held == Some(true));
                }
            }
        }
        word => (false, word.clone()),
    };
    let reserved = ["not", "only", "and", "or", "layer"];
    if reserved.iter().any(|word| media.eq_ignore_ascii_case(word)) {
        return Err(parser.new_custom_error(()));
    }
    let mut held = Some(media.eq_ignore_ascii_case("all") || media.eq_ignore_ascii_case("screen"));
    if parser.try_parse(|parser| parser.expect_ident_matching("and")).is_ok() {
        let rest = condition(parser, 0)?;
        held = and(held, rest);
    }
    parser.expect_exhausted()?;
    Ok(if negated { held == Some(false) } else { held == Some(true) })
}

fn and(a: Option<bool>, b: Option<bool>) -> Option<bool> {
    match (a, b) {
        (Some(false), _) | (_, Some(false)) => Some(false),
        (Some(true), Some(true)) => Some(true),
        _ => None,
    }
}

/// What holds in brackets, joined by `and` or `or`; `None` is what no browser knows.
fn condition<'i>(parser: &mut Parser<'i, '_>, depth: usize) -> Parsed<'i, Option<bool>> {
    if depth > 16 {
        return Err(parser.new_custom_error(()));
    }
    if parser.try_parse(|parser| parser.expect_ident_matching("not")).is_ok() {
        return Ok(in_brackets(parser, depth)?.map(|held| !held));
    }
    let mut held = in_brackets(parser, depth)?;
    loop {
        if parser.try_parse(|parser| parser.expect_ident_matching("and")).is_ok() {
            held = and(held, in_brackets(parser, depth)?);
        } else if parser.try_parse(|parser| parser.expect_ident_matching("or")).is_ok() {
            let other = in_brackets(parser, depth)?;
            held = and(held.map(|held| !held), other.map(|held| !held)).map(|held| !held);
        } else {
            return Ok(held);
        }
    }
}

fn in_brackets<'i>(parser: &mut Parser<'i, '_>, depth: usize) -> Parsed<'i, Option<bool>> {
    match parser.next()?.clone() {
        Token::ParenthesisBlock => {}
        Token::Function(_) => {
            parser.parse_nested_block(|inner| {
                while inner.next().is_ok() {}
                Ok(())
            })?;
            return Ok(None);
        }
        _ => return Err(parser.new_custom_error(())),
    }
    parser.parse_nested_block(|inner| {
        if let Ok(held) = inner.try_parse(|inner| {
            let held = condition(inner, depth + 1)?;
            inner.expect_exhausted()?;
            Ok::<_, ParseError<'_, ()>>(held)
        }) {
            return Ok(held);
        }
        let held = inner.try_parse(feature).unwrap_or(None);
        while inner.next().is_ok() {}
        Ok(held)
    })
}

/// `width: 3px`, `min-width: 3px`, `width >= 3px`, `3px < width <= 4px`, `hover`.
fn feature<'i>(parser: &mut Parser<'i, '_>) -> Parsed<'i, Option<bool>> {
    if let Ok(name) = parser.try_parse(|parser| parser.expect_ident_cloned()) {
        let name = name.to_ascii_lowercase();
        if parser.is_exhausted() {
            return Ok(boolean(&name));
        }
        if parser.try_parse(|parser| parser.expect_colon()).is_ok() {
            return with_value(parser, &name);
        }
        let less = comparison(parser)?;
        let bound = value(parser)?;
        parser.expect_exhausted()?;
        return Ok(measure(&name).map(|is| less.holds(is, bound)));
    }
    let low = value(parser)?;
    let first = comparison(parser)?;
    let name = parser.expect_ident_cloned()?.to_ascii_lowercase();
    let Some(is) = measure(&name) else { return Ok(None) };
    let mut held = first.holds(low, is);
    if !parser.is_exhausted() {
        let second = comparison(parser)?;
        held &= second.holds(is, value(parser)?);
    }
    parser.expect_exhausted()?;
    Ok(Some(held))
}

fn with_value<'i>(parser: &mut Parser<'i, '_>, name: &str) -> Parsed<'i, Option<bool>> {
    if let Ok(word) = parser.try_parse(|parser| parser.expect_ident_cloned()) {
        parser.expect_exhausted()?;
        return Ok(keyword(name).map(|is| is.contains(&word.to_ascii_lowercase().as_str())));
    }
    let bound = value(parser)?;
    parser.expect_exhausted()?;
    let (name, order) = match (name.strip_prefix("min-"), name.strip_prefix("max-")) {
        (Some(name), _) => (name, Order::AtLeast),
        (_, Some(name)) => (name, Order::AtMost),
        _ => match (
            name.strip_prefix("-webkit-min-").filter(|name| name.ends_with("ratio")),
            name.strip_prefix("-webkit-max-").filter(|name| name.ends_with("ratio")),
        ) {
            (Some(name), _) => (name, Order::AtLeast),
            (_, Some(name)) => (name, Order::AtMost),
            _ => (name, Order::Equal),
        },
    };
    Ok(measure(name).map(|is| order.holds(is, bound)))
}

#[derive(Clone, Copy)]
enum Order {
    Less,
    AtMost,
    Equal,
    AtLeast,
    More,
}

impl Order {
    fn holds(self, left: f32, right: f32) -> bool {
        match self {
            Order::Less => left < right,
            Order::AtMost => left <= right,
            Order::Equal => (left - right).abs() < 0.001,
            Order::AtLeast => left >= right,
            Order::More => left > right,
        }
    }
}

fn comparison<'i>(parser: &mut Parser<'i, '_>) -> Parsed<'i, Order> {
    let first = parser.next()?.clone();
    let equal = parser
        .try_parse(|parser| match parser.next_including_whitespace()? {
            Token::Delim('=') => Ok(()),
            _ => Err(parser.new_custom_error::<(), ()>(())),
        })
        .is_ok();
    match (first, equal) {
        (Token::Delim('<'), false) => Ok(Order::Less),
        (Token::Delim('<'), true) => Ok(Order::AtMost),
        (Token::Delim('>'), false) => Ok(Order::More),
        (Token::Delim('>'), true) => Ok(Order::AtLeast),
        (Token::Delim('='), false) => Ok(Order::Equal),
        _ => Err(parser.new_custom_error(())),
    }
}

fn boolean(name: &str) -> Option<bool> {
    if let Some(is) = keyword(name) {
        return Some(!matches!(is.first(), Some(&"none" | &"no-preference")));
    }
    measure(name).map(|is| is != 0.0)
}

/// What this browser says of features whose values are words.
fn keyword(name: &str) -> Option<&'static [&'static str]> {
    Some(match name {
        "orientation" => &["landscape"],
        "hover" | "any-hover" => &["hover"],
        "pointer" | "any-pointer" => &["fine"],
        "prefers-color-scheme" => &["light"],
        "prefers-reduced-motion" | "prefers-contrast" | "prefers-reduced-transparency" => {
            &["no-preference"]
        }
        "prefers-reduced-data" => return None,
        "forced-colors" | "inverted-colors" => &["none"],
        "scripting" => &["enabled"],
        "update" => &["fast"],
        "overflow-block" | "overflow-inline" => &["scroll"],
        "display-mode" => &["browser"],
        "color-gamut" => &["srgb"],
        "dynamic-range" | "video-dynamic-range" => &["standard"],
        "scan" => &["progressive"],
        _ => return None,
    })
}

/// What this browser says of features whose values are numbers.
fn measure(name: &str) -> Option<f32> {
    Some(match name {
        "width" | "device-width" => WIDTH,
        "height" | "device-height" => HEIGHT,
        "aspect-ratio" | "device-aspect-ratio" => WIDTH / HEIGHT,
        "resolution" | "device-pixel-ratio" | "-webkit-device-pixel-ratio" => 1.0,
        "color" => 8.0,
        "color-index" | "monochrome" | "grid" => 0.0,
        _ => return None,
    })
}

/// A number, a length, a resolution, or a ratio.
fn value<'i>(parser: &mut Parser<'i, '_>) -> Parsed<'i, f32> {
    let first = length(parser)?;
    if parser.try_parse(|parser| parser.expect_delim('/')).is_ok() {
        return Ok(first / length(parser)?);
    }
    Ok(first)
}

/// A length in CSS pixels, a resolution in device pixels to a CSS pixel, or a bare number.
pub(super) fn length<'i>(parser: &mut Parser<'i, '_>) -> Parsed<'i, f32> {
    match parser.next()?.clone() {
        Token::Number { value, .. } => Ok(value),
        Token::Dimension { value, unit, .. } => {
            let unit = unit.to_ascii_lowercase();
            let each = match unit.as_str() {
                "px" | "x" | "dppx" => 1.0,
                "em" | "rem" => EM,
                "ex" | "ch" | "rex" | "rch" => EM / 2.0,
                "vw" | "vi" | "svw" | "lvw" | "dvw" => WIDTH / 100.0,
                "vh" | "vb" | "svh" | "lvh" | "dvh" => HEIGHT / 100.0,
                "vmin" => HEIGHT / 100.0,
                "vmax" => WIDTH / 100.0,
                "cm" => 96.0 / 2.54,
                "mm" => 9.6 / 2.54,
                "q" => 2.4 / 2.54,
                "in" => 96.0,
                "pt" => 96.0 / 72.0,
                "pc" => 16.0,
                "dpi" => 1.0 / 96.0,
                "dpcm" => 2.54 / 96.0,
                _ => return Err(parser.new_custom_error(())),
            };
            Ok(value * each)
        }
        Token::Function(name) => {
            let name = name.to_ascii_lowercase();
            parser.parse_nested_block(|inner| {
                let parts = inner.parse_comma_separated(|part| sum(part, 0))?;
                let least = parts.iter().copied().fold(f32::INFINITY, f32::min);
                let most = parts.iter().copied().fold(f32::NEG_INFINITY, f32::max);
                match (name.as_str(), parts.as_slice()) {
                    ("calc" | "-webkit-calc", [one]) => Ok(*one),
                    ("min", _) => Ok(least),
                    ("max", _) => Ok(most),
                    ("clamp", [low, wanted, high]) => Ok(wanted.min(*high).max(*low)),
                    _ => Err(inner.new_custom_error(())),
                }
            })
        }
        _ => Err(parser.new_custom_error(())),
    }
}

fn sum<'i>(parser: &mut Parser<'i, '_>, depth: usize) -> Parsed<'i, f32> {
    let mut total = product(parser, depth)?;
    while !parser.is_exhausted() {
        match parser.next()?.clone() {
            Token::Delim('+') => total += product(parser, depth)?,
            Token::Delim('-') => total -= product(parser, depth)?,
            _ => return Err(parser.new_custom_error(())),
        }
    }
    Ok(total)
}

fn product<'i>(parser: &mut Parser<'i, '_>, depth: usize) -> Parsed<'i, f32> {
    let mut total = factor(parser, depth)?;
    loop {
        if parser.try_parse(|parser| parser.expect_delim('*')).is_ok() {
            total *= factor(parser, depth)?;
        } else if parser.try_parse(|parser| parser.expect_delim('/')).is_ok() {
            total /= factor(parser, depth)?;
        } else {
            return Ok(total);
        }
    }
}

fn factor<'i>(parser: &mut Parser<'i, '_>, depth: usize) -> Parsed<'i, f32> {
    if depth < 16 && parser.try_parse(|parser| parser.expect_parenthesis_block()).is_ok() {
        return parser.parse_nested_block(|inner| sum(inner, depth + 1));
    }
    length(parser)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn queries_are_answered_for_the_stated_viewport() {
        for applies_here in [
            "",
            "all",
            "screen",
            "only screen and (min-width: 600px)",
            "(max-width: 80em)",
            "print, (orientation: landscape)",
            "not print",
            "(width >= 1280px)",
            "(600px < width <= 1280px)",
            "(min-resolution: 1dppx) and (hover)",
            "not (max-width: 600px)",
            "(prefers-color-scheme: light)",
            "(min-width: 1px) and ((orientation: portrait) or (min-height: 10em))",
            "(min-aspect-ratio: 16/10)",
            "(-webkit-min-device-pixel-ratio: 1)",
        ] {
            assert!(applies(applies_here), "{applies_here}");
        }
        for other in [
            "print",
            "(max-width: 600px)",
            "(prefers-color-scheme: dark)",
            "(min-resolution: 2dppx)",
            "not all",
            "(unknown: 3)",
            "not (unknown: 3)",
            "and",
            "screen and",
            "(prefers-reduced-motion)",
            "only screen and (-webkit-min-device-pixel-ratio: 1.5)",
        ] {
            assert!(!applies(other), "{other}");
        }
    }

    #[test]
    fn lengths_of_every_kind_come_to_pixels() {
        let px = |text: &str| {
            let mut input = ParserInput::new(text);
            length(&mut Parser::new(&mut input)).ok()
        };
        assert_eq!(px("50vw"), Some(640.0));
        assert_eq!(px("calc(100vw - 2 * (10px + 1em))"), Some(1228.0));
        assert_eq!(px("min(100vw, 700px)"), Some(700.0));
        assert_eq!(px("clamp(100px, 50vw, 500px)"), Some(500.0));
        assert_eq!(px("10parsecs"), None);
    }
}
