//! The journal: the record of every run, restore and verification of this machine.
//!
//! It lies in the state directory as an SQLite database. What it loses is history, never data:
//! a damaged one is put aside, and what can be read of it is taken over into a new one.

mod drills;
mod drives;
mod entry;
mod keeping;
mod lessons;
mod liveness;
mod mending;
mod messages;
mod proven;
mod steps;
mod tables;

use std::{
    fs,
    os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt},
    path::{Path, PathBuf},
    sync::{Mutex, OnceLock},
    time::Duration,
};

pub use drills::DrillRecord;
pub use drives::DriveRecord;
pub use entry::{Beginning, Ending, JournalEntry, Outcome, Work};
use entry::{COLUMNS, entry};
pub use lessons::rules_of_last_run;
pub(crate) use lessons::{past_runs, store_on_drive};
use liveness::Alive;
pub(crate) use mending::MENDED;
pub use messages::{Delivery, Draft as MessageDraft, Message};
pub use proven::ProvenShare;
use rusqlite::{Connection, OptionalExtension, Row, params};
pub use steps::StepRecord;

use tables::{TABLES, VERSION};

use crate::{
    cause::{Cause, CauseKind},
    error::{EngineError, Result},
    event::Exception,
    locked::locked,
};

/// So long another process may hold the journal.
const BUSY: Duration = Duration::from_secs(5);

/// The journal, open.
pub struct Journal {
    database: Mutex<Database>,
    path: PathBuf,
    state: PathBuf,
    /// The sign that this process lives, from its first entry on.
    alive: OnceLock<Option<Alive>>,
    /// What became of a damaged journal that this process has met and nobody was told of yet.
    mended: Mutex<Option<Mended>>,
}

/// A damaged journal that was put aside.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mended {
    /// Where it is now.
    pub aside: PathBuf,
    /// Entries that could be read and are in the new one.
    pub kept: u64,
}

impl std::fmt::Display for Mended {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Self { aside, kept } = self;
        write!(
            f,
            "the journal was damaged; it was moved to {}, and {kept} entries were recovered",
            aside.display()
        )
    }
}

/// A database that is open, and which file it is.
struct Database {
    connection: Connection,
    file: Option<FileId>,
}

/// A file by its device and number.
type FileId = (u64, u64);

fn file_id(path: &Path) -> Option<FileId> {
    fs::metadata(path).ok().map(|facts| (facts.dev(), facts.ino()))
}

impl std::fmt::Debug for Journal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Journal").field("path", &self.path).finish_non_exhaustive()
    }
}

/// Why a journal cannot be used.
enum Unusable {
    /// It failed.
    Failed(rusqlite::Error),
    /// It has other tables than a journal.
    NotOurs(rusqlite::Error),
}

impl From<rusqlite::Error> for Unusable {
    fn from(error: rusqlite::Error) -> Self {
        Self::Failed(error)
    }
}

fn connect(path: &Path) -> Result<Database, Unusable> {
    // Made before SQLite does, for this account alone; what lies beside it gets the same rights. One
    // that is there is not opened: closing it again would end the locks of this process (fcntl(2)).
    let made = fs::OpenOptions::new().append(true).create_new(true).mode(0o600).open(path);
    drop(made);
    let file = file_id(path);
    let mut connection = Connection::open(path)?;
    connection.busy_timeout(BUSY)?;
    // Without a file that is mapped: on a full disk a mapping ends the process.
    connection.pragma_update(None, "journal_mode", "PERSIST")?;
    connection.pragma_update(None, "synchronous", "FULL")?;
    connection.pragma_update(None, "foreign_keys", true)?;
    let transaction =
        connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
    let version: i64 = transaction.pragma_query_value(None, "user_version", |row| row.get(0))?;
    let known = usize::try_from(version).unwrap_or(0).min(TABLES.len());
    for tables in &TABLES[known..] {
        transaction.execute_batch(tables).map_err(not_ours)?;
    }
    if version < VERSION {
        transaction.pragma_update(None, "user_version", VERSION)?;
    }
    // Reading one row finds out about tables that are not ours.
    let read = transaction.query_row("SELECT id, hint FROM work LIMIT 1", [], |_| Ok(()));
    read.optional().map_err(not_ours)?;
    transaction.commit()?;
    Ok(Database { connection, file })
}

/// A statement that does not fit the tables, as against a failure to carry it out.
fn not_ours(error: rusqlite::Error) -> Unusable {
    match error.sqlite_error_code() {
        Some(rusqlite::ErrorCode::Unknown) => Unusable::NotOurs(error),
        _ => Unusable::Failed(error),
    }
}

