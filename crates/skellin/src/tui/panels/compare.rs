//! What differs between a snapshot and another one, or what is there now, as a tree.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    layout::Rect,
    style::Style,
    text::{Line, Span, Text},
    widgets::Clear,
};
use skellin_engine::Difference;
use skellin_store::Kind;
use unicode_width::UnicodeWidthStr;

use super::{
    contrast::ContrastPanel,
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    popup::trouble_lines,
    sides::Sides,
};
use crate::{
    tui::{
        drawn::Drawn,
        hits::Target,
        lines::cut,
        model::Model,
        worker::{CompareEnd, DifferRow, Opposite, Report, Request, SideRow, Trouble},
    },
    words::{self, fit_name},
};

const PAGE: usize = 15;
/// Columns from which times stand beside the sizes.
const WIDE: usize = 100;
/// Columns of the word for what differs.
const WORD: usize = 14;
/// What lies deeper stands no further to the right.
const DEEPEST: usize = 12;
/// Columns of the sizes.
const SIZES: usize = 30;

/// A line of the tree.
enum Row {
    /// A directory that only leads to what differs.
    Way {
        depth: usize,
        name: String,
    },
    Differs {
        depth: usize,
        name: String,
        row: DifferRow,
    },
}

/// What differs.
pub(in crate::tui) struct ComparePanel {
    sides: Sides,
    /// The path it began with, and whether only that is compared.
    path: Vec<u8>,
    is_narrow: bool,
    number: u64,
    rows: Vec<Row>,
    /// The directories above the last row, and how far to the right each stands.
    way: Vec<(Vec<u8>, usize)>,
    /// Paths and bytes that are new, gone, changed, and those of which only metadata differs.
    counts: [(u64, i128); 4],
    chosen: usize,
    end: Option<Result<CompareEnd, Trouble>>,
}

#[derive(Clone, Copy)]
enum Act {
    Leave,
    Up,
    Down,
    PageUp,
    PageDown,
    First,
    Last,
    Other { later: bool },
    Scope,
    Open,
}

use KeyCode::{Down, End, Enter, Esc, Home, Left, PageDown, PageUp, Right, Tab, Up};

const KEYS: &[Key<Act>] = &[
    key(&[Down], "↑↓", Act::Down, "paths"),
    key(&[Up], "", Act::Up, ""),
    key(&[PageDown], "", Act::PageDown, ""),
    key(&[PageUp], "", Act::PageUp, ""),
    key(&[Home], "", Act::First, ""),
    key(&[End], "", Act::Last, ""),
    key(&[Enter], "Enter", Act::Open, "content"),
    key(&[Left], "← →", Act::Other { later: false }, "other time"),
    key(&[Right], "", Act::Other { later: true }, ""),
    key(&[Tab], "Tab", Act::Scope, "this path, all"),
    key(&[Esc], "Esc", Act::Leave, "back"),
];

impl ComparePanel {
    /// Compares a path of a snapshot, a file by its content; none where there is nothing to compare with.
    pub fn open(app: &Model, path: Vec<u8>, kind: Kind) -> Option<Opened> {
        let (number, mark) = app.current_mark()?;
        let lane = app.current_lane()?;
        let is_live = lane.plan.is_some() && lane.machine.is_none();
        let other = lane.marks.get(number + 1).or(number.checked_sub(1).map(|at| &lane.marks[at]));
        let (now, now_time) = match (is_live, lane.marks.last()) {
            (true, _) => (Opposite::Now, None),
            (false, Some(last)) if last.id != mark.id => {
                (Opposite::Snapshot(last.id), Some(last.time))
            }
            _ => other.map(|other| (Opposite::Snapshot(other.id), Some(other.time)))?,
        };
        let sides = Sides {
            store: lane.store.clone(),
            plan: lane.name.clone(),
            before: (mark.id, mark.time),
            now,
            now_time,
        };
        Some(match kind {
            Kind::Directory => {
                let mut panel = Self::new(sides, path);
                let request = panel.ask(app);
                Opened::asking(panel, request)
            }
            _ => ContrastPanel::open(app, sides, path, None),
        })
    }

    fn new(sides: Sides, path: Vec<u8>) -> Self {
        Self {
            sides,
            path,
            is_narrow: true,
            number: 0,
            rows: Vec::new(),
            way: Vec::new(),
            counts: [(0, 0); 4],
            chosen: 0,
            end: None,
        }
    }

