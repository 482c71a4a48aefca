//! Proving a store: that everything listed snapshots need is there, and that its bytes are the
//! ones that were written.

mod naming;
mod proof;
mod report;

use std::collections::HashSet;

use crate::{
    error::{Result, StoreError},
    format::ids::{ContainerId, RunId},
    index::{Found, Listing},
    mending::LostContents,
    opening::unlocking,
    records::{
        needed::NeededRecord,
        snapshot::{ListedSnapshot, Snapshot},
    },
    store::Store,
};

use proof::{choose, data_of, proven_data};
use report::Findings;
pub use report::{Damage, DataShare, TouchedFile, VerifyProgress, VerifyReport, VerifyWatch};
impl Store {
    /// Proves the store: all copies of everything but data, of which a share is read. What cannot
    /// be read is damage, and the rest is proven all the same.
    ///
    /// # Errors
    /// If the place fails as a whole, or the work is cancelled. Damage is no error but in the
    /// report.
    pub fn verify(&self, share: DataShare, watch: &dyn VerifyWatch) -> Result<VerifyReport> {
        self.verify_in_turn(share, &|_| None, watch)
    }

    /// As [`verify`](Self::verify); of a share those containers are read whose last proof is longest
    /// ago, those first that have none. `last`: when a container was last proven, in any unit.
    ///
    /// # Errors
    /// As [`verify`](Self::verify).
    pub fn verify_in_turn(
        &self,
        share: DataShare,
        last: &dyn Fn(&ContainerId) -> Option<i64>,
        watch: &dyn VerifyWatch,
    ) -> Result<VerifyReport> {
        let mut found = Findings::default();
        for (object, why) in unlocking::examine(&*self.place, &self.header)? {
            found.note(object, None, why);
        }
        self.condemn_from_notices(&HashSet::new())?;
        let index = self.load_index_now(Listing::After)?;
        // What a run that did not end has left behind may be torn: that is no damage.
        let open = self.open_runs()?;
        self.verify_records(&mut found)?;
        let snapshots = self.verify_snapshots(&mut found)?;
        self.verify_bundles(&snapshots, &open, &mut found)?;
        let mut needed = HashSet::new();
        for (_, snapshot) in &snapshots {
            match self.needed(&snapshot.needed) {
                Ok(list) => needed.extend(list),
                Err(error) if error.is_unreadable() => {
                    self.note_lost_list(&snapshot.needed, &error, &mut found);
                }
                Err(error) => return Err(error),
            }
        }
        self.verify_segments(&index, &needed, &open, &mut found)?;
        let copies = self.copies(&index)?;
        let chosen = choose(&copies, &index.containers, share, last);
        let (proved, bytes_read) = self.prove_all(&chosen, watch)?;
        let proved = self.without_reclaimed(proved)?;
        let proven = proven_data(&proved);
        let halved = self.weigh(&copies, proved, (&needed, &open), &mut found)?;
        let seen = self.walk_structure(&snapshots, &mut found, watch)?;
        self.note_halved(&halved, &seen, &mut found)?;
        self.name_files(&snapshots, &mut found, watch)?;
        for damage in &mut found.damage {
            damage.files.sort_by(|a, b| (&a.path, a.snapshot).cmp(&(&b.path, b.snapshot)));
            damage.files.dedup();
        }
        Ok(VerifyReport {
            snapshots: snapshots.len() as u64,
            containers: index.containers.len() as u64,
            bytes_read,
            data: data_of(&index.containers),
            proven,
            lost: LostContents(found.bad.into_keys().collect()),
            damage: found.damage,
        })
    }

    /// The pages of a snapshot's list of containers that cannot be read.
    fn note_lost_list(&self, record: &NeededRecord, error: &StoreError, found: &mut Findings) {
        for page in Self::pages_of_needed(record) {
            if self.page_body(page).is_err() {
                found.lose(page.prefix(), self.where_lies(page), error.in_short());
            }
        }
    }

