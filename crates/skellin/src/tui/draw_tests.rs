//! Every screen and state as text, at both sizes.

#[path = "ahead_tests.rs"]
mod ahead;
#[path = "health_tests.rs"]
mod health;

use std::{path::PathBuf, time::Duration};

use crossbeam_channel::Receiver;
use ratatui::crossterm::event::{
    KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
};
use skellin_engine::{
    Amounts, ByteCounts, Cause, Change, Cost, Estimate, Event, Exception, FileCounts, Outcome,
    Outlook, Progress, RestoreReport, RunReport, RunStatus, Waited, Work,
};
use skellin_store::Kind;

use crate::tui::{
    app::{App, Step},
    model::Cursor,
    rows::Batch,
    worker::{DraftState, Facts, Group, JobEnd, Local, Looked, Report, Request, Restored, Trouble},
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
    // New rule about a file that goes along would leave it out, as wide as is chosen.
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
fn the_way_to_a_store_is_gone_step_by_step() {
    let (mut app, requests) = app();
    listed(&mut app);
    press(&mut app, KeyCode::Char('s'));
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Char('t'));
    let asked = |accepting: bool| {
        let found = requests.try_iter().find_map(|request| match request {
            Request::Reach { number, store, accept } => Some((number, store, accept)),
            _ => None,
        });
        let (number, store, accept) = found.expect("the way is tried");
        assert_eq!((store.as_str(), accept), ("pier", accepting));
        number
    };
    let step = |number, step, found: &str| {
        let step = skellin_engine::ReachStep { step, found: found.to_owned() };
        Report::ReachStep { number, step }
    };
    let number = asked(false);
    app.report(step(number, "name", "pier is 192.0.2.7"));
    app.report(step(number, "port", "2222 answers"));
    app.report(step(number + 7, "login", "of another attempt"));
    let new = Trouble {
        new_host: true,
        hint: Some("compare it with the key on the host, then accept it".to_owned()),
        ..trouble("could not reach pier:2222: unknown host key, SHA256:qwertz")
    };
    app.report(Report::Reached { number, end: Err(new) });
    insta::assert_snapshot!("reach", both(&mut app));
    // Only a host that is new can be accepted, and only by the key that says so.
    press(&mut app, KeyCode::Char('t'));
    assert!(
        requests.try_iter().all(|request| matches!(request, Request::Reach { accept: false, .. }))
    );
    press(&mut app, KeyCode::Char('k'));
    assert!(requests.try_iter().next().is_none(), "nothing to accept while it is going on");
    press(&mut app, KeyCode::Esc);
    press(&mut app, KeyCode::Char('t'));
    let number = requests
        .try_iter()
        .find_map(|request| match request {
            Request::Reach { number, .. } => Some(number),
            _ => None,
        })
        .expect("tried again");
    app.report(step(number, "login", "keeper, by the key /etc/skellin/pier_ed25519"));
    app.report(Report::Reached { number, end: Ok(()) });
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(text.contains("All checks passed.") && text.contains("t try again"));
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
fn an_entry_of_the_journal_opens_with_its_steps_and_leads_to_its_snapshot() {
    use crate::tui::worker::Details;
    use skellin_engine::{Delivery, StepRecord};
    let (mut app, requests) = app();
    listed(&mut app);
    press(&mut app, KeyCode::Char('j'));
    for _ in 0..3 {
        press(&mut app, KeyCode::Down);
    }
    press(&mut app, KeyCode::Enter);
    let asked = requests.try_iter().find_map(|request| match request {
        Request::Entry(id) => Some(id),
        _ => None,
    });
    let id = asked.expect("its details are asked for");
    assert!(draw(&mut app, 80, 24).join("\n").contains("loading …"));
    let Some(Ok(papers)) = &app.model.journal else { panic!("a journal") };
    let started = papers[3].0.started;
    let step = |kind: &str, subject: &str, from: i64, to: i64| StepRecord {
        kind: kind.to_owned(),
        subject: subject.to_owned(),
        started: started + from,
        ended: Some(started + to),
        outcome: Outcome::Done,
        words: None,
        code: None,
        output: None,
    };
    let mut leave = step("leave", "systemctl start gauge-db", 3600, 3900);
    leave.outcome = Outcome::Failed;
    leave.words = Some("exit status 1".to_owned());
    leave.output = Some("no such unit\nsee its log\n".to_owned());
    let steps = vec![
        step("reach", "oak", 0, 200),
        step("enter", "systemctl stop gauge-db", 200, 600),
        step("read", "the sources", 600, 3600),
        leave,
        step("store", "oak", 3900, 4200),
    ];
    let path = |name: &str| format!("/srv/readings/{name}").into_bytes();
    let exceptions = vec![
        Exception { path: path("locked"), cause: Cause::denied() },
        Exception { path: path("card"), cause: Cause::missing() },
        Exception { path: path("keys"), cause: Cause::denied() },
    ];
    let delivery = Delivery {
        channel: "duty-mail".to_owned(),
        topic: "exceptions".to_owned(),
        subject: String::new(),
        sent: None,
        given_up: false,
        tries: 2,
        words: Some("mail server mail.ridge.example:587: no answer in time".to_owned()),
    };
    let details = Details { steps, exceptions, deliveries: vec![delivery] };
    app.report(Report::Entry { id: id + 1, details: Ok(Details::default()) });
    assert!(draw(&mut app, 80, 24).join("\n").contains("loading …"), "another's");
    app.report(Report::Entry { id, details: Ok(details) });
    insta::assert_snapshot!("entry", both(&mut app));
    press(&mut app, KeyCode::Enter);
    assert!(app.panel.is_none() && app.model.cursor == Cursor::Was(started));
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
fn help_and_finder() {
    let (mut app, _requests) = app();
    listed(&mut app);
    press(&mut app, KeyCode::Char('?'));
    let text = both(&mut app);
    for binding in crate::tui::keys::BINDINGS {
        assert!(text.contains(binding.says), "{}\n{text}", binding.says);
    }
    insta::assert_snapshot!("help", text);
    press(&mut app, KeyCode::Esc);
    press(&mut app, KeyCode::Char('f'));
    type_text(&mut app, "plan");
    insta::assert_snapshot!("finder", both(&mut app));
    type_text(&mut app, " ringing");
    press(&mut app, KeyCode::Enter);
    assert_eq!(app.model.lane, 1, "words lead to a plan");
    press(&mut app, KeyCode::Char('f'));
    type_text(&mut app, "3 days ago");
    press(&mut app, KeyCode::Enter);
    assert!(matches!(app.model.cursor, Cursor::Was(_)), "and to a moment");
    press(&mut app, KeyCode::Char('f'));
    type_text(&mut app, "journal");
    press(&mut app, KeyCode::Enter);
    assert!(draw(&mut app, 80, 24).join("\n").contains("─ Journal ─"), "and to a deed");
    press(&mut app, KeyCode::Char('g'));
    insta::assert_snapshot!("go-to", both(&mut app));
}

#[test]
fn a_look_into_a_file() {
    let (mut app, requests) = in_was();
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Up);
    let path = b"/srv/readings/notes.md".to_vec();
    while app.model.tree.selected.as_ref() != Some(&path) {
        press(&mut app, KeyCode::Down);
    }
    press(&mut app, KeyCode::Enter);
    let Some(Request::Look { snapshot, .. }) = requests.try_iter().last() else { panic!("a look") };
    let lines = (0..80).map(|line| format!("Day {line}: two terns seen.")).collect();
    app.report(Report::Looked {
        path: path.clone(),
        snapshot,
        looked: Ok(Looked::Text { lines, more: true }),
    });
    press(&mut app, KeyCode::PageDown);
    insta::assert_snapshot!("look", both(&mut app));
    app.report(Report::Looked {
        path,
        snapshot,
        looked: Ok(Looked::Binary { size: 9000, start: (0..80).collect() }),
    });
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(text.contains("Not a text file") && text.contains("40 41 42"), "{text}");
}

#[test]
fn a_restore_is_asked_rehearsed_watched_and_concluded() {
    let (mut app, requests) = in_was();
    press(&mut app, KeyCode::Char('b'));
    let text = draw(&mut app, 80, 24).join("\n");
    for expected in
        ["Restore /srv/readings", "Destination", "A dry run comes first", "Enter dry run"]
    {
        assert!(text.contains(expected), "{expected}\n{text}");
    }
    press(&mut app, KeyCode::Enter);
    let order = |requests: &Receiver<Request>| {
        requests.try_iter().find_map(|request| match request {
            Request::Restore(order) => Some(order),
            _ => None,
        })
    };
    let rehearsal = order(&requests).expect("an order");
    assert!(rehearsal.dry_run, "a rehearsal comes first");
    let report = RestoreReport {
        restored: 12,
        bytes: 2048,
        left: 1,
        exceptions: vec![Exception {
            path: b"/srv/readings/x".to_vec(),
            cause: Cause::other("its content is damaged"),
        }],
        exception_count: 1,
        ..RestoreReport::default()
    };
    let restored = Restored {
        report: report.clone(),
        target: "/srv/readings".into(),
        in_the_way: vec!["/srv/readings/notes.md".into()],
    };
    app.report(Report::Ended {
        job: rehearsal.job,
        end: JobEnd::Restore(Ok(Box::new(restored.clone()))),
    });
    app.model.now = NOW;
    insta::assert_snapshot!("restore", both(&mut app));
    press(&mut app, KeyCode::Enter);
    let real = order(&requests).expect("an order");
    assert!(!real.dry_run);
    let progress = Progress {
        bytes: 1024,
        total_bytes: Some(2048),
        rate: 512.0,
        path: b"/srv/readings/y".to_vec(),
        ..Progress::default()
    };
    app.report(Report::Event { job: real.job, event: Event::Progress(progress) });
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(
        text.contains("████████████████████░░░░") && text.contains("1.0 KiB of 2.0 KiB, 512 B/s"),
        "{text}"
    );
    for is_over in [false, true] {
        let (subject, since) = ("sftp://pier".to_owned(), Duration::from_secs(31));
        let event = Event::Waiting(Waited { subject, why: None, since, is_over });
        app.report(Report::Event { job: real.job, event });
        let text = draw(&mut app, 80, 24).join("\n");
        assert_eq!(text.contains("▲ waiting for sftp://pier, 31 s"), !is_over, "{text}");
    }
    press(&mut app, KeyCode::Esc);
    assert!(real.cancel.is_cancelled(), "Esc stops it and waits for its end");
    let stopped = Restored { report: RestoreReport { interrupted: true, ..report }, ..restored };
    app.report(Report::Ended { job: real.job, end: JobEnd::Restore(Ok(Box::new(stopped))) });
    assert!(draw(&mut app, 80, 24).join("\n").contains("Stopped. Restored files are complete."));
    press(&mut app, KeyCode::Enter);
    assert!(app.panel.is_none());
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

#[test]
fn a_plan_is_made_step_by_step() {
    let (mut app, requests) = app_of(&[]);
    press(&mut app, KeyCode::Char('a'));
    let local = |name: &str, is_directory| Local { name: name.into(), is_directory, size: 900 };
    let home = PathBuf::from("/home/keeper");
    app.report(Report::Local(
        home,
        Ok(vec![local("readings", true), local("ringing", true), local("notes.md", false)]),
    ));
    press(&mut app, KeyCode::Tab);
    assert!(
        draw(&mut app, 80, 24).join("\n").contains("next: select at least one path with Space")
    );
    press(&mut app, KeyCode::Char(' '));
    insta::assert_snapshot!("wizard-1", both(&mut app));
    press(&mut app, KeyCode::Tab);
    for text in ["", "oak", "/mnt/oak", "terns over the pier"] {
        type_text(&mut app, text);
        press(&mut app, KeyCode::Enter);
    }
    type_text(&mut app, "terns over");
    assert!(draw(&mut app, 80, 24).join("\n").contains("next: the two passphrases differ"));
    type_text(&mut app, " the pier");
    insta::assert_snapshot!("wizard-2", both(&mut app));
    press(&mut app, KeyCode::Tab);
    let Some(Request::Weigh { draft, variants, .. }) = requests.try_iter().last() else {
        panic!("the choices are weighed")
    };
    for (number, written) in variants.into_iter().enumerate() {
        let (files, bytes) = (1200 - 400 * (number as u64 % 2), 7 << (30 - number));
        let amounts = Ok(Amounts { files, bytes, ..Amounts::default() });
        app.report(Report::Weighed { draft: draft.clone(), written, amounts });
    }
    press(&mut app, KeyCode::Char(' '));
    insta::assert_snapshot!("wizard-rules", both(&mut app));
    press(&mut app, KeyCode::Char(' '));
    press(&mut app, KeyCode::Tab);
    press(&mut app, KeyCode::Down);
    type_text(&mut app, "Series and notes");
    insta::assert_snapshot!("wizard-3", both(&mut app));
    press(&mut app, KeyCode::Tab);
    let Some(Request::Check(draft)) = requests.try_iter().last() else { panic!("it is looked at") };
    assert_eq!(draft.plan.name, "readings");
    assert_eq!(draft.plan.sources, [PathBuf::from("/home/keeper/readings")]);
    let store = draft.store.clone().expect("a new store");
    let files = vec![
        ("/etc/skellin/stores.toml, appended".to_owned(), store.draft.text().expect("a text")),
        ("/etc/skellin/plans/readings.toml".to_owned(), draft.plan.text().expect("a text")),
    ];
    let mut state = DraftState { files, ..DraftState::default() };
    state.checked.plan = configuration(&[("readings", "daily at 21:40")]).plans.remove(0).plan;
    app.report(Report::Checked(Box::new(state)));
    insta::assert_snapshot!("wizard-4", both(&mut app));
    press(&mut app, KeyCode::Char('d'));
    assert!(matches!(requests.try_iter().last(), Some(Request::Rehearse { .. })));
    press(&mut app, KeyCode::Enter);
    let Some(Request::Save(_, Some(passphrase))) = requests.try_iter().last() else {
        panic!("it is saved")
    };
    assert_eq!(*passphrase, b"terns over the pier");
    app.report(Report::Saved(Err(trouble("could not write /etc/skellin"))));
    assert!(draw(&mut app, 80, 24).join("\n").contains("✕ could not write /etc/skellin"));
    app.report(Report::Saved(Ok(())));
    assert!(app.panel.is_none());
    app.report(Report::Configuration(Ok(Box::new(configuration(&[(
        "readings",
        "daily at 21:40",
    )])))));
    assert!(
        draw(&mut app, 80, 24).join("\n").contains("─ Is ─ readings"),
        "it is shown where it can be run"
    );
}
