//! Ways in at work: a thread that opens them, and the beat's end, which drains them to the newest.
//!
//! A way is a port with the links on it. What comes over it is bytes for the decoder of each of its links, or values.
//! The beat keeps its end of every way; an edit brings new ends, and what is open and heard already goes over to them.

use crate::snapshot::{ChannelState, LinkReport, RECENT};
use crate::stop::Stop;
use rtrb::{Consumer, Producer, RingBuffer};
use rustix::fd::BorrowedFd;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{self, Receiver, Sender};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use wasvolta_core::inflow::Batch;
use wasvolta_core::link::{Heard, Way};
use wasvolta_core::outside;
use wasvolta_core::range::PATH_LENGTH;
use wasvolta_core::rig::{Channel, LinkId, Protocol};
use wasvolta_port::inlet::{Drained, Inlet, OpenInlet, Outlet, Shut};
use wasvolta_wire::decode::{Carrier, Counts, Decode, Frame, Sink, decoder};

const RETRY: Duration = Duration::from_millis(500);
/// Channels of a link that are kept; what names itself beyond that is not shown, and what an input stands on always is.
const MOST_CHANNELS: usize = 64;

/// What tells a way apart from another: where it leads, and how it is opened.
pub(crate) type WayId = u64;

/// Why a way cannot be opened: written by the thread that opens it, read by the screen, never by the beat.
#[derive(Debug, Clone, Default)]
pub(crate) struct Trouble(Arc<Mutex<Option<Shut>>>);

impl Trouble {
    fn set(&self, trouble: Option<Shut>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = trouble;
    }

    pub(crate) fn get(&self) -> Option<Shut> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// A way that is to be kept open.
pub(crate) struct Kept {
    open: OpenInlet,
    wanted: Arc<AtomicBool>,
    opened: Producer<Box<dyn Inlet>>,
    trouble: Trouble,
}

/// The beat's hold on a way, opened or not.
pub(crate) struct Held {
    inlet: Option<Box<dyn Inlet>>,
    opened: Consumer<Box<dyn Inlet>>,
    wanted: Arc<AtomicBool>,
}

/// A new way: what opens it, and the beat's hold on it.
pub(crate) fn way(open: OpenInlet, trouble: Trouble) -> (Kept, Held) {
    let (opened, from_keeper) = RingBuffer::new(1);
    let wanted = Arc::new(AtomicBool::new(true));
    let held = Held { inlet: None, opened: from_keeper, wanted: Arc::clone(&wanted) };
    (Kept { open, wanted, opened, trouble }, held)
}

/// Opens ways, and opens them again when they were lost. Opening may take its time.
pub(crate) struct Keeper {
    ways: Vec<Kept>,
    new: Receiver<Kept>,
}

impl Keeper {
    /// A keeper, and where further ways go.
    pub(crate) fn new() -> (Self, Sender<Kept>) {
        let (more, new) = mpsc::channel();
        (Self { ways: Vec::new(), new }, more)
    }

    pub(crate) fn run(mut self, stop: &Stop) {
        while !stop.is_set() {
            if self.service() {
                stop.wake();
            }
            std::thread::park_timeout(RETRY);
        }
    }

