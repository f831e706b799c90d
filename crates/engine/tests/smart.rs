//! A bus of smart servos: its driver against the simulated bus, in simulated wire time.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use std::sync::Arc;
use std::time::Duration;
use wasvolta_core::rig::{Ends, Layout};
use wasvolta_engine::chips::map_of;
use wasvolta_port::board::{
    BoardSettings, Decision, Driver, Evidence, Feedback, Found, Noted, Orders, Phase, Stand, Stay,
};
use wasvolta_port::serial::Stream;
use wasvolta_port::smart;
use wasvolta_port::smart::errand::{Errand, Feel, Said, What};
use wasvolta_port::smart::{Smart, SmartServo, SmartSettings};
use wasvolta_port::{BusError, Clock};
use wasvolta_sim::faults::{Faults, Kind, Struck};
use wasvolta_sim::truth::SmartServoTruth;
use wasvolta_sim::{ManualClock, SmartBus};
use wasvolta_wire::smart::Ask;
use wasvolta_wire::smart::budget::{Budget, Load};
use wasvolta_wire::smart::map::Map;

const BEAT: Duration = Duration::from_millis(20);
const LAYOUTS: [&str; 4] = ["ten-bit", "twelve-bit", "twelve-bit-compact", "made-up"];

fn map(layout: &str) -> Map {
    if layout == "made-up" {
        // One that a user brings is as good as those that ship.
        return map_of(&Layout::load(include_str!("data/made-up.layout.toml")).unwrap());
    }
    map_of(Layout::shipped().iter().find(|own| own.name == layout).unwrap())
}

/// A bus with a driver on it, in the hands of a test.
struct Rig {
    clock: Arc<ManualClock>,
    faults: Arc<Faults>,
    bus: SmartBus,
    line: Box<dyn Stream>,
    driver: Smart,
    orders: Orders,
    settings: SmartSettings,
    /// What the services so far have noted.
    noted: Vec<Noted>,
    /// Errands that were given to write something into a servo's memory.
    pages: u64,
}

impl Drop for Rig {
    /// Whatever a test was about: nothing is written into a servo's memory but by an errand that is for it. What does not
    /// answer then is set back, which is a second write.
    fn drop(&mut self) {
        let writes = self.bus.memory_writes();
        assert!(
            writes <= 2 * self.pages || std::thread::panicking(),
            "{writes} writes to memory in {} errands for it",
            self.pages
        );
    }
}

impl Rig {
    fn new(layout: &str, ids: &[u8]) -> Self {
        Self::with(layout, ids, |_| {})
    }

    fn with(layout: &str, ids: &[u8], change: impl Fn(&mut SmartServoTruth)) -> Self {
        let (clock, faults) = (Arc::new(ManualClock::default()), Arc::new(Faults::default()));
        let map = map(layout);
        let bus = SmartBus::new(map.clone(), 3, clock.clone(), Arc::clone(&faults));
        for id in ids {
            let mut truth = SmartServoTruth::drawn(3, *id, map.steps);
            change(&mut truth);
            bus.put(truth);
        }
        let servo = |id: &u8| SmartServo { id: *id, model: Some(SmartServoTruth::MODEL), most: f64::MAX };
        let servos = ids.iter().map(servo).collect();
        let settings = SmartSettings { map, baud: 1_000_000, adapter: Duration::ZERO, servos };
        let driver = Smart::of(&BoardSettings::Smart(Arc::new(settings.clone()))).unwrap();
        let line: Box<dyn Stream> = Box::new(bus.open().unwrap());
        let (orders, noted) = (Orders::default(), Vec::new());
        Self { clock, faults, bus, line, driver, orders, settings, noted, pages: 0 }
    }

    /// The same with the times of a wire.
    fn timed(layout: &str, ids: &[u8], baud: u32, adapter: Duration, delay_us: f64) -> Self {
        let mut rig = Self::with(layout, ids, |truth| truth.return_delay_us = delay_us);
        rig.bus.takes_time(baud, adapter);
        rig.settings.baud = baud;
        rig.settings.adapter = adapter;
        rig.driver.configure(&BoardSettings::Smart(Arc::new(rig.settings.clone())));
        rig
    }

    fn service(&mut self) -> Result<(), BusError> {
        let clock = Arc::clone(&self.clock);
        let noted = self.driver.service(&mut self.line, clock.now(), &self.orders, &*clock)?;
        if noted != Noted::Nothing {
            self.noted.push(noted);
        }
        Ok(())
    }

    /// Serves it as a worker does, for a while.
    fn pass(&mut self, time: Duration) {
        let until = self.clock.now() + time;
        while self.clock.now() < until {
            self.service().unwrap();
            let now = self.clock.now();
            let due = self.driver.due(now, &self.orders.wanted).unwrap_or(now + BEAT);
            let rest = due.saturating_sub(now).clamp(Duration::from_micros(20), BEAT);
            self.clock.advance(rest.min(until.saturating_sub(now).max(Duration::from_micros(1))));
        }
    }

    fn until(&mut self, what: &str, is: impl Fn(&Self) -> bool) {
        for _ in 0..2000 {
            if is(self) {
                return;
            }
            self.pass(Duration::from_millis(5));
        }
        panic!("never: {what}; {:?}", self.all());
    }

