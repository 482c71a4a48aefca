//! Stores made, opened, and given other passphrases.

pub(crate) mod creation;
pub(crate) mod passphrases;
pub(crate) mod unlocking;
