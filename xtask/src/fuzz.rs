//! Attacks on the parsers, guided by coverage (libFuzzer).

use std::process::Command;

use anyhow::{Context as _, Result, ensure};

use crate::{root, say};

const TARGETS: [&str; 4] = ["rules", "plan", "objects", "contents"];

/// Runs each target for so many minutes; a crash fails, and its input is kept under
/// `fuzz/artifacts`.
pub(crate) fn fuzz(minutes: Option<&str>) -> Result<()> {
    let minutes: u32 = minutes.unwrap_or("10").parse().context("say how many minutes each")?;
    let is_there = Command::new("cargo").args(["fuzz", "--version"]).output();
    if !is_there.is_ok_and(|output| output.status.success()) {
        say("installing cargo-fuzz");
        let status = Command::new("cargo").args(["install", "--locked", "cargo-fuzz"]).status()?;
        ensure!(status.success(), "cargo-fuzz was not installed");
    }
    for target in TARGETS {
        say(format!("{target}: {minutes} minutes"));
        let seeds = root().join("fuzz/seeds").join(target);
        let corpus = root().join("fuzz/corpus").join(target);
        std::fs::create_dir_all(&corpus)?;
        let status = Command::new("cargo")
            .args(["fuzz", "run", target])
            .args([&corpus, &seeds])
            .args([
                "--",
                &format!("-max_total_time={}", minutes * 60),
                "-print_final_stats=1",
                "-timeout=10",
            ])
            // The instrumentation is not stable; the compiler is the one everything is built with.
            .env("RUSTC_BOOTSTRAP", "1")
            .current_dir(root())
            .status()?;
        ensure!(status.success(), "the attack on {target} ended with {status}");
    }
    Ok(())
}
