//! What the worker tells.

use std::{collections::BTreeMap, path::PathBuf};

use skellin_engine::{
    Amounts, Checked, Configuration, Delivery, DrillRecord, DriveStates, EngineError, Event,
    Exception, Finding, JournalEntry, ReachStep, RunReport, StepRecord, drill::DrillReport,
    history::Bringer, picture::Picture, timers::Starter,
};
use skellin_plan::PlanDraft;
use skellin_store::{Holding, Kind, PassphraseSlot, RunId};

use super::verifying::Verified;
use super::{
    CompareEnd, Contrasted, DifferRow, FoundPath, Restored, SearchEnd, Written, foretell::Fill,
};
use crate::tui::{arrange::Arrangement, rows::Batch};

/// The passphrases of a store after something was done with them.
#[derive(Debug)]
pub(crate) struct PassphrasesNow {
    /// What was done, in words.
    pub done: Option<String>,
    /// Whether the new one is the one in use now.
    pub is_replaced: bool,
    pub slots: Vec<PassphraseSlot>,
}

/// Told by the worker.
#[derive(Debug)]
pub(crate) enum Report {
    /// Whether a store was opened with a passphrase that only restores.
    Role { store: String, restore_only: bool },
    /// The snapshots of a store, or why there are none to be had.
    Listed { store: String, groups: Result<Vec<Group>, Trouble> },
    /// What some snapshots say of themselves.
    Facts { store: String, facts: Vec<(RunId, Facts)> },
    /// All has been read that the snapshots of a store say of themselves, but for what is damaged.
    AllFacts { store: String },
    /// Labels of snapshots, and whether they are pinned, of those that have any or are.
    Kept { store: String, kept: Vec<(RunId, Vec<String>, bool)> },
    /// Some of what is in a directory; more follows unless it is complete.
    Rows { ticket: u64, path: Option<Vec<u8>>, batch: Batch, complete: bool },
    /// Some names of a large directory that is still being listed, to be shown until its rows come.
    FirstRows { ticket: u64, path: Vec<u8>, batch: Batch },
    /// A directory that cannot be listed.
    NoRows { ticket: u64, path: Option<Vec<u8>>, trouble: Trouble },
    /// What came of something that was done with a store's passphrases.
    Passphrases { store: String, end: Result<PassphrasesNow, Trouble> },
    /// A census goes on, or has ended.
    Counted { number: u64, end: Option<Result<(), Trouble>> },
    /// The rows of a large directory, arranged.
    Arranged { ticket: u64, path: Vec<u8>, how: Arrangement, rows: usize, view: Vec<u32> },
    /// Where the space of a directory goes.
    Mapped { number: u64, tiles: Result<Vec<Tile>, Trouble> },
    /// The versions of a path, oldest first.
    Versions { path: Vec<u8>, versions: Result<Vec<VersionRow>, Trouble> },
    /// Paths that a search found; more follow until it has ended.
    Found { number: u64, found: Vec<FoundPath>, end: Option<Result<SearchEnd, Trouble>> },
    /// Paths that differ; more follow until it has ended.
    Differs { number: u64, rows: Vec<DifferRow>, end: Option<Result<CompareEnd, Trouble>> },
    /// The contents of a file on both sides.
    Contrasted { number: u64, end: Result<Box<Contrasted>, Trouble> },
    /// The beginning of a file.
    Looked { path: Vec<u8>, snapshot: RunId, looked: Result<Looked, Trouble> },
    /// The journal, newest first, with the exceptions of its newest entries.
    Journal(Result<Vec<(JournalEntry, Vec<Exception>)>, Trouble>),
    /// What there is to mend in the set-up, and what starts runs, in words, if anything does.
    Examined { found: Vec<Finding>, starter: Starter },
    /// What an entry of the journal has beside itself.
    Entry { id: i64, details: Result<Details, Trouble> },
    /// A channel was tried: whom it reaches, or why it did not.
    Told { channel: String, end: Result<String, Trouble> },
    /// A step on the way to a store's place.
    ReachStep { number: u64, step: ReachStep },
    /// The way was gone to its end, or to the step that failed.
    Reached { number: u64, end: Result<(), Trouble> },
    /// All stores.
    Stores(Vec<StoreRow>),
    /// The configuration as it is now.
    Configuration(Result<Box<Configuration>, Trouble>),
    /// What is in a directory of this machine.
    Local(PathBuf, Result<Vec<Local>, String>),
    /// Why a path is included or excluded.
    Explained { path: Vec<u8>, reasons: Result<Vec<String>, Trouble> },
    /// How much is included without and with a rule.
    Effect { rule: String, amounts: Result<(Amounts, Amounts), Trouble> },
    /// How a store will fill.
    Foretold(Box<Fill>),
    /// What brings new bytes to a plan, the largest first.
    Brought { plan: String, newest: RunId, bringers: Result<Vec<Bringer>, Trouble> },
    /// A snapshot was pinned, or not any more.
    Pinned { store: String, run: RunId, is_pinned: bool, trouble: Option<Trouble> },
    /// How much a draft would include with some rules.
    Weighed { draft: Box<PlanDraft>, written: Written, amounts: Result<Amounts, Trouble> },
    /// A plan's file was changed: what its text was, and what it became.
    PlanChanged { plan: String, texts: Result<(String, String), Trouble> },
    /// What lies at a store's place.
    Holds { store: String, found: Result<Vec<Holding>, Trouble> },
    /// Directories at a place a store may be made at.
    Folders { number: u64, folders: Result<Vec<String>, Trouble> },
    /// A secret was put into a file.
    SecretKept(Result<PathBuf, Trouble>),
    /// A step in the making of a store.
    StoreStep { step: ReachStep },
    /// A store was made, or not.
    StoreMade(Result<(), Trouble>),
    /// A draft was looked at.
    Checked(Box<DraftState>),
    /// A draft was saved, or not.
    Saved(Result<(), Trouble>),
    /// Something happened in a job.
    Event { job: u64, event: Event },
    /// What drills of each plan have shown in a year, the newest first.
    Drills(BTreeMap<String, Vec<DrillRecord>>),
    /// A job ended.
    Ended { job: u64, end: JobEnd },
}

