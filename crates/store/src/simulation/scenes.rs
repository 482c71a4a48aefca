//! Scenes for mistakes that need four to meet: what each does in which order is written down, and only
//! where exactly they are stopped is tried out.

use std::{sync::Arc, thread};

use skellin_place::{MemoryPlace, Place};

use super::{
    actors::{Part, act},
    directed::{ALL, RECLAIMER, play},
    seeded,
    turns::{SimulatedPlace, Turns},
};

/// How long somebody goes on in a scene.
#[derive(Clone, Copy, PartialEq)]
enum Until {
    /// To his end.
    End,
    /// To each of his operations in turn.
    Each,
    /// Until just before one of his writes, counted from 0.
    Before(usize),
    /// Until just before one of his writes, counted from the end, the last being 1.
    BeforeLast(usize),
    /// Until one of his writes is done.
    After(usize),
}

/// The writes of a reclaim: a look whether the place is fit for it (0 and 1), the record of its run.
const BEGUN: Until = Until::Before(2);
/// The writes of a run at its end: its snapshot, the second copy of that, and its record that goes.
const ALL_STORED: Until = Until::BeforeLast(3);
/// What it writes after it has decided what to give up.
const DECIDED: Until = Until::Before(3);

struct Scene {
    /// Runs that the store has had before, one after the other.
    before: &'static [Part],
    /// Runs that began beside each other, each knowing nothing of the other.
    beside: &'static [Part],
    /// Runs after those.
    after: &'static [Part],
    parts: &'static [Part],
    /// Who goes on, by his number, and how long.
    script: &'static [(usize, Until)],
}

const EXPIRER: Part = Part::Expirer { times: 1 };

const fn run(plan: &'static str, files: &'static [u64]) -> Part {
    Part::Run { plan, files }
}

const SCENES: [Scene; 6] = [
    // A run is about to put its record when a reclaim condemns what it will use.
    Scene {
        before: &[run("tides", &[1, 2]), run("tides", &[3])],
        beside: &[],
        after: &[],
        parts: &[run("masts", &[1, 2]), RECLAIMER, EXPIRER],
        script: &[
            (2, Until::End),
            (0, Until::Before(0)),
            (1, Until::Each),
            (0, Until::End),
            (1, Until::End),
        ],
    },
    // A run that has looked for notices for the last time ends while a reclaim looks for open runs.
    Scene {
        before: &[run("tides", &[1, 2]), run("tides", &[3])],
        beside: &[],
        after: &[],
        parts: &[run("masts", &[1, 2]), RECLAIMER, EXPIRER],
        script: &[
            (2, Until::End),
            (0, ALL_STORED),
            (1, Until::Each),
            (0, Until::End),
            (1, Until::End),
        ],
    },
    // A run has chosen the snapshot it compares with. Before its record is there another run of the plan
    // ends, that snapshot expires but lies there still, and a reclaim condemns what only it needed.
    Scene {
        before: &[run("tides", &[1, 2])],
        beside: &[],
        after: &[],
        parts: &[run("tides", &[1, 2]), run("tides", &[3]), EXPIRER, RECLAIMER],
        script: &[
            (3, BEGUN),
            (0, Until::Before(0)),
            (1, Until::End),
            (2, Until::After(0)),
            (3, Until::Each),
            (0, Until::End),
            (3, Until::End),
        ],
    },
    // A content lies in two containers. One reclaim finds one of them of no use, and another later the
    // other one: each relies on what its neighbour is about to delete.
    TWICE,
    Scene { script: &[(0, DECIDED), (2, Until::End), (1, Until::Each), (0, Until::End)], ..TWICE },
    // A reclaim ends beside another one that has condemned more: what is condemned must stay so, since
    // the run that begins then would use it.
    Scene {
        before: &[run("tides", &[1, 2]), run("tides", &[3])],
        beside: &[],
        after: &[],
        parts: &[RECLAIMER, RECLAIMER, EXPIRER, run("masts", &[1, 2])],
        script: &[
            (0, DECIDED),
            (2, Until::End),
            (1, Until::Each),
            (0, Until::End),
            (3, Until::End),
            (1, Until::End),
        ],
    },
];

