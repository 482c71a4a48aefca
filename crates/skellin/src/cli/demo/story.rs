//! The story of a backup as text: every step is done by the program itself, as somebody at a shell
//! would, and held against what it must have done.

use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
};

use serde_json::Value;
use skellin_standins::Ridge;

use super::{PASSPHRASE, build, compare, failed, folders};
use crate::{
    cli::{context::Context, error::CliError, output},
    exit::Exit,
    words,
};

pub(super) struct Story<'a> {
    context: &'a Context,
    folder: PathBuf,
    step: usize,
}

/// Tells it in a directory; `remove`: nothing of it is left behind.
pub(super) fn tell(context: &Context, folder: &Path, remove: bool) -> Result<Exit, CliError> {
    if folder.join("config").exists() {
        return Err(CliError::usage(
            format!("{} holds a world already", folder.display()),
            "choose another directory with --dir, or leave it out",
        ));
    }
    let mut story = Story { context, folder: folder.to_path_buf(), step: 0 };
    let told = story.all();
    if remove {
        // It lies among temporary files in any case.
        let _ = fs::remove_dir_all(folder);
    }
    told?;
    context.print(
        || serde_json::json!({"status": "done", "steps": story.step}),
        || format!("\nEvery step held ({} steps).\n", story.step),
    );
    Ok(Exit::Done)
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

    fn say(&self, text: &str) {
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

    fn all(&mut self) -> Result<(), CliError> {
        let now = jiff::Timestamp::now().as_millisecond();
        let ridge = Ridge::new(self.path("srv"));
        let cannot = |error: std::io::Error| failed(&self.folder, &error);
        ridge.live(0, now - 2 * 86_400_000).map_err(cannot)?;
        build::configure(&self.folder, &folders(&self.folder), now, None)?;
        self.say(&format!("The station's world is in {}", self.folder.display()));

        self.step("The plans are checked");
        let checked = self.command(&["plan", "check"], true)?;
        let none = checked["problems"].as_array().is_some_and(Vec::is_empty);
        self.hold(none, "no mistakes")?;

        self.step("A dry run says what would happen, and writes nothing");
        let before = self.listing("oak")?;
        let dry = self.command(&["run", "ringing", "readings", "--dry-run"], true)?;
        let (new, read) = (sum(&dry, "files", "new"), sum(&dry, "bytes", "read"));
        self.hold(
            new > 0,
            &format!(
                "{} would be new, {} to read",
                words::counted(new, "file", "files"),
                words::bytes(read)
            ),
        )?;
        self.hold(
            self.listing("oak")? == before && !self.path("state/journal.sqlite").exists(),
            "the store and the journal are as they were",
        )?;

        self.step("The first run");
        let first = self.command(&["run", "ringing", "readings"], true)?;
        let (stored, first_new) = (sum(&first, "bytes", "stored"), sum(&first, "bytes", "new"));
        self.hold(
            sum(&first, "files", "new") == new,
            &format!("{}, as foretold", words::counted(new, "new file", "new files")),
        )?;
        self.hold(
            all_done(&first) && stored > 0,
            &format!("two snapshots, {} stored", words::bytes(stored)),
        )?;

        self.step("A day passes: series grow, rows of the database change, a sheet is scanned");
        let cannot = |error: std::io::Error| failed(&self.folder, &error);
        ridge.live(1, now - 86_400_000).map_err(cannot)?;
        ridge.live(2, now - 3_600_000).map_err(cannot)?;
        let second = self.command(&["run", "ringing", "readings"], true)?;
        let (changed, second_new) =
            (sum(&second, "files", "changed"), sum(&second, "bytes", "new"));
        self.hold(
            changed > 0 && all_done(&second),
            &format!(
                "{} changed, {} new",
                words::counted(changed, "file", "files"),
                sum(&second, "files", "new")
            ),
        )?;
        self.hold(
            second_new > 0 && second_new * 4 < first_new,
            &format!(
                "only the difference was stored: {} new, after {} the first time",
                words::bytes(second_new),
                words::bytes(first_new)
            ),
        )?;

        self.step("A file is deleted by mistake and brought back");
        let register = ridge.ringing().join("register.csv");
        let cannot = |error: std::io::Error| failed(&register, &error);
        let (content, times) = (
            fs::read(&register).map_err(cannot)?,
            fs::metadata(&register).and_then(|metadata| metadata.modified()).map_err(cannot)?,
        );
        fs::remove_file(&register).map_err(cannot)?;
        let shown = register.display().to_string();
        let versions = self.command(&["versions", "ringing", &shown], true)?;
        let count = versions["versions"].as_array().map_or(0, Vec::len);
        self.hold(count == 2, "its two versions are known")?;
        self.command(&["restore", "ringing@newest", &shown, "--in-place"], true)?;
        let same = fs::read(&register).map_err(cannot)? == content
            && fs::metadata(&register).and_then(|metadata| metadata.modified()).map_err(cannot)?
                == times;
        self.hold(same, "it is back where it was, the same to the byte, with its time")?;

        self.step("One more run, and the store is verified");
        let third = self.command(&["run", "ringing", "readings"], true)?;
        self.hold(
            all_done(&third) && sum(&third, "bytes", "new") == 0,
            "nothing was new to the store",
        )?;
        let verified = self.command(&["verify", "oak"], true)?;
        let clean = verified["damage"].as_array().is_some_and(Vec::is_empty);
        self.hold(
            clean,
            &format!(
                "{} snapshots, {} read, no damage",
                verified["snapshots"],
                words::bytes(verified["bytes-read"].as_u64().unwrap_or(0))
            ),
        )?;

        self.step("An empty machine restores everything, with the place and the passphrase alone");
        let key = self.path("in-my-hand.key");
        build::private(&key, PASSPHRASE)?;
        let (place, key, back) = (
            self.path("oak").display().to_string(),
            key.display().to_string(),
            self.path("empty-machine/back"),
        );
        let to = back.display().to_string();
        for plan in ["ringing@newest", "readings@newest"] {
            self.command(
                &["restore", plan, "--to", &to, "--place", &place, "--passphrase-file", &key],
                false,
            )?;
        }
        for (source, skip) in [
            (ridge.ringing(), &[][..]),
            (ridge.readings(), &[".cache"][..]),
            (ridge.card(), &[][..]),
        ] {
            let name = source.file_name().unwrap_or_default();
            let common = compare::same(&source, &back.join(name), skip).map_err(|why| {
                CliError::failed(
                    format!("step {} did not hold: {}: {why}", self.step, source.display()),
                    None,
                )
            })?;
            self.hold(
                true,
                &format!(
                    "{}: {}, {}, the same to the byte, with modes, owners and times",
                    name.to_string_lossy(),
                    words::counted(common.paths as u64, "path", "paths"),
                    words::bytes(common.bytes)
                ),
            )?;
        }
        super::far::tell(self)
    }

    fn listing(&self, below: &str) -> Result<Vec<(PathBuf, u64)>, CliError> {
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

fn sum(said: &Value, group: &str, key: &str) -> u64 {
    let runs = said["runs"].as_array();
    runs.map_or(0, |runs| runs.iter().filter_map(|run| run[group][key].as_u64()).sum())
}

fn all_done(said: &Value) -> bool {
    said["runs"].as_array().is_some_and(|runs| {
        runs.len() == 2
            && runs.iter().all(|run| run["status"] == "done" && run["snapshot"].is_string())
    })
}
