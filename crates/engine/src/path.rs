//! Paths as bytes.

pub(crate) use skellin_store::join;
