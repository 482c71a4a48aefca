//! Screens as buffers, at both sizes.

use std::collections::BTreeMap;

use crossbeam_channel::unbounded;
use ratatui::{
    Terminal,
    backend::TestBackend,
    crossterm::event::{KeyCode, KeyEvent, KeyModifiers},
};
use skellin_engine::{Configuration, Exception, Folders, PlanFile, Progress, RestoreReport};
use skellin_plan::{Stores, parse_plan};
use skellin_store::{Kind, RunId};

use crate::tui::{
    dialog::{Dialog, RestoreDialog, Stage},
    state::App,
    theme::Theme,
    worker::{Report, Request, Row, SnapshotRow, Trouble},
};

const NOW: i64 = 1_794_500_000_000;
const DAY: i64 = 86_400_000;

fn app(plans: &[&str]) -> (App, crossbeam_channel::Receiver<Request>) {
    let plan = |name: &&str| {
        let nothing = |_: &str| None;
        let text = "sources = [\"/srv/ridge\"]\nstore = \"oak\"\n";
        let (plan, problems) = parse_plan(name, "plan", text, &nothing, ["oak"]);
        PlanFile { name: (*name).to_owned(), path: "plan".into(), plan, problems }
    };
    let folder = |name: &str| std::path::PathBuf::from("/etc/skellin").join(name);
    let configuration = Configuration {
        folders: Folders {
            config: "/etc/skellin".into(),
            state: folder("state"),
            cache: folder("cache"),
        },
        stores: Stores { fine: BTreeMap::new(), ..Stores::default() },
        plans: plans.iter().map(plan).collect(),
    };
    let (sender, requests) = unbounded();
    let mut app = App::new(&configuration, sender);
    app.now = NOW;
    app.machine = "hut".to_owned();
    app.theme = Theme::plain();
    (app, requests)
}

fn draw(app: &mut App, columns: u16, rows: u16) -> Vec<String> {
    let mut terminal = Terminal::new(TestBackend::new(columns, rows)).expect("a terminal");
    terminal.draw(|frame| super::frame(frame, app)).expect("draws");
    let buffer = terminal.backend().buffer().clone();
    let lines = (0..rows)
        .map(|row| (0..columns).map(|column| buffer[(column, row)].symbol()).collect::<String>());
    lines.map(|line| line.trim_end().to_owned()).collect()
}

fn snapshots(count: i64) -> Vec<SnapshotRow> {
    let row = |number: i64| SnapshotRow {
        id: RunId([number as u8; 16]),
        started: NOW - (count - number) * DAY,
        files: 48_211,
        bytes: 6_800_000_000,
        new_bytes: 222_000_000,
        exceptions: u64::from(number == 1),
    };
    (0..count).map(row).collect()
}

fn row(path: &str, kind: Kind, size: u64) -> Row {
    let name = path.rsplit('/').next().unwrap_or_default().as_bytes().to_vec();
    Row {
        name,
        path: path.as_bytes().to_vec(),
        kind,
        size,
        files: 12,
        modified: 1_794_400_000,
        target: None,
    }
}

fn press(app: &mut App, code: KeyCode) {
    app.key(KeyEvent::new(code, KeyModifiers::NONE));
}

fn with_tree() -> (App, crossbeam_channel::Receiver<Request>) {
    let (mut app, requests) = app(&["readings", "ringing"]);
    app.report(Report::Plan { plan: "readings".to_owned(), snapshots: Ok(snapshots(6)) });
    app.report(Report::Plan { plan: "ringing".to_owned(), snapshots: Ok(snapshots(3)) });
    let rows = vec![
        row("/srv/ridge", Kind::Directory, 6_800_000_000),
        row("/srv/evil\u{1b}[2Jname", Kind::File, 5),
    ];
    app.report(Report::Directory { snapshot: RunId([5; 16]), path: None, rows: Ok(rows) });
    (app, requests)
}

#[test]
fn the_main_screen_at_both_sizes() {
    for (columns, height) in [(160, 44), (80, 24)] {
        let (mut app, _requests) = with_tree();
        let screen = draw(&mut app, columns, height);
        assert!(
            screen[0].starts_with(
                " Skellin  hut   ✓ 2 plans; the newest snapshot of each is at most 24 h old"
            ),
            "{}",
            screen[0]
        );
        assert!(screen[2].starts_with("▌ readings") && screen[2].ends_with('┃'), "{}", screen[2]);
        assert_eq!(screen[2].matches('●').count(), 5, "{}", screen[2]);
        assert_eq!(screen[2].matches('▲').count(), 1, "exceptions have a shape of their own");
        assert_eq!(screen[3].matches(['●', '▲']).count(), 3, "{}", screen[3]);
        assert!(
            screen[4].starts_with("─ Was ─ readings, ") && screen[4].contains("6 of 6 snapshots"),
            "{}",
            screen[4]
        );
        assert!(screen[5].contains("▸ ridge/") && screen[5].contains("6.3 GiB"), "{}", screen[5]);
        assert!(screen[6].contains("evil\\u{1b}[2Jname"), "{}", screen[6]);
        let hints = screen.last().expect("a line");
        assert!(hints.contains("←→ time") && hints.contains("q close"), "{hints}");
        assert!(screen.iter().all(|line| !line.contains('\u{1b}')));
    }
}

