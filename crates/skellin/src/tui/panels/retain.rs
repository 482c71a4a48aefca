//! The sentences of a plan, tried before they are saved: the ribbon, the year and the numbers move
//! with every change.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    style::Style,
    text::{Line, Span, Text},
    widgets::Clear,
};
use skellin_plan::{
    Plan,
    retention::{Sentence, Time},
};
use unicode_width::UnicodeWidthStr as _;

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    popup::trouble_lines,
    text_field::TextField,
};
use crate::{
    tui::{
        drawn::Drawn,
        lanes::Lane,
        lines::cut,
        model::Model,
        outlook::Outlook,
        screens,
        worker::{Report, Request, Trouble},
    },
    words,
};

const DAY: i64 = 86_400_000;
/// So many snapshots that would go are named.
const NAMED: usize = 4;

/// The sentences of a plan while they are being changed.
pub(in crate::tui) struct RetainPanel {
    plan: String,
    store: String,
    before: Vec<Sentence>,
    /// Each with its number among those before.
    rows: Vec<(Option<usize>, Sentence)>,
    /// The selected row; behind the last one a new one is added.
    at: usize,
    typing: Option<TextField>,
    trouble: Option<Trouble>,
}

#[derive(Clone, Copy)]
enum Act {
    Up,
    Down,
    Less,
    More,
    Type,
    Remove,
    Earlier,
    Later,
    Save,
    Leave,
}

const KEYS: &[Key<Act>] = &[
    key(&[KeyCode::Up], "↑↓", Act::Up, "sentence"),
    key(&[KeyCode::Down], "", Act::Down, ""),
    key(&[KeyCode::Left, KeyCode::Char('-')], "← →", Act::Less, "less, more"),
    key(&[KeyCode::Right, KeyCode::Char('+'), KeyCode::Char('=')], "", Act::More, ""),
    key(&[KeyCode::Enter], "Enter", Act::Type, "type"),
    key(&[KeyCode::Char('s')], "s", Act::Save, "save"),
    key(&[KeyCode::Esc], "Esc", Act::Leave, "leave"),
    key(&[KeyCode::Delete, KeyCode::Char('x')], "x", Act::Remove, "remove"),
    key(&[KeyCode::Char('.')], ", .", Act::Later, "day"),
    key(&[KeyCode::Char(',')], "", Act::Earlier, ""),
];

#[derive(Clone, Copy)]
enum Typed {
    Done,
    Drop,
}

const TYPING: &[Key<Typed>] = &[
    key(&[KeyCode::Enter], "Enter", Typed::Done, "try it"),
    key(&[KeyCode::Esc], "Esc", Typed::Drop, "back"),
];

impl RetainPanel {
    pub fn open(plan: &Plan, store: &str) -> Opened {
        let before = plan.retained_at(store).to_vec();
        Opened::of(Self {
            plan: plan.name.clone(),
            store: store.to_owned(),
            rows: before.iter().cloned().enumerate().map(|(at, said)| (Some(at), said)).collect(),
            before,
            at: 0,
            typing: None,
            trouble: None,
        })
    }

    fn sentences(&self) -> Vec<Sentence> {
        self.rows.iter().map(|(_, said)| said.clone()).collect()
    }

    fn tried(&self) -> Answer {
        Answer::Try(self.sentences())
    }

    /// Puts what was typed in place of the selected sentence, or behind the last.
    fn take(&mut self, text: &str) -> Answer {
        let text = text.trim();
        if text.is_empty() {
            self.typing = None;
            return Answer::Stay;
        }
        match Sentence::parse(text) {
            Err((what, hint)) => {
                self.trouble = Some(Trouble { hint: Some(hint), ..Trouble::of_words(what) });
                Answer::Stay
            }
            Ok(said) => self.put(said),
        }
    }

    fn put(&mut self, said: Sentence) -> Answer {
        let mut others = self.rows.iter().enumerate().filter(|(at, _)| *at != self.at);
        if others.any(|(_, (_, other))| *other == said) {
            self.trouble = Some(Trouble::of_words(format!("`{said}` is there already")));
            return Answer::Stay;
        }
        (self.typing, self.trouble) = (None, None);
        match self.rows.get_mut(self.at) {
            Some((_, there)) => *there = said,
            None => self.rows.push((None, said)),
        }
        self.tried()
    }

    fn stretch(&mut self, by: i64) -> Answer {
        let Some((_, said)) = self.rows.get(self.at) else { return Answer::Stay };
        match stretched(said, by) {
            Some(said) if Sentence::parse(&said.to_string()).is_ok() => self.put(said),
            _ => Answer::Stay,
        }
    }

