//! The records by which runs and reclaims tell each other what they rely on and what they want to
//! delete. Each is sealed under its own name and signed.

use std::collections::HashSet;

use minicbor::{Decode, Encode};
use skellin_place::ObjectName;

use crate::{
    error::{Result, StoreError},
    format::{
        bounds,
        ids::{Class, ContainerId, Lineage, RunId},
        signed::{Machine, Signed, decode, encode},
    },
    reading::rereading::twice,
    store::Store,
};

/// Containers of one run and class, as ranges of their numbers.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct ContainerRun {
    #[n(0)]
    pub run: RunId,
    #[n(1)]
    pub class: u8,
    /// First and last number of each range.
    #[n(2)]
    pub ranges: Vec<(u32, u32)>,
}

impl ContainerRun {
    pub fn class(&self) -> Result<Class> {
        Class::from_code(self.class)
            .ok_or_else(|| StoreError::damaged("a list of containers", "an unknown class"))
    }

    /// Gathers sorted ids into ranges.
    pub fn gather(sorted: &[ContainerId]) -> Vec<Self> {
        let mut runs: Vec<Self> = Vec::new();
        for id in sorted {
            let class = id.class.code();
            match runs.last_mut() {
                Some(last) if last.run == id.run && last.class == class => {
                    match last.ranges.last_mut() {
                        Some((_, end)) if *end + 1 == id.sequence => *end = id.sequence,
                        _ => last.ranges.push((id.sequence, id.sequence)),
                    }
                }
                _ => {
                    runs.push(Self {
                        run: id.run,
                        class,
                        ranges: vec![(id.sequence, id.sequence)],
                    });
                }
            }
        }
        runs
    }

    /// The ids again. A range that is too long to be true is damage.
    pub fn spread(runs: &[Self]) -> Result<Vec<ContainerId>> {
        let mut ids = Vec::new();
        for run in runs {
            let class = run.class()?;
            for (first, last) in &run.ranges {
                if last < first || last - first > 1 << 24 {
                    return Err(StoreError::damaged("a list of containers", "an impossible range"));
                }
                ids.extend((*first..=*last).map(|sequence| ContainerId {
                    class,
                    run: run.run,
                    sequence,
                }));
            }
        }
        Ok(ids)
    }
}

/// A run that is open: put before anything else of it.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct RunRecord {
    #[n(0)]
    pub run: RunId,
    #[n(1)]
    pub lineage: Lineage,
    /// The name its snapshot will have.
    #[n(2)]
    pub snapshot: String,
    /// When it began, in milliseconds since 1970.
    #[n(3)]
    pub started: i64,
    /// Its place in the order of the runs of its lineage.
    #[n(4)]
    pub order: i64,
    /// Whose work in this store is done one after the other, as a keyed hash: a later run of the same
    /// origin knows that this one has ended.
    #[n(5)]
    pub origin: Option<Lineage>,
}

/// Containers that no run may rely on any more: a reclaim wishes to delete them, or somebody met
/// damage in them.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct Notice {
    #[n(0)]
    pub victims: Vec<ContainerRun>,
    /// Whether it tells of damage: nobody waits for answers to it.
    #[n(1)]
    pub damaged: Option<bool>,
    /// They have been deleted, the first and the last of them at these times in milliseconds since
    /// 1970: should one come back, by a write that arrives late, nobody may use it, since somebody may
    /// be about to delete it still. Nobody waits for answers to this either.
    #[n(2)]
    pub deleted: Option<(i64, i64)>,
}

impl Notice {
    pub fn is_of_damage(&self) -> bool {
        self.damaged == Some(true)
    }

    /// Whether runs answer it.
    pub fn is_answered(&self) -> bool {
        !self.is_of_damage() && self.deleted.is_none()
    }
}

/// A run's answer to a notice: what it holds.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct Ack {
    #[n(0)]
    pub holds: Vec<ContainerRun>,
}

