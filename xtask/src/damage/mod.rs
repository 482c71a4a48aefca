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
    repaired: usize,
}

/// What the repaired store has of parity, in percent.
const PARITY: usize = 3;

/// Tries every injury; `every`: only each n-th of them. `repairs`: only what a repair makes of them.
pub(crate) fn damage(every: Option<&str>, repairs: bool) -> Result<()> {
    let every: usize = every.map_or(Ok(1), str::parse)?;
    ensure!(every > 0, "each 0th trial is none");
    let built = cargo().args(["build", "--package", "skellin"]).status()?;
    ensure!(built.success(), "the program does not build");
    // In memory where there is a file system for that: nothing here is about power cuts.
    let memory = PathBuf::from("/dev/shm");
    let medium = if memory.is_dir() { memory } else { std::env::temp_dir() };
    let folder = medium.join(format!("damage-{}", std::process::id()));
    std::fs::create_dir_all(&folder)?;
    // Whoever builds meanwhile changes nothing here.
    let program = folder.join("skellin");
    std::fs::copy(root().join("target/debug/skellin"), &program)?;
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let (rows, broken, done) = (Mutex::default(), Mutex::default(), AtomicUsize::new(0));
    let worked = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..threads)
            .map(|number| {
                let share = Share { number, threads, every, repairs };
                let (rows, broken, done, program) = (&rows, &broken, &done, &program);
                let folder = folder.join(number.to_string());
                scope.spawn(move || work(&share, program, &folder, (rows, broken), done))
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
    repairs: bool,
}

type Rows = Mutex<BTreeMap<(&'static str, &'static str, Order), Row>>;

fn work(
    share: &Share,
    program: &std::path::Path,
    folder: &std::path::Path,
    (rows, broken): (&Rows, &Mutex<Vec<String>>),
    done: &AtomicUsize,
) -> Result<()> {
    let plain = Trial::prepare(program, folder.join("plain"), "off")?;
    let mended = Trial::prepare(program, folder.join("mended"), &format!("{PARITY}%"))?;
    let injuries = regions::injuries(&plain.store())?;
    let orders = [Order::VerifyCold, Order::VerifyWarm, Order::RunCold, Order::RunWarm];
    let to_mend = regions::injuries(&mended.store())?;
    let in_orders = injuries.iter().flat_map(|injury| orders.map(|order| (&plain, injury, order)));
    let in_repair = to_mend.iter().map(|injury| (&mended, injury, Order::Repair));
    let all: Vec<(&Trial, &Injury, Order)> =
        in_orders.filter(|_| !share.repairs).chain(in_repair).collect();
    let chosen = all.into_iter().step_by(share.every).enumerate();
    let own = chosen.filter(|(number, _)| number % share.threads == share.number);
    for (_, (trial, injury, order)) in own {
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
        row.repaired += usize::from(verdict.repaired);
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
    if order == Order::Repair {
        if !(verdict.noticed && verdict.listed && verdict.honest) {
            why.push("what is damaged or lost is not named");
        }
        if injury.is_within(PARITY) && !(verdict.repaired && verdict.old_whole) {
            why.push("it is not mended");
        }
        return (!why.is_empty()).then(|| format!("{}{}", why.join("; "), verdict.note));
    }
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
        "object           damage    order            trials  named  listed  old whole  1st run  2nd run  mended",
    );
    for ((kind, way, order), row) in rows {
        let share = |count: usize| {
            if count == row.trials { "all".to_owned() } else { format!("{count}") }
        };
        let is_repair = *order == Order::Repair;
        let or_none = |is_told: bool, count: usize| {
            if is_told { share(count) } else { "-".to_owned() }
        };
        let verified = |count: usize| or_none(order.verifies() || is_repair, count);
        say(format!(
            "{kind:<16} {way:<9} {:<16} {:>6} {:>6} {:>7} {:>10} {:>8} {:>8} {:>7}",
            order.word(),
            row.trials,
            verified(row.noticed),
            share(row.listed),
            verified(row.old_whole),
            or_none(!is_repair, row.first_run),
            or_none(!is_repair, row.second_run),
            or_none(is_repair, row.repaired),
        ));
    }
}
