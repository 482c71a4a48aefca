//! The worker over a real store: what it tells, and what it lets go of.

use std::{
    fs,
    path::{Path, PathBuf},
    time::Duration,
};

use crossbeam_channel::Receiver;
use skellin_engine::{
    Cancel, Change, Destination, Existing, Folders, MovedClock, Orchestrator, RunOptions,
    RunStatus, prepare_place_alone,
};
use skellin_plan::{PlaceSpec, PlanDraft};
use skellin_store::{Cache, Creation, PassphraseCost};

use super::*;
use crate::machine::open_configured;

const PASSPHRASE: &[u8] = b"terns over the pier";
const NIGHT: i64 = 1_790_000_000_000;
const DAY: i64 = 86_400_000;

struct World {
    folder: tempfile::TempDir,
    requests: Sender<Request>,
    reports: Receiver<Report>,
}

fn write(path: &Path, text: &str) {
    fs::create_dir_all(path.parent().expect("a directory")).expect("makes");
    fs::write(path, text).expect("writes");
}

impl World {
    /// Three nights of readings on this machine, one of the same plan on another.
    fn new(passphrase_named: bool) -> Self {
        let folder = tempfile::tempdir().expect("a directory");
        let path = |below: &str| folder.path().join(below);
        let place = prepare_place_alone(PlaceSpec::Directory(path("oak"))).expect("a place");
        let creation = Creation { cost: PassphraseCost::TRIVIAL, now: 0, ..Creation::default() };
        Store::create(&*place, PASSPHRASE, creation).expect("a store");
        write(&path("key"), "terns over the pier");
        let private = std::os::unix::fs::PermissionsExt::from_mode(0o600);
        fs::set_permissions(path("key"), private).expect("sets");
        let secret = match passphrase_named {
            true => format!("passphrase = {{ file = \"{}\" }}\n", path("key").display()),
            false => String::new(),
        };
        write(
            &path("config/stores.toml"),
            &format!("[oak]\nplace = \"{}\"\n{secret}", path("oak").display()),
        );
        write(
            &path("config/plans/readings.toml"),
            &format!("sources = [\"{}\"]\nstore = \"oak\"\n", path("ridge").display()),
        );
        let folders = Folders {
            config: path("config"),
            state: path("state"),
            cache: path("cache"),
            look_in: Vec::new(),
            drives: None,
        };
        let configuration = Configuration::load(folders).expect("a configuration");
        let open = || {
            let passphrase = Passphrase::new(PASSPHRASE.to_vec());
            open_configured(&configuration, "oak", Some(&passphrase), Cache::None)
        };
        for (night, machine, notes) in [
            (0, "hut", "one tern\n"),
            (1, "hut", "one tern\n"),
            (2, "hut", "two terns\n"),
            (3, "mast", "x\n"),
        ] {
            write(&path("ridge/notes.md"), notes);
            if night == 1 {
                write(&path("ridge/2026/gauge.csv"), "1.8 m\n");
                write(&path("ridge/noise.bin"), "\u{0}\u{1}");
            }
            if night == 2 {
                fs::remove_file(path("ridge/noise.bin")).expect("removes");
            }
            let plan = configuration.plans[0].plan.as_ref().expect("a plan");
            let orchestrator = Orchestrator {
                configuration: &configuration,
                journal: None,
                machine,
                clock: &MovedClock::at(NIGHT + night * DAY),
                cancel: &Cancel::new(),
                events: &|_| {},
            };
            orchestrator.run(plan, RunOptions::default(), open).expect("runs");
        }
        let (sender, reports) = unbounded();
        let requests =
            start(configuration, "hut".to_owned(), move |report| sender.send(report).is_ok());
        Self { folder, requests, reports }
    }

    fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    fn bytes(&self, below: &str) -> Vec<u8> {
        self.path(below).into_os_string().into_encoded_bytes()
    }

    fn ask(&self, request: Request) {
        self.requests.send(request).expect("it listens");
    }

    /// The next report of some kind; others are passed over.
    fn hear<T>(&self, mut wanted: impl FnMut(Report) -> Option<T>) -> T {
        loop {
            let report = self.reports.recv_timeout(Duration::from_secs(20)).expect("a report");
            if let Some(found) = wanted(report) {
                return found;
            }
        }
    }

