//! How long entries are kept, and the text log beside the journal for those who search with other
//! tools: a line for each beginning, step and end.

use std::{
    fs::{self, OpenOptions},
    io::Write,
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
};

use rusqlite::params;

use super::Journal;
use crate::error::Result;

/// Entries are kept so long, in milliseconds: long enough to compare with the same night last year.
const KEPT: i64 = 400 * 86_400_000;
/// Old entries are looked for no more often than this.
const DAILY: i64 = 86_400_000;
/// A text log grows to this many bytes, and so many older ones are kept.
const LONGEST: u64 = 1 << 20;
const OLDER: usize = 4;

impl Journal {
    /// Removes what is older than a year and a bit, once a day.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn forget_old(&self, now: i64) -> Result<usize> {
        let last = self.sign("forgotten")?;
        if last.is_some_and(|last| (last..last + DAILY).contains(&now)) {
            return Ok(0);
        }
        self.set_sign("forgotten", Some(now))?;
        self.with(|connection| {
            let gone = connection.execute(
                "DELETE FROM work WHERE started < ?1 AND outcome <> 'running' AND id NOT IN (SELECT max(id) FROM work WHERE plan IS NOT NULL AND snapshot IS NOT NULL GROUP BY plan)",
                [now - KEPT],
            )?;
            connection.execute("DELETE FROM message WHERE made < ?1", params![now - KEPT])?;
            Ok(gone)
        })
    }

    /// Adds a line to the text log. Work is worth more than its log: what cannot be written is left
    /// out.
    pub fn log(&self, now: i64, line: &str) {
        let _ = add_line(&log_path(&self.path), now, line);
    }
}

/// The text log beside a journal.
fn log_path(journal: &Path) -> PathBuf {
    journal.with_file_name("journal.log")
}

fn add_line(path: &Path, now: i64, line: &str) -> std::io::Result<()> {
    if fs::metadata(path).is_ok_and(|facts| facts.len() >= LONGEST) {
        let older = |number: usize| path.with_extension(format!("log.{number}"));
        for number in (1..OLDER).rev() {
            let _ = fs::rename(older(number), older(number + 1));
        }
        fs::rename(path, older(1))?;
    }
    let when = jiff::Timestamp::from_millisecond(now).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    let when = when.to_zoned(jiff::tz::TimeZone::system());
    // One line stays one line.
    let line: String = line.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    let mut file = OpenOptions::new().create(true).append(true).mode(0o600).open(path)?;
    // In one piece, so that processes beside each other do not mix their lines.
    file.write_all(format!("{} {line}\n", when.strftime("%Y-%m-%dT%H:%M:%S%:z")).as_bytes())
}

#[cfg(test)]
mod tests {
    use super::{super::*, *};

    #[test]
    fn what_is_old_is_forgotten_but_for_the_last_good_run_of_a_plan() {
        let state = tempfile::tempdir().expect("a directory");
        let journal = Journal::open(state.path()).expect("a journal");
        let day = DAILY;
        let run = |plan, started, snapshot| {
            let beginning = Beginning {
                work: Work::Run,
                plan: Some(plan),
                store: "oak",
                machine: "hut",
                unattended: false,
                started,
            };
            let id = journal.begin(&beginning).expect("begins");
            let ending = Ending { snapshot, ..Ending::at(started + 5, Outcome::Done) };
            journal.finish(id, &ending).expect("ends");
        };
        run("ringing", 0, Some(skellin_store::RunId([1; 16])));
        run("readings", 0, Some(skellin_store::RunId([2; 16])));
        run("readings", day, None);
        run("readings", 300 * day, Some(skellin_store::RunId([3; 16])));
        assert_eq!(journal.forget_old(350 * day).expect("looks"), 0);
        assert_eq!(journal.forget_old(500 * day).expect("forgets"), 2);
        assert_eq!(journal.forget_old(500 * day + 5).expect("not again"), 0);
        let left: Vec<_> = journal.entries(None, 9).expect("entries");
        let left: Vec<_> = left.into_iter().map(|entry| (entry.plan, entry.started)).collect();
        let name = |name: &str| Some(name.to_owned());
        assert_eq!(left, [(name("readings"), 300 * day), (name("ringing"), 0)]);
    }

    #[test]
    fn the_text_log_turns_over_and_keeps_lines_whole() {
        let state = tempfile::tempdir().expect("a directory");
        let journal = Journal::open(state.path()).expect("a journal");
        for number in 0..9 {
            let line = format!("run {number}\n{}", "x".repeat(400_000));
            journal.log(1_795_000_000_000, &line);
        }
        let text = |name: &str| fs::read_to_string(state.path().join(name)).expect("a log");
        assert!(text("journal.log").lines().all(|line| line.contains("run ")));
        assert_eq!(text("journal.log.1").lines().count(), 3);
        assert!(text("journal.log.2").starts_with("2026-11-"));
        assert!(!state.path().join("journal.log.4").exists());
    }
}
