//! The one component for everything that is typed, secrets included.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use skellin_engine::Passphrase;
use zeroize::Zeroizing;

/// A line of text and where the cursor stands in it, in characters.
#[derive(Clone, Debug, Default)]
pub(in crate::tui) struct TextField {
    text: Zeroizing<Vec<char>>,
    at: usize,
    is_secret: bool,
    is_revealed: bool,
}

impl TextField {
    pub fn of(text: &str) -> Self {
        let text: Vec<char> = text.chars().collect();
        Self { at: text.len(), text: Zeroizing::new(text), ..Self::default() }
    }

    /// A text that is shown as dots unless its owner asks to see it.
    pub fn secret() -> Self {
        // Room from the start, so that no half of a secret stays behind in memory when it grows.
        let text = Zeroizing::new(Vec::with_capacity(256));
        Self { text, is_secret: true, ..Self::default() }
    }

    pub fn text(&self) -> String {
        self.text.iter().collect()
    }

    /// What was typed, as the secret it is.
    pub fn passphrase(&self) -> Passphrase {
        let mut bytes = Passphrase::new(Vec::with_capacity(self.text.len() * 4));
        for c in self.text.iter() {
            bytes.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
        }
        bytes
    }

    pub fn is_same(&self, other: &Self) -> bool {
        self.text == other.text
    }

    /// Whether the cursor stands behind the last character.
    pub fn is_at_end(&self) -> bool {
        self.at == self.text.len()
    }

    pub fn is_empty(&self) -> bool {
        self.text.is_empty()
    }

    /// How many characters were typed.
    pub fn length(&self) -> usize {
        self.text.len()
    }

    /// The text as it may be seen, with a bar where the cursor stands if keys go here.
    pub fn shown(&self, here: bool) -> String {
        let visible = |c: &char| if self.is_secret && !self.is_revealed { '•' } else { *c };
        let (before, after) = self.text.split_at(self.at);
        let bar = here.then_some('▏');
        before.iter().map(visible).chain(bar).chain(after.iter().map(visible)).collect()
    }

    /// What the key that shows and hides a secret does now, for the hint line.
    pub fn reveal_hint(&self) -> (&'static str, &'static str) {
        ("Ctrl R", if self.is_revealed { "hide" } else { "show" })
    }

    /// Takes a key; whether it was one for a line of text. Keys with Ctrl or Alt edit or do nothing,
    /// they never type: what nobody sees would become a passphrase that nobody knows.
    pub fn key(&mut self, key: KeyEvent) -> bool {
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        let chord = control || key.modifiers.contains(KeyModifiers::ALT);
        match key.code {
            KeyCode::Char('u') if control => {
                self.text.drain(..self.at);
                self.at = 0;
            }
            KeyCode::Char('k') if control => self.text.truncate(self.at),
            KeyCode::Char('w') if control => {
                while self.at > 0 && self.text[self.at - 1] == ' ' {
                    self.erase();
                }
                while self.at > 0 && self.text[self.at - 1] != ' ' {
                    self.erase();
                }
            }
            KeyCode::Char('h') if control => self.erase(),
            KeyCode::Char('a') if control => self.at = 0,
            KeyCode::Char('e') if control => self.at = self.text.len(),
            KeyCode::Char('r') if control && self.is_secret => {
                self.is_revealed = !self.is_revealed;
            }
            KeyCode::Char(c) if !chord && !c.is_control() => {
                self.text.insert(self.at, c);
                self.at += 1;
            }
            KeyCode::Backspace => self.erase(),
            KeyCode::Delete if self.at < self.text.len() => drop(self.text.remove(self.at)),
            KeyCode::Left => self.at = self.at.saturating_sub(1),
            KeyCode::Right => self.at = (self.at + 1).min(self.text.len()),
            KeyCode::Home => self.at = 0,
            KeyCode::End => self.at = self.text.len(),
            _ => return false,
        }
        true
    }

    /// Puts text in where the cursor stands, as text whatever it holds: control characters and line
    /// ends are left out.
    pub fn insert(&mut self, text: &str) {
        for c in text.chars().filter(|c| !c.is_control()) {
            self.text.insert(self.at, c);
            self.at += 1;
        }
    }

    fn erase(&mut self) {
        if self.at > 0 {
            self.at -= 1;
            self.text.remove(self.at);
        }
    }
}

/// How strong a passphrase of so many characters is, in words.
pub(super) fn strength(length: usize) -> &'static str {
    match length {
        0 => "",
        1..=11 => "short: can be guessed by whoever gets hold of the store",
        12..=19 => "fair; a few more words make it strong",
        _ => "strong, unless it is a known phrase",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn press(field: &mut TextField, code: KeyCode) -> bool {
        field.key(KeyEvent::from(code))
    }

    fn control(field: &mut TextField, c: char) {
        field.key(KeyEvent::new(KeyCode::Char(c), KeyModifiers::CONTROL));
    }

    #[test]
    fn a_text_is_edited_where_the_cursor_stands() {
        let mut field = TextField::of("terns over");
        for _ in 0..4 {
            press(&mut field, KeyCode::Left);
        }
        press(&mut field, KeyCode::Char('å'));
        assert_eq!(field.shown(true), "terns å▏over");
        press(&mut field, KeyCode::Backspace);
        press(&mut field, KeyCode::Delete);
        assert_eq!(field.text(), "terns ver");
        control(&mut field, 'w');
        assert_eq!(field.text(), "ver");
        control(&mut field, 'e');
        press(&mut field, KeyCode::Left);
        control(&mut field, 'k');
        assert_eq!(field.text(), "ve");
        control(&mut field, 'u');
        assert!(field.is_empty());
        assert!(!press(&mut field, KeyCode::Enter));
    }

    #[test]
    fn keys_with_control_never_type_into_a_secret() {
        let mut field = TextField::secret();
        for c in "two tærns ".chars() {
            press(&mut field, KeyCode::Char(c));
        }
        for c in ('a'..='z').filter(|c| !['u', 'w', 'h', 'k', 'r'].contains(c)) {
            control(&mut field, c);
            field.key(KeyEvent::new(KeyCode::Char(c), KeyModifiers::ALT));
            assert_eq!(field.passphrase().as_slice(), "two tærns ".as_bytes(), "{c}");
        }
        control(&mut field, 'e');
        press(&mut field, KeyCode::Backspace);
        control(&mut field, 'w');
        field.key(KeyEvent::new(KeyCode::Char('Æ'), KeyModifiers::SHIFT));
        assert_eq!(field.passphrase().as_slice(), "two Æ".as_bytes());
        control(&mut field, 'h');
        control(&mut field, 'u');
        assert!(field.is_empty());
    }

    #[test]
    fn what_is_pasted_is_text() {
        let mut field = TextField::of("ab");
        press(&mut field, KeyCode::Left);
        field.insert("x\u{15}y\u{1b}[A");
        assert_eq!(field.shown(true), "axy[A▏b", "none of it is a key");
    }

    #[test]
    fn a_secret_is_shown_only_on_demand() {
        let mut field = TextField::secret();
        for c in "gull".chars() {
            press(&mut field, KeyCode::Char(c));
        }
        assert_eq!((field.shown(true), field.shown(false)), ("••••▏".into(), "••••".into()));
        control(&mut field, 'r');
        assert_eq!(field.shown(false), "gull");
        control(&mut field, 'r');
        assert_eq!(field.shown(false), "••••");
        let mut plain = TextField::of("x");
        control(&mut plain, 'r');
        assert_eq!(plain.shown(false), "x");
    }
}
