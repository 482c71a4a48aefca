//! What runs leave for others: snapshots, what these need, and the talk between runs and reclaims.

pub(crate) mod bundles;
pub(crate) mod control;
pub(crate) mod expiry;
pub(crate) mod needed;
pub(crate) mod settling;
pub(crate) mod snapshot;
