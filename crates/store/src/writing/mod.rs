//! A run's side of the store: what it compares with, and how its content comes to the place.

pub(crate) mod appraisal;
pub(crate) mod comparison;
pub(crate) mod content;
pub(crate) mod session;
pub(crate) mod tree_writer;
pub(crate) mod uploads;
pub(crate) mod work;

#[cfg(test)]
mod tree_writer_tests;
