//! Journal: what was run, restored and verified on this machine, and what it said.

use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    text::{Line, Text},
};
use skellin_engine::{JournalEntry, Outcome};

use super::parts::{Cells, column, fact, list, number, paragraph, trouble_lines};
use crate::{
    tui::model::Model,
    words::{self, fit},
};

pub(super) fn title(app: &Model) -> Vec<String> {
    match &app.journal {
        None => vec!["reading …".to_owned()],
        Some(Err(trouble)) => vec![format!("✕ {}", trouble.what)],
        Some(Ok(papers)) => {
            let bad = papers.iter().filter(|(entry, _)| is_bad(entry)).count() as u64;
            vec![
                words::counted(papers.len() as u64, "entry", "entries"),
                match bad {
                    0 => "none went wrong".to_owned(),
                    bad => format!("{} not as they should", words::count(bad)),
                },
            ]
        }
    }
}

fn is_bad(entry: &JournalEntry) -> bool {
    !matches!(entry.outcome, Outcome::Done | Outcome::Running)
}

pub(super) fn draw(frame: &mut Frame<'_>, app: &mut Model, area: Rect) {
    let papers = match &app.journal {
        Some(Ok(papers)) => papers,
        Some(Err(trouble)) => return paragraph(frame, trouble_lines(app, trouble), area),
        None => {
            let reading = Line::styled("  reading the journal …", app.theme.quiet());
            return paragraph(frame, vec![Line::from(""), reading], area);
        }
    };
    if papers.is_empty() {
        let lines = vec![
            Line::from(""),
            Line::from(
                "  The journal is empty: nothing was run, restored or verified on this machine yet.",
            ),
            Line::styled("  → n goes to now, where a plan can be run", app.theme.is()),
        ];
        return paragraph(frame, lines, area);
    }
    let total =
        format!("{}, newest first", words::counted(papers.len() as u64, "entry", "entries"));
    let below = if area.height > 16 { 9 } else { 4 };
    let [upper, lower] =
        Layout::vertical([Constraint::Min(3), Constraint::Length(below)]).areas(area);
    let did = usize::from(area.width).saturating_sub(72).clamp(0, 90);
    let columns = [
        column("began", 21),
        column("work", 8),
        column("of", 14),
        number("took", 12),
        column("ended", 13),
        column("", did),
    ];
    let row = |app: &Model, row: usize| {
        let Some(Ok(papers)) = &app.journal else {
            return Cells { cells: Vec::new(), style: app.theme.quiet(), styled: 0 };
        };
        let (entry, _) = &papers[row];
        let (mark, style) = outcome(app, entry.outcome);
        Cells {
            cells: vec![
                words::moment(entry.started),
                entry.work.word().to_owned(),
                entry.plan.clone().unwrap_or_else(|| entry.store.clone()),
                entry.ended.map_or("–".to_owned(), |ended| words::span(ended - entry.started)),
                format!("{mark} {}", entry.outcome.word()),
                entry.words.clone().unwrap_or_else(|| words::deeds(entry)),
            ],
            style,
            styled: 4,
        }
    };
    list(frame, app, upper, &columns, &row, &total);
    details(frame, app, lower);
}

fn outcome(app: &Model, outcome: Outcome) -> (&'static str, ratatui::style::Style) {
    match outcome {
        Outcome::Done => ("✓", app.theme.well()),
        Outcome::Running => ("▶", app.theme.is()),
        Outcome::Exceptions | Outcome::Guarded => ("▲", app.theme.wrong()),
        Outcome::Interrupted => ("◐", app.theme.wrong()),
        Outcome::Failed | Outcome::Damage => ("✕", app.theme.wrong()),
    }
}

fn details(frame: &mut Frame<'_>, app: &Model, area: Rect) {
    let Some(Ok(papers)) = &app.journal else { return };
    let Some((entry, exceptions)) = papers.get(app.list.selected) else { return };
    let width = usize::from(area.width);
    let title = format!(
        "  {}. {} of {} on {}",
        entry.id,
        entry.work.word(),
        entry.plan.as_deref().unwrap_or(&entry.store),
        entry.machine
    );
    let mut lines = vec![
        Line::styled("─".repeat(width), app.theme.quiet()),
        Line::styled(fit(&title, width), app.theme.strong()),
        fact(app, "did", words::deeds(entry)),
    ];
    if let Some(said) = &entry.words {
        lines.push(fact(app, "said", said.clone()));
    }
    if let Some(hint) = &entry.hint {
        lines.push(fact(app, "do", hint.clone()));
    }
    if entry.exception_count > 0 {
        lines.push(Line::styled(
            format!("  ▲ {}", words::counted(entry.exception_count, "exception", "exceptions")),
            app.theme.wrong(),
        ));
    }
    for exception in exceptions {
        let text = format!("    {}: {}", words::path(&exception.path), exception.reason);
        lines.push(Line::from(fit(&text, width)));
    }
    let all = lines.len();
    lines.truncate(usize::from(area.height));
    if all > lines.len()
        && let Some(last) = lines.last_mut()
    {
        *last = Line::styled(
            format!("    and more: skellin journal --run {}", entry.id),
            app.theme.quiet(),
        );
    }
    frame.render_widget(Text::from(lines), area);
}
