//! Pages made of parts at random: each seed gives the same pages again.

use crate::site::Case;

/// A generator of numbers (xorshift64*, Vigna 2016).
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33) as usize % sides
    }

    fn pick<'a>(&mut self, from: &[&'a str]) -> &'a str {
        from[self.roll(from.len())]
    }
}

/// So many pages.
pub fn pages(seed: u64, number: usize) -> Vec<Case> {
    (0..number as u64)
        .map(|page| {
            let mut dice = Dice((seed << 20 | (page + 1)).wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
            let mut markup = String::new();
            let mut counter = 0;
            if dice.roll(3) > 0 {
                markup.push_str("<!doctype html>");
            }
            if dice.roll(5) == 0 {
                markup.push_str(&format!(
                    "<base href=\"{}\">",
                    dice.pick(&["/r/", "deep/", "https://other.test/r/", "../r/"])
                ));
            }
            for _ in 0..1 + dice.roll(9) {
                part(&mut dice, &mut markup, &mut counter, 0);
            }
            let mut headers = Vec::new();
            if dice.roll(8) == 0 {
                headers
                    .push(("Content-Security-Policy".into(), "upgrade-insecure-requests".into()));
            }
            Case {
                name: format!("g{seed}-{page}"),
                headers,
                markup: markup.into_bytes(),
                ..Case::default()
            }
        })
        .collect()
}

fn address(dice: &mut Dice, counter: &mut usize, kind: &str) -> String {
    *counter += 1;
    let n = *counter;
    match dice.roll(9) {
        0 => format!("http://other.test/r/{n}.{kind}"),
        1 => format!("https://other.test/r/{n}.{kind}"),
        2 => format!("//other.test/r/{n}.{kind}"),
        3 => format!("/r/{n}.{kind}?a=1&amp;b={n}"),
        4 => format!("../r/./{n}.{kind}#f"),
        5 => format!(" {n}.{kind} "),
        6 => format!("&#{};{n}.{kind}", 97 + dice.roll(26)),
        _ => format!("{n}.{kind}"),
    }
}

fn attribute(dice: &mut Dice, name: &str, value: &str) -> String {
    let name = if dice.roll(6) == 0 { name.to_ascii_uppercase() } else { name.to_owned() };
    match dice.roll(3) {
        0 if !value.contains(['\'', ' ']) => format!("{name}='{value}'"),
        1 if !value.contains([' ', '"', '\'', '>', '=', '`']) => format!("{name}={value} "),
        _ => format!("{name}=\"{value}\""),
    }
}

fn part(dice: &mut Dice, out: &mut String, counter: &mut usize, depth: usize) {
    let mut simple = |dice: &mut Dice, tag: &str, name: &str, kind: &str, more: &str, end: &str| {
        let value = address(dice, counter, kind);
        let attribute = attribute(dice, name, &value);
        out.push_str(&format!("<{tag} {more}{attribute}>{end}"));
    };
    match dice.roll(26) {
        0 | 1 => simple(dice, "img", "src", "png", "", ""),
        2 => simple(dice, "script", "src", "js", "type=module ", "</script>"),
        3 => simple(dice, "link", "href", "css", "rel=stylesheet ", ""),
        4 => simple(dice, "iframe", "src", "html", "", "</iframe>"),
        5 => simple(dice, "a", "href", "html", "", "x</a>"),
        6 => simple(dice, "input", "src", "png", "type=image ", ""),
        7 => simple(dice, "audio", "src", "wav", "", "</audio>"),
        8 => simple(dice, "img", "data-src", "png", "", ""),
        9 => simple(dice, "link", "href", "css", "rel=stylesheet media=print ", ""),
        10 => simple(dice, "td", "background", "png", "", "</td>"),
        11 => {
            let (one, two, three) = (
                address(dice, counter, "png"),
                address(dice, counter, "png"),
                address(dice, counter, "png"),
            );
            let (one, two, three) = (one.trim(), two.trim(), three.trim());
            let set = match dice.roll(4) {
                0 => format!("{two} 1x, {three} 2x"),
                1 => format!("{two} 640w, {three} {}w", 900 + dice.roll(1500)),
                2 => format!("{two} 2x"),
                _ => format!("{two}, {three} 1.5x"),
            };
            out.push_str(&format!("<img src=\"{one}\" srcset=\"{set}\">"));
        }
        12 => {
            let (one, two) = (address(dice, counter, "png"), address(dice, counter, "png"));
            let two = two.trim().to_owned();
            let more = dice.pick(&[
                "",
                "media=\"(max-width: 900px)\"",
                "type=image/xyz",
                "media=print",
                "type=image/png",
                "media=\"(min-width: 900px)\"",
            ]);
            out.push_str(&format!(
                "<picture><source {more} srcset=\"{two}\"><img src=\"{one}\"></picture>"
            ));
        }
        13 => {
            let value = address(dice, counter, "png").trim().to_owned();
            out.push_str(&format!("<div style=\"background: url('{value}')\">x</div>"));
        }
        14 => {
            let value =
                address(dice, counter, "css").trim().replace("&amp;", "&").replace("&#", "");
            let media =
                dice.pick(&["", "print", "screen", "(min-width: 100px)", "(max-width: 100px)"]);
            out.push_str(&format!("<style>@import url(\"{value}\") {media};</style>"));
        }
        15 => out.push_str("<!-- <img src=commented.png> -->"),
        16 => out.push_str(dice.pick(&[
            "</p>",
            "<p>",
            "<b>",
            "</div>",
            "<div>text",
            "<br/>",
            "<![CDATA[x]]>",
            "</",
        ])),
        17 if depth < 3 => {
            let (open, close) = match dice.roll(7) {
                0 => ("<template>", "</template>"),
                1 => ("<noscript>", "</noscript>"),
                2 => ("<div>", "</div>"),
                3 => ("<table><tr><td>", "</td></tr></table>"),
                4 => ("<textarea>", "</textarea>"),
                5 => ("<ul><li>", "</ul>"),
                _ => ("<section><p>", "</section>"),
            };
            out.push_str(open);
            for _ in 0..1 + dice.roll(3) {
                part(dice, out, counter, depth + 1);
            }
            out.push_str(close);
        }
        18 => {
            let value = address(dice, counter, "png").trim().to_owned();
            out.push_str(&format!("<svg><image href=\"{value}\" width=9 height=9 /></svg>"));
        }
        19 => {
            let inner = address(dice, counter, "png").trim().replace('&', "&amp;");
            out.push_str(&format!("<iframe srcdoc=\"<img src='{inner}'>\"></iframe>"));
        }
        20 => {
            let value = address(dice, counter, "png").trim().to_owned();
            let target = dice.pick(&["image", "script", "style"]);
            out.push_str(&format!("<link rel=preload as={target} href=\"{value}\">"));
        }
        21 => {
            let (one, two) = (address(dice, counter, "wav"), address(dice, counter, "wav"));
            let kind = dice.pick(&["", "type=audio/wav", "type=video/xyz"]);
            out.push_str(&format!(
                "<video><source {kind} src=\"{one}\"><source src=\"{two}\"></video>"
            ));
        }
        22 => {
            let value = address(dice, counter, "js");
            let kind = dice.pick(&[
                "",
                "type=text/plain",
                "type=\"text/javascript\"",
                "async",
                "defer",
                "nomodule",
            ]);
            out.push_str(&format!("<script {kind} src=\"{value}\"></script>"));
        }
        23 => {
            let value = address(dice, counter, "svg");
            out.push_str(&format!("<object data=\"{value}\" type=\"image/svg+xml\"></object>"));
        }
        24 => {
            let value = address(dice, counter, "png");
            out.push_str(&format!("<video preload=none poster=\"{value}\"></video>"));
        }
        _ => out.push_str("text "),
    }
}
