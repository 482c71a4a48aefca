//! Panels that only say something, and go with any key.

use ratatui::{Frame, text::Line};

use super::{
    panel::{Answer, Heard, Opened, Panel, Room},
    popup::{popup, trouble_lines},
};
use crate::{
    tui::{
        drawn::Drawn,
        model::Model,
        screens,
        worker::{Report, Request, Trouble},
    },
    words,
};

/// All about the selected path.
pub(in crate::tui) struct AboutPanel;

impl Panel for AboutPanel {
    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let lines = screens::about_path(app, usize::from(room.whole.width.min(96)) - 4, 30);
        popup(frame, app, " Path details ", lines, room.whole, 96);
    }
}

/// Something failed that belongs to no screen.
pub(in crate::tui) struct TroublePanel(pub Trouble);

impl Panel for TroublePanel {
    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        popup(frame, app, " Failed ", trouble_lines(app, &self.0), room.whole, 96);
    }
}

/// Why the rules take a path or leave it out.
pub(in crate::tui) struct WhyPanel {
    path: Vec<u8>,
    reasons: Option<Result<Vec<String>, Trouble>>,
}

impl WhyPanel {
    pub fn open(plan: String, path: Vec<u8>) -> Opened {
        let request = Request::Explain { plan, path: path.clone() };
        Opened::asking(Self { path, reasons: None }, request)
    }
}

impl Panel for WhyPanel {
    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::Explained { path, reasons } if path == self.path => {
                self.reasons = Some(reasons);
                Heard::Taken(Answer::Stay)
            }
            other => Heard::Not(Box::new(other)),
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let lines = match &self.reasons {
            None => vec![Line::styled("checking the rules, and below …", app.theme.quiet())],
            Some(Ok(lines)) => lines.iter().map(|line| Line::from(line.clone())).collect(),
            Some(Err(trouble)) => trouble_lines(app, trouble),
        };
        let title = format!(" Why: {} ", words::path(&self.path));
        popup(frame, app, &title, lines, room.whole, 110);
    }
}

/// A channel that is tried, and how that went.
pub(in crate::tui) struct ToldPanel {
    channel: String,
    end: Option<Result<String, Trouble>>,
}

impl ToldPanel {
    pub fn open(channel: String) -> Opened {
        let request = Request::Tell(channel.clone());
        Opened::asking(Self { channel, end: None }, request)
    }
}

impl Panel for ToldPanel {
    fn report(&mut self, report: Report) -> Heard {
        match report {
            Report::Told { channel, end } if channel == self.channel => {
                self.end = Some(end);
                Heard::Taken(Answer::Stay)
            }
            other => Heard::Not(Box::new(other)),
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let theme = app.theme;
        let lines = match &self.end {
            None => vec![Line::styled("sending a test message …", theme.quiet())],
            Some(Ok(target)) => vec![
                Line::styled(format!("✓ sent: {target}"), theme.well()),
                Line::from("Check whether it has arrived."),
            ],
            Some(Err(trouble)) => trouble_lines(app, trouble),
        };
        popup(frame, app, &format!(" Test of {} ", self.channel), lines, room.whole, 96);
    }
}
