//! What a run has done.

use skellin_store::RunId;
use std::path::PathBuf;

use skellin_plan::Expected;
use skellin_store::Suspect;

use super::estimate::Estimate;
use crate::{
    counts::{ByteCounts, FileCounts},
    event::Exception,
};

/// How a run ended, if it did not fail.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunStatus {
    /// Everything went along.
    Done,
    /// There is a snapshot, but some paths could not be handled.
    Exceptions,
    /// It was interrupted; there is no snapshot.
    Interrupted,
    /// Much was suddenly gone or different, and nobody agreed; there is no snapshot.
    Guarded,
}

/// What became of a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change {
    /// Not there before.
    New,
    /// There before, but different.
    Changed,
    /// There no longer.
    Gone,
    /// As it was.
    Same,
    /// Left out by a rule.
    Skipped,
}

/// A path and what became of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PathChange {
    /// The full path.
    pub path: Vec<u8>,
    /// What became of it.
    pub change: Change,
    /// Its size in bytes.
    pub size: u64,
    /// Number of the rule that decided, if one did.
    pub rule: Option<usize>,
}

/// Takes each path of a run and what becomes of it. It is called from many threads.
pub type TellPath<'a> = dyn Fn(PathChange) + Sync + 'a;

/// Much that is suddenly gone or different.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shrinkage {
    /// Files in the snapshot before.
    pub before: u64,
    /// How many of them are gone.
    pub gone: u64,
    /// How many of them changed.
    pub changed: u64,
    /// Sources that held files and hold none now, or are not there.
    pub empty: Vec<PathBuf>,
}

impl Shrinkage {
    /// In words.
    #[must_use]
    pub fn words(&self) -> String {
        let mut parts: Vec<String> = self
            .empty
            .iter()
            .map(|source| format!("{} is suddenly empty or missing", source.display()))
            .collect();
        let share = |count: u64| (count * 100).checked_div(self.before).unwrap_or(100);
        for (count, what) in [(self.gone, "gone"), (self.changed, "changed")] {
            if count > 0 {
                parts.push(format!(
                    "{count} of {} files are {what} ({}%)",
                    self.before,
                    share(count)
                ));
            }
        }
        parts.join("; ")
    }
}

/// What a run has done.
#[derive(Clone, Debug, PartialEq)]
pub struct RunReport {
    /// The run's id, unless it was a dry run.
    pub run: Option<RunId>,
    /// The snapshot's id, if there is one.
    pub snapshot: Option<RunId>,
    /// Whether it was a dry run.
    pub dry_run: bool,
    /// How it ended.
    pub status: RunStatus,
    /// When it began, in milliseconds since 1970.
    pub started: i64,
    /// When it ended, in milliseconds since 1970.
    pub ended: i64,
    /// Numbers of paths.
    pub files: FileCounts,
    /// Numbers of bytes.
    pub bytes: ByteCounts,
    /// Bytes of all files.
    pub total_bytes: u64,
    /// Sockets, which are not stored.
    pub sockets: u64,
    /// How many paths could not be handled.
    pub exception_count: u64,
    /// The first of them.
    pub exceptions: Vec<Exception>,
    /// Much that is suddenly gone or different, if the plan's limit was passed.
    pub shrinkage: Option<Shrinkage>,
    /// How many paths each rule decided.
    pub decided: Vec<u64>,
    /// What a dry run foretells.
    pub outlook: Option<Outlook>,
    /// Commands before the reading that failed and were gone on without, and why: what was read may not
    /// be of one piece.
    pub not_entered: Vec<String>,
    /// Commands after the reading that failed, and why: something may still be stopped.
    pub not_left: Vec<String>,
    /// Containers of the store that the run found damaged, and nobody before it.
    pub damage: Vec<Suspect>,
}

/// What a run would take.
#[derive(Clone, Debug, PartialEq)]
pub struct Outlook {
    /// Bytes it would store.
    pub stored: Estimate,
    /// The time it would take.
    pub time: Expected,
    /// The number of runs that time is told by; with none it is what reading alone would take.
    pub runs: u64,
    /// What room costs, where the store's place has a price.
    pub cost: Option<Cost>,
    /// Bytes that are free at the store's place, where it tells.
    pub free: Option<u64>,
}

impl Outlook {
    /// Whether what it would store fits into the free room, as far as that is known.
    #[must_use]
    pub fn fits(&self) -> bool {
        self.free.is_none_or(|free| self.stored.high < free)
    }
}

/// What a store's room costs a month.
#[derive(Clone, Debug, PartialEq)]
pub struct Cost {
    /// The currency.
    pub currency: String,
    /// As it is.
    pub now: f64,
    /// With what the run would store.
    pub after: f64,
}
