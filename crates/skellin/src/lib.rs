//! Skellin: backups for systems administrators, as commands and as a full-screen application.

mod cli;
mod exit;
mod machine;
mod trial;
mod tui;
mod words;

use std::process::ExitCode;

/// Reads the command line and does what it says.
#[must_use]
pub fn main() -> ExitCode {
    raise_file_limit();
    cli::main()
}

/// Deep trees keep a directory open for each level; the soft limit is often far below the hard.
fn raise_file_limit() {
    use rustix::process::{Resource, getrlimit, setrlimit};
    let mut limit = getrlimit(Resource::Nofile);
    limit.current = limit.maximum;
    // With the lower limit only very deep trees suffer, and they say so.
    let _ = setrlimit(Resource::Nofile, limit);
}
