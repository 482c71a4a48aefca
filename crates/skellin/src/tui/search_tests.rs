//! Searching: what is asked of the worker, what is shown of it, and where it leads.

use ratatui::crossterm::event::{Event, KeyCode};
use skellin_store::Kind;

use crate::tui::{
    app::App,
    draw_world::*,
    model::Cursor,
    worker::{FoundPath, Report, Request, SearchEnd, Sought, Trouble},
};

fn asked(requests: &crossbeam_channel::Receiver<Request>) -> Sought {
    let last = requests.try_iter().filter_map(|request| match request {
        Request::Search(sought) => Some(*sought),
        _ => None,
    });
    last.last().expect("a search")
}

fn found(path: &str, last: i64, gone: Option<i64>) -> FoundPath {
    let slashes = path.match_indices('/').map(|(at, _)| at).filter(|at| *at > 3);
    FoundPath {
        lane: "ringing".to_owned(),
        path: path.as_bytes().to_vec(),
        above: slashes.map(|at| path.as_bytes()[..at].to_vec()).collect(),
        kind: Kind::File,
        size: 1_200,
        versions: 20,
        last: id(2, last),
        gone,
    }
}

fn tell(app: &mut App, number: u64, found: Vec<FoundPath>, snapshots: usize) {
    let end = Some(Ok(SearchEnd { snapshots, has_more: false, lost: 0 }));
    app.report(Report::Found { number, found, end });
}

#[test]
fn what_is_typed_is_searched_and_what_is_found_is_gone_to() {
    let (mut app, requests) = app();
    listed(&mut app);
    press(&mut app, KeyCode::Char('/'));
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(text.contains("Part of a name") && text.contains("Tab lists"), "{text}");
    type_text(&mut app, "reg");
    let sought = asked(&requests);
    assert_eq!((sought.text.as_str(), sought.only_gone), ("reg", false));
    assert!(sought.lanes.len() > 1, "all plans");
    assert!(sought.lanes.iter().all(|lane| !lane.snapshots.is_empty()));
    // What an older search found is of no use any more.
    tell(&mut app, sought.number - 1, vec![found("/srv/old", 0, None)], 3);
    let long = format!("/srv/{}/a-register.csv", "deep/".repeat(40).trim_end_matches('/'));
    let all = vec![
        found(&long, 2, None),
        found("/srv/ringing/register.csv", 1, Some(NOW - 5 * DAY)),
        found("/srv/ringing/odd\u{1b}[31m-reg", 0, None),
    ];
    tell(&mut app, sought.number, all, 40);
    insta::assert_snapshot!("search", both(&mut app));
    press(&mut app, KeyCode::Enter);
    let time = app.model.current_lane().expect("a lane").marks[1].time;
    assert_eq!(app.model.current_lane().expect("a lane").name, "ringing");
    assert_eq!(app.model.cursor, Cursor::Was(time));
    assert_eq!(app.model.tree.selected.as_deref(), Some(&b"/srv/ringing/register.csv"[..]));
    let directories: Vec<_> = requests
        .try_iter()
        .filter_map(|request| match request {
            Request::Directory { path, .. } => Some(path),
            _ => None,
        })
        .collect();
    assert!(directories.contains(&Some(b"/srv/ringing".to_vec())), "{directories:?}");
}

#[test]
fn tab_turns_to_what_was_deleted_and_back() {
    let (mut app, requests) = app();
    listed(&mut app);
    press(&mut app, KeyCode::Char('/'));
    press(&mut app, KeyCode::Tab);
    let sought = asked(&requests);
    assert!(sought.only_gone && sought.text.is_empty() && sought.lanes.len() > 1);
    let gone = |path: &str, days: i64| found(path, 1, Some(NOW - days * DAY));
    tell(&mut app, sought.number, vec![gone("/srv/a", 9), gone("/srv/b", 2)], 40);
    let text = draw(&mut app, 160, 44).join("\n");
    assert!(text.find("/srv/b") < text.find("/srv/a"), "the latest first: {text}");
    press(&mut app, KeyCode::Tab);
    assert_eq!(asked(&requests).lanes.len(), 0, "without a word nothing is searched");
    app.input(Event::Paste("*.csv".to_owned()));
    let sought = asked(&requests);
    assert_eq!((sought.lanes.len(), sought.text.as_str()), (1, "*.csv"));
    // A pattern that is none says so, and typing on goes on.
    type_text(&mut app, "//");
    let number = asked(&requests).number;
    let trouble = Trouble::of_words("`//` matches nothing; write one `/`".to_owned());
    app.report(Report::Found { number, found: Vec::new(), end: Some(Err(trouble)) });
    let text = draw(&mut app, 80, 24).join("\n");
    assert!(text.contains("matches nothing"), "{text}");
    press(&mut app, KeyCode::Esc);
    assert!(app.panel.is_none());
}
