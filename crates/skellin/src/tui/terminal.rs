//! The terminal, taken over and given back as it was: on return, on error, on panic.

use std::{
    io::{self, Stdout},
    sync::atomic::{AtomicBool, Ordering},
};

use ratatui::{
    Frame,
    backend::CrosstermBackend,
    crossterm::{
        cursor::Show,
        event::{
            DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture,
        },
        execute,
        terminal::{
            BeginSynchronizedUpdate, EndSynchronizedUpdate, EnterAlternateScreen,
            LeaveAlternateScreen, disable_raw_mode, enable_raw_mode,
        },
    },
};

/// A terminal in full-screen use.
pub(super) struct Terminal(ratatui::Terminal<CrosstermBackend<Stdout>>);

impl Terminal {
    pub fn open() -> io::Result<Self> {
        let previous = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            give_back();
            previous(info);
        }));
        IS_OURS.store(true, Ordering::SeqCst);
        enable_raw_mode()?;
        execute!(io::stdout(), EnterAlternateScreen, EnableBracketedPaste, EnableMouseCapture)?;
        Ok(Self(ratatui::Terminal::new(CrosstermBackend::new(io::stdout()))?))
    }

    pub fn draw(&mut self, draw: impl FnOnce(&mut Frame<'_>)) -> io::Result<()> {
        // A terminal that knows these shows the frame at once; others pass them over.
        execute!(io::stdout(), BeginSynchronizedUpdate)?;
        self.0.draw(draw)?;
        execute!(io::stdout(), EndSynchronizedUpdate)
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        give_back();
    }
}

/// Whether the terminal is ours now. It is given back once: leaving the alternate screen again would
/// put the cursor where it was before, over what a panic has said meanwhile.
static IS_OURS: AtomicBool = AtomicBool::new(false);

fn give_back() {
    if !IS_OURS.swap(false, Ordering::SeqCst) {
        return;
    }
    // If the terminal is gone there is nothing to give back.
    let _ = execute!(
        io::stdout(),
        DisableMouseCapture,
        DisableBracketedPaste,
        LeaveAlternateScreen,
        Show
    );
    let _ = disable_raw_mode();
}
