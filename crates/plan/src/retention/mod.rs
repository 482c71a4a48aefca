//! What stays of a plan's snapshots, and why: pure, from what is known of them.
//!
//! Of a period the last whole snapshot is the one that stays; if none is whole, the last. So a later
//! run can only take the place of an earlier one, and none that has expired is ever wanted again.

mod decision;
mod sentence;
#[cfg(test)]
mod tests;

pub use decision::{Decision, Past, Reason, Room, Unmet, decide};
pub use sentence::{Goal, Period, Sentence, Time};
