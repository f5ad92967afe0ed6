//! By what a command knows its own unfinished run again: the digest of an explicit description,
//! with a version that changes with the meaning of a field.

use fernweh_core::digest::sha256;
use fernweh_core::rewrite::{Rewriter, Rule};
use fernweh_ports::{Result, Trouble};
use serde::Serialize;

/// The digest of a description.
pub(crate) fn identity(description: &impl Serialize) -> Result<String> {
    let text = serde_json::to_vec(description)
        .map_err(|error| Trouble::usage("the run cannot be recorded").because(error))?;
    Ok(sha256(&text))
}

/// What rewriting does.
#[derive(Serialize)]
pub(crate) struct RulesIdentity<'a> {
    rules: Vec<RuleIdentity<'a>>,
    mends_lengths: bool,
    opens_base64: bool,
}

impl<'a> RulesIdentity<'a> {
    pub fn of(rewriter: &'a Rewriter) -> Self {
        Self {
            rules: rewriter.rules().iter().map(RuleIdentity::of).collect(),
            mends_lengths: rewriter.mends(),
            opens_base64: rewriter.opens_base64(),
        }
    }
}

#[derive(Serialize)]
struct RuleIdentity<'a> {
    from: String,
    to: String,
    exact: bool,
    bare_host: bool,
    only: &'a [String],
    not: &'a [String],
}

impl<'a> RuleIdentity<'a> {
    fn of(rule: &'a Rule) -> Self {
        let Rule { from, to, exact, bare_host, only, not } = rule;
        Self {
            from: from.to_string(),
            to: to.to_string(),
            exact: *exact,
            bare_host: *bare_host,
            only,
            not,
        }
    }
}
