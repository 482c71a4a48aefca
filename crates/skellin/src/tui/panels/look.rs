//! A look into a file of a snapshot.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    layout::Rect,
    text::{Line, Span, Text},
    widgets::Clear,
};
use skellin_store::RunId;

use super::panel::{Answer, BACK, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning};
use crate::{
    tui::{
        drawn::Drawn,
        model::Model,
        picture,
        worker::{Looked, Report, Request, Trouble},
    },
    words::{self, fit},
};

/// A look into a file.
pub(in crate::tui) struct LookPanel {
    path: Vec<u8>,
    snapshot: RunId,
    time: i64,
    looked: Option<Result<Looked, Trouble>>,
    offset: usize,
}

#[derive(Clone, Copy)]
enum Act {
    Lines(isize),
    First,
    Last,
    Version { later: bool },
}

/// A page, in lines.
const PAGE: isize = 20;

const KEYS: &[Key<Act>] = &[
    key(&[KeyCode::Down], "↑↓", Act::Lines(1), "lines"),
    key(&[KeyCode::Up], "", Act::Lines(-1), ""),
    key(&[KeyCode::PageDown, KeyCode::Char(' ')], "", Act::Lines(PAGE), ""),
    key(&[KeyCode::PageUp], "", Act::Lines(-PAGE), ""),
    key(&[KeyCode::Home], "", Act::First, ""),
    key(&[KeyCode::End], "", Act::Last, ""),
    key(&[KeyCode::Char('v')], "v V", Act::Version { later: false }, "previous, next version"),
    key(&[KeyCode::Char('V')], "", Act::Version { later: true }, ""),
];

impl LookPanel {
    pub fn open(path: Vec<u8>, store: String, snapshot: RunId, time: i64) -> Opened {
        let request = Request::Look { store, snapshot, path: path.clone() };
        Opened::asking(Self { path, snapshot, time, looked: None, offset: 0 }, request)
    }

    fn length(&self) -> usize {
        match &self.looked {
            Some(Ok(Looked::Text { lines, .. })) => lines.len(),
            _ => 0,
        }
    }

    fn go(&mut self, lines: isize) {
        let last = self.length().saturating_sub(1);
        self.offset = self.offset.saturating_add_signed(lines).min(last);
    }

    fn show(&self, frame: &mut Frame<'_>, app: &Model, area: Rect) {
        frame.render_widget(Clear, area);
        let theme = app.theme;
        let width = usize::from(area.width);
        let title = format!("  {}  as of {}", words::path(&self.path), words::moment(self.time));
        let mut lines = vec![Line::styled(fit(&title, width), theme.was().patch(theme.strong()))];
        let room = usize::from(area.height).saturating_sub(2).max(1);
        let foot = match &self.looked {
            None => {
                lines.push(Line::styled("  loading …", theme.quiet()));
                String::new()
            }
            Some(Err(trouble)) => {
                lines.push(Line::styled(format!("  ✕ {}", trouble.what), theme.wrong()));
                lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("  → {hint}"))));
                String::new()
            }
            Some(Ok(Looked::Picture { size, picture })) => {
                let (across, down) = (width.saturating_sub(4), room.saturating_sub(1));
                for line in picture::lines(picture, across, down, app.depth) {
                    lines.push(picture::indented(line, 2));
                }
                picture::words(picture, *size)
            }
            Some(Ok(Looked::Binary { size, start })) => {
                lines.push(Line::from(format!(
                    "  Not a text file, {}. First bytes:",
                    words::bytes(*size)
                )));
                for (number, bytes) in start.chunks(16).take(room.saturating_sub(1)).enumerate() {
                    let hex: Vec<String> = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
                    let text: String = bytes
                        .iter()
                        .map(|byte| if byte.is_ascii_graphic() { char::from(*byte) } else { '·' })
                        .collect();
                    lines.push(Line::from(vec![
                        Span::styled(format!("  {:>6}  ", number * 16), theme.quiet()),
                        Span::raw(format!("{:<47}  {text}", hex.join(" "))),
                    ]));
                }
                String::new()
            }
            Some(Ok(Looked::Text { lines: text, more })) => {
                let first = self.offset.min(text.len().saturating_sub(room));
                for (number, line) in text.iter().enumerate().skip(first).take(room) {
                    lines.push(Line::from(vec![
                        Span::styled(format!("{:>6}  ", number + 1), theme.quiet()),
                        Span::raw(fit(line, width.saturating_sub(8))),
                    ]));
                }
                let rest = if *more { "; first MiB only" } else { "" };
                match text.len() {
                    0 => "  the file is empty".to_owned(),
                    many => format!(
                        "  {} of {}{rest}",
                        span(first, room, many),
                        words::counted(many as u64, "line", "lines")
                    ),
                }
            }
        };
        lines.truncate(room + 1);
        while lines.len() < room + 1 {
            lines.push(Line::from(""));
        }
        lines.push(Line::styled(fit(&foot, width), theme.quiet()));
        frame.render_widget(Text::from(lines), area);
    }
}

impl Panel for LookPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(KEYS).into_iter().chain([BACK]).collect()
    }

    fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        match meaning(KEYS, key) {
            Some(Act::Lines(lines)) => self.go(lines),
            Some(Act::First) => self.offset = 0,
            Some(Act::Last) => self.offset = self.length().saturating_sub(1),
            Some(Act::Version { later }) => {
                return match app.neighbour(&self.path, self.snapshot, later) {
                    Some((snapshot, time, store)) => {
                        Answer::Turn(Self::open(self.path.clone(), store, snapshot, time))
                    }
                    None => Answer::Stay,
                };
            }
            None => return Answer::Dismiss,
        }
        Answer::Stay
    }

    fn scroll(&mut self, lines: isize) {
        self.go(lines);
    }

    fn has_to_wait(&self, key: KeyEvent, app: &Model) -> bool {
        match meaning(KEYS, key) {
            Some(Act::Lines(1..) | Act::Last) => self.looked.is_none(),
            Some(Act::Version { .. }) => app.is_studying(),
            _ => false,
        }
    }

    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::Looked { path, snapshot, looked }
                if path == self.path && snapshot == self.snapshot =>
            {
                self.looked = Some(looked);
                Heard::Taken(Answer::Stay)
            }
            other => Heard::Not(Box::new(other)),
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        self.show(frame, app, room.body);
    }
}

fn span(first: usize, room: usize, many: usize) -> String {
    format!("{}–{}", first + 1, many.min(first + room))
}
