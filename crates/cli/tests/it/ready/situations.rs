//! The situations, and what is to be said of each.

use super::world::{NEW, OLD, PROXY, Situation, after, before, newer, zone_on};

pub fn situations() -> Vec<Situation> {
    [names(), certificates(), redirects(), search(), security(), mail(), hosts()].concat()
}

fn names() -> Vec<Situation> {
    let other = "192.0.2.77";
    vec![
        before("fine-before"),
        after("fine-after"),
        before("answers-vary")
            .with(|it| it.zone[1] = Some(zone_on(other)))
            .expect(&["warned answers-vary", "warned answers-vary"]),
        before("servers-disagree")
            .with(|it| it.zone[1] = Some(newer(&zone_on(other))))
            .expect(&["failed servers-disagree", "failed servers-disagree"]),
        before("half-switched")
            .with(|it| {
                it.zone[1] = Some(newer(&zone_on(NEW)));
                it.question = "after";
            })
            .expect(&[
                "failed leads-both",
                "failed leads-both",
                "failed servers-disagree",
                "failed servers-disagree",
                "warned https-not-only",
            ]),
        before("mail-disagrees")
            .with(|it| it.zone[1] = Some(zone_on(OLD).replace("mail.post", "mx.post")))
            .expect(&["failed servers-disagree"]),
        before("one-is-lame").with(|it| it.zone[1] = None).expect(&["failed server-lame"]),
        before("one-is-silent")
            .with(|it| {
                it.delegated = vec!["ns1.hosting.example", "silent.hosting.example"];
                let text = zone_on(OLD).replace("ns2.hosting", "silent.hosting");
                it.zone = [Some(text), None, None];
            })
            .expect(&["failed server-silent"]),
        before("one-without-tcp")
            .with(|it| {
                it.delegated = vec!["ns1.hosting.example", "udp.hosting.example"];
                let text = zone_on(OLD).replace("ns2.hosting", "udp.hosting");
                it.zone = [Some(text), None, None];
            })
            .expect(&["warned server-without-tcp"]),
        before("delegation-differs")
            .with(|it| it.delegated = vec!["ns1.hosting.example"])
            .expect(&["warned delegation-differs"]),
        before("not-registered")
            .with(|it| {
                it.zone = [None, None, None];
                it.delegated = Vec::new();
            })
            .expect(&["failed name-unknown", "failed not-looked-up"]),
        before("own-without-address")
            .replaced("www 300 IN A 127.0.0.2\n", "")
            .expect(&["failed name-unknown"]),
        before("twin-without-address")
            .replaced("@ 300 IN A 127.0.0.2\n", "")
            .expect(&["warned twin-unknown"]),
        before("chain-of-names").replaced(
            "www 300 IN A 127.0.0.2\n",
            "www 300 IN CNAME a\na 300 IN CNAME b\nb 300 IN CNAME DOMAIN.\n",
        ),
        before("chain-out-of-zone")
            .replaced("www 300 IN A 127.0.0.2\n", "www 300 IN CNAME www.fine-before.example.\n"),
        before("chain-into-nothing")
            .replaced("www 300 IN A 127.0.0.2\n", "www 300 IN CNAME www.nobody.example.\n")
            .expect(&["failed name-dangling"]),
        before("chain-in-circles")
            .replaced("www 300 IN A 127.0.0.2\n", "www 300 IN CNAME a\na 300 IN CNAME www\n")
            .expect(&["failed name-loop"]),
        before("a-day-to-live")
            .replaced("www 300 IN A", "www 86400 IN A")
            .expect(&["warned time-to-live-long"]),
        before("twin-a-day-to-live")
            .replaced("@ 300 IN A", "@ 86400 IN A")
            .expect(&["warned time-to-live-long"]),
        after("ipv6-elsewhere")
            .records("www 300 IN AAAA 2001:db8::2\n")
            .expect(&["warned leads-partly-elsewhere"]),
        after("two-addresses")
            .records("www 300 IN A 192.0.2.9\n")
            .expect(&["warned leads-partly-elsewhere"]),
        after("still-old")
            .zone(&zone_on(OLD))
            .with(|it| it.options = "--after")
            .expect(&["failed leads-old", "failed leads-old"]),
        after("twin-still-old")
            .replaced("@ 300 IN A 127.0.0.1", "@ 300 IN A 127.0.0.2")
            .expect(&["failed leads-old"]),
        after("both-hosts").records("www 300 IN A 127.0.0.2\n").expect(&["failed leads-both"]),
        before("proxy-between")
            .zone(&zone_on(PROXY))
            .expect(&["warned leads-elsewhere", "warned leads-elsewhere"]),
        before("already-new-before").zone(&zone_on(NEW)).with(|it| it.options = "--before"),
        after("resolver-remembers")
            .with(|it| it.zone[2] = Some(zone_on(OLD)))
            .expect(&["failed resolver-remembers"]),
        before("resolver-deaf").with(|it| it.more = "DEAF".into()).expect(&[
            "failed not-looked-up",
            "failed not-looked-up",
            "failed resolver-silent",
        ]),
    ]
}

