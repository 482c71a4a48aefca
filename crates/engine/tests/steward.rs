//! A year of the steward in seconds: with days the machine was off, a drive that was missing, runs
//! that failed. No moment is lost, none is run twice, everything is told once.

use crate::common;

use std::{collections::BTreeMap, fs, time::UNIX_EPOCH};

use common::{scratch, write};
use jiff::{SignedDuration, Timestamp, civil, tz::TimeZone};
use skellin_engine::{
    About, Beginning, Configuration, Ending, Hands, Happening, Job, Journal, Outcome, Post,
    Steward, Watch, Work, note_standing,
};
use skellin_plan::Standing;

const MINUTE: i64 = 60_000;
const HOUR: i64 = 60 * MINUTE;
const DAY: i64 = 24 * HOUR;

/// What a run of that moment comes to.
type Fate = dyn Fn(&str, i64) -> Outcome;

/// Hands that do nothing but note it, and take their time on the moved clock.
struct Notebook<'a> {
    configuration: &'a Configuration,
    journal: &'a Journal,
    fate: &'a Fate,
    now: i64,
    /// Starts by job, in milliseconds since 1970, with what came of them.
    starts: Vec<(Job, i64, Outcome)>,
    going: Vec<(Job, i64)>,
}

impl<'a> Notebook<'a> {
    fn new(configuration: &'a Configuration, journal: &'a Journal, fate: &'a Fate) -> Self {
        let (starts, going) = (Vec::new(), Vec::new());
        Self { configuration, journal, fate, now: at("2026-01-01T00:00:00Z"), starts, going }
    }

    fn run(&mut self, plan: &str, took: i64) -> Outcome {
        let outcome = (self.fate)(plan, self.now);
        let plan = self.configuration.plan_file(plan).unwrap().plan.as_ref().unwrap();
        let beginning = Beginning {
            work: Work::Run,
            plan: Some(&plan.name),
            store: &plan.store,
            machine: "hut",
            unattended: false,
            started: self.now,
        };
        let id = self.journal.begin(&beginning).unwrap();
        let snapshot = (outcome == Outcome::Done).then_some(skellin_store::RunId([7; 16]));
        let ending = Ending { snapshot, ..Ending::at(self.now + took, outcome) };
        self.journal.finish(id, &ending).unwrap();
        let standing = match outcome {
            Outcome::Done => Standing::Good,
            _ => Standing::Failed,
        };
        let happening =
            Happening { machine: "hut", now: self.now, work: Some(id), ..Happening::default() };
        note_standing(self.configuration, self.journal, &About::of(plan), standing, &happening)
            .unwrap();
        outcome
    }
}

impl Hands for Notebook<'_> {
    fn start(&mut self, job: &Job) -> std::io::Result<()> {
        let took = 20 * MINUTE;
        let outcome = match job {
            Job::Run(plan) => self.run(&plan.clone(), took),
            Job::Drill(of) | Job::Verify(of) | Job::Reclaim(of) => {
                let (work, plan) = match job {
                    Job::Drill(plan) => (Work::Drill, Some(plan.as_str())),
                    Job::Reclaim(_) => (Work::Reclaim, None),
                    _ => (Work::Verify, None),
                };
                let beginning = Beginning {
                    work,
                    plan,
                    store: of,
                    machine: "hut",
                    unattended: false,
                    started: self.now,
                };
                let id = self.journal.begin(&beginning).unwrap();
                self.journal.finish(id, &Ending::at(self.now + took, Outcome::Done)).unwrap();
                Outcome::Done
            }
        };
        self.starts.push((job.clone(), self.now, outcome));
        self.going.push((job.clone(), self.now + took));
        Ok(())
    }

    fn ended(&mut self) -> Vec<Job> {
        let now = self.now;
        let (done, going) = self.going.drain(..).partition(|(_, until)| *until <= now);
        self.going = going;
        let done: Vec<(Job, i64)> = done;
        done.into_iter().map(|(job, _)| job).collect()
    }
}

fn starts_of(hands: &Notebook<'_>, job: &Job) -> usize {
    hands.starts.iter().filter(|(other, ..)| other == job).count()
}

fn watch<'a>(configuration: &'a Configuration, journal: &'a Journal) -> Watch<'a> {
    Watch { configuration, journal: Some(journal), machine: "hut", booted: None }
}

fn at(text: &str) -> i64 {
    text.parse::<Timestamp>().unwrap().as_millisecond()
}

