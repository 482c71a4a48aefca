//! A store that is open: its header, its keys, its containers, and how blocks are fetched.

use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError, atomic::AtomicBool},
};

use skellin_place::{Extent, ObjectName, Place, PlaceErrorKind};
use zeroize::Zeroizing;

use crate::{
    block::Block,
    blocks::BlockCache,
    chunker::Chunker,
    container::{
        ContainerHeader, ContainerKey, Directory, HEADER, TRAILER, directory_range, open_directory,
    },
    containers::{Container, Containers, Location},
    error::{Result, StoreError},
    header::{Header, Layout},
    ids::{Class, ContainerId, Fingerprint, RunId, StoreId, random},
    index::{Cache, Index},
    keys::{Keys, Secret, WRAPPED},
    nearby::{self, Nearby, Opened},
    slot::{self, PassphraseCost},
    tiers::Tiers,
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
const HEADER_NAMES: [&str; 2] = ["skellin-store", "skellin-store.spare"];
/// A directory of a container is fetched together with the trailer if it is no longer than this.
const USUAL_DIRECTORY: u64 = 64 << 10;

/// What was damaged of an index, and the containers that are there with their sizes.
pub(crate) type Found = (Vec<StoreError>, Vec<(ContainerId, u64)>);

/// A store that was opened with a passphrase.
pub struct Store {
    pub(crate) place: Arc<dyn Place>,
    pub(crate) header: Header,
    pub(crate) keys: Keys,
    pub(crate) containers: Containers,
    pub(crate) index: Index,
    pub(crate) segments: Tiers,
    pub(crate) cache: Cache,
    pub(crate) nearby: Nearby,
    /// Whether trees are gone through as a whole.
    pub(crate) compares: AtomicBool,
    chunker: Chunker,
    run_keys: Mutex<HashMap<(RunId, Class), Secret>>,
    pub(crate) blocks: BlockCache,
    /// Whether the index was loaded; the lock keeps two threads from loading it twice.
    index_loaded: Mutex<bool>,
}

/// What a new store is to be like.
#[derive(Clone, Copy, Debug, Default)]
pub struct Creation {
    /// How content is cut and gathered.
    pub layout: Layout,
    /// What it costs to try a passphrase.
    pub cost: PassphraseCost,
    /// The moment, in seconds since 1970.
    pub now: i64,
}

fn name(text: impl Into<String>) -> Result<ObjectName> {
    Ok(ObjectName::new(text)?)
}

impl Store {
    /// Creates a store at an empty place that has the [`FOLDERS`].
    ///
    /// # Errors
    /// [`StoreError::Occupied`] if there is one already, or if the place fails.
    pub fn create(place: &dyn Place, passphrase: &[u8], creation: Creation) -> Result<StoreId> {
        let [main, spare] = HEADER_NAMES;
        let occupied = || StoreError::Occupied(place.describe());
        if !place.listing("keys")?.is_empty() || place.fetch(&name(main)?).is_ok() {
            return Err(occupied());
        }
        let (store, master) = (StoreId(random()?), Secret::random()?);
        let keys = Keys::from_master(store, 1, &master)?;
        let header = Header {
            version: crate::header::VERSION,
            store,
            created: creation.now,
            suite: 1,
            reader_flags: 0,
            writer_flags: 0,
            epoch: 1,
            layout: creation.layout,
            data_key: keys.envelope(Class::Data).public(),
            tree_key: keys.envelope(Class::Tree).public(),
            signing_key: keys.signer.public(),
        };
        let bytes = header.encode();
        let (id, slot) = slot::create(passphrase, creation.cost, 1, &master, &bytes)?;
        // The header makes it a store, so it comes last.
        for copy in ["b", "a"] {
            place.create(&name(format!("keys/{id}.{copy}"))?, &slot)?;
        }
        for header_name in [spare, main] {
            place.create(&name(header_name)?, &bytes).map_err(|error| match error.kind {
                PlaceErrorKind::Exists => occupied(),
                _ => error.into(),
            })?;
        }
        Ok(store)
    }

    /// Opens a store with a passphrase.
    ///
    /// # Errors
    /// [`StoreError::NoStore`], [`StoreError::WrongPassphrase`], damage, or a failure of the place.
    pub fn open(place: Arc<dyn Place>, passphrase: &[u8], cache: Cache) -> Result<Self> {
        let (header, epoch, master) = open_as_before(&*place, passphrase, &cache)
            .map_or_else(|| open_anew(&*place, passphrase, &cache), Ok)?;
        let nearby = Nearby::new(&cache, header.store, place.is_far());
        let keys = Keys::from_master(header.store, epoch, &master)?;
        let published = [header.data_key, header.tree_key, header.signing_key];
        let derived = [Class::Data, Class::Tree].map(|class| keys.envelope(class).public());
        if published != [derived[0], derived[1], keys.signer.public()] {
            return Err(StoreError::damaged(
                HEADER_NAMES[0],
                "its public keys are not the store's",
            ));
        }
        let chunker = Chunker::new(&keys.boundary, header.layout);
        Ok(Self {
            place,
            header,
            keys,
            containers: Containers::default(),
            index: Index::default(),
            segments: Tiers::default(),
            cache,
            nearby,
            compares: AtomicBool::new(false),
            chunker,
            run_keys: Mutex::default(),
            blocks: BlockCache::default(),
            index_loaded: Mutex::new(false),
        })
    }

    /// The header of the store at a place, which needs no passphrase.
    ///
    /// # Errors
    /// [`StoreError::NoStore`], damage, or a failure of the place.
    pub fn header_at(place: &dyn Place) -> Result<Header> {
        read_header(place).map(|(header, _)| header)
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
            self.load_index()?;
            *loaded = true;
        }
        Ok(())
    }

    /// Loads the index for a run or a check: what was damaged of it is handed back, and the
    /// containers that are there.
    pub(crate) fn load_index_now(&self) -> Result<Found> {
        let mut loaded = self.index_loaded.lock().unwrap_or_else(PoisonError::into_inner);
        let found = self.load_index()?;
        *loaded = true;
        Ok(found)
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
            Some((_, Err(error))) if !error.is_damage() => return Err(error),
            _ => {}
        }
        // The hint is stale: the index knows all copies.
        self.need_index()?;
        let mut last = StoreError::Lost(fingerprint.to_string());
        let mut tried = Vec::new();
        while let Some(location) = self.index.find_where(&fingerprint.prefix(), |number| {
            !tried.contains(&number) && self.containers.get(number).id.class == class
        }) {
            match self.block(&location) {
                Ok(block) => return Ok((block, location)),
                Err(error) if error.is_damage() => last = error,
                Err(error) => return Err(error),
            }
            tried.push(location.container);
        }
        Err(last)
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

    /// The key of a container; its header is read only if nothing else has told what is in it.
    pub(crate) fn container_key(&self, container: &Container) -> Result<Arc<ContainerKey>> {
        if let Some(key) = container.key.get() {
            return Ok(Arc::clone(key));
        }
        let known = container.salt.get().copied().zip(self.run_key(container.id));
        let (salt, run_key) = match known {
            Some(known) => known,
            None => {
                let object = container.id.object()?;
                let mut bytes = Vec::new();
                let extent = Extent::Range { offset: 0, length: HEADER as u64 };
                self.place.read(&object, extent, &mut bytes)?;
                let header = ContainerHeader::decode(&bytes, object.as_str())?;
                self.learn_header(container.id, &header)?
            }
        };
        let key = Arc::new(ContainerKey::new(&run_key, container.id, &salt));
        Ok(Arc::clone(container.key.get_or_init(|| key)))
    }

    fn learn_header(
        &self,
        id: ContainerId,
        header: &ContainerHeader,
    ) -> Result<([u8; 16], Secret)> {
        if header.id != id {
            return Err(StoreError::damaged(id.to_string(), "it was written under another name"));
        }
        self.learn_run_key(id.run, id.class, &header.wrapped);
        let run_key = self.run_key(id);
        let run_key = run_key
            .ok_or_else(|| StoreError::damaged(id.to_string(), "its run key is not authentic"))?;
        Ok((header.salt, run_key))
    }

    fn run_key(&self, id: ContainerId) -> Option<Secret> {
        let keys = self.run_keys.lock().unwrap_or_else(PoisonError::into_inner);
        keys.get(&(id.run, id.class)).cloned()
    }

    /// Remembers the content key of a run, if it is authentic.
    pub(crate) fn learn_run_key(&self, run: RunId, class: Class, wrapped: &[u8; WRAPPED]) {
        let mut keys = self.run_keys.lock().unwrap_or_else(PoisonError::into_inner);
        if let std::collections::hash_map::Entry::Vacant(slot) = keys.entry((run, class))
            && let Some(key) = self.keys.unwrap(run, class, wrapped)
        {
            slot.insert(key);
        }
    }

    /// What lies in a container of known size, read from its end.
    pub(crate) fn read_directory(&self, id: ContainerId, size: u64) -> Result<Directory> {
        let object = id.object()?;
        let text = object.as_str();
        let mut head = Vec::new();
        let extent = Extent::Range { offset: 0, length: HEADER as u64 };
        self.place.read(&object, extent, &mut head)?;
        let header = ContainerHeader::decode(&head, text)?;
        let (salt, run_key) = self.learn_header(id, &header)?;
        let mut tail = Vec::new();
        self.place.read(&object, Extent::Tail(USUAL_DIRECTORY), &mut tail)?;
        let (from, to) = directory_range(&head, &tail, size, text)?;
        let tail_at = size - (tail.len() as u64).min(size);
        let sealed = if from >= tail_at {
            tail.get((from - tail_at) as usize..(to - tail_at) as usize)
                .ok_or_else(|| StoreError::damaged(text, "its size changed while it was read"))?
                .to_vec()
        } else {
            let mut sealed = Vec::new();
            let extent = Extent::Range { offset: from, length: to - from };
            self.place.read(&object, extent, &mut sealed)?;
            sealed
        };
        debug_assert!(tail.len() >= TRAILER);
        let key = ContainerKey::new(&run_key, id, &salt);
        open_directory(&self.keys, &head, &header, &key, sealed, text)
    }

    /// Proves a whole container: every block opens, every chunk has its fingerprint. Returns the
    /// fingerprints that are damaged, with the offset of their block, and the bytes read.
    pub(crate) fn prove_container(
        &self,
        id: ContainerId,
        bytes: &[u8],
    ) -> Result<Vec<(Fingerprint, u64)>> {
        let text = id.to_string();
        let header = ContainerHeader::decode(bytes, &text)?;
        let (salt, run_key) = self.learn_header(id, &header)?;
        let (from, to) = directory_range(bytes, bytes, bytes.len() as u64, &text)?;
        let key = ContainerKey::new(&run_key, id, &salt);
        let sealed = bytes[from as usize..to as usize].to_vec();
        let directory = open_directory(&self.keys, bytes, &header, &key, sealed, &text)?;
        let mut bad = Vec::new();
        let mut rows = directory.rows.iter().peekable();
        for (number, (offset, length)) in directory.blocks.iter().enumerate() {
            let range = *offset as usize..(*offset as usize).saturating_add(*length as usize);
            let plain =
                bytes.get(range).and_then(|sealed| key.open(number as u32, sealed.to_vec()));
            let block = plain.and_then(Block::parse);
            while let Some(row) = rows.next_if(|row| usize::from(row.block) == number) {
                let stored = block.as_ref().and_then(|block| block.chunk(row.chunk.into()));
                let content = match id.class {
                    Class::Data => stored,
                    Class::Tree => stored.and_then(crate::tree::split_page).map(|(body, _)| body),
                };
                let good = content.is_some_and(|content| {
                    self.keys.fingerprint(id.class, content) == row.fingerprint
                });
                if !good {
                    bad.push((row.fingerprint, u64::from(*offset)));
                }
            }
        }
        Ok(bad)
    }

    /// Adds a passphrase; returns the id of its slot.
    ///
    /// # Errors
    /// If the present passphrase opens no slot, or the place fails.
    pub fn add_passphrase(
        place: &dyn Place,
        present: &[u8],
        new: &[u8],
        cost: PassphraseCost,
    ) -> Result<String> {
        let (_, bytes) = read_header(place)?;
        let (epoch, master, _) = open_slots(place, present, &bytes)?;
        let (id, slot) = slot::create(new, cost, epoch, &master, &bytes)?;
        for copy in ["b", "a"] {
            place.create(&name(format!("keys/{id}.{copy}"))?, &slot)?;
        }
        Ok(id)
    }
}

