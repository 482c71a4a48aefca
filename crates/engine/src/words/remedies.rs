//! What to do about a path that could not be handled.

use crate::cause::CauseKind;

const SEE_DAMAGE: &str = "skellin verify lists all damage; an earlier snapshot or another store of the plan may have it intact";

/// What to do about a path that a run could not handle.
#[must_use]
pub fn remedy(kind: CauseKind) -> &'static str {
    match kind {
        CauseKind::Store => SEE_DAMAGE,
        CauseKind::Denied => "run it as a user who can read it, or exclude it with a rule",
        CauseKind::Missing => "check the mount; if it is gone for good, remove it from the plan",
        CauseKind::Vanished => {
            "nothing to do if this was expected: the next run takes what is there then"
        }
        CauseKind::Moving => "stop whatever writes it during the run, or exclude it with a rule",
        CauseKind::Disk => "the disk may be failing: check it, then run again",
        CauseKind::NoRoom | CauseKind::InTheWay | CauseKind::Incomplete | CauseKind::Other => {
            "check the path, then run again; a rule can exclude it"
        }
    }
}

/// What to do about a path that could not be restored.
#[must_use]
pub fn restore_remedy(kind: CauseKind) -> &'static str {
    match kind {
        CauseKind::Store => SEE_DAMAGE,
        CauseKind::NoRoom => "free space there, then restore again: what is there stays",
        CauseKind::Denied | CauseKind::Incomplete => {
            "restore it as a user who may do that, or elsewhere with --to"
        }
        CauseKind::InTheWay => "move it away, or restore elsewhere with --to",
        CauseKind::Missing
        | CauseKind::Vanished
        | CauseKind::Moving
        | CauseKind::Disk
        | CauseKind::Other => "check the path, then restore it again",
    }
}