    /// Tries every way that is wanted; whether one was opened. A way that nobody holds any more is forgotten.
    pub(crate) fn service(&mut self) -> bool {
        self.ways.extend(self.new.try_iter());
        self.ways.retain(|way| !way.opened.is_abandoned());
        let mut any = false;
        for way in self.ways.iter_mut().filter(|way| way.wanted.load(Ordering::SeqCst)) {
            let trouble = match (way.open)() {
                Ok(inlet) => {
                    way.wanted.store(false, Ordering::SeqCst);
                    any |= way.opened.push(inlet).is_ok();
                    None
                }
                Err(shut) => Some(shut),
            };
            way.trouble.set(trouble);
        }
        any
    }
}

/// A link as the beat has it.
#[derive(Debug, Clone)]
pub(crate) struct LinkSetup {
    pub(crate) id: LinkId,
    /// Its place in the rig.
    pub(crate) place: usize,
    pub(crate) protocol: Protocol,
    /// The channels that inputs stand on, with those inputs' places.
    pub(crate) wanted: Vec<(Channel, Vec<usize>)>,
    /// The topic to which the last will of its sender goes.
    pub(crate) will: Option<String>,
}

/// One channel of a link.
struct Slot {
    channel: Channel,
    /// What it said last.
    newest: Option<f64>,
    /// What it said in this turn.
    batch: Batch,
    /// How much it has said so far.
    count: u64,
    /// The least and the greatest that it has said.
    span: (f64, f64),
    /// The newest values, in a ring.
    recent: [f64; RECENT],
    inputs: Vec<usize>,
    /// The ends that its device gives.
    ends: Option<(f64, f64)>,
    /// What it said last it said nobody knows when.
    is_old: bool,
}

impl Slot {
    fn new(channel: Channel, inputs: Vec<usize>) -> Self {
        Self {
            channel,
            newest: None,
            batch: Batch::default(),
            count: 0,
            span: (0.0, 0.0),
            recent: [0.0; RECENT],
            inputs,
            ends: None,
            is_old: false,
        }
    }

    fn is(&self, code: u16, name: &str) -> bool {
        match &self.channel {
            Channel::Code(own) => *own == code,
            Channel::Name(own) => **own == *name,
        }
    }

    const fn is_named(&self) -> bool {
        matches!(self.channel, Channel::Name(_))
    }

    /// Takes a value; whether it is another than the one before.
    fn take(&mut self, value: f64, is_event: bool) -> bool {
        let before = self.newest.replace(value);
        self.is_old = false;
        self.span =
            if self.count == 0 { (value, value) } else { (self.span.0.min(value), self.span.1.max(value)) };
        if let Some(place) =
            usize::try_from(self.count % RECENT as u64).ok().and_then(|n| self.recent.get_mut(n))
        {
            *place = value;
        }
        self.count += 1;
        self.batch.push(value, is_event);
        before.is_none_or(|before| before.to_bits() != value.to_bits())
    }
}

/// The beat's end of one link.
struct LinkEnd {
    setup: LinkSetup,
    decoder: Option<Box<dyn Decode>>,
    ear: Ear,
}

/// What a link was heard to say.
struct Ear {
    slots: Vec<Slot>,
    heard: Heard,
    is_event: bool,
    /// Whether a value of the frame that is under way is another than before.
    changed: bool,
    /// Frames of values that come without bytes.
    frames: u64,
    will: Option<String>,
}

impl Ear {
    /// The places of all slots that a channel stands in, with a new one where it stands in none of its own.
    fn ensure(&mut self, code: u16, name: &str) -> impl Iterator<Item = &mut Slot> {
        let known = self.slots.iter().any(|slot| slot.is(code, name) && slot.is_named() != name.is_empty());
        if !known
            && self.slots.len() < MOST_CHANNELS
            && let Some(channel) = channel(code, name)
        {
            self.slots.push(Slot::new(channel, Vec::new()));
        }
        self.slots.iter_mut().filter(move |slot| slot.is(code, name))
    }
}

impl Sink for Ear {
    fn value(&mut self, code: u16, name: &str, value: f64) {
        if !value.is_finite() {
            return;
        }
        // A value may stand behind one input by its place, and behind another by its name.
        let is_event = self.is_event;
        let changed =
            self.ensure(code, name).fold(false, |changed, slot| slot.take(value, is_event) | changed);
        self.changed |= changed;
    }

    fn has(&mut self, code: u16, name: &str, ends: Option<(f64, f64)>) {
        self.ensure(code, name).for_each(|slot| slot.ends = ends);
    }

    fn once(&mut self, name: &str, value: f64) {
        // What is heard now is newer than what was said once.
        for slot in self.ensure(0, name).filter(|slot| slot.count == 0 && value.is_finite()) {
            (slot.newest, slot.is_old, slot.span) = (Some(value), true, (value, value));
        }
    }

