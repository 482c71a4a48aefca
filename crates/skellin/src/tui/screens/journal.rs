//! Journal: what was run, restored and verified on this machine, day by day, beside what is usual.

use crate::tui::drawn::Drawn;
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    text::{Line, Span},
};
use skellin_engine::{JournalEntry, Outcome};

use super::parts::{Cells, column, fact, list, number, paragraph, plain, trouble_lines};
use crate::{
    tui::model::{Model, Papers},
    words::{self, fit},
};

/// So many runs of a plan tell what is usual.
const USUAL: usize = 30;
/// They are looked for among so many entries, whatever the journal holds: this is done for each row
/// that shows.
const LOOKED_BACK: usize = 1000;
/// What takes so much more or less time than usual is said.
const FAR: f64 = 1.5;
/// The steps of a small line of durations.
const STEPS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

pub(super) fn title(app: &Model) -> Vec<String> {
    match &app.journal {
        None => vec!["reading …".to_owned()],
        Some(Err(trouble)) => vec![format!("✕ {}", trouble.what)],
        Some(Ok(papers)) => {
            let bad = papers.iter().filter(|(entry, _)| is_bad(entry)).count() as u64;
            vec![
                words::counted(papers.len() as u64, "entry", "entries"),
                match bad {
                    0 => "all good".to_owned(),
                    bad => format!("{} with problems", words::count(bad)),
                },
            ]
        }
    }
}

fn is_bad(entry: &JournalEntry) -> bool {
    !matches!(entry.outcome, Outcome::Done | Outcome::Running)
}

fn took(entry: &JournalEntry) -> Option<i64> {
    entry.ended.map(|ended| (ended - entry.started).max(0))
}

/// How long the same work took before an entry, oldest first, as far as it came to its end.
fn before(papers: &Papers, row: usize) -> Vec<i64> {
    let Some((entry, _)) = papers.get(row) else { return Vec::new() };
    let same = |other: &&JournalEntry| {
        other.work == entry.work
            && other.plan == entry.plan
            && other.store == entry.store
            && matches!(other.outcome, Outcome::Done | Outcome::Exceptions)
    };
    let older = papers[row + 1..].iter().take(LOOKED_BACK).map(|(entry, _)| entry).filter(same);
    let mut times: Vec<i64> = older.filter_map(took).take(USUAL).collect();
    times.reverse();
    times
}

/// The middle of some times.
fn usual(times: &[i64]) -> Option<i64> {
    let mut sorted = times.to_vec();
    sorted.sort_unstable();
    // One or two say nothing of what is usual.
    (sorted.len() >= 3).then(|| sorted[sorted.len() / 2])
}

/// A time beside what is usual; nothing if it is about that.
fn beside(time: Option<i64>, usual: Option<i64>) -> String {
    let (Some(time), Some(usual)) = (time, usual) else { return String::new() };
    // Fractions of a second are noise.
    if time.max(usual) < 2000 {
        return String::new();
    }
    match time as f64 / usual.max(1) as f64 {
        times if times >= FAR => format!("{times:.1}× usual"),
        times if times <= 1.0 / FAR => format!("{:.1}× faster", 1.0 / times.max(0.001)),
        _ => String::new(),
    }
}

/// Times as a small line.
fn small_line(times: &[i64]) -> String {
    let most = times.iter().copied().max().unwrap_or(0).max(1);
    let step = |time: &i64| STEPS[((time * 7) as f64 / most as f64).round() as usize % 8];
    times.iter().map(step).collect()
}

pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
    let papers = match &app.journal {
        Some(Ok(papers)) => papers,
        Some(Err(trouble)) => return paragraph(frame, trouble_lines(app, trouble), area),
        None => {
            let reading = Line::styled("  loading …", app.theme.quiet());
            return paragraph(frame, vec![Line::from(""), reading], area);
        }
    };
    if papers.is_empty() {
        let lines = vec![
            Line::from(""),
            Line::from(
                "  The journal is empty: no runs, restores or verifications on this machine yet.",
            ),
            Line::styled("  → n goes to now, where you can run a plan", app.theme.is()),
        ];
        return paragraph(frame, lines, area);
    }
    let total =
        format!("{}, newest first", words::counted(papers.len() as u64, "entry", "entries"));
    let below = if area.height > 16 { 9 } else { 5 };
    let [upper, lower] =
        Layout::vertical([Constraint::Min(3), Constraint::Length(below)]).areas(area);
    let width = usize::from(area.width);
    let is_wide = width >= 110;
    let mut columns = vec![
        column("day", if is_wide { 15 } else { 6 }),
        column("at", 5),
        column("ended", 13),
        column("work", 9),
        column("of", if is_wide { 14 } else { 10 }),
    ];
    // A column only where some row that shows has something to say in it.
    let shown = drawn.list(app, usize::from(upper.height).saturating_sub(2), papers.len());
    let is_far = |row: usize| !beside(took(&papers[row].0), usual(&before(papers, row))).is_empty();
    let first = shown.start;
    let compares = is_wide && shown.into_iter().any(is_far);
    if is_wide {
        columns.push(number("took", 9));
    }
    if compares {
        columns.push(column("", 12));
    }
    let used = columns.iter().map(|column| column.width + 2).sum::<usize>() + 2;
    columns.push(column("result", width.saturating_sub(used).min(110)));
    let row = |app: &Model, row: usize| {
        let Some(Ok(papers)) = &app.journal else {
            return Cells { cells: Vec::new(), style: app.theme.quiet(), styled: 0 };
        };
        let (entry, _) = &papers[row];
        let (mark, style) = app.outcome(entry.outcome);
        let day = |time: i64| words::zoned(time).date();
        let is_first = row.checked_sub(1).is_none_or(|above| {
            // The first of a day names it, and so does the first that shows.
            day(papers[above].0.started) != day(entry.started) || row == first
        });
        let date = words::zoned(entry.started);
        let day = match (is_first, is_wide) {
            (false, _) => String::new(),
            (true, true) => date.strftime("%a %d %b %Y").to_string(),
            (true, false) => date.strftime("%d %b").to_string(),
        };
        let mut cells = vec![
            day,
            date.strftime("%H:%M").to_string(),
            format!("{mark} {}", entry.outcome.word()),
            entry.work.word().to_owned(),
            entry.plan.clone().unwrap_or_else(|| entry.store.clone()),
        ];
        if is_wide {
            let time = took(entry);
            cells.push(time.map_or("–".to_owned(), words::span));
        }
        if compares {
            cells.push(beside(took(entry), usual(&before(papers, row))));
        }
        cells.push(entry.words.clone().unwrap_or_else(|| words::deeds(entry)));
        Cells { cells, style, styled: 2 }
    };
    list(frame, app, drawn, upper, &columns, &row, &total);
    details(frame, app, lower);
}

fn details(frame: &mut Frame<'_>, app: &Model, area: Rect) {
    let Some(Ok(papers)) = &app.journal else { return };
    let row = app.list.selected;
    let Some((entry, exceptions)) = papers.get(row) else { return };
    let theme = app.theme;
    let width = usize::from(area.width);
    let title = format!(
        "  {}. {} of {} on {}   {}",
        entry.id,
        entry.work.word(),
        entry.plan.as_deref().unwrap_or(&entry.store),
        entry.machine,
        words::moment(entry.started)
    );
    let mut lines = vec![
        Line::styled("─".repeat(width), theme.quiet()),
        Line::styled(fit(&title, width), theme.strong()),
        fact(app, "Result", words::deeds(entry)),
    ];
    let mut times = before(papers, row);
    if let Some(usual) = usual(&times) {
        let count = times.len();
        times.extend(took(entry));
        let line = small_line(&times);
        let far = beside(took(entry), Some(usual));
        let time = took(entry).map_or("running".to_owned(), words::span);
        lines.push(Line::from(vec![
            Span::styled("  Duration     ", theme.quiet()),
            Span::raw(format!("{time}   ")),
            Span::styled(line, theme.was()),
            Span::styled(format!("   usual {} (last {count})", words::span(usual)), theme.quiet()),
            Span::styled(if far.is_empty() { far } else { format!("   {far}") }, theme.is()),
        ]));
    } else if let Some(time) = took(entry) {
        lines.push(fact(app, "Duration", words::span(time)));
    }
    if let Some(said) = &entry.words {
        lines.push(fact(app, "Message", said.clone()));
    }
    if let Some(hint) = &entry.hint {
        lines.push(fact(app, "To do", hint.clone()));
    }
    if entry.exception_count > 0 {
        let count = words::counted(entry.exception_count, "exception", "exceptions");
        let first = exceptions.first().map_or(String::new(), |first| {
            format!(", among them {}: {}", words::path(&first.path), first.cause.words)
        });
        lines.push(Line::styled(fit(&format!("  ▲ {count}{first}"), width), theme.wrong()));
    }
    lines.truncate(usize::from(area.height));
    plain(frame, lines, area);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_usual_is_told_by_enough_runs_and_what_is_far_from_it_is_said() {
        assert_eq!(usual(&[1000, 9000]), None);
        assert_eq!(usual(&[9000, 1000, 3000]), Some(3000));
        assert_eq!(beside(Some(9000), Some(3000)), "3.0× usual");
        assert_eq!(beside(Some(1000), Some(3000)), "3.0× faster");
        assert_eq!(beside(Some(3500), Some(3000)), "");
        assert_eq!(beside(Some(900), Some(100)), "", "fractions of a second are noise");
        assert_eq!(small_line(&[0, 50, 100]), "▁▅█");
    }
}
