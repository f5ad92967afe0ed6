//! Which server of the family it is, and which modes it knows.

/// Who has made a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Product {
    /// MariaDB.
    Mariadb,
    /// MySQL, and what answers as MySQL.
    Mysql,
}

/// A server of this family.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Server {
    /// Who has made it.
    pub product: Product,
    /// Its version, as far as it is numbers.
    pub version: (u32, u32, u32),
    /// Its version as it says it, without what follows the numbers.
    pub number: String,
}

/// Modes that both know in every version.
const MODES: [&str; 18] = [
    "REAL_AS_FLOAT",
    "PIPES_AS_CONCAT",
    "ANSI_QUOTES",
    "IGNORE_SPACE",
    "ONLY_FULL_GROUP_BY",
    "NO_UNSIGNED_SUBTRACTION",
    "NO_DIR_IN_CREATE",
    "NO_AUTO_VALUE_ON_ZERO",
    "NO_BACKSLASH_ESCAPES",
    "STRICT_TRANS_TABLES",
    "STRICT_ALL_TABLES",
    "NO_ZERO_IN_DATE",
    "NO_ZERO_DATE",
    "ALLOW_INVALID_DATES",
    "ERROR_FOR_DIVISION_BY_ZERO",
    "HIGH_NOT_PRECEDENCE",
    "NO_ENGINE_SUBSTITUTION",
    "PAD_CHAR_TO_FULL_LENGTH",
];

/// Modes that MySQL 8.0 has given up.
const OLD_MODES: [&str; 12] = [
    "NO_AUTO_CREATE_USER",
    "DB2",
    "MAXDB",
    "MSSQL",
    "MYSQL323",
    "MYSQL40",
    "ORACLE",
    "POSTGRESQL",
    "NO_FIELD_OPTIONS",
    "NO_KEY_OPTIONS",
    "NO_TABLE_OPTIONS",
    "ANSI",
];

/// Modes of MariaDB alone.
const MARIADB_MODES: [&str; 3] =
    ["EMPTY_STRING_IS_NULL", "SIMULTANEOUS_ASSIGNMENT", "TIME_ROUND_FRACTIONAL"];

impl Server {
    /// The server that says this of itself (`version()`, `@@version_comment`).
    pub fn named(version: &str, comment: &str) -> Self {
        let is_mariadb = [version, comment].iter().any(|text| text.contains("MariaDB"));
        // Older MariaDB servers begin with a version of MySQL, for the sake of old clients.
        let version = version.strip_prefix("5.5.5-").filter(|_| is_mariadb).unwrap_or(version);
        let end = version.find(|ch: char| !ch.is_ascii_digit() && ch != '.');
        let number = &version[..end.unwrap_or(version.len())];
        let mut parts = number.split('.').map(|part| part.parse().unwrap_or(0));
        let mut part = || parts.next().unwrap_or(0);
        Self {
            product: if is_mariadb { Product::Mariadb } else { Product::Mysql },
            version: (part(), part(), part()),
            number: number.to_owned(),
        }
    }

    /// Whether it is MariaDB.
    pub fn is_mariadb(&self) -> bool {
        self.product == Product::Mariadb
    }

    /// Whether it is MySQL of at least this version.
    pub fn is_mysql_from(&self, version: (u32, u32, u32)) -> bool {
        self.product == Product::Mysql && self.version >= version
    }

    /// Whether it is MariaDB of at least this version.
    pub fn is_mariadb_from(&self, version: (u32, u32, u32)) -> bool {
        self.product == Product::Mariadb && self.version >= version
    }

    /// For people: `MySQL 8.0.39`.
    pub fn shown(&self) -> String {
        let product = if self.is_mariadb() { "MariaDB" } else { "MySQL" };
        format!("{product} {}", self.number)
    }

    /// Whether it knows a mode of statements (`sql_mode`).
    pub fn knows_mode(&self, mode: &str) -> bool {
        let among = |list: &[&str]| list.iter().any(|one| one.eq_ignore_ascii_case(mode));
        among(&MODES)
            || among(&OLD_MODES) && !self.is_mysql_from((8, 0, 0))
            || among(&MARIADB_MODES) && self.is_mariadb()
            || among(&["TIME_TRUNCATE_FRACTIONAL"]) && self.is_mysql_from((8, 0, 0))
    }

    /// A setting of `sql_mode` with the modes that it knows, and those that it does not.
    pub fn known_modes(&self, modes: &str) -> (String, Vec<String>) {
        let all = modes.split(',').map(str::trim).filter(|mode| !mode.is_empty());
        let (known, unknown): (Vec<&str>, Vec<&str>) = all.partition(|mode| self.knows_mode(mode));
        (known.join(","), unknown.into_iter().map(str::to_owned).collect())
    }
}
