//! Index segments at the place and in the cache: loaded, written, merged; and the containers none
//! of them lists yet.

use std::{
    collections::{HashMap, HashSet},
    fs,
    io::Read as _,
    os::unix::fs::FileExt as _,
    path::{Path, PathBuf},
    sync::atomic::Ordering,
};

use skellin_place::ObjectName;

use crate::{
    bounds,
    error::{Result, StoreError},
    ids::{Class, ContainerId, RunId, unhex},
    index::{Cache, add_to_draft},
    nearby::write_private,
    rereading::twice,
    segment::{Record, Segment, SegmentBytes, SegmentDraft, SegmentId},
    signed::{Machine, Signed},
    store::Store,
};

/// A file of the cache, after its proof. It is read and never mapped: a mapping of a file that
/// somebody cuts, or on a failing disk, ends the process.
struct CachedBytes {
    file: fs::File,
    length: u64,
}

/// Bytes of the proof before the body.
const PROOF: usize = 32;
/// Cached segments up to so many bytes are kept in memory,
const MOST_IN_MEMORY: u64 = 8 << 20;
/// as long as all of them together have no more than this.
const ALL_IN_MEMORY: u64 = 64 << 20;

impl SegmentBytes for CachedBytes {
    fn len(&self) -> u64 {
        self.length
    }

    fn read(&self, at: u64, into: &mut [u8]) -> bool {
        self.file.read_exact_at(into, PROOF as u64 + at).is_ok()
    }
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
    fn object(self) -> Result<ObjectName> {
        Ok(ObjectName::new(self.to_string())?)
    }

    fn parse(leaf: &str) -> Option<Self> {
        let (run, number) = leaf.split_once('-')?;
        let number = u32::from_be_bytes(unhex(number)?.try_into().ok()?);
        Some(Self { run: RunId::parse(run)?, number })
    }
}

impl Store {
    /// Loads the index for a run or a check: what was damaged of it is handed back, and the
    /// containers that are there.
    pub(crate) fn load_index_now(&self) -> Result<Found> {
        let mut loaded =
            self.index_loaded.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let found = self.load_index()?;
        *loaded = true;
        Ok(found)
    }

    /// Loads every segment, and the directory of every container that none of them lists; takes
    /// the listing as the truth about which containers are there, and how long they are.
    ///
    /// Damaged segments are passed over: what they said is read from the containers again.
    pub(crate) fn load_index(&self) -> Result<Found> {
        let mut found = Found::default();
        self.load_segments(&mut found)?;
        found.containers = self.list_containers()?;
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
        for (id, size) in found.containers.iter().filter(|(id, _)| !covered.contains(id)) {
            match self.read_directory(*id, *size) {
                Ok(directory) => add_to_draft(&mut found.unlisted, *id, &directory),
                // Torn by a crash, or gone since it was listed: it does not exist.
                Err(error) if error.is_unreadable() => found.damage.push(error),
                Err(error) => return Err(error),
            }
        }
        if !found.unlisted.containers.is_empty() {
            let bytes = found.unlisted.clone().encode();
            self.index.add(Segment::parse(Box::new(bytes), "the index")?, &self.containers);
        }
        Ok(found)
    }

