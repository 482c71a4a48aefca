//! Will: what will have expired, sentences that are tried, how stores fill.

use ratatui::crossterm::event::{Event, KeyCode};
use skellin_engine::{Outcome, Work};
use skellin_plan::FillChange;

use crate::tui::{
    app::App,
    draw_world::*,
    model::Cursor,
    worker::{FillAsked, Report, Request, Trouble},
};

fn in_will() -> (App, crossbeam_channel::Receiver<Request>) {
    let (mut app, requests) = app();
    listed(&mut app);
    press(&mut app, KeyCode::Right);
    for _ in 0..6 {
        press(&mut app, KeyCode::Char('.'));
    }
    (app, requests)
}

/// A store that fills by so much a day, and a little by chance.
fn filling(app: &mut App, free: u64) {
    let change = |day: i64| FillChange {
        time: NOW - day * DAY,
        bytes: 1_000_000 + (day * 7919 % 10) * 100_000,
        is_first: false,
    };
    let asked = FillAsked {
        store: "oak".to_owned(),
        changes: (0..60).map(change).collect(),
        held: 120_000_000,
        free: Some(free),
        now: NOW,
    };
    app.report(Report::Foretold(Box::new(crate::tui::worker::foretold(&asked))));
}

#[test]
fn the_ribbon_shows_what_will_have_expired() {
    let (mut app, _requests) = app();
    listed(&mut app);
    let lane = |app: &mut App| draw(app, 160, 44)[2].clone();
    press(&mut app, KeyCode::Right);
    let soon = lane(&mut app).matches('◌').count();
    press(&mut app, KeyCode::Char('.'));
    press(&mut app, KeyCode::Char('.'));
    let (later, text) = (lane(&mut app), draw(&mut app, 160, 44).join("\n"));
    assert!(soon <= later.matches('◌').count(), "{soon}: {later}");
    // What the ribbon shows is what the words say.
    let stays = later.matches('●').count() + later.matches('▲').count();
    assert!(text.contains(&format!("{stays} of today's 12 snapshots stay")), "{text}");
    press(&mut app, KeyCode::Char('n'));
    assert!(!lane(&mut app).contains('◌'), "that is asked only of days to come");
    press(&mut app, KeyCode::Right);
    press(&mut app, KeyCode::Char('y'));
    let text = draw(&mut app, 160, 44).join("\n");
    assert!(
        text.contains("Why snapshots stay until")
            && text.contains("the newest snapshot never expires"),
        "{text}"
    );
    assert!(text.contains("one a day for 5 days: it is older"), "{text}");
}

#[test]
fn sentences_are_tried_before_they_are_saved() {
    let (mut app, requests) = in_will();
    let lane = |app: &mut App| draw(app, 160, 44)[2].clone();
    let before = lane(&mut app);
    press(&mut app, KeyCode::Char('w'));
    requests.try_iter().for_each(drop);
    insta::assert_snapshot!("retention", both(&mut app));
    // Longer, and the ribbon moves with it.
    for _ in 0..9 {
        press(&mut app, KeyCode::Right);
    }
    let text = draw(&mut app, 160, 44).join("\n");
    assert!(
        text.contains("one a day for 14 days   changed") && text.contains("tried, not saved"),
        "{text}"
    );
    assert_ne!(lane(&mut app), before);
    // What is no sentence is refused with what is one; what is there already as well.
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Enter);
    type_text(&mut app, "one a fortnight for 3 weeks");
    press(&mut app, KeyCode::Enter);
    assert!(draw(&mut app, 160, 44).join("\n").contains("✕ `"), "a reason");
    press(&mut app, KeyCode::Esc);
    press(&mut app, KeyCode::Enter);
    app.input(Event::Paste("one a day for 14 days".to_owned()));
    press(&mut app, KeyCode::Enter);
    assert!(draw(&mut app, 160, 44).join("\n").contains("is there already"));
    press(&mut app, KeyCode::Esc);
    press(&mut app, KeyCode::Enter);
    type_text(&mut app, "at least 3");
    press(&mut app, KeyCode::Enter);
    // One removed, and the day moved meanwhile.
    press(&mut app, KeyCode::Up);
    press(&mut app, KeyCode::Char('x'));
    let Cursor::Will(day) = app.model.cursor else { panic!("a day to come") };
    press(&mut app, KeyCode::Char('.'));
    assert_eq!(app.model.cursor, Cursor::Will(day + DAY));
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(
        text.contains("Retention of readings") && text.contains("at least 3   changed"),
        "{text}"
    );
    press(&mut app, KeyCode::Char('s'));
    let saved = requests.try_iter().find_map(|request| match request {
        Request::Retain { plan, sentences } => Some((plan, sentences)),
        _ => None,
    });
    let wanted = [(Some(0), "one a day for 14 days".to_owned()), (None, "at least 3".to_owned())];
    assert_eq!(saved, Some(("readings".to_owned(), wanted.to_vec())));
    // Not writable: it says so and keeps what was tried.
    let trouble = Trouble::of_words("the plan has changed meanwhile".to_owned());
    app.report(Report::PlanChanged { plan: "readings".to_owned(), texts: Err(trouble) });
    assert!(draw(&mut app, 160, 44).join("\n").contains("✕ the plan has changed meanwhile"));
    press(&mut app, KeyCode::Esc);
    assert!(app.model.lanes[0].tried.is_none() && draw(&mut app, 160, 44)[2] != before);
    press(&mut app, KeyCode::Char(','));
    press(&mut app, KeyCode::Char('w'));
    press(&mut app, KeyCode::Char('x'));
    press(&mut app, KeyCode::Char('x'));
    let text = draw(&mut app, 160, 44).join("\n");
    assert!(text.contains("no sentence: no snapshot expires"), "{text}");
    // Less: what that would cost is named.
    press(&mut app, KeyCode::Esc);
    press(&mut app, KeyCode::Char('w'));
    for _ in 0..3 {
        press(&mut app, KeyCode::Left);
    }
    let text = draw(&mut app, 160, 44).join("\n");
    assert!(text.contains("▲ 1 snapshot that stays now would expire:"), "{text}");
    assert!(text.contains("Mon 09 Nov 2026 21:40"), "{text}");
}

