//! The certificate of the host, for every name of the site.

use super::answers::time_of;
use super::{Found, Looking, Looks, Topic};
use fernweh_core::certificate::Certificate;
use fernweh_ports::{CertificateSource, ShownCertificate, named};
use std::collections::BTreeSet;
use std::net::SocketAddr;

pub(super) struct Certificates;

const DAY: i64 = 86_400;
/// A certificate that ends sooner should have been renewed.
const SOON: i64 = 21 * DAY;
const TOPIC: Topic = Topic::Certificate;

impl Looks for Certificates {
    fn look(&self, at: &Looking<'_>) -> Vec<Found> {
        if !at.is_secure() {
            return vec![Found::passed(TOPIC, "no-tls", format!("{} needs none", at.url))];
        }
        let Some(web) = &at.web else { return vec![not_known(at, TOPIC)] };
        let source = match at.site.certificates() {
            Ok(source) => source,
            Err(trouble) => {
                let hint = trouble.hint.clone().unwrap_or_default();
                return vec![Found::failed(TOPIC, "not-looked-at", trouble.to_string(), hint)];
            }
        };
        // With another port in its address, the site is asked there.
        let port = at.url.port.unwrap_or(web.place.https.port());
        let place = SocketAddr::new(web.place.https.ip(), port);
        let hosts = at.hosts().iter().enumerate().filter(|(number, _)| {
            let answer = at.names.of_host(*number).unwrap_or_default();
            *number == 0 || !answer.addresses.is_empty()
        });
        let names: Vec<&String> = hosts.map(|(_, host)| host).collect();
        let shown: Vec<_> = std::thread::scope(|scope| {
            let fetch = |name: &&String| {
                let (source, name): (&dyn CertificateSource, _) = (&*source, (*name).clone());
                scope.spawn(move || source.certificate(place, &name))
            };
            let fetched: Vec<_> = names.iter().map(fetch).collect();
            fetched.into_iter().filter_map(|one| one.join().ok()).collect()
        });
        let mut found = Vec::new();
        let mut seen = BTreeSet::new();
        let mut fine: Vec<(String, Certificate, String)> = Vec::new();
        for (name, shown) in names.iter().zip(shown) {
            let asked = format!("{place}, asked for {name}");
            match shown {
                Err(problem) => found.push(
                    Found::failed(
                        TOPIC,
                        "tls-silent",
                        format!("{name} shows no certificate at {place}: {problem}"),
                        "check that the web server there is set up for https, also for this name",
                    )
                    .seen([format!("{asked} → {problem}")]),
                ),
                Ok(shown) => match judged(at, name, &asked, &shown, &mut seen) {
                    Ok((certificate, evidence, more)) => {
                        found.extend(more);
                        fine.push(((*name).clone(), certificate, evidence));
                    }
                    Err(more) => found.extend(more),
                },
            }
        }
        found.extend(summary(at, &fine));
        found.extend(issuers(at));
        found
    }
}

/// What stands where it is not known where to ask.
pub(super) fn not_known(at: &Looking<'_>, topic: Topic) -> Found {
    let site = at.site.name();
    Found::failed(
        topic,
        "not-looked-at",
        "not looked at: where the new host is, is not known",
        format!("set connect-to = \"203.0.113.9\" in [site.{site}]"),
    )
}

/// The certificate, what was seen of it, and what is doubtful; or what is wrong.
type Judged = Result<(Certificate, String, Vec<Found>), Vec<Found>>;

