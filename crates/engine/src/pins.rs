//! What boards read from their pins, on its way from the worker that drives a board to the link that stands on it.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use wasvolta_core::rig::BoardId;
use wasvolta_port::Fault;
use wasvolta_port::inlet::{OpenInlet, Shut};
use wasvolta_port::posted::{Poster, posted};
use wasvolta_wire::decode::{Frame, Sink};

/// One board's pins.
#[derive(Default)]
struct Board {
    /// It does as it is told, and so it reads what it is asked to.
    is_up: bool,
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

    /// A board was served: whether it does as it is told, and what it has read.
    pub(crate) fn served(&self, board: BoardId, is_up: bool, read: &[(u16, f64)]) {
        let mut boards = self.lock();
        let board = boards.entry(board).or_default();
        if !is_up {
            *board = Board::default();
            return;
        }
        board.is_up = true;
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
            if !board.is_up {
                let help = "Wiring shows what is wrong with the board itself";
                return Err(shut("the board does not answer yet", help, Fault::Absent));
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
