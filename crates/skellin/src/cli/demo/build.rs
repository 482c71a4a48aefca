//! Building the world: the real engine, six weeks of nights, the clock moved.

use std::{
    fs,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError},
    time::Instant,
};

use jiff::Timestamp;
use skellin_engine::{
    Cancel, Clock, Configuration, DrillOptions, EngineError, Event, Folders, Journal, Orchestrator,
    Post, ReplicateRequest, RunOptions,
    drill::{self, SAMPLE, Share},
    history, open_place, prepare_drive, prepare_place, prepare_place_alone, replicate,
};
use skellin_place::{Extent, Listed, ObjectName, Place, PlaceError};
use skellin_plan::{PlaceSpec, Plan, Schedule};
use skellin_standins::{Happening, NIGHTS, Ridge};
use skellin_store::{Cache, Creation, PassphraseCost, Store};

use super::{
    files::{PASSPHRASE, executable, failed, private, write},
    servers::{Servers, passphrase},
};
use crate::{
    cli::{context::Context, error::CliError},
    words,
};

const DAY: i64 = 86_400_000;
/// What the drives mend by themselves, in percent.
const PARITY: u8 = 3;

/// Plans and key of the station, and a store in a directory.
pub(super) fn configure(folder: &Path, folders: &Folders, now: i64) -> Result<(), CliError> {
    plans(folder, folders, false)?;
    let oak = folder.join("oak");
    let place = prepare_place_alone(PlaceSpec::Directory(oak.clone()))?;
    create(&*place, now)?;
    let text = format!(
        "[oak]\nplace = \"{}\"\nparity = \"{PARITY}%\"\n{}",
        oak.display(),
        passphrase(folder)
    );
    write(&folders.config.join("stores.toml"), &text)
}

fn create(place: &dyn Place, now: i64) -> Result<(), CliError> {
    let creation =
        Creation { cost: PassphraseCost::TRIVIAL, now: now / 1000, ..Creation::default() };
    Store::create(place, PASSPHRASE.as_bytes(), creation)?;
    Ok(())
}

/// Plans and key of the station; `far`: whether there are other places than the directory.
fn plans(folder: &Path, folders: &Folders, far: bool) -> Result<(), CliError> {
    // Where the far stores are, there go copies.
    let copies = |to: &str| match far {
        true => format!("replicate = [\"{to}\"]\n"),
        false => String::new(),
    };
    let ridge = Ridge::new(folder.join("srv"));
    let (program, board) = (folder.join("bin/gauge-db"), folder.join("board.txt"));
    executable(&program, GAUGE_DB)?;
    write(
        &folders.config.join("channels.toml"),
        &format!(
            "# Who is told: in the demo a file plays the board in the hut.\n[board]\ncommand = [\"{}\", \"tell\", \"{}\"]\n",
            program.display(),
            board.display()
        ),
    )?;
    private(&folder.join("oak.key"), PASSPHRASE)?;
    if far {
        write(
            &folders.config.join("plans/gateway.toml"),
            "about   = \"The logger on the mast, pulled over SFTP\"\nsources = [\"sftp://mast/etc\", \"sftp://mast/var/records\"]\nstore   = \"oak\"\nmachine = \"hut\"\nrules   = \"skip *.spool\"\nretain  = [\"one a week for 10 weeks\", \"at least 8\"]\n\n[schedule]\nrun = \"sundays, tuesdays and thursdays at 23:20\"\n\n[tell]\nfailure = [\"board\"]\nlate    = [\"board\"]\n",
        )?;
    }
    write(
        &folders.config.join("plans/readings.toml"),
        &format!(
            "about   = \"Series and notes from the ridge\"\nsources = [\"{}\", \"{}\"]\nstore   = \"oak\"\nmachine = \"hut\"\nlabels  = [\"field\"]\nrules   = '''\nskip .cache/ *.part *~\n'''\nretain  = [\"everything for 3 days\", \"one a day for 2 weeks\", \"one a week for 10 weeks\", \"at least 4\"]\n{}\n[schedule]\nrun = \"daily at 21:40\"\nwindow = \"21:00-06:00\"\ndrill = \"mondays at 05:00\"\n\n[goal]\ncopies = 3\noff-site = 1\nnewest-within = \"2 days\"\nback-within = \"4 hours\"\n\n[[around]]\nenter = [\"{program}\", \"stop\"]\nleave = [\"{program}\", \"start\"]\ntimeout = \"2 min\"\n\n[tell]\nfailure    = [\"board\"]\nexceptions = [\"board\"]\nlate       = [\"board\"]\n",
            ridge.readings().display(),
            ridge.card().display(),
            copies("pier"),
            program = program.display()
        ),
    )?;
    write(
        &folders.config.join("plans/ringing.toml"),
        &format!(
            "about   = \"Ringing sheets and the register\"\nsources = [\"{}\"]\nstore   = \"oak\"\nmachine = \"hut\"\nretain  = [\"one a day for 3 weeks\", \"one a month for 20 months\", \"at least 4\"]\n{}\n[schedule]\nrun = \"mondays, wednesdays, fridays and saturdays at 22:10\"\n\n[tell]\nfailure = [\"board\"]\nlate    = [\"board\"]\n",
            ridge.ringing().display(),
            copies("offshore")
        ),
    )
}