/// A reclaim's word that a silent run must check again.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct Revoke {
    #[n(0)]
    pub notice: RunId,
}

/// What a reclaim decided.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub(crate) struct Verdict {
    #[n(0)]
    pub deleted: Vec<ContainerRun>,
    /// Runs that are dead: their snapshots, should they ever appear, are not listed.
    #[n(1)]
    pub dead: Vec<RunId>,
    /// When it was decided, in milliseconds since 1970.
    #[n(2)]
    pub at: Option<i64>,
}

impl Store {
    /// Puts a record under its name.
    pub(crate) fn put_record<T: Encode<()>>(
        &self,
        name: &str,
        record: &T,
        machine: &Machine,
    ) -> Result<()> {
        let signed = machine.sign(name.as_bytes(), encode(record)).encode();
        let sealed = self.keys.control.seal(&signed, name.as_bytes())?;
        Ok(self.place.create(&ObjectName::new(name)?, &sealed)?)
    }

    /// Reads the record of a name.
    pub(crate) fn get_record<T: for<'b> Decode<'b, ()>>(&self, name: &str) -> Result<T> {
        decode(&self.open_record(name)?, name)
    }

    /// The body of the record of a name, whatever it says.
    pub(crate) fn open_record(&self, name: &str) -> Result<Vec<u8>> {
        let object = ObjectName::new(name)?;
        twice(&*self.place, || {
            let sealed = self.place.fetch(&object, bounds::RECORD)?;
            let plain = self.keys.control.open(&sealed, name.as_bytes());
            let plain = plain.ok_or_else(|| StoreError::damaged(name, "it is not authentic"))?;
            Signed::decode(&plain, name)?.verified(&self.keys, name.as_bytes(), name)
        })
    }

    /// Runs that are dead by verdict.
    pub(crate) fn dead_runs(&self) -> Result<HashSet<RunId>> {
        let verdicts = self.verdicts()?;
        Ok(verdicts.into_iter().flat_map(|(_, verdict)| verdict.dead).collect())
    }

    /// All verdicts.
    pub(crate) fn verdicts(&self) -> Result<Vec<(ObjectName, Verdict)>> {
        // What is put together with others vanishes; not more often than this while somebody looks.
        'listed: for _ in 0..8 {
            let mut found = Vec::new();
            for listed in self.place.listing("verdicts")? {
                match self.get_record::<Verdict>(listed.name.as_str()) {
                    Ok(verdict) => found.push((listed.name, verdict)),
                    Err(StoreError::Place(error)) if error.is_not_found() => {
                        // Its deaths stand in another since: a new listing shows that, unless the
                        // place lists what is not there.
                        let again = self.place.listing("verdicts")?;
                        if again.iter().all(|other| other.name != listed.name) {
                            continue 'listed;
                        }
                    }
                    // Torn while it was put: it will be put again under another name.
                    Err(error) if error.is_damage() => {}
                    Err(error) => return Err(error),
                }
            }
            return Ok(found);
        }
        Err(StoreError::damaged("verdicts", "they keep disappearing while being read"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn ids_gather_into_ranges_and_spread_again(ids in prop::collection::btree_set((any::<bool>(), 0u8..3, 0u32..40), 0..60)) {
            let mut ids: Vec<ContainerId> = ids.into_iter().map(|(data, run, sequence)| ContainerId {
                class: if data { Class::Data } else { Class::Tree }, run: RunId([run; 16]), sequence,
            }).collect();
            ids.sort_unstable();
            let runs = ContainerRun::gather(&ids);
            let back: Vec<ContainerRun> = decode(&encode(&runs), "list").expect("decodes");
            prop_assert_eq!(ContainerRun::spread(&back).expect("spreads"), ids);
        }
    }

    #[test]
    fn an_absurd_range_is_damage_not_memory() {
        let run = ContainerRun { run: RunId([1; 16]), class: 1, ranges: vec![(0, u32::MAX)] };
        assert!(ContainerRun::spread(&[run]).is_err());
    }
}
