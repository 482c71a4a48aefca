//! What the top line claims, and what it does not.

use ratatui::crossterm::event::{Event, KeyCode};
use skellin_engine::{Outcome, Work, timers::Starter};
use skellin_store::PassphraseSlot;

use crate::tui::draw_world::*;
use crate::tui::{
    app::{App, Step},
    worker::{Group, PassphraseAct, PassphrasesNow, Report, Request},
};

fn top(app: &mut App) -> String {
    draw(app, 160, 44)[0].clone()
}

fn examined(app: &mut App, starter: Starter) {
    app.report(Report::Examined { found: Vec::new(), starter });
}

#[test]
fn safe_is_claimed_only_for_what_is_known() {
    let (mut app, _requests) = app();
    assert!(top(&mut app).contains("checking the plans …"));
    listed(&mut app);
    assert!(
        top(&mut app)
            .contains("✓ 2 plans safe ─ newest snapshots at most 22 h old ─ verified 21 h ago")
    );
    examined(&mut app, Starter::Missing);
    assert!(
        top(&mut app)
            .contains("0 of 2 plans safe ─ ✕ nothing starts readings: skellin timers install")
    );
    let (what, hint) = ("no cron daemon runs".to_owned(), String::new());
    examined(&mut app, Starter::Stopped { what, hint });
    assert!(
        top(&mut app)
            .contains("0 of 2 plans safe ─ ✕ nothing starts readings: no cron daemon runs")
    );
    examined(&mut app, Starter::Runs("cron".to_owned()));
    let papers = vec![(entry(4, Work::Run, Some("readings"), EVENING, Outcome::Done), Vec::new())];
    app.report(Report::Journal(Ok(papers)));
    assert!(top(&mut app).contains("oak never verified"));
    // What is worst comes first, and a plan that only somebody runs is not called safe.
    let text = "sources = [\"/srv/ringing\"]\nstore = \"oak\"\nmachine = \"hut\"\n";
    let (plan, _) = skellin_plan::parse_plan("ringing", "plan", text, &|_: &str| None, ["oak"]);
    app.model.lanes[1].plan = plan;
    assert!(top(&mut app).contains("1 of 2 plans safe ─ ○ ringing has no schedule"));
}

#[test]
fn plans_of_other_machines_are_neither_counted_nor_offered_what_they_cannot() {
    let (mut app, _requests) = app();
    listed(&mut app);
    let marks = vec![(id(7, 0), NOW - 90 * DAY)];
    let others = Group { plan: "gateway".to_owned(), machine: "mast".to_owned(), marks };
    app.report(Report::Listed { store: "oak".to_owned(), groups: Ok(vec![others]) });
    assert!(top(&mut app).contains("✓ 2 plans safe"), "{}", top(&mut app));
    press(&mut app, KeyCode::BackTab);
    let screen = draw(&mut app, 160, 44);
    assert!(screen.join("\n").contains("─ Is ─ gateway @mast"), "{screen:#?}");
    let hints = screen.last().expect("a hint line");
    for offered in ["dry run", "run", "rule", "why", "sort"] {
        assert!(!hints.split("  ").any(|hint| hint.ends_with(offered)), "{offered}: {hints}");
    }
}

