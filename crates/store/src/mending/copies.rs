//! What is kept twice is made two again, and what is damaged and says nothing any more is taken away.

use std::collections::HashSet;

use skellin_place::ObjectName;

use crate::{
    error::{Result, StoreError},
    format::{
        bounds,
        ids::{Class, ContainerId},
    },
    opening::unlocking::{HEADER_NAMES, examine},
    store::Store,
};

/// Folders of records that count for nothing if they cannot be read.
const VOID: [&str; 4] = ["notices", "acks", "verdicts", "expired"];

impl Store {
    /// Writes damaged copies of headers, passphrase slots and snapshots anew from the good ones, and
    /// deletes bundles and records that cannot be read. The objects it has mended.
    ///
    /// # Errors
    /// [`StoreError::RestoreOnly`], or if the place fails. The good copies are left alone, whatever happens.
    pub fn mend_copies(&self) -> Result<Vec<String>> {
        if self.keys.only_read() {
            return Err(StoreError::RestoreOnly);
        }
        let mut mended = Vec::new();
        self.mend_keys(&mut mended)?;
        self.mend_snapshots(&mut mended)?;
        self.mend_trees(&mut mended)?;
        self.drop_void(&mut mended)?;
        Ok(mended)
    }

    /// Headers and slots.
    fn mend_keys(&self, mended: &mut Vec<String>) -> Result<()> {
        let wrong: Vec<String> =
            examine(&*self.place, &self.header)?.into_iter().map(|(object, _)| object).collect();
        for object in &wrong {
            let [first, second] = HEADER_NAMES;
            let other = match object.as_str() {
                one if one == first => second.to_owned(),
                one if one == second => first.to_owned(),
                slot => match slot.rsplit_once('.') {
                    Some((id, "a")) => format!("{id}.b"),
                    Some((id, "b")) => format!("{id}.a"),
                    // Two that differ: nobody here knows which is right.
                    _ => continue,
                },
            };
            if !wrong.contains(&other) {
                self.rewrite(object, &other, bounds::SMALL)?;
                mended.push(object.clone());
            }
        }
        Ok(())
    }

    fn mend_snapshots(&self, mended: &mut Vec<String>) -> Result<()> {
        for listed in self.snapshots()? {
            let copies = [listed.object.to_string(), format!("spares/{}", listed.object.leaf())];
            let mut bad = None;
            let mut good = None;
            for copy in copies {
                match self.read_snapshot_copy(&listed, &copy) {
                    Ok(_) => good = Some(copy),
                    Err(error) if error.is_unreadable() => bad = Some(copy),
                    Err(error) => return Err(error),
                }
            }
            if let (Some(bad), Some(good)) = (bad, good) {
                self.rewrite(&bad, &good, bounds::SNAPSHOT)?;
                mended.push(bad);
            }
        }
        Ok(())
    }

    /// Containers of trees of which only the second copy is there. The first decides whether a container
    /// is listed, and only what is listed is moved by a reclaim.
    fn mend_trees(&self, mended: &mut Vec<String>) -> Result<()> {
        self.condemn_from_notices(&HashSet::new())?;
        let there: HashSet<ContainerId> =
            self.list_containers()?.into_iter().map(|(id, _)| id).collect();
        let spares = self.place.listing("spares")?.into_iter();
        let orphaned: Vec<ContainerId> =
            spares.filter_map(|spare| ContainerId::parse(Class::Tree, spare.name.leaf())).collect();
        // In this order: whose run is not open any more has been put whole before that.
        let open = self.open_runs()?;
        for id in orphaned {
            let container = self.containers.get(self.containers.number(id, None));
            if there.contains(&id) || open.contains(&id.run) || container.is_condemned() {
                continue;
            }
            let Some(spare) = id.spare()? else { continue };
            let bytes = self.place.fetch(&spare, self.header.layout.longest_container())?;
            let proven = self.prove_container(id, &bytes);
            if proven.is_ok_and(|proven| proven.bad.is_empty() && proven.flaw.is_none()) {
                self.place.create(&id.object()?, &bytes)?;
                mended.push(id.to_string());
            }
        }
        Ok(())
    }

    /// Puts one copy where the other is damaged or missing.
    fn rewrite(&self, bad: &str, good: &str, most: u64) -> Result<()> {
        let bytes = self.place.fetch(&ObjectName::new(good)?, most)?;
        let object = ObjectName::new(bad)?;
        match self.place.delete(&object) {
            Err(error) if !error.is_not_found() => return Err(error.into()),
            _ => {}
        }
        self.place.create(&object, &bytes)?;
        match self.place.fetch(&object, most)? == bytes {
            true => Ok(()),
            false => Err(StoreError::damaged(bad, "it is not what was just written")),
        }
    }

    /// Bundles cost requests where they are missing, and records that cannot be read count for nothing.
    /// Left alone while a run is open, which may be writing one; so is a pin, which counts torn too.
    fn drop_void(&self, mended: &mut Vec<String>) -> Result<()> {
        if !self.open_runs()?.is_empty() {
            return Ok(());
        }
        let listed = self.snapshots()?;
        for (id, _) in self.listed_bundles()? {
            match self.examine_bundle(id, &listed) {
                Err(StoreError::Place(error)) if error.is_not_found() => {}
                Err(error) if error.is_damage() => {
                    self.drop_bundle(id)?;
                    mended.push(id.to_string());
                }
                Err(error) => return Err(error),
                Ok(()) => {}
            }
        }
        for folder in VOID {
            for object in self.place.listing(folder)? {
                let name = object.name.as_str();
                let is_void = !name.ends_with(".pin")
                    && matches!(self.open_record(name), Err(StoreError::Damaged { .. }));
                if is_void {
                    self.place.delete(&object.name)?;
                    mended.push(name.to_owned());
                }
            }
        }
        Ok(())
    }
}
