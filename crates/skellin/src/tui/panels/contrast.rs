//! The content of a file at two moments: lines or bytes beside each other.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    style::Style,
    text::{Line, Span, Text},
    widgets::Clear,
};
use skellin_engine::{
    contrast::{ByteRow, Contrast, LinePair, Part, Row, Side},
    picture::Picture,
};
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    popup::trouble_lines,
    sides::Sides,
};
use crate::{
    tui::{
        drawn::Drawn,
        lines::cut,
        model::Model,
        picture,
        worker::{Contrasted, Report, Request, Trouble},
    },
    words,
};

const PAGE: isize = 20;
/// Columns from which both sides stand beside each other unless it is asked otherwise.
const WIDE: usize = 110;
/// Columns of a line's number, with the sign behind it.
const NUMBER: usize = 8;

/// The content of a file at two moments.
pub(in crate::tui) struct ContrastPanel {
    sides: Sides,
    path: Vec<u8>,
    number: u64,
    contrasted: Option<Result<Box<Contrasted>, Trouble>>,
    offset: usize,
    /// Whether both sides stand beside each other, once somebody has said.
    is_beside: Option<bool>,
    /// Whether the bytes of pictures are wanted, not the pictures.
    wants_bytes: bool,
    /// What it was opened from.
    back: Option<Box<dyn Panel>>,
}

#[derive(Clone, Copy)]
enum Act {
    Leave,
    Lines(isize),
    First,
    Last,
    Next { later: bool },
    Other { later: bool },
    Turn,
}

use KeyCode::{Char, Down, End, Esc, Home, Left, PageDown, PageUp, Right, Tab, Up};

const KEYS: &[Key<Act>] = &[
    key(&[Down], "↑↓", Act::Lines(1), "lines"),
    key(&[Up], "", Act::Lines(-1), ""),
    key(&[PageDown, Char(' ')], "", Act::Lines(PAGE), ""),
    key(&[PageUp], "", Act::Lines(-PAGE), ""),
    key(&[Home], "", Act::First, ""),
    key(&[End], "", Act::Last, ""),
    key(&[Char('n')], "n N", Act::Next { later: true }, "differences"),
    key(&[Char('N')], "", Act::Next { later: false }, ""),
    key(&[Left], "← →", Act::Other { later: false }, "other time"),
    key(&[Right], "", Act::Other { later: true }, ""),
    key(&[Tab], "Tab", Act::Turn, "side by side"),
    key(&[Esc], "Esc", Act::Leave, "back"),
];

impl ContrastPanel {
    pub fn open(app: &Model, sides: Sides, path: Vec<u8>, back: Option<Box<dyn Panel>>) -> Opened {
        let number = app.next_job();
        let request = Request::Contrast(sides.order(number, Some(path.clone())));
        let (contrasted, offset, is_beside) = (None, 0, None);
        let wants_bytes = false;
        let panel = Self { sides, path, number, contrasted, offset, is_beside, wants_bytes, back };
        Opened::asking(panel, request)
    }

    fn length(&self) -> usize {
        match &self.contrasted {
            Some(Ok(told)) => match &told.contrast {
                Contrast::Text { rows, .. } => rows.len(),
                Contrast::Bytes { rows, .. } => rows.len(),
                Contrast::Same => 0,
            },
            _ => 0,
        }
    }

    fn differs(&self, number: usize) -> bool {
        let Some(Ok(told)) = &self.contrasted else { return false };
        match &told.contrast {
            Contrast::Text { rows, .. } => {
                matches!(rows.get(number), Some(Row::Shown(pair)) if pair.differs)
            }
            Contrast::Bytes { rows, .. } => {
                matches!(rows.get(number), Some(Row::Shown(row)) if row.before != row.now)
            }
            Contrast::Same => false,
        }
    }

    fn go(&mut self, lines: isize) {
        let last = self.length().saturating_sub(1);
        self.offset = self.offset.saturating_add_signed(lines).min(last);
    }

