//! Damage that was met: noted at once, and recorded for every run to come.

use crate::{
    containers::Standing,
    error::Result,
    format::{
        ids::{ContainerId, RunId},
        signed::Machine,
    },
    reading::suspects::Suspect,
    records::control::{ContainerRun, Notice},
    store::Store,
};

impl Store {
    /// Notes that a container is damaged: from now on nothing is taken over from it nor
    /// deduplicated against it.
    pub(crate) fn suspect(&self, id: ContainerId, why: &str) {
        self.suspects.lock().entry(id).or_insert_with(|| (why.to_owned(), false));
        self.distrust(id);
    }

    fn distrust(&self, id: ContainerId) {
        let container = self.containers.get(self.containers.number(id, None));
        if matches!(container.standing(), Standing::Unknown | Standing::Present) {
            container.set_standing(Standing::Damaged);
        }
    }

    /// As [`suspect`](Self::suspect), for one that a record at the place names.
    pub(crate) fn suspect_by_record(&self, id: ContainerId) {
        let why = "damage was found in it before".to_owned();
        self.suspects.lock().entry(id).or_insert((why, true)).1 = true;
        self.distrust(id);
    }

    /// The damaged containers that no record at the place names yet.
    #[must_use]
    pub fn unrecorded_damage(&self) -> Vec<Suspect> {
        let suspects = self.suspects.lock();
        let new = suspects.iter().filter(|(_, (_, recorded))| !recorded);
        new.map(|(id, (why, _))| Suspect { object: id.to_string(), why: why.clone() }).collect()
    }

    /// Leaves a record of the damage that was met, so that the next run stores again what it
    /// needs of it. Which containers it names.
    ///
    /// # Errors
    /// If the record cannot be written, as where the place is read-only.
    pub fn record_damage(&self, machine: &str) -> Result<Vec<Suspect>> {
        let told = self.unrecorded_damage();
        let known: Vec<ContainerId> = {
            let suspects = self.suspects.lock();
            suspects.iter().filter(|(_, (_, known))| !known).map(|(id, _)| *id).collect()
        };
        if known.is_empty() {
            return Ok(told);
        }
        let machine = Machine::certified(&self.keys, machine)?;
        let notice =
            Notice { victims: ContainerRun::gather(&known), damaged: Some(true), deleted: None };
        self.put_record(&format!("notices/{}", RunId::random()?), &notice, &machine)?;
        let mut suspects = self.suspects.lock();
        for id in known {
            if let Some((_, recorded)) = suspects.get_mut(&id) {
                *recorded = true;
            }
        }
        Ok(told)
    }
}
