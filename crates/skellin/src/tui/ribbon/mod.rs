//! The ribbon: a lane for each plan, time from left to right, now between what was and what will
//! be; below the lanes the life of the selected path.

mod axis;

use std::sync::Arc;

use crate::tui::drawn::Drawn;
use ratatui::{
    Frame,
    layout::Rect,
    style::{Modifier, Style},
    text::{Line, Span, Text},
};
use skellin_engine::Outcome;
use unicode_width::UnicodeWidthStr;

use super::{
    hits::Target,
    lanes::{Known, Lane, Work},
    model::{Cursor, Model, Screen},
    outlook::Outlook,
    theme::Theme,
    window,
    worker::VersionRow,
};
use crate::words::{self, fit, fit_name};

/// Columns between the left edge and the lanes' cells, beside the names.
const MARGIN: usize = 3;
/// Of lanes with more snapshots than these what will have expired is drawn only where they are chosen.
const FEW: usize = 500;

/// How a frame lays the ribbon out.
struct Sheet {
    /// Columns of the names.
    name: usize,
    /// Columns of time.
    columns: usize,
    start: i64,
    span: i64,
}

impl Sheet {
    fn column(&self, time: i64) -> Option<usize> {
        let offset = time.checked_sub(self.start).filter(|offset| *offset >= 0)?;
        let column = (i128::from(offset) * self.columns as i128 / i128::from(self.span)) as usize;
        (column < self.columns).then_some(column)
    }

    fn time(&self, column: usize) -> i64 {
        let whole = i128::from(self.span) * column as i128 / self.columns as i128;
        self.start + i64::try_from(whole).unwrap_or(0)
    }
}

/// How high the ribbon wants to be, for a screen's height.
pub(super) fn height(app: &Model, screen: u16) -> u16 {
    let strip = u16::from(app.has_strip());
    // On a small screen what a plan has to say matters more than the plans beside it.
    let most = if screen < 30 { 4 } else { screen / 3 };
    (app.lanes.len() as u16 + 1 + strip).clamp(2 + strip, most)
}

/// Draws it, and notes what can be clicked.
pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
    let longest = app.lanes.iter().map(|lane| lane.label().width()).max().unwrap_or(0);
    let (least, most) = if area.width < 100 { (10, 14) } else { (12, 22) };
    let name = longest.clamp(least, most);
    let columns = usize::from(area.width).saturating_sub(name + MARGIN + 1).max(10);
    let window = &app.window;
    let sheet = Sheet { name, columns, start: window.start(), span: window.span() };
    let strip = usize::from(app.has_strip());
    let room = usize::from(area.height).saturating_sub(1 + strip).max(1);
    let first = app.lane.saturating_sub(room / 2).min(app.lanes.len().saturating_sub(room));
    let shown = app.lanes.len().min(first + room);
    let mut lines = vec![axis_line(app, &sheet, first, shown)];
    let cell = cell_width(&app.lanes[first..shown], &sheet);
    for number in first..shown {
        lines.push(lane_line(app, number, &sheet, cell));
    }
    if strip == 1 {
        lines.push(strip_line(app, &sheet));
    }
    let left = area.x + (name + MARGIN) as u16;
    for number in first..shown {
        let row = area.y + 1 + (number - first) as u16;
        let label = Rect { x: area.x, y: row, width: left - area.x, height: 1 };
        drawn.hit(label, Target::Lane(number));
        for column in 0..columns {
            let spot = Rect { x: left + column as u16, y: row, width: 1, height: 1 };
            let (from, to) = (sheet.time(column), sheet.time(column + 1));
            drawn.hit(spot, Target::Moment { lane: number, from, to });
        }
    }
    frame.render_widget(Text::from(lines), area);
}

