//! Every screen and state as text, at both sizes.

#[path = "ahead_tests.rs"]
mod ahead;
#[path = "health_tests.rs"]
mod health;
#[path = "panels_tests.rs"]
mod panels;
#[path = "search_tests.rs"]
mod search;
#[path = "will_tests.rs"]
mod will;

use std::time::Duration;

use ratatui::crossterm::event::{
    KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
};
use skellin_engine::{
    Amounts, ByteCounts, Cause, Change, Cost, Estimate, Event, Exception, FileCounts, Outcome,
    Outlook, Progress, RunReport, RunStatus, Work,
};
use skellin_store::Kind;

use crate::tui::{
    app::{App, Step},
    model::Cursor,
    rows::Batch,
    worker::{Facts, Group, JobEnd, Report, Request, Trouble},
};

use crate::tui::draw_world::*;

#[test]
fn was() {
    let (mut app, _requests) = in_was();
    insta::assert_snapshot!("was", both(&mut app));
    // The path stays selected where it is missing, and its last version is what is brought back.
    press(&mut app, KeyCode::Left);
    let rows: Batch =
        [row("/srv/readings", Kind::Directory, 1, Change::Same)].into_iter().collect();
    app.report(Report::Rows { ticket: app.model.ticket, path: None, batch: rows, complete: true });
    app.report(Report::Rows {
        ticket: app.model.ticket,
        path: Some(b"/srv/readings".to_vec()),
        batch: Batch::default(),
        complete: true,
    });
    assert!(
        draw(&mut app, 80, 24)
            .join("\n")
            .contains("/srv/readings/notes.md is not in this snapshot")
    );
    press(&mut app, KeyCode::Char('b'));
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(
        text.contains("Restore /srv/readings/notes.md") && text.contains("Tue 10 Nov 2026 21:40"),
        "{text}"
    );
}

#[test]
fn along_the_ribbon_by_keys_and_mouse() {
    let (mut app, requests) = app();
    listed(&mut app);
    let newest = EVENING;
    press(&mut app, KeyCode::Left);
    assert_eq!(app.model.cursor, Cursor::Was(newest));
    press(&mut app, KeyCode::Left);
    assert_eq!(app.model.cursor, Cursor::Was(newest - DAY));
    press(&mut app, KeyCode::Char('.'));
    assert_eq!(app.model.cursor, Cursor::Was(newest), "one day forward");
    app.key(KeyEvent::new(KeyCode::Left, KeyModifiers::SHIFT));
    press(&mut app, KeyCode::Tab);
    assert_eq!(
        (app.model.lane, app.model.cursor),
        (1, Cursor::Was(newest - DAY)),
        "another plan, the same moment"
    );
    assert_eq!(app.model.current_mark().map(|(number, _)| number), Some(1));
    press(&mut app, KeyCode::BackTab);
    press(&mut app, KeyCode::Home);
    assert_eq!(app.model.cursor, Cursor::Was(newest - 13 * DAY));
    press(&mut app, KeyCode::Char('n'));
    assert_eq!(app.model.cursor, Cursor::Is);
    press(&mut app, KeyCode::Right);
    let Cursor::Will(tonight) = app.model.cursor else { panic!("there is a run to come") };
    assert_eq!(tonight, newest + DAY);
    press(&mut app, KeyCode::Left);
    assert_eq!(app.model.cursor, Cursor::Is);
    // A typed moment, and a click on a mark.
    press(&mut app, KeyCode::Char('g'));
    type_text(&mut app, "3 days ago");
    press(&mut app, KeyCode::Enter);
    assert_eq!(app.model.cursor, Cursor::Was(newest - 3 * DAY));
    let screen = draw(&mut app, 160, 44);
    let column = screen[2].chars().position(|c| c == '▲').expect("snapshot with exceptions");
    let click = |app: &mut App, kind, column: usize, row| {
        app.mouse(MouseEvent { kind, column: column as u16, row, modifiers: KeyModifiers::NONE })
    };
    click(&mut app, MouseEventKind::Down(MouseButton::Left), column, 2);
    let (_, mark) = app.model.current_mark().expect("snapshot");
    assert_eq!(mark.facts.map(|facts| facts.exceptions), Some(2));
    click(&mut app, MouseEventKind::ScrollDown, column, 2);
    assert_eq!(
        app.model.current_mark().map(|(number, _)| number),
        Some(7),
        "the wheel goes along the ribbon"
    );
    // A failed run is a stop of its own, and says what it was.
    let failed = screen[2].chars().position(|c| c == '✕').expect("a failed run");
    click(&mut app, MouseEventKind::Down(MouseButton::Left), failed, 2);
    assert!(
        draw(&mut app, 160, 44)
            .join("\n")
            .contains("✕ run failed on Mon 02 Nov 2026 21:40: could not reach /mnt/oak")
    );
    click(&mut app, MouseEventKind::Down(MouseButton::Left), 3, 3);
    assert_eq!(app.model.lane, 1, "a click on its name chooses a plan");
    let asked =
        requests.try_iter().filter(|request| matches!(request, Request::Directory { .. })).count();
    assert!(asked >= 8, "each snapshot's tree is asked for: {asked}");
}

