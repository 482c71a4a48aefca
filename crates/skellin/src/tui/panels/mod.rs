//! What is asked and shown over the screen, and takes the keys before it does.

mod answer;
mod doctor;
mod entry;
mod finder;
mod guide;
mod holds;
mod look;
mod moment;
mod passphrases;
mod path_field;
mod plan;
mod reach;
mod restore;
mod rule;
mod store;
mod text_field;

use super::lines::wrap;
use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    layout::Rect,
    style::Style,
    text::{Line, Span},
    widgets::{Block, Clear, Padding, Paragraph},
};
use skellin_engine::Cancel;
use skellin_store::RunId;

use super::{keys, model::Model, worker::Trouble};
use crate::words::{self, fit};
pub(super) use answer::Answer;
pub(super) use entry::EntryPanel;
use finder::Finder;
pub(super) use holds::HoldsPanel;
use look::Look;
use moment::GoTo;
pub(super) use passphrases::PassphrasesPanel;
pub(super) use plan::PlanPanel;
pub(super) use reach::ReachPanel;
use restore::RestorePanel;
pub(super) use rule::RulePanel;
pub(super) use store::StorePanel;
use text_field::TextField;

/// Something over the screen.
pub(super) enum Panel {
    Help {
        offset: usize,
    },
    Passphrase {
        plan: String,
        store: String,
        typed: TextField,
        wrong: bool,
    },
    Restore(Box<RestorePanel>),
    Finder(Finder),
    GoTo(GoTo),
    Look(Box<Look>),
    /// What there is to mend.
    Doctor {
        offset: usize,
    },
    /// All about the selected path.
    About,
    /// New rule being written.
    Rule(Box<RulePanel>),
    /// The way to a store's place.
    Reach(ReachPanel),
    /// Why the rules take a path or leave it out.
    Why {
        path: Vec<u8>,
        reasons: Option<Result<Vec<String>, Trouble>>,
    },
    /// Something is under way, and the application is asked to close.
    Closing(Vec<String>),
    /// Something failed that belongs to no screen.
    Trouble(Trouble),
    Plan(Box<PlanPanel>),
    Store(Box<StorePanel>),
    /// What lies at a store's place.
    Holds(HoldsPanel),
    /// The passphrases of a store.
    Passphrases(Box<PassphrasesPanel>),
    /// An entry of the journal.
    Entry(Box<EntryPanel>),
    /// A channel that is tried, and how that went.
    Told {
        channel: String,
        end: Option<Result<String, Trouble>>,
    },
}

impl Panel {
    pub fn passphrase(plan: String, store: String, wrong: bool) -> Self {
        Self::Passphrase { plan, store, typed: TextField::secret(), wrong }
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
            Self::Plan(plan) => plan.under_way(),
            _ => None,
        }
    }

    /// Whether what a key is about is still being read.
    pub fn has_to_wait(&self, key: KeyEvent, app: &Model) -> bool {
        match self {
            Self::Look(look) => look.has_to_wait(key.code, app),
            Self::Plan(plan) => plan.has_to_wait(key.code),
            Self::Store(store) => store.has_to_wait(key.code),
            Self::Reach(reach) => reach.has_to_wait(key.code),
            _ => false,
        }
    }

    /// What its keys do, for the hint line.
    pub fn hints(&self) -> Vec<(&'static str, &'static str)> {
        match self {
            Self::Help { .. } | Self::Doctor { .. } => vec![("↑↓", "more"), ("Esc", "back")],
            Self::Passphrase { typed, .. } => {
                vec![("Enter", "open the store"), typed.reveal_hint(), ("Esc", "not now")]
            }
            Self::Restore(restore) => restore.hints(),
            Self::Finder(_) => vec![("↑↓", "choose"), ("Enter", "run"), ("Esc", "back")],
            Self::GoTo(_) => vec![("Enter", "go"), ("Esc", "back")],
            Self::Look(_) => {
                vec![("↑↓", "lines"), ("v V", "previous, next version"), ("Esc", "back")]
            }
            Self::About
            | Self::Why { .. }
            | Self::Trouble(_)
            | Self::Holds(_)
            | Self::Told { .. } => vec![("Esc", "back")],
            Self::Entry(entry) => entry.hints(),
            Self::Rule(_) => {
                vec![
                    ("Space", "include or exclude"),
                    ("↑↓", "scope"),
                    ("Enter", "save"),
                    ("Esc", "leave"),
                ]
            }
            Self::Reach(reach) => reach.hints(),
            Self::Closing(_) => vec![("s", "stop and close"), ("Esc", "continue")],
            Self::Plan(plan) => plan.hints(),
            Self::Store(store) => store.hints(),
            Self::Passphrases(panel) => panel.hints(),
        }
    }
}