fn certificates() -> Vec<Situation> {
    let with = |name, certificate| before(name).with(|it| it.certificate = certificate);
    vec![
        with("cert-expired", "expired").expect(&["failed expired"]),
        with("cert-not-yet", "not-yet").expect(&["failed not-yet"]),
        with("cert-soon", "soon").expect(&["warned expires-soon"]),
        with("cert-not-sent", "not-sent").expect(&["failed chain-incomplete"]),
        with("cert-wrong-sent", "wrong-sent").expect(&["failed chain-wrong"]),
        with("cert-unknown", "unknown").expect(&["failed signer-unknown"]),
        with("cert-itself", "itself").expect(&["failed own-signed"]),
        with("cert-staple", "staple").expect(&["warned staple-missing"]),
        with("cert-short", "short").expect(&["failed weak"]),
        with("cert-sha1", "sha1").expect(&["failed weak"]),
        with("cert-without-twin", "without-twin").expect(&["failed name-missing"]),
        with("cert-wildcard", "wildcard").expect(&["failed name-missing"]),
        with("cert-other", "other").expect(&["failed name-missing", "failed name-missing"]),
        with("cert-ancient", "good")
            .with(|it| it.more = "ANCIENT".into())
            .expect(&["warned old-versions"]),
        before("cert-nobody-may")
            .records("@ 300 IN CAA 0 issue \";\"\n")
            .expect(&["warned nobody-may-issue"]),
        before("cert-one-may").records("@ 300 IN CAA 0 issue \"authority.example\"\n"),
        before("cert-hangs").with(|it| it.more = "HANGING".into()).expect(&[
            "failed front-silent",
            "failed not-looked-at",
            "failed not-looked-at",
            "failed tls-silent",
            "failed tls-silent",
            "failed unreachable",
            "warned clock-unknown",
        ]),
    ]
}

