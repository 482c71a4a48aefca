//! How a story is told: its steps, what must hold, and the program itself at work.

use std::{fs, path::PathBuf, process::Command};

use serde_json::Value;

use super::files::failed;
use crate::cli::{context::Context, error::CliError, output};

/// A story in a world of its own.
pub(super) struct Story<'a> {
    pub context: &'a Context,
    pub folder: PathBuf,
    pub step: usize,
}

impl Story<'_> {
    pub fn path(&self, below: &str) -> PathBuf {
        self.folder.join(below)
    }

    pub fn step(&mut self, title: &str) {
        self.step += 1;
        if !self.context.global.json && !self.context.global.quiet {
            output::text(&format!("\n{}. {title}\n", self.step));
        }
    }

    pub fn say(&self, text: &str) {
        if !self.context.global.json && !self.context.global.quiet {
            text.lines().for_each(|line| output::text(&format!("   {line}\n")));
        }
    }

    pub fn hold(&self, holds: bool, what: &str) -> Result<(), CliError> {
        if holds {
            self.say(&format!("✓ {what}"));
            return Ok(());
        }
        Err(CliError::failed(format!("step {} did not hold: {what}", self.step), None))
    }

    /// Runs the program itself; what it says as JSON. Its status must be 0.
    pub fn command(&self, arguments: &[&str], configured: bool) -> Result<Value, CliError> {
        let (status, said) = self.ask(arguments, configured)?;
        if status == Some(0) {
            return Ok(said);
        }
        let why = said["error"]["message"].as_str().unwrap_or("it said nothing").to_owned();
        let status = status.map_or("a signal".to_owned(), |status| format!("status {status}"));
        Err(CliError::failed(format!("step {} did not hold: {status}: {why}", self.step), None))
    }

    /// Runs the program itself, which must end with this status; what it says.
    pub fn ends(&self, arguments: &[&str], expected: i32) -> Result<Value, CliError> {
        let (status, said) = self.ask(arguments, true)?;
        self.hold(status == Some(expected), &format!("status {expected}"))?;
        Ok(said)
    }

    /// Runs the program itself, which must refuse with this status; its reason.
    pub fn refusal(&self, arguments: &[&str], expected: i32) -> Result<String, CliError> {
        let (status, said) = self.ask(arguments, true)?;
        let why = said["error"]["message"].as_str().unwrap_or_default().to_owned();
        self.hold(status == Some(expected), &format!("status {expected}: {why}"))?;
        Ok(why)
    }

    fn ask(&self, arguments: &[&str], configured: bool) -> Result<(Option<i32>, Value), CliError> {
        let started = |error: std::io::Error| {
            CliError::failed(format!("the program does not start: {error}"), None)
        };
        self.say(&format!("$ skellin {}", arguments.join(" ")));
        let mut command = Command::new(std::env::current_exe().map_err(started)?);
        let home = if configured { self.folder.clone() } else { self.path("empty-machine") };
        for (variable, below) in [
            ("SKELLIN_CONFIG", "config"),
            ("SKELLIN_STATE", "state"),
            ("SKELLIN_CACHE", "cache"),
            ("SKELLIN_DRIVES", "drives"),
        ] {
            command.env(variable, home.join(below));
        }
        let output = command.arg("--json").args(arguments).output().map_err(started)?;
        let said: Value = serde_json::from_slice(&output.stdout).unwrap_or(Value::Null);
        Ok((output.status.code(), said))
    }

    /// Files below a directory, with their sizes.
    pub fn listing(&self, below: &str) -> Result<Vec<(PathBuf, u64)>, CliError> {
        let (mut found, mut left) = (Vec::new(), vec![self.path(below)]);
        let cannot = |error: std::io::Error| failed(&self.folder, &error);
        while let Some(folder) = left.pop() {
            for entry in fs::read_dir(&folder).map_err(cannot)? {
                let entry = entry.map_err(cannot)?;
                let metadata = entry.metadata().map_err(cannot)?;
                match metadata.is_dir() {
                    true => left.push(entry.path()),
                    false => found.push((entry.path(), metadata.len())),
                }
            }
        }
        found.sort();
        Ok(found)
    }
}
