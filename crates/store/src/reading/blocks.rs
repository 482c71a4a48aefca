//! Blocks that were opened lately.

use std::{
    collections::{HashMap, HashSet},
    sync::{Arc, Mutex, PoisonError},
};

use crate::{
    containers::{ContainerIx, Location},
    format::block::Block,
};

/// Blocks are kept up to so many bytes in each shard.
const SHARD_BYTES: usize = 4 << 20;
const SHARDS: usize = 8;

type At = (ContainerIx, u16);

#[derive(Default)]
struct Shard {
    blocks: HashMap<At, (Arc<Block>, u64)>,
    bytes: usize,
    clock: u64,
}

/// A cache that drops what was not used for longest.
#[derive(Default)]
pub(crate) struct BlockCache([Mutex<Shard>; SHARDS]);

impl BlockCache {
    fn shard(&self, at: At) -> std::sync::MutexGuard<'_, Shard> {
        let number = (at.0 as usize * 31 + usize::from(at.1)) % SHARDS;
        self.0[number].lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub fn get(&self, at: At) -> Option<Arc<Block>> {
        let mut shard = self.shard(at);
        shard.clock += 1;
        let clock = shard.clock;
        shard.blocks.get_mut(&at).map(|(block, used)| {
            *used = clock;
            Arc::clone(block)
        })
    }

    /// Drops a block.
    pub fn forget(&self, at: At) {
        let mut shard = self.shard(at);
        if let Some((block, _)) = shard.blocks.remove(&at) {
            shard.bytes -= block.weight();
        }
    }

    pub fn put(&self, at: At, block: &Arc<Block>) {
        let mut shard = self.shard(at);
        shard.clock += 1;
        let clock = shard.clock;
        if shard.blocks.insert(at, (Arc::clone(block), clock)).is_none() {
            shard.bytes += block.weight();
        }
        while shard.bytes > SHARD_BYTES && shard.blocks.len() > 1 {
            let oldest = shard.blocks.iter().min_by_key(|(_, (_, used))| *used).map(|(at, _)| *at);
            let Some((block, _)) = oldest.and_then(|at| shard.blocks.remove(&at)) else { return };
            shard.bytes -= block.weight();
        }
    }
}

/// Blocks of trees that were read from the place and found to be what was written.
#[derive(Default)]
pub(crate) struct ProvenBlocks(Mutex<HashSet<At>>);

impl ProvenBlocks {
    pub fn insert(&self, at: &Location) {
        let mut proven = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        proven.insert((at.container, at.block));
    }

    pub fn contains(&self, at: &Location) -> bool {
        let proven = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        proven.contains(&(at.container, at.block))
    }
}
