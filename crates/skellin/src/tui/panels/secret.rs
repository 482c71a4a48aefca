//! A text that is typed and not shown.

use ratatui::crossterm::event::KeyCode;
use skellin_engine::Passphrase;

/// Handles a key of a text that is not shown; whether it was one.
pub(in crate::tui) fn type_secret(typed: &mut Passphrase, code: KeyCode) -> bool {
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
