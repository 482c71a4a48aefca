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
    /// The object is longer than its kind allows.
    Long,
    /// The place itself is not there.
    Missing,
    /// Not allowed.
    Refused,
    /// No room.
    Full,
    /// The medium takes no writes.
    ReadOnly,
    /// The host, or its port, cannot be reached.
    Unreachable,
    /// The host's key is not known yet.
    NewHost,
    /// The host's key is not the one that is known.
    HostKey,
    /// The login was refused.
    Login,
    /// The connection broke off.
    Cut,
    /// No answer came in time.
    Slow,
    /// The line breaks each time before an object of this size is through, and carries less.
    Narrow,
    /// The server is too busy, or has trouble of its own, and asks to come again.
    Busy,
    /// The server's certificate is not to be trusted.
    Certificate,
    /// The clocks differ too much for signed requests.
    Clock,
    /// The object lies in a storage class it has to be thawed from first.
    Frozen,
    /// Nobody wanted the answer any more ([`Place::give_up`](crate::Place::give_up)).
    GivenUp,
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
    /// What to do about it, where the place knows better than its kind tells.
    pub hint: Option<String>,
}

impl PlaceError {
    /// Why it failed, without what was attempted.
    #[must_use]
    pub fn reason(&self) -> String {
        reason(&self.kind, &self.source)
    }
}

fn reason(kind: &PlaceErrorKind, source: &Option<io::Error>) -> String {
    // What was said in words of its own says more than the kind.
    if let Some(source) = source.as_ref().filter(|source| source.kind() == io::ErrorKind::Other) {
        return source.to_string();
    }
    let words = match kind {
        PlaceErrorKind::NotFound => "it does not exist",
        PlaceErrorKind::Exists => "it already exists",
        PlaceErrorKind::Short => "it is shorter than it should be",
        PlaceErrorKind::Long => "it is longer than this kind of object may be",
        PlaceErrorKind::Missing => "the place does not exist",
        PlaceErrorKind::Refused => "permission denied",
        PlaceErrorKind::Full => "no space left",
        PlaceErrorKind::ReadOnly => "the medium is read-only",
        PlaceErrorKind::Failed => match source {
            Some(source) => return source.to_string(),
            None => "the operation failed",
        },
        PlaceErrorKind::Unreachable => "it cannot be reached",
        PlaceErrorKind::NewHost => "unknown host key",
        PlaceErrorKind::HostKey => "the host key has changed",
        PlaceErrorKind::Login => "login refused",
        PlaceErrorKind::Cut => "the connection was lost",
        PlaceErrorKind::Slow => "no answer in time",
        PlaceErrorKind::Narrow => "the connection is lost each time before the transfer ends",
        PlaceErrorKind::Busy => "the server is busy",
        PlaceErrorKind::Certificate => "its certificate is not trusted",
        PlaceErrorKind::Clock => "the clocks differ too much",
        PlaceErrorKind::GivenUp => "interrupted",
        PlaceErrorKind::Frozen => "it must be retrieved from cold storage first",
    };
    words.to_owned()
}

impl PlaceError {
    /// An error without an underlying one.
    pub fn new(operation: Operation, subject: impl Into<String>, kind: PlaceErrorKind) -> Self {
        Self { operation, subject: subject.into(), kind, source: None, hint: None }
    }

    /// An error from the operating system.
    pub fn io(operation: Operation, subject: impl Into<String>, source: io::Error) -> Self {
        let kind = match source.kind() {
            io::ErrorKind::NotFound => PlaceErrorKind::NotFound,
            io::ErrorKind::AlreadyExists => PlaceErrorKind::Exists,
            io::ErrorKind::UnexpectedEof => PlaceErrorKind::Short,
            io::ErrorKind::FileTooLarge => PlaceErrorKind::Long,
            io::ErrorKind::PermissionDenied => PlaceErrorKind::Refused,
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => PlaceErrorKind::Full,
            io::ErrorKind::ReadOnlyFilesystem => PlaceErrorKind::ReadOnly,
            _ => PlaceErrorKind::Failed,
        };
        Self { operation, subject: subject.into(), kind, source: Some(source), hint: None }
    }

    /// An error with its reason in words.
    pub fn because(
        operation: Operation,
        subject: impl Into<String>,
        kind: PlaceErrorKind,
        reason: impl Into<String>,
    ) -> Self {
        let source = Some(io::Error::other(reason.into()));
        Self { operation, subject: subject.into(), kind, source, hint: None }
    }

    /// With what to do about it.
    #[must_use]
    pub fn with_hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }

    /// Whether the same operation may succeed a little later.
    #[must_use]
    pub fn is_passing(&self) -> bool {
        use PlaceErrorKind::{Busy, Cut, Slow, Unreachable};
        matches!(self.kind, Busy | Cut | Slow | Unreachable)
    }

    /// Whether reading failed for this object, as against the place as a whole: this account may not
    /// read it, or the operating system says why it cannot.
    #[must_use]
    pub fn is_of_the_object(&self) -> bool {
        let from_system = self.source.as_ref().is_some_and(|why| why.raw_os_error().is_some());
        self.operation == Operation::Read
            && match self.kind {
                PlaceErrorKind::Refused | PlaceErrorKind::Long => true,
                PlaceErrorKind::Failed => from_system,
                _ => false,
            }
    }

    /// Whether the medium could not read a part of an object that is there.
    #[must_use]
    pub fn is_lost_sector(&self) -> bool {
        let code = self.source.as_ref().and_then(io::Error::raw_os_error);
        self.operation == Operation::Read
            && code.is_some_and(|code| {
                rustix::io::Errno::from_raw_os_error(code) == rustix::io::Errno::IO
            })
    }

    /// Whether the object is simply not there.
    #[must_use]
    pub fn is_not_found(&self) -> bool {
        self.kind == PlaceErrorKind::NotFound
    }
}