    fn all(&self) -> Vec<(usize, Feedback)> {
        let mut all = Vec::new();
        self.driver.feedback(&mut |id, own| all.push((id, *own)));
        all
    }

    fn feedback(&self, id: u8) -> Feedback {
        self.all().into_iter().find(|(own, _)| *own == usize::from(id)).unwrap().1
    }

    fn place(&self, id: u8) -> f64 {
        self.bus.place(id).unwrap()
    }

    fn want(&mut self, id: u8, at: f64, speed: f32) {
        let at = wasvolta_core::unit::count16(at);
        self.orders.wanted.set(usize::from(id), Some(at));
        self.orders.speeds.set(usize::from(id), speed);
    }

    /// Engages one where it stands.
    fn engage(&mut self, id: u8) {
        let at = self.feedback(id).position;
        self.want(id, at, 0.0);
        self.until("engaged", |rig| rig.feedback(id).stand == Stand::Stiff);
    }

    /// Moves one there as a stage does, so fast, in counts a second.
    fn go(&mut self, id: u8, to: f64, speed: f64) {
        let mut at = f64::from(self.orders.wanted.get(usize::from(id)).unwrap());
        while (to - at).abs() > 0.5 {
            at += (to - at).clamp(-speed * 0.02, speed * 0.02);
            #[expect(clippy::cast_possible_truncation, reason = "a speed to be told")]
            self.want(id, at, speed as f32);
            self.pass(BEAT);
        }
        self.want(id, to, 0.0);
    }

    fn strike(&self, kind: Kind, id: Option<u8>, on: bool) {
        let everywhere = Struck { kind, address: None, channel: None };
        self.faults.set(id.map_or(everywhere, |id| Struck::at_id(kind, id)), on);
    }
}

#[test]
fn it_learns_who_is_there_by_reading_only_and_engages_without_a_jump() {
    for layout in LAYOUTS {
        let mut rig = Rig::new(layout, &[1, 2, 7]);
        let stood = [1, 2, 7].map(|id| rig.place(id));
        rig.bus.keeps_dialogue();
        rig.until("started", |rig| rig.driver.phase() == Phase::Started);
        assert_eq!(rig.noted, [Noted::Started], "{layout}");
        let writes =
            rig.bus.dialogue().iter().filter(|said| !said.back && is_write(&rig, &said.bytes)).count();
        assert_eq!(writes, 0, "{layout}: nothing is written to learn who is there");
        rig.pass(Duration::from_millis(200));
        for (id, stood) in [1, 2, 7].into_iter().zip(stood) {
            let own = rig.feedback(id);
            assert_eq!((own.stand, own.model), (Stand::Limp, SmartServoTruth::MODEL), "{layout} {id}");
            assert!((own.position - stood).abs() < 1.0, "{layout} {id}");
            assert!(own.volts > 11.0 && own.celsius > 20.0 && own.looked_at.is_some(), "{layout} {own:?}");
        }
        // Where it is wanted is far from where it stands: it is engaged where it stands all the same.
        rig.want(2, stood[1] + 100.0, 200.0);
        let mut moved: f64 = 0.0;
        let mut before = rig.place(2);
        rig.until("engaged", |rig| rig.feedback(2).stand == Stand::Stiff);
        assert!((rig.place(2) - stood[1]).abs() < 12.0, "{layout}: no jump");
        for _ in 0..200 {
            rig.pass(Duration::from_millis(5));
            moved = moved.max((rig.place(2) - before).abs());
            before = rig.place(2);
        }
        assert!((rig.place(2) - stood[1] - 100.0).abs() < 3.0, "{layout}: {} {}", rig.place(2), stood[1]);
        assert_eq!([1, 7].map(|id| rig.bus.is_stiff(id)), [Some(false); 2], "{layout}: the others stay limp");
        assert_eq!(rig.bus.memory_writes(), 0);
    }
}

/// Whether a packet writes.
fn is_write(rig: &Rig, bytes: &[u8]) -> bool {
    let form = rig.settings.map.form;
    let mut writes = false;
    wasvolta_wire::smart::Packets::<512>::new(form).feed(bytes, |packet| {
        use wasvolta_wire::smart::Ask;
        writes |= !matches!(packet.as_ask(form), Some(Ask::Read { .. } | Ask::Ping | Ask::GroupRead { .. }));
    });
    writes
}

#[test]
fn it_follows_what_it_is_told_and_stands_there() {
    for layout in LAYOUTS {
        let mut rig = Rig::new(layout, &[3]);
        rig.until("started", |rig| rig.driver.phase() == Phase::Started);
        rig.engage(3);
        let counts = rig.settings.map.counts_a_degree;
        let from = rig.place(3);
        rig.go(3, from + counts * 20.0, counts * 60.0);
        rig.pass(Duration::from_millis(400));
        assert!((rig.place(3) - from - counts * 20.0).abs() < 3.0, "{layout}: {} from {from}", rig.place(3));
        assert!((rig.feedback(3).position - rig.place(3)).abs() < 2.0);
        // A last small step at hardly any speed is not crept to.
        let at = f64::from(rig.orders.wanted.get(3).unwrap());
        rig.want(3, at + counts * 2.0, 0.1);
        rig.pass(Duration::from_millis(500));
        assert!((rig.place(3) - at - counts * 2.0).abs() < 4.0, "{layout}: {}", rig.place(3) - at);
    }
}

