//! One request at a time on a half-duplex line: what was sent comes back as an echo or not, an answer comes in time, late,
//! broken, or not at all. Time comes in as a value.
//!
//! Adapters that join the two directions on one wire echo what is sent; in form 1 an echoed ping *is* a valid answer.
//! Whether a line echoes is learned from the first answer on it, and kept.

use super::{Answer, Ask, EVERYONE, Form, Packets, Unsayable};
use std::collections::VecDeque;
use std::time::Duration;

/// The longest answer that is waited for.
const LONGEST: usize = 128;
/// Bits of a byte on the line.
const BITS_A_BYTE: u32 = 10;
/// Echoes that have not come yet are waited for up to so many bytes.
const MOST_OWED: usize = 4096;

/// How long things take on a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Timing {
    /// Bits a second.
    pub baud: u32,
    /// What a servo waits before it answers.
    pub return_delay: Duration,
    /// How long the adapter may sit on bytes, and the system behind it.
    pub latency: Duration,
}

impl Timing {
    /// The least latency that is waited for: some adapters sit on bytes for 16 ms.
    pub const LATENCY: Duration = Duration::from_millis(20);

    /// How long so many bytes are on the line.
    pub fn on_wire(&self, bytes: usize) -> Duration {
        let bytes = u32::try_from(bytes).unwrap_or(u32::MAX);
        Duration::from_secs(1) * BITS_A_BYTE * bytes / self.baud.max(1)
    }
}

/// Whether a line gives back what is sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Echo {
    /// Nothing has answered yet.
    #[default]
    Unknown,
    /// It does not.
    None,
    /// It gives back every byte that is sent.
    Whole,
}

/// What came of a request, for each that was to answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Happened {
    /// The one that was asked answered.
    Answer(Answer),
    /// It did not answer in time.
    Missed {
        /// Who was asked.
        id: u8,
        /// Something came that was no whole packet: noise, a collision, two servos with one id.
        garbled: bool,
    },
    /// What came back is what was sent, and would be a valid answer too: an echo, for all that is known. Reading one byte
    /// tells, for the echo of that is no answer to it.
    Unsure {
        /// Who was asked.
        id: u8,
    },
}

/// Who is to answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Expected<'a> {
    /// Nobody: no answer is waited for.
    Nobody,
    /// These, in this order, each with so many bytes of data.
    Each(&'a [u8], usize),
    /// Whoever is there, in the order of their ids, with so many bytes of data.
    Anybody(usize),
}

/// What was seen on a line so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Seen {
    /// How many requests were sent.
    pub asked: u64,
    /// Answers that were waited for.
    pub answered: u64,
    /// Answers that were waited for and did not come.
    pub missed: u64,
    /// Of those, with something else in their place.
    pub garbled: u64,
    /// Echoes that were not what was sent: somebody else spoke at the same time.
    pub collisions: u64,
    /// Packets that nobody waited for: answers that came too late.
    pub strays: u64,
}

/// See the module.
#[derive(Debug)]
pub struct Exchange {
    form: Form,
    packets: Packets<LONGEST>,
    echo: Echo,
    out: Vec<u8>,
    told: Vec<u8>,
    /// What was sent and has not come back, where it may.
    owed: VecDeque<u8>,
    /// What came back of it since the request that is open.
    echoed: usize,
    /// Who has not answered yet, in order.
    waits: VecDeque<u8>,
    /// Anybody may answer.
    anybody: bool,
    /// Bytes of data in each answer.
    data: usize,
    timing: Timing,
    until: Option<Duration>,
    /// Bytes that were no packet, before the request that is open.
    skipped: u64,
    happened: VecDeque<Happened>,
    seen: Seen,
}

impl Exchange {
    /// A line of which nothing is known.
    pub fn new(form: Form) -> Self {
        Self {
            form,
            packets: Packets::new(form),
            echo: Echo::Unknown,
            out: Vec::with_capacity(512),
            told: Vec::with_capacity(512),
            owed: VecDeque::with_capacity(512),
            echoed: 0,
            waits: VecDeque::with_capacity(32),
            anybody: false,
            data: 0,
            timing: Timing { baud: 1_000_000, return_delay: Duration::ZERO, latency: Timing::LATENCY },
            until: None,
            skipped: 0,
            happened: VecDeque::with_capacity(32),
            seen: Seen::default(),
        }
    }