    fn open(&self, passphrase: Option<&[u8]>) -> Result<Vec<Group>, Trouble> {
        let passphrase = passphrase.map(|text| Passphrase::new(text.to_vec()));
        self.ask(Request::Open { store: "oak".to_owned(), passphrase });
        self.hear(|report| match report {
            Report::Listed { groups, .. } => Some(groups),
            _ => None,
        })
    }

    /// Opens it; the snapshots of this machine.
    fn snapshots(&self) -> Vec<RunId> {
        let groups = self.open(None).expect("it opens");
        let own = groups.into_iter().find(|group| group.machine == "hut").expect("our own");
        own.marks.into_iter().map(|(id, _)| id).collect()
    }

    fn rows(&self, ticket: u64) -> Vec<(String, Change)> {
        let mut rows = Vec::new();
        self.hear(|report| match report {
            Report::Rows { ticket: of, batch, complete, .. } if of == ticket => {
                rows.extend((0..batch.len()).map(|row| {
                    (String::from_utf8_lossy(batch.name(row)).into_owned(), batch.facts(row).change)
                }));
                complete.then_some(())
            }
            Report::NoRows { trouble, .. } => panic!("{trouble:?}"),
            _ => None,
        });
        rows
    }
}

#[test]
fn a_store_is_listed_by_plan_and_machine_and_then_read() {
    let world = World::new(true);
    let groups = world.open(None).expect("it opens");
    let mut found: Vec<_> = groups
        .iter()
        .map(|group| (group.plan.as_str(), group.machine.as_str(), group.marks.len()))
        .collect();
    found.sort_unstable();
    assert_eq!(found, [("readings", "hut", 3), ("readings", "mast", 1)]);
    let own = groups.iter().find(|group| group.machine == "hut").expect("our own");
    let times: Vec<_> = own.marks.iter().map(|(_, time)| (time - NIGHT) / DAY).collect();
    assert_eq!(times, [0, 1, 2]);
    let facts = world.hear(|report| match report {
        Report::Facts { facts, .. } => Some(facts),
        _ => None,
    });
    assert_eq!(facts.len(), 4);
    let middle = facts.iter().find(|(id, _)| *id == own.marks[1].0).expect("it is told");
    assert_eq!((middle.1.files, middle.1.exceptions), (3, 0));
}

#[test]
fn a_passphrase_that_is_missing_or_wrong_is_asked_for_and_a_right_one_opens() {
    let world = World::new(false);
    assert_eq!(world.open(None).expect_err("none is named").passphrase, Some(false));
    assert_eq!(world.open(Some(b"gannets")).expect_err("it is wrong").passphrase, Some(true));
    assert!(world.open(Some(PASSPHRASE)).is_ok());
    assert!(world.open(None).is_ok(), "it stays open");
    fs::rename(world.path("oak"), world.path("unplugged")).expect("moves");
    let trouble = world.open(None).expect_err("it is away");
    assert!(trouble.hint.is_some_and(|hint| hint.contains("mounted")), "{}", trouble.what);
}

#[test]
fn directories_are_listed_beside_the_snapshot_before_and_old_tickets_are_let_go() {
    let world = World::new(true);
    let ids = world.snapshots();
    let directory = |ticket, number: usize, path: Option<Vec<u8>>| Request::Directory {
        ticket,
        store: "oak".to_owned(),
        snapshot: ids[number],
        before: number.checked_sub(1).map(|before| ids[before]),
        path,
    };
    let ridge = world.bytes("ridge");
    world.ask(directory(1, 0, Some(ridge.clone())));
    assert_eq!(
        world.rows(1),
        [("notes.md".to_owned(), Change::Same)],
        "nothing is new to a first one"
    );
    world.ask(directory(2, 2, None));
    let root = world.path("ridge").display().to_string();
    assert_eq!(world.rows(2), [(root, Change::Changed)], "sources stand with their full paths");
    world.ask(directory(3, 2, Some(ridge.clone())));
    let shown = world.rows(3);
    let expected =
        [("2026", Change::Same), ("noise.bin", Change::Gone), ("notes.md", Change::Changed)];
    assert_eq!(shown, expected.map(|(name, change)| (name.to_owned(), change)));
    // What was asked before is not answered after what was asked later.
    for ticket in 10..200 {
        world.ask(directory(ticket, 1, Some(ridge.clone())));
    }
    let mut answered = Vec::new();
    world.hear(|report| match report {
        Report::Rows { ticket, complete: true, .. } => {
            answered.push(ticket);
            (ticket == 199).then_some(())
        }
        _ => None,
    });
    assert!(answered.is_sorted() && answered.len() < 190, "{answered:?}");
    world.ask(Request::Directory {
        ticket: 300,
        store: "oak".to_owned(),
        snapshot: RunId([9; 16]),
        before: None,
        path: None,
    });
    let trouble = world.hear(|report| match report {
        Report::NoRows { ticket: 300, trouble, .. } => Some(trouble),
        _ => None,
    });
    assert!(trouble.what.contains("unknown snapshot"));
}

