//! The sources as they are: a tree with what is included, what is excluded and what would become
//! of it, beside a map of where the space of the selected directory goes.

use crate::tui::drawn::Drawn;
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span, Text},
};
use skellin_engine::{Change, Shares};
use skellin_store::Kind;
use unicode_width::UnicodeWidthStr;

use super::{
    map,
    parts::{paragraph, plain, said, trouble_lines},
    was::{change, draw_tree, tree_name},
};
use crate::{
    tui::{counting::State, lanes::Work, model::Model, theme::Theme, tree::Shown},
    words::{self, fit, fit_name},
};

/// Columns from which the map stands beside the tree.
const WIDE: u16 = 140;
/// Columns of the map.
const ASIDE: u16 = 50;
/// Cells of the bar that says how a directory splits.
const SPLIT: usize = 8;

pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
    if app.tree.trouble().is_some() || !app.tree.is_loaded() {
        let lines = match app.tree.trouble() {
            Some(trouble) => trouble_lines(app, trouble),
            None => vec![Line::styled("  loading …", app.theme.quiet())],
        };
        return paragraph(frame, lines, area);
    }
    let is_wide = area.width >= WIDE;
    drawn.is_wide(is_wide);
    // A review has said it all above.
    let is_review = app.current_lane().is_some_and(|lane| !matches!(lane.work, Work::None));
    let mut lines = Vec::new();
    if !is_review {
        lines.push(totals(app, usize::from(area.width)));
    }
    if let Some(words) = app.how.words() {
        let line = format!("  filter: {words}");
        lines.push(Line::styled(fit(&line, area.width.into()), app.theme.is()));
    }
    let head = lines.len() as u16;
    plain(frame, lines, area);
    let area = Rect { y: area.y + head, height: area.height.saturating_sub(head), ..area };
    if app.map_alone && !is_wide {
        return map::draw(frame, app, area);
    }
    let aside = if is_wide && app.shows_map { ASIDE } else { 0 };
    let [tree, gap, side] = Layout::horizontal([
        Constraint::Min(1),
        Constraint::Length(if aside > 0 { 2 } else { 0 }),
        Constraint::Length(aside),
    ])
    .areas(area);
    let titles = Line::styled(titles(usize::from(tree.width)), app.theme.quiet());
    frame.render_widget(titles, Rect { height: tree.height.min(1), ..tree });
    let tree = Rect { y: tree.y + 1, height: tree.height.saturating_sub(1), ..tree };
    draw_tree(frame, app, drawn, tree, &row_line);
    if aside > 0 {
        let line = vec![Line::styled("│", app.theme.quiet()); usize::from(gap.height)];
        frame.render_widget(Text::from(line), gap);
        map::draw(frame, app, side);
    }
}

/// The sums of all sources, as far as they are counted.
fn totals(app: &Model, width: usize) -> Line<'static> {
    let theme = app.theme;
    let Some(counting) = app.counting() else { return Line::from("") };
    let total = counting.census.total();
    let taken = total.taken();
    let mut parts = vec![(
        format!(
            "{}, {} included",
            words::counted(taken.files, "file", "files"),
            words::bytes(taken.bytes)
        ),
        theme.strong(),
    )];
    let moving = [
        (total.new, "new", theme.well()),
        (total.changed, "changed", theme.is()),
        (total.gone, "gone", theme.wrong()),
    ];
    for (share, word, style) in moving {
        if share.files > 0 {
            let text =
                format!("{} {word}, {}", words::count(share.files), words::bytes(share.bytes));
            parts.push((text, style));
        }
    }
    if total.skipped.files > 0 {
        let (files, bytes) = (words::count(total.skipped.files), words::bytes(total.skipped.bytes));
        parts.push((format!("{files} excluded, {bytes}"), theme.quiet()));
    }
    if total.troubles > 0 {
        parts.insert(
            1,
            (format!("▲ {} cannot be read", words::count(total.troubles)), theme.wrong()),
        );
    }
    match &counting.state {
        State::Going => parts.insert(0, ("counting …".to_owned(), theme.is())),
        State::Failed(trouble) => parts.insert(0, (format!("✕ {}", trouble.what), theme.wrong())),
        State::Done => {}
    }
    said(parts, width)
}

/// What stands behind a name.
struct Columns {
    along: String,
    left_out: String,
    split: Option<f64>,
    becomes: String,
}

/// Widths by the room there is: whether what is left out, the split and the words are shown.
fn shown(width: usize) -> (bool, bool, usize) {
    match width {
        ..=51 => (false, false, 0),
        52..=75 => (true, false, 15),
        76..=95 => (true, false, 19),
        _ => (true, true, 19),
    }
}

fn titles(width: usize) -> String {
    let (left_out, split, words) = shown(width);
    let mut after = format!("{:>10}", "included");
    if left_out {
        after.push_str(&format!("  {:>9}", "excluded"));
    }
    if split {
        after.push_str(&format!("  {:<SPLIT$}", ""));
    }
    if words > 0 {
        after.push_str(&format!("  {:<words$}", "pending changes"));
    }
    format!("{}{after} ", " ".repeat(width.saturating_sub(after.width() + 1)))
}

