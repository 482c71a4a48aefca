//! The steps of work: each with its time, its end, and what it said.

use rusqlite::{Row, params};

use super::{Journal, Outcome};
use crate::error::Result;

/// One step of work.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StepRecord {
    /// `wait`, `reach`, `enter`, `read`, `leave`, `store`, `replicate`.
    pub kind: String,
    /// With or on what.
    pub subject: String,
    /// When it began, in milliseconds since 1970.
    pub started: i64,
    /// When it ended.
    pub ended: Option<i64>,
    /// How it ended.
    pub outcome: Outcome,
    /// What was said of its end.
    pub words: Option<String>,
    /// The status a command ended with.
    pub code: Option<i32>,
    /// The beginning and the end of what a command said.
    pub output: Option<String>,
}

impl Journal {
    /// Adds a step to an entry.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn add_step(&self, work: i64, step: &StepRecord) -> Result<()> {
        let sql = "INSERT INTO step (work, kind, subject, started, ended, outcome, words, code, output) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
        let row = params![
            work,
            step.kind,
            step.subject,
            step.started,
            step.ended,
            step.outcome.word(),
            step.words,
            step.code,
            step.output
        ];
        self.with(|connection| connection.execute(sql, row).map(drop))
    }

    /// Notes that a step which was still going on has ended well.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn end_step(&self, work: i64, (kind, subject): (&str, &str), ended: i64) -> Result<()> {
        let sql = "UPDATE step SET ended = ?4, outcome = ?5 WHERE work = ?1 AND kind = ?2 AND subject = ?3 AND ended IS NULL";
        let row = params![work, kind, subject, ended, Outcome::Done.word()];
        self.with(|connection| connection.execute(sql, row).map(drop))
    }

    /// The steps of an entry, in their order.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn steps(&self, work: i64) -> Result<Vec<StepRecord>> {
        self.with(|connection| {
            let mut select = connection.prepare(
                "SELECT kind, subject, started, ended, outcome, words, code, output FROM step WHERE work = ?1 ORDER BY rowid",
            )?;
            let step = |row: &Row<'_>| {
                Ok(StepRecord {
                    kind: row.get(0)?,
                    subject: row.get(1)?,
                    started: row.get(2)?,
                    ended: row.get(3)?,
                    outcome: Outcome::of_word(&row.get::<_, String>(4)?).unwrap_or(Outcome::Failed),
                    words: row.get(5)?,
                    code: row.get(6)?,
                    output: row.get(7)?,
                })
            };
            select.query_map([work], step)?.collect()
        })
    }
}