#[test]
fn a_path_is_followed_and_looked_into() {
    let world = World::new(true);
    let ids = world.snapshots();
    let path = world.bytes("ridge/notes.md");
    world.ask(Request::Versions {
        study: 1,
        store: "oak".to_owned(),
        snapshots: ids.clone(),
        path: path.clone(),
    });
    let versions = world.hear(|report| match report {
        Report::Versions { versions, .. } => Some(versions.expect("versions")),
        _ => None,
    });
    let found: Vec<_> = versions
        .iter()
        .map(|version| {
            ((version.time - NIGHT) / DAY, (version.last_seen - NIGHT) / DAY, version.size)
        })
        .collect();
    // Written again with the same content at another time is another version.
    assert_eq!(found, [(0, 0, 9), (1, 1, 9), (2, 2, 10)]);
    let look = |snapshot, below: &str| {
        let path = world.bytes(below);
        world.ask(Request::Look { store: "oak".to_owned(), snapshot, path });
        world.hear(|report| match report {
            Report::Looked { looked, .. } => Some(looked),
            _ => None,
        })
    };
    let text = |line: &str| Ok(Looked::Text { lines: vec![line.to_owned()], more: false });
    assert_eq!(look(ids[0], "ridge/notes.md"), text("one tern"));
    assert_eq!(look(ids[2], "ridge/notes.md"), text("two terns"));
    assert!(matches!(look(ids[1], "ridge/noise.bin"), Ok(Looked::Binary { size: 2, .. })));
    assert!(look(ids[0], "ridge/noise.bin").is_err(), "it was not there yet");
}

#[test]
fn jobs_run_and_restore_dry_and_real_and_the_journal_knows() {
    let world = World::new(true);
    let ids = world.snapshots();
    let run = |job, dry_run| Request::Run {
        job,
        plan: "readings".to_owned(),
        dry_run,
        agreed: false,
        cancel: Cancel::new(),
    };
    let end = |job: u64| {
        world.hear(|report| match report {
            Report::Ended { job: of, end } if of == job => Some(end),
            _ => None,
        })
    };
    world.ask(run(1, true));
    let JobEnd::Run(Ok(report)) = end(1) else { panic!("a dry run") };
    assert!(report.snapshot.is_none() && report.outlook.is_some());
    world.ask(run(2, false));
    let JobEnd::Run(Ok(report)) = end(2) else { panic!("a run") };
    assert_eq!(report.status, RunStatus::Done);
    assert_eq!(world.snapshots().len(), 4, "its snapshot is listed");
    let order = |job, dry_run| {
        Request::Restore(Box::new(RestoreOrder {
            job,
            items: vec![OrderItem {
                store: "oak".to_owned(),
                snapshot: ids[0],
                path: world.bytes("ridge/notes.md"),
            }],
            destination: Destination::Directory(world.path("back")),
            dated: false,
            existing: Existing::Leave,
            removes_extra: false,
            dry_run,
            cancel: Cancel::new(),
        }))
    };
    for (job, dry_run) in [(3, true), (4, false), (5, true)] {
        world.ask(order(job, dry_run));
        let JobEnd::Restore(Ok(restored)) = end(job) else { panic!("a restore") };
        let item = &restored.items[0];
        assert_eq!(item.target, world.path("back/ridge/notes.md"));
        assert_eq!(item.there.is_some(), job == 5);
        let in_the_way = if job == 5 { vec![item.target.clone()] } else { Vec::new() };
        assert_eq!(restored.in_the_way, in_the_way);
        assert_eq!(item.target.exists(), job != 3);
    }
    assert_eq!(fs::read(world.path("back/ridge/notes.md")).expect("reads"), b"one tern\n");
    world.ask(Request::Journal);
    let papers = world.hear(|report| match report {
        Report::Journal(papers) => Some(papers.expect("papers")),
        _ => None,
    });
    let works: Vec<_> = papers.iter().map(|(entry, _)| entry.work.word()).collect();
    assert_eq!(works, ["restore", "run"], "dry runs leave no trace");
    world.ask(Request::Stores);
    let stores = world.hear(|report| match report {
        Report::Stores(stores) => Some(stores),
        _ => None,
    });
    assert!(stores[0].state.is_ok() && stores[0].usage.is_some_and(|(_, bytes)| bytes > 0));
    assert!(stores[0].room.is_some_and(|(free, all)| free <= all));
}

