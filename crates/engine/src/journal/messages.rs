//! What lasts with a plan and was told, and messages on their way. Both change together, so that
//! whatever is decided to be told is told once, also if the process ends in between.

use rusqlite::{OptionalExtension, Row, Transaction, params};
use skellin_plan::{Telling, Topic, Trouble};

use super::Journal;
use crate::error::Result;

/// A message to a channel.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Message {
    /// Its number.
    pub id: i64,
    /// The channel.
    pub channel: String,
    /// The plan it is about; empty for a trial.
    pub plan: String,
    /// `failure`, `exceptions`, `success`, `late`, `trial`.
    pub topic: String,
    /// The entry of the journal it is about.
    pub work: Option<i64>,
    /// When it was made, in milliseconds since 1970.
    pub made: i64,
    /// What it is about, in a line.
    pub subject: String,
    /// The whole, in plain text.
    pub body: String,
    /// The same for programs, as JSON.
    pub facts: String,
    /// How often it was tried to send it.
    pub tries: u32,
}

/// How a message fared.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Delivery {
    /// The channel.
    pub channel: String,
    /// Of what.
    pub topic: String,
    /// What it is about, in a line.
    pub subject: String,
    /// When it was sent, in milliseconds since 1970.
    pub sent: Option<i64>,
    /// Whether nobody tries any more.
    pub given_up: bool,
    /// How often it was tried.
    pub tries: u32,
    /// Why it was not sent the last time.
    pub words: Option<String>,
}

/// A message that is still to be made.
#[derive(Clone, Debug)]
pub struct Draft {
    /// The channels it goes to.
    pub channels: Vec<String>,
    /// As in [`Message`].
    pub subject: String,
    /// As in [`Message`].
    pub body: String,
    /// As in [`Message`].
    pub facts: String,
}

/// A message is tried again after so many seconds, the longer the more often it failed.
const PAUSES: [i64; 5] = [60, 5 * 60, 30 * 60, 2 * 3600, 6 * 3600];
/// What could not be sent for so long is given up.
const GIVEN_UP: i64 = 3 * 86_400_000;

fn message(row: &Row<'_>) -> rusqlite::Result<Message> {
    Ok(Message {
        id: row.get(0)?,
        channel: row.get(1)?,
        plan: row.get(2)?,
        topic: row.get(3)?,
        work: row.get(4)?,
        made: row.get(5)?,
        subject: row.get(6)?,
        body: row.get(7)?,
        facts: row.get(8)?,
        tries: row.get(9)?,
    })
}

fn moment(milliseconds: i64) -> jiff::Timestamp {
    jiff::Timestamp::from_millisecond(milliseconds).unwrap_or(jiff::Timestamp::UNIX_EPOCH)
}

fn troubles(transaction: &Transaction<'_>, plan: &str) -> rusqlite::Result<Vec<Trouble>> {
    let mut select = transaction.prepare(
        "SELECT topic, channel, told FROM heard WHERE plan = ?1 ORDER BY topic, channel",
    )?;
    let row = |row: &Row<'_>| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?, row.get(2)?));
    let heard: Vec<(String, String, i64)> =
        select.query_map([plan], row)?.collect::<rusqlite::Result<_>>()?;
    let mut select = transaction
        .prepare("SELECT topic, since, told, times FROM trouble WHERE plan = ?1 ORDER BY topic")?;
    let row = |row: &Row<'_>| {
        let word = row.get::<_, String>(0)?;
        let (since, told) = (moment(row.get(1)?), moment(row.get(2)?));
        let times = row.get(3)?;
        let of_it = heard.iter().filter(|(topic, _, _)| *topic == word);
        let heard = of_it.map(|(_, channel, told)| (channel.clone(), moment(*told))).collect();
        Ok(Topic::of_word(&word).map(|topic| Trouble { topic, since, told, times, heard }))
    };
    select.query_map([plan], row)?.filter_map(Result::transpose).collect()
}

impl Journal {
    /// Decides what is to be told of a plan, and puts the messages on their way, in one go.
    /// `decide` has what lasted before and says what lasts now; `draft` writes a message.
    ///
    /// # Errors
    /// If the journal cannot be written; then nothing has changed.
    pub fn tell(
        &self,
        plan: &str,
        work: Option<i64>,
        now: i64,
        decide: impl Fn(&[Trouble]) -> (Vec<Telling>, Vec<Trouble>),
        draft: impl Fn(&Telling) -> Draft,
    ) -> Result<usize> {
        self.with(|connection| {
            let transaction =
                connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            let (told, left) = decide(&troubles(&transaction, plan)?);
            transaction.execute("DELETE FROM trouble WHERE plan = ?1", [plan])?;
            transaction.execute("DELETE FROM heard WHERE plan = ?1", [plan])?;
            for trouble in &left {
                let (since, told) = (trouble.since.as_millisecond(), trouble.told.as_millisecond());
                transaction.execute(
                    "INSERT INTO trouble (plan, topic, since, told, times) VALUES (?1, ?2, ?3, ?4, ?5)",
                    params![plan, trouble.topic.word(), since, told, trouble.times],
                )?;
                for (channel, told) in &trouble.heard {
                    transaction.execute(
                        "INSERT INTO heard (plan, topic, channel, told) VALUES (?1, ?2, ?3, ?4)",
                        params![plan, trouble.topic.word(), channel, told.as_millisecond()],
                    )?;
                }
            }
            let mut made = 0;
            for (telling, draft) in told.iter().map(|told| (told, draft(told))) {
                for channel in &draft.channels {
                    transaction.execute(
                        "INSERT INTO message (channel, plan, topic, work, made, subject, body, facts, next) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?5)",
                        params![channel, plan, telling.topic.word(), work, now, draft.subject, draft.body, draft.facts],
                    )?;
                    made += 1;
                }
            }
            transaction.commit()?;
            Ok(made)
        })
    }

