//! The clock of the host: certificates and logins depend on it.

use super::answers::time_of;
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
        let said = answer.header("date").next();
        let evidence = format!("{}/ → Date: {}", at.url, said.unwrap_or("none"));
        vec![judged(said, at.now).seen([evidence])]
    }
}

/// What is to be said of a clock that says this at that moment.
fn judged(said: Option<&str>, now: i64) -> Found {
    let Some(clock) = said.and_then(seconds_of_http) else {
        return Found::warned(
            Topic::Time,
            "clock-unknown",
            "the clock of the host is not known: it does not say the time",
            "compare it by hand",
        );
    };
    // The answer may be as old as this look.
    let off = clock - now;
    if off.abs() <= MINUTE {
        return Found::passed(Topic::Time, "clock", "the clock of the host is right");
    }
    let time = time_of(u32::try_from(off.abs()).unwrap_or(u32::MAX));
    let side = if off > 0 { "ahead of" } else { "behind" };
    Found::warned(
        Topic::Time,
        "clock-wrong",
        format!("the clock of the host is {time} {side} this machine's"),
        "let both follow a time server (NTP)",
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clock_may_be_off_by_a_minute() {
        // Sun, 06 Nov 1994 08:49:37 GMT (RFC 9110, 5.6.7).
        let then = 784_111_777;
        for (said, now, code) in [
            (Some("Sun, 06 Nov 1994 08:49:37 GMT"), then, "clock"),
            (Some("Sun, 06 Nov 1994 08:49:37 GMT"), then + 60, "clock"),
            (Some("Sun, 06 Nov 1994 08:49:37 GMT"), then + 61, "clock-wrong"),
            (Some("Sun, 06 Nov 1994 08:49:37 GMT"), then - 86_400, "clock-wrong"),
            (Some("yesterday"), then, "clock-unknown"),
            (None, then, "clock-unknown"),
        ] {
            assert_eq!(judged(said, now).code, code, "{said:?} {now}");
        }
        let ahead = judged(Some("Sun, 06 Nov 1994 08:49:37 GMT"), then - 600);
        assert!(ahead.what.contains("10 min ahead of"), "{}", ahead.what);
    }
}