fn columns(app: &Model, row: &Shown<'_>) -> Columns {
    let facts = row.facts;
    let none = String::new;
    let by_rule = || {
        let plan = app.current_lane().and_then(|lane| lane.plan.as_ref());
        let rule =
            plan.zip(facts.rule).and_then(|(plan, rule)| plan.rules.rules().get(usize::from(rule)));
        rule.map_or("excluded".to_owned(), |rule| match rule.file.strip_prefix("builtin:") {
            Some(ready) => format!("excluded: {ready}"),
            None => format!("excluded: line {}", rule.line),
        })
    };
    if facts.kind != Kind::Directory {
        let size = words::bytes(facts.size);
        return match facts.change {
            Change::Skipped => {
                Columns { along: none(), left_out: size, split: None, becomes: by_rule() }
            }
            Change::Gone => {
                let becomes = format!("gone, {size}");
                Columns { along: none(), left_out: none(), split: None, becomes }
            }
            change => {
                let word = match change {
                    Change::New => "new",
                    Change::Changed => "changed",
                    _ => "",
                };
                let becomes = word.to_owned();
                Columns { along: size, left_out: none(), split: None, becomes }
            }
        };
    }
    if facts.change == Change::Gone {
        let becomes = format!("gone, {}", words::bytes(facts.size));
        return Columns { along: none(), left_out: none(), split: None, becomes };
    }
    let shares = app.counting().and_then(|counting| counting.census.shares(&row.path));
    let Some(shares) = shares else {
        let becomes = if facts.change == Change::Skipped { by_rule() } else { none() };
        return Columns { along: none(), left_out: none(), split: None, becomes };
    };
    let (taken, skipped) = (shares.taken(), shares.skipped);
    let all = taken.bytes + skipped.bytes;
    let is_left_out = facts.change == Change::Skipped && taken.files == 0;
    Columns {
        along: if is_left_out { none() } else { words::bytes(taken.bytes) },
        left_out: if skipped.files == 0 { none() } else { words::bytes(skipped.bytes) },
        // A bar says something only where there are two parts.
        split: (taken.bytes > 0 && skipped.bytes > 0).then(|| taken.bytes as f64 / all as f64),
        becomes: if is_left_out { by_rule() } else { moves(&shares) },
    }
}

/// How many paths of a directory are new, changed and gone, and cannot be read.
fn moves(shares: &Shares) -> String {
    let short = |count: u64| match count {
        0..=9_999 => count.to_string(),
        _ => format!("{}k", count / 1000),
    };
    let signs = [
        ("+", shares.new.files),
        ("~", shares.changed.files),
        ("−", shares.gone.files),
        ("▲", shares.troubles),
    ];
    let parts = signs.iter().filter(|(_, count)| *count > 0);
    parts.map(|(sign, count)| format!("{sign}{}", short(*count))).collect::<Vec<_>>().join(" ")
}

/// A bar of what is included and what is excluded, told apart by shape.
fn split_bar(share: f64, theme: Theme) -> [Span<'static>; 2] {
    let taken = ((share * SPLIT as f64).round() as usize).min(SPLIT);
    [
        Span::styled("■".repeat(taken), theme.is()),
        Span::styled("╱".repeat(SPLIT - taken), theme.quiet()),
    ]
}

fn row_line(app: &Model, row: &Shown<'_>, selected: bool, width: usize) -> Line<'static> {
    let theme = app.theme;
    let (sign, _, style) = change(app, row.facts.change);
    let Columns { along, left_out, split, becomes } = columns(app, row);
    let (with_left_out, with_split, words) = shown(width);
    let before = format!(" {sign} ");
    let mut sizes = format!("{along:>10}");
    if with_left_out {
        sizes.push_str(&format!("  {left_out:>9}"));
    }
    let mut bar = vec![Span::raw("")];
    if with_split {
        bar.push(Span::raw("  "));
        match split {
            Some(share) => bar.extend(split_bar(share, theme)),
            None => bar.push(Span::raw(" ".repeat(SPLIT))),
        }
    }
    let becomes = match words {
        0 => " ".to_owned(),
        _ => format!("  {:<words$} ", fit(&becomes, words)),
    };
    let bar_width: usize = bar.iter().map(Span::width).sum();
    let room = width.saturating_sub(before.width() + sizes.width() + bar_width + becomes.width());
    let name = fit_name(&tree_name(row), room);
    let name = format!("{name}{}", " ".repeat(room.saturating_sub(name.width())));
    let name_style = match row.facts.change {
        Change::Gone | Change::Skipped => theme.quiet(),
        _ => Style::new(),
    };
    let mut spans = vec![
        Span::styled(before, style),
        Span::styled(name, name_style),
        Span::styled(sizes, theme.quiet()),
    ];
    spans.extend(bar);
    spans.push(Span::styled(becomes, style));
    let line = Line::from(spans);
    match selected {
        // The cursor is one bar across the row, whatever the colours in it.
        true => {
            let text: String = line.spans.iter().map(|span| span.content.as_ref()).collect();
            Line::styled(text, theme.cursor())
        }
        false => line,
    }
}
