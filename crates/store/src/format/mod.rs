//! Bytes and secrets: what objects are made of, and how they are sealed and signed.

pub(crate) mod block;
pub(crate) mod bounds;
pub(crate) mod chunker;
pub(crate) mod compress;
pub(crate) mod container;
pub(crate) mod header;
pub(crate) mod ids;
pub(crate) mod keys;
pub(crate) mod parity;
#[cfg(test)]
mod parity_tests;
pub(crate) mod recovery;
pub(crate) mod signed;
pub(crate) mod slot;
pub(crate) mod spare;
