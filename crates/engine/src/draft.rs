//! A new plan, from its first draft to the files that hold it.

use std::{
    fs::{self, OpenOptions},
    io::{self, Write},
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::{Path, PathBuf},
    sync::Arc,
};

use skellin_place::{MemoryPlace, Place};
use skellin_plan::{PlaceSpec, Plan, PlanDraft, StoreDraft, is_plan_name, parse_plan};
use skellin_store::{Cache, Creation, PassphraseCost, Store};

use crate::{
    config::Configuration,
    error::{EngineError, Result},
    places::{local_directory, missing_mount, prepare_place_alone},
    secrets::Passphrase,
};

/// A plan in the making, with its store if that is new too.
#[derive(Clone, Debug, Default)]
pub struct Draft {
    /// The plan.
    pub plan: PlanDraft,
    /// The store, if it has to be created.
    pub store: Option<StoreDraft>,
    /// Whether the passphrase is to be written into the store's key file, as against one that is
    /// there already.
    pub write_key: bool,
}

/// What a look at a draft has shown.
#[derive(Clone, Debug, Default)]
pub struct Checked {
    /// The plan, if nothing is wrong.
    pub plan: Option<Plan>,
    /// What is wrong: what, and what to do.
    pub mistakes: Vec<(String, String)>,
    /// What is worth knowing.
    pub notes: Vec<String>,
}

impl Draft {
    /// The file the plan will be.
    #[must_use]
    pub fn plan_path(&self, configuration: &Configuration) -> PathBuf {
        configuration.folders.config.join("plans").join(format!("{}.toml", self.plan.name))
    }

    /// Looks for what is wrong, as `plan check` would once it is saved.
    #[must_use]
    pub fn check(&self, configuration: &Configuration) -> Checked {
        let mut checked = Checked::default();
        let mut mistake = |what: String, hint: &str| checked.mistakes.push((what, hint.to_owned()));
        let name = &self.plan.name;
        if configuration.plans.iter().any(|plan| plan.name == *name) {
            mistake(format!("there is already a plan `{name}`"), "choose another name");
        }
        for source in self.plan.sources.iter().filter(|source| source.is_absolute()) {
            if let Err(error) = fs::symlink_metadata(source) {
                mistake(format!("{}: {error}", source.display()), "choose an existing path");
            }
        }
        if let Some(store) = &self.store {
            if !is_plan_name(&store.name) {
                mistake(
                    format!("`{}` is not a valid store name", store.name),
                    "use a-z, 0-9, - and _",
                );
            } else if configuration.stores.names.contains(&store.name) {
                mistake(
                    format!("there is already a store `{}`", store.name),
                    "choose another name, or use that store",
                );
            }
            match &store.place {
                PlaceSpec::Directory(path) if !path.is_absolute() => {
                    mistake(
                        "the directory of the store is not a full path".to_owned(),
                        "begin it with /",
                    );
                }
                PlaceSpec::Directory(path) if missing_mount(path).is_some() => {
                    let mount = missing_mount(path).unwrap_or_default();
                    let error = EngineError::Unmounted { path: path.clone(), mount };
                    mistake(error.to_string(), error.hint().as_deref().unwrap_or_default());
                }
                PlaceSpec::Directory(path) if has_entries(path) => mistake(
                    format!("{} is not empty", path.display()),
                    "choose an empty directory; it is created if it does not exist",
                ),
                _ => {}
            }
            if let Some(file) =
                store.key_file.as_ref().filter(|file| self.write_key && file.exists())
            {
                mistake(
                    format!("{} already exists", file.display()),
                    "choose another store name, or move the file",
                );
            }
            if let Err(what) = store.text() {
                mistake(what, "choose another directory");
            }
        }
        let mut stores: Vec<&str> = configuration.stores.names.iter().map(String::as_str).collect();
        stores.extend(self.store.iter().map(|store| store.name.as_str()));
        let file = self.plan_path(configuration).display().to_string();
        match self.plan.text() {
            Err(what) => mistake(what, "choose another path, or rename it"),
            Ok(text) => {
                let with = |name: &str| std::env::var(name).ok();
                let (plan, problems) = parse_plan(name, &file, &text, &with, stores);
                for problem in problems {
                    mistake(problem.message, problem.hint.as_deref().unwrap_or("change it"));
                }
                checked.plan = plan.filter(|_| checked.mistakes.is_empty());
            }
        }
        if !self.plan.schedule.is_empty() && !self.knows_passphrase(configuration) {
            checked.notes.push(format!(
                "the passphrase of store {} is not configured, so scheduled runs cannot start",
                self.plan.store
            ));
        }
        for place in self.places(configuration) {
            let around = self.plan.sources.iter().find(|source| place.starts_with(source));
            if let Some(source) = around {
                checked.notes.push(format!(
                    "the store at {} is inside {}; runs exclude it",
                    place.display(),
                    source.display()
                ));
            }
        }
        checked
    }

    /// Whether a run that starts by itself has where to read the passphrase from.
    #[must_use]
    pub fn knows_passphrase(&self, configuration: &Configuration) -> bool {
        match &self.store {
            Some(store) => store.key_file.is_some(),
            // One that has mistakes is told of as that.
            None => configuration
                .stores
                .fine
                .get(&self.plan.store)
                .is_none_or(|store| store.passphrase.is_some()),
        }
    }

    fn places(&self, configuration: &Configuration) -> Vec<PathBuf> {
        let known = configuration.stores.fine.get(&self.plan.store);
        let known = known.and_then(|store| local_directory(store, &configuration.folders));
        let own = self.store.iter().filter_map(|store| match &store.place {
            PlaceSpec::Directory(path) => Some(path.clone()),
            _ => None,
        });
        known.into_iter().chain(own).collect()
    }

