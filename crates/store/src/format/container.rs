//! Containers: the files of many blocks that lie at the place.
//!
//! A container is a clear header, sealed blocks, a sealed directory and a fixed trailer. Without a
//! valid trailer it does not exist. FORMAT.md has the bytes.

use minicbor::{Decode, Encode, bytes::ByteVec};
use ring::aead::{Aad, LessSafeKey, Nonce};

use crate::{
    error::{Result, StoreError},
    format::{
        block::OpenBlock,
        compress::Compressor,
        ids::{Class, ContainerId, Fingerprint, RunId, random},
        keys::{Keys, Secret, WRAPPED},
        parity::{self, Mended, ParityKey},
        signed::{Machine, Signed, decode, encode},
    },
};

const MAGIC: &[u8; 8] = b"SKCARGO1";
const END_MAGIC: &[u8; 8] = b"SKCARGOZ";
/// Bytes of the clear header.
pub(crate) const HEADER: usize = 160;
/// Bytes of the trailer.
pub(crate) const TRAILER: usize = 64;
/// The suite of algorithms.
const SUITE: u8 = 1;
/// The block number under which the directory is sealed.
const DIRECTORY: u32 = u32::MAX;
/// No container holds more blocks.
const MOST_BLOCKS: usize = 8192;
/// A container with so many chunks is full, however small they are: what a run holds of it until it
/// is listed in a segment grows with them.
const ENOUGH_ROWS: usize = 1 << 16;
/// Bytes of a chunk's row in the directory: fingerprint, block, length.
const ROW: usize = 40;
/// Flags this version understands.
const KNOWN_FLAGS: u32 = 0;

/// What makes a container's key, apart from its run's.
pub(crate) type Salt = [u8; 16];

/// The clear header.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ContainerHeader {
    pub id: ContainerId,
    pub epoch: u32,
    pub salt: Salt,
    pub wrapped: [u8; WRAPPED],
}

impl ContainerHeader {
    pub fn encode(&self) -> [u8; HEADER] {
        let mut bytes = [0; HEADER];
        bytes[..8].copy_from_slice(MAGIC);
        bytes[8..10].copy_from_slice(&1u16.to_le_bytes());
        bytes[10] = self.id.class.code();
        bytes[11] = SUITE;
        // 12..16: flags, none yet.
        bytes[16..20].copy_from_slice(&self.epoch.to_le_bytes());
        bytes[20..24].copy_from_slice(&self.id.sequence.to_le_bytes());
        bytes[24..40].copy_from_slice(&self.id.run.0);
        bytes[40..56].copy_from_slice(&self.salt);
        bytes[56..136].copy_from_slice(&self.wrapped);
        bytes
    }

    pub fn decode(bytes: &[u8], object: &str) -> Result<Self> {
        let damaged = |why: &str| StoreError::damaged(object, why);
        let bytes: &[u8; HEADER] =
            bytes.first_chunk().ok_or_else(|| damaged("it is shorter than its header"))?;
        if bytes[..8] != *MAGIC {
            return Err(damaged("it is not a container"));
        }
        let word = |at: usize| {
            u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]])
        };
        let newer = |need: String| StoreError::Newer { object: object.to_owned(), need };
        let version = u16::from_le_bytes([bytes[8], bytes[9]]);
        if version != 1 || bytes[11] != SUITE {
            return Err(newer(format!("container version {version}, suite {}", bytes[11])));
        }
        if word(12) & !KNOWN_FLAGS != 0 {
            return Err(newer(format!("container flags {:#x}", word(12))));
        }
        let class = Class::from_code(bytes[10]).ok_or_else(|| damaged("its class is unknown"))?;
        let (mut run, mut salt, mut wrapped) = ([0; 16], [0; 16], [0; WRAPPED]);
        run.copy_from_slice(&bytes[24..40]);
        salt.copy_from_slice(&bytes[40..56]);
        wrapped.copy_from_slice(&bytes[56..136]);
        let id = ContainerId { class, run: RunId(run), sequence: word(20) };
        Ok(Self { id, epoch: word(16), salt, wrapped })
    }
}