    /// Forgets what was found, and has it compared anew.
    fn ask(&mut self, app: &Model) -> Request {
        let path = self.is_narrow.then(|| self.path.clone());
        let fresh = Self::new(self.sides.clone(), std::mem::take(&mut self.path));
        *self = Self { is_narrow: self.is_narrow, number: app.next_job(), ..fresh };
        Request::Compare(self.sides.order(self.number, path))
    }

    fn take(&mut self, row: DifferRow) {
        let at = row.difference as usize;
        let size = |side: Option<SideRow>| side.map_or(0, |side| i128::from(side.size));
        self.counts[at].0 += 1;
        self.counts[at].1 += match row.difference {
            Difference::New => size(row.now),
            Difference::Gone => size(row.before),
            Difference::Changed => size(row.now) - size(row.before),
            Difference::Metadata => 0,
        };
        let mut parts: Vec<Vec<u8>> =
            row.path.split(|byte| *byte == b'/').map(<[u8]>::to_vec).collect();
        if parts.first().is_some_and(Vec::is_empty) {
            parts.remove(0);
            if let Some(first) = parts.first_mut() {
                first.insert(0, b'/');
            }
        }
        let name = parts.pop().unwrap_or_default();
        let same = self.way.iter().zip(&parts).take_while(|((a, _), b)| a == *b).count();
        // A line that stands for several directories stands for all of them or none.
        let is_split =
            same > 0 && self.way.get(same).is_some_and(|(_, depth)| *depth == self.way[same - 1].1);
        let same = match is_split {
            true => {
                let depth = self.way[same].1;
                let others = self.way[..same].iter().rposition(|(_, other)| *other != depth);
                others.map_or(0, |at| at + 1)
            }
            false => same,
        };
        self.way.truncate(same);
        let below =
            |way: &[(Vec<u8>, usize)]| way.last().map_or(0, |(_, depth)| (depth + 1).min(DEEPEST));
        for (depth, part) in parts.iter().enumerate().skip(same) {
            // One directory below another, with nothing else, takes one line.
            match self.rows.last_mut() {
                Some(Row::Way { name, depth: at }) if depth > same => {
                    name.push_str(&format!("{}/", words::path(part)));
                    self.way.push((part.clone(), *at));
                }
                _ => {
                    let name = format!("{}/", words::path(part));
                    let depth = below(&self.way);
                    self.rows.push(Row::Way { depth, name });
                    self.way.push((part.clone(), depth));
                }
            }
        }
        let depth = below(&self.way);
        let is_directory = row.now.or(row.before).is_some_and(|side| side.kind == Kind::Directory);
        let slash = if is_directory { "/" } else { "" };
        // What lies below a directory that differs itself stands below it.
        if is_directory {
            self.way.push((name.clone(), depth));
        }
        let name = format!("{}{slash}", words::path(&name));
        if self.rows.is_empty() {
            self.chosen = 0;
        }
        self.rows.push(Row::Differs { depth, name, row });
    }

    /// Whether a row is one that differs.
    fn is_choice(&self, number: usize) -> bool {
        matches!(self.rows.get(number), Some(Row::Differs { .. }))
    }

    fn step(&mut self, by: isize) {
        let last = self.rows.len().saturating_sub(1);
        let mut at = self.chosen.saturating_add_signed(by).min(last);
        let on = |at: usize| {
            if by < 0 { at.checked_sub(1) } else { Some(at + 1).filter(|at| *at <= last) }
        };
        while !self.is_choice(at) {
            match on(at) {
                Some(next) => at = next,
                None => return self.settle(),
            }
        }
        self.chosen = at;
    }

    /// Puts the choice on a row that can be chosen.
    fn settle(&mut self) {
        if !self.is_choice(self.chosen) {
            let choices = (0..self.rows.len()).filter(|number| self.is_choice(*number));
            self.chosen = choices.min_by_key(|number| number.abs_diff(self.chosen)).unwrap_or(0);
        }
    }

