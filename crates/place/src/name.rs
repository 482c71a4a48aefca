//! Names of objects.

use std::fmt;

/// The name of an object: parts of `a-z 0-9 . _ -` joined by `/`, none of them beginning with a
/// dot. Such names mean the same on every kind of place, also where case is folded.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ObjectName(String);

/// A text that is no object name.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a valid object name")]
pub struct NameError(pub String);

impl ObjectName {
    /// Checks a text and makes it a name.
    ///
    /// # Errors
    /// If it is empty, longer than 240 bytes, or holds anything but the allowed characters.
    pub fn new(text: impl Into<String>) -> Result<Self, NameError> {
        let text = text.into();
        let part_is_fine = |part: &str| {
            !part.is_empty()
                && !part.starts_with('.')
                && part.bytes().all(|b| matches!(b, b'a'..=b'z' | b'0'..=b'9' | b'.' | b'_' | b'-'))
        };
        if text.len() <= 240 && text.split('/').all(part_is_fine) {
            Ok(Self(text))
        } else {
            Err(NameError(text))
        }
    }

    /// The whole name.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The last part.
    #[must_use]
    pub fn leaf(&self) -> &str {
        self.0.rsplit('/').next().unwrap_or(&self.0)
    }

    /// What stands before the last part, empty at the top.
    #[must_use]
    pub fn folder(&self) -> &str {
        self.0.rsplit_once('/').map_or("", |(folder, _)| folder)
    }
}

impl fmt::Display for ObjectName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_could_leave_the_place_are_refused() {
        for bad in ["", "/", "a/", "/a", "a//b", "..", "a/../b", ".hidden", "A", "a b", "a\0"] {
            assert!(ObjectName::new(bad).is_err(), "{bad:?}");
        }
        let name = ObjectName::new("data/00ff-1.x").expect("a plain name");
        assert_eq!((name.folder(), name.leaf()), ("data", "00ff-1.x"));
        assert_eq!(ObjectName::new("top").expect("a plain name").folder(), "");
    }
}
