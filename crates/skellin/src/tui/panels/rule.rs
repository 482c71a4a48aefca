//! New rule being written about a path: what it does, how wide it is, and what it would change.

use ratatui::{
    crossterm::event::{KeyCode, KeyEvent},
    text::{Line, Span},
};
use skellin_engine::{Amounts, Cancel};
use skellin_plan::name_pattern;

use super::answer::Answer;
use crate::{
    tui::{
        model::Model,
        worker::{Request, Trouble},
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

impl RulePanel {
    /// About a path below a source. The error says why no rule can be written.
    pub fn new(
        plan: String,
        source: &[u8],
        path: Vec<u8>,
        is_directory: bool,
        take: bool,
    ) -> Result<Self, String> {
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
        Ok(Self {
            plan,
            path,
            take,
            widths,
            width: 0,
            cancel: Cancel::new(),
            effect: None,
            trouble: None,
        })
    }

    pub fn rule(&self) -> String {
        format!("{} {}", if self.take { "take" } else { "skip" }, self.widths[self.width].0)
    }

    /// Asks anew what the rule would change.
    pub fn ask(&mut self) -> Request {
        self.cancel.cancel();
        self.cancel = Cancel::new();
        self.effect = None;
        Request::Effect { plan: self.plan.clone(), rule: self.rule(), cancel: self.cancel.clone() }
    }

    pub fn take_effect(&mut self, rule: &str, effect: Result<(Amounts, Amounts), Trouble>) {
        if self.rule() == rule {
            self.effect = Some(effect);
        }
    }

    pub fn fail(&mut self, trouble: Trouble) {
        self.trouble = Some(trouble);
    }

    pub fn key(&mut self, key: KeyEvent) -> Answer {
        let many = self.widths.len();
        match key.code {
            KeyCode::Esc => {
                self.cancel.cancel();
                return Answer::Dismiss;
            }
            KeyCode::Up => self.width = self.width.saturating_sub(1),
            KeyCode::Down => self.width = (self.width + 1).min(many - 1),
            KeyCode::Left | KeyCode::Right | KeyCode::Char(' ') => self.take = !self.take,
            KeyCode::Enter => {
                self.trouble = None;
                let (plan, rule) = (self.plan.clone(), self.rule());
                return Answer::Ask(Request::AddRule { plan, rule });
            }
            _ => return Answer::Stay,
        }
        Answer::Ask(self.ask())
    }

    pub fn lines(&self, app: &Model) -> Vec<Line<'static>> {
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
        if let Some(trouble) = &self.trouble {
            lines.push(Line::styled(format!("✕ {}", trouble.what), theme.wrong()));
            lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("→ {hint}"))));
        }
        lines
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