    fn totals(&self, app: &Model) -> Line<'static> {
        let theme = app.theme;
        let [new, gone, changed, metadata] = self.counts;
        let bytes =
            |bytes: i128| words::bytes(u64::try_from(bytes.unsigned_abs()).unwrap_or(u64::MAX));
        let mut spans = vec![Span::raw("  ")];
        let mut part = |count: u64, words: String, style: Style| {
            if count > 0 {
                if spans.len() > 1 {
                    spans.push(Span::styled(" · ", theme.quiet()));
                }
                spans.push(Span::styled(words, style));
            }
        };
        // Of new directories nobody has counted what is in them.
        let amount = |sum: i128| if sum > 0 { format!(", {}", bytes(sum)) } else { String::new() };
        part(new.0, format!("{} new{}", words::count(new.0), amount(new.1)), theme.well());
        part(gone.0, format!("{} gone{}", words::count(gone.0), amount(gone.1)), theme.wrong());
        let sign = if changed.1 < 0 { "−" } else { "+" };
        let changed_words =
            format!("{} changed, {sign}{}", words::count(changed.0), bytes(changed.1));
        part(changed.0, changed_words, theme.is());
        part(metadata.0, format!("{} metadata only", words::count(metadata.0)), theme.quiet());
        match &self.end {
            None => spans.push(Span::styled("  comparing …", theme.quiet())),
            Some(Ok(end)) if end.has_more => {
                spans.push(Span::styled("  and more than can be shown", theme.wrong()));
            }
            _ => {}
        }
        Line::from(spans)
    }

    fn row(&self, app: &Model, number: usize, width: usize) -> Line<'static> {
        let theme = app.theme;
        let (depth, name, row) = match &self.rows[number] {
            Row::Way { depth, name } => {
                let text = format!("    {}{name}", "  ".repeat(*depth));
                return Line::styled(text, theme.quiet());
            }
            Row::Differs { depth, name, row } => (*depth, name, row),
        };
        let (sign, word, style) = match row.difference {
            Difference::New => ("+", "new", theme.well()),
            Difference::Gone => ("−", "gone", theme.wrong()),
            Difference::Changed => ("~", "changed", theme.is()),
            Difference::Metadata => ("≈", "metadata only", theme.quiet()),
        };
        let times = match (width >= WIDE, row.now.or(row.before)) {
            (true, Some(side)) => {
                let time = words::zoned(side.modified.saturating_mul(1000));
                format!("  {}", time.strftime("%d %b %Y %H:%M"))
            }
            _ => String::new(),
        };
        let after = format!("  {word:<WORD$}{:>SIZES$}{times}  ", sizes(row));
        let room = width.saturating_sub(4 + after.width()).max(8);
        let name = fit_name(&format!("{}{name}", "  ".repeat(depth)), room);
        let gap = " ".repeat(room.saturating_sub(name.width()));
        if number == self.chosen {
            return Line::styled(format!("  {sign} {name}{gap}{after}"), theme.cursor());
        }
        Line::from(vec![
            Span::styled(format!("  {sign} "), style),
            Span::raw(format!("{name}{gap}")),
            Span::styled(after, theme.quiet()),
        ])
    }
}

/// The sizes of both sides in words.
fn sizes(row: &DifferRow) -> String {
    let of = |side: &SideRow| match (side.kind, side.files) {
        (Kind::Directory, Some(files)) => {
            format!("{}, {}", words::counted(files, "file", "files"), words::bytes(side.size))
        }
        (Kind::Directory, None) => "directory".to_owned(),
        (Kind::Link, _) => "link".to_owned(),
        (Kind::File, _) => words::bytes(side.size),
        _ => "special file".to_owned(),
    };
    match (&row.before, &row.now) {
        (Some(before), Some(now)) if of(before) != of(now) => {
            format!("{} → {}", of(before), of(now))
        }
        (Some(side), _) | (None, Some(side)) => of(side),
        (None, None) => String::new(),
    }
}