    fn load_segments(&self, found: &mut Found) -> Result<()> {
        // A merge may delete segments between the listing and the reading: then it has put one
        // that holds the same, and another listing shows it.
        for _ in 0..8 {
            let ids = self.listed_segments()?;
            let mut segments = Vec::new();
            let mut complete = true;
            for id in ids {
                match self.load_segment(id) {
                    Ok(segment) => segments.push((id, segment)),
                    Err(StoreError::Place(error)) if error.is_not_found() => complete = false,
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
                for (_, segment) in segments.into_iter().filter(|(id, _)| !merged.contains(id)) {
                    self.index.add(segment, &self.containers);
                }
                return Ok(());
            }
        }
        Err(StoreError::damaged("index", "its segments keep disappearing while being read"))
    }

    fn load_segment(&self, id: SegmentId) -> Result<Segment> {
        if let Some(cached) = self.cached_segment(id) {
            return Segment::parse(cached, &id.to_string());
        }
        let body = self.segment_at_place(id)?;
        Segment::parse(self.keep_segment(id, body), &id.to_string())
    }

    /// The body of a segment as it lies at the place.
    pub(crate) fn segment_at_place(&self, id: SegmentId) -> Result<Vec<u8>> {
        twice(&*self.place, || self.segment_once(id))
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
        Ok(listed.iter().filter_map(|object| SegmentId::parse(object.name.leaf())).collect())
    }

    /// Seals, signs and puts a segment, and loads it.
    pub(crate) fn write_segment(
        &self,
        id: SegmentId,
        draft: SegmentDraft,
        machine: &Machine,
    ) -> Result<()> {
        let (object, level) = (id.to_string(), draft.level);
        let body = draft.encode();
        let hash = blake3::hash(&body).as_bytes().to_vec();
        let signed = machine.sign(object.as_bytes(), hash).encode();
        let length = (signed.len() as u32).to_le_bytes();
        let plain = [length.as_slice(), &signed, &body].concat();
        self.place.create(&id.object()?, &self.keys.index.seal(&plain, object.as_bytes())?)?;
        drop(plain);
        let segment = Segment::parse(self.keep_segment(id, body), &object)?;
        self.segments.added(id, level, segment.len());
        self.index.add(segment, &self.containers);
        Ok(())
    }

    /// Merges eight small segments of a level into one of the next, where there are so many.
    pub(crate) fn merge_segments(
        &self,
        machine: &Machine,
        mut next_id: impl FnMut() -> SegmentId,
    ) -> Result<()> {
        while let Some((level, inputs)) = self.segments.mergeable() {
            let mut draft = SegmentDraft {
                level: level + 1,
                inputs: inputs.clone(),
                ..SegmentDraft::default()
            };
            let mut numbers = HashMap::new();
            for id in &inputs {
                let segment = match self.load_segment(*id) {
                    Ok(segment) => segment,
                    // Somebody else merged at the same time: facts only grow, nothing is lost.
                    Err(error) if error.is_damage() => return Ok(()),
                    Err(error) => return Err(error),
                };
                segment.for_each(&id.to_string(), |record| {
                    let container = segment.containers.get(record.container as usize);
                    let container = container.ok_or_else(|| {
                        StoreError::damaged(id.to_string(), "a record without container")
                    })?;
                    let number = *numbers.entry(container.id).or_insert_with(|| {
                        draft.containers.push(container.clone());
                        (draft.containers.len() - 1) as u32
                    });
                    draft.records.push(Record { container: number, ..record });
                    Ok(())
                })?;
            }
            let merged = next_id();
            if let Err(error) = self.write_segment(merged, draft, machine) {
                // Half of it may lie there, and nobody else will ever clear it away.
                let _ = self.place.delete(&merged.object()?);
                return Err(error);
            }
            for id in &inputs {
                self.place.delete(&id.object()?)?;
                self.forget_cached(*id);
            }
            self.segments.removed(&inputs);
        }
        Ok(())
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

    fn cache_file(&self, id: SegmentId, folder: &Path) -> PathBuf {
        let leaf = id.to_string().replace('/', "-");
        folder.join(self.header.store.to_string()).join(leaf)
    }

    /// A segment from the cache, if it is there and proves to be what was written.
    fn cached_segment(&self, id: SegmentId) -> Option<Box<dyn SegmentBytes>> {
        let (Cache::ReadOnly(folder) | Cache::ReadWrite(folder)) = &self.cache else { return None };
        let mut file = fs::File::open(self.cache_file(id, folder)).ok()?;
        let length = file.metadata().ok()?.len().checked_sub(PROOF as u64)?;
        let mut proof = [0; PROOF];
        file.read_exact(&mut proof).ok()?;
        let mut hasher = self.cache_hasher(id);
        let in_memory = self.has_room_for(length);
        let (mut body, mut piece) = (Vec::new(), vec![0; 64 << 10]);
        let mut left = length;
        while left > 0 {
            let part = piece.get_mut(..left.min(64 << 10) as usize)?;
            file.read_exact(part).ok()?;
            hasher.update(part);
            if in_memory {
                body.extend_from_slice(part);
            }
            left -= part.len() as u64;
        }
        let good = hasher.finalize() == proof;
        good.then(|| -> Box<dyn SegmentBytes> {
            if in_memory {
                self.in_memory.fetch_add(length, Ordering::Relaxed);
                Box::new(body)
            } else {
                Box::new(CachedBytes { file, length })
            }
        })
    }

    /// Whether a segment of so many bytes is kept in memory.
    fn has_room_for(&self, length: u64) -> bool {
        length <= MOST_IN_MEMORY
            && self.in_memory.load(Ordering::Relaxed).saturating_add(length) <= ALL_IN_MEMORY
    }

    fn cache_hasher(&self, id: SegmentId) -> blake3::Hasher {
        let key = self.keys.index.derive("segment cache");
        let mut hasher = blake3::Hasher::new_keyed(&key.0);
        hasher.update(id.to_string().as_bytes());
        hasher
    }

    /// Keeps a segment in the cache if there is one, else in memory. A cache that cannot be
    /// written costs time, not the run.
    fn keep_segment(&self, id: SegmentId, body: Vec<u8>) -> Box<dyn SegmentBytes> {
        if let Cache::ReadWrite(folder) = &self.cache {
            let path = self.cache_file(id, folder);
            let proof = self.cache_hasher(id).update(&body).finalize();
            let kept = write_private(&path, &[proof.as_bytes().as_slice(), &body].concat());
            if kept.is_ok()
                && !self.has_room_for(body.len() as u64)
                && let Some(cached) = self.cached_segment(id)
            {
                return cached;
            }
        }
        self.in_memory.fetch_add(body.len() as u64, Ordering::Relaxed);
        Box::new(body)
    }

    pub(crate) fn forget_cached(&self, id: SegmentId) {
        if let Cache::ReadWrite(folder) = &self.cache {
            // A file that stays costs room, no more.
            let _ = fs::remove_file(self.cache_file(id, folder));
        }
    }
}