impl Journal {
    /// Opens the journal of a state directory, or begins one.
    ///
    /// # Errors
    /// If the directory cannot be written.
    pub fn open(state: &Path) -> Result<Self> {
        let path = state.join("journal.sqlite");
        fs::DirBuilder::new()
            .recursive(true)
            .mode(0o700)
            .create(state)
            .map_err(|error| EngineError::local("write to", state, error))?;
        let before = file_id(&path);
        let (database, mended) = match connect(&path) {
            Ok(database) => (database, None),
            Err(Unusable::Failed(error)) if !is_damage(&error) => {
                return Err(failed(&path, &error));
            }
            Err(_) => mending::mend(state, &path, before)?,
        };
        Ok(Self {
            database: database.into(),
            path,
            state: state.to_path_buf(),
            alive: OnceLock::new(),
            mended: Mutex::new(mended),
        })
    }

    /// Damaged journals that were put aside beside this one.
    #[must_use]
    pub fn put_aside(&self) -> Vec<PathBuf> {
        mending::put_aside(&self.state)
    }

    /// What became of a damaged journal that was met, if nobody was told of it yet.
    #[must_use]
    pub fn take_mended(&self) -> Option<Mended> {
        locked(&self.mended).take()
    }

    /// Does something with the database. If it turns out to be damaged, it is put aside, and what
    /// can be read of it taken over; then it is tried once more.
    fn with<T>(&self, mut work: impl FnMut(&mut Connection) -> rusqlite::Result<T>) -> Result<T> {
        let mut database = locked(&self.database);
        if database.file != file_id(&self.path) {
            // Another process has put it aside, or somebody has removed it.
            *database = connect(&self.path).map_err(|error| unusable(&self.path, &error))?;
        }
        let done = match work(&mut database.connection) {
            Err(error) if is_damage(&error) => {
                let (mended, told) = mending::mend(&self.state, &self.path, database.file)?;
                *database = mended;
                if told.is_some() {
                    *locked(&self.mended) = told;
                }
                work(&mut database.connection)
            }
            done => done,
        };
        done.map_err(|error| failed(&self.path, &error))
    }

    /// How entries and messages name this process.
    fn own_process(&self) -> String {
        match self.alive.get_or_init(|| Alive::begin(&self.state)) {
            Some(alive) => alive.name().to_owned(),
            None => liveness::by_number(),
        }
    }

    fn is_alive(&self, process: &str) -> bool {
        liveness::is_alive(&self.state, process)
    }