    fn save(&mut self) -> Answer {
        self.trouble = None;
        if self.sentences() == self.before {
            return Answer::Dismiss;
        }
        let sentences = self.rows.iter().map(|(of, said)| (*of, said.to_string())).collect();
        Answer::Ask(Request::Retain { plan: self.plan.clone(), sentences })
    }

    fn rows(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        let mut lines = Vec::new();
        for at in 0..=self.rows.len() {
            let is_here = at == self.at;
            let text = match (self.rows.get(at), &self.typing) {
                (_, Some(typing)) if is_here => typing.shown(true),
                (Some((_, said)), _) => said.to_string(),
                (None, _) => "+ add a sentence".to_owned(),
            };
            let is_changed = match self.rows.get(at) {
                Some((Some(of), said)) => self.before[*of] != *said,
                row => row.is_some(),
            };
            let style = match (is_here, self.rows.get(at)) {
                (true, _) => theme.will().patch(theme.strong()),
                (false, Some(_)) => Style::new(),
                (false, None) => theme.quiet(),
            };
            let mark = if is_here { "  ▌ " } else { "    " };
            let note = if is_changed { "   changed" } else { "" };
            lines.push(Line::from(vec![
                Span::styled(mark, theme.will()),
                Span::styled(text, style),
                Span::styled(note, theme.is()),
            ]));
        }
        lines
    }

    /// What stays at a moment by the plan and by what is tried.
    fn stays(&self, app: &Model, lane: &Lane, label: &str, at: i64) -> Line<'static> {
        let told = |outlook: &Outlook| {
            let ((stay, all), (new, coming)) = (outlook.count(false), outlook.count(true));
            match coming {
                0 => format!("{stay} of {all}"),
                _ => format!("{stay} of {all}, and {new} of {coming} to come"),
            }
        };
        let by = |sentences: &[Sentence]| told(&lane.outlook_by(sentences, app.now, at));
        let (was, is) = (by(&self.before), by(&self.sentences()));
        let mut spans = vec![Span::styled(format!("  {label:<13}"), app.theme.quiet())];
        match was == is {
            true => spans.push(Span::raw(format!("{is} stay, as by the plan"))),
            false => spans.extend([
                Span::styled(format!("{was}  →  "), app.theme.quiet()),
                Span::styled(format!("{is} stay"), app.theme.will().patch(app.theme.strong())),
            ]),
        }
        Line::from(spans)
    }

    /// Those that stay now by the plan, and would go at the next expire.
    fn lost(&self, app: &Model, lane: &Lane) -> Vec<Line<'static>> {
        let now = |sentences: &[Sentence]| lane.outlook_by(sentences, app.now, app.now);
        let (was, is) = (now(&self.before), now(&self.sentences()));
        let both = was.snapshots.iter().zip(&is.snapshots);
        let lost: Vec<i64> =
            both.filter(|(was, is)| was.stays() && !is.stays()).map(|(was, _)| was.time).collect();
        if lost.is_empty() {
            let text = match self.sentences().is_empty() {
                true => "no sentence: no snapshot expires",
                false => "no snapshot expires that stays by the plan now",
            };
            return vec![Line::styled(format!("  {text}"), app.theme.quiet())];
        }
        let mut named: Vec<String> =
            lost.iter().rev().take(NAMED).map(|time| words::moment(*time)).collect();
        if lost.len() > NAMED {
            named.push(format!("{} more", lost.len() - NAMED));
        }
        let what = match lost.len() {
            1 => "  ▲ 1 snapshot that stays now would expire:".to_owned(),
            many => format!("  ▲ {many} snapshots that stay now would expire:"),
        };
        vec![Line::styled(what, app.theme.wrong()), Line::from(format!("    {}", named.join(", ")))]
    }
}

/// A sentence that reaches further, or less far; `None` if it cannot, or is to be typed.
fn stretched(said: &Sentence, by: i64) -> Option<Sentence> {
    let time = |time: &Time| {
        let count = time.count.checked_add(by).filter(|count| *count >= 1)?;
        Some(Time { count, ..*time })
    };
    match said {
        Sentence::Everything(of) => Some(Sentence::Everything(time(of)?)),
        Sentence::One(period, of) => Some(Sentence::One(*period, time(of)?)),
        Sentence::AtLeast(count) => {
            let count = u32::try_from(i64::from(*count) + by).ok().filter(|count| *count >= 1)?;
            Some(Sentence::AtLeast(count))
        }
        Sentence::Labelled(label, of) => {
            Some(Sentence::Labelled(label.clone(), Some(time(of.as_ref()?)?)))
        }
        Sentence::Goal(_) => None,
    }
}

