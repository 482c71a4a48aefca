//! Containers that are mended by their own parity, in memory, while they are read.

use std::sync::{Arc, PoisonError, atomic::Ordering};

use skellin_place::{Extent, ObjectName, PlaceError, PlaceErrorKind};

use crate::{
    containers::Container,
    error::Result,
    format::{
        block::Block,
        container::{self, ContainerKey},
        ids::{Class, ContainerId},
        parity::{MOST, ParityKey},
    },
    store::Store,
};

/// Where an object cannot be read in one piece it is read in pieces of so many bytes,
const PIECE: u64 = 64 << 10;
/// and where one of those cannot, in pieces of so many: as parity counts.
const SECTOR: u64 = 4 << 10;

impl Store {
    /// From now on containers of data get parity of so many percent of their size.
    pub fn set_parity(&self, percent: u8) {
        self.parity.store(percent.min(MOST), Ordering::Relaxed);
    }

    /// The parity a new container gets. Trees get none: they are kept twice.
    pub(crate) fn parity_of(&self, id: ContainerId) -> Option<(u8, ParityKey)> {
        let percent = self.parity.load(Ordering::Relaxed);
        (percent > 0 && id.class == Class::Data).then(|| (percent, self.parity_key(id)))
    }

    pub(crate) fn parity_key(&self, id: ContainerId) -> ParityKey {
        ParityKey::new(&self.keys.index, id)
    }

    /// A container as it was written, if the place has another and its parity makes up for that.
    pub(crate) fn mended(&self, id: ContainerId) -> Result<Option<Arc<Vec<u8>>>> {
        if id.class != Class::Data {
            return Ok(None);
        }
        // One at a time: each takes as much memory as a container.
        let mut last = self.mended.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((known, mended)) = &*last
            && *known == id
        {
            return Ok(mended.clone());
        }
        let bytes = self.read_around_gaps(id)?;
        let mended = container::mend(&bytes, &self.parity_key(id)).map(Arc::new);
        *last = Some((id, mended.clone()));
        Ok(mended)
    }

    /// A block of a container that was mended.
    pub(crate) fn mended_block(
        &self,
        container: &Container,
        (number, offset, length): (u16, u32, u32),
        key: &ContainerKey,
    ) -> Result<Option<Block>> {
        let Some(bytes) = self.mended(container.id)? else { return Ok(None) };
        let range = offset as usize..offset as usize + length as usize;
        let sealed = bytes.get(range).map(<[u8]>::to_vec);
        Ok(sealed.and_then(|sealed| key.open(number.into(), sealed)).and_then(Block::parse))
    }

    /// The bytes of a container; what no disk gives back any more is zeros.
    fn read_around_gaps(&self, id: ContainerId) -> Result<Vec<u8>> {
        let object = id.object()?;
        let mut bytes = Vec::new();
        let extent = Extent::Within(self.header.layout.longest_container());
        let error = match self.place.read(&object, extent, &mut bytes) {
            Ok(()) => return Ok(bytes),
            Err(error) if error.is_lost_sector() => error,
            Err(error) => return Err(error.into()),
        };
        let number = self.containers.number(id, None);
        let length = self.containers.get(number).exact_length().ok_or(error)?;
        bytes.clear();
        self.read_pieces(&object, (0, length), PIECE, &mut bytes)?;
        Ok(bytes)
    }

    fn read_pieces(
        &self,
        object: &ObjectName,
        (from, to): (u64, u64),
        piece: u64,
        into: &mut Vec<u8>,
    ) -> Result<()> {
        for offset in (from..to).step_by(piece as usize) {
            let length = piece.min(to - offset);
            let mut bytes = Vec::new();
            match self.place.read(object, Extent::Range { offset, length }, &mut bytes) {
                Ok(()) => into.extend_from_slice(&bytes),
                Err(error) if is_gap(&error) && piece > SECTOR => {
                    self.read_pieces(object, (offset, offset + length), SECTOR, into)?;
                }
                Err(error) if is_gap(&error) => {
                    into.resize(into.len() + length as usize, 0);
                }
                Err(error) => return Err(error.into()),
            }
        }
        Ok(())
    }
}

fn is_gap(error: &PlaceError) -> bool {
    error.is_lost_sector() || error.kind == PlaceErrorKind::Short
}