#[test]
fn it_never_goes_faster_than_it_may() {
    let mut rig = Rig::new("twelve-bit", &[3]);
    rig.settings.servos[0].most = 400.0;
    rig.driver.configure(&BoardSettings::Smart(Arc::new(rig.settings.clone())));
    rig.until("started", |rig| rig.driver.phase() == Phase::Started);
    rig.engage(3);
    let from = rig.place(3);
    rig.want(3, from + 600.0, 5000.0);
    rig.pass(Duration::from_millis(500));
    let went = rig.place(3) - from;
    assert!(went > 150.0 && went < 400.0 * 0.5 + 60.0, "{went}");
}

#[test]
fn released_it_is_limp_and_that_is_read_back() {
    for layout in LAYOUTS {
        let mut rig = Rig::new(layout, &[1, 2]);
        rig.until("started", |rig| rig.driver.phase() == Phase::Started);
        rig.engage(1);
        rig.engage(2);
        assert_eq!(rig.driver.sent().used().collect::<Vec<_>>(), [1, 2]);
        rig.orders.wanted.set(1, None);
        rig.until("limp", |rig| rig.feedback(1).stand == Stand::Limp);
        assert_eq!([1, 2].map(|id| rig.bus.is_stiff(id)), [Some(false), Some(true)], "{layout}");
        // A target may switch a drive on: a released servo gets none.
        rig.pass(Duration::from_secs(1));
        assert_eq!(rig.bus.is_stiff(1), Some(false), "{layout}");
        assert_eq!(rig.driver.sent().used().collect::<Vec<_>>(), [2]);
        let clock = Arc::clone(&rig.clock);
        rig.driver.release(&mut rig.line, &Stay::NONE, &*clock).unwrap();
        assert_eq!(rig.bus.is_stiff(2), Some(false), "{layout}");
        assert!(rig.driver.read_back(&mut rig.line, &*clock).unwrap());
        assert_eq!(rig.driver.sent().used().count(), 0);
    }
}

#[test]
fn one_that_is_to_stay_stiff_stays_so_at_the_end() {
    let mut rig = Rig::new("ten-bit", &[1, 2]);
    rig.until("started", |rig| rig.driver.phase() == Phase::Started);
    rig.engage(1);
    rig.engage(2);
    let clock = Arc::clone(&rig.clock);
    let mut stay = Stay::NONE;
    stay.set(2, true);
    rig.driver.release(&mut rig.line, &stay, &*clock).unwrap();
    assert!(rig.driver.read_back(&mut rig.line, &*clock).unwrap());
    assert_eq!(rig.driver.sent().used().collect::<Vec<_>>(), [2]);
    assert_eq!([1, 2].map(|id| rig.bus.is_stiff(id)), [Some(false), Some(true)]);
}

#[test]
fn another_model_is_written_nothing() {
    for layout in LAYOUTS {
        let mut rig = Rig::new(layout, &[4, 5]);
        rig.settings.servos[0].model = Some(77);
        rig.settings.servos[1].model = None;
        rig.driver.configure(&BoardSettings::Smart(Arc::new(rig.settings.clone())));
        rig.bus.keeps_dialogue();
        rig.want(4, 500.0, 0.0);
        rig.want(5, 500.0, 0.0);
        rig.pass(Duration::from_secs(1));
        let (model, asks) = (SmartServoTruth::MODEL, rig.feedback(5).stand);
        assert_eq!((rig.feedback(4).stand, asks), (Stand::OtherModel(model), Stand::UnknownModel(model)));
        let written =
            rig.bus.dialogue().iter().filter(|said| !said.back && is_write(&rig, &said.bytes)).count();
        assert_eq!(written, 0, "{layout}");
        assert_eq!([4, 5].map(|id| rig.bus.is_stiff(id)), [Some(false); 2]);
        // Where it is can be read all the same.
        assert!((rig.feedback(4).position - rig.place(4)).abs() < 1.0);
    }
}

#[test]
fn one_that_is_set_up_otherwise_is_written_nothing() {
    let mut rig = Rig::new("twelve-bit", &[4, 5]);
    let (mode, answers) = (rig.settings.map.mode.unwrap().0, rig.settings.map.answers.unwrap());
    rig.bus.set_register(4, mode, 1);
    rig.bus.set_register(5, answers, 1);
    rig.want(4, 500.0, 0.0);
    rig.want(5, 500.0, 0.0);
    rig.pass(Duration::from_secs(1));
    assert_eq!([4, 5].map(|id| rig.feedback(id).stand), [Stand::OtherMode(1), Stand::Curt]);
    assert_eq!([4, 5].map(|id| rig.bus.is_stiff(id)), [Some(false); 2]);
}

