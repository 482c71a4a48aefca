//! The configuration that snapshots keep, and how a lost machine is set up from it.

use std::{
    ffi::OsStr,
    fs,
    io::{self, Write},
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::{Path, PathBuf},
};

use skellin_plan::{Plan, parse_plan_reading, stores_named_by};
use skellin_store::{KeptFile, Snapshot, Store};

use crate::{
    error::{EngineError, Result},
    folders::Folders,
    history,
    keeping::is_plain,
    refusal::Refusal,
};

/// The plan of a snapshot, as it was, with the rules it named. Files that were not kept are read here.
///
/// # Errors
/// [`Refusal`] if it cannot be understood any more.
pub fn plan_of(snapshot: &Snapshot) -> Result<Plan> {
    let file = format!("plans/{}.toml", snapshot.plan);
    let with = |name: &str| std::env::var(name).ok();
    let read = |path: &Path| {
        let mut kept = snapshot.configuration.iter().flatten();
        match kept.find(|file| Path::new(&file.name) == path) {
            Some(file) => Ok(file.text.clone()),
            None => {
                fs::read_to_string(path).map_err(|error| format!("{}: {error}", path.display()))
            }
        }
    };
    let stores = stores_named_by(&snapshot.plan_text);
    let stores = stores.iter().map(String::as_str);
    let text = snapshot.plan_text.as_str();
    let (plan, problems) =
        parse_plan_reading(&snapshot.plan, &file, text, &with, stores, None, &read);
    plan.ok_or_else(|| {
        let problem = problems.first().map(ToString::to_string).unwrap_or_default();
        Refusal::PlanNotUnderstood { plan: snapshot.plan.clone(), problem }.into()
    })
}

/// What a store knows of a machine's configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lost {
    /// The machine.
    pub machine: String,
    /// Its plans, by name.
    pub plans: Vec<String>,
    /// The files, as the newest snapshots have them.
    pub files: Vec<KeptFile>,
}

/// What became of a file of the configuration.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fate {
    /// It was not there, and is now.
    Written,
    /// It was there, with the same text.
    Same,
    /// It was there with another text, and stays.
    Differs,
}

/// Finds the configuration of a machine: the named one; else `own`, or the only one there is.
///
/// # Errors
/// [`Refusal`] if there is none, or several and none was named; or if the store cannot be read.
pub fn lost_configuration(store: &Store, named: Option<&str>, own: &str) -> Result<Lost> {
    // One that is damaged hides no other.
    let all = history::snapshots(store, None, |_, _| {})?;
    let mut machines: Vec<&str> = all.iter().map(|snapshot| snapshot.machine.as_str()).collect();
    machines.sort_unstable();
    machines.dedup();
    let has = |machine: &&str| machines.binary_search(machine).is_ok();
    let machine = match (named, machines.as_slice()) {
        (_, []) => return Err(Refusal::NoConfiguration(own.to_owned()).into()),
        (Some(named), _) if !has(&named) => {
            return Err(Refusal::NoConfiguration(named.to_owned()).into());
        }
        (Some(named), _) => named,
        (None, _) if has(&own) => own,
        (None, [only]) => only,
        (None, many) => {
            let many = many.iter().map(|one| (*one).to_owned()).collect();
            return Err(Refusal::SeveralMachines(many).into());
        }
    };
    let of_it: Vec<&Snapshot> =
        all.iter().rev().filter(|snapshot| snapshot.machine == machine).collect();
    let mut lost = Lost { machine: machine.to_owned(), plans: Vec::new(), files: Vec::new() };
    for snapshot in of_it {
        let plan = &snapshot.plan;
        if lost.plans.contains(plan) {
            continue;
        }
        lost.plans.push(plan.clone());
        let text = snapshot.plan_text.clone();
        let own = KeptFile { name: format!("plans/{plan}.toml"), text };
        let beside = snapshot.configuration.iter().flatten();
        for file in std::iter::once(&own).chain(beside) {
            let known = lost.files.iter().any(|known| known.name == file.name);
            if !known && !file.text.is_empty() && is_plain(&file.name) {
                lost.files.push(file.clone());
            }
        }
    }
    lost.plans.sort();
    lost.files.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(lost)
}

/// Writes what is missing of a configuration. What is there already is never touched. `dry_run`: only
/// says what would become of each file.
///
/// # Errors
/// If a file cannot be looked at or written.
pub fn set_up(folders: &Folders, lost: &Lost, dry_run: bool) -> Result<Vec<(PathBuf, Fate)>> {
    let mut fates = Vec::new();
    for file in &lost.files {
        let path = folders.config.join(&file.name);
        let failed = |error| EngineError::local("write", &path, error);
        let fate = match fs::read(&path) {
            Ok(there) if there == file.text.as_bytes() => Fate::Same,
            Ok(_) => Fate::Differs,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                if !dry_run {
                    write_new(&path, file.text.as_bytes()).map_err(failed)?;
                }
                Fate::Written
            }
            Err(error) => return Err(EngineError::local("read", &path, error)),
        };
        fates.push((path, fate));
    }
    Ok(fates)
}

/// Writes a file that is not there, whole or not at all.
fn write_new(path: &Path, text: &[u8]) -> io::Result<()> {
    let above = path.parent().unwrap_or(Path::new("/"));
    fs::DirBuilder::new().recursive(true).mode(0o755).create(above)?;
    let name = path.file_name().unwrap_or(OsStr::new("file"));
    let draft = above.join(format!(".{}.new", name.to_string_lossy()));
    let _ = fs::remove_file(&draft);
    let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&draft)?;
    let written = file.write_all(text).and_then(|()| file.sync_all());
    // A link does not replace what somebody else put there meanwhile.
    let placed = written.and_then(|()| fs::hard_link(&draft, path));
    let removed = fs::remove_file(&draft);
    placed.and(removed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_there_is_never_touched() {
        let folder = tempfile::tempdir().expect("a directory");
        let file = |name: &str, text: &str| KeptFile { name: name.into(), text: text.into() };
        let files =
            vec![file("plans/a.toml", "one"), file("same", "same"), file("stores.toml", "two")];
        let lost = Lost { machine: "hut".into(), plans: vec!["a".into()], files };
        let config = folder.path().to_owned();
        fs::write(config.join("same"), "same").expect("writes");
        fs::write(config.join("stores.toml"), "mine").expect("writes");
        let folders = Folders { config, ..Folders::default() };
        let fates = |dry| {
            let fates = set_up(&folders, &lost, dry).expect("works").into_iter();
            fates.map(|(_, fate)| fate).collect::<Vec<_>>()
        };
        let expected = [Fate::Written, Fate::Same, Fate::Differs];
        assert_eq!(fates(true), expected);
        assert!(!folder.path().join("plans").exists());
        assert_eq!(fates(false), expected);
        let read = |name: &str| fs::read_to_string(folder.path().join(name)).expect("reads");
        assert_eq!((read("plans/a.toml"), read("stores.toml")), ("one".into(), "mine".into()));
        let drafts = fs::read_dir(folder.path().join("plans")).expect("lists").count();
        assert_eq!(drafts, 1);
    }
}