/// Draws what lies over the screen.
pub(super) fn draw(frame: &mut Frame<'_>, panel: &Panel, app: &mut Model, area: Rect, body: Rect) {
    let theme = app.theme;
    match panel {
        Panel::Help { offset } => {
            let wide = area.width >= 134;
            let (left, right) = (keys_help(app), marks_help(app));
            let rows: Vec<Line<'static>> = match wide {
                true => beside(left, right),
                false => left.into_iter().chain([Line::from("")]).chain(right).collect(),
            };
            let height = usize::from(area.height.saturating_sub(4)).max(1);
            let first = (*offset).min(rows.len().saturating_sub(height));
            let shown = rows.into_iter().skip(first).take(height).collect();
            popup(frame, app, " Keys ", shown, area, if wide { 130 } else { 96 });
        }
        Panel::Doctor { offset } => {
            let rows = doctor::lines(app);
            let height = usize::from(area.height.saturating_sub(4)).max(1);
            let first = (*offset).min(rows.len().saturating_sub(height));
            let shown = rows.into_iter().skip(first).take(height).collect();
            popup(frame, app, " Problems ", shown, area, 120);
        }
        Panel::Passphrase { plan, store, typed, wrong } => {
            let mut lines = vec![
                Line::from(format!("Store {store} of plan {plan} needs its passphrase.")),
                Line::from(""),
                Line::from(vec![
                    Span::raw("Passphrase  "),
                    Span::styled(typed.shown(true), theme.strong()),
                ]),
            ];
            if *wrong {
                lines.push(Line::styled("Wrong passphrase for store {store}.", theme.wrong()));
            }
            popup(frame, app, " Passphrase ", lines, area, 96);
        }
        Panel::Restore(restore) => {
            let lines = restore.lines(app);
            let title = format!(" Restore {} ", words::path(&restore.path));
            popup(frame, app, &title, lines, area, 96);
        }
        Panel::Finder(finder) => finder.draw(frame, app, area),
        Panel::GoTo(go_to) => {
            let lines = go_to.lines(app);
            popup(frame, app, " Go to a time ", lines, area, 96);
        }
        Panel::Look(look) => look.draw(frame, app, body),
        Panel::About => {
            let lines = super::screens::about_path(app, usize::from(area.width.min(96)) - 4, 30);
            popup(frame, app, " Path details ", lines, area, 96);
        }
        Panel::Rule(rule) => {
            let lines = rule.lines(app);
            popup(frame, app, " New rule ", lines, area, 110);
        }
        Panel::Reach(reach) => {
            let title = format!(" Connection test of {} ", reach.store);
            popup(frame, app, &title, reach.lines(app), area, 110);
        }
        Panel::Holds(holds) => {
            let title = format!(" Content of {} ", holds.store);
            popup(frame, app, &title, holds.lines(app), area, 96);
        }
        Panel::Passphrases(panel) => {
            let title = format!(" Passphrases of store {} ", panel.store);
            popup(frame, app, &title, panel.lines(app), area, 96);
        }
        Panel::Why { path, reasons } => {
            let lines = match reasons {
                None => vec![Line::styled("checking the rules, and below …", theme.quiet())],
                Some(Ok(lines)) => lines.iter().map(|line| Line::from(line.clone())).collect(),
                Some(Err(trouble)) => {
                    let mut lines =
                        vec![Line::styled(format!("✕ {}", trouble.what), theme.wrong())];
                    lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("→ {hint}"))));
                    lines
                }
            };
            popup(frame, app, &format!(" Why: {} ", words::path(path)), lines, area, 110);
        }
        Panel::Closing(work) => {
            let mut lines = vec![
                Line::from(format!("{} is still running.", capital(&work.join(" and ")))),
                Line::from(""),
            ];
            lines.push(match app.closing {
                true => Line::styled("Stopping; closing when it has stopped.", theme.is()),
                false => Line::from("What is stored so far is used by the next run."),
            });
            popup(frame, app, " Close? ", lines, area, 96);
        }
        Panel::Trouble(trouble) => {
            let mut lines = vec![Line::styled(format!("✕ {}", trouble.what), theme.wrong())];
            lines.extend(trouble.hint.iter().map(|hint| Line::from(format!("→ {hint}"))));
            popup(frame, app, " Failed ", lines, area, 96);
        }
        Panel::Entry(entry) => entry.draw(frame, app, body),
        Panel::Told { channel, end } => {
            let lines = match end {
                None => vec![Line::styled("sending a test message …", theme.quiet())],
                Some(Ok(target)) => vec![
                    Line::styled(format!("✓ sent: {target}"), theme.well()),
                    Line::from("Check whether it has arrived."),
                ],
                Some(Err(trouble)) => {
                    vec![Line::styled(format!("✕ {}", trouble.what), theme.wrong())]
                }
            };
            popup(frame, app, &format!(" Test of {channel} "), lines, area, 96);
        }
        Panel::Plan(panel) => plan::draw(frame, app, panel, area),
        Panel::Store(panel) => store::draw(frame, app, panel, area),
    }
}

