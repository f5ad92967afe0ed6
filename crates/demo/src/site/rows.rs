//! The rows of the sample database, one after the other, so that any number can be made.

use super::ARTICLES;
use super::words::{OBJECTS, article_slug, chatter, number, paragraph, person, pick, title};
use super::{int, text};
use crate::OLD_URL;
use crate::database::Failure;
use crate::faults::{DAMAGED, html_of};
use fernweh_core::record::{Row, Value};

type Sink<'a> = &'a mut dyn FnMut(Row) -> Result<(), Failure>;

const SECTIONS: [&str; 6] =
    ["Nights", "Instruments", "Solar system", "Deep sky", "Members", "Weather"];

/// Gives every row of a table.
pub fn of_table(table: &str, articles: u64, sink: Sink<'_>) -> Result<(), Failure> {
    match table {
        "gp_sections" => sections(sink),
        "gp_articles" => (1..=articles).try_for_each(|id| sink(article(id, articles))),
        "gp_nights" => (1..=300).try_for_each(|id| sink(night(id))),
        "gp_objects" => (1..=160).try_for_each(|id| sink(object(id))),
        "gp_sightings" => (1..=600).try_for_each(|n| sink(sighting(n))),
        "gp_pictures" => (1..=36).try_for_each(|id| sink(picture(id))),
        "gp_members" => (1..=60).try_for_each(|id| sink(member(id))),
        "gp_comments" => (1..=300).try_for_each(|id| sink(comment(id, articles))),
        "gp_settings" => settings(sink),
        "gp_blocks" => (1..=40).try_for_each(|id| sink(block(id))),
        "gp_feeds" => (1..=5).try_for_each(|id| sink(feed(id))),
        "gp_guestbook" => (1..=20).try_for_each(|id| sink(guest(id))),
        _ => (1..=60).try_for_each(|n| sink(log(n))),
    }
}

fn sections(sink: Sink<'_>) -> Result<(), Failure> {
    for (n, name) in SECTIONS.iter().enumerate() {
        let slug = name.to_lowercase().replace(' ', "-");
        sink(vec![int(n as u64 + 1), text(*name), text(slug)])?;
    }
    Ok(())
}

fn article(id: u64, articles: u64) -> Row {
    let slug = article_slug(id);
    let other = article_slug(1 + number(id) % articles.min(400));
    let picture = 1 + number(id ^ 7) % 36;
    let mut body = format!(
        "<p>{}</p>\n<p><img src=\"{OLD_URL}/pictures/night-{picture:02}.png\" alt=\"A night\" \
         width=\"48\"></p>\n<p>{} See <a href=\"{OLD_URL}/article/{other}\">what came before</a>.</p>",
        paragraph(id),
        paragraph(id + 1),
    );
    if id == 7 {
        body.push_str(
            "\n<p>Our webcam is at http://glimmerpoint.example:8080/webcam, and in a pinch you can \
             type glimmerpoint.example into the address bar. Do not fall for \
             http://glimmerpoint.example.evil.test/, http://notglimmerpoint.example/ or \
             http://sub.glimmerpoint.example/. Write to info@glimmerpoint.example.</p>",
        );
    }
    if id.is_multiple_of(9) {
        body.push_str(
            "\n<p>Mirror: <img src='//glimmerpoint.example/pictures/latest.png' alt=''></p>",
        );
    }
    body.push_str(&html_of(&format!("/article/{slug}")));
    if id > ARTICLES {
        body.push_str(&format!("<p>{}</p>", chatter(id)));
    }
    let share = format!(
        "https://share.test/send?u=http%3A%2F%2Fglimmerpoint.example%2Farticle%2F{slug}&t={id}"
    );
    // Some teasers are missing, some are empty: two different things.
    let teaser = match id % 5 {
        0 => Value::Null,
        1 => text(""),
        _ => text(paragraph(id).chars().take(70).collect::<String>()),
    };
    vec![
        int(id),
        text(slug),
        text(title(id)),
        text(body),
        teaser,
        int(1 + id % 6),
        text(format!("20{:02}-{:02}-{:02}", 4 + id % 20, 1 + id % 12, 1 + id % 28)),
        text(share),
    ]
}

