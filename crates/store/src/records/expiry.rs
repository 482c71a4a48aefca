//! Snapshots that go, and snapshots that are pinned so that they do not.
//!
//! A snapshot goes by a marker that is put before anything is deleted: should a late duplicate of its
//! write bring it back, it stays expired (FORMAT.md, "Runs and reclaim").

use std::collections::HashSet;

use minicbor::{Decode, Encode};
use skellin_place::{ObjectName, PlaceErrorKind};

use crate::{
    error::{Result, StoreError},
    format::{ids::RunId, signed::Machine},
    mistakes::{Mistake, is_made},
    store::Store,
};

/// With more markers than this they are put together.
const MANY_MARKERS: usize = 8;
/// What the name of a pin ends with.
const PIN: &str = ".pin";

/// The mark that snapshots are gone for good.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct ExpiredMark {
    #[n(0)]
    pub run: RunId,
    /// Others that are gone as well.
    #[n(1)]
    pub more: Option<Vec<RunId>>,
}

/// The mark that a snapshot is not to expire.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct Pin {
    #[n(0)]
    pub run: RunId,
}

fn pin_name(run: RunId) -> String {
    format!("expired/{run}{PIN}")
}

impl Store {
    /// Runs whose snapshots are marked expired.
    pub(crate) fn expired_runs(&self) -> Result<HashSet<RunId>> {
        Ok(self.markers()?.into_iter().flat_map(|(_, runs)| runs).collect())
    }

