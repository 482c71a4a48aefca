//! What commands share: the configuration, open stores, the clock, cancellation.

use std::{collections::BTreeMap, io::IsTerminal, path::PathBuf, sync::Arc, time::Instant};

use jiff::{Timestamp, tz::TimeZone};
use serde_json::{Value, json};
use skellin_engine::{
    Cancel, Configuration, EngineError, Folders, Journal, Orchestrator, Passphrase, SystemClock,
    history::{self, Meant, Whose},
    is_ahead, open_place, read_secret,
};
use skellin_plan::{PlaceSpec, Plan, SecretSource, SnapshotSpec, StoreConfig, parse_access};
use skellin_store::{Cache, RecoveryCode, Snapshot, Store, Typed};

use crate::{machine::open_configured, words};

use super::{Global, WhichStore, error::CliError, output, progress::ProgressLine, signals};

pub(crate) struct Context {
    pub global: Global,
    pub cancel: Cancel,
    pub progress: ProgressLine,
    pub folders: Folders,
}

impl Context {
    pub fn new(global: Global) -> Result<Self, CliError> {
        let env = |name: &str| {
            std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from)
        };
        let is_root = rustix::process::geteuid().is_root();
        let folders = Folders::find(global.config.clone(), &env, is_root)?;
        let progress = ProgressLine::new(&global);
        Ok(Self { global, cancel: Cancel::new(), progress, folders })
    }

    /// From now on signals raise the flag instead of ending the process.
    pub fn catch_signals(&self) {
        signals::watch(&self.cancel, self.global.json);
    }

    pub fn configuration(&self) -> Result<Configuration, CliError> {
        Ok(Configuration::load(self.folders.clone())?)
    }

    /// The configuration where one is not needed: with `--place` nothing has to be configured.
    pub fn lenient_configuration(&self) -> Configuration {
        self.configuration().unwrap_or_else(|_| Configuration::empty(self.folders.clone()))
    }

    /// A plan that is ready to be used.
    pub fn plan(&self, configuration: &Configuration, name: &str) -> Result<Plan, CliError> {
        let file = configuration.plan_file(name)?;
        let is_far = |plan: &Plan| plan.sources.iter().any(|source| !source.is_absolute());
        let (what, problems) = match &file.plan {
            Some(plan) if is_far(plan) && !configuration.host_problems.is_empty() => {
                ("hosts.toml".to_owned(), &configuration.host_problems)
            }
            Some(plan) => return Ok(plan.clone()),
            None => (format!("plan `{name}`"), &file.problems),
        };
        let problems: Vec<String> = problems.iter().map(ToString::to_string).collect();
        let message = format!("{what} has mistakes\n{}", problems.join("\n"));
        Err(CliError::usage(message, "skellin plan check lists the mistakes of all plans"))
    }

    /// Asks for a passphrase without echo.
    pub fn ask_passphrase(&self, prompt: &str) -> Result<Passphrase, CliError> {
        if !std::io::stdin().is_terminal() {
            return Err(CliError::usage(
                "a passphrase is needed, and there is no terminal to ask on",
                "in stores.toml: passphrase = { file = \"…\" }; with --place give --passphrase-file",
            ));
        }
        let asked = rpassword::prompt_password(format!("{prompt}: "));
        let text = asked.map_err(|error| {
            CliError::failed(format!("cannot read the passphrase: {error}"), None)
        })?;
        if let Typed::Mistyped(groups) = RecoveryCode::read(text.as_bytes()) {
            let groups: Vec<String> = groups.iter().map(usize::to_string).collect();
            let what = format!("the recovery code is mistyped in group {}", groups.join(" and "));
            return Err(CliError::usage(
                what,
                "compare it with what is written down, and try again",
            ));
        }
        Ok(Passphrase::new(text.into_bytes()))
    }

    /// Asks for a new passphrase, twice.
    pub fn ask_new_passphrase(&self, prompt: &str) -> Result<Passphrase, CliError> {
        let first = self.ask_passphrase(prompt)?;
        if first.is_empty() {
            let hint = "choose a few words";
            return Err(CliError::usage("an empty passphrase protects nothing", hint));
        }
        if *self.ask_passphrase("Repeat")? != *first {
            let hint = "try again; nothing was created";
            return Err(CliError::usage("the two passphrases differ", hint));
        }
        Ok(first)
    }

    fn cache(&self, writes: bool) -> Cache {
        match writes {
            true => Cache::ReadWrite(self.folders.cache.clone()),
            false => Cache::ReadOnly(self.folders.cache.clone()),
        }
    }

    /// Opens a store of the configuration, asking for the passphrase where none is named.
    /// `writes`: whether the cache may be written.
    pub fn open_store(
        &self,
        configuration: &Configuration,
        name: &str,
        writes: bool,
    ) -> Result<Arc<Store>, CliError> {
        let begun = Instant::now();
        let asked = match configuration.store(name)?.passphrase {
            Some(_) => None,
            None => Some(self.ask_passphrase(&format!("Passphrase of store {name}"))?),
        };
        let store = open_configured(configuration, name, asked.as_ref(), self.cache(writes))?;
        self.progress.emit(
            &json!({"event": "opened", "store": name, "seconds": begun.elapsed().as_secs_f64()}),
        );
        Ok(store)
    }

    fn open_place(&self, text: &str, which: &WhichStore) -> Result<Arc<Store>, CliError> {
        let with = |name: &str| std::env::var(name).ok();
        let spec = PlaceSpec::parse(text, &with)
            .map_err(|why| CliError::usage(why, "give the full path of the store's directory"))?;
        let config = match &which.access {
            None => StoreConfig::at(spec),
            Some(file) => {
                let text = std::fs::read_to_string(file).map_err(|error| {
                    let what = format!("{} cannot be read: {error}", file.display());
                    CliError::usage(
                        what,
                        "name a file with the access keys of a store, as in stores.toml",
                    )
                })?;
                let shown = file.display().to_string();
                let (config, problems) = parse_access(spec, &shown, &text, &with);
                if let Some(problem) = problems.first() {
                    return Err(CliError::usage(problem.to_string(), "correct it, then try again"));
                }
                config
            }
        };
        let place = open_place(&config, &self.folders)?;
        // Whether there is a store shows before anybody types a passphrase.
        Store::header_at(&*place)?;
        let passphrase = match &which.passphrase_file {
            Some(file) => read_secret(&SecretSource::File(file.clone()), text)?,
            None => self.ask_passphrase(&format!("Passphrase of the store at {text}"))?,
        };
        let opened = Store::open(place, &passphrase, self.cache(true));
        Ok(opened.map(Arc::new).map_err(|error| EngineError::of_opening(error, text))?)
    }

    /// The stores to look into, by options, else those of a plan, else all.
    pub fn stores(
        &self,
        which: &WhichStore,
        plan: Option<&str>,
    ) -> Result<Vec<(String, Arc<Store>)>, CliError> {
        if let Some(place) = &which.place {
            return Ok(vec![(place.clone(), self.open_place(place, which)?)]);
        }
        let configuration = self.configuration()?;
        if let Some(name) = &which.store {
            return Ok(vec![(name.clone(), self.open_store(&configuration, name, true)?)]);
        }
        if let Some(file) = plan.and_then(|name| configuration.plan_file(name).ok()) {
            let plan = self.plan(&configuration, &file.name)?;
            let store = self.open_store(&configuration, &plan.store, true)?;
            return Ok(vec![(plan.store, store)]);
        }
        let names: Vec<String> = configuration.stores.fine.keys().cloned().collect();
        if names.is_empty() {
            let hint = format!(
                "describe one in {}/stores.toml, or use --place",
                self.folders.config.display()
            );
            return Err(CliError::usage("there are no stores yet", hint));
        }
        // One store that is away must not hide the others.
        let mut open = Vec::new();
        let mut first = None;
        for name in names {
            match self.open_store(&configuration, &name, true) {
                Ok(store) => open.push((name, store)),
                Err(error) => {
                    self.progress
                        .say(&format!("note: store {name} cannot be opened and is skipped"));
                    first = first.or(Some(error));
                }
            }
        }
        match first {
            Some(error) if open.is_empty() => Err(error),
            _ => Ok(open),
        }
    }

    /// Looks into stores; what is waited for meanwhile is said.
    pub fn attending<T>(
        &self,
        stores: &[(String, Arc<Store>)],
        look: impl FnOnce() -> Result<T, CliError>,
    ) -> Result<T, CliError> {
        let stores: Vec<&Store> = stores.iter().map(|(_, store)| &**store).collect();
        skellin_engine::attended(&stores, &self.progress, &self.cancel, look)
    }

    /// What this machine calls itself, for a plan or in general.
    pub fn own_name(&self, plan: Option<&str>) -> String {
        let configuration = self.lenient_configuration();
        let of_plan = plan.and_then(|plan| configuration.plan_file(plan).ok()?.plan.as_ref());
        of_plan.and_then(|plan| plan.machine.clone()).unwrap_or_else(crate::machine::machine_name)
    }

    /// The name under which a plan's snapshots are kept; that of a plan without a file is its own.
    pub fn series(&self, plan: &str) -> String {
        let configuration = self.lenient_configuration();
        let file = configuration.plan_file(plan).ok().and_then(|file| file.plan.as_ref());
        file.map_or(plan, Plan::series).to_owned()
    }

    /// Plans by the names under which they keep their snapshots, where those are others.
    pub fn renamed(&self) -> BTreeMap<String, String> {
        let configuration = self.lenient_configuration();
        let plans = configuration.plans.iter().filter_map(|file| file.plan.as_ref());
        let renamed = plans.filter_map(|plan| Some((plan.series.clone()?, plan.name.clone())));
        renamed.collect()
    }

    /// What a name of a snapshot says, and the plan in it.
    fn spec(&self, text: &str) -> Result<(SnapshotSpec, Option<String>), CliError> {
        let spec =
            SnapshotSpec::parse(text, Timestamp::now(), &TimeZone::system()).map_err(|error| {
                CliError::usage(error.to_string(), "skellin history lists the snapshots")
            })?;
        Ok(match spec {
            SnapshotSpec::Of { plan, when } => {
                (SnapshotSpec::Of { plan: self.series(&plan), when }, Some(plan))
            }
            spec @ SnapshotSpec::Id(_) => (spec, None),
        })
    }

    /// The snapshot a name means in one store.
    pub fn snapshot_within(
        &self,
        store: &Store,
        text: &str,
        which: &WhichStore,
    ) -> Result<Snapshot, CliError> {
        let (spec, plan) = self.spec(text)?;
        let own = self.own_name(plan.as_deref());
        let now = Timestamp::now().as_millisecond();
        let whose = Whose { own: &own, named: which.machine.as_deref(), now };
        Ok(history::find_snapshot(store, &spec, whose)?.snapshot)
    }

    /// The snapshot a name means, and the store it is in.
    pub fn snapshot(
        &self,
        text: &str,
        which: &WhichStore,
    ) -> Result<(String, Arc<Store>, Snapshot), CliError> {
        let (spec, plan) = self.spec(text)?;
        let plan = plan.as_deref();
        let own = self.own_name(plan);
        let now = Timestamp::now().as_millisecond();
        let whose = Whose { own: &own, named: which.machine.as_deref(), now };
        let mut best: Option<(String, Arc<Store>, Meant)> = None;
        let mut first = None;
        let stores = self.stores(which, plan)?;
        let find = |store: &Store| history::find_snapshot(store, &spec, whose);
        let found = self.attending(&stores, || {
            Ok(stores.iter().map(|(_, store)| find(store)).collect::<Vec<_>>())
        })?;
        for ((name, store), found) in stores.into_iter().zip(found) {
            match found {
                Ok(found) => {
                    // Our own first, then those that may have been made by now, then the last.
                    let rank = |Meant { snapshot, order, .. }: &Meant| {
                        (snapshot.machine == own, !is_ahead(snapshot.started, now), *order)
                    };
                    let better =
                        best.as_ref().is_none_or(|(_, _, other)| rank(other) < rank(&found));
                    if better {
                        best = Some((name, store, found));
                    }
                }
                Err(error) => first = first.or(Some(error)),
            }
        }
        if let Some((_, _, Meant { ahead: Some(ahead), .. })) = &best {
            self.progress.say(&format!(
                "note: a later run is dated {}: the clock was ahead; use its snapshot by id, {}",
                words::moment(ahead.started),
                ahead.run.short()
            ));
        }
        if let Some((_, _, Meant { snapshot: found, .. })) = &best
            && plan.is_some()
            && which.machine.is_none()
            && found.machine != own
        {
            let (machine, plan) = (words::path(found.machine.as_bytes()), plan.unwrap_or_default());
            self.progress.say(&format!(
                "note: machine {own} has no snapshot of {plan}; using one of {machine}"
            ));
        }
        match (best, first) {
            (Some((name, store, found)), _) => Ok((name, store, found.snapshot)),
            (None, Some(error)) => Err(error.into()),
            (None, None) => Err(CliError::failed("no store to look into", None)),
        }
    }

    /// The journal, for those who cannot do without.
    pub fn open_journal(&self) -> Result<Journal, CliError> {
        let journal = Journal::open(&self.folders.state)?;
        self.say_mended(&journal);
        Ok(journal)
    }

    /// The journal; without one work is still done, and the reason is said.
    pub fn journal(&self) -> Option<Journal> {
        match Journal::open(&self.folders.state) {
            Ok(journal) => {
                self.say_mended(&journal);
                Some(journal)
            }
            Err(error) => {
                self.progress.say(&format!("note: {error}; nothing is recorded"));
                None
            }
        }
    }

    /// Says it if a damaged journal was put aside.
    pub fn say_mended(&self, journal: &Journal) {
        if let Some(mended) = journal.take_mended() {
            self.progress.say(&format!("note: {mended}"));
        }
    }

    /// What carries work out from the command line. `machine`: this machine's own name.
    pub fn orchestrator<'a>(
        &'a self,
        configuration: &'a Configuration,
        journal: Option<&'a Journal>,
        machine: &'a str,
    ) -> Orchestrator<'a> {
        Orchestrator {
            configuration,
            journal,
            machine,
            clock: &SystemClock,
            cancel: &self.cancel,
            events: &self.progress,
        }
    }

    /// A JSON document, with what was said beside it.
    pub fn json(&self, mut value: Value) {
        let said = self.progress.said();
        if let Some(document) = value.as_object_mut().filter(|_| !said.is_empty()) {
            document.insert("notes".to_owned(), json!(said));
        }
        output::json(&value);
    }

    /// Says an error, as JSON if that was asked for.
    pub fn report(&self, error: &CliError) {
        match self.global.json {
            true => self.json(error.as_json()),
            false => error.report(),
        }
    }

    /// JSON if that was asked for, else text.
    pub fn print(&self, value: impl FnOnce() -> Value, text: impl FnOnce() -> String) {
        if self.global.json {
            self.json(value());
        } else if !self.global.quiet {
            output::text(&text());
        }
    }
}