#[test]
fn a_year_loses_no_moment_runs_none_twice_and_tells_everything_once() {
    let folder = scratch();
    let path = |below: &str| folder.path().join(below);
    let store =
        |name: &str, more: &str| format!("[{name}]\nplace = \"{}\"\n{more}", path(name).display());
    let verify =
        "schedule = { verify = \"sundays at 03:00\", reclaim = \"wednesdays at 04:30\" }\n";
    let age = |file: &std::path::Path| {
        let then = UNIX_EPOCH + std::time::Duration::from_millis(at("2026-01-01T00:00:00Z") as u64);
        fs::File::options().write(true).open(file).unwrap().set_modified(then).unwrap();
    };
    write(&path("config/stores.toml"), store("oak", verify) + &store("elm", ""));
    age(&path("config/stores.toml"));
    // A command that counts: what is told is counted where it arrives.
    let tell = format!(
        "[board]\ncommand = [\"sh\", \"-c\", \"echo $SKELLIN_SUBJECT >>{}\"]\n",
        path("told").display()
    );
    write(&path("config/channels.toml"), tell);
    let plan = |name: &str, store: &str, schedule: &str| {
        let text = format!(
            "sources = [\"/srv/{name}\"]\nstore = \"{store}\"\nzone = \"Europe/Oslo\"\n[schedule]\n{schedule}\n[tell]\nfailure = [\"board\"]\nlate = [\"board\"]\n"
        );
        let file = path(&format!("config/plans/{name}.toml"));
        write(&file, text);
        age(&file);
    };
    plan("readings", "oak", "run = \"daily at 02:30\"");
    plan(
        "ringing",
        "oak",
        "run = \"40 2 * * mon,wed\"\nretry = \"2 times every 30 min\"\ndrill = \"monthly on 2 at 05:00\"",
    );
    plan("gateway", "elm", "run = \"every 3 days\"");
    let folders = common::folders_below(folder.path());
    let configuration = Configuration::load(folders).unwrap();
    assert!(configuration.plans.iter().all(|file| file.plan.is_some()));
    let journal = Journal::open(&path("state")).unwrap();
    // Off for ten days in spring, over the night of the clock change too, and each Saturday night.
    let is_off = |now: i64| {
        let local = Timestamp::from_millisecond(now).unwrap().to_zoned(TimeZone::UTC);
        let away = (at("2026-03-24T12:00:00Z")..at("2026-04-03T09:17:00Z")).contains(&now);
        away || (local.weekday() == civil::Weekday::Sunday && local.hour() < 5 && local.month() > 6)
    };
    // The drive was missing for five days; in August one night in three something broke.
    let missing = at("2026-05-10T00:00:00Z")..at("2026-05-15T12:00:00Z");
    let fate = move |plan: &str, now: i64| {
        let night = now / DAY;
        let broken = (at("2026-08-01T00:00:00Z")..at("2026-09-01T00:00:00Z")).contains(&now);
        match plan {
            "readings" | "ringing" if missing.contains(&now) => Outcome::Failed,
            "readings" if broken && night % 3 == 0 => Outcome::Failed,
            _ => Outcome::Done,
        }
    };
    let mut hands = Notebook::new(&configuration, &journal, &fate);
    let end = at("2027-01-01T00:00:00Z");
    let mut steward = Steward::default();
    let mut looks = 0;
    while hands.now < end {
        if is_off(hands.now) {
            // What it knew is gone when it comes back.
            (steward, hands.going) = (Steward::default(), Vec::new());
            hands.now += MINUTE;
            continue;
        }
        let watch = watch(&configuration, &journal);
        let now = hands.now;
        let look = steward.look(&watch, &mut hands, now).unwrap();
        looks += 1;
        let ends = hands.going.iter().map(|(_, until)| *until).min();
        // At least every six hours, so that what is late is noticed when it is.
        let next = [look.next, ends].into_iter().flatten().min().unwrap_or(i64::MAX);
        hands.now = next.clamp(now + 1, now + 6 * HOUR);
    }
    assert!(looks < 6000, "{looks} looks: it wakes for nothing");

    // Each moment of the plan, found minute by minute on the clock on the wall, was served by the
    // first run after it, and each run served at least one.
    let zone = TimeZone::get("Europe/Oslo").unwrap();
    let starts = |name: &str| -> Vec<(i64, Outcome)> {
        let of = |(job, ..): &&(Job, i64, Outcome)| *job == Job::Run(name.to_owned());
        hands.starts.iter().filter(of).map(|(_, at, outcome)| (*at, *outcome)).collect()
    };
    type Wanted = dyn Fn(civil::DateTime) -> bool;
    let check = |name: &str, hour: i8, minute: i8, wanted: &Wanted, retries: bool| {
        let mut moments = Vec::new();
        let mut day = civil::date(2026, 1, 1);
        while day.year() == 2026 {
            let time = day.at(hour, minute, 0, 0);
            if wanted(time) {
                // What the clock change leaves out comes right after it: the first minute whose
                // wall clock is not before it.
                let midnight = day.to_zoned(zone.clone()).unwrap().timestamp();
                let found = (0..26 * 60)
                    .map(|number| midnight + SignedDuration::from_mins(number))
                    .find(|at| at.to_zoned(zone.clone()).datetime() >= time);
                moments.push(found.unwrap().as_millisecond());
            }
            day = day.tomorrow().unwrap();
        }
        let runs = starts(name);
        let mut served = BTreeMap::<i64, Vec<i64>>::new();
        for moment in &moments {
            let Some((run, _)) = runs.iter().find(|(run, _)| run >= moment) else {
                assert!(*moment > end - DAY, "{name}: {moment} was lost");
                continue;
            };
            // Nothing was put off while the machine was on: only off hours and other work wait.
            let waits =
                (*moment..*run).step_by(MINUTE as usize).filter(|now| !is_off(*now)).count();
            // Four others into the same store may go first.
            assert!(waits <= 81, "{name}: {moment} waited {waits} minutes for {run}");
            served.entry(*run).or_default().push(*moment);
        }
        let mut failed_before = false;
        for (run, outcome) in &runs {
            let is_retry = retries && failed_before;
            assert!(served.contains_key(run) || is_retry, "{name} ran for nothing at {run}");
            failed_before = *outcome != Outcome::Done;
        }
        runs.len()
    };
    let nights = check("readings", 2, 30, &|_| true, false);
    assert!((330..365).contains(&nights), "{nights}");
    let is_day = |time: civil::DateTime| {
        matches!(time.date().weekday(), civil::Weekday::Monday | civil::Weekday::Wednesday)
    };
    let ringing = check("ringing", 2, 40, &is_day, true);
    assert!(ringing > 95, "{ringing}");
    // Counted from the last good run, and made up for as soon as the machine is back.
    let gateway = starts("gateway");
    for pair in gateway.windows(2) {
        let (from, to) = (pair[0].0, pair[1].0);
        // Three days on the clock on the wall, whatever was done to it.
        let wall = Timestamp::from_millisecond(from).unwrap().to_zoned(zone.clone());
        let due = wall.checked_add(jiff::Span::new().days(3)).unwrap().timestamp().as_millisecond();
        let on = (due..to).step_by(MINUTE as usize).filter(|now| !is_off(*now)).count();
        assert!(to >= due && on <= 21, "{from} {to}: {on} minutes late");
    }
    assert!(gateway.len() > 110, "{}", gateway.len());
    for job in [Job::Verify("oak".to_owned()), Job::Reclaim("oak".to_owned())] {
        let done = starts_of(&hands, &job);
        assert!((50..=53).contains(&done), "{job:?} {done}");
    }
    let drills = starts_of(&hands, &Job::Drill("ringing".to_owned()));
    assert_eq!(drills, 12, "one a month");

    // Everything was told once, and its end too.
    let now = end;
    let post = Post::carry(&configuration, &journal, "hut", &|| now).unwrap();
    assert_eq!(post.failed, []);
    let told = fs::read_to_string(path("told")).unwrap();
    let count = |subject: &str| told.lines().filter(|line| *line == subject).count();
    // Five days without the drive: on the first, and daily as long as it lasts; in August each
    // failed night is followed by a good one.
    let august = starts("readings")
        .iter()
        .filter(|(at_, outcome)| *outcome == Outcome::Failed && *at_ > at("2026-08-01T00:00:00Z"))
        .count();
    let may = starts("readings").iter().filter(|(_, outcome)| *outcome == Outcome::Failed).count()
        - august;
    assert!((4..=6).contains(&may) && (9..=11).contains(&august), "{may} {august}");
    assert_eq!(count("readings failed on hut"), may + august);
    assert_eq!(count("readings recovered on hut"), 1 + august);
    assert_eq!(
        count("readings is late on hut"),
        count("readings is on schedule again on hut") + daily_more(&told, "readings")
    );
    assert!(
        count("ringing failed on hut") >= 1 && count("ringing recovered on hut") == 1,
        "{told}"
    );
    assert_eq!(post.sent, told.lines().count());
    let again = Post::carry(&configuration, &journal, "hut", &|| now).unwrap();
    assert_eq!(again, Post::default(), "nothing is sent twice");
}

