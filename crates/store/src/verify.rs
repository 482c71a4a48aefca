//! Proving a store: that everything listed snapshots need is there, and that its bytes are the
//! ones that were written.

use std::{
    collections::{HashMap, HashSet},
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
};

use skellin_place::{Extent, ObjectName};

use crate::{
    catalog::Found,
    control::ContainerRun,
    error::{Result, StoreError},
    ids::{Class, ContainerId, Fingerprint, Prefix, RunId},
    opening::{self, passes_over},
    snapshot::{ListedSnapshot, Snapshot},
    store::{ProvenContents, Store},
    tree::{Body, Entries, Item, PageRef, Recipe},
};

/// How much of the data is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DataShare {
    /// None: structure only.
    None,
    /// A random choice of so many percent of the containers.
    Percent(u8),
    /// Every container.
    All,
}

/// A file that damage touches.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TouchedFile {
    /// The snapshot.
    pub snapshot: RunId,
    /// The full path on the machine.
    pub path: Vec<u8>,
}

/// One piece of damage.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Damage {
    /// The object at the place.
    pub object: String,
    /// Where in it, if that is known.
    pub offset: Option<u64>,
    /// What is wrong.
    pub why: String,
    /// The files it touches; with another good copy of their content, none.
    pub files: Vec<TouchedFile>,
}

/// What a verification found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct VerifyReport {
    /// Snapshots whose structure was walked.
    pub snapshots: u64,
    /// Containers at the place.
    pub containers: u64,
    /// Bytes of containers that were read whole.
    pub bytes_read: u64,
    /// What is wrong.
    pub damage: Vec<Damage>,
}

/// How far a verification is.
#[derive(Clone, Copy, Debug)]
pub struct VerifyProgress {
    /// Containers proved.
    pub containers_done: usize,
    /// Containers to prove.
    pub containers: usize,
    /// Bytes read.
    pub bytes: u64,
}

/// Something that interrupts long work, and hears how far it is.
pub trait VerifyWatch: Sync {
    /// Whether to stop.
    fn is_cancelled(&self) -> bool;
    /// Told now and then.
    fn progress(&self, progress: VerifyProgress);
}

/// What is wrong, by object; and the contents of which no good copy was found, by the number of
/// what is to blame.
#[derive(Default)]
struct Findings {
    damage: Vec<Damage>,
    bad: HashMap<Prefix, usize>,
}

impl Findings {
    fn note(&mut self, object: impl Into<String>, offset: Option<u64>, why: String) -> usize {
        self.damage.push(Damage { object: object.into(), offset, why, files: Vec::new() });
        self.damage.len() - 1
    }

    fn lose(&mut self, prefix: Prefix, object: String, why: String) {
        if self.bad.contains_key(&prefix) {
            return;
        }
        let known = self.damage.iter().position(|damage| damage.object == object);
        let cause = known.unwrap_or_else(|| self.note(object, None, why));
        self.bad.insert(prefix, cause);
    }
}

