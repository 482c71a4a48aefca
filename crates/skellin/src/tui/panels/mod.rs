//! What is asked and shown over the screen, and takes the keys before it does.

mod edit;
mod finder;
mod look;
mod moment;
mod restore;
mod wizard;
mod wizard_draw;

use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    layout::Rect,
    style::Style,
    text::{Line, Span},
    widgets::{Block, Clear, Padding, Paragraph, Wrap},
};
use skellin_engine::{Cancel, Event, Passphrase};
use skellin_store::RunId;

use super::{
    app::{App, Step},
    hits::Target,
    keys::{self, Action},
    lanes::Known,
    worker::{JobEnd, Report, Request, Trouble},
};
use crate::words::{self, fit};
pub(super) use edit::Line as EditLine;
use finder::Finder;
use look::Look;
use moment::GoTo;
use restore::RestorePanel;
use wizard::Wizard;

/// Something over the screen.
pub(super) enum Panel {
    Help {
        offset: usize,
    },
    Passphrase {
        plan: String,
        store: String,
        typed: Passphrase,
        wrong: bool,
    },
    Restore(Box<RestorePanel>),
    Finder(Finder),
    GoTo(GoTo),
    Look(Box<Look>),
    /// All about the selected path.
    About,
    /// Something is under way, and the application is asked to close.
    Closing(Vec<String>),
    /// Something failed that belongs to no screen.
    Trouble(Trouble),
    Wizard(Box<Wizard>),
}

/// What a panel wants done.
pub(super) enum Answer {
    /// Nothing beyond the panel.
    Stay,
    Dismiss,
    /// Close it and do something.
    Do(Action),
    /// Close it and go to a lane.
    Lane(usize),
    /// Close it and put the cursor at a moment.
    Moment(i64),
    /// Ask the worker.
    Ask(Request),
    /// Open the store with what was typed.
    Open,
    /// Rehearse the restore, or do it.
    Restore {
        dry_run: bool,
    },
    /// Rehearse the draft.
    RehearseDraft,
    /// Go to another version in the look.
    Version {
        later: bool,
    },
    /// Stop everything and close.
    CloseDown,
    /// The draft was saved.
    Saved(String),
}

impl Panel {
    pub fn passphrase(plan: String, store: String, wrong: bool) -> Self {
        Self::Passphrase { plan, store, typed: Passphrase::default(), wrong }
    }

    pub fn finder() -> Self {
        Self::Finder(Finder::default())
    }

    pub fn go_to() -> Self {
        Self::GoTo(GoTo::default())
    }

    pub fn look(path: Vec<u8>, snapshot: RunId, time: i64) -> Self {
        Self::Look(Box::new(Look::new(path, snapshot, time)))
    }

    pub fn restore(path: Vec<u8>, store: String, snapshot: RunId, time: i64, home: &str) -> Self {
        Self::Restore(Box::new(RestorePanel::new(path, store, snapshot, time, home)))
    }

    /// What is under way in it.
    pub fn under_way(&self) -> Option<(String, Cancel)> {
        match self {
            Self::Restore(restore) => restore.under_way(),
            Self::Wizard(wizard) => wizard.under_way(),
            _ => None,
        }
    }

    /// What its keys do, for the hint line.
    pub fn hints(&self) -> Vec<(&'static str, &'static str)> {
        match self {
            Self::Help { .. } => vec![("↑↓", "more"), ("Esc", "back")],
            Self::Passphrase { .. } => vec![("Enter", "open the store"), ("Esc", "not now")],
            Self::Restore(restore) => restore.hints(),
            Self::Finder(_) => vec![("↑↓", "choose"), ("Enter", "do it"), ("Esc", "back")],
            Self::GoTo(_) => vec![("Enter", "go there"), ("Esc", "back")],
            Self::Look(_) => {
                vec![("↑↓", "lines"), ("v V", "version before, after"), ("Esc", "back")]
            }
            Self::About | Self::Trouble(_) => vec![("Esc", "back")],
            Self::Closing(_) => vec![("s", "stop it and close"), ("Esc", "let it go on")],
            Self::Wizard(wizard) => wizard.hints(),
        }
    }
}