impl Panel for ComparePanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(KEYS)
    }

    fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        match meaning(KEYS, key) {
            Some(Act::Leave) => return Answer::Dismiss,
            Some(Act::Up) => self.step(-1),
            Some(Act::Down) => self.step(1),
            Some(Act::PageUp) => self.step(-(PAGE as isize)),
            Some(Act::PageDown) => self.step(PAGE as isize),
            Some(Act::First) => {
                self.chosen = 0;
                self.settle();
            }
            Some(Act::Last) => {
                self.chosen = self.rows.len().saturating_sub(1);
                self.settle();
            }
            Some(Act::Other { later }) => {
                if let Some(sides) = self.sides.moved(app, later) {
                    self.sides = sides;
                    return Answer::Ask(self.ask(app));
                }
            }
            Some(Act::Scope) => {
                self.is_narrow = !self.is_narrow;
                return Answer::Ask(self.ask(app));
            }
            Some(Act::Open) => {
                let Some(Row::Differs { row, .. }) = self.rows.get(self.chosen) else {
                    return Answer::Stay;
                };
                let is_file = |side: Option<SideRow>| side.is_none_or(|one| one.kind == Kind::File);
                if is_file(row.before) && is_file(row.now) {
                    let path = row.path.clone();
                    let fresh = Self::new(self.sides.clone(), Vec::new());
                    let back = Box::new(std::mem::replace(self, fresh));
                    let sides = back.sides.clone();
                    return Answer::Turn(ContrastPanel::open(app, sides, path, Some(back)));
                }
            }
            None => {}
        }
        Answer::Stay
    }

    fn choose(&mut self, entry: usize) {
        self.chosen = entry;
        self.settle();
    }

    fn scroll(&mut self, lines: isize) {
        self.step(lines);
    }

    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::Differs { number, rows, end } if number == self.number => {
                rows.into_iter().for_each(|row| self.take(row));
                self.settle();
                self.end = end.or(self.end.take());
            }
            Report::Differs { .. } => {}
            other => return Heard::Not(Box::new(other)),
        }
        Heard::Taken(Answer::Stay)
    }

    fn has_to_wait(&self, key: KeyEvent, _app: &Model) -> bool {
        matches!(meaning(KEYS, key), Some(Act::Open | Act::Down | Act::Last)) && self.end.is_none()
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, room: Room) {
        let theme = app.theme;
        let area = room.body;
        let width = usize::from(area.width);
        frame.render_widget(Clear, area);
        let what = match self.is_narrow {
            true => words::path(&self.path),
            false => format!("all of {}", self.sides.plan),
        };
        let head = format!("  Compare {what}");
        let sides = self.sides.words();
        let gap = width.saturating_sub(head.width() + sides.width() + 2).max(2);
        let mut lines = vec![
            Line::from(""),
            Line::from(vec![
                Span::styled(head, theme.strong()),
                Span::raw(" ".repeat(gap)),
                Span::styled(sides, theme.was()),
            ]),
            self.totals(app),
            Line::from(""),
        ];
        if let Some(Ok(CompareEnd { lost: Some((first, count)), .. })) = &self.end {
            let more = if *count > 1 { format!(" and {} more", count - 1) } else { String::new() };
            lines.push(Line::styled(format!("  ▲ not compared: {first}{more}"), theme.wrong()));
        }
        let first_row = lines.len();
        let height = usize::from(area.height).saturating_sub(first_row).max(1);
        let first = (self.chosen + 1 + height / 3).saturating_sub(height);
        let first = first.min(self.rows.len().saturating_sub(height.min(self.rows.len())));
        for number in (first..self.rows.len()).take(height) {
            lines.push(self.row(app, number, width));
            let y = area.y + (lines.len() - 1) as u16;
            drawn.hit(Rect { y, height: 1, ..area }, Target::Entry(number));
        }
        if self.rows.is_empty() {
            match &self.end {
                Some(Err(trouble)) => lines.extend(trouble_lines(app, trouble)),
                Some(Ok(_)) => lines.push(Line::styled("  ✓ No differences", theme.well())),
                None => {}
            }
        }
        frame.render_widget(Text::from(cut(lines, width)), area);
    }
}

#[cfg(test)]
mod tests {
    use skellin_store::RunId;

    use super::*;

    /// The tree of some paths, with two blanks for each step to the right.
    fn tree(paths: &[&str]) -> Vec<String> {
        let sides = Sides {
            store: String::new(),
            plan: String::new(),
            before: (RunId([0; 16]), 0),
            now: Opposite::Now,
            now_time: None,
        };
        let mut panel = ComparePanel::new(sides, Vec::new());
        for path in paths {
            let (path, kind) = match path.strip_suffix('/') {
                Some(path) => (path, Kind::Directory),
                None => (*path, Kind::File),
            };
            let side = SideRow { kind, size: 1, files: None, modified: 0 };
            let path = path.as_bytes().to_vec();
            let (before, now) = (None, Some(side));
            panel.take(DifferRow { path, difference: Difference::New, before, now });
        }
        let shown = |row: &Row| match row {
            Row::Way { depth, name } => format!("{}({name})", "  ".repeat(*depth)),
            Row::Differs { depth, name, .. } => format!("{}{name}", "  ".repeat(*depth)),
        };
        panel.rows.iter().map(shown).collect()
    }

    #[test]
    fn what_stands_below_a_line_lies_below_it() {
        assert_eq!(
            tree(&[
                "/srv/a/2026/x",
                "/srv/a/2026/y/z",
                "/srv/a/notes",
                "/srv/b/",
                "/srv/b/c",
                "/srv/b/d/e"
            ]),
            [
                "(/srv/a/2026/)",
                "  x",
                "  (y/)",
                "    z",
                "(/srv/a/)",
                "  notes",
                "(/srv/)",
                "  b/",
                "    c",
                "    (d/)",
                "      e",
            ]
        );
        assert_eq!(tree(&["/srv", "sftp://mast/x"]), ["/srv", "(sftp://mast/)", "  x"]);
    }
}