#[test]
fn those_that_are_found_stiff_are_asked_about_and_kept_or_let_go() {
    for (decision, stiff) in [(Decision::Adopt, true), (Decision::Release, false)] {
        let mut rig = Rig::new("ten-bit", &[1, 2]);
        let drive = rig.settings.map.drive;
        rig.bus.set_register(2, drive, 1);
        rig.until("asked", |rig| matches!(rig.driver.phase(), Phase::Asking(_)));
        let Phase::Asking(Found::Pulsing { ticks, adoptable }) = rig.driver.phase() else { panic!() };
        let at = wasvolta_core::unit::count16(rig.place(2));
        assert_eq!((ticks.used().collect::<Vec<_>>(), ticks.get(2), adoptable), (vec![2], Some(at), true));
        rig.pass(Duration::from_millis(300));
        assert_eq!(rig.bus.is_stiff(2), Some(true), "nothing is written before that");
        let clock = Arc::clone(&rig.clock);
        rig.driver.decide(decision, &mut rig.line, &*clock).unwrap();
        if decision == Decision::Adopt {
            rig.want(2, f64::from(at), 0.0);
        }
        rig.pass(Duration::from_millis(300));
        assert_eq!(rig.bus.is_stiff(2), Some(stiff));
        assert!((rig.place(2) - f64::from(at)).abs() < 2.0, "it did not move");
    }
}

#[test]
fn a_silent_one_leaves_the_group_and_the_others_are_not_late() {
    for layout in LAYOUTS {
        let ids: Vec<u8> = (1..=8).collect();
        let mut rig = Rig::timed(layout, &ids, 1_000_000, Duration::ZERO, 100.0);
        rig.until("started", |rig| rig.driver.phase() == Phase::Started);
        for id in &ids {
            rig.engage(*id);
        }
        rig.strike(Kind::PlugOut, Some(3), true);
        let mut worst = Duration::ZERO;
        let counts = rig.settings.map.counts_a_degree;
        let from: Vec<f64> = ids.iter().map(|id| rig.place(*id)).collect();
        for beat in 0..150 {
            for (id, from) in ids.iter().zip(&from) {
                rig.want(*id, from + counts * 0.2 * f64::from(beat), 0.0);
            }
            let told = rig.clock.now();
            rig.pass(BEAT);
            // Everyone else has the goal of this beat by its end.
            for id in ids.iter().filter(|id| **id != 3) {
                let goal = rig.bus.register(*id, rig.settings.map.target).unwrap();
                if goal != i64::from(rig.orders.wanted.get(usize::from(*id)).unwrap()) {
                    worst = worst.max(rig.clock.now().saturating_sub(told));
                }
            }
        }
        assert_eq!(worst, Duration::ZERO, "{layout}: a goal was late");
        assert_eq!(rig.feedback(3).stand, Stand::Silent, "{layout}");
        assert!(
            rig.feedback(3).missed < 20,
            "{layout}: it is asked ever more rarely: {}",
            rig.feedback(3).missed
        );
        let interruptions = rig.feedback(3).interruptions;
        rig.strike(Kind::PlugOut, Some(3), false);
        rig.until("heard again", |rig| rig.feedback(3).stand == Stand::Stiff);
        assert!(rig.feedback(3).interruptions > interruptions, "the stage hears of it");
        assert_eq!(rig.bus.spoken_into(), 0, "{layout}: nobody was spoken into");
    }
}

#[test]
fn one_whose_supply_dips_is_limp_and_says_so() {
    for layout in LAYOUTS {
        let mut rig = Rig::new(layout, &[1, 2]);
        rig.until("started", |rig| rig.driver.phase() == Phase::Started);
        rig.engage(1);
        rig.engage(2);
        let before = rig.feedback(2).interruptions;
        rig.strike(Kind::RailDip, Some(2), true);
        rig.pass(Duration::from_millis(10));
        rig.strike(Kind::RailDip, Some(2), false);
        // What is told to it waits from the moment on in which that is known: the stage hears of it first.
        for _ in 0..10_000 {
            if rig.feedback(2).interruptions > before {
                break;
            }
            rig.service().unwrap();
            rig.clock.advance(Duration::from_micros(200));
        }
        assert!(rig.feedback(2).interruptions > before, "{layout}");
        assert_eq!((rig.bus.is_stiff(1), rig.bus.is_stiff(2)), (Some(true), Some(false)), "{layout}");
        assert_eq!(rig.driver.sent().get(2), None);
    }
}

/// What came of a busy bus.
#[derive(Debug)]
struct Busy {
    /// Goals that were not there at the end of their beat.
    late: u32,
    /// How often each said where it is, at the longest gap.
    hertz: f64,
    /// The share of the time in which the wire was in use, by the wire.
    used: f64,
    /// How often all were asked, by the driver's count.
    asked: f64,
    /// What is computed before it runs.
    budget: Budget,
    /// The share that the driver says was in use.
    says: f64,
}