    fn will(&mut self, topic: &str, is_there: bool) {
        if self.will.as_deref() != Some(topic) {
            return;
        }
        self.heard.failsafe = !is_there;
        self.heard.frames = u32::from(is_there);
    }

    fn frame(&mut self, frame: Frame) {
        let changed = std::mem::take(&mut self.changed);
        match frame {
            Frame::Values => {
                self.heard.frames += 1;
                self.heard.changed |= changed;
                self.frames += 1;
            }
            Frame::OfLink => {}
            Frame::Failsafe => {
                self.heard = Heard { failsafe: true, way: self.heard.way, ..Heard::default() };
            }
        }
    }
}

/// The channel of something that was not heard before; none where its name is not fit to be shown.
fn channel(code: u16, name: &str) -> Option<Channel> {
    if name.is_empty() {
        return Some(Channel::Code(code));
    }
    let fits = name.chars().count() <= PATH_LENGTH && !name.chars().any(outside::is_unfit);
    fits.then(|| Channel::Name(name.into()))
}

/// Hands on what comes over a way to each of its links.
struct Links<'a>(&'a mut [LinkEnd]);

impl Sink for Links<'_> {
    fn value(&mut self, code: u16, name: &str, value: f64) {
        self.0.iter_mut().for_each(|link| link.ear.value(code, name, value));
    }

    fn frame(&mut self, frame: Frame) {
        self.0.iter_mut().for_each(|link| link.ear.frame(frame));
    }

    fn has(&mut self, code: u16, name: &str, ends: Option<(f64, f64)>) {
        self.0.iter_mut().for_each(|link| link.ear.has(code, name, ends));
    }

    fn once(&mut self, name: &str, value: f64) {
        self.0.iter_mut().for_each(|link| link.ear.once(name, value));
    }

    fn will(&mut self, topic: &str, is_there: bool) {
        self.0.iter_mut().for_each(|link| link.ear.will(topic, is_there));
    }
}

impl Outlet for Links<'_> {
    fn bytes(&mut self, bytes: &[u8], quiet: Option<Duration>) {
        for link in &mut *self.0 {
            if let Some(decoder) = &mut link.decoder {
                decoder.feed(bytes, quiet, &mut link.ear);
            }
        }
    }
}

/// The beat's end of one way.
pub(crate) struct WayEnd {
    id: WayId,
    /// None until it was taken over from the end before.
    held: Option<Held>,
    links: Vec<LinkEnd>,
}

impl WayEnd {
    /// An end for a way; without a hold it takes over that of the end before.
    pub(crate) fn new(id: WayId, held: Option<Held>, carrier: Carrier, links: &[LinkSetup]) -> Self {
        let link = |setup: &LinkSetup| LinkEnd {
            decoder: decoder(setup.protocol.word(), carrier),
            ear: Ear {
                slots: setup.wanted.iter().map(|(c, inputs)| Slot::new(c.clone(), inputs.clone())).collect(),
                heard: Heard::default(),
                is_event: !setup.protocol.streams(),
                changed: false,
                frames: 0,
                will: setup.will.clone(),
            },
            setup: setup.clone(),
        };
        Self { id, held, links: links.iter().map(link).collect() }
    }

    /// Takes over what the ends before an edit have open, and what their links have heard. A link that came to an open
    /// way is told that it is open, and one that came from another way that that one is gone.
    pub(crate) fn take_over(&mut self, before: &mut [Self]) {
        if self.held.is_none()
            && let Some(same) = before.iter_mut().find(|end| end.id == self.id)
        {
            self.held = same.held.take();
        }
        let is_open = self.is_open();
        for link in &mut self.links {
            let is_same = |was: &LinkEnd| was.setup.id == link.setup.id;
            let was = before.iter_mut().find_map(|end| {
                let (id, open) = (end.id, end.is_open());
                Some((id, open, end.links.iter_mut().find(|was| is_same(was))?))
            });
            match was {
                Some((id, _, was)) if id == self.id && was.setup.protocol == link.setup.protocol => {
                    link.take_over(was, is_open);
                }
                _ if is_open => link.ear.heard.way = Way::Opened,
                Some((id, true, _)) if id != self.id => link.ear.heard.way = Way::Gone,
                _ => {}
            }
        }
    }

