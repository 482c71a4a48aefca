//! What people are told to do about failures and exceptions: one place for commands, screens and
//! messages, of which the last are written while nobody is there.

mod hints;
mod remedies;

pub use remedies::{remedy, restore_remedy};
