//! Whether containers hold what they should, and whether trees are whole.

use std::{
    collections::{HashMap, HashSet},
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
};

use skellin_place::{Extent, ObjectName};

use super::report::{DataShare, Findings, VerifyProgress, VerifyWatch};
use crate::{
    error::{Result, StoreError},
    format::ids::{Class, ContainerId, Fingerprint, Prefix, RunId},
    index::Found,
    mistakes::is_in_turn,
    opening::unlocking::passes_over,
    reading::directories::ProvenContents,
    records::snapshot::{ListedSnapshot, Snapshot},
    store::Store,
    tree::{Body, Item, PageRef, Recipe},
};

impl Store {
    /// The copies of containers that are there, or should be.
    pub(super) fn copies(&self, index: &Found) -> Result<Vec<Copy>> {
        let mut copies: Vec<Copy> = index
            .containers
            .iter()
            .map(|(id, _)| Ok(Copy { id: *id, object: id.object()?, is_spare: false }))
            .collect::<Result<_>>()?;
        for object in self.place.listing("spares")? {
            if let Some(id) = ContainerId::parse(Class::Tree, object.name.leaf()) {
                copies.push(Copy { id, object: object.name, is_spare: true });
            }
        }
        Ok(copies)
    }

    /// Leaves out what a reclaim has deleted since it was listed: what was needed of it lies elsewhere,
    /// which the index knows from then on.
    pub(super) fn without_reclaimed(&self, mut proved: Vec<Proved>) -> Result<Vec<Proved>> {
        let is_gone = |(_, result): &Proved| result.as_ref().is_err_and(StoreError::is_gone);
        if proved.iter().any(is_gone) {
            self.refresh_index()?;
            let left: HashSet<ContainerId> =
                self.list_containers()?.into_iter().map(|(id, _)| id).collect();
            proved.retain(|one| !is_gone(one) || left.contains(&one.0.id));
        }
        Ok(proved)
    }

    /// What the proofs of copies mean for contents: one is bad if no copy of it is good. Handed back:
    /// containers of which only one of two copies is there, with the other.
    pub(super) fn weigh(
        &self,
        copies: &[Copy],
        proved: Vec<Proved>,
        (needed, open): (&HashSet<ContainerId>, &HashSet<RunId>),
        found: &mut Findings,
    ) -> Result<Vec<(ContainerId, String)>> {
        let covered = self.index.covered();
        let matters = |id: &ContainerId| {
            needed.contains(id) || (covered.contains(id) && !open.contains(&id.run))
        };
        // For each container what is bad in each copy; `None`: the whole copy.
        let mut bad: HashMap<ContainerId, Vec<Option<HashMap<Prefix, u64>>>> = HashMap::new();
        let mut blame: HashMap<ContainerId, usize> = HashMap::new();
        let there: HashSet<(ContainerId, bool)> =
            copies.iter().map(|copy| (copy.id, copy.is_spare)).collect();
        let mut expected_spares = HashSet::new();
        for (copy, result) in proved {
            match result {
                Ok(proven) => {
                    if proven.has_spare {
                        expected_spares.insert(copy.id);
                    }
                    if let Some((_, offset)) = proven.bad.first() {
                        let why = "the content does not match its fingerprint".to_owned();
                        let cause = found.note(copy.object.as_str(), Some(*offset), why.clone());
                        blame.entry(copy.id).or_insert(cause);
                        self.suspect(copy.id, &why);
                    } else if let Some(flaw) = proven.flaw {
                        found.note(copy.object.as_str(), None, flaw.to_owned());
                        self.suspect(copy.id, flaw);
                    }
                    let left = match proven.bad.is_empty() || !self.is_mended(copy.id)? {
                        true => proven.bad.into_iter().collect(),
                        false => HashMap::new(),
                    };
                    bad.entry(copy.id).or_default().push(Some(left));
                }
                Err(error) => {
                    if matters(&copy.id) {
                        let cause = found.note(copy.object.as_str(), None, error.in_short());
                        blame.entry(copy.id).or_insert(cause);
                        if error.is_damage() {
                            self.suspect(copy.id, &error.in_short());
                        }
                    }
                    let mended = error.is_damage() && self.is_mended(copy.id)?;
                    bad.entry(copy.id).or_default().push(mended.then(HashMap::new));
                }
            }
        }
        // A container that a reclaim has deleted is missed only where its content is needed, which the
        // walk through the trees finds.
        let mut halved = Vec::new();
        for id in needed.iter().filter(|id| !there.contains(&(**id, false))) {
            if there.contains(&(*id, true)) {
                halved.push((*id, id.to_string()));
            }
            bad.entry(*id).or_default().push(None);
        }
        for id in expected_spares.iter().filter(|id| !there.contains(&(**id, true))) {
            let object = id.spare()?.map_or_else(String::new, |object| object.to_string());
            halved.push((*id, object));
            bad.entry(*id).or_default().push(None);
        }
        self.find_lost(&bad, blame, found)?;
        Ok(halved)
    }

