//! Searching all snapshots for a path, by a word, a pattern, or what was deleted lately.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    layout::Rect,
    style::Style,
    text::{Line, Span, Text},
    widgets::Clear,
};
use skellin_store::Kind;
use unicode_width::UnicodeWidthStr as _;

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    popup::trouble_lines,
    text_field::TextField,
};
use crate::{
    tui::{
        drawn::Drawn,
        hits::Target,
        lanes::Lane,
        model::Model,
        worker::{FoundPath, Report, Request, SearchEnd, Sought, SoughtLane, Trouble},
    },
    words,
};

/// Columns of the state beside a path, and of versions and size, where there is room for them.
const STATE: usize = 28;
const AMOUNTS: usize = 26;
/// From so many columns on there is.
const WIDE: usize = 110;
/// Columns of the name of a plan.
const LABEL: usize = 10;

/// Where is looked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Scope {
    All,
    Deleted,
    Plan,
}

/// A search, and what it has found so far.
pub(in crate::tui) struct SearchPanel {
    typed: TextField,
    scope: Scope,
    /// All lanes, and the number of the current one.
    lanes: Vec<SoughtLane>,
    current: usize,
    /// When it was opened, in seconds since 1970.
    now: i64,
    /// The number of the last search that was asked for; 0: none.
    number: u64,
    found: Vec<FoundPath>,
    end: Option<Result<SearchEnd, Trouble>>,
    chosen: usize,
}

#[derive(Clone, Copy)]
enum Act {
    Up,
    Down,
    PageUp,
    PageDown,
    Go,
    Scope,
    Leave,
}

const KEYS: &[Key<Act>] = &[
    key(&[KeyCode::Up], "↑↓", Act::Up, "choose"),
    key(&[KeyCode::Down], "", Act::Down, ""),
    key(&[KeyCode::PageUp], "", Act::PageUp, ""),
    key(&[KeyCode::PageDown], "", Act::PageDown, ""),
    key(&[KeyCode::Enter], "Enter", Act::Go, "go to it"),
    key(&[KeyCode::Tab], "Tab", Act::Scope, "deleted only, this plan"),
    key(&[KeyCode::Esc], "Esc", Act::Leave, "back"),
];

/// A page of what was found.
const PAGE: usize = 10;

impl SearchPanel {
    pub fn open(app: &Model) -> Opened {
        let number = app.now.unsigned_abs();
        let lane = |lane: &Lane| SoughtLane {
            label: lane.label(),
            store: lane.store.clone(),
            snapshots: lane.marks.iter().map(|mark| mark.id).collect(),
        };
        Opened::of(Self {
            typed: TextField::default(),
            scope: Scope::All,
            lanes: app.lanes.iter().map(lane).collect(),
            current: app.lane,
            now: app.now.div_euclid(1000),
            number,
            found: Vec::new(),
            end: None,
            chosen: 0,
        })
    }

    /// Begins anew with what is typed now.
    fn search(&mut self) -> Answer {
        (self.found, self.end, self.chosen) = (Vec::new(), None, 0);
        self.number += 1;
        let text = self.typed.text();
        let is_idle = text.trim().is_empty() && self.scope != Scope::Deleted;
        let lanes = self.lanes.iter().enumerate().filter(|(number, lane)| {
            let is_asked = self.scope != Scope::Plan || *number == self.current;
            is_asked && !lane.snapshots.is_empty()
        });
        let lanes = lanes.map(|(_, lane)| lane.clone());
        let sought = Sought {
            number: self.number,
            // What was asked before ends also if nothing is asked now.
            lanes: if is_idle { Vec::new() } else { lanes.collect() },
            text,
            only_gone: self.scope == Scope::Deleted,
            now: self.now,
        };
        Answer::Ask(Request::Search(Box::new(sought)))
    }

