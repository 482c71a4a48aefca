//! The configuration directory: plans, stores, and what is wrong with them.

use std::{
    cell::RefCell,
    fs, io,
    path::{Path, PathBuf},
    sync::Arc,
};

use skellin_place::own::{open_plain, read_up_to};
use skellin_plan::{
    Channel, Channels, Plan, Problem, StoreConfig, Stores, Tell, parse_channels, parse_hosts,
    parse_plan_reading, parse_stores, parse_tell,
};
use skellin_store::KeptFile;

use crate::{
    error::{EngineError, Result},
    folders::Folders,
    keeping::kept_file,
    ownership::{self, Untrusted},
    places::{SourceHosts, local_directory},
    refusal::Refusal,
    secrets::hide_variables,
};

/// A plan's file.
#[derive(Clone, Debug)]
pub struct PlanFile {
    /// The plan's name.
    pub name: String,
    /// Its file.
    pub path: PathBuf,
    /// The plan, if nothing is wrong with it.
    pub plan: Option<Plan>,
    /// What is wrong with it.
    pub problems: Vec<Problem>,
    /// Who is told of it, also if something else is wrong with it.
    pub tell: Tell,
    /// Files it names that lie with the configuration.
    pub named: Vec<KeptFile>,
}

/// Everything that is configured.
#[derive(Clone, Debug)]
pub struct Configuration {
    /// Where things are.
    pub folders: Folders,
    /// The stores.
    pub stores: Stores,
    /// The plans, by name.
    pub plans: Vec<PlanFile>,
    /// What is wrong with the file of other hosts.
    pub host_problems: Vec<Problem>,
    /// What sources lie on.
    pub source_hosts: Arc<SourceHosts>,
    /// Who can be told, and how.
    pub channels: Channels,
    /// The files that are not of one plan.
    pub common: Vec<KeptFile>,
}

/// A snapshot keeps no more of the configuration, in bytes.
const MOST: usize = 256 << 10;
/// Files of the configuration are no longer than this, in bytes.
const LONGEST: u64 = 16 << 20;

/// Reads a file that is to be obeyed.
fn read(path: &Path) -> Result<Option<String>> {
    let read = open_plain(path).and_then(|file| {
        let looked = ownership::look(path)?;
        Ok((looked, read_up_to(file, LONGEST)?))
    });
    match read {
        Ok((Err(untrusted), _)) => Err(untrusted.into()),
        Ok((Ok(()), bytes)) => match String::from_utf8(bytes) {
            Ok(text) => Ok(Some(text)),
            Err(_) => Err(EngineError::local("read", path, io::Error::other("not UTF-8 text"))),
        },
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(EngineError::local("read", path, error)),
    }
}

/// Reads a file that a plan names.
fn read_named(path: &Path) -> Result<String, String> {
    match read(path) {
        Ok(Some(text)) => Ok(text),
        Ok(None) => Err(format!("{} does not exist", path.display())),
        Err(error) => Err(error.to_string()),
    }
}

impl From<Untrusted> for EngineError {
    fn from(Untrusted { path, why, mend }: Untrusted) -> Self {
        Self::Untrusted { path, why, mend }
    }
}

impl Configuration {
    /// What else than the plan itself a snapshot of the plan keeps. Secrets never stand in these files.
    #[must_use]
    pub fn kept(&self, plan: &str) -> Vec<KeptFile> {
        let named = self.plans.iter().find(|file| file.name == plan).map(|file| &file.named);
        let all = self.common.iter().chain(named.into_iter().flatten());
        let mut room = MOST;
        let fits = |file: &&KeptFile| {
            let left = room.checked_sub(file.name.len() + file.text.len());
            room = left.unwrap_or(room);
            left.is_some()
        };
        all.filter(fits).cloned().collect()
    }

    /// Directories of our own that must not be backed up into themselves: stores and the cache.
    #[must_use]
    pub fn keep_out(&self) -> Vec<PathBuf> {
        let stores = self.stores.fine.values();
        let mut keep_out: Vec<_> =
            stores.filter_map(|store| local_directory(store, &self.folders)).collect();
        keep_out.push(self.folders.cache.clone());
        keep_out
    }

    /// Directories of our own that no restore in place touches: stores, the cache, and the state, in which
    /// this machine's history goes on.
    #[must_use]
    pub fn own_directories(&self) -> Vec<PathBuf> {
        let mut own = self.keep_out();
        own.push(self.folders.state.clone());
        own
    }

    /// Nothing is configured.
    #[must_use]
    pub fn empty(folders: Folders) -> Self {
        Self {
            folders,
            stores: Stores::default(),
            plans: Vec::new(),
            host_problems: Vec::new(),
            source_hosts: Arc::default(),
            channels: Channels::default(),
            common: Vec::new(),
        }
    }

