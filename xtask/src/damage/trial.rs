//! One trial: a store of three snapshots, one injury, and what the program makes of it.

use std::{
    cell::Cell,
    fs,
    path::{Path, PathBuf},
    process::{Command, Output},
    time::{Duration, SystemTime},
};

use anyhow::{Context as _, Result, ensure};
use serde_json::Value;
use skellin_place::DirectoryPlace;
use skellin_store::{Creation, FOLDERS, Layout, PassphraseCost, Store};

use super::regions::Injury;

const PASSPHRASE: &str = "kittiwakes on the ridge";
const SNAPSHOTS: usize = 3;

/// What comes first after the injury, and whether there is a cache.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Order {
    VerifyCold,
    VerifyWarm,
    RunCold,
    RunWarm,
    /// A repair where the store has parity, and nothing else has the bytes.
    Repair,
}

impl Order {
    pub fn word(self) -> &'static str {
        match self {
            Self::VerifyCold => "verify, no cache",
            Self::VerifyWarm => "verify, cache",
            Self::RunCold => "run, no cache",
            Self::RunWarm => "run, cache",
            Self::Repair => "repair, parity",
        }
    }

    pub fn verifies(self) -> bool {
        matches!(self, Self::VerifyCold | Self::VerifyWarm)
    }

    fn is_cold(self) -> bool {
        matches!(self, Self::VerifyCold | Self::RunCold | Self::Repair)
    }
}

/// What came of a trial.
pub(super) struct Verdict {
    /// Verify ended with 3 and named the object.
    pub noticed: bool,
    /// History lists all snapshots that were made.
    pub listed: bool,
    /// All snapshots from before restore whole.
    pub old_whole: bool,
    /// What does not restore was named by verify, and no status of 0 stands over it.
    pub honest: bool,
    /// The next run's snapshot restores whole, or the run said that it did not succeed.
    pub first_run: bool,
    /// So does that of the run after it, with a status of 0 or 4.
    pub second_run: bool,
    /// A repair found nothing left, and neither did a verification after it.
    pub repaired: bool,
    pub note: String,
}

/// A world to damage again and again.
pub(super) struct Trial {
    program: PathBuf,
    folder: PathBuf,
    changes: Cell<u64>,
}

fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

impl Trial {
    /// A store with three snapshots of a source that changes, in `folder`.
    pub fn prepare(program: &Path, folder: PathBuf, parity: &str) -> Result<Self> {
        let trial = Self { program: program.to_path_buf(), folder, changes: Cell::new(0) };
        let at = |below: &str| trial.folder.join(below);
        fs::create_dir_all(at("config/plans"))?;
        fs::write(at("key"), PASSPHRASE)?;
        fs::set_permissions(at("key"), std::os::unix::fs::PermissionsExt::from_mode(0o600))?;
        let place = DirectoryPlace::prepare(trial.store(), FOLDERS)?;
        let layout = Layout {
            chunk_min: 4 << 10,
            chunk_turn: 8 << 10,
            chunk_max: 16 << 10,
            data_block: 64 << 10,
            tree_block: 8 << 10,
            container: 512 << 10,
            ..Layout::default()
        };
        let creation = Creation { layout, cost: PassphraseCost::TRIVIAL, now: 0 };
        Store::create(&place, PASSPHRASE.as_bytes(), creation)?;
        fs::write(
            at("config/stores.toml"),
            format!(
                "[oak]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\nparity = \"{parity}\"\n",
                trial.store().display(),
                at("key").display()
            ),
        )?;
        let plan = format!(
            "sources = [\"{}\"]\nstore = \"oak\"\nmachine = \"hut\"\n",
            at("ridge").display()
        );
        fs::write(at("config/plans/readings.toml"), plan)?;
        for number in 0..240u64 {
            let directory = at(&format!("ridge/{}/{}", number % 4, number % 12));
            fs::create_dir_all(&directory)?;
            fs::write(directory.join(format!("gauge-{number}.csv")), noise(number, 3000))?;
        }
        fs::write(at("ridge/long.dat"), noise(1000, 900_000))?;
        std::os::unix::fs::symlink("long.dat", at("ridge/link"))?;
        for round in 0..SNAPSHOTS {
            fs::write(at(&format!("ridge/night-{round}.csv")), noise(2000 + round as u64, 40_000))?;
            fs::write(at("ridge/1/1/gauge-1.csv"), noise(3000 + round as u64, 5000))?;
            settle();
            let output = trial.skellin(&["run", "readings"])?;
            ensure!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
            copy(&at("ridge"), &at(&format!("state-{round}")))?;
        }
        for part in ["oak", "cache", "state"] {
            copy(&at(part), &at(&format!("base-{part}")))?;
        }
        Ok(trial)
    }