/// Whether a key moves in a list or chooses from it.
fn is_for_list(code: KeyCode) -> bool {
    use KeyCode::{Char, Down, Enter, PageDown, PageUp, Right, Up};
    matches!(code, Up | Down | PageUp | PageDown | Enter | Right | Char(' '))
}

/// The first letter as a capital.
fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |first| first.to_uppercase().chain(chars).collect())
}

/// Two lists beside each other, the second right of all lines of the first.
fn beside(left: Vec<Line<'static>>, right: Vec<Line<'static>>) -> Vec<Line<'static>> {
    let width = left.iter().map(Line::width).max().unwrap_or(0) + 2;
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
fn keys_of(app: &Model, places: &[(&'static str, &[keys::Where])]) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    for (title, place) in places {
        if !lines.is_empty() {
            lines.push(Line::from(""));
        }
        lines.push(Line::styled(*title, app.theme.strong()));
        for binding in keys::BINDINGS.iter().filter(|binding| place.contains(&binding.on)) {
            lines.push(Line::from(vec![
                Span::styled(format!("  {:<11}", binding.shown), app.tense_style()),
                Span::raw(binding.says),
            ]));
        }
    }
    lines
}

fn keys_help(app: &Model) -> Vec<Line<'static>> {
    use keys::Where;
    keys_of(
        app,
        &[
            ("Ribbon", &[Where::Tenses]),
            ("Tree", &[Where::Trees]),
            ("Was", &[Where::Was]),
            ("Is", &[Where::Is]),
            ("Stores, Journal, Proof", &[Where::Lists, Where::Stores, Where::Journal]),
        ],
    )
}

/// The keys that mean the same everywhere, and what stands on the ribbon.
fn marks_help(app: &Model) -> Vec<Line<'static>> {
    let theme = app.theme;
    let mut lines = keys_of(app, &[("Everywhere", &[keys::Where::Everywhere])]);
    lines.push(Line::from(""));
    lines.push(Line::styled("Ribbon symbols", theme.strong()));
    for (mark, says, style) in [
        ("●", "snapshot", theme.was()),
        ("▲", "snapshot with exceptions", theme.wrong()),
        ("5", "number of snapshots; underlined: some with problems", theme.was()),
        ("✕", "failed run", theme.wrong()),
        ("◐", "interrupted run", theme.wrong()),
        ("◇┄", "missed run, and the gap it left", theme.wrong()),
        ("┃", "now", theme.is()),
        ("○", "scheduled run", theme.will()),
        ("▨", "scheduled run that will exceed its window", theme.wrong()),
        ("◆━", "selected path: new version, unchanged", theme.was()),
    ] {
        lines.push(Line::from(vec![Span::styled(format!("  {mark:<11}"), style), Span::raw(says)]));
    }
    lines
}

/// A box in the middle of the screen.
fn popup(
    frame: &mut Frame<'_>,
    app: &Model,
    title: &str,
    lines: Vec<Line<'static>>,
    area: Rect,
    most: u16,
) {
    let theme = app.theme;
    let width = area.width.saturating_sub(4).min(most);
    let inner = usize::from(width.saturating_sub(4)).max(1);
    let lines = wrap(lines, inner);
    let height = (lines.len() as u16 + 2).min(area.height.saturating_sub(2));
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
    frame.render_widget(Paragraph::new(lines).block(block), place);
}
