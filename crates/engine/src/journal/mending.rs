//! A damaged journal: put aside, and what can be read of it taken over into a new one.

use std::{
    fs, io,
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::{Path, PathBuf},
};

use rusqlite::{Connection, OpenFlags, types::Value};
use rustix::fs::{FlockOperation, flock};

use super::{Database, FileId, Mended, connect, file_id, unusable};
use crate::error::{EngineError, Result};

/// The sign that a damaged journal was put aside and nobody was told through channels yet.
pub(crate) const MENDED: &str = "mended";

/// The tables, those before others that refer to them.
const COPIED: [&str; 12] = [
    "work",
    "exception",
    "rule",
    "step",
    "drive",
    "trouble",
    "heard",
    "message",
    "sign",
    "drill",
    "tried",
    "proven",
];
/// No table has more rows; what claims to is damaged.
const MOST_ROWS: u64 = 10_000_000;

/// Puts a damaged journal aside and opens the new one; what became of it, unless another process
/// was faster. `damaged` is the file that was found damaged.
pub(super) fn mend(
    state: &Path,
    path: &Path,
    damaged: Option<FileId>,
) -> Result<(Database, Option<Mended>)> {
    let _lock = lock(state)?;
    if file_id(path) != damaged {
        return Ok((connect(path).map_err(|error| unusable(path, &error))?, None));
    }
    let failed = |error| EngineError::local("put aside", path, error);
    let draft = path.with_extension("draft");
    for old in [draft.clone(), path.with_extension("draft-journal")] {
        remove(&old).map_err(failed)?;
    }
    let kept = {
        let mut new = connect(&draft).map_err(|error| unusable(&draft, &error))?;
        take_over(path, &mut new.connection).unwrap_or(0)
    };
    let aside = free_name(path).map_err(failed)?;
    fs::rename(path, &aside).map_err(failed)?;
    for side in ["sqlite-wal", "sqlite-shm", "sqlite-journal"] {
        remove(&path.with_extension(side)).map_err(failed)?;
    }
    remove(&path.with_extension("draft-journal")).map_err(failed)?;
    fs::rename(&draft, path).map_err(failed)?;
    let new = connect(path).map_err(|error| unusable(path, &error))?;
    Ok((new, Some(Mended { aside, kept })))
}

/// One process at a time; the lock ends with it.
fn lock(state: &Path) -> Result<fs::File> {
    let folder = state.join("locks");
    let file = folder.join("journal");
    let failed = |error| EngineError::local("lock", &file, error);
    fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder).map_err(failed)?;
    let lock = fs::OpenOptions::new().append(true).create(true).mode(0o600).open(&file);
    let lock = lock.map_err(failed)?;
    flock(&lock, FlockOperation::LockExclusive).map_err(|error| failed(error.into()))?;
    Ok(lock)
}