#[test]
fn the_fill_of_stores_is_asked_for_and_shown() {
    let (mut app, requests) = in_will();
    let asked = |requests: &crossbeam_channel::Receiver<Request>| {
        let told = requests.try_iter().filter_map(|request| match request {
            Request::Foretell(asked) => Some(asked),
            _ => None,
        });
        told.collect::<Vec<_>>()
    };
    let first = asked(&requests);
    let [fill] = first.as_slice() else { panic!("once: {first:?}") };
    assert_eq!(
        (fill.store.as_str(), fill.held, fill.free),
        ("oak", 52_000_000, Some(78_000_000_000))
    );
    // The runs of the journal, and the snapshots of others.
    let from_journal = fill.changes.iter().filter(|change| change.bytes == 210_000).count();
    assert_eq!((from_journal, fill.changes.len()), (3, 18));
    filling(&mut app, 900_000_000);
    app.report(Report::Brought {
        plan: "readings".to_owned(),
        newest: id(1, 13),
        bringers: Ok(vec![skellin_engine::history::Bringer {
            path: b"/srv/readings/2026\x1b[2J".to_vec(),
            bytes: 3_400_000,
            is_rest: false,
        }]),
    });
    insta::assert_snapshot!("fill", both(&mut app));
    let text = draw(&mut app, 160, 44).join("\n");
    assert!(
        text.contains("about +10 MiB a week (by 58 days)") && text.contains("(8 of 10 cases)"),
        "{text}"
    );
    assert!(!text.contains("▲ about"), "there is time: {text}");
    // On a small screen they stand in the plan's place.
    press(&mut app, KeyCode::Char('m'));
    let small = draw(&mut app, 80, 24).join("\n");
    assert!(!small.contains("Growth"), "the wide one was turned off: {small}");
    press(&mut app, KeyCode::Char('m'));
    let small = draw(&mut app, 80, 24).join("\n");
    assert!(small.contains("Growth") && !small.contains("Schedule"), "{small}");
    // Nearly full, it is wrong.
    filling(&mut app, 30_000_000);
    assert!(draw(&mut app, 80, 24).join("\n").contains("▲ about"));
    // Only what has changed is asked for again.
    press(&mut app, KeyCode::Char('.'));
    assert_eq!(asked(&requests).len(), 0);
    let entry = entry(9, Work::Reclaim, None, NOW - 5000, Outcome::Done);
    app.report(Report::Journal(Ok(vec![(entry, Vec::new())])));
    let again = asked(&requests);
    assert_eq!(again.len(), 1);
    let freed = again[0].changes.iter().filter(|change| change.bytes < 0).count();
    assert_eq!(freed, 1, "what a reclaim has freed");
}

#[test]
fn a_snapshot_is_pinned_where_it_is_seen() {
    let (mut app, requests) = in_was();
    requests.try_iter().for_each(drop);
    press(&mut app, KeyCode::Char('k'));
    let (store, run) = match requests.try_iter().last() {
        Some(Request::Pin { store, run, is_pinned: true }) => (store, run),
        _ => panic!("it is to be pinned"),
    };
    let report =
        |is_pinned, trouble| Report::Pinned { store: store.clone(), run, is_pinned, trouble };
    app.report(report(true, None));
    assert!(draw(&mut app, 160, 44).join("\n").contains("─ pinned"));
    press(&mut app, KeyCode::Char('k'));
    assert!(matches!(requests.try_iter().last(), Some(Request::Pin { is_pinned: false, .. })));
    app.report(report(false, Some(trouble("could not reach /mnt/oak"))));
    let text = draw(&mut app, 160, 44).join("\n");
    assert!(text.contains("could not reach /mnt/oak"), "{text}");
    press(&mut app, KeyCode::Esc);
    assert!(draw(&mut app, 160, 44).join("\n").contains("─ pinned"), "it still is");
}
