//! Colours. They say the tense and whether all is well, and never alone: shapes and words carry
//! the same. There is a set of tones for dark grounds and one for light grounds.

use std::ffi::OsString;

use ratatui::style::{Color, Modifier, Style};

/// Tones of the 256-colour palette.
#[derive(Debug)]
struct Tones {
    was: u8,
    is: u8,
    will: u8,
    well: u8,
    wrong: u8,
    quiet: u8,
}

const ON_DARK: Tones = Tones { was: 69, is: 202, will: 171, well: 37, wrong: 203, quiet: 246 };
const ON_LIGHT: Tones = Tones { was: 26, is: 94, will: 128, well: 23, wrong: 160, quiet: 242 };

/// The styles of the application.
#[derive(Clone, Copy, Debug)]
pub(super) struct Theme {
    tones: Option<&'static Tones>,
}

impl Theme {
    /// With colours unless the environment asks for none (`NO_COLOR`), for the ground it tells of
    /// (`SKELLIN_GROUND`, else `COLORFGBG` of the terminal), else for a dark one.
    pub fn new() -> Self {
        Self::of(|name| std::env::var_os(name).filter(|value| !value.is_empty()))
    }

    fn of(environment: impl Fn(&str) -> Option<OsString>) -> Self {
        if environment("NO_COLOR").is_some() {
            return Self { tones: None };
        }
        let said = |name: &str| environment(name)?.into_string().ok();
        let is_light = match said("SKELLIN_GROUND").as_deref() {
            Some("light") => true,
            Some("dark") => false,
            // The last of its numbers is the ground, in the 16 colours: white and light grey.
            _ => said("COLORFGBG")
                .is_some_and(|colours| matches!(colours.rsplit(';').next(), Some("7" | "15"))),
        };
        Self { tones: Some(if is_light { &ON_LIGHT } else { &ON_DARK }) }
    }

    #[cfg(test)]
    pub fn plain() -> Self {
        Self { tones: None }
    }

    pub fn has_colours(self) -> bool {
        self.tones.is_some()
    }

    fn tone(self, which: impl Fn(&Tones) -> u8) -> Style {
        self.tones.map_or(Style::new(), |tones| Style::new().fg(Color::Indexed(which(tones))))
    }

    /// The past.
    pub fn was(self) -> Style {
        self.tone(|tones| tones.was)
    }

    /// The present.
    pub fn is(self) -> Style {
        self.tone(|tones| tones.is)
    }

    /// The future.
    pub fn will(self) -> Style {
        self.tone(|tones| tones.will)
    }

    /// All is well.
    pub fn well(self) -> Style {
        self.tone(|tones| tones.well)
    }

    /// Something is wrong.
    pub fn wrong(self) -> Style {
        self.tone(|tones| tones.wrong).add_modifier(Modifier::BOLD)
    }

    /// Of less importance.
    pub fn quiet(self) -> Style {
        if self.tones.is_some() {
            self.tone(|tones| tones.quiet)
        } else {
            Style::new().add_modifier(Modifier::DIM)
        }
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

    /// On usual grounds at least 4.5 : 1, the least for text (WCAG 2.2, 1.4.3); where the ground is
    /// the other one and nothing tells so, still at least 2.1 : 1.
    #[test]
    fn every_tone_can_be_read() {
        let (dark, light) = (0.0137, 0.888); // of #1e1e1e and #f2f2f2
        for (tones, is_light) in [(&ON_DARK, false), (&ON_LIGHT, true)] {
            let Tones { was, is, will, well, wrong, quiet } = tones;
            for tone in [was, is, will, well, wrong, quiet] {
                let own = luminance(*tone);
                let (on_dark, on_light) =
                    ((own + 0.05) / (dark + 0.05), (light + 0.05) / (own + 0.05));
                let (here, there) =
                    if is_light { (on_light, on_dark) } else { (on_dark, on_light) };
                assert!(here >= 4.5, "{tone}: {here:.2}");
                assert!(there >= 2.1, "{tone} on the other ground: {there:.2}");
            }
        }
    }

    #[test]
    fn the_ground_is_told_by_the_environment() {
        let theme = |set: &[(&str, &str)]| {
            Theme::of(|name| {
                set.iter().find(|(key, _)| *key == name).map(|(_, value)| value.into())
            })
        };
        let is_light =
            |set: &[(&str, &str)]| theme(set).tones.map(|tones| tones.quiet == ON_LIGHT.quiet);
        assert_eq!(is_light(&[]), Some(false));
        assert_eq!(is_light(&[("COLORFGBG", "0;15")]), Some(true));
        assert_eq!(is_light(&[("COLORFGBG", "15;default;0")]), Some(false));
        assert_eq!(is_light(&[("COLORFGBG", "0;15"), ("SKELLIN_GROUND", "dark")]), Some(false));
        assert_eq!(is_light(&[("SKELLIN_GROUND", "light")]), Some(true));
        assert_eq!(is_light(&[("NO_COLOR", "1"), ("SKELLIN_GROUND", "light")]), None);
    }
}