    /// Reads everything. Mistakes in files are not errors here: they are kept with the file.
    ///
    /// # Errors
    /// If a file is there and cannot be read.
    pub fn load(folders: Folders) -> Result<Self> {
        let with = |name: &str| std::env::var(name).ok();
        let mut common = Vec::new();
        let path = folders.config.join("stores.toml");
        let text = read(&path)?.unwrap_or_default();
        common.extend(kept_file(&folders.config, &path, &text));
        hide_variables(&text);
        let stores = parse_stores(&path.display().to_string(), &text, &with);
        let path = folders.config.join("channels.toml");
        let text = read(&path)?.unwrap_or_default();
        common.extend(kept_file(&folders.config, &path, &text));
        hide_variables(&text);
        let channels = parse_channels(&path.display().to_string(), &text, &with);
        let mut plans = Vec::new();
        let folder = folders.config.join("plans");
        // Who may write there can add plans; one that is not there is nobody's.
        for folder in [&folders.config, &folder] {
            match ownership::look(folder) {
                Ok(looked) => looked?,
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) => return Err(EngineError::local("look at", folder, error)),
            }
        }
        let listed = match fs::read_dir(&folder) {
            Ok(listed) => listed.collect::<io::Result<Vec<_>>>(),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(error),
        };
        for entry in listed.map_err(|error| EngineError::local("list", &folder, error))? {
            let path = entry.path();
            let stem = path.file_stem().and_then(|stem| stem.to_str());
            let (Some(name), true) = (stem, path.extension().is_some_and(|end| end == "toml"))
            else {
                continue;
            };
            let name = name.to_owned();
            let text = match read(&path) {
                Ok(Some(text)) => text,
                Ok(None) => continue,
                // Of one plan that others may write the rest knows nothing.
                Err(EngineError::Untrusted { path: at, why, mend }) => {
                    let what = if at == path { "it".to_owned() } else { at.display().to_string() };
                    let message = format!("{what} is ignored: {why}");
                    let problem = Problem::of_file(&path.display().to_string(), message, mend);
                    let (plan, tell, problems) = (None, Tell::default(), vec![problem]);
                    let named = Vec::new();
                    plans.push(PlanFile { name, path, plan, problems, tell, named });
                    continue;
                }
                Err(error) => return Err(error),
            };
            // A store with a mistake is still one that a plan may name.
            let named = stores.names.iter().map(String::as_str);
            let file = path.display().to_string();
            let told = Some(channels.names.as_slice());
            let read = RefCell::new(Vec::new());
            let reading = |path: &Path| {
                let text = read_named(path)?;
                read.borrow_mut().extend(kept_file(&folders.config, path, &text));
                Ok(text)
            };
            let (plan, problems) =
                parse_plan_reading(&name, &file, &text, &with, named, told, &reading);
            let tell = match &plan {
                Some(plan) => plan.tell.clone(),
                None => parse_tell(&text),
            };
            let named = read.into_inner();
            plans.push(PlanFile { name, path, plan, problems, tell, named });
        }
        plans.sort_by(|a, b| a.name.cmp(&b.name));
        let path = folders.config.join("hosts.toml");
        let text = read(&path)?.unwrap_or_default();
        common.extend(kept_file(&folders.config, &path, &text));
        hide_variables(&text);
        let hosts = parse_hosts(&path.display().to_string(), &text, &with);
        let source_hosts = Arc::new(SourceHosts::new(hosts.fine));
        let host_problems = hosts.problems;
        Ok(Self { folders, stores, plans, host_problems, source_hosts, channels, common })
    }

    /// A plan that can be used.
    ///
    /// # Errors
    /// [`Refusal`] if there is none of this name, or its file has mistakes.
    pub fn plan_without_mistakes(&self, name: &str) -> Result<&Plan> {
        let plan = self.plan_file(name)?.plan.as_ref();
        let plan = plan.ok_or_else(|| Refusal::MistakesInPlan(name.to_owned()))?;
        let is_far = plan.sources.iter().any(|source| !source.is_absolute());
        match is_far && !self.host_problems.is_empty() {
            true => Err(Refusal::MistakesInHosts { plan: name.to_owned() }.into()),
            false => Ok(plan),
        }
    }

    /// A plan's file by name.
    ///
    /// # Errors
    /// [`Refusal`] with the nearest name there is.
    pub fn plan_file(&self, name: &str) -> Result<&PlanFile> {
        let found = self.plans.iter().find(|plan| plan.name == name);
        let names = self.plans.iter().map(|plan| plan.name.as_str());
        let none = || Refusal::NoPlan {
            name: name.to_owned(),
            near: skellin_plan::nearest(name, names).map(str::to_owned),
            has_any: !self.plans.is_empty(),
            folder: self.folders.config.clone(),
        };
        Ok(found.ok_or_else(none)?)
    }

    /// A channel by name.
    ///
    /// # Errors
    /// [`Refusal`] with the nearest name there is.
    pub fn channel(&self, name: &str) -> Result<&Channel> {
        let fine = &self.channels.fine;
        let none = || Refusal::NoChannel {
            name: name.to_owned(),
            near: skellin_plan::nearest(name, fine.keys().map(String::as_str)).map(str::to_owned),
            has_mistakes: self.channels.names.iter().any(|known| known == name),
            known: fine.keys().cloned().collect(),
            folder: self.folders.config.clone(),
        };
        Ok(fine.get(name).ok_or_else(none)?)
    }

    /// A store by name.
    ///
    /// # Errors
    /// [`Refusal`] with the nearest name there is.
    pub fn store(&self, name: &str) -> Result<&StoreConfig> {
        let fine = &self.stores.fine;
        let none = || Refusal::NoStore {
            name: name.to_owned(),
            near: skellin_plan::nearest(name, fine.keys().map(String::as_str)).map(str::to_owned),
            has_any: !fine.is_empty(),
            folder: self.folders.config.clone(),
        };
        Ok(fine.get(name).ok_or_else(none)?)
    }
}
