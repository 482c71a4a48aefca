//! Rules: which paths are included.
//!
//! A rule holds for a path if one of its patterns fits the path itself or a directory above it,
//! and all its conditions hold there too. The last rule that holds decides; with none, the path is
//! taken.

mod condition;
mod matcher;
mod notes;
mod parse;
mod pattern;
mod query;
mod ready;
mod suspicion;

#[cfg(test)]
mod condition_tests;
#[cfg(test)]
mod tests;

use std::ops::Range;

pub use condition::{NameOnly, PathKind, Traits};
pub use matcher::{Explanation, Matcher, Verdict};
pub use notes::RuleNote;
pub use query::Query;
pub use ready::{OFTEN_SKIPPED, OftenSkipped, READY};

use crate::problem::Problem;
use condition::Condition;
use pattern::Pattern;

/// Whether a pattern has to be quoted, since a rule would take it for something else.
pub(crate) fn needs_quotes(pattern: &str) -> bool {
    condition::WORDS.contains(&pattern) || suspicion::suspicion(pattern, None).is_some()
}

/// What a rule does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    /// The path is included.
    Take,
    /// It does not.
    Skip,
}

/// One line of rules.
#[derive(Clone, Debug)]
pub struct Rule {
    /// What it does.
    pub action: Action,
    /// The file it stands in.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// The line as written, without comment.
    pub text: String,
    patterns: Vec<Pattern>,
    conditions: Vec<Condition>,
}

/// The rules of a plan, in order.
#[derive(Clone, Debug, Default)]
pub struct RuleSet {
    rules: Vec<Rule>,
}

impl RuleSet {
    /// Reads rules that stand in a text of their own.
    #[must_use]
    pub fn parse(text: &str, file: &str) -> (Self, Vec<Problem>) {
        let (rules, problems) = parse::parse(text, file, text, 0);
        (Self { rules }, problems)
    }

    /// Reads rules that stand as a value in a larger file, and reports places in that file.
    pub(crate) fn parse_within(
        rules: &str,
        file: &str,
        whole: &str,
        span: &Range<usize>,
    ) -> (Self, Vec<Problem>) {
        // In a literal text the rules stand in the file as they are; then lines and columns are
        // true. In one with escapes all that can be said is where it begins.
        let found = whole.get(span.clone()).and_then(|raw| raw.find(rules));
        let (text, offset) = match found {
            Some(offset) => (whole, span.start + offset),
            None => (rules, 0),
        };
        let (rules, mut problems) = parse::parse(rules, file, text, offset);
        if found.is_none() {
            for problem in &mut problems {
                let here = Problem::at(file, whole, span, problem.message.clone());
                *problem = Problem { hint: problem.hint.take(), ..here };
            }
        }
        (Self { rules }, problems)
    }

    /// Adds the rules of another set behind these.
    pub fn extend(&mut self, other: Self) {
        self.rules.extend(other.rules);
    }

    /// The rules, in order.
    #[must_use]
    pub fn rules(&self) -> &[Rule] {
        &self.rules
    }
}
