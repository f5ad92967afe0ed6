//! `CREATE TABLE` of MariaDB and MySQL, as their servers write it.

use super::super::StatementError;
use super::super::shape::Shape;
use crate::sql::lexer::Token;

/// Storage engines that keep to the server's own files.
const ENGINES: [&str; 17] = [
    "InnoDB",
    "MyISAM",
    "Aria",
    "MEMORY",
    "HEAP",
    "CSV",
    "ARCHIVE",
    "BLACKHOLE",
    "MRG_MyISAM",
    "MRG_MYISAM",
    "MERGE",
    "RocksDB",
    "TokuDB",
    "SEQUENCE",
    "ndbcluster",
    "NDB",
    "Columnstore",
];

/// Options of a table that take one value.
const OPTIONS: [&str; 29] = [
    "AUTO_INCREMENT",
    "AVG_ROW_LENGTH",
    "CHARSET",
    "CHECKSUM",
    "COLLATE",
    "COMMENT",
    "COMPRESSION",
    "DELAY_KEY_WRITE",
    "ENCRYPTED",
    "ENCRYPTION",
    "ENCRYPTION_KEY_ID",
    "IETF_QUOTES",
    "INSERT_METHOD",
    "KEY_BLOCK_SIZE",
    "MAX_ROWS",
    "MIN_ROWS",
    "PACK_KEYS",
    "PAGE_CHECKSUM",
    "PAGE_COMPRESSED",
    "PAGE_COMPRESSION_LEVEL",
    "ROW_FORMAT",
    "SEQUENCE",
    "STATS_AUTO_RECALC",
    "STATS_PERSISTENT",
    "STATS_SAMPLE_PAGES",
    "TABLE_CHECKSUM",
    "TRANSACTIONAL",
    "AUTOEXTEND_SIZE",
    "ENGINE_ATTRIBUTE",
];

/// Words of a type behind its name.
const OF_TYPE: [&str; 12] = [
    "UNSIGNED",
    "SIGNED",
    "ZEROFILL",
    "BINARY",
    "ASCII",
    "UNICODE",
    "BYTE",
    "PRECISION",
    "VARYING",
    "VARCHAR",
    "VARCHARACTER",
    "VARBINARY",
];

/// Attributes of a column that are words alone.
const ATTRIBUTES: [&[&str]; 21] = [
    &["NOT", "NULL"],
    &["NULL"],
    &["NOT", "ENFORCED"],
    &["ENFORCED"],
    &["NOT", "SECONDARY"],
    &["AUTO_INCREMENT"],
    &["PRIMARY", "KEY"],
    &["UNIQUE", "KEY"],
    &["UNIQUE"],
    &["KEY"],
    &["VIRTUAL"],
    &["PERSISTENT"],
    &["STORED"],
    &["INVISIBLE"],
    &["VISIBLE"],
    &["COMPRESSED"],
    &["WITHOUT", "SYSTEM", "VERSIONING"],
    &["WITH", "SYSTEM", "VERSIONING"],
    &["GENERATED", "ALWAYS", "AS", "ROW", "START"],
    &["GENERATED", "ALWAYS", "AS", "ROW", "END"],
    &["SERIAL", "DEFAULT", "VALUE"],
];

/// What may follow a default that is no literal.
const BEHIND_DEFAULT: [&[&str]; 17] = [
    &["NOT", "NULL"],
    &["NULL"],
    &["ON", "UPDATE"],
    &["COMMENT"],
    &["COLLATE"],
    &["AUTO_INCREMENT"],
    &["UNIQUE"],
    &["PRIMARY"],
    &["KEY"],
    &["CHECK"],
    &["CONSTRAINT"],
    &["INVISIBLE"],
    &["COMPRESSED"],
    &["WITHOUT", "SYSTEM"],
    &["WITH", "SYSTEM"],
    &["CHARACTER", "SET"],
    &["REFERENCES"],
];

/// What follows the name: columns and keys, options, partitions.
pub(super) fn definition(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    shape.sign(b'(')?;
    shape.each(&mut item)?;
    shape.sign(b')')?;
    options(shape)?;
    partitions(shape)?;
    while shape.mark(&mut |inside| {
        options(inside)?;
        partitions(inside)
    })? {
        options(shape)?;
    }
    Ok(())
}

/// The name of a storage engine, behind the word.
pub(super) fn engine(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    shape.sign_if(b'=')?;
    let name = match shape.peek()? {
        Some(Token::Word(name)) => name.to_owned(),
        Some(Token::Text(name)) => String::from_utf8_lossy(&name).into_owned(),
        _ => return Err(shape.refused()),
    };
    if !ENGINES.iter().any(|known| known.eq_ignore_ascii_case(&name)) {
        return Err(StatementError::Outside(format!("storage engine {name}")));
    }
    shape.value()
}

