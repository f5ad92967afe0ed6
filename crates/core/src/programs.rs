//! What runs a site's programs on a host, and what of it another host does differently.
//!
//! The command line of PHP is asked; a web server may use other settings, so nothing here is more
//! than a warning. The scheduler is asked for the entries that name the site.

use crate::finding::Check;
use serde::Deserialize;
use std::collections::BTreeMap;

/// Asks the command line of PHP. It answers with one line that begins with `php {`.
pub const QUESTION: &str = "php -r 'echo \"\\nphp \", json_encode(array(\"version\" => \
                 PHP_VERSION, \
     \"extensions\" => get_loaded_extensions(), \"limits\" => array_map(\"ini_get\", array(\
     \"memory_limit\" => \"memory_limit\", \"upload_max_filesize\" => \"upload_max_filesize\", \
     \"post_max_size\" => \"post_max_size\", \"max_input_vars\" => \"max_input_vars\", \
     \"max_execution_time\" => \"max_execution_time\")))), \"\\n\";' 2>/dev/null";

/// Asks for the entries of the scheduler that belong to the login.
pub const SCHEDULE: &str = "crontab -l 2>/dev/null";

/// PHP as its command line describes itself.
#[derive(Clone, Debug, PartialEq, Deserialize)]
pub struct Php {
    /// As `8.2.7`.
    pub version: String,
    /// Names of the loaded extensions.
    pub extensions: Vec<String>,
    /// Settings by name, as they are written (`128M`).
    pub limits: BTreeMap<String, String>,
}

impl Php {
    /// Reads the answer to [`QUESTION`]; what a login prints around it does not matter.
    pub fn parse(printed: &str) -> Option<Self> {
        let line = printed.lines().rev().find_map(|line| line.strip_prefix("php {"))?;
        serde_json::from_str(&format!("{{{line}")).ok()
    }

    /// Major and minor version.
    fn series(&self) -> Option<(u32, u32)> {
        let mut parts = self.version.split('.').map(str::parse);
        Some((parts.next()?.ok()?, parts.next()?.ok()?))
    }
}

/// What the new host does otherwise than the old one.
pub fn differences(old: &Php, new: Option<&Php>) -> Vec<Check> {
    let Some(new) = new else {
        return vec![Check::warned(
            format!("the old host has PHP {}; a shell of the new one finds none", old.version),
            "ask there which version its web server runs",
        )];
    };
    let mut checks = Vec::new();
    let versions = format!("PHP {} at the old host, {} at the new one", old.version, new.version);
    checks.push(match (old.series(), new.series()) {
        (Some(one), Some(other)) if one == other => Check::passed(versions),
        _ => Check::warned(
            versions,
            "choose the same version there, or see first whether the site's programs run with it",
        ),
    });
    let has = |name: &&String| new.extensions.iter().any(|one| one.eq_ignore_ascii_case(name));
    let missing: Vec<&str> =
        old.extensions.iter().filter(|name| !has(name)).map(String::as_str).collect();
    if !missing.is_empty() {
        checks.push(Check::warned(
            format!("extensions of PHP that the new host lacks: {}", missing.join(", ")),
            "have those installed that the site uses",
        ));
    }
    for (name, before) in &old.limits {
        let Some(after) = new.limits.get(name) else { continue };
        if amount(after) < amount(before) {
            checks.push(Check::warned(
                format!("{name} of PHP is {before} at the old host, {after} at the new one"),
                "raise it there (php.ini, or the settings of the host)",
            ));
        }
    }
    checks
}

/// A limit as a number; none is the largest. `K`, `M` and `G` count in 1024s, as PHP does.
fn amount(text: &str) -> u64 {
    let text = text.trim();
    let end = text.find(|ch: char| !ch.is_ascii_digit()).unwrap_or(text.len());
    let unit = match text[end..].chars().next().map(|ch| ch.to_ascii_uppercase()) {
        Some('K') => 1 << 10,
        Some('M') => 1 << 20,
        Some('G') => 1 << 30,
        _ => 1,
    };
    match text[..end].parse::<u64>() {
        Ok(0) | Err(_) => u64::MAX,
        Ok(number) => number.saturating_mul(unit),
    }
}

/// Entries of a scheduler (`crontab -l`) that name one of these, without what may be secret.
pub fn scheduled(printed: &str, named: &[String]) -> Vec<String> {
    let entries = printed.lines().map(str::trim).filter(|line| {
        !line.starts_with('#') && named.iter().any(|name| !name.is_empty() && line.contains(name))
    });
    entries.map(without_secrets).collect()
}