/// All goals and all places every beat.
fn all_in_a_beat(layout: &str, delay_us: f64, adapter: Duration) -> Busy {
    let ids: Vec<u8> = (1..=24).collect();
    let mut rig = Rig::timed(layout, &ids, 1_000_000, adapter, delay_us);
    rig.until("started", |rig| rig.driver.phase() == Phase::Started);
    for id in &ids {
        rig.engage(*id);
    }
    let counts = rig.settings.map.counts_a_degree;
    let from: Vec<f64> = ids.iter().map(|id| rig.place(*id)).collect();
    rig.pass(Duration::from_secs(1));
    rig.bus.take_used();
    let (mut late, mut longest) = (0, Duration::ZERO);
    let said = |rig: &Rig| ids.iter().map(|id| rig.feedback(*id).at.unwrap()).collect::<Vec<_>>();
    let mut before = said(&rig);
    for beat in 0..250 {
        for (id, from) in ids.iter().zip(&from) {
            rig.want(*id, from + counts * 4.0 * libm::sin(f64::from(beat) * 0.05), 0.0);
        }
        rig.pass(BEAT);
        for id in &ids {
            let goal = rig.bus.register(*id, rig.settings.map.target).unwrap();
            late += u32::from(goal != i64::from(rig.orders.wanted.get(usize::from(*id)).unwrap()));
        }
        // What was said in the beat before it, and what in this one, are a beat apart.
        let now = said(&rig);
        for (now, before) in now.iter().zip(&mut before).filter(|(now, before)| *now > before) {
            longest = longest.max(now.saturating_sub(std::mem::replace(before, *now)));
        }
    }
    assert_eq!(rig.bus.spoken_into(), 0);
    let used = rig.bus.take_used().as_secs_f64() / 5.0;
    let Some(Evidence::Smart(seen)) = rig.driver.evidence() else { panic!() };
    let load = Load {
        servos: ids.len(),
        baud: 1_000_000,
        return_delay: seen.return_delay,
        adapter,
        frame: smart::FRAME,
    };
    let budget = Budget::of(&rig.settings.map, &load);
    Busy {
        late,
        hertz: 1.0 / longest.as_secs_f64(),
        used,
        asked: seen.hertz.unwrap(),
        budget,
        says: seen.used,
    }
}

#[test]
fn twenty_four_servos_get_all_goals_and_say_all_places_in_every_beat() {
    for delay_us in [0.0, 500.0] {
        let busy = all_in_a_beat("twelve-bit", delay_us, Duration::ZERO);
        println!("form 2, return delay {delay_us} µs: {busy:.2?}");
        assert_eq!(busy.late, 0, "of 6000 goals at {delay_us} µs");
        assert!(busy.hertz > 45.0 && busy.budget.beat() <= BEAT, "{busy:?}");
        assert!((busy.says - busy.used).abs() < 0.05, "{busy:?}");
    }
}

#[test]
fn single_reads_say_all_places_twenty_five_times_a_second() {
    for layout in ["ten-bit", "twelve-bit-compact"] {
        let busy = all_in_a_beat(layout, 0.0, Duration::ZERO);
        println!("{layout}, return delay 0: {busy:.2?}");
        assert!(busy.late == 0 && busy.hertz >= 25.0, "{busy:?}");
    }
}

#[test]
fn behind_a_slow_adapter_places_come_as_often_as_was_computed() {
    for layout in LAYOUTS {
        for adapter_ms in [1, 16] {
            let busy = all_in_a_beat(layout, 250.0, Duration::from_millis(adapter_ms));
            println!("{layout}, adapter {adapter_ms} ms: {busy:.2?}");
            assert_eq!(busy.late, 0, "{layout} {adapter_ms} ms: goals do not wait for answers");
            let share = busy.asked / busy.budget.hertz;
            assert!((0.85..1.1).contains(&share), "{layout} {adapter_ms} ms: {share} {busy:?}");
        }
    }
}

#[test]
fn turns_over_the_seam_are_counted_and_no_target_goes_over_it() {
    let mut rig = Rig::with("twelve-bit", &[1], |truth| {
        truth.stands_counts = 4000.0;
        truth.stops_counts = Ends { low: 0.0, high: 4095.0 };
    });
    rig.until("started", |rig| rig.driver.phase() == Phase::Started);
    rig.pass(Duration::from_millis(50));
    // A hand turns it over the seam: its encoder begins anew.
    for at in [4060.0, 4094.0, 20.0, 90.0] {
        rig.bus.move_by_hand(1, at);
        rig.pass(Duration::from_millis(50));
    }
    assert_eq!((rig.feedback(1).turns, rig.feedback(1).position.round()), (1, 90.0));
    rig.engage(1);
    assert_eq!(rig.bus.register(1, rig.settings.map.target), Some(90), "where it is, not over the seam");
    rig.orders.wanted.set(1, None);
    rig.until("limp", |rig| rig.feedback(1).stand == Stand::Limp);
    for at in [20.0, 4094.0] {
        rig.bus.move_by_hand(1, at);
        rig.pass(Duration::from_millis(50));
    }
    assert_eq!(rig.feedback(1).turns, 0);
}

#[test]
fn a_pulled_line_is_an_error_and_what_was_told_goes_on_when_it_is_back() {
    let mut rig = Rig::new("twelve-bit", &[1, 2]);
    rig.until("started", |rig| rig.driver.phase() == Phase::Started);
    rig.engage(1);
    let at = rig.place(1);
    rig.bus.set_plugged(false);
    assert!((0..50).any(|_| {
        rig.clock.advance(Duration::from_millis(5));
        rig.service().is_err()
    }));
    rig.driver.lost();
    rig.clock.advance(Duration::from_secs(3));
    rig.bus.set_plugged(true);
    rig.line = Box::new(rig.bus.open().unwrap());
    rig.noted.clear();
    rig.until("back", |rig| rig.driver.phase() == Phase::Started);
    assert_eq!(rig.noted, [Noted::Resumed]);
    assert_eq!((rig.bus.is_stiff(1), rig.feedback(1).stand), (Some(true), Stand::Stiff));
    assert!((rig.place(1) - at).abs() < 2.0);
}