    /// The order in which it is shown: the latest deleted first; else names that begin so, and short paths.
    fn sort(&mut self) {
        let text = self.typed.text().trim().to_lowercase();
        let begins = |found: &FoundPath| {
            let name = found.path.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
            String::from_utf8_lossy(name).to_lowercase().starts_with(&text)
        };
        match self.scope {
            Scope::Deleted => {
                self.found.sort_by(|a, b| b.gone.cmp(&a.gone).then_with(|| a.path.cmp(&b.path)));
            }
            Scope::Plan | Scope::All => self.found.sort_by_cached_key(|one| {
                (!begins(one), one.path.len(), one.path.clone(), one.lane.clone())
            }),
        }
    }

    fn step(&mut self, by: isize) {
        let last = self.found.len().saturating_sub(1);
        self.chosen = self.chosen.saturating_add_signed(by).min(last);
    }

    fn state(&self) -> String {
        let count = words::counted(self.found.len() as u64, "path", "paths");
        match &self.end {
            Some(Ok(end)) if end.snapshots == 0 => String::new(),
            Some(Ok(end)) => {
                let more = if end.has_more { "the first " } else { "" };
                let snapshots = words::counted(end.snapshots as u64, "snapshot", "snapshots");
                let lost = match end.lost {
                    0 => String::new(),
                    lost => format!(" · {lost} unreadable"),
                };
                format!("{more}{count} in {snapshots}{lost}")
            }
            Some(Err(_)) => String::new(),
            None if self.typed.text().is_empty() && self.scope != Scope::Deleted => String::new(),
            None => format!("{count} so far …"),
        }
    }

    fn row(&self, app: &Model, one: &FoundPath, is_chosen: bool, width: usize) -> Line<'static> {
        let theme = app.theme;
        let slash = if one.kind == Kind::Directory { "/" } else { "" };
        let path = format!("{}{slash}", words::path(&one.path));
        let lane = match self.scope {
            Scope::Plan => String::new(),
            _ => format!("{:<LABEL$}  ", words::fit(&one.lane, LABEL)),
        };
        let amounts = if width < WIDE { 0 } else { AMOUNTS };
        let room = width.saturating_sub(STATE + amounts + 6 + lane.width()).max(12);
        let path = cut_front(&path, room);
        let gap = " ".repeat(room.saturating_sub(path.width()));
        let (when, is_gone) = match one.gone {
            Some(gone) => {
                let gone = words::zoned(gone).strftime("%d %b %Y %H:%M");
                (format!("gone since {gone}"), true)
            }
            None => ("in the newest".to_owned(), false),
        };
        let versions = words::counted(one.versions as u64, "version", "versions");
        let beside = match amounts {
            0 => String::new(),
            _ => format!("  {versions:>13} {:>9}", words::bytes(one.size)),
        };
        let style = if is_chosen { theme.cursor() } else { Style::new() };
        let when_style = if is_gone { theme.was() } else { theme.quiet() };
        Line::from(vec![
            Span::styled(format!("  {lane}"), if is_chosen { style } else { theme.quiet() }),
            Span::styled(format!("{path}{gap}"), style),
            Span::raw("  "),
            Span::styled(format!("{when:<STATE$}"), when_style),
            Span::styled(beside, theme.quiet()),
        ])
    }
}

/// The end of a path that fits, with `…` where it was cut.
fn cut_front(path: &str, columns: usize) -> String {
    if path.width() <= columns {
        return path.to_owned();
    }
    let mut rest = path;
    while rest.width() + 1 > columns {
        let mut chars = rest.chars();
        chars.next();
        rest = chars.as_str();
    }
    format!("…{rest}")
}

