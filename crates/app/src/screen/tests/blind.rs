//! Blind trials: a maker who knows only the next line, the numbers on the screen and what an eye sees, and presses
//! keys. What was found is then held against the hidden truth.

#![expect(
    clippy::print_stdout,
    clippy::format_push_string,
    reason = "figures for whoever runs it; texts made once"
)]

use super::*;
use crate::screen::dialog::Dialog;
use wasvolta_core::rig::{Ends, Kind, Servo};
use wasvolta_core::unit::Position;
use wasvolta_sim::Sight;
use wasvolta_sim::truth::{Dice, Part, ServoTruth, Truth};

/// The next line, as it stands on the screen.
fn next_line(bench: &Bench) -> String {
    let frame = bench.frame(200, 47);
    let mut rows: Vec<&str> = frame.lines().rev().collect();
    rows.truncate(2);
    rows.last().map_or_else(String::new, |row| row.trim().to_owned())
}

/// The maker, with every key counted.
struct Maker {
    bench: Bench,
    keys: u32,
    /// One mark in twenty is misread by 5 to 15°, by these dice; by none where the maker is careful.
    misreads: Option<Dice>,
    /// So many were.
    misread: u32,
}

impl Maker {
    fn press(&mut self, key: char) {
        self.keys += 1;
        self.bench.press(Key::char(key));
    }

    fn code(&mut self, code: KeyCode) {
        self.keys += 1;
        self.bench.code(code);
    }

    fn type_in(&mut self, text: &str) {
        text.chars().for_each(|c| self.press(c));
        self.code(KeyCode::Enter);
    }

    /// What an eye sees of the horn, as the screen shows it: the angle, and whether it buzzes.
    fn eye(&self) -> (f64, bool) {
        let frame = self.bench.frame(160, 47);
        let row = frame.lines().find(|row| row.contains("◇ horn")).expect("the horn is seen");
        let words = row.split("◇ horn ").nth(1).unwrap();
        let degrees = words.split('°').next().unwrap();
        (degrees.replace('−', "-").parse().unwrap(), words.contains("it buzzes"))
    }

    /// Until the horn has stood for a while.
    fn wait(&mut self) {
        let mut before = (f64::NAN, f64::NAN);
        for _ in 0..400 {
            self.bench.pass(10);
            let now = (self.eye().0, self.bench.model.snapshot.servos[self.bench.picked()].pulse.get());
            if now == before {
                return;
            }
            before = now;
        }
        panic!("it does not come to rest");
    }

    /// Answers what the mark's dialog predicts with what is seen.
    fn answer(&mut self) {
        let mut seen = self.eye().0;
        if let Some(dice) = &mut self.misreads
            && dice.between(0.0, 1.0) < 0.05
        {
            let off = dice.between(5.0, 15.0).round();
            seen += if dice.between(0.0, 1.0) < 0.5 { off } else { -off };
            self.misread += 1;
        }
        let Some(Dialog::Mark { dial, .. }) = &self.bench.model.dialog else {
            panic!("{}", next_line(&self.bench))
        };
        let off = seen - dial.value;
        if off.abs() <= 3.0 {
            let key = if off > 0.0 { KeyCode::Right } else { KeyCode::Left };
            (0..wasvolta_core::unit::count16(off.abs())).for_each(|_| self.code(key));
            self.code(KeyCode::Enter);
        } else {
            self.type_in(&format!("{seen}"));
        }
        self.settle();
    }

    /// Where it contradicts another mark: reads it once more, and believes that.
    fn settle(&mut self) {
        if !matches!(self.bench.model.dialog, Some(Dialog::Contradiction { .. })) {
            return;
        }
        self.press('r');
        let seen = self.eye().0;
        self.type_in(&format!("{seen}"));
        if matches!(self.bench.model.dialog, Some(Dialog::Contradiction { .. })) {
            self.press('d');
        }
    }
}

fn board(oscillator: f64) -> String {
    format!("[[board]]\nbus = \"bench-bus\"\naddress = 0x40\noscillator_hz = {oscillator}\n")
}

