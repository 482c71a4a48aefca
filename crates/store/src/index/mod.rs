//! Which content the store has, and where: index segments, what loads them, and what keeps them few.

mod bytes;
mod cached;
mod draft;
mod layout;
mod loading;
mod merging;
mod part;
mod record;
mod segment;
mod tiers;

use std::{
    collections::HashSet,
    path::PathBuf,
    sync::{
        Arc, PoisonError, RwLock,
        atomic::{AtomicUsize, Ordering},
    },
};

pub(crate) use draft::SegmentDraft;
pub(crate) use layout::{SegmentContainer, SegmentId};
pub(crate) use loading::{Found, Listing};
pub(crate) use merging::RECORDS_A_PART;
pub(crate) use record::Record;
pub(crate) use tiers::Tiers;

/// A segment from its body, and what it knows, whatever becomes of it.
#[cfg(any(test, fuzzing))]
pub(crate) fn read_segment(body: Vec<u8>, object: &str, part: &mut segment::OpenPart<'_>) {
    if let Ok(segment) = Segment::parse(Box::new(body), object, part) {
        let mut records = segment.records(object);
        while let Ok(Some(_)) = records.next() {}
        segment.each_of(&[7; 16], |_, _| true);
    }
}

pub(crate) use segment::{Records, Segment};

use crate::{
    containers::{ContainerIx, Containers, Location},
    error::Result,
    format::ids::{ContainerId, Prefix},
};

/// Where decrypted segments are kept between runs, and whether new ones may be written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Cache {
    /// Nowhere.
    None,
    /// What is there may be used, nothing is written.
    ReadOnly(PathBuf),
    /// Used and written.
    ReadWrite(PathBuf),
}

pub(crate) struct Loaded {
    /// None for what no segment at the place says.
    pub id: Option<SegmentId>,
    pub segment: Segment,
    /// The process's number of each of its containers.
    pub numbers: Vec<ContainerIx>,
}

impl Loaded {
    /// Where a record says that its content lies; nothing if its tables do not have that.
    fn location(&self, &Record { container, block, chunk, .. }: &Record) -> Option<Location> {
        let number = *self.numbers.get(container as usize)?;
        let blocks = &self.segment.containers.get(container as usize)?.blocks;
        let (offset, length) = *blocks.get(usize::from(block))?;
        Some(Location { container: number, block, chunk, offset, length })
    }
}

/// All segments that are loaded.
#[derive(Default)]
pub(crate) struct Index {
    segments: RwLock<Vec<Arc<Loaded>>>,
    /// The segment that had what was looked for last: what is asked for next was mostly written with it.
    last: AtomicUsize,
}

impl Index {
    /// Where the content of a prefix lies, in a container new snapshots may refer to.
    pub fn find(&self, prefix: &Prefix, containers: &Containers) -> Option<Location> {
        self.find_where(prefix, |number| containers.get(number).is_usable())
    }

    /// Where the content of a prefix lies, in a container that passes the test.
    pub fn find_where(
        &self,
        prefix: &Prefix,
        mut test: impl FnMut(ContainerIx) -> bool,
    ) -> Option<Location> {
        let segments = self.segments.read().unwrap_or_else(PoisonError::into_inner);
        let last = self.last.load(Ordering::Relaxed).min(segments.len());
        let (others, from_last) = segments.split_at(last);
        for (at, loaded) in (last..).zip(from_last).chain((0..).zip(others)) {
            let mut found = None;
            loaded.segment.each_of(prefix, |_, record| {
                found = loaded.location(&record).filter(|location| test(location.container));
                found.is_none()
            });
            if found.is_some() {
                if at != last {
                    self.last.store(at, Ordering::Relaxed);
                }
                return found;
            }
        }
        None
    }

    fn add(&self, id: Option<SegmentId>, segment: Segment, containers: &Containers) {
        let numbers = segment
            .containers
            .iter()
            .map(|container| {
                let number = containers.number(container.id, Some(&container.salt));
                containers.get(number).learn_length(container.required());
                number
            })
            .collect();
        let loaded = Arc::new(Loaded { id, segment, numbers });
        self.segments.write().unwrap_or_else(PoisonError::into_inner).push(loaded);
    }

    /// Lets go of segments whose facts another one repeats.
    fn drop_segments(&self, ids: &[SegmentId]) {
        let mut segments = self.segments.write().unwrap_or_else(PoisonError::into_inner);
        segments.retain(|loaded| !loaded.id.is_some_and(|id| ids.contains(&id)));
    }

    /// Hands over every content that lies in some containers.
    pub fn contents_of(
        &self,
        wanted: &HashSet<ContainerIx>,
        each: &mut dyn FnMut(ContainerIx, Record, u64),
    ) -> Result<()> {
        let segments = self.segments.read().unwrap_or_else(PoisonError::into_inner).clone();
        for loaded in segments {
            if !loaded.numbers.iter().any(|number| wanted.contains(number)) {
                continue;
            }
            let mut records = loaded.segment.records("the index");
            while let Some(record) = records.next()? {
                let number = loaded.numbers.get(record.container as usize);
                if let Some(number) = number.filter(|number| wanted.contains(number)) {
                    let blocks = &loaded.segment.containers[record.container as usize].blocks;
                    let offset = blocks.get(usize::from(record.block)).map_or(0, |(at, _)| *at);
                    each(*number, record, u64::from(offset));
                }
            }
        }
        Ok(())
    }

    /// Where the last block of a container ends, if a segment lists it.
    pub fn end_of_blocks(&self, number: ContainerIx) -> Option<usize> {
        let segments = self.segments.read().unwrap_or_else(PoisonError::into_inner).clone();
        segments.iter().find_map(|loaded| {
            let at = loaded.numbers.iter().position(|one| *one == number)?;
            let (offset, length) = loaded.segment.containers.get(at)?.blocks.last()?;
            Some(*offset as usize + *length as usize)
        })
    }

    /// The segments as they are now.
    pub fn loaded(&self) -> Vec<Arc<Loaded>> {
        self.segments.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Whether some of it could not be read any more, so that content it knows is stored again.
    pub fn has_failed(&self) -> bool {
        let segments = self.segments.read().unwrap_or_else(PoisonError::into_inner);
        segments.iter().any(|loaded| loaded.segment.has_failed())
    }

    /// The containers that some segment lists.
    pub fn covered(&self) -> HashSet<ContainerId> {
        let segments = self.segments.read().unwrap_or_else(PoisonError::into_inner);
        let listed = segments.iter().flat_map(|loaded| &loaded.segment.containers);
        listed.map(|container| container.id).collect()
    }
}

#[cfg(test)]
mod tests;
