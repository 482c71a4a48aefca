//! What a run compares its sources with: the last snapshot of the same plan and machine, and what
//! interrupted runs since had finished.

use std::{
    collections::{HashMap, HashSet},
    sync::{Arc, Mutex, PoisonError},
};

use skellin_place::ObjectName;

use crate::{
    containers::{Location, Standing},
    error::{Result, StoreError},
    format::ids::{Class, ContainerId, Fingerprint, Lineage, RunId},
    index::{Found, Listing, SegmentDraft, SegmentId},
    mistakes::{Mistake, is_made},
    records::{
        control::{ContainerRun, Notice, RunRecord},
        snapshot::{ListedSnapshot, Order, Snapshot},
    },
    store::Store,
    tree::{Body, Gathered, Item, Needs, PageRef, Recipe, Spot, Within},
};

/// Milliseconds after which nobody comes back to a run.
const A_MONTH: i64 = 30 * 24 * 3600 * 1000;
/// How many interrupted runs are looked into.
const MOST_RESUMED: usize = 4;

/// What a run compares with.
pub struct Comparison {
    store: Arc<Store>,
    base: Option<Snapshot>,
    resume: HashMap<Vec<u8>, PageRef>,
    /// Runs that have ended without their snapshot and have a record still.
    dead: Vec<RunId>,
    /// Whether no other run is open, as far as was looked: nobody else is writing.
    is_alone: bool,
    /// What the index does not list but should, and segments that are to be replaced by it.
    unlisted: Mutex<(SegmentDraft, Vec<SegmentId>)>,
}

impl Comparison {
    /// Nothing to compare with.
    pub(crate) fn empty(store: Arc<Store>) -> Self {
        Self {
            store,
            base: None,
            resume: HashMap::new(),
            dead: Vec::new(),
            is_alone: false,
            unlisted: Mutex::default(),
        }
    }

