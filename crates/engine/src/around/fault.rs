//! Why a command came to nothing.

use std::{fmt, time::Duration};

use skellin_place::FarCommandError;

/// Why a command around a run came to nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// Somebody interrupted it.
    Interrupted,
    /// It took longer than it may.
    TimedOut(Duration),
    /// It ended with a status other than 0.
    Status(i32),
    /// A signal ended it; which, where that is told.
    Signal(Option<i32>),
    /// It was not started, or nobody can tell how it ended: why.
    Unknown(String),
}

impl From<FarCommandError> for Fault {
    fn from(error: FarCommandError) -> Self {
        match error {
            FarCommandError::Interrupted => Self::Interrupted,
            FarCommandError::TimedOut(after) => Self::TimedOut(after),
            other => Self::Unknown(other.to_string()),
        }
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Interrupted => f.write_str("it was interrupted"),
            Self::TimedOut(after) => write!(f, "timed out after {}", shown(*after)),
            Self::Status(status) => write!(f, "exit status {status}"),
            Self::Signal(Some(signal)) => write!(f, "killed by signal {signal}"),
            Self::Signal(None) => f.write_str("ended by a signal"),
            Self::Unknown(why) => f.write_str(why),
        }
    }
}

fn shown(time: Duration) -> String {
    match time.as_secs() {
        seconds if seconds >= 60 && seconds.is_multiple_of(60) => format!("{} min", seconds / 60),
        seconds => format!("{seconds} s"),
    }
}