#[test]
fn zooming_merges_marks_into_counts_and_never_loses_any() {
    let names: Vec<String> = (0..20).map(|number| format!("plan-{number:02}")).collect();
    let plans: Vec<(&str, &str)> =
        names.iter().map(|name| (name.as_str(), "daily at 21:40")).collect();
    let (mut app, _requests) = app_of(&plans);
    let marks = |plan: usize| {
        (0..250).map(|number| (id(plan as u8, number), EVENING - (249 - number) * DAY)).collect()
    };
    let groups = names.iter().enumerate().map(|(plan, name)| Group {
        plan: name.clone(),
        machine: "hut".to_owned(),
        marks: marks(plan),
    });
    app.report(Report::Listed { store: "oak".to_owned(), groups: Ok(groups.collect()) });
    insta::assert_snapshot!("many", both(&mut app));
    for _ in 0..12 {
        press(&mut app, KeyCode::Char('-'));
    }
    // At ten years all 250 stand in few cells.
    let lane = draw(&mut app, 160, 44)[2].clone();
    let sum: u64 = lane
        .split(|c: char| !c.is_ascii_digit())
        .skip(2)
        .filter_map(|number| number.parse::<u64>().ok())
        .sum();
    let single = lane.matches('●').count() as u64;
    assert_eq!(sum + single, 250, "{lane}");
    for _ in 0..15 {
        press(&mut app, KeyCode::Tab);
    }
    assert!(draw(&mut app, 80, 24).iter().any(|line| line.starts_with("▌ plan-15")));
}

