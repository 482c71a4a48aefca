//! One plan runs once at a time on a machine.

use std::{
    fs::{self, File, OpenOptions},
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::Path,
};

use rustix::fs::{FlockOperation, flock};

use crate::error::{EngineError, Result};

/// The right to run a plan; given back when dropped, also by a process that dies.
#[derive(Debug)]
pub struct PlanLock(#[expect(dead_code, reason = "held for its lock")] File);

impl PlanLock {
    /// Takes the right to run a plan.
    ///
    /// # Errors
    /// [`EngineError::AlreadyRunning`], or if the state directory cannot be written.
    pub fn take(state: &Path, plan: &str) -> Result<Self> {
        let folder = state.join("locks");
        let failed = |error: std::io::Error| EngineError::local("write to", folder.clone(), error);
        fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder).map_err(failed)?;
        let path = folder.join(plan);
        let file = OpenOptions::new()
            .create(true)
            .write(true)
            .truncate(false)
            .mode(0o600)
            .open(path)
            .map_err(failed)?;
        match flock(&file, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => Ok(Self(file)),
            Err(rustix::io::Errno::WOULDBLOCK) => Err(EngineError::AlreadyRunning(plan.to_owned())),
            Err(error) => Err(failed(error.into())),
        }
    }
}
