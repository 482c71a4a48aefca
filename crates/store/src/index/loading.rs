//! Index segments at the place and in the cache: loaded and written; and the containers none of them
//! lists yet.

use std::{
    collections::HashSet,
    fs,
    panic::resume_unwind,
    path::{Path, PathBuf},
    sync::{OnceLock, PoisonError, atomic::Ordering},
    thread::available_parallelism,
};

use skellin_place::ObjectName;

use super::{
    Cache,
    bytes::SegmentBytes,
    cached::{self, CachedBytes},
    draft::SegmentDraft,
    layout::{PartRow, SegmentId},
    segment::Segment,
};
use crate::{
    containers::Standing,
    error::{Result, StoreError},
    format::{
        bounds,
        ids::{Class, ContainerId, RunId, unhex},
        keys::Secret,
        signed::{Machine, Signed},
    },
    mistakes::is_in_turn,
    reading::{
        parallel::{AT_ONCE, side_by_side},
        rereading::twice,
    },
    store::Store,
};

/// Cached segments up to so many bytes are kept in memory,
const MOST_IN_MEMORY: u64 = 4 << 20;
/// as long as all of them together have no more than this.
const ALL_IN_MEMORY: u64 = 24 << 20;

/// When the containers are listed.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Listing {
    /// While the segments are loaded: a container that a neighbour adds meanwhile may count as absent,
    /// so that its content is stored once more.
    Beside,
    /// After the segments: whatever one of them names has to be there.
    After,
}

/// What loading the index has found.
#[derive(Default)]
pub(crate) struct Found {
    /// What was damaged, or is not as long as it should be.
    pub damage: Vec<StoreError>,
    /// The containers that are there, with their sizes.
    pub containers: Vec<(ContainerId, u64)>,
    /// What lies in containers that no segment lists.
    pub unlisted: SegmentDraft,
    /// Segments that are not what was written.
    pub broken_segments: Vec<SegmentId>,
}

impl SegmentId {
    pub(crate) fn object(self) -> Result<ObjectName> {
        Ok(ObjectName::new(self.to_string())?)
    }

    /// The object of one of its parts.
    pub(super) fn part(self, number: u32) -> String {
        format!("{self}-{number:08x}")
    }

    /// From the name of its object, or of one of its parts; and the rest of that.
    fn parse(leaf: &str) -> Option<(Self, Option<&str>)> {
        let (run, number) = leaf.split_once('-')?;
        let (number, part) = match number.split_once('-') {
            Some((number, part)) => (number, Some(part)),
            None => (number, None),
        };
        let number = u32::from_be_bytes(unhex(number)?.try_into().ok()?);
        Some((Self { run: RunId::parse(run)?, number }, part))
    }
}

impl Store {
    /// Loads the index for a run or a check: what was damaged of it is handed back, and the
    /// containers that are there.
    pub(crate) fn load_index_now(&self, listing: Listing) -> Result<Found> {
        let mut loaded = self.index_loaded.lock().unwrap_or_else(PoisonError::into_inner);
        let found = self.load_index(listing)?;
        *loaded = true;
        Ok(found)
    }

    /// Loads every segment, and the directory of every container that none of them lists; takes
    /// the listing as the truth about which containers are there, and how long they are.
    ///
    /// Damaged segments are passed over: what they said is read from the containers again.
    pub(crate) fn load_index(&self, listing: Listing) -> Result<Found> {
        let mut found = Found::default();
        found.containers = match listing {
            Listing::Beside if !is_in_turn() => std::thread::scope(|scope| {
                let listed = scope.spawn(|| self.list_containers());
                let loaded = self.load_segments(&mut found);
                let listed = listed.join().unwrap_or_else(|panic| resume_unwind(panic));
                loaded.and(listed)
            })?,
            Listing::Beside | Listing::After => {
                self.load_segments(&mut found)?;
                self.list_containers()?
            }
        };
        if self.place.is_far() && !self.containers.fit(&found.containers) {
            // The line may have changed the listing, not the place what it lists.
            found.containers = self.list_containers()?;
        }
        let wrong = self.containers.set_present(&found.containers);
        for (id, size) in wrong {
            let why = format!("it has {size} bytes, which are not those that were written");
            self.suspect(id, &why);
            found.damage.push(StoreError::damaged(id.to_string(), why));
        }
        let covered = self.index.covered();
        let (mut spares, mut late) = (None, SegmentDraft::default());
        for (id, size) in found.containers.iter().filter(|(id, _)| !covered.contains(id)) {
            if let Some(spare) = id.spare()? {
                let spares = match &mut spares {
                    Some(spares) => spares,
                    none => none.insert(self.spare_names()?),
                };
                // Its run has ended before both were there, and this one came late: it may be read, but
                // nothing new relies on it, and no segment is to list it.
                if !spares.contains(&spare) {
                    let number = self.containers.number(*id, None);
                    self.containers.get(number).set_standing(Standing::Absent);
                    if let Ok(directory) = self.read_directory(*id, *size) {
                        late.add(*id, &directory);
                    }
                    continue;
                }
            }
            match self.read_directory(*id, *size) {
                Ok(directory) => found.unlisted.add(*id, &directory),
                // Torn by a crash, or gone since it was listed: it does not exist.
                Err(error) if error.is_unreadable() => found.damage.push(error),
                Err(error) => return Err(error),
            }
        }
        for draft in [found.unlisted.clone(), late] {
            if !draft.containers.is_empty() {
                let bytes = Box::new(draft.encode());
                let segment = Segment::parse(bytes, "the index", &mut |_, _| {
                    Err(StoreError::damaged("the index", "it has parts"))
                })?;
                self.take_in(None, segment);
            }
        }
        Ok(found)
    }