    /// The form of the packets.
    pub const fn form(&self) -> Form {
        self.form
    }

    /// Whether the line echoes.
    pub const fn echo(&self) -> Echo {
        self.echo
    }

    /// What was seen so far.
    pub const fn seen(&self) -> Seen {
        self.seen
    }

    /// Whether a request is open.
    pub const fn is_open(&self) -> bool {
        self.until.is_some()
    }

    /// When the request that is open is over at the latest.
    pub const fn until(&self) -> Option<Duration> {
        self.until
    }

    /// Begins a request; what was open is forgotten. Gives the bytes to send now.
    ///
    /// # Errors
    /// When the form cannot say it.
    pub fn ask(
        &mut self,
        now: Duration,
        timing: Timing,
        (id, ask): (u8, &Ask<'_>),
        expected: Expected<'_>,
    ) -> Result<&[u8], Unsayable> {
        self.out.clear();
        self.form.ask(id, ask, &mut self.out)?;
        self.packets.restart();
        (self.timing, self.skipped, self.echoed) = (timing, self.strange(), 0);
        self.waits.clear();
        self.happened.clear();
        self.until = None;
        self.seen.asked += 1;
        if self.echo != Echo::None {
            // Before anything has answered nothing is known of what comes back.
            if self.echo == Echo::Unknown || self.owed.len() > MOST_OWED {
                self.owed.clear();
            }
            self.owed.extend(&self.out);
        }
        let sent = timing.on_wire(self.out.len());
        self.anybody = matches!(expected, Expected::Anybody(_));
        let others = match expected {
            Expected::Nobody => return Ok(&self.out),
            Expected::Each(ids, data) => {
                self.waits.extend(ids);
                self.data = data;
                Duration::ZERO
            }
            Expected::Anybody(data) => {
                self.data = data;
                // Whoever is there leaves all before it the time to answer.
                self.slot() * u32::from(self.form.greatest_id())
            }
        };
        self.until = Some(now + sent + self.slot() + timing.latency + others);
        Ok(&self.out)
    }

    /// Says something that nobody answers, while a request may be open: its answer is not waited for any less. Gives the
    /// bytes to send now.
    ///
    /// # Errors
    /// When the form cannot say it.
    pub fn tell(&mut self, (id, ask): (u8, &Ask<'_>)) -> Result<&[u8], Unsayable> {
        self.told.clear();
        self.form.ask(id, ask, &mut self.told)?;
        self.seen.asked += 1;
        if self.echo == Echo::Whole && self.owed.len() <= MOST_OWED {
            self.owed.extend(&self.told);
        }
        Ok(&self.told)
    }

    /// What one answer takes.
    fn slot(&self) -> Duration {
        self.timing.return_delay + self.timing.on_wire(self.form.answer_length(self.data))
    }

    /// Bytes that were nothing.
    const fn strange(&self) -> u64 {
        self.packets.counts().skipped
    }

    /// Takes what has come.
    pub fn hear(&mut self, bytes: &[u8], now: Duration) {
        for &byte in bytes {
            match self.owed.front() {
                Some(sent) if *sent == byte => {
                    self.owed.pop_front();
                    self.echoed += 1;
                }
                Some(_) => self.not_an_echo(byte, now),
                None => self.take(&[byte], now),
            }
        }
    }

    /// What came is not what was sent: no echo, or one that somebody spoke into.
    fn not_an_echo(&mut self, byte: u8, now: Duration) {
        let came = self.echoed.min(self.out.len());
        if self.echo == Echo::Whole {
            self.seen.collisions += 1;
        }
        self.owed.clear();
        // The bytes before it were the beginning of the same.
        let before: Vec<u8> = self.out.iter().take(came).copied().collect();
        self.echoed = 0;
        self.take(&before, now);
        self.take(&[byte], now);
    }

    fn take(&mut self, bytes: &[u8], now: Duration) {
        let Self {
            packets,
            form,
            waits,
            anybody,
            data,
            until,
            happened,
            seen,
            echo,
            echoed,
            out,
            timing,
            ..
        } = self;
        packets.feed(bytes, |packet| {
            let Some(answer) = packet.as_answer(*form) else { return };
            // A servo that refuses gives no data with it.
            let fits = answer.data().len() == *data || (answer.error != 0 && answer.data().is_empty());
            let place = waits.iter().position(|id| *id == answer.id);
            let waited_for = until.is_some() && fits && (place.is_some() || *anybody);
            if !waited_for {
                seen.strays += 1;
                return;
            }
            for id in waits.drain(..place.unwrap_or_default()) {
                happened.push_back(Happened::Missed { id, garbled: false });
                seen.missed += 1;
            }
            waits.pop_front();
            happened.push_back(Happened::Answer(answer));
            seen.answered += 1;
            if *echo == Echo::Unknown {
                *echo = if *echoed == out.len() { Echo::Whole } else { Echo::None };
            }
            if waits.is_empty() && !*anybody {
                *until = None;
            } else if !*anybody {
                let slot = timing.return_delay + timing.on_wire(form.answer_length(*data));
                *until = Some(now + slot + timing.latency);
            }
        });
    }

    /// Lets the time come to `now`: who has not answered by then has missed it.
    pub fn pass(&mut self, now: Duration) {
        if self.until.is_none_or(|until| now < until) {
            return;
        }
        self.until = None;
        let garbled = self.strange() != self.skipped || self.packets.has_begun();
        let unsure = self.echo == Echo::Unknown && self.is_echo_an_answer();
        if self.echo == Echo::Unknown {
            // A whole echo that can be nothing else tells as much as an answer does.
            if self.echoed == self.out.len() && !unsure {
                self.echo = Echo::Whole;
            }
            self.owed.clear();
        }
        for id in self.waits.drain(..) {
            if unsure {
                self.happened.push_back(Happened::Unsure { id });
            } else {
                self.happened.push_back(Happened::Missed { id, garbled });
                self.seen.missed += 1;
                self.seen.garbled += u64::from(garbled);
            }
        }
    }

    /// Whether all of what was sent came back, and could be an answer to itself.
    fn is_echo_an_answer(&self) -> bool {
        if self.echoed != self.out.len() {
            return false;
        }
        let (mut could, first) = (false, self.waits.front());
        Packets::<LONGEST>::new(self.form).feed(&self.out, |packet| {
            could = packet.as_answer(self.form).is_some_and(|answer| {
                Some(&answer.id) == first && answer.id != EVERYONE && answer.data().len() == self.data
            });
        });
        could
    }

    /// The next thing that came of the request.
    pub fn take_happened(&mut self) -> Option<Happened> {
        self.happened.pop_front()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const TIMING: Timing =
        Timing { baud: 1_000_000, return_delay: Duration::from_micros(500), latency: Timing::LATENCY };
    const NOW: Duration = Duration::from_secs(1);

    fn answer(form: Form, id: u8, error: u8, data: &[u8]) -> Vec<u8> {
        let mut out = Vec::new();
        form.answer(id, error, data, &mut out);
        out
    }

    fn read(exchange: &mut Exchange, id: u8, count: u16) -> Vec<u8> {
        let ask = Ask::Read { address: 36, count };
        exchange.ask(NOW, TIMING, (id, &ask), Expected::Each(&[id], count.into())).unwrap().to_vec()
    }

    fn all(exchange: &mut Exchange) -> Vec<Happened> {
        std::iter::from_fn(|| exchange.take_happened()).collect()
    }

    fn late(exchange: &mut Exchange) -> Vec<Happened> {
        let until = exchange.until().unwrap();
        exchange.pass(until.saturating_sub(Duration::from_nanos(1)));
        assert!(exchange.is_open(), "not before its time");
        exchange.pass(until);
        all(exchange)
    }

    #[test]
    fn a_line_that_echoes_and_one_that_does_not_are_learned_and_both_read() {
        for form in [Form::One, Form::Two] {
            for echoes in [false, true] {
                let mut exchange = Exchange::new(form);
                for round in 0..3 {
                    let sent = read(&mut exchange, 7, 1);
                    let came = answer(form, 7, 0, &[round]);
                    let bytes = if echoes { [sent, came].concat() } else { came };
                    for byte in bytes {
                        exchange.hear(&[byte], NOW);
                    }
                    assert_eq!(all(&mut exchange), [Happened::Answer(Answer::new(7, 0, &[round]))]);
                    assert!(!exchange.is_open());
                }
                assert_eq!(exchange.echo(), if echoes { Echo::Whole } else { Echo::None });
                assert_eq!((exchange.seen().collisions, exchange.seen().strays), (0, 0));
            }
        }
    }

    #[test]
    fn an_echoed_ping_is_no_servo_until_something_else_has_told() {
        // A servo that says that its supply is wrong answers a ping with the bytes of the ping.
        let mut exchange = Exchange::new(Form::One);
        let ask = |exchange: &mut Exchange| {
            exchange.ask(NOW, TIMING, (7, &Ask::Ping), Expected::Each(&[7], 0)).unwrap().to_vec()
        };
        let sent = ask(&mut exchange);
        assert_eq!(sent, answer(Form::One, 7, 1, &[]));
        exchange.hear(&sent, NOW);
        assert_eq!(late(&mut exchange), [Happened::Unsure { id: 7 }]);
        assert_eq!(exchange.echo(), Echo::Unknown);
        // One byte is asked for: its echo has two.
        let sent = read(&mut exchange, 7, 1);
        exchange.hear(&sent, NOW);
        assert_eq!(late(&mut exchange), [Happened::Missed { id: 7, garbled: false }]);
        assert_eq!(exchange.echo(), Echo::Whole, "an echo with nobody there");
        let sent = ask(&mut exchange);
        exchange.hear(&sent, NOW);
        assert_eq!(late(&mut exchange), [Happened::Missed { id: 7, garbled: false }]);
        // Where a line is known not to echo, the same bytes are an answer.
        let mut exchange = Exchange::new(Form::One);
        read(&mut exchange, 7, 1);
        exchange.hear(&answer(Form::One, 7, 1, &[7]), NOW);
        all(&mut exchange);
        let sent = ask(&mut exchange);
        exchange.hear(&sent, NOW);
        assert_eq!(all(&mut exchange), [Happened::Answer(Answer::new(7, 1, &[]))]);
    }

    #[test]
    fn an_echo_is_dropped_also_of_what_nobody_answers_and_a_collision_is_counted() {
        let mut exchange = Exchange::new(Form::Two);
        let mut sent = read(&mut exchange, 3, 4);
        sent.extend(answer(Form::Two, 3, 0, &[1, 2, 3, 4]));
        exchange.hear(&sent, NOW);
        all(&mut exchange);
        let group = Ask::GroupWrite { address: 116, count: 4, parts: &[3, 9, 9, 9, 9] };
        let first = exchange.ask(NOW, TIMING, (EVERYONE, &group), Expected::Nobody).unwrap().to_vec();
        let second = read(&mut exchange, 3, 4);
        let bytes = [first, second, answer(Form::Two, 3, 0, &[5, 6, 7, 8])].concat();
        exchange.hear(&bytes, NOW);
        assert_eq!(all(&mut exchange), [Happened::Answer(Answer::new(3, 0, &[5, 6, 7, 8]))]);
        // Somebody else speaks into it.
        let mut broken = read(&mut exchange, 3, 4);
        broken[9] ^= 0x40;
        exchange.hear(&broken, NOW);
        assert_eq!(late(&mut exchange), [Happened::Missed { id: 3, garbled: true }]);
        assert_eq!((exchange.seen().collisions, exchange.seen().garbled), (1, 1));
    }

    #[test]
    fn who_is_silent_in_a_group_is_named_and_the_others_are_heard() {
        let mut exchange = Exchange::new(Form::Two);
        let ids = [1, 2, 3, 4];
        let ask = Ask::GroupRead { address: 132, count: 4, ids: &ids };
        exchange.ask(NOW, TIMING, (EVERYONE, &ask), Expected::Each(&ids, 4)).unwrap();
        exchange.hear(&answer(Form::Two, 1, 0, &[1; 4]), NOW);
        exchange.hear(&answer(Form::Two, 3, 0, &[3; 4]), NOW);
        let so_far = [
            Happened::Answer(Answer::new(1, 0, &[1; 4])),
            Happened::Missed { id: 2, garbled: false },
            Happened::Answer(Answer::new(3, 0, &[3; 4])),
        ];
        assert_eq!(all(&mut exchange), so_far);
        assert_eq!(late(&mut exchange), [Happened::Missed { id: 4, garbled: false }]);
        assert_eq!((exchange.seen().answered, exchange.seen().missed), (2, 2));
    }

    #[test]
    fn an_answer_that_comes_too_late_or_to_another_question_answers_nothing() {
        let mut exchange = Exchange::new(Form::One);
        read(&mut exchange, 7, 2);
        assert_eq!(late(&mut exchange), [Happened::Missed { id: 7, garbled: false }]);
        exchange.hear(&answer(Form::One, 7, 0, &[1, 2]), NOW);
        assert_eq!((all(&mut exchange).len(), exchange.seen().strays), (0, 1));
        read(&mut exchange, 7, 1);
        exchange.hear(&answer(Form::One, 7, 0, &[1, 2]), NOW);
        exchange.hear(&answer(Form::One, 8, 0, &[1]), NOW);
        assert_eq!((all(&mut exchange).len(), exchange.seen().strays), (0, 3));
        // A refusal has no data with it.
        exchange.hear(&answer(Form::One, 7, 8, &[]), NOW);
        assert_eq!(all(&mut exchange), [Happened::Answer(Answer::new(7, 8, &[]))]);
    }

    #[test]
    fn an_answer_is_waited_for_as_long_as_the_line_may_take() {
        let mut exchange = Exchange::new(Form::One);
        read(&mut exchange, 7, 2);
        // 8 bytes there and 8 back at 1 Mbit/s, 500 µs in the servo, 20 ms in the adapter.
        assert_eq!(exchange.until(), Some(NOW + Duration::from_micros(80 + 80 + 500 + 20_000)));
        let slow = Timing { baud: 9600, ..TIMING };
        let ask = Ask::Read { address: 36, count: 2 };
        exchange.ask(NOW, slow, (7, &ask), Expected::Each(&[7], 2)).unwrap();
        let wait = exchange.until().unwrap().saturating_sub(NOW);
        assert!((37_100..37_200).contains(&wait.as_micros()), "16 bytes at 9600 baud: {wait:?}");
    }

    #[test]
    fn whoever_is_there_answers_a_ping_to_all() {
        let mut exchange = Exchange::new(Form::Two);
        exchange.ask(NOW, TIMING, (EVERYONE, &Ask::Ping), Expected::Anybody(3)).unwrap();
        for id in [4, 9, 250] {
            exchange.hear(&answer(Form::Two, id, 0, &[0x24, 4, 50]), NOW);
        }
        let ids: Vec<u8> = all(&mut exchange)
            .iter()
            .filter_map(|h| if let Happened::Answer(answer) = h { Some(answer.id) } else { None })
            .collect();
        assert_eq!(ids, [4, 9, 250]);
        assert!(exchange.is_open());
        assert_eq!(late(&mut exchange), []);
    }

    proptest! {
        #[test]
        fn no_bytes_upset_it_and_nothing_grows(
            form in prop_oneof![Just(Form::One), Just(Form::Two)],
            came in proptest::collection::vec((proptest::collection::vec(any::<u8>(), 0..60), 0u64..40), 0..60),
        ) {
            let mut exchange = Exchange::new(form);
            let mut now = NOW;
            for (bytes, milliseconds) in came {
                let ask = Ask::Read { address: 36, count: 2 };
                exchange.ask(now, TIMING, (7, &ask), Expected::Each(&[7], 2)).unwrap();
                exchange.hear(&bytes, now);
                now += Duration::from_millis(milliseconds);
                exchange.pass(now);
                while let Some(happened) = exchange.take_happened() {
                    if let Happened::Answer(answer) = happened {
                        prop_assert_eq!(answer.id, 7);
                    }
                }
                prop_assert!(exchange.owed.len() <= MOST_OWED + 64 && exchange.happened.is_empty());
            }
        }
    }
}