#[test]
fn is_from_rest_to_the_end_of_a_run() {
    let (mut app, requests) = app();
    listed(&mut app);
    let newest = app.model.lanes[0].marks.last().map(|mark| mark.id);
    let live = requests.try_iter().find_map(|request| match request {
        Request::Live { ticket, newest, path: None, .. } => Some((ticket, newest)),
        _ => None,
    });
    assert_eq!(live, Some((app.model.ticket, newest)), "the sources are listed beside the newest");
    give_sources(&mut app);
    give_census(&mut app);
    press(&mut app, KeyCode::Enter);
    give_sources(&mut app);
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Char('y'));
    let asked = requests.try_iter().find_map(|request| match request {
        Request::Explain { plan, path } => Some((plan, path)),
        _ => None,
    });
    let path = b"/srv/readings/.cache".to_vec();
    assert_eq!(asked, Some(("readings".to_owned(), path.clone())));
    let reasons = vec![
        "/srv/readings/.cache: excluded".to_owned(),
        "  decided by  skip .cache   (readings.toml, line 6)".to_owned(),
    ];
    app.report(Report::Explained { path, reasons: Ok(reasons) });
    insta::assert_snapshot!("why", both(&mut app));
    press(&mut app, KeyCode::Esc);
    // New rule about an included file would exclude it, as wide as is chosen.
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Char('w'));
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Down);
    let effects: Vec<String> = requests
        .try_iter()
        .filter_map(|request| match request {
            Request::Effect { rule, .. } => Some(rule),
            _ => None,
        })
        .collect();
    assert_eq!(effects, ["skip ./notes.md", "skip notes.md", "skip *.md"]);
    let amounts = |files, bytes| Amounts { files, bytes, skipped: 1 };
    for (rule, after) in [("skip *.md", amounts(11, 900)), ("skip notes.md", amounts(1, 1))] {
        let amounts = Ok((amounts(12, 1_850_900), after));
        app.report(Report::Effect { rule: rule.to_owned(), amounts });
    }
    insta::assert_snapshot!("rule", both(&mut app));
    press(&mut app, KeyCode::Char(' '));
    assert!(draw(&mut app, 80, 24).join("\n").contains("take *.md"), "the other way round");
    press(&mut app, KeyCode::Esc);
    insta::assert_snapshot!("is", both(&mut app));
    press(&mut app, KeyCode::Char('r'));
    let job = requests
        .try_iter()
        .find_map(|request| match request {
            Request::Run { job, plan, dry_run: false, .. } if plan == "readings" => Some(job),
            _ => None,
        })
        .expect("a run was asked for");
    let progress = Progress {
        files: 12_345,
        total_files: Some(48_211),
        bytes: 2_100_000_000,
        total_bytes: Some(6_800_000_000),
        read: 180_000_000,
        rate: 90_000_000.0,
        left: Some(Duration::from_secs(52)),
        path: b"/srv/readings/2026/tide-gauge-04.csv".to_vec(),
        exceptions: 1,
    };
    app.report(Report::Event { job, event: Event::Progress(progress) });
    let exception = Exception { path: b"/srv/readings/locked".to_vec(), cause: Cause::denied() };
    app.report(Report::Event { job, event: Event::Exception(exception.clone()) });
    insta::assert_snapshot!("is-running", both(&mut app));
    assert_eq!(press(&mut app, KeyCode::Char('q')), Step::GoOn);
    insta::assert_snapshot!("closing", both(&mut app));
    press(&mut app, KeyCode::Esc);
    press(&mut app, KeyCode::Char('x'));
    assert!(app.under_way()[0].1.is_cancelled());
    let report = RunReport {
        run: None,
        snapshot: None,
        dry_run: true,
        status: RunStatus::Exceptions,
        started: NOW,
        ended: NOW + 800,
        files: FileCounts { new: 1, changed: 1, gone: 1, same: 48_208, skipped: 1 },
        bytes: ByteCounts { read: 8192, new: 0, stored: 0 },
        total_bytes: 6_800_000_000,
        sockets: 0,
        exception_count: 1,
        exceptions: vec![exception],
        shrinkage: None,
        decided: vec![1],
        not_entered: Vec::new(),
        not_left: Vec::new(),
        damage: Vec::new(),
        outlook: Some(outlook()),
    };
    app.report(Report::Ended { job, end: JobEnd::Run(Ok(Box::new(report.clone()))) });
    app.model.now = NOW;
    insta::assert_snapshot!("is-ended", both(&mut app));
    assert!(
        requests.try_iter().any(|request| matches!(request, Request::Open { .. })),
        "its mark is looked for"
    );
    press(&mut app, KeyCode::Char('d'));
    let Some(Request::Run { job, dry_run: true, .. }) = requests.try_iter().last() else {
        panic!("a dry run")
    };
    app.report(Report::Ended { job, end: JobEnd::Run(Ok(Box::new(report))) });
    app.model.now = NOW;
    give_sources(&mut app);
    give_sources(&mut app);
    give_census(&mut app);
    insta::assert_snapshot!("is-rehearsed", both(&mut app));
    press(&mut app, KeyCode::Esc);
    assert!(draw(&mut app, 160, 44).join("\n").contains(".cache"), "all is shown again");
    press(&mut app, KeyCode::Char('r'));
    let Some(Request::Run { job, .. }) = requests.try_iter().last() else { panic!("a run") };
    app.report(Report::Ended {
        job,
        end: JobEnd::Run(Err(trouble("could not reach /mnt/oak: the place is not there"))),
    });
    app.model.now = NOW;
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(
        text.contains("✕ Run failed: could not reach /mnt/oak")
            && text.contains("→ is the drive mounted?"),
        "{text}"
    );
    // Closing while it goes on: it is stopped first, and the end of it closes.
    press(&mut app, KeyCode::Char('r'));
    let Some(Request::Run { job, cancel, .. }) = requests.try_iter().last() else {
        panic!("a run")
    };
    press(&mut app, KeyCode::Char('q'));
    assert_eq!(press(&mut app, KeyCode::Char('s')), Step::GoOn);
    assert!(
        cancel.is_cancelled() && draw(&mut app, 80, 24).join("\n").contains("Stopping; closing")
    );
    assert_eq!(
        app.report(Report::Ended { job, end: JobEnd::Run(Err(trouble("stopped"))) }),
        Step::Close
    );
}