/// Dates, where the cursor stands, and how many lanes there are beyond those shown.
fn axis_line(app: &Model, sheet: &Sheet, first: usize, shown: usize) -> Line<'static> {
    let theme = app.theme;
    let label = match app.lanes.len() {
        many if shown - first < many => format!("{}–{}/{many}", first + 1, shown),
        _ => window::name(sheet.span).to_owned(),
    };
    let label = format!("  {:<width$} ", fit(&label, sheet.name), width = sheet.name);
    let cursor = app.cursor_time().and_then(|time| sheet.column(time));
    let now = sheet.column(app.now);
    let cells = axis::labels(sheet.start, sheet.span, sheet.columns, now);
    let mut spans = vec![Span::styled(label, theme.quiet())];
    let is_blank = |column: usize| cells.get(column).is_none_or(|cell| *cell == ' ');
    for (column, cell) in cells.iter().copied().enumerate() {
        let is_now = now.is_some_and(|now| (now..now + 3).contains(&column));
        if cursor == Some(column) && !(is_now && app.cursor == Cursor::Is) {
            let style = app.tense_style().add_modifier(Modifier::BOLD);
            // A date under the cursor stays as it is; the lane shows where it stands.
            let is_free = (column.saturating_sub(1)..=column + 1).all(is_blank);
            spans.push(match is_free {
                true => Span::styled("▾", style),
                false => Span::styled(cell.to_string(), theme.quiet()),
            });
        } else {
            let style = if is_now { theme.is() } else { theme.quiet() };
            spans.push(Span::styled(cell.to_string(), style));
        }
    }
    Line::from(spans)
}

/// What stands in one cell of a lane.
#[derive(Clone, Copy, Default)]
struct Cell {
    snapshots: usize,
    exceptions: bool,
    failed: bool,
    interrupted: bool,
    missed: bool,
    /// Nothing ran here, and something should have.
    gap: bool,
    coming: usize,
    /// Snapshots that will have expired by the day at the cursor, and of the runs to come those whose
    /// snapshots will.
    expired: usize,
    passing: usize,
    /// One of those to come will not fit its window.
    tight: bool,
    /// The snapshot that is shown is here.
    shown: bool,
    cursor: bool,
    now: bool,
}

fn cells(app: &Model, lane: &Lane, current: bool, sheet: &Sheet) -> Vec<Cell> {
    let mut cells = vec![Cell::default(); sheet.columns];
    let end = sheet.start.saturating_add(sheet.span);
    let first = lane.marks.partition_point(|mark| mark.time < sheet.start);
    let beyond = lane.marks.partition_point(|mark| mark.time < end);
    let fates = fates(app, lane, current);
    let expires = |at: usize| fates.as_ref().is_some_and(|fates| !fates.snapshots[at].stays());
    for (at, mark) in lane.marks.iter().enumerate().take(beyond).skip(first) {
        if let Some(column) = sheet.column(mark.time) {
            cells[column].snapshots += 1;
            cells[column].expired += usize::from(expires(at));
            cells[column].exceptions |= mark.facts.is_some_and(|facts| facts.exceptions > 0);
        }
    }
    for stumble in &lane.stumbles {
        if let Some(column) = sheet.column(stumble.time) {
            cells[column].interrupted |= stumble.outcome == Outcome::Interrupted;
            cells[column].failed |= stumble.outcome != Outcome::Interrupted;
        }
    }
    for column in lane.missed.iter().filter_map(|moment| sheet.column(*moment)) {
        cells[column].missed = true;
    }
    for (from, to) in lane.gaps(app.now) {
        let start = sheet.column(from.max(sheet.start));
        let until = sheet.column(to).unwrap_or(sheet.columns);
        if let Some(start) = start.filter(|start| *start < until) {
            cells[start..until].iter_mut().for_each(|cell| cell.gap = true);
        }
    }
    for (at, moment) in lane.coming(app.now, end).into_iter().enumerate() {
        if let Some(column) = sheet.column(moment) {
            let number = lane.marks.len() + at;
            let is_told = fates.as_ref().is_some_and(|fates| number < fates.snapshots.len());
            cells[column].coming += 1;
            cells[column].passing += usize::from(is_told && expires(number));
            cells[column].tight |= !lane.fits(moment);
        }
    }
    if let Some(now) = sheet.column(app.now) {
        cells[now].now = true;
    }
    if let (true, Some(column)) = (current, app.cursor_time().and_then(|time| sheet.column(time))) {
        cells[column].cursor = true;
    }
    if let (true, Some((_, mark))) = (current, app.current_mark())
        && let Some(column) = sheet.column(mark.time)
    {
        cells[column].shown = true;
    }
    cells
}

