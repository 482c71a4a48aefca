//! Measurements: every figure beside the limit of the same machine in the same run.

use std::{fs, path::Path, time::Duration};

use anyhow::{Context as _, Result, ensure};

use crate::{
    cargo, choosing, drilled, far, growth, inputs, limits, long, restored, root, say, screen,
    searched,
    world::{Bench, Measured},
};

/// Builds the program, makes the inputs, measures, prints.
pub(crate) fn bench(only: Option<&str>) -> Result<()> {
    if cfg!(debug_assertions) {
        // What measures the machine must be built as well as what is measured.
        let mut again = cargo();
        again.args(["run", "--quiet", "--release", "--package", "xtask", "--", "bench"]);
        again.args(only);
        let status = again.status()?;
        ensure!(status.success(), "the measurements ended with {status}");
        return Ok(());
    }
    let folder = root().join("target/measurements");
    let _ = fs::remove_dir_all(&folder);
    let memory = Path::new("/dev/shm");
    let medium =
        if memory.is_dir() { memory.join("skellin-measurements") } else { folder.join("medium") };
    let _ = fs::remove_dir_all(&medium);
    if only == Some("--far") {
        // It measures the libraries alone.
        fs::create_dir_all(&medium)?;
        far::rows(&medium)?;
        return Ok(fs::remove_dir_all(&medium)?);
    }
    if only == Some("--growth") {
        fs::create_dir_all(&medium)?;
        fs::create_dir_all(&folder)?;
        growth::rows(&folder, &medium)?;
        return Ok(fs::remove_dir_all(&medium)?);
    }
    if only == Some("--search") {
        fs::create_dir_all(&folder)?;
        return searched::rows(&folder);
    }
    let status = cargo().args(["build", "--release", "--package", "skellin"]).status()?;
    ensure!(status.success(), "the program does not build");
    let bench = Bench { program: root().join("target/release/skellin"), folder, medium };
    match only {
        Some("--screen") => {
            screen::rows(&bench.program, &bench.medium)?;
            return Ok(fs::remove_dir_all(&bench.medium)?);
        }
        Some("--long") => {
            bench.prepare()?;
            long::rows(&bench)?;
            return Ok(fs::remove_dir_all(&bench.medium)?);
        }
        Some("--restore") => {
            bench.prepare()?;
            let (noise, text) = (bench.folder.join("noise"), bench.folder.join("text"));
            inputs::incompressible(&noise)?;
            inputs::text(&text)?;
            let large = (noise.join("large-0"), text.join("large-0"));
            let limits = limits::measure(&large.0, &large.1, &bench.medium)?;
            restored::rows(&bench, (&noise, &text), &limits)?;
            fs::remove_dir_all(&bench.folder)?;
            return Ok(fs::remove_dir_all(&bench.medium)?);
        }
        Some("--drill") => {
            bench.prepare()?;
            let below = |name: &str| bench.folder.join(name);
            let (noise, text, small) = (below("noise"), below("text"), below("small"));
            inputs::incompressible(&noise)?;
            inputs::text(&text)?;
            inputs::small(&small)?;
            drilled::rows(&bench, [("noise", &noise), ("text", &text), ("small", &small)])?;
            fs::remove_dir_all(&bench.folder)?;
            return Ok(fs::remove_dir_all(&bench.medium)?);
        }
        Some("--rules") => {
            bench.prepare()?;
            choosing::rows(&bench)?;
            return Ok(fs::remove_dir_all(&bench.medium)?);
        }
        _ => {}
    }
    let cores = std::thread::available_parallelism()?.get();
    bench.prepare()?;
    let (noise, text, small) =
        (bench.folder.join("noise"), bench.folder.join("text"), bench.folder.join("small"));
    say("making inputs");
    inputs::incompressible(&noise)?;
    inputs::text(&text)?;
    inputs::small(&small)?;
    // An inode that changed a moment ago is read again by the next run; wait until none has.
    let newest = fs::metadata(&small)?.modified()?;
    while newest.elapsed().unwrap_or_default() < Duration::from_secs(4) {
        std::thread::sleep(Duration::from_millis(100));
    }
    say("measuring the machine");
    let limits = limits::measure(&noise.join("large-0"), &text.join("large-0"), &bench.medium)?;
    let disk = limits::synced_write(&noise, &bench.folder, cores)?;
    let walk = limits::walk(&small, cores)?;
    say(format!(
        "one thread, GB/s: read {:.2}, boundary {:.2}, BLAKE3 {:.2}, zstd {:.2} (to {:.0}%), AEAD {:.2}, write {:.2}; on {cores} threads: synced write to disk {:.2}, walk {:.0} entries/s",
        limits.read / 1e9,
        limits.boundary / 1e9,
        limits.blake3 / 1e9,
        limits.zstd / 1e9,
        limits.shrink * 100.0,
        limits.aead / 1e9,
        limits.write / 1e9,
        disk / 1e9,
        walk,
    ));
    let cores = cores as f64;
    let noise_limit = cores
        / (1.0 / limits.read
            + 1.0 / limits.boundary
            + 1.0 / limits.blake3
            + 1.0 / limits.aead
            + 1.0 / limits.write);
    let text_limit = cores
        / (1.0 / limits.read
            + 1.0 / limits.boundary
            + 1.0 / limits.blake3
            + 1.0 / limits.zstd
            + limits.shrink * (1.0 / limits.aead + 1.0 / limits.write));
    let large = (inputs::LARGE_FILES * inputs::LARGE_BYTES) as f64;
    say("");
    say(format!(
        "{:<34}{:>16}{:>16}{:>8}{:>12}{:>10}",
        "row", "ours", "limit", "ratio", "memory", "opening"
    ));
    let row = |name: &str, ours: String, limit: String, ratio: Option<f64>, measured: &Measured| {
        let ratio = ratio.map_or("-".to_owned(), |ratio| format!("{ratio:.2}"));
        say(format!(
            "{name:<34}{ours:>16}{limit:>16}{ratio:>8}{:>8} MiB{:>7} ms",
            measured.memory >> 20,
            measured.opening.as_millis()
        ));
    };
    let gigabytes = |rate: f64| format!("{:.2} GB/s", rate / 1e9);
    for (name, source, limit) in [("noise", &noise, noise_limit), ("text", &text, text_limit)] {
        bench.plan(name, source)?;
        let first = bench.run(name)?;
        let ours = large / first.time.as_secs_f64();
        row(
            &format!("first run, large {name}"),
            gigabytes(ours),
            gigabytes(limit),
            Some(ours / limit),
            &first,
        );
    }
    bench.create("ash", &bench.folder)?;
    bench.plan_to("noise-disk", &noise, "ash")?;
    let first = bench.run("noise-disk")?;
    let ours = large / first.time.as_secs_f64();
    let limit = noise_limit.min(disk);
    row(
        "first run, large noise, to disk",
        gigabytes(ours),
        gigabytes(limit),
        Some(ours / limit),
        &first,
    );
    bench.plan("small", &small)?;
    let first = bench.run("small")?;
    let ours = inputs::SMALL_FILES as f64 / first.time.as_secs_f64();
    row(
        "first run, 100 000 small files",
        format!("{ours:.0} files/s"),
        "-".to_owned(),
        None,
        &first,
    );
    let second = (0..3).map(|_| bench.run("small")).collect::<Result<Vec<_>>>()?;
    let second = second.into_iter().min_by_key(|measured| measured.time).context("a second run")?;
    let entries = (inputs::SMALL_FILES + 1010) as f64;
    let bare = entries / walk;
    row(
        "second run, nothing changed",
        format!("{:.0} ms", second.time.as_secs_f64() * 1e3),
        format!("{:.0} ms", bare * 1e3),
        Some(second.time.as_secs_f64() / bare),
        &second,
    );
    restored::rows(&bench, (&noise, &text), &limits)?;
    long::rows(&bench)?;
    choosing::rows(&bench)?;
    screen::rows(&bench.program, &bench.medium)?;
    far::rows(&bench.medium)?;
    growth::rows(&bench.folder, &bench.medium)?;
    searched::rows(&bench.folder)?;
    say("");
    say(
        "ratios of rates: ours to the limit, at least 0.40 wanted; of times: ours to the bare walk, at most 4.00 wanted",
    );
    fs::remove_dir_all(&bench.medium)?;
    fs::remove_dir_all(&bench.folder)?;
    Ok(())
}
