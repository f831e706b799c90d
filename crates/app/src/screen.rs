//! The screen: events become actions, actions change the model, and a view draws it.
//!
//! Only [`update`] changes anything; drawing reads. The key reader has a thread of its own, so that a cut
//! works while a drawing is blocked.

pub mod action;
mod advice;
mod also;
pub mod beside;
pub mod bindings;
mod calibrate;
mod canvas;
mod chart;
pub mod commands;
mod context;
mod course;
mod dial;
mod dialog;
mod digits;
mod dress;
pub mod entry;
mod errand;
mod everywhere;
mod figures;
mod form;
mod frame;
mod health;
mod inputs;
mod intent;
pub mod keymap;
pub mod keys;
mod layout;
mod many;
mod model;
mod moment;
mod observe;
pub mod panel;
pub mod panels;
mod pen;
mod pick;
mod question;
mod ready;
mod roster;
mod rows;
mod scene;
mod sequence;
pub mod start;
mod step;
mod taught;
pub mod terminal;
#[cfg(test)]
mod tests;
mod theme;
mod touch;
mod typing;
mod update;
mod view;
mod wiring;
mod written;

use crate::face::Face;
use crate::look::Look;
use crate::recovery::Left;
use crate::session::Session;
use crate::signals::ENDING;
use crossterm::event::{
    Event, KeyEventKind, KeyboardEnhancementFlags, PopKeyboardEnhancementFlags, PushKeyboardEnhancementFlags,
};
use dialog::Dialog;
use figures::Figures;
use miette::IntoDiagnostic;
use model::Model;
use ratatui::DefaultTerminal;
use ratatui::layout::Rect;
use std::io::Write;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::{Duration, Instant};
use terminal::Screen;
use wasvolta_core::stage::{Command, Output};
use wasvolta_engine::Stop;

/// Time between two drawings while something may move, and while nothing does.
const LIVELY: Duration = Duration::from_millis(33);
const QUIET: Duration = Duration::from_millis(100);
/// The time until a drawing is tried again that something held up.
const SOON: Duration = Duration::from_millis(2);
/// The least time between two drawings, however many keys come.
const BETWEEN: Duration = Duration::from_millis(16);
/// How long the screen may take to end after a signal before the process is ended without it: longer than a release
/// that fails is tried again.
const GIVEN_TO_END: Duration = Duration::from_secs(5);

/// Time between two looks whether another program has written the rig's file.
const FILE_LOOK: Duration = Duration::from_secs(1);

/// What wakes the screen's thread.
enum Wake {
    Terminal(Event),
    Signal(i32),
}

/// Shows a session until it is quit.
///
/// # Errors
/// When the terminal cannot be used, or a part of the program has failed; everything is released then too.
pub fn run(mut session: Session, left: Left, face: &Face) -> miette::Result<ExitCode> {
    let (wakes, from_others) = channel();
    let asked_to_end =
        listen_to_signals(wakes.clone(), Arc::clone(session.runner.engine.stop())).into_diagnostic()?;
    let stop = Arc::clone(session.runner.engine.stop());
    let mut screen = Screen::take(move || stop.set()).into_diagnostic()?;
    read_keys(wakes, Arc::clone(session.runner.engine.stop()), Arc::clone(&asked_to_end));
    let mut model = Model::new(&mut session, calibrate::VIEW);
    model.keys = face.keys.clone();
    model.greet(&session, left);
    let now = Instant::now();
    let figures = Figures::new();
    let (terminal, shown) = (&mut screen, &mut session);
    let watch = Watch {
        terminal,
        session: shown,
        look: face.look,
        model,
        figures,
        start: now,
        drawn_at: None,
        owed: None,
        looked_at: now,
        releases: false,
        mouse: false,
    };
    let outcome = watch.keep(&from_others);
    let asked = asked_to_end.load(Ordering::SeqCst);
    let failed = session.runner.engine.is_stopped() && !asked;
    // The servos first, the screen after: a terminal that takes nothing must not keep them.
    let ending = session.runner.finish();
    drop(screen);
    if let Err(error) = outcome
        && !asked
    {
        ending.tell("");
        return Err(error);
    }
    let exit = ending.tell("");
    if failed {
        return Err(miette::miette!(
            help = "this is a fault of the program, not yours; your last save is unharmed",
            "a part of wasvolta has failed"
        ));
    }
    Ok(exit.into())
}

