//! The structure of the sample database, for every engine.

use fernweh_core::sql::Dialect;

/// The tables with their columns, in the order in which they are filled.
pub const COLUMNS: [(&str, &[&str]); 13] = [
    ("gp_sections", &["id", "name", "slug"]),
    ("gp_articles", &["id", "slug", "title", "body", "teaser", "section_id", "published", "share"]),
    ("gp_nights", &["id", "held_on", "seeing", "notes"]),
    ("gp_objects", &["id", "name", "kind", "magnitude"]),
    ("gp_sightings", &["night_id", "object_id", "rating"]),
    ("gp_pictures", &["id", "article_id", "path", "caption", "thumbnail"]),
    ("gp_members", &["id", "name", "email", "homepage", "secret"]),
    ("gp_comments", &["id", "article_id", "author", "body"]),
    ("gp_settings", &["id", "name", "value"]),
    ("gp_blocks", &["id", "article_id", "layout"]),
    ("gp_feeds", &["id", "title", "source"]),
    ("gp_guestbook", &["id", "name", "entry"]),
    ("gp_log", &["at", "line"]),
];

/// What is needed before rows.
pub fn structure(dialect: Dialect) -> Vec<String> {
    let lines = [
        "gp_sections (id KEY, name SHORT NOT NULL, slug SHORT NOT NULL)",
        "gp_articles (id KEY, slug SHORT NOT NULL, title SHORT NOT NULL, body LONG NOT NULL, \
         teaser LONG, section_id INT NOT NULL, published SHORT NOT NULL, share LONG, \
         UNIQUE (slug)FK(section_id>gp_sections))",
        "gp_nights (id KEY, held_on SHORT NOT NULL, seeing SHORT, notes LONG)",
        "gp_objects (id KEY, name SHORT NOT NULL, kind SHORT, magnitude DOUBLE)",
        "gp_sightings (night_id INT NOT NULL, object_id INT NOT NULL, rating INT, \
         PRIMARY KEY (night_id, object_id)FK(night_id>gp_nights)FK(object_id>gp_objects))",
        "gp_pictures (id KEY, article_id INT, path SHORT NOT NULL, caption LONG, \
         thumbnail BYTES FK(article_id>gp_articles))",
        "gp_members (id KEY, name SHORT NOT NULL, email SHORT, homepage SHORT, secret SHORT)",
        "gp_comments (id KEY, article_id INT NOT NULL, author SHORT, body LONG \
         FK(article_id>gp_articles))",
        "gp_settings (id KEY, name SHORT NOT NULL, value LONG, UNIQUE (name))",
        "gp_blocks (id KEY, article_id INT NOT NULL, layout LONG NOT NULL)",
        "gp_feeds (id KEY, title SHORT, source LONG)",
        "gp_guestbook (id KEY, name LATIN, entry LATIN)",
        "gp_log (at SHORT, line LONG)",
    ];
    lines.iter().map(|line| create(dialect, line)).collect()
}

fn create(dialect: Dialect, line: &str) -> String {
    let mut sql = format!("CREATE TABLE {line}");
    let kinds = match dialect {
        Dialect::Sqlite => [
            (" KEY,", " INTEGER PRIMARY KEY AUTOINCREMENT,"),
            (" SHORT", " TEXT"),
            (" LONG", " TEXT"),
            (" LATIN", " TEXT"),
            (" BYTES", " BLOB"),
            (" DOUBLE", " REAL"),
        ],
        Dialect::Mariadb => [
            (" KEY,", " int NOT NULL AUTO_INCREMENT PRIMARY KEY,"),
            (" SHORT", " varchar(190)"),
            (" LONG", " longtext"),
            (" LATIN", " text CHARACTER SET latin1"),
            (" BYTES", " mediumblob"),
            (" DOUBLE", " double"),
        ],
        Dialect::Postgres => [
            (" KEY,", " serial PRIMARY KEY,"),
            (" SHORT", " varchar(190)"),
            (" LONG", " text"),
            (" LATIN", " text"),
            (" BYTES", " bytea"),
            (" DOUBLE", " double precision"),
        ],
    };
    for (short, long) in kinds {
        sql = sql.replace(short, long);
    }
    while let Some(at) = sql.find("FK(") {
        let end = at + sql[at..].find(')').unwrap_or(0);
        let (column, table) = sql[at + 3..end].split_once('>').unwrap_or_default();
        let name = format!("{}_to_{table}", column.trim_end_matches("_id"));
        let key = format!(
            ", CONSTRAINT fk_{}_{name} FOREIGN KEY ({column}) REFERENCES {table} (id)",
            line_name(&sql)
        );
        sql.replace_range(at..=end, &key);
    }
    if dialect == Dialect::Mariadb {
        sql.push_str(" ENGINE=InnoDB DEFAULT CHARSET=utf8mb4");
    }
    sql
}

fn line_name(sql: &str) -> String {
    sql.split_whitespace().nth(2).unwrap_or_default().trim_start_matches("gp_").to_owned()
}

/// What needs rows.
pub fn afterwards(dialect: Dialect) -> Vec<String> {
    let trigger = match dialect {
        Dialect::Sqlite => {
            "CREATE TRIGGER gp_comment_noted AFTER INSERT ON gp_comments BEGIN\n  INSERT INTO \
             gp_log (at, line) VALUES ('now', 'comment; ' || new.author);\nEND"
        }
        Dialect::Mariadb => {
            "CREATE TRIGGER gp_comment_noted AFTER INSERT ON gp_comments FOR EACH ROW BEGIN\n  \
             INSERT INTO gp_log (at, line) VALUES ('now', concat('comment; ', new.author));\nEND"
        }
        Dialect::Postgres => {
            "CREATE TRIGGER gp_comment_noted AFTER INSERT ON gp_comments FOR EACH ROW EXECUTE \
             FUNCTION gp_note_comment()"
        }
    };
    let mut statements: Vec<String> = Vec::new();
    if dialect == Dialect::Postgres {
        statements.push(
            "CREATE FUNCTION gp_note_comment() RETURNS trigger LANGUAGE plpgsql AS $$\nBEGIN\n  \
             INSERT INTO gp_log (at, line) VALUES ('now', 'comment; ' || new.author);\n  RETURN \
             new;\nEND\n$$"
                .into(),
        );
    }
    statements.extend([
        "CREATE INDEX gp_articles_published ON gp_articles (published)".into(),
        "CREATE INDEX gp_articles_title ON gp_articles (title)".into(),
        "CREATE VIEW gp_newest AS SELECT id, slug, title FROM gp_articles WHERE id > 10".into(),
        trigger.into(),
    ]);
    statements
}

/// Sets the counters of new records behind the last one.
pub fn counters(dialect: Dialect) -> Vec<String> {
    if dialect != Dialect::Postgres {
        return Vec::new();
    }
    let counted = COLUMNS.iter().filter(|(_, columns)| columns[0] == "id");
    let set = |table: &str| {
        format!("SELECT setval('{table}_id_seq', (SELECT coalesce(max(id), 0) + 1 FROM {table}))")
    };
    counted.map(|(table, _)| set(table)).collect()
}