// --- Lent to an errand ---

/// Lends the bus, and waits until that is over.
fn lend(rig: &mut Rig, what: What) -> Said {
    rig.pages += u64::from(matches!(what, What::Id { .. } | What::Baud { .. }));
    let errand = Errand::new(what);
    rig.driver.errand(&errand);
    for _ in 0..200_000 {
        if errand.is_over() {
            return errand.said();
        }
        rig.service().unwrap();
        rig.clock.advance(Duration::from_micros(50));
    }
    panic!("never over: {:?}", errand.said());
}

#[test]
fn a_seek_finds_everyone_at_every_rate_and_writes_nothing() {
    for layout in LAYOUTS {
        let mut rig = Rig::timed(layout, &[1, 7, 9], 1_000_000, Duration::ZERO, 500.0);
        let map = rig.settings.map.clone();
        let (slow, rate) = *map.bauds.iter().find(|(_, rate)| *rate == 115_200 || *rate == 117_647).unwrap();
        rig.bus.set_register(9, map.baud, i64::from(slow));
        rig.strike(Kind::Twins, Some(7), true);
        rig.bus.keeps_dialogue();
        let said = lend(&mut rig, What::Seek { bauds: vec![1_000_000, rate], ids: 0..=20 });
        let found: Vec<_> = said.found.iter().map(|found| (found.id, found.baud, found.is_twins())).collect();
        assert_eq!(
            found,
            [(1, 1_000_000, false), (7, 1_000_000, true), (9, rate, false)],
            "{layout}: {said:?}"
        );
        assert_eq!(said.found[0].model, Some(SmartServoTruth::MODEL));
        assert_eq!((said.done, said.of), (42, 42));
        assert_eq!(said.end, Some(Ok("3 servos answer; two seem to share one id".to_owned())));
        let dialogue = rig.bus.dialogue();
        assert!(
            !dialogue.is_empty() && !dialogue.iter().any(|said| !said.back && is_write(&rig, &said.bytes)),
            "{layout}"
        );
        // The line speaks at its own rate again: the bus goes on.
        rig.until("known", |rig| rig.feedback(1).stand == Stand::Limp);
    }
}

#[test]
fn noise_makes_no_servo_and_an_echo_is_none() {
    let mut rig = Rig::timed("ten-bit", &[4], 1_000_000, Duration::ZERO, 100.0);
    rig.strike(Kind::Echo, None, true);
    let said = lend(&mut rig, What::Seek { bauds: vec![1_000_000], ids: 0..=10 });
    assert_eq!(said.found.iter().map(|found| found.id).collect::<Vec<_>>(), [4], "{said:?}");
    rig.strike(Kind::Echo, None, false);
    rig.strike(Kind::Noise, None, true);
    let said = lend(&mut rig, What::Seek { bauds: vec![1_000_000], ids: 0..=30 });
    assert_eq!(said.found.iter().map(|found| found.id).collect::<Vec<_>>(), [4], "{said:?}");
}

#[test]
fn a_seek_that_is_given_up_ends_and_the_bus_goes_on() {
    let mut rig = Rig::new("twelve-bit", &[1]);
    rig.until("started", |rig| rig.driver.phase() == Phase::Started);
    let errand = Errand::new(What::Seek { bauds: vec![1_000_000], ids: 0..=252 });
    rig.driver.errand(&errand);
    rig.service().unwrap();
    rig.service().unwrap();
    assert!((1..10).contains(&errand.said().done));
    errand.give_up();
    rig.service().unwrap();
    assert_eq!(errand.said().end, Some(Err("given up; nothing was written".to_owned())));
    rig.until("known", |rig| rig.feedback(1).stand == Stand::Limp);
}

#[test]
fn a_bus_with_a_stiff_servo_is_lent_to_nobody() {
    let mut rig = Rig::new("twelve-bit", &[1, 2]);
    rig.until("started", |rig| rig.driver.phase() == Phase::Started);
    rig.engage(2);
    let said = lend(&mut rig, What::Id { from: 2, to: 5 });
    let Some(Err(words)) = said.end else { panic!("{said:?}") };
    assert!(words.contains("id 2 may be stiff"), "{words}");
    assert_eq!((rig.bus.is_stiff(2), rig.bus.memory_writes()), (Some(true), 0));
}

#[test]
fn an_id_is_given_to_one_alone_and_read_back() {
    for layout in LAYOUTS {
        let mut rig = Rig::new(layout, &[1]);
        let said = lend(&mut rig, What::Id { from: 1, to: 12 });
        assert_eq!(said.end, Some(Ok("it answers as id 12 now, read back".to_owned())), "{layout}");
        assert_eq!(rig.bus.memory_writes(), 1, "{layout}: once");
        assert_eq!((rig.bus.place(1), rig.bus.place(12).is_some()), (None, true));
        if let Some(lock) = rig.settings.map.lock {
            assert_eq!(rig.bus.register(12, lock), Some(1), "its memory is shut again");
        }
        // Two on the line, or none of that id: nothing is written.
        let mut rig = Rig::new(layout, &[1, 2]);
        for (from, words) in [(1, "id 2 answers too"), (3, "no servo answers as id 3")] {
            let said = lend(&mut rig, What::Id { from, to: 12 });
            assert!(matches!(&said.end, Some(Err(why)) if why.contains(words)), "{layout}: {said:?}");
        }
        rig.strike(Kind::PlugOut, Some(2), true);
        rig.strike(Kind::Twins, Some(1), true);
        let said = lend(&mut rig, What::Id { from: 1, to: 12 });
        assert!(matches!(&said.end, Some(Err(why)) if why.contains("two servos")), "{layout}: {said:?}");
        assert_eq!(rig.bus.memory_writes(), 0, "{layout}");
    }
}

