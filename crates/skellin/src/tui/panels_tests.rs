//! Panels as text, from opening to end, at both sizes.

use std::{path::PathBuf, time::Duration};

use crossbeam_channel::Receiver;
use ratatui::crossterm::event::KeyCode;
use skellin_engine::{Amounts, Cause, Event, Exception, Outcome, Progress, RestoreReport, Waited};

use crate::tui::{
    model::Cursor,
    worker::{DraftState, ItemEnd, JobEnd, Local, Looked, Report, Request, Restored, Trouble},
};

use crate::tui::draw_world::*;

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
fn a_restore_is_asked_tried_watched_and_concluded() {
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
    assert!(rehearsal.dry_run, "a dry run comes first");
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
        items: vec![ItemEnd {
            target: "/srv/readings".into(),
            is_directory: true,
            ..ItemEnd::default()
        }],
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
    assert!(matches!(requests.try_iter().last(), Some(Request::DryRun { .. })));
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

#[test]
fn whatever_a_file_holds_does_nothing_to_the_terminal() {
    use crate::tui::worker::{Contrasted, DifferRow, SideRow};
    use skellin_engine::{
        Difference,
        contrast::{Content, contrast},
    };
    let evil = "\u{1b}[2J\u{1b}]0;owned\u{7}\u{202e}\u{9b}31m\r\u{8}";
    let (mut app, requests) = in_was();
    let directory = skellin_store::Kind::Directory;
    let opened = crate::tui::panels::ComparePanel::open(&app.model, b"/srv".to_vec(), directory);
    app.open(opened.expect("something to compare with"));
    let asked: Vec<Request> = requests.try_iter().collect();
    let number = asked.iter().find_map(|request| match request {
        Request::Compare(order) => Some(order.number),
        _ => None,
    });
    assert!(number.is_some(), "{}", draw(&mut app, 120, 30).join("\n"));
    let side = SideRow { kind: skellin_store::Kind::File, size: 9, files: None, modified: 0 };
    let path = format!("/srv/readings/{evil}").into_bytes();
    let row = DifferRow {
        path,
        difference: Difference::Changed,
        before: Some(side),
        now: Some(SideRow { size: 70, ..side }),
    };
    let end = Some(Ok(crate::tui::worker::CompareEnd { has_more: false, lost: None }));
    app.report(Report::Differs { number: number.expect("a comparison"), rows: vec![row], end });
    let mut screens = vec![both(&mut app)];
    assert!(screens[0].contains("changed"), "{}", screens[0]);
    for (before, now) in [
        (format!("a {evil} b\nc"), format!("a {evil} x\nc\t{evil}")),
        (format!("1,{evil}\n2,{evil}\n"), format!("1,{evil}\n2,{evil}{evil}\n")),
        (format!("\0{evil}"), format!("\0\0{evil}")),
    ] {
        press(&mut app, KeyCode::Enter);
        let asked = requests.try_iter().find_map(|request| match request {
            Request::Contrast(order) => Some(order.number),
            _ => None,
        });
        let content = |text: &'static str| Content { bytes: text.as_bytes(), is_whole: true };
        let (before, now): (&'static str, &'static str) = (before.leak(), now.leak());
        let told = Contrasted {
            contrast: contrast(content(before), content(now)),
            sizes: (Some(1), Some(2)),
            is_cut: false,
            pictures: (None, None),
        };
        let number = asked.expect("its content");
        app.report(Report::Contrasted { number, end: Ok(Box::new(told)) });
        screens.push(both(&mut app));
        press(&mut app, KeyCode::Tab);
        screens.push(both(&mut app));
        press(&mut app, KeyCode::Esc);
    }
    press(&mut app, KeyCode::Enter);
    let asked = requests.try_iter().find_map(|request| match request {
        Request::Contrast(order) => Some(order.number),
        _ => None,
    });
    let pixels = (0..60u8).map(|number| [4 * number; 3]).collect();
    let picture =
        skellin_engine::picture::Picture { format: "PNG", size: (1000, 600), width: 10, pixels };
    let told = Contrasted {
        contrast: contrast(
            Content { bytes: b"\x89PNG", is_whole: true },
            Content { bytes: b"", is_whole: true },
        ),
        sizes: (Some(1 << 20), None),
        is_cut: false,
        pictures: (Some(picture), None),
    };
    app.report(Report::Contrasted { number: asked.expect("one"), end: Ok(Box::new(told)) });
    let shown = draw(&mut app, 80, 24).join("\n");
    for words in ["PNG 1000 × 600 pixels, 1.0 MiB", "not there", "▓", "bytes"] {
        assert!(shown.contains(words), "{words}: {shown}");
    }
    press(&mut app, KeyCode::Tab);
    let shown = draw(&mut app, 80, 24).join("\n");
    assert!(shown.contains("89 50 4e 47") && shown.contains("pictures"), "{shown}");
    for screen in screens {
        let harmful: Vec<char> =
            screen.chars().filter(|c| c.is_control() && *c != '\n' || *c == '\u{202e}').collect();
        assert!(harmful.is_empty(), "{harmful:?} {screen}");
    }
}
