//! Colours. They say the tense and whether all is well, and never alone: shapes and words carry
//! the same. The tones are readable on dark and on light grounds.

use ratatui::style::{Color, Modifier, Style};

/// The styles of the application.
#[derive(Clone, Copy, Debug)]
pub(super) struct Theme {
    colour: bool,
}

impl Theme {
    /// With colours unless the environment asks for none (`NO_COLOR`).
    pub fn new() -> Self {
        Self { colour: std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty()) }
    }

    #[cfg(test)]
    pub fn plain() -> Self {
        Self { colour: false }
    }

    fn tone(self, index: u8) -> Style {
        if self.colour { Style::new().fg(Color::Indexed(index)) } else { Style::new() }
    }

    /// The past.
    pub fn was(self) -> Style {
        self.tone(68)
    }

    /// The present.
    pub fn is(self) -> Style {
        self.tone(172)
    }

    /// All is well.
    pub fn well(self) -> Style {
        self.tone(37)
    }

    /// Something is wrong.
    pub fn wrong(self) -> Style {
        self.tone(203).add_modifier(Modifier::BOLD)
    }

    /// Of less importance.
    pub fn quiet(self) -> Style {
        if self.colour { self.tone(245) } else { Style::new().add_modifier(Modifier::DIM) }
    }

    pub fn strong(self) -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }

    /// Where the cursor stands.
    pub fn cursor(self) -> Style {
        Style::new().add_modifier(Modifier::REVERSED)
    }
}
