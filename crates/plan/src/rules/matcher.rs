//! Rules made ready for the paths of one source.

use std::path::Path;

use regex::bytes::{Regex, RegexBuilder, RegexSet, RegexSetBuilder};
use regex_automata::{Anchored, Input, meta::Regex as Finder};

use super::{
    Action, NameOnly, PathKind, RuleSet, Traits,
    condition::Condition,
    pattern::{Anchor, Part},
};

/// Memory the automata may take, in bytes.
const LARGEST: usize = 64 << 20;

/// What the rules say of a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Verdict {
    /// Whether it is included.
    pub action: Action,
    /// Number of the rule that decides; `None` if no rule holds.
    pub rule: Option<usize>,
}

impl Verdict {
    /// The verdict where no rule holds.
    pub const TAKEN: Self = Self { action: Action::Take, rule: None };
}

/// A verdict with its reasons.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Explanation {
    /// The verdict.
    pub verdict: Verdict,
    /// Numbers of all rules that hold, in order; the last decides.
    pub held: Vec<usize>,
}

/// The rules, ready for one source.
pub struct Matcher {
    /// One expression a pattern; the rules they belong to, in the same order.
    set: RegexSet,
    /// The same expressions, the last first, so that one pass finds the last that fits.
    last: Finder,
    rule_of: Vec<usize>,
    actions: Vec<Action>,
    conditions: Vec<Vec<Condition>>,
    /// Rules without patterns, which may hold for any path.
    unnamed: Vec<usize>,
    /// Seconds since 1970, by which ages are told.
    now: i64,
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
    /// Makes the rules ready for the paths of a source; `now`, in seconds since 1970, is what ages
    /// are told by.
    ///
    /// # Errors
    /// If the automata get too large.
    pub fn matcher(&self, source: &[u8], now: i64) -> Result<Matcher, String> {
        let trimmed = source.strip_suffix(b"/").unwrap_or(source);
        let source = bytes_expression(trimmed);
        let (mut expressions, mut rule_of, mut takes) = (Vec::new(), Vec::new(), Vec::new());
        let too_large =
            |error: regex::Error| format!("the rules are too large to compile: {error}");
        let mut unnamed = Vec::new();
        for (number, rule) in self.rules.iter().enumerate() {
            if rule.patterns.is_empty() {
                unnamed.push(number);
                if rule.action == Action::Take {
                    takes.push(Reach { rule: number, parts: None });
                }
            }
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
                        Part::Name(name) if pattern.nocase => {
                            Step::Name(name_regex(&format!("(?i:{name})")).map_err(too_large)?)
                        }
                        Part::Name(name) => Step::Name(name_regex(name).map_err(too_large)?),
                    });
                }
                let parts = (pattern.anchor != Anchor::Anywhere).then_some(parts);
                takes.push(Reach { rule: number, parts });
            }
        }
        let last = Finder::builder()
            .configure(
                Finder::config()
                    .utf8_empty(false)
                    .nfa_size_limit(Some(LARGEST))
                    .hybrid_cache_capacity(LARGEST),
            )
            .syntax(
                regex_automata::util::syntax::Config::new()
                    .unicode(false)
                    .utf8(false)
                    .dot_matches_new_line(true),
            )
            .build_many(&expressions.iter().rev().collect::<Vec<_>>())
            .map_err(|error| format!("the rules are too large to compile: {error}"))?;
        let set = RegexSetBuilder::new(expressions)
            .unicode(false)
            .dot_matches_new_line(true)
            .size_limit(LARGEST)
            .dfa_size_limit(LARGEST)
            .build()
            .map_err(too_large)?;
        let actions = self.rules.iter().map(|rule| rule.action).collect();
        let conditions = self.rules.iter().map(|rule| rule.conditions.clone()).collect();
        Ok(Matcher { set, last, rule_of, actions, conditions, unnamed, now, takes })
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
        self.actions.is_empty()
    }

    fn verdict(&self, rule: Option<usize>) -> Verdict {
        let action = rule.and_then(|rule| self.actions.get(rule)).copied();
        Verdict { action: action.unwrap_or(Action::Take), rule }
    }

    /// Rules that may hold for a path by its name, the last first, each once.
    fn named(&self, path: &[u8], of: &dyn Traits) -> impl Iterator<Item = usize> {
        let matches = match of.kind() {
            PathKind::Directory => self.set.matches(&[path, b"/"].concat()),
            _ => self.set.matches(path),
        };
        let mut rules: Vec<usize> = matches.iter().map(|pattern| self.rule_of[pattern]).collect();
        rules.dedup();
        if !self.unnamed.is_empty() {
            rules.extend(&self.unnamed);
            rules.sort_unstable();
        }
        rules.into_iter().rev()
    }

    fn holds(&self, rule: usize, of: &dyn Traits) -> bool {
        self.conditions[rule].iter().all(|condition| condition.holds(of, self.now))
    }

    /// The last rule that fits a path by its name.
    fn last_named(&self, path: &[u8], directory: bool) -> Option<usize> {
        let find = |path: &[u8]| {
            let input = Input::new(path).anchored(Anchored::Yes);
            let found = self.last.search_half(&input)?;
            Some(self.rule_of[self.rule_of.len() - 1 - found.pattern().as_usize()])
        };
        if directory { find(&[path, b"/"].concat()) } else { find(path) }
    }

    /// The last rule that holds for a path itself, if it comes after `after`.
    fn last_rule(&self, path: &[u8], of: &dyn Traits, after: Option<usize>) -> Option<usize> {
        let named = self.last_named(path, of.kind() == PathKind::Directory);
        let unnamed = self.unnamed.iter().rev().copied();
        let mut later = unnamed.take_while(|rule| Some(*rule) > named.max(after));
        if let Some(rule) = later.find(|rule| self.holds(*rule, of)) {
            return Some(rule);
        }
        let named = named.filter(|named| Some(*named) > after)?;
        if self.holds(named, of) {
            return Some(named);
        }
        // Its conditions do not hold; only now all others are asked for.
        let mut later = self.named(path, of).take_while(|rule| Some(*rule) > after);
        later.find(|rule| self.holds(*rule, of))
    }

    /// The verdict on the source itself, for which the directories above it count as well, as far
    /// as their names go.
    #[must_use]
    pub fn source(&self, path: &[u8], of: &dyn Traits) -> Verdict {
        if self.is_empty() {
            return Verdict::TAKEN;
        }
        let slashes = path.iter().enumerate().filter(|(at, b)| **b == b'/' && *at > 0);
        let above = NameOnly { directory: true };
        let above =
            slashes.map(|(at, _)| self.last_rule(&path[..at], &above, None)).max().flatten();
        self.verdict(above.max(self.last_rule(path, of, above)))
    }

    /// The verdict on a full path, given the one on the directory it is in.
    #[must_use]
    pub fn below(&self, parent: Verdict, path: &[u8], of: &dyn Traits) -> Verdict {
        if self.is_empty() {
            return Verdict::TAKEN;
        }
        self.verdict(parent.rule.max(self.last_rule(path, of, parent.rule)))
    }

    /// The verdict on any full path at or below the source, part by part, and all rules that held
    /// on the way. `look` tells of each path what conditions ask; its last argument is whether the
    /// path is a directory as far as its place in the whole path says.
    #[must_use]
    pub fn explain(
        &self,
        source: &Path,
        path: &Path,
        directory: bool,
        look: &dyn Fn(&Path, bool) -> Box<dyn Traits>,
    ) -> Explanation {
        use std::os::unix::ffi::OsStrExt as _;
        let mut held: Vec<usize> = Vec::new();
        let mut note = |here: &Path, of: &dyn Traits| {
            let named = self.named(here.as_os_str().as_bytes(), of);
            held.extend(named.into_iter().filter(|rule| self.holds(*rule, of)));
        };
        let Ok(rest) = path.strip_prefix(source) else {
            return Explanation { verdict: Verdict::TAKEN, held };
        };
        for above in source.ancestors().skip(1) {
            note(above, &NameOnly { directory: true });
        }
        let parts: Vec<_> = rest.components().collect();
        note(source, &*look(source, directory || !parts.is_empty()));
        let mut here = source.to_path_buf();
        for (number, part) in parts.iter().enumerate() {
            here.push(part);
            note(&here, &*look(&here, directory || number + 1 < parts.len()));
        }
        held.sort_unstable();
        held.dedup();
        Explanation { verdict: self.verdict(held.last().copied()), held }
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
