//! How a command ends: its exit status, and what is said about a failure.

use serde_json::json;
use skellin_engine::{EngineError, Failure};
use skellin_place::{PlaceError, PlaceErrorKind};
use skellin_store::StoreError;

use crate::{exit::Exit, words};

/// A failure as the user is told it.
#[derive(Debug)]
pub(crate) struct CliError {
    pub exit: Exit,
    kind: &'static str,
    message: String,
    hint: Option<String>,
}

impl CliError {
    pub fn usage(message: impl Into<String>, hint: impl Into<String>) -> Self {
        Self { exit: Exit::Usage, kind: "usage", message: message.into(), hint: Some(hint.into()) }
    }

    pub fn failed(message: impl Into<String>, hint: Option<String>) -> Self {
        Self { exit: Exit::Failed, kind: "failed", message: message.into(), hint }
    }

    /// What is wanted cannot be read yet.
    pub fn frozen(message: impl Into<String>, hint: impl Into<String>) -> Self {
        let (message, hint) = (message.into(), Some(hint.into()));
        Self { exit: Exit::Unreachable, kind: "frozen", message, hint }
    }

    /// Somebody has to agree, and nobody was there to be asked.
    pub fn guarded(message: impl Into<String>, hint: impl Into<String>) -> Self {
        let (message, hint) = (message.into(), Some(hint.into()));
        Self { exit: Exit::Guarded, kind: "guarded", message, hint }
    }

    /// As JSON.
    pub fn as_json(&self) -> serde_json::Value {
        json!({"error": {"kind": self.kind, "message": self.message, "hint": self.hint}})
    }

    /// Says it as text on stderr.
    #[expect(clippy::print_stderr, reason = "this is where errors are printed")]
    pub fn report(&self) {
        eprintln!("skellin: {}", words::harmless(&self.message));
        if let Some(hint) = &self.hint {
            eprintln!("  → {}", words::harmless(hint));
        }
    }
}

impl Failure for CliError {
    fn words(&self) -> String {
        self.message.clone()
    }

    fn hint(&self) -> Option<String> {
        self.hint.clone()
    }

    fn is_interruption(&self) -> bool {
        matches!(self.exit, Exit::Signal(_))
    }
}

fn of_place(error: &PlaceError) -> (Exit, &'static str) {
    match error.kind {
        PlaceErrorKind::Missing
        | PlaceErrorKind::Refused
        | PlaceErrorKind::Unreachable
        | PlaceErrorKind::NewHost
        | PlaceErrorKind::HostKey
        | PlaceErrorKind::Login
        | PlaceErrorKind::Cut
        | PlaceErrorKind::Slow
        | PlaceErrorKind::Narrow
        | PlaceErrorKind::Busy
        | PlaceErrorKind::Certificate
        | PlaceErrorKind::Clock => (Exit::Unreachable, "unreachable"),
        _ => (Exit::Failed, "place"),
    }
}

impl From<EngineError> for CliError {
    fn from(error: EngineError) -> Self {
        let (exit, kind) = match &error {
            error if error.is_cancelled() => {
                (Exit::Signal(super::signals::caught().unwrap_or(2)), "interrupted")
            }
            // An object of the store that is missing, or shorter than it was.
            EngineError::Store(error) if error.is_damage() => (Exit::Damage, "damage"),
            EngineError::Place(error) | EngineError::Store(StoreError::Place(error)) => {
                of_place(error)
            }
            EngineError::Store(StoreError::NoStore(_)) => (Exit::Unreachable, "no-store"),
            EngineError::WrongPassphrase(_)
            | EngineError::Store(StoreError::WrongPassphrase { .. }) => {
                (Exit::Unreachable, "passphrase")
            }
            EngineError::Store(StoreError::Unsound(_)) => (Exit::Damage, "damage"),
            EngineError::AlreadyRunning(_)
            | EngineError::AlreadyDrilling(_)
            | EngineError::StewardRuns => (Exit::Running, "running"),
            EngineError::Untrusted { .. } => (Exit::Usage, "untrusted"),
            EngineError::LinkAbove { .. } => (Exit::Guarded, "guarded"),
            EngineError::Refused(_) | EngineError::Secret { .. } | EngineError::NoPassphrase(_) => {
                (Exit::Usage, "usage")
            }
            _ => (Exit::Failed, "failed"),
        };
        Self { exit, kind, message: error.to_string(), hint: error.hint() }
    }
}

impl From<StoreError> for CliError {
    fn from(error: StoreError) -> Self {
        EngineError::from(error).into()
    }
}
