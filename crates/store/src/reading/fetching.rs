//! How blocks come from the place: alone from near ones, with what is around them from far ones.

use std::sync::{Arc, atomic::Ordering};

use skellin_place::{Extent, ObjectName};

use crate::{
    containers::{Container, ContainerIx, Location, Standing},
    error::{Result, StoreError},
    format::{block::Block, container::ContainerKey, ids::Class, spare},
    reading::rereading::twice,
    store::Store,
    tree::{ChunkRef, Spot},
};

/// So much of a tree container comes along with what is asked for from a far place, in bytes: about
/// what a slow line carries in the time of one request.
const AROUND: u64 = 384 << 10;
/// Blocks that lie no further apart than this are fetched together, in bytes,
const GAP: u64 = 64 << 10;
/// up to so many bytes.
const LONGEST_RANGE: u64 = 8 << 20;

impl Store {
    /// A block, from memory or from the place. One that is not what was written makes its
    /// container suspect, also where a second copy helps.
    pub(crate) fn block(&self, location: &Location) -> Result<Arc<Block>> {
        let at = (location.container, location.block);
        if let Some(block) = self.blocks.get(at) {
            return Ok(block);
        }
        let container = self.containers.get(location.container);
        let key = self.container_key(&container)?;
        let number = u32::from(location.block);
        // What is kept here proves itself; what does not is fetched.
        let kept = self.kept(&container, location).and_then(|kept| key.open(number, kept));
        let block = match kept.and_then(Block::parse) {
            Some(block) => block,
            None => self.block_at_place(&container, location, &key)?,
        };
        let block = Arc::new(block);
        self.blocks.put(at, &block);
        Ok(block)
    }

    /// A block as the place has it, from the second copy of its container if need be.
    fn block_at_place(
        &self,
        container: &Container,
        location: &Location,
        key: &ContainerKey,
    ) -> Result<Block> {
        let open = |object: &ObjectName| -> Result<Block> {
            let sealed = self.sealed(container, location, object)?;
            let damaged = |why: &str| StoreError::damaged(object.as_str(), why);
            let plain = key.open(location.block.into(), sealed);
            let plain = plain.ok_or_else(|| damaged("a block is not authentic"))?;
            Block::parse(plain).ok_or_else(|| damaged("a block cannot be decompressed"))
        };
        let object = container.id.object()?;
        let mut first = twice(&*self.place, || open(&object));
        match &first {
            Ok(_) if container.id.class == Class::Tree => self.proven.insert(location),
            Err(error) if error.is_unreadable() => {
                self.give_up(location.container, error);
                if let Some(spare) = container.id.spare()? {
                    first = twice(&*self.place, || open(&spare)).or(first);
                }
                let at = (location.block, location.offset, location.length);
                if first.is_err()
                    && let Ok(Some(block)) = self.mended_block(container, at, key)
                {
                    first = Ok(block);
                }
            }
            _ => {}
        }
        if first.as_ref().is_err_and(StoreError::is_damage) {
            container.mark_lost();
        }
        first
    }

    /// Takes a container out of use if an error says that its bytes are not what was written, or
    /// that it is gone.
    pub(crate) fn give_up(&self, number: ContainerIx, error: &StoreError) {
        let container = self.containers.get(number);
        match error {
            StoreError::Place(error) if error.is_not_found() => {
                container.set_standing(Standing::Absent);
            }
            error if error.is_damage() => self.suspect(container.id, &error.in_short()),
            _ => {}
        }
    }

    /// A block as it lies at the place, if it is kept on this machine.
    fn kept(&self, container: &Container, location: &Location) -> Option<Vec<u8>> {
        let (offset, length) = (u64::from(location.offset), location.length as usize);
        let range = self.nearby.range(location.container, offset, length);
        range.or_else(|| self.nearby.tree_part(container.id, offset, length))
    }

    /// A block as it lies at the place. From far places what is around it comes along.
    fn sealed(
        &self,
        container: &Container,
        location: &Location,
        object: &ObjectName,
    ) -> Result<Vec<u8>> {
        let (id, number) = (container.id, location.container);
        let (offset, length) = (u64::from(location.offset), location.length as usize);
        let mut bytes = spare::take();
        if location.length > self.header.layout.longest_block(id.class) as u32 {
            return Err(StoreError::damaged(object.as_str(), "a block of it would be too long"));
        }
        if !self.place.is_far() || id.class == Class::Data {
            let extent = Extent::Range { offset, length: length as u64 };
            self.place.read(object, extent, &mut bytes)?;
            return Ok(bytes);
        }
        if self.compares.load(Ordering::Relaxed) && self.nearby.keeps_trees() {
            // Most of it will be asked for, now and by the next run.
            self.place.read(
                object,
                Extent::Within(self.header.layout.longest_container()),
                &mut bytes,
            )?;
            self.nearby.keep_tree(id, &bytes);
            let end = offset.saturating_add(length as u64);
            let part = bytes.get(offset as usize..usize::try_from(end).unwrap_or(usize::MAX));
            return part.map(<[u8]>::to_vec).ok_or_else(|| {
                StoreError::damaged(object.as_str(), "it is shorter than it should be")
            });
        }
        // Trees are written bottom-up: what is asked for next lies before it.
        let from = offset.saturating_sub(AROUND);
        let extent = Extent::Range { offset: from, length: offset - from + length as u64 };
        self.place.read(object, extent, &mut bytes)?;
        let sealed = bytes[(offset - from) as usize..].to_vec();
        self.nearby.keep_range(number, from, bytes);
        Ok(sealed)
    }

    /// From now on trees are gone through as a whole.
    pub(crate) fn compare_trees(&self) {
        self.compares.store(true, Ordering::Relaxed);
    }

    /// Fetches what these chunks need from a far place with as few requests as that takes. What
    /// cannot be fetched is asked for again, and its failure told, when it is read.
    pub fn fetch_ahead(&self, chunks: &[ChunkRef]) {
        if !self.place.is_far() {
            return;
        }
        let mut wanted: Vec<Location> = chunks
            .iter()
            .filter_map(|chunk| match chunk.spot {
                Spot::At(location) => Some(location),
                Spot::Open { .. } | Spot::Unknown => None,
            })
            .filter(|at| {
                let length = at.length as usize;
                self.blocks.get((at.container, at.block)).is_none()
                    && self.nearby.range(at.container, at.offset.into(), length).is_none()
            })
            .collect();
        wanted.sort_by_key(|at| (at.container, at.offset));
        let mut wanted = wanted.into_iter().peekable();
        while let Some(first) = wanted.next() {
            let from = u64::from(first.offset);
            let mut to = from + u64::from(first.length);
            while let Some(next) = wanted.next_if(|next| {
                let (begin, end) =
                    (u64::from(next.offset), u64::from(next.offset) + u64::from(next.length));
                next.container == first.container
                    && begin <= to + GAP
                    && end - from <= LONGEST_RANGE
            }) {
                to = to.max(u64::from(next.offset) + u64::from(next.length));
            }
            let mut bytes = Vec::new();
            let extent = Extent::Range { offset: from, length: to - from };
            let object = self.containers.get(first.container).id.object();
            if object.is_ok_and(|object| self.place.read(&object, extent, &mut bytes).is_ok()) {
                self.nearby.keep_range(first.container, from, bytes);
            }
        }
    }

    /// Removes what interrupted work has left at the place before so many seconds; at far places
    /// not each time.
    pub fn sweep(&self, age_seconds: u64) {
        if self.nearby.is_sweep_due() {
            // Leftovers cost room, no more.
            let _ = self.place.sweep(age_seconds);
        }
    }
}
