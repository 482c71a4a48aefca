//! The store's header: the one object that anybody can read.

use minicbor::{Decode, Encode};

use crate::{
    error::{Result, StoreError},
    format::{
        ids::StoreId,
        signed::{decode, encode},
    },
};

/// The format version this crate writes.
pub(crate) const VERSION: u32 = 1;
/// The first bytes of a header, before its CBOR.
const MAGIC: &[u8; 8] = b"SKELLIN\n";
/// Flags of the format this version knows, for readers and for writers.
const KNOWN_FLAGS: u32 = 0;

/// How content is cut and gathered; fixed for a store.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct Layout {
    /// Smallest chunk, in bytes (but for the end of a file).
    #[n(0)]
    pub chunk_min: u32,
    /// From this length on the looser mask decides.
    #[n(1)]
    pub chunk_turn: u32,
    /// Largest chunk.
    #[n(2)]
    pub chunk_max: u32,
    /// Mask of the boundary hash below the turn.
    #[n(3)]
    pub strict_mask: u64,
    /// Mask from the turn on.
    #[n(4)]
    pub loose_mask: u64,
    /// A block of data is closed at this many bytes.
    #[n(5)]
    pub data_block: u32,
    /// A block of tree pages is closed at this many bytes.
    #[n(6)]
    pub tree_block: u32,
    /// A container is closed at this many bytes.
    #[n(7)]
    pub container: u32,
}

impl Default for Layout {
    fn default() -> Self {
        Self {
            chunk_min: 8 << 10,
            chunk_turn: 40 << 10,
            chunk_max: 128 << 10,
            strict_mask: 0xFC00_0000_0000_FFF0,
            loose_mask: 0xC000_0000_0000_FFF0,
            data_block: 512 << 10,
            tree_block: 128 << 10,
            container: 32 << 20,
        }
    }
}

impl Layout {
    /// Bounds that keep memory and counters in range, whatever a damaged header says.
    fn is_sane(&self) -> bool {
        let low_bits = self.loose_mask & 0xFFF0 == 0xFFF0 && self.strict_mask & 0xFFF0 == 0xFFF0;
        self.chunk_min >= 256
            && self.chunk_min <= self.chunk_turn
            && self.chunk_turn <= self.chunk_max
            && self.chunk_max <= 4 << 20
            && self.strict_mask & self.loose_mask == self.loose_mask
            && low_bits
            && (1 << 12..=4 << 20).contains(&self.data_block)
            && (1 << 12..=4 << 20).contains(&self.tree_block)
            && (1 << 16..=1 << 30).contains(&self.container)
    }
}

/// What everybody may know of a store.
#[derive(Clone, Debug, PartialEq, Eq, Encode, Decode)]
#[cbor(map)]
pub struct Header {
    /// Format version.
    #[n(0)]
    pub version: u32,
    /// Which store this is.
    #[n(1)]
    pub store: StoreId,
    /// When it was created, in seconds since 1970.
    #[n(2)]
    pub created: i64,
    /// Suite of algorithms; 1 is the only one.
    #[n(3)]
    pub suite: u32,
    /// Flags a reader must understand or refuse.
    #[n(4)]
    pub reader_flags: u32,
    /// Flags a writer must understand or refuse.
    #[n(5)]
    pub writer_flags: u32,
    /// Epoch of the master secret.
    #[n(6)]
    pub epoch: u32,
    /// How content is cut.
    #[n(7)]
    pub layout: Layout,
    /// Public key to which the content keys of data are wrapped.
    #[cbor(n(8), with = "minicbor::bytes")]
    pub data_key: [u8; 32],
    /// Public key to which the content keys of trees, and snapshots, are wrapped.
    #[cbor(n(9), with = "minicbor::bytes")]
    pub tree_key: [u8; 32],
    /// Public key that certifies machines.
    #[cbor(n(10), with = "minicbor::bytes")]
    pub signing_key: [u8; 32],
}

impl Header {
    pub(crate) fn encode(&self) -> Vec<u8> {
        let record = encode(self);
        let sum = blake3::hash(&record);
        [MAGIC.as_slice(), &record, &sum.as_bytes()[..16]].concat()
    }

    pub(crate) fn decode(bytes: &[u8], object: &str) -> Result<Self> {
        let damaged = |why: &str| StoreError::damaged(object, why);
        let rest = bytes.strip_prefix(MAGIC).ok_or_else(|| damaged("it is not a store header"))?;
        let (record, sum) =
            rest.split_last_chunk::<16>().ok_or_else(|| damaged("it is too short"))?;
        if blake3::hash(record).as_bytes()[..16] != *sum {
            return Err(damaged("its checksum is wrong"));
        }
        let header: Self = decode(record, object)?;
        let newer = |need: String| StoreError::Newer { object: object.to_owned(), need };
        if header.version != VERSION {
            return Err(newer(format!("format version {}", header.version)));
        }
        if header.suite != 1 {
            return Err(newer(format!("algorithm suite {}", header.suite)));
        }
        if (header.reader_flags | header.writer_flags) & !KNOWN_FLAGS != 0 {
            let (reader, writer) = (header.reader_flags, header.writer_flags);
            return Err(newer(format!("format flags {reader:#x} and {writer:#x}")));
        }
        if !header.layout.is_sane() {
            return Err(damaged("its layout is out of bounds"));
        }
        Ok(header)
    }
}
