//! Parity: what mends a container of data from itself. FORMAT.md has the bytes.
//!
//! The content of a container, from its header to the end of its directory, is cut into shards, which
//! are dealt out to groups in turn, so that damage to neighbours is shared by all of them. Each group
//! has some shards more (Reed-Solomon over GF(2^16), in the basis of Lin, Al-Naffouri, Han, and Chung,
//! "Novel polynomial basis with fast Fourier transform", 2016), and a keyed checksum of every shard
//! tells which are not what was written. The table of checksums stands on both sides of those shards.

use reed_solomon_simd::{ReedSolomonDecoder, ReedSolomonEncoder};

use crate::{
    error::{Result, StoreError},
    format::{ids::ContainerId, keys::Secret},
};

const MAGIC: &[u8; 8] = b"SKPARIT1";
/// Bytes of the table before its checksums.
const HEAD: usize = 40;
/// Bytes of a checksum.
const SUM: usize = 8;
/// Bytes that prove the table.
const PROOF: usize = 16;
/// Bytes of a shard,
const SHARD: usize = 4 << 10;
/// and in a content below [`LITTLE`] bytes: a sector.
const SECTOR: usize = 512;
const LITTLE: usize = 128 << 10;
/// At most so many shards of content are one group: what is worked on at a time.
const GROUP: usize = 512;
/// Shards of each group beyond its share: damage seldom begins and ends with a shard.
const MORE: usize = 2;
/// Of a content no more is missing than makes it so many times as long as what is there.
const MOST_MISSING: usize = 4;
/// The largest share, in percent.
pub(crate) const MOST: u8 = 100;

/// Proves the shards of one container.
pub(crate) struct ParityKey(Secret);

impl ParityKey {
    /// `index`: the store's key of this name.
    pub fn new(index: &Secret, id: ContainerId) -> Self {
        let mut hasher = blake3::Hasher::new_keyed(&index.derive("parity").0);
        Self(Secret(*hasher.update(id.to_string().as_bytes()).finalize().as_bytes()))
    }

    fn sum(&self, number: usize, shard: &[u8], length: usize) -> [u8; SUM] {
        let mut hasher = blake3::Hasher::new_keyed(&self.0.0);
        // The shard first: whole chunks of the hash are worked on together.
        hasher.update(shard);
        // The last shard of the content is filled up with zeros.
        hasher.update(&[0; SHARD][..length - shard.len()]);
        hasher.update(&(number as u64).to_le_bytes());
        let mut sum = [0; SUM];
        sum.copy_from_slice(&hasher.finalize().as_bytes()[..SUM]);
        sum
    }

    pub fn proof(&self, table: &[u8]) -> [u8; PROOF] {
        let hash = blake3::Hasher::new_keyed(&self.0.0).update(b"table").update(table).finalize();
        let mut proof = [0; PROOF];
        proof.copy_from_slice(&hash.as_bytes()[..PROOF]);
        proof
    }
}

/// How a content is cut.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Geometry {
    /// Bytes of the content.
    content: usize,
    /// Where the directory begins in it.
    directory: usize,
    /// Bytes of a shard.
    shard: usize,
    groups: usize,
    /// Shards that each group has more.
    more: usize,
}

impl Geometry {
    fn of(content: usize, directory: usize, percent: u8) -> Self {
        let shard = if content < LITTLE { SECTOR } else { SHARD };
        let groups = content.div_ceil(shard).div_ceil(GROUP);
        let largest = content.div_ceil(shard).div_ceil(groups);
        let more = (largest * usize::from(percent.min(MOST))).div_ceil(100) + MORE;
        Self { content, directory, shard, groups, more }
    }

    /// Shards of the content.
    fn shards(&self) -> usize {
        self.content.div_ceil(self.shard)
    }

    /// Shards of the content that are of a group.
    fn members(&self, group: usize) -> usize {
        (self.shards() - group).div_ceil(self.groups)
    }

    /// Shards of parity.
    fn parity(&self) -> usize {
        self.groups * self.more
    }

    fn table(&self) -> usize {
        HEAD + (self.shards() + self.parity()) * SUM + PROOF
    }

