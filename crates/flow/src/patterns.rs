//! Patterns of table names and paths, as `cache/**` and `gp_*`.

use fernweh_ports::{Result, Trouble};
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// A set of patterns.
#[derive(Clone, Debug, Default)]
pub struct Patterns {
    texts: Vec<String>,
    set: GlobSet,
    /// Which of them have matched something.
    used: Arc<Vec<AtomicBool>>,
}

impl Patterns {
    /// Patterns of paths below the site's folder: `*` stays inside a folder, a pattern
    /// without slash matches at any depth (a slash before it ties it to the site's folder),
    /// and what lies below a match matches too. `a/**`
    /// leaves the folder `a` itself where it is, empty.
    pub fn of_paths(texts: &[String]) -> Result<Self> {
        let mut globs = Vec::new();
        for text in texts {
            let anchored = text.trim_end_matches('/').contains('/');
            let text = text.trim_matches('/');
            let text = if anchored { text.to_owned() } else { format!("**/{text}") };
            let inside = format!("{}/**", text.trim_end_matches("/**"));
            globs.push(text);
            globs.push(inside);
        }
        Self::build(texts, &globs)
    }

    /// A pattern that matches this path only, whatever signs are in it.
    pub fn exactly(path: &str) -> String {
        format!("/{}", globset::escape(path))
    }

    /// Patterns of table names.
    pub fn of_tables(texts: &[String]) -> Result<Self> {
        Self::build(texts, texts)
    }

    fn build(texts: &[String], globs: &[String]) -> Result<Self> {
        let mut builder = GlobSetBuilder::new();
        for glob in globs {
            let glob = GlobBuilder::new(glob).literal_separator(true).build().map_err(|error| {
                Trouble::usage(format!("`{glob}` is not a pattern"))
                    .because(error.kind())
                    .hint("a pattern is a name with * for any characters, as in cache_*")
            })?;
            builder.add(glob);
        }
        let set = builder.build().map_err(|error| {
            Trouble::usage("the patterns cannot be used together").because(error)
        })?;
        let used = Arc::new(globs.iter().map(|_| AtomicBool::new(false)).collect());
        Ok(Self { texts: texts.to_vec(), set, used })
    }

    /// Whether one of the patterns matches.
    pub fn hold(&self, name: &[u8]) -> bool {
        let held = self.set.is_match(OsStr::from_bytes(name));
        if held && self.used.iter().any(|used| !used.load(Ordering::Relaxed)) {
            for place in self.set.matches(OsStr::from_bytes(name)) {
                self.used[place].store(true, Ordering::Relaxed);
            }
        }
        held
    }

    /// The patterns that have matched nothing so far: a name that was mistyped, perhaps.
    pub fn unused(&self) -> impl Iterator<Item = &String> {
        let globs = self.used.len() / self.texts.len().max(1);
        let is_used = move |place: usize| {
            let own = &self.used[place * globs..(place + 1) * globs];
            own.iter().any(|used| used.load(Ordering::Relaxed))
        };
        self.texts
            .iter()
            .enumerate()
            .filter(move |(place, _)| !is_used(*place))
            .map(|(_, text)| text)
    }

    /// The patterns as written.
    pub fn texts(&self) -> &[String] {
        &self.texts
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.texts.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn path_patterns_reach_below_folders_and_stay_inside_them() {
        let patterns =
            Patterns::of_paths(&["cache/**".into(), "*.log".into(), "a/*.css".into()]).unwrap();
        for path in ["cache/x", "cache/x/y", "x/y.log", "y.log", "a/b.css"] {
            assert!(patterns.hold(path.as_bytes()), "{path}");
        }
        for path in ["cache", "cached/x", "a/b/c.css", "x/cache"] {
            assert!(!patterns.hold(path.as_bytes()), "{path}");
        }
        assert!(Patterns::of_paths(&["a[".into()]).is_err());
        let exact = Patterns::of_paths(&[Patterns::exactly("data/[a]*.db")]).unwrap();
        assert!(exact.hold(b"data/[a]*.db") && !exact.hold(b"data/ab.db"));
        let top = Patterns::of_paths(&["/notes".into()]).unwrap();
        assert!(top.hold(b"notes") && top.hold(b"notes/x") && !top.hold(b"sub/notes"));
    }

    #[test]
    fn patterns_that_match_nothing_are_known() {
        let patterns = Patterns::of_paths(&["cach/**".into(), "*.log".into()]).unwrap();
        assert!(patterns.clone().hold(b"a/b.log") && !patterns.hold(b"cache/x"));
        assert_eq!(patterns.unused().collect::<Vec<_>>(), ["cach/**"]);
        assert_eq!(Patterns::default().unused().count(), 0);
    }

    #[test]
    fn table_patterns_match_whole_names() {
        let patterns = Patterns::of_tables(&["gp_*".into(), "notes".into()]).unwrap();
        assert!(patterns.hold(b"gp_articles") && patterns.hold(b"notes"));
        assert!(!patterns.hold(b"my_gp_x") && !patterns.hold(b"notes2"));
    }
}
