//! The rules a new plan begins with: what is often left out, each with what it leaves out here.

use std::collections::HashMap;

use ratatui::{
    crossterm::event::{KeyCode, KeyEvent},
    style::Style,
    text::{Line, Span},
};
use skellin_engine::{Amounts, Cancel};
use skellin_plan::{OFTEN_SKIPPED, OftenSkipped, PlanDraft, RuleSet};

use super::super::{
    panel::{Key, key, meaning},
    text_field::TextField,
};
use crate::{
    tui::{
        model::Model,
        worker::{Request, Trouble, Written},
    },
    words::{self, fit},
};

struct Choice {
    says: String,
    written: Written,
    is_chosen: bool,
}

/// The step of the rules.
pub(super) struct Rules {
    choices: Vec<Choice>,
    /// The choice the keys go to; the number after the last is the rule being typed.
    at: usize,
    own: TextField,
    mistake: Option<(String, Option<String>)>,
    /// The draft the amounts belong to, without rules.
    of: PlanDraft,
    amounts: HashMap<Written, Option<Result<Amounts, Trouble>>>,
    cancel: Cancel,
}

/// What a key on this step leads to.
pub(super) enum Led {
    Nowhere,
    On,
    Ask(Request),
}

#[derive(Clone, Copy)]
pub(super) enum Act {
    Up,
    Down,
    Select,
    Next,
}

use KeyCode::{Char, Down, Enter, Up};

const CHOOSING: &[Key<Act>] = &[
    key(&[Up], "↑↓", Act::Up, "choose"),
    key(&[Down], "", Act::Down, ""),
    key(&[Char(' ')], "Space", Act::Select, "select"),
    key(&[Enter], "", Act::Next, ""),
];
const TYPING: &[Key<Act>] = &[
    key(&[Up], "↑↓", Act::Up, "choose"),
    key(&[Down], "", Act::Down, ""),
    key(&[Enter], "Enter", Act::Next, "add"),
];

impl Rules {
    pub fn new() -> Self {
        let choices = OFTEN_SKIPPED.iter().map(|(says, often)| {
            let written = match often {
                OftenSkipped::Ready(name) => (vec![(*name).to_owned()], Vec::new()),
                OftenSkipped::Rule(rule) => (Vec::new(), vec![(*rule).to_owned()]),
            };
            Choice { says: (*says).to_owned(), written, is_chosen: false }
        });
        Self {
            choices: choices.collect(),
            at: 0,
            own: TextField::default(),
            mistake: None,
            of: PlanDraft::default(),
            amounts: HashMap::new(),
            cancel: Cancel::new(),
        }
    }

    /// All that is chosen, as the plan will have it.
    pub fn written(&self) -> Written {
        let mut all = Written::default();
        for choice in self.choices.iter().filter(|choice| choice.is_chosen) {
            all.0.extend(choice.written.0.iter().cloned());
            all.1.extend(choice.written.1.iter().cloned());
        }
        all
    }

    /// The step begins: what has to be counted for these sources.
    pub fn begin(&mut self, of: PlanDraft) -> Option<Request> {
        if of != self.of {
            self.end();
            (self.of, self.amounts) = (of, HashMap::new());
        }
        self.ask()
    }

    /// Nobody waits for the amounts any more.
    pub fn end(&mut self) {
        self.cancel.cancel();
        self.amounts.retain(|_, amounts| amounts.is_some());
    }

    /// Asks for amounts that are neither known nor on their way.
    fn ask(&mut self) -> Option<Request> {
        let each = self.choices.iter().map(|choice| choice.written.clone());
        let mut wanted: Vec<Written> = Vec::new();
        for written in std::iter::once(Written::default()).chain(each).chain([self.written()]) {
            if !self.amounts.contains_key(&written) && !wanted.contains(&written) {
                wanted.push(written);
            }
        }
        if wanted.is_empty() {
            return None;
        }
        if self.cancel.is_cancelled() {
            self.cancel = Cancel::new();
        }
        self.amounts.extend(wanted.iter().map(|written| (written.clone(), None)));
        let draft = Box::new(self.of.clone());
        Some(Request::Weigh { draft, variants: wanted, cancel: self.cancel.clone() })
    }

    pub fn weighed(&mut self, of: &PlanDraft, written: Written, amounts: Result<Amounts, Trouble>) {
        if *of == self.of {
            self.amounts.insert(written, Some(amounts));
        }
    }

    /// How many choices there are.
    pub fn count(&self) -> usize {
        self.choices.len()
    }

    pub fn is_typing(&self) -> bool {
        self.at == self.choices.len()
    }

