//! What the restore panel says: the paths, where they go, what lies there, how far it is.

use std::{os::unix::ffi::OsStrExt, path::PathBuf, time::Duration};

use ratatui::{
    style::Style,
    text::{Line, Span},
};
use skellin_engine::{Existing, Progress};
use unicode_width::UnicodeWidthStr;

use super::{RestorePanel, Stage, Where};
use crate::{
    tui::{
        model::Model,
        panels::popup::trouble_lines,
        widgets::bar,
        worker::{ItemEnd, Restored},
    },
    words::{self, fit_name},
};

/// Columns of what a field is called.
const LABEL: usize = 20;
/// So many paths are shown at once.
const PATHS: usize = 8;

impl RestorePanel {
    pub(super) fn lines(&self, app: &Model, width: usize) -> Vec<Line<'static>> {
        let mut lines = Vec::new();
        self.path_lines(app, width, &mut lines);
        lines.push(Line::from(""));
        let asking = matches!(self.stage, Stage::Asking);
        let wherever = match self.place {
            Where::InPlace => "original location",
            Where::Beside => "original location, time in the name",
            Where::Directory => "another directory, or another host",
        };
        let existing = match self.existing {
            Existing::Leave => "keep",
            Existing::Replace => "replace",
            Existing::Rename => "rename to NAME.kept-TIME",
        };
        let extra = if self.removes_extra { "remove" } else { "keep" };
        let directory = if asking { self.directory.shown(true) } else { self.directory.text() };
        let fields = self.fields();
        for (field, question, answer) in [
            (0, "Destination", wherever.to_owned()),
            (1, "Directory", directory),
            (2, "Existing files", existing.to_owned()),
            (3, "Not in snapshot", extra.to_owned()),
        ] {
            if !fields.contains(&field) {
                continue;
            }
            let here = field == self.field && asking;
            let style = if here { app.theme.cursor() } else { Style::new() };
            let answer = if asking && field != 1 { format!("‹ {answer} ›") } else { answer };
            lines.push(Line::from(vec![
                Span::raw(format!("{question:<LABEL$}")),
                Span::styled(answer, style),
            ]));
        }
        lines.push(Line::from(""));
        self.stage_lines(app, width, &mut lines);
        lines
    }

    /// The paths with their times; where there are many, those around the chosen one.
    fn path_lines(&self, app: &Model, width: usize, lines: &mut Vec<Line<'static>>) {
        let theme = app.theme;
        if let [only] = self.items.as_slice() {
            let was = format!("snapshot of {}", words::moment(only.time));
            lines.push(Line::styled(was, theme.was()));
            return;
        }
        let chosen = self.field.checked_sub(super::FIRST_ITEM);
        let first = chosen.map_or(0, |at| (at + 1).saturating_sub(PATHS));
        for (number, item) in self.items.iter().enumerate().skip(first).take(PATHS) {
            let time = words::zoned(item.time).strftime("%a %d %b %Y %H:%M").to_string();
            let slash = if item.is_directory { "/" } else { "" };
            let size = words::bytes(item.size);
            let room = width.saturating_sub(time.len() + 14).max(10);
            let path = fit_name(&format!("{}{slash}", words::path(&item.path)), room);
            let gap = " ".repeat(room.saturating_sub(path.width()));
            let here = chosen == Some(number) && matches!(self.stage, Stage::Asking);
            let style = if here { theme.cursor() } else { Style::new() };
            lines.push(Line::from(vec![
                Span::styled(format!("{path}{gap}"), style),
                Span::styled(format!("  {time}"), theme.was()),
                Span::styled(format!(" {size:>9}"), theme.quiet()),
            ]));
        }
        let hidden = self.items.len().saturating_sub(PATHS);
        if hidden > 0 {
            let more = format!("{} more", words::count(hidden as u64));
            lines.push(Line::styled(more, theme.quiet()));
        }
    }

    fn stage_lines(&self, app: &Model, width: usize, lines: &mut Vec<Line<'static>>) {
        let theme = app.theme;
        match &self.stage {
            Stage::Asking if !self.has_directory() => lines.push(Line::styled(
                "The directory must be a full path, or sftp://host/path",
                theme.wrong(),
            )),
            Stage::Asking => lines.push(Line::styled(
                "A dry run comes first; nothing is written yet.",
                theme.quiet(),
            )),
            Stage::DryRun { .. } => lines.push(Line::styled("dry run …", theme.quiet())),
            Stage::Foretold(restored) => {
                lines.push(Line::styled("Dry run; nothing was written yet:", theme.is()));
                self.item_lines(app, restored, width, lines);
                report_lines(app, restored, true, lines);
            }
            Stage::Working { progress, .. } => {
                progress_lines(app, progress, lines);
                if let Some(waited) = &self.waited {
                    lines.push(Line::styled(format!("▲ {waited}"), theme.wrong()));
                }
            }
            Stage::Ended(Ok(restored)) => {
                let report = &restored.report;
                let (text, style) = match (report.interrupted, report.exception_count) {
                    (true, _) => ("Stopped. Restored files are complete.", theme.is()),
                    (false, 0) => ("✓ Done.", theme.well()),
                    (false, _) => ("▲ Done, with exceptions:", theme.wrong()),
                };
                lines.push(Line::styled(text, style));
                report_lines(app, restored, false, lines);
            }
            Stage::Ended(Err(trouble)) => lines.extend(trouble_lines(app, trouble)),
        }
    }

    /// Where each path goes, and what lies there.
    fn item_lines(
        &self,
        app: &Model,
        restored: &Restored,
        width: usize,
        lines: &mut Vec<Line<'static>>,
    ) {
        for item in restored.items.iter().take(PATHS) {
            let (state, is_new) = self.state(item);
            let room = width.saturating_sub(state.width() + 4).max(10);
            let target = fit_name(&words::path(item.target.as_os_str().as_bytes()), room);
            let style = if is_new { app.theme.quiet() } else { app.theme.is() };
            lines.push(Line::from(vec![
                Span::raw(format!("→ {target}  ")),
                Span::styled(state, style),
            ]));
        }
        let hidden = restored.items.len().saturating_sub(PATHS);
        if hidden > 0 {
            lines.push(Line::styled(format!("  and {hidden} more"), app.theme.quiet()));
        }
    }

    /// What lies where a path goes, in words, and whether that is nothing.
    fn state(&self, item: &ItemEnd) -> (String, bool) {
        let Some(there) = item.there else { return ("new".to_owned(), true) };
        if item.is_directory {
            return ("exists".to_owned(), true);
        }
        let becomes = match self.existing {
            Existing::Leave => "kept",
            Existing::Replace => "replaced",
            Existing::Rename => "renamed",
        };
        let age = |seconds: i64| words::age(seconds.saturating_mul(1000));
        let than = match there.cmp(&item.modified) {
            std::cmp::Ordering::Equal => return ("exists, of the same time".to_owned(), true),
            std::cmp::Ordering::Greater => format!("{} newer", age(there - item.modified)),
            std::cmp::Ordering::Less => format!("{} older", age(item.modified - there)),
        };
        (format!("exists, {than}: {becomes}"), false)
    }
}

