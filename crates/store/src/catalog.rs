//! Index segments at the place and in the cache: loaded, written, merged; and the containers none
//! of them lists yet.

use std::{
    collections::{HashMap, HashSet},
    fs,
    path::{Path, PathBuf},
};

use memmap2::Mmap;
use skellin_place::ObjectName;

use crate::{
    error::{Result, StoreError},
    ids::{Class, ContainerId, RunId, unhex},
    index::{Cache, add_to_draft},
    nearby::write_private,
    segment::{Record, Segment, SegmentBytes, SegmentDraft, SegmentId},
    signed::{Machine, Signed},
    store::{Found, Store},
};

/// A mapped file of the cache, after its proof.
struct CachedBytes(Mmap);

/// Bytes of the proof before the body.
const PROOF: usize = 32;

impl SegmentBytes for CachedBytes {
    fn bytes(&self) -> &[u8] {
        &self.0[PROOF..]
    }
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
    /// Loads every segment, and the directory of every container that none of them lists; takes
    /// the listing as the truth about which containers are there.
    ///
    /// Damaged segments are passed over: what they said is read from the containers again.
    pub(crate) fn load_index(&self) -> Result<Found> {
        let mut damage = Vec::new();
        self.load_segments(&mut damage)?;
        let listed = self.list_containers()?;
        let ids: Vec<ContainerId> = listed.iter().map(|(id, _)| *id).collect();
        self.containers.set_present(&ids);
        let covered = self.index.covered();
        let mut draft = SegmentDraft::default();
        for (id, size) in listed.iter().filter(|(id, _)| !covered.contains(id)) {
            match self.read_directory(*id, *size) {
                Ok(directory) => add_to_draft(&mut draft, *id, &directory),
                // Torn by a crash, or gone since it was listed: it does not exist.
                Err(error) if error.is_damage() => damage.push(error),
                Err(error) => return Err(error),
            }
        }
        if !draft.containers.is_empty() {
            self.index
                .add(Segment::parse(Box::new(draft.encode()), "the index")?, &self.containers);
        }
        Ok((damage, listed))
    }

    fn load_segments(&self, damage: &mut Vec<StoreError>) -> Result<()> {
        // A merge may delete segments between the listing and the reading: then it has put one
        // that holds the same, and another listing shows it.
        for _ in 0..8 {
            let listed = self.place.listing("index")?;
            let ids: Vec<SegmentId> =
                listed.iter().filter_map(|object| SegmentId::parse(object.name.leaf())).collect();
            let mut segments = Vec::new();
            let mut complete = true;
            for id in ids {
                match self.load_segment(id) {
                    Ok(segment) => segments.push((id, segment)),
                    Err(StoreError::Place(error)) if error.is_not_found() => complete = false,
                    Err(error) if error.is_damage() => damage.push(error),
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
        Err(StoreError::damaged("index", "its segments keep vanishing while they are read"))
    }

    fn load_segment(&self, id: SegmentId) -> Result<Segment> {
        let object = id.to_string();
        if let Some(cached) = self.cached_segment(id) {
            return Segment::parse(cached, &object);
        }
        let sealed = self.place.fetch(&id.object()?)?;
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
            return Err(damaged("its signature is for other content"));
        }
        let bytes = self.keep_segment(id, body);
        Segment::parse(bytes, &object)
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
        let segment = Segment::parse(self.keep_segment(id, &body), &object)?;
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
                for record in segment.records() {
                    let Some(container) = segment.containers.get(record.container as usize) else {
                        return Err(StoreError::damaged(
                            id.to_string(),
                            "a record without container",
                        ));
                    };
                    let number = *numbers.entry(container.id).or_insert_with(|| {
                        draft.containers.push(container.clone());
                        (draft.containers.len() - 1) as u32
                    });
                    draft.records.push(Record { container: number, ..record });
                }
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
        let file = fs::File::open(self.cache_file(id, folder)).ok()?;
        #[expect(unsafe_code, reason = "a mapping has no safe form")]
        // SAFETY: the cache is the user's own, its files are moved into place whole and never
        // written again; whoever truncates one while it is mapped can end this process, no more.
        let mapped = unsafe { Mmap::map(&file) }.ok()?;
        let (proof, body) = mapped.split_first_chunk::<PROOF>()?;
        let good = self.cache_proof(id, body) == *proof;
        good.then(|| Box::new(CachedBytes(mapped)) as Box<dyn SegmentBytes>)
    }

    fn cache_proof(&self, id: SegmentId, body: &[u8]) -> blake3::Hash {
        let key = self.keys.index.derive("segment cache");
        blake3::Hasher::new_keyed(&key.0).update(id.to_string().as_bytes()).update(body).finalize()
    }

    /// Keeps a segment in the cache if there is one, else in memory. A cache that cannot be
    /// written costs time, not the run.
    fn keep_segment(&self, id: SegmentId, body: &[u8]) -> Box<dyn SegmentBytes> {
        if let Cache::ReadWrite(folder) = &self.cache {
            let path = self.cache_file(id, folder);
            let proof = self.cache_proof(id, body);
            if write_private(&path, &[proof.as_bytes().as_slice(), body].concat()).is_ok()
                && let Some(cached) = self.cached_segment(id)
            {
                return cached;
            }
        }
        Box::new(body.to_vec())
    }

    fn forget_cached(&self, id: SegmentId) {
        if let Cache::ReadWrite(folder) = &self.cache {
            // A file that stays costs room, no more.
            let _ = fs::remove_file(self.cache_file(id, folder));
        }
    }
}
