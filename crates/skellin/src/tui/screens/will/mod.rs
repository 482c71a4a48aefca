//! Will: what the schedules and the retention hold, and how the stores fill.

mod days;
mod plan;
mod stores;

use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
};

use crate::{
    tui::{drawn::Drawn, model::Model},
    words,
};
pub(in crate::tui) use days::draw as year;

/// Columns from which the stores stand beside the plan.
const WIDE: u16 = 132;

pub(super) fn title(app: &Model, time: i64) -> Vec<String> {
    let Some(lane) = app.current_lane() else { return Vec::new() };
    vec![lane.label(), words::moment(time), format!("in {}", words::age(time - app.now))]
}

pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
    let is_wide = area.width >= WIDE;
    drawn.is_wide(is_wide);
    let filling = &app.filling;
    match is_wide {
        true if !filling.is_hidden => {
            let halves = [Constraint::Percentage(54), Constraint::Percentage(46)];
            let [plan, stores] = Layout::horizontal(halves).areas(area);
            plan::draw(frame, app, plan);
            stores::draw(frame, app, stores);
        }
        false if filling.is_alone => stores::draw(frame, app, area),
        _ => plan::draw(frame, app, area),
    }
}
