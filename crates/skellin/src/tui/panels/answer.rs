//! What a panel wants done.

use std::path::PathBuf;

use crate::tui::{keys::Action, worker::Request};

/// What a panel wants done.
pub(in crate::tui) enum Answer {
    /// Nothing beyond the panel.
    Stay,
    Dismiss,
    /// Close it and do something.
    Do(Action),
    /// Close it and go to a lane.
    Lane(usize),
    /// Close it and put the cursor at a moment.
    Moment(i64),
    /// Close it and go to a snapshot of a plan.
    Snapshot {
        plan: String,
        time: i64,
    },
    /// Try a channel.
    Tell(String),
    /// Ask the worker.
    Ask(Request),
    /// Open the store with what was typed.
    Open,
    /// Rehearse the restore, or do it.
    Restore {
        dry_run: bool,
    },
    /// Rehearse the draft.
    DryRunDraft,
    /// Go to another version in the look.
    Version {
        later: bool,
    },
    /// Stop everything and close.
    CloseDown,
    /// Go the way to the store's place again.
    Reach {
        accept: bool,
    },
    /// The draft was saved.
    Saved(String),
    /// Leave the making of a store; the file of a secret that nothing uses.
    LeaveStore {
        unused: Option<PathBuf>,
    },
    /// Make a plan that keeps its snapshots in this store.
    PlanFor(String),
}
