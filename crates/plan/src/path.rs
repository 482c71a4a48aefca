//! Paths as people write them.

use std::path::{Component, Path, PathBuf};

/// What `~` and `${NAME}` stand for.
pub trait Expand {
    /// The value of an environment variable.
    fn variable(&self, name: &str) -> Option<String>;
}

impl<F: Fn(&str) -> Option<String>> Expand for F {
    fn variable(&self, name: &str) -> Option<String> {
        self(name)
    }
}

/// Why a text is no path.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PathProblem {
    /// A variable has no value.
    #[error("`${{{0}}}` is not set")]
    Unset(String),
    /// A `${` without `}`.
    #[error("`${{` is never closed")]
    Unclosed,
    /// It does not begin at the root.
    #[error("`{0}` is not a full path")]
    NotAbsolute(String),
    /// It goes up.
    #[error("`..` is not allowed in a path")]
    GoesUp,
}

/// Expands `~` and `${NAME}`, and drops what makes no difference (`//`, `/./`, a final `/`).
///
/// # Errors
/// If the result is not a full path.
pub fn expand(text: &str, with: &dyn Expand) -> Result<PathBuf, PathProblem> {
    let value = |name: &str| {
        with.variable(name)
            .filter(|value| !value.is_empty())
            .ok_or(PathProblem::Unset(name.to_owned()))
    };
    let mut out = String::new();
    let mut rest = text;
    if rest == "~" || rest.starts_with("~/") {
        out.push_str(&value("HOME")?);
        rest = &rest[1..];
    }
    while let Some((before, after)) = rest.split_once("${") {
        let (name, after) = after.split_once('}').ok_or(PathProblem::Unclosed)?;
        out.push_str(before);
        out.push_str(&value(name)?);
        rest = after;
    }
    out.push_str(rest);
    let path = Path::new(&out);
    if !path.is_absolute() {
        return Err(PathProblem::NotAbsolute(out));
    }
    if path.components().any(|part| part == Component::ParentDir) {
        return Err(PathProblem::GoesUp);
    }
    Ok(path.components().collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_expand_or_say_why_not() {
        let with = |name: &str| match name {
            "HOME" => Some("/home/keeper".to_owned()),
            "YEAR" => Some("2026".to_owned()),
            _ => None,
        };
        let good = |text| expand(text, &with).expect("expands").display().to_string();
        assert_eq!(good("~/notes/"), "/home/keeper/notes");
        assert_eq!(good("/srv//readings/./${YEAR}"), "/srv/readings/2026");
        assert_eq!(good("~"), "/home/keeper");
        let bad = |text| expand(text, &with).expect_err("is refused");
        assert_eq!(bad("${GULL}/x"), PathProblem::Unset("GULL".to_owned()));
        assert_eq!(bad("/a/${YEAR"), PathProblem::Unclosed);
        assert_eq!(bad("notes"), PathProblem::NotAbsolute("notes".to_owned()));
        assert_eq!(bad("/a/../b"), PathProblem::GoesUp);
    }
}
