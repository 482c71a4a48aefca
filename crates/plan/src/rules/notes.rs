//! Rules that are no mistakes but perhaps not what was meant: those that can never decide, and
//! those that fit nothing in the plan's sources.

use std::{os::unix::ffi::OsStrExt, path::PathBuf};

use regex::bytes::RegexBuilder;

use super::{
    Rule, RuleSet,
    pattern::{Anchor, Part, Pattern},
};

/// Something worth knowing about a rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleNote {
    /// Number of the rule.
    pub rule: usize,
    /// What there is to know.
    pub message: String,
}

impl RuleSet {
    /// What is worth knowing about these rules for a plan of these sources. Only what is certain is
    /// told: that nothing is said of a rule does not prove that it ever decides.
    #[must_use]
    pub fn notes(&self, sources: &[PathBuf]) -> Vec<RuleNote> {
        let mut notes = Vec::new();
        for (number, rule) in self.rules.iter().enumerate() {
            let later = self.rules[number + 1..].iter().find(|later| covers(later, rule));
            if let Some(later) = later {
                let message = format!(
                    "it has no effect: `{}` ({}, line {}) comes later and matches the same paths",
                    later.text, later.file, later.line
                );
                notes.push(RuleNote { rule: number, message });
            } else if !rule.patterns.is_empty()
                && rule.patterns.iter().all(|pattern| is_out_of_reach(pattern, sources))
            {
                let message = "it matches nothing: its path is in no source".to_owned();
                notes.push(RuleNote { rule: number, message });
            }
        }
        notes
    }
}

/// Whether a rule holds wherever another does, as far as that shows in the patterns' parts.
fn covers(later: &Rule, rule: &Rule) -> bool {
    let asks_no_more = later.conditions.iter().all(|condition| rule.conditions.contains(condition));
    let names_all = later.patterns.is_empty()
        || (!rule.patterns.is_empty()
            && rule
                .patterns
                .iter()
                .all(|pattern| later.patterns.iter().any(|later| covers_pattern(later, pattern))));
    asks_no_more && names_all
}

fn covers_pattern(later: &Pattern, pattern: &Pattern) -> bool {
    if later.directories_only && !pattern.directories_only || pattern.nocase && !later.nocase {
        return false;
    }
    if later.anchor == pattern.anchor && later.parts == pattern.parts {
        return true;
    }
    // A full path may name the source or what is above it, where no other pattern fits.
    if later.anchor != Anchor::Anywhere
        || pattern.anchor == Anchor::Root
        || pattern.parts.is_empty()
    {
        return false;
    }
    if matches!(later.parts.as_slice(), [Part::Name(name)] if name == ANY_NAME) {
        return true;
    }
    let Some(from) = pattern.parts.len().checked_sub(later.parts.len()) else { return false };
    let pairs = later.parts.iter().zip(&pattern.parts[from..]).zip(&pattern.literals[from..]);
    !later.parts.is_empty()
        && pairs.into_iter().all(|((later, own), literal)| match (later, own) {
            (Part::Name(later), Part::Name(own)) => {
                later == own
                    || later == ANY_NAME
                    || literal.as_deref().is_some_and(|name| fits(later, name))
            }
            _ => false,
        })
}

/// The expression of `*`.
const ANY_NAME: &str = "[^/]+";

/// Whether a part fits a name, case for case: what fits so fits without regard to case as well.
fn fits(expression: &str, name: &str) -> bool {
    let regex = RegexBuilder::new(&format!("^(?:{expression})$")).unicode(false).build();
    regex.is_ok_and(|regex| regex.is_match(name.as_bytes()))
}

/// Whether a full path can name nothing at, above or below any source.
fn is_out_of_reach(pattern: &Pattern, sources: &[PathBuf]) -> bool {
    if pattern.anchor != Anchor::Root {
        return false;
    }
    !sources.iter().any(|source| {
        let mut names =
            source.as_os_str().as_bytes().split(|b| *b == b'/').filter(|name| !name.is_empty());
        for part in &pattern.parts {
            match (part, names.next()) {
                // The source ends first: the rest may be below it. Or the pattern may go anywhere.
                (_, None) | (Part::Any, _) => return true,
                (Part::Name(expression), Some(name)) => {
                    let text = String::from_utf8_lossy(name);
                    let both = format!("(?i:{expression})");
                    if !fits(if pattern.nocase { &both } else { expression }, &text) {
                        return false;
                    }
                }
            }
        }
        true
    })
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use proptest::prelude::*;

    use super::*;
    use crate::rules::{NameOnly, Traits};

    fn noted(text: &str) -> Vec<usize> {
        let (rules, problems) = RuleSet::parse(text, "r");
        assert!(problems.is_empty(), "{text}: {problems:?}");
        let notes = rules.notes(&["/srv/ridge".into(), "/etc".into()]);
        notes.into_iter().map(|note| note.rule).collect()
    }

    #[test]
    fn what_never_decides_and_what_fits_nothing_is_told() {
        for (text, expected) in [
            ("skip *.part\nskip *.csv", &[][..]),
            ("skip *.part\ntake *.part", &[0]),
            ("take ./notes/*.part\nskip *.part", &[0]),
            ("take a.part\nskip *.part", &[0]),
            ("take x.PART nocase\nskip *.part", &[]),
            ("take x.part\nskip *.PART nocase", &[]),
            ("take a/b\nskip *", &[0]),
            ("take /srv/ridge/a\nskip *", &[]),
            ("take a b.part\nskip *.part", &[]),
            ("take *.csv over 1 MiB\nskip *.csv", &[0]),
            ("take *.csv\nskip *.csv over 1 MiB", &[]),
            ("skip kind link\nskip kind link", &[0]),
            ("skip tmp/\nskip tmp", &[0]),
            ("skip tmp\nskip tmp/", &[]),
            ("skip /var/cache/**", &[0]),
            ("skip /srv/ridge/x /etc/y", &[]),
            ("skip /srv", &[]),
            ("skip /srv/*/x", &[]),
            ("skip /var/x /etc/y", &[]),
            ("skip /**/x", &[]),
        ] {
            assert_eq!(noted(text), expected, "{text:?}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]
        #[test]
        fn what_is_told_never_to_decide_never_does(
            lines in prop::collection::vec(("(take|skip)", "(\\./|/s/)?[ab*?]{1,2}(/[ab*]{1,2})?/?( nocase)?"), 2..6),
            paths in prop::collection::vec(("[abAB]{1,2}(/[abAB]{1,2}){0,3}", any::<bool>()), 20),
        ) {
            let text: String = lines.iter().map(|(verb, rest)| format!("{verb} {rest}\n")).collect();
            prop_assume!(!text.contains("**"));
            let (rules, problems) = RuleSet::parse(&text, "r");
            prop_assume!(problems.is_empty());
            let notes = rules.notes(&["/s".into()]);
            let matcher = rules.matcher(b"/s", 0).expect("compiles");
            let look = |_: &Path, directory: bool| -> Box<dyn Traits> { Box::new(NameOnly { directory }) };
            for (path, directory) in paths {
                let path = format!("/s/{path}");
                let why = matcher.explain(Path::new("/s"), Path::new(&path), directory, &look);
                for note in &notes {
                    prop_assert_ne!(why.verdict.rule, Some(note.rule), "{} on {}: {}", text, path, note.message);
                }
            }
        }
    }
}