/// Hears signals on a thread of its own. What ends or cuts is carried out there: it must not wait for a screen
/// that may be blocked. Gives the flag that is set once someone has asked for the end.
fn listen_to_signals(wakes: Sender<Wake>, stop: Arc<Stop>) -> std::io::Result<Arc<AtomicBool>> {
    use signal_hook::consts::{SIGCONT, SIGINT, SIGTSTP};
    let heard = ENDING.into_iter().chain([SIGINT, SIGTSTP, SIGCONT]);
    let mut signals = signal_hook::iterator::Signals::new(heard)?;
    let asked = Arc::new(AtomicBool::new(false));
    let ends = Arc::clone(&asked);
    std::thread::spawn(move || {
        for signal in signals.forever() {
            match signal {
                signal if ENDING.contains(&signal) => {
                    ends.store(true, Ordering::SeqCst);
                    stop.set();
                    // A terminal that takes nothing any more must not keep the process.
                    std::thread::sleep(GIVEN_TO_END);
                    // It may take no more letters, but it can still be given back to its owner's way of typing.
                    let _ = crossterm::terminal::disable_raw_mode();
                    std::process::exit(128 + signal);
                }
                SIGINT => stop.cut(),
                _ if wakes.send(Wake::Signal(signal)).is_err() => return,
                _ => {}
            }
        }
    });
    Ok(asked)
}

/// Reads keys on a thread of its own. Ctrl-C cuts here already: it must not wait for the screen.
fn read_keys(wakes: Sender<Wake>, stop: Arc<Stop>, asked_to_end: Arc<AtomicBool>) {
    std::thread::spawn(move || {
        while let Ok(event) = crossterm::event::read() {
            if let Event::Key(key) = event
                && key.kind != KeyEventKind::Release
                && keys::is_cut(key)
            {
                stop.cut();
            }
            if wakes.send(Wake::Terminal(event)).is_err() {
                return;
            }
        }
        // The terminal is gone: nobody can see or stop anything any more.
        asked_to_end.store(true, Ordering::SeqCst);
        stop.set();
    });
}

/// The loop's own things, beside what the rig and its engine are.
struct Watch<'a> {
    terminal: &'a mut DefaultTerminal,
    session: &'a mut Session,
    look: Look,
    model: Model,
    figures: Figures,
    start: Instant,
    drawn_at: Option<Instant>,
    /// A drawing was put off, so long after the one before.
    owed: Option<Duration>,
    looked_at: Instant,
    /// The terminal was asked to say when a key goes up.
    releases: bool,
    /// It was asked to say what the mouse does.
    mouse: bool,
}

impl Drop for Watch<'_> {
    fn drop(&mut self) {
        self.ask_for_releases(false);
    }
}

/// How long the loop waits for something to happen: until the next drawing, or only what is left until one that was put
/// off may be made.
fn patience(lively: bool, owed: Option<Duration>) -> Duration {
    match owed {
        Some(ago) => BETWEEN.saturating_sub(ago).max(SOON),
        None if lively => LIVELY,
        None => QUIET,
    }
}

