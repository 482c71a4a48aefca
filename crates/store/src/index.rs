//! Which content the store has, and where: all index segments that are loaded.

use std::{
    collections::HashSet,
    path::PathBuf,
    sync::{Arc, PoisonError, RwLock},
};

use crate::{
    container::Directory,
    containers::{ContainerIx, Containers, Location},
    error::Result,
    ids::{ContainerId, Prefix},
    segment::{Record, Segment, SegmentContainer, SegmentDraft},
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

struct Loaded {
    segment: Segment,
    /// The process's number of each of its containers.
    numbers: Vec<ContainerIx>,
}

/// All segments that are loaded.
#[derive(Default)]
pub(crate) struct Index {
    segments: RwLock<Vec<Arc<Loaded>>>,
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
        for loaded in segments.iter() {
            for Record { container, block, chunk, .. } in loaded.segment.find(prefix) {
                let number = *loaded.numbers.get(container as usize)?;
                let (offset, length) = *loaded.segment.containers[container as usize]
                    .blocks
                    .get(usize::from(block))?;
                if test(number) {
                    return Some(Location { container: number, block, chunk, offset, length });
                }
            }
        }
        None
    }

    pub fn add(&self, segment: Segment, containers: &Containers) {
        let numbers = segment
            .containers
            .iter()
            .map(|container| {
                let number = containers.number(container.id, Some(&container.salt));
                containers.get(number).learn_length(container.required());
                number
            })
            .collect();
        let loaded = Arc::new(Loaded { segment, numbers });
        self.segments.write().unwrap_or_else(PoisonError::into_inner).push(loaded);
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
            loaded.segment.for_each("the index", |record| {
                let number = loaded.numbers.get(record.container as usize);
                if let Some(number) = number.filter(|number| wanted.contains(number)) {
                    let blocks = &loaded.segment.containers[record.container as usize].blocks;
                    let offset = blocks.get(usize::from(record.block)).map_or(0, |(at, _)| *at);
                    each(*number, record, u64::from(offset));
                }
                Ok(())
            })?;
        }
        Ok(())
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

/// Puts the content of a container into a segment.
pub(crate) fn add_to_draft(draft: &mut SegmentDraft, id: ContainerId, directory: &Directory) {
    let container = draft.containers.len() as u32;
    draft.containers.push(SegmentContainer {
        id,
        salt: directory.salt,
        blocks: directory.blocks.clone(),
        length: directory.length,
    });
    draft.records.extend(directory.rows.iter().map(|row| Record {
        prefix: row.fingerprint.prefix(),
        container,
        block: row.block,
        chunk: row.chunk,
    }));
}
