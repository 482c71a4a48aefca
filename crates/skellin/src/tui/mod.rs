//! The full-screen application.

use skellin_engine::{Configuration, EngineError};

use crate::cli::Exit;

/// Opens the application.
pub(crate) fn open(_configuration: &Configuration) -> Result<Exit, EngineError> {
    Ok(Exit::Done)
}