    /// Whether the parity of a container makes up for all that is damaged in it.
    fn is_mended(&self, id: ContainerId) -> Result<bool> {
        match self.mended(id) {
            Ok(None) => Ok(false),
            Ok(Some(bytes)) => {
                let proven = self.prove_container(id, &bytes);
                Ok(proven.is_ok_and(|proven| proven.bad.is_empty()))
            }
            Err(error) if error.is_unreadable() => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// Of containers only one of two copies is there: damage, unless all that is needed of them lies
    /// elsewhere too, so that a reclaim may have deleted the other. `seen`: the pages that snapshots need.
    pub(super) fn note_halved(
        &self,
        halved: &[(ContainerId, String)],
        seen: &HashSet<Prefix>,
        found: &mut Findings,
    ) -> Result<()> {
        let numbers = halved.iter().map(|(id, _)| self.containers.number(*id, None)).collect();
        let mut last = HashSet::new();
        self.index.contents_of(&numbers, &mut |number, record, _| {
            let there = |other| other != number && self.containers.get(other).is_there();
            if seen.contains(&record.prefix)
                && self.index.find_where(&record.prefix, there).is_none()
            {
                last.insert(self.containers.get(number).id);
            }
        })?;
        for (id, object) in halved.iter().filter(|(id, _)| last.contains(id)) {
            let why = "it does not exist".to_owned();
            self.suspect(*id, &why);
            found.note(object.clone(), None, why);
        }
        Ok(())
    }

    /// The contents that are bad in every copy of every container they lie in.
    pub(super) fn find_lost(
        &self,
        bad: &HashMap<ContainerId, Vec<Option<HashMap<Prefix, u64>>>>,
        mut blame: HashMap<ContainerId, usize>,
        found: &mut Findings,
    ) -> Result<()> {
        let is_bad = |id: &ContainerId, prefix: &Prefix| {
            bad.get(id).is_some_and(|copies| {
                copies.iter().all(|copy| copy.as_ref().is_none_or(|bad| bad.contains_key(prefix)))
            })
        };
        let numbers: HashSet<_> =
            blame.keys().map(|id| self.containers.number(*id, None)).collect();
        let mut lost: Vec<(Prefix, ContainerId)> = Vec::new();
        self.index.contents_of(&numbers, &mut |number, record, _| {
            let id = self.containers.get(number).id;
            if is_bad(&id, &record.prefix) {
                lost.push((record.prefix, id));
            }
        })?;
        for (prefix, id) in lost {
            let good = self.index.find_where(&prefix, |number| {
                let container = self.containers.get(number);
                container.is_there() && !is_bad(&container.id, &prefix)
            });
            if good.is_none() {
                let note = || found.note(id.to_string(), None, "it does not exist".to_owned());
                let cause = *blame.entry(id).or_insert_with(note);
                found.bad.entry(prefix).or_insert(cause);
            }
        }
        Ok(())
    }

    /// Walks every page of every snapshot once, for what is missing or cannot be read; the pages.
    pub(super) fn walk_structure(
        &self,
        snapshots: &[(ListedSnapshot, Snapshot)],
        found: &mut Findings,
        watch: &dyn VerifyWatch,
    ) -> Result<HashSet<Prefix>> {
        let mut seen: HashSet<Prefix> = HashSet::new();
        let mut stack: Vec<PageRef> =
            snapshots.iter().map(|(_, snapshot)| snapshot.root_page(self)).collect();
        while let Some(page) = stack.pop() {
            if watch.is_cancelled() {
                return Err(StoreError::Cancelled);
            }
            if !seen.insert(page.fingerprint.prefix()) {
                continue;
            }
            let content = match self.page_children(&page) {
                Ok(content) => content,
                Err(error) if error.is_unreadable() => {
                    let object = self.where_lies(&page.fingerprint);
                    found.lose(page.fingerprint.prefix(), object, error.in_short());
                    continue;
                }
                Err(error) => return Err(error),
            };
            stack.extend(content.pages.into_iter().map(|(page, _)| page));
            let mut items = content.items;
            for entry in content.entries {
                match entry.body {
                    Body::File { recipe: Recipe::Inline(few), .. } => items.extend(few),
                    Body::File { recipe: Recipe::Paged(page, _), .. } => stack.push(page),
                    Body::Directory { root, .. } => stack.push(root),
                    _ => {}
                }
            }
            for item in items {
                if let Item::Chunk(chunk) = item
                    && !self.is_there(&chunk.fingerprint)
                {
                    let object = self.where_lies(&chunk.fingerprint);
                    found.lose(chunk.fingerprint.prefix(), object, "it does not exist".to_owned());
                }
            }
        }
        Ok(seen)
    }

    pub(super) fn is_there(&self, fingerprint: &Fingerprint) -> bool {
        let there = |number| self.containers.get(number).is_there();
        self.index.find_where(&fingerprint.prefix(), there).is_some()
    }

    /// The container that has, or had, a content.
    pub(super) fn where_lies(&self, fingerprint: &Fingerprint) -> String {
        let location = self.index.find_where(&fingerprint.prefix(), |_| true);
        match location {
            Some(location) => self.containers.get(location.container).id.to_string(),
            None => "no container".to_owned(),
        }
    }

    /// Reads and proves copies of containers, on as many threads as there are processors.
    pub(super) fn prove_all(
        &self,
        chosen: &[Copy],
        watch: &dyn VerifyWatch,
    ) -> Result<(Vec<Proved>, u64)> {
        let (next, proved) = (AtomicUsize::new(0), Mutex::new((Vec::new(), 0u64)));
        let prove = || -> Result<()> {
            let mut bytes = Vec::new();
            while let Some(copy) = chosen.get(next.fetch_add(1, Ordering::Relaxed)) {
                if watch.is_cancelled() {
                    return Err(StoreError::Cancelled);
                }
                let mut read = || -> Result<ProvenContents> {
                    let extent = Extent::Within(self.header.layout.longest_container());
                    self.place.read(&copy.object, extent, &mut bytes)?;
                    self.prove_container(copy.id, &bytes)
                };
                let result = match read() {
                    // The line may have changed it, not the place.
                    Err(StoreError::Damaged { .. }) if self.place.is_far() => read(),
                    Ok(proven) if !proven.bad.is_empty() && self.place.is_far() => read(),
                    other => other,
                };
                let result = match result {
                    Err(error) if !passes_over(&error) => return Err(error),
                    other => other,
                };
                let mut proved = proved.lock().unwrap_or_else(PoisonError::into_inner);
                proved.1 += bytes.len() as u64;
                proved.0.push((copy.clone(), result));
                watch.progress(VerifyProgress {
                    containers_done: proved.0.len(),
                    containers: chosen.len(),
                    bytes: proved.1,
                });
            }
            Ok(())
        };
        let threads = std::thread::available_parallelism().map_or(1, |count| count.get().min(4));
        if is_in_turn() {
            prove()?;
        }
        std::thread::scope(|scope| {
            let workers: Vec<_> = (0..threads).map(|_| scope.spawn(prove)).collect();
            workers.into_iter().try_for_each(|worker| {
                worker
                    .join()
                    .unwrap_or_else(|_| Err(StoreError::Stopped("a thread panicked".to_owned())))
            })
        })?;
        Ok(proved.into_inner().unwrap_or_else(PoisonError::into_inner))
    }
}

/// One copy of a container.
#[derive(Clone)]
pub(super) struct Copy {
    id: ContainerId,
    object: ObjectName,
    is_spare: bool,
}

pub(super) type Proved = (Copy, Result<ProvenContents>);

/// The copies to read: all of trees, and the chosen share of the data, in which no container is read
/// again before all others were.
pub(super) fn choose(
    present: &[Copy],
    sizes: &[(ContainerId, u64)],
    share: DataShare,
    last: &dyn Fn(&ContainerId) -> Option<i64>,
) -> Vec<Copy> {
    let percent = match share {
        DataShare::None => 0,
        DataShare::All => 100,
        DataShare::Percent(percent) => u64::from(percent.min(100)),
    };
    let mut random = [0; 8];
    // Without random numbers those without a proof come in the order of their names.
    let _ = getrandom::fill(&mut random);
    let shuffled = |id: &ContainerId| {
        let hash =
            blake3::Hasher::new().update(&random).update(id.to_string().as_bytes()).finalize();
        let mut rank = [0; 8];
        rank.copy_from_slice(&hash.as_bytes()[..8]);
        rank
    };
    let data = sizes.iter().filter(|(id, _)| id.class == Class::Data);
    let mut data: Vec<_> = data.map(|(id, size)| (last(id), shuffled(id), *id, *size)).collect();
    data.sort_unstable_by_key(|(last, rank, ..)| (*last, *rank));
    let all: u128 = data.iter().map(|(.., size)| u128::from(*size)).sum();
    let wanted = all * u128::from(percent);
    let (mut chosen, mut bytes) = (HashSet::new(), 0u128);
    for (.., id, size) in data {
        if bytes * 100 >= wanted {
            break;
        }
        bytes += u128::from(size);
        chosen.insert(id);
    }
    let is_chosen =
        |copy: &&Copy| copy.id.class == Class::Tree || percent == 100 || chosen.contains(&copy.id);
    present.iter().filter(is_chosen).cloned().collect()
}

/// Containers of data with their bytes.
pub(super) fn data_of(containers: &[(ContainerId, u64)]) -> Vec<(ContainerId, u64)> {
    containers.iter().filter(|(id, _)| id.class == Class::Data).copied().collect()
}

/// Containers of data that were read and are what was written.
pub(super) fn proven_data(proved: &[Proved]) -> Vec<ContainerId> {
    let is_good = |(copy, result): &&Proved| {
        copy.id.class == Class::Data
            && result.as_ref().is_ok_and(|proven| proven.bad.is_empty() && proven.flaw.is_none())
    };
    proved.iter().filter(is_good).map(|(copy, _)| copy.id).collect()
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use proptest::prelude::*;

    use super::*;

    fn container(number: u32) -> ContainerId {
        ContainerId { class: Class::Data, run: RunId([number as u8; 16]), sequence: number }
    }

    proptest! {
        /// A share, again and again, comes to every byte in as few runs as its size allows.
        #[test]
        fn shares_come_round(
            sizes in prop::collection::vec(1u64..1000, 1..60), percent in 1u8..=100,
        ) {
            let containers: Vec<(ContainerId, u64)> = sizes
                .iter()
                .enumerate()
                .map(|(number, size)| (container(number as u32), *size))
                .collect();
            let copies: Vec<Copy> = containers
                .iter()
                .map(|(id, _)| Copy { id: *id, object: id.object().expect("a name"), is_spare: false })
                .collect();
            let mut proven: HashMap<ContainerId, i64> = HashMap::new();
            let runs = 100u32.div_ceil(u32::from(percent));
            for run in 0..runs {
                let share = DataShare::Percent(percent);
                let last = |id: &ContainerId| proven.get(id).copied();
                let chosen = choose(&copies, &containers, share, &last);
                let bytes: u64 = chosen
                    .iter()
                    .map(|copy| sizes[copy.id.sequence as usize])
                    .sum();
                let all: u64 = sizes.iter().sum();
                let largest = sizes.iter().max().copied().unwrap_or(0);
                prop_assert!(bytes * 100 >= all * u64::from(percent));
                prop_assert!(bytes.saturating_sub(largest) * 100 <= all * u64::from(percent), "no more than asked for");
                proven.extend(chosen.iter().map(|copy| (copy.id, i64::from(run))));
            }
            prop_assert_eq!(proven.len(), containers.len(), "after {} runs", runs);
            let none = choose(&copies, &containers, DataShare::None, &|_| None);
            prop_assert!(none.is_empty());
        }
    }
}
