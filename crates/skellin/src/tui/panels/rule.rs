//! New rule being written about a path: what it does, how wide it is, and what it would change.

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    text::{Line, Span},
};
use skellin_engine::{Amounts, Cancel};
use skellin_plan::name_pattern;

use super::{
    panel::{Answer, Heard, Hint, Key, Opened, Panel, Room, hints, key, meaning},
    popup::{popup, trouble_lines},
};
use crate::{
    tui::{
        drawn::Drawn,
        model::Model,
        worker::{Report, Request, Trouble},
    },
    words,
};

/// New rule being written.
pub(in crate::tui) struct RulePanel {
    plan: String,
    path: Vec<u8>,
    take: bool,
    /// Patterns for the path, from narrow to wide, with what they mean.
    widths: Vec<(String, String)>,
    width: usize,
    cancel: Cancel,
    effect: Option<Result<(Amounts, Amounts), Trouble>>,
    trouble: Option<Trouble>,
}

#[derive(Clone, Copy)]
enum Act {
    Turn,
    Narrower,
    Wider,
    Save,
    Leave,
}

const KEYS: &[Key<Act>] = &[
    key(
        &[KeyCode::Char(' '), KeyCode::Left, KeyCode::Right],
        "Space",
        Act::Turn,
        "include or exclude",
    ),
    key(&[KeyCode::Up], "↑↓", Act::Narrower, "scope"),
    key(&[KeyCode::Down], "", Act::Wider, ""),
    key(&[KeyCode::Enter], "Enter", Act::Save, "save"),
    key(&[KeyCode::Esc], "Esc", Act::Leave, "leave"),
];

impl RulePanel {
    /// About a path below a source. The error says why no rule can be written.
    pub fn open(
        plan: String,
        source: &[u8],
        path: Vec<u8>,
        is_directory: bool,
        take: bool,
    ) -> Result<Opened, String> {
        let source = source.strip_suffix(b"/").unwrap_or(source);
        let below = path.strip_prefix(source).and_then(|rest| rest.strip_prefix(b"/"));
        let below = below.ok_or("sources are chosen in the plan file")?;
        let name = below.rsplit(|b| *b == b'/').next().unwrap_or(below);
        let end = if is_directory { "/" } else { "" };
        let mut parts = Vec::new();
        for part in below.split(|b| *b == b'/') {
            let pattern = name_pattern("", part, "")?;
            parts.push(pattern.trim_matches('"').to_owned());
        }
        let whole = format!("./{}{end}", parts.join("/"));
        let whole =
            if whole.contains(char::is_whitespace) { format!("\"{whole}\"") } else { whole };
        let shown = words::path(name);
        let mut widths = vec![
            (whole, "this path only".to_owned()),
            (name_pattern("", name, end)?, format!("every {shown}, anywhere")),
        ];
        let dot = name.iter().rposition(|b| *b == b'.').filter(|at| *at > 0 && !is_directory);
        if let Some(dot) = dot {
            let kind = words::path(&name[dot..]);
            widths.push((
                name_pattern("*", &name[dot..], "")?,
                format!("every file ending in {kind}"),
            ));
        }
        let mut panel = Self {
            plan,
            path,
            take,
            widths,
            width: 0,
            cancel: Cancel::new(),
            effect: None,
            trouble: None,
        };
        let request = panel.ask();
        Ok(Opened::asking(panel, request))
    }

    fn rule(&self) -> String {
        format!("{} {}", if self.take { "take" } else { "skip" }, self.widths[self.width].0)
    }

    /// Asks anew what the rule would change.
    fn ask(&mut self) -> Request {
        self.cancel.cancel();
        self.cancel = Cancel::new();
        self.effect = None;
        Request::Effect { plan: self.plan.clone(), rule: self.rule(), cancel: self.cancel.clone() }
    }

    fn lines(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        let verb = if self.take { "‹ include ›" } else { "‹ exclude ›" };
        let mut lines = vec![
            Line::styled(words::path(&self.path), theme.strong()),
            Line::from(""),
            Line::from(vec![Span::raw("What      "), Span::styled(verb, theme.cursor())]),
        ];
        for (number, (_, says)) in self.widths.iter().enumerate() {
            let label = if number == 0 { "Scope   " } else { "" };
            let here = number == self.width;
            let mark = if here { "(•)" } else { "( )" };
            let style = if here { theme.strong() } else { theme.quiet() };
            lines.push(Line::from(vec![
                Span::raw(format!("{label:<10}")),
                Span::styled(format!("{mark} {says}"), style),
            ]));
        }
        lines.push(Line::from(""));
        lines.push(Line::from(vec![
            Span::raw("Rule      "),
            Span::styled(self.rule(), theme.is().patch(theme.strong())),
            Span::styled(format!("   appended to {}", self.plan), theme.quiet()),
        ]));
        lines.push(match &self.effect {
            None => Line::styled("Effect    counting …", theme.quiet()),
            Some(Err(trouble)) => Line::styled(format!("✕ {}", trouble.what), theme.wrong()),
            Some(Ok((before, after))) => effect(app, before, after),
        });
        lines.extend(self.trouble.iter().flat_map(|trouble| trouble_lines(app, trouble)));
        lines
    }
}

impl Panel for RulePanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(KEYS)
    }

    fn key(&mut self, key: KeyEvent, _app: &Model) -> Answer {
        match meaning(KEYS, key) {
            Some(Act::Leave) => {
                self.cancel.cancel();
                return Answer::Dismiss;
            }
            Some(Act::Narrower) => self.width = self.width.saturating_sub(1),
            Some(Act::Wider) => self.width = (self.width + 1).min(self.widths.len() - 1),
            Some(Act::Turn) => self.take = !self.take,
            Some(Act::Save) => {
                self.trouble = None;
                let (plan, rule) = (self.plan.clone(), self.rule());
                return Answer::Ask(Request::AddRule { plan, rule });
            }
            None => return Answer::Stay,
        }
        Answer::Ask(self.ask())
    }

    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::Effect { rule, amounts } if rule == self.rule() => {
                self.effect = Some(amounts);
                Heard::Taken(Answer::Stay)
            }
            Report::PlanChanged { texts: Err(trouble), .. } => {
                self.trouble = Some(trouble);
                Heard::Taken(Answer::Stay)
            }
            other => Heard::Not(Box::new(other)),
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        popup(frame, app, " New rule ", self.lines(app), room.whole, 110);
    }
}

fn effect(app: &Model, before: &Amounts, after: &Amounts) -> Line<'static> {
    let amounts = |amounts: &Amounts| {
        format!(
            "{}, {}",
            words::counted(amounts.files, "file", "files"),
            words::bytes(amounts.bytes)
        )
    };
    if before == after {
        return Line::styled(
            format!("Effect    none: {} included as before", amounts(after)),
            app.theme.quiet(),
        );
    }
    let (sign, less) = match after.bytes.cmp(&before.bytes) {
        std::cmp::Ordering::Less => ("−", before.bytes - after.bytes),
        _ => ("+", after.bytes - before.bytes),
    };
    Line::from(vec![
        Span::raw(format!("Effect    {}  →  ", amounts(before))),
        Span::styled(amounts(after), app.theme.strong()),
        Span::styled(format!("   {sign}{}", words::bytes(less)), app.theme.is()),
    ])
}