    /// To the first row of the next stretch that differs.
    fn next(&mut self, later: bool) {
        let begins = |at: &usize| self.differs(*at) && (*at == 0 || !self.differs(*at - 1));
        let found = match later {
            true => (self.offset + 1..self.length()).find(begins),
            false => (0..self.offset).rev().find(begins),
        };
        self.offset = found.unwrap_or(self.offset);
    }

    fn has_pictures(&self) -> bool {
        matches!(&self.contrasted, Some(Ok(told)) if told.pictures != (None, None))
    }

    fn shows_pictures(&self) -> bool {
        self.has_pictures() && !self.wants_bytes
    }

    fn summary(&self) -> String {
        let Some(Ok(told)) = &self.contrasted else { return String::new() };
        let size = |size: Option<u64>| size.map_or("not there".to_owned(), words::bytes);
        let sizes = format!("{} → {}", size(told.sizes.0), size(told.sizes.1));
        let cut = if told.is_cut { "; first MiB compared" } else { "" };
        match &told.contrast {
            Contrast::Same => format!("{sizes}{cut}"),
            Contrast::Text { counts, is_table, .. } => {
                let table = if *is_table { "table, " } else { "" };
                let added = words::counted(counts.0, "line", "lines");
                format!("{table}+{added}, −{}, {sizes}{cut}", words::count(counts.1))
            }
            Contrast::Bytes { count, .. } => {
                let bytes = words::counted(*count, "byte", "bytes");
                let kind = if self.has_pictures() { "pictures" } else { "not text" };
                format!("{kind}: {bytes} differ at the same offsets, {sizes}{cut}")
            }
        }
    }

    fn content(&self, app: &Model, width: usize, height: usize) -> Vec<Line<'static>> {
        let theme = app.theme;
        let told = match &self.contrasted {
            None => return vec![Line::styled("  comparing …", theme.quiet())],
            Some(Err(trouble)) => return trouble_lines(app, trouble),
            Some(Ok(told)) => told,
        };
        let same = |count: u64, what: &str| {
            Line::styled(format!("  ⋯ {} {what} ⋯", words::count(count)), theme.quiet())
        };
        if self.shows_pictures() {
            return pictures(app, told, width, height);
        }
        let is_beside = self.is_beside.unwrap_or(width >= WIDE);
        match &told.contrast {
            Contrast::Same => vec![Line::styled("  ✓ The content is the same", theme.well())],
            Contrast::Text { rows, counts, .. } => {
                let mut lines = Vec::new();
                if *counts == (0, 0) {
                    let text = "  The lines are the same; line ends or what follows differ";
                    lines.push(Line::from(text));
                }
                for row in rows.iter().skip(self.offset).take(height) {
                    match row {
                        Row::Same(count) => lines.push(same(*count, "unchanged lines")),
                        Row::Shown(pair) if is_beside => lines.push(beside(app, pair, width)),
                        Row::Shown(pair) => lines.extend(inline(app, pair)),
                    }
                }
                lines
            }
            Contrast::Bytes { rows, .. } => {
                let shown = rows.iter().skip(self.offset).take(height);
                let line = |row: &Row<ByteRow>| match row {
                    Row::Same(count) => same(*count, "unchanged bytes"),
                    Row::Shown(row) => bytes(app, row),
                };
                shown.map(line).collect()
            }
        }
    }
}

/// Text of a file as it may stand on the screen.
fn shown(text: &str) -> String {
    words::path(text.replace('\t', "    ").as_bytes())
}

/// The parts of a line in so many columns.
fn parts(side: &Side, room: usize, (plain, marked): (Style, Style)) -> Vec<Span<'static>> {
    let mut left = room;
    let mut spans = Vec::new();
    for Part { text, is_changed } in &side.parts {
        let text = shown(text);
        let style = if *is_changed { marked } else { plain };
        let width = text.width();
        if width <= left {
            left -= width;
            spans.push(Span::styled(text, style));
            continue;
        }
        let mut used = 0;
        let fits = text.chars().take_while(|c| {
            used += c.width().unwrap_or(0);
            used < left
        });
        let fits: String = fits.collect();
        left = left.saturating_sub(fits.width() + 1);
        spans.push(Span::styled(format!("{fits}…"), style));
        break;
    }
    spans.push(Span::raw(" ".repeat(left)));
    spans
}

