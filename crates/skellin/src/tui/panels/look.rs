//! A look into a file of a snapshot.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    layout::Rect,
    text::{Line, Span, Text},
    widgets::Clear,
};
use skellin_store::RunId;

use super::answer::Answer;
use crate::{
    tui::{
        model::Model,
        worker::{Looked, Trouble},
    },
    words::{self, fit},
};

/// A look into a file.
pub(in crate::tui) struct Look {
    pub path: Vec<u8>,
    pub snapshot: RunId,
    time: i64,
    looked: Option<Result<Looked, Trouble>>,
    offset: usize,
}

impl Look {
    pub fn new(path: Vec<u8>, snapshot: RunId, time: i64) -> Self {
        Self { path, snapshot, time, looked: None, offset: 0 }
    }

    pub fn take(&mut self, path: &[u8], snapshot: RunId, looked: Result<Looked, Trouble>) {
        if self.path == path && self.snapshot == snapshot {
            self.looked = Some(looked);
        }
    }

    fn length(&self) -> usize {
        match &self.looked {
            Some(Ok(Looked::Text { lines, .. })) => lines.len(),
            _ => 0,
        }
    }

    /// Whether what a key is about is still being read.
    pub fn has_to_wait(&self, code: KeyCode, app: &Model) -> bool {
        match code {
            KeyCode::Down | KeyCode::PageDown | KeyCode::End | KeyCode::Char(' ') => {
                self.looked.is_none()
            }
            KeyCode::Char('v' | 'V') => app.is_studying(),
            _ => false,
        }
    }

    pub fn key(&mut self, key: KeyEvent) -> Answer {
        let last = self.length().saturating_sub(1);
        let page = 20;
        self.offset = match key.code {
            KeyCode::Up => self.offset.saturating_sub(1),
            KeyCode::Down => self.offset + 1,
            KeyCode::PageUp => self.offset.saturating_sub(page),
            KeyCode::PageDown | KeyCode::Char(' ') => self.offset + page,
            KeyCode::Home => 0,
            KeyCode::End => last,
            KeyCode::Char('v') => return Answer::Version { later: false },
            KeyCode::Char('V') => return Answer::Version { later: true },
            _ => return Answer::Dismiss,
        }
        .min(last);
        Answer::Stay
    }

    pub fn draw(&self, frame: &mut Frame<'_>, app: &Model, area: Rect) {
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

fn span(first: usize, room: usize, many: usize) -> String {
    format!("{}–{}", first + 1, many.min(first + room))
}
