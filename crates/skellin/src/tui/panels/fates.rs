//! Why each snapshot stays, or goes, by the day at the cursor.

use ratatui::{
    Frame,
    text::{Line, Span},
};
use skellin_engine::expire;

use super::{
    panel::{BACK, Hint, Panel, Room, SCROLL, Scrolled, hints},
    popup::scrolling,
};
use crate::{
    tui::{drawn::Drawn, model::Model, outlook::Future},
    words,
};

/// Every snapshot of the current plan with its reasons.
#[derive(Default)]
pub(in crate::tui) struct FatesPanel(Scrolled);

impl Panel for FatesPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(SCROLL).into_iter().chain([BACK]).collect()
    }

    fn scrolled(&mut self) -> Option<&mut Scrolled> {
        Some(&mut self.0)
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, _drawn: &mut Drawn, room: Room) {
        let at = app.cursor_time().unwrap_or(app.now).max(app.now);
        let title = format!(" Why snapshots stay until {} ", words::moment(at));
        scrolling(frame, app, &title, (lines(app, at), self.0), room.whole, 120);
    }
}

fn lines(app: &Model, at: i64) -> Vec<Line<'static>> {
    let theme = app.theme;
    let Some(lane) = app.current_lane() else { return Vec::new() };
    let Some(outlook) = lane.outlook(app.now, at) else {
        return vec![
            Line::from("The plan has no `retain`, so that no snapshot expires."),
            Line::from("→ w lays out what would stay by a sentence"),
        ];
    };
    let time = |at: usize| words::moment(outlook.snapshots[at].time);
    let line = |one: &Future| {
        let because = expire::because(&one.decision, lane.sentences(), &time).join("; ");
        let (sign, style) = match (one.stays(), one.is_coming) {
            (false, _) => ("◌", theme.quiet()),
            (true, true) => ("○", theme.will()),
            (true, false) => ("●", theme.was()),
        };
        let what = if one.stays() { "stays" } else { "expires" };
        Line::from(vec![
            Span::styled(format!("{sign} "), style),
            Span::raw(format!("{}  ", words::moment(one.time))),
            Span::styled(format!("{what:<9}"), style),
            Span::styled(because, theme.quiet()),
        ])
    };
    // The newest first: those are what people ask about.
    outlook.snapshots.iter().rev().map(line).collect()
}
