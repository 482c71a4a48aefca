//! A text that is typed and not shown.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use skellin_engine::Passphrase;

/// Handles a key of a text that is not shown. Keys with Ctrl or Alt never type: what nobody sees would
/// become a passphrase that nobody knows.
pub(in crate::tui) fn type_secret(typed: &mut Passphrase, key: KeyEvent) {
    let control = key.modifiers.contains(KeyModifiers::CONTROL);
    match key.code {
        KeyCode::Char('u') if control => typed.clear(),
        KeyCode::Char('w') if control => {
            while typed.last() == Some(&b' ') {
                typed.pop();
            }
            while typed.last().is_some_and(|byte| *byte != b' ') {
                typed.pop();
            }
        }
        KeyCode::Char('h') if control => erase(typed),
        KeyCode::Backspace => erase(typed),
        KeyCode::Char(c) if !control && !key.modifiers.contains(KeyModifiers::ALT) => {
            typed.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
        }
        _ => {}
    }
}

/// Takes a whole character away, however many bytes it has.
fn erase(typed: &mut Passphrase) {
    while typed.pop().is_some_and(|byte| byte & 0xC0 == 0x80) {}
}

/// A secret as dots.
pub(super) fn dots(typed: &Passphrase) -> String {
    "•".repeat(String::from_utf8_lossy(typed).chars().count())
}

/// How strong a passphrase of so many bytes is, in words.
pub(super) fn strength(length: usize) -> &'static str {
    match length {
        0 => "",
        1..=11 => "short: a thief with the store can try many",
        12..=19 => "fair; a few more words make it strong",
        _ => "strong, if nobody else says it",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_with_control_never_type() {
        let mut typed = Passphrase::default();
        let mut press = |code, modifiers| {
            type_secret(&mut typed, KeyEvent::new(code, modifiers));
            String::from_utf8_lossy(&typed).into_owned()
        };
        for c in "two tærns ".chars() {
            press(KeyCode::Char(c), KeyModifiers::NONE);
        }
        for c in ('a'..='z').filter(|c| !['u', 'w', 'h'].contains(c)) {
            assert_eq!(press(KeyCode::Char(c), KeyModifiers::CONTROL), "two tærns ");
            assert_eq!(press(KeyCode::Char(c), KeyModifiers::ALT), "two tærns ");
        }
        assert_eq!(press(KeyCode::Backspace, KeyModifiers::NONE), "two tærns");
        assert_eq!(press(KeyCode::Char('w'), KeyModifiers::CONTROL), "two ");
        assert_eq!(press(KeyCode::Char('Æ'), KeyModifiers::SHIFT), "two Æ");
        assert_eq!(press(KeyCode::Char('h'), KeyModifiers::CONTROL), "two ");
        assert_eq!(press(KeyCode::Char('u'), KeyModifiers::CONTROL), "");
    }
}