    fn load_segments(&self, found: &mut Found) -> Result<()> {
        // A merge may delete segments between the listing and the reading: then it has put one
        // that holds the same, and another listing shows it.
        let mut incomplete: HashSet<SegmentId> = HashSet::new();
        for _ in 0..8 {
            let ids = self.listed_segments()?;
            let mut segments = Vec::new();
            let mut complete = true;
            let loaded: Vec<OnceLock<Result<Segment>>> =
                ids.iter().map(|_| OnceLock::new()).collect();
            let at_once = match self.place.is_far() {
                true => AT_ONCE,
                false if is_in_turn() => 1,
                false => available_parallelism().map_or(1, usize::from),
            };
            let slots: Vec<_> = ids.iter().zip(&loaded).collect();
            side_by_side(&slots, at_once, |(id, slot)| {
                let _ = slot.set(self.load_segment(**id));
            });
            for (id, loaded) in ids.into_iter().zip(loaded) {
                let Some(loaded) = loaded.into_inner() else { continue };
                match loaded {
                    Ok(segment) => segments.push((id, segment)),
                    // It stays while a part of it is missing: it is no segment any more.
                    Err(StoreError::Place(error))
                        if error.is_not_found() && incomplete.contains(&id) =>
                    {
                        let why = "a part of it does not exist";
                        found.damage.push(StoreError::damaged(id.to_string(), why));
                        found.broken_segments.push(id);
                    }
                    Err(StoreError::Place(error)) if error.is_not_found() => {
                        complete = false;
                        if self.listed_segments()?.contains(&id) {
                            incomplete.insert(id);
                        }
                    }
                    Err(error) if error.is_damage() => {
                        found.damage.push(error);
                        found.broken_segments.push(id);
                    }
                    // Others may read it, so that it is not ours to write again.
                    Err(error) if error.is_unreadable() => found.damage.push(error),
                    Err(error) => return Err(error),
                }
            }
            if complete {
                let merged: HashSet<SegmentId> =
                    segments.iter().flat_map(|(_, segment)| segment.inputs.clone()).collect();
                self.segments.set(&segments, &merged);
                self.forget_cached_but(&segments);
                for (id, segment) in segments.into_iter().filter(|(id, _)| !merged.contains(id)) {
                    self.take_in(Some(id), segment);
                }
                return Ok(());
            }
        }
        Err(StoreError::damaged("index", "its segments keep disappearing while being read"))
    }

    /// Learns what has come and gone since the index was loaded: segments that are new, and which
    /// containers are there: these.
    ///
    /// # Errors
    /// If the place fails.
    pub(crate) fn refresh_index(&self) -> Result<Vec<(ContainerId, u64)>> {
        for _ in 0..8 {
            let mut complete = true;
            let known: HashSet<SegmentId> =
                self.index.loaded().iter().filter_map(|loaded| loaded.id).collect();
            for id in self.listed_segments()?.into_iter().filter(|id| !known.contains(id)) {
                match self.load_segment(id) {
                    Ok(segment) => self.take_in(Some(id), segment),
                    // Merged since it was listed: another listing shows what it has become.
                    Err(StoreError::Place(error)) if error.is_not_found() => complete = false,
                    Err(error) if error.is_unreadable() => {}
                    Err(error) => return Err(error),
                }
            }
            if complete {
                break;
            }
        }
        let listed = self.list_containers()?;
        self.containers.set_present(&listed);
        self.containers.miss(&listed);
        Ok(listed)
    }

