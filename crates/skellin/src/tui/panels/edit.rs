//! A line of text being typed.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// A line of text and where the cursor stands in it, in characters.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(in crate::tui) struct Line {
    text: Vec<char>,
    at: usize,
}

impl Line {
    pub fn of(text: &str) -> Self {
        let text: Vec<char> = text.chars().collect();
        Self { at: text.len(), text }
    }

    pub fn text(&self) -> String {
        self.text.iter().collect()
    }

    pub fn is_empty(&self) -> bool {
        self.text.is_empty()
    }

    /// The text with a bar where the cursor stands.
    pub fn shown(&self) -> String {
        let (before, after) = self.text.split_at(self.at);
        before.iter().chain(std::iter::once(&'▏')).chain(after).collect()
    }

    /// Takes a key; whether it was one for a line of text.
    pub fn key(&mut self, key: KeyEvent) -> bool {
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        match key.code {
            KeyCode::Char('u') if control => {
                self.text.drain(..self.at);
                self.at = 0;
            }
            KeyCode::Char('w') if control => {
                while self.at > 0 && self.text[self.at - 1] == ' ' {
                    self.erase();
                }
                while self.at > 0 && self.text[self.at - 1] != ' ' {
                    self.erase();
                }
            }
            KeyCode::Char(c) if !control && !key.modifiers.contains(KeyModifiers::ALT) => {
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

    fn erase(&mut self) {
        if self.at > 0 {
            self.at -= 1;
            self.text.remove(self.at);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_edited_where_the_cursor_stands() {
        let mut line = Line::of("terns over");
        let press = |line: &mut Line, code| line.key(KeyEvent::from(code));
        for _ in 0..4 {
            press(&mut line, KeyCode::Left);
        }
        press(&mut line, KeyCode::Char('å'));
        assert_eq!(line.shown(), "terns å▏over");
        press(&mut line, KeyCode::Backspace);
        press(&mut line, KeyCode::Delete);
        assert_eq!(line.text(), "terns ver");
        line.key(KeyEvent::new(KeyCode::Char('w'), KeyModifiers::CONTROL));
        assert_eq!(line.text(), "ver");
        press(&mut line, KeyCode::End);
        line.key(KeyEvent::new(KeyCode::Char('u'), KeyModifiers::CONTROL));
        assert!(line.is_empty());
        assert!(!press(&mut line, KeyCode::Enter));
    }
}
