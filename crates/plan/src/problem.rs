//! What is wrong with a file: where, why, and what to write instead.

use std::{fmt, ops::Range};

/// How bad it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// The file cannot be used.
    Mistake,
    /// It can be used, but perhaps it does not say what was meant.
    Warning,
}

/// One thing that is wrong with a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// How bad it is.
    pub severity: Severity,
    /// The file, as the user knows it.
    pub file: String,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// The line itself.
    pub text: String,
    /// What is wrong.
    pub message: String,
    /// What to do about it.
    pub hint: Option<String>,
}

impl Problem {
    /// A mistake at a range of bytes of a file's text.
    pub(crate) fn at(
        file: &str,
        text: &str,
        span: &Range<usize>,
        message: impl Into<String>,
    ) -> Self {
        let start = floor_char_boundary(text, span.start);
        let before = &text[..start];
        let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
        let line_end = text[start..].find('\n').map_or(text.len(), |newline| start + newline);
        Self {
            severity: Severity::Mistake,
            file: file.to_owned(),
            line: before.matches('\n').count() + 1,
            column: before[line_start..].chars().count() + 1,
            text: text[line_start..line_end].trim_end().to_owned(),
            message: message.into(),
            hint: None,
        }
    }

    /// A mistake of a file as a whole; what to do about it.
    #[must_use]
    pub fn of_file(file: &str, message: String, hint: String) -> Self {
        Self {
            severity: Severity::Mistake,
            file: file.to_owned(),
            line: 1,
            column: 1,
            text: String::new(),
            message,
            hint: Some(hint),
        }
    }

    pub(crate) fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }
}

fn floor_char_boundary(text: &str, at: usize) -> usize {
    let mut at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { file, line, column, text, message, .. } = self;
        let word = match self.severity {
            Severity::Mistake => "",
            Severity::Warning => "warning: ",
        };
        writeln!(f, "{file}:{line}:{column}: {word}{message}")?;
        let printable: String =
            text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
        writeln!(f, "    {printable}")?;
        write!(f, "    {:>column$}", '^')?;
        match &self.hint {
            Some(hint) => write!(f, " {hint}"),
            None => Ok(()),
        }
    }
}

/// The candidate that is spelled most like a word, if any is close enough to be meant.
#[must_use]
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let scored = candidates.into_iter().map(|candidate| {
        (strsim::damerau_levenshtein(&word.to_lowercase(), &candidate.to_lowercase()), candidate)
    });
    let (distance, best) = scored.min_by_key(|(distance, _)| *distance)?;
    let allowed = (word.chars().count().max(best.chars().count()) / 3).max(1);
    (distance <= allowed).then_some(best)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_in_a_text_becomes_line_and_column() {
        let text = "one = 1\nzwölf = 12\n";
        let problem = Problem::at("plans/x.toml", text, &(17..19), "no").hint("say 13");
        assert_eq!((problem.line, problem.column), (2, 9));
        let shown = problem.to_string();
        assert_eq!(shown, "plans/x.toml:2:9: no\n    zwölf = 12\n            ^ say 13");
        // Inside a character, and past the end: no panic.
        assert_eq!(Problem::at("x", text, &(11..11), "no").column, 3);
        assert_eq!(Problem::at("x", text, &(99..99), "no").line, 3);
    }

    #[test]
    fn only_near_spellings_are_offered() {
        let keys = ["sources", "store", "rules"];
        assert_eq!(nearest("sorces", keys), Some("sources"));
        assert_eq!(nearest("stroe", keys), Some("store"));
        assert_eq!(nearest("retain", keys), None);
    }
}