/// The sources of readings as they are, and what is in them.
fn give_sources(app: &mut App) {
    let ticket = app.model.ticket;
    let root = row("/srv/readings", Kind::Directory, 0, Change::Same);
    let rows = [
        row(".cache", Kind::File, 900, Change::Skipped),
        row("2026", Kind::Directory, 0, Change::Same),
        row("evil\u{1b}[2Jname", Kind::File, 5, Change::New),
        row("notes.md", Kind::File, 1_850_000, Change::Changed),
        row("register.csv", Kind::File, 4096, Change::Gone),
    ];
    if !app.model.tree.is_loaded() {
        let batch = [root].into_iter().collect();
        app.report(Report::Rows { ticket, path: None, batch, complete: true });
    } else {
        let (path, batch) = (Some(b"/srv/readings".to_vec()), rows.into_iter().collect());
        app.report(Report::Rows { ticket, path, batch, complete: true });
    }
}

/// What a dry run foretells.
fn outlook() -> Outlook {
    Outlook {
        free: Some(78_000_000_000),
        stored: Estimate { stored: 4_200_000, low: 3_900_000, high: 4_600_000 },
        time: skellin_plan::Expected { seconds: 42.0, range: (35.0, 61.0) },
        runs: 12,
        cost: Some(Cost { currency: "EUR".to_owned(), now: 0.31, after: 0.35 }),
    }
}

#[test]
fn will_and_the_lists() {
    let (mut app, _requests) = app();
    listed(&mut app);
    press(&mut app, KeyCode::Right);
    insta::assert_snapshot!("will", both(&mut app));
    for (key, name) in [('s', "stores"), ('j', "journal"), ('p', "proof")] {
        press(&mut app, KeyCode::Char(key));
        insta::assert_snapshot!(name, both(&mut app));
    }
    press(&mut app, KeyCode::Char('j'));
    for _ in 0..3 {
        press(&mut app, KeyCode::Down);
    }
    assert!(draw(&mut app, 80, 24).join("\n").contains("/srv/readings/locked: permission denied"));
    press(&mut app, KeyCode::Esc);
    assert!(draw(&mut app, 80, 24).join("\n").contains("─ Will ─ readings"));
}

#[test]
fn a_run_that_will_not_fit_its_window_is_hatched_and_said() {
    let (mut app, _requests) = app();
    listed(&mut app);
    let window = "run = \"daily at 21:40\"\nwindow = \"21:40-21:41\"";
    let lane = &mut app.model.lanes[0];
    let text = lane.plan.as_ref().expect("a plan").text.replace("run = \"daily at 21:40\"", window);
    assert!(text.contains("window"), "{text}");
    let stores = [lane.store.clone()];
    let (plan, problems) = skellin_plan::parse_plan(
        "readings",
        "f",
        &text,
        &|_: &str| None,
        stores.iter().map(String::as_str),
    );
    assert!(problems.is_empty(), "{problems:?}");
    lane.plan = plan;
    assert!(!draw(&mut app, 160, 44).join("\n").contains('▨'), "four seconds fit a minute");
    let started = NOW - 3_600_000;
    let mut entry = entry(9, Work::Run, Some("readings"), started, Outcome::Done);
    entry.ended = Some(started + 900_000);
    let lane = &mut app.model.lanes[0];
    lane.take_journal([entry].iter(), NOW);
    for _ in 0..2 {
        press(&mut app, KeyCode::Right);
    }
    let text = draw(&mut app, 160, 44).join("\n");
    assert!(text.contains('▨') && text.contains("will exceed it"), "{text}");
}

