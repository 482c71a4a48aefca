//! Whether the process of an entry lives: it holds a lock as long as it does.
//!
//! Numbers of processes and even their start times are told differently by a service and by a shell
//! (each may see another `/proc`); a lock on a file in the state directory is the same for both,
//! and ends with its process whatever ends that.

use std::{
    fs::{self, File, OpenOptions},
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::{Path, PathBuf},
};

use rustix::fs::{FlockOperation, flock};

/// What begins like this is the name of a lock.
const PREFIX: &str = "live-";

/// The sign of life of this process, given back when dropped.
#[derive(Debug)]
pub(super) struct Alive {
    file: File,
    path: PathBuf,
    name: String,
}

impl Drop for Alive {
    fn drop(&mut self) {
        // Whoever looks afterwards finds no lock either way.
        let _ = fs::remove_file(&self.path);
        let _ = flock(&self.file, FlockOperation::Unlock);
    }
}

fn folder(state: &Path) -> PathBuf {
    state.join("locks")
}

impl Alive {
    /// Begins to give a sign of life; `None` where there is no room for it.
    pub fn begin(state: &Path) -> Option<Self> {
        let mut random = [0; 8];
        getrandom::fill(&mut random).ok()?;
        let name = format!("{PREFIX}{}-{}", std::process::id(), skellin_store::hex(&random));
        let folder = folder(state);
        fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder).ok()?;
        let path = folder.join(&name);
        let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path).ok()?;
        flock(&file, FlockOperation::NonBlockingLockExclusive).ok()?;
        Some(Self { file, path, name })
    }

    /// As entries name it.
    pub fn name(&self) -> &str {
        &self.name
    }
}

/// Whether the process of a name lives; what it left of a dead one is removed.
pub(super) fn is_alive(state: &Path, name: &str) -> bool {
    if !name.starts_with(PREFIX) || name.contains('/') {
        return is_alive_by_number(name);
    }
    let path = folder(state).join(name);
    let Ok(file) = File::open(&path) else { return false };
    match flock(&file, FlockOperation::NonBlockingLockShared) {
        Ok(()) => {
            let _ = fs::remove_file(&path);
            false
        }
        // One that cannot be told lives: an entry stays open rather than being ended for it.
        Err(_) => true,
    }
}

/// The number of the process, for people.
pub(super) fn number_of(name: &str) -> &str {
    let rest = name.strip_prefix(PREFIX).unwrap_or(name);
    rest.split([' ', '-']).next().unwrap_or_default()
}

/// This process by its number and when it started, where it can give no other sign of life.
pub(super) fn by_number() -> String {
    let number = std::process::id();
    format!("{number} {}", start_of(number).unwrap_or_default())
}

fn is_alive_by_number(process: &str) -> bool {
    let Some((number, start)) = process.split_once(' ') else { return false };
    number.parse().ok().and_then(start_of).is_some_and(|now| now == start)
}

/// When a process started, in ticks since the machine did (`proc(5)`), with that machine's start.
fn start_of(number: u32) -> Option<String> {
    let stat = fs::read_to_string(format!("/proc/{number}/stat")).ok()?;
    let ticks = stat.rsplit_once(')')?.1.split_whitespace().nth(19)?.to_owned();
    let boot = fs::read_to_string("/proc/sys/kernel/random/boot_id").ok()?;
    Some(format!("{ticks} {}", boot.trim()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sign_of_life_ends_with_whoever_gives_it() {
        let state = tempfile::tempdir().expect("a directory");
        let alive = Alive::begin(state.path()).expect("begins");
        let name = alive.name().to_owned();
        assert!(is_alive(state.path(), &name) && is_alive(state.path(), &name));
        assert_eq!(number_of(&name), std::process::id().to_string());
        // A process that was killed leaves its file and no lock.
        let left = state.path().join("locks/live-4711-00");
        fs::write(&left, "").expect("writes");
        assert!(!is_alive(state.path(), "live-4711-00") && !left.exists());
        drop(alive);
        assert!(!is_alive(state.path(), &name));
        assert_eq!(fs::read_dir(state.path().join("locks")).expect("lists").count(), 0);
        assert!(!is_alive(state.path(), "live-../journal.sqlite"));
    }

    #[test]
    fn the_numbers_of_earlier_entries_are_still_understood() {
        let state = tempfile::tempdir().expect("a directory");
        assert!(is_alive(state.path(), &by_number()));
        assert!(!is_alive(state.path(), "1 2 3") && !is_alive(state.path(), ""));
        assert_eq!(number_of("4711 12 ab"), "4711");
    }
}
