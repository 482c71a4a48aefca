//! How long the lists are that the arrow keys go through.

use skellin_engine::{Change, PathChange, RunReport};

use crate::tui::{
    lanes::Work,
    model::{Cursor, Model, Screen},
};

/// Length of the list the arrow keys go through, where there is one.
pub(in crate::tui) fn list_length(app: &Model) -> usize {
    match app.screen {
        Screen::Stores => app.stores.as_ref().map_or(0, Vec::len),
        Screen::Journal => match &app.journal {
            Some(Ok(papers)) => papers.len(),
            _ => 0,
        },
        Screen::Proof => app.lanes.len(),
        Screen::Ribbon => match app.cursor {
            Cursor::Is => lines_of_work(app),
            _ => 0,
        },
    }
}

/// Changes and exceptions a finished piece of work has to show.
fn lines_of_work(app: &Model) -> usize {
    match app.current_lane().map(|lane| &lane.work) {
        Some(Work::Ended { result: Ok(report), .. }) => {
            report.exceptions.len() + changes(report).count()
        }
        Some(Work::Going { exceptions, .. }) => exceptions.len(),
        _ => 0,
    }
}

/// The paths that would not stay as they are.
pub(super) fn changes(report: &RunReport) -> impl Iterator<Item = &PathChange> {
    report.paths.iter().filter(|path| path.change != Change::Same)
}
