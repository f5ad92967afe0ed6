//! The rules that follow from the addresses of two sites, and what is said about rules.

use fernweh_core::rewrite::{Rewriter, Rule, shadowed};
use fernweh_ports::{Progress, Result, Trouble};

/// A rule from two addresses, unless they are the same.
pub fn pair(from: &str, to: &str) -> Result<Option<Rule>> {
    if from.trim_end_matches('/') == to.trim_end_matches('/') {
        return Ok(None);
    }
    Rule::new(from, to).map(Some).map_err(|error| {
        Trouble::usage("a rule is not usable").at(format!("{from} → {to}")).because(error)
    })
}

/// Makes rules ready; refuses contradictions.
pub fn ready(rules: Vec<Rule>) -> Result<Rewriter> {
    Rewriter::new(rules).map_err(|error| {
        Trouble::usage("the rules contradict each other")
            .because(error)
            .hint("keep one rule for each address")
    })
}

/// Says which rules never apply.
pub fn warn_of_shadowed(rules: &[Rule], progress: &dyn Progress) {
    for (earlier, later) in shadowed(rules) {
        let (by, rule) = (&rules[earlier], &rules[later]);
        progress.note(&format!(
            "the rule {} → {} never applies: {} → {} takes the same addresses before it\n",
            rule.from, rule.to, by.from, by.to
        ));
    }
}
