//! Drawing: the state as a frame. Only what is visible is looked at.

use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span},
};
use unicode_width::UnicodeWidthStr;

use super::{
    app::App,
    drawn::Drawn,
    health,
    hits::Target,
    keys::{self, Action},
    lanes::Work,
    model::{Cursor, Model, Screen},
    panels::{Panel, Room},
    ribbon, screens,
};
use crate::words::{self, fit};

/// Draws everything.
pub(super) fn frame(frame: &mut Frame<'_>, app: &App) -> Drawn {
    let App { model: app, panel, ahead, .. } = app;
    let (ahead, mut drawn) = (ahead.len(), Drawn::default());
    let area = frame.area();
    let has_ribbon = !app.lanes.is_empty();
    let height = if has_ribbon { ribbon::height(app, area.height) } else { 0 };
    let [top, lanes, title, body, hints] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(height),
        Constraint::Length(u16::from(has_ribbon)),
        Constraint::Min(1),
        Constraint::Length(1),
    ])
    .areas(area);
    frame.render_widget(health::top_line(app, top.width.into()), top);
    if has_ribbon {
        ribbon::draw(frame, app, &mut drawn, lanes);
        title_line(frame, app, &mut drawn, title);
    }
    screens::draw(frame, app, &mut drawn, body);
    if let Some(panel) = panel {
        panel.draw(frame, app, &mut drawn, Room { whole: area, body });
    }
    hint_line(frame, app, &mut drawn, panel.as_deref(), ahead, hints);
    // Whoever wrote what is shown, it does nothing to the terminal but stand there.
    for cell in &mut frame.buffer_mut().content {
        if cell.symbol().chars().any(words::is_harmful) {
            cell.set_symbol("·");
        }
    }
    drawn
}

/// Tense, plan and moment on the left, as much as there is room for, whole or not at all; the
/// screens that are about no moment on the right.
fn title_line(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
    let theme = app.theme;
    let name = match (app.screen, app.cursor) {
        (Screen::Stores, _) => "Stores",
        (Screen::Journal, _) => "Journal",
        (Screen::Proof, _) => "Proof",
        (Screen::Ribbon, Cursor::Was(_)) => "Was",
        (Screen::Ribbon, Cursor::Is) => "Is",
        (Screen::Ribbon, Cursor::Will(_)) => "Will",
    };
    let style = if app.screen == Screen::Ribbon { app.tense_style() } else { Style::new() };
    let tabs: Vec<(&str, Action)> = match area.width {
        _ if app.only_restores() => vec![("restore only", Action::Help)],
        ..=99 => Vec::new(),
        _ => {
            vec![("Stores", Action::Stores), ("Journal", Action::Journal), ("Proof", Action::Proof)]
        }
    };
    let right: usize = tabs.iter().map(|(tab, _)| tab.len() + 2).sum();
    let width = usize::from(area.width);
    let room = width.saturating_sub(name.len() + 6 + right + 1);
    let mut text = String::new();
    for part in screens::title(app) {
        let joined = if text.is_empty() { part } else { format!("{text} ─ {part}") };
        if joined.width() > room && !text.is_empty() {
            break;
        }
        text = joined;
    }
    let text = fit(&text, room);
    let rest = width.saturating_sub(name.len() + 6 + text.width() + right);
    let mut spans = vec![
        Span::styled("─ ", theme.quiet()),
        Span::styled(name, style.patch(theme.strong())),
        Span::styled(" ─ ", theme.quiet()),
        Span::styled(text, style),
        Span::styled(format!(" {}", "─".repeat(rest.saturating_sub(0))), theme.quiet()),
    ];
    let mut x = area.x + area.width.saturating_sub(right as u16);
    for (tab, action) in tabs {
        let is_here = tab == name;
        let style = if is_here { theme.strong() } else { theme.quiet() };
        drawn.hit(Rect { x, width: tab.len() as u16 + 2, ..area }, Target::Do(action));
        spans.push(Span::styled(format!(" {tab} "), style));
        x += tab.len() as u16 + 2;
    }
    frame.render_widget(Line::from(spans), area);
}

/// Whether the last run stopped since much was suddenly gone or different.
fn is_guarded(lane: &super::lanes::Lane) -> bool {
    matches!(&lane.work, Work::Ended { result: Ok(report), .. } if report.shrinkage.is_some())
}

