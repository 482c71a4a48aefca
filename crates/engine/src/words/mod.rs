//! What people are told to do about failures and exceptions: one place for commands, screens and
//! messages, of which the last are written while nobody is there.

mod fates;
mod hints;
mod remedies;

pub use fates::because;
pub use remedies::{remedy, restore_remedy};
