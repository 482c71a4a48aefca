//! Small casts in every order of a kind: somebody is stopped after each of his operations in turn, and
//! others do all they do meanwhile. What chance meets rarely is met here for certain.

use std::{
    sync::{Arc, OnceLock},
    thread,
};

use skellin_place::{MemoryPlace, Place};

use super::{
    actors::{Part, act},
    at_rest, seeded,
    turns::{SimulatedPlace, Took, Turns},
};

/// More operations than anybody does.
pub(super) const ALL: u64 = 100_000;

/// A store of which some has expired: a container wholly, and one of which the newest snapshot needs a
/// part.
fn half_expired() -> MemoryPlace {
    static MADE: OnceLock<MemoryPlace> = OnceLock::new();
    let made = MADE.get_or_init(|| {
        let memory = super::beginning();
        seeded(2, || {
            let place: Arc<dyn Place> = Arc::new(memory.clone());
            let parts = [
                Part::Writer { plan: 0, nights: vec![3, 6] },
                Part::Writer { plan: 1, nights: vec![4] },
                Part::Expirer { times: 1 },
            ];
            for part in parts {
                act(&place, &part, &mut |_| {}).expect("a quiet store takes it");
            }
        });
        memory
    });
    made.fork()
}

/// Lets a cast follow a script: how many operations each took; or what went wrong.
pub(super) fn play(
    memory: &MemoryPlace,
    parts: &[Part],
    script: &[(usize, u64)],
) -> Result<Vec<Took>, String> {
    let turns = seeded(3, || Turns::directed(memory.clone(), parts.len(), script));
    let turns = Arc::new(turns);
    thread::scope(|scope| {
        for (number, part) in parts.iter().enumerate() {
            let turns = Arc::clone(&turns);
            scope.spawn(move || {
                let place: Arc<dyn Place> = Arc::new(SimulatedPlace::new(&turns, number));
                let own = 5 + ((number as u64 + 1) << 32);
                // Who was revoked for good may fail; what counts is what lies there.
                let _ = seeded(own, || act(&place, part, &mut |what| turns.note(what)));
                seeded(own, || turns.leave(number));
            });
        }
    });
    seeded(3, || turns.finish())
        .and_then(|_| at_rest(memory, 3).map_err(|why| format!("at rest: {why}")))
        .map_err(|why| format!("{parts:?} {script:?}: {why}"))?;
    Ok((0..parts.len()).map(|number| turns.took(number)).collect())
}

/// How many operations a part takes alone.
fn length(part: &Part) -> Result<u64, String> {
    Ok(play(&half_expired(), std::slice::from_ref(part), &[])?[0].all)
}

fn writer(plan: u8) -> Part {
    Part::Writer { plan, nights: vec![9] }
}

pub(super) const RECLAIMER: Part = Part::Reclaimer { times: 1 };

/// One is stopped after each operation in turn, and another does all he does. `each`: every so many.
pub(super) fn pairs(each: usize) -> Result<u64, String> {
    let parts = [writer(0), writer(1), Part::Copier, Part::Expirer { times: 1 }, RECLAIMER];
    let mut count = 0;
    for stopped in &parts {
        for other in &parts {
            for after in (0..length(stopped)?).step_by(each) {
                play(&half_expired(), &[stopped.clone(), other.clone()], &[(0, after), (1, ALL)])?;
                count += 1;
            }
        }
    }
    Ok(count)
}

/// Two are stopped, and a third does all he does; then the second ends, then the first.
pub(super) fn triples(each: usize) -> Result<u64, String> {
    let mut count = 0;
    for (first, second, third) in [
        (RECLAIMER, RECLAIMER, writer(0)),
        (RECLAIMER, writer(0), RECLAIMER),
        (writer(0), RECLAIMER, RECLAIMER),
        (RECLAIMER, writer(0), Part::Expirer { times: 1 }),
    ] {
        let lengths = (length(&first)?, length(&second)?);
        for one in (0..lengths.0).step_by(each) {
            for two in (0..lengths.1).step_by(each) {
                let parts = [second.clone(), first.clone(), third.clone()];
                play(&half_expired(), &parts, &[(1, one), (0, two), (2, ALL)])?;
                count += 1;
            }
        }
    }
    Ok(count)
}

#[test]
fn whoever_is_stopped_nothing_is_lost() {
    let count = pairs(9).expect("all is well") + triples(40).expect("all is well");
    assert!(count > 100, "{count}");
}
