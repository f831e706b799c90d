//! A way in that another thread feeds: what it posts waits in a ring of fixed room, and an event descriptor says so.

use crate::inlet::{Drained, Inlet, Outlet};
use rtrb::{Consumer, Producer, RingBuffer};
use rustix::event::{EventfdFlags, eventfd};
use rustix::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::Arc;
use std::time::Duration;
use wasvolta_wire::decode::{Frame, Sink};

/// What waits at most; what is beyond that is counted and left out.
const ROOM: usize = 1024;

/// One thing that was said.
enum Said {
    Value(u16, Box<str>, f64),
    Once(Box<str>, f64),
    Has(u16, Box<str>, Option<(f64, f64)>),
    Will(Box<str>, bool),
    Frame(Frame),
}

/// The end that is fed. When it is dropped the way is gone.
pub struct Poster {
    /// None only while it is dropped.
    ring: Option<Producer<Said>>,
    event: Arc<OwnedFd>,
    /// How much was left out since the ring was full.
    pub missed: u64,
}

impl Poster {
    /// Whether nobody drains it any more.
    pub fn is_abandoned(&self) -> bool {
        self.ring.as_ref().is_none_or(Producer::is_abandoned)
    }

    fn post(&mut self, said: Said) {
        if self.ring.as_mut().is_none_or(|ring| ring.push(said).is_err()) {
            self.missed += 1;
        }
    }

    fn wake(&self) {
        // The counter is full only when very many wake-ups wait already.
        let _ = rustix::io::write(&*self.event, &1u64.to_ne_bytes());
    }
}

impl Drop for Poster {
    fn drop(&mut self) {
        // Whoever is woken asks whether this end is gone: it must be by then.
        self.ring = None;
        self.wake();
    }
}

impl Sink for Poster {
    fn value(&mut self, code: u16, name: &str, value: f64) {
        self.post(Said::Value(code, name.into(), value));
    }

    fn frame(&mut self, frame: Frame) {
        self.post(Said::Frame(frame));
        self.wake();
    }

    fn has(&mut self, code: u16, name: &str, ends: Option<(f64, f64)>) {
        self.post(Said::Has(code, name.into(), ends));
        self.wake();
    }

    fn once(&mut self, name: &str, value: f64) {
        self.post(Said::Once(name.into(), value));
        self.wake();
    }

    fn will(&mut self, topic: &str, is_there: bool) {
        self.post(Said::Will(topic.into(), is_there));
        self.wake();
    }
}

/// The end that the beat drains.
struct Posted {
    ring: Consumer<Said>,
    event: Arc<OwnedFd>,
}

/// A ring with its two ends.
///
/// # Errors
/// When the system gives no descriptor.
pub fn posted() -> std::io::Result<(Poster, Box<dyn Inlet>)> {
    let event = Arc::new(eventfd(0, EventfdFlags::NONBLOCK | EventfdFlags::CLOEXEC)?);
    let (ring, drained) = RingBuffer::new(ROOM);
    let inlet = Posted { ring: drained, event: Arc::clone(&event) };
    Ok((Poster { ring: Some(ring), event, missed: 0 }, Box::new(inlet)))
}

impl Inlet for Posted {
    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(self.event.as_fd())
    }

    fn drain(&mut self, _: Duration, out: &mut dyn Outlet) -> Drained {
        let mut count = [0; 8];
        let _ = rustix::io::read(&*self.event, &mut count);
        // Asked first: what was posted before the other end went is drained still.
        let gone = self.ring.is_abandoned();
        for _ in 0..ROOM {
            match self.ring.pop() {
                Ok(Said::Value(code, name, value)) => out.value(code, &name, value),
                Ok(Said::Once(name, value)) => out.once(&name, value),
                Ok(Said::Has(code, name, ends)) => out.has(code, &name, ends),
                Ok(Said::Will(topic, is_there)) => out.will(&topic, is_there),
                Ok(Said::Frame(frame)) => out.frame(frame),
                Err(_) => break,
            }
        }
        if gone { Drained::Gone } else { Drained::Open }
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    /// What came over a way.
    #[derive(Debug, Default, PartialEq)]
    pub(crate) struct Heard {
        pub(crate) values: Vec<(u16, String, f64)>,
        pub(crate) once: Vec<(String, f64)>,
        pub(crate) has: Vec<(String, Option<(f64, f64)>)>,
        pub(crate) wills: Vec<(String, bool)>,
        pub(crate) frames: usize,
    }

    impl Sink for Heard {
        fn value(&mut self, code: u16, name: &str, value: f64) {
            self.values.push((code, name.to_owned(), value));
        }
        fn frame(&mut self, _: Frame) {
            self.frames += 1;
        }
        fn has(&mut self, _: u16, name: &str, ends: Option<(f64, f64)>) {
            self.has.push((name.to_owned(), ends));
        }
        fn once(&mut self, name: &str, value: f64) {
            self.once.push((name.to_owned(), value));
        }
        fn will(&mut self, topic: &str, is_there: bool) {
            self.wills.push((topic.to_owned(), is_there));
        }
    }

    impl Outlet for Heard {
        fn bytes(&mut self, _: &[u8], _: Option<Duration>) {}
    }

    #[test]
    fn what_is_posted_comes_in_order_and_a_full_ring_leaves_out_and_counts() {
        let (mut poster, mut inlet) = posted().unwrap();
        let mut heard = Heard::default();
        assert_eq!(inlet.drain(Duration::ZERO, &mut heard), Drained::Open);
        poster.value(3, "", 1.0);
        poster.frame(Frame::Values);
        poster.once("hut/gap", 2.0);
        poster.has(0, "abs-x", Some((0.0, 255.0)));
        poster.will("hut/up", false);
        let fd = inlet.descriptor().unwrap();
        let mut ready = [rustix::event::PollFd::new(&fd, rustix::event::PollFlags::IN)];
        assert_eq!(rustix::event::poll(&mut ready, None).unwrap(), 1);
        inlet.drain(Duration::ZERO, &mut heard);
        assert_eq!((heard.values.as_slice(), heard.frames), (&[(3, String::new(), 1.0)][..], 1));
        assert_eq!((heard.once.len(), heard.has.len(), heard.wills.len()), (1, 1, 1));
        for _ in 0..ROOM + 5 {
            poster.value(1, "", 1.0);
        }
        assert_eq!(poster.missed, 5);
        drop(poster);
        heard.values.clear();
        assert_eq!(inlet.drain(Duration::ZERO, &mut heard), Drained::Gone);
        assert_eq!(heard.values.len(), ROOM, "what was posted before is heard");
    }

    #[test]
    fn a_poster_knows_that_nobody_listens() {
        let (poster, inlet) = posted().unwrap();
        assert!(!poster.is_abandoned());
        drop(inlet);
        assert!(poster.is_abandoned());
    }
}