impl Store {
    /// Proves the store: all copies of everything but data, of which a share is read. What cannot
    /// be read is damage, and the rest is proven all the same.
    ///
    /// # Errors
    /// If the place fails as a whole, or the work is cancelled. Damage is no error but in the
    /// report.
    pub fn verify(&self, share: DataShare, watch: &dyn VerifyWatch) -> Result<VerifyReport> {
        let mut found = Findings::default();
        for (object, why) in opening::examine(&*self.place, &self.header)? {
            found.note(object, None, why);
        }
        self.condemn_from_notices(&HashSet::new())?;
        let index = self.load_index_now()?;
        // What a run that did not end has left behind may be torn: that is no damage.
        let open = self.open_runs()?;
        self.verify_records(&mut found)?;
        let snapshots = self.verify_snapshots(&mut found)?;
        let mut needed = HashSet::new();
        for (_, snapshot) in &snapshots {
            needed.extend(ContainerRun::spread(&snapshot.containers)?);
        }
        self.verify_segments(&index, &needed, &open, &mut found)?;
        let copies = self.copies(&index)?;
        let chosen = choose(&copies, share);
        let (proved, bytes_read) = self.prove_all(&chosen, watch)?;
        self.weigh(&copies, proved, (&needed, &open), &mut found)?;
        self.walk_structure(&snapshots, &mut found, watch)?;
        self.name_files(&snapshots, &mut found, watch)?;
        for damage in &mut found.damage {
            damage.files.sort_by(|a, b| (&a.path, a.snapshot).cmp(&(&b.path, b.snapshot)));
            damage.files.dedup();
        }
        Ok(VerifyReport {
            snapshots: snapshots.len() as u64,
            containers: index.containers.len() as u64,
            bytes_read,
            damage: found.damage,
        })
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
            found.note(name.as_str(), None, "its name does not open".to_owned());
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
                let why = "its totals are not those of its tree".to_owned();
                found.note(listed.object.as_str(), None, why);
            }
            snapshots.push((listed, snapshot));
        }
        Ok(snapshots)
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
            match self.segment_at_place(id) {
                // Merged since it was listed.
                Err(StoreError::Place(error)) if error.is_not_found() => {}
                Err(error) if error.is_unreadable() => {
                    // Without its copy in the cache the next run notices, and writes it again.
                    self.forget_cached(id);
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
            let why =
                format!("a segment is missing: {lost} containers that snapshots need are in none");
            found.note("index", None, why);
        }
        Ok(())
    }

    /// The copies of containers that are there, or should be.
    fn copies(&self, index: &Found) -> Result<Vec<Copy>> {
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

    /// What the proofs of copies mean for contents: one is bad if no copy of it is good.
    fn weigh(
        &self,
        copies: &[Copy],
        proved: Vec<Proved>,
        (needed, open): (&HashSet<ContainerId>, &HashSet<RunId>),
        found: &mut Findings,
    ) -> Result<()> {
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
                    }
                    bad.entry(copy.id).or_default().push(Some(proven.bad.into_iter().collect()));
                }
                Err(error) => {
                    if matters(&copy.id) {
                        let cause = found.note(copy.object.as_str(), None, error.in_short());
                        blame.entry(copy.id).or_insert(cause);
                        if error.is_damage() {
                            self.suspect(copy.id, &error.in_short());
                        }
                    }
                    bad.entry(copy.id).or_default().push(None);
                }
            }
        }
        // A container that a reclaim has deleted is missed only where its content is.
        let mut gone = HashSet::new();
        for id in needed.iter().filter(|id| !there.contains(&(**id, false))) {
            if there.contains(&(*id, true)) {
                let cause = found.note(id.to_string(), None, "it is not there".to_owned());
                blame.entry(*id).or_insert(cause);
            } else {
                gone.insert(*id);
            }
            bad.entry(*id).or_default().push(None);
        }
        for id in expected_spares.iter().filter(|id| !there.contains(&(**id, true))) {
            let object = id.spare()?.map_or_else(String::new, |object| object.to_string());
            let why = "it is not there".to_owned();
            let cause = found.note(object, None, why.clone());
            blame.entry(*id).or_insert(cause);
            self.suspect(*id, &why);
            bad.entry(*id).or_default().push(None);
        }
        self.find_lost(&bad, (blame, gone), found)
    }

    /// The contents that are bad in every copy of every container they lie in.
    fn find_lost(
        &self,
        bad: &HashMap<ContainerId, Vec<Option<HashMap<Prefix, u64>>>>,
        (mut blame, gone): (HashMap<ContainerId, usize>, HashSet<ContainerId>),
        found: &mut Findings,
    ) -> Result<()> {
        let is_bad = |id: &ContainerId, prefix: &Prefix| {
            bad.get(id).is_some_and(|copies| {
                copies.iter().all(|copy| copy.as_ref().is_none_or(|bad| bad.contains_key(prefix)))
            })
        };
        let numbers: HashSet<_> =
            blame.keys().chain(&gone).map(|id| self.containers.number(*id, None)).collect();
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
                let note = || found.note(id.to_string(), None, "it is not there".to_owned());
                let cause = *blame.entry(id).or_insert_with(note);
                found.bad.entry(prefix).or_insert(cause);
            }
        }
        Ok(())
    }

    /// Walks every page of every snapshot once, for what is missing or cannot be read.
    fn walk_structure(
        &self,
        snapshots: &[(ListedSnapshot, Snapshot)],
        found: &mut Findings,
        watch: &dyn VerifyWatch,
    ) -> Result<()> {
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
            stack.extend(content.pages);
            let mut items = content.items;
            for entry in content.entries {
                match entry.body {
                    Body::File { recipe: Recipe::Inline(few), .. } => items.extend(few),
                    Body::File { recipe: Recipe::Paged(page), .. } => stack.push(page),
                    Body::Directory { root, .. } => stack.push(root),
                    _ => {}
                }
            }
            for item in items {
                if let Item::Chunk(chunk) = item
                    && !self.is_there(&chunk.fingerprint)
                {
                    let object = self.where_lies(&chunk.fingerprint);
                    let why = "the content is in no container that is there".to_owned();
                    found.lose(chunk.fingerprint.prefix(), object, why);
                }
            }
        }
        Ok(())
    }

    fn is_there(&self, fingerprint: &Fingerprint) -> bool {
        let there = |number| self.containers.get(number).is_there();
        self.index.find_where(&fingerprint.prefix(), there).is_some()
    }

    /// The container that has, or had, a content.
    fn where_lies(&self, fingerprint: &Fingerprint) -> String {
        let location = self.index.find_where(&fingerprint.prefix(), |_| true);
        match location {
            Some(location) => self.containers.get(location.container).id.to_string(),
            None => "no container".to_owned(),
        }
    }

    /// Reads and proves copies of containers, on as many threads as there are processors.
    fn prove_all(&self, chosen: &[Copy], watch: &dyn VerifyWatch) -> Result<(Vec<Proved>, u64)> {
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

    /// Finds the files that damaged contents touch.
    fn name_files(
        &self,
        snapshots: &[(ListedSnapshot, Snapshot)],
        found: &mut Findings,
        watch: &dyn VerifyWatch,
    ) -> Result<()> {
        if found.bad.is_empty() {
            return Ok(());
        }
        let Findings { damage, bad } = found;
        let mut clean: HashSet<Fingerprint> = HashSet::new();
        for (_, snapshot) in snapshots {
            let mut report = |cause: usize, path: Vec<u8>| {
                let file = TouchedFile { snapshot: snapshot.run, path };
                damage[cause].files.push(file);
            };
            for source in &snapshot.sources {
                let root = match self.entry(snapshot.root_page(self), &source.name) {
                    Ok(Some(entry)) => entry,
                    Ok(None) => continue,
                    Err(error) if error.is_unreadable() => {
                        let cause =
                            bad.get(&snapshot.root.prefix()).or_else(|| bad.values().next());
                        if let Some(cause) = cause {
                            report(*cause, source.path.to_vec());
                        }
                        continue;
                    }
                    Err(error) => return Err(error),
                };
                let path = source.path.to_vec();
                self.name_below(root.body, path, bad, &mut clean, &mut report, watch)?;
            }
        }
        Ok(())
    }

    fn name_below(
        &self,
        body: Body,
        path: Vec<u8>,
        bad: &HashMap<Prefix, usize>,
        clean: &mut HashSet<Fingerprint>,
        report: &mut dyn FnMut(usize, Vec<u8>),
        watch: &dyn VerifyWatch,
    ) -> Result<()> {
        struct Frame<'s> {
            root: Fingerprint,
            entries: Entries<'s>,
            path: Vec<u8>,
            touched: bool,
        }
        let mut frames: Vec<Frame<'_>> = Vec::new();
        let mut next = Some((body, path));
        loop {
            if watch.is_cancelled() {
                return Err(StoreError::Cancelled);
            }
            match next.take() {
                Some((Body::Directory { root, .. }, path))
                    if !clean.contains(&root.fingerprint) =>
                {
                    let (root, entries) = (root.fingerprint, self.entries(root));
                    frames.push(Frame { root, entries, path, touched: false });
                }
                Some((Body::File { recipe, .. }, path)) => {
                    if let Some(cause) = self.bad_item(&recipe, bad)? {
                        report(cause, path);
                        frames.iter_mut().for_each(|frame| frame.touched = true);
                    }
                }
                _ => {}
            }
            let Some(frame) = frames.last_mut() else { return Ok(()) };
            match frame.entries.next_entry() {
                Ok(Some(entry)) => {
                    next = Some((entry.body, [&frame.path[..], b"/", &entry.name].concat()));
                }
                Ok(None) => {
                    if !frame.touched {
                        clean.insert(frame.root);
                    }
                    frames.pop();
                }
                Err(error) if error.is_unreadable() => {
                    // Everything in the unreadable page: named by the directory.
                    let cause = bad.get(&frame.root.prefix()).or_else(|| bad.values().next());
                    if let Some(cause) = cause {
                        report(*cause, frame.path.clone());
                    }
                    frames.iter_mut().for_each(|frame| frame.touched = true);
                    frames.pop();
                }
                Err(error) => return Err(error),
            }
        }
    }

    fn bad_item(&self, recipe: &Recipe, bad: &HashMap<Prefix, usize>) -> Result<Option<usize>> {
        if let Recipe::Paged(page) = recipe
            && let Some(cause) = bad.get(&page.fingerprint.prefix())
        {
            return Ok(Some(*cause));
        }
        for item in self.items(recipe) {
            match item {
                Ok(Item::Chunk(chunk)) => {
                    if let Some(cause) = bad.get(&chunk.fingerprint.prefix()) {
                        return Ok(Some(*cause));
                    }
                }
                Ok(Item::Hole(_)) => {}
                // A page in between, which the walk has noted.
                Err(error) if error.is_unreadable() => return Ok(bad.values().next().copied()),
                Err(error) => return Err(error),
            }
        }
        Ok(None)
    }
}

/// One copy of a container.
#[derive(Clone)]
struct Copy {
    id: ContainerId,
    object: ObjectName,
    is_spare: bool,
}

type Proved = (Copy, Result<ProvenContents>);

/// The copies to read: all of trees, and the chosen share of the data.
fn choose(present: &[Copy], share: DataShare) -> Vec<Copy> {
    let percent = match share {
        DataShare::None => 0,
        DataShare::All => 100,
        DataShare::Percent(percent) => u32::from(percent.min(100)),
    };
    let mut random = [0; 8];
    // Without random numbers the same share is read each time, which is no worse than none.
    let _ = getrandom::fill(&mut random);
    let chosen = |id: &ContainerId| {
        let hash =
            blake3::Hasher::new().update(&random).update(id.to_string().as_bytes()).finalize();
        u32::from(u16::from_le_bytes([hash.as_bytes()[0], hash.as_bytes()[1]])) * 100
            < percent * 65_536
    };
    let copies = present.iter().filter(|copy| copy.id.class == Class::Tree || chosen(&copy.id));
    copies.cloned().collect()
}