    /// Creates what is new and writes the files: the key, the store, `stores.toml`, the plan. The
    /// plan comes last, so that it never names what is not there.
    ///
    /// # Errors
    /// If any of it fails; what was made before stays and is named in the message.
    pub fn save(
        &self,
        configuration: &Configuration,
        passphrase: Option<&Passphrase>,
        now: i64,
    ) -> Result<()> {
        let plan_path = self.plan_path(configuration);
        let refused =
            |what: String| EngineError::Unknown { what, hint: "change the draft".to_owned() };
        let text = self.plan.text().map_err(refused)?;
        let folder = plan_path.parent().unwrap_or(&configuration.folders.config);
        make_directory(folder)?;
        if let Some(store) = &self.store {
            let table = store.text().map_err(refused)?;
            let Some(passphrase) = passphrase.filter(|passphrase| !passphrase.is_empty()) else {
                return Err(EngineError::NoPassphrase(store.name.clone()));
            };
            let place = prepare_place_alone(store.place.clone())?;
            if let Some(file) = store.key_file.as_ref().filter(|_| self.write_key) {
                write_key(file, passphrase)?;
            }
            let creation = Creation {
                cost: PassphraseCost::default(),
                now: now / 1000,
                ..Creation::default()
            };
            Store::create(&*place, passphrase, creation)?;
            append(&configuration.folders.config.join("stores.toml"), &table)?;
        }
        create_whole(&plan_path, text.as_bytes(), 0o644)
    }
}

/// Replaces the text of a plan's file, whole or not at all, if it still is what it was.
///
/// # Errors
/// If it has changed since, or cannot be written.
pub fn replace_plan_text(path: &Path, expected: &str, text: &str) -> Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let read = fs::read_to_string(path).map_err(|error| EngineError::local("read", path, error))?;
    if read != expected {
        return Err(EngineError::Unknown {
            what: format!("{} was changed by somebody else in the meantime", path.display()),
            hint: "refresh with u, then write the rule again".to_owned(),
        });
    }
    let mode = fs::metadata(path).map_or(0o644, |metadata| metadata.permissions().mode() & 0o777);
    write_whole(path, text.as_bytes(), mode, true)
}

/// A store in memory to rehearse a plan against whose own store does not exist yet.
///
/// # Errors
/// If it cannot be made.
pub fn trial_store() -> Result<Arc<Store>> {
    let place: Arc<dyn Place> = Arc::new(MemoryPlace::default());
    let creation = Creation { cost: PassphraseCost::TRIVIAL, now: 0, ..Creation::default() };
    Store::create(&*place, b"trial", creation)?;
    Ok(Arc::new(Store::open(place, b"trial", Cache::None)?))
}

pub(crate) fn has_entries(path: &Path) -> bool {
    fs::read_dir(path).is_ok_and(|mut entries| entries.next().is_some())
}

fn make_directory(path: &Path) -> Result<()> {
    let made = fs::DirBuilder::new().recursive(true).mode(0o755).create(path);
    made.map_err(|error| EngineError::local("create", path, error))
}

/// A key goes into a file only its owner can read; one that is there is never written over.
pub(crate) fn write_key(path: &Path, passphrase: &Passphrase) -> Result<()> {
    let failed = |error: io::Error| EngineError::local("write the key to", path, error);
    if let Some(folder) = path.parent() {
        make_directory(folder)?;
    }
    let mut file =
        OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(failed)?;
    file.write_all(passphrase).and_then(|()| file.write_all(b"\n")).map_err(failed)?;
    file.sync_all().map_err(failed)
}

/// As [`write_key`], over a file that is there.
pub(crate) fn replace_private(path: &Path, secret: &[u8]) -> Result<()> {
    let line = zeroize::Zeroizing::new([secret, b"\n"].concat());
    write_whole(path, &line, 0o600, true)
}

/// Adds a table to a file and leaves all that stands in it as it is.
pub(crate) fn append(path: &Path, table: &str) -> Result<()> {
    let before = match fs::read_to_string(path) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => String::new(),
        Err(error) => return Err(EngineError::local("read", path, error)),
    };
    let gap = match before.as_str() {
        "" => "",
        text if text.ends_with('\n') => "\n",
        _ => "\n\n",
    };
    write_whole(path, format!("{before}{gap}{table}").as_bytes(), 0o644, true)
}

/// Writes a new file whole or not at all.
fn create_whole(path: &Path, bytes: &[u8], mode: u32) -> Result<()> {
    write_whole(path, bytes, mode, false)
}

pub(crate) fn write_whole(path: &Path, bytes: &[u8], mode: u32, replace: bool) -> Result<()> {
    let failed = |error: io::Error| EngineError::local("write", path, error);
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let beside = path.with_file_name(format!(".{name}.{}", std::process::id()));
    let written = || {
        let mut file =
            OpenOptions::new().write(true).create(true).truncate(true).mode(mode).open(&beside)?;
        file.write_all(bytes)?;
        file.sync_all()?;
        match replace {
            true => fs::rename(&beside, path)?,
            // A link fails where a rename would replace.
            false => {
                fs::hard_link(&beside, path)?;
                fs::remove_file(&beside)?;
            }
        }
        let folder = path.parent().unwrap_or(Path::new("/"));
        fs::File::open(folder)?.sync_all()
    };
    written().map_err(|error| {
        // What failed has left nothing behind, or what it left is only beside.
        let _ = fs::remove_file(&beside);
        failed(error)
    })
}
