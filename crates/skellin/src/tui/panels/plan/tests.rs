use std::path::PathBuf;

use skellin_engine::Amounts;

use super::*;
use crate::tui::{
    draw_world,
    worker::{Local, Written},
};

fn press(panel: &mut PlanPanel, code: KeyCode) -> Option<Request> {
    match panel.key(KeyEvent::from(code), &draw_world::app().0.model) {
        Answer::Ask(request) => Some(request),
        _ => None,
    }
}

fn type_text(panel: &mut PlanPanel, text: &str) {
    for c in text.chars() {
        press(panel, KeyCode::Char(c));
    }
}

fn local(name: &str) -> Local {
    Local { name: name.into(), is_directory: true, size: 0 }
}

fn panel(keyless: &[&str]) -> PlanPanel {
    let keyless = keyless.iter().map(|name| (*name).to_owned()).collect();
    let stores = ["elm".to_owned(), "oak".to_owned()];
    PlanPanel::new("/home/keeper", "/etc/skellin", &stores, &keyless, Some("oak")).0
}

#[test]
fn a_path_is_typed_where_browsing_would_be_long() {
    let mut panel = panel(&[]);
    panel.report(Report::Local("/home/keeper".into(), Ok(vec![local("notes")])));
    press(&mut panel, KeyCode::Char('/'));
    type_text(&mut panel, "no");
    panel.report(Report::Local("/home/keeper/".into(), Ok(vec![local("notes")])));
    press(&mut panel, KeyCode::Enter);
    assert!(panel.sources.selected.is_empty() && panel.sources.refused.is_some());
    press(&mut panel, KeyCode::Right);
    let enter = KeyEvent::from(KeyCode::Enter);
    let waits = panel.has_to_wait(enter, &draw_world::app().0.model);
    assert!(waits, "the directory it has come to is still being read");
    panel.report(Report::Local("/home/keeper/notes/".into(), Ok(Vec::new())));
    let shown = press(&mut panel, KeyCode::Enter);
    assert_eq!(panel.sources.selected.first(), Some(&PathBuf::from("/home/keeper/notes")));
    assert!(matches!(shown, Some(Request::Local(folder)) if folder == Path::new("/home/keeper")));
    press(&mut panel, KeyCode::Char('/'));
    press(&mut panel, KeyCode::Esc);
    assert!(panel.sources.typed.is_none(), "Esc leaves the path, not the plan");
}

#[test]
fn rules_are_weighed_before_they_are_chosen() {
    let mut panel = panel(&[]);
    panel.sources.selected.insert("/srv/readings".into());
    press(&mut panel, KeyCode::Tab);
    let Some(Request::Weigh { draft, variants, .. }) = press(&mut panel, KeyCode::Tab) else {
        panic!("the choices are weighed")
    };
    assert_eq!(draft.sources, [PathBuf::from("/srv/readings")]);
    assert_eq!((variants.len(), &variants[0]), (5, &Written::default()));
    let with = |files, bytes| Ok(Amounts { files, bytes, ..Amounts::default() });
    for (number, written) in variants.iter().enumerate() {
        let amounts = with(100 - 10 * (number as u64 % 3), 4000);
        panel.report(Report::Weighed { draft: draft.clone(), written: written.clone(), amounts });
    }
    let shown = |panel: &PlanPanel| {
        let lines = panel.rules.lines(&draw_world::app().0.model, 100);
        lines.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
    };
    assert!(shown(&panel).contains("the trash     10 files, 0 B"), "{}", shown(&panel));
    assert!(!shown(&panel).contains("With these rules"));
    assert!(press(&mut panel, KeyCode::Char(' ')).is_none(), "one alone is known");
    assert!(shown(&panel).contains("With these rules  90 files"), "{}", shown(&panel));
    press(&mut panel, KeyCode::Down);
    let Some(Request::Weigh { variants, cancel, .. }) = press(&mut panel, KeyCode::Char(' '))
    else {
        panic!("both together are not")
    };
    assert_eq!(variants, [panel.rules.written()]);
    for _ in 0..3 {
        press(&mut panel, KeyCode::Down);
    }
    type_text(&mut panel, "skip *.raw ovr 3 MiB");
    press(&mut panel, KeyCode::Enter);
    assert!(shown(&panel).contains("→ "), "a mistake is told: {}", shown(&panel));
    assert!(panel.lacks().is_some(), "what is typed is not lost by going on");
    panel.key(
        KeyEvent::new(KeyCode::Char('u'), ratatui::crossterm::event::KeyModifiers::CONTROL),
        &draw_world::app().0.model,
    );
    type_text(&mut panel, "skip *.raw over 3 MiB");
    assert!(matches!(press(&mut panel, KeyCode::Enter), Some(Request::Weigh { .. })));
    let (from, rules) = panel.rules.written();
    assert_eq!(from, ["builtin:caches"]);
    assert_eq!(rules.last().map(String::as_str), Some("skip *.raw over 3 MiB"));
    press(&mut panel, KeyCode::Enter);
    let Some(Request::Check(checked)) = press(&mut panel, KeyCode::Tab) else {
        panic!("it is looked at")
    };
    assert_eq!((checked.plan.rules_from, checked.plan.rules), (from, rules));
    press(&mut panel, KeyCode::Esc);
    assert!(cancel.is_cancelled(), "nobody waits for the amounts");
}

#[test]
fn the_passphrase_of_a_store_that_has_none_configured_is_asked_for() {
    let mut panel = panel(&["oak"]);
    panel.sources.selected.insert("/srv/readings".into());
    press(&mut panel, KeyCode::Tab);
    press(&mut panel, KeyCode::Enter);
    type_text(&mut panel, "terns");
    assert_eq!(panel.draft().known_key, Some("/etc/skellin/keys/oak.key".into()));
    press(&mut panel, KeyCode::Down);
    press(&mut panel, KeyCode::Char(' '));
    assert_eq!(panel.draft().known_key, None, "it was declined");
    press(&mut panel, KeyCode::Char(' '));
    panel.choose(0);
    assert_eq!(panel.draft().known_key, None, "what was typed for one goes to no other");
    panel.choose(1);
    assert!(panel.store.passphrase.is_empty());
}
