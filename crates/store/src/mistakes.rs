//! Mistakes the protocol between runs and reclaims must not contain: each stands where it could be
//! made, so that the simulation can make it and be seen to notice.

/// A mistake.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub(crate) enum Mistake {
    /// A run lists the notices before its record is put.
    NoticesBeforeRecord = 1,
    /// A reclaim looks for snapshots before it has heard the open runs.
    SnapshotsBeforeRuns,
    /// The record of a run that came to nothing is deleted without a verdict.
    RecordWithoutVerdict,
    /// What the base had is taken over without a look whether it is condemned.
    BaseNotChecked,
    /// A snapshot is deleted without a marker.
    ExpireWithoutMarker,
    /// A copy in a container that others want to delete counts as one.
    CondemnedCopyCounts,
    /// A run answers that it holds nothing.
    EmptyAnswer,
    /// It is looked for a run's snapshot before the run is told to check again.
    RevokeAfterLook,
    /// A run uses the name of an earlier one.
    NameReused,
    /// The snapshot is put before what it refers to.
    SnapshotBeforeContainers,
    /// A run does not look whether it was told to check again.
    RevokeNotRead,
    /// A run does not look whether it was called dead.
    VerdictNotRead,
    /// Content that is needed and lies nowhere else is deleted all the same.
    NeededNotSpared,
    /// A notice goes while containers it names are there.
    NoticeGoesEarly,
    /// A reclaim deletes without hearing open runs.
    RunsNotHeard,
    /// A reclaim does not look for the notices of others after its own.
    OtherNoticesNotRead,
    /// A run goes on with what a notice has condemned.
    AnswerWithoutStopping,
}

/// Whether a mistake is made: never, but in a simulation that asks for it.
#[cfg(not(test))]
pub(crate) const fn is_made(_: Mistake) -> bool {
    false
}

#[cfg(test)]
pub(crate) fn is_made(mistake: Mistake) -> bool {
    crate::simulation::MADE.load(std::sync::atomic::Ordering::Relaxed) == mistake as u8
}

/// Whether each process does one thing after the other, so that a simulation can decide what comes
/// next.
#[cfg(not(test))]
pub(crate) const fn is_in_turn() -> bool {
    false
}

#[cfg(test)]
pub(crate) fn is_in_turn() -> bool {
    crate::simulation::is_simulated()
}