/// What will have become of a lane's snapshots by the day at the cursor, where that is to come. Where
/// thousands of snapshots stand on other lanes that is left to their own Will.
fn fates(app: &Model, lane: &Lane, current: bool) -> Option<Arc<Outlook>> {
    let Cursor::Will(at) = app.cursor else { return None };
    let is_seen = app.screen == Screen::Ribbon && (current || lane.marks.len() <= FEW);
    if is_seen { lane.outlook(app.now, at) } else { None }
}

/// Columns a merged mark needs, so that the largest number on the screen fits.
fn cell_width(lanes: &[Lane], sheet: &Sheet) -> usize {
    let mut width = 1;
    for _ in 0..3 {
        let most = lanes.iter().map(|lane| most_in_a_cell(lane, sheet, width)).max().unwrap_or(0);
        // A blank after each number, or neighbours would read as one.
        let needed = if most <= 1 { 1 } else { most.to_string().len() + 1 };
        if needed <= width {
            break;
        }
        width = needed;
    }
    width
}

fn most_in_a_cell(lane: &Lane, sheet: &Sheet, width: usize) -> usize {
    let first = lane.marks.partition_point(|mark| mark.time < sheet.start);
    let (mut most, mut count, mut group) = (0, 0, usize::MAX);
    for mark in &lane.marks[first..] {
        let Some(column) = sheet.column(mark.time) else { break };
        count = if column / width == group { count + 1 } else { 1 };
        group = column / width;
        most = most.max(count);
    }
    most
}

fn lane_line(app: &Model, number: usize, sheet: &Sheet, width: usize) -> Line<'static> {
    let (theme, lane, current) = (app.theme, &app.lanes[number], number == app.lane);
    let label = format!("{:<width$} ", fit_name(&lane.label(), sheet.name), width = sheet.name);
    let pointer = match (&lane.work, current) {
        (Work::Going { .. }, _) => "▶ ",
        (_, true) => "▌ ",
        (_, false) => "  ",
    };
    let name_style = match (current, &lane.plan) {
        (true, _) => theme.strong(),
        (false, Some(_)) => Style::new(),
        (false, None) => theme.quiet(),
    };
    let mut spans = vec![Span::styled(pointer, app.tense_style()), Span::styled(label, name_style)];
    let said = |text: &str, style| {
        let text = fit(text, sheet.columns);
        Span::styled(format!("{text:<columns$}", columns = sheet.columns), style)
    };
    match &lane.known {
        Known::Loading => spans.push(said("opening the store …", theme.quiet())),
        Known::Trouble(trouble) => {
            spans.push(said(&format!("✕ {}", trouble.what), theme.wrong()));
        }
        Known::Here if lane.marks.is_empty() && lane.stumbles.is_empty() => {
            spans.extend(marks(theme, &cells(app, lane, current, sheet), 1));
        }
        Known::Here => spans.extend(marks(theme, &cells(app, lane, current, sheet), width)),
    }
    Line::from(spans)
}

