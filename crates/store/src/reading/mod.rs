//! How blocks come from the place and from what is kept near, and what is noted of those that do not.

pub(crate) mod blocks;
pub(crate) mod damage;
pub(crate) mod directories;
pub(crate) mod fetching;
pub(crate) mod mending;
pub(crate) mod nearby;
pub(crate) mod parallel;
pub(crate) mod rereading;
pub(crate) mod suspects;
pub(crate) mod usage;
