//! The way to a store's place, step by step while it is gone.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    text::{Line, Span},
};
use skellin_engine::ReachStep;

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    popup::{popup, trouble_lines},
};
use crate::tui::{
    drawn::Drawn,
    model::Model,
    worker::{Report, Request, Trouble},
};

/// A store that is being reached.
pub(in crate::tui) struct ReachPanel {
    store: String,
    /// Which attempt its reports belong to.
    number: u64,
    steps: Vec<ReachStep>,
    end: Option<Result<(), Trouble>>,
}

#[derive(Clone, Copy)]
enum Act {
    Accept,
    Again,
    Leave,
}

const UNDER_WAY: &[Key<Act>] =
    &[key(&[KeyCode::Esc, KeyCode::Char('q')], "Esc", Act::Leave, "back")];
const ENDED: &[Key<Act>] = &[
    key(&[KeyCode::Char('t')], "t", Act::Again, "try again"),
    key(&[KeyCode::Esc, KeyCode::Char('q')], "Esc", Act::Leave, "back"),
];
const NEW_HOST: &[Key<Act>] = &[
    key(&[KeyCode::Char('k')], "k", Act::Accept, "accept this host key"),
    key(&[KeyCode::Char('t')], "", Act::Again, ""),
    key(&[KeyCode::Esc, KeyCode::Char('q')], "Esc", Act::Leave, "back"),
];

impl ReachPanel {
    /// An attempt. `accept`: a host that is not known yet is accepted.
    pub fn open(app: &Model, store: String, accept: bool) -> Opened {
        let number = app.next_job();
        let request = Request::Reach { number, store: store.clone(), accept };
        Opened::asking(Self { store, number, steps: Vec::new(), end: None }, request)
    }

    fn keys(&self) -> &'static [Key<Act>] {
        match &self.end {
            None => UNDER_WAY,
            Some(_) if self.may_accept() => NEW_HOST,
            Some(_) => ENDED,
        }
    }

    /// Whether the host's key is new and may be accepted.
    fn may_accept(&self) -> bool {
        matches!(&self.end, Some(Err(trouble)) if trouble.new_host)
    }

    fn lines(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        let mut lines: Vec<Line<'static>> = self
            .steps
            .iter()
            .map(|step| {
                Line::from(vec![
                    Span::styled("✓ ", theme.well()),
                    Span::styled(format!("{:<13}", step.step), theme.quiet()),
                    Span::raw(step.found.clone()),
                ])
            })
            .collect();
        match &self.end {
            None => lines.push(Line::styled("  testing …", theme.is())),
            Some(Ok(())) => {
                lines.push(Line::from(""));
                lines.push(Line::styled("✓ All checks passed.", theme.well()));
            }
            Some(Err(trouble)) => lines.extend(trouble_lines(app, trouble)),
        }
        lines
    }
}

impl Panel for ReachPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(self.keys())
    }

    fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        match meaning(self.keys(), key) {
            Some(act @ (Act::Accept | Act::Again)) => {
                let accept = matches!(act, Act::Accept);
                Answer::Turn(Self::open(app, self.store.clone(), accept))
            }
            Some(Act::Leave) => Answer::Dismiss,
            None => Answer::Stay,
        }
    }

    fn has_to_wait(&self, key: KeyEvent, _app: &Model) -> bool {
        self.end.is_none() && matches!(meaning(ENDED, key), Some(Act::Again))
    }

    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::ReachStep { number, step } if number == self.number => {
                self.steps.push(step);
                Heard::Taken(Answer::Stay)
            }
            Report::Reached { number, end } if number == self.number => {
                let is_there = end.is_ok();
                self.end = Some(end);
                Heard::Taken(if is_there { Answer::Refresh } else { Answer::Stay })
            }
            other => Heard::Not(Box::new(other)),
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let title = format!(" Connection test of {} ", self.store);
        popup(frame, app, &title, self.lines(app), room.whole, 110);
    }
}