fn rig(servos: usize, kind: &str) -> String {
    let mut text =
        "format = 12\nname = \"Blind\"\n[[port]]\nname = \"bus\"\nkind = \"i2c\"\npath = \"sim:bench-bus\"\n\
        [[board]]\nname = \"upper\"\nport = \"bus\"\nchip = \"pwm-expander\"\naddress = 0x40\n"
            .to_owned();
    for n in 0..servos {
        text += &format!(
            "[[servo]]\nname = \"reed.s{n}\"\nboard = \"upper\"\nchannel = {n}\nkind = \"{kind}\"\n"
        );
        if kind == "positional" {
            text += &format!("[[joint]]\nname = \"reed.s{n}\"\nservo = \"reed.s{n}\"\n");
        }
    }
    text
}

fn open(rig: &str, sim: &str) -> Bench {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("blind.rig.toml");
    std::fs::write(&path, rig).unwrap();
    std::fs::write(folder.path().join("blind.sim.toml"), sim).unwrap();
    Bench::reopened(&path, folder)
}

/// A servo drawn at random: gain, offset, sense, curve, slack, hard stops a little beyond 1000 to 2000 µs as the rig
/// counts them; a real pulse is `clock` times that.
fn drawn(dice: &mut Dice, channel: usize, clock: f64) -> String {
    let sense = if dice.between(0.0, 1.0) < 0.3 { -1.0 } else { 1.0 };
    let gain = sense * dice.between(7.0, 13.0);
    let zero = dice.between(1400.0, 1600.0);
    // Most are nearly straight; one in four bends so much that a line misses it.
    let curve = if dice.between(0.0, 1.0) < 0.25 { dice.between(1.6, 2.4) } else { dice.between(-0.4, 0.4) };
    let stop = |pulse: f64| gain * (pulse * clock - zero) / 100.0;
    let ends = [stop(1000.0 - dice.between(30.0, 85.0)), stop(2000.0 + dice.between(30.0, 85.0))];
    let (low, high) = (ends[0].min(ends[1]), ends[0].max(ends[1]));
    format!(
        "[[board.servo]]\nchannel = {channel}\ngain_deg_per_100us = {gain}\nzero_us = {zero}\ncurve_deg = {curve}\n\
         slack_deg = {}\ndeadband_us = {}\nspeed_deg_s = {}\nstops_deg = [{low}, {high}]\nfollows_us = [300, 2900]\nstands_deg = 0\n",
        dice.between(0.0, 1.0),
        dice.between(0.5, 2.5),
        dice.between(300.0, 500.0),
    )
}

struct Trial {
    rms: f64,
    worst: f64,
    fit_keys: u32,
    all_keys: u32,
    /// How far the saved endpoints are inside the hard stops, in µs.
    inside: [f64; 2],
    /// How often a stop was touched, and for how many beats at the longest.
    touched: u32,
    stalled: u32,
}

/// One servo from its first pulse to its endpoints, by the next line alone.
fn calibrate(maker: &mut Maker) -> (u32, u32, u32) {
    let (mut touched, mut stalled, mut fit_keys) = (0, 0, 0);
    for _ in 0..200 {
        // What was said makes room for advice after a while.
        maker.bench.pass(320);
        let line = next_line(&maker.bench);
        if line.contains("o gives 1500 µs") {
            maker.press('o');
            maker.wait();
        } else if line.contains("then m keeps it as a mark") {
            maker.press('m');
            maker.answer();
        } else if line.contains("n glides")
            || line.contains("n, m and Enter")
            || line.contains("or does it bend?")
            || line.contains("n goes to one of them")
            // Going on to a knob would do; this maker wants to know its ends too.
            || line.contains("Better still: n and m")
        {
            maker.press('n');
            maker.wait();
            maker.press('m');
            maker.answer();
        } else if line.contains("Misread?") {
            maker.code(KeyCode::Up);
            maker.press('v');
            maker.wait();
            maker.press('m');
            maker.answer();
        } else if line.contains("contradict each other") {
            // One of two that turn back is taken again.
            maker.code(KeyCode::Up);
            maker.press('v');
            maker.wait();
            maker.press('m');
            maker.answer();
        } else if line.contains("B draws a curve") {
            maker.press('B');
        } else if line.contains("To go further") || line.contains("end is set") {
            fit_keys = if fit_keys == 0 { maker.keys } else { fit_keys };
            if line.contains("jog down") {
                maker.type_in("1000");
            } else if line.contains("jog up") {
                maker.type_in("2000");
            }
            maker.wait();
            let heard = widen_until_heard(maker);
            (touched, stalled) = (touched + 1, stalled.max(heard));
        } else if line.contains("l sets a limit") {
            return (fit_keys, touched, stalled);
        } else {
            panic!("the next line leads nowhere: {line}");
        }
    }
    panic!("never finished: {}", next_line(&maker.bench));
}

