//! One cell of a table: which text its bytes stand for, and what becomes of it.
//!
//! Lengths in serialized values count bytes of the character set that the site's
//! program uses on its connection, UTF-8. A column stored in latin1 is therefore
//! decoded first and encoded again afterwards.

use super::serialized::is_serialized;
use super::{Matches, Reason, Rewriter};
use encoding_rs::WINDOWS_1252;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// What the bytes of a column stand for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ColumnText {
    /// Text in UTF-8 or ASCII.
    Utf8,
    /// Text in latin1 as MariaDB understands it (Windows-1252).
    Latin1,
    /// Bytes without a character set.
    Binary,
    /// Text in a character set that Fernweh does not decode; left as it is.
    Other,
}

/// What was found in a cell that holds an old name.
pub struct CellOutcome<'a> {
    /// The text that was looked at; the ranges of `found` refer to it.
    pub view: Cow<'a, [u8]>,
    /// What was found.
    pub found: Matches,
    /// The new bytes of the cell, if it changes.
    pub new: Option<Vec<u8>>,
}

impl Rewriter {
    /// Looks into a cell; `None` if no old name occurs in it.
    pub fn cell<'a>(&self, text: ColumnText, value: &'a [u8]) -> Option<CellOutcome<'a>> {
        if !self.concerns(value) {
            return None;
        }
        match text {
            ColumnText::Latin1 if !value.is_ascii() => Some(self.latin1_cell(value)),
            ColumnText::Utf8 | ColumnText::Latin1 => Some(self.utf8_cell(value)),
            ColumnText::Binary if std::str::from_utf8(value).is_ok() || is_serialized(value) => {
                Some(self.utf8_cell(value))
            }
            ColumnText::Binary => Some(self.untouched(value, Reason::Binary)),
            ColumnText::Other => Some(self.untouched(value, Reason::CharacterSet)),
        }
    }

    /// Counts what is found in data that is not text; it is never changed.
    pub fn binary<'a>(&self, value: &'a [u8]) -> Option<CellOutcome<'a>> {
        self.occurs(value).then(|| self.untouched(value, Reason::Binary))
    }

    fn utf8_cell<'a>(&self, value: &'a [u8]) -> CellOutcome<'a> {
        let found = self.look(value);
        let new = (!found.edits.is_empty()).then(|| found.apply(value));
        CellOutcome { view: Cow::Borrowed(value), found, new }
    }

    fn latin1_cell<'a>(&self, value: &'a [u8]) -> CellOutcome<'a> {
        let decoded = WINDOWS_1252.decode_without_bom_handling(value).0;
        let view = decoded.as_bytes();
        let found = self.look(view);
        // Lengths that fit only the stored bytes were counted in them.
        if found.left.iter().any(|left| left.reason == Reason::DamagedSerialized)
            && is_serialized(value)
        {
            return self.utf8_cell(value);
        }
        let mut new = None;
        if !found.edits.is_empty() {
            let text = String::from_utf8_lossy(&found.apply(view)).into_owned();
            let (bytes, _, misses) = WINDOWS_1252.encode(&text);
            if misses {
                let found = self.left_whole(view, Reason::NoSuchCharacter);
                return CellOutcome { view: Cow::Owned(view.to_vec()), found, new: None };
            }
            new = Some(bytes.into_owned());
        }
        CellOutcome { view: Cow::Owned(view.to_vec()), found, new }
    }

    fn untouched<'a>(&self, value: &'a [u8], reason: Reason) -> CellOutcome<'a> {
        let found = self.left_whole(value, reason);
        CellOutcome { view: Cow::Borrowed(value), found, new: None }
    }
}
