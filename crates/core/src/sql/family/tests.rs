//! Each feature of the one, as the other is told it.

use super::*;

fn mysql(version: &str) -> Server {
    Server::named(version, "MySQL Community Server - GPL")
}

fn mariadb(version: &str) -> Server {
    Server::named(version, "MariaDB Server")
}

#[test]
fn servers_are_known_by_what_they_say() {
    for (version, comment, shown, numbers) in [
        ("8.0.39", "MySQL Community Server - GPL", "MySQL 8.0.39", (8, 0, 39)),
        ("5.7.44-log", "Source distribution", "MySQL 5.7.44", (5, 7, 44)),
        ("10.11.6-MariaDB-0+deb12u1", "Debian 12", "MariaDB 10.11.6", (10, 11, 6)),
        ("5.5.5-10.3.39-MariaDB", "", "MariaDB 10.3.39", (10, 3, 39)),
        ("10.6.18-log", "MariaDB Server", "MariaDB 10.6.18", (10, 6, 18)),
        ("8.0.mysql_aurora.3.05.2", "managed", "MySQL 8.0.", (8, 0, 0)),
        ("", "", "MySQL ", (0, 0, 0)),
    ] {
        let server = Server::named(version, comment);
        assert_eq!((server.shown().as_str(), server.version), (shown, numbers), "{version}");
    }
}

#[test]
fn modes_that_a_server_does_not_know_are_left_out() {
    let all = "STRICT_TRANS_TABLES,NO_AUTO_CREATE_USER,TIME_TRUNCATE_FRACTIONAL,EMPTY_STRING_IS_NULL,ORACLE";
    for (server, known) in [
        (mysql("8.0.39"), "STRICT_TRANS_TABLES,TIME_TRUNCATE_FRACTIONAL"),
        (mysql("5.7.44"), "STRICT_TRANS_TABLES,NO_AUTO_CREATE_USER,ORACLE"),
        (mariadb("10.11.6"), "STRICT_TRANS_TABLES,NO_AUTO_CREATE_USER,EMPTY_STRING_IS_NULL,ORACLE"),
    ] {
        let (kept, left) = server.known_modes(all);
        assert_eq!(kept, known, "{server:?}");
        assert_eq!(kept.split(',').count() + left.len(), 5);
    }
    assert_eq!(mysql("8.4.3").known_modes(""), (String::new(), vec![]));
}

/// A statement for a server, and what is noted.
fn told(server: &Server, sql: &str) -> (String, usize) {
    let mut notes = Vec::new();
    let sql = server.table(sql, &mut notes);
    (sql, notes.len())
}

#[test]
fn what_mysql_says_in_comments_mariadb_is_told_in_words() {
    let table =
        |body: &str| format!("CREATE TABLE `t` (\n  `id` int NOT NULL,\n  {body}\n) ENGINE=InnoDB");
    for (own, other, notes) in [
        ("`a` int DEFAULT NULL /*!80023 INVISIBLE */,", "`a` int DEFAULT NULL INVISIBLE,", 0),
        ("KEY `k` (`id`) /*!80000 INVISIBLE */", "KEY `k` (`id`) IGNORED", 0),
        ("`p` point NOT NULL /*!80003 SRID 4326 */", "`p` point NOT NULL REF_SYSTEM_ID=4326", 0),
        ("`c` int COMMENT '/*!80023 INVISIBLE */'", "`c` int COMMENT '/*!80023 INVISIBLE */'", 0),
        ("`u` varchar(36) DEFAULT (uuid())", "`u` varchar(36) DEFAULT (uuid())", 0),
        ("`s` int /*!50606 STORAGE DISK */", "`s` int /*!50606 STORAGE DISK */", 0),
    ] {
        assert_eq!(told(&mariadb("10.11.6"), &table(own)), (table(other), notes), "{own}");
    }
    let unenforced = table("`a` int,\n  CONSTRAINT `c` CHECK ((`a` > 0)) /*!80016 NOT ENFORCED */");
    assert_eq!(told(&mariadb("10.11.6"), &unenforced), (table("`a` int"), 1));
    let old = told(&mariadb("10.4.1"), &table("KEY `k` (`id`) /*!80000 INVISIBLE */"));
    assert_eq!(old, (table("KEY `k` (`id`)"), 0));
}