    /// From now on what a segment says is known.
    fn take_in(&self, id: Option<SegmentId>, segment: Segment) {
        for (run, class, wrapped) in &segment.keys {
            self.learn_run_key(*run, *class, wrapped);
        }
        self.index.add(id, segment, &self.containers);
    }

    pub(super) fn load_segment(&self, id: SegmentId) -> Result<Segment> {
        let object = id.to_string();
        let source = match self.cached(&object) {
            Some(cached) => cached,
            None => self.keep_segment(&object, self.segment_at_place(id)?),
        };
        self.parse_segment(id, source)
    }

    fn parse_segment(&self, id: SegmentId, source: Box<dyn SegmentBytes>) -> Result<Segment> {
        Segment::parse(source, &id.to_string(), &mut |number, row| {
            let object = id.part(number);
            match self.cached(&object) {
                Some(cached) => Ok(cached),
                None => Ok(self.keep_segment(&object, self.part_at_place(id, number, row)?)),
            }
        })
    }

    /// The body of a segment as it lies at the place.
    pub(crate) fn segment_at_place(&self, id: SegmentId) -> Result<Vec<u8>> {
        twice(&*self.place, || self.segment_once(id))
    }

    /// Reads a segment and all its parts as they lie at the place.
    pub(crate) fn examine_segment(&self, id: SegmentId) -> Result<()> {
        let body = self.segment_at_place(id)?;
        Segment::parse(Box::new(body), &id.to_string(), &mut |number, row| {
            Ok(Box::new(self.part_at_place(id, number, row)?))
        })?;
        Ok(())
    }

    fn part_at_place(&self, id: SegmentId, number: u32, row: &PartRow) -> Result<Vec<u8>> {
        let object = id.part(number);
        twice(&*self.place, || {
            let sealed = self.place.fetch(&ObjectName::new(object.as_str())?, bounds::SEGMENT)?;
            let plain = self.keys.index.open(&sealed, object.as_bytes());
            let plain = plain.filter(|plain| *blake3::hash(plain).as_bytes() == row.hash);
            plain.ok_or_else(|| StoreError::damaged(&object, "it is not authentic"))
        })
    }

    fn segment_once(&self, id: SegmentId) -> Result<Vec<u8>> {
        let object = id.to_string();
        let sealed = self.place.fetch(&id.object()?, bounds::SEGMENT)?;
        let damaged = |why: &str| StoreError::damaged(&object, why);
        let plain = self
            .keys
            .index
            .open(&sealed, object.as_bytes())
            .ok_or_else(|| damaged("it is not authentic"))?;
        drop(sealed);
        let length = plain.first_chunk().map(|length| u32::from_le_bytes(*length) as usize);
        let split = length.and_then(|length| plain[4..].split_at_checked(length));
        let (signed, body) = split.ok_or_else(|| damaged("it is too short"))?;
        let hash =
            Signed::decode(signed, &object)?.verified(&self.keys, object.as_bytes(), &object)?;
        if blake3::hash(body).as_bytes().as_slice() != hash {
            return Err(damaged("its signature does not match its content"));
        }
        Ok(body.to_vec())
    }

    /// The segments a listing shows.
    pub(crate) fn listed_segments(&self) -> Result<Vec<SegmentId>> {
        let listed = self.place.listing("index")?;
        let parsed = listed.iter().filter_map(|object| SegmentId::parse(object.name.leaf()));
        Ok(parsed.filter_map(|(id, part)| part.is_none().then_some(id)).collect())
    }

    /// The parts of segments a listing shows, and whose they are.
    pub(super) fn listed_parts(&self) -> Result<Vec<(SegmentId, ObjectName)>> {
        let listed = self.place.listing("index")?.into_iter();
        let part = |name: ObjectName| {
            let (id, part) = SegmentId::parse(name.leaf())?;
            part?;
            Some((id, name))
        };
        Ok(listed.filter_map(|object| part(object.name)).collect())
    }

    /// Seals, signs and puts a segment, and loads it.
    pub(crate) fn write_segment(
        &self,
        id: SegmentId,
        draft: SegmentDraft,
        machine: &Machine,
    ) -> Result<()> {
        let level = draft.level;
        self.put_segment(id, (level, draft.encode()), machine)
    }