fn night(id: u64) -> Row {
    let notes = match id % 4 {
        0 => Value::Null,
        _ => text(format!("{}\nPictures: {OLD_URL}/pictures", paragraph(id * 11))),
    };
    vec![
        int(id),
        text(format!("20{:02}-{:02}-{:02}", 4 + id % 20, 1 + id % 12, 1 + id % 28)),
        text(["good", "fair", "poor"][(id % 3) as usize]),
        notes,
    ]
}

fn object(id: u64) -> Row {
    let magnitude = match id % 7 {
        0 => Value::Null,
        _ => Value::Number(format!("{}.{}", id % 14, number(id) % 100).into_bytes()),
    };
    let name = format!("{} {id}", pick(&OBJECTS, id).trim_start_matches("the "));
    vec![
        int(id),
        text(name),
        text(["star", "planet", "nebula", "galaxy"][(id % 4) as usize]),
        magnitude,
    ]
}

fn sighting(n: u64) -> Row {
    let (night, object) = (1 + (n - 1) / 2, 1 + (n * 53 + (n % 2) * 7) % 160);
    vec![int(night), int(object), int(1 + n % 5)]
}

fn picture(id: u64) -> Row {
    // A small binary head, so that the column is no text; one carries an address.
    let mut thumbnail = vec![0x89, b'P', 0xFF, 0x00, (id % 256) as u8, b'\'', b'\\', 0x1A, b'\n'];
    if id == 5 {
        thumbnail.extend_from_slice(b"\xFE http://glimmerpoint.example/thumb \xFE");
    }
    vec![
        int(id),
        int(id),
        text(format!("pictures/night-{id:02}.png")),
        text(format!("[b]Night {id}[/b] [url={OLD_URL}/article/{}]report[/url]", article_slug(id))),
        Value::Bytes(thumbnail),
    ]
}

fn member(id: u64) -> Row {
    let name = person(id * 17);
    let email = match id % 6 {
        0 => Value::Null,
        1 => text(""),
        2 => text("keeper@glimmerpoint.example"),
        _ => text(format!("member{id}@mail.test")),
    };
    let homepage = match id % 4 {
        0 => text(format!("{OLD_URL}/members#m{id}")),
        1 => text("http://notglimmerpoint.example/me"),
        _ => Value::Null,
    };
    vec![int(id), text(name), email, homepage, text(format!("$y$demo${:016x}", number(id)))]
}

fn comment(id: u64, articles: u64) -> Row {
    let body = match id % 10 {
        0 => format!("I saw it too: {OLD_URL}/article/{}", article_slug(1 + id % 12)),
        1 => "It's \"clear\" \\ over here; 100% — ☄️ and \u{1F52D}".into(),
        _ => paragraph(id * 5),
    };
    vec![int(id), int(1 + number(id * 3) % articles), text(person(id)), text(body)]
}

fn php(value: &str) -> String {
    format!("s:{}:\"{value}\";", value.len())
}

