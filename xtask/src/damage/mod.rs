//! `cargo xtask damage`: every region of every kind of object of a store is damaged, one at a time,
//! and the program is asked what it notices, what it lists, what it runs and what it restores.

mod regions;
mod trial;

use std::{
    collections::BTreeMap,
    path::PathBuf,
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
};

use anyhow::{Result, anyhow, bail, ensure};
use regions::Injury;
use trial::{Order, Trial, Verdict};

use crate::{cargo, root, say};

/// What came of all injuries of a kind done in one way.
#[derive(Default)]
struct Row {
    trials: usize,
    noticed: usize,
    listed: usize,
    old_whole: usize,
    first_run: usize,
    second_run: usize,
}

/// Tries every injury; `every`: only each n-th of them.
pub(crate) fn damage(every: Option<&str>) -> Result<()> {
    let every: usize = every.map_or(Ok(1), str::parse)?;
    ensure!(every > 0, "each 0th trial is none");
    let built = cargo().args(["build", "--package", "skellin"]).status()?;
    ensure!(built.success(), "the program does not build");
    let program = root().join("target/debug/skellin");
    // In memory where there is a file system for that: nothing here is about power cuts.
    let memory = PathBuf::from("/dev/shm");
    let medium = if memory.is_dir() { memory } else { std::env::temp_dir() };
    let folder = medium.join(format!("damage-{}", std::process::id()));
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let (rows, broken, done) = (Mutex::default(), Mutex::default(), AtomicUsize::new(0));
    let worked = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..threads)
            .map(|number| {
                let share = Share { number, threads, every };
                let (rows, broken, done, program) = (&rows, &broken, &done, &program);
                let folder = folder.join(number.to_string());
                scope.spawn(move || work(&share, program, folder, (rows, broken), done))
            })
            .collect();
        workers.into_iter().try_for_each(|worker| {
            worker.join().unwrap_or_else(|_| Err(anyhow!("a thread panicked")))
        })
    });
    let _ = std::fs::remove_dir_all(&folder);
    worked?;
    let broken = broken.into_inner().unwrap_or_else(PoisonError::into_inner);
    table(&rows.into_inner().unwrap_or_else(PoisonError::into_inner));
    if broken.is_empty() {
        say(format!("{} trials: every promise held", done.load(Ordering::SeqCst)));
        return Ok(());
    }
    for line in &broken {
        say(line);
    }
    bail!("{} of {} trials broke a promise", broken.len(), done.load(Ordering::SeqCst));
}

struct Share {
    number: usize,
    threads: usize,
    every: usize,
}

type Rows = Mutex<BTreeMap<(&'static str, &'static str, Order), Row>>;

fn work(
    share: &Share,
    program: &std::path::Path,
    folder: PathBuf,
    (rows, broken): (&Rows, &Mutex<Vec<String>>),
    done: &AtomicUsize,
) -> Result<()> {
    let trial = Trial::prepare(program, folder)?;
    let injuries = regions::injuries(&trial.store())?;
    let orders = [Order::VerifyCold, Order::VerifyWarm, Order::RunCold, Order::RunWarm];
    let all: Vec<(&Injury, Order)> =
        injuries.iter().flat_map(|injury| orders.map(|order| (injury, order))).collect();
    let chosen = all.into_iter().step_by(share.every).enumerate();
    for (_, (injury, order)) in chosen.filter(|(number, _)| number % share.threads == share.number)
    {
        let Some(verdict) = trial.run(injury, order)? else { continue };
        let count = done.fetch_add(1, Ordering::SeqCst) + 1;
        if count.is_multiple_of(100) {
            say(format!("{count} trials"));
        }
        let mut rows = rows.lock().unwrap_or_else(PoisonError::into_inner);
        let row = rows.entry((injury.kind, injury.way.word(), order)).or_default();
        row.trials += 1;
        row.noticed += usize::from(verdict.noticed);
        row.listed += usize::from(verdict.listed);
        row.old_whole += usize::from(verdict.old_whole);
        row.first_run += usize::from(verdict.first_run);
        row.second_run += usize::from(verdict.second_run);
        drop(rows);
        if let Some(why) = broken_promise(injury, order, &verdict) {
            let line = format!(
                "{}, {}, {} {}, {}: {why}",
                injury.object,
                injury.region,
                injury.kind,
                injury.way.word(),
                order.word()
            );
            broken.lock().unwrap_or_else(PoisonError::into_inner).push(line);
        }
    }
    Ok(())
}

/// What was promised and did not hold.
fn broken_promise(injury: &Injury, order: Order, verdict: &Verdict) -> Option<String> {
    let mut why = Vec::new();
    if order.verifies() && !verdict.noticed {
        why.push("verify does not name it");
    }
    if !verdict.listed {
        why.push("a snapshot is not listed");
    }
    if order.verifies() && injury.kind != "data container" && !verdict.old_whole {
        why.push("a snapshot does not restore whole");
    }
    if !verdict.honest {
        why.push("what does not restore is not named, or a status is 0");
    }
    if order.verifies() && !verdict.first_run {
        why.push("a run after it ends with 0 and does not restore whole");
    }
    if !verdict.second_run {
        why.push("one more run does not heal it");
    }
    (!why.is_empty()).then(|| format!("{}{}", why.join("; "), verdict.note))
}

fn table(rows: &BTreeMap<(&'static str, &'static str, Order), Row>) {
    say(
        "object           damage    order            trials  named  listed  old whole  1st run  2nd run",
    );
    for ((kind, way, order), row) in rows {
        let share = |count: usize| {
            if count == row.trials { "all".to_owned() } else { format!("{count}") }
        };
        let verified = |count: usize| if order.verifies() { share(count) } else { "-".to_owned() };
        say(format!(
            "{kind:<16} {way:<9} {:<16} {:>6} {:>6} {:>7} {:>10} {:>8} {:>8}",
            order.word(),
            row.trials,
            verified(row.noticed),
            share(row.listed),
            verified(row.old_whole),
            share(row.first_run),
            share(row.second_run),
        ));
    }
}
