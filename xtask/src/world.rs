//! A configuration to measure with, and runs of the program that are watched.

use std::{
    fs,
    io::{BufRead, BufReader},
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use anyhow::{Context as _, Result, ensure};

/// A run that was measured.
pub(crate) struct Measured {
    /// Without the opening of the store.
    pub time: Duration,
    /// Time to open the store, which is Argon2id's.
    pub opening: Duration,
    /// Largest anonymous resident memory in bytes.
    pub memory: u64,
}

pub(crate) struct Bench {
    pub folder: PathBuf,
    /// Where the store lies: in memory where there is a file system for that, so that the rows
    /// tell of the program and not of a disk that others use too.
    pub medium: PathBuf,
    pub program: PathBuf,
}

impl Bench {
    pub fn prepare(&self) -> Result<()> {
        fs::create_dir_all(self.folder.join("config/plans"))?;
        fs::create_dir_all(&self.medium)?;
        fs::write(self.folder.join("key"), "a passphrase for measurements")?;
        let private = std::os::unix::fs::PermissionsExt::from_mode(0o600);
        fs::set_permissions(self.folder.join("key"), private)?;
        self.create("oak", &self.medium)
    }

    pub fn create(&self, store: &str, at: &Path) -> Result<()> {
        let path = self.folder.join("config/stores.toml");
        let before = fs::read_to_string(&path).unwrap_or_default();
        let (place, key) = (at.join(store), self.folder.join("key"));
        let stores = format!(
            "{before}[{store}]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\n",
            place.display(),
            key.display()
        );
        fs::write(path, stores)?;
        let status = self.command().args(["store", "create", store, "--quiet"]).status()?;
        ensure!(status.success(), "the store was not created");
        Ok(())
    }

    pub fn plan(&self, name: &str, source: &Path) -> Result<()> {
        self.plan_to(name, source, "oak")
    }

    pub fn plan_to(&self, name: &str, source: &Path, store: &str) -> Result<()> {
        let plan = format!("sources = [\"{}\"]\nstore = \"{store}\"\n", source.display());
        Ok(fs::write(self.folder.join(format!("config/plans/{name}.toml")), plan)?)
    }

    fn command(&self) -> Command {
        let mut command = Command::new(&self.program);
        command
            .env("SKELLIN_CONFIG", self.folder.join("config"))
            .env("SKELLIN_STATE", self.folder.join("state"))
            .env("SKELLIN_CACHE", self.folder.join("cache"));
        command
    }

    pub fn run(&self, plan: &str) -> Result<Measured> {
        self.run_with(plan, &[])
    }

    pub fn run_with(&self, plan: &str, options: &[&str]) -> Result<Measured> {
        self.watched(&[&["run", plan], options].concat())
    }

    /// What a command prints as JSON.
    pub fn json(&self, arguments: &[&str]) -> Result<serde_json::Value> {
        let output = self.command().args(arguments).args(["--json", "--quiet"]).output()?;
        ensure!(output.status.success(), "{arguments:?} ended with {}", output.status);
        Ok(serde_json::from_slice(&output.stdout)?)
    }

    /// A command of the program, whatever it is; it has to end well.
    pub fn watched(&self, arguments: &[&str]) -> Result<Measured> {
        let begun = Instant::now();
        let mut child = self
            .command()
            .args(arguments)
            .args(["--quiet", "--progress", "json"])
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()?;
        let (memory, ended) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
        let watch = {
            let (memory, ended, status) =
                (Arc::clone(&memory), Arc::clone(&ended), format!("/proc/{}/status", child.id()));
            std::thread::spawn(move || {
                while !ended.load(Ordering::SeqCst) {
                    memory.fetch_max(anonymous_memory(&status).unwrap_or(0), Ordering::SeqCst);
                    std::thread::sleep(Duration::from_millis(2));
                }
            })
        };
        let mut opening = Duration::ZERO;
        for line in BufReader::new(child.stderr.take().context("its stderr")?).lines() {
            let event: serde_json::Value = serde_json::from_str(&line?)?;
            if let Some(seconds) = event["seconds"].as_f64() {
                opening = Duration::from_secs_f64(seconds);
            }
        }
        let status = child.wait()?;
        let time = begun.elapsed().saturating_sub(opening);
        ended.store(true, Ordering::SeqCst);
        watch.join().map_err(|_| anyhow::anyhow!("the watch panicked"))?;
        ensure!(status.success(), "{arguments:?} ended with {status}");
        Ok(Measured { time, opening, memory: memory.load(Ordering::SeqCst) })
    }
}

fn anonymous_memory(status: &str) -> Option<u64> {
    let text = fs::read_to_string(status).ok()?;
    let line = text.lines().find(|line| line.starts_with("RssAnon:"))?;
    Some(line.split_whitespace().nth(1)?.parse::<u64>().ok()? << 10)
}