#[test]
fn many_plans_and_snapshots_merge_and_scroll() {
    let names: Vec<String> = (0..20).map(|number| format!("plan-{number:02}")).collect();
    let (mut app, _requests) = app(&names.iter().map(String::as_str).collect::<Vec<_>>());
    for name in &names {
        app.report(Report::Plan { plan: name.clone(), snapshots: Ok(snapshots(250)) });
    }
    let screen = draw(&mut app, 80, 24);
    let lanes: Vec<_> = screen.iter().filter(|line| line.ends_with('┃')).collect();
    assert!((5..=8).contains(&lanes.len()), "{screen:#?}");
    assert!(
        lanes[0].contains(['5', '6', '7', '8', '9', '+', '4', '3']),
        "marks merge into counts: {}",
        lanes[0]
    );
    for _ in 0..15 {
        press(&mut app, KeyCode::Tab);
    }
    let screen = draw(&mut app, 80, 24);
    assert!(screen.iter().any(|line| line.starts_with("▌ plan-15")), "{screen:#?}");
    press(&mut app, KeyCode::BackTab);
    press(&mut app, KeyCode::Char('+'));
    let screen = draw(&mut app, 80, 24);
    assert!(screen.iter().any(|line| line.starts_with("▌ plan-14")));
}

#[test]
fn every_state_says_what_is_and_what_to_do() {
    let (mut empty, _requests) = app(&[]);
    let text = draw(&mut empty, 80, 24).join("\n");
    assert!(
        text.contains("There is no plan yet") && text.contains("/etc/skellin/stores.toml"),
        "{text}"
    );
    let (mut app, _requests) = app(&["readings"]);
    assert!(draw(&mut app, 80, 24).join("\n").contains("opening the store …"));
    app.report(Report::Plan { plan: "readings".to_owned(), snapshots: Ok(Vec::new()) });
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(
        text.contains("○ readings has no snapshot yet") && text.contains("skellin run readings"),
        "{text}"
    );
    let trouble = Trouble {
        what: "the place is away".to_owned(),
        hint: Some("plug it in".to_owned()),
        passphrase: None,
    };
    app.report(Report::Plan { plan: "readings".to_owned(), snapshots: Err(trouble.clone()) });
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(
        text.contains("✗ readings: the place is away") && text.contains("→ plug it in"),
        "{text}"
    );
    app.report(Report::Plan { plan: "readings".to_owned(), snapshots: Ok(snapshots(2)) });
    assert!(draw(&mut app, 80, 24).join("\n").contains("reading …"));
    app.report(Report::Directory { snapshot: RunId([1; 16]), path: None, rows: Err(trouble) });
    assert!(draw(&mut app, 80, 24).join("\n").contains("→ plug it in"));
}

#[test]
fn a_restore_is_asked_rehearsed_watched_and_concluded() {
    let (mut app, requests) = with_tree();
    press(&mut app, KeyCode::Char('b'));
    let text = draw(&mut app, 80, 24).join("\n");
    for expected in ["Bring back /srv/ridge", "Where to", "First it is rehearsed", "Enter rehearse"]
    {
        assert!(text.contains(expected), "{expected}\n{text}");
    }
    press(&mut app, KeyCode::Enter);
    let ordered = requests
        .try_iter()
        .any(|request| matches!(request, Request::Restore(order) if order.dry_run));
    assert!(ordered, "a rehearsal comes first");
    let report = RestoreReport {
        restored: 12,
        bytes: 2048,
        left: 1,
        exceptions: vec![Exception {
            path: b"/srv/ridge/x".to_vec(),
            reason: "its content is damaged".to_owned(),
        }],
        exception_count: 1,
        ..RestoreReport::default()
    };
    app.report(Report::Restored { dry_run: true, report: Ok(report.clone()) });
    let text = draw(&mut app, 80, 24).join("\n");
    for expected in [
        "nothing was written yet",
        "12 paths, 2.0 KiB",
        "1 path in the way",
        "its content is damaged",
    ] {
        assert!(text.contains(expected), "{expected}\n{text}");
    }
    press(&mut app, KeyCode::Enter);
    let progress = Progress {
        bytes: 1024,
        total_bytes: Some(2048),
        rate: 512.0,
        path: b"/srv/ridge/y".to_vec(),
        ..Progress::default()
    };
    app.report(Report::Event(skellin_engine::Event::Progress(progress)));
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(
        text.contains("████████████████████░░░░") && text.contains("1.0 KiB of 2.0 KiB, 512 B/s"),
        "{text}"
    );
    press(&mut app, KeyCode::Esc);
    let Some(Dialog::Restore(RestoreDialog { stage: Stage::Working { cancel, .. }, .. })) =
        &app.dialog
    else {
        panic!("it works")
    };
    assert!(cancel.is_cancelled(), "Esc stops it and waits for its end");
    app.report(Report::Restored {
        dry_run: false,
        report: Ok(RestoreReport { interrupted: true, ..report }),
    });
    assert!(draw(&mut app, 80, 24).join("\n").contains("Stopped. What is there is whole."));
    press(&mut app, KeyCode::Enter);
    assert!(app.dialog.is_none());
}

#[test]
fn the_help_lists_every_key() {
    let (mut app, _requests) = with_tree();
    press(&mut app, KeyCode::Char('?'));
    let text = draw(&mut app, 80, 24).join("\n");
    for binding in crate::tui::keys::BINDINGS {
        assert!(text.contains(binding.says), "{}\n{text}", binding.says);
    }
}
