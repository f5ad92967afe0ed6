//! The texts of the sample site, made from small lists, always the same.

/// The number of articles of the sample site at its usual size.
pub const ARTICLES: u64 = 420;

/// Numbers that look random and are the same every time (splitmix64).
pub fn number(seed: u64) -> u64 {
    let mut z = seed.wrapping_add(0x9E37_79B9_7F4A_7C15);
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    z ^ (z >> 31)
}

pub fn pick<'a>(list: &[&'a str], seed: u64) -> &'a str {
    list[(number(seed) % list.len() as u64) as usize]
}

pub const OBJECTS: [&str; 16] = [
    "the Pleiades",
    "Saturn",
    "the Ring Nebula",
    "Jupiter",
    "the Crab Nebula",
    "Albireo",
    "the Andromeda Galaxy",
    "Mars",
    "the Double Cluster",
    "Vega",
    "the Owl Nebula",
    "Uranus",
    "the Whirlpool Galaxy",
    "Mizar",
    "Neptune",
    "the Hercules Cluster",
];
const SEEING: [&str; 6] = [
    "a steady sky",
    "thin clouds until midnight",
    "a bright Moon",
    "frost on the dome",
    "wind from the bay",
    "the best seeing of the year",
];
const TOOLS: [&str; 5] = [
    "the old refractor",
    "the eight-inch mirror",
    "two pairs of binoculars",
    "the new camera",
    "the visitors' telescope",
];
const FIRST: [&str; 12] = [
    "Ada", "Bruno", "Chioma", "Dagny", "Emre", "Fenna", "Goran", "Hanneke", "Iskra", "Jonas",
    "Käthe", "Łucja",
];
const LAST: [&str; 10] = [
    "Almgren",
    "Brightwater",
    "Cloudsley",
    "Dunehollow",
    "Eastermoor",
    "Fernquist",
    "Größing",
    "Harrowgate",
    "Île-Martin",
    "Jørnsdal",
];

/// The titles of the first articles; those with deliberate faults are among them.
const TITLES: [&str; 12] = [
    "The night the dome stuck",
    "A comet in the west",
    "Going in circles",
    "Moonrise over the bay",
    "Weather for the weekend",
    "A star map to print",
    "Look-alikes of the winter sky",
    "Tally meteors",
    "The members' evening",
    "Cleaning the eight-inch mirror",
    "A faint fuzzy in Lynx",
    "First light of the new camera",
];

pub fn person(seed: u64) -> String {
    format!("{} {}", pick(&FIRST, seed), pick(&LAST, seed ^ 0xFF))
}

pub fn title(id: u64) -> String {
    match TITLES.get(id as usize - 1) {
        Some(title) => (*title).to_owned(),
        None => {
            let object = pick(&OBJECTS, id);
            let rest = format!("ight {id}: {object} with {}", pick(&TOOLS, id * 3));
            match id > ARTICLES {
                // In large sites titles come in no order, and so do the keys that hold them.
                true => format!("{} n{rest}", letters(id)),
                false => format!("N{rest}"),
            }
        }
    }
}

/// The path of an article.
pub fn article_slug(id: u64) -> String {
    let mut slug = String::new();
    for ch in title(id).chars() {
        match ch {
            'a'..='z' | '0'..='9' => slug.push(ch),
            'A'..='Z' => slug.push(ch.to_ascii_lowercase()),
            '\'' => {}
            _ if slug.ends_with('-') => {}
            _ => slug.push('-'),
        }
    }
    slug.trim_matches('-').to_owned()
}

/// Some letters that no other number has nearby.
fn letters(id: u64) -> String {
    let random = number(id ^ 0xA1FA);
    (0..6).map(|place| char::from(b'A' + (random >> (place * 8)) as u8 % 26)).collect()
}

pub fn paragraph(seed: u64) -> String {
    format!(
        "We met at dusk under {}, set up {} and waited. After an hour {} stood clear above the \
         lighthouse; {} drew it twice, and nobody looked at the time.",
        pick(&SEEING, seed),
        pick(&TOOLS, seed + 1),
        pick(&OBJECTS, seed + 2),
        person(seed + 3),
    )
}

/// How many different words [`chatter`] knows.
const VOCABULARY: f64 = 6000.0;

/// About 120 made-up words, frequent and rare ones as in any language: text that compresses
/// as texts do, for sites that are large.
pub fn chatter(seed: u64) -> String {
    const SYLLABLES: [&str; 24] = [
        "an", "be", "cor", "du", "el", "fir", "go", "ha", "il", "jo", "kar", "lu", "mer", "no",
        "ol", "pra", "qui", "ros", "si", "tun", "ur", "ves", "wil", "zo",
    ];
    let mut words = String::new();
    let mut begins = true;
    for place in 0..120 {
        let random = number(seed.wrapping_mul(131).wrapping_add(place));
        // Zipf's law: a word is as rare as its rank is high.
        let rank = ((random >> 11) as f64 / (1_u64 << 53) as f64 * VOCABULARY.ln()).exp() as u64;
        let shape = number(rank ^ 0x5EED);
        let count = 1 + shape % 3 + u64::from(rank > 300);
        let from = words.len();
        for syllable in 0..count {
            words.push_str(SYLLABLES[(shape >> (8 + syllable * 5)) as usize % SYLLABLES.len()]);
        }
        if begins {
            words[from..=from].make_ascii_uppercase();
        }
        begins = random.is_multiple_of(11);
        words.push_str(if begins { ". " } else { " " });
    }
    words
}
