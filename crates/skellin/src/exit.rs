//! How the program ends.

use std::process::ExitCode;

/// The exit statuses that scripts rely on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    Done,
    Failed,
    Usage,
    Damage,
    Exceptions,
    Unreachable,
    Running,
    /// Stopped by a guard, with nobody to ask.
    Guarded,
    /// Interrupted by this signal.
    Signal(u8),
}

impl Exit {
    fn code(self) -> u8 {
        match self {
            Self::Done => 0,
            Self::Failed => 1,
            Self::Usage => 2,
            Self::Damage => 3,
            Self::Exceptions => 4,
            Self::Unreachable => 5,
            Self::Running => 6,
            Self::Guarded => 7,
            Self::Signal(number) => 128 + number,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        exit.code().into()
    }
}