/// A command line without logins in addresses, and without what follows options and names like
/// `--password` or `token=`.
fn without_secrets(line: &str) -> String {
    const NAMES: [&str; 6] = ["passw", "pwd", "token", "secret", "key", "auth"];
    let names_secret = |text: &str| {
        let lower = text.to_ascii_lowercase();
        NAMES.iter().any(|name| lower.contains(name))
    };
    let mut hide_next = false;
    let mut hidden = |word: &str| {
        if std::mem::take(&mut hide_next) {
            return "…".to_owned();
        }
        let login = word.split_once("://").and_then(|(scheme, rest)| {
            let end = rest.find('/').unwrap_or(rest.len());
            Some(format!("{scheme}://…{}", &rest[rest[..end].rfind('@')?..]))
        });
        let word = login.as_deref().unwrap_or(word);
        if word.starts_with("-p") && word.len() > 2 {
            return "-p…".to_owned();
        }
        let mut equals = word.match_indices('=');
        match equals.find(|(at, _)| names_secret(&word[..*at])) {
            Some((at, _)) => format!("{}…", &word[..=at]),
            None => {
                hide_next = word.starts_with('-') && names_secret(word);
                word.to_owned()
            }
        }
    };
    line.split(' ').map(&mut hidden).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::finding::Verdict;

    fn php(version: &str, extensions: &[&str], limits: &[(&str, &str)]) -> Php {
        Php {
            version: version.into(),
            extensions: extensions.iter().map(|name| (*name).to_owned()).collect(),
            limits: limits.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect(),
        }
    }

    #[test]
    fn the_answer_is_found_among_what_a_login_prints() {
        let printed = "Welcome to host\nWarning: {x}\n\nphp {\"version\":\"8.2.7\",\"extensions\":\
            [\"Core\"],\"limits\":{\"memory_limit\":\"-1\"}}\nbye\n";
        assert_eq!(Php::parse(printed), Some(php("8.2.7", &["Core"], &[("memory_limit", "-1")])));
        assert_eq!(Php::parse("sh: php: not found\n"), None);
        assert_eq!(Php::parse("php {\"version\":8}"), None);
    }

    #[test]
    fn what_is_less_at_the_new_host_is_named() {
        let old = php(
            "8.2.7",
            &["Core", "GD", "intl"],
            &[("memory_limit", "256M"), ("upload_max_filesize", "64M"), ("max_input_vars", "1000")],
        );
        let new = php(
            "7.4.33",
            &["core", "intl"],
            &[
                ("memory_limit", "-1"),
                ("upload_max_filesize", "65535K"),
                ("max_input_vars", "1000"),
            ],
        );
        let said: Vec<(Verdict, String)> = differences(&old, Some(&new))
            .into_iter()
            .map(|check| (check.verdict, check.what))
            .collect();
        let warned = |text: &str| (Verdict::Warned, text.to_owned());
        assert_eq!(
            said,
            [
                warned("PHP 8.2.7 at the old host, 7.4.33 at the new one"),
                warned("extensions of PHP that the new host lacks: GD"),
                warned("upload_max_filesize of PHP is 64M at the old host, 65535K at the new one"),
            ]
        );
        let same = php("8.2.31", &["core", "gd", "intl"], &[("memory_limit", "1G")]);
        let said = differences(&old, Some(&same));
        assert_eq!(said.len(), 1);
        assert_eq!(said[0].verdict, Verdict::Passed);
        assert_eq!(differences(&old, None)[0].verdict, Verdict::Warned);
    }

    #[test]
    fn entries_of_the_scheduler_are_found_and_keep_their_secrets() {
        let table = "# m h  dom mon dow\n*/5 * * * * php /home/keeper/htdocs/cron.php --token=abc\n\
            0 3 * * * wget -q https://u:pw@glimmerpoint.example/tick?key=s3\n0 4 * * * backup\n\
            1 1 * * * cd /home/keeper/htdocs && ./sync --db-password hunter2 -phunter3 all\n";
        let named = ["/home/keeper/htdocs".to_owned(), "glimmerpoint.example".to_owned()];
        assert_eq!(
            scheduled(table, &named),
            [
                "*/5 * * * * php /home/keeper/htdocs/cron.php --token=…",
                "0 3 * * * wget -q https://…@glimmerpoint.example/tick?key=…",
                "1 1 * * * cd /home/keeper/htdocs && ./sync --db-password … -p… all",
            ]
        );
        assert_eq!(scheduled(table, &[String::new()]), Vec::<String>::new());
    }
}
