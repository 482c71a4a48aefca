//! Why a path could not be handled: what kind of trouble that is, and the words in which snapshots and
//! the journal keep it.

use rustix::io::Errno;

/// What kind of trouble there is with a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CauseKind {
    /// It is not there.
    Missing,
    /// It was there a moment ago.
    Vanished,
    /// This account may not.
    Denied,
    /// It changed while it was read.
    Moving,
    /// The disk does not give it.
    Disk,
    /// The store does not give it.
    Store,
    /// There is no room for it.
    NoRoom,
    /// Something else has its name.
    InTheWay,
    /// It is there, without all that belongs to it.
    Incomplete,
    /// Anything else.
    Other,
}

impl CauseKind {
    const ALL: [(Self, &'static str); 10] = [
        (Self::Missing, "missing"),
        (Self::Vanished, "vanished"),
        (Self::Denied, "denied"),
        (Self::Moving, "moving"),
        (Self::Disk, "disk"),
        (Self::Store, "store"),
        (Self::NoRoom, "no-room"),
        (Self::InTheWay, "in-the-way"),
        (Self::Incomplete, "incomplete"),
        (Self::Other, "other"),
    ];

    /// As the journal and `--json` name it.
    #[must_use]
    pub fn code(self) -> &'static str {
        Self::ALL.iter().find(|(kind, _)| *kind == self).map_or("other", |(_, code)| code)
    }

    /// By its name; a name that a later version has given is [`Other`](Self::Other).
    #[must_use]
    pub fn of_code(code: &str) -> Self {
        Self::ALL.iter().find(|(_, known)| *known == code).map_or(Self::Other, |(kind, _)| *kind)
    }

    fn of_errno(error: Errno) -> Self {
        match error {
            Errno::ACCESS | Errno::PERM => Self::Denied,
            Errno::NOENT | Errno::NOTDIR => Self::Missing,
            Errno::IO => Self::Disk,
            Errno::NOSPC | Errno::DQUOT => Self::NoRoom,
            _ => Self::Other,
        }
    }
}

/// Why a path could not be handled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cause {
    /// What kind of trouble it is.
    pub kind: CauseKind,
    /// What a person is told.
    pub words: String,
}

impl Cause {
    /// Of this kind, in these words.
    #[must_use]
    pub fn new(kind: CauseKind, words: impl Into<String>) -> Self {
        Self { kind, words: words.into() }
    }

    /// None that has a kind of its own.
    #[must_use]
    pub fn other(words: impl Into<String>) -> Self {
        Self::new(CauseKind::Other, words)
    }

    /// What was attempted, and what the system said.
    pub(crate) fn of(attempt: &str, error: Errno) -> Self {
        Self::new(CauseKind::of_errno(error), format!("{attempt}: {error}"))
    }

    /// It is not there.
    #[must_use]
    pub fn missing() -> Self {
        Self::new(CauseKind::Missing, "it does not exist")
    }

    /// It was there a moment ago.
    #[must_use]
    pub fn vanished() -> Self {
        Self::new(CauseKind::Vanished, "it vanished or was replaced during the run")
    }

    /// This account may not.
    #[must_use]
    pub fn denied() -> Self {
        Self::new(CauseKind::Denied, "permission denied")
    }

    /// The store does not give it.
    pub(crate) fn store(error: &skellin_store::StoreError) -> Self {
        Self::new(CauseKind::Store, format!("not readable in the store: {error}"))
    }

    /// A tree is deeper than directories may be open at once.
    pub(crate) fn too_deep(limit: usize) -> Self {
        Self::other(format!(
            "more than {limit} directories deep, the limit of open files; raise it (ulimit -n)"
        ))
    }

    /// The same, where it was met with part of the path only.
    pub(crate) fn within(self, part: &str) -> Self {
        Self { words: format!("{part}: {}", self.words), ..self }
    }
}

impl std::fmt::Display for Cause {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.words)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_is_read_back_by_its_name() {
        for (kind, code) in CauseKind::ALL {
            assert_eq!((kind.code(), CauseKind::of_code(code)), (code, kind));
        }
        assert_eq!(CauseKind::of_code("of a later version"), CauseKind::Other);
    }
}
