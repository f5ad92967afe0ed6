//! What the answer to the first page says about what is in between.

use fernweh_core::finding::Check;
use fernweh_ports::{PageProblem, PageResponse};
use url::Url;

/// What came back for the front page.
pub type Answer = Result<PageResponse, PageProblem>;

/// Words on a page that a protective proxy shows in place of the site's.
const CHALLENGES: [&str; 6] = [
    "captcha",
    "checking your browser",
    "verify you are human",
    "enable javascript and cookies",
    "unusual traffic",
    "security check",
];
/// Words on a page that is shown while a site is worked on.
const MAINTENANCE: [&str; 4] = ["maintenance", "be right back", "under construction", "wartung"];
/// Parts of the address of a login.
const LOGINS: [&str; 5] = ["login", "signin", "sign-in", "auth", "sso"];

/// Names what stands in front of a site. `login` says that a login for HTTP is configured;
/// `destination`, that the domain may still point elsewhere; `address`, that the host is named
/// beside its domain.
pub fn judge_page(
    url: &str,
    answer: &Answer,
    login: bool,
    destination: bool,
    address: bool,
) -> Check {
    let shown = if destination { "the destination's page" } else { "the source's page" };
    let response = match answer {
        Ok(response) => response,
        Err(problem) if destination && !address => {
            return Check::warned(
                format!("{shown} {url} does not answer: {problem}"),
                "set connect-to = \"203.0.113.9\" for the site if its domain does not point \
                 there yet",
            );
        }
        Err(problem) => {
            return Check::warned(
                format!("{shown} {url} does not answer: {problem}"),
                "moving does not need it, but scanning does: check whether the web server runs",
            );
        }
    };
    let text = String::from_utf8_lossy(&response.body).to_lowercase();
    let has = |words: &[&str]| words.iter().any(|word| text.contains(word));
    let refused = matches!(response.status, 403 | 429 | 503);
    match response.status {
        401 if login => Check::failed(
            format!("{shown} {url} refuses the login that is configured"),
            "check login and password.login",
        ),
        401 => Check::warned(
            format!("{shown} {url} asks for a password (HTTP authentication)"),
            "set login and password.login for the site, so that it can be scanned",
        ),
        _ if refused && has(&CHALLENGES) => Check::warned(
            format!("a protective proxy in front of {url} blocks programs"),
            "allow your address there during the move, or set connect-to to the host itself",
        ),
        status if refused && (status == 503 || has(&MAINTENANCE)) && !has(&CHALLENGES) => {
            Check::warned(
                format!("{url} shows a maintenance page (status {status})"),
                "end the maintenance before scanning; moving does not need it",
            )
        }
        300..=399 => redirected(shown, url, response),
        200..=299 if text.contains("type=\"password\"") => Check::warned(
            format!("{shown} {url} is a login form"),
            "pages behind it cannot be scanned; moving does not need them",
        ),
        200..=299 => Check::passed(format!("{shown} {url} answers")),
        404 if destination => Check::passed(format!("{shown} {url} answers, but has no page yet")),
        status => Check::warned(
            format!("{shown} {url} answers with status {status}"),
            "open it in a browser and check what is wrong",
        ),
    }
}

fn redirected(shown: &str, url: &str, response: &PageResponse) -> Check {
    let to = response.location.clone().unwrap_or_default();
    let full = Url::parse(url).and_then(|url| url.join(&to));
    let path = full.as_ref().map(|to| to.path().to_lowercase()).unwrap_or_default();
    let other_host = match (Url::parse(url), &full) {
        (Ok(here), Ok(there)) => here.host_str() != there.host_str(),
        _ => false,
    };
    if LOGINS.iter().any(|word| path.contains(word)) {
        return Check::warned(
            format!("{shown} {url} redirects to a login: {to}"),
            "pages behind it cannot be scanned; moving does not need them",
        );
    }
    match other_host {
        true => Check::warned(
            format!("{shown} {url} redirects to another host: {to}"),
            "check url of the site: it must be the address that visitors use",
        ),
        false => Check::passed(format!("{shown} {url} answers and redirects to {to}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_core::finding::Verdict;

    fn page(status: u16, location: Option<&str>, body: &str) -> Answer {
        let (location, body) = (location.map(str::to_owned), body.as_bytes().to_vec());
        Ok(PageResponse { status, location, body, ..PageResponse::default() })
    }

    #[test]
    fn what_stands_before_a_site_is_named() {
        let url = "http://glimmerpoint.example/";
        for (answer, login, verdict, words) in [
            (page(200, None, "<h1>Glimmer Point</h1>"), false, Verdict::Passed, "answers"),
            (page(401, None, ""), false, Verdict::Warned, "asks for a password"),
            (page(401, None, ""), true, Verdict::Failed, "refuses the login"),
            (page(403, None, "Verify you are human"), false, Verdict::Warned, "protective proxy"),
            (page(503, None, "Checking your browser"), false, Verdict::Warned, "protective proxy"),
            (page(503, None, "We are at work"), false, Verdict::Warned, "maintenance"),
            (page(302, Some("/members/login?back=/"), ""), false, Verdict::Warned, "to a login"),
            (page(301, Some("https://dome.test/"), ""), false, Verdict::Warned, "another host"),
            (page(301, Some("/start"), ""), false, Verdict::Passed, "redirects to /start"),
            (page(200, None, "<input type=\"password\">"), false, Verdict::Warned, "login form"),
            (page(500, None, ""), false, Verdict::Warned, "status 500"),
        ] {
            let check = judge_page(url, &answer, login, false, false);
            assert_eq!(check.verdict, verdict, "{check:?}");
            assert!(check.what.contains(words), "{check:?}");
        }
    }

    #[test]
    fn a_domain_that_points_elsewhere_is_no_failure() {
        let answer = Err(PageProblem::Reach("no address".into()));
        let check = judge_page("https://www.glimmer-point.example/", &answer, false, true, false);
        assert_eq!(check.verdict, Verdict::Warned);
        assert!(check.hint.unwrap().contains("connect-to ="));
    }
}
