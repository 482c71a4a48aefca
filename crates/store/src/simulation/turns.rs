//! Who goes on next: one operation of the place at a time, and what goes wrong on the way.

use std::{
    collections::{BTreeMap, HashSet},
    sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError},
};

use skellin_place::{
    Extent, Listed, MemoryPlace, ObjectName, Operation, Place, PlaceError, PlaceErrorKind,
};

use super::{next, oracle::Oracle};
use crate::RunId;

/// One operation in so many is the last of its process.
const KILLED: u64 = 150;
/// One in so many is frozen, for up to so many steps: a laptop that sleeps for days.
const FROZEN: u64 = 120;
const LONG: u64 = 400;
/// One write in so many comes a second time later.
const TWICE: u64 = 40;
/// A schedule never takes more steps.
const MOST: u64 = 20_000;

/// What an actor has done.
#[derive(Clone, Copy, Debug)]
pub(super) enum Done {
    /// A run has ended well.
    Ended(RunId),
    /// Its snapshot is going to expire.
    Expires(RunId),
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Doing {
    Works,
    Waits,
    Goes,
    Left,
}

/// What becomes of an operation.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Fate {
    Fine,
    /// It fails, and so does everything after it.
    Killed,
    /// It is done, and the process killed before it hears of that.
    DoneAndKilled,
    /// It is done after so many steps, long after the process was killed.
    LateAndKilled(u64),
}

struct Actor {
    doing: Doing,
    fate: Fate,
    is_killed: bool,
    frozen_until: u64,
    took: Took,
}

/// The operations an actor has done.
#[derive(Clone, Debug, Default)]
pub(super) struct Took {
    /// How many.
    pub all: u64,
    /// For each write how many there were before it.
    pub writes: Vec<u64>,
}

enum Write {
    Create(ObjectName, Vec<u8>),
    Delete(ObjectName),
}

struct State {
    actors: Vec<Actor>,
    random: u64,
    /// Who goes on for how many operations, the next last; nothing else is decided by chance then.
    script: Option<Vec<(usize, u64)>>,
    step: u64,
    late: BTreeMap<(u64, u64), Write>,
    oracle: Oracle,
    wrong: Option<String>,
    ended: HashSet<RunId>,
    expiring: HashSet<RunId>,
}

pub(super) struct Turns {
    memory: MemoryPlace,
    state: Mutex<State>,
    goes: Vec<Condvar>,
}

impl Turns {
    pub fn new(memory: MemoryPlace, actors: usize, random: u64) -> Self {
        let fresh = || Actor {
            doing: Doing::Works,
            fate: Fate::Fine,
            is_killed: false,
            frozen_until: 0,
            took: Took::default(),
        };
        let state = State {
            actors: (0..actors).map(|_| fresh()).collect(),
            random,
            script: None,
            step: 0,
            late: BTreeMap::new(),
            oracle: Oracle::new(&memory),
            wrong: None,
            ended: HashSet::new(),
            expiring: HashSet::new(),
        };
        let goes = (0..actors).map(|_| Condvar::new()).collect();
        Self { memory, state: Mutex::new(state), goes }
    }

