//! Bringing a path back: where to, what about what is in the way; rehearsed first, then done,
//! watched, and concluded.

use std::{path::PathBuf, time::Duration};

use ratatui::{
    crossterm::event::{KeyCode, KeyEvent},
    style::Style,
    text::{Line, Span},
};
use skellin_engine::{Cancel, Destination, Existing, Progress, Waited};
use skellin_plan::FarSource;
use skellin_store::RunId;

use super::{answer::Answer, text_field::TextField};
use crate::{
    tui::{
        model::Model,
        widgets::bar,
        worker::{RestoreOrder, Restored, Trouble},
    },
    words,
};

/// A restore from question to end.
pub(in crate::tui) struct RestorePanel {
    pub path: Vec<u8>,
    store: String,
    snapshot: RunId,
    time: i64,
    in_place: bool,
    directory: TextField,
    existing: Existing,
    /// Which of the three questions the keys go to.
    field: usize,
    job: u64,
    pub stage: Stage,
    /// What it waits for, once that takes long.
    waited: Option<String>,
}

pub(in crate::tui) enum Stage {
    /// Where to, and what about what is in the way.
    Asking,
    /// The rehearsal is under way.
    Rehearsing { cancel: Cancel },
    /// What would happen.
    Rehearsed(Box<Restored>),
    /// It happens.
    Working { progress: Progress, cancel: Cancel },
    /// It has happened, or failed.
    Ended(Result<Box<Restored>, Trouble>),
}

impl RestorePanel {
    pub fn new(path: Vec<u8>, store: String, snapshot: RunId, time: i64, home: &str) -> Self {
        let directory = TextField::of(&format!("{}/restored", home.trim_end_matches('/')));
        // What lies on another host is never written there.
        let in_place = !FarSource::is_address(&path);
        Self {
            path,
            store,
            snapshot,
            time,
            in_place,
            directory,
            existing: Existing::Leave,
            field: 0,
            job: 0,
            stage: Stage::Asking,
            waited: None,
        }
    }

    fn has_directory(&self) -> bool {
        self.in_place || self.directory.text().starts_with('/')
    }

    pub fn under_way(&self) -> Option<(String, Cancel)> {
        match &self.stage {
            Stage::Working { cancel, .. } => Some(("restore".to_owned(), cancel.clone())),
            _ => None,
        }
    }

    pub fn order(&mut self, job: u64, dry_run: bool) -> RestoreOrder {
        let cancel = Cancel::new();
        self.job = job;
        self.stage = match dry_run {
            true => Stage::Rehearsing { cancel: cancel.clone() },
            false => Stage::Working { progress: Progress::default(), cancel: cancel.clone() },
        };
        let destination = match self.in_place {
            true => Destination::InPlace,
            false => Destination::Directory(PathBuf::from(self.directory.text())),
        };
        RestoreOrder {
            job,
            store: self.store.clone(),
            snapshot: self.snapshot,
            path: self.path.clone(),
            destination,
            existing: self.existing,
            dry_run,
            cancel,
        }
    }

    pub fn progress(&mut self, job: u64, latest: Progress) {
        if let (true, Stage::Working { progress, .. }) = (job == self.job, &mut self.stage) {
            *progress = latest;
        }
    }

    /// Something is waited for, or answers again.
    pub fn waits(&mut self, job: u64, waited: &Waited) {
        if job == self.job {
            self.waited = (!waited.is_over).then(|| waited.to_string());
        }
    }

    pub fn end(&mut self, job: u64, result: Result<Box<Restored>, Trouble>) {
        if job == self.job {
            self.stage = match (&self.stage, result) {
                (Stage::Rehearsing { .. }, Ok(restored)) => Stage::Rehearsed(restored),
                (_, result) => Stage::Ended(result),
            };
        }
    }

    pub fn hints(&self) -> Vec<(&'static str, &'static str)> {
        match self.stage {
            Stage::Asking => vec![
                ("Tab", "next field"),
                ("Space", "change"),
                ("Enter", "dry run"),
                ("Esc", "leave"),
            ],
            Stage::Rehearsing { .. } => vec![("Esc", "leave")],
            Stage::Rehearsed(_) => {
                vec![("Enter", "restore"), ("Backspace", "change"), ("Esc", "leave")]
            }
            Stage::Working { .. } => vec![("Esc", "stop")],
            Stage::Ended(_) => vec![("Enter", "back")],
        }
    }

    pub fn key(&mut self, key: KeyEvent) -> Answer {
        let has_directory = self.has_directory();
        match (&mut self.stage, key.code) {
            (Stage::Working { cancel, .. }, KeyCode::Esc) => {
                cancel.cancel();
                Answer::Stay
            }
            (Stage::Working { .. }, _) => Answer::Stay,
            (Stage::Rehearsing { cancel }, KeyCode::Esc) => {
                cancel.cancel();
                Answer::Dismiss
            }
            (_, KeyCode::Esc) | (Stage::Ended(_), KeyCode::Enter) => Answer::Dismiss,
            (Stage::Rehearsed(_), KeyCode::Enter) => Answer::Restore { dry_run: false },
            (Stage::Rehearsed(_), KeyCode::Backspace) => {
                self.stage = Stage::Asking;
                Answer::Stay
            }
            (Stage::Asking, KeyCode::Enter) if has_directory => Answer::Restore { dry_run: true },
            (Stage::Asking, _) => {
                self.ask(key);
                Answer::Stay
            }
            _ => Answer::Stay,
        }
    }

