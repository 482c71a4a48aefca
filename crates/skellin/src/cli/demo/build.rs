//! Building the world: the real engine, six weeks of nights, the clock moved.

use std::{
    fs,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError},
    time::Instant,
};

use jiff::Timestamp;
use skellin_engine::{
    Cancel, Clock, Conductor, Configuration, EngineError, Event, Folders, Journal, RunOptions,
    open_place_alone, prepare_place, prepare_place_alone,
};
use skellin_place::{Extent, Listed, ObjectName, Place, PlaceError};
use skellin_plan::{PlaceSpec, Plan};
use skellin_standins::{Happening, NIGHTS, Ridge};
use skellin_store::{Cache, Creation, PassphraseCost, Store};

use super::{
    files::{PASSPHRASE, failed, private, write},
    servers::Servers,
};
use crate::{
    cli::{context::Context, error::CliError},
    words,
};

const DAY: i64 = 86_400_000;

/// Plans, key and store of the station; the stores' file last: with it the world counts as built.
pub(super) fn configure(
    folder: &Path,
    folders: &Folders,
    now: i64,
    far: Option<&str>,
) -> Result<(), CliError> {
    // Where the far stores are, there go copies.
    let copies = |to: &str| match far {
        Some(_) => format!("replicate = [\"{to}\"]\n"),
        None => String::new(),
    };
    let (key, oak, ridge) =
        (folder.join("oak.key"), folder.join("oak"), Ridge::new(folder.join("srv")));
    private(&key, PASSPHRASE)?;
    write(
        &folders.config.join("plans/readings.toml"),
        &format!(
            "about   = \"Series and notes from the ridge\"\nsources = [\"{}\", \"{}\"]\nstore   = \"oak\"\nmachine = \"hut\"\nlabels  = [\"field\"]\nrules   = '''\nskip .cache/ *.part *~\n'''\n{}\n[schedule]\nrun = \"daily at 21:40\"\n",
            ridge.readings().display(),
            ridge.card().display(),
            copies("pier")
        ),
    )?;
    write(
        &folders.config.join("plans/ringing.toml"),
        &format!(
            "about   = \"Ringing sheets and the register\"\nsources = [\"{}\"]\nstore   = \"oak\"\nmachine = \"hut\"\n{}\n[schedule]\nrun = \"mondays, wednesdays, fridays and saturdays at 22:10\"\n",
            ridge.ringing().display(),
            copies("offshore")
        ),
    )?;
    let place = prepare_place_alone(PlaceSpec::Directory(oak.clone()))?;
    let creation =
        Creation { cost: PassphraseCost::TRIVIAL, now: now / 1000, ..Creation::default() };
    Store::create(&*place, PASSPHRASE.as_bytes(), creation)?;
    let stores = format!(
        "[oak]\nplace = \"{}\"\npassphrase = {{ file = \"{}\" }}\n",
        oak.display(),
        key.display()
    );
    write(&folders.config.join("stores.toml"), &format!("{stores}{}", far.unwrap_or_default()))
}

/// What the nights are played with.
struct Nights<'a> {
    configuration: &'a Configuration,
    journal: &'a Journal,
    oak: PathBuf,
    store: Arc<Store>,
    clock: NightClock,
}

pub(super) fn build(
    context: &Context,
    folder: &Path,
    folders: &Folders,
) -> Result<Servers, CliError> {
    let servers = Servers::start(folder)?;
    let now = Timestamp::now().as_millisecond();
    let start = midnight(now - NIGHTS * DAY);
    configure(folder, folders, start, Some(&servers.stores(folder)?))?;
    servers.is_known(folder)?;
    let configuration = Configuration::load(folders.clone())?;
    let journal = Journal::open(&folders.state)?;
    let oak = folder.join("oak");
    let place = open_place_alone(PlaceSpec::Directory(oak.clone()))?;
    let cache = Cache::ReadWrite(folders.cache.clone());
    let store = Arc::new(Store::open(place, PASSPHRASE.as_bytes(), cache)?);
    let nights = Nights {
        configuration: &configuration,
        journal: &journal,
        oak,
        store,
        clock: NightClock::default(),
    };
    let (ridge, root) = (Ridge::new(folder.join("srv")), folder.join("srv"));
    for night in 0..NIGHTS {
        let midnight = midnight(start + night * DAY + DAY / 2);
        ridge.live(night, midnight + 20 * 3_600_000).map_err(|error| failed(&root, &error))?;
        for file in &configuration.plans {
            let Some(plan) = &file.plan else { continue };
            if let Some(moment) = tonight(plan, midnight) {
                nights.play(plan, night, moment)?;
            }
        }
        context.progress.say(&format!(
            "night {} of {NIGHTS}: {}",
            night + 1,
            words::moment(midnight + 21 * 3_600_000)
        ));
    }
    for (plan, to) in [("readings", "pier"), ("ringing", "offshore")] {
        nights.copy(plan, to, folders, now - 6 * 3_600_000)?;
        context.progress.say(&format!("{plan}: copied to {to}"));
    }
    // What has happened since is what a dry run finds.
    ridge.morning(now - 3_600_000).map_err(|error| failed(&root, &error))?;
    Ok(servers)
}

