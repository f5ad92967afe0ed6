//! The clock of the host: certificates and logins depend on it.

use super::certificate::not_known;
use super::{Found, Looking, Looks, Topic};

pub(super) struct Time;

/// Sessions and one-time passwords bear a minute.
const MINUTE: i64 = 60;

/// A moment as headers of HTTP write it (RFC 9110, 5.6.7), in seconds since 1970.
fn seconds_of_http(text: &str) -> Option<i64> {
    jiff::fmt::rfc2822::parse(text).ok().map(|at| at.timestamp().as_second())
}

impl Looks for Time {
    fn look(&self, at: &Looking<'_>) -> Vec<Found> {
        let Some(web) = &at.web else { return vec![not_known(at, Topic::Time)] };
        let Ok(answer) = web.front(&at.url) else {
            return vec![Found::warned(
                Topic::Time,
                "clock-unknown",
                "the clock of the host is not known: its first page does not answer",
                "see what is said of the redirects",
            )];
        };
        let said = answer.header("date").next().map(str::to_owned);
        let clock = said.as_deref().and_then(seconds_of_http);
        let evidence = format!("{}/ → Date: {}", at.url, said.as_deref().unwrap_or("none"));
        let found = match clock {
            None => Found::warned(
                Topic::Time,
                "clock-unknown",
                "the clock of the host is not known: it does not say the time",
                "compare it by hand",
            ),
            Some(clock) => {
                // The answer may be as old as this look.
                let off = clock - at.now;
                match off.abs() <= MINUTE {
                    true => Found::passed(Topic::Time, "clock", "the clock of the host is right"),
                    false => Found::warned(
                        Topic::Time,
                        "clock-wrong",
                        format!(
                            "the clock of the host is {} {} this machine's",
                            super::answers::time_of(u32::try_from(off.abs()).unwrap_or(u32::MAX)),
                            if off > 0 { "ahead of" } else { "behind" }
                        ),
                        "let both follow a time server (NTP)",
                    ),
                }
            }
        };
        vec![found.seen([evidence])]
    }
}
