//! The engine as it is used from outside: one program, so that it is linked once.
#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr, missing_docs)]

mod around;
mod census;
mod choosing;
mod common;
mod compares;
mod configuration;
mod doctor;
mod drill;
mod expire;
mod exports;
mod far;
mod far_sources;
mod faults;
mod hostile;
mod long_files;
mod looking_back;
mod new_store;
mod outlook;
mod planted;
mod power;
mod random_trees;
mod replicate;
mod restores;
mod runs;
mod steward;
mod unreadable;
mod whole_work;
