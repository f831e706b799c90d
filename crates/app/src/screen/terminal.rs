//! The terminal, taken for the screen and given back on every way out.
//!
//! It may have hung up by then, or take nothing. Giving it back therefore never fails and never says anything:
//! what could not be written has nobody to read it, and a panic here would come before the servos' release.

use crossterm::cursor::Show;
use crossterm::event::{DisableBracketedPaste, EnableBracketedPaste};
use crossterm::execute;
use crossterm::terminal::{EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode};
use miette::Diagnostic;
use ratatui::DefaultTerminal;
use ratatui::backend::CrosstermBackend;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::ffi::OsString;
use std::io::{IsTerminal, Write, stdin, stdout};
use std::mem::ManuallyDrop;
use std::ops::{Deref, DerefMut};
use std::time::Duration;
use thiserror::Error;

/// Why there can be no screen.
#[derive(Debug, Error, Diagnostic)]
pub enum NoScreen {
    /// Standard input or output is something else.
    #[error("there is no terminal to draw on and to read keys from")]
    #[diagnostic(help("run it in one, or name a command that needs none: `wasvolta --help` lists them"))]
    NoTerminal,
    /// It can only print lines.
    #[error("a terminal of the kind {} cannot place what is drawn", kind.display())]
    #[diagnostic(help("use another terminal, or set TERM to what this one really is"))]
    OnlyLines {
        /// What TERM says.
        kind: OsString,
    },
}

/// Whether there can be a screen: asked before any device is touched. `kind` is what TERM says.
///
/// # Errors
/// When there is no terminal, or one that can only print lines.
pub fn possible(kind: Option<OsString>) -> Result<(), NoScreen> {
    if !stdin().is_terminal() || !stdout().is_terminal() {
        return Err(NoScreen::NoTerminal);
    }
    match kind {
        Some(kind) if kind == "dumb" => Err(NoScreen::OnlyLines { kind }),
        _ => Ok(()),
    }
}

/// The terminal as long as it is the screen's. What it wraps is never dropped: that would write to standard error,
/// which is the same terminal, and panic where it has hung up.
pub struct Screen(ManuallyDrop<DefaultTerminal>);

impl Screen {
    /// Takes the terminal. A panic in any thread first does `before_all`, which must not wait, and gives the
    /// terminal back before its words are said.
    ///
    /// # Errors
    /// When standard input and output are no terminal, or it takes nothing.
    pub fn take(before_all: impl Fn() + Send + Sync + 'static) -> std::io::Result<Self> {
        let said = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            before_all();
            leave();
            said(info);
        }));
        let screen = Self(ManuallyDrop::new(DefaultTerminal::new(CrosstermBackend::new(stdout()))?));
        // From here on what was taken is given back, also where it was taken by half only.
        enter()?;
        Ok(screen)
    }
}

impl Deref for Screen {
    type Target = DefaultTerminal;

    fn deref(&self) -> &DefaultTerminal {
        &self.0
    }
}

impl DerefMut for Screen {
    fn deref_mut(&mut self) -> &mut DefaultTerminal {
        &mut self.0
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        leave();
    }
}

/// Takes it again after `leave`.
///
/// # Errors
/// When it takes nothing.
pub fn enter() -> std::io::Result<()> {
    enable_raw_mode()?;
    execute!(stdout(), EnterAlternateScreen, EnableBracketedPaste)
}

/// What comes from the terminal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Waiting {
    Nothing,
    /// Something to read.
    Something,
    /// It has hung up: nothing will ever come.
    Gone,
}

/// Waits for something from the terminal, for a while. One that has hung up is always ready to be read, and gives
/// nothing: whoever only waits for a key would spin for ever.
pub fn waits(most: Duration) -> Waiting {
    let timeout = Timespec {
        tv_sec: i64::try_from(most.as_secs()).unwrap_or(i64::MAX),
        tv_nsec: i64::from(most.subsec_nanos()),
    };
    let standard = stdin();
    let mut ready = [PollFd::new(&standard, PollFlags::IN)];
    match poll(&mut ready, Some(&timeout)) {
        // An interrupted wait: a signal, or a window of another size.
        Err(_) => Waiting::Something,
        Ok(0) => Waiting::Nothing,
        Ok(_) => {
            let gone = ready
                .iter()
                .any(|fd| fd.revents().intersects(PollFlags::HUP | PollFlags::ERR | PollFlags::NVAL));
            if gone { Waiting::Gone } else { Waiting::Something }
        }
    }
}

/// Asks it to say what the mouse does while a button is down, or no more. Where the pointer goes without a button is
/// nobody's business here.
pub fn ask_for_mouse(wanted: bool) {
    let mut out = stdout();
    let words: &[u8] = if wanted { b"\x1b[?1002h\x1b[?1006h" } else { b"\x1b[?1006l\x1b[?1002l" };
    let _ = out.write_all(words).and_then(|()| out.flush());
}

/// Gives it back as it was.
pub fn leave() {
    // Each by itself: letters may go nowhere while the way of typing can still be set.
    let _ = disable_raw_mode();
    ask_for_mouse(false);
    let _ = execute!(stdout(), DisableBracketedPaste, LeaveAlternateScreen, Show);
}
