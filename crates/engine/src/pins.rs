//! What boards read from their pins, on its way from the worker that drives a board to the link that stands on it.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use wasvolta_core::rig::BoardId;
use wasvolta_port::Fault;
use wasvolta_port::board::Phase;
use wasvolta_port::inlet::{OpenInlet, Shut};
use wasvolta_port::posted::{Poster, posted};
use wasvolta_wire::decode::{Frame, Sink};

/// One board's pins.
#[derive(Default)]
struct Board {
    /// What it was last: one that is started reads what it is asked to.
    phase: Phase,
    /// Where what is read goes, once a link listens.
    poster: Option<Poster>,
    /// What each channel read last: a pin that does not change says nothing more.
    last: BTreeMap<u16, f64>,
}

/// See the module. Never touched by the beat.
#[derive(Clone, Default)]
pub(crate) struct Pins(Arc<Mutex<HashMap<BoardId, Board>>>);

impl Pins {
    fn lock(&self) -> MutexGuard<'_, HashMap<BoardId, Board>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A board was served: what it is, and what it has read.
    pub(crate) fn served(&self, board: BoardId, phase: &Phase, read: &[(u16, f64)]) {
        let mut boards = self.lock();
        let board = boards.entry(board).or_default();
        if *phase != Phase::Started {
            *board = Board { phase: phase.clone(), ..Board::default() };
            return;
        }
        board.phase = Phase::Started;
        board.last.extend(read.iter().copied());
        if let Some(poster) = &mut board.poster
            && !read.is_empty()
        {
            for (code, value) in read {
                poster.value(*code, "", *value);
            }
            poster.frame(Frame::Values);
        }
    }

    /// What opens the way to a board's pins: it is there as long as the board answers.
    pub(crate) fn opener(&self, board: BoardId) -> OpenInlet {
        let pins = self.clone();
        Box::new(move || {
            let shut = |words: &str, help: &str, fault| Shut {
                words: words.to_owned(),
                help: help.to_owned(),
                fault,
            };
            let mut boards = pins.lock();
            let board = boards.entry(board).or_default();
            match board.phase {
                Phase::Started => {}
                Phase::Down => {
                    let help = "Wiring shows what is wrong with the board itself";
                    return Err(shut("the board does not answer yet", help, Fault::Absent));
                }
                Phase::Asking(_) => {
                    let words = "nobody has said yet what becomes of what was found on the board";
                    return Err(shut(words, "open the rig in the program: it asks", Fault::Absent));
                }
            }
            let (mut poster, inlet) =
                posted().map_err(|error| shut(&error.to_string(), "", Fault::OtherKind))?;
            for (code, value) in &board.last {
                poster.value(*code, "", *value);
            }
            if !board.last.is_empty() {
                poster.frame(Frame::Values);
            }
            board.poster = Some(poster);
            Ok(inlet)
        })
    }
}