impl Panel for SearchPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(KEYS)
    }

    fn key(&mut self, key: KeyEvent, _app: &Model) -> Answer {
        match meaning(KEYS, key) {
            Some(Act::Leave) => return Answer::Dismiss,
            Some(Act::Up) => self.step(-1),
            Some(Act::Down) => self.step(1),
            Some(Act::PageUp) => self.step(-(PAGE as isize)),
            Some(Act::PageDown) => self.step(PAGE as isize),
            Some(Act::Scope) => {
                self.scope = match self.scope {
                    Scope::All => Scope::Deleted,
                    Scope::Deleted => Scope::Plan,
                    Scope::Plan => Scope::All,
                };
                return self.search();
            }
            Some(Act::Go) => {
                if let Some(found) = self.found.get(self.chosen) {
                    return Answer::Path(Box::new(found.clone()));
                }
            }
            None => {
                let before = self.typed.text();
                self.typed.key(key);
                if self.typed.text() != before {
                    return self.search();
                }
            }
        }
        Answer::Stay
    }

    fn paste(&mut self, text: &str) -> Answer {
        self.typed.insert(text);
        self.search()
    }

    fn choose(&mut self, entry: usize) {
        self.chosen = entry;
    }

    fn scroll(&mut self, lines: isize) {
        self.step(lines);
    }

    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::Found { number, found, end } if number == self.number => {
                let chosen = self.found.get(self.chosen).map(|one| one.path.clone());
                self.found.extend(found);
                self.sort();
                // What was chosen stays so; the first stays the first.
                if self.chosen > 0 {
                    let again =
                        self.found.iter().position(|one| Some(&one.path) == chosen.as_ref());
                    self.chosen = again.unwrap_or(0);
                }
                self.end = end.or(self.end.take());
                Heard::Taken(Answer::Stay)
            }
            Report::Found { .. } => Heard::Taken(Answer::Stay),
            other => Heard::Not(Box::new(other)),
        }
    }

    fn has_to_wait(&self, key: KeyEvent, _app: &Model) -> bool {
        // Whoever types ahead means what will be found first.
        let is_asked = !self.typed.text().is_empty() || self.scope == Scope::Deleted;
        matches!(meaning(KEYS, key), Some(Act::Go)) && is_asked && self.end.is_none()
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, room: Room) {
        let theme = app.theme;
        let area = room.body;
        let width = usize::from(area.width);
        frame.render_widget(Clear, area);
        let plan = app.current_lane().map_or(String::new(), |lane| lane.label());
        let head = match self.scope {
            Scope::Plan => format!("  Search in all snapshots of {plan}"),
            Scope::Deleted => "  Deleted, latest first".to_owned(),
            Scope::All => "  Search in all snapshots".to_owned(),
        };
        let state = self.state();
        let gap = width.saturating_sub(head.width() + state.width() + 2).max(2);
        let mut lines = vec![
            Line::from(""),
            Line::from(vec![
                Span::styled(head, theme.strong()),
                Span::raw(" ".repeat(gap)),
                Span::styled(state, theme.quiet()),
            ]),
            Line::from(vec![
                Span::styled("  › ", app.tense_style()),
                Span::styled(self.typed.shown(true), theme.strong()),
            ]),
            Line::from(""),
        ];
        let first_row = lines.len();
        let height = usize::from(area.height).saturating_sub(first_row).max(1);
        let first = (self.chosen + 1).saturating_sub(height);
        for (number, one) in self.found.iter().enumerate().skip(first).take(height) {
            lines.push(self.row(app, one, number == self.chosen, width));
            let y = area.y + (lines.len() - 1) as u16;
            drawn.hit(Rect { y, height: 1, ..area }, Target::Entry(number));
        }
        if self.found.is_empty() {
            let is_idle = self.typed.text().is_empty() && self.scope != Scope::Deleted;
            match &self.end {
                Some(Err(trouble)) => lines.extend(trouble_lines(app, trouble)),
                _ if is_idle => lines.extend(
                    [
                        "  Part of a name, in upper or lower case; or a pattern: *.csv · ridge/*.md · /srv/**/tide-*",
                        "  Tab lists what was deleted, latest first.",
                    ]
                    .map(|text| Line::styled(text, theme.quiet())),
                ),
                Some(Ok(_)) => lines.push(Line::styled("  Nothing found", theme.quiet())),
                None => lines.push(Line::styled("  Searching …", theme.quiet())),
            }
        }
        frame.render_widget(Text::from(crate::tui::lines::cut(lines, width)), area);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_paths_lose_their_beginning() {
        assert_eq!(cut_front("/srv/ringing/register.csv", 30), "/srv/ringing/register.csv");
        assert_eq!(cut_front("/srv/ringing/register.csv", 13), "…register.csv");
        assert_eq!(cut_front("/srv/möwe", 5), "…möwe");
    }
}