const TWICE: Scene = Scene {
    before: &[],
    beside: &[run("tides", &[1]), run("masts", &[1, 2])],
    after: &[run("masts", &[1])],
    parts: &[RECLAIMER, RECLAIMER, EXPIRER],
    script: &[(0, Until::Each), (2, Until::End), (1, Until::End), (0, Until::End)],
};

impl Scene {
    /// The store as it is at first. `seed` decides about names, and so about who comes first of two.
    fn store(&self, seed: u64) -> MemoryPlace {
        let memory = super::beginning();
        let place: Arc<dyn Place> = Arc::new(memory.clone());
        let alone = |part: &Part, seed: u64| {
            seeded(seed, || act(&place, part, &mut |_| {}).expect("a quiet store takes it"));
        };
        for (part, own) in self.before.iter().zip(0..) {
            alone(part, seed ^ (1 + own) << 40);
        }
        // Step by step: each has learnt what is there before another writes.
        let steps: Vec<(usize, u64)> = (0..1000).map(|step| (step % 2, 1)).collect();
        let turns = Arc::new(Turns::directed(memory.clone(), self.beside.len(), &steps));
        thread::scope(|scope| {
            for (number, part) in self.beside.iter().enumerate() {
                let turns = Arc::clone(&turns);
                let own = seed ^ (1 + number as u64) << 48;
                scope.spawn(move || {
                    let place: Arc<dyn Place> = Arc::new(SimulatedPlace::new(&turns, number));
                    seeded(own, || act(&place, part, &mut |_| {})).expect("a quiet store takes it");
                    seeded(own, || turns.leave(number));
                });
            }
        });
        for (part, own) in self.after.iter().zip(0..) {
            alone(part, seed ^ (1 + own) << 56);
        }
        memory
    }

    /// Plays it with everybody stopped where he may be; how often.
    fn play(&self, seed: u64, each: u64) -> Result<u64, String> {
        let store = self.store(seed);
        let quiet: Vec<(usize, u64)> = self.script.iter().map(|(who, _)| (*who, ALL)).collect();
        let took = play(&store.fork(), self.parts, &quiet)?;
        let stops = |(who, until): &(usize, Until)| -> Vec<u64> {
            let took = &took[*who];
            let write = |number: usize| took.writes.get(number).copied().unwrap_or(took.all);
            match until {
                Until::End => vec![ALL],
                // Others may leave him more to do than he has alone.
                Until::Each => (0..took.all + took.all / 4).step_by(each as usize).collect(),
                Until::Before(number) => vec![write(*number)],
                Until::BeforeLast(number) => {
                    vec![write(took.writes.len().saturating_sub(*number))]
                }
                Until::After(number) => vec![write(*number) + 1],
            }
        };
        let mut scripts = vec![Vec::new()];
        for step in self.script {
            let longer = |script: &Vec<(usize, u64)>| -> Vec<Vec<(usize, u64)>> {
                let with = |stop: u64| [script.as_slice(), &[(step.0, stop)]].concat();
                stops(step).into_iter().map(with).collect()
            };
            scripts = scripts.iter().flat_map(longer).collect();
        }
        for script in &scripts {
            play(&store.fork(), self.parts, script)?;
        }
        Ok(scripts.len() as u64)
    }
}

/// All scenes, stopped at every so many operations: how many schedules that were.
pub(super) fn all(each: u64) -> Result<u64, String> {
    let mut count = 0;
    for (number, scene) in SCENES.iter().enumerate() {
        for seed in 1..=2 {
            let played = scene.play(seed, each);
            count += played.map_err(|why| format!("scene {number}, seed {seed}: {why}"))?;
        }
    }
    Ok(count)
}

#[test]
fn four_who_meet_lose_nothing() {
    let count = all(3).expect("all is well");
    assert!(count > 100, "{count}");
}
