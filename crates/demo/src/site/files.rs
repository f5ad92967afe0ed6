//! The files of the sample site: one of every difficulty.

use crate::OLD_URL;
use crate::database::{Failure, Place};
use crate::site::words::number;
use std::fs::{self, File, Permissions};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use std::time::{Duration, SystemTime};

/// Writes every file below `root`.
pub fn write(root: &Path, database: &Place) -> Result<(), Failure> {
    fs::create_dir_all(root)?;
    for (path, text) in texts() {
        put(root, path, text.as_bytes())?;
    }
    put(root, "config/site.php", settings(database).as_bytes())?;
    for n in 1..=36 {
        put(root, &format!("pictures/night-{n:02}.png"), &picture(n, 48)?)?;
    }
    put(root, "pictures/größe-des-mondes.png", &picture(77, 32)?)?;
    put(root, "icon.png", &picture(99, 16)?)?;
    symlink("night-07.png", root.join("pictures/latest.png"))?;
    let mut binary = vec![0, 1, 2, 0xFF];
    binary.extend_from_slice(b"http://glimmerpoint.example/star-map\0\0");
    binary.extend((0..4000u64).map(|n| number(n) as u8));
    put(root, "downloads/star-map.bin", &binary)?;
    fs::create_dir_all(root.join("uploads/incoming"))?;
    fs::set_permissions(root.join("bin/nightly.sh"), Permissions::from_mode(0o755))?;
    fs::set_permissions(root.join("config/site.php"), Permissions::from_mode(0o640))?;
    Ok(())
}

fn put(root: &Path, path: &str, content: &[u8]) -> Result<(), Failure> {
    let full = root.join(path);
    if let Some(folder) = full.parent() {
        fs::create_dir_all(folder)?;
    }
    fs::write(&full, content)?;
    // Times of long ago, with a fraction of a second, that must survive the journey.
    let seed = path.bytes().map(u64::from).sum::<u64>();
    let age = Duration::new(1_400_000_000 + seed * 1000, (seed as u32 * 7_919) % 1_000_000_000);
    File::options().write(true).open(&full)?.set_modified(SystemTime::UNIX_EPOCH + age)?;
    Ok(())
}

fn settings(database: &Place) -> String {
    let connection = match database {
        Place::Sqlite(_) => format!(
            "define('GP_DB_ENGINE', 'sqlite');\ndefine('GP_DB_FILE', '{}');\n",
            super::DATABASE_FILE
        ),
        Place::Mariadb { port, user, password, name }
        | Place::Postgres { port, user, password, name } => format!(
            "define('GP_DB_ENGINE', '{}');\ndefine('GP_DB_HOST', '127.0.0.1:{port}');\n\
             define('GP_DB_NAME', '{name}');\ndefine('GP_DB_USER', '{user}');\n\
             define('GP_DB_PASSWORD', '{password}');\n",
            if matches!(database, Place::Mariadb { .. }) { "mariadb" } else { "postgres" }
        ),
    };
    format!(
        "<?php\n// Settings of the Glimmer Point Observatory. Ask keeper@glimmerpoint.example.\n\n\
         // How the site reaches its database\n{connection}\n\
         define('GP_URL', '{OLD_URL}');\ndefine(\"GP_ROOT\", \"/home/keeper/htdocs\");\n\
         $gp_prefix = 'gp_';\n"
    )
}

