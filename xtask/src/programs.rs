//! All tests, some at a time: many wait for servers and lines, and leave the processors to others.
//! Those that start processes and servers have a process each, so that none meets what another left.

use std::{
    collections::HashSet,
    path::{Path, PathBuf},
    process::Command,
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
    thread::available_parallelism,
    time::Instant,
};

use anyhow::{Context as _, Result, bail, ensure};
use serde_json::Value;

use crate::{cargo, root};

/// The target of tests that have a process each.
const APART: &str = "tests";

/// A test program, and the directory of its package.
struct Program {
    path: PathBuf,
    package: PathBuf,
    target: String,
}

/// One test of a program, or all of them.
struct Task<'a> {
    program: &'a Program,
    test: Option<String>,
    name: String,
}

/// Takes what tests print: whether it is shown, or just looked through.
pub(crate) type Print<'a> = dyn Fn(&str, bool) + Sync + 'a;

/// Runs all tests of the workspace. `prepare` is given the command of each; what they print is handed to
/// `print`.
pub(crate) fn run_all(prepare: &(dyn Fn(&mut Command) + Sync), print: &Print<'_>) -> Result<()> {
    let programs = built()?;
    let (mut tasks, mut left_out) = (Vec::new(), 0);
    for program in &programs {
        left_out += program.tasks(&mut tasks)?;
    }
    ensure!(tasks.len() > 100, "there are {} tests only", tasks.len());
    let times = root().join("target/test-times.json");
    let known: Value = std::fs::read(&times)
        .ok()
        .and_then(|text| serde_json::from_slice(&text).ok())
        .unwrap_or_default();
    // What took longest comes first; what is not known yet may take long.
    let took = |name: &str| known[name].as_f64().unwrap_or(10.0);
    tasks.sort_by(|a, b| took(&b.name).total_cmp(&took(&a.name)));
    let (count, begun) = (tasks.len(), Instant::now());
    let waiting = Mutex::new(tasks.into_iter());
    let (failed, taken) = (Mutex::new(Vec::new()), Mutex::new(serde_json::Map::new()));
    let passed = AtomicUsize::new(0);
    let processors = available_parallelism().map_or(2, usize::from);
    std::thread::scope(|scope| {
        for _ in 0..=2 * processors {
            scope.spawn(|| {
                loop {
                    let next = waiting.lock().unwrap_or_else(PoisonError::into_inner).next();
                    let Some(task) = next else { return };
                    let begun = Instant::now();
                    match task.run(prepare, print) {
                        Ok(count) => _ = passed.fetch_add(count, Ordering::Relaxed),
                        Err(why) => {
                            let mut failed = failed.lock().unwrap_or_else(PoisonError::into_inner);
                            failed.push(format!("{}: {why:#}", task.name));
                        }
                    }
                    let mut taken = taken.lock().unwrap_or_else(PoisonError::into_inner);
                    taken.insert(task.name, begun.elapsed().as_secs_f64().into());
                }
            });
        }
    });
    let taken = taken.into_inner().unwrap_or_else(PoisonError::into_inner);
    // Without them the next time takes a little longer.
    let _ = std::fs::write(times, Value::Object(taken).to_string());
    let seconds = begun.elapsed().as_secs_f64();
    let failed = failed.into_inner().unwrap_or_else(PoisonError::into_inner);
    let (verdict, bad) = (if failed.is_empty() { "ok" } else { "FAILED" }, failed.len());
    print(&format!("{count} tests and programs of tests were run"), true);
    print(&format!("{left_out} are left out on purpose: cargo xtask faults"), true);
    // In the words of Rust's own tests, so that whoever counts those counts these.
    let passed = passed.into_inner();
    print(
        &format!(
            "test result: {verdict}. {passed} passed; {bad} failed; {left_out} ignored; 0 measured; \
             0 filtered out; finished in {seconds:.2}s"
        ),
        true,
    );
    ensure!(failed.is_empty(), "failed:\n{}", failed.join("\n"));
    Ok(())
}

impl Program {
    fn command(&self) -> Command {
        let mut command = Command::new(&self.path);
        // As Cargo does it.
        command.current_dir(&self.package).env("CARGO_MANIFEST_DIR", &self.package);
        command.env("CARGO", env!("CARGO"));
        command
    }

    fn listed(&self, more: &[&str]) -> Result<HashSet<String>> {
        let output = self.command().args(["--list", "--format", "terse"]).args(more).output()?;
        ensure!(output.status.success(), "its tests cannot be listed: {}", output.status);
        let text = String::from_utf8(output.stdout)?;
        Ok(text.lines().filter_map(|line| line.strip_suffix(": test")).map(str::to_owned).collect())
    }

    /// What there is to run; how many tests are left out.
    fn tasks<'a>(&'a self, tasks: &mut Vec<Task<'a>>) -> Result<usize> {
        let package = self.package.file_name().unwrap_or_default().to_string_lossy();
        if self.target != APART {
            let name = format!("{package}::{}", self.target);
            tasks.push(Task { program: self, test: None, name });
            return Ok(0);
        }
        let (mut all, ignored) = (self.listed(&[])?, self.listed(&["--ignored"])?);
        all.retain(|test| !ignored.contains(test));
        tasks.extend(all.into_iter().map(|test| {
            let name = format!("{package}::{test}");
            Task { program: self, test: Some(test), name }
        }));
        Ok(ignored.len())
    }
}

impl Task<'_> {
    /// How many tests passed.
    fn run(&self, prepare: &(dyn Fn(&mut Command) + Sync), print: &Print<'_>) -> Result<usize> {
        let begun = Instant::now();
        let mut command = self.program.command();
        prepare(&mut command);
        if let Some(test) = &self.test {
            command.args([test, "--exact"]);
        }
        let output = command.output().context("it does not start")?;
        let text = [output.stdout, output.stderr].concat();
        let text = String::from_utf8_lossy(&text);
        let (took, name) = (begun.elapsed().as_secs_f64(), &self.name);
        let passed = text.split_once("test result: ok. ").and_then(|(_, counts)| {
            counts.split(' ').next().and_then(|count| count.parse::<usize>().ok())
        });
        let is_whole = output.status.success() && (self.test.is_none() || passed == Some(1));
        if let Some(passed) = passed.filter(|_| is_whole) {
            match self.test {
                Some(_) => print(&format!("test {name} ... ok <{took:.1}s>"), true),
                None => self.each(&text).for_each(|line| print(&line, true)),
            }
            print(&text, false);
            return Ok(passed);
        }
        print(&format!("test {name} ... FAILED <{took:.1}s>\n{}", text.trim()), true);
        bail!("it ended with {}", output.status)
    }

    /// What a whole program says of each of its tests, with the program's name.
    fn each(&self, text: &str) -> impl Iterator<Item = String> {
        let tests = text.lines().filter_map(|line| line.strip_prefix("test "));
        tests
            .filter(|line| !line.starts_with("result:"))
            .map(|line| format!("test {}::{line}", self.name))
    }
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
            let target = artifact["target"]["name"].as_str().unwrap_or_default().to_owned();
            programs.push(Program { path: path.into(), package: package.to_path_buf(), target });
        }
    }
    Ok(programs)
}
