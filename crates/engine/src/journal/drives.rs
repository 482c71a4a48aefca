//! When each drive was here last, and how old the newest snapshot on it is.

use rusqlite::params;

use super::Journal;
use crate::error::Result;

/// What is remembered of a drive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DriveRecord {
    /// Its name in the rotation.
    pub drive: String,
    /// The id of the store on it.
    pub id: String,
    /// When it was here last, in milliseconds since 1970.
    pub seen: i64,
    /// When the newest snapshot on it was made, in milliseconds since 1970.
    pub newest: Option<i64>,
}

impl Journal {
    /// Notes that a drive is here; `newest`: that a snapshot was made on it.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn note_drive(
        &self,
        store: &str,
        (drive, id): (&str, &str),
        seen: i64,
        newest: Option<i64>,
    ) -> Result<()> {
        // Another store on a drive that calls itself the same is not it.
        let sql = "INSERT INTO drive (store, drive, id, seen, newest) VALUES (?1, ?2, ?3, ?4, ?5)
            ON CONFLICT (store, drive) DO UPDATE SET newest = COALESCE(?5, newest), seen = ?4
                WHERE id = ?3";
        let row = params![store, drive, id, seen, newest];
        self.with(|connection| connection.execute(sql, row).map(drop))
    }

    /// Forgets a drive, so that another may have its name.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn forget_drive(&self, store: &str, drive: &str) -> Result<()> {
        let sql = "DELETE FROM drive WHERE store = ?1 AND drive = ?2";
        self.with(|connection| connection.execute(sql, [store, drive]).map(drop))
    }

    /// What is remembered of the drives of a store.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn drives(&self, store: &str) -> Result<Vec<DriveRecord>> {
        self.with(|connection| {
            let sql = "SELECT drive, id, seen, newest FROM drive WHERE store = ?1 ORDER BY drive";
            let mut select = connection.prepare(sql)?;
            let found = select.query_map([store], |row| {
                Ok(DriveRecord {
                    drive: row.get(0)?,
                    id: row.get(1)?,
                    seen: row.get(2)?,
                    newest: row.get(3)?,
                })
            })?;
            found.collect()
        })
    }
}

#[cfg(test)]
mod tests {
    use super::{super::store_on_drive, *};

    #[test]
    fn drives_are_remembered_until_they_carry_another_store() {
        let state = tempfile::tempdir().expect("a directory");
        let journal = Journal::open(state.path()).expect("a journal");
        let note = |drive: &str, id: &str, seen, newest| {
            journal.note_drive("oak", (drive, id), seen, newest).expect("notes");
        };
        note("oak-west", "aa", 1, None);
        note("oak-east", "bb", 2, Some(2));
        note("oak-east", "bb", 9, None);
        let record = |drive: &str, id: &str, seen, newest| {
            let (drive, id) = (drive.to_owned(), id.to_owned());
            DriveRecord { drive, id, seen, newest }
        };
        let expected = [record("oak-east", "bb", 9, Some(2)), record("oak-west", "aa", 1, None)];
        assert_eq!(journal.drives("oak").expect("drives"), expected);
        note("oak-east", "cc", 10, None);
        assert_eq!(journal.drives("oak").expect("drives"), expected, "a namesake is not it");
        assert_eq!(store_on_drive(state.path(), "oak", "oak-east").as_deref(), Some("bb"));
        journal.forget_drive("oak", "oak-east").expect("forgets");
        note("oak-east", "cc", 10, None);
        assert_eq!(journal.drives("oak").expect("drives")[0], record("oak-east", "cc", 10, None));
        assert!(journal.drives("pier").expect("drives").is_empty());
    }
}