#[test]
fn a_rate_is_given_and_read_back_at_that_rate() {
    for layout in LAYOUTS {
        let mut rig = Rig::new(layout, &[3]);
        let map = rig.settings.map.clone();
        let (number, rate) = *map.bauds.iter().find(|(_, rate)| (50_000..600_000).contains(rate)).unwrap();
        let said = lend(&mut rig, What::Baud { id: 3, to: rate });
        assert_eq!(said.end, Some(Ok(format!("id 3 answers at {rate} Bd now, read back"))), "{layout}");
        assert_eq!(rig.bus.register(3, map.baud), Some(i64::from(number)), "{layout}");
        assert_eq!(rig.bus.memory_writes(), 1, "{layout}: once");
        let said = lend(&mut rig, What::Baud { id: 3, to: 12_345 });
        assert!(matches!(&said.end, Some(Err(why)) if why.contains("no number for 12345 Bd")), "{said:?}");
    }
}

#[test]
fn a_model_that_the_layout_is_not_for_gets_no_new_id() {
    let mut rig = Rig::new("twelve-bit", &[1]);
    rig.settings.map.models = vec![77];
    rig.settings.servos[0].model = None;
    rig.driver.configure(&BoardSettings::Smart(Arc::new(rig.settings.clone())));
    let said = lend(&mut rig, What::Id { from: 1, to: 2 });
    assert!(matches!(&said.end, Some(Err(why)) if why.contains("which this layout is not for")), "{said:?}");
    assert_eq!(rig.bus.memory_writes(), 0);
}

#[test]
fn a_servo_that_does_not_answer_with_its_new_id_is_set_back() {
    // It has the new id and is silent with it until it has heard the old one again.
    for layout in LAYOUTS {
        let mut rig = Rig::new(layout, &[1]);
        rig.strike(Kind::Mute, Some(12), true);
        let said = lend(&mut rig, What::Id { from: 1, to: 12 });
        let words = "it did not answer with id 12; it was set back, and answers with id 1, read back";
        assert_eq!(said.end, Some(Err(words.to_owned())), "{layout}");
        assert!(rig.bus.place(1).is_some(), "{layout}");
    }
}

/// Feels for the ends of a servo's way.
const fn feel(id: u8, push: u8, within: (u16, u16)) -> What {
    What::Feel(Feel { id, push, speed: 150, behind: 30, within })
}

#[test]
fn ends_are_felt_gently_and_it_is_limp_again_where_it_began() {
    for layout in LAYOUTS {
        let map = map(layout);
        let last = u16::try_from(map.steps - 1).unwrap();
        let middle = f64::from(map.steps) / 2.0;
        let (low, high) = (middle - 200.0, middle + 250.0);
        let mut rig = Rig::with(layout, &[4], |truth| {
            truth.stops_counts = Ends { low, high };
            truth.stands_counts = middle;
            (truth.weight, truth.slack_deg) = (0.0, 0.0);
        });
        let torque = map.torque_limit.unwrap().0;
        let before = rig.bus.register(4, torque);
        rig.bus.keeps_dialogue();
        let said = lend(&mut rig, feel(4, 30, (0, last)));
        assert_eq!(
            said.end,
            Some(Ok("felt both ends; it is limp again, read back".to_owned())),
            "{layout}: {said:?}"
        );
        let ((a, held_a), (b, held_b)) = (said.feels.low.unwrap(), said.feels.high.unwrap());
        assert!(held_a && held_b, "{layout}: {said:?}");
        assert!((f64::from(a) - low).abs() < 8.0 && (f64::from(b) - high).abs() < 8.0, "{layout}: {said:?}");
        assert_eq!((rig.bus.is_stiff(4), rig.bus.register(4, torque)), (Some(false), before), "{layout}");
        assert!((rig.place(4) - middle).abs() < 40.0, "{layout}: it is back");
        assert_eq!(rig.bus.memory_writes(), 0, "{layout}");
        // How hard it may push is told before anything that may switch the drive on.
        let told: Vec<Vec<u8>> = rig
            .bus
            .dialogue()
            .into_iter()
            .filter(|said| !said.back && is_write(&rig, &said.bytes))
            .map(|said| said.bytes)
            .collect();
        let mut first = Vec::new();
        let gentle = i64::from(map.torque_limit.unwrap().1) * 30 / 100;
        let mut bytes = Vec::new();
        torque.write(gentle, map.high_byte_first, &mut bytes);
        map.form.ask(4, &Ask::Write { address: torque.at, bytes: &bytes }, &mut first).unwrap();
        assert_eq!(told[0], first, "{layout}");
    }
}

