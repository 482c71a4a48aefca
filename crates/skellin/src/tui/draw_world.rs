//! A made-up state of the application for the tests of its screens.

use std::{collections::BTreeMap, path::PathBuf};

use crossbeam_channel::{Receiver, unbounded};
use ratatui::{
    Terminal,
    backend::TestBackend,
    crossterm::event::{KeyCode, KeyEvent, KeyModifiers},
};
use skellin_engine::{
    ByteCounts, Cause, Census, Change, Configuration, DriveStates, Exception, FileCounts, Folders,
    JournalEntry, Outcome, PlanFile, Shares, Work, timers::Starter,
};
use skellin_plan::{Stores, Tell, parse_plan, parse_stores};
use skellin_store::{Kind, RunId};

use crate::tui::{
    app::{App, Step},
    picture::Depth,
    rows::{Batch, Row, RowFacts},
    theme::Theme,
    worker::{Facts, Group, Report, Request, StoreRow, Trouble, VersionRow},
};

/// Thu 12 Nov 2026 20:14 UTC.
pub(super) const NOW: i64 = 1_794_514_440_000;
pub(super) const HOUR: i64 = 3_600_000;
pub(super) const DAY: i64 = 24 * HOUR;
/// 21:40 on the evening before.
pub(super) const EVENING: i64 = NOW - 22 * HOUR - 34 * 60_000;

pub(super) fn configuration(plans: &[(&str, &str)]) -> Configuration {
    let nothing = |_: &str| None;
    let plan = |(name, schedule): &(&str, &str)| {
        let text = format!(
            "about = \"Series and notes\"\nsources = [\"/srv/{name}\"]\nstore = \"oak\"\nmachine = \"hut\"\nretain = [\"one a day for 5 days\", \"one a week for 10 weeks\"]\nrules = '''\nskip *.part\n'''\n[schedule]\nrun = \"{schedule}\"\n"
        );
        let (plan, problems) = parse_plan(name, "plan", &text, &nothing, ["oak"]);
        PlanFile {
            name: (*name).to_owned(),
            path: "plan".into(),
            plan,
            problems,
            tell: Tell::default(),
            named: Vec::new(),
        }
    };
    let folder = |name: &str| PathBuf::from("/etc/skellin").join(name);
    let stores = match plans {
        [] => Stores { fine: BTreeMap::new(), ..Stores::default() },
        _ => parse_stores("stores.toml", "[oak]\nplace = \"/mnt/oak\"\n", &nothing),
    };
    let folders = Folders {
        config: "/etc/skellin".into(),
        state: folder("state"),
        cache: folder("cache"),
        look_in: Vec::new(),
        drives: None,
    };
    let plans = plans.iter().map(plan).collect();
    Configuration { stores, plans, ..Configuration::empty(folders) }
}

pub(super) fn app_of(plans: &[(&str, &str)]) -> (App, Receiver<Request>) {
    let (sender, requests) = unbounded();
    let mut app = App::new(&configuration(plans), "hut".to_owned(), NOW, sender);
    app.model.theme = Theme::plain();
    app.model.depth = Depth::Shades;
    app.model.home = "/home/keeper".to_owned();
    (app, requests)
}

pub(super) fn app() -> (App, Receiver<Request>) {
    app_of(&[("readings", "daily at 21:40"), ("ringing", "every 4 days")])
}

pub(super) fn draw(app: &mut App, columns: u16, rows: u16) -> Vec<String> {
    let mut terminal = Terminal::new(TestBackend::new(columns, rows)).expect("a terminal");
    let mut drawn = crate::tui::drawn::Drawn::default();
    terminal.draw(|frame| drawn = crate::tui::draw::frame(frame, app)).expect("draws");
    app.model.was_drawn(drawn);
    let buffer = terminal.backend().buffer().clone();
    let lines = (0..rows)
        .map(|row| (0..columns).map(|column| buffer[(column, row)].symbol()).collect::<String>());
    lines.map(|line| line.trim_end().to_owned()).collect()
}

/// Both sizes, as text.
pub(super) fn both(app: &mut App) -> String {
    let large = draw(app, 160, 44).join("\n");
    let small = draw(app, 80, 24).join("\n");
    assert!(
        !large.contains('\u{1b}') && !small.contains('\u{1b}'),
        "nothing speaks to the terminal"
    );
    format!("{large}\n{:=<160}\n{small}", "")
}

