//! Serialized values against PHP itself: PHP builds them, and what they shall become.

use fernweh_core::rewrite::{Rewriter, Rule, is_serialized};
use fernweh_testkit::php;

/// Random nested values with seeds 1 to N; each line holds the value and the expected one.
const SCRIPT: &str = r#"
    class Widget { public $link; protected $hidden; private $mine; public $again; }
    $from = 'http://old.example'; $to = 'https://www.new-place.example';
    function word($new) {
        global $from, $to;
        $a = $new ? $to : $from;
        $words = ["$a", "$a/page?x=1&y=2", "see $a, and $a/é/☄", "info@old.example", "http://notold.example/", "ü;\"}",
            "http://old.example.evil.test", '//' . substr($a, strpos($a, '//') + 2) . '/x', "", "0", "a:1:{broken", "line\n$a"];
        return $words[mt_rand(0, count($words) - 1)];
    }
    function value($depth, $new) {
        switch (mt_rand(0, $depth > 0 ? 10 : 5)) {
            case 0: return mt_rand(-1000, 1000);
            case 1: return mt_rand(0, 1000000) / 7919;
            case 2: return [true, false, null][mt_rand(0, 2)];
            case 6: case 7:
                $list = [];
                $n = mt_rand(0, 4);
                for ($i = 0; $i < $n; $i++) { $list[mt_rand(0, 1) ? "k$i" : $i] = value($depth - 1, $new); }
                return $list;
            case 8: return serialize(value($depth - 1, $new));
            case 9:
                $widget = new Widget();
                $widget->link = word($new);
                (function ($v) { $this->hidden = $v; })->call($widget, value($depth - 1, $new));
                (function ($v) { $this->mine = $v; })->call($widget, word($new));
                $widget->again = $widget;
                return $widget;
            case 10: return json_encode(['u' => word($new), 's' => serialize(word($new)), 'n' => [1, word($new)]]);
            default: return word($new);
        }
    }
    for ($seed = 1; $seed <= (int) $argv[1]; $seed++) {
        mt_srand($seed); $old = serialize(value(5, false));
        mt_srand($seed); $new = serialize(value(5, true));
        echo bin2hex($old), ' ', bin2hex($new), "\n";
    }"#;

fn bytes(digits: &str) -> Vec<u8> {
    let pairs = digits.as_bytes().chunks(2);
    pairs.map(|pair| u8::from_str_radix(std::str::from_utf8(pair).unwrap(), 16).unwrap()).collect()
}

#[test]
fn what_php_serializes_is_rewritten_to_what_php_would_serialize() {
    let rule = Rule::new("http://old.example", "https://www.new-place.example").unwrap();
    let rewriter = Rewriter::new(vec![rule]).unwrap();
    let values = php(SCRIPT, &["20000"], String::new());
    let mut changed = 0;
    for (number, line) in values.lines().enumerate() {
        let (old, new) = line.split_once(' ').unwrap();
        let (old, new) = (bytes(old), bytes(new));
        let found = rewriter.look(&old).apply(&old);
        changed += usize::from(old != new);
        assert_eq!(
            String::from_utf8_lossy(&found),
            String::from_utf8_lossy(&new),
            "seed {} of {}",
            number + 1,
            String::from_utf8_lossy(&old)
        );
    }
    assert!(changed > 5_000, "{changed}");
}

/// Gives about every third string of a serialized value a wrong length.
fn damaged(value: &[u8], seed: usize) -> Vec<u8> {
    let length = regex::bytes::Regex::new("s:[0-9]+:\"").unwrap();
    let mut number = seed;
    let wrong = |found: &regex::bytes::Captures<'_>| {
        number =
            number.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        match (number >> 33) % 3 {
            0 => format!("s:{}:\"", (number >> 40) % 300).into_bytes(),
            _ => found[0].to_vec(),
        }
    };
    length.replace_all(value, wrong).into_owned()
}

#[test]
fn lengths_that_went_wrong_become_what_php_wrote_or_are_left() {
    let rewriter = Rewriter::new(Vec::new()).unwrap().mending(true);
    let values = php(SCRIPT, &["6000"], String::new());
    let (mut mended, mut partly, mut left) = (0, 0, 0);
    for (number, line) in values.lines().enumerate() {
        let whole = bytes(line.split_once(' ').unwrap().1);
        let broken = damaged(&whole, number);
        if broken == whole {
            continue;
        }
        let found = rewriter.look(&broken);
        match found.apply(&broken) {
            new if new == whole => mended += 1,
            new if new == broken => left += 1,
            // What stands inside can be beyond repair while the rest is not.
            new if is_serialized(&new) => partly += 1,
            other => panic!(
                "seed {}\n{}\n{}\n{}",
                number + 1,
                String::from_utf8_lossy(&whole),
                String::from_utf8_lossy(&broken),
                String::from_utf8_lossy(&other)
            ),
        }
    }
    println!("{mended} mended, {partly} partly, {left} left");
    assert!(mended > 4 * (partly + left) && mended > 1_000);
}
