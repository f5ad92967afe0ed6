//! What an answer means for whoever refers to its address.

use super::store::{Class, Reference};
use fernweh_core::finding::Code;
use fernweh_core::page::{LinkKind, Usage};
use fernweh_ports::{PageProblem, PageResponse, size};
use serde::{Deserialize, Serialize};

/// A fault, before it is known where it shows.
pub(super) struct Fault<'a> {
    pub code: Code,
    pub address: &'a str,
    pub cause: &'a str,
    pub detail: String,
}

/// What came of an address with which something is wrong.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) enum Outcome {
    /// A status of 400 or more.
    Status(u16),
    /// A status that says to whom the server does not talk, of another host.
    Turned(u16, String),
    /// Redirects, from the first address to the last.
    Chain(Vec<String>),
    /// Redirects that lead back to one of themselves.
    Loop(Vec<String>),
    /// Redirects that lead to the site's old place.
    Old(String),
    /// Redirects that leave https.
    Insecure(Vec<String>),
    /// Redirects that lead to a page that asks for a password.
    Login(String),
    /// Nothing came back.
    Problem(PageProblem),
    /// The host of the address does not answer at all.
    Host(String, PageProblem),
    /// It says what the server says to made-up addresses.
    SoftMissing,
    /// It is there, and has so many bytes.
    Heavy(u64),
    /// It is there, after so many milliseconds.
    Slow(u64),
}

/// Bytes above which a part of a page is heavy: on a telephone it takes seconds. Of sound, films and
/// documents nobody expects otherwise.
pub(super) fn is_heavy(class: Class, bytes: u64) -> bool {
    let most = match class {
        Class::Page | Class::Picture => 2 << 20,
        Class::Style | Class::Script | Class::Font => 1 << 20,
        _ => return false,
    };
    bytes > most
}

/// The kind of thing that a media type names.
pub(super) fn class_of(answer: &PageResponse) -> Class {
    let media = answer.media_type.as_str();
    let is = |start: &str| media.starts_with(start);
    match media {
        "" | "application/octet-stream" | "binary/octet-stream" => Class::Unknown,
        "text/html" | "application/xhtml+xml" => Class::Page,
        "text/css" => Class::Style,
        "application/ogg" => Class::Media,
        _ if media.ends_with("javascript") || media.ends_with("ecmascript") => Class::Script,
        _ if is("image/") => Class::Picture,
        _ if is("audio/") || is("video/") => Class::Media,
        _ if is("font/") || is("application/font") || is("application/x-font") => Class::Font,
        "application/vnd.ms-fontobject" => Class::Font,
        _ => Class::Other,
    }
}

/// What is wrong with something else at an address than the element expects.
pub(super) fn misfit(kind: LinkKind, class: Class) -> Option<&'static str> {
    use Class as C;
    use LinkKind as K;
    let fits = match (kind, class) {
        (_, C::Unknown) => true,
        (K::Picture | K::PictureSet | K::Icon | K::Drawing, C::Picture) => true,
        (K::Picture | K::PictureSet | K::Icon | K::Drawing, _) => false,
        // Browsers take no sheet of another type (in pages with a document type).
        (K::Style, class) => class == C::Style,
        (K::Module, class) => class == C::Script,
        // Scripts are run whatever their type, but for those that are pages, pictures and the like.
        (K::Script, class) => matches!(class, C::Script | C::Other),
        (K::Media, class) => matches!(class, C::Media | C::Other),
        (K::Font, class) => matches!(class, C::Font | C::Other | C::Picture),
        _ => true,
    };
    let is = match class {
        C::Page => "a page came",
        C::Style => "a style sheet came",
        C::Script => "a script came",
        C::Picture => "a picture came",
        C::Media => "sound or film came",
        C::Font => "a font came",
        C::Other | C::Unknown => "another type of file came",
    };
    (!fits).then_some(is)
}

