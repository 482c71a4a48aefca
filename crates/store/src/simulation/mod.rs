//! The code as it is, on a place that decides who goes on: writers, a copier, an expirer and
//! reclaimers side by side, one operation of the place at a time, with processes that are killed or
//! frozen and writes that come late or twice. After each step every listed snapshot must be whole, and
//! every run that has ended well must be listed. A seed decides everything.

mod actors;
mod directed;
mod oracle;
mod scenes;
mod turns;

use std::{
    cell::Cell,
    sync::{Arc, OnceLock, atomic::AtomicU8},
    thread,
};

use skellin_place::{MemoryPlace, Place};

use crate::{
    Cache, Creation, DataShare, Layout, PassphraseCost, Store,
    mistakes::Mistake,
    protocol_tests::{PASSPHRASE, Unwatched, layout},
};
use actors::{Part, act};
use turns::{SimulatedPlace, Turns};

/// The mistake that is made, by its number.
pub(crate) static MADE: AtomicU8 = AtomicU8::new(0);

thread_local! {
    /// The state of this thread's random numbers; none outside of simulations.
    static RANDOM: Cell<Option<u64>> = const { Cell::new(None) };
}

/// The next number of a sequence (Steele, Lea, Flood, "Fast Splittable Pseudorandom Number Generators",
/// 2014).
fn next(state: &mut u64) -> u64 {
    *state = state.wrapping_add(0x9E37_79B9_7F4A_7C15);
    let mut z = *state;
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    z ^ (z >> 31)
}

/// Fills with this thread's random numbers, if it is in a simulation.
pub(crate) fn fill(bytes: &mut [u8]) -> bool {
    let Some(mut state) = RANDOM.get() else { return false };
    for eight in bytes.chunks_mut(8) {
        eight.copy_from_slice(&next(&mut state).to_le_bytes()[..eight.len()]);
    }
    RANDOM.set(Some(state));
    true
}

/// Whether this thread is in a simulation.
pub(crate) fn is_simulated() -> bool {
    RANDOM.get().is_some()
}

/// Does something with random numbers that a seed decides.
fn seeded<T>(seed: u64, work: impl FnOnce() -> T) -> T {
    let before = RANDOM.replace(Some(seed));
    let done = work();
    RANDOM.set(before);
    done
}

fn open(place: Arc<dyn Place>) -> crate::Result<Arc<Store>> {
    let store = Store::open(place, PASSPHRASE, Cache::None)?;
    // Even a small run has several containers.
    store.fill_at(4 << 10);
    Ok(Arc::new(store))
}

/// A store with three snapshots of two plans, the same each time.
fn beginning() -> MemoryPlace {
    static BEGINNING: OnceLock<MemoryPlace> = OnceLock::new();
    let made = BEGINNING.get_or_init(|| {
        seeded(1, || {
            let memory = MemoryPlace::new();
            let layout = Layout { data_block: 4 << 10, ..layout() };
            let creation = Creation { layout, cost: PassphraseCost::TRIVIAL, now: 0 };
            Store::create(&memory, PASSPHRASE, creation).expect("creates");
            for night in 0..3 {
                let place: Arc<dyn Place> = Arc::new(memory.clone());
                let part = Part::Writer { plan: (night % 2) as u8, nights: vec![night] };
                act(&place, &part, &mut |_| {}).expect("a quiet store takes a run");
            }
            memory
        })
    });
    made.fork()
}

/// Who takes part in a schedule.
fn cast(random: &mut u64) -> Vec<Part> {
    let mut pick = |of: u64| next(random) % of;
    let mut parts = Vec::new();
    for plan in 0..2 {
        let nights = (0..1 + pick(2)).map(|_| 3 + pick(5)).collect();
        parts.push(Part::Writer { plan, nights });
    }
    if pick(3) == 0 {
        parts.push(Part::Copier);
        parts.push(Part::Copier);
    }
    parts.push(Part::Expirer { times: 1 + pick(2) as u8 });
    parts.push(Part::Reclaimer { times: 1 + pick(2) as u8 });
    if pick(2) == 0 {
        parts.push(Part::Reclaimer { times: 1 });
    }
    parts
}

/// What came of a schedule: how many operations it took; or what went wrong.
fn schedule(seed: u64) -> Result<u64, String> {
    let mut random = seed;
    let memory = beginning();
    let parts = cast(&mut random);
    let turns = seeded(seed, || Turns::new(memory.clone(), parts.len(), random));
    let turns = Arc::new(turns);
    thread::scope(|scope| {
        for (number, part) in parts.iter().enumerate() {
            let turns = Arc::clone(&turns);
            scope.spawn(move || {
                // Who is killed begins again, as the next night would.
                for life in 0..3 {
                    let own = seed ^ ((number as u64 + 1) << 32) ^ ((life + 1) << 48);
                    let place: Arc<dyn Place> = Arc::new(SimulatedPlace::new(&turns, number));
                    let done = seeded(own, || act(&place, part, &mut |what| turns.note(what)));
                    if done.is_ok() || !turns.revive(number) {
                        break;
                    }
                }
                // What is looked at meanwhile was written in simulations.
                seeded(seed, || turns.leave(number));
            });
        }
    });
    let steps = seeded(seed, || turns.finish())?;
    at_rest(&memory, seed).map_err(|why| format!("at rest: {why}"))?;
    Ok(steps)
}

