//! One plan runs once at a time on a machine, and work that writes to one store queues.

use std::{
    fs::{self, File, OpenOptions},
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::Path,
    time::Duration,
};

use rustix::fs::{FlockOperation, flock};

use crate::{
    clock::Cancel,
    error::{EngineError, Result},
};

/// How often a store that others work with is looked at.
const TICK: Duration = Duration::from_millis(200);

/// The name of the steward's lock; a name of a plan has no dot.
const STEWARD: &str = "steward.";
/// How often a steward that starts tries to take its lock, and the pause between two attempts.
const LOOKS: u32 = 10;
const LOOK: Duration = Duration::from_millis(20);

/// Takes a lock by its name, if nobody has it. It ends with its process, whatever ends that.
fn take(state: &Path, name: &str) -> Result<Option<File>> {
    let folder = state.join("locks");
    let failed = |error: std::io::Error| EngineError::local("write to", folder.clone(), error);
    fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder).map_err(failed)?;
    let path = folder.join(name);
    let mut options = OpenOptions::new();
    let file = options.create(true).write(true).truncate(false).mode(0o600).open(path);
    let file = file.map_err(failed)?;
    match flock(&file, FlockOperation::NonBlockingLockExclusive) {
        Ok(()) => Ok(Some(file)),
        Err(rustix::io::Errno::WOULDBLOCK) => Ok(None),
        Err(error) => Err(failed(error.into())),
    }
}

/// The right to run a plan; given back when dropped, also by a process that dies.
#[derive(Debug)]
pub struct PlanLock(File);

impl PlanLock {
    /// Takes the right to run a plan.
    ///
    /// # Errors
    /// [`EngineError::AlreadyRunning`], or if the state directory cannot be written.
    pub fn take(state: &Path, plan: &str) -> Result<Self> {
        take(state, plan)?.map(Self).ok_or_else(|| EngineError::AlreadyRunning(plan.to_owned()))
    }

    /// Notes by the file's time that the plan is run now: that needs no room.
    pub(crate) fn mark(&self) {
        let _ = self.0.set_modified(std::time::SystemTime::now());
    }

    /// When the right to run a plan was last used, in milliseconds since 1970.
    pub(crate) fn last_taken(state: &Path, plan: &str) -> Option<i64> {
        let facts = fs::metadata(state.join("locks").join(plan)).ok()?;
        let since = facts.modified().ok()?.duration_since(std::time::UNIX_EPOCH).ok()?;
        i64::try_from(since.as_millis()).ok()
    }
}

/// The right to write to a store; a name of a plan has no dot, so that the two do not meet.
#[derive(Debug)]
pub(crate) struct StoreLock {
    #[expect(dead_code, reason = "held for its lock")]
    file: File,
    /// Whose work the lock is for: this machine's, of this state, in this store.
    pub origin: String,
}

impl StoreLock {
    /// Waits for the right to write to a store, and says whether it had to; `waits` is told once.
    /// A state directory that cannot be written keeps no run from being made: the store itself
    /// bears several at once.
    ///
    /// # Errors
    /// [`EngineError::Cancelled`].
    pub fn wait(
        state: &Path,
        store: &str,
        cancel: &Cancel,
        waits: &dyn Fn(),
    ) -> Result<(Option<Self>, bool)> {
        let mut waited = false;
        loop {
            match take(state, &format!("store.{store}")) {
                Ok(Some(file)) => {
                    let origin = origin(state, store);
                    return Ok((Some(Self { file, origin }), waited));
                }
                Err(_) => return Ok((None, waited)),
                Ok(None) => {}
            }
            if cancel.is_cancelled() {
                return Err(EngineError::Cancelled);
            }
            if !std::mem::replace(&mut waited, true) {
                waits();
            }
            std::thread::park_timeout(TICK);
        }
    }
}

/// A name for the work that one lock is for.
fn origin(state: &Path, store: &str) -> String {
    // machine-id(5): made once for each installation.
    let machine = fs::read_to_string("/etc/machine-id").unwrap_or_default();
    let state = state.canonicalize().unwrap_or_else(|_| state.to_path_buf());
    format!("{} {} {store}", machine.trim(), state.display())
}

/// The right to be the steward of this machine's plans.
#[derive(Debug)]
pub struct StewardLock(#[expect(dead_code, reason = "held for its lock")] File);

impl StewardLock {
    /// Takes it. Whoever looks whether a steward runs holds it for a moment, so that it is tried
    /// a few times.
    ///
    /// # Errors
    /// [`EngineError::StewardRuns`], or if the state directory cannot be written.
    pub fn take(state: &Path) -> Result<Self> {
        for _ in 0..LOOKS {
            if let Some(file) = take(state, STEWARD)? {
                return Ok(Self(file));
            }
            std::thread::sleep(LOOK);
        }
        Err(EngineError::StewardRuns)
    }

    /// Whether a steward runs. Several may look at once: the lock is shared among them.
    #[must_use]
    pub fn is_taken(state: &Path) -> bool {
        File::open(state.join("locks").join(STEWARD)).is_ok_and(|file| {
            flock(&file, FlockOperation::NonBlockingLockShared)
                == Err(rustix::io::Errno::WOULDBLOCK)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_looks_keeps_no_steward_from_starting() {
        let state = tempfile::tempdir().expect("a directory");
        let state = state.path();
        assert!(!StewardLock::is_taken(state));
        drop(StewardLock::take(state).expect("taken"));

        let looks = File::open(state.join("locks").join(STEWARD)).expect("is there");
        flock(&looks, FlockOperation::NonBlockingLockShared).expect("nobody has it");
        assert!(!StewardLock::is_taken(state), "another look is no steward");
        let steward = std::thread::scope(|scope| {
            scope.spawn(move || {
                std::thread::sleep(2 * LOOK);
                drop(looks);
            });
            StewardLock::take(state)
        });
        assert!(StewardLock::is_taken(state));
        let refused = StewardLock::take(state).expect_err("one has it");
        assert!(matches!(refused, EngineError::StewardRuns), "{refused}");
        drop(steward.expect("taken once nobody looks"));
        assert!(!StewardLock::is_taken(state));
    }
}