    /// Puts a message about a sign being sent, which is forgotten by that: whoever is first tells.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub(crate) fn tell_sign(&self, sign: &str, draft: &Draft, now: i64) -> Result<()> {
        self.with(|connection| {
            let transaction =
                connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            if transaction.execute("DELETE FROM sign WHERE name = ?1", [sign])? == 0 {
                return Ok(());
            }
            for channel in &draft.channels {
                transaction.execute(
                    "INSERT INTO message (channel, plan, topic, made, subject, body, facts, next) VALUES (?1, '', 'failure', ?2, ?3, ?4, ?5, ?2)",
                    params![channel, now, draft.subject, draft.body, draft.facts],
                )?;
            }
            transaction.commit()
        })
    }

    /// What lasts with a plan and was told.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn troubles(&self, plan: &str) -> Result<Vec<Trouble>> {
        self.with(|connection| troubles(&connection.transaction()?, plan))
    }

    /// Everything of a plan goes to its new name.
    ///
    /// # Errors
    /// If the journal cannot be written; then nothing has changed.
    pub(crate) fn rename_plan(&self, from: &str, to: &str) -> Result<()> {
        self.with(|connection| {
            let transaction =
                connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            for table in ["work", "trouble", "heard", "message"] {
                let sql = format!("UPDATE OR REPLACE {table} SET plan = ?2 WHERE plan = ?1");
                transaction.execute(&sql, [from, to])?;
            }
            transaction.commit()
        })
    }

    /// Takes the messages whose time has come, so that no other process sends them too.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn claim_messages(&self, now: i64) -> Result<Vec<Message>> {
        self.with(|connection| {
            let transaction =
                connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            let open: Vec<(Message, Option<String>)> = transaction
                .prepare("SELECT id, channel, plan, topic, work, made, subject, body, facts, tries, claimed FROM message WHERE sent IS NULL AND given_up IS NULL AND (next <= ?1 OR next > ?2) ORDER BY id")?
                // A time further ahead than any pause was set by a clock that was wrong.
                .query_map([now, now + PAUSES[PAUSES.len() - 1] * 1000], |row| Ok((message(row)?, row.get(10)?)))?
                .collect::<rusqlite::Result<_>>()?;
            let free = |claimed: &Option<String>| {
                claimed.as_ref().is_none_or(|process| !self.is_alive(process))
            };
            let taken: Vec<Message> =
                open.into_iter().filter(|(_, claimed)| free(claimed)).map(|(one, _)| one).collect();
            for one in &taken {
                transaction.execute(
                    "UPDATE message SET claimed = ?2 WHERE id = ?1",
                    params![one.id, self.own_process()],
                )?;
            }
            transaction.commit()?;
            Ok(taken)
        })
    }

    /// Notes how a message fared.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn note_delivery(&self, message: &Message, end: Result<(), &str>, now: i64) -> Result<()> {
        let tries = i64::from(message.tries) + 1;
        self.with(|connection| match end {
            Ok(()) => connection.execute(
                "UPDATE message SET sent = ?2, tries = ?3, claimed = NULL, words = NULL WHERE id = ?1",
                params![message.id, now, tries],
            ),
            Err(words) => {
                let pause = PAUSES[(message.tries as usize).min(PAUSES.len() - 1)] * 1000;
                let given_up = (now + pause - message.made > GIVEN_UP).then_some(now);
                connection.execute(
                    "UPDATE message SET tries = ?2, next = ?3, given_up = ?4, claimed = NULL, words = ?5 WHERE id = ?1",
                    params![message.id, tries, now + pause, given_up, words],
                )
            }
        })
        .map(drop)
    }

    /// When the next message that could not be sent is tried again, in milliseconds since 1970.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn next_message(&self) -> Result<Option<i64>> {
        let sql = "SELECT min(next) FROM message WHERE sent IS NULL AND given_up IS NULL";
        self.with(|connection| connection.query_row(sql, [], |row| row.get(0)))
    }

    /// How the messages about an entry fared.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn deliveries(&self, work: i64) -> Result<Vec<Delivery>> {
        self.with(|connection| {
            let mut select = connection.prepare(
                "SELECT channel, topic, subject, sent, given_up IS NOT NULL, tries, words FROM message WHERE work = ?1 ORDER BY id",
            )?;
            let delivery = |row: &Row<'_>| {
                Ok(Delivery {
                    channel: row.get(0)?,
                    topic: row.get(1)?,
                    subject: row.get(2)?,
                    sent: row.get(3)?,
                    given_up: row.get(4)?,
                    tries: row.get(5)?,
                    words: row.get(6)?,
                })
            };
            select.query_map([work], delivery)?.collect()
        })
    }

    /// A moment remembered under a name, in milliseconds since 1970.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn sign(&self, name: &str) -> Result<Option<i64>> {
        let sql = "SELECT value FROM sign WHERE name = ?1";
        self.with(|connection| connection.query_row(sql, [name], |row| row.get(0)).optional())
    }

    /// Remembers a moment under a name; none forgets it.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn set_sign(&self, name: &str, moment: Option<i64>) -> Result<()> {
        self.with(|connection| match moment {
            Some(moment) => connection.execute(
                "INSERT INTO sign (name, value) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET value = ?2",
                params![name, moment],
            ),
            None => connection.execute("DELETE FROM sign WHERE name = ?1", [name]),
        })
        .map(drop)
    }
}