    pub fn store(&self) -> PathBuf {
        self.folder.join("oak")
    }

    fn skellin(&self, arguments: &[&str]) -> Result<Output> {
        let mut command = Command::new(&self.program);
        command
            .args(arguments)
            .env("SKELLIN_CONFIG", self.folder.join("config"))
            .env("SKELLIN_STATE", self.folder.join("state"))
            .env("SKELLIN_CACHE", self.folder.join("cache"));
        Ok(command.output()?)
    }

    fn json(&self, arguments: &[&str]) -> Result<(i32, Value)> {
        let output = self.skellin(&[arguments, &["--json"]].concat())?;
        let status = output.status.code().context("a signal ended it")?;
        let value = serde_json::from_slice(&output.stdout).with_context(|| {
            format!("{arguments:?} said {}", String::from_utf8_lossy(&output.stdout))
        })?;
        Ok((status, value))
    }

    /// Restores a snapshot; its status, and the paths that are not as they should be.
    fn differing(&self, snapshot: &str, truth: &str) -> Result<(i32, Vec<String>)> {
        let back = self.folder.join("back");
        let _ = fs::remove_dir_all(&back);
        let to = back.display().to_string();
        let (status, _) = self.json(&["restore", snapshot, "--to", &to])?;
        fs::create_dir_all(back.join("ridge"))?;
        let output = Command::new("diff")
            .args(["-rq", "--no-dereference"])
            .arg(self.folder.join(truth))
            .arg(back.join("ridge"))
            .output()?;
        let text = String::from_utf8_lossy(&output.stdout);
        Ok((status, text.lines().map(str::to_owned).collect()))
    }

    /// One trial; `None` if the injury changes nothing.
    pub fn run(&self, injury: &Injury, order: Order) -> Result<Option<Verdict>> {
        for part in ["oak", "cache", "state"] {
            let _ = fs::remove_dir_all(self.folder.join(part));
            if part != "cache" || !order.is_cold() {
                copy(&self.folder.join(format!("base-{part}")), &self.folder.join(part))?;
            }
        }
        if !injury.inflict(&self.store())? {
            return Ok(None);
        }
        let mut verdict = Verdict {
            noticed: false,
            listed: false,
            old_whole: true,
            honest: true,
            first_run: false,
            second_run: false,
            repaired: false,
            note: String::new(),
        };
        if order == Order::Repair {
            self.repair(&mut verdict)?;
            return Ok(Some(verdict));
        }
        let mut named = Vec::new();
        if order.verifies() {
            let (status, report) = self.json(&["verify", "oak"])?;
            let damage = report["damage"].as_array().cloned().unwrap_or_default();
            let is_it = |found: &Value| {
                let object = found["container"].as_str().unwrap_or_default();
                injury.object.starts_with(object) || object.starts_with(&injury.object)
            };
            verdict.noticed = status == 3 && damage.iter().any(is_it);
            for found in
                damage.iter().flat_map(|found| found["files"].as_array().into_iter().flatten())
            {
                named.extend(
                    found["path"]
                        .as_str()
                        .and_then(|path| path.rsplit('/').next())
                        .map(str::to_owned),
                );
            }
        }
        let (status, history) = self.json(&["history", "readings"])?;
        let ids: Vec<String> = history["snapshots"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|snapshot| snapshot["id"].as_str().map(str::to_owned))
            .collect();
        verdict.listed = status == 0 && ids.len() == SNAPSHOTS;
        if order.verifies() {
            for (round, id) in ids.iter().enumerate() {
                let (status, differing) = self.differing(id, &format!("state-{round}"))?;
                verdict.old_whole &= differing.is_empty();
                let all_named = differing
                    .iter()
                    .all(|line| named.iter().any(|name| line.contains(name.as_str())));
                let is_honest = differing.is_empty() || (status == 3 && all_named);
                if !is_honest {
                    verdict.note.push_str(&format!(
                        " [snapshot {round}: status {status}, {differing:?}, named {named:?}]"
                    ));
                }
                verdict.honest &= is_honest;
            }
        }
        let change = self.changes.replace(self.changes.get() + 1);
        fs::write(self.folder.join("ridge/2/2/gauge-2.csv"), noise(10_000 + change, 4000))?;
        let (status, first) = self.json(&["run", "readings"])?;
        let (restored, differing) = self.newest(&first)?;
        // Without a verification before it, a run that relied on damaged content cannot know; the
        // restore must not keep it back.
        verdict.first_run = differing.is_empty() || status != 0;
        if !(verdict.first_run || restored == 3) {
            verdict.honest = false;
            verdict
                .note
                .push_str(&format!(" [first run: {status}, restore {restored}: {differing:?}]"));
        }
        let (status, second) = self.json(&["run", "readings"])?;
        let (restored, differing) = self.newest(&second)?;
        verdict.second_run = [0, 4].contains(&status) && restored == 0 && differing.is_empty();
        if !verdict.second_run {
            verdict
                .note
                .push_str(&format!(" [second run: {status}, restore {restored}: {differing:?}]"));
        }
        Ok(Some(verdict))
    }