    /// Seals, signs and puts the body of a segment, and loads it.
    pub(super) fn put_segment(
        &self,
        id: SegmentId,
        (level, body): (u32, Vec<u8>),
        machine: &Machine,
    ) -> Result<()> {
        let object = id.to_string();
        let hash = blake3::hash(&body).as_bytes().to_vec();
        let signed = machine.sign(object.as_bytes(), hash).encode();
        let length = (signed.len() as u32).to_le_bytes();
        let plain = [length.as_slice(), &signed, &body].concat();
        self.place.create(&id.object()?, &self.keys.index.seal(&plain, object.as_bytes())?)?;
        drop(plain);
        let segment = self.parse_segment(id, self.keep_segment(&object, body))?;
        self.segments.added(id, level, segment.len());
        self.take_in(Some(id), segment);
        Ok(())
    }

    fn spare_names(&self) -> Result<HashSet<ObjectName>> {
        Ok(self.place.listing("spares")?.into_iter().map(|spare| spare.name).collect())
    }

    /// Every container at the place, with its size.
    pub(crate) fn list_containers(&self) -> Result<Vec<(ContainerId, u64)>> {
        let mut found = Vec::new();
        for class in [Class::Data, Class::Tree] {
            self.place.list(class.folder(), &mut |object| {
                if let Some(id) = ContainerId::parse(class, object.name.leaf()) {
                    found.push((id, object.size));
                }
            })?;
        }
        Ok(found)
    }

    fn cache_folder(&self, folder: &Path) -> PathBuf {
        folder.join(self.header.store.to_string())
    }

    fn cache_file(&self, object: &str, folder: &Path) -> PathBuf {
        self.cache_folder(folder).join(object.replace('/', "-"))
    }

    fn cache_key(&self) -> Secret {
        self.keys.index.derive("segment cache")
    }

    /// An object of the index from the cache, if it is there and proves to be what was written.
    fn cached(&self, object: &str) -> Option<Box<dyn SegmentBytes>> {
        let (Cache::ReadOnly(folder) | Cache::ReadWrite(folder)) = &self.cache else { return None };
        let path = self.cache_file(object, folder);
        let cached = CachedBytes::open(&path, &self.cache_key(), object)?;
        let length = cached.len();
        if !self.has_room_for(length) {
            return Some(Box::new(cached));
        }
        let whole = cached.whole()?;
        self.in_memory.fetch_add(length, Ordering::Relaxed);
        Some(Box::new(whole))
    }

    /// Whether a segment of so many bytes is kept in memory.
    fn has_room_for(&self, length: u64) -> bool {
        length <= MOST_IN_MEMORY
            && self.in_memory.load(Ordering::Relaxed).saturating_add(length) <= ALL_IN_MEMORY
    }

    /// Keeps an object of the index in the cache, if there is one: whether it is there now.
    pub(super) fn keep_in_cache(&self, object: &str, body: &[u8]) -> bool {
        let Cache::ReadWrite(folder) = &self.cache else { return false };
        // A cache that cannot be written costs time, not the run.
        cached::keep(&self.cache_file(object, folder), &self.cache_key(), object, body).is_ok()
    }

    /// Keeps an object of the index in the cache if there is one, else in memory.
    fn keep_segment(&self, object: &str, body: Vec<u8>) -> Box<dyn SegmentBytes> {
        if self.keep_in_cache(object, &body)
            && !self.has_room_for(body.len() as u64)
            && let Some(cached) = self.cached(object)
        {
            return cached;
        }
        self.in_memory.fetch_add(body.len() as u64, Ordering::Relaxed);
        Box::new(body)
    }

    /// Removes segments and their parts from the cache.
    pub(crate) fn forget_cached(&self, ids: &[SegmentId]) {
        self.remove_cached(|cached| ids.contains(&cached));
    }

    /// Removes from the cache what is at the place no more.
    fn forget_cached_but(&self, segments: &[(SegmentId, Segment)]) {
        let kept: HashSet<SegmentId> = segments.iter().map(|(id, _)| *id).collect();
        self.remove_cached(|cached| !kept.contains(&cached));
    }

    fn remove_cached(&self, is_meant: impl Fn(SegmentId) -> bool) {
        let Cache::ReadWrite(folder) = &self.cache else { return };
        for entry in fs::read_dir(self.cache_folder(folder)).into_iter().flatten().flatten() {
            let name = entry.file_name();
            let leaf = name.to_str().and_then(|name| name.strip_prefix("index-"));
            if leaf.and_then(SegmentId::parse).is_some_and(|(id, _)| is_meant(id)) {
                // A file that stays costs room, no more.
                let _ = fs::remove_file(entry.path());
            }
        }
    }
}