/// Handles a key of a text that is not shown; whether it was one.
fn type_secret(typed: &mut Passphrase, code: KeyCode) -> bool {
    match code {
        KeyCode::Backspace => {
            // A whole character, however many bytes it has.
            while typed.pop().is_some_and(|byte| byte & 0xC0 == 0x80) {}
            true
        }
        KeyCode::Char(c) => {
            typed.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
            true
        }
        _ => false,
    }
}

/// A secret as dots.
fn dots(typed: &Passphrase) -> String {
    "•".repeat(String::from_utf8_lossy(typed).chars().count())
}

impl App {
    pub(super) fn panel_key(&mut self, key: KeyEvent) -> Step {
        let Some(mut panel) = self.panel.take() else { return Step::GoOn };
        // A signal by key always asks to close.
        if keys::action(key, keys::Place::List) == Some(Action::Quit)
            && !matches!(key.code, KeyCode::Char('q'))
        {
            self.panel = Some(panel);
            return self.act(Action::Quit);
        }
        let answer = match &mut panel {
            Panel::Help { offset } => match key.code {
                KeyCode::Down | KeyCode::PageDown => {
                    *offset += if key.code == KeyCode::Down { 1 } else { 10 };
                    Answer::Stay
                }
                KeyCode::Up | KeyCode::PageUp => {
                    *offset = offset.saturating_sub(if key.code == KeyCode::Up { 1 } else { 10 });
                    Answer::Stay
                }
                _ => Answer::Dismiss,
            },
            Panel::About | Panel::Trouble(_) => Answer::Dismiss,
            Panel::Passphrase { typed, .. } => match key.code {
                KeyCode::Esc => Answer::Dismiss,
                KeyCode::Enter => Answer::Open,
                code => {
                    type_secret(typed, code);
                    Answer::Stay
                }
            },
            Panel::Restore(restore) => restore.key(key),
            Panel::Finder(finder) => finder.key(key, self),
            Panel::GoTo(go_to) => go_to.key(key, self.now),
            Panel::Look(look) => look.key(key),
            Panel::Closing(_) => match key.code {
                KeyCode::Char('s') | KeyCode::Char('c') => Answer::CloseDown,
                _ => Answer::Dismiss,
            },
            Panel::Wizard(wizard) => wizard.key(key, self),
        };
        self.answer(panel, answer)
    }

    fn answer(&mut self, panel: Panel, answer: Answer) -> Step {
        match (answer, panel) {
            (Answer::Stay, panel) => self.panel = Some(panel),
            (Answer::Dismiss, _) => {}
            (Answer::Do(action), _) => return self.act(action),
            (Answer::Lane(lane), _) => self.choose_lane(lane),
            (Answer::Moment(time), _) => self.go_to(time),
            (Answer::Ask(request), panel) => {
                self.panel = Some(panel);
                self.ask(request);
            }
            (Answer::Open, Panel::Passphrase { store, typed, .. }) => {
                // Every plan of the store opens with it.
                for lane in self.lanes.iter_mut().filter(|lane| lane.store == store) {
                    lane.known = Known::Loading;
                }
                self.ask(Request::Open { store, passphrase: Some(typed) });
            }
            (Answer::Restore { dry_run }, Panel::Restore(mut restore)) => {
                let job = self.next_job();
                let order = restore.order(job, dry_run);
                self.panel = Some(Panel::Restore(restore));
                self.ask(Request::Restore(Box::new(order)));
            }
            (Answer::RehearseDraft, Panel::Wizard(mut wizard)) => {
                let job = self.next_job();
                let request = wizard.rehearse(job);
                self.panel = Some(Panel::Wizard(wizard));
                self.ask(request);
            }
            (Answer::Version { later }, Panel::Look(look)) => {
                let (path, snapshot) = (look.path.clone(), look.snapshot);
                match self.neighbour(&path, snapshot, later) {
                    Some((id, time, store)) => {
                        self.ask(Request::Look { store, snapshot: id, path: path.clone() });
                        self.panel = Some(Panel::look(path, id, time));
                    }
                    None => self.panel = Some(Panel::Look(look)),
                }
            }
            (Answer::CloseDown, Panel::Closing(work)) => {
                self.panel = Some(Panel::Closing(work));
                return self.close_down();
            }
            (Answer::Saved(plan), _) => {
                self.ask(Request::Configuration);
                self.wanted_lane = Some(plan);
            }
            (_, panel) => self.panel = Some(panel),
        }
        Step::GoOn
    }