    fn is_open(&self) -> bool {
        self.held.as_ref().is_some_and(|held| held.inlet.is_some())
    }

    /// What says that something waits.
    pub(crate) fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        self.held.as_ref()?.inlet.as_ref()?.descriptor()
    }

    /// Drains all that waits; gives what is gone, to be closed elsewhere.
    pub(crate) fn drain(&mut self, now: Duration) -> Option<Box<dyn Inlet>> {
        let held = self.held.as_mut()?;
        if let Ok(inlet) = held.opened.pop() {
            held.inlet = Some(inlet);
            for link in &mut self.links {
                link.ear.heard.way = Way::Opened;
                if let Some(decoder) = &mut link.decoder {
                    decoder.reopened();
                }
            }
        }
        let drained = held.inlet.as_mut()?.drain(now, &mut Links(&mut self.links));
        if drained == Drained::Open {
            return None;
        }
        self.links.iter_mut().for_each(|link| link.ear.heard.way = Way::Gone);
        held.wanted.store(true, Ordering::SeqCst);
        held.inlet.take()
    }

    /// Puts what was heard in this turn where the stage looks for it.
    pub(crate) fn hand_over(&mut self, heard: &mut [Heard], inputs: &mut [Batch]) {
        for link in &mut self.links {
            if let Some(place) = heard.get_mut(link.setup.place) {
                *place = std::mem::take(&mut link.ear.heard);
            }
            for slot in link.ear.slots.iter_mut().filter(|slot| slot.batch.count > 0) {
                for input in &slot.inputs {
                    if let Some(place) = inputs.get_mut(*input) {
                        *place = slot.batch;
                    }
                }
                slot.batch = Batch::default();
            }
        }
    }

    /// Writes down how its links stand.
    pub(crate) fn report(&self, now: Duration, reports: &mut [LinkReport]) {
        let inlet = self.held.as_ref().and_then(|held| held.inlet.as_ref());
        for link in &self.links {
            let Some(report) = reports.get_mut(link.setup.place) else { continue };
            report.id = link.setup.id;
            report.open = inlet.is_some();
            report.note = inlet.and_then(|inlet| inlet.note());
            let frames = link.ear.frames;
            let counts =
                link.decoder.as_ref().map_or(Counts { good: frames, ..Counts::default() }, |d| d.counts());
            if counts.good != report.counts.good {
                report.strange_at = None;
            } else if counts.skipped != report.counts.skipped {
                report.strange_at = Some(now);
            }
            report.counts = counts;
            report.channels.clear();
            report.channels.extend(link.ear.slots.iter().map(|slot| ChannelState {
                channel: slot.channel.clone(),
                newest: slot.newest,
                least: slot.span.0,
                greatest: slot.span.1,
                count: slot.count,
                recent: slot.recent,
                ends: slot.ends,
                is_old: slot.is_old,
            }));
        }
    }
}