/// What is to be said of a certificate; what was said of it under another name is not said again.
fn judged(
    at: &Looking<'_>,
    name: &str,
    asked: &str,
    shown: &ShownCertificate,
    seen: &mut BTreeSet<(Vec<u8>, &'static str)>,
) -> Judged {
    let Some(own) = shown.chain.first() else {
        return Err(vec![Found::failed(
            TOPIC,
            "tls-silent",
            format!("{name} shows no certificate"),
            "set one up in the web server",
        )]);
    };
    let certificate = match Certificate::parse(own) {
        Ok(certificate) => certificate,
        Err(error) => {
            let what = format!("{name}: {error}");
            return Err(vec![Found::failed(TOPIC, "unreadable", what, "order another one")]);
        }
    };
    let evidence = format!(
        "{asked} → {} for {}, signed by {}, {} to {}, {}, {}",
        certificate.subject,
        named(&certificate.names, 6),
        certificate.issuer,
        day(certificate.from),
        day(certificate.until),
        certificate.key,
        certificate.signature
    );
    let (mut bad, mut doubtful) = (Vec::new(), Vec::new());
    let mut once = |code: &'static str| seen.insert((own.clone(), code));
    let order = format!("order a certificate for {}", at.hosts().join(" and "));
    if !certificate.covers(name) {
        let what = format!(
            "the certificate does not cover {name}, only {}",
            if certificate.names.is_empty() {
                "no name".into()
            } else {
                named(&certificate.names, 6)
            }
        );
        bad.push(Found::failed(TOPIC, "name-missing", what, order.clone()));
    }
    if certificate.until <= at.now && once("expired") {
        let what = format!("the certificate expired on {}", day(certificate.until));
        bad.push(Found::failed(TOPIC, "expired", what, "renew it"));
    } else if certificate.from > at.now && once("not-yet") {
        let what = format!("the certificate counts only from {} on", day(certificate.from));
        bad.push(Found::failed(TOPIC, "not-yet", what, "check the clocks, or order another one"));
    } else if certificate.until - at.now < SOON && certificate.until > at.now && once("soon") {
        let left = u32::try_from(certificate.until - at.now).unwrap_or(0);
        let what =
            format!("the certificate expires in {}, on {}", time_of(left), day(certificate.until));
        doubtful.push(Found::warned(
            TOPIC,
            "expires-soon",
            what,
            "renew it; if that should happen by itself, check that it does",
        ));
    }
    if shown.unknown_signer && once("signer") {
        bad.push(signer(&certificate, shown));
    }
    if let Some(weak) = &certificate.weak
        && once("weak")
    {
        let what = format!("the certificate is too weak: {weak}");
        bad.push(Found::failed(TOPIC, "weak", what, order.clone()));
    }
    // Whatever else keeps browsers from it.
    if bad.is_empty()
        && let Some(refused) = &shown.refused
        && !shown.unknown_signer
        && certificate.weak.is_none()
        && !is_told(at, &certificate, name)
        && once("refused")
    {
        let what = format!("the certificate is not accepted: {refused}");
        bad.push(Found::failed(TOPIC, "refused", what, order));
    }
    if certificate.must_staple && !shown.stapled && once("staple") {
        doubtful.push(Found::warned(
            TOPIC,
            "staple-missing",
            "the certificate asks for word of its authority (OCSP must-staple), which the server \
             does not send; some browsers refuse it",
            "switch on OCSP stapling in the web server, or order a certificate without it",
        ));
    }
    if !shown.old_versions.is_empty() && once("old") {
        doubtful.push(Found::warned(
            TOPIC,
            "old-versions",
            format!("the server still offers {}", shown.old_versions.join(" and ")),
            "allow TLS 1.2 and 1.3 only",
        ));
    }
    let with = |all: Vec<Found>| all.into_iter().map(|one| one.seen([evidence.clone()])).collect();
    match bad.is_empty() && certificate.covers(name) && !is_told(at, &certificate, name) {
        true => Ok((certificate, evidence.clone(), with(doubtful))),
        false => Err(with([bad, doubtful].concat())),
    }
}

/// Whether something was said against it that holds for every name.
fn is_told(at: &Looking<'_>, certificate: &Certificate, name: &str) -> bool {
    certificate.until <= at.now || certificate.from > at.now || !certificate.covers(name)
}

/// Nobody vouches for it who is known here: why.
fn signer(certificate: &Certificate, shown: &ShownCertificate) -> Found {
    if certificate.is_own() {
        return Found::failed(
            TOPIC,
            "own-signed",
            "the certificate is signed by the server itself",
            "order one from an authority that browsers know; for trials, name it in trust = \
             \"sha256:…\"",
        );
    }
    let others: Vec<Certificate> =
        shown.chain[1..].iter().filter_map(|der| Certificate::parse(der).ok()).collect();
    let mut issuer = &certificate.issuer;
    while let Some(next) = others.iter().find(|one| one.subject == *issuer && !one.is_own()) {
        issuer = &next.issuer;
        if issuer == &certificate.issuer {
            break;
        }
    }
    let ends = others.iter().any(|one| one.subject == *issuer && one.is_own());
    match (ends, others.is_empty()) {
        (true, _) => Found::failed(
            TOPIC,
            "signer-unknown",
            format!("{issuer}, who has signed the certificate, is not known to browsers"),
            "order one from an authority that browsers know; one of your own is named by \
             authority = \"authority.pem\"",
        ),
        (false, true) => Found::failed(
            TOPIC,
            "chain-incomplete",
            format!("the server sends no certificate of {issuer}, who has signed its own"),
            "let the web server send the whole chain (the file that the authority calls \
             fullchain or bundle)",
        ),
        (false, false) => Found::failed(
            TOPIC,
            "chain-wrong",
            format!(
                "the certificates that the server sends do not belong together: {issuer} is \
                     missing"
            ),
            "let the web server send the chain that came with the certificate",
        ),
    }
}

/// What is fine.
fn summary(at: &Looking<'_>, fine: &[(String, Certificate, String)]) -> Vec<Found> {
    let Some((_, first, _)) = fine.first() else { return Vec::new() };
    let names: Vec<&str> = fine.iter().map(|(name, ..)| name.as_str()).collect();
    let until =
        fine.iter().map(|(_, certificate, _)| certificate.until).min().unwrap_or(first.until);
    let days = (until - at.now) / DAY;
    let left = match days {
        ..1000 => format!("{days} days left"),
        _ => format!("valid until {}", day(until)),
    };
    let names = match names.len() == at.hosts().len() {
        true => at.hosts_shown(),
        false => names.join(" and "),
    };
    let what =
        format!("the certificate covers {names}; {left} ({}, {})", first.key, first.signature);
    let evidence = fine.iter().map(|(.., evidence)| evidence.clone());
    vec![Found::passed(TOPIC, "certificate", what).seen(evidence)]
}

/// Who may issue certificates for the domain (RFC 8659).
fn issuers(at: &Looking<'_>) -> Vec<Found> {
    let Some(zone) = &at.names.zone else { return Vec::new() };
    let Some(heard) = zone.speaker() else { return Vec::new() };
    let issue: Vec<&String> =
        heard.issuers.iter().filter(|(tag, _)| tag == "issue").map(|(_, value)| value).collect();
    if issue.is_empty() {
        return Vec::new();
    }
    let allowed: Vec<String> = issue
        .iter()
        .map(|value| value.split(';').next().unwrap_or_default().trim().to_owned())
        .filter(|name| !name.is_empty())
        .collect();
    let evidence = issue.iter().map(|value| format!("{} CAA → issue \"{value}\"", zone.apex));
    vec![
        match allowed.is_empty() {
            true => Found::warned(
                TOPIC,
                "nobody-may-issue",
                format!("nobody may issue certificates for {} (CAA)", zone.apex),
                "name the authority of the new host in a CAA record, or the next renewal fails",
            ),
            false => Found::passed(
                TOPIC,
                "issuers",
                format!("only {} may issue certificates (CAA)", allowed.join(", ")),
            ),
        }
        .seen(evidence),
    ]
}

fn day(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).map_or_else(
        |_| "an impossible date".into(),
        |at| at.to_zoned(jiff::tz::TimeZone::UTC).strftime("%Y-%m-%d").to_string(),
    )
}