    /// The version of a path before or after that of a snapshot: its id, its time, its store.
    fn neighbour(&self, path: &[u8], snapshot: RunId, later: bool) -> Option<(RunId, i64, String)> {
        let (versions, lane) = (self.versions()?, self.current_lane()?);
        if self.tree.selected.as_deref() != Some(path) {
            return None;
        }
        let time = lane.marks.iter().find(|mark| mark.id == snapshot)?.time;
        let now = versions.iter().rposition(|version| version.time <= time)?;
        let other = if later { now + 1 } else { now.checked_sub(1)? };
        let version = versions.get(other)?;
        Some((version.snapshot, version.time, lane.store.clone()))
    }

    /// Puts the cursor at a moment that was typed.
    pub(super) fn go_to(&mut self, time: i64) {
        use super::app::Cursor;
        let cursor = if time > self.now {
            Cursor::Will(time)
        } else {
            // The exact moment of the newest snapshot before it, so that steps go on from there.
            let stop = self.current_lane().and_then(|lane| lane.stop_before(time + 1));
            Cursor::Was(stop.unwrap_or(time))
        };
        self.put_cursor(cursor);
    }

    pub(super) fn paste(&mut self, text: &str) -> Step {
        let line = text.lines().next().unwrap_or_default().to_owned();
        match &mut self.panel {
            Some(Panel::Passphrase { typed, .. }) => typed.extend_from_slice(line.as_bytes()),
            Some(_) => {
                for c in line.chars().filter(|c| !c.is_control()) {
                    self.panel_key(KeyEvent::from(KeyCode::Char(c)));
                }
            }
            None => {}
        }
        Step::GoOn
    }

    pub(super) fn begin_wizard(&mut self) {
        let (wizard, requests) = Wizard::new(&self.home, &self.folder, &self.store_names);
        self.panel = Some(Panel::Wizard(Box::new(wizard)));
        requests.into_iter().for_each(|request| self.ask(request));
    }

    /// A click on something the panel's hint line says; `None` if the panel has no such thing.
    pub(super) fn click_in_panel(&mut self, action: Action) -> Option<Step> {
        self.panel.as_ref()?;
        // The screen below is not reached through a panel.
        let _ = action;
        Some(Step::GoOn)
    }

    pub(super) fn click_panel(&mut self, target: Option<Target>) {
        if let (Some(Panel::Finder(finder)), Some(Target::Entry(entry))) = (&mut self.panel, target)
        {
            finder.choose(entry);
        }
        if let (Some(Panel::Wizard(wizard)), Some(Target::Entry(entry))) = (&mut self.panel, target)
        {
            wizard.choose(entry);
        }
    }

    pub(super) fn panel_wheel(&mut self, by: isize) -> Step {
        let code = if by > 0 { KeyCode::Down } else { KeyCode::Up };
        for _ in 0..by.unsigned_abs() {
            self.panel_key(KeyEvent::from(code));
        }
        Step::GoOn
    }

    pub(super) fn panel_report(&mut self, report: Report) {
        match (&mut self.panel, report) {
            (Some(Panel::Look(look)), Report::Looked { path, snapshot, looked }) => {
                look.take(&path, snapshot, looked);
            }
            (Some(Panel::Wizard(_)), report) => {
                if let Some(Panel::Wizard(mut wizard)) = self.panel.take() {
                    let answer = wizard.report(report);
                    self.answer(Panel::Wizard(wizard), answer);
                }
            }
            _ => {}
        }
    }

