//! Whether a value keeps its meaning in a column of another type.
//!
//! Servers refuse what is far off (texts in a number, numbers out of range). What they round or
//! cut without a word is found here, from the text of the value and what the column can hold.

use std::fmt;

/// What a column can hold, as far as servers cut or round silently.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fit {
    /// A whole number.
    Whole,
    /// A number with so many decimal places.
    Places(usize),
    /// A binary floating-point number of 32 bits (IEEE 754).
    Single,
    /// One of 64 bits.
    Double,
    /// A moment or a span of time with so many decimal places of a second.
    Seconds(usize),
    /// A day without a time.
    Day,
    /// A text of so many characters.
    Length(usize),
}

impl Fit {
    /// Whether a value, written as text, is the same value in such a column. What is no number
    /// or time at all is left to the server, which refuses it.
    pub fn takes(self, value: &[u8]) -> bool {
        let text = || std::str::from_utf8(value).unwrap_or_default().trim();
        match self {
            Fit::Whole => Decimal::parse(text()).is_none_or(|number| number.places() == 0),
            Fit::Places(most) => Decimal::parse(text()).is_none_or(|n| n.places() <= most),
            Fit::Single => same_number(text(), |text| {
                let number: f32 = text.parse().ok()?;
                // Half of all digits that a wider type shows are those of the conversion.
                let exact = text.parse::<f64>().ok()? == f64::from(number);
                Some((number.is_finite(), exact, format!("{number:e}")))
            }),
            Fit::Double => same_number(text(), |text| {
                let number: f64 = text.parse().ok()?;
                Some((number.is_finite(), false, format!("{number:e}")))
            }),
            Fit::Seconds(most) => fraction(value).len() <= most,
            Fit::Day => {
                let time = text().split_once([' ', 'T']).map_or("", |(_, time)| time);
                let clock = time.split(['+', '-']).next().unwrap_or_default();
                !clock.bytes().any(|byte| matches!(byte, b'1'..=b'9'))
            }
            Fit::Length(most) => {
                let length = match std::str::from_utf8(value) {
                    Ok(text) => text.chars().count(),
                    Err(_) => value.len(),
                };
                // Only spaces are cut silently.
                length <= most || !value.ends_with(b" ")
            }
        }
    }
}

impl fmt::Display for Fit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Fit::Whole | Fit::Places(0) => write!(f, "whole numbers"),
            Fit::Places(most) => write!(f, "numbers with {most} decimal places"),
            Fit::Single => write!(f, "numbers of 32 bits"),
            Fit::Double => write!(f, "numbers of 64 bits"),
            Fit::Seconds(0) => write!(f, "times in whole seconds"),
            Fit::Seconds(most) => write!(f, "times with {most} decimal places"),
            Fit::Day => write!(f, "days without a time"),
            Fit::Length(most) => write!(f, "texts of {most} characters"),
        }
    }
}

/// The decimal places of the seconds in a text, without zeros at their end.
fn fraction(value: &[u8]) -> &[u8] {
    let Some(dot) = memchr::memchr(b'.', value) else { return &[] };
    let digits = &value[dot + 1..];
    let end = digits.iter().position(|byte| !byte.is_ascii_digit()).unwrap_or(digits.len());
    let end = digits[..end].iter().rposition(|byte| *byte != b'0').map_or(0, |last| last + 1);
    &digits[..end]
}

/// Whether a number stays what it is; `read` gives whether the column's number is finite, is
/// exactly that of the text, and its shortest notation.
fn same_number(text: &str, read: impl Fn(&str) -> Option<(bool, bool, String)>) -> bool {
    let Some(number) = Decimal::parse(text) else { return true };
    match read(text) {
        Some((false, ..)) | None => true,
        Some((true, exact, shortest)) => exact || Decimal::parse(&shortest) == Some(number),
    }
}

