//! Finding what to do: words are typed, and what fits them is offered, be it an action, a plan or
//! a moment.

use crate::tui::drawn::Drawn;
use ratatui::{
    Frame,
    crossterm::event::{KeyCode, KeyEvent},
    layout::Rect,
    text::{Line, Span, Text},
    widgets::Clear,
};

use super::{
    ToldPanel, moment,
    panel::{Answer, Hint, Key, Panel, Room, hints, key, meaning},
    text_field::TextField,
};
use crate::{
    meanings,
    tui::{
        hits::Target,
        keys::{Action, bindings},
        model::Model,
    },
    words::{self, fit},
};

/// Entries shown at once.
const MOST: usize = 12;

/// The words being typed.
#[derive(Default)]
pub(in crate::tui) struct FinderPanel {
    typed: TextField,
    chosen: usize,
}

/// Something that can be chosen.
struct Offer {
    key: String,
    says: String,
    leads: Lead,
}

enum Lead {
    Do(Action),
    Lane(usize),
    Moment(i64),
    Tell(String),
}

#[derive(Clone, Copy)]
enum Act {
    Up,
    Down,
    Run,
    Leave,
}

const KEYS: &[Key<Act>] = &[
    key(&[KeyCode::Up], "↑↓", Act::Up, "choose"),
    key(&[KeyCode::Down], "", Act::Down, ""),
    key(&[KeyCode::Enter], "Enter", Act::Run, "run"),
    key(&[KeyCode::Esc], "Esc", Act::Leave, "back"),
];

impl FinderPanel {
    fn offers(&self, app: &Model) -> Vec<Offer> {
        let text = self.typed.text().to_lowercase();
        let words: Vec<&str> = text.split_whitespace().collect();
        let fits = |says: &str| words.iter().all(|word| meanings::fits(says, word));
        let mut offers = Vec::new();
        if let Some(time) = moment::parse(&text, app.now) {
            let says = format!("go to {}", words::moment(time));
            offers.push(Offer { key: "g".to_owned(), says, leads: Lead::Moment(time) });
        }
        let place = app.place();
        // What means something here comes first.
        let (here, elsewhere): (Vec<_>, Vec<_>) =
            bindings(app.only_restores()).partition(|binding| binding.on.holds(place));
        for binding in here.into_iter().filter(|binding| fits(binding.says)) {
            offers.push(Offer {
                key: binding.shown.to_owned(),
                says: binding.says.to_owned(),
                leads: Lead::Do(binding.action),
            });
        }
        for (number, lane) in app.lanes.iter().enumerate() {
            let about = lane.plan.as_ref().and_then(|plan| plan.about.clone()).unwrap_or_default();
            let says = format!("plan {} {about}", lane.label());
            if fits(&says) {
                offers.push(Offer { key: "Tab".to_owned(), says, leads: Lead::Lane(number) });
            }
        }
        for channel in &app.channels {
            let says = format!("channel {channel}: send a test message");
            if fits(&says) {
                let leads = Lead::Tell(channel.clone());
                offers.push(Offer { key: String::new(), says, leads });
            }
        }
        for binding in elsewhere.into_iter().filter(|binding| fits(binding.says)) {
            let place = match binding.on {
                crate::tui::keys::Where::Was | crate::tui::keys::Where::Trees => "in Was",
                crate::tui::keys::Where::Is => "in Is",
                _ => continue,
            };
            let says = format!("{place}: {}", binding.says);
            offers.push(Offer {
                key: binding.shown.to_owned(),
                says,
                leads: Lead::Do(binding.action),
            });
        }
        // What begins so comes first (after the place it belongs to), and what only means the same last.
        offers.sort_by_key(|offer| {
            let says = offer.says.to_lowercase();
            let begins = |word: &&str| says.split(": ").any(|part| part.starts_with(*word));
            let is_called_so = words.iter().all(|word| says.contains(word));
            (!is_called_so, !words.first().is_some_and(begins))
        });
        offers
    }

    /// It grows out of the hint line, upwards.
    fn show(&self, frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, area: Rect) {
        let theme = app.theme;
        let offers = self.offers(app);
        let rows =
            offers.len().clamp(1, MOST.min(usize::from(area.height).saturating_sub(6)).max(1));
        let height = rows as u16 + 2;
        let place = Rect {
            x: area.x,
            y: area.y + area.height.saturating_sub(height + 1),
            width: area.width,
            height,
        };
        frame.render_widget(Clear, place);
        let width = usize::from(place.width);
        let head = " Find an action ";
        let mut lines = vec![Line::from(vec![
            Span::styled("─", theme.quiet()),
            Span::styled(head, theme.strong()),
            Span::styled("─".repeat(width.saturating_sub(head.len() + 1)), theme.quiet()),
        ])];
        let chosen = self.chosen.min(offers.len().saturating_sub(1));
        let first = (chosen + 1).saturating_sub(rows);
        for (number, offer) in offers.iter().enumerate().skip(first).take(rows) {
            let text = fit(&format!("   {:<10} {}", offer.key, offer.says), width);
            let style =
                if number == chosen { theme.cursor() } else { ratatui::style::Style::new() };
            lines.push(Line::styled(format!("{text:<width$}"), style));
            let row = place.y + lines.len() as u16 - 1;
            drawn.hit(Rect { y: row, height: 1, ..place }, Target::Entry(number));
        }
        if offers.is_empty() {
            lines.push(Line::styled("   nothing matches", theme.quiet()));
        }
        lines.push(Line::from(vec![
            Span::styled(" › ", app.tense_style()),
            Span::styled(self.typed.shown(true), theme.strong()),
        ]));
        frame.render_widget(Text::from(lines), place);
    }
}

impl Panel for FinderPanel {
    fn hints(&self, _app: &Model) -> Vec<Hint> {
        hints(KEYS)
    }

    fn key(&mut self, key: KeyEvent, app: &Model) -> Answer {
        let offers = self.offers(app);
        match meaning(KEYS, key) {
            Some(Act::Leave) => return Answer::Dismiss,
            Some(Act::Up) => self.chosen = self.chosen.saturating_sub(1),
            Some(Act::Down) => {
                self.chosen = (self.chosen + 1).min(offers.len().saturating_sub(1));
            }
            Some(Act::Run) => {
                return match offers.get(self.chosen).map(|offer| &offer.leads) {
                    Some(Lead::Do(action)) => Answer::Do(*action),
                    Some(Lead::Lane(lane)) => Answer::Lane(*lane),
                    Some(Lead::Moment(time)) => Answer::Moment(*time),
                    Some(Lead::Tell(channel)) => Answer::Turn(ToldPanel::open(channel.clone())),
                    None => Answer::Stay,
                };
            }
            None => {
                self.typed.key(key);
                self.chosen = 0;
            }
        }
        Answer::Stay
    }

    fn paste(&mut self, text: &str) -> Answer {
        self.typed.insert(text);
        self.chosen = 0;
        Answer::Stay
    }

    fn choose(&mut self, entry: usize) {
        self.chosen = entry;
    }

    fn scroll(&mut self, lines: isize) {
        // What lies beyond the last is brought back where it is drawn and chosen.
        self.chosen = self.chosen.saturating_add_signed(lines.signum());
    }

    fn draw(&self, frame: &mut Frame<'_>, app: &Model, drawn: &mut Drawn, room: Room) {
        self.show(frame, app, drawn, room.whole);
    }
}