impl Panel for RetainPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        match self.typing {
            Some(_) => hints(TYPING),
            None => hints(KEYS),
        }
    }

    fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        if let Some(typing) = &mut self.typing {
            let text = typing.text();
            return match meaning(TYPING, key) {
                Some(Typed::Done) => self.take(&text),
                Some(Typed::Drop) => {
                    (self.typing, self.trouble) = (None, None);
                    Answer::Stay
                }
                None => {
                    typing.key(key);
                    Answer::Stay
                }
            };
        }
        let cursor = app.cursor_time().unwrap_or(app.now);
        match meaning(KEYS, key) {
            Some(Act::Up) => self.at = self.at.saturating_sub(1),
            Some(Act::Down) => self.at = (self.at + 1).min(self.rows.len()),
            Some(Act::Less) => return self.stretch(-1),
            Some(Act::More) => return self.stretch(1),
            Some(Act::Type) => {
                let text =
                    self.rows.get(self.at).map_or(String::new(), |(_, said)| said.to_string());
                self.typing = Some(TextField::of(&text));
            }
            Some(Act::Remove) if self.at < self.rows.len() => {
                self.rows.remove(self.at);
                self.trouble = None;
                return self.tried();
            }
            Some(Act::Later) => return Answer::Day(cursor.max(app.now) + DAY),
            Some(Act::Earlier) if cursor - DAY > app.now => return Answer::Day(cursor - DAY),
            Some(Act::Save) => return self.save(),
            Some(Act::Leave) => return Answer::Dismiss,
            Some(Act::Remove | Act::Earlier) | None => {}
        }
        Answer::Stay
    }

    fn paste(&mut self, text: &str) -> Answer {
        if let Some(typing) = &mut self.typing {
            typing.insert(text);
        }
        Answer::Stay
    }

    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::PlanChanged { texts: Err(trouble), .. } => {
                self.trouble = Some(trouble);
                Heard::Taken(Answer::Stay)
            }
            other => Heard::Not(Box::new(other)),
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let Some(lane) = app.current_lane() else { return };
        let theme = app.theme;
        let width = usize::from(room.body.width);
        let head = format!("  Retention of {} in {}", self.plan, self.store);
        let state = match self.sentences() == self.before {
            true => "as in the plan",
            false => "tried, not saved",
        };
        let gap = width.saturating_sub(head.width() + state.width() + 2).max(2);
        let mut lines = vec![
            Line::from(""),
            Line::from(vec![
                Span::styled(head, theme.strong()),
                Span::raw(" ".repeat(gap)),
                Span::styled(state, theme.is()),
            ]),
        ];
        lines.extend(self.rows(app));
        if let Some(trouble) = &self.trouble {
            lines.extend(trouble_lines(app, trouble).into_iter().map(|mut line| {
                line.spans.insert(0, Span::raw("    "));
                line
            }));
        }
        lines.push(Line::from(""));
        let at = app.cursor_time().unwrap_or(app.now).max(app.now);
        lines.push(self.stays(app, lane, "Now", app.now));
        if at > app.now {
            lines.push(self.stays(app, lane, &words::day(at), at));
        }
        lines.extend(self.lost(app, lane));
        if let Some(copy) = lane.plan.as_ref().and_then(own_copies) {
            lines.push(Line::styled(format!("  {copy}"), theme.quiet()));
        }
        if usize::from(room.body.height) >= lines.len() + 10 {
            lines.push(Line::from(""));
            let outlook = lane.outlook_by(&self.sentences(), app.now, at);
            lines.extend(screens::year(app, &outlook, at, &lane.zone(), width));
        }
        frame.render_widget(Clear, room.body);
        frame.render_widget(Text::from(cut(lines, width)), room.body);
    }
}

/// What copies of a plan retain by sentences of their own, which are not changed here.
fn own_copies(plan: &Plan) -> Option<String> {
    let own = plan.copies.iter().filter(|copy| copy.retain.is_some());
    let names: Vec<&str> = own.map(|copy| copy.store.as_str()).collect();
    (!names.is_empty())
        .then(|| format!("copies in {} have sentences of their own ([[copy]])", names.join(", ")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentences_stretch_by_one() {
        let parse = |text: &str| Sentence::parse(text).expect("a sentence");
        for (said, by, wanted) in [
            ("everything for 3 days", 1, Some("everything for 4 days")),
            ("one a week for 10 weeks", -1, Some("one a week for 9 weeks")),
            ("at least 4", 1, Some("at least 5")),
            ("at least 1", -1, None),
            ("labelled field for 2 years", -1, Some("labelled field for 1 year")),
            ("labelled field forever", 1, None),
            ("at most 2 TiB", 1, None),
        ] {
            let found = stretched(&parse(said), by).map(|said| said.to_string());
            assert_eq!(found.as_deref(), wanted, "{said}");
        }
    }
}
