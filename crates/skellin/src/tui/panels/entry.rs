//! One entry of the journal, opened: its steps as bars in time, what could not be taken by its
//! cause, what commands said, and who was told.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    layout::Rect,
    text::{Line, Span, Text},
    widgets::Clear,
};
use skellin_engine::{Exception, JournalEntry, Outcome, StepRecord, Work, remedy, restore_remedy};
use unicode_width::UnicodeWidthStr;

use super::panel::{
    Answer, BACK, Heard, Hint, Key, Opened, Panel, Room, SCROLL, Scrolled, hints, key, meaning,
};
use crate::{
    tui::{
        drawn::Drawn,
        model::Model,
        worker::{Details, Report, Request, Trouble},
    },
    words::{self, fit},
};

/// So many paths of each cause are named.
const NAMED: usize = 6;
/// Columns of a step beside its bar: its kind, its subject, how long it took.
const KIND: usize = 10;
const TOOK: usize = 11;

/// An entry, and what is known of it.
pub(in crate::tui) struct EntryPanel {
    entry: JournalEntry,
    details: Option<Result<Details, Trouble>>,
    scrolled: Scrolled,
}

#[derive(Clone, Copy)]
enum Act {
    Show,
}

const KEYS: &[Key<Act>] = &[key(&[KeyCode::Enter], "Enter", Act::Show, "show snapshot")];

impl EntryPanel {
    pub fn open(entry: JournalEntry) -> Opened {
        let request = Request::Entry(entry.id);
        Opened::asking(Self { entry, details: None, scrolled: Scrolled::default() }, request)
    }

    /// The plan and the moment of its snapshot, if it made one.
    fn leads_to(&self) -> Option<(String, i64)> {
        self.entry.snapshot?;
        Some((self.entry.plan.clone()?, self.entry.started))
    }

    fn show(&self, frame: &mut Frame<'_>, app: &Model, area: Rect) {
        let width = usize::from(area.width);
        let lines = self.lines(app, width);
        let height = usize::from(area.height);
        let first = self.scrolled.first(height, lines.len());
        let shown: Vec<Line<'static>> = lines.into_iter().skip(first).take(height).collect();
        frame.render_widget(Clear, area);
        frame.render_widget(Text::from(shown), area);
    }

    fn lines(&self, app: &Model, width: usize) -> Vec<Line<'static>> {
        let (theme, entry) = (app.theme, &self.entry);
        let head = format!(
            "  {}. {} of {}   {}",
            entry.id,
            entry.work.word(),
            entry.plan.as_deref().unwrap_or(&entry.store),
            words::moment(entry.started)
        );
        let fact = |label: &str, text: String| {
            Line::from(vec![
                Span::styled(format!("  {label:<13}"), theme.quiet()),
                Span::raw(fit(&text, width.saturating_sub(15))),
            ])
        };
        let (mark, style) = app.outcome(entry.outcome);
        let took = entry.ended.map_or("running".to_owned(), |ended| {
            format!("took {}", words::span(ended - entry.started))
        });
        let mut lines = vec![
            Line::from(vec![
                Span::styled(head, theme.strong()),
                Span::styled(format!("   {mark} {}", entry.outcome.word()), style),
                Span::styled(format!("   {took}"), theme.quiet()),
            ]),
            fact("Result", words::deeds(entry)),
            fact(
                "Machine",
                format!("{}, into {}, by version {}", entry.machine, entry.store, entry.version),
            ),
        ];
        lines.extend(entry.words.iter().map(|said| fact("Message", said.clone())));
        lines.extend(entry.hint.iter().map(|hint| fact("To do", hint.clone())));
        match &self.details {
            None => lines.push(Line::styled("  loading …", theme.quiet())),
            Some(Err(trouble)) => {
                lines.push(Line::styled(format!("  ✕ {}", trouble.what), theme.wrong()));
            }
            Some(Ok(details)) => {
                self.steps(app, &details.steps, width, &mut lines);
                causes(app, entry, &details.exceptions, width, &mut lines);
                told(app, details, width, &mut lines);
            }
        }
        lines
    }

    fn steps(
        &self,
        app: &Model,
        steps: &[StepRecord],
        width: usize,
        lines: &mut Vec<Line<'static>>,
    ) {
        let theme = app.theme;
        lines.push(Line::from(""));
        if steps.is_empty() {
            let none = "  no steps recorded";
            return lines.push(Line::styled(none, theme.quiet()));
        }
        let start =
            steps.iter().map(|step| step.started).min().unwrap_or(0).min(self.entry.started);
        let end = steps.iter().filter_map(|step| step.ended).max().unwrap_or(start);
        let end = end.max(self.entry.ended.unwrap_or(start)).max(start + 1);
        let subject = steps.iter().map(|step| step.subject.width()).max().unwrap_or(0);
        let subject = subject.clamp(8, (width / 3).max(8));
        let room = width.saturating_sub(KIND + subject + TOOK + 8).max(8);
        let span = format!("{} total", words::span(end - start));
        lines.push(Line::from(vec![
            Span::styled(
                format!("  {:<w$}", "Steps", w = KIND + subject + TOOK + 4),
                theme.strong(),
            ),
            Span::styled(format!("{span:>room$}"), theme.quiet()),
        ]));
        for step in steps {
            let (_, style) = app.outcome(step.outcome);
            let (from, length) = bar((step.started, step.ended.unwrap_or(end)), (start, end), room);
            let took =
                step.ended.map_or("–".to_owned(), |ended| words::span(ended - step.started));
            let is_fine = step.outcome == Outcome::Done;
            let cells = if is_fine { "━".repeat(length) } else { "╍".repeat(length) };
            lines.push(Line::from(vec![
                Span::styled(format!("  {:<KIND$}", fit(&step.kind, KIND - 1)), theme.quiet()),
                Span::raw(format!(
                    "{:<subject$}",
                    fit(&words::path(step.subject.as_bytes()), subject)
                )),
                Span::raw(format!("{took:>TOOK$}  ")),
                Span::raw(" ".repeat(from)),
                Span::styled(cells, if is_fine { theme.was() } else { style }),
            ]));
            let said = step.words.iter().map(|words| (words.clone(), !is_fine));
            let output = step.output.iter().flat_map(|output| output.lines());
            let output = output.map(|line| (format!("│ {}", words::path(line.as_bytes())), false));
            for (text, is_wrong) in said.chain(output) {
                let style = if is_wrong { theme.wrong() } else { theme.quiet() };
                let text = fit(&text, width.saturating_sub(KIND + 3));
                lines.push(Line::from(vec![
                    Span::raw(" ".repeat(KIND + 2)),
                    Span::styled(text, style),
                ]));
            }
        }
    }
}