    /// Where a shard lies in the object; those of parity come after those of the content.
    fn range(&self, number: usize) -> std::ops::Range<usize> {
        match number.checked_sub(self.shards()) {
            None => {
                let from = number * self.shard;
                from..(from + self.shard).min(self.content)
            }
            Some(parity) => {
                let from = self.content + self.table() + parity * self.shard;
                from..from + self.shard
            }
        }
    }

    /// Bytes of the section.
    fn section(&self) -> usize {
        2 * self.table() + self.parity() * self.shard
    }

    fn encode(&self) -> [u8; HEAD] {
        let mut head = [0; HEAD];
        head[..8].copy_from_slice(MAGIC);
        head[8..16].copy_from_slice(&(self.content as u64).to_le_bytes());
        head[16..24].copy_from_slice(&(self.directory as u64).to_le_bytes());
        head[24..28].copy_from_slice(&(self.shard as u32).to_le_bytes());
        head[28..32].copy_from_slice(&(self.groups as u32).to_le_bytes());
        head[32..36].copy_from_slice(&(self.more as u32).to_le_bytes());
        head
    }

    /// `None` if nobody writes such a head.
    fn decode(head: &[u8; HEAD]) -> Option<Self> {
        let long = |at: usize| {
            let mut word = [0; 8];
            word.copy_from_slice(&head[at..at + 8]);
            usize::try_from(u64::from_le_bytes(word)).ok()
        };
        let short = |at: usize| {
            u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]) as usize
        };
        let found = Self {
            content: long(8)?,
            directory: long(16)?,
            shard: short(24),
            groups: short(28),
            more: short(32),
        };
        let is_fit = matches!(found.shard, SECTOR | SHARD)
            && (1..=1 << 16).contains(&found.content.div_ceil(found.shard))
            && found.directory <= found.content
            && (1..=found.shards()).contains(&found.groups)
            && found.members(0) <= GROUP
            && (1..=2 * GROUP).contains(&found.more);
        is_fit.then_some(found)
    }
}

fn failed(error: &reed_solomon_simd::Error) -> StoreError {
    StoreError::local("making parity", std::io::Error::other(error.to_string()))
}

/// Appends the section to a content that ends with its directory, which begins at `directory`.
pub(crate) fn append(
    bytes: &mut Vec<u8>,
    directory: usize,
    percent: u8,
    key: &ParityKey,
) -> Result<()> {
    append_as(bytes, Geometry::of(bytes.len(), directory, percent), key)
}

fn append_as(bytes: &mut Vec<u8>, cut: Geometry, key: &ParityKey) -> Result<()> {
    let (shards, table) = (cut.shards(), cut.table());
    bytes.resize(cut.content + cut.section(), 0);
    let (content, section) = bytes.split_at_mut(cut.content);
    let mut last = vec![0; cut.shard];
    let mut encoder: Option<ReedSolomonEncoder> = None;
    for group in 0..cut.groups {
        let members = cut.members(group);
        let encoder = match &mut encoder {
            Some(encoder) => {
                encoder.reset(members, cut.more, cut.shard).map_err(|error| failed(&error))?;
                encoder
            }
            none => none.insert(
                ReedSolomonEncoder::new(members, cut.more, cut.shard)
                    .map_err(|error| failed(&error))?,
            ),
        };
        for number in (group..shards).step_by(cut.groups) {
            let shard = &content[cut.range(number)];
            let shard = match shard.len() == cut.shard {
                true => shard,
                false => {
                    last[..shard.len()].copy_from_slice(shard);
                    &last
                }
            };
            encoder.add_original_shard(shard).map_err(|error| failed(&error))?;
        }
        let made = encoder.encode().map_err(|error| failed(&error))?;
        for (number, shard) in made.recovery_iter().enumerate() {
            let from = table + (number * cut.groups + group) * cut.shard;
            section[from..from + cut.shard].copy_from_slice(shard);
        }
    }
    section[..HEAD].copy_from_slice(&cut.encode());
    for number in 0..shards + cut.parity() {
        let range = cut.range(number);
        let sum = match number < shards {
            true => key.sum(number, &content[range], cut.shard),
            false => {
                let range = range.start - cut.content..range.end - cut.content;
                key.sum(number, &section[range], cut.shard)
            }
        };
        section[HEAD + number * SUM..][..SUM].copy_from_slice(&sum);
    }
    let proof = key.proof(&section[..table - PROOF]);
    section[table - PROOF..table].copy_from_slice(&proof);
    let second = section.len() - table;
    section.copy_within(..table, second);
    Ok(())
}