    /// Notes that work begins; the number of its entry.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn begin(&self, beginning: &Beginning<'_>) -> Result<i64> {
        let Beginning { work, plan, store, machine, unattended, started } = *beginning;
        let row = params![
            work.word(),
            plan,
            store,
            machine,
            env!("CARGO_PKG_VERSION"),
            self.own_process(),
            started,
            Outcome::Running.word(),
            unattended,
        ];
        let sql = "INSERT INTO work (kind, plan, store, machine, version, process, started, outcome, unattended) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
        let id = self.with(|connection| {
            connection.execute(sql, row)?;
            Ok(connection.last_insert_rowid())
        })?;
        let of = plan.unwrap_or(store);
        self.log(started, &format!("{id} {} of {of} into {store} begins", work.word()));
        Ok(id)
    }

    /// Notes how it ended.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn finish(&self, id: i64, ending: &Ending<'_>) -> Result<()> {
        self.with(|connection| {
            let transaction = connection.transaction()?;
            let (files, bytes) = (&ending.files, &ending.bytes);
            let number = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
            transaction.execute(
                "UPDATE work SET ended = ?2, outcome = ?3, snapshot = ?4, new = ?5, changed = ?6, gone = ?7, same = ?8, skipped = ?9, bytes_read = ?10, bytes_new = ?11, bytes_stored = ?12, exceptions = ?13, words = ?14, hint = ?15 WHERE id = ?1",
                params![
                    id, ending.ended, ending.outcome.word(), ending.snapshot.map(|run| run.0),
                    number(files.new), number(files.changed), number(files.gone), number(files.same),
                    number(files.skipped), number(bytes.read), number(bytes.new), number(bytes.stored),
                    number(ending.exception_count), ending.words, ending.hint,
                ],
            )?;
            transaction.execute(
                "UPDATE step SET ended = ?2, outcome = ?3 WHERE work = ?1 AND ended IS NULL",
                params![id, ending.ended, ending.outcome.word()],
            )?;
            let mut add = transaction
                .prepare("INSERT INTO exception (work, path, reason, cause) VALUES (?1, ?2, ?3, ?4)")?;
            for exception in ending.exceptions {
                let Exception { path, cause } = exception;
                add.execute(params![id, path, cause.words, cause.kind.code()])?;
            }
            drop(add);
            let mut add = transaction
                .prepare("INSERT INTO rule (work, rule, decided) VALUES (?1, ?2, ?3)")?;
            for (rule, decided) in &ending.rules {
                add.execute(params![id, rule, number(*decided)])?;
            }
            drop(add);
            transaction.commit()
        })?;
        let words = ending.words.as_ref().map_or(String::new(), |words| format!(": {words}"));
        self.log(ending.ended, &format!("{id} ends: {}{words}", ending.outcome.word()));
        Ok(())
    }

    /// The newest entries, newest first: of one plan, or of everything.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn entries(&self, plan: Option<&str>, limit: usize) -> Result<Vec<JournalEntry>> {
        self.settle()?;
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        let which = "WHERE ?1 IS NULL OR plan = ?1 ORDER BY started DESC, id DESC LIMIT ?2";
        self.select(which, params![plan, limit])
    }

    /// One entry by its number.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn entry(&self, id: i64) -> Result<Option<JournalEntry>> {
        self.settle()?;
        Ok(self.select("WHERE id = ?1", params![id])?.pop())
    }

    /// The newest runs of a plan, newest first.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn runs(&self, plan: &str, limit: usize) -> Result<Vec<JournalEntry>> {
        self.settle()?;
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        let which = "WHERE kind = 'run' AND plan = ?1 ORDER BY started DESC, id DESC LIMIT ?2";
        self.select(which, params![plan, limit])
    }

    /// The newest works of a kind for a plan, newest first.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn works_of_plan(&self, work: Work, plan: &str, limit: usize) -> Result<Vec<JournalEntry>> {
        self.settle()?;
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        let which = "WHERE kind = ?3 AND plan = ?1 ORDER BY started DESC, id DESC LIMIT ?2";
        self.select(which, params![plan, limit, work.word()])
    }

    /// The newest works of a kind on a store, newest first.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn works(&self, work: Work, store: &str, limit: usize) -> Result<Vec<JournalEntry>> {
        self.settle()?;
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        let which = "WHERE kind = ?3 AND store = ?1 ORDER BY started DESC, id DESC LIMIT ?2";
        self.select(which, params![store, limit, work.word()])
    }

    /// When this machine stored a snapshot in a store last, in milliseconds since 1970.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn last_stored(&self, store: &str) -> Result<Option<i64>> {
        let sql = "SELECT max(started) FROM work WHERE store = ?1 AND snapshot IS NOT NULL";
        self.with(|connection| connection.query_row(sql, [store], |row| row.get(0)))
    }

    fn select(&self, which: &str, values: &[&dyn rusqlite::ToSql]) -> Result<Vec<JournalEntry>> {
        let sql = format!("SELECT {COLUMNS} FROM work {which}");
        self.with(|connection| {
            let mut select = connection.prepare(&sql)?;
            select.query_map(values, entry)?.collect()
        })
    }

    /// The exceptions an entry has kept.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn exceptions(&self, id: i64) -> Result<Vec<Exception>> {
        self.with(|connection| {
            let mut select = connection.prepare(
                "SELECT path, reason, cause FROM exception WHERE work = ?1 ORDER BY rowid",
            )?;
            let row = |row: &Row<'_>| {
                let kind = CauseKind::of_code(&row.get::<_, String>(2)?);
                Ok(Exception { path: row.get(0)?, cause: Cause { kind, words: row.get(1)? } })
            };
            select.query_map([id], row)?.collect()
        })
    }

    /// Entries of processes that ended unexpectedly are interrupted ones.
    fn settle(&self) -> Result<()> {
        self.with(|connection| {
            let mut select =
                connection.prepare("SELECT id, process FROM work WHERE outcome = 'running'")?;
            let open = select
                .query_map([], |row| Ok((row.get::<_, i64>(0)?, row.get::<_, String>(1)?)))?
                .collect::<rusqlite::Result<Vec<_>>>()?;
            for (id, process) in open.into_iter().filter(|(_, process)| !self.is_alive(process)) {
                let number = liveness::number_of(&process);
                let words = format!("process {number} ended unexpectedly");
                connection.execute(
                    "UPDATE work SET outcome = 'interrupted', words = ?2 WHERE id = ?1 AND outcome = 'running'",
                    params![id, words],
                )?;
                connection.execute(
                    "UPDATE step SET outcome = 'interrupted' WHERE work = ?1 AND ended IS NULL",
                    [id],
                )?;
            }
            Ok(())
        })
    }
}

fn unusable(path: &Path, error: &Unusable) -> EngineError {
    match error {
        Unusable::Failed(error) | Unusable::NotOurs(error) => failed(path, error),
    }
}

fn failed(path: &Path, error: &rusqlite::Error) -> EngineError {
    EngineError::Journal { path: path.to_owned(), why: error.to_string() }
}