/// The keys that matter here, as many as there is room for; each can be clicked.
fn hint_line(
    frame: &mut Frame<'_>,
    app: &Model,
    drawn: &mut Drawn,
    panel: Option<&dyn Panel>,
    ahead: usize,
    area: Rect,
) {
    let theme = app.theme;
    if ahead > 0 {
        let keys = words::counted(ahead as u64, "key", "keys");
        let text = format!(" … {keys} typed ahead, waiting for what is being read    ");
        let spans = vec![
            Span::styled(text, theme.is()),
            Span::styled("Esc", theme.strong()),
            Span::styled(" drop them", theme.quiet()),
        ];
        return frame.render_widget(Line::from(spans), area);
    }
    let place = app.place();
    let pairs: Vec<(&str, &str, Option<Action>)> = match panel {
        Some(panel) => panel.hints(app).into_iter().map(|(key, says)| (key, says, None)).collect(),
        None if app.lanes.is_empty() && app.screen == Screen::Ribbon => vec![
            ("a", "new plan", Some(Action::NewPlan)),
            ("s", "Stores", Some(Action::Stores)),
            ("j", "Journal", Some(Action::Journal)),
            ("?", "keys", Some(Action::Help)),
            ("q", "quit", Some(Action::Quit)),
        ],
        None => {
            let has_plan = app.current_lane().is_some_and(|lane| lane.plan.is_some());
            let going =
                app.current_lane().is_some_and(|lane| matches!(lane.work, Work::Going { .. }));
            let fits = |action| match action {
                // What another machine plans is neither run nor changed here.
                Action::Run
                | Action::DryRun
                | Action::RunAnyway
                | Action::WriteRule
                | Action::Why
                | Action::Order
                | Action::Only
                    if !has_plan =>
                {
                    false
                }
                Action::Stop => going,
                Action::Run | Action::DryRun => !going,
                Action::RunAnyway => app.current_lane().is_some_and(is_guarded),
                Action::TakeBack => app.undo.is_some(),
                Action::BackToSource => !going && !app.has_tree(),
                Action::Open | Action::WriteRule => app.has_tree(),
                _ => true,
            };
            let here = keys::bindings(app.only_restores()).filter(|binding| {
                !binding.hint.is_empty() && binding.on.holds(place) && fits(binding.action)
            });
            // What belongs to this screen alone stands first, what is everywhere last.
            let mut pairs: Vec<_> = here
                .map(|binding| {
                    let shown =
                        if binding.action == Action::Earlier { "← →" } else { binding.shown };
                    (
                        binding.on == keys::Where::Everywhere,
                        (shown, binding.hint, Some(binding.action)),
                    )
                })
                .collect();
            pairs.sort_by_key(|(everywhere, _)| *everywhere);
            pairs.into_iter().map(|(_, pair)| pair).collect()
        }
    };
    let fixed: Vec<_> = ["?", "q"]
        .iter()
        .filter_map(|key| pairs.iter().find(|(shown, _, _)| shown == key).copied())
        .collect();
    let length = |pair: &(&str, &str, Option<Action>)| pair.0.width() + pair.1.width() + 3;
    let reserved: usize = fixed.iter().map(length).sum();
    let width = usize::from(area.width);
    let (mut spans, mut used) = (vec![Span::raw(" ")], 1);
    let mut add = |pair: (&'static str, &'static str, Option<Action>), used: &mut usize| {
        if let Some(action) = pair.2 {
            let x = area.x + *used as u16;
            drawn.hit(Rect { x, width: length(&pair) as u16, ..area }, Target::Do(action));
        }
        *used += length(&pair);
        spans.push(Span::styled(pair.0, theme.strong()));
        spans.push(Span::styled(format!(" {}  ", pair.1), theme.quiet()));
    };
    for pair in pairs.iter().filter(|pair| !fixed.contains(pair)) {
        if used + length(pair) + reserved > width {
            break;
        }
        add(*pair, &mut used);
    }
    fixed.into_iter().for_each(|pair| add(pair, &mut used));
    frame.render_widget(Line::from(spans), area);
}

#[cfg(test)]
#[path = "draw_tests.rs"]
mod tests;