/// The marks of a lane; those that share a cell become their number.
fn marks(theme: Theme, cells: &[Cell], width: usize) -> Vec<Span<'static>> {
    let mut spans = Vec::new();
    for group in cells.chunks(width) {
        let sum = group.iter().fold(Cell::default(), |sum, cell| Cell {
            snapshots: sum.snapshots + cell.snapshots,
            exceptions: sum.exceptions | cell.exceptions,
            failed: sum.failed | cell.failed,
            interrupted: sum.interrupted | cell.interrupted,
            missed: sum.missed | cell.missed,
            gap: sum.gap | cell.gap,
            coming: sum.coming + cell.coming,
            expired: sum.expired + cell.expired,
            passing: sum.passing + cell.passing,
            tight: sum.tight | cell.tight,
            shown: sum.shown | cell.shown,
            cursor: sum.cursor | cell.cursor,
            now: sum.now | cell.now,
        });
        let is_gone = sum.snapshots > 0 && sum.expired >= sum.snapshots;
        // A number says how many will be there.
        let sum = match is_gone {
            true => sum,
            false => Cell { snapshots: sum.snapshots - sum.expired, ..sum },
        };
        let trouble = sum.failed || sum.interrupted || sum.exceptions;
        let (text, style) = match sum {
            Cell { snapshots: 0, failed: true, .. } => ("✕".to_owned(), theme.wrong()),
            Cell { snapshots: 0, interrupted: true, .. } => ("◐".to_owned(), theme.wrong()),
            Cell { snapshots: 0, missed: true, .. } => ("◇".to_owned(), theme.wrong()),
            Cell { snapshots: 0, now: true, .. } => ("┃".to_owned(), theme.is()),
            Cell { snapshots: 0, coming: 1.., tight: true, .. } => ("▨".to_owned(), theme.wrong()),
            Cell { snapshots: 0, coming: 1.., .. } if sum.passing == sum.coming => {
                ("◌".to_owned(), theme.quiet())
            }
            Cell { snapshots: 0, coming: 1.., .. } => ("○".to_owned(), theme.will()),
            // The moment lies between snapshots; the one it shows stands further left.
            Cell { snapshots: 0, cursor: true, .. } => ("│".to_owned(), theme.strong()),
            Cell { snapshots: 0, gap: true, .. } => ("┄".repeat(group.len()), theme.wrong()),
            Cell { snapshots: 0, .. } => (String::new(), Style::new()),
            _ if is_gone => ("◌".to_owned(), theme.quiet()),
            Cell { snapshots: 1, exceptions: true, .. } => ("▲".to_owned(), theme.wrong()),
            Cell { snapshots: 1, .. } if !trouble => ("●".to_owned(), theme.was()),
            Cell { snapshots: 1, failed: true, .. } => ("✕".to_owned(), theme.wrong()),
            Cell { snapshots: 1, .. } => ("◐".to_owned(), theme.wrong()),
            Cell { snapshots, .. } if trouble => {
                (snapshots.to_string(), theme.wrong().add_modifier(Modifier::UNDERLINED))
            }
            Cell { snapshots, .. } => (snapshots.to_string(), theme.was()),
        };
        let is_between = sum.cursor && text == "│";
        let style = match sum.shown || (sum.cursor && !is_between) {
            true => style.patch(theme.cursor()),
            false => style,
        };
        // What stands alone keeps its own column; a number takes the middle.
        let at = match sum.snapshots {
            0 | 1 if width > 1 => group.iter().position(|cell| {
                cell.snapshots > 0
                    || cell.failed
                    || cell.interrupted
                    || cell.missed
                    || cell.now
                    || cell.cursor
                    || cell.coming > 0
            }),
            _ => None,
        };
        let room = group.len();
        let text = match text.width() {
            0 => " ".to_owned(),
            _ => text,
        };
        let before = at
            .unwrap_or(room.saturating_sub(text.width()) / 2)
            .min(room.saturating_sub(text.width()));
        let after = room.saturating_sub(before + text.width());
        if before > 0 {
            spans.push(Span::raw(" ".repeat(before)));
        }
        spans.push(Span::styled(fit(&text, room), style));
        if after > 0 {
            spans.push(Span::raw(" ".repeat(after)));
        }
    }
    spans
}

