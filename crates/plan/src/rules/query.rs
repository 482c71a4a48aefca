//! What is looked for in snapshots: a name or a pattern, and conditions as rules have them.

use regex::bytes::{Regex, RegexBuilder};

use super::{
    condition::{Condition, Traits},
    pattern::Pattern,
};
use crate::places::FarSource;

/// What is looked for.
#[derive(Clone, Debug)]
pub struct Query {
    /// Nothing: every path.
    name: Option<Regex>,
    conditions: Vec<Condition>,
    /// Seconds since 1970, by which ages are told.
    now: i64,
}

impl Query {
    /// A pattern as in rules; a word without `*`, `?`, `[` and `/` is part of a name, in upper or lower
    /// case. Conditions are words of rules with what they need: `over` and `2 GiB`, `older` and
    /// `3 weeks`. `now`: seconds since 1970.
    ///
    /// # Errors
    /// What is wrong with the pattern or a condition.
    pub fn new(
        pattern: Option<&str>,
        conditions: &[(&str, &str)],
        now: i64,
    ) -> Result<Self, String> {
        let name = pattern.map(expression).transpose()?;
        let condition = |(word, needs): &(&str, &str)| {
            let than = matches!(*word, "older" | "newer").then_some("than");
            let rest: Vec<&str> = than.into_iter().chain(needs.split_whitespace()).collect();
            let (condition, taken) = Condition::parse(word, &rest).map_err(|(_, why)| why)?;
            match taken == rest.len() {
                true => Ok(condition),
                false => Err(format!("`{needs}` says too much for `{word}`")),
            }
        };
        let conditions = conditions.iter().map(condition).collect::<Result<_, _>>()?;
        Ok(Self { name, conditions, now })
    }

    /// Whether a full path fits by its name.
    #[must_use]
    pub fn fits(&self, path: &[u8], is_directory: bool) -> bool {
        let Some(name) = &self.name else { return true };
        let host = if FarSource::is_address(path) { FarSource::host_length(path) } else { 0 };
        let path = &path[host..];
        match is_directory {
            true => name.is_match(&[path, b"/"].concat()),
            false => name.is_match(path),
        }
    }

    /// Whether all conditions hold.
    #[must_use]
    pub fn holds(&self, of: &dyn Traits) -> bool {
        self.conditions.iter().all(|condition| condition.holds(of, self.now))
    }
}

fn expression(text: &str) -> Result<Regex, String> {
    let is_word = !text.contains(['*', '?', '[', '/', '\\']) && text != "." && text != "..";
    let pattern = match is_word {
        true => Pattern::parse(&format!("*{text}*"), true)?,
        false => Pattern::parse(text, false)?,
    };
    RegexBuilder::new(&pattern.expression(""))
        .unicode(false)
        .dot_matches_new_line(true)
        .build()
        .map_err(|error| format!("the pattern is too large: {error}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fits(pattern: &str, path: &str) -> bool {
        let query = Query::new(Some(pattern), &[], 0).expect("a pattern");
        query.fits(path.trim_end_matches('/').as_bytes(), path.ends_with('/'))
    }

    #[test]
    fn words_are_parts_of_names_and_patterns_are_those_of_rules() {
        for (pattern, path, wanted) in [
            ("register", "/srv/ringing/Register.ods", true),
            ("register", "/srv/register/notes.md", false),
            ("register", "/srv/register/", true),
            ("möwe", "/srv/MÖWE.jpg", true),
            ("*.csv", "/srv/readings/tide.csv", true),
            ("*.csv", "/srv/readings/tide.CSV", false),
            ("ridge/*.csv", "/srv/readings/ridge/tide.csv", true),
            ("ridge/*.csv", "/srv/readings/ridge/old/tide.csv", false),
            ("/srv/**/tide.csv", "/srv/readings/ridge/tide.csv", true),
            ("/srv/", "/srv/", true),
            ("scans/", "/srv/ringing/scans/", true),
            ("scans/", "/srv/ringing/scans", false),
            ("/var/records/*.log", "sftp://mast/var/records/day.log", true),
            ("day", "sftp://mast/var/records/day.log", true),
            ("a[0-9]", "/srv/a7", true),
            ("field notes", "/srv/Field notes.md", true),
        ] {
            assert_eq!(fits(pattern, path), wanted, "{pattern} {path}");
        }
    }

    #[test]
    fn what_is_wrong_is_said() {
        for (pattern, conditions, wanted) in [
            (Some("a//b"), vec![], "`//` matches nothing"),
            (Some("[a"), vec![], "["),
            (None, vec![("over", "much")], "much"),
            (None, vec![("over", "2 GiB more")], "says too much"),
            (None, vec![("kind", "folder")], "`folder` is not a kind"),
            (None, vec![("older", "")], "needs a duration"),
        ] {
            let why = Query::new(pattern, &conditions, 0).expect_err("it is wrong");
            assert!(why.contains(wanted), "{why}");
        }
        assert!(Query::new(None, &[("newer", "3 weeks"), ("under", "2GiB")], 0).is_ok());
    }
}
