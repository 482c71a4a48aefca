//! Stores: where they are, whether they can be reached, how full, and what is newest in them.

use crate::tui::drawn::Drawn;
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    text::{Line, Span},
};

use skellin_engine::DriveState;
use unicode_width::UnicodeWidthStr;

use super::parts::{Cells, column, fact, list, number, paragraph, plain};
use crate::{
    tui::{model::Model, worker::StoreRow},
    words,
};

pub(super) fn title(app: &Model) -> Vec<String> {
    let Some(stores) = &app.stores else { return vec!["loading …".to_owned()] };
    let here = stores.iter().filter(|store| store.state.is_ok()).count();
    vec![format!("{here} of {} reachable", words::counted(stores.len() as u64, "store", "stores"))]
}

pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
    let Some(stores) = &app.stores else {
        let looking = Line::styled("  loading …", app.theme.quiet());
        return paragraph(frame, vec![Line::from(""), looking], area);
    };
    if stores.is_empty() {
        let lines = vec![
            Line::from(""),
            Line::from("  There is no store yet."),
            Line::styled(
                "  → c creates one, step by step; a makes one together with a plan",
                app.theme.is(),
            ),
        ];
        return paragraph(frame, lines, area);
    }
    let total: u64 = stores.iter().filter_map(|store| store.usage).map(|(_, bytes)| bytes).sum();
    let total = format!(
        "{}, {} in open stores",
        words::counted(stores.len() as u64, "store", "stores"),
        words::bytes(total)
    );
    let [upper, lower] =
        Layout::vertical([Constraint::Length(stores.len() as u16 + 3), Constraint::Min(0)])
            .areas(area);
    let place = usize::from(area.width).saturating_sub(66).clamp(12, 60);
    let columns = [
        column("store", 12),
        column("place", place),
        column("state", 10),
        number("content", 9),
        number("free", 9),
        number("snapshots", 9),
    ];
    let row = |app: &Model, row: usize| {
        let store = &app.stores.as_ref().map_or(&[][..], Vec::as_slice)[row];
        let snapshots: usize = app
            .lanes
            .iter()
            .map(|lane| match lane.store == store.name {
                true => lane.marks.len(),
                false => lane.copies.get(&store.name).map_or(0, |(count, _)| *count),
            })
            .sum();
        let (state, style) = match &store.state {
            Ok(_) => ("✓ here", app.theme.well()),
            Err(_) => ("✕ away", app.theme.wrong()),
        };
        Cells {
            cells: vec![
                store.name.clone(),
                store.place.clone(),
                state.to_owned(),
                store.usage.map_or("–".to_owned(), |(_, bytes)| words::bytes(bytes)),
                store.room.map_or("–".to_owned(), |(free, _)| words::bytes(free)),
                words::count(snapshots as u64),
            ],
            style,
            styled: 2,
        }
    };
    list(frame, app, drawn, upper, &columns, &row, &total);
    details(frame, app, lower);
}

/// One drive: whether it is here, how old the newest snapshot on it is, when it was here last.
fn drive(app: &Model, state: &DriveState, widest: usize) -> Line<'static> {
    let newest = state.newest.map_or("no snapshot".to_owned(), |time| {
        format!("newest snapshot {} ago", words::age(app.now - time))
    });
    let (mark, style) = match state.mount {
        Some(_) => ("✓", app.theme.well()),
        None => ("·", app.theme.quiet()),
    };
    let place = seen(app, state);
    let blanks = " ".repeat(widest.saturating_sub(place.width()));
    let turn = if state.has_turn { "   next" } else { "" };
    Line::from(vec![
        Span::styled(format!("  {mark} {:<12}", state.name), style),
        Span::from(format!("{place}{blanks}  {newest}{turn}")),
    ])
}

/// Where a drive is, or when it was here.
fn seen(app: &Model, state: &DriveState) -> String {
    match (&state.mount, state.seen) {
        (Some(mount), _) => format!("here, at {mount}"),
        (None, Some(seen)) => format!("away, seen {} ago", words::age(app.now - seen)),
        (None, None) => "away, never seen".to_owned(),
    }
}

