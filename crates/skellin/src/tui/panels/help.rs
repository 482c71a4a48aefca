//! All keys of the screens, and what stands on the ribbon.

use ratatui::{
    Frame,
    style::Style,
    text::{Line, Span},
};

use super::{
    panel::{BACK, Hint, Panel, Room, SCROLL, Scrolled, hints},
    popup::scrolling,
};
use crate::tui::{drawn::Drawn, keys, model::Model};

/// Columns from which two lists have room beside each other.
const WIDE: u16 = 134;

/// All keys.
#[derive(Default)]
pub(in crate::tui) struct HelpPanel(Scrolled);

impl Panel for HelpPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(SCROLL).into_iter().chain([BACK]).collect()
    }

    fn scrolled(&mut self) -> Option<&mut Scrolled> {
        Some(&mut self.0)
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let wide = room.whole.width >= WIDE;
        let (left, right) = (keys_help(app), marks_help(app));
        let rows: Vec<Line<'static>> = match wide {
            true => beside(left, right),
            false => left.into_iter().chain([Line::from("")]).chain(right).collect(),
        };
        scrolling(frame, app, " Keys ", (rows, self.0), room.whole, if wide { 130 } else { 96 });
    }
}

/// Two lists beside each other, the second right of all lines of the first.
fn beside(left: Vec<Line<'static>>, right: Vec<Line<'static>>) -> Vec<Line<'static>> {
    let width = left.iter().map(Line::width).max().unwrap_or(0) + 2;
    let rows = left.len().max(right.len());
    let (mut left, mut right) = (left.into_iter(), right.into_iter());
    (0..rows)
        .map(|_| {
            let mut line = left.next().unwrap_or_default();
            let blanks = " ".repeat(width.saturating_sub(line.width()));
            let style = line.style;
            line.spans.iter_mut().for_each(|span| span.style = style.patch(span.style));
            line.style = Style::new();
            line.spans.push(Span::raw(blanks));
            let right = right.next().unwrap_or_default();
            let style = right.style;
            let spans = right.spans.into_iter();
            line.spans
                .extend(spans.map(|span| Span::styled(span.content, style.patch(span.style))));
            line
        })
        .collect()
}

/// The keys of some places, with a title for each.
fn keys_of(app: &Model, places: &[(&'static str, &[keys::Where])]) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    for (title, place) in places {
        if !lines.is_empty() {
            lines.push(Line::from(""));
        }
        lines.push(Line::styled(*title, app.theme.strong()));
        for binding in
            keys::bindings(app.only_restores()).filter(|binding| place.contains(&binding.on))
        {
            lines.push(Line::from(vec![
                Span::styled(format!("  {:<11}", binding.shown), app.tense_style()),
                Span::raw(binding.says),
            ]));
        }
    }
    lines
}

fn keys_help(app: &Model) -> Vec<Line<'static>> {
    use keys::Where;
    keys_of(
        app,
        &[
            ("Ribbon", &[Where::Tenses]),
            ("Tree", &[Where::Trees]),
            ("Was", &[Where::Was]),
            ("Is", &[Where::Is]),
            ("Will", &[Where::Will, Where::Ahead]),
        ],
    )
}

/// The keys that mean the same everywhere, and what stands on the ribbon.
fn marks_help(app: &Model) -> Vec<Line<'static>> {
    let theme = app.theme;
    use keys::Where;
    let lists: &[Where] = &[Where::Lists, Where::Stores, Where::Journal, Where::Proof];
    let mut lines =
        keys_of(app, &[("Everywhere", &[Where::Everywhere]), ("Stores, Journal, Proof", lists)]);
    lines.push(Line::from(""));
    lines.push(Line::styled("Ribbon symbols", theme.strong()));
    for (mark, says, style) in [
        ("●", "snapshot", theme.was()),
        ("▲", "snapshot with exceptions", theme.wrong()),
        ("5", "number of snapshots; underlined: problems", theme.was()),
        ("✕", "failed run", theme.wrong()),
        ("◐", "interrupted run", theme.wrong()),
        ("◇┄", "missed run, and the gap it left", theme.wrong()),
        ("┃", "now", theme.is()),
        ("○", "scheduled run", theme.will()),
        ("◌", "will have expired by the day at the cursor", theme.quiet()),
        ("▨", "scheduled run that will exceed its window", theme.wrong()),
        ("◆━", "selected path: new version, unchanged", theme.was()),
    ] {
        lines.push(Line::from(vec![Span::styled(format!("  {mark:<11}"), style), Span::raw(says)]));
    }
    lines
}