    /// The records of runs and reclaims.
    fn verify_records(&self, found: &mut Findings) -> Result<()> {
        for folder in ["runs", "notices", "acks", "revokes", "verdicts", "expired"] {
            for object in self.place.listing(folder)? {
                match self.open_record(object.name.as_str()) {
                    // Settled since it was listed.
                    Err(StoreError::Place(error)) if error.is_not_found() => {}
                    Err(error) if error.is_unreadable() => {
                        found.note(object.name.as_str(), None, error.in_short());
                    }
                    other => drop(other?),
                }
            }
        }
        Ok(())
    }

    /// Both copies of every snapshot; those of which one can be read.
    fn verify_snapshots(&self, found: &mut Findings) -> Result<Vec<(ListedSnapshot, Snapshot)>> {
        for name in self.unreadable_names()? {
            found.note(name.as_str(), None, "its name cannot be decrypted".to_owned());
        }
        let mut snapshots = Vec::new();
        for listed in self.snapshots()? {
            let mut read = None;
            for copy in [listed.object.to_string(), format!("spares/{}", listed.object.leaf())] {
                match self.read_snapshot_copy(&listed, &copy) {
                    Ok(snapshot) => read = read.or(Some(snapshot)),
                    Err(error) if error.is_unreadable() => {
                        found.note(copy, None, error.in_short());
                    }
                    Err(error) => return Err(error),
                }
            }
            let Some(snapshot) = read else { continue };
            if self.totals(&snapshot).is_some_and(|told| told != (snapshot.files, snapshot.bytes)) {
                let why = "its totals do not match its tree".to_owned();
                found.note(listed.object.as_str(), None, why);
            }
            snapshots.push((listed, snapshot));
        }
        Ok(snapshots)
    }

    /// The bundles of snapshots.
    fn verify_bundles(
        &self,
        snapshots: &[(ListedSnapshot, Snapshot)],
        open: &HashSet<RunId>,
        found: &mut Findings,
    ) -> Result<()> {
        let listed: Vec<_> = snapshots.iter().map(|(listed, _)| listed.clone()).collect();
        for (id, _) in self.listed_bundles()? {
            match self.examine_bundle(id, &listed) {
                // Merged since it was listed.
                Err(StoreError::Place(error)) if error.is_not_found() => {}
                Err(error) if error.is_unreadable() && !open.contains(&id.run) => {
                    found.note(id.to_string(), None, error.in_short());
                }
                Err(error) if !error.is_unreadable() => return Err(error),
                _ => {}
            }
        }
        Ok(())
    }

    /// Files and bytes as the root of a snapshot's tree has them, if it can be read.
    fn totals(&self, snapshot: &Snapshot) -> Option<(u64, u64)> {
        self.entries(snapshot.root_page(self)).try_fold((0, 0), |(files, bytes), entry| {
            let below = entry.ok()?.counted();
            Some((files + below.files, bytes + below.bytes))
        })
    }

    /// Every segment as it lies at the place, whatever the cache has; and what no segment lists.
    fn verify_segments(
        &self,
        index: &Found,
        needed: &HashSet<ContainerId>,
        open: &HashSet<RunId>,
        found: &mut Findings,
    ) -> Result<()> {
        let mut broken = false;
        for id in self.listed_segments()? {
            match self.examine_segment(id) {
                // Merged since it was listed, or a part of it is missing.
                Err(StoreError::Place(error)) if error.is_not_found() => {
                    if self.listed_segments()?.contains(&id) && !open.contains(&id.run) {
                        self.forget_cached(&[id]);
                        broken = true;
                        found.note(error.subject, None, "it does not exist".to_owned());
                    }
                }
                Err(error) if error.is_unreadable() => {
                    // Without its copy in the cache the next run notices, and writes it again.
                    self.forget_cached(&[id]);
                    broken = true;
                    if !open.contains(&id.run) {
                        found.note(id.to_string(), None, error.in_short());
                    }
                }
                other => drop(other?),
            }
        }
        let unlisted = index.unlisted.containers.iter().map(|container| container.id);
        let lost = unlisted.filter(|id| needed.contains(id) && !open.contains(&id.run)).count();
        if lost > 0 && !broken {
            let why = format!(
                "an index segment is missing: {lost} containers that snapshots need are in none"
            );
            found.note("index", None, why);
        }
        Ok(())
    }
}
