//! What is wrong with the sample site on purpose: one table that the site is built from
//! and that the tests compare the findings with.

use fernweh_core::finding::{Code, Finding, Spot};
use fernweh_core::rewrite::Reason;

/// One deliberate fault of a page.
#[derive(Clone, Copy, Debug)]
pub struct PageFault {
    /// The finding that a scan must report.
    pub code: Code,
    /// The path of the page.
    pub page: &'static str,
    /// The element that carries it.
    pub element: &'static str,
    /// The address as written on the page.
    pub address: &'static str,
    /// The HTML that is put into the page; empty if the fault stands in a file.
    pub html: &'static str,
    /// Only there when the page is served over https.
    pub https_only: bool,
}

const fn fault(
    code: Code,
    page: &'static str,
    element: &'static str,
    address: &'static str,
    html: &'static str,
) -> PageFault {
    let https_only = matches!(
        code,
        Code::MixedBlocked
            | Code::MixedUpgraded
            | Code::InsecureForm
            | Code::InsecureDownload
            | Code::InsecureRedirect
    );
    PageFault { code, page, element, address, html, https_only }
}

impl PageFault {
    /// Whether a finding is this fault.
    pub fn is(&self, finding: &Finding) -> bool {
        let here = |spot: &Spot| {
            spot.page.ends_with(self.page)
                && spot.element == self.element
                && spot.address == self.address
        };
        finding.code == self.code && finding.places.iter().any(here)
    }

    /// The faults that a scan must find: on the new host, which is served over https, or on
    /// the old one.
    pub fn expected(on_new_host: bool) -> Vec<&'static PageFault> {
        let old = |fault: &PageFault| matches!(fault.code, Code::OldAddress | Code::OldRedirect);
        let only_new = |fault: &PageFault| fault.https_only || old(fault);
        PAGE_FAULTS.iter().filter(|fault| on_new_host || !only_new(fault)).collect()
    }
}

/// Every deliberate fault of a page.
pub const PAGE_FAULTS: [PageFault; 30] = [
    fault(
        Code::BrokenLink,
        "/article/the-night-the-dome-stuck",
        "a href",
        "/article/no-such-night",
        "<p>More in <a href=\"/article/no-such-night\">an earlier report</a>.</p>",
    ),
    fault(
        Code::BrokenLink,
        "/members",
        "a href",
        "/files/rota.pdf",
        "<p><a href=\"/files/rota.pdf\">The rota</a></p>",
    ),
    fault(
        Code::BrokenResource,
        "/article/a-comet-in-the-west",
        "img src",
        "/pictures/missing-comet.png",
        "<p><img src=\"/pictures/missing-comet.png\" alt=\"The comet\"></p>",
    ),
    fault(
        Code::RedirectLoop,
        "/article/going-in-circles",
        "a href",
        "/go/round",
        "<p><a href=\"/go/round\">Star trails</a></p>",
    ),
    fault(
        Code::RedirectChain,
        "/article/going-in-circles",
        "a href",
        "/go/first",
        "<p><a href=\"/go/first\">All reports</a></p>",
    ),
    fault(
        Code::MixedUpgraded,
        "/article/moonrise-over-the-bay",
        "img src",
        "http://cdn.example/moon.png",
        "<p><img src=\"http://cdn.example/moon.png\" alt=\"The Moon\"></p>",
    ),
    fault(
        Code::MixedBlocked,
        "/article/moonrise-over-the-bay",
        "script src",
        "http://cdn.example/counter.js",
        "<script src=\"http://cdn.example/counter.js\"></script>",
    ),
    fault(
        Code::MixedBlocked,
        "/article/moonrise-over-the-bay",
        "link href",
        "http://cdn.example/night.css",
        "<link rel=\"stylesheet\" href=\"http://cdn.example/night.css\">",
    ),
    fault(
        Code::MixedBlocked,
        "/article/weather-for-the-weekend",
        "iframe src",
        "http://weather.test/frame",
        "<iframe src=\"http://weather.test/frame\"></iframe>",
    ),
    fault(
        Code::InsecureForm,
        "/article/weather-for-the-weekend",
        "form action",
        "http://newsletter.test/subscribe",
        "<form action=\"http://newsletter.test/subscribe\"><input name=\"mail\"></form>",
    ),
    fault(
        Code::MixedUpgraded,
        "/article/weather-for-the-weekend",
        "div style url()",
        "http://cdn.example/haze.png",
        "<div style=\"background: url('http://cdn.example/haze.png')\">Haze</div>",
    ),
    fault(
        Code::MixedUpgraded,
        "/article/weather-for-the-weekend",
        "audio src",
        "http://cdn.example/wind.ogg",
        "<audio src=\"http://cdn.example/wind.ogg\"></audio>",
    ),
    fault(
        Code::MixedBlocked,
        "/article/a-star-map-to-print",
        "@font-face url()",
        "http://cdn.example/stars.woff2",
        "<link rel=\"stylesheet\" href=\"/styles/print.css\">",
    ),
    fault(
        Code::MixedUpgraded,
        "/article/a-star-map-to-print",
        "url()",
        "http://cdn.example/paper.png",
        "",
    ),
    fault(
        Code::MixedBlocked,
        "/article/a-star-map-to-print",
        "style @import",
        "http://cdn.example/map.css",
        "<style>\n@import url(http://cdn.example/map.css);\n</style>",
    ),
    fault(
        Code::SoftMissing,
        "/article/going-in-circles",
        "a href",
        "/go/lost",
        "<p><a href=\"/go/lost\">A report that is gone</a></p>",
    ),
    fault(
        Code::LoginNeeded,
        "/article/going-in-circles",
        "a href",
        "/go/inside",
        "<p><a href=\"/go/inside\">Inside</a></p>",
    ),
    fault(
        Code::InsecureRedirect,
        "/article/going-in-circles",
        "a href",
        "/go/plain",
        "<p><a href=\"/go/plain\">All reports again</a></p>",
    ),
    fault(
        Code::OldRedirect,
        "/article/going-in-circles",
        "a href",
        "/go/before",
        "<p><a href=\"/go/before\">Where we were</a></p>",
    ),
    fault(
        Code::MissingPlace,
        "/article/going-in-circles",
        "a href",
        "/about#nowhere",
        "<p><a href=\"/about#nowhere\">About us</a></p>",
    ),
    fault(
        Code::InsecureDownload,
        "/article/going-in-circles",
        "a href",
        "http://cdn.example/star-map.zip",
        "<p><a href=\"http://cdn.example/star-map.zip\">The star map</a></p>",
    ),
    fault(
        Code::WrongContent,
        "/article/going-in-circles",
        "img src",
        "/about",
        "<p><img src=\"/about\" alt=\"About\"></p>",
    ),
    fault(
        Code::ElsewhereAddress,
        "/article/going-in-circles",
        "link canonical",
        "https://elsewhere.test/circles",
        "<link rel=\"canonical\" href=\"https://elsewhere.test/circles\">",
    ),
    fault(Code::ServerError, "/go/error", "page", "/go/error", ""),
    fault(Code::EmptyPage, "/go/nothing", "page", "/go/nothing", ""),
    fault(Code::HiddenPage, "/go/hidden", "page", "noindex", ""),
    fault(Code::PolicyBlocked, "/go/strict", "img src", "/icon.png", ""),
    fault(Code::SameTitle, "/go/untitled", "title", "Untitled document", ""),
    fault(Code::HeavyFile, "/go/untitled", "img src", "/go/poster.png", ""),
    fault(Code::OldAddress, "/about", "a href", "http://glimmerpoint.example/visit", ""),
];