    fn ask(&mut self, key: KeyEvent) {
        let fields = if self.in_place { [0, 2].as_slice() } else { [0, 1, 2].as_slice() };
        let at = fields.iter().position(|field| *field == self.field).unwrap_or(0);
        match (self.field, key.code) {
            (_, KeyCode::Tab | KeyCode::Down) => self.field = fields[(at + 1) % fields.len()],
            (_, KeyCode::BackTab | KeyCode::Up) => {
                self.field = fields[(at + fields.len() - 1) % fields.len()];
            }
            (0, KeyCode::Left | KeyCode::Right | KeyCode::Char(' ')) => {
                self.in_place = !self.in_place;
            }
            (1, _) => drop(self.directory.key(key)),
            (2, KeyCode::Left) => self.existing = next(next(self.existing)),
            (2, KeyCode::Right | KeyCode::Char(' ')) => self.existing = next(self.existing),
            _ => {}
        }
    }

    pub fn lines(&self, app: &Model) -> Vec<Line<'static>> {
        let theme = app.theme;
        let was = format!("snapshot of {}", words::moment(self.time));
        let mut lines = vec![Line::styled(was, theme.was()), Line::from("")];
        let asking = matches!(self.stage, Stage::Asking);
        let wherever = if self.in_place { "original location" } else { "another directory" };
        let in_the_way = match self.existing {
            Existing::Leave => "keep",
            Existing::Replace => "replace",
            Existing::Rename => "rename to NAME.kept-TIME",
        };
        let directory = if asking { self.directory.shown(true) } else { self.directory.text() };
        for (field, question, answer) in [
            (0, "Destination", wherever.to_owned()),
            (1, "Directory", directory),
            (2, "Existing files", in_the_way.to_owned()),
        ] {
            if field == 1 && self.in_place {
                continue;
            }
            let here = field == self.field && asking;
            let style = if here { theme.cursor() } else { Style::new() };
            let answer = if asking && field != 1 { format!("‹ {answer} ›") } else { answer };
            lines.push(Line::from(vec![
                Span::raw(format!("{question:<20}")),
                Span::styled(answer, style),
            ]));
        }
        lines.push(Line::from(""));
        self.stage_lines(app, &mut lines);
        lines
    }

    fn stage_lines(&self, app: &Model, lines: &mut Vec<Line<'static>>) {
        let theme = app.theme;
        match &self.stage {
            Stage::Asking if !self.has_directory() => lines.push(Line::styled(
                "The directory must be a full path, starting with /",
                theme.wrong(),
            )),
            Stage::Asking => lines.push(Line::styled(
                "A dry run comes first; nothing is written yet.",
                theme.quiet(),
            )),
            Stage::Rehearsing { .. } => lines.push(Line::styled("dry run …", theme.quiet())),
            Stage::Rehearsed(restored) => {
                lines.push(Line::styled("Dry run; nothing was written yet:", theme.is()));
                report_lines(app, restored, true, lines);
            }
            Stage::Working { progress, .. } => {
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
                lines.push(Line::styled(
                    format!("{left}{}", words::path(&progress.path)),
                    theme.quiet(),
                ));
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
            Stage::Ended(Err(trouble)) => {
                lines.push(Line::styled(format!("✕ {}", trouble.what), theme.wrong()));
                lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("→ {hint}"))));
            }
        }
    }
}

fn next(existing: Existing) -> Existing {
    match existing {
        Existing::Leave => Existing::Replace,
        Existing::Replace => Existing::Rename,
        Existing::Rename => Existing::Leave,
    }
}

fn report_lines(app: &Model, restored: &Restored, rehearsed: bool, lines: &mut Vec<Line<'static>>) {
    use std::os::unix::ffi::OsStrExt;
    let report = &restored.report;
    let shown = |path: &PathBuf| words::path(path.as_os_str().as_bytes());
    lines.push(Line::from(format!(
        "{}, {}  →  {}",
        words::counted(report.restored, "path", "paths"),
        words::bytes(report.bytes),
        shown(&restored.target)
    )));
    for (count, what) in [
        (report.left, "kept (already exist)"),
        (report.replaced, if rehearsed { "would be replaced" } else { "replaced" }),
        (report.renamed, if rehearsed { "would be renamed" } else { "renamed" }),
    ] {
        if count > 0 {
            let style = if rehearsed { app.theme.is() } else { Style::new() };
            let what = format!("{} {what}", words::counted(count, "path", "paths"));
            lines.push(Line::styled(what, style));
        }
    }
    for path in restored.in_the_way.iter().take(4) {
        lines.push(Line::styled(format!("  exists: {}", shown(path)), app.theme.quiet()));
    }
    let more = restored.in_the_way.len().saturating_sub(4);
    if more > 0 {
        lines.push(Line::styled(format!("  and {more} more"), app.theme.quiet()));
    }
    for exception in report.exceptions.iter().take(5) {
        lines.push(Line::styled(
            format!("▲ {}: {}", words::path(&exception.path), exception.cause.words),
            app.theme.wrong(),
        ));
    }
}