fn remove(path: &Path) -> io::Result<()> {
    match fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

fn free_name(path: &Path) -> io::Result<PathBuf> {
    let mut names = (1..10_000).map(|number| path.with_extension(format!("damaged-{number}")));
    names.find(|aside| !aside.exists()).ok_or_else(|| io::ErrorKind::AlreadyExists.into())
}

/// Damaged journals that were put aside beside a journal.
pub(super) fn put_aside(state: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(state).into_iter().flatten().flatten();
    let is_aside = |path: &PathBuf| {
        let name = path.file_name().and_then(|name| name.to_str());
        name.is_some_and(|name| name.starts_with("journal.damaged-"))
    };
    let mut found: Vec<_> = entries.map(|entry| entry.path()).filter(is_aside).collect();
    found.sort();
    found
}

/// Copies every row that can be read; how many entries those were.
fn take_over(from: &Path, to: &mut Connection) -> rusqlite::Result<u64> {
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let old = Connection::open_with_flags(from, flags)?;
    old.pragma_update(None, "cell_size_check", true)?;
    let transaction = to.transaction()?;
    let mut entries = 0;
    for table in COPIED {
        // Of a table that cannot be read at all nothing is taken over.
        let copied = copy(&old, &transaction, table).unwrap_or(0);
        entries += if table == "work" { copied } else { 0 };
    }
    let now = jiff::Timestamp::now().as_millisecond();
    transaction.execute(
        "INSERT INTO sign (name, value) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET value = ?2",
        rusqlite::params![MENDED, now],
    )?;
    transaction.commit()?;
    Ok(entries)
}

/// Copies the rows of a table from its beginning up to the first that cannot be read, then from its
/// end down. By the table alone: an index may be what is damaged, and is made anew.
fn copy(old: &Connection, new: &Connection, table: &str) -> rusqlite::Result<u64> {
    let mut columns: Vec<String> = Vec::new();
    new.pragma(None, "table_info", table, |row| {
        columns.push(row.get(1)?);
        Ok(())
    })?;
    let list = columns.join(", ");
    let places = vec!["?"; columns.len() + 1].join(", ");
    let mut insert =
        new.prepare(&format!("INSERT OR IGNORE INTO {table} (rowid, {list}) VALUES ({places})"))?;
    let (mut copied, mut last) = (0, i64::MIN);
    for order in ["ASC", "DESC"] {
        let sql = format!("SELECT rowid, {list} FROM {table} NOT INDEXED ORDER BY rowid {order}");
        let mut select = old.prepare(&sql)?;
        let mut rows = select.query([])?;
        let mut before: Option<i64> = None;
        while let Ok(Some(row)) = rows.next() {
            let Ok(number) = row.get::<_, i64>(0) else { continue };
            // Damage can send the reading round in circles.
            let goes_on = before.is_none_or(|before| (order == "ASC") == (number > before));
            if !goes_on || copied >= MOST_ROWS || (order == "DESC" && number <= last) {
                break;
            }
            before = Some(number);
            let values = (0..=columns.len()).map(|column| row.get::<_, Value>(column));
            // A row whose text is none, or which does not fit the table, is lost.
            let Ok(values) = values.collect::<Result<Vec<Value>, _>>() else { continue };
            copied += insert.execute(rusqlite::params_from_iter(values)).unwrap_or(0) as u64;
        }
        last = if order == "ASC" { before.unwrap_or(i64::MIN) } else { last };
    }
    Ok(copied)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::FileExt;

    use super::super::{Beginning, Ending, Journal, Outcome, StepRecord, Work};
    use super::*;
    use crate::{cause::Cause, event::Exception};

    const PAGE: usize = 4096;
    const RUNS: i64 = 120;

    /// A journal with something in each of its tables.
    fn filled(state: &Path) -> usize {
        let journal = Journal::open(state).expect("a journal");
        for number in 0..RUNS {
            let beginning = Beginning {
                work: Work::Run,
                plan: Some(["readings", "ringing"][number as usize % 2]),
                store: "oak",
                machine: "hut",
                unattended: true,
                started: 1000 * number,
            };
            let id = journal.begin(&beginning).expect("begins");
            let step = StepRecord {
                kind: "reach".to_owned(),
                subject: "oak".to_owned(),
                started: 1000 * number,
                ended: None,
                outcome: Outcome::Done,
                words: None,
                code: None,
                output: Some("x".repeat(90)),
            };
            journal.add_step(id, &step).expect("adds");
            let exceptions =
                [Exception { path: format!("/srv/{number}").into_bytes(), cause: Cause::denied() }];
            let ending = Ending {
                snapshot: Some(skellin_store::RunId([number as u8; 16])),
                exceptions: &exceptions,
                rules: vec![("skip *.part".to_owned(), 3)],
                ..Ending::at(1000 * number + 500, Outcome::Done)
            };
            journal.finish(id, &ending).expect("ends");
        }
        journal.set_sign("forgotten", Some(5)).expect("notes");
        journal.note_drive("oak", ("oak-east", "aa"), 5, Some(5)).expect("notes");
        drop(journal);
        let length = fs::metadata(state.join("journal.sqlite")).expect("is there").len() as usize;
        length / PAGE
    }

    fn spoil(state: &Path, page: usize, with: &[u8; PAGE]) {
        let file = fs::OpenOptions::new().write(true).open(state.join("journal.sqlite"));
        file.expect("opens").write_all_at(with, (page * PAGE) as u64).expect("writes");
    }

    /// Uses the journal as a run does, and as those do who look at it.
    fn use_it(journal: &Journal) -> usize {
        let _ = journal.forget_old(400_000).expect("forgets");
        let _ = journal.runs("readings", 9).expect("runs");
        let beginning = Beginning {
            work: Work::Run,
            plan: Some("readings"),
            store: "oak",
            machine: "hut",
            unattended: true,
            started: 500_000,
        };
        let id = journal.begin(&beginning).expect("begins");
        journal.finish(id, &Ending::at(500_001, Outcome::Done)).expect("ends");
        journal.drives("oak").expect("drives");
        journal.troubles("readings").expect("troubles");
        journal.next_message().expect("messages");
        let all = journal.entries(None, 1000).expect("entries");
        for entry in &all {
            journal.steps(entry.id).expect("steps");
            journal.exceptions(entry.id).expect("exceptions");
        }
        assert_eq!(all[0].started, 500_000, "what is written from then on is there");
        all.len() - 1
    }

    #[test]
    fn whichever_page_is_lost_the_journal_goes_on_with_what_was_on_the_others() {
        let source = tempfile::tempdir().expect("a directory");
        let pages = filled(source.path());
        assert!(pages > 20, "{pages}");
        let mut kept = Vec::new();
        for page in 0..pages {
            for filling in [0u8, 0x5a] {
                let state = tempfile::tempdir().expect("a directory");
                fs::copy(source.path().join("journal.sqlite"), state.path().join("journal.sqlite"))
                    .expect("copies");
                // Found when it is opened, and found by one that has it open.
                let open = (filling == 0).then(|| Journal::open(state.path()).expect("opens"));
                spoil(state.path(), page, &[filling; PAGE]);
                let journal = open.unwrap_or_else(|| Journal::open(state.path()).expect("opens"));
                kept.push(use_it(&journal));
                if let Some(mended) = journal.take_mended() {
                    assert!(mended.aside.exists());
                    assert_eq!(put_aside(state.path()), [mended.aside]);
                    assert!(journal.sign(MENDED).expect("a sign").is_some());
                }
            }
        }
        kept.sort_unstable();
        assert_eq!(kept[kept.len() / 2], RUNS as usize, "most pages cost no entry: {kept:?}");
        let lost = kept.iter().filter(|kept| **kept < RUNS as usize / 2).count();
        assert!(
            lost <= 6,
            "only the head, the schema and the root cost more than their page: {kept:?}"
        );
    }

    #[test]
    fn a_journal_that_another_process_has_put_aside_is_opened_anew() {
        let state = tempfile::tempdir().expect("a directory");
        filled(state.path());
        let journals = [(); 2].map(|()| Journal::open(state.path()).expect("opens"));
        spoil(state.path(), 1, &[0; PAGE]);
        spoil(state.path(), 2, &[0; PAGE]);
        for journal in &journals {
            use_it(journal);
        }
        let told = journals.iter().filter_map(Journal::take_mended).count();
        assert_eq!((told, put_aside(state.path()).len()), (1, 1), "once");
        assert_eq!(
            journals[0].entries(None, 1000).expect("entries"),
            journals[1].entries(None, 1000).expect("entries")
        );
    }
}
