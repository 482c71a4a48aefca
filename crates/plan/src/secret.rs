//! Where a secret comes from. A secret itself never stands in a file of ours.

use std::{ops::Range, path::PathBuf};

use toml::de::DeTable;

use crate::{
    fields::{Fields, Reading, Value, wrong_type},
    path::{Expand, expand},
};

/// Where a secret comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SecretSource {
    /// The first line of a file that others cannot read.
    File(PathBuf),
    /// An environment variable.
    Env(String),
    /// The first line a command prints.
    Command(Vec<String>),
    /// A credential that systemd hands to the service (systemd.exec(5)).
    Credential(String),
    /// A key of the type `user` in the kernel's keyring (keyrings(7)).
    Keyring(String),
}

const WAYS: &str = "say where it is: { file = \"…\" }, { env = \"…\" }, { command = [\"…\"] }, { credential = \"…\" } or { keyring = \"…\" }";

pub(crate) fn parse<'t>(
    reading: &mut Reading<'t>,
    key: &'static str,
    value: Value<'t>,
    with: &dyn Expand,
) -> Option<SecretSource> {
    let span = value.span();
    let table: DeTable<'t> = match value.into_inner() {
        toml::de::DeValue::Table(table) => table,
        toml::de::DeValue::String(_) => {
            // The line is not repeated: messages end up in logs.
            let problem =
                reading.problem(&span, format!("`{key}` contains a secret in plain text"));
            problem.text = format!("{key} = …");
            problem.column = 1;
            problem.hint = Some(WAYS.to_owned());
            return None;
        }
        other => {
            let value = toml::Spanned::new(span, other);
            wrong_type(reading, key, &value, "a table that says where the secret is");
            return None;
        }
    };
    parse_fields(reading, key, &span, Fields::new("a secret", table), with)
}

/// The ways to a secret, from a table's keys.
pub(crate) fn parse_fields<'t>(
    reading: &mut Reading<'t>,
    key: &'static str,
    span: &Range<usize>,
    mut fields: Fields<'t>,
    with: &dyn Expand,
) -> Option<SecretSource> {
    let mut found = Vec::new();
    if let Some((text, span)) = fields.text(reading, "file") {
        match expand(&text, with) {
            Ok(path) => found.push(SecretSource::File(path)),
            Err(problem) => drop(reading.problem(&span, problem.to_string())),
        }
    }
    if let Some((name, _)) = fields.text(reading, "env") {
        found.push(SecretSource::Env(name));
    }
    if let Some(words) = fields.texts(reading, "command") {
        if words.is_empty() {
            reading.problem(span, "a command needs at least its program");
        } else {
            found.push(SecretSource::Command(words.into_iter().map(|(word, _)| word).collect()));
        }
    }
    if let Some((name, span)) = fields.text(reading, "credential") {
        let is_name = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_');
        if name.is_empty() || name.starts_with('.') || !name.chars().all(is_name) {
            reading.problem(&span, format!("`{name}` is not a credential name"));
        } else {
            found.push(SecretSource::Credential(name));
        }
    }
    if let Some((name, span)) = fields.text(reading, "keyring") {
        if name.is_empty() || name.chars().any(char::is_control) {
            reading.problem(&span, format!("`{name}` is not a key description"));
        } else {
            found.push(SecretSource::Keyring(name));
        }
    }
    let before = reading.problems.len();
    fields.finish(reading, &[]);
    match found.len() {
        1 => found.pop(),
        0 if before == reading.problems.len() => {
            reading.problem_with(span, format!("`{key}` does not say where the secret is"), WAYS);
            None
        }
        0 => None,
        _ => {
            reading.problem_with(
                span,
                format!("`{key}` names several ways to the secret"),
                "keep one",
            );
            None
        }
    }
}