impl Panel for EntryPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        let mut told = hints(SCROLL);
        if self.leads_to().is_some() {
            told.extend(hints(KEYS));
        }
        told.push(BACK);
        told
    }

    fn key(&mut self, key: KeyEvent, _app: &Model) -> Answer {
        if let Some(lines) = meaning(SCROLL, key) {
            self.scrolled.by(lines);
            return Answer::Stay;
        }
        match (meaning(KEYS, key), self.leads_to()) {
            (Some(Act::Show), Some((plan, time))) => Answer::Snapshot { plan, time },
            (Some(Act::Show), None) => Answer::Stay,
            (None, _) => Answer::Dismiss,
        }
    }

    fn scrolled(&mut self) -> Option<&mut Scrolled> {
        Some(&mut self.scrolled)
    }

    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::Entry { id, details } if id == self.entry.id => {
                self.details = Some(details);
                Heard::Taken(Answer::Stay)
            }
            other => Heard::Not(Box::new(other)),
        }
    }

    /// It takes the place of the screen.
    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        self.show(frame, app, room.body);
    }
}

/// Where a bar begins and how long it is, in columns; each has at least one.
fn bar(step: (i64, i64), whole: (i64, i64), room: usize) -> (usize, usize) {
    let at = |time: i64| {
        let share = (time - whole.0).max(0) as f64 / (whole.1 - whole.0).max(1) as f64;
        ((share * room as f64) as usize).min(room)
    };
    let from = at(step.0).min(room - 1);
    (from, (at(step.1).max(from + 1) - from).min(room - from))
}

/// What could not be taken, by its cause.
fn causes(
    app: &Model,
    entry: &JournalEntry,
    exceptions: &[Exception],
    width: usize,
    lines: &mut Vec<Line<'static>>,
) {
    let count = entry.exception_count;
    if count == 0 {
        return;
    }
    let remedy = match entry.work {
        Work::Restore => restore_remedy,
        _ => remedy,
    };
    let theme = app.theme;
    let mut causes: Vec<(&str, Vec<&Exception>)> = Vec::new();
    for exception in exceptions {
        match causes.iter_mut().find(|(reason, _)| *reason == exception.cause.words) {
            Some((_, of)) => of.push(exception),
            None => causes.push((&exception.cause.words, vec![exception])),
        }
    }
    causes.sort_by_key(|(_, of)| std::cmp::Reverse(of.len()));
    lines.push(Line::from(""));
    let title = words::counted(count, "exception", "exceptions");
    let by = words::counted(causes.len() as u64, "cause", "causes");
    lines.push(Line::styled(format!("  {title}, {by}"), theme.strong()));
    for (reason, of) in causes {
        let paths = words::counted(of.len() as u64, "path", "paths");
        lines.push(Line::styled(fit(&format!("  ▲ {paths}: {reason}"), width), theme.wrong()));
        if let Some(first) = of.first() {
            lines.push(Line::styled(
                fit(&format!("    → {}", remedy(first.cause.kind)), width),
                theme.quiet(),
            ));
        }
        for exception in of.iter().take(NAMED) {
            lines.push(Line::from(fit(&format!("    {}", words::path(&exception.path)), width)));
        }
        if of.len() > NAMED {
            let more = words::counted((of.len() - NAMED) as u64, "more", "more");
            lines.push(Line::styled(format!("    and {more}"), theme.quiet()));
        }
    }
    if count > exceptions.len() as u64 {
        let kept = words::count(exceptions.len() as u64);
        lines.push(Line::styled(format!("    only the first {kept} are recorded"), theme.quiet()));
    }
}

/// Who was told of it.
fn told(app: &Model, details: &Details, width: usize, lines: &mut Vec<Line<'static>>) {
    if details.deliveries.is_empty() {
        return;
    }
    lines.push(Line::from(""));
    lines.push(Line::styled("  Notifications", app.theme.strong()));
    for delivery in &details.deliveries {
        let how = words::delivery(delivery);
        let text = format!("  {:<14}{:<12}{how}", delivery.channel, delivery.topic);
        let style = if delivery.sent.is_some() { app.theme.well() } else { app.theme.wrong() };
        lines.push(Line::styled(fit(&text, width), style));
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Every bar shows, and none leaves the room.
        #[test]
        fn bars_stay_in_their_room(start in 0i64..1000, length in 0i64..1000, room in 1usize..200) {
            let whole = (0, 2000);
            let (from, long) = bar((start, start + length), whole, room);
            prop_assert!(long >= 1 && from + long <= room, "{from} {long} of {room}");
        }
    }
}