/// Seals and opens the blocks of one container.
pub(crate) struct ContainerKey {
    key: LessSafeKey,
    id: ContainerId,
}

impl ContainerKey {
    pub fn new(run_key: &Secret, id: ContainerId, salt: &Salt) -> Self {
        let mut hasher = blake3::Hasher::new_keyed(&run_key.0);
        hasher.update(b"skellin container v1").update(&[id.class.code()]);
        hasher.update(&id.run.0).update(&id.sequence.to_le_bytes()).update(salt);
        Self { key: Secret(*hasher.finalize().as_bytes()).aead(), id }
    }

    fn nonce(block: u32) -> Nonce {
        let mut nonce = [0; 12];
        nonce[8..].copy_from_slice(&block.to_be_bytes());
        Nonce::assume_unique_for_key(nonce)
    }

    fn bound_to(&self, block: u32) -> Aad<[u8; 26]> {
        let mut data = [0; 26];
        data[0] = SUITE;
        data[1] = self.id.class.code();
        data[2..18].copy_from_slice(&self.id.run.0);
        data[18..22].copy_from_slice(&self.id.sequence.to_le_bytes());
        data[22..].copy_from_slice(&block.to_le_bytes());
        Aad::from(data)
    }

    /// Seals the bytes of `out` from `from` on, in place, and appends the tag.
    fn seal(&self, block: u32, out: &mut Vec<u8>, from: usize) -> Result<()> {
        let (_, plain) = out.split_at_mut(from);
        let tag = self
            .key
            .seal_in_place_separate_tag(Self::nonce(block), self.bound_to(block), plain)
            .map_err(|_| StoreError::damaged(self.id.to_string(), "a block is too long to seal"))?;
        out.extend_from_slice(tag.as_ref());
        Ok(())
    }

    /// Opens a sealed block in place; `None` if it is not authentic.
    pub fn open(&self, block: u32, mut sealed: Vec<u8>) -> Option<Vec<u8>> {
        let plain = self.key.open_in_place(Self::nonce(block), self.bound_to(block), &mut sealed);
        let length = plain.ok()?.len();
        sealed.truncate(length);
        Some(sealed)
    }
}

/// A finished directory of the source whose tree lies in this container or an earlier one of the
/// run: should the run not end, the next one goes on from here.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct Checkpoint {
    /// Full path of the directory.
    #[n(0)]
    pub path: ByteVec,
    /// Root page of its tree.
    #[n(1)]
    pub root: Fingerprint,
}

/// Body of the directory.
#[derive(Encode, Decode)]
#[cbor(map)]
struct DirectoryRecord {
    /// Hash of the clear header, which is thereby authentic too.
    #[cbor(n(0), with = "minicbor::bytes")]
    header: [u8; 32],
    /// Sealed length of each block, 32 bits each.
    #[n(1)]
    blocks: ByteVec,
    /// A row for each chunk, in the order they lie.
    #[n(2)]
    chunks: ByteVec,
    #[n(3)]
    checkpoints: Vec<Checkpoint>,
    /// Whether a second copy of the container was written before it. Earlier writers wrote none.
    #[n(4)]
    spare: Option<bool>,
}

/// One chunk as the directory lists it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Row {
    pub fingerprint: Fingerprint,
    pub block: u16,
    /// Its number within the block.
    pub chunk: u16,
}

/// What lies in a container.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Directory {
    pub salt: Salt,
    /// The run's wrapped key, as the header has it.
    pub wrapped: [u8; WRAPPED],
    /// Bytes of the whole object.
    pub length: u64,
    /// Offset and sealed length of each block.
    pub blocks: Vec<(u32, u32)>,
    pub rows: Vec<Row>,
    pub checkpoints: Vec<Checkpoint>,
    /// Whether there must be a second copy of it.
    pub has_spare: bool,
    /// Where the directory ends.
    pub end: u64,
}

