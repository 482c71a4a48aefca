//! What lies at a store's place, folder by folder.

use ratatui::text::{Line, Span};
use skellin_store::Holding;

use crate::{
    tui::{model::Model, worker::Trouble},
    words,
};

/// What lies there, once it was listed.
pub(in crate::tui) struct HoldsPanel {
    pub store: String,
    found: Option<Result<Vec<Holding>, Trouble>>,
}

impl HoldsPanel {
    pub fn new(store: String) -> Self {
        Self { store, found: None }
    }

    pub fn take(&mut self, store: &str, found: Result<Vec<Holding>, Trouble>) {
        if self.store == store {
            self.found = Some(found);
        }
    }

    pub fn lines(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        let holdings = match &self.found {
            None => return vec![Line::styled("loading …", theme.quiet())],
            Some(Err(trouble)) => {
                let mut lines = vec![Line::styled(format!("✕ {}", trouble.what), theme.wrong())];
                lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("→ {hint}"))));
                return lines;
            }
            Some(Ok(holdings)) => holdings,
        };
        let head = format!("{:<12}{:>9}{:>11}", "folder", "objects", "bytes");
        let mut lines = vec![Line::styled(head, theme.quiet())];
        for holding in holdings {
            let (folder, about) = words::holding(holding.folder);
            let (objects, bytes) = (words::count(holding.objects), words::bytes(holding.bytes));
            lines.push(Line::from(vec![
                Span::raw(format!("{folder:<12}{objects:>9}{bytes:>11}   ")),
                Span::styled(about, theme.quiet()),
            ]));
        }
        let sum = |of: fn(&Holding) -> u64| holdings.iter().map(of).sum::<u64>();
        lines.push(Line::styled(
            format!(
                "{:<12}{:>9}{:>11}",
                "total",
                words::count(sum(|holding| holding.objects)),
                words::bytes(sum(|holding| holding.bytes))
            ),
            theme.strong(),
        ));
        lines
    }
}