#[test]
fn what_only_mariadb_says_mysql_is_told_in_its_words() {
    let table = |body: &str| format!("CREATE TABLE `t` (\n  {body}\n) ENGINE=InnoDB");
    for (own, other) in [
        ("`u` varchar(36) DEFAULT uuid()", "`u` varchar(36) DEFAULT (uuid())"),
        (
            "`u` varchar(36) NOT NULL DEFAULT concat('a(',`b`) COMMENT 'uuid'",
            "`u` varchar(36) NOT NULL DEFAULT (concat('a(',`b`)) COMMENT 'uuid'",
        ),
        (
            "`at` timestamp NULL DEFAULT current_timestamp(3) ON UPDATE current_timestamp(3)",
            "`at` timestamp NULL DEFAULT current_timestamp(3) ON UPDATE current_timestamp(3)",
        ),
        ("`b` text DEFAULT 'DEFAULT x'", "`b` text DEFAULT ('DEFAULT x')"),
        ("`b` longtext DEFAULT NULL", "`b` longtext DEFAULT NULL"),
        ("`n` int(11) DEFAULT -5", "`n` int(11) DEFAULT -5"),
        (
            "`d` date DEFAULT (curdate() + interval 1 day)",
            "`d` date DEFAULT (curdate() + interval 1 day)",
        ),
        ("KEY `k` (`a`) IGNORED", "KEY `k` (`a`) INVISIBLE"),
        ("KEY `k` (`a`) NOT IGNORED", "KEY `k` (`a`)"),
        ("`a` int(11) DEFAULT NULL INVISIBLE", "`a` int(11) DEFAULT NULL INVISIBLE"),
        ("`default` int(11) DEFAULT 0", "`default` int(11) DEFAULT 0"),
    ] {
        assert_eq!(told(&mysql("8.0.39"), &table(own)), (table(other), 0), "{own}");
    }
    let pages = "CREATE TABLE `t` (`a` int) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 \
                 `PAGE_COMPRESSED`=1 COMMENT='PAGE_COMPRESSED=1'";
    let (sql, _) = told(&mysql("8.0.39"), pages);
    assert_eq!(
        sql,
        "CREATE TABLE `t` (`a` int) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 \
         COMMENT='PAGE_COMPRESSED=1'"
    );
    let (sql, notes) = told(&mysql("5.7.44"), &table("`u` varchar(36) DEFAULT uuid() COMMENT 'x'"));
    assert_eq!((sql, notes), (table("`u` varchar(36) COMMENT 'x'"), 1));
}

#[test]
fn what_has_no_counterpart_is_named_by_tokens() {
    let table =
        |body: &str, options: &str| format!("CREATE TABLE `t` ({body}) ENGINE=InnoDB{options}");
    let lacks = |server: &Server, body: &str, options: &str| server.lacks(&table(body, options));
    let eight = mysql("8.0.39");
    assert_eq!(lacks(&eight, "`id` uuid NOT NULL", ""), ["columns of type uuid"]);
    assert_eq!(lacks(&eight, "`id` int COMMENT 'a uuid, WITH SYSTEM VERSIONING'", ""), [""; 0]);
    assert_eq!(lacks(&eight, "`uuid` int, `inet6` int", " COMMENT='inet6 uuid'"), [""; 0]);
    assert_eq!(lacks(&eight, "`a` inet6", ""), ["columns of types inet4 and inet6"]);
    assert_eq!(
        lacks(&eight, "`a` int", " WITH SYSTEM VERSIONING"),
        ["tables that keep the former states of their rows"]
    );
    let ten = mariadb("10.11.6");
    assert_eq!(lacks(&ten, "`a` text, KEY `k` ((lower(`a`)))", ""), ["keys on expressions"]);
    assert_eq!(lacks(&ten, "`a` text, KEY `k` (`a`(10)), CHECK ((`a` > 0))", ""), [""; 0]);
}

#[test]
fn what_belongs_to_the_disk_of_a_host_stays_there() {
    let sql = "CREATE TABLE `t` (\n  `ENCRYPTION` int COMMENT 'TABLESPACE x'\n) /*!50100 \
               TABLESPACE `fast` */ \
               ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COMPRESSION='zlib' ENCRYPTION='Y' DATA DIRECTORY='/ssd' \
               COMMENT='ENCRYPTION=Y'";
    let (bare, left_out) = without_host_options(sql);
    assert_eq!(
        bare,
        "CREATE TABLE `t` (\n  `ENCRYPTION` int COMMENT 'TABLESPACE x'\n) ENGINE=InnoDB \
         DEFAULT CHARSET=utf8mb4 COMMENT='ENCRYPTION=Y'"
    );
    assert_eq!(left_out.len(), 4);
    let plain = "CREATE TABLE `t` (`a` int) ENGINE=InnoDB";
    assert_eq!(without_host_options(plain), (plain.to_owned(), vec![]));
}