/// A line of both sides beside each other.
fn beside(app: &Model, pair: &LinePair, width: usize) -> Line<'static> {
    let theme = app.theme;
    let room = (width.saturating_sub(3) / 2).saturating_sub(NUMBER);
    let half = |side: Option<&Side>, sign: &str, marked: Style| -> Vec<Span<'static>> {
        let Some(side) = side else { return vec![Span::raw(" ".repeat(room + NUMBER))] };
        let sign = if pair.differs { sign } else { " " };
        let plain = if pair.differs { Style::new() } else { theme.quiet() };
        let style = if pair.differs { marked } else { theme.quiet() };
        let number = Span::styled(format!("{:>5} {sign} ", side.number), style);
        let marked = if pair.differs { marked.patch(theme.strong()) } else { plain };
        let marks = match pair.before.is_some() && pair.now.is_some() {
            true => (plain, marked),
            // A line that only one side has is new, or gone, as a whole.
            false => (style, style),
        };
        [vec![number], parts(side, room, marks)].concat()
    };
    let mut spans = half(pair.before.as_ref(), "−", theme.wrong());
    spans.push(Span::styled(" │ ", theme.quiet()));
    spans.extend(half(pair.now.as_ref(), "+", theme.well()));
    Line::from(spans)
}

/// A line of each side below each other.
fn inline(app: &Model, pair: &LinePair) -> Vec<Line<'static>> {
    let theme = app.theme;
    let one = |side: &Side, sign: &str, style: Style| {
        let number = Span::styled(format!("{:>5} {sign} ", side.number), style);
        let both = pair.before.is_some() && pair.now.is_some();
        let marks = match (pair.differs, both) {
            (false, _) => (theme.quiet(), theme.quiet()),
            (true, true) => (Style::new(), style.patch(theme.strong())),
            (true, false) => (style, style),
        };
        Line::from([vec![number], parts(side, usize::from(u16::MAX), marks)].concat())
    };
    if !pair.differs {
        return pair.now.iter().map(|side| one(side, " ", theme.quiet())).collect();
    }
    let before = pair.before.iter().map(|side| one(side, "−", theme.wrong()));
    before.chain(pair.now.iter().map(|side| one(side, "+", theme.well()))).collect()
}

/// Both sides as pictures, beside each other.
fn pictures(app: &Model, told: &Contrasted, width: usize, height: usize) -> Vec<Line<'static>> {
    let half = width.saturating_sub(6) / 2;
    let side = |(picture, size): (&Option<Picture>, Option<u64>)| match (picture, size) {
        (None, None) => (vec![], "  not there".to_owned()),
        (None, Some(size)) => (vec![], format!("  no picture, {}", words::bytes(size))),
        (Some(picture), size) => {
            let lines = picture::lines(picture, half, height.saturating_sub(2), app.depth);
            (lines, picture::words(picture, size.unwrap_or(0)))
        }
    };
    let (before, what) = side((&told.pictures.0, told.sizes.0));
    let (now, whats) = side((&told.pictures.1, told.sizes.1));
    let quiet = app.theme.quiet();
    let head = |text: &str| Span::styled(words::fit(text, half), quiet);
    let gap = |text: &Span<'_>| Span::raw(" ".repeat((half + 2).saturating_sub(text.width())));
    let heads = (head(&what), head(&whats));
    let mut lines = vec![Line::from(vec![heads.0.clone(), gap(&heads.0), heads.1]), Line::from("")];
    for number in 0..before.len().max(now.len()) {
        let mut line = before.get(number).cloned().unwrap_or_default();
        let used = line.width();
        line = picture::indented(line, 2);
        line.spans.push(Span::raw(" ".repeat((half + 2).saturating_sub(used))));
        line.spans.extend(now.get(number).cloned().unwrap_or_default().spans);
        lines.push(line);
    }
    lines
}