/// The life of the selected path: where a version begins, how long it was there, where it is not.
fn strip_line(app: &Model, sheet: &Sheet) -> Line<'static> {
    let theme = app.theme;
    let name = app.tree.selected.as_deref().map_or(String::new(), |path| {
        words::path(path.rsplit(|b| *b == b'/').find(|part| !part.is_empty()).unwrap_or(path))
    });
    let label = format!("{:<width$} ", fit_name(&name, sheet.name), width = sheet.name);
    let mut spans = vec![Span::raw("  "), Span::styled(label, theme.quiet())];
    let Some(versions) = app.versions() else {
        spans.push(Span::styled("looking for versions …", theme.quiet()));
        return Line::from(spans);
    };
    for (text, is_start) in strip(versions, sheet) {
        let style = if is_start { theme.was().add_modifier(Modifier::BOLD) } else { theme.quiet() };
        spans.push(Span::styled(text.to_string(), style));
    }
    Line::from(spans)
}

fn strip(versions: &[VersionRow], sheet: &Sheet) -> Vec<(char, bool)> {
    let mut cells = vec![(' ', false); sheet.columns];
    let end = sheet.time(sheet.columns);
    let seen =
        versions.iter().filter(|version| version.last_seen >= sheet.start && version.time < end);
    for version in seen {
        let from = sheet.column(version.time.max(sheet.start)).unwrap_or(0);
        let to = sheet.column(version.last_seen).unwrap_or(sheet.columns - 1);
        for cell in &mut cells[from..=to] {
            if !cell.1 {
                *cell = ('━', false);
            }
        }
        if version.time >= sheet.start {
            cells[from] = ('◆', true);
        }
    }
    cells
}

#[cfg(test)]
mod tests {
    use super::*;
    use skellin_store::{Kind, RunId};

    fn sheet() -> Sheet {
        Sheet { name: 8, columns: 10, start: 1000, span: 1000 }
    }

    fn drawn(cells: &[Cell], width: usize) -> String {
        marks(Theme::plain(), cells, width).iter().map(|span| span.content.clone()).collect()
    }

    #[test]
    fn marks_merge_into_counts_and_trouble_keeps_its_shape() {
        let one = Cell { snapshots: 1, ..Cell::default() };
        let mut cells = vec![Cell::default(); 8];
        (cells[0], cells[1]) = (one, Cell { exceptions: true, ..one });
        (cells[2].failed, cells[3].interrupted, cells[4].missed) = (true, true, true);
        (cells[5], cells[6].now, cells[7].coming) = (Cell { snapshots: 7, ..one }, true, 1);
        assert_eq!(drawn(&cells, 1), "●▲✕◐◇7┃○");
        let mut cells = vec![Cell { gap: true, ..Cell::default() }; 4];
        (cells[0].missed, cells[3]) = (true, Cell { coming: 1, tight: true, ..Cell::default() });
        assert_eq!(drawn(&cells, 1), "◇┄┄▨");
        let busy = vec![Cell { snapshots: 14, ..one }; 8];
        assert_eq!(drawn(&busy, 4), " 56  56 ");
        let mut sparse = vec![Cell::default(); 8];
        (sparse[3], sparse[4]) = (one, one);
        assert_eq!(drawn(&sparse, 4), "   ●●   ", "single marks stay in their columns");
    }

    #[test]
    fn columns_and_times_agree() {
        let sheet = sheet();
        for column in 0..10 {
            assert_eq!(sheet.column(sheet.time(column)), Some(column));
        }
        assert_eq!((sheet.column(999), sheet.column(2000)), (None, None));
    }

    #[test]
    fn the_strip_shows_when_a_path_was_there_and_when_it_changed() {
        let version = |time, last_seen| VersionRow {
            snapshot: RunId([0; 16]),
            time,
            last_seen,
            size: 1,
            modified: 0,
            kind: Kind::File,
        };
        let versions = [version(500, 1150), version(1200, 1350), version(1700, 1700)];
        let text: String = strip(&versions, &sheet()).into_iter().map(|(c, _)| c).collect();
        assert_eq!(text, "━━◆━   ◆  ");
    }
}