    /// All markers, and whose snapshots they mark.
    fn markers(&self) -> Result<Vec<(ObjectName, Vec<RunId>)>> {
        // What is put together with others vanishes; not more often than this while somebody looks.
        'listed: for _ in 0..8 {
            let mut found = Vec::new();
            for listed in self.place.listing("expired")? {
                if listed.name.leaf().ends_with(PIN) {
                    continue;
                }
                match self.get_record::<ExpiredMark>(listed.name.as_str()) {
                    Ok(ExpiredMark { run, more }) => {
                        let runs = more.into_iter().flatten().chain([run]).collect();
                        found.push((listed.name, runs));
                    }
                    Err(StoreError::Place(error)) if error.is_not_found() => {
                        let again = self.place.listing("expired")?;
                        if again.iter().all(|other| other.name != listed.name) {
                            continue 'listed;
                        }
                    }
                    // Torn, or not the store's: only what is authentic makes a snapshot go.
                    Err(error) if error.is_damage() => {}
                    Err(error) => return Err(error),
                }
            }
            return Ok(found);
        }
        Err(StoreError::damaged("expired", "its markers keep disappearing while being read"))
    }

    /// Marks snapshots expired, then deletes them; also what an interruption has left of earlier ones.
    /// Those that are pinned stay.
    ///
    /// # Errors
    /// If the place fails. With the marker they are gone all the same, else nothing has happened.
    pub fn expire(&self, runs: &[RunId], machine: &str) -> Result<u64> {
        let pinned = self.pins()?;
        let mut runs = runs.to_vec();
        runs.retain(|run| !pinned.contains(run));
        let Some((first, more)) = runs.split_first() else { return Ok(0) };
        let machine = Machine::certified(&self.keys, machine)?;
        if is_made(Mistake::ExpireWithoutMarker) {
            return self.delete_of(&runs.iter().copied().collect()).map(|()| runs.len() as u64);
        }
        self.put_marker(&format!("expired/{first}"), *first, more, &machine)?;
        self.gather_markers(&machine)?;
        self.delete_expired()?;
        Ok(runs.len() as u64)
    }

    fn put_marker(&self, name: &str, run: RunId, more: &[RunId], machine: &Machine) -> Result<()> {
        let more = (!more.is_empty()).then(|| more.to_vec());
        match self.put_record(name, &ExpiredMark { run, more: more.clone() }, machine) {
            // Somebody has marked it at the same time, perhaps without the others.
            Err(StoreError::Place(error)) if error.kind == PlaceErrorKind::Exists => {
                let name = format!("expired/{}", RunId::random()?);
                self.put_record(&name, &ExpiredMark { run, more }, machine)
            }
            other => other,
        }
    }

    /// Marks one snapshot expired.
    pub(crate) fn mark_expired(&self, run: RunId, machine: &Machine) -> Result<()> {
        self.put_marker(&format!("expired/{run}"), run, &[], machine)
    }

    /// Puts markers together if there are many.
    fn gather_markers(&self, machine: &Machine) -> Result<()> {
        let markers = self.markers()?;
        if markers.len() <= MANY_MARKERS {
            return Ok(());
        }
        let mut runs: Vec<RunId> = markers.iter().flat_map(|(_, runs)| runs).copied().collect();
        runs.sort_unstable();
        runs.dedup();
        let Some((first, more)) = runs.split_first() else { return Ok(()) };
        self.put_marker(&format!("expired/{}", RunId::random()?), *first, more, machine)?;
        markers.iter().try_for_each(|(name, _)| Ok(self.place.delete(name)?))
    }

    /// Deletes what is still there of snapshots that are marked expired: first what makes one listed,
    /// then its second copy.
    pub(crate) fn delete_expired(&self) -> Result<()> {
        let expired = self.expired_runs()?;
        self.delete_of(&expired)?;
        for run in self.pins()?.intersection(&expired) {
            self.place.delete(&ObjectName::new(pin_name(*run))?)?;
        }
        Ok(())
    }

    fn delete_of(&self, runs: &HashSet<RunId>) -> Result<()> {
        for folder in ["snapshots", "spares"] {
            for there in self.present_snapshots(folder)? {
                if runs.contains(&there.run) {
                    let name = format!("{folder}/{}", there.object.leaf());
                    self.place.delete(&ObjectName::new(name)?)?;
                }
            }
        }
        Ok(())
    }

    /// Runs whose snapshots are pinned.
    ///
    /// # Errors
    /// If the place fails.
    pub fn pins(&self) -> Result<HashSet<RunId>> {
        let listed = self.place.listing("expired")?;
        let run = |name: &ObjectName| RunId::parse(name.leaf().strip_suffix(PIN)?);
        let mut pinned = HashSet::new();
        for object in listed {
            let Some(run) = run(&object.name) else { continue };
            match self.get_record::<Pin>(object.name.as_str()) {
                Ok(Pin { run }) => pinned.extend([run]),
                Err(StoreError::Place(error)) if error.is_not_found() => {}
                // Torn while it was put: somebody meant it.
                Err(error) if error.is_unreadable() => pinned.extend([run]),
                Err(error) => return Err(error),
            }
        }
        Ok(pinned)
    }

    /// Pins a snapshot, so that it does not expire; that it is pinned already is no error.
    ///
    /// # Errors
    /// If the place fails, or the snapshot has gone meanwhile.
    pub fn pin(&self, run: RunId, machine: &str) -> Result<()> {
        let machine = Machine::certified(&self.keys, machine)?;
        match self.put_record(&pin_name(run), &Pin { run }, &machine) {
            Err(StoreError::Place(error)) if error.kind == PlaceErrorKind::Exists => {}
            other => other?,
        }
        if self.snapshots()?.iter().any(|listed| listed.run == run) {
            return Ok(());
        }
        self.unpin(run)?;
        Err(StoreError::Expired(run))
    }

    /// Takes a pin away; that there is none is no error.
    ///
    /// # Errors
    /// If the place fails.
    pub fn unpin(&self, run: RunId) -> Result<()> {
        Ok(self.place.delete(&ObjectName::new(pin_name(run))?)?)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use skellin_place::Place;

    use crate::{
        ListedSnapshot, RunId,
        protocol_tests::{memory, name, noise, open, run},
    };

    fn runs(listed: &[ListedSnapshot]) -> Vec<RunId> {
        listed.iter().map(|one| one.run).collect()
    }

    #[test]
    fn what_expires_stays_away_even_if_a_late_write_brings_it_back() {
        let (_, place) = memory();
        for night in 0..4 {
            run(&place, night, &[("a", noise(night as u64, 5_000))]);
        }
        let store = open(&place);
        let listed = store.snapshots().expect("lists");
        let late: Vec<_> = ["snapshots", "spares"]
            .map(|folder| {
                let object = name(format!("{folder}/{}", listed[1].object.leaf()));
                let bytes = place.fetch(&object, 1 << 20).expect("reads");
                (object, bytes)
            })
            .into();
        assert_eq!(store.expire(&runs(&listed[..2]), "hut").expect("expires"), 2);
        let left = |place: &Arc<dyn Place>| {
            let listed = open(place).snapshots().expect("lists");
            listed.into_iter().map(|one| one.started).collect::<Vec<_>>()
        };
        assert_eq!(left(&place), [2, 3]);
        for (object, bytes) in late {
            assert!(place.fetch(&object, 1 << 20).is_err(), "{object:?} is deleted");
            place.create(&object, &bytes).expect("comes late");
        }
        assert_eq!(left(&place), [2, 3]);
        // The next to expire something clears it away.
        let store = open(&place);
        store.expire(&runs(&store.snapshots().expect("lists")[..1]), "hut").expect("expires");
        assert_eq!(place.listing("snapshots").expect("lists").len(), 1);
        assert_eq!(left(&place), [3]);
    }

    #[test]
    fn a_pinned_snapshot_stays_until_it_is_not_pinned() {
        let (_, place) = memory();
        (0..2).for_each(|night| drop(run(&place, night, &[("a", noise(1, 5_000))])));
        let store = open(&place);
        let listed = store.snapshots().expect("lists");
        store.pin(listed[0].run, "hut").expect("pins");
        store.pin(listed[0].run, "mast").expect("pins twice");
        assert_eq!(open(&place).pins().expect("reads"), [listed[0].run].into());
        assert_eq!(store.expire(&runs(&listed), "hut").expect("expires"), 1);
        assert_eq!(store.snapshots().expect("lists"), [listed[0].clone()]);
        assert!(store.pin(listed[1].run, "hut").is_err(), "it is gone");
        assert_eq!(store.pins().expect("reads").len(), 1);
        store.unpin(listed[0].run).expect("unpins");
        assert_eq!(store.expire(&runs(&listed[..1]), "hut").expect("expires"), 1);
        assert!(store.snapshots().expect("lists").is_empty());
    }

    #[test]
    fn markers_are_put_together_and_forget_nothing() {
        let (_, place) = memory();
        for night in 0..24 {
            run(&place, night, &[("a", noise(1, 900))]);
            let store = open(&place);
            let listed = store.snapshots().expect("lists");
            store.expire(&runs(&listed[..listed.len() - 1]), "hut").expect("expires");
        }
        let store = open(&place);
        assert_eq!(store.expired_runs().expect("reads").len(), 23);
        let markers = place.listing("expired").expect("lists").len();
        assert!(markers <= super::MANY_MARKERS + 1, "{markers}");
    }
}
