//! Rules made ready for the paths of one source.

use std::path::Path;

use regex::bytes::{Regex, RegexBuilder, RegexSet, RegexSetBuilder};

use super::{
    Action, RuleSet,
    pattern::{Anchor, Part},
};

/// Memory the automata may take, in bytes.
const LARGEST: usize = 64 << 20;

/// What the rules say of a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Verdict {
    /// Whether it goes along.
    pub action: Action,
    /// Number of the rule that decides; `None` if no rule holds.
    pub rule: Option<usize>,
}

impl Verdict {
    /// The verdict where no rule holds.
    pub const TAKEN: Self = Self { action: Action::Take, rule: None };
}

/// The rules, ready for one source.
pub struct Matcher {
    /// One expression a pattern; the rules they belong to, in the same order.
    set: RegexSet,
    rule_of: Vec<usize>,
    actions: Vec<Action>,
    /// `take` patterns, by which a skipped directory may have to be entered all the same.
    takes: Vec<Reach>,
}

/// How far a `take` pattern reaches below directories.
struct Reach {
    rule: usize,
    /// `None`: anywhere below the source. Else the parts from the root.
    parts: Option<Vec<Step>>,
}

enum Step {
    Any,
    Name(Regex),
}

impl RuleSet {
    /// Makes the rules ready for the paths of a source.
    ///
    /// # Errors
    /// If the automata get too large.
    pub fn matcher(&self, source: &[u8]) -> Result<Matcher, String> {
        let trimmed = source.strip_suffix(b"/").unwrap_or(source);
        let source = bytes_expression(trimmed);
        let (mut expressions, mut rule_of, mut takes) = (Vec::new(), Vec::new(), Vec::new());
        let too_large =
            |error: regex::Error| format!("the rules are too large to compile: {error}");
        for (number, rule) in self.rules.iter().enumerate() {
            for pattern in &rule.patterns {
                expressions.push(pattern.expression(&source));
                rule_of.push(number);
                if rule.action == Action::Skip {
                    continue;
                }
                let mut parts: Vec<Step> = Vec::new();
                if pattern.anchor == Anchor::Source {
                    for name in trimmed.split(|b| *b == b'/').skip(1) {
                        let expression = bytes_expression(name);
                        parts.push(Step::Name(name_regex(&expression).map_err(too_large)?));
                    }
                }
                for part in &pattern.parts {
                    parts.push(match part {
                        Part::Any => Step::Any,
                        Part::Name(name) => Step::Name(name_regex(name).map_err(too_large)?),
                    });
                }
                let parts = (pattern.anchor != Anchor::Anywhere).then_some(parts);
                takes.push(Reach { rule: number, parts });
            }
        }
        let set = RegexSetBuilder::new(expressions)
            .unicode(false)
            .dot_matches_new_line(true)
            .size_limit(LARGEST)
            .dfa_size_limit(LARGEST)
            .build()
            .map_err(too_large)?;
        let actions = self.rules.iter().map(|rule| rule.action).collect();
        Ok(Matcher { set, rule_of, actions, takes })
    }
}

fn name_regex(expression: &str) -> Result<Regex, regex::Error> {
    RegexBuilder::new(&format!("^{expression}$")).unicode(false).build()
}

/// Bytes as an expression that fits just them.
fn bytes_expression(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("\\x{byte:02X}")).collect()
}

impl Matcher {
    /// Whether there are no rules, so that everything is taken.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.rule_of.is_empty()
    }

    fn verdict(&self, rule: Option<usize>) -> Verdict {
        let action = rule.and_then(|rule| self.actions.get(rule)).copied();
        Verdict { action: action.unwrap_or(Action::Take), rule }
    }

    fn last_rule(&self, path: &[u8], directory: bool) -> Option<usize> {
        let matches = if directory {
            self.set.matches(&[path, b"/"].concat())
        } else {
            self.set.matches(path)
        };
        matches.iter().next_back().map(|pattern| self.rule_of[pattern])
    }

    /// The verdict on the source itself, for which the directories above it count as well.
    #[must_use]
    pub fn source(&self, path: &[u8], directory: bool) -> Verdict {
        if self.is_empty() {
            return Verdict::TAKEN;
        }
        let slashes = path.iter().enumerate().filter(|(at, b)| **b == b'/' && *at > 0);
        let above = slashes.map(|(at, _)| self.last_rule(&path[..at], true));
        self.verdict(above.max().flatten().max(self.last_rule(path, directory)))
    }

    /// The verdict on a full path, given the one on the directory it is in.
    #[must_use]
    pub fn below(&self, parent: Verdict, path: &[u8], directory: bool) -> Verdict {
        if self.is_empty() {
            return Verdict::TAKEN;
        }
        self.verdict(parent.rule.max(self.last_rule(path, directory)))
    }

    /// The verdict on any full path at or below the source, part by part.
    #[must_use]
    pub fn explain(&self, source: &Path, path: &Path, directory: bool) -> Verdict {
        use std::os::unix::ffi::OsStrExt as _;
        let mut verdict = self.source(source.as_os_str().as_bytes(), directory || source != path);
        let Ok(rest) = path.strip_prefix(source) else { return Verdict::TAKEN };
        let mut here = source.to_path_buf();
        let parts: Vec<_> = rest.components().collect();
        for (number, part) in parts.iter().enumerate() {
            here.push(part);
            let directory = directory || number + 1 < parts.len();
            verdict = self.below(verdict, here.as_os_str().as_bytes(), directory);
        }
        verdict
    }

    /// Whether a skipped directory has to be entered, because a later `take` could fit below it.
    #[must_use]
    pub fn may_take_below(&self, verdict: Verdict, directory: &[u8]) -> bool {
        let later = self.takes.iter().filter(|take| Some(take.rule) > verdict.rule);
        later.into_iter().any(|take| match &take.parts {
            None => true,
            Some(parts) => reaches_below(parts, directory),
        })
    }
}

/// Whether a pattern could fit something below a directory: whether the directory's parts use up
/// some of the pattern's and leave at least one.
fn reaches_below(parts: &[Step], directory: &[u8]) -> bool {
    let mut states = vec![0usize];
    for name in directory.split(|b| *b == b'/').filter(|name| !name.is_empty()) {
        let mut next = Vec::new();
        for state in closure(parts, &states) {
            match &parts[state] {
                Step::Any => next.push(state),
                Step::Name(regex) if regex.is_match(name) => next.push(state + 1),
                Step::Name(_) => {}
            }
        }
        next.sort_unstable();
        next.dedup();
        states = next;
    }
    !closure(parts, &states).is_empty()
}

/// States that still have a part before them, with those that `**` for nothing leads to.
fn closure(parts: &[Step], states: &[usize]) -> Vec<usize> {
    let mut all = Vec::new();
    for state in states {
        let mut state = *state;
        while state < parts.len() {
            all.push(state);
            if !matches!(parts[state], Step::Any) {
                break;
            }
            state += 1;
        }
    }
    all.sort_unstable();
    all.dedup();
    all
}
