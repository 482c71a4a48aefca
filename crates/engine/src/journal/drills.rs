//! What drills have shown, and which files they have restored.

use std::collections::HashSet;

use rusqlite::params;
use skellin_store::{Entry, RunId};

use super::Journal;
use crate::error::Result;

/// So many files of a plan are remembered.
const MOST_TRIED: i64 = 100_000;

/// What a drill has shown.
#[derive(Clone, Debug, PartialEq)]
pub struct DrillRecord {
    /// The entry of the journal.
    pub entry: i64,
    /// When it began, in milliseconds since 1970.
    pub started: i64,
    /// The store it restored from.
    pub store: String,
    /// The snapshot.
    pub snapshot: RunId,
    /// When that was begun, in milliseconds since 1970.
    pub made: i64,
    /// Whether everything was restored.
    pub is_whole: bool,
    /// Whether it was done with place and passphrase alone.
    pub as_lost: bool,
    /// Files restored, and those there are.
    pub files: (u64, u64),
    /// Their bytes, and those there are.
    pub bytes: (u64, u64),
    /// Files that are not what they should be.
    pub wrong: u64,
    /// Seconds a restore of everything takes, as far as is known.
    pub whole_seconds: Option<f64>,
}

/// Files that drills have restored, as they were then.
#[derive(Debug, Default)]
pub struct Tried(HashSet<Vec<u8>>);

impl Tried {
    /// Whether a file is one of them.
    #[must_use]
    pub fn has(&self, path: &[u8], entry: &Entry) -> bool {
        self.0.contains(&mark(path, entry))
    }
}

/// A file as a drill has restored it.
fn mark(path: &[u8], entry: &Entry) -> Vec<u8> {
    let mut hasher = blake3::Hasher::new();
    hasher.update(&(path.len() as u64).to_le_bytes()).update(path);
    hasher.update(&entry.size().to_le_bytes());
    hasher.update(&entry.modified.seconds.to_le_bytes());
    hasher.update(&entry.modified.nanos.to_le_bytes());
    hasher.finalize().as_bytes()[..8].to_vec()
}

impl Journal {
    /// Notes what a drill has shown, and the files of its sample.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn note_drill(
        &self,
        plan: &str,
        drill: &DrillRecord,
        sample: &[(Vec<u8>, Entry)],
    ) -> Result<()> {
        let number = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
        self.with(|connection| {
            let transaction = connection.transaction()?;
            transaction.execute(
                "INSERT OR REPLACE INTO drill (work, plan, store, started, snapshot, made, whole, as_lost, files, all_files, bytes, all_bytes, wrong, whole_seconds) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14)",
                params![
                    drill.entry, plan, drill.store, drill.started, drill.snapshot.0, drill.made,
                    drill.is_whole, drill.as_lost, number(drill.files.0), number(drill.files.1),
                    number(drill.bytes.0), number(drill.bytes.1), number(drill.wrong),
                    drill.whole_seconds,
                ],
            )?;
            let mut add = transaction
                .prepare("INSERT OR REPLACE INTO tried (plan, mark, work) VALUES (?1, ?2, ?3)")?;
            for (path, entry) in sample {
                add.execute(params![plan, mark(path, entry), drill.entry])?;
            }
            drop(add);
            // Those tried longest ago may be tried again.
            transaction.execute(
                "DELETE FROM tried WHERE plan = ?1 AND mark IN (SELECT mark FROM tried WHERE plan = ?1 ORDER BY work DESC LIMIT -1 OFFSET ?2)",
                params![plan, MOST_TRIED],
            )?;
            transaction.commit()
        })
    }

    /// The files drills of a plan have restored.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn tried(&self, plan: &str) -> Result<Tried> {
        self.with(|connection| {
            let mut select = connection.prepare("SELECT mark FROM tried WHERE plan = ?1")?;
            let rows = select.query_map(params![plan], |row| row.get(0))?;
            rows.collect::<rusqlite::Result<HashSet<Vec<u8>>>>().map(Tried)
        })
    }

    /// When the newest snapshot was begun of which a drill of a plan has restored everything, in
    /// milliseconds since 1970.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn whole_until(&self, plan: &str) -> Result<Option<i64>> {
        let sql = "SELECT max(made) FROM drill WHERE plan = ?1 AND whole AND wrong = 0";
        self.with(|connection| connection.query_row(sql, params![plan], |row| row.get(0)))
    }

    /// The drills of a plan since a moment, newest first; at most so many.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn drills(&self, plan: &str, since: i64, limit: usize) -> Result<Vec<DrillRecord>> {
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.with(|connection| {
            let mut select = connection.prepare(
                "SELECT work, started, store, snapshot, made, whole, as_lost, files, all_files, bytes, all_bytes, wrong, whole_seconds FROM drill WHERE plan = ?1 AND started >= ?2 ORDER BY started DESC LIMIT ?3",
            )?;
            let number = |row: &rusqlite::Row<'_>, column: usize| {
                Ok::<_, rusqlite::Error>(row.get::<_, i64>(column)?.max(0) as u64)
            };
            let rows = select.query_map(params![plan, since, limit], |row| {
                Ok(DrillRecord {
                    entry: row.get(0)?,
                    started: row.get(1)?,
                    store: row.get(2)?,
                    snapshot: RunId(row.get(3)?),
                    made: row.get(4)?,
                    is_whole: row.get(5)?,
                    as_lost: row.get(6)?,
                    files: (number(row, 7)?, number(row, 8)?),
                    bytes: (number(row, 9)?, number(row, 10)?),
                    wrong: number(row, 11)?,
                    whole_seconds: row.get(12)?,
                })
            })?;
            rows.collect()
        })
    }
}