/// An old address that must still be there after the move, and why.
#[derive(Clone, Copy, Debug)]
pub struct Remainder {
    /// The column or file.
    pub place: &'static str,
    /// The reason that the report must give; `None` for what is no old address at all.
    pub reason: Option<Reason>,
    /// What stands there.
    pub text: &'static str,
}

/// Every place in which the old name remains on purpose.
pub const REMAINDERS: [Remainder; 12] = [
    Remainder {
        place: "gp_settings.value",
        reason: Some(Reason::DamagedSerialized),
        text: DAMAGED,
    },
    Remainder {
        place: "gp_articles.body",
        reason: Some(Reason::OtherPort),
        text: "http://glimmerpoint.example:8080/webcam",
    },
    Remainder {
        place: "gp_articles.body",
        reason: Some(Reason::BareHost),
        text: "type glimmerpoint.example into the address bar",
    },
    Remainder {
        place: "gp_articles.body",
        reason: None,
        text: "http://glimmerpoint.example.evil.test/",
    },
    Remainder { place: "gp_articles.body", reason: None, text: "http://notglimmerpoint.example/" },
    Remainder { place: "gp_articles.body", reason: None, text: "http://sub.glimmerpoint.example/" },
    Remainder { place: "gp_articles.body", reason: None, text: "info@glimmerpoint.example" },
    Remainder { place: "gp_members.email", reason: None, text: "keeper@glimmerpoint.example" },
    Remainder {
        place: "gp_pictures.thumbnail",
        reason: Some(Reason::Binary),
        text: "http://glimmerpoint.example/thumb",
    },
    Remainder {
        place: ".htaccess",
        reason: Some(Reason::BareHost),
        text: "RewriteCond %{HTTP_HOST} ^www\\.glimmerpoint\\.example$",
    },
    Remainder {
        place: "downloads/star-map.bin",
        reason: Some(Reason::Binary),
        text: "http://glimmerpoint.example/star-map",
    },
    Remainder { place: "config/site.php", reason: None, text: "keeper@glimmerpoint.example" },
];

/// A serialized value whose lengths have been wrong since long ago.
pub const DAMAGED: &str =
    "a:1:{s:4:\"text\";s:99:\"<a href=\"http://glimmerpoint.example/visit\">Visit</a>\";}";

/// Pages that are faults themselves are linked from here.
const LINKED: &str = "<p><a href=\"/go/error\">Tonight</a>, <a href=\"/go/nothing\">nothing</a>, \
    <a href=\"/go/hidden\">a draft</a>, <a href=\"/go/strict\">strict</a>, \
    <a href=\"/go/untitled\">the programme</a></p>";

/// The faults that stand in the body of an article with this path.
pub fn html_of(page: &str) -> String {
    let linked = if page == "/article/going-in-circles" { LINKED } else { "" };
    linked.to_owned()
        + &PAGE_FAULTS
            .iter()
            .filter(|fault| fault.page == page)
            .map(|fault| fault.html)
            .collect::<String>()
}
