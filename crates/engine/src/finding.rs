//! What a look at the set-up finds.

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Weight {
    /// Data is not protected, or soon will not be.
    Wrong,
    /// It may be meant so, but somebody should have decided it.
    Doubtful,
}

/// Something a look at the set-up has found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// How bad it is.
    pub weight: Weight,
    /// What it concerns: a plan, a store, a directory.
    pub subject: String,
    /// What was found.
    pub what: String,
    /// What to do about it.
    pub hint: String,
}
