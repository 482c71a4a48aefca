//! What must hold after each step, told from the objects alone.

use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};

use skellin_place::{MemoryPlace, ObjectName, Place};

use crate::{
    Location, RunId, Store,
    format::ids::{Class, ContainerId, Prefix},
    records::snapshot::ListedSnapshot,
    tree::{Body, Item, PageRef, Recipe, Spot},
};

/// Runs that have ended well, and those of which the snapshots are going to expire.
type Known<'k> = (&'k HashSet<RunId>, &'k HashSet<RunId>);

pub(super) struct Oracle {
    store: Arc<Store>,
    /// What lies in each container that was ever there.
    contents: HashMap<ContainerId, Vec<(Prefix, Location)>>,
    /// Where each content lies now.
    places: HashMap<Prefix, Vec<(ContainerId, Location)>>,
    /// What each snapshot needs.
    needs: HashMap<RunId, Vec<Prefix>>,
}

impl Oracle {
    pub fn new(memory: &MemoryPlace) -> Self {
        let store = super::open(Arc::new(memory.clone())).expect("opens");
        let (contents, places, needs) = Default::default();
        let mut oracle = Self { store, contents, places, needs };
        for folder in ["data", "trees"] {
            for object in memory.listing(folder).expect("lists") {
                oracle.container(memory, &object.name, true);
            }
        }
        oracle
    }

    fn container(&mut self, memory: &MemoryPlace, name: &ObjectName, is_there: bool) {
        let class = if name.folder() == "data" { Class::Data } else { Class::Tree };
        let Some(id) = ContainerId::parse(class, name.leaf()) else { return };
        if is_there && !self.contents.contains_key(&id) {
            let size = memory.fetch(name, 1 << 30).map_or(0, |bytes| bytes.len() as u64);
            let Ok(directory) = self.store.read_directory(id, size) else { return };
            let container = self.store.containers.number(id, Some(&directory.salt));
            let rows = directory.rows.iter().map(|row| {
                let (offset, length) = directory.blocks[usize::from(row.block)];
                let (block, chunk) = (row.block, row.chunk);
                (row.fingerprint.prefix(), Location { container, block, chunk, offset, length })
            });
            self.contents.insert(id, rows.collect());
        }
        for (prefix, at) in self.contents.get(&id).into_iter().flatten() {
            let there = self.places.entry(*prefix).or_default();
            there.retain(|(other, _)| *other != id);
            if is_there {
                there.push((id, *at));
            }
        }
    }

    /// Something was created or deleted.
    pub fn changed(
        &mut self,
        memory: &MemoryPlace,
        name: &ObjectName,
        is_there: bool,
        known: Known<'_>,
    ) -> Result<(), String> {
        match (name.folder(), is_there) {
            ("data" | "trees", true) => {
                self.container(memory, name, true);
                Ok(())
            }
            ("data" | "trees", false) => {
                self.container(memory, name, false);
                self.look(known)
            }
            ("snapshots" | "spares" | "verdicts" | "expired", _) | ("runs", false) => {
                self.look(known)
            }
            _ => Ok(()),
        }
    }

    /// Every listed snapshot is whole, and every run that has ended well is listed.
    pub fn look(&mut self, (ended, expiring): Known<'_>) -> Result<(), String> {
        let listed = self.store.snapshots().map_err(|error| error.to_string())?;
        for one in &listed {
            if !self.needs.contains_key(&one.run) {
                let needs = self.needs_of(one)?;
                self.needs.insert(one.run, needs);
            }
            let is_lost = |prefix: &&Prefix| self.places.get(*prefix).is_none_or(Vec::is_empty);
            if self.needs[&one.run].iter().any(|prefix| is_lost(&prefix)) {
                return Err(format!("the snapshot of run {} is not whole any more", one.run));
            }
        }
        let is_listed = |run: &RunId| listed.iter().any(|one| one.run == *run);
        match ended.iter().find(|run| !expiring.contains(run) && !is_listed(run)) {
            Some(run) => Err(format!("run {run} has ended well and is not listed")),
            None => Ok(()),
        }
    }

    fn needs_of(&self, listed: &ListedSnapshot) -> Result<Vec<Prefix>, String> {
        let snapshot = self.store.read_snapshot(listed).map_err(|error| error.to_string())?;
        let mut needs: Vec<Prefix> =
            Store::pages_of_needed(&snapshot.needed).map(|page| page.prefix()).collect();
        let mut stack = vec![snapshot.root];
        while let Some(page) = stack.pop() {
            let prefix = page.prefix();
            needs.push(prefix);
            let at = self.places.get(&prefix).and_then(|there| there.first());
            let Some((_, at)) = at else {
                return Err(format!("run {} is listed without its tree", listed.run));
            };
            let page = PageRef { fingerprint: page, spot: Spot::At(*at) };
            let content = self.store.page_children(&page).map_err(|error| error.to_string())?;
            stack.extend(content.pages.iter().map(|(page, _)| page.fingerprint));
            let mut items = content.items;
            for entry in content.entries {
                match entry.body {
                    Body::File { recipe: Recipe::Inline(few), .. } => items.extend(few),
                    Body::File { recipe: Recipe::Paged(page, _), .. } => {
                        stack.push(page.fingerprint);
                    }
                    Body::Directory { root, .. } => stack.push(root.fingerprint),
                    Body::Link(_) | Body::Pipe | Body::Device { .. } => {}
                }
            }
            needs.extend(items.iter().filter_map(|item| match item {
                Item::Chunk(chunk) => Some(chunk.fingerprint.prefix()),
                Item::Hole(_) => None,
            }));
        }
        Ok(needs)
    }
}
