//! Colours. They say the tense and whether all is well, and never alone: shapes and words carry
//! the same. The tones are readable on dark and on light grounds.

use ratatui::style::{Color, Modifier, Style};

/// Tones of the 256-colour palette, each with a contrast of at least 3.4 on black and on white.
const WAS: u8 = 68;
const IS: u8 = 166;
const WILL: u8 = 134;
const WELL: u8 = 30;
const WRONG: u8 = 167;
const QUIET: u8 = 244;

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
        self.tone(WAS)
    }

    /// The present.
    pub fn is(self) -> Style {
        self.tone(IS)
    }

    /// The future.
    pub fn will(self) -> Style {
        self.tone(WILL)
    }

    /// All is well.
    pub fn well(self) -> Style {
        self.tone(WELL)
    }

    /// Something is wrong.
    pub fn wrong(self) -> Style {
        self.tone(WRONG).add_modifier(Modifier::BOLD)
    }

    /// Of less importance.
    pub fn quiet(self) -> Style {
        if self.colour { self.tone(QUIET) } else { Style::new().add_modifier(Modifier::DIM) }
    }

    pub fn strong(self) -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }

    /// Where the cursor stands.
    pub fn cursor(self) -> Style {
        Style::new().add_modifier(Modifier::REVERSED)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Relative luminance of a tone of the palette's cube or its greys (WCAG 2.2).
    fn luminance(index: u8) -> f64 {
        let linear = |byte: u8| {
            let share = f64::from(byte) / 255.0;
            if share <= 0.04045 { share / 12.92 } else { ((share + 0.055) / 1.055).powf(2.4) }
        };
        let steps = [0, 95, 135, 175, 215, 255];
        let [red, green, blue] = match index {
            16..=231 => {
                let at = usize::from(index - 16);
                [steps[at / 36], steps[at / 6 % 6], steps[at % 6]]
            }
            _ => [8 + (index - 232) * 10; 3],
        };
        0.2126 * linear(red) + 0.7152 * linear(green) + 0.0722 * linear(blue)
    }

    #[test]
    fn every_tone_can_be_read_on_black_and_on_white() {
        for tone in [WAS, IS, WILL, WELL, WRONG, QUIET] {
            let light = luminance(tone);
            let (on_black, on_white) = ((light + 0.05) / 0.05, 1.05 / (light + 0.05));
            assert!(on_black >= 3.4 && on_white >= 3.4, "{tone}: {on_black:.2}, {on_white:.2}");
        }
    }
}