/// Widens until it buzzes, then backs off at once; for how many beats it stalled.
fn widen_until_heard(maker: &mut Maker) -> u32 {
    for _ in 0..60 {
        maker.press('W');
        if maker.bench.model.said.as_ref().is_some_and(|(_, words, _)| words.contains("gliding")) {
            maker.wait();
        }
        for _ in 0..12 {
            maker.bench.pass(1);
            if maker.eye().1 {
                let mut stalled = 1;
                maker.press('b');
                while maker.eye().1 {
                    maker.bench.pass(1);
                    stalled += 1;
                    assert!(stalled < 100, "it never comes free: {}", maker.bench.frame(160, 47));
                }
                maker.bench.pass(10);
                maker.code(KeyCode::Enter);
                return stalled;
            }
        }
        // A finger does not press faster than it listens.
        maker.bench.now += Duration::from_millis(700);
    }
    panic!("no stop was found");
}

/// The pulse at which a true servo would stand at an angle, without its stops.
fn pulse_of(truth: &ServoTruth, angle: f64) -> f64 {
    let falls = truth.gain_deg_per_100us < 0.0;
    let (mut low, mut high) = (300.0, 2900.0);
    for _ in 0..60 {
        let middle = f64::midpoint(low, high);
        if (truth.angle(middle) < angle) == falls { high = middle } else { low = middle }
    }
    low
}

fn judge(servo: &Servo, truth: &ServoTruth, clock: f64) -> (f64, f64, [f64; 2]) {
    let fit = servo.fit().unwrap();
    let Ends { low, high } = servo.ends();
    let off = |n: u32| {
        let pulse = low + (high - low) * (f64::from(n) / 100.0);
        fit.curve.angle_at(pulse).get() - truth.angle(pulse.get() * clock)
    };
    let squares = (0..=100).map(|n| off(n) * off(n)).sum::<f64>() / 101.0;
    let worst = (0..=100).map(|n| off(n).abs()).fold(0.0, f64::max);
    let stops = [truth.stops_deg.low, truth.stops_deg.high].map(|angle| pulse_of(truth, angle));
    let (least, most) = (stops[0].min(stops[1]), stops[0].max(stops[1]));
    (squares.sqrt(), worst, [low.get() * clock - least, most - high.get() * clock])
}

fn trials(group: u64, servos: usize, misreads: Option<Dice>) -> (Vec<Trial>, u32) {
    let mut dice = Dice::new(0xB11D + group);
    let oscillator = dice.between(24.2e6, 25.9e6).round();
    // The rig takes 25 MHz for true; a real pulse is that much longer or shorter.
    let clock = 25.0e6 / oscillator;
    let sim = board(oscillator) + &(0..servos).map(|n| drawn(&mut dice, n, clock)).collect::<String>();
    let truth = Truth::parse(&sim).unwrap();
    let bench = open(&rig(servos, "positional"), &sim);
    let mut maker = Maker { bench, keys: 0, misreads, misread: 0 };
    let mut found = Vec::new();
    for n in 0..servos {
        maker.bench.model.pick_servo(&maker.bench.session.document.rig, n);
        maker.keys = 0;
        let (fit_keys, touched, stalled) = calibrate(&mut maker);
        let (rms, worst, inside) =
            judge(&maker.bench.session.document.rig.servos[n], &truth.boards[0].servos[n], clock);
        found.push(Trial { rms, worst, fit_keys, all_keys: maker.keys, inside, touched, stalled });
        maker.press('r');
        maker.bench.pass(5);
    }
    (found, maker.misread)
}