/// A container being filled.
pub(crate) struct OpenContainer {
    header: ContainerHeader,
    key: ContainerKey,
    bytes: Vec<u8>,
    blocks: Vec<(u32, u32)>,
    rows: Vec<Row>,
    /// Lengths of the chunks, for the directory.
    lengths: Vec<u32>,
}

impl OpenContainer {
    /// Begins a container in a buffer, whose content is dropped.
    pub fn begin(
        id: ContainerId,
        epoch: u32,
        run_key: &Secret,
        wrapped: [u8; WRAPPED],
        mut bytes: Vec<u8>,
        room: usize,
    ) -> Result<Self> {
        let salt = random()?;
        let header = ContainerHeader { id, epoch, salt, wrapped };
        let key = ContainerKey::new(run_key, id, &salt);
        bytes.clear();
        // Untouched room costs nothing, and growing would copy.
        bytes.reserve(room);
        bytes.extend_from_slice(&header.encode());
        Ok(Self { header, key, bytes, blocks: Vec::new(), rows: Vec::new(), lengths: Vec::new() })
    }

    pub fn id(&self) -> ContainerId {
        self.header.id
    }

    pub fn salt(&self) -> &Salt {
        &self.header.salt
    }

    pub fn is_empty(&self) -> bool {
        self.blocks.is_empty()
    }

    /// Number of the block that is added next.
    pub fn next_block(&self) -> u16 {
        self.blocks.len() as u16
    }

    pub fn is_full(&self, target: u32) -> bool {
        self.bytes.len() >= target as usize
            || self.blocks.len() >= MOST_BLOCKS
            || self.rows.len() >= ENOUGH_ROWS
    }

    /// Compresses and seals a block; returns its number, offset and sealed length.
    pub fn add(
        &mut self,
        block: &mut OpenBlock,
        fingerprints: &[Fingerprint],
        compressor: &mut Compressor,
    ) -> Result<(u16, u32, u32)> {
        let (number, from) = (self.next_block(), self.bytes.len());
        self.lengths.extend_from_slice(block.lengths());
        block.finish(compressor, &mut self.bytes)?;
        self.key.seal(u32::from(number), &mut self.bytes, from)?;
        let (offset, length) = (from as u32, (self.bytes.len() - from) as u32);
        self.blocks.push((offset, length));
        let rows = fingerprints.iter().enumerate();
        self.rows.extend(rows.map(|(chunk, fingerprint)| Row {
            fingerprint: *fingerprint,
            block: number,
            chunk: chunk as u16,
        }));
        Ok((number, offset, length))
    }

    /// Appends directory, parity of so many percent if there is to be some, and trailer: the bytes of
    /// the object, and what lies in it.
    pub fn finish(
        mut self,
        machine: &Machine,
        checkpoints: Vec<Checkpoint>,
        parity: Option<(u8, ParityKey)>,
    ) -> Result<(Vec<u8>, Directory)> {
        let mut chunks = Vec::with_capacity(self.rows.len() * ROW);
        for (row, length) in self.rows.iter().zip(&self.lengths) {
            chunks.extend_from_slice(&row.fingerprint.0);
            chunks.extend_from_slice(&u32::from(row.block).to_le_bytes());
            chunks.extend_from_slice(&length.to_le_bytes());
        }
        let blocks: Vec<u8> =
            self.blocks.iter().flat_map(|(_, length)| length.to_le_bytes()).collect();
        let has_spare = self.header.id.class == Class::Tree;
        let record = DirectoryRecord {
            header: *blake3::hash(&self.bytes[..HEADER]).as_bytes(),
            blocks: blocks.into(),
            chunks: chunks.into(),
            checkpoints: checkpoints.clone(),
            spare: has_spare.then_some(true),
        };
        let signed = machine.sign(&context(self.header.id), encode(&record));
        let from = self.bytes.len();
        self.bytes.extend_from_slice(&signed.encode());
        self.key.seal(DIRECTORY, &mut self.bytes, from)?;
        let to = self.bytes.len();
        if let Some((percent, key)) = parity {
            parity::append(&mut self.bytes, from, percent, &key)?;
        }
        append_trailer(&mut self.bytes, (from, to));
        let directory = Directory {
            salt: self.header.salt,
            wrapped: self.header.wrapped,
            length: self.bytes.len() as u64,
            blocks: self.blocks,
            rows: self.rows,
            checkpoints,
            has_spare,
            end: to as u64,
        };
        Ok((self.bytes, directory))
    }
}