    pub(super) fn panel_event(&mut self, job: u64, event: Event) {
        let Event::Progress(progress) = event else { return };
        match &mut self.panel {
            Some(Panel::Restore(restore)) => restore.progress(job, progress),
            Some(Panel::Wizard(wizard)) => wizard.progress(job, progress),
            _ => {}
        }
    }

    pub(super) fn panel_end(&mut self, job: u64, end: JobEnd) {
        match (&mut self.panel, end) {
            (Some(Panel::Restore(restore)), JobEnd::Restore(result)) => restore.end(job, result),
            (Some(Panel::Wizard(wizard)), JobEnd::Run(result)) => wizard.rehearsed(job, result),
            _ => {}
        }
        self.ask(Request::Journal);
    }
}

/// Draws what lies over the screen.
pub(super) fn draw(frame: &mut Frame<'_>, app: &mut App, area: Rect, body: Rect) {
    let Some(panel) = app.panel.take() else { return };
    let theme = app.theme;
    match &panel {
        Panel::Help { offset } => {
            let wide = area.width >= 110;
            let (left, right) = (keys_help(app), marks_help(app));
            let rows: Vec<Line<'static>> = match wide {
                true => beside(left, right, 54),
                false => left.into_iter().chain([Line::from("")]).chain(right).collect(),
            };
            let height = usize::from(area.height.saturating_sub(4)).max(1);
            let first = (*offset).min(rows.len().saturating_sub(height));
            let shown = rows.into_iter().skip(first).take(height).collect();
            popup(frame, app, " Keys ", shown, area, if wide { 130 } else { 96 });
        }
        Panel::Passphrase { plan, store, typed, wrong } => {
            let mut lines = vec![
                Line::from(format!(
                    "The store {store}, where {plan} is kept, needs its passphrase."
                )),
                Line::from(""),
                Line::from(vec![
                    Span::raw("Passphrase  "),
                    Span::styled(format!("{}▏", dots(typed)), theme.strong()),
                ]),
            ];
            if *wrong {
                lines.push(Line::styled(
                    "That passphrase opens no slot of this store. Nothing was changed; try another.",
                    theme.wrong(),
                ));
            }
            popup(frame, app, " Passphrase ", lines, area, 96);
        }
        Panel::Restore(restore) => {
            let lines = restore.lines(app);
            let title = format!(" Bring back {} ", words::path(&restore.path));
            popup(frame, app, &title, lines, area, 96);
        }
        Panel::Finder(finder) => finder.draw(frame, app, area),
        Panel::GoTo(go_to) => {
            let lines = go_to.lines(app);
            popup(frame, app, " Go to a moment ", lines, area, 96);
        }
        Panel::Look(look) => look.draw(frame, app, body),
        Panel::About => {
            let lines = super::screens::about_path(app, usize::from(area.width.min(96)) - 4, 30);
            popup(frame, app, " This path ", lines, area, 96);
        }
        Panel::Closing(work) => {
            let mut lines = vec![
                Line::from(format!("{} is still under way.", capital(&work.join(" and ")))),
                Line::from(""),
            ];
            lines.push(match app.closing {
                true => Line::styled(
                    "It is being stopped; this closes as soon as it has ended.",
                    theme.is(),
                ),
                false => Line::from(
                    "Stopping loses nothing that is stored: the next run goes on from there.",
                ),
            });
            popup(frame, app, " Close? ", lines, area, 96);
        }
        Panel::Trouble(trouble) => {
            let mut lines = vec![Line::styled(format!("✕ {}", trouble.what), theme.wrong())];
            lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("→ {hint}"))));
            popup(frame, app, " That did not work ", lines, area, 96);
        }
        Panel::Wizard(wizard) => wizard_draw::draw(frame, app, wizard, area),
    }
    app.panel = Some(panel);
}

/// The first letter as a capital.
fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |first| first.to_uppercase().chain(chars).collect())
}

