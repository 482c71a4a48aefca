//! How long the lists are that the arrow keys go through.

use skellin_engine::Exception;

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

/// Exceptions a finished run has to show.
fn lines_of_work(app: &Model) -> usize {
    match app.current_lane().map(|lane| &lane.work) {
        Some(Work::Ended { result: Ok(report), .. }) => report.exceptions.len(),
        Some(Work::Going { exceptions, .. }) => exceptions.len(),
        _ => 0,
    }
}

/// The path of the line that is selected in Is: of an exception, else the first source.
pub(in crate::tui) fn listed_path(app: &Model) -> Option<Vec<u8>> {
    use std::os::unix::ffi::OsStrExt;
    let lane = app.current_lane()?;
    let listed = match &lane.work {
        Work::Ended { result: Ok(report), .. } => {
            by_reason(&report.exceptions).nth(app.list.selected).map(|one| one.path.clone())
        }
        _ => None,
    };
    let source = || {
        let source = lane.plan.as_ref()?.sources.first()?;
        Some(source.as_os_str().as_bytes().to_vec())
    };
    listed.or_else(source)
}

/// Exceptions with those of one reason together.
pub(super) fn by_reason(exceptions: &[Exception]) -> impl Iterator<Item = &Exception> {
    let mut sorted: Vec<&Exception> = exceptions.iter().collect();
    sorted.sort_by(|a, b| (&a.cause.words, &a.path).cmp(&(&b.cause.words, &b.path)));
    sorted.into_iter()
}
