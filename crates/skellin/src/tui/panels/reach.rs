//! The way to a store's place, step by step while it is gone.

use ratatui::{
    crossterm::event::KeyCode,
    text::{Line, Span},
};
use skellin_engine::ReachStep;

use super::Answer;
use crate::tui::{
    model::Model,
    worker::{Request, Trouble},
};

/// A store that is being reached.
pub(in crate::tui) struct ReachPanel {
    pub store: String,
    /// Which attempt its reports belong to.
    number: u64,
    steps: Vec<ReachStep>,
    end: Option<Result<(), Trouble>>,
}

impl ReachPanel {
    /// A first attempt, and what to ask the worker.
    pub fn begin(store: String, number: u64, accept: bool) -> (Self, Request) {
        let request = Request::Reach { number, store: store.clone(), accept };
        (Self { store, number, steps: Vec::new(), end: None }, request)
    }

    pub fn take_step(&mut self, number: u64, step: ReachStep) {
        if number == self.number {
            self.steps.push(step);
        }
    }

    pub fn take_end(&mut self, number: u64, end: Result<(), Trouble>) {
        if number == self.number {
            self.end = Some(end);
        }
    }

    /// Whether the host's key is new and may be accepted.
    fn may_accept(&self) -> bool {
        matches!(&self.end, Some(Err(trouble)) if trouble.new_host)
    }

    pub fn hints(&self) -> Vec<(&'static str, &'static str)> {
        let mut hints = vec![("Esc", "back")];
        if self.may_accept() {
            hints.insert(0, ("k", "accept this host key"));
        } else if self.end.is_some() {
            hints.insert(0, ("t", "try again"));
        }
        hints
    }

    /// Whether what a key is about is still under way.
    pub fn has_to_wait(&self, code: KeyCode) -> bool {
        self.end.is_none() && code == KeyCode::Char('t')
    }

    pub fn key(&self, code: KeyCode) -> Answer {
        match code {
            KeyCode::Char('k') if self.may_accept() => Answer::Reach { accept: true },
            KeyCode::Char('t') if self.end.is_some() => Answer::Reach { accept: false },
            KeyCode::Esc | KeyCode::Char('q') => Answer::Dismiss,
            _ => Answer::Stay,
        }
    }

    pub fn lines(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        let mut lines: Vec<Line<'static>> = self
            .steps
            .iter()
            .map(|step| {
                Line::from(vec![
                    Span::styled("✓ ", theme.well()),
                    Span::styled(format!("{:<13}", step.step), theme.quiet()),
                    Span::raw(step.found.clone()),
                ])
            })
            .collect();
        match &self.end {
            None => lines.push(Line::styled("  testing …", theme.is())),
            Some(Ok(())) => {
                lines.push(Line::from(""));
                lines.push(Line::styled("✓ All checks passed.", theme.well()));
            }
            Some(Err(trouble)) => {
                lines.push(Line::styled(format!("✕ {}", trouble.what), theme.wrong()));
                lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("→ {hint}"))));
            }
        }
        lines
    }
}