/// Two lists beside each other.
fn beside(left: Vec<Line<'static>>, right: Vec<Line<'static>>, width: usize) -> Vec<Line<'static>> {
    let rows = left.len().max(right.len());
    let (mut left, mut right) = (left.into_iter(), right.into_iter());
    (0..rows)
        .map(|_| {
            let mut line = left.next().unwrap_or_default();
            let blanks = " ".repeat(width.saturating_sub(line.width()));
            let style = line.style;
            line.spans.iter_mut().for_each(|span| span.style = style.patch(span.style));
            line.style = Style::new();
            line.spans.push(Span::raw(blanks));
            let right = right.next().unwrap_or_default();
            let style = right.style;
            let spans = right.spans.into_iter();
            line.spans
                .extend(spans.map(|span| Span::styled(span.content, style.patch(span.style))));
            line
        })
        .collect()
}

/// The keys of some places, with a title for each.
fn keys_of(app: &App, places: &[(&'static str, keys::Where)]) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    for (title, place) in places {
        if !lines.is_empty() {
            lines.push(Line::from(""));
        }
        lines.push(Line::styled(*title, app.theme.strong()));
        for binding in keys::BINDINGS.iter().filter(|binding| binding.on == *place) {
            lines.push(Line::from(vec![
                Span::styled(format!("  {:<11}", binding.shown), app.tense_style()),
                Span::raw(binding.says),
            ]));
        }
    }
    lines
}

fn keys_help(app: &App) -> Vec<Line<'static>> {
    use keys::Where;
    keys_of(
        app,
        &[
            ("Along the ribbon", Where::Tenses),
            ("Was", Where::Was),
            ("Is", Where::Is),
            ("Stores, Journal, Proof", Where::Lists),
        ],
    )
}

/// The keys that mean the same everywhere, and what stands on the ribbon.
fn marks_help(app: &App) -> Vec<Line<'static>> {
    let theme = app.theme;
    let mut lines = keys_of(app, &[("Everywhere", keys::Where::Everywhere)]);
    lines.push(Line::from(""));
    lines.push(Line::styled("On the ribbon", theme.strong()));
    for (mark, says, style) in [
        ("●", "a snapshot", theme.was()),
        ("▲", "a snapshot with exceptions", theme.wrong()),
        ("5", "so many snapshots; underlined if some had trouble", theme.was()),
        ("✕", "a run that failed", theme.wrong()),
        ("◐", "a run that was interrupted", theme.wrong()),
        ("◇", "a run that was due and never came", theme.wrong()),
        ("┃", "now", theme.is()),
        ("○", "a run to come", theme.will()),
        ("◆━", "the selected path: where a version begins, where it is", theme.was()),
    ] {
        lines.push(Line::from(vec![Span::styled(format!("  {mark:<11}"), style), Span::raw(says)]));
    }
    lines
}

/// A box in the middle of the screen.
fn popup(
    frame: &mut Frame<'_>,
    app: &App,
    title: &str,
    lines: Vec<Line<'static>>,
    area: Rect,
    most: u16,
) {
    let theme = app.theme;
    let width = area.width.saturating_sub(4).min(most);
    let inner = usize::from(width.saturating_sub(4)).max(1);
    let wrapped: usize = lines.iter().map(|line| line.width().div_ceil(inner).max(1)).sum();
    let height = (wrapped as u16 + 2).min(area.height.saturating_sub(2));
    let place = Rect {
        x: area.x + (area.width - width) / 2,
        y: area.y + area.height.saturating_sub(height) / 2,
        width,
        height,
    };
    frame.render_widget(Clear, place);
    let title = fit(title, usize::from(width).saturating_sub(4));
    let block = Block::bordered()
        .title(Span::styled(title, theme.strong()))
        .border_style(app.tense_style())
        .padding(Padding::horizontal(1));
    frame.render_widget(Paragraph::new(lines).wrap(Wrap { trim: false }).block(block), place);
}

/// A bar that is full to a share.
pub(super) fn bar(share: f64, width: usize, full: Style, empty: Style) -> Vec<Span<'static>> {
    let cells = (share.clamp(0.0, 1.0) * width as f64) as usize;
    vec![Span::styled("█".repeat(cells), full), Span::styled("░".repeat(width - cells), empty)]
}
