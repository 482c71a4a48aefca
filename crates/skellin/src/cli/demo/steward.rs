//! The steward of the demo's world: while the application is open, what is due there is run.

use std::{
    fs::File,
    path::Path,
    process::{Child, Command, Stdio},
    thread,
    time::{Duration, Instant},
};

use skellin_engine::{Folders, StewardLock};

use super::files::failed;
use crate::cli::error::CliError;

/// After this time the application opens without it, and says that nothing starts runs.
const PATIENCE: Duration = Duration::from_secs(20);

/// A steward that ends with this value.
pub(super) struct Steward(Child);

impl Steward {
    /// Starts it, and waits until it has begun, so that the application finds it at its first look.
    /// What it says goes into a file of the world.
    pub fn start(folder: &Path, folders: &Folders) -> Result<Self, CliError> {
        let log = folder.join("steward.log");
        let program = std::env::current_exe().map_err(|error| failed(folder, &error))?;
        let output = File::create(&log).map_err(|error| failed(&log, &error))?;
        let errors = output.try_clone().map_err(|error| failed(&log, &error))?;
        let mut command = Command::new(program);
        command
            .arg("steward")
            .env("SKELLIN_CONFIG", &folders.config)
            .env("SKELLIN_STATE", &folders.state)
            .env("SKELLIN_CACHE", &folders.cache)
            .env("SKELLIN_DRIVES", folder.join("drives"))
            .stdin(Stdio::null())
            .stdout(output)
            .stderr(errors);
        let mut child = command.spawn().map_err(|error| failed(folder, &error))?;
        let begun = Instant::now();
        while !StewardLock::is_taken(&folders.state)
            && begun.elapsed() < PATIENCE
            && matches!(child.try_wait(), Ok(None))
        {
            thread::sleep(Duration::from_millis(10));
        }
        Ok(Self(child))
    }
}

impl Drop for Steward {
    fn drop(&mut self) {
        if let Some(process) =
            i32::try_from(self.0.id()).ok().and_then(rustix::process::Pid::from_raw)
        {
            // Asked, so that it ends what it has begun as it should.
            let _ = rustix::process::kill_process(process, rustix::process::Signal::TERM);
        }
        let _ = self.0.wait();
    }
}
