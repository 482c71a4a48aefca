//! A new plan, from its first draft to the files that hold it.

use std::{fs, path::PathBuf, sync::Arc};

use skellin_place::{MemoryPlace, Place};
use skellin_plan::{PlaceSpec, Plan, PlanDraft, parse_plan};
use skellin_store::{Cache, Creation, PassphraseCost, Store};

use crate::{
    config::Configuration,
    error::{EngineError, Result},
    new_store::NewStore,
    places::{local_directory, open_place},
    refusal::{Advice, Refusal},
    renaming::name_key_file,
    secrets::Passphrase,
    whole_files::{create_whole, make_directory, write_key},
};

/// A plan in the making, with its store if that is new too.
#[derive(Clone, Debug, Default)]
pub struct Draft {
    /// The plan.
    pub plan: PlanDraft,
    /// The store, if it has to be created.
    pub store: Option<NewStore>,
    /// The file into which the passphrase of a store goes that exists already but whose
    /// configuration names none.
    pub known_key: Option<PathBuf>,
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
            if let Err(error) = store.check(configuration) {
                mistake(error.to_string(), error.hint().as_deref().unwrap_or_default());
            }
            if let Some(file) =
                store.draft.key_file.as_ref().filter(|file| store.write_key && file.exists())
            {
                mistake(
                    format!("{} already exists", file.display()),
                    "choose another store name, or move the file",
                );
            }
        }
        if let Some(key) = self.known_key.as_ref().filter(|key| key.exists()) {
            mistake(
                format!("{} already exists", key.display()),
                "name it as the passphrase of the store in stores.toml, or move it",
            );
        }
        let mut stores: Vec<&str> = configuration.stores.names.iter().map(String::as_str).collect();
        stores.extend(self.store.iter().map(|store| store.draft.name.as_str()));
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
            Some(store) => store.draft.key_file.is_some(),
            // One that has mistakes is told of as that.
            None if self.known_key.is_some() => true,
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
        let own = self.store.iter().filter_map(|store| match &store.draft.place {
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
        let refused = |problem| Refusal::NotWritable { problem, advice: Advice::ChangeDraft };
        let text = self.plan.text().map_err(refused)?;
        let folder = plan_path.parent().unwrap_or(&configuration.folders.config);
        make_directory(folder)?;
        if let Some(store) = &self.store {
            let Some(passphrase) = passphrase.filter(|passphrase| !passphrase.is_empty()) else {
                return Err(EngineError::NoPassphrase(store.draft.name.clone()));
            };
            store.create(configuration, passphrase, now, &|_| {})?;
        }
        if let (Some(key), None) = (&self.known_key, &self.store) {
            let store = &self.plan.store;
            let passphrase = passphrase.filter(|passphrase| !passphrase.is_empty());
            let passphrase =
                passphrase.ok_or_else(|| EngineError::NoPassphrase(store.to_owned()))?;
            let place = open_place(configuration.store(store)?, &configuration.folders)?;
            // Only what opens the store is worth keeping.
            Store::open(place, passphrase, Cache::None)
                .map_err(|error| EngineError::of_opening(error, store))?;
            write_key(key, passphrase)?;
            name_key_file(configuration, store, key)?;
        }
        create_whole(&plan_path, text.as_bytes(), 0o644)
    }
}

/// A store in memory, for the dry run of a plan whose own store does not exist yet.
///
/// # Errors
/// If it cannot be made.
pub fn trial_store() -> Result<Arc<Store>> {
    let place: Arc<dyn Place> = Arc::new(MemoryPlace::default());
    let creation = Creation { cost: PassphraseCost::TRIVIAL, now: 0, ..Creation::default() };
    Store::create(&*place, b"trial", creation)?;
    Ok(Arc::new(Store::open(place, b"trial", Cache::None)?))
}
