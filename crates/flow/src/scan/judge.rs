//! Findings from what came back and who refers to it.

use super::found::{Crawl, Outcome, Reference, words};
use fernweh_core::finding::{Code, Finding};

pub(super) fn findings(crawl: Crawl) -> Vec<Finding> {
    let mut found = crawl.findings;
    for (target, references) in &crawl.references {
        let Some(outcome) = crawl.outcomes.get(target) else { continue };
        for reference in references {
            if let Some((code, detail)) = fault(outcome, reference) {
                found.insert(Finding {
                    code,
                    page: reference.page.clone(),
                    element: reference.link.element.clone(),
                    line: reference.link.line,
                    sheet: reference.sheet.clone(),
                    address: reference.link.address.clone(),
                    detail,
                });
            }
        }
    }
    let mut found: Vec<Finding> = found.into_iter().collect();
    let weight = |finding: &Finding| (finding.code.severity(), finding.code);
    found.sort_by(|a, b| (weight(a), &a.page, a.line).cmp(&(weight(b), &b.page, b.line)));
    found
}

fn fault(outcome: &Outcome, reference: &Reference) -> Option<(Code, String)> {
    let broken = if reference.kind.is_resource() { Code::BrokenResource } else { Code::BrokenLink };
    match outcome {
        Outcome::Status(status, _) if *status >= 400 => Some((broken, words(*status))),
        Outcome::Status(_, way) if way.len() > 2 => {
            Some((Code::RedirectChain, format!("{} redirects: {}", way.len() - 1, way.join(" → "))))
        }
        Outcome::Status(..) => None,
        Outcome::Loop(passed) => Some((Code::RedirectLoop, passed.join(" → "))),
        Outcome::Problem(problem) => Some((broken, problem.to_string())),
    }
}