/// Whether the file is not what was written, as against one that cannot be reached.
fn is_damage(error: &rusqlite::Error) -> bool {
    use rusqlite::{
        Error::{FromSqlConversionFailure, InvalidColumnType, Utf8Error},
        ErrorCode::{DatabaseCorrupt, NotADatabase},
    };
    match error {
        FromSqlConversionFailure(..) | InvalidColumnType(..) | Utf8Error(..) => true,
        other => matches!(other.sqlite_error_code(), Some(DatabaseCorrupt | NotADatabase)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::counts::FileCounts;

    fn beginning(plan: &str, started: i64) -> Beginning<'_> {
        Beginning {
            work: Work::Run,
            plan: Some(plan),
            store: "oak",
            machine: "hut",
            unattended: false,
            started,
        }
    }

    #[test]
    fn what_is_written_is_read_again_newest_first() {
        let state = tempfile::tempdir().expect("a directory");
        let journal = Journal::open(state.path()).expect("a journal");
        let first = journal.begin(&beginning("readings", 1000)).expect("begins");
        let exceptions = [Exception { path: b"/srv/\xff".to_vec(), cause: Cause::denied() }];
        let ending = Ending {
            snapshot: Some(skellin_store::RunId([7; 16])),
            files: FileCounts { new: 3, skipped: 1, ..FileCounts::default() },
            exception_count: 1,
            exceptions: &exceptions,
            ..Ending::at(2000, Outcome::Exceptions)
        };
        journal.finish(first, &ending).expect("ends");
        journal.begin(&beginning("ringing", 3000)).expect("begins");
        let (_working, journal) = (journal, Journal::open(state.path()).expect("opens again"));
        let all = journal.entries(None, 10).expect("entries");
        let shown: Vec<_> =
            all.iter().map(|entry| (entry.plan.as_deref(), entry.outcome)).collect();
        assert_eq!(
            shown,
            [(Some("ringing"), Outcome::Running), (Some("readings"), Outcome::Exceptions)]
        );
        assert_eq!(
            (all[1].files.new, all[1].snapshot, all[1].ended),
            (3, Some(skellin_store::RunId([7; 16])), Some(2000))
        );
        assert_eq!(journal.exceptions(first).expect("exceptions"), exceptions);
        assert_eq!(journal.entries(Some("readings"), 10).expect("entries").len(), 1);
        assert_eq!(journal.entries(None, 1).expect("entries").len(), 1);
    }

    #[test]
    fn a_journal_of_the_first_version_is_taken_over() {
        let state = tempfile::tempdir().expect("a directory");
        let path = state.path().join("journal.sqlite");
        let old = Connection::open(&path).expect("opens");
        old.execute_batch(TABLES[0]).expect("tables");
        old.pragma_update(None, "user_version", 1).expect("a version");
        old.execute("INSERT INTO work (kind, plan, store, machine, version, process, started, outcome) VALUES ('run', 'readings', 'oak', 'hut', '0', '', 5, 'done')", []).expect("a row");
        drop(old);
        let journal = Journal::open(state.path()).expect("a journal");
        assert_eq!(journal.take_mended(), None);
        let id = journal.begin(&beginning("readings", 1000)).expect("begins");
        let rules = vec![("skip *.part".to_owned(), 1)];
        journal.finish(id, &Ending { rules, ..Ending::at(2000, Outcome::Done) }).expect("ends");
        assert_eq!(journal.entries(None, 10).expect("entries").len(), 2);
    }

    #[test]
    fn a_process_that_ended_without_a_word_was_interrupted() {
        let state = tempfile::tempdir().expect("a directory");
        let journal = Journal::open(state.path()).expect("a journal");
        let id = journal.begin(&beginning("readings", 1000)).expect("begins");
        let mut child = std::process::Command::new("true").spawn().expect("starts");
        let dead = format!("{} 1 x", child.id());
        child.wait().expect("ends");
        let sql = "UPDATE work SET process = ?1 WHERE id = ?2";
        let set = journal.with(|connection| connection.execute(sql, params![dead, id]));
        set.expect("updates");
        let entry = journal.entries(None, 1).expect("entries").remove(0);
        assert_eq!(entry.outcome, Outcome::Interrupted);
        assert!(entry.words.expect("words").contains("ended unexpectedly"));
    }

    #[test]
    fn a_damaged_journal_is_put_aside_and_a_new_one_begun() {
        let state = tempfile::tempdir().expect("a directory");
        for (number, rubbish) in
            [vec![b'x'; 9000], b"SQLite format 3\0rubbish".repeat(500)].iter().enumerate()
        {
            fs::write(state.path().join("journal.sqlite"), rubbish).expect("writes");
            let journal = Journal::open(state.path()).expect("a new journal");
            let aside = journal.take_mended().expect("the old one is kept").aside;
            assert_eq!(&fs::read(&aside).expect("reads"), rubbish, "{number}");
            journal.begin(&beginning("readings", 1)).expect("begins");
            assert_eq!(journal.entries(None, 10).expect("entries").len(), 1);
        }
    }
}
