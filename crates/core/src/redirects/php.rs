//! The same in PHP, for the beginning of a front controller, or for `auto_prepend_file`.

use super::{CHALLENGES, Rule, any_of};

pub(super) fn lines(rules: &[Rule]) -> Vec<String> {
    let mut lines: Vec<String> = [
        "(static function (): void {",
        "    $asked = $_SERVER['REQUEST_URI'] ?? '/';",
        "    $host = strtolower((string) preg_replace('~:\\d+$~', '', $_SERVER['HTTP_HOST'] ?? ''));",
        "    $forwarded = strtolower($_SERVER['HTTP_X_FORWARDED_PROTO'] ?? '');",
        "    $secure = !in_array(strtolower($_SERVER['HTTPS'] ?? ''), ['', 'off'], true)",
        "        || strncmp($forwarded, 'https', 5) === 0;",
    ]
    .map(str::to_owned)
    .to_vec();
    lines.push(format!("    if (strpos($asked, {}) === 0) {{", quoted(CHALLENGES)));
    lines.push("        return;".into());
    lines.push("    }".into());
    lines.push("    foreach ([".into());
    for rule in rules {
        lines.push(format!("        // {}", rule.about));
        let (request, groups) = rule.request();
        let request = (rule.guard() + &request).replace('~', "\\~");
        let pattern = format!("~^{}{request}$~D", any_of(&rule.hosts));
        let plain = if rule.plain { "true" } else { "false" };
        lines.push(format!(
            "        [{}, {plain}, {}, {}],",
            quoted(&pattern),
            quoted(&rule.to),
            groups
        ));
    }
    lines.extend(
        [
            "    ] as [$pattern, $plain, $to, $groups]) {",
            "        if (($plain && $secure) || !preg_match($pattern, $host . $asked, $found)) {",
            "            continue;",
            "        }",
            "        for ($group = 1; $group <= $groups; $group++) {",
            "            $to .= $found[$group] ?? '';",
            "        }",
            "        header('Location: ' . $to, true, 301);",
            "        exit;",
            "    }",
            "})();",
        ]
        .map(str::to_owned),
    );
    lines
}

/// A text in single quotes.
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'"))
}
