//! Character sets by the names that servers give them.

use crate::sql::Dialect;
use crate::sql::lexer::Token;
use crate::sql::statement::Reader;
use encoding_rs::Encoding;

/// Text of one character set in another; both by MariaDB's names.
pub(super) fn converted(bytes: Vec<u8>, from: &str, to: &str) -> Result<Vec<u8>, String> {
    let is_utf8 = |name: &str| matches!(name, "utf8" | "utf8mb3" | "utf8mb4");
    // In a script of bytes every text is in the character set of its column already.
    if from == to
        || from == "binary"
        || (is_utf8(from) && is_utf8(to))
        || bytes.is_ascii() && !is_wide(to)
    {
        return Ok(bytes);
    }
    let unknown = |name: &str| format!("unknown character set {name}");
    let decoder = encoding(from).ok_or_else(|| unknown(from))?;
    let decoded = decoder.decode_without_bom_handling_and_without_replacement(&bytes);
    let decoded = decoded.ok_or_else(|| format!("a text that is not {from}"))?;
    let wide = |units: Vec<u8>| Ok(units);
    match to {
        "utf16" | "ucs2" => wide(decoded.encode_utf16().flat_map(u16::to_be_bytes).collect()),
        "utf16le" => wide(decoded.encode_utf16().flat_map(u16::to_le_bytes).collect()),
        "utf32" => wide(decoded.chars().flat_map(|ch| (ch as u32).to_be_bytes()).collect()),
        _ => {
            let encoder = encoding(to).ok_or_else(|| unknown(to))?;
            let (encoded, _, lossy) = encoder.encode(&decoded);
            match lossy {
                true => Err(format!("a character that {to} does not have")),
                false => Ok(encoded.into_owned()),
            }
        }
    }
}

pub(super) fn is_wide(name: &str) -> bool {
    matches!(name, "utf16" | "utf16le" | "utf32" | "ucs2")
}

/// The encoding that MariaDB calls so. Its latin1 is Windows-1252.
pub(super) fn encoding(name: &str) -> Option<&'static Encoding> {
    let label = match name {
        "utf8" | "utf8mb3" | "utf8mb4" | "ascii" => "utf-8",
        "latin1" => "windows-1252",
        "latin2" => "iso-8859-2",
        "latin5" => "windows-1254",
        "latin7" => "iso-8859-13",
        "cp1250" | "cp1251" | "cp1256" | "cp1257" => {
            return Encoding::for_label(format!("windows-{}", &name[2..]).as_bytes());
        }
        "cp866" => "ibm866",
        "greek" => "iso-8859-7",
        "hebrew" => "iso-8859-8",
        "koi8r" => "koi8-r",
        "koi8u" => "koi8-u",
        "tis620" => "windows-874",
        "sjis" | "cp932" => "shift_jis",
        "ujis" | "eucjpms" => "euc-jp",
        "euckr" => "euc-kr",
        "gb2312" | "gbk" => "gbk",
        "big5" => "big5",
        _ => return None,
    };
    Encoding::for_label(label.as_bytes())
}

/// The bare words of a text, in upper case; what stands in parentheses is passed.
pub(super) fn words(dialect: Dialect, text: &str) -> Vec<String> {
    let mut reader = Reader::new(dialect, text.as_bytes());
    let mut words = Vec::new();
    let mut depth = 0;
    while let Ok(Some(token)) = reader.next() {
        match token {
            Token::Sign(b'(') => depth += 1,
            Token::Sign(b')') => depth -= 1,
            Token::Word(word) if depth == 0 => words.push(word.to_ascii_uppercase()),
            _ => {}
        }
    }
    words
}

/// The character set that a column or a table names (MariaDB).
pub(super) fn charset_in(text: &str) -> Option<String> {
    let mut reader = Reader::new(Dialect::Mariadb, text.as_bytes());
    let mut of_collation = None;
    while let Ok(Some(token)) = reader.next() {
        let named = token.is("CHARSET") || token.is("SET") || token.is("COLLATE");
        if !named {
            continue;
        }
        let mut after = reader.copied();
        let mut name = after.name().ok();
        if name.is_none() {
            // An equals sign may stand between.
            name = after.name().ok();
        }
        let Some((name, _)) = name else { continue };
        let name = name.to_ascii_lowercase();
        if !token.is("COLLATE") {
            return Some(name);
        }
        of_collation = name.split('_').next().map(str::to_owned);
    }
    of_collation
}