/// A database of gauges that is none: it says what one would say, and writes on the board.
const GAUGE_DB: &str = "#!/bin/sh
case \"$1\" in
stop) echo \"gauge-db: 6 gauges flushed, stopped for $SKELLIN_PLAN\" ;;
start) echo \"gauge-db: started again after $SKELLIN_FILES paths were read\" ;;
tell) printf '%s\\n' \"$SKELLIN_SUBJECT\" >>\"$2\" ;;
esac
";

/// The drives of `oak`.
const EAST: &str = "oak-east";
const WEST: &str = "oak-west";
/// The night on which the drives were last swapped for a day.
const SWAPPED: i64 = NIGHTS - 9;
/// When the first plan of an evening runs, after midnight.
const FIRST_RUN: i64 = (21 * 60 + 40) * 60_000;

/// What the nights are played with.
struct Nights<'a> {
    configuration: &'a Configuration,
    journal: &'a Journal,
    /// Where the drive is mounted, and where it is when it is not.
    mount: PathBuf,
    pocket: PathBuf,
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
    // The last night is the latest one whose runs have begun by now, so that none is late.
    let is_night = now >= midnight(now) + FIRST_RUN;
    let start = midnight(now - NIGHTS * DAY + if is_night { DAY } else { 0 });
    plans(folder, folders, true)?;
    write(&folders.config.join("hosts.toml"), &servers.hosts(folder))?;
    let oak = format!(
        "[oak]\nplace = \"drive:/skellin\"\ndrives = [\"{EAST}\", \"{WEST}\"]\nswap = \"mondays\"\nparity = \"{PARITY}%\"\n{}",
        passphrase(folder)
    );
    let stores = format!("{oak}{}", servers.stores(folder)?);
    servers.is_known(folder)?;
    write(&folders.config.join("stores.toml"), &stores)?;
    let configuration = Configuration::load(folders.clone())?;
    let journal = Journal::open(&folders.state)?;
    let mount = folder.join("drives").join(EAST);
    fs::create_dir_all(&mount).map_err(|error| failed(&mount, &error))?;
    let place = prepare_drive(configuration.store("oak")?, &mount, Some(EAST), folders)?;
    create(&*place, start)?;
    let cache = Cache::ReadWrite(folders.cache.clone());
    let store = Arc::new(Store::open(place, PASSPHRASE.as_bytes(), cache)?);
    store.set_parity(PARITY);
    let nights = Nights {
        configuration: &configuration,
        journal: &journal,
        mount,
        pocket: folder.join("away"),
        store,
        clock: NightClock::default(),
    };
    let (ridge, root) = (Ridge::new(folder.join("srv")), folder.join("srv"));
    for night in 0..NIGHTS {
        let midnight = midnight(start + night * DAY + DAY / 2);
        let evening = midnight + 20 * 3_600_000;
        ridge
            .live(night, evening)
            .and_then(|()| Ridge::live_at_the_mast(&Servers::mast_files(folder), night, evening))
            .map_err(|error| failed(&root, &error))?;
        if night == SWAPPED {
            nights.bring_up_the_other_drive(folders, midnight + 9 * 3_600_000)?;
        }
        for file in &configuration.plans {
            let Some(plan) = &file.plan else { continue };
            let drill = plan.starting.drill.as_ref().and_then(|drill| on_day(drill, midnight));
            if let Some(moment) = drill.filter(|moment| night > 0 && *moment <= now) {
                nights.drill(plan, moment)?;
            }
            if let Some(moment) = tonight(plan, midnight).filter(|moment| *moment <= now) {
                nights.play(plan, night, moment)?;
            }
        }
        context.progress.show(&format!(
            "building the station: night {} of {NIGHTS}, {}",
            night + 1,
            words::moment(midnight + 21 * 3_600_000)
        ));
    }
    for (plan, to) in [("readings", "pier"), ("ringing", "offshore")] {
        nights.copy(plan, to, folders, now - 6 * 3_600_000)?;
        context.progress.show(&format!("building the station: {plan} copied to {to}"));
    }
    context.progress.show("");
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
    on_day(plan.schedule.as_ref()?, midnight)
}

/// When something comes on a day that begins at a moment, if it does.
fn on_day(schedule: &Schedule, midnight: i64) -> Option<i64> {
    let from = Timestamp::from_millisecond(midnight).ok()?;
    let moment = schedule.next(from, None, &words::zone()).as_millisecond();
    (moment < midnight + DAY).then_some(moment)
}

fn midnight(milliseconds: i64) -> i64 {
    words::zoned(milliseconds)
        .start_of_day()
        .map_or(milliseconds, |zoned| zoned.timestamp().as_millisecond())
}