/// Some bytes of both sides.
fn bytes(app: &Model, row: &ByteRow) -> Line<'static> {
    let theme = app.theme;
    let half = |bytes: &[u8], style: Style| {
        let mut spans = Vec::new();
        for number in 0..8 {
            let style =
                if row.differs_at(number) { style.patch(theme.strong()) } else { theme.quiet() };
            let hex = bytes.get(number).map_or("  ".to_owned(), |byte| format!("{byte:02x}"));
            spans.push(Span::styled(format!("{hex} "), style));
        }
        let text = |byte: &u8| if byte.is_ascii_graphic() { char::from(*byte) } else { '·' };
        let text: String = bytes.iter().map(text).collect();
        spans.push(Span::styled(format!(" {text:<8}"), theme.quiet()));
        spans
    };
    let mut spans = vec![Span::styled(format!("  {:>8x}  ", row.offset), theme.quiet())];
    spans.extend(half(&row.before, theme.wrong()));
    spans.push(Span::styled(" │ ", theme.quiet()));
    spans.extend(half(&row.now, theme.well()));
    Line::from(spans)
}

impl Panel for ContrastPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        let mut hints = hints(KEYS);
        if self.has_pictures() {
            let turn = if self.wants_bytes { "pictures" } else { "bytes" };
            for hint in hints.iter_mut().filter(|hint| hint.0 == "Tab") {
                hint.1 = turn;
            }
        }
        if self.shows_pictures() {
            // They are seen whole.
            hints.retain(|hint| !["↑↓", "n N"].contains(&hint.0));
        }
        hints
    }

    fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        match meaning(KEYS, key) {
            Some(Act::Leave) => {
                return match self.back.take() {
                    Some(back) => Answer::Turn(Opened { panel: back, request: None }),
                    None => Answer::Dismiss,
                };
            }
            Some(Act::Lines(lines)) => self.go(lines),
            Some(Act::First) => self.offset = 0,
            Some(Act::Last) => self.offset = self.length().saturating_sub(1),
            Some(Act::Next { later }) => self.next(later),
            Some(Act::Other { later }) => {
                if let Some(sides) = self.sides.moved(app, later) {
                    let (path, back) = (self.path.clone(), self.back.take());
                    return Answer::Turn(Self::open(app, sides, path, back));
                }
            }
            Some(Act::Turn) if self.has_pictures() => self.wants_bytes = !self.wants_bytes,
            Some(Act::Turn) => {
                let wide = app.is_wide;
                self.is_beside = Some(!self.is_beside.unwrap_or(wide));
            }
            None => {}
        }
        Answer::Stay
    }

    fn scroll(&mut self, lines: isize) {
        self.go(lines);
    }

    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::Contrasted { number, end } if number == self.number => {
                self.contrasted = Some(end);
            }
            Report::Contrasted { .. } => {}
            // What it was opened from goes on being filled.
            other => {
                return match &mut self.back {
                    Some(back) => back.report(other),
                    None => Heard::Not(Box::new(other)),
                };
            }
        }
        Heard::Taken(Answer::Stay)
    }

    fn has_to_wait(&self, key: KeyEvent, _app: &Model) -> bool {
        matches!(meaning(KEYS, key), Some(Act::Lines(1..) | Act::Last | Act::Next { .. }))
            && self.contrasted.is_none()
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let theme = app.theme;
        let area = room.body;
        let width = usize::from(area.width);
        frame.render_widget(Clear, area);
        let head = format!("  Compare {}", words::path(&self.path));
        let sides = self.sides.words();
        let gap = width.saturating_sub(head.width() + sides.width() + 2).max(2);
        let mut lines = vec![
            Line::from(""),
            Line::from(vec![
                Span::styled(head, theme.strong()),
                Span::raw(" ".repeat(gap)),
                Span::styled(sides, theme.was()),
            ]),
            Line::styled(format!("  {}", self.summary()), theme.quiet()),
            Line::from(""),
        ];
        let height = usize::from(area.height).saturating_sub(lines.len()).max(1);
        let mut content = self.content(app, width, height);
        content.truncate(height);
        lines.extend(content);
        frame.render_widget(Text::from(cut(lines, width)), area);
    }
}