pub(super) fn id(plan: u8, number: i64) -> RunId {
    let mut id = [plan; 16];
    id[8..].copy_from_slice(&number.to_be_bytes());
    RunId(id)
}

/// Evenings with a snapshot, oldest first; a few are missing.
pub(super) fn evenings(plan: u8, count: i64) -> Vec<(RunId, i64)> {
    (0..count)
        .filter(|number| ![4, 9].contains(number))
        .map(|number| (id(plan, number), EVENING - (count - 1 - number) * DAY))
        .collect()
}

pub(super) fn entry(
    number: i64,
    work: Work,
    plan: Option<&str>,
    started: i64,
    outcome: Outcome,
) -> JournalEntry {
    let failed = matches!(outcome, Outcome::Failed);
    JournalEntry {
        version: "0.1.0".to_owned(),
        unattended: false,
        id: number,
        work,
        plan: plan.map(str::to_owned),
        store: "oak".to_owned(),
        machine: "hut".to_owned(),
        started,
        ended: Some(started + 4200),
        outcome,
        snapshot: matches!(outcome, Outcome::Done | Outcome::Exceptions).then_some(RunId([1; 16])),
        files: FileCounts { new: 3, changed: 12, gone: 1, same: 48_195, skipped: 4 },
        bytes: ByteCounts { read: 9_000_000, new: 400_000, stored: 210_000 },
        exception_count: u64::from(outcome == Outcome::Exceptions),
        words: failed.then(|| "could not reach /mnt/oak: the place is not there".to_owned()),
        hint: failed.then(|| "is the drive mounted?".to_owned()),
    }
}

pub(super) fn listed(app: &mut App) {
    let groups = vec![
        Group { plan: "readings".to_owned(), machine: "hut".to_owned(), marks: evenings(1, 14) },
        Group {
            plan: "ringing".to_owned(),
            machine: "hut".to_owned(),
            marks: vec![
                (id(2, 0), EVENING - 8 * DAY),
                (id(2, 1), EVENING - 4 * DAY),
                (id(2, 2), EVENING),
            ],
        },
    ];
    let ringing = groups[1].marks.clone();
    app.report(Report::Listed { store: "oak".to_owned(), groups: Ok(groups) });
    let facts = |dated, exceptions| Facts {
        dated,
        files: 48_211,
        bytes: 6_800_000_000,
        new_bytes: 222_000_000,
        stored_bytes: 118_000_000,
        exceptions,
    };
    let all = evenings(1, 14)
        .into_iter()
        .enumerate()
        .map(|(number, (id, time))| (id, facts(time, u64::from(number == 6) * 2)));
    app.report(Report::Facts { store: "oak".to_owned(), facts: all.collect() });
    app.report(Report::Facts {
        store: "oak".to_owned(),
        facts: ringing.into_iter().map(|(id, time)| (id, facts(time, 0))).collect(),
    });
    app.report(Report::AllFacts { store: "oak".to_owned() });
    let papers = vec![
        (entry(5, Work::Verify, None, EVENING + HOUR, Outcome::Done), Vec::new()),
        (entry(4, Work::Run, Some("readings"), EVENING, Outcome::Done), Vec::new()),
        (entry(3, Work::Restore, Some("readings"), EVENING - 3 * DAY, Outcome::Done), Vec::new()),
        (
            entry(2, Work::Run, Some("readings"), EVENING - 6 * DAY, Outcome::Exceptions),
            vec![Exception { path: b"/srv/readings/locked".to_vec(), cause: Cause::denied() }],
        ),
        (entry(1, Work::Run, Some("readings"), EVENING - 9 * DAY, Outcome::Failed), Vec::new()),
    ];
    app.report(Report::Journal(Ok(papers)));
    let starter = Starter::Runs("systemd timers".to_owned());
    app.report(Report::Examined { found: Vec::new(), starter });
    app.report(Report::Stores(vec![
        StoreRow {
            name: "oak".to_owned(),
            place: "/mnt/oak".to_owned(),
            state: Ok("ae288691".to_owned()),
            usage: Some((172, 52_000_000)),
            room: Some((78_000_000_000, 270_000_000_000)),
            drives: DriveStates::default(),
        },
        StoreRow {
            name: "pier".to_owned(),
            place: "/mnt/pier".to_owned(),
            state: Err(trouble("could not reach /mnt/pier: the place is not there")),
            usage: None,
            room: None,
            drives: DriveStates::default(),
        },
    ]));
}