#[test]
fn collations_are_written_out() {
    let of = |name: &str| (name == "a").then(|| "latin1_swedish_ci".to_owned());
    let sql = "CREATE TABLE `t` (\n  `a` varchar(9) CHARACTER SET latin1 DEFAULT NULL,\n  \
               `b` text CHARACTER SET utf8 COLLATE utf8_bin COMMENT 'CHARACTER SET x',\n  `c` text\n\
               ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COMMENT='x'";
    assert_eq!(
        with_collations(sql, "utf8mb4_general_ci", &of),
        "CREATE TABLE `t` (\n  `a` varchar(9) CHARACTER SET latin1 COLLATE latin1_swedish_ci \
         DEFAULT NULL,\n  \
         `b` text CHARACTER SET utf8 COLLATE utf8_bin COMMENT 'CHARACTER SET x',\n  `c` text\n\
         ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci COMMENT='x'"
    );
    let whole = "CREATE TABLE `t` (`a` text) DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin";
    assert_eq!(with_collations(whole, "x", &of), whole);
}

#[test]
fn checks_are_found_by_their_names() {
    let sql = "CREATE TABLE `t` (`a` int CHECK (`a` > 1), CONSTRAINT `t_chk_1` CHECK ((`a` < 9)), \
               CONSTRAINT `f` FOREIGN KEY (`a`) REFERENCES `o` (`a`))";
    let found = named_checks(sql);
    assert_eq!(found.len(), 1);
    assert_eq!(
        (found[0].0.as_str(), &sql[found[0].1.clone()]),
        ("t_chk_1", "CONSTRAINT `t_chk_1`")
    );
}

const ARTICLES: &str = "CREATE TABLE `gp_articles` (\n\
    `id` int(11) NOT NULL AUTO_INCREMENT COMMENT 'KEY `a` (`b`)',\n\
    `slug` varchar(190) COLLATE utf8mb4_bin NOT NULL,\n\
    `key` varchar(40) DEFAULT 'x),(y',\n\
    `body` longtext,\n\
    `next` int GENERATED ALWAYS AS (`id` + 1) VIRTUAL,\n\
    PRIMARY KEY (`id`),\n\
    UNIQUE KEY `slug` (`slug`(40),`key`) COMMENT 'one, two',\n\
    UNIQUE KEY `whole` (`body`) USING HASH,\n\
    KEY `a``b` (`next`,`key` DESC),\n\
    KEY `lower` ((lower(`key`)),((`id` + 1))) /*!80000 INVISIBLE */,\n\
    FULLTEXT KEY `text` (`body`),\n\
    CONSTRAINT `c` CHECK (`id` > 0)\n\
    ) ENGINE=InnoDB AUTO_INCREMENT=7 DEFAULT CHARSET=utf8mb4 COMMENT='ENGINE=MyISAM'";

fn names(sql: &str) -> Vec<String> {
    secondary_keys(sql).into_iter().map(|key| key.name).collect()
}

#[test]
fn keys_that_can_wait_until_the_rows_are_in_are_told_from_those_that_cannot() {
    let keys = secondary_keys(ARTICLES);
    let found: Vec<_> = keys.iter().map(|key| (key.name.as_str(), key.sql.as_str())).collect();
    assert_eq!(
        found,
        [
            ("slug", "UNIQUE KEY `slug` (`slug`(40),`key`) COMMENT 'one, two'"),
            ("a`b", "KEY `a``b` (`next`,`key` DESC)"),
            ("lower", "KEY `lower` ((lower(`key`)),((`id` + 1))) /*!80000 INVISIBLE */"),
        ]
    );
    assert_eq!(keys[0].unique, Some(vec!["LEFT(`slug`, 40)".to_owned(), "`key`".to_owned()]));
    assert_eq!((&keys[1].unique, &keys[2].unique), (&None, &None));
    let unique = ARTICLES.replace("KEY `lower`", "UNIQUE KEY `lower`");
    let parts = secondary_keys(&unique)[2].unique.clone().unwrap();
    assert_eq!(parts, ["(lower(`key`))", "((`id` + 1))"]);
}

#[test]
fn a_table_keeps_all_keys_where_one_that_waits_would_cost_more_than_it_saves() {
    let with = |from: &str, to: &str| {
        assert!(ARTICLES.contains(from), "{from}");
        names(&ARTICLES.replace(from, to))
    };
    assert_eq!(with("=InnoDB", "=MyISAM").len(), 0);
    assert_eq!(with("ENGINE=InnoDB ", "").len(), 0);
    assert_eq!(with("PRIMARY KEY (`id`),\n", "").len(), 0, "rows lie in the order of another key");
    assert_eq!(with(" COMMENT='E", " WITH SYSTEM VERSIONING COMMENT='E").len(), 0);
    assert_eq!(with("PRIMARY KEY (`id`)", "PRIMARY KEY (`slug`),\nKEY `count` (`id`)").len(), 3);
    let counted = with("PRIMARY KEY (`id`)", "PRIMARY KEY (`slug`,`id`),\nKEY `b` (`slug`,`id`)");
    assert_eq!(counted, ["b", "slug", "a`b", "lower"]);
    assert_eq!(names("CREATE TABLE `a` (`b` int"), [""; 0]);
    assert_eq!(names(""), [""; 0]);
}
