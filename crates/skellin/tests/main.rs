//! The program as people and scripts use it: one test program, so that it is linked once.
#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr, missing_docs)]

mod beginnings;
mod choosing;
mod clocks;
mod commands;
#[path = "../../engine/tests/common/mod.rs"]
mod common;
mod damage;
mod distant;
mod drills;
mod due;
mod expire;
mod far;
mod faults;
mod journals;
mod kill;
mod leftovers;
mod lending;
mod lines;
mod neighbours;
mod passphrases;
mod places;
mod reclaims;
mod recovery;
mod repairs;
mod restores;
mod screen;
mod screen_journal;
mod screen_proof;
mod screen_stores;
#[path = "../../place/tests/common/servers.rs"]
#[allow(dead_code, reason = "the tests of places use more of it")]
mod servers;
mod sheets;
#[path = "../../place/tests/common/sshd.rs"]
#[allow(dead_code, reason = "the tests of places use more of it")]
mod sshd;
mod station_space;
mod stories;
mod telling;
mod terminal;
mod unattended;
mod wording;
mod world;