/// How a job ended.
#[derive(Debug)]
pub(crate) enum JobEnd {
    Run(Result<Box<RunReport>, Trouble>),
    Restore(Result<Box<Restored>, Trouble>),
    Drill(Result<Box<DrillReport>, Trouble>),
    Verify(Result<Box<Verified>, Trouble>),
}

/// Whether a passphrase was tried and opens nothing.
pub(crate) type WrongBefore = bool;

/// A failure in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Trouble {
    pub what: String,
    pub hint: Option<String>,
    /// Whether a passphrase would help, and if so, whether one was tried that is wrong.
    pub passphrase: Option<WrongBefore>,
    /// Whether something in a store is damaged.
    pub damage: bool,
    /// Whether a host is not known yet, and its key may be accepted.
    pub new_host: bool,
}

/// Whether it is a host that is not known yet.
fn is_new_host(error: &EngineError) -> bool {
    use skellin_place::PlaceErrorKind::NewHost;
    use skellin_store::StoreError;
    match error {
        EngineError::Place(error) | EngineError::Store(StoreError::Place(error)) => {
            error.kind == NewHost
        }
        _ => false,
    }
}

impl Trouble {
    /// A failure of which only words are known.
    pub fn of_words(what: String) -> Self {
        let (hint, passphrase, damage, new_host) = (None, None, false, false);
        Self { what, hint, passphrase, damage, new_host }
    }
}

impl From<&EngineError> for Trouble {
    fn from(error: &EngineError) -> Self {
        let passphrase = match error {
            EngineError::NoPassphrase(_) => Some(false),
            EngineError::WrongPassphrase(_)
            | EngineError::Store(skellin_store::StoreError::WrongPassphrase { .. }) => Some(true),
            _ => None,
        };
        let damage = matches!(error, EngineError::Store(error) if error.is_damage());
        let new_host = is_new_host(error);
        Self { what: error.to_string(), hint: error.hint(), passphrase, damage, new_host }
    }
}

impl From<EngineError> for Trouble {
    fn from(error: EngineError) -> Self {
        Self::from(&error)
    }
}

/// What an entry of the journal has beside itself.
#[derive(Clone, Debug, Default)]
pub(crate) struct Details {
    pub steps: Vec<StepRecord>,
    pub exceptions: Vec<Exception>,
    pub deliveries: Vec<Delivery>,
}

/// The snapshots of one plan of one machine in a store, in the order of their runs, with when each
/// began.
#[derive(Clone, Debug)]
pub(crate) struct Group {
    pub plan: String,
    pub machine: String,
    pub marks: Vec<(RunId, i64)>,
}

/// What a snapshot says of itself.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Facts {
    /// What its run's clock said, in milliseconds since 1970.
    pub dated: i64,
    pub files: u64,
    pub bytes: u64,
    pub new_bytes: u64,
    /// Bytes its run wrote to the place.
    pub stored_bytes: u64,
    pub exceptions: u64,
}

/// A piece of a directory on its map.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Tile {
    /// A name; for all that is too small for a tile of its own, how many they are.
    pub label: Result<Vec<u8>, u64>,
    pub is_directory: bool,
    /// Bytes included, and bytes excluded.
    pub taken: u64,
    pub skipped: u64,
}

/// One version of a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct VersionRow {
    pub snapshot: RunId,
    /// The snapshot in which it appeared, in milliseconds since 1970.
    pub time: i64,
    /// The last snapshot that has it, in milliseconds since 1970.
    pub last_seen: i64,
    pub size: u64,
    /// Seconds since 1970.
    pub modified: i64,
    pub kind: Kind,
}

/// The beginning of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Looked {
    /// Lines of text; whether there is more of the file.
    Text { lines: Vec<String>, more: bool },
    /// A picture, and bytes of the file.
    Picture { size: u64, picture: Picture },
    /// No text.
    Binary { size: u64, start: Vec<u8> },
}

/// A store as its screen shows it.
#[derive(Clone, Debug)]
pub(crate) struct StoreRow {
    pub name: String,
    pub place: String,
    /// Its id, or why it cannot be reached.
    pub state: Result<String, Trouble>,
    /// Containers and bytes; known of stores that are open.
    pub usage: Option<(u64, u64)>,
    /// Free and all bytes of the file system below it.
    pub room: Option<(u64, u64)>,
    /// Its drives, where it has several.
    pub drives: DriveStates,
}

/// Something in a directory of this machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Local {
    pub name: std::ffi::OsString,
    pub is_directory: bool,
    pub size: u64,
}

/// What a look at a draft has shown.
#[derive(Debug, Default)]
pub(crate) struct DraftState {
    pub checked: Checked,
    /// The files it would write, with their text.
    pub files: Vec<(String, String)>,
}
