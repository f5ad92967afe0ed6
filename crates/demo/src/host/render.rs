//! The pages of the sample site, made from its database, templates and settings.

use super::HostOptions;
use super::php::Php;
use crate::database::{Database, Failure, Place};
use crate::faults::{DAMAGED, html_of};
use fernweh_core::settings::{self, Role};
use std::path::Path;

/// What goes back to the visitor.
pub(super) struct Answer {
    pub status: u16,
    pub media_type: String,
    pub location: Option<String>,
    pub body: Vec<u8>,
}

impl Answer {
    pub fn text(status: u16, text: &str) -> Self {
        let media_type = "text/plain; charset=utf-8".into();
        Self { status, media_type, location: None, body: text.as_bytes().to_vec() }
    }

    pub fn redirect(status: u16, location: &str) -> Self {
        Self { location: Some(location.into()), ..Self::text(status, "") }
    }

    fn of(media_type: &str, body: impl Into<Vec<u8>>) -> Self {
        let media_type = media_type.into();
        Self { status: 200, media_type, location: None, body: body.into() }
    }
}

const PAGE: u64 = 25;

/// What a program prints that does not find one of its files.
const ERROR: &str = "<p>Warning: include(): Failed opening 'night.inc' for inclusion in \
    /srv/www/glimmer/night.php on line 7</p>";
/// A page whose own policy forbids its picture.
const STRICT: &str = "<!doctype html><meta http-equiv=\"Content-Security-Policy\" \
    content=\"img-src 'none'\"><title>Strict</title><p>No pictures here.</p><img src=\"/icon.png\">";
/// A page that search engines are asked not to list.
const HIDDEN: &str = "<!doctype html><meta name=\"robots\" content=\"noindex\">\
    <title>Draft</title><p>A report that is not finished yet.</p>";

/// A page whose title is the one that an editor has put there.
const UNTITLED: &str = "<!doctype html><title>Untitled document</title>\
    <p>The winter programme is not printed yet.</p><img src=\"/go/poster.png\" alt=\"A poster\">";
/// Bytes of a picture as it comes from a camera.
const POSTER: usize = 3_400_000;

struct Site<'a> {
    root: &'a Path,
    database: Database,
    home: String,
    options: Php,
}

/// Renders one page.
pub(super) fn page(host: &HostOptions, path: &str, query: &str) -> Result<Answer, Failure> {
    let redirect = |to: &str| Ok(Answer::redirect(302, to));
    match path {
        "/go/first" => return redirect("/go/second"),
        "/go/second" => return redirect("/go/third"),
        "/go/third" => return redirect("/articles"),
        "/go/round" => return redirect("/go/round-again"),
        "/go/round-again" => return redirect("/go/round"),
        "/go/plain" => return redirect(&format!("http://{}/articles", host.host)),
        "/go/before" => return redirect("http://glimmerpoint.example/visit"),
        "/go/inside" => return redirect("/go/door"),
        "/logout" => return Ok(Answer::text(200, "Logged out.")),
        _ => {}
    }
    if !host.root.join("templates").is_dir() {
        return Ok(Answer::text(503, "There is no site here yet."));
    }
    if let Some(answer) = file(&host.root, path)? {
        return Ok(answer);
    }
    let mut site = open(host)?;
    let number = query.split('&').find_map(|pair| pair.strip_prefix("page="));
    let number = number.and_then(|text| text.parse().ok()).unwrap_or(1);
    match path.trim_end_matches('/') {
        "" => site.front(),
        "/articles" => site.articles(number),
        "/pictures" => site.pictures(),
        "/members" => site.members(),
        "/about" => site.about(),
        "/visit" => site.wrapped("Visit us", "<p>Every clear Friday, from dusk.</p>"),
        "/go/door" => site.wrapped("Members only", "<form><input type=\"password\"></form>"),
        "/go/error" => site.wrapped("Tonight", ERROR),
        "/go/strict" => Ok(Answer::of("text/html; charset=utf-8", STRICT)),
        "/go/hidden" => Ok(Answer::of("text/html; charset=utf-8", HIDDEN)),
        "/go/untitled" => Ok(Answer::of("text/html; charset=utf-8", UNTITLED)),
        "/go/poster.png" => Ok(Answer::of("image/png", vec![0; POSTER])),
        "/go/nothing" => Ok(Answer::of("text/html; charset=utf-8", "")),
        "/go/lost" => Ok(Answer { status: 200, ..site.missing()? }),
        "/feed.xml" => site.feed(),
        "/sitemap.xml" => site.sitemap(),
        other => match other.strip_prefix("/article/") {
            Some(slug) => site.article(slug),
            None => site.missing(),
        },
    }
}

