//! The progress line, and its JSON form.

use std::{
    io::{self, IsTerminal, Write},
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};

use serde_json::{Value, json};
use skellin_engine::{Event, EventSink, Progress};

use super::{
    Global, ProgressForm,
    output::{exception_json, json_path},
};
use crate::words;

enum Form {
    Silent,
    Line { drawn: Mutex<Option<Instant>> },
    Json,
}

/// Shows events while a command works.
pub(crate) struct ProgressLine {
    form: Form,
    quiet: bool,
    /// What was said beside the progress, for the JSON document at the end.
    said: Mutex<Vec<String>>,
}

/// So many notes go into the JSON document.
const MOST_SAID: usize = 100;

/// The line is drawn again after this time.
const REDRAW: Duration = Duration::from_millis(200);

impl ProgressLine {
    pub fn new(global: &Global) -> Self {
        let form = match global.progress {
            Some(ProgressForm::Json) => Form::Json,
            Some(ProgressForm::None) => Form::Silent,
            None if global.quiet || global.json || !io::stderr().is_terminal() => Form::Silent,
            None => Form::Line { drawn: Mutex::new(None) },
        };
        Self { form, quiet: global.quiet || global.json, said: Mutex::default() }
    }

    /// A line beside the progress, on stderr.
    pub fn say(&self, text: &str) {
        let mut said = self.said.lock().unwrap_or_else(PoisonError::into_inner);
        if said.len() < MOST_SAID {
            said.push(text.strip_prefix("note: ").unwrap_or(text).to_owned());
        }
        drop(said);
        if !self.quiet {
            let clear = if matches!(self.form, Form::Line { .. }) { "\r\x1b[K" } else { "" };
            write_err(&format!("{clear}{}\n", words::harmless(text)));
        }
    }

    /// Shows how far long work of its own kind is, in place of what it showed before; an empty text
    /// ends it.
    #[cfg(feature = "demo")]
    pub fn show(&self, text: &str) {
        if matches!(self.form, Form::Line { .. }) {
            let text = words::fit(&words::harmless(text), terminal_width().saturating_sub(1));
            write_err(&format!("\r\x1b[K{text}"));
        }
    }

    /// What was said so far.
    pub fn said(&self) -> Vec<String> {
        self.said.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// JSON for programs that watch.
    pub fn emit(&self, value: &Value) {
        if matches!(self.form, Form::Json) {
            write_err(&format!("{}\n", words::harmless(&value.to_string())));
        }
    }
}

fn write_err(text: &str) {
    // Nobody is left to hear it otherwise.
    let _ = io::stderr().lock().write_all(text.as_bytes());
}

fn terminal_width() -> usize {
    ratatui::crossterm::terminal::size().map_or(80, |(columns, _)| usize::from(columns))
}

fn draw(progress: &Progress) -> String {
    let Progress { files, total_files, bytes, total_bytes, rate, left, exceptions, .. } = progress;
    let of = |total: &Option<u64>, show: &dyn Fn(u64) -> String| {
        total.map_or(String::new(), |total| format!(" of {}", show(total)))
    };
    let mut line = format!(
        "{}{} files · {}{} · {}/s",
        words::count(*files),
        of(total_files, &words::count),
        words::bytes(*bytes),
        of(total_bytes, &words::bytes),
        words::bytes(*rate as u64),
    );
    if let Some(left) = left {
        line.push_str(&format!(" · {} left", words::duration(Duration::from_secs(left.as_secs()))));
    }
    if *exceptions > 0 {
        line.push_str(&format!(" · {}", words::counted(*exceptions, "exception", "exceptions")));
    }
    line.push_str(&format!(" · {}", words::path(&progress.path)));
    words::fit(&line, terminal_width().saturating_sub(1))
}

fn progress_json(progress: &Progress) -> Value {
    json!({"event": "progress", "files": progress.files, "total-files": progress.total_files,
        "bytes": progress.bytes, "total-bytes": progress.total_bytes, "read": progress.read,
        "rate": progress.rate, "left": progress.left.map(|left| left.as_secs_f64()),
        "path": json_path(&progress.path), "exceptions": progress.exceptions})
}

impl EventSink for ProgressLine {
    fn event(&self, event: Event) {
        let event = match event {
            Event::Waiting(waited) => {
                self.emit(&json!({"event": "waiting", "for": waited.subject, "why": waited.why,
                    "seconds": waited.since.as_secs_f64(), "over": waited.is_over}));
                return self.say(&format!("note: {waited}"));
            }
            event => event,
        };
        match (&self.form, event) {
            (form, Event::Note(note)) => {
                if matches!(form, Form::Json) {
                    self.emit(&json!({"event": "note", "text": note}));
                }
                self.say(&format!("note: {note}"));
            }
            (Form::Silent, _) => {}
            (Form::Line { drawn }, Event::Progress(progress)) => {
                let mut last = drawn.lock().unwrap_or_else(PoisonError::into_inner);
                if last.is_none_or(|at| at.elapsed() >= REDRAW) {
                    *last = Some(Instant::now());
                    write_err(&format!("\r\x1b[K{}", draw(&progress)));
                }
            }
            (Form::Line { .. }, Event::Ended) => write_err("\r\x1b[K"),
            (Form::Line { .. }, _) => {}
            (Form::Json, event) => self.emit(&match event {
                Event::Begun { work, name } => {
                    json!({"event": "begun", "work": work, "name": name})
                }
                Event::Progress(progress) => progress_json(&progress),
                Event::Exception(exception) => {
                    let mut value = exception_json(&exception);
                    value["event"] = "exception".into();
                    value
                }
                _ => json!({"event": "ended"}),
            }),
        }
    }
}
