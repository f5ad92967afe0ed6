//! Titles by which visitors and search engines cannot tell pages apart.

use super::store::Id;
use fernweh_core::page::fragment_key;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// Titles that are told apart; sites have fewer.
const MOST: usize = 600_000;
/// One title is wrong that at least so many pages have, and more than half of all.
const MANY: u64 = 10;
/// Titles that programs give to what has none, in lower case.
const EMPTY: [&str; 6] =
    ["untitled", "untitled document", "untitled page", "new page", "document", "title"];
/// How titles begin that a server gives to what is no page.
const OF_SERVERS: [&str; 3] = ["index of /", "welcome to nginx", "apache2 debian default page"];

/// A title, and the pages that have it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Title {
    /// Its beginning.
    pub text: String,
    pub pages: u64,
    /// The first of the pages.
    pub first: Id,
}

/// The titles of all pages.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct Titles {
    /// By a key of the text: how many pages have it, and the first of them.
    seen: HashMap<u64, (u64, Id)>,
    /// Those that more than one page has.
    texts: HashMap<u64, String>,
}

impl Titles {
    /// Takes the title of a page.
    pub fn read(&mut self, title: &str, page: Id) {
        let key = fragment_key(title);
        if self.seen.len() >= MOST && !self.seen.contains_key(&key) {
            return;
        }
        let (pages, _) = self.seen.entry(key).or_insert((0, page));
        *pages += 1;
        // Most titles are there once, and need not be kept.
        if *pages == 2 || says_nothing(title) {
            let cut = title.chars().take(200).collect();
            self.texts.entry(key).or_insert(cut);
        }
    }

    /// Those that are obviously wrong, for so many pages.
    pub fn wrong(self, of: u64) -> Vec<Title> {
        let Self { seen, texts } = self;
        let title = |(key, text): (u64, String)| {
            let (pages, first) = seen.get(&key).copied()?;
            Some(Title { text, pages, first })
        };
        let mut wrong: Vec<Title> = texts.into_iter().filter_map(title).collect();
        wrong.retain(|it| says_nothing(&it.text) || it.pages >= MANY && it.pages * 2 > of);
        wrong.sort_by_key(|it| it.first);
        wrong
    }
}

fn says_nothing(title: &str) -> bool {
    let title = title.trim().to_lowercase();
    EMPTY.contains(&title.as_str()) || OF_SERVERS.iter().any(|start| title.starts_with(start))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wrong(titles: &[(&str, u64)]) -> Vec<(String, u64)> {
        let mut all = Titles::default();
        let mut page = 0;
        for (title, pages) in titles {
            for _ in 0..*pages {
                all.read(title, page);
                page += 1;
            }
        }
        all.wrong(u64::from(page)).into_iter().map(|it| (it.text, it.pages)).collect()
    }

    #[test]
    fn titles_that_most_pages_have_or_that_say_nothing_are_wrong() {
        assert_eq!(wrong(&[("Nights", 3), ("Members", 1)]), []);
        assert_eq!(wrong(&[("Glimmer Point", 12), ("Members", 5)]), [("Glimmer Point".into(), 12)]);
        assert_eq!(wrong(&[("Glimmer Point", 12), ("Members", 5), ("Nights", 9)]), []);
        assert_eq!(wrong(&[("", 9), ("a", 1)]), []);
        let expected = [("".into(), 10), ("Index of /files".into(), 1)];
        assert_eq!(wrong(&[("", 10), ("Index of /files", 1), ("a", 8)]), expected);
    }
}
