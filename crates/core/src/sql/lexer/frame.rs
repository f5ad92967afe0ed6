//! Where a statement ends: what the lexer remembers of the statement at hand.

use super::super::Dialect;
use super::Lexeme;

/// The statement at hand, as far as it decides about its end.
#[derive(Clone, Debug, Default)]
pub(super) struct Frame {
    /// Its first words, in capitals.
    words: Vec<String>,
    /// Whether a token has come.
    begun: bool,
    /// Whether the first word is one of those that can set a mode of the session.
    sets: bool,
    /// Whether the last token was a name, behind which a dot is no decimal point.
    name: bool,
    /// Open parentheses (PostgreSQL: a rule holds statements in them).
    parentheses: u32,
    /// How many `BEGIN` and `CASE` of a routine's body wait for their `END` (PostgreSQL).
    blocks: u32,
    /// Whether the body of a trigger is open (SQLite), and how much of `; END` has come.
    trigger: bool,
    ending: u8,
    /// Whether the last two words are those that announce rows (PostgreSQL).
    from_stdin: u8,
    /// Whether the statement that has ended is a `COPY` from the script itself.
    copied: bool,
}

/// Words that are remembered.
const WORDS: usize = 4;

impl Frame {
    pub fn is_empty(&self) -> bool {
        !self.begun
    }

    pub fn behind_name(&self) -> bool {
        self.name
    }

    pub fn copied(&self) -> bool {
        self.copied
    }

    pub fn end(&mut self) {
        let copied = self.words.first().is_some_and(|word| word == "COPY") && self.from_stdin == 2;
        *self = Self { copied, ..Self::default() };
    }

    /// Whether the statement can set a mode of the session.
    pub fn may_set(&self) -> bool {
        self.sets
    }

    /// Notes a token that is neither space nor comment.
    pub fn note(&mut self, dialect: Dialect, lexeme: Lexeme, text: &[u8]) {
        self.begun = true;
        self.copied = false;
        self.name = matches!(lexeme, Lexeme::Word | Lexeme::Name);
        let words = self.words.len();
        if lexeme == Lexeme::Word && words < WORDS {
            let text = &text[..text.len().min(24)];
            let word = String::from_utf8_lossy(text).to_ascii_uppercase();
            self.sets |= words == 0 && matches!(word.as_str(), "SET" | "SELECT");
            self.words.push(word);
        }
        match dialect {
            Dialect::Sqlite => self.note_sqlite(lexeme, text),
            Dialect::Postgres => self.note_postgres(lexeme, text),
            Dialect::Mariadb => {}
        }
    }

    /// As `sqlite3_complete` counts: a trigger ends with `; END ;`.
    fn note_sqlite(&mut self, lexeme: Lexeme, text: &[u8]) {
        if !self.trigger {
            let words = self.first_words();
            let words = if words[0] == "EXPLAIN" { &words[1..] } else { &words[..] };
            self.trigger = matches!(
                words,
                ["CREATE", "TRIGGER", ..] | ["CREATE", "TEMP" | "TEMPORARY", "TRIGGER", ..]
            );
        }
        self.ending = match (lexeme, self.ending) {
            (Lexeme::Sign(b';'), _) => 1,
            (Lexeme::Word, 1) if text.eq_ignore_ascii_case(b"END") => 2,
            _ => 0,
        };
    }

    /// As PostgreSQL's client counts.
    fn note_postgres(&mut self, lexeme: Lexeme, text: &[u8]) {
        match lexeme {
            Lexeme::Sign(b'(') => self.parentheses += 1,
            Lexeme::Sign(b')') => self.parentheses = self.parentheses.saturating_sub(1),
            _ => {}
        }
        if lexeme != Lexeme::Word {
            return;
        }
        let is = |word: &str| text.eq_ignore_ascii_case(word.as_bytes());
        self.from_stdin = match self.from_stdin {
            _ if is("FROM") => 1,
            1 if is("STDIN") => 2,
            2 => 2,
            _ => 0,
        };
        if self.parentheses == 0 && self.is_routine() {
            match () {
                () if is("BEGIN") => self.blocks += 1,
                () if is("CASE") && self.blocks > 0 => self.blocks += 1,
                () if is("END") => self.blocks = self.blocks.saturating_sub(1),
                () => {}
            }
        }
    }

    /// The words that are remembered; nothing where none has come yet.
    fn first_words(&self) -> [&str; WORDS] {
        std::array::from_fn(|at| self.words.get(at).map_or("", String::as_str))
    }

    fn is_routine(&self) -> bool {
        matches!(
            self.first_words(),
            ["CREATE", "FUNCTION" | "PROCEDURE", ..]
                | ["CREATE", "OR", "REPLACE", "FUNCTION" | "PROCEDURE", ..]
        )
    }

    /// Whether a delimiter ends the statement here.
    pub fn may_end(&self, dialect: Dialect) -> bool {
        match dialect {
            Dialect::Sqlite => !self.trigger || self.ending == 2,
            Dialect::Postgres => self.parentheses == 0 && self.blocks == 0,
            Dialect::Mariadb => true,
        }
    }
}