/// How much dedup and compression save, as far as every snapshot kept here tells.
fn saving(app: &Model, store: &StoreRow) -> Option<String> {
    let (_, stored) = store.usage?;
    let mut own = app.lanes.iter().filter(|lane| lane.store == store.name);
    // What was copied here from elsewhere tells nothing of what was new.
    if app.lanes.iter().any(|lane| lane.copies.contains_key(&store.name)) {
        return None;
    }
    let (mut snapshots, mut whole, mut new) = (0u64, 0, 0);
    own.try_for_each(|lane| {
        lane.marks.iter().try_for_each(|mark| {
            let facts = mark.facts?;
            snapshots += 1;
            whole += facts.bytes;
            new += facts.new_bytes;
            Some(())
        })
    })?;
    if snapshots == 0 || stored == 0 || new == 0 {
        return None;
    }
    let times = |of: u64, to: u64| format!("{:.1}", of as f64 / to as f64);
    let held = format!(
        "{} in {}: {} stored",
        words::bytes(whole),
        words::counted(snapshots, "snapshot", "snapshots"),
        words::bytes(stored),
    );
    // What an interrupted run had stored counts for no snapshot as new.
    Some(match new >= stored {
        true => format!(
            "{held} (1 : {} by dedup, 1 : {} by compression)",
            times(whole, new),
            times(new, stored)
        ),
        false => format!("{held} (1 : {} by dedup and compression)", times(whole, stored)),
    })
}

fn details(frame: &mut Frame<'_>, app: &Model, area: Rect) {
    let Some(store) = app.stores.as_ref().and_then(|stores| stores.get(app.list.selected)) else {
        return;
    };
    let mut lines = vec![Line::styled(format!("  {}", store.name), app.theme.strong())];
    match &store.state {
        Ok(id) => lines.push(fact(app, "Id", id.clone())),
        Err(trouble) => {
            lines.push(Line::styled(format!("  ✕ {}", trouble.what), app.theme.wrong()));
            lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("  → {hint}"))));
        }
    }
    lines.push(fact(app, "Place", store.place.clone()));
    if let Some((containers, bytes)) = store.usage {
        let text = format!(
            "{} in {}",
            words::bytes(bytes),
            words::counted(containers, "container", "containers")
        );
        lines.push(fact(app, "Content", text));
    }
    lines.extend(saving(app, store).map(|text| fact(app, "Savings", text)));
    if let Some((free, all)) = store.room {
        let text =
            format!("{} free of {} on that file system", words::bytes(free), words::bytes(all));
        lines.push(fact(app, "Space", text));
    }
    if !store.drives.drives.is_empty() {
        lines.push(Line::from(""));
        lines.push(Line::styled("  Drives in rotation", app.theme.quiet()));
        let drives = &store.drives.drives;
        let widest = drives.iter().map(|state| seen(app, state).width()).max().unwrap_or(0);
        lines.extend(drives.iter().map(|state| drive(app, state, widest)));
        match (store.drives.due(), store.drives.turn.as_ref().and_then(|turn| turn.until)) {
            (Some(due), _) => {
                lines.push(Line::styled(format!("  ▲ {due}"), app.theme.wrong()));
                lines.push(Line::from("  → swap the drives, then run its plans"));
            }
            (None, Some(until)) => {
                let until = until.to_zoned(jiff::tz::TimeZone::system());
                let text = format!("  next swap: {}", until.strftime("%A, %-d %b"));
                lines.push(Line::styled(text, app.theme.quiet()));
            }
            (None, None) => {}
        }
    }
    lines.push(Line::from(""));
    lines.push(Line::styled("  Newest snapshot of each plan", app.theme.quiet()));
    let told = |time: i64, what: &str| {
        format!("{}, {} ago{what}", words::moment(time), words::age(app.now - time))
    };
    let newest = app.lanes.iter().filter_map(|lane| {
        let of_own = lane.marks.last().map_or("none yet".to_owned(), |mark| told(mark.time, ""));
        let text = match lane.store == store.name {
            true => of_own,
            false => told(lane.copies.get(&store.name)?.1, ", a copy"),
        };
        Some(fact(app, &lane.label(), text))
    });
    let newest: Vec<_> = newest.collect();
    if newest.is_empty() {
        lines.push(Line::from("  not used by any plan"));
    }
    lines.extend(newest);
    lines.truncate(usize::from(area.height));
    plain(frame, lines, area);
}