#[test]
fn a_draft_is_checked_tried_and_saved() {
    let world = World::new(true);
    let plan = PlanDraft {
        name: "ringing".to_owned(),
        sources: vec![world.path("ridge")],
        store: "oak".to_owned(),
        ..PlanDraft::default()
    };
    let draft = Draft { plan, ..Draft::default() };
    world.ask(Request::Local(world.path("ridge")));
    let listed = world.hear(|report| match report {
        Report::Local(_, listed) => Some(listed.expect("a listing")),
        _ => None,
    });
    let names: Vec<_> = listed
        .iter()
        .map(|local| (local.name.to_string_lossy().into_owned(), local.is_directory))
        .collect();
    assert_eq!(
        names,
        [("2026".to_owned(), true), ("notes.md".to_owned(), false)],
        "directories first"
    );
    world.ask(Request::Check(Box::new(draft.clone())));
    let state = world.hear(|report| match report {
        Report::Checked(state) => Some(state),
        _ => None,
    });
    assert!(state.checked.plan.is_some() && state.files[0].0.ends_with("plans/ringing.toml"));
    world.ask(Request::DryRun { job: 7, draft: Box::new(draft.clone()), cancel: Cancel::new() });
    let report = world.hear(|report| match report {
        Report::Ended { job: 7, end: JobEnd::Run(report) } => Some(report.expect("a report")),
        _ => None,
    });
    assert_eq!(report.files.new, 2);
    world.ask(Request::Save(Box::new(draft), None));
    world.hear(|report| matches!(report, Report::Saved(Ok(()))).then_some(()));
    world.ask(Request::Configuration);
    let configuration = world.hear(|report| match report {
        Report::Configuration(configuration) => Some(configuration.expect("it is read")),
        _ => None,
    });
    assert_eq!(configuration.plans.len(), 2);
}

#[test]
fn the_sources_are_listed_as_they_are_and_explained() {
    let world = World::new(true);
    let newest = world.snapshots().last().copied();
    write(&world.path("ridge/notes.md"), "three terns, and more\n");
    write(&world.path("ridge/later.csv"), "1\n");
    let ridge = world.bytes("ridge");
    let live = |ticket, plan: &str, path: Option<Vec<u8>>| Request::Live {
        ticket,
        plan: plan.to_owned(),
        store: "oak".to_owned(),
        newest,
        path,
    };
    world.ask(live(1, "readings", None));
    assert_eq!(world.rows(1), [(world.path("ridge").display().to_string(), Change::Same)]);
    world.ask(live(2, "readings", Some(ridge.clone())));
    let expected =
        [("2026", Change::Same), ("later.csv", Change::New), ("notes.md", Change::Changed)];
    assert_eq!(world.rows(2), expected.map(|(name, change)| (name.to_owned(), change)));
    world.ask(live(3, "nothing", None));
    let trouble = world.hear(|report| match report {
        Report::NoRows { ticket: 3, trouble, .. } => Some(trouble),
        _ => None,
    });
    assert!(trouble.what.contains("no plan `nothing`"), "{}", trouble.what);
    world.ask(Request::Explain { plan: "readings".to_owned(), path: ridge });
    let reasons = world.hear(|report| match report {
        Report::Explained { reasons, .. } => Some(reasons.expect("reasons")),
        _ => None,
    });
    assert!(
        reasons[0].ends_with("included")
            && reasons.last().is_some_and(|line| line.contains("3 files")),
        "{reasons:?}"
    );
}