/// A maker who misreads one mark in twenty by 5 to 15° is told which one, takes it again, and ends as well as another.
#[test]
fn a_maker_who_misreads_is_told_which_mark_it_was() {
    let threads: Vec<_> = (0..6u64)
        .map(|group| std::thread::spawn(move || trials(100 + group, 16, Some(Dice::new(0x0DD + group)))))
        .collect();
    let (mut all, mut misread) = (Vec::new(), 0);
    for thread in threads {
        let (found, wrong) = thread.join().unwrap();
        all.extend(found);
        misread += wrong;
    }
    let worst = all.iter().map(|t| t.worst).fold(0.0, f64::max);
    let rms = all.iter().map(|t| t.rms).fold(0.0, f64::max);
    // Two misreadings that agree with each other cannot be told from a bend.
    let bad = all.iter().filter(|t| t.rms > 0.9 || t.worst > 2.0).count();
    println!(
        "96 servos, {misread} marks misread by 5 to 15°: all but {bad} within 2° of the truth everywhere; worst {worst:.2}°, \
         {rms:.2}° rms"
    );
    assert!(misread > 20, "{misread}");
    assert!(bad <= 2, "{bad} of 96 servos are as wrong as their maker");
}

#[test]
fn two_hundred_servos_are_found_by_the_next_line_and_an_eye() {
    const SERVOS: usize = 16;
    // One group a thread: they know nothing of each other.
    let groups: Vec<(u64, usize)> = (0..13u64).map(|g| (g, if g == 12 { 8 } else { SERVOS })).collect();
    let threads: Vec<_> = groups
        .into_iter()
        .map(|(group, count)| std::thread::spawn(move || trials(group, count, None).0))
        .collect();
    let all: Vec<Trial> = threads.into_iter().flat_map(|thread| thread.join().unwrap()).collect();
    assert_eq!(all.len(), 200);
    let most = |of: fn(&Trial) -> f64| all.iter().map(of).fold(0.0, f64::max);
    let mean = |of: fn(&Trial) -> f64| all.iter().map(of).sum::<f64>() / 200.0;
    let inside = all.iter().flat_map(|t| t.inside).fold(f64::INFINITY, f64::min);
    println!(
        "200 servos: rms {:.2}° (mean {:.2}°), worst {:.2}°; {:.0} keys for the fit ({:.0} on average), {:.0} with both \
         endpoints; endpoints {inside:.1} µs inside the stops at least, stalled {:.2} s at most",
        most(|t| t.rms),
        mean(|t| t.rms),
        most(|t| t.worst),
        most(|t| f64::from(t.fit_keys)),
        mean(|t| f64::from(t.fit_keys)),
        most(|t| f64::from(t.all_keys)),
        most(|t| f64::from(t.stalled)) * 0.02,
    );
    for (n, trial) in all.iter().enumerate() {
        assert!(
            trial.rms <= 0.7 && trial.worst <= 1.5,
            "servo {n}: {:.2}° rms, {:.2}° worst",
            trial.rms,
            trial.worst
        );
        assert!(trial.all_keys <= 60, "servo {n}: {} keys, {} for the fit", trial.all_keys, trial.fit_keys);
        assert!(trial.inside.iter().all(|i| *i >= 15.0), "servo {n}: {:?} µs inside", trial.inside);
        assert!(trial.touched == 2 && trial.stalled <= 25, "servo {n}: {} beats", trial.stalled);
    }
}

/// What an eye sees of a shaft: turns a minute.
fn turning(bench: &Bench) -> f64 {
    match bench.model.seen.map(|(_, look)| look.sight) {
        Some(Sight::Turning(rpm)) => rpm,
        other => panic!("no shaft: {other:?}"),
    }
}

/// From standing still with an arrow until it turns, then that edge is kept.
fn find_edge(maker: &mut Maker, key: KeyCode) {
    // Through the standstill first, where it turns yet.
    for still in [false, true] {
        let mut steps = 0;
        while (turning(&maker.bench) != 0.0) != still {
            maker.code(key);
            maker.bench.pass(6);
            steps += 1;
            assert!(steps < 500, "no edge");
        }
    }
    maker.press('S');
    if let Some(Dialog::Drift { .. }) = maker.bench.model.dialog {
        maker.code(KeyCode::Enter);
    }
}