fn context(id: ContainerId) -> Vec<u8> {
    format!("container {id}").into_bytes()
}

/// The fixed end: magic, where directory and parity begin and end, and a checksum that ties it to the
/// header. What lies behind the directory is parity.
fn append_trailer(object: &mut Vec<u8>, (from, to): (usize, usize)) {
    let end = object.len();
    let parity = if end > to { (to, end - to) } else { (0, 0) };
    let mut bytes = [0; TRAILER];
    bytes[..8].copy_from_slice(END_MAGIC);
    for (at, number) in [(8, from), (16, to), (24, parity.0), (32, parity.1), (40, end + TRAILER)] {
        bytes[at..at + 8].copy_from_slice(&(number as u64).to_le_bytes());
    }
    let sum = blake3::Hasher::new().update(&bytes[..48]).update(&object[..HEADER]).finalize();
    bytes[48..].copy_from_slice(&sum.as_bytes()[..16]);
    object.extend_from_slice(&bytes);
}

/// An object as it was written, from one that is damaged, by its parity.
pub(crate) fn mend(bytes: &[u8], key: &ParityKey) -> Option<Vec<u8>> {
    let Mended { mut bytes, directory, .. } = parity::mend(bytes, key)?;
    if directory.0 < HEADER {
        return None;
    }
    append_trailer(&mut bytes, directory);
    Some(bytes)
}

/// Where the directory lies, from header and trailer of an object of `size` bytes.
pub(crate) fn directory_range(
    header: &[u8],
    end: &[u8],
    size: u64,
    object: &str,
) -> Result<(u64, u64)> {
    let damaged = |why: &str| StoreError::damaged(object, why);
    let end: &[u8; TRAILER] = end.last_chunk().ok_or_else(|| damaged("it has no trailer"))?;
    let header = header.get(..HEADER).ok_or_else(|| damaged("it has no header"))?;
    let long = |at: usize| {
        let mut word = [0; 8];
        word.copy_from_slice(&end[at..at + 8]);
        u64::from_le_bytes(word)
    };
    let (from, to) = (long(8), long(16));
    let sum = blake3::Hasher::new().update(&end[..48]).update(header).finalize();
    if end[..8] != *END_MAGIC || sum.as_bytes()[..16] != end[48..] {
        return Err(damaged("its trailer is not valid"));
    }
    if from < HEADER as u64 || from > to || to > size || long(40) != size {
        return Err(damaged("its trailer does not match its size"));
    }
    Ok((from, to))
}

/// Opens the directory of a container.
pub(crate) fn open_directory(
    keys: &Keys,
    header_bytes: &[u8],
    header: &ContainerHeader,
    key: &ContainerKey,
    (sealed, length): (Vec<u8>, u64),
    object: &str,
) -> Result<Directory> {
    let damaged = |why: &str| StoreError::damaged(object, why);
    let (hash, mut directory) = open_headless(keys, header.id, key, sealed)?;
    if hash != *blake3::hash(header_bytes.get(..HEADER).unwrap_or_default()).as_bytes() {
        return Err(damaged("its header was modified"));
    }
    (directory.salt, directory.wrapped) = (header.salt, header.wrapped);
    directory.length = length;
    Ok(directory)
}

/// Opens a directory by itself: the hash of the header that belongs to it, and what it says.
pub(crate) fn open_headless(
    keys: &Keys,
    id: ContainerId,
    key: &ContainerKey,
    sealed: Vec<u8>,
) -> Result<([u8; 32], Directory)> {
    let object = id.to_string();
    let length = sealed.len() as u64;
    let plain = key.open(DIRECTORY, sealed);
    let plain =
        plain.ok_or_else(|| StoreError::damaged(&*object, "its directory is not authentic"))?;
    let body = Signed::decode(&plain, &object)?.verified(keys, &context(id), &object)?;
    let (hash, mut directory) = read_directory(&body, &object)?;
    directory.end += length;
    Ok((hash, directory))
}

