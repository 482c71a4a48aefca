//! Reading TOML tables so that every mistake is found, each with its place.

use std::{collections::BTreeMap, ops::Range};

use toml::{
    Spanned,
    de::{DeTable, DeValue},
};

use crate::problem::{Problem, nearest};

/// A file being read: its text, and the problems found so far.
pub(crate) struct Reading<'t> {
    pub file: &'t str,
    pub text: &'t str,
    pub problems: Vec<Problem>,
}

impl<'t> Reading<'t> {
    pub fn new(file: &'t str, text: &'t str) -> Self {
        Self { file, text, problems: Vec::new() }
    }

    /// The file's table; syntax errors are noted, all of them.
    pub fn parse(&mut self) -> DeTable<'t> {
        let (table, errors) = DeTable::parse_recoverable(self.text);
        for error in errors {
            let span = error.span().unwrap_or(0..0);
            let message = error.message().lines().next().unwrap_or("not valid TOML").to_owned();
            self.problem(&span, message);
        }
        table.into_inner()
    }

    pub fn problem(&mut self, span: &Range<usize>, message: impl Into<String>) -> &mut Problem {
        self.problems.push(Problem::at(self.file, self.text, span, message));
        let last = self.problems.len() - 1;
        &mut self.problems[last]
    }

    pub fn problem_with(
        &mut self,
        span: &Range<usize>,
        message: impl Into<String>,
        hint: impl Into<String>,
    ) {
        let problem = Problem::at(self.file, self.text, span, message).hint(hint);
        self.problems.push(problem);
    }
}

/// The keys of one table that were not asked for yet.
pub(crate) struct Fields<'t> {
    what: &'static str,
    left: BTreeMap<String, (Range<usize>, Spanned<DeValue<'t>>)>,
    asked: Vec<&'static str>,
}

/// A value with its place.
pub(crate) type Value<'t> = Spanned<DeValue<'t>>;

impl<'t> Fields<'t> {
    /// `what` names the table in messages, as in "a plan".
    pub fn new(what: &'static str, table: DeTable<'t>) -> Self {
        let keyed = table.into_iter().map(|(key, value)| {
            let span = key.span();
            (key.into_inner().into_owned(), (span, value))
        });
        Self { what, left: keyed.collect(), asked: Vec::new() }
    }

    pub fn take(&mut self, key: &'static str) -> Option<Value<'t>> {
        self.asked.push(key);
        self.left.remove(key).map(|(_, value)| value)
    }

    /// Where a key stands, for messages that concern it after its value was taken.
    pub fn text(
        &mut self,
        reading: &mut Reading<'t>,
        key: &'static str,
    ) -> Option<(String, Range<usize>)> {
        let value = self.take(key)?;
        let span = value.span();
        match value.get_ref().as_str() {
            Some(text) => Some((text.to_owned(), span)),
            None => {
                wrong_type(reading, key, &value, "a string in quotes");
                None
            }
        }
    }

    pub fn texts(
        &mut self,
        reading: &mut Reading<'t>,
        key: &'static str,
    ) -> Option<Vec<(String, Range<usize>)>> {
        let value = self.take(key)?;
        texts(reading, key, &value)
    }

    /// Texts, if the key holds a list; else the key is left for others to ask for.
    pub fn texts_where_listed(
        &mut self,
        reading: &mut Reading<'t>,
        key: &'static str,
    ) -> Option<Vec<String>> {
        let (_, value) = self.left.get(key)?;
        value.get_ref().as_array()?;
        let found = self.texts(reading, key)?;
        Some(found.into_iter().map(|(text, _)| text).collect())
    }

    /// A whole number from 1 on.
    pub fn count(
        &mut self,
        reading: &mut Reading<'t>,
        key: &'static str,
        most: u32,
    ) -> Option<u32> {
        let value = self.take(key)?;
        let number = value.get_ref().as_integer();
        let number = number.and_then(|n| u32::from_str_radix(n.as_str(), n.radix()).ok());
        match number {
            Some(number) if (1..=most).contains(&number) => Some(number),
            _ => {
                wrong_type(reading, key, &value, &format!("a whole number from 1 to {most}"));
                None
            }
        }
    }

    /// Reports what is left: keys of the contract that this version does not act on, and keys
    /// nobody knows, with the nearest right spelling.
    pub fn finish(self, reading: &mut Reading<'t>, later: &[&'static str]) {
        for (key, (span, _)) in &self.left {
            if later.contains(&key.as_str()) {
                reading.problem_with(
                    span,
                    format!("`{key}` is not supported by this version yet"),
                    "remove it for now",
                );
                continue;
            }
            let message = format!("{} has no key `{key}`", self.what);
            let known = self.asked.iter().chain(later).copied();
            match nearest(key, known) {
                Some(near) => {
                    reading.problem_with(span, message, format!("did you mean `{near}`?"));
                }
                None => {
                    let hint = format!("it has {}", self.asked.join(", "));
                    reading.problem_with(span, message, hint);
                }
            }
        }
    }
}

pub(crate) fn wrong_type(reading: &mut Reading<'_>, key: &str, value: &Value<'_>, wanted: &str) {
    let got = value.get_ref().type_str();
    reading.problem(&value.span(), format!("`{key}` must be {wanted}, not this {got}"));
}

/// A list of texts.
pub(crate) fn texts(
    reading: &mut Reading<'_>,
    key: &str,
    value: &Value<'_>,
) -> Option<Vec<(String, Range<usize>)>> {
    let Some(array) = value.get_ref().as_array() else {
        wrong_type(reading, key, value, "a list of strings, such as [\"…\"]");
        return None;
    };
    let mut found = Vec::new();
    for item in array.iter() {
        match item.get_ref().as_str() {
            Some(text) => found.push((text.to_owned(), item.span())),
            None => wrong_type(reading, key, item, "a list of texts"),
        }
    }
    Some(found)
}