/// A decimal number: its digits without zeros at either end, and the power of ten of the last.
#[derive(Debug, PartialEq, Eq)]
struct Decimal {
    negative: bool,
    digits: Vec<u8>,
    exponent: i64,
}

impl Decimal {
    fn parse(text: &str) -> Option<Self> {
        let (negative, rest) = match text.strip_prefix('-') {
            Some(rest) => (true, rest),
            None => (false, text.strip_prefix('+').unwrap_or(text)),
        };
        let (mantissa, exponent) = match rest.split_once(['e', 'E']) {
            Some((mantissa, exponent)) => (mantissa, exponent.parse::<i32>().ok()?),
            None => (rest, 0),
        };
        let (whole, places) = mantissa.split_once('.').unwrap_or((mantissa, ""));
        let all: Vec<u8> = whole.bytes().chain(places.bytes()).collect();
        if all.is_empty() || !all.iter().all(u8::is_ascii_digit) {
            return None;
        }
        let exponent = i64::from(exponent) - places.len() as i64;
        let Some(first) = all.iter().position(|digit| *digit != b'0') else {
            return Some(Self { negative: false, digits: Vec::new(), exponent: 0 });
        };
        let last = all.iter().rposition(|digit| *digit != b'0').unwrap_or(first);
        let exponent = exponent + (all.len() - 1 - last) as i64;
        Some(Self { negative, digits: all[first..=last].to_vec(), exponent })
    }

    /// Its decimal places.
    fn places(&self) -> usize {
        usize::try_from(-self.exponent).unwrap_or(0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_would_be_rounded_or_cut_does_not_fit() {
        for (fit, takes, refuses) in [
            (Fit::Whole, &["7", "-7.000", "1e3", "x", "", "70e-1"][..], &["7.5", "1e-3"][..]),
            (Fit::Places(2), &["1.25", "1.2500", "-0", "12e-2", "NaN"], &["1.255", "125e-3"]),
            (
                Fit::Single,
                &["0.1", "0.10000000149011612", "16777216", "NaN", "1e39", "1.5"],
                &["0.1234567890123", "16777217"],
            ),
            (Fit::Double, &["0.1", "1e300", "9007199254740992"], &["9007199254740993"]),
            (
                Fit::Seconds(1),
                &["2026-01-01 10:00:00", "10:00:00.50+02", "infinity"],
                &["2026-01-01 10:00:00.55", "00:00:00.000001"],
            ),
            (
                Fit::Day,
                &["2026-01-01", "2026-01-01 00:00:00.000", "2026-01-01 00:00:00+00"],
                &["2026-01-01 00:00:01", "2026-01-01 10:00:00+02"],
            ),
            (Fit::Length(3), &["ab ", "größer", "ä  "], &["ab  ", "äöü "]),
        ] {
            for text in takes {
                assert!(fit.takes(text.as_bytes()), "{fit:?} takes {text}");
            }
            for text in refuses {
                assert!(!fit.takes(text.as_bytes()), "{fit:?} refuses {text}");
            }
        }
    }

    proptest! {
        /// Judged by whole numbers, whose places are moved.
        #[test]
        fn places_are_counted_right(number in -99999i64..99999, places in 0usize..5, most in 0usize..5) {
            let scale = 10f64.powi(places as i32);
            let text = format!("{:.places$}", number as f64 / scale);
            let needed = (0..=places).find(|n| number % 10i64.pow((places - n) as u32) == 0).unwrap();
            prop_assert_eq!(Fit::Places(most).takes(text.as_bytes()), needed <= most);
        }

        /// A number that was one of 32 bits stays what it is, also when a wider type shows it.
        #[test]
        fn numbers_of_the_same_type_fit(number: f32) {
            let (wide, own) = (f64::from(number).to_string(), number.to_string());
            prop_assert!(Fit::Single.takes(wide.as_bytes()) && Fit::Single.takes(own.as_bytes()));
            prop_assert!(Fit::Double.takes(wide.as_bytes()));
        }
    }
}