#[test]
fn a_clock_that_jumps_and_a_machine_that_sleeps_lose_nothing_and_repeat_nothing() {
    let folder = scratch();
    let path = |below: &str| folder.path().join(below);
    write(&path("config/stores.toml"), format!("[oak]\nplace = \"{}\"", path("oak").display()));
    let file = path("config/plans/readings.toml");
    let zone = "zone = \"UTC\"";
    write(
        &file,
        format!(
            "sources = [\"/srv\"]\nstore = \"oak\"\n{zone}\n[schedule]\nrun = \"daily at 21:40\"\n[tell]\nlate = [\"board\"]\n"
        ),
    );
    write(&path("config/channels.toml"), "[board]\ncommand = [\"true\"]\n");
    let then = UNIX_EPOCH + std::time::Duration::from_millis(at("2026-11-01T00:00:00Z") as u64);
    fs::File::options().write(true).open(file).unwrap().set_modified(then).unwrap();
    let folders = common::folders_below(folder.path());
    let configuration = Configuration::load(folders).unwrap();
    let journal = Journal::open(&path("state")).unwrap();
    let watch = watch(&configuration, &journal);
    let mut hands = Notebook::new(&configuration, &journal, &|_, _| Outcome::Done);
    let mut steward = Steward::default();
    let mut look = |now: &str| {
        hands.now = at(now);
        hands.going.clear();
        steward.look(&watch, &mut hands, at(now)).unwrap();
        hands.ended();
        steward = Steward::default();
        hands.starts.len()
    };
    assert_eq!(look("2026-11-10T21:39:00Z"), 1, "what was missed since the plan is there");
    assert_eq!(look("2026-11-10T21:40:00Z"), 2);
    // Asleep over the moment: made up once as soon as it is awake.
    assert_eq!(look("2026-11-12T09:00:00Z"), 3);
    assert_eq!(look("2026-11-12T09:00:30Z"), 3);
    // The clock jumps a year ahead, and is put right after that.
    assert_eq!(look("2027-11-12T10:00:00Z"), 4);
    assert_eq!(look("2026-11-12T09:05:00Z"), 4, "put right, nothing is due");
    assert_eq!(look("2026-11-12T21:39:00Z"), 4);
    assert_eq!(look("2026-11-12T21:40:00Z"), 5, "the year ahead keeps nothing waiting");
    assert_eq!(look("2026-11-12T21:41:00Z"), 5);
    // An hour back, as by hand: the same evening is not run again.
    assert_eq!(look("2026-11-12T20:45:00Z"), 5);
    assert_eq!(look("2026-11-13T21:40:00Z"), 6);
    assert_eq!(journal.troubles("readings").unwrap(), [], "nothing was late for long");
}