fn options(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    loop {
        shape.sign_if(b',')?;
        if shape.mark(&mut options_in_mark)? {
            continue;
        }
        if !option(shape)? {
            return Ok(());
        }
    }
}

fn options_in_mark(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    if shape.peek()?.is_some_and(|token| token.is("PARTITION")) {
        return partitions(shape);
    }
    while option(shape)? {}
    Ok(())
}

fn option(shape: &mut Shape<'_>) -> Result<bool, StatementError> {
    if shape.one_of(&["ENGINE", "TYPE"])? {
        engine(shape)?;
        return Ok(true);
    }
    if shape.words(&["WITH", "SYSTEM", "VERSIONING"])? {
        return Ok(true);
    }
    if shape.word("UNION")? {
        shape.sign_if(b'=')?;
        shape.names()?;
        return Ok(true);
    }
    shape.word("DEFAULT")?;
    // MariaDB quotes those that belong to an engine.
    let quoted = match shape.peek()? {
        Some(Token::Name(name)) => OPTIONS.iter().any(|known| known.eq_ignore_ascii_case(&name)),
        _ => false,
    };
    if quoted {
        shape.name()?;
    } else if !(shape.words(&["CHARACTER", "SET"])? || shape.one_of(&OPTIONS)?) {
        return Ok(false);
    }
    shape.sign_if(b'=')?;
    shape.value()?;
    Ok(true)
}

fn item(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    let is = |shape: &Shape<'_>, words: &[&str]| -> Result<bool, StatementError> {
        Ok(shape.peek()?.is_some_and(|token| words.iter().any(|word| token.is(word))))
    };
    if shape.words(&["PERIOD", "FOR"])? {
        shape.name()?;
        return shape.group();
    }
    if shape.word("CONSTRAINT")? {
        if !is(shape, &["CHECK", "PRIMARY", "UNIQUE"])? {
            shape.name()?;
        }
        if !is(shape, &["CHECK", "PRIMARY", "UNIQUE"])? {
            return Err(shape.refused());
        }
    }
    if shape.word("CHECK")? {
        shape.group()?;
        return attributes(shape);
    }
    let special = shape.one_of(&["FULLTEXT", "SPATIAL"])?;
    let unique = !special && shape.word("UNIQUE")?;
    let primary = !special && !unique && shape.words(&["PRIMARY", "KEY"])?;
    let word = !primary && shape.one_of(&["KEY", "INDEX"])?;
    if special || unique || primary || word {
        return key(shape);
    }
    column(shape)
}

/// What follows `KEY`: a name, perhaps, its parts and its options.
fn key(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    if matches!(shape.peek()?, Some(Token::Name(_) | Token::Word(_)))
        && !shape.peek()?.is_some_and(|token| token.is("USING"))
    {
        shape.name()?;
    }
    if shape.word("USING")? {
        shape.value()?;
    }
    shape.group()?;
    all_marked_or_not(shape, key_option)
}

/// Items as long as there are some, in executed comments or outside of them.
fn all_marked_or_not<'a>(
    shape: &mut Shape<'a>,
    item: fn(&mut Shape<'a>) -> Result<bool, StatementError>,
) -> Result<(), StatementError> {
    while item(shape)?
        || shape.mark(&mut |inside| {
            while item(inside)? {}
            Ok(())
        })?
    {}
    Ok(())
}

fn key_option(shape: &mut Shape<'_>) -> Result<bool, StatementError> {
    if shape.words(&["WITH", "PARSER"])? {
        shape.name()?;
        return Ok(true);
    }
    if shape.one_of(&["USING", "COMMENT", "KEY_BLOCK_SIZE", "CLUSTERING"])? {
        shape.sign_if(b'=')?;
        shape.value()?;
        return Ok(true);
    }
    Ok(shape.words(&["NOT", "IGNORED"])? || shape.one_of(&["IGNORED", "INVISIBLE", "VISIBLE"])?)
}

fn column(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    shape.name()?;
    // The type: a word, perhaps with lengths or values, and words behind it.
    match shape.peek()? {
        Some(Token::Word(_)) => drop(shape.take()?),
        _ => return Err(shape.refused()),
    }
    loop {
        if shape.peek()? == Some(Token::Sign(b'(')) {
            shape.group()?;
        } else if !shape.one_of(&OF_TYPE)? {
            break;
        }
    }
    attributes(shape)
}