/// With nobody else about, a run and a reclaim succeed, and everything that is listed proves whole.
fn at_rest(memory: &MemoryPlace, seed: u64) -> Result<(), String> {
    seeded(seed ^ 0xFFFF, || {
        let place: Arc<dyn Place> = Arc::new(memory.clone());
        let quiet = |part: Part| {
            act(&place, &part, &mut |_| {}).map_err(|error| format!("{part:?}: {error}"))
        };
        quiet(Part::Writer { plan: 0, nights: vec![9] })?;
        quiet(Part::Reclaimer { times: 2 })?;
        quiet(Part::Writer { plan: 1, nights: vec![9] })?;
        let store = open(Arc::clone(&place)).map_err(|error| error.to_string())?;
        let proved = store.verify(DataShare::All, &Unwatched).map_err(|error| error.to_string())?;
        match proved.damage.first() {
            Some(damage) => Err(format!("{} is damaged: {}", damage.object, damage.why)),
            None => Ok(()),
        }
    })
}

/// Schedules from a seed on: how many steps they took; or the first seed that went wrong, and why.
fn campaign(seeds: std::ops::Range<u64>) -> Result<u64, String> {
    seeds.map(|seed| schedule(seed).map_err(|why| format!("seed {seed}: {why}"))).sum()
}

#[test]
fn no_schedule_loses_anything() {
    let steps = campaign(0..150).expect("all is well");
    assert!(steps > 10_000, "{steps}");
}

/// A reclaim is killed with a verdict on the way, the next one finds the snapshot: the run must still hear
/// that it was revoked.
#[test]
fn a_verdict_that_comes_late_meets_no_run_that_has_ended_well() {
    schedule(1_007_275).expect("all is well");
}

#[test]
fn a_seed_decides_everything() {
    for seed in 1000..1010 {
        assert_eq!(schedule(seed), schedule(seed), "seed {seed}");
    }
}

const ALL: [Mistake; 17] = [
    Mistake::NoticesBeforeRecord,
    Mistake::SnapshotsBeforeRuns,
    Mistake::RecordWithoutVerdict,
    Mistake::BaseNotChecked,
    Mistake::ExpireWithoutMarker,
    Mistake::CondemnedCopyCounts,
    Mistake::EmptyAnswer,
    Mistake::RevokeAfterLook,
    Mistake::NameReused,
    Mistake::SnapshotBeforeContainers,
    Mistake::RevokeNotRead,
    Mistake::VerdictNotRead,
    Mistake::NeededNotSpared,
    Mistake::NoticeGoesEarly,
    Mistake::RunsNotHeard,
    Mistake::OtherNoticesNotRead,
    Mistake::AnswerWithoutStopping,
];

/// Run by `cargo xtask simulate`: as many schedules as the environment asks for, on all processors; or
/// each mistake until it is noticed.
#[test]
#[ignore = "takes long: cargo xtask simulate"]
#[allow(clippy::print_stdout, reason = "it is for people")]
fn simulate() {
    let number = |name: &str, usual: u64| {
        std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(usual)
    };
    let (count, from) = (number("SKELLIN_SCHEDULES", 100_000), number("SKELLIN_SEED", 0));
    if std::env::var_os("SKELLIN_MISTAKES").is_some() {
        let mut missed = Vec::new();
        let only = std::env::var("SKELLIN_MISTAKE").ok();
        let wanted =
            |mistake: &Mistake| only.as_ref().is_none_or(|only| *only == format!("{mistake:?}"));
        for mistake in ALL.into_iter().filter(wanted) {
            MADE.store(mistake as u8, std::sync::atomic::Ordering::Relaxed);
            let all = scenes::all(1)
                .and_then(|_| campaign(from..from + count))
                .and_then(|_| directed::pairs(1))
                .and_then(|_| directed::triples(3));
            match all {
                Err(why) => println!("{mistake:?}: noticed, {why}"),
                Ok(_) => missed.push(mistake),
            }
        }
        MADE.store(0, std::sync::atomic::Ordering::Relaxed);
        println!("not noticed in {count} schedules: {missed:?}");
        return;
    }
    let workers = thread::available_parallelism().map_or(1, usize::from) as u64;
    let steps: u64 = thread::scope(|scope| {
        let share = |worker: u64| {
            let (first, last) =
                (from + count * worker / workers, from + count * (worker + 1) / workers);
            scope.spawn(move || campaign(first..last).expect("all is well"))
        };
        let working: Vec<_> = (0..workers).map(share).collect();
        working.into_iter().map(|worker| worker.join().expect("ends")).sum()
    });
    println!("{count} schedules from seed {from}, {steps} operations: nothing lost");
    let all = [directed::pairs(1), directed::triples(3), scenes::all(1)];
    let directed: u64 = all.into_iter().map(|one| one.expect("all is well")).sum();
    println!("{directed} directed schedules: nothing lost");
}