impl LinkEnd {
    /// Goes on from what the same link had heard before an edit, on a way that is open or not.
    fn take_over(&mut self, was: &mut Self, is_open: bool) {
        self.decoder = was.decoder.take();
        (self.ear.heard, self.ear.frames) = (was.ear.heard, was.ear.frames);
        for slot in was.ear.slots.drain(..) {
            let has_room = self.ear.slots.len() < MOST_CHANNELS;
            let same = self.ear.slots.iter_mut().find(|own| own.channel == slot.channel);
            match same {
                Some(own) => {
                    (own.newest, own.count, own.span) = (slot.newest, slot.count, slot.span);
                    (own.recent, own.ends, own.is_old) = (slot.recent, slot.ends, slot.is_old);
                    own.batch = slot.batch;
                    // What speaks only when something changes may be silent for long: an input that is new on its
                    // channel begins with what that said last.
                    let is_new = own.inputs.len() > slot.inputs.len() && own.count > 0 && !own.is_old;
                    if let Some(newest) = own.newest.filter(|_| is_new && self.ear.is_event && is_open) {
                        own.batch.push(newest, true);
                    }
                }
                // What only an input that went stood on and never said anything is forgotten.
                None if (slot.newest.is_some() || slot.ends.is_some()) && has_room => {
                    self.ear.slots.push(Slot { inputs: Vec::new(), ..slot });
                }
                None => {}
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_core::rig::PartId;

    fn end(wanted: &[(Channel, Vec<usize>)], protocol: Protocol) -> WayEnd {
        let setup = LinkSetup { id: LinkId::of(3), place: 0, protocol, wanted: wanted.to_vec(), will: None };
        WayEnd::new(1, None, Carrier::Stream, &[setup])
    }

    fn named(name: &str) -> Channel {
        Channel::Name(name.into())
    }

    fn hand_over(end: &mut WayEnd, inputs: usize) -> (Heard, Vec<Batch>) {
        let (mut heard, mut batches) = ([Heard::default()], vec![Batch::default(); inputs]);
        end.hand_over(&mut heard, &mut batches);
        (heard[0], batches)
    }

    #[test]
    fn every_protocol_of_bytes_has_its_decoder_and_every_decoder_its_protocol() {
        let words: Vec<&str> = wasvolta_wire::decode::DECODERS.iter().map(|row| row.protocol).collect();
        let values = [
            Protocol::Firmata,
            Protocol::Evdev,
            Protocol::Gpio,
            Protocol::Iio,
            Protocol::Mqtt,
            Protocol::Keys,
            Protocol::Wave,
        ];
        for protocol in Protocol::ALL {
            assert_eq!(words.contains(&protocol.word()), !values.contains(&protocol), "{protocol:?}");
        }
        assert_eq!(words.len() + values.len(), Protocol::ALL.len());
    }

    #[test]
    fn a_field_is_found_by_its_place_and_by_its_name_at_once() {
        let wanted = [(Channel::Code(2), vec![0]), (named("knob"), vec![1, 2])];
        let mut end = end(&wanted, Protocol::Lines);
        Links(&mut end.links).bytes(b"x\n4 knob=512 gap=7\n4 knob=513 gap=7\n", None);
        let (heard, batches) = hand_over(&mut end, 3);
        assert_eq!((heard.frames, heard.changed), (2, true));
        let of = |batch: &Batch| (batch.newest, batch.least, batch.count);
        assert_eq!(batches.iter().map(of).collect::<Vec<_>>(), [(513.0, 512.0, 2); 3]);
        let mut reports = vec![LinkReport::default()];
        end.report(Duration::ZERO, &mut reports);
        let there: Vec<_> = reports[0].channels.iter().map(|c| (c.channel.clone(), c.newest)).collect();
        let wanted = [
            (Channel::Code(2), Some(513.0)),
            (named("knob"), Some(513.0)),
            (Channel::Code(1), Some(4.0)),
            (named("gap"), Some(7.0)),
        ];
        assert_eq!(there, wanted, "what no input stands on is shown too");
        let knob = &reports[0].channels[1];
        assert_eq!(
            (knob.since(0).collect::<Vec<_>>(), knob.since(1).collect::<Vec<_>>()),
            (vec![512.0, 513.0], vec![513.0])
        );
        assert_eq!(knob.since(2).count(), 0);
        assert_eq!(hand_over(&mut end, 3), (Heard::default(), vec![Batch::default(); 3]), "said once");
        Links(&mut end.links).bytes(b"4 knob=513 gap=7\n", None);
        assert!(!hand_over(&mut end, 3).0.changed, "the very same");
        Links(&mut end.links).bytes(b"4 knob=513 gap=8\n", None);
        assert!(hand_over(&mut end, 3).0.changed, "a link is alive when any of its channels is");
    }

    #[test]
    fn an_input_that_is_new_on_a_channel_begins_with_what_that_said_last_where_nothing_else_will_say_it() {
        for (protocol, is_open, begins) in
            [(Protocol::Osc, true, 1), (Protocol::Osc, false, 0), (Protocol::Lines, true, 0)]
        {
            let mut before = end(&[], protocol);
            let links = &mut before.links;
            links[0].ear.value(0, "/knob", 0.25);
            links[0].ear.once("/kept", 0.5);
            hand_over(&mut before, 0);
            let mut after = end(&[(named("/knob"), vec![0]), (named("/kept"), vec![1])], protocol);
            after.links[0].take_over(&mut before.links[0], is_open);
            let (_, batches) = hand_over(&mut after, 2);
            assert_eq!([batches[0].count, batches[1].count], [begins, 0], "{protocol:?} {is_open}");
            // Another edit says nothing again.
            let mut again = end(&[(named("/knob"), vec![0])], protocol);
            again.links[0].take_over(&mut after.links[0], is_open);
            assert_eq!(hand_over(&mut again, 1).1[0].count, 0);
        }
    }

    #[test]
    fn a_failsafe_takes_back_what_came_before_it_and_not_what_comes_behind() {
        let mut end = end(&[], Protocol::Sbus);
        for frame in [Frame::Values, Frame::Values, Frame::Failsafe, Frame::Values] {
            Links(&mut end.links).frame(frame);
        }
        let (heard, _) = hand_over(&mut end, 0);
        assert_eq!((heard.frames, heard.failsafe), (1, true));
    }

    #[test]
    fn what_tells_of_the_link_is_no_frame_and_no_change() {
        let mut end = end(&[], Protocol::Crsf);
        for quality in [100, 99, 98] {
            Links(&mut end.links).bytes(&wasvolta_wire::crsf::emit_link(quality, 60), None);
        }
        assert_eq!(hand_over(&mut end, 0).0, Heard::default());
    }

    #[test]
    fn names_from_outside_are_few_and_fit_to_be_shown() {
        let mut end = end(&[(named("knob"), vec![0])], Protocol::Lines);
        for n in 0..1000 {
            Links(&mut end.links).bytes(format!("\nv{n}=1 e\u{1b}[31m=2\n").as_bytes(), None);
        }
        Links(&mut end.links).bytes(b"knob=5\n", None);
        let mut reports = vec![LinkReport::default()];
        end.report(Duration::ZERO, &mut reports);
        assert_eq!(reports[0].channels.len(), MOST_CHANNELS);
        let fit = |c: &ChannelState| !Protocol::Lines.name(&c.channel).contains('\u{1b}');
        assert!(reports[0].channels.iter().all(fit));
        assert_eq!(hand_over(&mut end, 1).1[0].value(), Some(5.0));
    }

    #[test]
    fn an_edit_keeps_what_was_heard_and_what_has_gone_is_forgotten() {
        let mut before = [end(&[(named("knob"), vec![0]), (named("never"), vec![1])], Protocol::Lines)];
        let (_, held) = way(Box::new(|| unreachable!()), Trouble::default());
        before[0].held = Some(held);
        Links(&mut before[0].links).bytes(b"\nknob=7 gap=1\n", None);
        hand_over(&mut before[0], 2);
        let mut after = end(&[(named("gap"), vec![0])], Protocol::Lines);
        after.take_over(&mut before);
        let mut reports = vec![LinkReport::default()];
        after.report(Duration::ZERO, &mut reports);
        let there: Vec<_> = reports[0].channels.iter().map(|c| (c.channel.clone(), c.newest)).collect();
        assert_eq!(there, [(named("gap"), Some(1.0)), (named("knob"), Some(7.0))]);
        assert_eq!(reports[0].counts.good, 1);
        // The half line that was held goes on.
        Links(&mut after.links).bytes(b"gap=2\n", None);
        assert_eq!(hand_over(&mut after, 1).1[0].value(), Some(2.0));
    }
}
