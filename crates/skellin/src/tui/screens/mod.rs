//! What fills the screen below the ribbon: a module a screen.

mod first;
mod is;
mod journal;
mod length;
mod live;
mod map;
mod parts;
mod proof;
mod review;
mod stores;
mod was;
mod will;
mod work;

use crate::tui::drawn::Drawn;
use ratatui::{Frame, layout::Rect};

use super::model::{Cursor, Model, Screen};
pub(super) use length::{list_length, listed_path};
pub(super) use was::about_path;
pub(super) use will::year;

/// Draws it.
pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
    if app.lanes.is_empty() && app.screen == Screen::Ribbon {
        return first::draw(frame, app, area);
    }
    match app.screen {
        Screen::Stores => stores::draw(frame, app, drawn, area),
        Screen::Journal => journal::draw(frame, app, drawn, area),
        Screen::Proof => proof::draw(frame, app, drawn, area),
        Screen::Ribbon => match app.cursor {
            Cursor::Was(_) => was::draw(frame, app, drawn, area),
            Cursor::Is => is::draw(frame, app, drawn, area),
            Cursor::Will(_) => will::draw(frame, app, drawn, area),
        },
    }
}

/// What stands in the title line beside the tense or the screen.
pub(super) fn title(app: &Model) -> Vec<String> {
    match app.screen {
        Screen::Stores => stores::title(app),
        Screen::Journal => journal::title(app),
        Screen::Proof => proof::title(app),
        Screen::Ribbon => match app.cursor {
            Cursor::Was(time) => was::title(app, time),
            Cursor::Is => is::title(app),
            Cursor::Will(time) => will::title(app, time),
        },
    }
}