#[test]
fn a_rule_is_measured_added_and_taken_back() {
    let world = World::new(true);
    world.snapshots();
    write(&world.path("ridge/later.csv"), &"1".repeat(900));
    let file = world.path("config/plans/readings.toml");
    let before = fs::read_to_string(&file).expect("reads");
    let effect = |rule: &str| {
        world.ask(Request::Effect {
            plan: "readings".to_owned(),
            rule: rule.to_owned(),
            cancel: Cancel::new(),
        });
        world.hear(|report| match report {
            Report::Effect { amounts, .. } => Some(amounts),
            _ => None,
        })
    };
    let (without, with) = effect("skip later.csv").expect("it is measured");
    assert_eq!((without.files, with.files, without.bytes - with.bytes), (3, 2, 900));
    let mistaken = effect("skip a//b").expect_err("it is no rule");
    assert!(mistaken.what.contains("`//`"), "{}", mistaken.what);
    assert_eq!(fs::read_to_string(&file).expect("reads"), before, "measuring writes nothing");
    let changed = |request| {
        world.ask(request);
        world.hear(|report| match report {
            Report::PlanChanged { texts, .. } => Some(texts),
            _ => None,
        })
    };
    let reload = || {
        world.ask(Request::Configuration);
        world.hear(|report| matches!(report, Report::Configuration(Ok(_))).then_some(()));
    };
    let add = |rule: &str| Request::AddRule { plan: "readings".to_owned(), rule: rule.to_owned() };
    let (was, became) = changed(add("skip later.csv")).expect("it is added");
    assert_eq!(was, before);
    assert_eq!(fs::read_to_string(&file).expect("reads"), became);
    reload();
    assert_eq!(effect("skip nothing-else").expect("it is measured").0.files, 2);
    let back = |was: &str, became: &str| Request::TakeBack {
        plan: "readings".to_owned(),
        was: was.to_owned(),
        became: became.to_owned(),
    };
    changed(back(&was, &became)).expect("it is taken back");
    assert_eq!(fs::read_to_string(&file).expect("reads"), before);
    // What is not as it was left is not touched.
    reload();
    write(&file, &format!("{before}# mine\n"));
    for request in [add("skip x"), back(&was, &became)] {
        let trouble = changed(request).expect_err("somebody else was here");
        assert!(trouble.what.contains("changed by somebody else"), "{}", trouble.what);
    }
    assert!(fs::read_to_string(&file).expect("reads").ends_with("# mine\n"));
}

/// A picture of one colour (BMP, 24 bits).
fn bitmap(width: u32, height: u32) -> Vec<u8> {
    let row = (width * 3).next_multiple_of(4);
    let mut bytes = b"BM".to_vec();
    for word in [54 + row * height, 0, 54, 40, width, height, (24 << 16) | 1, 0, row * height] {
        bytes.extend(word.to_le_bytes());
    }
    bytes.resize(54, 0);
    bytes.resize((54 + row * height) as usize, 0x40);
    bytes
}

impl World {
    fn compared(&self, order: CompareOrder) -> Vec<(String, skellin_engine::Difference)> {
        let number = order.number;
        self.ask(Request::Compare(Box::new(order)));
        let (mut all, root) = (Vec::new(), self.path(""));
        self.hear(|report| match report {
            Report::Differs { number: of, rows, end } if of == number => {
                all.extend(rows.into_iter().map(|row| {
                    let path = String::from_utf8_lossy(&row.path).into_owned();
                    let path = Path::new(&path).strip_prefix(&root).expect("below").to_owned();
                    (path.display().to_string(), row.difference)
                }));
                end.map(|end| end.expect("compares"))
            }
            _ => None,
        });
        all
    }

    fn contrasted(&self, order: CompareOrder) -> Result<Box<Contrasted>, Trouble> {
        let number = order.number;
        self.ask(Request::Contrast(Box::new(order)));
        self.hear(|report| match report {
            Report::Contrasted { number: of, end } if of == number => Some(end),
            _ => None,
        })
    }
}

