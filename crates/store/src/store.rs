//! A store that is open: its header, its keys, its containers, and how blocks are fetched.

use std::{
    collections::{BTreeMap, HashMap},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, AtomicU8, AtomicU32, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use skellin_place::{Extent, Place};

use crate::{
    containers::{Container, Containers, Location},
    error::{Result, StoreError},
    format::{
        block::Block,
        chunker::Chunker,
        container::{ContainerHeader, ContainerKey, HEADER, Salt},
        header::Header,
        ids::{Class, ContainerId, Fingerprint, RunId},
        keys::{Held, Keys, Secret, WRAPPED},
    },
    index::{Cache, Index, Listing, RECORDS_A_PART, Tiers},
    opening::unlocking::{HEADER_NAMES, Unlocked, unlock},
    reading::{
        blocks::{BlockCache, ProvenBlocks},
        nearby::Nearby,
        rereading::twice,
        suspects::Suspects,
    },
    tree::Spot,
};

/// The folders of a store.
pub const FOLDERS: &[&str] = &[
    "keys",
    "data",
    "trees",
    "index",
    "snapshots",
    "spares",
    "runs",
    "notices",
    "acks",
    "revokes",
    "verdicts",
    "expired",
];
/// Sizes of containers for lines that break again and again, in bytes.
const NARROW: [u32; 3] = [2 << 20, 1 << 20, 256 << 10];
/// After so many headers of containers that were read for their keys it is better to read all snapshots.
const MANY_HEADERS: u32 = 8;
/// What has come and gone is not looked for again within this time.
const REFRESHED_LATELY: Duration = Duration::from_secs(10);
/// What is known of a run's content key.
enum RunKey {
    Wrapped([u8; WRAPPED]),
    Open(Secret),
    /// What was told does not open.
    Wrong,
}

/// A container and its bytes as they were written, if that can be made out.
pub(crate) type Mended = (ContainerId, Option<Arc<Vec<u8>>>);

/// A store that was opened with a passphrase.
pub struct Store {
    pub(crate) place: Arc<dyn Place>,
    pub(crate) header: Header,
    pub(crate) keys: Arc<Keys>,
    pub(crate) containers: Containers,
    pub(crate) index: Index,
    pub(crate) segments: Tiers,
    pub(crate) cache: Cache,
    /// A segment with more records than these has them in parts of so many.
    pub(crate) records_a_part: usize,
    /// Bytes of segments that are kept in memory.
    pub(crate) in_memory: AtomicU64,
    pub(crate) nearby: Nearby,
    /// Sealed snapshots that were fetched ahead and are not kept nearby.
    pub(crate) fetched: Mutex<BTreeMap<String, Vec<u8>>>,
    /// Bytes from which on a container is full.
    full: AtomicU32,
    /// Percent of parity that containers of data get.
    pub(crate) parity: AtomicU8,
    /// The container that was mended last, if it could be.
    pub(crate) mended: Mutex<Option<Mended>>,
    /// Whether trees are gone through as a whole.
    pub(crate) compares: AtomicBool,
    chunker: Chunker,
    run_keys: Mutex<HashMap<(RunId, Class), RunKey>>,
    /// How many headers of containers were read at a far place for want of a run's key.
    headers_read: AtomicU32,
    pub(crate) suspects: Suspects,
    pub(crate) blocks: BlockCache,
    pub(crate) proven: ProvenBlocks,
    /// When it was last looked what has come and gone since the index was loaded.
    refreshed: Mutex<Option<Instant>>,
    /// Whether the index was loaded; the lock keeps two threads from loading it twice.
    pub(crate) index_loaded: Mutex<bool>,
}

impl Store {
    /// Opens a store with a passphrase.
    ///
    /// # Errors
    /// [`StoreError::NoStore`], [`StoreError::WrongPassphrase`], damage, or a failure of the place.
    pub fn open(place: Arc<dyn Place>, passphrase: &[u8], cache: Cache) -> Result<Self> {
        let Unlocked { header, epoch, held } = unlock(&*place, passphrase, &cache)?;
        let keys = match &held {
            Held::Full(master) => Keys::from_master(header.store, epoch, master)?,
            // The slot has proven the header.
            Held::Reading(reading) => {
                Keys::from_reading(header.store, epoch, reading, header.signing_key)
            }
        };
        let published = [header.data_key, header.tree_key, header.signing_key];
        let derived = [Class::Data, Class::Tree].map(|class| keys.envelope(class).public());
        if published != [derived[0], derived[1], keys.store_key] {
            return Err(StoreError::damaged(
                HEADER_NAMES[0],
                "its public keys are not the store's",
            ));
        }
        Ok(Self::with(place, header, Arc::new(keys), cache))
    }

    /// The same store as if it had been opened just now: nothing is known of what lies there.
    #[must_use]
    pub fn reopened(&self) -> Self {
        let (place, keys) = (Arc::clone(&self.place), Arc::clone(&self.keys));
        let store = Self::with(place, self.header.clone(), keys, self.cache.clone());
        store.set_parity(self.parity.load(Ordering::Relaxed));
        store
    }

    fn with(place: Arc<dyn Place>, header: Header, keys: Arc<Keys>, cache: Cache) -> Self {
        let nearby = Nearby::new(&cache, header.store, place.is_far());
        let chunker = Chunker::new(&keys.boundary, header.layout);
        let full = nearby.narrow().unwrap_or(u32::MAX).min(header.layout.container);
        Self {
            place,
            header,
            keys,
            containers: Containers::default(),
            index: Index::default(),
            segments: Tiers::default(),
            cache,
            records_a_part: RECORDS_A_PART,
            in_memory: AtomicU64::new(0),
            full: full.into(),
            nearby,
            fetched: Mutex::default(),
            parity: AtomicU8::new(0),
            mended: Mutex::default(),
            compares: AtomicBool::new(false),
            chunker,
            run_keys: Mutex::default(),
            headers_read: AtomicU32::new(0),
            suspects: Suspects::default(),
            blocks: BlockCache::default(),
            proven: ProvenBlocks::default(),
            index_loaded: Mutex::new(false),
            refreshed: Mutex::new(None),
        }
    }

    /// Whether it was opened with a passphrase that only restores: nothing can be written with it.
    #[must_use]
    pub fn is_restore_only(&self) -> bool {
        self.keys.only_read()
    }

    /// The header.
    #[must_use]
    pub fn header(&self) -> &Header {
        &self.header
    }

    /// The place the store is at.
    #[must_use]
    pub fn place(&self) -> &Arc<dyn Place> {
        &self.place
    }

    /// Cuts content as this store does.
    #[must_use]
    pub fn chunker(&self) -> &Chunker {
        &self.chunker
    }

    /// Loads the index unless that was done.
    pub(crate) fn need_index(&self) -> Result<()> {
        let mut loaded = self.index_loaded.lock().unwrap_or_else(PoisonError::into_inner);
        if !*loaded {
            self.load_index(Listing::Beside)?;
            *loaded = true;
        }
        Ok(())
    }

    /// Whether the cache could not be read any more while it was used: what it knew of the index was
    /// then done without, so that content may have been stored a second time.
    #[must_use]
    pub fn has_cache_failed(&self) -> bool {
        self.index.has_failed()
    }

    /// Bytes from which on a container is full: what the header says, or less where the line to the
    /// place does not carry that.
    pub(crate) fn full_container(&self) -> u32 {
        self.full.load(Ordering::Relaxed)
    }

    /// From now on containers are full with so many bytes.
    #[cfg(test)]
    pub(crate) fn fill_at(&self, bytes: u32) {
        self.full.store(bytes, Ordering::Relaxed);
    }

    /// The line to the place broke each time before a container was through: those that follow are
    /// smaller. How large they are now, in bytes; none if they are as small as it makes sense.
    pub fn narrow(&self) -> Option<u32> {
        let now = self.full_container();
        let next = *NARROW.iter().find(|size| **size < now)?;
        self.full.store(next, Ordering::Relaxed);
        self.nearby.keep_narrow(next);
        Some(next)
    }

    /// The block in which a chunk or page lies, and where that is.
    pub(crate) fn locate(
        &self,
        class: Class,
        fingerprint: &Fingerprint,
        spot: Spot,
    ) -> Result<(Arc<Block>, Location)> {
        let hinted = match spot {
            Spot::At(location) => Some((location, self.block(&location))),
            Spot::Open { .. } | Spot::Unknown => None,
        };
        match hinted {
            Some((location, Ok(block))) => return Ok((block, location)),
            Some((_, Err(error))) if !error.is_unreadable() => return Err(error),
            _ => {}
        }
        // The hint is stale: the index knows all copies.
        self.need_index()?;
        match self.find_copy(class, fingerprint) {
            // A reclaim may have moved it since the index was loaded.
            Err(error) if error.is_gone() && self.is_refresh_due() => {
                self.refresh_index()?;
                self.find_copy(class, fingerprint)
            }
            other => other,
        }
    }

    /// Whether it is time to look again what has come and gone: each time only if it was long ago.
    fn is_refresh_due(&self) -> bool {
        let mut last = self.refreshed.lock().unwrap_or_else(PoisonError::into_inner);
        let is_due = last.is_none_or(|last| last.elapsed() >= REFRESHED_LATELY);
        if is_due {
            *last = Some(Instant::now());
        }
        is_due
    }

    /// The block of any copy of a content that the index knows.
    fn find_copy(&self, class: Class, fingerprint: &Fingerprint) -> Result<(Arc<Block>, Location)> {
        let mut last = StoreError::Lost(fingerprint.to_string());
        let mut tried = Vec::new();
        while let Some(location) = self.index.find_where(&fingerprint.prefix(), |number| {
            !tried.contains(&number) && self.containers.get(number).id.class == class
        }) {
            match self.block(&location) {
                Ok(block) => return Ok((block, location)),
                Err(error) if error.is_unreadable() => last = error,
                Err(error) => return Err(error),
            }
            tried.push(location.container);
        }
        Err(last)
    }

    /// Whether bytes are the content of a chunk.
    #[must_use]
    pub fn is_content(&self, chunk: &crate::tree::ChunkRef, bytes: &[u8]) -> bool {
        bytes.len() as u64 == u64::from(chunk.length)
            && self.keys.fingerprint(Class::Data, bytes) == chunk.fingerprint
    }

    /// The content of a chunk, handed to `take` after its fingerprint was checked.
    ///
    /// # Errors
    /// If no copy of it can be read.
    pub fn chunk<T>(
        &self,
        chunk: &crate::tree::ChunkRef,
        take: impl FnOnce(&[u8]) -> T,
    ) -> Result<T> {
        let (block, location) = self.locate(Class::Data, &chunk.fingerprint, chunk.spot)?;
        let content = block.chunk(location.chunk.into()).unwrap_or_default();
        if self.keys.fingerprint(Class::Data, content) == chunk.fingerprint {
            return Ok(take(content));
        }
        // A hint that led to other content; the index may know better.
        if chunk.spot == Spot::Unknown {
            let object = self.containers.get(location.container).id.to_string();
            return Err(StoreError::damaged(object, "a chunk does not match its fingerprint"));
        }
        let unhinted = crate::tree::ChunkRef { spot: Spot::Unknown, ..*chunk };
        self.chunk(&unhinted, take)
    }

    /// The content of neighbouring chunks of one block, handed to `take` in one piece after the
    /// fingerprint of each was checked. None, and nothing is taken, if it is not where it should be:
    /// [`Self::chunk`] finds each of them wherever it is.
    ///
    /// # Errors
    /// If the place cannot be reached.
    pub fn chunks<T>(
        &self,
        chunks: &[crate::tree::ChunkRef],
        take: impl FnOnce(&[u8]) -> T,
    ) -> Result<Option<T>> {
        let Some(Spot::At(first)) = chunks.first().map(|chunk| chunk.spot) else {
            return Ok(None);
        };
        let block = match self.block(&first) {
            Err(error) if error.is_unreadable() => return Ok(None),
            other => other?,
        };
        let from = usize::from(first.chunk);
        let is_right = |(number, chunk): (usize, &crate::tree::ChunkRef)| {
            let content = block.chunk(from + number);
            content.is_some_and(|content| self.is_content(chunk, content))
        };
        if !chunks.iter().enumerate().all(is_right) {
            return Ok(None);
        }
        if chunks.len() == block.len() {
            // All of it was needed at once, and most likely nothing of it will be again.
            self.blocks.forget((first.container, first.block));
        }
        Ok(block.chunks(from, from + chunks.len()).map(take))
    }

    /// The key of a container; its header is read only if nothing else has told what is in it.
    pub(crate) fn container_key(&self, container: &Container) -> Result<Arc<ContainerKey>> {
        if let Some(key) = container.key.get() {
            return Ok(Arc::clone(key));
        }
        let known = || container.salt.get().copied().zip(self.run_key(container.id));
        let mut found = known();
        if found.is_none()
            && self.place.is_far()
            && self.headers_read.fetch_add(1, Ordering::Relaxed) == MANY_HEADERS
        {
            self.learn_keys_of_snapshots();
            found = known();
        }
        let key = match found {
            Some((salt, run_key)) => ContainerKey::new(&run_key, container.id, &salt),
            None => {
                let header = self.container_header(container.id)?;
                self.key_by_header(container.id, &header, container.salt.get())?
            }
        };
        let key = Arc::new(key);
        Ok(Arc::clone(container.key.get_or_init(|| key)))
    }

    /// Learns the content keys of all runs that have a snapshot: bundles tell many with one request.
    fn learn_keys_of_snapshots(&self) {
        // What cannot be learned so is read from headers, one by one.
        let Ok(listed) = self.snapshots() else { return };
        self.fetch_snapshots(&listed);
        for one in &listed {
            let _ = self.read_snapshot(one);
        }
    }

    /// The clear header of a container, from its second copy if need be.
    fn container_header(&self, id: ContainerId) -> Result<ContainerHeader> {
        let copies = [Some(id.object()?), id.spare()?].into_iter().flatten();
        let mut first = None;
        for copy in copies {
            let extent = Extent::Range { offset: 0, length: HEADER as u64 };
            let read = || {
                let mut bytes = Vec::new();
                self.place.read(&copy, extent, &mut bytes)?;
                ContainerHeader::decode(&bytes, copy.as_str())
            };
            match twice(&*self.place, read) {
                Ok(header) => return Ok(header),
                Err(error) if error.is_unreadable() => first = first.or(Some(error)),
                Err(error) => return Err(error),
            }
        }
        if let Ok(Some(bytes)) = self.mended(id) {
            return ContainerHeader::decode(&bytes, &id.to_string());
        }
        Err(first.unwrap_or_else(|| StoreError::damaged(id.to_string(), "it has no header")))
    }

    /// The key of one container by its own clear header. Nothing vouches for a header before
    /// something sealed opened under it, so that no other container is read by what it says.
    pub(crate) fn key_by_header(
        &self,
        id: ContainerId,
        header: &ContainerHeader,
        salt: Option<&Salt>,
    ) -> Result<ContainerKey> {
        if header.id != id {
            return Err(StoreError::damaged(id.to_string(), "it was written under another name"));
        }
        let known = self.run_key(id);
        let run_key = known.or_else(|| self.keys.unwrap(id.run, id.class, &header.wrapped));
        let run_key = run_key
            .ok_or_else(|| StoreError::damaged(id.to_string(), "its run key is not authentic"))?;
        Ok(ContainerKey::new(&run_key, id, salt.unwrap_or(&header.salt)))
    }

    pub(crate) fn run_key(&self, id: ContainerId) -> Option<Secret> {
        let mut keys = self.run_keys.lock().unwrap_or_else(PoisonError::into_inner);
        let known = keys.get_mut(&(id.run, id.class))?;
        if let RunKey::Wrapped(wrapped) = known {
            *known = match self.keys.unwrap(id.run, id.class, wrapped) {
                Some(key) => RunKey::Open(key),
                None => RunKey::Wrong,
            };
        }
        match known {
            RunKey::Open(key) => Some(key.clone()),
            RunKey::Wrapped(_) | RunKey::Wrong => None,
        }
    }

    /// Remembers the content key of a run, which something signed has told. It is unwrapped when it
    /// is asked for: most are not.
    pub(crate) fn learn_run_key(&self, run: RunId, class: Class, wrapped: &[u8; WRAPPED]) {
        let mut keys = self.run_keys.lock().unwrap_or_else(PoisonError::into_inner);
        let known = keys.entry((run, class)).or_insert(RunKey::Wrapped(*wrapped));
        if matches!(known, RunKey::Wrong) {
            *known = RunKey::Wrapped(*wrapped);
        }
    }
}