    /// Why the step is not done yet.
    pub fn lacks(&self) -> Option<&'static str> {
        let is_open = !self.own.text().trim().is_empty();
        is_open.then_some("Enter adds the rule, Ctrl U removes it")
    }

    pub fn choose(&mut self, entry: usize) {
        self.at = entry.min(self.choices.len());
    }

    /// The keys that mean something now.
    pub fn keys(&self) -> &'static [Key<Act>] {
        if self.is_typing() { TYPING } else { CHOOSING }
    }

    pub fn key(&mut self, key: KeyEvent) -> Led {
        self.mistake = None;
        match meaning(self.keys(), key) {
            Some(Act::Up) => self.at = self.at.saturating_sub(1),
            Some(Act::Down) => self.at = (self.at + 1).min(self.choices.len()),
            Some(Act::Next) if self.own.text().trim().is_empty() => return Led::On,
            Some(Act::Next) => self.add(),
            Some(Act::Select) => {
                let choice = &mut self.choices[self.at];
                choice.is_chosen = !choice.is_chosen;
            }
            None if self.is_typing() => drop(self.own.key(key)),
            None => {}
        }
        self.ask().map_or(Led::Nowhere, Led::Ask)
    }

    pub fn paste(&mut self, text: &str) {
        if self.is_typing() {
            self.own.insert(text);
        }
    }

    /// Takes the rule that was typed, if it is one.
    fn add(&mut self) {
        let rule = self.own.text().trim().to_owned();
        let (_, problems) = RuleSet::parse(&rule, "the rule");
        if let Some(problem) = problems.into_iter().next() {
            self.mistake = Some((problem.message, problem.hint));
            return;
        }
        let written = (Vec::new(), vec![rule]);
        let known = self.choices.iter_mut().find(|choice| choice.written == written);
        match known {
            Some(choice) => choice.is_chosen = true,
            None => {
                self.choices.push(Choice {
                    says: "your rule".to_owned(),
                    written,
                    is_chosen: true,
                });
            }
        }
        (self.own, self.at) = (TextField::default(), self.choices.len());
    }

    /// What it leaves out here, in words.
    fn effect(&self, written: &Written) -> (String, bool) {
        let known = |written: &Written| self.amounts.get(written).and_then(Option::as_ref);
        match (known(&Written::default()), known(written)) {
            (Some(Err(_)), _) | (_, Some(Err(_))) => (String::new(), false),
            (Some(Ok(plain)), Some(Ok(with))) => match plain.files.saturating_sub(with.files) {
                0 => ("nothing here".to_owned(), false),
                files => {
                    let bytes = words::bytes(plain.bytes.saturating_sub(with.bytes));
                    (format!("{}, {bytes}", words::counted(files, "file", "files")), true)
                }
            },
            _ => ("counting …".to_owned(), false),
        }
    }

    /// The lines of the step, the first `choices` of them after two being the choices.
    pub fn lines(&self, app: &Model, width: usize) -> Vec<Line<'static>> {
        let theme = app.theme;
        let mut lines = vec![
            Line::styled(
                fit(
                    " Exclude what need not be restored. Nothing is excluded unless it is selected.",
                    width,
                ),
                theme.quiet(),
            ),
            Line::from(""),
        ];
        let says = self.choices.iter().map(|choice| choice.says.chars().count()).max().unwrap_or(0);
        for (number, choice) in self.choices.iter().enumerate() {
            let here = number == self.at;
            let mark = if choice.is_chosen { "[x]" } else { "[ ]" };
            let (effect, counts) = self.effect(&choice.written);
            let rule = choice.written.0.iter().chain(&choice.written.1).next();
            let rule = rule.map(String::as_str).unwrap_or_default();
            let head = format!(" {} {mark} {:<says$}  ", if here { "▸" } else { " " }, choice.says);
            let left = width.saturating_sub(head.chars().count() + 22);
            // A beginning that says nothing is left out.
            let rule = if left < 12 { String::new() } else { fit(rule, left) };
            let style = match (here, choice.is_chosen) {
                (true, _) => theme.strong(),
                (false, true) => theme.well(),
                _ => Style::new(),
            };
            lines.push(Line::from(vec![
                Span::styled(head, style),
                Span::styled(
                    format!("{effect:<20}  "),
                    if counts { theme.is() } else { theme.quiet() },
                ),
                Span::styled(rule, theme.quiet()),
            ]));
        }
        lines.push(Line::from(""));
        let typing = self.is_typing();
        let about = "for example: skip *.part";
        lines.push(super::super::guide::field(
            app,
            typing,
            "another rule",
            self.own.shown(typing),
            if self.own.is_empty() { about } else { "" },
            true,
        ));
        if let Some((what, hint)) = &self.mistake {
            lines.push(Line::styled(fit(&format!("   ✕ {what}"), width), theme.wrong()));
            lines.extend(hint.iter().map(|hint| Line::from(fit(&format!("   → {hint}"), width))));
        }
        lines.push(Line::from(""));
        lines.extend(self.sums(app));
        lines
    }

    fn sums(&self, app: &Model) -> Vec<Line<'static>> {
        let known = |written: &Written| self.amounts.get(written).and_then(Option::as_ref);
        let sum = |label: &str, written: &Written, style: Style| match known(written) {
            None => Line::styled(format!(" {label:<18}counting …"), app.theme.quiet()),
            Some(Ok(amounts)) => Line::from(vec![
                Span::raw(format!(" {label:<18}")),
                Span::styled(
                    format!(
                        "{}, {}",
                        words::counted(amounts.files, "file", "files"),
                        words::bytes(amounts.bytes)
                    ),
                    style,
                ),
            ]),
            Some(Err(trouble)) => {
                Line::styled(format!(" {label:<18}✕ {}", trouble.what), app.theme.wrong())
            }
        };
        let all = self.written();
        let mut lines = vec![sum("Selected paths", &Written::default(), Style::new())];
        if all != Written::default() {
            lines.push(sum("With these rules", &all, app.theme.strong()));
        }
        lines
    }
}
