//! Sheets on paper, from plain data: no store, no terminal, no clock.

mod paper;
mod recovery_sheet;

pub use paper::Paper;
pub use recovery_sheet::{ForRecovery, RecoverySheet, Step};
