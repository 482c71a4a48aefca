//! All test programs, some at a time: many wait for servers and lines, and leave the processors to
//! others.

use std::{
    path::{Path, PathBuf},
    process::Command,
    sync::{Mutex, PoisonError},
    thread::available_parallelism,
    time::Instant,
};

use anyhow::{Context as _, Result, bail, ensure};
use serde_json::Value;

use crate::cargo;

/// A test program, and the directory of its package.
struct Program {
    path: PathBuf,
    package: PathBuf,
    name: String,
}

/// Runs all tests of the workspace. `prepare` is given the command of each program; what they print is
/// handed to `print`, program by program.
pub(crate) fn run_all(
    prepare: &(dyn Fn(&mut Command) + Sync),
    print: &(dyn Fn(&str) + Sync),
) -> Result<()> {
    let mut programs = built()?;
    // Those of the program itself take longest, and come first.
    programs.sort_by_key(|program| !program.package.ends_with("skellin"));
    let (count, begun) = (programs.len(), Instant::now());
    let (waiting, failed) = (Mutex::new(programs.into_iter()), Mutex::new(Vec::new()));
    let processors = available_parallelism().map_or(2, usize::from);
    std::thread::scope(|scope| {
        for _ in 0..=processors {
            scope.spawn(|| {
                loop {
                    let next = waiting.lock().unwrap_or_else(PoisonError::into_inner).next();
                    let Some(program) = next else { return };
                    if let Err(why) = run(&program, prepare, print) {
                        let mut failed = failed.lock().unwrap_or_else(PoisonError::into_inner);
                        failed.push(format!("{}: {why:#}", program.name));
                    }
                }
            });
        }
    });
    print(&format!("{count} test programs in {} s", begun.elapsed().as_secs()));
    let failed = failed.into_inner().unwrap_or_else(PoisonError::into_inner);
    ensure!(failed.is_empty(), "failed: {}", failed.join("; "));
    let done = cargo().args(["test", "--workspace", "--doc", "--quiet"]).status()?;
    ensure!(done.success(), "the examples in the documentation ended with {done}");
    Ok(())
}

fn run(
    program: &Program,
    prepare: &(dyn Fn(&mut Command) + Sync),
    print: &(dyn Fn(&str) + Sync),
) -> Result<()> {
    let begun = Instant::now();
    let mut command = Command::new(&program.path);
    // As Cargo does it.
    command.current_dir(&program.package).env("CARGO_MANIFEST_DIR", &program.package);
    command.env("CARGO", env!("CARGO"));
    prepare(&mut command);
    let output = command.output().context("it does not start")?;
    let text = [output.stdout, output.stderr].concat();
    let text = String::from_utf8_lossy(&text);
    let took = begun.elapsed().as_secs_f64();
    print(&format!("── {} ({took:.0} s)\n{}", program.name, text.trim()));
    if !output.status.success() {
        bail!("it ended with {}", output.status);
    }
    Ok(())
}

/// Builds the test programs; where they are.
fn built() -> Result<Vec<Program>> {
    let output = cargo()
        .args(["test", "--workspace", "--no-run", "--message-format", "json"])
        .stderr(std::process::Stdio::inherit())
        .output()?;
    ensure!(output.status.success(), "the tests cannot be built: {}", output.status);
    let mut programs = Vec::new();
    for line in output.stdout.split(|byte| *byte == b'\n') {
        let Ok(artifact) = serde_json::from_slice::<Value>(line) else { continue };
        let is_test = artifact["profile"]["test"] == true;
        let path = artifact["executable"].as_str().filter(|_| is_test);
        let manifest = artifact["manifest_path"].as_str().map(Path::new);
        if let Some((path, package)) = path.zip(manifest.and_then(Path::parent)) {
            let crate_name = package.file_name().unwrap_or_default().to_string_lossy();
            let target = artifact["target"]["name"].as_str().unwrap_or_default();
            programs.push(Program {
                path: path.into(),
                package: package.to_path_buf(),
                name: format!("{crate_name} {target}"),
            });
        }
    }
    ensure!(programs.len() > 10, "Cargo names {} test programs only", programs.len());
    Ok(programs)
}