#[test]
fn every_trouble_says_what_to_do() {
    let (mut empty, _requests) = app_of(&[]);
    insta::assert_snapshot!("first", both(&mut empty));
    for key in ['s', 'j', 'p'] {
        press(&mut empty, KeyCode::Char(key));
        empty.report(Report::Stores(Vec::new()));
        empty.report(Report::Journal(Ok(Vec::new())));
        assert!(draw(&mut empty, 80, 24).join("\n").contains("→ "), "{key}");
    }
    let (mut app, _requests) = app();
    assert!(draw(&mut app, 80, 24).join("\n").contains("opening the store …"));
    let listing = |groups| Report::Listed { store: "oak".to_owned(), groups };
    app.report(listing(Ok(Vec::new())));
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(text.contains("○ readings has no snapshot yet") && text.contains("r run"), "{text}");
    app.report(listing(Err(trouble("could not reach /mnt/oak: the place is not there"))));
    insta::assert_snapshot!("away", both(&mut app));
    let wrong = Trouble { passphrase: Some(true), ..trouble("the passphrase opens no slot") };
    app.report(listing(Err(wrong)));
    insta::assert_snapshot!("passphrase", both(&mut app));
    press(&mut app, KeyCode::Esc);
    listed(&mut app);
    press(&mut app, KeyCode::Left);
    assert!(draw(&mut app, 80, 24).join("\n").contains("loading …"));
    let ticket = app.model.ticket;
    app.report(Report::NoRows {
        ticket,
        path: None,
        trouble: Trouble { damage: true, ..trouble("trees/12 is damaged") },
    });
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(
        text.contains("✕ trees/12 is damaged")
            && text.contains("→ is the drive mounted?")
            && text.contains("1 of 2 plans safe"),
        "{text}"
    );
    app.model.put_cursor(Cursor::Was(1000));
    assert!(draw(&mut app, 80, 24).join("\n").contains("No snapshot that old"));
}

#[test]
fn damage_that_the_journal_knows_and_a_wrong_clock_are_shown() {
    let (mut app, _requests) = app();
    listed(&mut app);
    let state = |app: &mut App| draw(app, 120, 24)[0].clone();
    assert!(state(&mut app).contains("2 plans safe"), "{}", state(&mut app));
    let verified =
        |number, outcome| (entry(number, Work::Verify, None, NOW - HOUR, outcome), Vec::new());
    app.report(Report::Journal(Ok(vec![verified(9, Outcome::Damage)])));
    let said = state(&mut app);
    assert!(said.contains("0 of 2 plans safe"), "{said}");
    assert!(said.contains("a verification found damage in oak"), "{said}");
    app.report(Report::Journal(Ok(vec![
        verified(10, Outcome::Done),
        verified(9, Outcome::Damage),
    ])));
    assert!(state(&mut app).contains("2 plans safe"), "a good one since: {}", state(&mut app));
    // A snapshot that a clock ahead has dated stands where its run was, and says what it is dated.
    let (newest, time) = (id(1, 99), NOW - HOUR);
    let marks = evenings(1, 14).into_iter().chain([(newest, time)]).collect();
    let group = Group { plan: "readings".to_owned(), machine: "hut".to_owned(), marks };
    app.report(Report::Listed { store: "oak".to_owned(), groups: Ok(vec![group]) });
    let facts = Facts { dated: time + 400 * DAY, ..Facts::default() };
    app.report(Report::Facts { store: "oak".to_owned(), facts: vec![(newest, facts)] });
    app.model.put_cursor(Cursor::Was(time));
    let text = draw(&mut app, 160, 24).join("\n");
    assert!(text.contains("(wrong clock)"), "{text}");
}