#[test]
fn passphrases_are_listed_added_and_revoked_in_the_application() {
    let (mut app, requests) = app();
    listed(&mut app);
    press(&mut app, KeyCode::Char('s'));
    requests.try_iter().for_each(drop);
    press(&mut app, KeyCode::Char('k'));
    let act = || {
        requests.try_iter().find_map(|request| match request {
            Request::Passphrases { store, present, act } => Some((store, present, act)),
            _ => None,
        })
    };
    assert!(matches!(act(), Some((store, None, PassphraseAct::List)) if store == "oak"));
    let slot = |id: &str, label: Option<&str>, is_own| PassphraseSlot {
        id: id.repeat(8),
        label: label.map(str::to_owned),
        created: Some(NOW / 1000),
        cost: skellin_store::PassphraseCost::TRIVIAL,
        is_own,
    };
    let slots = || vec![slot("3f", None, true), slot("9c", Some("in the safe"), false)];
    let end = |app: &mut App, done: Option<&str>| {
        let now =
            PassphrasesNow { done: done.map(str::to_owned), is_replaced: false, slots: slots() };
        app.report(Report::Passphrases { store: "oak".to_owned(), end: Ok(now) });
    };
    // Where the configuration names none it is asked for, and a wrong one is said.
    let locked = |wrong| crate::tui::worker::Trouble { passphrase: Some(wrong), ..trouble("no") };
    app.report(Report::Passphrases { store: "oak".to_owned(), end: Err(locked(false)) });
    type_text(&mut app, "gulls");
    press(&mut app, KeyCode::Enter);
    assert!(matches!(act(), Some((_, Some(present), PassphraseAct::List)) if *present == b"gulls"));
    app.report(Report::Passphrases { store: "oak".to_owned(), end: Err(locked(true)) });
    assert!(draw(&mut app, 80, 24).join("\n").contains("Wrong passphrase for store oak."));
    end(&mut app, None);
    insta::assert_snapshot!("passphrases", both(&mut app));
    press(&mut app, KeyCode::Char('a'));
    type_text(&mut app, "short");
    assert!(
        draw(&mut app, 80, 24).join("\n").contains("too weak: it has fewer than 10 characters")
    );
    type_text(&mut app, " terns over the pier");
    press(&mut app, KeyCode::Enter);
    type_text(&mut app, "short terns over the pier");
    press(&mut app, KeyCode::Enter);
    type_text(&mut app, "Ann");
    assert!(!draw(&mut app, 160, 44).join("\n").contains("terns"), "nothing of it is shown");
    press(&mut app, KeyCode::Enter);
    let Some((_, Some(_), PassphraseAct::Add(new, label))) = act() else { panic!("it is added") };
    assert_eq!(
        (new.as_slice(), label.as_deref()),
        (b"short terns over the pier".as_slice(), Some("Ann"))
    );
    end(&mut app, Some("passphrase added"));
    assert!(draw(&mut app, 80, 24).join("\n").contains("✓ passphrase added"));
    // Nothing is revoked by one key, and nothing at all by what is pasted.
    press(&mut app, KeyCode::Down);
    app.input(Event::Paste("xy".to_owned()));
    press(&mut app, KeyCode::Char('x'));
    app.input(Event::Paste("y".to_owned()));
    assert!(act().is_none());
    press(&mut app, KeyCode::Char('y'));
    assert!(matches!(act(), Some((_, _, PassphraseAct::Revoke(id))) if id == "9c".repeat(8)));
}

#[test]
fn what_is_pasted_is_text_where_text_is_typed_and_nothing_anywhere_else() {
    let (mut app, requests) = in_was();
    requests.try_iter().count();
    let paste = |app: &mut App, text: &str| app.input(Event::Paste(text.to_owned()));
    assert_eq!(paste(&mut app, "q"), Step::GoOn, "no key of a screen");
    press(&mut app, KeyCode::Char('g'));
    paste(&mut app, "10 nov 21:40\nq");
    assert!(draw(&mut app, 80, 24).join("\n").contains("10 nov 21:40▏"));
    press(&mut app, KeyCode::Esc);
    press(&mut app, KeyCode::Char('b'));
    press(&mut app, KeyCode::Left);
    press(&mut app, KeyCode::Tab);
    paste(&mut app, " and/more");
    assert!(draw(&mut app, 80, 24).join("\n").contains("/home/keeper/restored and/more"));
    press(&mut app, KeyCode::Esc);
    assert_eq!(requests.try_iter().filter(|one| matches!(one, Request::Restore(_))).count(), 0);
}