impl Watch<'_> {
    /// Observes, draws, and takes what comes, until it is over.
    fn keep(mut self, wakes: &Receiver<Wake>) -> miette::Result<()> {
        while !self.model.quit && !self.session.runner.engine.is_stopped() {
            self.observe();
            self.draw()?;
            if !self.take(wakes)? {
                break;
            }
        }
        self.figures.tell();
        let punctual = self.model.snapshot.punctual;
        tracing::info!("{} beats, {} late, worst {:?}", punctual.beats, punctual.late, punctual.worst);
        Ok(())
    }

    /// Whether something moves on the screen though the output is off.
    fn is_lively(&self) -> bool {
        let room = panels::of(self.model.view).lively;
        self.model.snapshot.players.go_on() || room(&self.model)
    }

    fn observe(&mut self) {
        if self.looked_at.elapsed() >= FILE_LOOK {
            self.session.document.look_at_file();
            let runner = &mut self.session.runner;
            runner.lookout.look_at_chips(runner.engine.snapshot());
            self.looked_at = Instant::now();
        }
        self.session.runner.keep_places();
        update::observe(&mut self.model, self.session, self.start.elapsed());
    }

    fn draw(&mut self) -> miette::Result<()> {
        let ago = self.drawn_at.map(|at| at.elapsed());
        // An edit that is on its way to the stage is a beat away: what is drawn then has it whole.
        let on_its_way = self.model.snapshot.version < self.session.runner.edition.version;
        self.owed = ago.filter(|ago| *ago < BETWEEN || (on_its_way && *ago < QUIET));
        if self.owed.is_some() {
            return Ok(());
        }
        let (scene, look) = (self.model.shown(self.session), self.look);
        let began = Instant::now();
        let mut touches = Vec::new();
        let dressed = |f: &mut ratatui::Frame<'_>| {
            touches = frame::draw(&scene, f.area(), f.buffer_mut());
            look.dress(f.buffer_mut());
        };
        let drawn = self.terminal.draw(dressed).into_diagnostic()?.area;
        self.model.too_small = frame::is_too_small(drawn);
        self.model.window = drawn;
        self.model.touches = touches;
        self.drawn_at = Some(Instant::now());
        self.figures.drew(began.elapsed());
        self.ask_for_releases(matches!(self.model.dialog, Some(Dialog::Faders)));
        self.ask_for_mouse(self.look.mouse && update::wants_mouse(&self.model));
        if std::mem::take(&mut self.model.bell) {
            let mut out = std::io::stdout();
            let _ = out.write_all(b"\x07").and_then(|()| out.flush());
        }
        Ok(())
    }

    /// While buttons are played the terminal is asked to say when a key goes up; one that cannot takes no notice.
    fn ask_for_releases(&mut self, wanted: bool) {
        if std::mem::replace(&mut self.releases, wanted) == wanted {
            return;
        }
        let all = KeyboardEnhancementFlags::DISAMBIGUATE_ESCAPE_CODES
            | KeyboardEnhancementFlags::REPORT_EVENT_TYPES
            | KeyboardEnhancementFlags::REPORT_ALL_KEYS_AS_ESCAPE_CODES;
        let mut out = std::io::stdout();
        let _ = if wanted {
            crossterm::execute!(out, PushKeyboardEnhancementFlags(all))
        } else {
            crossterm::execute!(out, PopKeyboardEnhancementFlags)
        };
    }

    /// The terminal is asked what the mouse does only while it can do something here: else it marks and copies text.
    fn ask_for_mouse(&mut self, wanted: bool) {
        if std::mem::replace(&mut self.mouse, wanted) != wanted {
            terminal::ask_for_mouse(wanted);
        }
    }

    /// Waits for something, a while at most, and takes all that waits: held keys must not pile up between two
    /// drawings. Whether anything can still come.
    fn take(&mut self, wakes: &Receiver<Wake>) -> miette::Result<bool> {
        let lively = self.model.snapshot.output != Output::Off || self.is_lively();
        let mut wake = match wakes.recv_timeout(patience(lively, self.owed)) {
            Ok(wake) => Some(wake),
            Err(RecvTimeoutError::Timeout) => None,
            Err(RecvTimeoutError::Disconnected) => return Ok(false),
        };
        self.model.new_frame();
        while let Some(now) = wake {
            match now {
                Wake::Terminal(event) => {
                    update::event(&mut self.model, self.session, &event, self.start.elapsed());
                }
                Wake::Signal(signal) => {
                    obey(self.session, self.terminal, signal)?;
                    // Whoever had the terminal meanwhile had its mouse too.
                    self.mouse = false;
                }
            }
            wake = wakes.try_recv().ok();
        }
        Ok(true)
    }
}

fn obey(session: &mut Session, terminal: &mut DefaultTerminal, signal: i32) -> miette::Result<()> {
    use signal_hook::consts::{SIGCONT, SIGTSTP};
    match signal {
        SIGTSTP => {
            // Nobody can reach the keys of a stopped program: hold first.
            session.runner.engine.command(Command::Hold);
            let asked = Instant::now();
            while session.runner.engine.snapshot().output == Output::Driving
                && asked.elapsed() < Duration::from_millis(200)
            {
                std::thread::yield_now();
            }
            terminal::leave();
            // Stands here until it is continued.
            signal_hook::low_level::emulate_default_handler(SIGTSTP).into_diagnostic()?;
            come_back(terminal)
        }
        SIGCONT => come_back(terminal),
        _ => Ok(()),
    }
}

/// Takes the terminal again after a stop, without asking it anything: the answer would land with the key reader.
fn come_back(terminal: &mut DefaultTerminal) -> miette::Result<()> {
    terminal::enter().into_diagnostic()?;
    let size = terminal.size().into_diagnostic()?;
    terminal.resize(Rect::new(0, 0, size.width, size.height)).into_diagnostic()
}

#[cfg(test)]
mod patience_tests {
    use super::*;

    #[test]
    fn a_drawing_that_was_put_off_is_waited_for_no_longer_than_it_must() {
        assert_eq!((patience(true, None), patience(false, None)), (LIVELY, QUIET));
        for ago in [Duration::ZERO, Duration::from_millis(9), BETWEEN, QUIET] {
            let waits = patience(false, Some(ago));
            assert!(waits + ago <= BETWEEN.max(ago + SOON), "{waits:?} after {ago:?}");
        }
        assert_eq!(patience(false, Some(Duration::from_millis(9))), Duration::from_millis(7));
    }
}
