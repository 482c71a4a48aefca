//! What starts runs by themselves on this machine, and whether it really does: a line that no daemon
//! reads starts nothing.

use std::{
    fs,
    path::Path,
    process::{Command, Stdio},
};

use super::{Setting, UnitState, compare, written_line};
use crate::{journal::Journal, lock::StewardLock};

/// Under this name the journal remembers when something looked last for what is due.
const LOOKED: &str = "looked";
/// Whatever looks for what is due does so at least once in this time, in milliseconds.
const OFTEN: i64 = 26 * 3_600_000;

/// What starts runs by themselves.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Starter {
    /// It runs; in words.
    Runs(String),
    /// It is installed, and what has to run for it does not.
    Stopped {
        /// What does not run.
        what: String,
        /// What to do.
        hint: String,
    },
    /// There is none.
    Missing,
}

impl Starter {
    /// Looks for it. `proc`: where processes are listed (proc(5)). `now`: in milliseconds since 1970.
    #[must_use]
    pub fn find(setting: &Setting<'_>, journal: Option<&Journal>, proc: &Path, now: i64) -> Self {
        if StewardLock::is_taken(&setting.configuration.folders.state) {
            return Self::Runs("the steward".to_owned());
        }
        match Self::units(setting) {
            Self::Missing => {}
            found => return found,
        }
        match Self::cron(proc) {
            Self::Missing => {}
            found => return found,
        }
        let looked = journal.and_then(|journal| journal.sign(LOOKED).ok().flatten());
        match looked {
            Some(looked) if (0..OFTEN).contains(&(now - looked)) => {
                Self::Runs("something of your own that calls `skellin due --run`".to_owned())
            }
            _ => Self::Missing,
        }
    }

    fn units(setting: &Setting<'_>) -> Self {
        let there = setting.unit_directory().ok().and_then(|folder| compare(&[], &folder).ok());
        let there = there.unwrap_or_default();
        let all = there.into_iter().filter(|(_, state)| *state != UnitState::Missing);
        let starts = |name: &String| name.ends_with(".timer") || name.contains("steward");
        let names: Vec<String> = all.map(|(name, _)| name).filter(starts).collect();
        if names.is_empty() {
            return Self::Missing;
        }
        let install = "skellin timers install writes and starts them again".to_owned();
        let sleeping: Vec<&str> =
            names.iter().map(String::as_str).filter(|name| !is_active(setting, name)).collect();
        match (sleeping.as_slice(), Path::new("/run/systemd/system").is_dir()) {
            ([], true) => Self::Runs("systemd timers".to_owned()),
            (_, false) => Self::Stopped {
                what: "units are installed, and systemd does not run this machine".to_owned(),
                hint: "skellin timers install --with cron, or keep skellin steward running"
                    .to_owned(),
            },
            (names, true) => Self::Stopped {
                what: format!("installed, and not active in systemd: {}", names.join(", ")),
                hint: install,
            },
        }
    }

    /// A line in this account's crontab that looks for what is due, and the daemon that reads it.
    fn cron(proc: &Path) -> Self {
        let listed = Command::new("crontab").arg("-l").stdin(Stdio::null()).output();
        let Ok(listed) = listed else { return Self::Missing };
        if !looks_for_due(&String::from_utf8_lossy(&listed.stdout)) {
            return Self::Missing;
        }
        match cron_runs(proc) {
            Some(false) => Self::Stopped {
                what: "the crontab has the line, and no cron daemon runs to read it".to_owned(),
                hint: CRON_HINT.to_owned(),
            },
            _ => Self::Runs("cron".to_owned()),
        }
    }
}

/// What to do where no cron daemon runs.
pub const CRON_HINT: &str =
    "start the cron service, and have it started at boot; or keep skellin steward running";

/// Whether a crontab has a line of ours, or one of its owner's own, that looks for what is due.
#[must_use]
pub fn looks_for_due(crontab: &str) -> bool {
    let is_line = |line: &str| !line.starts_with('#') && line.contains("due --run");
    written_line(crontab).is_some() || crontab.lines().map(str::trim_start).any(is_line)
}

/// Whether a cron daemon runs, by the names of processes; `None` where other processes are hidden
/// from this account.
#[must_use]
pub fn cron_runs(proc: &Path) -> Option<bool> {
    let processes = fs::read_dir(proc).ok()?.flatten();
    let names = processes.filter_map(|entry| fs::read_to_string(entry.path().join("comm")).ok());
    if names.map(|name| name.trim().to_owned()).any(|name| ["cron", "crond"].contains(&&*name)) {
        return Some(true);
    }
    // The first process is always there: who does not see it sees only his own.
    fs::read_to_string(proc.join("1/comm")).ok().map(|_| false)
}

fn is_active(setting: &Setting<'_>, unit: &str) -> bool {
    let mut command = Command::new("systemctl");
    if !setting.is_root {
        command.arg("--user");
    }
    let command = command.args(["--quiet", "is-active", unit]).stdin(Stdio::null());
    command.stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok_and(|end| end.success())
}

impl Journal {
    /// Remembers that something looked for what is due, unattended, at a moment in milliseconds since
    /// 1970.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn note_look(&self, now: i64) -> crate::error::Result<()> {
        self.set_sign(LOOKED, Some(now))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn process(proc: &Path, number: u32, name: &str) {
        let folder = proc.join(number.to_string());
        fs::create_dir_all(&folder).expect("a directory");
        fs::write(folder.join("comm"), format!("{name}\n")).expect("a name");
    }

    #[test]
    fn a_cron_daemon_is_told_by_its_process() {
        let proc = tempfile::tempdir().expect("a directory");
        assert_eq!(cron_runs(proc.path()), None, "nothing of others is seen");
        process(proc.path(), 1, "init");
        process(proc.path(), 77, "chronicle");
        assert_eq!(cron_runs(proc.path()), Some(false));
        process(proc.path(), 78, "crond");
        assert_eq!(cron_runs(proc.path()), Some(true));
        assert_eq!(cron_runs(&proc.path().join("none")), None);
    }

    #[test]
    fn a_line_of_ones_own_counts_and_a_comment_does_not() {
        assert!(looks_for_due("5 * * * * /usr/bin/skellin -q due --run\n"));
        assert!(!looks_for_due("  # skellin due --run\n0 5 * * * other\n"));
    }
}
