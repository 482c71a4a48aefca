//! How fast restores are, beside what the machine can do in the same minute.

use std::{
    fs::{self, File},
    io::Write,
    path::Path,
    time::{Duration, Instant},
};

use anyhow::{Context as _, Result, ensure};

use crate::{
    inputs,
    limits::Limits,
    say,
    world::{Bench, Measured},
};

/// Files of the row of many, each of a few hundred bytes.
const MANY: u64 = 1_000_000;
/// Of these so many lie in a directory.
const IN_DIRECTORY: u64 = 1_000;
/// Each fiftieth of the many has a second name.
const LINKED: u64 = 50;

/// Prints the rows; large noise and text have been made.
pub(crate) fn rows(bench: &Bench, (noise, text): (&Path, &Path), limits: &Limits) -> Result<()> {
    let cores = std::thread::available_parallelism()?.get() as f64;
    let back = bench.medium.join("back");
    let large = (inputs::LARGE_FILES * inputs::LARGE_BYTES) as f64;
    let written = 1.0 / limits.write;
    let opened = |share: f64| share * (1.0 / limits.read + 1.0 / limits.aead);
    let noise_limit = cores / (opened(1.0) + written);
    let text_limit = cores / (opened(limits.shrink) + 1.0 / limits.unzstd + written);
    for (name, source, limit) in [("noise", noise, noise_limit), ("text", text, text_limit)] {
        let plan = format!("back-{name}");
        bench.plan(&plan, source)?;
        bench.run(&plan)?;
        let measured = restore(bench, &plan, &back)?;
        let ours = large / measured.time.as_secs_f64();
        say(format!(
            "{:<34}{:>11.2} GB/s{:>11.2} GB/s{:>8.2}{:>8} MiB   at least 0.85 wanted",
            format!("restore, large {name}"),
            ours / 1e9,
            limit / 1e9,
            ours / limit,
            measured.memory >> 20,
        ));
    }
    many(bench, &back)
}

/// The faster of two restores into an empty directory.
fn restore(bench: &Bench, plan: &str, back: &Path) -> Result<Measured> {
    let to = back.to_str().context("a path that is text")?;
    let snapshot = format!("{plan}@newest");
    let mut best: Option<Measured> = None;
    for _ in 0..2 {
        let _ = fs::remove_dir_all(back);
        let measured = bench.watched(&["restore", &snapshot, "--to", to])?;
        let is_better = best.as_ref().is_none_or(|best| measured.time < best.time);
        best = if is_better { Some(measured) } else { best };
    }
    fs::remove_dir_all(back)?;
    best.context("a restore")
}

fn name(number: u64) -> String {
    format!("{:04}/note-{number:07}.txt", number / IN_DIRECTORY)
}

fn content(number: u64) -> Vec<u8> {
    let length = 100 + (number * 7919 % 400) as usize;
    format!("{number:07} ").bytes().cycle().take(length).collect()
}

/// Creates and writes the files of one of two threads, and nothing else.
fn write_half(folder: &Path, half: u64) -> Result<()> {
    for number in 0..MANY {
        if number / IN_DIRECTORY % 2 != half {
            continue;
        }
        if number % IN_DIRECTORY == 0 {
            fs::create_dir_all(folder.join(name(number)).parent().unwrap_or(folder))?;
        }
        File::create(folder.join(name(number)))?.write_all(&content(number))?;
    }
    Ok(())
}

fn write_all(folder: &Path) -> Result<Duration> {
    let begun = Instant::now();
    let written: Vec<Result<()>> = std::thread::scope(|scope| {
        let halves: Vec<_> =
            (0..2).map(|half| scope.spawn(move || write_half(folder, half))).collect();
        halves
            .into_iter()
            .map(|half| half.join().unwrap_or_else(|_| Err(anyhow::anyhow!("it panicked"))))
            .collect()
    });
    written.into_iter().collect::<Result<Vec<()>>>()?;
    Ok(begun.elapsed())
}

fn many(bench: &Bench, back: &Path) -> Result<()> {
    let source = bench.medium.join("many");
    let bare = write_all(&source)?;
    for number in (0..MANY).step_by(LINKED as usize) {
        fs::hard_link(source.join(name(number)), source.join(format!("{}-again", name(number))))?;
    }
    bench.plan("many", &source)?;
    bench.run("many")?;
    let measured = restore(bench, "many", back)?;
    ensure!(measured.time > Duration::ZERO, "it took time");
    let ratio = measured.time.as_secs_f64() / bare.as_secs_f64();
    say(format!(
        "{:<34}{:>14.1} s{:>14.1} s{:>8.2}{:>8} MiB   at most 1.30 and 256 MiB wanted",
        "restore, a million small files",
        measured.time.as_secs_f64(),
        bare.as_secs_f64(),
        ratio,
        measured.memory >> 20,
    ));
    Ok(fs::remove_dir_all(&source)?)
}
