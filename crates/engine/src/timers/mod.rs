//! What systemd or cron is given so that it starts what is due. The decision what that is stays
//! ours: a timer that fires once too often does nothing.

mod crontab;
mod starter;
mod units;

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
};

use skellin_plan::PlaceSpec;

pub use crontab::{crontab_line, with_line, without_line, written_line};
pub use starter::{CRON_HINT, Starter, cron_runs, looks_for_due};

use crate::{
    config::Configuration,
    error::{EngineError, Result},
    finding::{Finding, Weight},
    places::local_directory,
    refusal::Refusal,
};

/// The first words of each file of ours; nothing without them is ever touched.
const MARK: &str = "# Written by `skellin timers install`, removed by `skellin timers remove`.";

/// What units and lines are written for.
#[derive(Clone, Debug)]
pub struct Setting<'a> {
    /// What is configured.
    pub configuration: &'a Configuration,
    /// This program.
    pub program: PathBuf,
    /// Whether they are root's, else those of a user.
    pub is_root: bool,
    /// Variables that say where state and cache are, where they were set.
    pub variables: Vec<(String, String)>,
}

/// A file of systemd.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unit {
    /// Its name.
    pub name: String,
    /// Its text.
    pub text: String,
}

/// How a unit stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UnitState {
    /// It is there as it should be.
    Fine,
    /// It should be there and is not.
    Missing,
    /// It is there and says something else.
    Differs,
    /// It is there, is ours, and belongs to nothing any more.
    Stray,
}

impl UnitState {
    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Fine => "fits the plans",
            Self::Missing => "not installed",
            Self::Differs => "differs from the plan",
            Self::Stray => "belongs to no plan",
        }
    }
}

impl Setting<'_> {
    /// The directory units of this account lie in.
    ///
    /// # Errors
    /// If a user's home is not known.
    pub fn unit_directory(&self) -> Result<PathBuf> {
        if self.is_root {
            return Ok(PathBuf::from("/etc/systemd/system"));
        }
        let config = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from);
        let home = std::env::var_os("HOME").map(|home| Path::new(&home).join(".config"));
        let folder = config.or(home).ok_or(Refusal::NoHome { variable: "--unit-dir" })?;
        Ok(folder.join("systemd/user"))
    }

    /// Directories a service writes to, where they can be told.
    fn written(&self) -> Option<Vec<PathBuf>> {
        let folders = &self.configuration.folders;
        let mut written = vec![folders.state.clone(), folders.cache.clone()];
        for store in self.configuration.stores.fine.values() {
            match (&store.place, local_directory(store, folders)) {
                // Wherever it will be mounted.
                (PlaceSpec::Drive(_), _) => return None,
                (_, Some(path)) => written.push(path),
                (_, None) => {}
            }
        }
        // A host's key that is accepted is written down beside the others.
        let plans = self.configuration.plans.iter().filter_map(|file| file.plan.as_ref());
        // Commands of a plan write where they like.
        plans.clone().all(|plan| plan.around.is_empty()).then_some(written)
    }

    /// What is installed for this account and does not fit its plans any more.
    #[must_use]
    pub fn findings(&self) -> Vec<Finding> {
        let Ok(folder) = self.unit_directory() else { return Vec::new() };
        let is_steward = folder.join(&self.steward_units()[0].name).exists();
        let wanted = if is_steward { self.steward_units() } else { self.units() };
        let Ok(states) = compare(&wanted, &folder) else { return Vec::new() };
        // Where nothing of ours is, nothing differs.
        if states.values().all(|state| *state == UnitState::Missing) {
            return Vec::new();
        }
        let off = states.into_iter().filter(|(_, state)| *state != UnitState::Fine);
        let finding = |(name, state): (String, UnitState)| Finding {
            weight: Weight::Wrong,
            subject: folder.join(name).display().to_string(),
            what: state.words().to_owned(),
            hint: "skellin timers install writes what fits the plans".to_owned(),
        };
        off.map(finding).collect()
    }

    /// Sources on this machine that this account cannot read, and why.
    #[must_use]
    pub fn unreadable(&self) -> Vec<(String, PathBuf, String)> {
        let mut found = Vec::new();
        for plan in self.configuration.plans.iter().filter_map(|file| file.plan.as_ref()) {
            for source in plan.sources.iter().filter(|source| source.is_absolute()) {
                if let Err(error) = self.configuration.source_hosts.try_source(source) {
                    found.push((plan.name.clone(), source.clone(), error.to_string()));
                }
            }
        }
        found
    }
}

/// How units that should be there and units that are there compare, by name.
///
/// # Errors
/// If the directory cannot be read.
pub fn compare(wanted: &[Unit], folder: &Path) -> Result<BTreeMap<String, UnitState>> {
    let there = ours(folder)?;
    let mut states = BTreeMap::new();
    for unit in wanted {
        let state = match there.get(&unit.name) {
            Some(text) if *text == unit.text => UnitState::Fine,
            Some(_) => UnitState::Differs,
            None => UnitState::Missing,
        };
        states.insert(unit.name.clone(), state);
    }
    for name in there.into_keys() {
        states.entry(name).or_insert(UnitState::Stray);
    }
    Ok(states)
}

/// The units of ours in a directory, by name.
fn ours(folder: &Path) -> Result<BTreeMap<String, String>> {
    let listed = match fs::read_dir(folder) {
        Ok(listed) => listed,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(BTreeMap::new()),
        Err(error) => return Err(EngineError::local("list", folder, error)),
    };
    let mut found = BTreeMap::new();
    for entry in listed.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if !name.starts_with("skellin-") || entry.path().is_symlink() {
            continue;
        }
        if let Ok(text) = fs::read_to_string(entry.path())
            && text.starts_with(MARK)
        {
            found.insert(name, text);
        }
    }
    Ok(found)
}

/// Writes units, and removes those of ours that belong to nothing any more; the names of what is
/// gone. A file that is not ours is left alone, and is an error.
///
/// # Errors
/// If the directory cannot be written.
pub fn install(wanted: &[Unit], folder: &Path) -> Result<Vec<String>> {
    let failed = |path: &Path, error| EngineError::local("write", path, error);
    fs::create_dir_all(folder).map_err(|error| failed(folder, error))?;
    let there = ours(folder)?;
    for unit in wanted {
        let path = folder.join(&unit.name);
        if path.exists() && !there.contains_key(&unit.name) {
            return Err(Refusal::NotOurs(path).into());
        }
    }
    for unit in wanted {
        let (path, draft) = (folder.join(&unit.name), folder.join(format!(".{}", unit.name)));
        fs::write(&draft, &unit.text).map_err(|error| failed(&draft, error))?;
        fs::rename(&draft, &path).map_err(|error| failed(&path, error))?;
    }
    let strays: Vec<String> =
        there.into_keys().filter(|name| wanted.iter().all(|unit| unit.name != *name)).collect();
    remove_these(&strays, folder)?;
    Ok(strays)
}

/// Removes all units of ours; their names.
///
/// # Errors
/// If one cannot be removed.
pub fn remove(folder: &Path) -> Result<Vec<String>> {
    let names: Vec<String> = ours(folder)?.into_keys().collect();
    remove_these(&names, folder)?;
    Ok(names)
}

fn remove_these(names: &[String], folder: &Path) -> Result<()> {
    for name in names {
        let path = folder.join(name);
        fs::remove_file(&path).map_err(|error| EngineError::local("remove", &path, error))?;
    }
    Ok(())
}