    /// Turns that follow a script, without anything going wrong: who goes on for how many operations;
    /// those who are left at its end finish one after the other.
    pub fn directed(memory: MemoryPlace, actors: usize, script: &[(usize, u64)]) -> Self {
        let turns = Self::new(memory, actors, 0);
        turns.state().script = Some(script.iter().rev().copied().collect());
        turns
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Waits for its turn; what becomes of the operation.
    fn wait(&self, actor: usize) -> Fate {
        let mut state = self.state();
        state.actors[actor].doing = Doing::Waits;
        self.choose(&mut state);
        while state.actors[actor].doing != Doing::Goes {
            state = self.goes[actor].wait(state).unwrap_or_else(PoisonError::into_inner);
        }
        state.actors[actor].doing = Doing::Works;
        state.actors[actor].took.all += 1;
        state.actors[actor].fate
    }

    /// How many operations an actor has done so far.
    pub fn took(&self, actor: usize) -> Took {
        self.state().actors[actor].took.clone()
    }

    /// Lets somebody go on, once all wait.
    fn choose(&self, state: &mut State) {
        if state.actors.iter().any(|one| matches!(one.doing, Doing::Works | Doing::Goes)) {
            return;
        }
        let waiting = |state: &State, frozen: bool| -> Vec<usize> {
            let waits = |(_, one): &(usize, &Actor)| {
                one.doing == Doing::Waits && (frozen || one.frozen_until <= state.step)
            };
            state.actors.iter().enumerate().filter(waits).map(|(number, _)| number).collect()
        };
        let mut able = waiting(state, false);
        if able.is_empty() {
            able = waiting(state, true);
        }
        if able.is_empty() {
            return;
        }
        state.step += 1;
        if let Some(script) = &mut state.script {
            let chosen = directed(script, &able);
            let one = &mut state.actors[chosen];
            one.fate = if state.step > MOST { Fate::Killed } else { Fate::Fine };
            one.doing = Doing::Goes;
            return self.goes[chosen].notify_one();
        }
        self.land(state, state.step);
        let chosen = able[(next(&mut state.random) % able.len() as u64) as usize];
        let (step, luck) = (state.step, next(&mut state.random));
        let one = &mut state.actors[chosen];
        one.fate = match () {
            () if one.is_killed || step > MOST => Fate::Killed,
            () if luck.is_multiple_of(KILLED) => match luck >> 32 & 3 {
                0 => Fate::Killed,
                1 => Fate::DoneAndKilled,
                _ => Fate::LateAndKilled(step + 1 + (luck >> 40) % LONG),
            },
            () => Fate::Fine,
        };
        one.is_killed |= one.fate != Fate::Fine;
        if (luck >> 8).is_multiple_of(FROZEN) {
            one.frozen_until = step + (luck >> 48) % LONG;
        }
        one.doing = Doing::Goes;
        self.goes[chosen].notify_one();
    }

    /// What was on its way until a step arrives.
    fn land(&self, state: &mut State, until: u64) {
        while let Some(first) = state.late.first_entry().filter(|first| first.key().0 <= until) {
            let write = first.remove();
            // What exists stays as it is.
            let _ = self.apply(state, &write);
        }
    }

    fn apply(&self, state: &mut State, write: &Write) -> Result<(), PlaceError> {
        match write {
            Write::Create(name, bytes) => self.memory.create(name, bytes)?,
            Write::Delete(name) => self.memory.delete(name)?,
        }
        let (Write::Create(name, _) | Write::Delete(name)) = write;
        let is_there = matches!(write, Write::Create(..));
        let State { oracle, ended, expiring, wrong, step, .. } = state;
        if wrong.is_none()
            && let Err(why) = oracle.changed(&self.memory, name, is_there, (ended, expiring))
        {
            let verb = if is_there { "created" } else { "deleted" };
            *wrong = Some(format!("step {step}, {name} {verb}: {why}"));
        }
        Ok(())
    }

    fn write(&self, actor: usize, operation: Operation, write: Write) -> Result<(), PlaceError> {
        let fate = self.wait(actor);
        let (Write::Create(name, _) | Write::Delete(name)) = &write;
        let killed = PlaceError::new(operation, name.as_str(), PlaceErrorKind::Failed);
        let mut state = self.state();
        let took = &mut state.actors[actor].took;
        took.writes.push(took.all - 1);
        match fate {
            Fate::Killed => Err(killed),
            Fate::DoneAndKilled => {
                let _ = self.apply(&mut state, &write);
                Err(killed)
            }
            Fate::LateAndKilled(at) => {
                let key = (at, next(&mut state.random));
                state.late.insert(key, write);
                Err(killed)
            }
            Fate::Fine => {
                let done = self.apply(&mut state, &write);
                let luck = next(&mut state.random);
                if let (Ok(()), Write::Create(..)) = (&done, &write)
                    && state.script.is_none()
                    && luck.is_multiple_of(TWICE)
                {
                    let key = (state.step + 1 + (luck >> 32) % LONG, luck);
                    state.late.insert(key, write);
                }
                done
            }
        }
    }

    fn read<T>(
        &self,
        actor: usize,
        (operation, name): (Operation, &str),
        work: impl FnOnce(&MemoryPlace) -> Result<T, PlaceError>,
    ) -> Result<T, PlaceError> {
        match self.wait(actor) {
            Fate::Fine => work(&self.memory),
            _ => Err(PlaceError::new(operation, name, PlaceErrorKind::Failed)),
        }
    }

    /// What an actor says it has done.
    pub fn note(&self, done: Done) {
        let mut state = self.state();
        match done {
            Done::Ended(run) => state.ended.insert(run),
            Done::Expires(run) => state.expiring.insert(run),
        };
    }

    /// Whether an actor that came to nothing was killed, and begins again.
    pub fn revive(&self, actor: usize) -> bool {
        let mut state = self.state();
        let can = state.step < MOST && state.wrong.is_none();
        let one = &mut state.actors[actor];
        std::mem::take(&mut one.is_killed) && can
    }

    /// An actor takes part no more.
    pub fn leave(&self, actor: usize) {
        let mut state = self.state();
        state.actors[actor].doing = Doing::Left;
        self.choose(&mut state);
    }

    /// All have left: what is on its way arrives, and everything is looked at once more.
    pub fn finish(&self) -> Result<u64, String> {
        let mut state = self.state();
        self.land(&mut state, u64::MAX);
        let State { oracle, ended, expiring, wrong, step, .. } = &mut *state;
        match wrong.take() {
            Some(why) => Err(why),
            None => oracle.look((ended, expiring)).map(|()| *step),
        }
    }
}

/// Who is next by a script, of those who can go on.
fn directed(script: &mut Vec<(usize, u64)>, able: &[usize]) -> usize {
    while let Some((actor, left)) = script.last_mut() {
        if *left > 0 && able.contains(actor) {
            *left -= 1;
            return *actor;
        }
        script.pop();
    }
    able[0]
}

/// The place as one actor sees it.
#[derive(Clone)]
pub(super) struct SimulatedPlace {
    turns: Arc<Turns>,
    actor: usize,
}

impl SimulatedPlace {
    pub fn new(turns: &Arc<Turns>, actor: usize) -> Self {
        Self { turns: Arc::clone(turns), actor }
    }
}

impl std::fmt::Debug for SimulatedPlace {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "SimulatedPlace({})", self.actor)
    }
}

impl Place for SimulatedPlace {
    fn describe(&self) -> String {
        "simulated".to_owned()
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        let write = Write::Create(name.clone(), bytes.to_vec());
        self.turns.write(self.actor, Operation::Create, write)
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        let what = (Operation::Read, name.as_str());
        self.turns.read(self.actor, what, |memory| memory.read(name, extent, into))
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        let what = (Operation::List, folder);
        self.turns.read(self.actor, what, |memory| memory.list(folder, each))
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        self.turns.write(self.actor, Operation::Delete, Write::Delete(name.clone()))
    }

    fn sweep(&self, _: u64) -> Result<(), PlaceError> {
        Ok(())
    }
}
