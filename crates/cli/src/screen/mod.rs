//! The full screen of `pick`: what can be chosen, what follows from it, and what it amounts to.
//!
//! [`state`] is what is shown, [`keys`] what keys and the mouse do to it, [`views`] its rows, [`draw`] how it looks. Only
//! this module touches the terminal.

mod draw;
mod keys;
mod state;
mod views;

pub(crate) use state::{EditionRow, News, Screen, Subject};

use neat_content::{Error, Result};
use ratatui::{
    Terminal,
    backend::CrosstermBackend,
    crossterm::{
        event::{self, DisableMouseCapture, EnableMouseCapture, Event},
        execute,
        terminal::{
            BeginSynchronizedUpdate, Clear, ClearType, EndSynchronizedUpdate, EnterAlternateScreen,
            LeaveAlternateScreen, disable_raw_mode, enable_raw_mode,
        },
    },
};
use std::{
    io::{self, Stdout},
    path::Path,
    sync::{
        atomic::{AtomicBool, Ordering},
        mpsc::{Receiver, TryRecvError},
    },
    time::Duration,
};

/// How a screen was left.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Left {
    /// The choice is to be written.
    Keep,
    /// Nothing is to be written.
    Drop,
}

/// How long it waits for keys before it looks for news, and while there is some to come.
const TICK: Duration = Duration::from_millis(250);
const SHORT_TICK: Duration = Duration::from_millis(10);

/// Shows the screen until it is left. What is worked out meanwhile comes as `news`.
///
/// # Errors
/// `Io` when the terminal fails, `Cancelled` when the program is asked to stop.
pub(crate) fn show(screen: &mut Screen, news: &Receiver<News>, stop: &AtomicBool) -> Result<Left> {
    let failed = Error::io("draw on", Path::new("the terminal"));
    run(screen, news, stop).map_err(failed)?.ok_or(Error::Cancelled)
}

fn run(screen: &mut Screen, news: &Receiver<News>, stop: &AtomicBool) -> io::Result<Option<Left>> {
    let mut terminal = Open::new()?;
    let mut is_stale = true;
    loop {
        if stop.load(Ordering::Relaxed) {
            return Ok(None);
        }
        loop {
            match news.try_recv() {
                Ok(news) => screen.hear(news),
                Err(TryRecvError::Empty) => break,
                // Everything that will be known is known.
                Err(TryRecvError::Disconnected) => {
                    is_stale |= screen.is_waiting();
                    screen.hear_no_more();
                    break;
                }
            }
            is_stale = true;
        }
        if is_stale {
            // Terminals that know these marks show the picture when it is whole; others pass over them.
            execute!(terminal.0.backend_mut(), BeginSynchronizedUpdate)?;
            terminal.0.draw(|frame| {
                draw::screen(screen, frame);
                if !screen.colours {
                    draw::without_colours(frame);
                }
            })?;
            execute!(terminal.0.backend_mut(), EndSynchronizedUpdate)?;
            is_stale = false;
        }
        if !event::poll(if screen.is_waiting() { SHORT_TICK } else { TICK })? {
            continue;
        }
        let left = match event::read()? {
            Event::Key(key) => keys::key(screen, key),
            Event::Mouse(mouse) => keys::mouse(screen, mouse),
            Event::Paste(text) => keys::paste(screen, &text),
            _ => None,
        };
        is_stale = true;
        if left.is_some() {
            return Ok(left);
        }
    }
}

/// A terminal that is as it was when this goes, however it goes.
struct Open(Terminal<CrosstermBackend<Stdout>>);

impl Open {
    fn new() -> io::Result<Self> {
        enable_raw_mode()?;
        // From here on the terminal is put back also when the rest fails.
        let terminal = Terminal::new(CrosstermBackend::new(io::stdout()));
        let mut open = match terminal {
            Ok(terminal) => Self(terminal),
            Err(error) => {
                let _ = disable_raw_mode();
                return Err(error);
            }
        };
        // Not the terminal's own way to clear: that asks where the cursor is, and not every terminal answers.
        execute!(open.0.backend_mut(), EnterAlternateScreen, Clear(ClearType::All), EnableMouseCapture)?;
        Ok(open)
    }
}

impl Drop for Open {
    fn drop(&mut self) {
        let _ =
            execute!(self.0.backend_mut(), EndSynchronizedUpdate, DisableMouseCapture, LeaveAlternateScreen);
        let _ = disable_raw_mode();
        let _ = self.0.show_cursor();
    }
}
