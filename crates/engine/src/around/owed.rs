//! `leave` commands that are owed since `enter` was begun, one file a plan. The file lies beside the
//! journal and not in it: what a stopped database waits for must not be lost with the journal.

use std::{
    fs, io,
    path::{Path, PathBuf},
    time::Duration,
};

use serde::{Deserialize, Serialize};
use skellin_plan::{Around, Plan};

/// One `leave` command.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OwedCommand {
    /// The program and its arguments.
    pub leave: Vec<String>,
    /// The host, if it is not this machine.
    pub on: Option<String>,
    /// So many seconds it may take.
    pub seconds: u64,
}

impl OwedCommand {
    /// So long it may take.
    #[must_use]
    pub fn timeout(&self) -> Duration {
        Duration::from_secs(self.seconds)
    }
}

/// What is owed for a plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Owed {
    /// The plan.
    pub plan: String,
    /// Its store.
    pub store: String,
    /// The commands, in the order they are to be run.
    pub commands: Vec<OwedCommand>,
    /// The mark in the environment of an `enter` command that was under way.
    pub entering: Option<String>,
    file: PathBuf,
}

#[derive(Serialize, Deserialize)]
struct File {
    plan: String,
    store: String,
    commands: Vec<OwedCommand>,
    #[serde(default)]
    entering: Option<String>,
}

fn folder(state: &Path) -> PathBuf {
    state.join("owed")
}

impl Owed {
    /// Writes down what is owed once the first pairs are begun; nothing if none of them leaves.
    /// `entering` marks the `enter` command that is about to be run.
    ///
    /// # Errors
    /// Why that cannot be kept, and what follows from it.
    pub(super) fn write(
        state: &Path,
        plan: &Plan,
        pairs: usize,
        entering: Option<&str>,
    ) -> Result<Option<Self>, String> {
        let command = |pair: &Around| OwedCommand {
            leave: pair.leave.clone(),
            on: pair.on.clone(),
            seconds: pair.timeout.as_secs(),
        };
        let begun = plan.around.iter().take(pairs).rev().filter(|pair| !pair.leave.is_empty());
        let commands: Vec<OwedCommand> = begun.map(command).collect();
        if commands.is_empty() {
            return Ok(None);
        }
        let file = folder(state).join(format!("{}.json", plan.name));
        let entering = entering.map(str::to_owned);
        let content = File {
            plan: plan.name.clone(),
            store: plan.store.clone(),
            commands: commands.clone(),
            entering: entering.clone(),
        };
        write(&file, &content).map_err(|error| {
            format!(
                "cannot write {} ({error}): if this run is killed, its `leave` commands are not run",
                file.display()
            )
        })?;
        let File { plan, store, .. } = content;
        Ok(Some(Self { plan, store, commands, entering, file }))
    }

    /// It has been done.
    pub fn settle(self) {
        // One that cannot be removed is done once more by whoever comes next.
        let _ = fs::remove_file(&self.file);
    }
}

fn write(file: &Path, content: &File) -> io::Result<()> {
    use std::{io::Write, os::unix::fs::DirBuilderExt};
    let above = file.parent().unwrap_or(file);
    fs::DirBuilder::new().recursive(true).mode(0o700).create(above)?;
    let draft = file.with_extension("draft");
    let mut out = fs::File::create(&draft)?;
    out.write_all(&serde_json::to_vec(content)?)?;
    out.sync_all()?;
    fs::rename(&draft, file)?;
    fs::File::open(above)?.sync_all()
}

/// What runs that ended unexpectedly have left owed; of plans that are being run now as well.
#[must_use]
pub fn owed_leaves(state: &Path) -> Vec<Owed> {
    let Ok(listed) = fs::read_dir(folder(state)) else { return Vec::new() };
    let mut found: Vec<Owed> = listed
        .flatten()
        .map(|entry| entry.path())
        .filter(|path| path.extension().is_some_and(|extension| extension == "json"))
        .filter_map(|file| {
            // It was renamed into place whole; what is no such file is none of ours.
            let content: File = serde_json::from_slice(&fs::read(&file).ok()?).ok()?;
            let File { plan, store, commands, entering } = content;
            Some(Owed { plan, store, commands, entering, file })
        })
        .collect();
    found.sort_by(|a, b| a.plan.cmp(&b.plan));
    found
}
