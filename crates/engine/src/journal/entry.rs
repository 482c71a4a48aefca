//! What an entry of the journal says.

use rusqlite::Row;
use skellin_store::RunId;

use crate::{
    counts::{ByteCounts, FileCounts},
    event::Exception,
};

/// The columns of an entry, as [`entry`] reads them.
pub(super) const COLUMNS: &str = "id, kind, plan, store, machine, started, ended, outcome, snapshot, new, changed, gone, same, skipped, bytes_read, bytes_new, bytes_stored, exceptions, words, hint, version, unattended";

/// What kind of work an entry records.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Work {
    /// A run of a plan.
    Run,
    /// A restore from a store.
    Restore,
    /// A verification of a store.
    Verify,
    /// Damage of a store mended.
    Repair,
    /// A restore into scratch, compared.
    Drill,
    /// Snapshots copied to a store.
    Replicate,
    /// Snapshots of a plan marked expired.
    Expire,
    /// The room of what has gone, got back in a store.
    Reclaim,
    /// ran pending `leave` commands after a run that ended unexpectedly.
    Leave,
}

/// How work ended, or that it has not.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It goes on.
    Running,
    /// Everything was done.
    Done,
    /// Done, but for some paths.
    Exceptions,
    /// Nothing came of it.
    Failed,
    /// Somebody or something stopped it.
    Interrupted,
    /// A verification found damage, or a drill what differs.
    Damage,
    /// Much was suddenly gone or different, and nobody agreed.
    Guarded,
}

/// The words of an enumeration, as the database has them.
macro_rules! worded {
    ($name:ident { $($variant:ident = $word:literal),+ $(,)? }) => {
        impl $name {
            /// As a word.
            #[must_use]
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),+ }
            }

            pub(super) fn of_word(word: &str) -> Option<Self> {
                match word { $($word => Some(Self::$variant),)+ _ => None }
            }
        }
    };
}

worded!(Work {
    Run = "run",
    Restore = "restore",
    Verify = "verify",
    Repair = "repair",
    Drill = "drill",
    Replicate = "replicate",
    Expire = "expire",
    Reclaim = "reclaim",
    Leave = "leave",
});
worded!(Outcome {
    Running = "running",
    Done = "done",
    Exceptions = "exceptions",
    Failed = "failed",
    Interrupted = "interrupted",
    Damage = "damage",
    Guarded = "guarded",
});

/// Work that begins.
#[derive(Clone, Copy, Debug)]
pub struct Beginning<'a> {
    /// Its kind.
    pub work: Work,
    /// The plan, where one is concerned.
    pub plan: Option<&'a str>,
    /// The store.
    pub store: &'a str,
    /// The machine.
    pub machine: &'a str,
    /// Whether it was started by itself.
    pub unattended: bool,
    /// When, in milliseconds since 1970.
    pub started: i64,
}

/// Work that has ended.
#[derive(Clone, Debug)]
pub struct Ending<'a> {
    /// When, in milliseconds since 1970.
    pub ended: i64,
    /// How.
    pub outcome: Outcome,
    /// The snapshot that came of it.
    pub snapshot: Option<RunId>,
    /// Numbers of paths.
    pub files: FileCounts,
    /// Numbers of bytes.
    pub bytes: ByteCounts,
    /// How many paths could not be handled.
    pub exception_count: u64,
    /// The first of them.
    pub exceptions: &'a [Exception],
    /// What was said at the end, where it failed.
    pub words: Option<String>,
    /// What to do then.
    pub hint: Option<String>,
    /// How many paths each rule decided, by the rules' texts.
    pub rules: Vec<(String, u64)>,
}

impl Ending<'_> {
    /// An end of which nothing more is known.
    #[must_use]
    pub fn at(ended: i64, outcome: Outcome) -> Self {
        Self {
            ended,
            outcome,
            snapshot: None,
            files: FileCounts::default(),
            bytes: ByteCounts::default(),
            exception_count: 0,
            exceptions: &[],
            words: None,
            hint: None,
            rules: Vec::new(),
        }
    }
}

/// One entry of the journal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct JournalEntry {
    /// Its number.
    pub id: i64,
    /// What was done.
    pub work: Work,
    /// The plan, where one is concerned.
    pub plan: Option<String>,
    /// The store.
    pub store: String,
    /// The machine.
    pub machine: String,
    /// The version of the program that did it.
    pub version: String,
    /// Whether it was started by itself.
    pub unattended: bool,
    /// When it began, in milliseconds since 1970.
    pub started: i64,
    /// When it ended, in milliseconds since 1970.
    pub ended: Option<i64>,
    /// How it ended.
    pub outcome: Outcome,
    /// The snapshot that came of it.
    pub snapshot: Option<RunId>,
    /// Numbers of paths.
    pub files: FileCounts,
    /// Numbers of bytes.
    pub bytes: ByteCounts,
    /// How many paths could not be handled.
    pub exception_count: u64,
    /// What was said at the end, where it failed.
    pub words: Option<String>,
    /// What to do then.
    pub hint: Option<String>,
}

impl JournalEntry {
    /// Whether it came to nothing through no fault of its own: its process ended unexpectedly, or
    /// was asked to end while nobody looked.
    #[must_use]
    pub fn is_cut(&self) -> bool {
        self.outcome == Outcome::Interrupted && (self.unattended || self.ended.is_none())
    }
}

/// An entry as the journal has it, in the order of its columns.
pub(super) fn entry(row: &Row<'_>) -> rusqlite::Result<JournalEntry> {
    let number = |column: usize| Ok::<_, rusqlite::Error>(row.get::<_, i64>(column)?.max(0) as u64);
    let word = |column: usize| row.get::<_, String>(column);
    Ok(JournalEntry {
        id: row.get(0)?,
        // A newer version may know more kinds; they are shown as the nearest thing there is.
        work: Work::of_word(&word(1)?).unwrap_or(Work::Run),
        plan: row.get(2)?,
        store: row.get(3)?,
        machine: row.get(4)?,
        started: row.get(5)?,
        ended: row.get(6)?,
        outcome: Outcome::of_word(&word(7)?).unwrap_or(Outcome::Failed),
        snapshot: row.get::<_, Option<[u8; 16]>>(8)?.map(RunId),
        files: FileCounts {
            new: number(9)?,
            changed: number(10)?,
            gone: number(11)?,
            same: number(12)?,
            skipped: number(13)?,
        },
        bytes: ByteCounts { read: number(14)?, new: number(15)?, stored: number(16)? },
        exception_count: number(17)?,
        words: row.get(18)?,
        hint: row.get(19)?,
        version: row.get(20)?,
        unattended: row.get(21)?,
    })
}
