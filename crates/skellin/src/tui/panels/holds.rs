//! What lies at a store's place, folder by folder.

use ratatui::{
    Frame,
    text::{Line, Span},
};
use skellin_store::Holding;

use super::{
    panel::{Answer, Heard, Opened, Panel, Room},
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

/// What lies there, once it was listed.
pub(in crate::tui) struct HoldsPanel {
    store: String,
    found: Option<Result<Vec<Holding>, Trouble>>,
}

impl HoldsPanel {
    pub fn open(store: String) -> Opened {
        let request = Request::Holds(store.clone());
        Opened::asking(Self { store, found: None }, request)
    }

    fn lines(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        let holdings = match &self.found {
            None => return vec![Line::styled("loading …", theme.quiet())],
            Some(Err(trouble)) => return trouble_lines(app, trouble),
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

impl Panel for HoldsPanel {
    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::Holds { store, found } if store == self.store => {
                self.found = Some(found);
                Heard::Taken(Answer::Stay)
            }
            other => Heard::Not(Box::new(other)),
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let title = format!(" Content of {} ", self.store);
        popup(frame, app, &title, self.lines(app), room.whole, 96);
    }
}
