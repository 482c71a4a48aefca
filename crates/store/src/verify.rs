//! Proving a store: that everything listed snapshots need is there, and that its bytes are the
//! ones that were written.

use std::{
    collections::{BTreeMap, HashMap, HashSet},
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
};

use crate::{
    containers::Standing,
    error::{Result, StoreError},
    ids::{Class, ContainerId, Fingerprint, Prefix, RunId},
    snapshot::{ListedSnapshot, Snapshot},
    store::Store,
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

/// Where damage lies, and what is wrong.
type Cause = (String, Option<u64>, String);
/// Damaged contents.
type Bad = HashMap<Prefix, Cause>;

impl Store {
    /// Proves the store.
    ///
    /// # Errors
    /// If the place fails, or the work is cancelled. Damage is no error but in the report.
    pub fn verify(&self, share: DataShare, watch: &dyn VerifyWatch) -> Result<VerifyReport> {
        let mut report = VerifyReport::default();
        let mut damage = |object: String, why: String| {
            report.damage.push(Damage { object, offset: None, why, files: Vec::new() });
        };
        let listed: HashSet<String> =
            self.snapshots()?.iter().map(|snapshot| snapshot.run.to_string()).collect();
        for error in self.load_index_now()?.0 {
            // A container without a trailer, or a torn segment of a run that was never finished, is
            // what a crash leaves behind. If anything needs it, the walk below says so.
            if let StoreError::Damaged { object, why } = error
                && let Some(segment) = object.strip_prefix("index/")
                && segment.split('-').next().is_some_and(|run| listed.contains(run))
            {
                damage(object, why);
            }
        }
        for name in self.unreadable_names()? {
            damage(name.to_string(), "its name does not open".to_owned());
        }
        let mut snapshots = Vec::new();
        for listed in self.snapshots()? {
            for copy in [listed.object.to_string(), format!("spares/{}", listed.object.leaf())] {
                match self.read_snapshot_copy(&listed, &copy) {
                    Ok(_) => {}
                    Err(StoreError::Damaged { why, .. }) => damage(copy, why),
                    Err(error) if error.is_damage() => damage(copy, error.to_string()),
                    Err(error) => return Err(error),
                }
            }
            if let Ok(snapshot) = self.read_snapshot(&listed) {
                snapshots.push((listed, snapshot));
            }
        }
        report.snapshots = snapshots.len() as u64;
        let mut bad = self.walk_structure(&snapshots, watch)?;
        let present: Vec<(ContainerId, u64)> = self.list_containers()?;
        report.containers = present.len() as u64;
        let chosen = choose(&present, share);
        let (proved, bytes) = self.prove_all(&chosen, watch)?;
        report.bytes_read = bytes;
        let needed = self.needed_containers(&snapshots)?;
        for (id, result) in proved {
            match result {
                Ok(contents) => {
                    for (fingerprint, offset) in contents {
                        let why = "the content does not match its fingerprint".to_owned();
                        bad.insert(fingerprint.prefix(), (id.to_string(), Some(offset), why));
                    }
                }
                Err(error) if needed.contains(&id) => {
                    let why = match error {
                        StoreError::Damaged { why, .. } => why,
                        other => other.to_string(),
                    };
                    report.damage.push(Damage {
                        object: id.to_string(),
                        offset: None,
                        why,
                        files: Vec::new(),
                    });
                }
                // Left behind by a crash, needed by nothing.
                Err(_) => {}
            }
        }
        if !bad.is_empty() {
            report.damage.extend(self.name_files(&snapshots, &bad, watch)?);
        }
        Ok(report)
    }

    /// Walks every page of every snapshot once; what is missing or unreadable.
    fn walk_structure(
        &self,
        snapshots: &[(ListedSnapshot, Snapshot)],
        watch: &dyn VerifyWatch,
    ) -> Result<Bad> {
        let mut bad = Bad::new();
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
                Err(error) if error.is_damage() => {
                    let object = self.where_lies(&page.fingerprint);
                    bad.insert(page.fingerprint.prefix(), (object, None, error.to_string()));
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
                    bad.insert(chunk.fingerprint.prefix(), (object, None, why));
                }
            }
        }
        Ok(bad)
    }

    fn is_there(&self, fingerprint: &Fingerprint) -> bool {
        let there = |number| {
            matches!(
                self.containers.get(number).standing(),
                Standing::Present | Standing::Condemned
            )
        };
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

    fn needed_containers(
        &self,
        snapshots: &[(ListedSnapshot, Snapshot)],
    ) -> Result<HashSet<ContainerId>> {
        let mut needed = HashSet::new();
        for (_, snapshot) in snapshots {
            needed.extend(crate::control::ContainerRun::spread(&snapshot.containers)?);
        }
        Ok(needed)
    }

    /// Reads and proves containers, on as many threads as there are processors.
    fn prove_all(
        &self,
        chosen: &[(ContainerId, u64)],
        watch: &dyn VerifyWatch,
    ) -> Result<(Vec<Proved>, u64)> {
        let (next, proved) = (AtomicUsize::new(0), Mutex::new((Vec::new(), 0u64)));
        let prove = || -> Result<()> {
            let mut bytes = Vec::new();
            while let Some((id, _)) = chosen.get(next.fetch_add(1, Ordering::Relaxed)) {
                if watch.is_cancelled() {
                    return Err(StoreError::Cancelled);
                }
                let read = self.place.read(&id.object()?, skellin_place::Extent::Whole, &mut bytes);
                let result = match read.map_err(StoreError::from) {
                    Ok(()) => self.prove_container(*id, &bytes),
                    Err(error) if error.is_damage() => Err(error),
                    Err(error) => return Err(error),
                };
                let mut proved = proved.lock().unwrap_or_else(PoisonError::into_inner);
                proved.1 += bytes.len() as u64;
                proved.0.push((*id, result));
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
        bad: &Bad,
        watch: &dyn VerifyWatch,
    ) -> Result<Vec<Damage>> {
        let mut touched: BTreeMap<Cause, Vec<TouchedFile>> = BTreeMap::new();
        for cause in bad.values() {
            touched.entry(cause.clone()).or_default();
        }
        let mut clean: HashSet<Fingerprint> = HashSet::new();
        for (_, snapshot) in snapshots {
            let mut report = |cause: &Cause, path: Vec<u8>| {
                let file = TouchedFile { snapshot: snapshot.run, path };
                touched.entry(cause.clone()).or_default().push(file);
            };
            for source in &snapshot.sources {
                let root = match self.entry(snapshot.root_page(self), &source.name) {
                    Ok(Some(entry)) => entry,
                    Ok(None) => continue,
                    Err(error) if error.is_damage() => {
                        if let Some(cause) = bad.get(&snapshot.root.prefix()) {
                            report(cause, source.path.to_vec());
                        }
                        continue;
                    }
                    Err(error) => return Err(error),
                };
                self.name_below(
                    root.body,
                    source.path.to_vec(),
                    bad,
                    &mut clean,
                    &mut report,
                    watch,
                )?;
            }
        }
        let damages = touched.into_iter();
        Ok(damages
            .map(|((object, offset, why), files)| Damage { object, offset, why, files })
            .collect())
    }

    fn name_below(
        &self,
        body: Body,
        path: Vec<u8>,
        bad: &Bad,
        clean: &mut HashSet<Fingerprint>,
        report: &mut dyn FnMut(&Cause, Vec<u8>),
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
                        report(&cause, path);
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
                Err(error) if error.is_damage() => {
                    // Everything in the unreadable page: named by the directory.
                    let cause = bad.get(&frame.root.prefix()).cloned();
                    let cause = cause
                        .unwrap_or_else(|| ("a tree page".to_owned(), None, error.to_string()));
                    report(&cause, frame.path.clone());
                    frames.iter_mut().for_each(|frame| frame.touched = true);
                    frames.pop();
                }
                Err(error) => return Err(error),
            }
        }
    }

    fn bad_item(&self, recipe: &Recipe, bad: &Bad) -> Result<Option<Cause>> {
        if let Recipe::Paged(page) = recipe
            && let Some(cause) = bad.get(&page.fingerprint.prefix())
        {
            return Ok(Some(cause.clone()));
        }
        for item in self.items(recipe) {
            match item {
                Ok(Item::Chunk(chunk)) => {
                    if let Some(cause) = bad.get(&chunk.fingerprint.prefix()) {
                        return Ok(Some(cause.clone()));
                    }
                }
                Ok(Item::Hole(_)) => {}
                Err(error) if error.is_damage() => {
                    return Ok(Some(("a tree page".to_owned(), None, error.to_string())));
                }
                Err(error) => return Err(error),
            }
        }
        Ok(None)
    }
}

type Proved = (ContainerId, Result<Vec<(Fingerprint, u64)>>);

/// The containers to read: all trees and the chosen share of the data, or nothing.
fn choose(present: &[(ContainerId, u64)], share: DataShare) -> Vec<(ContainerId, u64)> {
    let percent = match share {
        DataShare::None => return Vec::new(),
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
    present.iter().filter(|(id, _)| id.class == Class::Tree || chosen(id)).copied().collect()
}