pub(in crate::tui::panels) fn progress_lines(
    app: &Model,
    progress: &Progress,
    lines: &mut Vec<Line<'static>>,
) {
    let theme = app.theme;
    let total = progress.total_bytes.unwrap_or(0);
    let share = if total == 0 { 0.0 } else { progress.bytes as f64 / total as f64 };
    let mut spans = bar(share, 40, theme.was(), theme.quiet());
    spans.push(Span::raw(format!(
        " {} of {}, {}/s",
        words::bytes(progress.bytes),
        words::bytes(total),
        words::bytes(progress.rate as u64)
    )));
    lines.push(Line::from(spans));
    let left = progress.left.map_or(String::new(), |left| {
        format!("{} left  ", words::duration(Duration::from_secs(left.as_secs())))
    });
    lines.push(Line::styled(format!("{left}{}", words::path(&progress.path)), theme.quiet()));
}

fn report_lines(app: &Model, restored: &Restored, foretold: bool, lines: &mut Vec<Line<'static>>) {
    let theme = app.theme;
    let report = &restored.report;
    let shown = |path: &PathBuf| words::path(path.as_os_str().as_bytes());
    lines.push(Line::from(format!(
        "{}, {}{}",
        words::counted(report.restored, "path", "paths"),
        words::bytes(report.bytes),
        if foretold { " to restore" } else { " restored" }
    )));
    for (count, what) in [
        (report.same, "already right"),
        (report.left, "kept (already exist)"),
        (report.replaced, if foretold { "would be replaced" } else { "replaced" }),
        (report.renamed, if foretold { "would be renamed" } else { "renamed" }),
        (
            report.removed,
            if foretold { "would be removed: not in the snapshot" } else { "removed" },
        ),
    ] {
        if count > 0 {
            let style = if foretold { theme.is() } else { Style::new() };
            let what = format!("{} {what}", words::counted(count, "path", "paths"));
            lines.push(Line::styled(what, style));
        }
    }
    if let Some((needed, free)) = report.short.filter(|_| foretold) {
        let (needed, free) = (words::bytes(needed), words::bytes(free));
        let text = format!("▲ not enough room: {needed} needed, {free} free");
        lines.push(Line::styled(text, theme.wrong()));
    }
    let removed: Vec<String> = report.extras.iter().map(|path| words::path(path)).collect();
    for (what, paths) in
        [("exists", restored.in_the_way.iter().map(shown).collect::<Vec<_>>()), ("remove", removed)]
    {
        // One path is told of in its own line.
        if what == "exists" && restored.items.len() == paths.len() {
            continue;
        }
        for path in paths.iter().take(4) {
            lines.push(Line::styled(format!("  {what}: {path}"), theme.quiet()));
        }
        let more = paths.len().saturating_sub(4);
        if more > 0 {
            lines.push(Line::styled(format!("  and {more} more"), theme.quiet()));
        }
    }
    for exception in report.exceptions.iter().take(5) {
        lines.push(Line::styled(
            format!("▲ {}: {}", words::path(&exception.path), exception.cause.words),
            theme.wrong(),
        ));
    }
}