/// A content that was mended.
pub(crate) struct Mended {
    /// The content and its section, as they were written.
    pub bytes: Vec<u8>,
    /// Where the directory begins, and where it ends.
    pub directory: (usize, usize),
}

/// The table of a damaged object, wherever it is found.
fn find_table<'b>(bytes: &'b [u8], key: &ParityKey) -> Option<(Geometry, &'b [u8])> {
    memchr::memmem::find_iter(bytes, MAGIC).find_map(|at| {
        let head = bytes[at..].first_chunk()?;
        let cut = Geometry::decode(head)?;
        let table = bytes.get(at..at.checked_add(cut.table())?)?;
        let (body, proof) = table.split_at(table.len() - PROOF);
        (key.proof(body) == *proof).then_some((cut, &body[HEAD..]))
    })
}

/// What was written, from an object as it is: parts of it changed, or the end missing. `None` if it
/// has no parity, or more is damaged than that can mend.
pub(crate) fn mend(bytes: &[u8], key: &ParityKey) -> Option<Mended> {
    let (cut, sums) = find_table(bytes, key)?;
    if cut.content / MOST_MISSING > bytes.len() {
        return None;
    }
    let shards = cut.shards();
    let whole = |number: usize| {
        let shard = bytes.get(cut.range(number))?;
        (key.sum(number, shard, cut.shard) == sums[number * SUM..][..SUM]).then_some(shard)
    };
    let mut content = bytes.get(..cut.content).unwrap_or(bytes).to_vec();
    content.resize(cut.content, 0);
    for group in 0..cut.groups {
        let members: Vec<usize> = (group..shards).step_by(cut.groups).collect();
        let lost: Vec<usize> =
            members.iter().copied().filter(|number| whole(*number).is_none()).collect();
        if lost.is_empty() {
            continue;
        }
        let mut decoder = ReedSolomonDecoder::new(members.len(), cut.more, cut.shard).ok()?;
        let mut filled = vec![0; cut.shard];
        for (at, number) in members.iter().enumerate() {
            if let Some(shard) = whole(*number) {
                filled.fill(0);
                filled[..shard.len()].copy_from_slice(shard);
                decoder.add_original_shard(at, &filled).ok()?;
            }
        }
        for at in 0..cut.more {
            if let Some(shard) = whole(shards + at * cut.groups + group) {
                decoder.add_recovery_shard(at, shard).ok()?;
            }
        }
        let restored = decoder.decode().ok()?;
        for (at, shard) in restored.restored_original_iter() {
            let number = members[at];
            let range = cut.range(number);
            if key.sum(number, shard, cut.shard) != sums[number * SUM..][..SUM] {
                return None;
            }
            let length = range.len();
            content[range].copy_from_slice(&shard[..length]);
        }
    }
    append_as(&mut content, cut, key).ok()?;
    Some(Mended { bytes: content, directory: (cut.directory, cut.content) })
}

/// Whether content and parity of an object are as they were written.
pub(crate) fn is_whole(bytes: &[u8], key: &ParityKey) -> bool {
    let Some((cut, sums)) = find_table(bytes, key) else { return false };
    let tables = [cut.content, cut.content + cut.section() - cut.table()];
    let has_both = tables.iter().all(|at| {
        let table = bytes.get(*at..at + cut.table());
        table.is_some_and(|table| find_table(table, key).is_some())
    });
    has_both
        && (0..cut.shards() + cut.parity()).all(|number| {
            let shard = bytes.get(cut.range(number));
            shard.is_some_and(|shard| {
                key.sum(number, shard, cut.shard) == sums[number * SUM..][..SUM]
            })
        })
}