fn attributes(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    all_marked_or_not(shape, attribute)
}

fn attribute(shape: &mut Shape<'_>) -> Result<bool, StatementError> {
    for words in ATTRIBUTES {
        if shape.words(words)? {
            if words == ["COMPRESSED"] && shape.sign_if(b'=')? {
                shape.value()?;
            }
            return Ok(true);
        }
    }
    if shape.words(&["CHARACTER", "SET"])?
        || shape.one_of(&["CHARSET", "COLLATE", "COLUMN_FORMAT", "STORAGE", "SRID"])?
        || shape.word("REF_SYSTEM_ID")?
        || shape.one_of(&["ENGINE_ATTRIBUTE", "SECONDARY_ENGINE_ATTRIBUTE"])?
    {
        shape.sign_if(b'=')?;
        shape.value()?;
        return Ok(true);
    }
    if shape.word("COMMENT")? {
        shape.text()?;
        return Ok(true);
    }
    if shape.words(&["ON", "UPDATE"])? {
        shape.expression(&BEHIND_DEFAULT)?;
        return Ok(true);
    }
    if shape.word("DEFAULT")? {
        shape.expression(&BEHIND_DEFAULT)?;
        return Ok(true);
    }
    if shape.words(&["GENERATED", "ALWAYS", "AS"])? || shape.word("AS")? {
        shape.group()?;
        return Ok(true);
    }
    if shape.word("CONSTRAINT")? {
        if !shape.peek()?.is_some_and(|token| token.is("CHECK")) {
            shape.name()?;
        }
        shape.need(&["CHECK"])?;
        shape.group()?;
        return Ok(true);
    }
    if shape.word("CHECK")? {
        shape.group()?;
        return Ok(true);
    }
    Ok(false)
}

/// `PARTITION BY …` with the list of partitions.
fn partitions(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    if !shape.words(&["PARTITION", "BY"])? {
        return Ok(());
    }
    partition_function(shape)?;
    if shape.word("PARTITIONS")? {
        shape.number()?;
    }
    if shape.words(&["SUBPARTITION", "BY"])? {
        partition_function(shape)?;
        if shape.word("SUBPARTITIONS")? {
            shape.number()?;
        }
    }
    if shape.sign_if(b'(')? {
        shape.each(&mut |shape| partition(shape, "PARTITION"))?;
        shape.sign(b')')?;
    }
    Ok(())
}

fn partition_function(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    shape.word("LINEAR")?;
    if shape.word("SYSTEM_TIME")? {
        // INTERVAL 1 MONTH STARTS TIMESTAMP'…' AUTO, LIMIT 100
        if shape.one_of(&["INTERVAL", "LIMIT"])? {
            shape.expression(&[&["PARTITIONS"], &["SUBPARTITION"]])?;
        }
        return Ok(());
    }
    if !shape.one_of(&["RANGE", "LIST", "HASH", "KEY"])? {
        return Err(shape.refused());
    }
    shape.word("COLUMNS")?;
    if shape.word("ALGORITHM")? {
        shape.sign(b'=')?;
        shape.number()?;
    }
    shape.mark(&mut |inside| {
        inside.need(&["ALGORITHM"])?;
        inside.sign(b'=')?;
        inside.number()
    })?;
    shape.group()
}

/// One partition; only a whole one has parts.
fn partition(shape: &mut Shape<'_>, word: &str) -> Result<(), StatementError> {
    shape.need(&[word])?;
    shape.name()?;
    if shape.words(&["VALUES", "LESS", "THAN"])? {
        if !shape.word("MAXVALUE")? {
            shape.group()?;
        }
    } else if shape.words(&["VALUES", "IN"])? {
        shape.group()?;
    } else {
        let _ = shape.one_of(&["HISTORY", "CURRENT", "DEFAULT"])?;
    }
    while shape.one_of(&["ENGINE", "STORAGE"])? {
        shape.word("ENGINE")?;
        engine(shape)?;
        while shape.one_of(&["COMMENT", "MAX_ROWS", "MIN_ROWS", "NODEGROUP"])? {
            shape.sign_if(b'=')?;
            shape.value()?;
        }
    }
    while shape.one_of(&["COMMENT", "MAX_ROWS", "MIN_ROWS", "NODEGROUP"])? {
        shape.sign_if(b'=')?;
        shape.value()?;
        if shape.word("ENGINE")? {
            engine(shape)?;
        }
    }
    if word == "PARTITION" && shape.sign_if(b'(')? {
        shape.each(&mut |shape| partition(shape, "SUBPARTITION"))?;
        shape.sign(b')')?;
    }
    Ok(())
}
