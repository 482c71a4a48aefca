//! The directories of containers, and whether all they list is there.

use std::sync::Arc;

use skellin_place::Extent;

use crate::{
    containers::Container,
    error::{Result, StoreError},
    format::{
        block::Block,
        container::{
            ContainerHeader, ContainerKey, Directory, HEADER, TRAILER, claimed_range,
            directory_range, open_directory, open_headless,
        },
        ids::{Class, ContainerId, Prefix},
        parity,
    },
    reading::rereading::twice,
    store::Store,
};

/// A directory of a container is fetched together with the trailer if it is no longer than this.
const USUAL_DIRECTORY: u64 = 64 << 10;

/// What a proof of a container found.
pub(crate) struct ProvenContents {
    /// Contents that are damaged, with the offset of their block.
    pub bad: Vec<(Prefix, u64)>,
    /// Whether there must be a second copy of it.
    pub has_spare: bool,
    /// What is wrong with it apart from its contents.
    pub flaw: Option<&'static str>,
}

impl Store {
    /// What lies in a container of known size, read from its end.
    pub(crate) fn read_directory(&self, id: ContainerId, size: u64) -> Result<Directory> {
        match twice(&*self.place, || self.read_directory_once(id, size)) {
            Err(error) if error.is_damage() => match self.other_bytes(id) {
                Ok(Some(bytes)) => self
                    .key_and_directory(id, &bytes)
                    .map(|(_, directory)| directory)
                    .map_err(|_| error),
                _ => Err(error),
            },
            other => other,
        }
    }

    /// A container that is damaged, by its parity or from its second copy.
    fn other_bytes(&self, id: ContainerId) -> Result<Option<Arc<Vec<u8>>>> {
        let Some(spare) = id.spare()? else { return self.mended(id) };
        let mut bytes = Vec::new();
        self.place.read(
            &spare,
            Extent::Within(self.header.layout.longest_container()),
            &mut bytes,
        )?;
        Ok(Some(Arc::new(bytes)))
    }

    /// Key and directory of a container of which all bytes are at hand.
    fn key_and_directory(
        &self,
        id: ContainerId,
        bytes: &[u8],
    ) -> Result<(ContainerKey, Directory)> {
        let text = id.to_string();
        let header = ContainerHeader::decode(bytes, &text)?;
        let key = self.key_by_header(id, &header, None)?;
        let length = bytes.len() as u64;
        let (from, to) = directory_range(bytes, bytes, length, &text)?;
        let sealed = bytes[from as usize..to as usize].to_vec();
        let directory = open_directory(&self.keys, bytes, &header, &key, (sealed, length), &text)?;
        self.learn_run_key(id.run, id.class, &header.wrapped);
        Ok((key, directory))
    }

    fn read_directory_once(&self, id: ContainerId, size: u64) -> Result<Directory> {
        let object = id.object()?;
        let text = object.as_str();
        let mut head = Vec::new();
        let extent = Extent::Range { offset: 0, length: HEADER as u64 };
        self.place.read(&object, extent, &mut head)?;
        let header = ContainerHeader::decode(&head, text)?;
        let key = self.key_by_header(id, &header, None)?;
        let mut tail = Vec::new();
        self.place.read(&object, Extent::Tail(USUAL_DIRECTORY), &mut tail)?;
        let (from, to) = directory_range(&head, &tail, size, text)?;
        if to - from > self.header.layout.longest_container() {
            return Err(StoreError::damaged(text, "its directory would be too long"));
        }
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
        let directory = open_directory(&self.keys, &head, &header, &key, (sealed, size), text)?;
        // What opened is signed, and names the header.
        self.learn_run_key(id.run, id.class, &header.wrapped);
        Ok(directory)
    }

    /// Key and directory of a container whose header or trailer is damaged, by what the index says of it.
    /// `None` if that does not do, or nothing of the kind is damaged: then it is as somebody wrote it.
    fn by_index(&self, id: ContainerId, bytes: &[u8]) -> Option<(ContainerKey, Directory)> {
        let number = self.containers.number(id, None);
        let container: Arc<Container> = self.containers.get(number);
        let (salt, run_key) = (*container.salt.get()?, self.run_key(id)?);
        let key = ContainerKey::new(&run_key, id, &salt);
        let blocks_end = self.index.end_of_blocks(number);
        let without_parity = bytes.len().checked_sub(TRAILER);
        let ranges = [claimed_range(bytes), blocks_end.zip(without_parity)];
        for (from, to) in ranges.into_iter().flatten() {
            let Some(sealed) = bytes.get(from..to) else { continue };
            let opened = open_headless(&self.keys, id, &key, sealed.to_vec());
            let Ok((header, mut directory)) = opened else { continue };
            let is_header_whole =
                bytes.get(..HEADER).is_some_and(|bytes| *blake3::hash(bytes).as_bytes() == header);
            let is_end_whole = directory_range(bytes, bytes, bytes.len() as u64, "").is_ok();
            if is_header_whole && is_end_whole {
                return None;
            }
            (directory.salt, directory.length) = (salt, bytes.len() as u64);
            return Some((key, directory));
        }
        None
    }

    /// What lies in a container, also where its header or trailer is damaged, as long as the index knows it.
    pub(crate) fn read_directory_somehow(&self, id: ContainerId, size: u64) -> Result<Directory> {
        match self.read_directory(id, size) {
            Err(error) if error.is_damage() || matches!(error, StoreError::Newer { .. }) => {
                let mut bytes = Vec::new();
                let extent = Extent::Within(self.header.layout.longest_container());
                self.place.read(&id.object()?, extent, &mut bytes)?;
                self.by_index(id, &bytes).map(|(_, directory)| directory).ok_or(error)
            }
            other => other,
        }
    }

    /// Proves a copy of a whole container: every block opens, every chunk has its fingerprint.
    pub(crate) fn prove_container(&self, id: ContainerId, bytes: &[u8]) -> Result<ProvenContents> {
        let (key, directory, mut flaw) = match self.key_and_directory(id, bytes) {
            Ok((key, directory)) => (key, directory, None),
            Err(error) => {
                let (key, directory) = self.by_index(id, bytes).ok_or(error)?;
                (key, directory, Some("its header or its end is damaged"))
            }
        };
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
                    bad.push((row.fingerprint.prefix(), u64::from(*offset)));
                }
            }
        }
        let has_parity = directory.end as usize + TRAILER < bytes.len();
        if has_parity && !parity::is_whole(bytes, &self.parity_key(id)) {
            flaw = flaw.or(Some("its parity is damaged"));
        }
        Ok(ProvenContents { bad, has_spare: directory.has_spare, flaw })
    }
}