pub(super) fn trouble(what: &str) -> Trouble {
    Trouble {
        what: what.to_owned(),
        hint: Some("is the drive mounted?".to_owned()),
        passphrase: None,
        damage: false,
        new_host: false,
    }
}

pub(super) fn row(name: &str, kind: Kind, size: u64, change: Change) -> Row {
    let facts = RowFacts { size, files: 12, modified: NOW / 1000 - 7200, kind, change, rule: None };
    let target = (kind == Kind::Link).then(|| b"../elsewhere".to_vec());
    Row { name: name.as_bytes().to_vec(), facts, target }
}

pub(super) fn press(app: &mut App, code: KeyCode) -> Step {
    app.key(KeyEvent::new(code, KeyModifiers::NONE))
}

pub(super) fn type_text(app: &mut App, text: &str) {
    text.chars().for_each(|c| {
        press(app, KeyCode::Char(c));
    });
}

/// In Was, at the newest snapshot of readings, with a directory open and a file selected.
pub(super) fn in_was() -> (App, Receiver<Request>) {
    let (mut app, requests) = app();
    listed(&mut app);
    press(&mut app, KeyCode::Left);
    give_tree(&mut app);
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Down);
    let version = |number: i64, last: i64, size| VersionRow {
        snapshot: id(1, number),
        time: EVENING - (13 - number) * DAY,
        last_seen: EVENING - (13 - last) * DAY,
        size,
        modified: NOW / 1000,
        kind: Kind::File,
    };
    let versions = vec![
        version(0, 3, 1000),
        version(5, 8, 1800),
        version(10, 12, 1_800_000),
        version(13, 13, 1_850_000),
    ];
    app.report(Report::Versions {
        path: b"/srv/readings/notes.md".to_vec(),
        versions: Ok(versions),
    });
    (app, requests)
}

pub(super) fn give_tree(app: &mut App) {
    let (file, directory) = (Kind::File, Kind::Directory);
    let roots: Batch =
        [row("/srv/readings", directory, 6_800_000_000, Change::Changed)].into_iter().collect();
    app.report(Report::Rows { ticket: app.model.ticket, path: None, batch: roots, complete: true });
    if app.model.tree.length() == 1 {
        press(app, KeyCode::Enter);
    }
    let rows: Batch = [
        row("2026", directory, 900_000, Change::Changed),
        row("evil\u{1b}[2Jname", file, 5, Change::New),
        row("link", Kind::Link, 0, Change::Same),
        row("notes.md", file, 1_850_000, Change::Changed),
        row("register.csv", file, 4096, Change::Gone),
    ]
    .into_iter()
    .collect();
    app.report(Report::Rows {
        ticket: app.model.ticket,
        path: Some(b"/srv/readings".to_vec()),
        batch: rows,
        complete: true,
    });
    while app.model.tree.selected.as_deref() != Some(b"/srv/readings/notes.md")
        && app.model.tree.position() + 1 < app.model.tree.length()
    {
        press(app, KeyCode::Down);
    }
    press(app, KeyCode::Up);
    press(app, KeyCode::Up);
}

/// What has been counted of the sources of readings.
pub(super) fn give_census(app: &mut App) {
    let shares = |counts: [(u64, u64); 5]| {
        let changes = [Change::New, Change::Changed, Change::Gone, Change::Same, Change::Skipped];
        let mut shares = Shares::default();
        for (change, (files, bytes)) in changes.into_iter().zip(counts) {
            shares.count(change, files, bytes);
        }
        shares
    };
    let here = shares([(1, 5), (1, 1_850_000), (1, 4096), (0, 0), (1, 900)]);
    let year =
        shares([(12, 3_000_000), (0, 0), (0, 0), (48_195, 6_700_000_000), (340, 1_200_000_000)]);
    let census = Census::known(&[(b"/srv/readings", here), (b"/srv/readings/2026", year)]);
    app.model.give_census(census);
}