#[test]
fn snapshots_are_compared_with_others_and_with_what_is_there_now() {
    use skellin_engine::{Difference, contrast::Contrast};
    let world = World::new(true);
    let ids = world.snapshots();
    let order = |number, now, path: Option<&str>| CompareOrder {
        number,
        store: "oak".to_owned(),
        plan: "readings".to_owned(),
        before: ids[0],
        now,
        path: path.map(|path| world.bytes(path)),
    };
    let told = |all: &[(&str, Difference)]| -> Vec<(String, Difference)> {
        all.iter().map(|(path, difference)| ((*path).to_owned(), *difference)).collect()
    };
    assert_eq!(
        world.compared(order(1, Opposite::Snapshot(ids[1]), None)),
        told(&[
            ("ridge/2026", Difference::New),
            ("ridge/noise.bin", Difference::New),
            // Written anew with what it had.
            ("ridge/notes.md", Difference::Metadata),
        ])
    );
    // By now: another machine's night has written the notes once more.
    assert_eq!(
        world.compared(order(2, Opposite::Now, Some("ridge"))),
        told(&[("ridge/2026", Difference::New), ("ridge/notes.md", Difference::Changed)])
    );
    let notes = world.contrasted(order(3, Opposite::Now, Some("ridge/notes.md")));
    let Contrast::Text { counts, .. } = notes.expect("contrasts").contrast else { panic!("text") };
    assert_eq!(counts, (1, 1));
    // What is not there on a side is empty on it.
    let noise = world.contrasted(order(4, Opposite::Snapshot(ids[1]), Some("ridge/noise.bin")));
    assert_eq!(noise.expect("contrasts").sizes, (None, Some(2)));
    // Pictures are read as a whole, however long.
    let size = |picture: &skellin_engine::picture::Picture| (picture.format, picture.size);
    fs::write(world.path("ridge/notes.md"), bitmap(800, 700)).expect("writes");
    let noted = world.contrasted(order(6, Opposite::Now, Some("ridge/notes.md")));
    let noted = noted.expect("contrasts");
    assert_eq!(noted.pictures.1.as_ref().map(size), Some(("BMP", (800, 700))));
    assert!(noted.is_cut && noted.pictures.0.is_none());
    // A pipe in its place would keep a reader waiting for ever.
    fs::remove_file(world.path("ridge/notes.md")).expect("removes");
    rustix::fs::mknodat(
        rustix::fs::CWD,
        world.path("ridge/notes.md"),
        rustix::fs::FileType::Fifo,
        0o600.into(),
        0,
    )
    .expect("makes a pipe");
    let refused = world.contrasted(order(5, Opposite::Now, Some("ridge/notes.md")));
    assert!(refused.expect_err("no file").what.contains("is not a file"));
}

#[test]
fn a_tray_of_several_moments_is_restored_together() {
    let world = World::new(true);
    let ids = world.snapshots();
    let item = |snapshot: RunId, path: &str| OrderItem {
        store: "oak".to_owned(),
        snapshot,
        path: world.bytes(path),
    };
    let order = |job, dry_run| {
        Request::Restore(Box::new(RestoreOrder {
            job,
            items: vec![
                item(ids[0], "ridge/notes.md"),
                item(ids[2], "ridge/notes.md"),
                item(ids[1], "ridge/noise.bin"),
            ],
            destination: Destination::InPlace,
            dated: false,
            existing: Existing::Leave,
            removes_extra: false,
            dry_run,
            cancel: Cancel::new(),
        }))
    };
    for (job, dry_run) in [(1, true), (2, false)] {
        world.ask(order(job, dry_run));
        let mut totals = Vec::new();
        let end = world.hear(|report| match report {
            Report::Ended { job: of, end: JobEnd::Restore(end) } if of == job => Some(end),
            Report::Event { event: skellin_engine::Event::Progress(progress), .. } => {
                totals.push((progress.total_files, progress.total_bytes));
                None
            }
            _ => None,
        });
        let restored = end.expect("restores");
        assert_eq!((restored.report.restored, restored.report.exception_count), (3, 0));
        let names: Vec<_> = restored
            .items
            .iter()
            .map(|item| item.target.file_name().expect("a name").to_string_lossy().into_owned())
            .collect();
        // Two versions of one path cannot both have its name.
        assert!(names[0].starts_with("notes.20") && names[1].starts_with("notes.20"), "{names:?}");
        assert!(names[0] != names[1] && names[2] == "noise.bin", "{names:?}");
        assert!(
            restored
                .items
                .iter()
                .all(|item| item.there.is_none() && item.target.exists() != dry_run)
        );
        assert!(totals.iter().all(|total| *total == (Some(3), Some(21))), "{totals:?}");
        let read = |at: usize| fs::read(&restored.items[at].target).expect("reads");
        if !dry_run {
            assert_eq!((read(0), read(1)), (b"one tern\n".to_vec(), b"two terns\n".to_vec()));
        }
    }
}
