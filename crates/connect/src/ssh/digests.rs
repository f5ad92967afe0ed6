//! Digests of files that the host computes itself, so that nothing of them is transferred.

use super::Session;
use crate::runtime::runtime;
use std::collections::HashMap;
use std::time::Duration;

/// How long the host may take for the files that are asked for together.
const PATIENCE: Duration = Duration::from_secs(180);
/// The line behind the digests.
const END: &str = "end of the digests";

impl Session {
    /// SHA-256 of files below a folder, by their paths; `None` where no shell answers or the host
    /// has no command for it. Files that it cannot read, and those with odd names, are left out.
    pub fn digests(&self, folder: &[u8], paths: &[&[u8]]) -> Option<HashMap<Vec<u8>, String>> {
        let folder = std::str::from_utf8(folder).ok().filter(|folder| is_plain(folder))?;
        let texts = paths.iter().filter_map(|path| std::str::from_utf8(path).ok());
        let names: Vec<String> =
            texts.filter(|path| is_plain(path)).map(|path| format!("'./{path}'")).collect();
        if names.is_empty() {
            return Some(HashMap::new());
        }
        let command = format!(
            "cd '{folder}' && command -v sha256sum >/dev/null && \
             {{ sha256sum {} 2>/dev/null; echo '{END}'; }}",
            names.join(" ")
        );
        // A line is 64 digits, two characters and the name.
        let most = names.iter().map(|name| name.len() + 80).sum::<usize>() + 1000;
        let printed = runtime().block_on(async {
            let asked = tokio::time::timeout(PATIENCE, self.ran_up_to(&command, most));
            Some(asked.await.ok()?.ok()?.printed)
        })?;
        read(&printed)
    }
}

/// Whether a name can stand between quotes in every shell, and comes back as it is.
fn is_plain(name: &str) -> bool {
    !name.contains(['\'', '\\', '!', '`', '$']) && !name.contains(|c: char| c.is_control())
}

fn read(printed: &str) -> Option<HashMap<Vec<u8>, String>> {
    let lines = printed.trim_end().strip_suffix(END)?.lines();
    let digest = |line: &str| {
        let (digest, path) = line.split_once("  ./")?;
        let whole = digest.len() == 64 && digest.bytes().all(|it| it.is_ascii_hexdigit());
        whole.then(|| (path.as_bytes().to_vec(), digest.to_ascii_lowercase()))
    };
    Some(lines.filter_map(digest).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_whole_answer_counts() {
        let digest = "0f".repeat(32);
        let printed = format!("{digest}  ./a b.txt\nsha256sum: odd\n{digest}x  ./c\n{END}\n");
        let found = read(&printed).unwrap();
        assert_eq!(found, HashMap::from([(b"a b.txt".to_vec(), digest.clone())]));
        assert_eq!(read(&format!("{digest}  ./a\n")), None);
        assert_eq!(read("This service allows sftp connections only.\n"), None);
    }

    #[test]
    fn names_that_a_shell_may_read_otherwise_are_not_asked_for() {
        assert!(is_plain("pictures/comet (1).png"));
        for name in ["it's", "a\nb", "a\\b", "hey!", "$HOME", "`id`"] {
            assert!(!is_plain(name), "{name}");
        }
    }
}
