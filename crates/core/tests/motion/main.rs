//! Movement in time: what sequences mean, how they play, and what holds for any of them.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::float_cmp,
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    clippy::cast_precision_loss,
    reason = "a test fails by panicking, bits are bits, and its numbers are small"
)]

mod examples;
mod laws;
mod layers;
mod playing;
mod refused;
mod review;
mod twin;

use std::fmt::Write as _;
use std::time::Duration;
use wasvolta_core::Stage;
use wasvolta_core::inflow::{Batch, Inflow};
use wasvolta_core::link::Heard;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::sequence::{At, LOOPS, Program};
use wasvolta_core::stage::{Command, EventKind, Placed, Plan, Play, Player, Prepared, Told};
use wasvolta_core::unit::Position;

const BEAT: Duration = Duration::from_millis(20);

/// Three joints a, b and c of given speeds that start at 0°, a lamp, a button that is pressed above ½, and a knob.
fn text(sequences: &str, speeds: [f64; 3]) -> String {
    let mut text = "format = 12\nname = \"marsh\"\n[[port]]\nname = \"bus\"\nkind = \"i2c\"\npath = \"x\"\n[[port]]\nname = \"line\"\nkind = \"serial\"\npath = \"y\"\n\
        [[board]]\nname = \"upper\"\nport = \"bus\"\nchip = \"pwm-expander\"\naddress = 64\n".to_owned();
    for (n, (name, speed)) in ["a", "b", "c"].into_iter().zip(speeds).enumerate() {
        write!(
            text,
            "[[servo]]\nname = \"{name}\"\nboard = \"upper\"\nchannel = {n}\nendpoints_us = [500, 2500]\n\
             rated = {{ travel_deg = 200, pulses_us = [500, 2500], s_per_60_deg = 0.006 }}\n\
             marks = [{{ pulse_us = 500, angle_deg = -100 }}, {{ pulse_us = 2500, angle_deg = 100 }}]\n\
             [[joint]]\nname = \"{name}\"\nservo = \"{name}\"\nhome_deg = 0\nspeed_deg_s = {speed}\n"
        )
        .unwrap();
    }
    text += "[[servo]]\nname = \"lamp\"\nboard = \"upper\"\nchannel = 3\nkind = \"dimmer\"\n\
        [[servo]]\nname = \"winch\"\nboard = \"upper\"\nchannel = 4\nkind = \"continuous\"\n\
        [[link]]\nname = \"micro\"\non = \"line\"\n\
        [[input]]\nname = \"push\"\nlink = \"micro\"\nchannel = \"push\"\nends = [0, 1]\nswitch = { on_above = 0.6, off_below = 0.4, debounce_ms = 0 }\n\
        [[input]]\nname = \"gap\"\nlink = \"micro\"\nchannel = \"gap\"\nends = [0, 1]\n";
    let poses = [
        ("zero", "{ a = 0, b = 0, c = 0 }", ""),
        ("far", "{ a = 96, b = 35, c = 50 }", ""),
        ("a30", "{ a = 30 }", ""),
        ("a75", "{ a = 75 }", ""),
        ("a-40", "{ a = -40 }", ""),
        ("b20", "{ b = 20 }", ""),
        ("lit", "{}", "{ lamp = 100 }"),
        ("dark", "{}", "{ lamp = 0 }"),
        ("wind", "{}", "{ winch = 50 }"),
    ];
    for (name, angles, levels) in poses {
        let levels = if levels.is_empty() { String::new() } else { format!("levels_percent = {levels}\n") };
        write!(text, "[[pose]]\nname = \"{name}\"\nangles_deg = {angles}\n{levels}").unwrap();
    }
    text + sequences
}

fn rig_of(text: &str) -> Rig {
    match load(text) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

fn rig(sequences: &str) -> Rig {
    rig_of(&text(sequences, [400.0; 3]))
}

fn programs(sequences: &str, speeds: [f64; 3]) -> Vec<Program> {
    Plan::of(&rig_of(&text(sequences, speeds))).programs
}

/// The only sequence, of joints as fast as given.
fn program(steps: &str, speeds: [f64; 3]) -> Program {
    programs(&format!("[[sequence]]\nname = \"s\"\n{steps}"), speeds).remove(0)
}

fn step(pose: &str, more: &str) -> String {
    format!("[[sequence.step]]\npose = \"{pose}\"\n{more}\n")
}

fn wait(how: &str) -> String {
    format!("[[sequence.step]]\nwait_for = {{ {how} }}\n")
}

/// Where a joint is at so many seconds, in the first round of every loop.
fn at(program: &Program, servo: usize, seconds: f64) -> f64 {
    program.first_at(servo, At::seconds_in(seconds)).unwrap().get()
}

/// A stage with everything engaged at home and given back.
struct Show {
    stage: Stage,
    now: Duration,
    /// What the button and the knob say.
    says: [f64; 2],
    told: Vec<(Told, f64)>,
}

impl Show {
    fn of(rig: &Rig) -> Self {
        let stage = Stage::new(Prepared::new(Plan::of(rig)), BEAT);
        let mut show = Self { stage, now: Duration::ZERO, says: [0.0; 2], told: Vec::new() };
        show.beat(&[]);
        let servos = show.stage.plan().servos.len();
        let engage: Vec<Placed> = (0..servos)
            .map(|servo| {
                let pulse = show.stage.plan().servos[servo].start();
                Command::Engage { servo, pulse, stands_there: true }
            })
            .collect();
        show.beat(&engage);
        let give: Vec<Placed> = (0..servos).map(|servo| Command::GiveBack { servo }).collect();
        show.beat(&give);
        show
    }

    fn beat(&mut self, commands: &[Placed]) {
        self.beat_of(BEAT, commands);
    }

    fn beat_of(&mut self, dt: Duration, commands: &[Placed]) {
        self.now += dt;
        let plan = self.stage.plan();
        let commands: Vec<_> = commands.iter().filter_map(|command| command.named(plan)).collect();
        let heard = Heard { frames: 1, changed: true, ..Heard::default() };
        let batches = self.says.map(Batch::of);
        self.stage.advance(self.now, Inflow { links: &[heard], inputs: &batches, measured: &[] }, &commands);
        let told = self.stage.events().iter().filter_map(|event| match event.kind {
            EventKind::Sequence { told, at } => Some((told, at.as_secs_f64())),
            _ => None,
        });
        self.told.extend(told);
    }

    fn beats(&mut self, count: usize) {
        (0..count).for_each(|_| self.beat(&[]));
    }

    fn play(&mut self, sequence: usize) {
        self.beat(&[Command::Play { sequence }]);
    }

    /// Goes on until something is so, and no longer than ten minutes.
    fn until(&mut self, so: impl Fn(&Self) -> bool) {
        for _ in 0..30_000 {
            if so(self) {
                return;
            }
            self.beat(&[]);
        }
        panic!("it never is: {:?}", self.player());
    }

    fn player(&self) -> Option<Player> {
        self.stage.players().last().copied()
    }

    fn stands(&self) -> Play {
        self.player().map_or(Play::Stopped, |player| player.play)
    }

    fn seconds(&self) -> f64 {
        self.player().map_or(0.0, |player| player.at.seconds())
    }

    fn pulse(&self, servo: usize) -> Position {
        self.stage.servos()[servo].pulse
    }

    /// The joint's angle, or the level.
    fn angle(&self, servo: usize) -> f64 {
        self.stage.plan().servos[servo].scale.as_ref().unwrap().angle_at(self.pulse(servo)).get()
    }
}

const NONE: [u32; LOOPS] = [0; LOOPS];