#[test]
fn a_drive_that_appears_starts_its_plan_once_each_time() {
    let folder = scratch();
    let path = |below: &str| folder.path().join(below);
    write(&path("config/stores.toml"), "[oak]\nplace = \"drive:/skellin\"\n");
    let text = "sources = [\"/srv\"]\nstore = \"oak\"\n[schedule]\nalso-on = [\"drive\"]\n";
    write(&path("config/plans/readings.toml"), text);
    fs::create_dir_all(path("media/OAK1")).unwrap();
    let folders = skellin_engine::Folders {
        drives: Some(path("media")),
        ..common::folders_below(folder.path())
    };
    let configuration = Configuration::load(folders.clone()).unwrap();
    let oak = configuration.store("oak").unwrap();
    let place = skellin_engine::prepare_drive(oak, &path("media/OAK1"), None, &folders).unwrap();
    common::create_store(&*place);
    let journal = Journal::open(&path("state")).unwrap();
    let watch = watch(&configuration, &journal);
    let mut hands = Notebook::new(&configuration, &journal, &|_, _| Outcome::Done);
    let mut steward = Steward::default();
    let mut look = |now: &str| {
        hands.now = at(now);
        steward.look(&watch, &mut hands, at(now)).unwrap();
        hands.starts.len()
    };
    assert_eq!(look("2026-11-10T08:00:00Z"), 1, "it is here");
    assert_eq!(look("2026-11-10T09:00:00Z"), 1);
    fs::rename(path("media/OAK1"), path("pocket")).unwrap();
    assert_eq!(look("2026-11-10T10:00:00Z"), 1, "it is away");
    fs::rename(path("pocket"), path("media/OAK1")).unwrap();
    assert_eq!(look("2026-11-10T11:00:00Z"), 2, "it is back");
    assert_eq!(look("2026-11-10T12:00:00Z"), 2);
}

/// How often a plan that stayed late was told of again.
fn daily_more(told: &str, plan: &str) -> usize {
    let (mut late, mut more) = (false, 0);
    for line in told.lines() {
        if line == format!("{plan} is late on hut") {
            more += usize::from(std::mem::replace(&mut late, true));
        } else if line == format!("{plan} is on schedule again on hut") {
            late = false;
        }
    }
    more
}
