//! The names of what is built or kept aside: one place, since packing, surveying and rewriting
//! pass over what bears them.

use fernweh_core::digest::sha256;

/// The part of a run's name that stands in names aside.
pub(crate) fn short_run(run: &str) -> String {
    sha256(run.as_bytes())[..8].to_owned()
}

/// The name aside for the new (`n`) or old (`o`) state of a table or a schema.
pub(crate) fn aside(run: &str, kind: char, name: &str) -> String {
    format!("_fw{run}_{kind}_{}", &sha256(name.as_bytes())[..16])
}

/// The table (MariaDB) or schema (PostgreSQL) that says what is kept, and by which runs.
pub(crate) const NOTES: &str = "_fw_kept";

/// Whether something is one of those that Fernweh builds or keeps aside.
pub(crate) fn is_aside(name: &str) -> bool {
    name == NOTES
        || name.strip_prefix("_fw").is_some_and(|rest| {
            let parts: Vec<&str> = rest.split('_').collect();
            let hex = |part: &str, length| {
                part.len() == length && part.bytes().all(|byte| byte.is_ascii_hexdigit())
            };
            matches!(parts[..], [run, "n" | "o", table] if hex(run, 8) && hex(table, 16))
        })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_lies_aside_is_known_by_its_name() {
        assert!(is_aside(&aside(&short_run("run"), 'n', "gp_articles")));
        assert!(is_aside("_fw0a1b2c3d_o_0123456789abcdef"));
        assert!(is_aside(NOTES) && !is_aside("_fw_notes") && !is_aside("gp_articles"));
        assert!(!is_aside("_fw0a1b2c3d_x_0123456789abcdef"));
    }
}