fn stop_band(maker: &mut Maker, servo: usize, nudge: usize) -> (f64, f64) {
    maker.bench.model.pick_servo(&maker.bench.session.document.rig, servo);
    maker.bench.model.nudge = nudge;
    maker.bench.pass(320);
    assert!(next_line(&maker.bench).contains("e gives"), "{}", next_line(&maker.bench));
    maker.press('e');
    maker.code(KeyCode::Enter);
    maker.bench.pass(320);
    assert!(next_line(&maker.bench).contains("Jog up with →"), "{}", next_line(&maker.bench));
    // Where it stands still is not where one begins: from well below.
    while turning(&maker.bench) >= 0.0 {
        maker.code(KeyCode::Left);
        maker.bench.pass(6);
    }
    find_edge(maker, KeyCode::Right);
    maker.bench.pass(320);
    assert!(next_line(&maker.bench).contains("Now down with ←"), "{}", next_line(&maker.bench));
    find_edge(maker, KeyCode::Left);
    maker.bench.pass(320);
    assert!(next_line(&maker.bench).contains("Its stop band is known"), "{}", next_line(&maker.bench));
    maker.press('r');
    let band = maker.bench.session.document.rig.servos[servo].band().unwrap();
    (band.low.get(), band.high.get())
}

#[test]
fn the_stop_band_of_fifty_continuous_servos_is_found_within_a_tick() {
    let mut worst = 0.0f64;
    for group in 0..4u64 {
        let count = if group == 3 { 2 } else { 16 };
        let mut dice = Dice::new(0xE9D + group);
        let oscillator = dice.between(24.5e6, 25.5e6).round();
        let mut sim = board(oscillator);
        for channel in 0..count {
            sim += &format!(
                "[[board.servo]]\nchannel = {channel}\npart = \"motor\"\nzero_us = {}\ndeadband_us = {}\nspeed_deg_s = {}\n",
                dice.between(1460.0, 1540.0),
                dice.between(6.0, 25.0),
                dice.between(300.0, 700.0),
            );
        }
        let truth = Truth::parse(&sim).unwrap();
        let mut maker =
            Maker { bench: open(&rig(count, "continuous"), &sim), keys: 0, misreads: None, misread: 0 };
        let tick = maker.bench.session.document.rig.boards[0].clock().unwrap().tick().get();
        for servo in 0..count {
            // One tick a press.
            let (low, high) = stop_band(&mut maker, servo, 1);
            let hidden = truth.boards[0].servos[servo];
            // In the pulses that the rig takes for true.
            let edge = |side: f64| (hidden.zero_us + side * hidden.deadband_us) * oscillator / 25.0e6;
            let off = (low - edge(-1.0)).abs().max((high - edge(1.0)).abs());
            worst = worst.max(off / tick);
            assert!(off <= tick, "{servo}: {low} {high}, {} {}", edge(-1.0), edge(1.0));
        }
    }
    println!("50 continuous servos: the edges of the stop within {worst:.2} ticks");
}

#[test]
fn on_sixteen_bits_the_stop_band_is_found_within_two_microseconds() {
    let text = "format = 12\nname = \"Blind\"\n[[port]]\nname = \"chip\"\nkind = \"pwm\"\npath = \"sim:chip\"\n[[board]]\nname = \"kernel\"\n\
        port = \"chip\"\nchip = \"linux-pwm\"\n[[servo]]\nname = \"reed.sway\"\nboard = \"kernel\"\nchannel = 0\nkind = \"continuous\"\n";
    let mut maker = Maker { bench: open(text, ""), keys: 0, misreads: None, misread: 0 };
    let (low, high) = stop_band(&mut maker, 0, 0);
    let hidden = ServoTruth { part: Part::Motor, ..ServoTruth::drawn(1 ^ 0x9A17, 0) };
    let off = [low - (hidden.zero_us - hidden.deadband_us), high - (hidden.zero_us + hidden.deadband_us)];
    println!("on 16 bits the edges lie {:.2} and {:.2} µs off", off[0], off[1]);
    assert!(off.iter().all(|off| off.abs() <= 2.0), "{off:?}");
    assert_eq!(maker.bench.session.document.rig.servos[0].kind, Kind::Continuous);
    assert!(maker.bench.session.document.rig.servos[0].centre() > Position::new(low));
}
