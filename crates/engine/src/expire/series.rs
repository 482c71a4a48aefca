//! Which snapshots of a plan are one series: all of them, unless machines made them side by side.

use skellin_store::Snapshot;

/// The numbers of a plan's snapshots, series by series, each in the order of the runs. A machine whose
/// snapshots begin after another's have ended goes on with its series: the plan has moved, or the
/// machine has another name. Machines that take turns share a name and a store only, so that neither's
/// snapshots stand in for the other's.
pub(super) fn series(own: &[Snapshot]) -> Vec<Vec<usize>> {
    let mut machines: Vec<(&str, Vec<usize>)> = Vec::new();
    for (at, snapshot) in own.iter().enumerate() {
        match machines.iter_mut().find(|(machine, _)| *machine == snapshot.machine) {
            Some((_, numbers)) => numbers.push(at),
            None => machines.push((&snapshot.machine, vec![at])),
        }
    }
    let mut found: Vec<Vec<usize>> = Vec::new();
    // They come by their first run, since the snapshots do.
    for (_, numbers) in machines {
        let begins = numbers[0];
        let ended = |series: &&mut Vec<usize>| series.last().is_some_and(|last| *last < begins);
        match found.iter_mut().filter(ended).max_by_key(|series| series.last().copied()) {
            Some(series) => series.extend(numbers),
            None => found.push(numbers),
        }
    }
    found
}
