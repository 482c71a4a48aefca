//! Going to a moment that is typed.

use jiff::Timestamp;
use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    text::{Line, Span},
};
use skellin_plan::When;

use super::{
    panel::{Answer, Hint, Key, Panel, Room, hints, key, meaning},
    popup::popup,
    text_field::TextField,
};
use crate::{
    tui::{drawn::Drawn, model::Model},
    words,
};

/// The moment being typed.
#[derive(Default)]
pub(in crate::tui) struct GoToPanel {
    typed: TextField,
}

#[derive(Clone, Copy)]
enum Act {
    Go,
    Leave,
}

const KEYS: &[Key<Act>] = &[
    key(&[KeyCode::Enter], "Enter", Act::Go, "go"),
    key(&[KeyCode::Esc], "Esc", Act::Leave, "back"),
];

/// The moment a text means, in milliseconds since 1970.
pub(super) fn parse(text: &str, now: i64) -> Option<i64> {
    let now = Timestamp::from_millisecond(now).ok()?;
    match When::parse(text, now, &words::zone()).ok()? {
        When::Newest => Some(now.as_millisecond()),
        When::At(moment) => Some(moment.as_millisecond()),
    }
}

impl Panel for GoToPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(KEYS)
    }

    fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        match meaning(KEYS, key) {
            Some(Act::Leave) => Answer::Dismiss,
            Some(Act::Go) => match parse(&self.typed.text(), app.now) {
                Some(moment) => Answer::Moment(moment),
                None => Answer::Stay,
            },
            None => {
                self.typed.key(key);
                Answer::Stay
            }
        }
    }

    fn paste(&mut self, text: &str) -> Answer {
        self.typed.insert(text);
        Answer::Stay
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        popup(frame, app, " Go to a time ", self.lines(app), room.whole, 96);
    }
}

impl GoToPanel {
    fn lines(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        let text = self.typed.text();
        let meant = parse(&text, app.now);
        let answer = match (text.trim(), meant) {
            ("", _) => Line::styled(
                "for example: 10 nov · 10 nov 21:40 · yesterday · 3 days ago · 2026-11-10",
                theme.quiet(),
            ),
            (_, None) => Line::styled("not a time yet", theme.quiet()),
            (_, Some(moment)) => {
                let lane = app.current_lane();
                let found = lane.and_then(|lane| Some(lane.marks[lane.at(moment)?].time));
                let there = match found {
                    _ if moment > app.now => "in the future".to_owned(),
                    Some(time) => format!("snapshot of {}", words::moment(time)),
                    None => "no snapshot that old".to_owned(),
                };
                Line::styled(format!("{}: {there}", words::moment(moment)), app.tense_style())
            }
        };
        vec![
            Line::from(vec![
                Span::raw("When  "),
                Span::styled(self.typed.shown(true), theme.strong()),
            ]),
            Line::from(""),
            answer,
        ]
    }
}