/// Where a trailer says that the directory lies, whether or not it is a good one.
pub(crate) fn claimed_range(object: &[u8]) -> Option<(usize, usize)> {
    let end: &[u8; TRAILER] = object.last_chunk()?;
    let long = |at: usize| {
        let mut word = [0; 8];
        word.copy_from_slice(&end[at..at + 8]);
        usize::try_from(u64::from_le_bytes(word)).ok()
    };
    Some((long(8)?, long(16)?))
}

/// A directory from its body, without what its container's header says; and the hash of that header.
pub(crate) fn read_directory(body: &[u8], object: &str) -> Result<([u8; 32], Directory)> {
    let damaged = |why: &str| StoreError::damaged(object, why);
    let record: DirectoryRecord = decode(body, object)?;
    let mut blocks = Vec::new();
    let mut offset = HEADER as u32;
    for length in record.blocks.chunks_exact(4) {
        let length = u32::from_le_bytes([length[0], length[1], length[2], length[3]]);
        blocks.push((offset, length));
        offset = offset.checked_add(length).ok_or_else(|| damaged("its blocks are too long"))?;
    }
    let mut rows: Vec<Row> = Vec::new();
    for row in record.chunks.chunks_exact(ROW) {
        let mut fingerprint = [0; 32];
        fingerprint.copy_from_slice(&row[..32]);
        let block = u16::from_le_bytes([row[32], row[33]]);
        if usize::from(block) >= blocks.len() {
            return Err(damaged("its directory names a missing block"));
        }
        let chunk = match rows.last() {
            Some(last) if last.block == block => last.chunk + 1,
            _ => 0,
        };
        rows.push(Row { fingerprint: Fingerprint(fingerprint), block, chunk });
    }
    let DirectoryRecord { header, checkpoints, spare, .. } = record;
    let (salt, wrapped) = ([0; 16], [0; 80]);
    let has_spare = spare == Some(true);
    let end = u64::from(offset);
    let directory =
        Directory { salt, wrapped, length: 0, blocks, rows, checkpoints, has_spare, end };
    Ok((header, directory))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::format::{block::Block, compress::Compression, ids::StoreId};

    fn keys() -> Keys {
        Keys::from_master(StoreId([1; 16]), 1, &Secret([7; 32])).expect("keys")
    }

    fn sample(keys: &Keys) -> (Vec<u8>, Directory, Secret) {
        sample_with(keys, None)
    }

    fn sample_with(keys: &Keys, parity: Option<u8>) -> (Vec<u8>, Directory, Secret) {
        let run_key = Secret([8; 32]);
        let id = ContainerId { class: Class::Data, run: RunId([2; 16]), sequence: 5 };
        let parity = parity.map(|percent| (percent, ParityKey::new(&keys.index, id)));
        let wrapped = keys.wrap(id.run, id.class, &run_key).expect("wraps");
        let mut container =
            OpenContainer::begin(id, 1, &run_key, wrapped, Vec::new(), 0).expect("begins");
        let mut compressor = Compressor::new(Compression::Default).expect("zstd");
        for round in 0..3u8 {
            let mut block = OpenBlock::default();
            let prints: Vec<_> = (0..4u8)
                .map(|chunk| {
                    let content = vec![round * 16 + chunk; 300];
                    block.push(&content);
                    keys.fingerprint(Class::Data, &content)
                })
                .collect();
            container.add(&mut block, &prints, &mut compressor).expect("adds");
        }
        let machine = Machine::certified(keys, "hut").expect("certified");
        let point = Checkpoint { path: b"/srv".to_vec().into(), root: Fingerprint([4; 32]) };
        let (bytes, directory) = container.finish(&machine, vec![point], parity).expect("finishes");
        (bytes, directory, run_key)
    }

    fn read(keys: &Keys, bytes: &[u8]) -> Result<Directory> {
        let header = ContainerHeader::decode(bytes, "c")?;
        let run_key = keys
            .unwrap(header.id.run, header.id.class, &header.wrapped)
            .ok_or_else(|| StoreError::damaged("c", "its run key is not authentic"))?;
        let key = ContainerKey::new(&run_key, header.id, &header.salt);
        let (from, to) = directory_range(bytes, bytes, bytes.len() as u64, "c")?;
        let sealed = bytes[from as usize..to as usize].to_vec();
        let length = bytes.len() as u64;
        let directory = open_directory(keys, bytes, &header, &key, (sealed, length), "c")?;
        for (number, (offset, length)) in directory.blocks.iter().enumerate() {
            let sealed = bytes[*offset as usize..(offset + length) as usize].to_vec();
            let plain = key.open(number as u32, sealed);
            let block = plain.and_then(Block::parse);
            let block =
                block.ok_or_else(|| StoreError::damaged("c", "a block is not authentic"))?;
            for row in directory.rows.iter().filter(|row| usize::from(row.block) == number) {
                let chunk = block.chunk(row.chunk.into()).expect("a chunk for each row");
                assert_eq!(keys.fingerprint(Class::Data, chunk), row.fingerprint);
            }
        }
        Ok(directory)
    }

    #[test]
    fn a_container_reads_back_from_its_bytes_alone() {
        let keys = keys();
        let (bytes, directory, _) = sample(&keys);
        assert_eq!(read(&keys, &bytes).expect("reads"), directory);
    }

    #[test]
    fn any_byte_of_a_container_with_parity_is_mended() {
        let keys = keys();
        let (bytes, directory, _) = sample_with(&keys, Some(3));
        assert_eq!(read(&keys, &bytes).expect("parity is passed over"), directory);
        let key = ParityKey::new(
            &keys.index,
            ContainerId { class: Class::Data, run: RunId([2; 16]), sequence: 5 },
        );
        for at in 0..bytes.len() {
            let mut damaged = bytes.clone();
            damaged[at] ^= 0x20;
            assert!(mend(&damaged, &key).expect("mended") == bytes, "byte {at}");
        }
        let (none, ..) = sample(&keys);
        assert!(mend(&none, &key).is_none(), "there is no parity");
    }

    #[test]
    fn contents_fill_a_container_however_small_they_are() {
        let keys = keys();
        let run_key = Secret([8; 32]);
        let id = ContainerId { class: Class::Data, run: RunId([2; 16]), sequence: 5 };
        let wrapped = keys.wrap(id.run, id.class, &run_key).expect("wraps");
        let mut container =
            OpenContainer::begin(id, 1, &run_key, wrapped, Vec::new(), 0).expect("begins");
        let mut compressor = Compressor::new(Compression::Default).expect("zstd");
        let mut count = 0;
        while !container.is_full(u32::MAX) {
            let mut block = OpenBlock::default();
            let prints: Vec<_> = (0..4096u32)
                .map(|chunk| {
                    block.push(&chunk.to_le_bytes());
                    Fingerprint([chunk as u8; 32])
                })
                .collect();
            container.add(&mut block, &prints, &mut compressor).expect("adds");
            count += prints.len();
        }
        assert_eq!(count, ENOUGH_ROWS);
    }

    #[test]
    fn every_flipped_bit_and_every_cut_is_noticed() {
        let keys = keys();
        let (bytes, directory, _) = sample(&keys);
        for at in 0..bytes.len() {
            let mut changed = bytes.clone();
            changed[at] ^= 1 << (at % 8);
            // Bytes that no one reads yet may differ, but then what is read is the same.
            match read(&keys, &changed) {
                Err(error) => {
                    assert!(error.is_damage() || matches!(error, StoreError::Newer { .. }));
                }
                Ok(_) => panic!("a change at {at} went unnoticed"),
            }
        }
        for length in (0..bytes.len()).step_by(7) {
            assert!(read(&keys, &bytes[..length]).is_err(), "cut to {length}");
        }
        assert_eq!(read(&keys, &bytes).expect("reads"), directory);
    }
}