fn settings(sink: Sink<'_>) -> Result<(), Failure> {
    let widget =
        format!("a:1:{{s:4:\"html\";{}}}", php(&format!("<a href=\"{OLD_URL}/about\">About</a>")));
    let menu: String = [
        "Front page=/",
        "Reports=/articles",
        "Pictures=/pictures",
        "Members=/members",
        "About=/about",
    ]
    .iter()
    .enumerate()
    .map(|(n, item)| {
        let (label, path) = item.split_once('=').unwrap_or_default();
        format!(
            "i:{n};a:2:{{s:5:\"label\";{}s:3:\"url\";{}}}",
            php(label),
            php(&format!("{OLD_URL}{path}"))
        )
    })
    .collect();
    let options = format!(
        "a:8:{{s:5:\"title\";{}s:3:\"url\";{}s:7:\"founded\";i:-12;s:8:\"latitude\";d:54.321000000000005;\
         s:4:\"open\";b:1;s:5:\"motto\";{}s:7:\"nothing\";N;s:6:\"widget\";{}}}",
        php("Glimmer Point Observatory"),
        php(OLD_URL),
        php("Sehen, staunen, weitersagen – über dem Meer ☄"),
        php(&widget),
    );
    let object = format!(
        "O:8:\"GpWidget\":3:{{s:4:\"link\";{}s:9:\"\0*\0hidden\";{}s:12:\"\0GpWidget\0me\";r:1;}}",
        php(&format!("{OLD_URL}/article/counting-meteors")),
        php("//glimmerpoint.example/hidden"),
    );
    let json = serde_json::json!({
        "endpoint": format!("{OLD_URL}/feed.xml"),
        "nested": widget,
        "keys": { format!("{OLD_URL}/a"): 1 },
    });
    let list = [
        ("site_options", options),
        ("menu", format!("a:5:{{{menu}}}")),
        ("widget_object", object),
        ("sidebar", DAMAGED.into()),
        ("feed_json", json.to_string().replace('/', "\\/")),
        ("double", php(&php(&php(&format!("{OLD_URL}/deep"))))),
        ("tail", format!("N;{OLD_URL}/tail\n")),
        ("home", OLD_URL.into()),
        ("home_encoded", "http%3A%2F%2Fglimmerpoint.example%2F".into()),
        ("root", "/home/keeper/htdocs".into()),
    ];
    for (n, (name, value)) in list.into_iter().enumerate() {
        sink(vec![int(n as u64 + 1), text(name), text(value)])?;
    }
    for n in 11..=30 {
        sink(vec![int(n), text(format!("option_{n}")), text(format!("i:{};", number(n) % 1000))])?;
    }
    Ok(())
}

/// Page-builder data: JSON with escaped slashes, some of it holding serialized text.
fn block(id: u64) -> Row {
    let inner =
        format!("a:2:{{s:4:\"link\";{}s:4:\"size\";i:{id};}}", php(&format!("{OLD_URL}/pictures")));
    let layout = serde_json::json!({
        "kind": "columns",
        "html": format!("<p>Ünder the dome: <a href=\"{OLD_URL}/article/{}\">report</a></p>", article_slug(id)),
        "image": format!("{OLD_URL}/pictures/night-{:02}.png", 1 + id % 36),
        "state": if id.is_multiple_of(2) { inner } else { String::new() },
    });
    vec![int(id), int(id), text(layout.to_string().replace('/', "\\/"))]
}

fn feed(id: u64) -> Row {
    let source = format!(
        "&lt;item&gt;&lt;link&gt;http:&#47;&#47;glimmerpoint.example&#47;article&#47;{}&lt;/link&gt;\
         &lt;guid&gt;{OLD_URL}/?p={id}&amp;amp;x=1&lt;/guid&gt;&lt;/item&gt;",
        article_slug(id)
    );
    vec![int(id), text(format!("Feed {id}")), text(source)]
}

/// Letters of latin1, and lengths that count their UTF-8 bytes.
fn guest(id: u64) -> Row {
    let entry = match id % 4 {
        0 => format!(
            "a:2:{{s:6:\"grüß\";{}s:3:\"url\";{}}}",
            php("Schöne Nächte"),
            php(&format!("{OLD_URL}/gästebuch"))
        ),
        1 => format!("Très joli, à bientôt: {OLD_URL}/pictures"),
        _ => "Für die schöne Nacht: merci à vous tous.".into(),
    };
    vec![
        int(id),
        text(["Käthe Größing", "André Île", "Bo Ångmark"][(id % 3) as usize]),
        text(entry),
    ]
}

fn log(n: u64) -> Row {
    let line = match n % 6 {
        0 => text(format!("GET {OLD_URL}/articles?page={n}")),
        1 => Value::Null,
        _ => text("dome closed"),
    };
    vec![text(format!("20{:02}-01-01", 10 + n % 14)), line]
}
