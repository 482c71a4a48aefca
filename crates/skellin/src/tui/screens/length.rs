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

/// The path of the line that is selected in Is: of an exception or a change, else the first source.
pub(in crate::tui) fn listed_path(app: &Model) -> Option<Vec<u8>> {
    use std::os::unix::ffi::OsStrExt;
    let lane = app.current_lane()?;
    let at = app.list.selected;
    let listed = match &lane.work {
        Work::Ended { result: Ok(report), .. } => {
            let exceptions = report.exceptions.len();
            match report.exceptions.get(at) {
                Some(exception) => Some(exception.path.clone()),
                None => changes(report).nth(at - exceptions).map(|path| path.path.clone()),
            }
        }
        _ => None,
    };
    let source = || {
        let source = lane.plan.as_ref()?.sources.first()?;
        Some(source.as_os_str().as_bytes().to_vec())
    };
    listed.or_else(source)
}
