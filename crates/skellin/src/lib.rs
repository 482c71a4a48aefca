//! Skellin: backups for systems administrators, as commands and as a full-screen application.

mod cli;
mod exit;
mod machine;
mod meanings;
mod trial;
mod tui;
mod words;

use std::process::ExitCode;

/// Reads the command line and does what it says.
#[must_use]
pub fn main() -> ExitCode {
    raise_file_limit();
    keep_memory_private();
    cli::main()
}

/// Keys are in memory: it is neither dumped when the program crashes nor shown to other processes of
/// the same account.
fn keep_memory_private() {
    use rustix::process::{
        DumpableBehavior, Resource, Rlimit, getrlimit, set_dumpable_behavior, setrlimit,
    };
    // Where that is refused the program is as safe as any other.
    let maximum = getrlimit(Resource::Core).maximum;
    let _ = setrlimit(Resource::Core, Rlimit { current: Some(0), maximum });
    let _ = set_dumpable_behavior(DumpableBehavior::NotDumpable);
}

/// Deep trees keep a directory open for each level; the soft limit is often far below the hard.
fn raise_file_limit() {
    use rustix::process::{Resource, getrlimit, setrlimit};
    let mut limit = getrlimit(Resource::Nofile);
    limit.current = limit.maximum;
    // With the lower limit only very deep trees suffer, and they say so.
    let _ = setrlimit(Resource::Nofile, limit);
}