    /// Hands over what the index should list, and the segments it stands for.
    pub(crate) fn take_unlisted(&self) -> (SegmentDraft, Vec<SegmentId>) {
        std::mem::take(&mut *self.unlisted.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Loads the index, the base and what can be resumed, writing nothing at the place. `own` is the
    /// run that asks, `last` the snapshot of the run before it. Handed back as well: damage that does
    /// not hinder.
    ///
    /// The victims of notices have been taken out of use before: the containers are listed here,
    /// and a notice that is gone by now has had its victims deleted, which the listing shows.
    pub(crate) fn load(
        store: &Arc<Store>,
        lineage: Lineage,
        own: Option<&RunRecord>,
        last: Option<&ListedSnapshot>,
    ) -> Result<(Self, Vec<StoreError>)> {
        store.compare_trees();
        let Found { damage: mut warnings, containers: listed, unlisted, broken_segments } =
            store.load_index_now(Listing::Beside)?;
        let mut comparison = Self::empty(Arc::clone(store));
        comparison.unlisted = Mutex::new((unlisted, broken_segments));
        let clean = store.nearby.last_clean(lineage);
        if own.is_some() {
            store.nearby.begin(lineage);
        }
        if let Some(listed) = last {
            match store.read_snapshot(listed) {
                Ok(snapshot) => comparison.base = Some(snapshot),
                // Without a base everything is read again, and the content is found in the index.
                Err(error) if error.is_damage() => warnings.push(error),
                Err(error) => return Err(error),
            }
        }
        // The run before has ended well, and was the last: nothing was interrupted since.
        if clean.is_none() || clean != last.map(|last| last.run) {
            let since = last.map_or(Order(i64::MIN), |last| last.order);
            comparison.find_resume_points(
                lineage,
                own,
                (since, last.map(|last| last.run)),
                listed,
            )?;
        }
        Ok((comparison, warnings))
    }

    /// As a run would see it, for a dry run: nothing is announced and nothing answered.
    ///
    /// # Errors
    /// If the place fails.
    pub fn dry_run(store: &Arc<Store>, plan: &str, machine: &str) -> Result<Self> {
        store.condemn_from_notices(&HashSet::new())?;
        let lineage = store.lineage(plan, machine);
        let (last, _) = store.last_of(lineage, store.nearby.last_clean(lineage))?;
        let (comparison, _) = Self::load(store, lineage, None, last.as_ref())?;
        Ok(comparison)
    }

    /// Directories that interrupted runs of the same plan had finished.
    fn find_resume_points(
        &mut self,
        lineage: Lineage,
        own: Option<&RunRecord>,
        (since, last): (Order, Option<RunId>),
        listed: Vec<(ContainerId, u64)>,
    ) -> Result<()> {
        let mut interrupted = Vec::new();
        self.is_alone = true;
        let own_name = own.map(|own| format!("runs/{}", own.run));
        for object in self.store.place.listing("runs")? {
            if Some(object.name.as_str()) == own_name.as_deref() {
                continue;
            }
            match self.store.get_record::<RunRecord>(object.name.as_str()) {
                Ok(record) => {
                    match own.is_some_and(|own| has_ended(&record, own)) {
                        true => self.dead.push(record.run),
                        false => self.is_alone = false,
                    }
                    if record.lineage == lineage {
                        interrupted.push(record);
                    }
                }
                // Settled since it was listed, torn by a crash, or not for this account to read.
                Err(error) if error.is_unreadable() => self.is_alone = false,
                Err(error) => return Err(error),
            }
        }
        // The last run has its snapshot; only its record is left.
        interrupted.retain(|record| record.order >= since.0 && Some(record.run) != last);
        interrupted.sort_by_key(|record| record.order);
        let skipped = interrupted.len().saturating_sub(MOST_RESUMED);
        let runs: Vec<RunId> = interrupted[skipped..].iter().map(|record| record.run).collect();
        let mut containers = listed;
        containers.retain(|(id, _)| id.class == Class::Tree && runs.contains(&id.run));
        containers.sort_by_key(|(id, _)| (runs.iter().position(|run| *run == id.run), id.sequence));
        for (id, size) in containers {
            match self.store.read_directory(id, size) {
                Ok(directory) => self.resume.extend(
                    directory
                        .checkpoints
                        .into_iter()
                        .map(|point| (Vec::from(point.path), PageRef::unplaced(point.root))),
                ),
                Err(error) if error.is_damage() => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// The snapshot the run compares with.
    #[must_use]
    pub fn base(&self) -> Option<&Snapshot> {
        self.base.as_ref()
    }

    /// The tree of a directory as an interrupted run had stored it.
    #[must_use]
    pub fn resume_point(&self, path: &[u8]) -> Option<PageRef> {
        self.resume.get(path).copied()
    }

    /// Runs that have ended without their snapshot and have a record still.
    pub(crate) fn dead(&self) -> &[RunId] {
        &self.dead
    }

    /// Whether nobody else is writing, as far as was looked, so that whatever is half written was left
    /// by the dead.
    pub(crate) fn is_alone(&self) -> bool {
        self.is_alone
    }

    /// Whether there is anything to resume from.
    #[must_use]
    pub fn is_resuming(&self) -> bool {
        !self.resume.is_empty()
    }

    /// Takes over the recipe of an unchanged file if all its content is still where a new
    /// snapshot may refer to it; the hints are mended on the way.
    ///
    /// # Errors
    /// If a page of the recipe cannot be read.
    pub fn take_over(&self, recipe: &mut Recipe) -> Result<bool> {
        match recipe {
            Recipe::Inline(items) => Ok(items.iter_mut().all(|item| self.take_over_item(item))),
            Recipe::Paged(page, needs) => match self.take_over_tree(*page, needs)? {
                Some(mended) => {
                    *needs = mended;
                    Ok(true)
                }
                None => Ok(false),
            },
        }
    }

    /// Takes over a page and everything below it, if all of that is still where a new snapshot may
    /// refer to it; then what it needs. Only where what is needed was not noted, or is partly gone, is
    /// looked into the pages.
    ///
    /// # Errors
    /// If a page cannot be read.
    pub fn take_over_tree(&self, page: PageRef, needs: &Needs) -> Result<Option<Needs>> {
        let mut gathered = Gathered::default();
        let mut stack = vec![(page, needs.clone())];
        while let Some((page, needs)) = stack.pop() {
            if self.claim(&needs) {
                gathered.add(&needs);
                continue;
            }
            let Some(location) = self.store.known_page(&page.fingerprint)? else {
                return Ok(None);
            };
            let spot = Spot::At(location);
            gathered.add_spot(spot);
            let content = match self.store.page_children(&PageRef { spot, ..page }) {
                Ok(content) => content,
                Err(error) if error.is_damage() => return Ok(None),
                Err(error) => return Err(error),
            };
            let mut items = content.items;
            stack.extend(content.pages);
            for entry in content.entries {
                match entry.body {
                    Body::File { recipe: Recipe::Inline(few), .. } => items.extend(few),
                    Body::File { recipe: Recipe::Paged(page, needs), .. } => {
                        stack.push((page, needs));
                    }
                    Body::Directory { root, needs, .. } => stack.push((root, needs)),
                    Body::Link(_) | Body::Pipe | Body::Device { .. } => {}
                }
            }
            for mut item in items {
                if !self.take_over_item(&mut item) {
                    return Ok(None);
                }
                if let Item::Chunk(chunk) = item {
                    gathered.add_spot(chunk.spot);
                }
            }
        }
        Ok(Some(gathered.needs()))
    }

    /// Counts the containers that something needs as used, if they are noted and all may be.
    fn claim(&self, needs: &Needs) -> bool {
        let Some(within) = needs.within() else { return false };
        let container = |within: &Within| match within {
            Within::Container(number) => Some(self.store.containers.get(*number)),
            Within::Block(_) => None,
        };
        let containers: Option<Vec<_>> = within.iter().map(container).collect();
        containers.is_some_and(|containers| {
            is_made(Mistake::BaseNotChecked)
                || containers.iter().all(|container| container.is_usable())
                    && containers.iter().all(|container| container.claim_use())
        })
    }

    /// A page that an earlier run has stored, if it is still where a new snapshot may refer to it.
    ///
    /// # Errors
    /// If the place fails.
    pub fn page(&self, fingerprint: Fingerprint) -> Result<Option<PageRef>> {
        let location = self.store.known_page(&fingerprint)?;
        Ok(location.map(|location| PageRef { fingerprint, spot: Spot::At(location) }))
    }

    fn take_over_item(&self, item: &mut Item) -> bool {
        let Item::Chunk(chunk) = item else { return true };
        if let Spot::At(location) = chunk.spot {
            let container = self.store.containers.get(location.container);
            if is_made(Mistake::BaseNotChecked) || container.is_usable() && container.claim_use() {
                return true;
            }
        }
        match self.store.known(&chunk.fingerprint) {
            Some(location) => {
                chunk.spot = Spot::At(location);
                true
            }
            None => false,
        }
    }
}

/// Whether a run has ended, as far as a later one can know: work of the same origin is done one after
/// the other, and nobody works on one run for a month.
fn has_ended(other: &RunRecord, own: &RunRecord) -> bool {
    let is_ours = own.origin.is_some() && other.origin == own.origin;
    is_ours || other.started < own.started.saturating_sub(A_MONTH)
}

impl Store {
    /// Where the store has a page that can be read, which is then counted as used. Damage that is
    /// met on the way makes another copy count, or none.
    pub(crate) fn known_page(&self, fingerprint: &Fingerprint) -> Result<Option<Location>> {
        while let Some(location) = self.known(fingerprint) {
            if self.proven.contains(&location) {
                return Ok(Some(location));
            }
            match self.block(&location) {
                // With a second copy alone the page is stored again, so that there are two.
                Ok(_) if self.containers.get(location.container).is_usable() => {
                    return Ok(Some(location));
                }
                Ok(_) => {}
                Err(error) if error.is_damage() => self.give_up(location.container, &error),
                Err(error) => return Err(error),
            }
        }
        Ok(None)
    }

    /// Where the store has a content, which is then counted as used.
    pub(crate) fn known(&self, fingerprint: &Fingerprint) -> Option<Location> {
        loop {
            let location = self.index.find(&fingerprint.prefix(), &self.containers)?;
            // Condemned in between: the index names another copy, or none.
            if self.containers.get(location.container).claim_use() {
                return Some(location);
            }
        }
    }

    /// Takes the victims of all notices but the known ones out of use; which notices of reclaims,
    /// that wait for an answer, those are.
    pub(crate) fn condemn_from_notices(
        &self,
        known: &HashSet<ObjectName>,
    ) -> Result<Vec<ObjectName>> {
        let mut found = Vec::new();
        for object in self.place.listing("notices")? {
            if known.contains(&object.name) {
                continue;
            }
            match self.get_record::<Notice>(object.name.as_str()) {
                Ok(notice) => {
                    self.condemn(&notice)?;
                    if notice.is_answered() {
                        found.push(object.name);
                    }
                }
                // Torn, or resolved since: a reclaim counts only notices it could put.
                Err(error) if error.is_damage() => {}
                Err(error) => return Err(error),
            }
        }
        Ok(found)
    }

    /// Takes the victims of a notice out of use.
    pub(crate) fn condemn(&self, notice: &Notice) -> Result<()> {
        if is_made(Mistake::AnswerWithoutStopping) {
            return Ok(());
        }
        for victim in ContainerRun::spread(&notice.victims)? {
            if notice.is_of_damage() {
                self.suspect_by_record(victim);
                continue;
            }
            let number = self.containers.number(victim, None);
            self.containers.get(number).set_standing(Standing::Condemned);
        }
        Ok(())
    }
}
