//! The steward of the demo's world: while the application is open, what is due there is run.

use std::{
    fs::File,
    path::Path,
    process::{Child, Command, Stdio},
};

use skellin_engine::Folders;

use super::files::failed;
use crate::cli::error::CliError;

/// A steward that ends with this value.
pub(super) struct Steward(Child);

impl Steward {
    /// Starts it; what it says goes into a file of the world.
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
        command.spawn().map(Self).map_err(|error| failed(folder, &error))
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