    /// A repair without the sources; what it leaves is what it names.
    fn repair(&self, verdict: &mut Verdict) -> Result<()> {
        let (ridge, aside) = (self.folder.join("ridge"), self.folder.join("aside"));
        fs::rename(&ridge, &aside)?;
        let (status, report) = self.json(&["verify", "oak", "--repair"])?;
        let (after, left) = self.json(&["verify", "oak"])?;
        verdict.noticed = status == 3 || status == 4;
        verdict.repaired = status == 4 && after == 0;
        let names = |report: &Value| report["damage"].to_string();
        let (found, rest) = (names(&report), names(&left));
        let (_, history) = self.json(&["history", "readings"])?;
        let ids = history["snapshots"].as_array().cloned().unwrap_or_default();
        verdict.listed = ids.len() == SNAPSHOTS;
        for (round, id) in ids.iter().enumerate() {
            let id = id["id"].as_str().unwrap_or_default();
            let (status, differing) = self.differing(id, &format!("state-{round}"))?;
            verdict.old_whole &= differing.is_empty() && status == 0;
            let is_named = |line: &String| {
                let name = line.rsplit([' ', '/']).next().unwrap_or_default();
                rest.contains(name)
            };
            let is_honest = differing.is_empty() || (status == 3 && differing.iter().all(is_named));
            if !is_honest {
                verdict.note.push_str(&format!(" [snapshot {round}: {status}, {differing:?}]"));
            }
            verdict.honest &= is_honest;
        }
        if !verdict.repaired {
            verdict.note.push_str(&format!(" [repair {status}: {found}; verify {after}: {rest}]"));
        }
        fs::rename(&aside, &ridge)?;
        Ok(())
    }

    /// Restores what a run has made.
    fn newest(&self, run: &Value) -> Result<(i32, Vec<String>)> {
        match run["runs"][0]["snapshot"].as_str() {
            Some(id) => self.differing(id, "ridge"),
            None => Ok((-1, vec![format!("no snapshot: {run}")])),
        }
    }
}

fn copy(from: &Path, to: &Path) -> Result<()> {
    let status = Command::new("cp").arg("-a").arg(from).arg(to).status()?;
    ensure!(status.success(), "could not copy {}", from.display());
    Ok(())
}

/// Waits until the clock is so far from what was written that times prove something.
fn settle() {
    let until = SystemTime::now() + Duration::from_millis(2100);
    while let Ok(left) = until.duration_since(SystemTime::now()) {
        std::thread::sleep(left);
    }
}