impl Nights<'_> {
    fn unplug(&self, drive: &str) -> Result<(), CliError> {
        fs::create_dir_all(&self.pocket)
            .and_then(|()| fs::rename(self.mount.with_file_name(drive), self.pocket.join(drive)))
            .map_err(|error| failed(&self.pocket, &error))
    }

    fn plug_in(&self, drive: &str) -> Result<(), CliError> {
        let mount = self.mount.with_file_name(drive);
        fs::rename(self.pocket.join(drive), &mount).map_err(|error| failed(&mount, &error))
    }

    /// The drive that was away gets all there is, and is carried away again.
    fn bring_up_the_other_drive(&self, folders: &Folders, now: i64) -> Result<(), CliError> {
        self.clock.set(now);
        let mount = self.mount.with_file_name(WEST);
        fs::create_dir_all(&mount).map_err(|error| failed(&mount, &error))?;
        let oak = self.configuration.store("oak")?;
        let place = prepare_drive(oak, &mount, Some(WEST), folders)?;
        create(&*place, now)?;
        let cache = Cache::ReadWrite(folders.cache.clone());
        let west = Arc::new(Store::open(place, PASSPHRASE.as_bytes(), cache)?);
        let id = west.header().store.to_string();
        let (cancel, silent) = (Cancel::new(), |_: Event| {});
        let request = ReplicateRequest {
            plan: None,
            unwanted: None,
            origin: None,
            clock: &self.clock,
            cancel: &cancel,
            events: &silent,
        };
        replicate(&self.store, &west, &request)?;
        let newest = history::snapshots(&self.store, None, |_, _| {})?;
        let newest = newest.last().map(|snapshot| snapshot.started);
        self.journal.note_drive("oak", (WEST, &id), now, newest)?;
        self.unplug(WEST)
    }

    fn orchestrator<'s>(&'s self, cancel: &'s Cancel) -> Orchestrator<'s> {
        Orchestrator {
            configuration: self.configuration,
            journal: Some(self.journal),
            machine: "hut",
            clock: &self.clock,
            cancel,
            events: &|_: Event| {},
        }
    }

    /// The far store of a plan, and the copies there.
    fn copy(&self, plan: &str, to: &str, folders: &Folders, now: i64) -> Result<(), CliError> {
        self.clock.set(now);
        let place = prepare_place(self.configuration.store(to)?)?;
        create(&*place, now)?;
        let cancel = Cancel::new();
        let orchestrator = self.orchestrator(&cancel);
        let cache = Cache::ReadWrite(folders.cache.clone());
        let open = || Ok(Arc::new(Store::open(place, PASSPHRASE.as_bytes(), cache)?));
        orchestrator.replicate::<EngineError>(&self.store, to, Some(plan), open)?;
        Ok(())
    }

    /// A drill of a plan's newest snapshot.
    fn drill(&self, plan: &Plan, moment: i64) -> Result<(), CliError> {
        self.clock.set(moment);
        let cancel = Cancel::new();
        let orchestrator = self.orchestrator(&cancel);
        let (snapshot, before) = drill::newest(&self.store, (plan.series(), "hut"), moment)?;
        let options = DrillOptions {
            share: Share::Files(SAMPLE),
            scratch: None,
            before,
            as_lost: false,
            unattended: true,
        };
        orchestrator.drill(&plan.name, ("oak", &self.store), &snapshot, options)?;
        Ok(())
    }

    fn play(&self, plan: &Plan, night: i64, moment: i64) -> Result<(), CliError> {
        let happening = Ridge::happening(night);
        if happening == Some(Happening::MachineOff) {
            return Ok(());
        }
        self.clock.set(moment);
        let cancel = Cancel::new();
        let orchestrator = self.orchestrator(&cancel);
        // The copies of six weeks are made at once, in the end.
        let plan = &Plan { copies: Vec::new(), ..plan.clone() };
        let run = |open: &dyn Fn() -> Result<Arc<Store>, EngineError>| {
            // Somebody looks and nods when the card is not in the reader.
            let options = RunOptions { agree: Some(&|_| true), ..RunOptions::default() };
            let ran = orchestrator.run_whole(plan, options, &|_| open(), &|_| {}).run;
            Post::carry(self.configuration, self.journal, "hut", &|| self.clock.now())?;
            ran
        };
        match happening {
            Some(Happening::DriveMissing) => {
                let (oak, folders) =
                    (self.configuration.store("oak")?, &self.configuration.folders);
                self.unplug(EAST)?;
                let missed = run(&|| open_place(oak, folders).map(|_| Arc::clone(&self.store)));
                self.plug_in(EAST)?;
                match missed {
                    Err(EngineError::Place(_)) => Ok(()),
                    other => other.map(drop).map_err(CliError::from),
                }
            }
            Some(Happening::Interrupted) if plan.name == "readings" => {
                let inner = Arc::clone(self.store.place());
                let place = Arc::new(Impatient { inner, cancel: cancel.clone() });
                let store = Store::open(place, PASSPHRASE.as_bytes(), Cache::None)?;
                store.set_parity(PARITY);
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