/// Opens a store whose header and slot are known from before: one request. `None` if anything is
/// other than it was.
fn open_as_before(
    place: &dyn Place,
    passphrase: &[u8],
    cache: &Cache,
) -> Option<(Header, u32, Secret)> {
    if !place.is_far() {
        return None;
    }
    let Opened { slot, header: bytes } = nearby::last_opened(cache, &place.describe())?;
    let header = Header::decode(&bytes, HEADER_NAMES[0]).ok()?;
    let sealed = Zeroizing::new(place.fetch(&name(&slot).ok()?).ok()?);
    // The slot is bound to the header: if it opens, both are those of the store at this place.
    let (epoch, master) = slot::open(&sealed, passphrase, &bytes, &slot).ok()??;
    Some((header, epoch, master))
}

fn open_anew(place: &dyn Place, passphrase: &[u8], cache: &Cache) -> Result<(Header, u32, Secret)> {
    let (header, bytes) = read_header(place)?;
    let (epoch, master, slot) = open_slots(place, passphrase, &bytes)?;
    if place.is_far() {
        nearby::note_opened(cache, &place.describe(), &Opened { slot, header: bytes });
    }
    Ok((header, epoch, master))
}

fn read_header(place: &dyn Place) -> Result<(Header, Vec<u8>)> {
    let mut first = None;
    for copy in HEADER_NAMES {
        let read = place.fetch(&name(copy)?).map_err(StoreError::from);
        match read.and_then(|bytes| Ok((Header::decode(&bytes, copy)?, bytes))) {
            Ok(read) => return Ok(read),
            Err(error @ StoreError::Newer { .. }) => return Err(error),
            Err(error) => first = first.or(Some(error)),
        }
    }
    match first {
        Some(StoreError::Place(error)) if error.is_not_found() => {
            Err(StoreError::NoStore(place.describe()))
        }
        Some(error) => Err(error),
        None => Err(StoreError::NoStore(place.describe())),
    }
}

fn open_slots(
    place: &dyn Place,
    passphrase: &[u8],
    header: &[u8],
) -> Result<(u32, Secret, String)> {
    let mut copies: Vec<ObjectName> =
        place.listing("keys")?.into_iter().map(|object| object.name).collect();
    copies.sort();
    let mut tried: Vec<String> = Vec::new();
    let mut damage = None;
    for copy in copies {
        let slot_id = copy.leaf().split('.').next().unwrap_or_default().to_owned();
        if tried.contains(&slot_id) {
            continue;
        }
        let bytes = Zeroizing::new(place.fetch(&copy)?);
        match slot::open(&bytes, passphrase, header, copy.as_str()) {
            Ok(Some((epoch, master))) => return Ok((epoch, master, copy.as_str().to_owned())),
            // The other copy of this slot would say the same.
            Ok(None) => tried.push(slot_id),
            Err(error) => damage = damage.or(Some(error)),
        }
    }
    match damage {
        Some(error) if tried.is_empty() => Err(error),
        _ => Err(StoreError::WrongPassphrase { slots: tried.len() }),
    }
}