#[test]
fn a_servo_that_feels_is_stopped_at_once_and_goes_no_further_than_it_may() {
    for layout in LAYOUTS {
        let mut rig = Rig::new(layout, &[4]);
        let here = rig.place(4);
        let within = (wasvolta_core::unit::count16(here - 60.0), wasvolta_core::unit::count16(here + 60.0));
        let said = lend(&mut rig, feel(4, 60, within));
        assert_eq!(
            said.feels.low.zip(said.feels.high).map(|((_, low), (_, high))| (low, high)),
            Some((false, false)),
            "{layout}: nothing held it up: {said:?}"
        );
        let errand = Errand::new(feel(4, 60, within));
        rig.driver.errand(&errand);
        for _ in 0..20 {
            rig.service().unwrap();
            rig.clock.advance(Duration::from_millis(1));
        }
        assert_eq!(rig.bus.is_stiff(4), Some(true), "{layout}");
        errand.give_up();
        rig.service().unwrap();
        assert_eq!(
            errand.said().end,
            Some(Err("stopped; it is limp again, read back".to_owned())),
            "{layout}"
        );
        assert_eq!(rig.bus.is_stiff(4), Some(false), "{layout}");
        // And at the end of the program, in the middle of it.
        let errand = Errand::new(feel(4, 60, within));
        rig.driver.errand(&errand);
        for _ in 0..20 {
            rig.service().unwrap();
            rig.clock.advance(Duration::from_millis(1));
        }
        let clock = Arc::clone(&rig.clock);
        rig.driver.release(&mut rig.line, &Stay::NONE, &*clock).unwrap();
        assert_eq!(rig.bus.is_stiff(4), Some(false), "{layout}");
        let torque = rig.settings.map.torque_limit.unwrap();
        assert_eq!(rig.bus.register(4, torque.0), Some(i64::from(torque.1)), "{layout}: it pushes as before");
    }
}

// --- Byte for byte ---

/// What was said on the wire, a line a packet; the same again and again is said once.
fn written_down(rig: &Rig) -> String {
    let mut lines: Vec<String> = Vec::new();
    for said in rig.bus.dialogue() {
        let bytes: Vec<String> = said.bytes.iter().map(|byte| format!("{byte:02X}")).collect();
        let line = format!("{} {}", if said.back { "<" } else { ">" }, bytes.join(" "));
        if !lines.contains(&line) {
            lines.push(line);
        }
    }
    // Hundreds of ids that nobody has are one line.
    if lines.len() > 60 {
        let end = lines.split_off(lines.len() - 16);
        lines.truncate(6);
        lines.push("…".to_owned());
        lines.extend(end);
    }
    lines.join("\n") + "\n"
}

#[test]
fn what_is_said_on_the_wire_stays_what_it_is_to_the_byte() {
    let mut text = String::new();
    for layout in LAYOUTS {
        let mut rig = Rig::with(layout, &[1, 2], |truth| {
            let steps = map(layout).steps;
            truth.stands_counts = f64::from(steps / 2);
            (truth.weight, truth.slack_deg, truth.friction, truth.return_delay_us) = (0.0, 0.0, 1.0, 40.0);
            truth.stops_counts = Ends { low: 0.0, high: f64::from(steps) };
        });
        rig.bus.keeps_dialogue();
        let mut part = |rig: &mut Rig, what: &str| {
            let lines = format!("\n{layout}: {what}\n{}", written_down(rig));
            text.push_str(&lines);
        };
        lend(&mut rig, What::Seek { bauds: vec![1_000_000], ids: 1..=3 });
        part(&mut rig, "who is there, ids 1 to 3");
        rig.until("started", |rig| rig.driver.phase() == Phase::Started);
        part(&mut rig, "got to know");
        rig.engage(1);
        part(&mut rig, "engaged");
        rig.want(1, rig.place(1) + 20.0, 400.0);
        rig.pass(Duration::from_millis(60));
        part(&mut rig, "told a goal, and asked where");
        rig.orders.wanted.set(1, None);
        rig.pass(Duration::from_millis(100));
        part(&mut rig, "let go");
        rig.strike(Kind::PlugOut, Some(2), true);
        lend(&mut rig, What::Id { from: 1, to: 9 });
        part(&mut rig, "another id");
        rig.strike(Kind::PlugOut, Some(2), false);
        lend(&mut rig, What::Anew { id: 2 });
        part(&mut rig, "started anew");
    }
    insta::assert_snapshot!("dialogues", text);
}

#[test]
fn one_that_pushes_no_more_is_said_so_and_started_anew() {
    for layout in LAYOUTS {
        let mut rig = Rig::new(layout, &[1]);
        let (torque, most) = rig.settings.map.torque_limit.unwrap();
        rig.bus.set_register(1, torque, 0);
        rig.until("known", |rig| rig.feedback(1).stand == Stand::Weak);
        rig.want(1, rig.place(1), 0.0);
        rig.pass(Duration::from_millis(300));
        assert_eq!(rig.bus.is_stiff(1), Some(false), "{layout}: nothing is written to it");
        rig.orders.wanted.set(1, None);
        let said = lend(&mut rig, What::Anew { id: 1 });
        assert!(matches!(said.end, Some(Ok(_))), "{layout}: {said:?}");
        assert_eq!(rig.bus.register(1, torque), Some(i64::from(most)), "{layout}");
        rig.until("well again", |rig| rig.feedback(1).stand == Stand::Limp);
        assert_eq!(rig.bus.memory_writes(), 0);
    }
}