fn texts() -> Vec<(&'static str, String)> {
    let page = format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
         <title>{{{{title}}}}</title>\n<link rel=\"icon\" href=\"/icon.png\">\n\
         <link rel=\"stylesheet\" href=\"{OLD_URL}/styles/main.css\">\n\
         <link rel=\"alternate\" type=\"application/rss+xml\" href=\"/feed.xml\">\n\
         <script src=\"{OLD_URL}/scripts/site.js\"></script>\n</head>\n<body>\n\
         <header><a href=\"{OLD_URL}/\">{{{{site}}}}</a> <nav>{{{{menu}}}}</nav></header>\n\
         <main>\n<h1>{{{{title}}}}</h1>\n{{{{body}}}}\n</main>\n\
         <footer>{{{{motto}}}} <a href=\"/logout\">Log out</a></footer>\n</body>\n</html>\n"
    );
    vec![
        ("index.php", "<?php\nrequire __DIR__ . '/config/site.php';\n// every page is rendered from templates/\n".into()),
        ("templates/page.html", page),
        ("templates/article.html", "{{body}}\n{{blocks}}\n<p><a href=\"{{share}}\">Share</a></p>\n<h2>Comments</h2>\n{{comments}}\n".into()),
        ("templates/list.html", "<ul class=\"list\">\n{{items}}\n</ul>\n<p>{{pager}}</p>\n".into()),
        ("templates/pictures.html", "<div class=\"pictures\">{{items}}</div>\n".into()),
        ("templates/members.html", "<ul>{{items}}</ul>\n".into()),
        ("templates/about.html", format!("<p>We keep a small dome above the bay. <a href=\"{OLD_URL}/pictures\">Pictures</a></p>\n{{{{sidebar}}}}\n")),
        ("templates/missing.html", "<p>This page is not here.</p>\n".into()),
        ("templates/feed.xml", "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<rss version=\"2.0\"><channel><title>{{site}}</title><link>{{home}}</link>{{items}}</channel></rss>\n".into()),
        ("templates/mail.txt", format!("Dear member,\r\nthe newest reports are at {OLD_URL}/articles\r\n")),
        ("styles/main.css", format!("@import \"night.css\";\n@import url({OLD_URL}/styles/theme.css);\nbody {{ font: 17px/1.6 Georgia, serif; max-width: 44em; margin: 2em auto; padding: 0 1em; }}\nnav a {{ margin-left: 1em; }}\n")),
        ("styles/theme.css", format!("header {{ background: url(\"{OLD_URL}/pictures/night-01.png\"); padding: 1em; }}\n.pictures {{ background: url(../pictures/night-02.png); }}\n.moon {{ background: url('../pictures/gr%C3%B6%C3%9Fe-des-mondes.png'); }}\n")),
        ("styles/night.css", "body { background: #10141f; color: #e6e3da; }\na { color: #9dbbe8; }\n".into()),
        ("styles/print.css", "@font-face { font-family: Stars; src: url(http://cdn.example/stars.woff2); }\nbody { background: url(http://cdn.example/paper.png); }\n".into()),
        ("styles/forms.css", "input { padding: .3em; }\n".into()),
        ("styles/wide.css", "@media (min-width: 90em) { body { max-width: 60em; } }\n".into()),
        ("scripts/site.js", format!("// glimmerpoint\nvar GP = {{\"home\":\"http:\\/\\/glimmerpoint.example\\/\",\"feed\":\"{OLD_URL}/feed.xml\"}};\n")),
        ("scripts/stars.js", "document.title += ' *';\n".into()),
        ("robots.txt", format!("User-agent: *\nDisallow: /login\nSitemap: {OLD_URL}/sitemap.xml\n")),
        (".htaccess", "RewriteEngine On\nRewriteCond %{HTTP_HOST} ^www\\.glimmerpoint\\.example$\nRewriteRule ^(.*)$ http://glimmerpoint.example/$1 [R=301,L]\nErrorDocument 404 /missing\n".into()),
        ("data/.htaccess", "Require all denied\n".into()),
        (".well-known/security.txt", format!("Contact: mailto:info@glimmerpoint.example\nCanonical: {OLD_URL}/.well-known/security.txt\n")),
        ("bin/nightly.sh", format!("#!/bin/sh\ncurl -s {OLD_URL}/tasks >/dev/null\n")),
        ("downloads/index.html", format!("<a href=\"{OLD_URL}/downloads/star-map.bin\">Star map</a>\n")),
        ("cache/front.html", format!("<a href=\"{OLD_URL}/\">cached</a>\n")),
        ("notes.log", "2004-01-01 first light\n".into()),
    ]
}

/// A small night sky.
fn picture(seed: u64, size: u32) -> Result<Vec<u8>, Failure> {
    let mut pixels = Vec::new();
    for y in 0..size {
        for x in 0..size {
            let star = number(seed * 10_007 + u64::from(y * size + x)).is_multiple_of(97);
            let glow = (y * 40 / size) as u8;
            pixels.extend_from_slice(&if star {
                [240, 236, 220]
            } else {
                [10, 14 + glow / 2, 30 + glow]
            });
        }
    }
    let mut bytes = Vec::new();
    let mut encoder = png::Encoder::new(&mut bytes, size, size);
    encoder.set_color(png::ColorType::Rgb);
    encoder.write_header()?.write_image_data(&pixels)?;
    Ok(bytes)
}
