//! Index segments being put together, and their bytes. FORMAT.md has them.

use std::collections::BTreeMap;

use super::{
    layout::{HAS_LENGTHS, HAS_PARTS, HEAD, MAGIC, PartRow, SegmentContainer, SegmentId},
    record::{Record, encode_rows, filter_blocks},
};
use crate::format::{
    container::Directory,
    ids::{Class, ContainerId, RunId},
    keys::WRAPPED,
};

/// A segment being put together.
#[derive(Clone, Default)]
pub(crate) struct SegmentDraft {
    pub level: u32,
    /// The segments whose facts it repeats.
    pub inputs: Vec<SegmentId>,
    pub containers: Vec<SegmentContainer>,
    /// The wrapped content keys of runs whose containers it lists.
    pub keys: BTreeMap<(RunId, Class), [u8; WRAPPED]>,
    pub records: Vec<Record>,
}

impl SegmentDraft {
    /// Puts the content of a container into it.
    pub fn add(&mut self, id: ContainerId, directory: &Directory) {
        let container = self.containers.len() as u32;
        self.containers.push(SegmentContainer {
            id,
            salt: directory.salt,
            blocks: directory.blocks.clone(),
            length: directory.length,
        });
        self.keys.insert((id.run, id.class), directory.wrapped);
        self.records.extend(directory.rows.iter().map(|row| Record {
            prefix: row.fingerprint.prefix(),
            container,
            block: row.block,
            chunk: row.chunk,
        }));
    }

    /// The body's bytes.
    pub fn encode(mut self) -> Vec<u8> {
        self.records.sort_unstable();
        self.records.dedup();
        let records = self.records.len();
        let mut out = self.tables(records as u64, filter_blocks(records) as u64, HAS_LENGTHS);
        encode_rows(&self.records, &mut out);
        self.add_ends(&mut out);
        out
    }

    /// The body of a segment whose records lie in parts.
    pub fn encode_head(&self, parts: &[PartRow]) -> Vec<u8> {
        let records = parts.iter().map(|part| part.records).sum();
        let mut out = self.tables(records, parts.len() as u64, HAS_LENGTHS | HAS_PARTS);
        self.add_ends(&mut out);
        for PartRow { records, first, hash } in parts {
            out.extend_from_slice(&records.to_le_bytes());
            out.extend_from_slice(first);
            out.extend_from_slice(&[0; 8]);
            out.extend_from_slice(hash);
        }
        out
    }

    fn tables(&self, records: u64, filters_or_parts: u64, flags: u32) -> Vec<u8> {
        let blocks: usize = self.containers.iter().map(|container| container.blocks.len()).sum();
        let mut out = Vec::with_capacity(HEAD + blocks * 8 + self.containers.len() * 56);
        out.extend_from_slice(MAGIC);
        for word in
            [self.level, self.inputs.len() as u32, self.containers.len() as u32, blocks as u32]
        {
            out.extend_from_slice(&word.to_le_bytes());
        }
        let flags = u64::from(flags) | (self.keys.len() as u64) << 32;
        for long in [records, filters_or_parts, flags] {
            out.extend_from_slice(&long.to_le_bytes());
        }
        for input in &self.inputs {
            out.extend_from_slice(&input.run.0);
            out.extend_from_slice(&input.number.to_le_bytes());
            out.extend_from_slice(&[0; 4]);
        }
        let mut first = 0u32;
        for SegmentContainer { id, salt, blocks, .. } in &self.containers {
            out.extend_from_slice(&id.run.0);
            out.extend_from_slice(salt);
            out.extend_from_slice(&id.sequence.to_le_bytes());
            out.extend_from_slice(&u32::from(id.class.code()).to_le_bytes());
            out.extend_from_slice(&first.to_le_bytes());
            out.extend_from_slice(&(blocks.len() as u32).to_le_bytes());
            first += blocks.len() as u32;
        }
        for (offset, length) in self.containers.iter().flat_map(|container| &container.blocks) {
            out.extend_from_slice(&offset.to_le_bytes());
            out.extend_from_slice(&length.to_le_bytes());
        }
        out
    }

    fn add_ends(&self, out: &mut Vec<u8>) {
        for container in &self.containers {
            out.extend_from_slice(&container.length.to_le_bytes());
        }
        for ((run, class), wrapped) in &self.keys {
            out.extend_from_slice(&run.0);
            out.extend_from_slice(&u32::from(class.code()).to_le_bytes());
            out.extend_from_slice(wrapped);
        }
    }
}