fn redirects() -> Vec<Situation> {
    let http = |name, rule: &str| {
        let rule = rule.to_owned();
        after(name).with(move |it| it.http = rule)
    };
    let old = "server { LISTEN server_name old.DOMAIN; RULE }";
    let from_old = |name, rule: &str| {
        let text = old.replace("RULE", rule);
        after(name).records("old 300 IN A 127.0.0.2\n").with(move |it| {
            it.old = text;
            it.old_url = "http://old.DOMAIN";
        })
    };
    vec![
        http("http-302", "return 302 https://www.DOMAIN$request_uri;")
            .expect(&["warned redirect-temporary", "warned redirect-temporary"]),
        http("http-308", "return 308 https://www.DOMAIN$request_uri;"),
        http("http-without-query", "return 301 https://www.DOMAIN$uri;")
            .expect(&["failed query-lost", "failed query-lost"]),
        http("http-without-path", "return 301 https://www.DOMAIN/;")
            .expect(&["failed path-lost", "failed path-lost"]),
        http("http-answers", "root /nowhere; return 200 here;")
            .expect(&["failed redirect-missing", "failed redirect-missing"]),
        http("http-elsewhere", "return 301 https://other.example$request_uri;")
            .expect(&["failed redirect-elsewhere", "failed redirect-elsewhere"]),
        http("http-over-twin", "return 301 https://DOMAIN$request_uri;")
            .expect(&["warned redirect-chain", "warned redirect-chain"]),
        http("http-in-circles", "return 301 http://DOMAIN$request_uri;")
            .expect(&["failed redirect-loop", "failed redirect-loop"]),
        after("twin-answers")
            .with(|it| it.twin = "return 200 here;".into())
            .expect(&["failed redirect-missing"]),
        after("twin-302")
            .with(|it| it.twin = "return 302 https://www.DOMAIN$request_uri;".into())
            .expect(&["warned redirect-temporary"]),
        after("own-leads-away")
            .with(|it| it.own = "return 301 http://www.DOMAIN$request_uri;".into())
            .expect(&["failed leads-away", "warned https-not-only"]),
        after("own-is-broken")
            .with(|it| it.own = "return 500;".into())
            .expect(&["failed front-broken", "warned https-not-only"]),
        from_old("old-fine", "return 301 https://www.DOMAIN$request_uri;"),
        from_old("old-302", "return 302 https://www.DOMAIN$request_uri;")
            .expect(&["warned redirect-temporary"]),
        from_old("old-answers", "return 200 here;").expect(&["failed redirect-missing"]),
        from_old("old-without-path", "return 301 https://www.DOMAIN/;")
            .expect(&["failed path-lost"]),
        from_old("old-to-twin", "return 301 http://DOMAIN$request_uri;")
            .expect(&["warned redirect-chain"]),
    ]
}

fn search() -> Vec<Situation> {
    let sitemap =
        "<?xml version=\"1.0\"?><urlset><url><loc>ADDRESS/about.html</loc></url></urlset>";
    vec![
        before("robots-forbid")
            .file("robots.txt", "User-agent: *\nDisallow: /\n")
            .expect(&["failed robots-forbid"]),
        before("robots-fine").file("robots.txt", "User-agent: *\nDisallow: /private/\n"),
        before("noindex-header")
            .own("add_header X-Robots-Tag \"noindex, nofollow\";")
            .expect(&["failed noindex"]),
        before("noindex-meta")
            .head("<meta name=robots content=\"noindex\">")
            .expect(&["failed noindex"]),
        before("canonical-old")
            .with(|it| it.old_url = "http://old.DOMAIN")
            .head("<link rel=canonical href=\"http://old.DOMAIN/\">")
            .expect(&["failed canonical-elsewhere"]),
        before("canonical-http")
            .head("<link rel=canonical href=\"http://www.DOMAIN/\">")
            .expect(&["failed canonical-elsewhere"]),
        before("canonical-other")
            .head("<link rel=canonical href=\"https://other.test/\">")
            .expect(&["failed canonical-elsewhere"]),
        before("graph-twin")
            .head("<meta property=og:url content=\"https://DOMAIN/\">")
            .expect(&["failed open-graph-elsewhere"]),
        before("hreflang-http")
            .head("<link rel=alternate hreflang=de href=\"http://www.DOMAIN/de\">")
            .expect(&["failed hreflang-elsewhere"]),
        before("hreflang-other-site")
            .head("<link rel=alternate hreflang=de href=\"https://other.test/de\">"),
        before("sitemap-old")
            .file("sitemap.xml", &sitemap.replace("ADDRESS", "http://www.DOMAIN"))
            .expect(&["failed sitemap-elsewhere"]),
        before("sitemap-fine")
            .file("sitemap.xml", &sitemap.replace("ADDRESS", "https://www.DOMAIN")),
        before("sitemap-named-old")
            .file("robots.txt", "Sitemap: http://www.DOMAIN/sitemap.xml\n")
            .expect(&["failed sitemap-elsewhere"]),
        before("sitemap-named-missing")
            .file("robots.txt", "Sitemap: https://www.DOMAIN/map.xml\n")
            .expect(&["warned sitemap-missing"]),
        before("hidden-not")
            .with(|it| it.more = "hidden = true".into())
            .expect(&["failed not-hidden"]),
        before("hidden-fine")
            .with(|it| it.more = "hidden = true".into())
            .own("add_header X-Robots-Tag noindex;"),
        before("hidden-and-closed")
            .with(|it| it.more = "hidden = true".into())
            .own("add_header X-Robots-Tag noindex;")
            .file("robots.txt", "User-agent: *\nDisallow: /\n")
            .expect(&["warned robots-hide-noindex"]),
    ]
}