/// What a thing is called that an element expects.
pub(super) fn expected(kind: LinkKind) -> &'static str {
    match kind {
        LinkKind::Style => "a style sheet",
        LinkKind::Script | LinkKind::Module => "a script",
        LinkKind::Media => "sound or film",
        LinkKind::Font => "a font",
        _ => "a picture",
    }
}

/// What is wrong for whoever refers to an address.
pub(super) fn fault<'a>(
    address: &'a str,
    outcome: &'a Outcome,
    reference: &Reference,
) -> Option<Fault<'a>> {
    let broken = match reference.kind.is_resource() {
        true => Code::BrokenResource,
        false => Code::BrokenLink,
    };
    let shown = matches!(reference.usage, Usage::Loaded | Usage::Styled | Usage::Followed);
    Some(match outcome {
        Outcome::Status(status) => {
            let cause = cause(*status);
            Fault { code: broken, address, cause, detail: words(*status) }
        }
        Outcome::Turned(status, host) => {
            let detail = format!("{} to programs", words(*status));
            Fault { code: Code::NotChecked, address: host, cause: cause(*status), detail }
        }
        Outcome::Chain(way) if shown => {
            let detail = format!("{} redirects: {}", way.len() - 1, way.join(" → "));
            Fault { code: Code::RedirectChain, address, cause: "", detail }
        }
        Outcome::Chain(_) => return None,
        Outcome::Heavy(bytes) if reference.kind.is_resource() => heavy(address, *bytes),
        Outcome::Slow(waited) if reference.kind.is_resource() => slow(address, *waited),
        Outcome::Heavy(_) | Outcome::Slow(_) => return None,
        Outcome::Loop(way) => {
            Fault { code: Code::RedirectLoop, address, cause: "", detail: way.join(" → ") }
        }
        Outcome::Old(target) => {
            let detail = format!("it leads to {target}");
            Fault { code: Code::OldRedirect, address, cause: "", detail }
        }
        Outcome::Insecure(way) => {
            Fault { code: Code::InsecureRedirect, address, cause: "", detail: way.join(" → ") }
        }
        Outcome::Login(page) => {
            let detail = format!("it leads to {page}");
            Fault { code: Code::LoginNeeded, address, cause: "", detail }
        }
        Outcome::Problem(problem) => {
            let detail = problem.to_string();
            Fault { code: broken, address, cause: problem.cause(), detail }
        }
        Outcome::Host(host, problem) => {
            let (cause, detail) = (problem.cause(), problem.to_string());
            Fault { code: Code::HostUnreachable, address: host, cause, detail }
        }
        Outcome::SoftMissing => {
            let detail = "it shows what the server shows at a made-up address".into();
            Fault { code: Code::SoftMissing, address, cause: "", detail }
        }
    })
}

/// Something that is larger than it should be.
pub(super) fn heavy(address: &str, bytes: u64) -> Fault<'_> {
    Fault { code: Code::HeavyFile, address, cause: "", detail: size(bytes) }
}

/// Something that came after so many milliseconds.
pub(super) fn slow(address: &str, waited: u64) -> Fault<'_> {
    let detail = format!("{:.1} s until the answer began", waited as f64 / 1000.0);
    Fault { code: Code::SlowAnswer, address, cause: "", detail }
}

/// A status as a cause: the usual ones by their number.
fn cause(status: u16) -> &'static str {
    match status {
        400 => "400",
        401 => "401",
        403 => "403",
        404 => "404",
        405 => "405",
        410 => "410",
        429 => "429",
        451 => "451",
        500 => "500",
        502 => "502",
        503 => "503",
        504 => "504",
        999 => "999",
        _ if status >= 500 => "5xx",
        _ => "4xx",
    }
}

/// A status in words.
pub(super) fn words(status: u16) -> String {
    let meaning = match status {
        401 => "a password is required",
        403 => "access is refused",
        404 => "not found",
        410 => "gone",
        429 => "too many requests",
        500 => "the site's program reports an error",
        502..=504 => "the server is not ready",
        _ => "",
    };
    if meaning.is_empty() {
        format!("status {status}")
    } else {
        format!("status {status}, {meaning}")
    }
}
