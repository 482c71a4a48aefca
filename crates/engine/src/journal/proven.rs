//! Which containers of a store were proven, and when.

use std::collections::HashMap;

use rusqlite::params;
use skellin_store::ContainerId;

use super::Journal;
use crate::error::Result;

/// How much of a store's data is proven.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ProvenShare {
    /// Bytes that were read and found to be what was written, whenever that was.
    pub bytes: u64,
    /// Bytes there are.
    pub of: u64,
    /// When those were read for which it is longest ago, in milliseconds since 1970.
    pub since: Option<i64>,
}

impl Journal {
    /// When each container of a store was last proven, in milliseconds since 1970.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn proven(&self, store: &str) -> Result<HashMap<String, i64>> {
        self.with(|connection| {
            let mut select =
                connection.prepare("SELECT container, at FROM proven WHERE store = ?1")?;
            let rows = select.query_map(params![store], |row| Ok((row.get(0)?, row.get(1)?)))?;
            rows.collect()
        })
    }

    /// Notes which containers of a store were proven now, and forgets those that are gone; how much of
    /// it is proven. `data`: all there are, with their bytes.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn note_proven(
        &self,
        store: &str,
        (proven, data): (&[ContainerId], &[(ContainerId, u64)]),
        now: i64,
    ) -> Result<ProvenShare> {
        let before = self.proven(store)?;
        let sizes: HashMap<String, u64> =
            data.iter().map(|(id, size)| (id.to_string(), *size)).collect();
        let now_proven: HashMap<String, i64> =
            proven.iter().map(|id| (id.to_string(), now)).collect();
        self.with(|connection| {
            let transaction = connection.transaction()?;
            let mut forget =
                transaction.prepare("DELETE FROM proven WHERE store = ?1 AND container = ?2")?;
            for gone in before.keys().filter(|id| !sizes.contains_key(*id)) {
                forget.execute(params![store, gone])?;
            }
            drop(forget);
            let mut add = transaction.prepare(
                "INSERT OR REPLACE INTO proven (store, container, at) VALUES (?1, ?2, ?3)",
            )?;
            for id in now_proven.keys() {
                add.execute(params![store, id, now])?;
            }
            drop(add);
            transaction.commit()
        })?;
        let at = |id: &String| now_proven.get(id).or_else(|| before.get(id)).copied();
        let all = sizes.iter().filter_map(|(id, size)| Some((at(id)?, *size)));
        let mut share = ProvenShare { of: sizes.values().sum(), ..ProvenShare::default() };
        for (at, size) in all {
            share.bytes += size;
            share.since = Some(share.since.map_or(at, |since| since.min(at)));
        }
        Ok(share)
    }
}