fn security() -> Vec<Situation> {
    vec![
        after("without-hsts")
            .with(|it| it.own = "location / { try_files $uri $uri/ =404; }".into())
            .expect(&["warned https-not-only"]),
        before("cookie-open")
            .own("add_header Set-Cookie \"night=7; Path=/\";")
            .expect(&["warned cookie-open"]),
        before("cookie-fine").own("add_header Set-Cookie \"night=7; Path=/; Secure\";"),
        before("env-given").file(".env", "DB_PASSWORD=secret\n").expect(&["failed handed-out"]),
        before("git-given")
            .file(".git/HEAD", "ref: refs/heads/main\n")
            .expect(&["failed handed-out"]),
        before("dump-given")
            .file("backup.sql", "CREATE TABLE nights (id int);\n")
            .expect(&["failed handed-out"]),
        before("env-is-a-page").own("error_page 404 =200 /index.html;"),
        before("listing").own("location /pictures/ { autoindex on; }").expect(&["warned listing"]),
    ]
}

fn mail() -> Vec<Situation> {
    vec![
        before("mail-moves")
            .replaced("mail.post.example.", "www.DOMAIN.")
            .expect(&["warned mail-moves"]),
        after("mail-moved")
            .replaced("mail.post.example.", "DOMAIN.")
            .expect(&["warned mail-moved"]),
        before("mail-none").replaced("@ 300 IN MX 10 mail.post.example.\n", ""),
        before("senders-old")
            .records("@ 300 IN TXT \"v=spf1 ip4:127.0.0.2 -all\"\n")
            .expect(&["warned senders-old"]),
        after("senders-left")
            .records("@ 300 IN TXT \"v=spf1 ip4:127.0.0.2 ip4:127.0.0.1 -all\"\n")
            .expect(&["warned senders-left"]),
        before("senders-network").records("@ 300 IN TXT \"v=spf1 ip4:127.0.0.0/24 -all\"\n"),
        before("senders-twice")
            .records("@ 300 IN TXT \"v=spf1 mx -all\"\n@ 300 IN TXT \"v=spf1 a -all\"\n")
            .expect(&["failed senders-twice"]),
    ]
}

fn hosts() -> Vec<Situation> {
    vec![
        before("old-host-unknown").with(|it| it.options = "--no-old"),
        after("old-host-unknown-after")
            .zone(&zone_on(PROXY))
            .with(|it| it.options = "--no-old --after --check name")
            .expect(&["failed not-new", "failed not-new"]),
        before("new-host-unknown").with(|it| it.more = "UNKNOWN".into()).expect(&[
            "failed not-looked-at",
            "failed not-looked-at",
            "failed not-looked-at",
            "failed not-looked-at",
            "failed not-looked-at",
        ]),
        before("long-answer").with(|it| {
            // More than fits into a packet: it is asked for again over TCP.
            let text = "v".repeat(200);
            let more: String = (0..20).map(|n| format!("@ 300 IN TXT \"{n} {text}\"\n")).collect();
            it.zone[..2].iter_mut().flatten().for_each(|zone| zone.push_str(&more));
        }),
    ]
}
