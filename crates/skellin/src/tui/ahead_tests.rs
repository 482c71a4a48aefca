//! Keys typed faster than things come.

use proptest::prelude::*;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use crate::tui::draw_world::*;
use crate::tui::{
    app::{App, Step},
    model::Cursor,
    worker::{Looked, Report, Request, VersionRow},
};

/// In Was with a file selected, where another snapshot's tree and versions are still to come.
fn between_snapshots() -> (App, crossbeam_channel::Receiver<Request>) {
    let (mut app, requests) = in_was();
    requests.try_iter().for_each(drop);
    press(&mut app, KeyCode::Left);
    (app, requests)
}

#[test]
fn a_version_and_a_look_typed_in_one_burst_both_happen() {
    let (mut app, requests) = between_snapshots();
    assert_eq!(app.model.cursor, Cursor::Was(EVENING - DAY));
    type_text(&mut app, "vl");
    assert!(app.panel.is_none(), "the tree is not there yet");
    assert!(draw(&mut app, 80, 24).join("\n").contains("2 keys typed ahead"));
    let look = answer(&mut app, &requests);
    assert_eq!(app.model.cursor, Cursor::Was(EVENING - 5 * DAY));
    assert_eq!(look, Some(id(1, 8)), "the version that `v` led to is looked into");
    assert!(app.panel.is_some() && app.ahead.is_empty());
}

#[test]
fn what_waits_can_be_dropped_and_closing_waits_for_nothing() {
    let (mut app, requests) = between_snapshots();
    type_text(&mut app, "bj");
    press(&mut app, KeyCode::Esc);
    assert_eq!(app.ahead.len(), 0);
    assert_eq!((answer(&mut app, &requests), app.panel.is_none()), (None, true));
    let (mut app, _requests) = between_snapshots();
    press(&mut app, KeyCode::Char('l'));
    let closed = app.key(KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL));
    assert_eq!(closed, Step::Close);
    // Nobody agrees to a restore whose dry run is not on the screen yet.
    let (mut app, requests) = in_was();
    type_text(&mut app, "b");
    requests.try_iter().for_each(drop);
    for _ in 0..3 {
        press(&mut app, KeyCode::Enter);
    }
    let orders = requests.try_iter().filter_map(|request| match request {
        Request::Restore(order) => Some(order.dry_run),
        _ => None,
    });
    assert_eq!(orders.collect::<Vec<_>>(), [true]);
}

/// Answers everything that was asked for, as the worker would; the snapshot that was looked into.
fn answer(
    app: &mut App,
    requests: &crossbeam_channel::Receiver<Request>,
) -> Option<skellin_store::RunId> {
    let mut look = None;
    while let Ok(request) = requests.try_recv() {
        match request {
            Request::Directory { ticket, path, .. } | Request::Live { ticket, path, .. }
                if ticket == app.model.ticket =>
            {
                let rows = match path.as_deref() {
                    None => vec![row("/srv/readings", DIRECTORY, 9, SAME)],
                    Some(b"/srv/readings") => vec![
                        row("2026", DIRECTORY, 900, SAME),
                        row("notes.md", FILE, 18, SAME),
                        row("register.csv", FILE, 40, SAME),
                    ],
                    Some(_) => vec![row("tide.csv", FILE, 1, SAME)],
                };
                let batch = rows.into_iter().collect();
                app.report(Report::Rows { ticket, path, batch, complete: true });
            }
            Request::Versions { path, snapshots, .. } => {
                let version = |number: usize| VersionRow {
                    snapshot: snapshots[number],
                    time: app.model.lanes[0].marks[number].time,
                    last_seen: app.model.lanes[0].marks[number + 1].time,
                    size: number as u64,
                    modified: 0,
                    kind: FILE,
                };
                let versions = Ok(vec![version(0), version(4), version(8)]);
                app.report(Report::Versions { path, versions });
            }
            Request::Look { snapshot, path, .. } => {
                let looked = Ok(Looked::Text { lines: vec!["tern".to_owned()], more: false });
                app.report(Report::Looked { path, snapshot, looked });
                look = Some(snapshot);
            }
            _ => {}
        }
    }
    look
}

const FILE: skellin_store::Kind = skellin_store::Kind::File;
const DIRECTORY: skellin_store::Kind = skellin_store::Kind::Directory;
const SAME: skellin_engine::Change = skellin_engine::Change::Same;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// Whenever what is asked for comes, the end is that of somebody who waits after each key.
    #[test]
    fn typing_ahead_ends_where_typing_slowly_does(
        keys in prop::collection::vec(0_usize..9, 1..14),
        pauses in prop::collection::vec(any::<bool>(), 14),
    ) {
        const KEYS: [KeyCode; 9] = [
            KeyCode::Left, KeyCode::Right, KeyCode::Up, KeyCode::Down, KeyCode::Enter,
            KeyCode::Backspace, KeyCode::Char('v'), KeyCode::Char('V'), KeyCode::Home,
        ];
        let type_them = |waits: &dyn Fn(usize) -> bool| {
            let (mut app, requests) = app();
            listed(&mut app);
            for (number, key) in [KeyCode::Left].into_iter()
                .chain(keys.iter().map(|key| KEYS[*key])).enumerate() {
                press(&mut app, key);
                if waits(number) {
                    answer(&mut app, &requests);
                }
            }
            answer(&mut app, &requests);
            let panel = app.panel.is_some();
            (app.model.cursor, app.model.tree.selected, panel, app.ahead.len())
        };
        let slowly = type_them(&|_| true);
        prop_assert_eq!(slowly.3, 0, "something waits for ever");
        let quickly = type_them(&|number| number.checked_sub(1).is_some_and(|number| pauses[number]));
        prop_assert_eq!(slowly, quickly);
    }
}
