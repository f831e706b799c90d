//! Serial lines: a thread that opens them, and the beat's end that reads them to the newest.

use crate::LinePort;
use crate::snapshot::{LineState, LineTrouble};
use crate::stop::Stop;
use rtrb::{Consumer, Producer, RingBuffer};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use wasvolta_core::stage::Reading;
use wasvolta_port::serial::{Got, Serial};
use wasvolta_wire::lines::{Decoder, Field};

const RETRY: Duration = Duration::from_millis(500);
/// Bytes read from one line in one turn at most; what is left waits for the next.
const MOST_BYTES: usize = 16 * 1024;

struct Kept {
    port: LinePort,
    wanted: Arc<AtomicBool>,
    opened: Producer<Serial>,
}

/// Opens lines, and opens them again when they were lost. Opening may take its time.
pub struct Keeper {
    lines: Vec<Kept>,
    trouble: LineTrouble,
}

/// The beat's end of one line.
pub struct Inlet {
    line: Option<Serial>,
    opened: Consumer<Serial>,
    wanted: Arc<AtomicBool>,
    decoder: Decoder,
}

impl Keeper {
    pub(crate) fn new(ports: Vec<LinePort>, trouble: LineTrouble) -> (Self, Vec<Inlet>) {
        let (lines, inlets) = ports
            .into_iter()
            .map(|port| {
                let (opened, from_keeper) = RingBuffer::new(1);
                let wanted = Arc::new(AtomicBool::new(true));
                let decoder = Decoder::default();
                let inlet = Inlet { line: None, opened: from_keeper, wanted: Arc::clone(&wanted), decoder };
                (Kept { port, wanted, opened }, inlet)
            })
            .unzip();
        (Self { lines, trouble }, inlets)
    }

    pub(crate) fn run(mut self, stop: &Stop) {
        while !stop.is_set() {
            if self.service() {
                stop.wake();
            }
            std::thread::park_timeout(RETRY);
        }
    }

    /// Tries every line that is wanted; whether one was opened.
    pub(crate) fn service(&mut self) -> bool {
        let mut any = false;
        for (n, line) in self.lines.iter_mut().enumerate() {
            if !line.wanted.load(Ordering::SeqCst) {
                continue;
            }
            let trouble = match Serial::open(&line.port.path, line.port.baud) {
                Ok(serial) => {
                    line.wanted.store(false, Ordering::SeqCst);
                    any |= line.opened.push(serial).is_ok();
                    None
                }
                Err(error) => Some(error),
            };
            self.trouble.set(n, trouble);
        }
        any
    }
}

impl Inlet {
    /// The open line, to wait on.
    pub(crate) const fn serial(&self) -> Option<&Serial> {
        self.line.as_ref()
    }

    pub(crate) fn state(&self) -> LineState {
        LineState { open: self.line.is_some(), counts: self.decoder.counts() }
    }

    /// Reads all that waits and updates the readings of the inputs that come over this line.
    pub(crate) fn read<'a>(
        &mut self,
        mut inputs: impl FnMut(&mut dyn FnMut(&'a Field, &mut Reading, &mut Option<f64>)),
    ) {
        if let Ok(serial) = self.opened.pop() {
            self.line = Some(serial);
            self.decoder.reopened();
        }
        let Some(line) = &self.line else { return };
        let mut bytes = [0; 1024];
        let mut total = 0;
        while total < MOST_BYTES {
            match line.read(&mut bytes) {
                Got::Bytes(count) => {
                    total += count;
                    let new = bytes.get(..count).unwrap_or_default();
                    self.decoder.feed(new, |numbers| {
                        inputs(&mut |field, reading, last| {
                            let Some(value) = numbers.get(field) else { return };
                            reading.frames += 1;
                            reading.changed |= last.is_none_or(|last| last.to_bits() != value.to_bits());
                            reading.value = Some(value);
                            *last = Some(value);
                        });
                    });
                }
                Got::Nothing => return,
                Got::Gone => {
                    self.line = None;
                    self.wanted.store(true, Ordering::SeqCst);
                    return;
                }
            }
        }
    }
}