/// A clock that is put to a moment and goes on from there.
#[derive(Default)]
struct NightClock(Mutex<Option<(i64, Instant)>>);

impl NightClock {
    fn set(&self, moment: i64) {
        let mut set = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        *set = Some((moment, Instant::now()));
    }
}

impl Clock for NightClock {
    fn now(&self) -> i64 {
        let set = *self.0.lock().unwrap_or_else(PoisonError::into_inner);
        set.map_or(0, |(moment, since)| {
            moment + i64::try_from(since.elapsed().as_millis()).unwrap_or(0)
        })
    }
}

/// When a plan runs on a day that begins at a moment, if it does.
fn tonight(plan: &Plan, midnight: i64) -> Option<i64> {
    let from = Timestamp::from_millisecond(midnight).ok()?;
    let moment = plan.schedule.as_ref()?.next(from, None, &words::zone()).as_millisecond();
    (moment < midnight + DAY).then_some(moment)
}

fn midnight(milliseconds: i64) -> i64 {
    words::zoned(milliseconds)
        .start_of_day()
        .map_or(milliseconds, |zoned| zoned.timestamp().as_millisecond())
}

impl Nights<'_> {
    /// The far store of a plan, and the copies there.
    fn copy(&self, plan: &str, to: &str, folders: &Folders, now: i64) -> Result<(), CliError> {
        self.clock.set(now);
        let place = prepare_place(self.configuration.store(to)?)?;
        let creation =
            Creation { cost: PassphraseCost::TRIVIAL, now: now / 1000, ..Creation::default() };
        Store::create(&*place, PASSPHRASE.as_bytes(), creation)?;
        let conductor = Conductor {
            configuration: self.configuration,
            journal: Some(self.journal),
            machine: "hut",
            clock: &self.clock,
            cancel: &Cancel::new(),
            events: &|_: Event| {},
        };
        let cache = Cache::ReadWrite(folders.cache.clone());
        let open = || Ok(Arc::new(Store::open(place, PASSPHRASE.as_bytes(), cache)?));
        conductor.replicate::<EngineError>(&self.store, to, Some(plan), open)?;
        Ok(())
    }

    fn play(&self, plan: &Plan, night: i64, moment: i64) -> Result<(), CliError> {
        let happening = Ridge::happening(night);
        if happening == Some(Happening::MachineOff) {
            return Ok(());
        }
        self.clock.set(moment);
        let (cancel, silent) = (Cancel::new(), |_: Event| {});
        let conductor = Conductor {
            configuration: self.configuration,
            journal: Some(self.journal),
            machine: "hut",
            clock: &self.clock,
            cancel: &cancel,
            events: &silent,
        };
        let run = |open: &dyn Fn() -> Result<Arc<Store>, EngineError>| {
            // Somebody looks and nods when the card is not in the reader.
            let options = RunOptions { agree: Some(&|_| true), ..RunOptions::default() };
            conductor.run(plan, options, open)
        };
        match happening {
            Some(Happening::DriveMissing) => {
                let pocket = self.oak.with_extension("in-a-pocket");
                fs::rename(&self.oak, &pocket).map_err(|error| failed(&pocket, &error))?;
                let spec = PlaceSpec::Directory(self.oak.clone());
                let missed =
                    run(&|| open_place_alone(spec.clone()).map(|_| Arc::clone(&self.store)));
                fs::rename(&pocket, &self.oak).map_err(|error| failed(&self.oak, &error))?;
                match missed {
                    Err(EngineError::Place(_)) => Ok(()),
                    other => other.map(drop).map_err(CliError::from),
                }
            }
            Some(Happening::Interrupted) if plan.name == "readings" => {
                let inner = Arc::clone(self.store.place());
                let place = Arc::new(Impatient { inner, cancel: cancel.clone() });
                let store = Store::open(place, PASSPHRASE.as_bytes(), Cache::None)?;
                let store = Arc::new(store);
                Ok(run(&|| Ok(Arc::clone(&store))).map(drop)?)
            }
            _ => Ok(run(&|| Ok(Arc::clone(&self.store))).map(drop)?),
        }
    }
}

/// A place at which somebody loses patience as soon as the first container of data has come.
#[derive(Debug)]
struct Impatient {
    inner: Arc<dyn Place>,
    cancel: Cancel,
}

impl Place for Impatient {
    fn describe(&self) -> String {
        self.inner.describe()
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        if name.as_str().starts_with("data/") {
            self.cancel.cancel();
        }
        self.inner.create(name, bytes)
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        self.inner.read(name, extent, into)
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        self.inner.list(folder, each)
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        self.inner.delete(name)
    }

    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
        self.inner.sweep(age_seconds)
    }
}
