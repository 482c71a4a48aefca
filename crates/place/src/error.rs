//! What can go wrong at a place.

use std::{fmt, io};

/// What was attempted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operation {
    /// Reach or prepare the place itself.
    Reach,
    /// Create an object.
    Create,
    /// Read a part of an object.
    Read,
    /// List a folder.
    List,
    /// Delete an object.
    Delete,
}

impl fmt::Display for Operation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Reach => "reach",
            Self::Create => "create",
            Self::Read => "read",
            Self::List => "list",
            Self::Delete => "delete",
        })
    }
}

/// Why it failed, as far as the next step depends on it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum PlaceErrorKind {
    /// There is no such object.
    NotFound,
    /// There is one already.
    Exists,
    /// The object is shorter than the range asked for.
    Short,
    /// The place itself is not there.
    Missing,
    /// Not allowed.
    Refused,
    /// No room.
    Full,
    /// The medium takes no writes.
    ReadOnly,
    /// Anything else.
    Failed,
}

/// An operation on a place that failed: which, on what, and why.
#[derive(Debug, thiserror::Error)]
#[error("could not {operation} {subject}: {}", reason(.kind, .source))]
pub struct PlaceError {
    /// What was attempted.
    pub operation: Operation,
    /// The object or folder, with the place before it.
    pub subject: String,
    /// Why, for programs.
    pub kind: PlaceErrorKind,
    /// Why, for people.
    pub source: Option<io::Error>,
}

fn reason(kind: &PlaceErrorKind, source: &Option<io::Error>) -> String {
    let words = match kind {
        PlaceErrorKind::NotFound => "it is not there",
        PlaceErrorKind::Exists => "it exists already",
        PlaceErrorKind::Short => "it is shorter than it should be",
        PlaceErrorKind::Missing => "the place is not there",
        PlaceErrorKind::Refused => "permission was refused",
        PlaceErrorKind::Full => "there is no room left",
        PlaceErrorKind::ReadOnly => "the medium is read-only",
        PlaceErrorKind::Failed => match source {
            Some(source) => return source.to_string(),
            None => "the operation failed",
        },
    };
    words.to_owned()
}

impl PlaceError {
    /// An error without an underlying one.
    pub fn new(operation: Operation, subject: impl Into<String>, kind: PlaceErrorKind) -> Self {
        Self { operation, subject: subject.into(), kind, source: None }
    }

    /// An error from the operating system.
    pub fn io(operation: Operation, subject: impl Into<String>, source: io::Error) -> Self {
        let kind = match source.kind() {
            io::ErrorKind::NotFound => PlaceErrorKind::NotFound,
            io::ErrorKind::AlreadyExists => PlaceErrorKind::Exists,
            io::ErrorKind::UnexpectedEof => PlaceErrorKind::Short,
            io::ErrorKind::PermissionDenied => PlaceErrorKind::Refused,
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => PlaceErrorKind::Full,
            io::ErrorKind::ReadOnlyFilesystem => PlaceErrorKind::ReadOnly,
            _ => PlaceErrorKind::Failed,
        };
        Self { operation, subject: subject.into(), kind, source: Some(source) }
    }

    /// Whether the object is simply not there.
    #[must_use]
    pub fn is_not_found(&self) -> bool {
        self.kind == PlaceErrorKind::NotFound
    }
}