fn file(root: &Path, path: &str) -> Result<Option<Answer>, Failure> {
    let decoded = percent_decoded(path);
    let parts: Vec<&str> = decoded.split('/').filter(|part| !part.is_empty()).collect();
    let public =
        ["styles", "scripts", "pictures", "downloads", "robots.txt", "icon.png", ".well-known"];
    let open = parts.first().is_some_and(|first| public.contains(first)) && !parts.contains(&"..");
    let full = parts.iter().fold(root.to_owned(), |path, part| path.join(part));
    if !open || !full.is_file() {
        return Ok(None);
    }
    let kind = match full.extension().and_then(|ending| ending.to_str()) {
        Some("css") => "text/css",
        Some("js") => "text/javascript",
        Some("png") => "image/png",
        Some("html") => "text/html; charset=utf-8",
        Some("txt") => "text/plain; charset=utf-8",
        _ => "application/octet-stream",
    };
    Ok(Some(Answer::of(kind, std::fs::read(full)?)))
}

fn percent_decoded(path: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = path.as_bytes();
    while let Some((&first, after)) = rest.split_first() {
        rest = after;
        let digits = after.get(..2).and_then(|pair| std::str::from_utf8(pair).ok());
        match digits.and_then(|pair| u8::from_str_radix(pair, 16).ok()) {
            Some(byte) if first == b'%' => {
                bytes.push(byte);
                rest = &after[2..];
            }
            _ => bytes.push(first),
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

fn open(host: &HostOptions) -> Result<Site<'_>, Failure> {
    let text = std::fs::read(host.root.join("config/site.php"))?;
    let found = settings::find(&text);
    let found = found.first().ok_or("the settings file names no database")?;
    let value = |role| found.value(role).unwrap_or_default().to_owned();
    let place = if value(Role::File).is_empty() {
        let host = value(Role::Host);
        let port = host.split_once(':').and_then(|(_, port)| port.parse().ok()).unwrap_or(3306);
        let (user, password, name) = (value(Role::User), value(Role::Password), value(Role::Name));
        match value(Role::Engine).as_str() {
            "postgres" => Place::Postgres { port, user, password, name },
            _ => Place::Mariadb { port, user, password, name },
        }
    } else {
        Place::Sqlite(host.root.join(value(Role::File)))
    };
    let mut database = Database::open(&place)?;
    let mut setting = |name: &str| -> Result<String, Failure> {
        let rows = database.ask(&format!("SELECT value FROM gp_settings WHERE name = '{name}'"))?;
        let value = rows.into_iter().next().and_then(|row| row.into_iter().next()).flatten();
        value.ok_or_else(|| format!("the setting {name} is not there").into())
    };
    let options =
        Php::read(&setting("site_options")?).ok_or("the setting site_options is damaged")?;
    let home = setting("home")?;
    Ok(Site { root: &host.root, database, home, options })
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}

impl Site<'_> {
    fn template(&self, name: &str, fields: &[(&str, &str)]) -> Result<String, Failure> {
        let mut text = std::fs::read_to_string(self.root.join("templates").join(name))?;
        for (field, value) in fields {
            text = text.replace(&format!("{{{{{field}}}}}"), value);
        }
        Ok(text)
    }

    fn option(&self, name: &str) -> String {
        escaped(self.options.get(name).and_then(Php::text).unwrap_or_default())
    }

    fn ask(&mut self, sql: &str) -> Result<Vec<Vec<String>>, Failure> {
        let rows = self.database.ask(sql)?;
        Ok(rows
            .into_iter()
            .map(|row| row.into_iter().map(Option::unwrap_or_default).collect())
            .collect())
    }

    fn wrapped(&mut self, title: &str, body: &str) -> Result<Answer, Failure> {
        let menu = self.ask("SELECT value FROM gp_settings WHERE name = 'menu'")?;
        let menu = menu.first().and_then(|row| Php::read(&row[0]));
        let Some(Php::List(items)) = menu else {
            return Err("the setting menu is damaged".into());
        };
        let links = items.iter().map(|(_, item)| {
            let text = |key| escaped(item.get(key).and_then(Php::text).unwrap_or_default());
            format!("<a href=\"{}\">{}</a>", text("url"), text("label"))
        });
        let menu: String = links.collect();
        let (site, motto) = (self.option("title"), self.option("motto"));
        let fields =
            [("title", title), ("site", &site), ("menu", &menu), ("motto", &motto), ("body", body)];
        let page = self.template("page.html", &fields)?;
        Ok(Answer::of("text/html; charset=utf-8", page))
    }

    fn items(&mut self, sql: &str) -> Result<String, Failure> {
        let rows = self.ask(sql)?;
        let item = |row: &Vec<String>| {
            format!("<li><a href=\"/article/{}\">{}</a></li>\n", row[0], escaped(&row[1]))
        };
        Ok(rows.iter().map(item).collect())
    }

    fn front(&mut self) -> Result<Answer, Failure> {
        let items = self.items("SELECT slug, title FROM gp_articles ORDER BY id LIMIT 12")?;
        let pager = "<a href=\"/articles\">All reports</a>";
        let body = self.template("list.html", &[("items", &items), ("pager", pager)])?;
        let title = self.option("title");
        self.wrapped(&title, &body)
    }

    fn articles(&mut self, page: u64) -> Result<Answer, Failure> {
        let count = self.ask("SELECT count(*) FROM gp_articles")?[0][0].parse::<u64>()?;
        let last = count.div_ceil(PAGE).max(1);
        let from = page.saturating_sub(1) * PAGE;
        let items = self.items(&format!(
            "SELECT slug, title FROM gp_articles ORDER BY id LIMIT {PAGE} OFFSET {from}"
        ))?;
        let link = |to: u64, label: &str| format!("<a href=\"/articles?page={to}\">{label}</a> ");
        let mut pager = String::new();
        if page > 1 {
            pager.push_str(&link(page - 1, "Newer"));
        }
        if page < last {
            pager.push_str(&link(page + 1, "Older"));
        }
        let body = self.template("list.html", &[("items", &items), ("pager", &pager)])?;
        self.wrapped("Reports", &body)
    }

    fn article(&mut self, slug: &str) -> Result<Answer, Failure> {
        let slug: String = slug.chars().filter(|ch| ch.is_alphanumeric() || *ch == '-').collect();
        let found = self.ask(&format!(
            "SELECT id, title, body, share FROM gp_articles WHERE slug = '{slug}'"
        ))?;
        let Some(article) = found.first() else { return self.missing() };
        let id = &article[0];
        let layouts = self.ask(&format!("SELECT layout FROM gp_blocks WHERE article_id = {id}"))?;
        let mut blocks = String::new();
        for layout in layouts {
            let layout: serde_json::Value = serde_json::from_str(&layout[0])?;
            blocks.push_str(layout["html"].as_str().unwrap_or_default());
            let image = escaped(layout["image"].as_str().unwrap_or_default());
            blocks.push_str(&format!("<img src=\"{image}\" alt=\"\">"));
            let state = layout["state"].as_str().filter(|state| !state.is_empty());
            if let Some(state) = state {
                let state = Php::read(state).ok_or("the state of a block is damaged")?;
                let link = escaped(state.get("link").and_then(Php::text).unwrap_or_default());
                blocks.push_str(&format!("<a href=\"{link}\">More</a>"));
            }
        }
        let comments = self.ask(&format!(
            "SELECT author, body FROM gp_comments WHERE article_id = {id} ORDER BY id"
        ))?;
        let comments: String = comments
            .iter()
            .map(|c| format!("<p>{}: {}</p>\n", escaped(&c[0]), escaped(&c[1])))
            .collect();
        let share = escaped(&article[3]);
        let fields = [
            ("body", article[2].as_str()),
            ("blocks", &blocks),
            ("share", &share),
            ("comments", &comments),
        ];
        let body = self.template("article.html", &fields)?;
        let title = escaped(&article[1]);
        self.wrapped(&title, &body)
    }

    fn pictures(&mut self) -> Result<Answer, Failure> {
        let rows = self.ask("SELECT path FROM gp_pictures ORDER BY id")?;
        let items: String =
            rows.iter().map(|row| format!("<img src=\"/{}\" alt=\"\">\n", row[0])).collect();
        let body = self.template("pictures.html", &[("items", &items)])?;
        self.wrapped("Pictures", &body)
    }

    fn members(&mut self) -> Result<Answer, Failure> {
        let rows = self.ask("SELECT id, name FROM gp_members ORDER BY id")?;
        let items: String = rows
            .iter()
            .map(|row| format!("<li id=\"m{}\">{}</li>\n", row[0], escaped(&row[1])))
            .collect();
        let body = self.template("members.html", &[("items", &items)])? + &html_of("/members");
        self.wrapped("Members", &body)
    }

    /// The sidebar's setting is damaged; the site shows its text all the same.
    fn about(&mut self) -> Result<Answer, Failure> {
        let rows = self.ask("SELECT value FROM gp_settings WHERE name = 'sidebar'")?;
        let stored = rows.first().map_or(DAMAGED, |row| row[0].as_str());
        let from = stored.find("<a").unwrap_or(0);
        let to = stored.find("</a>").map_or(stored.len(), |at| at + 4);
        let body = self.template("about.html", &[("sidebar", &stored[from..to])])?;
        self.wrapped("About us", &body)
    }

    fn feed(&mut self) -> Result<Answer, Failure> {
        let rows = self.ask("SELECT slug, title FROM gp_articles ORDER BY id DESC LIMIT 10")?;
        let home = self.home.clone();
        let items: String = rows
            .iter()
            .map(|row| {
                format!(
                    "<item><title>{}</title><link>{home}/article/{}</link></item>",
                    escaped(&row[1]),
                    row[0]
                )
            })
            .collect();
        let site = self.option("title");
        let fields = [("site", site.as_str()), ("home", &home), ("items", &items)];
        Ok(Answer::of("application/rss+xml", self.template("feed.xml", &fields)?))
    }

    fn sitemap(&mut self) -> Result<Answer, Failure> {
        let rows = self.ask("SELECT slug FROM gp_articles ORDER BY id LIMIT 1000")?;
        let home = self.home.clone();
        let urls: String = rows
            .iter()
            .map(|row| format!("<url><loc>{home}/article/{}</loc></url>\n", row[0]))
            .collect();
        let xml = format!(
            "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<urlset \
             xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">\n{urls}</urlset>\n"
        );
        Ok(Answer::of("application/xml", xml))
    }

    fn missing(&mut self) -> Result<Answer, Failure> {
        let body = self.template("missing.html", &[])?;
        let page = self.wrapped("Not here", &body)?;
        Ok(Answer { status: 404, ..page })
    }
}
