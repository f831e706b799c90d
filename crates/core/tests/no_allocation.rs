//! Once warm, the stage allocates nothing: counted by an allocator that counts.

#![allow(
    unsafe_code,
    clippy::unwrap_used,
    clippy::panic,
    reason = "an allocator is unsafe by its nature; a test panics"
)]

use std::alloc::{GlobalAlloc, Layout, System};
use std::cell::Cell;
use std::time::Duration;
use wasvolta_core::Stage;
use wasvolta_core::inflow::{Batch, Inflow};
use wasvolta_core::link::{Heard, Way};
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{PartId, ServoId, WaveShape};
use wasvolta_core::stage::exercise::Exercise;
use wasvolta_core::stage::{AsIf, Command, Plan, Prepared};
use wasvolta_core::unit::Position;

thread_local! {
    static COUNT: Cell<u64> = const { Cell::new(0) };
}

struct Counting;

// SAFETY: every call goes on to the system's allocator unchanged.
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        COUNT.with(|count| count.set(count.get() + 1));
        unsafe { System.alloc(layout) }
    }

    unsafe fn dealloc(&self, pointer: *mut u8, layout: Layout) {
        unsafe { System.dealloc(pointer, layout) }
    }
}

#[global_allocator]
static ALLOCATOR: Counting = Counting;

const SMALL: &str = include_str!("data/small.rig.toml");

#[test]
fn advancing_allocates_nothing_whatever_happens() {
    advance_through_everything(SMALL);
}

#[test]
fn nor_behind_a_linkage_that_is_arrived_at_from_one_side() {
    let linkage = "channel = 1\narrive = \"below\"\n\
                   linkage = { horn_mm = 16, rod_mm = 50, arm_mm = 22, pivots_mm = 52, horn_at_deg = 90 }\n";
    // No further than that linkage can be driven.
    let narrow = SMALL.replace("angle_deg = -45", "angle_deg = -35");
    advance_through_everything(&narrow.replace("channel = 1\n", linkage));
}

#[test]
fn nor_by_mappings_that_blend_toggle_wait_for_a_switch_and_are_told_rates_nor_by_presses() {
    let plain = "[[mapping]]\nname = \"heron.beak\"\nfrom = { knob = 1 }\nto = { joint = \"heron.beak\", angles_deg = [0, 40] }\n\
                 failsafe = { angle_deg = 5, over_s = 0.5 }\n";
    assert!(SMALL.contains(plain));
    let both = "to = { blend = [\"rest\", \"look\"] }\nwhen_lost = \"release\"\ntake = \"pick-up\"\n";
    let switch = "ends = [0, 1023]\nswitch = { positions = [0, 400, 900], debounce_ms = 0 }";
    let presses = "[[press]]\ninput = \"knob\"\nposition = 2\ndoes = \"play\"\nsequence = \"wake\"\n\
                   [[press]]\ninput = \"knob\"\nposition = 3\ndoes = \"keep\"\npose = \"kept\"\n";
    for goal in [
        both,
        "to = { rate = \"heron.neck\", rates_deg_s = [-60, 60] }\nwhile = { input = \"knob\", position = 2 }\nwhen_lost = \"home\"\n",
        "to = { toggle = [\"rest\", \"look\"] }\n",
    ] {
        let mapping = format!("[[mapping]]\nname = \"gaze\"\nfrom = {{ knob = 1 }}\n{goal}{presses}");
        advance_through_everything(&SMALL.replace(plain, &mapping).replace("ends = [0, 1023]", switch));
    }
}

#[test]
fn nor_by_sequences_that_loop_wait_call_jump_and_lie_over_each_other() {
    let more = "\n[[sequence]]\nname = \"inner\"\n[[sequence.step]]\nlabel = \"x\"\npose = \"look\"\nmove_s = 0.1\n\
                [[sequence.step]]\nlabel = \"y\"\npose = \"rest\"\nmove_s = 0.1\n[[sequence.loop]]\nfrom = \"x\"\nto = \"y\"\ntimes = 3\n\
                [[sequence]]\nname = \"outer\"\nat_end = \"again\"\n[[sequence.step]]\nlabel = \"top\"\nplay = \"inner\"\n\
                [[sequence.step]]\nwait_for = { input = \"knob\", above = 0.9, at_most_s = 0.3, then = \"jump\", to = \"top\" }\n\
                [[sequence.step]]\nwait_for = { key = \"g\", at_most_s = 0.1 }\n\
                [[sequence]]\nname = \"lid\"\nlayer = \"over\"\n[[sequence.step]]\npose = \"look\"\nmove_s = 0.2\n\
                [[sequence]]\nname = \"breath\"\nlayer = \"added\"\nat_end = \"again\"\n[[sequence.step]]\npose = \"look\"\nmove_s = 0.4\n\
                [[sequence.step]]\npose = \"rest\"\nmove_s = 0.4\n\
                [[mapping]]\nname = \"hurry\"\nfrom = { knob = 1 }\nto = { tempo_percent = [50, 200] }\n\
                [[mapping]]\nname = \"leaf\"\nfrom = { knob = 1 }\nto = { place = \"wake\" }\n";
    let rig = match load(&(SMALL.to_owned() + more)) {
        Loaded::Sound(rig) => *rig,
        other => panic!("not sound: {other:?}"),
    };
    let beat = Duration::from_millis(20);
    let mut stage = Stage::new(Prepared::new(Plan::of(&rig)), beat);
    let before = COUNT.with(Cell::get);
    let (mut told, mut jumped) = (0, false);
    for n in 0..3000u32 {
        let raw = f64::from(n * 7 % 1024);
        let heard = Heard { frames: 1, changed: true, ..Heard::default() };
        let pulse = Position::new(1500.0);
        let command = match n % 300 {
            0 => Command::Engage { servo: 0, pulse, stands_there: true },
            10 => Command::GiveBack { servo: 0 },
            20 => Command::Play { sequence: 2 },
            60 => Command::Play { sequence: 3 },
            90 => Command::Play { sequence: 4 },
            150 => Command::Key { key: 'g' },
            200 => Command::Tempo { percent: 80.0 },
            250 => Command::FinishLoop { sequence: 2 },
            290 => Command::StopPlaying,
            _ => Command::Drive,
        };
        let command: Command<usize, usize, usize> = command;
        let command = command.named(stage.plan()).unwrap();
        let commands = if n % 10 == 0 { &[command][..] } else { &[] };
        stage.advance(
            beat * n,
            Inflow { links: &[heard], inputs: &[Batch::of(raw)], measured: &[] },
            commands,
        );
        told += stage.events().len();
        jumped |= stage.players().all().any(|player| player.at.seconds() > 0.5);
    }
    assert_eq!(COUNT.with(Cell::get) - before, 0);
    assert!(told > 30 && jumped, "{told} events: all of it was played");
}

fn advance_through_everything(text: &str) {
    let rig = match load(text) {
        Loaded::Sound(rig) => *rig,
        other => panic!("not sound: {other:?}"),
    };
    let what = Exercise {
        low: Position::new(1400.0),
        high: Position::new(1600.0),
        centre: Position::new(1500.0),
        us_per_s: 500.0,
        pause_ms: 100,
        times: Some(2),
    };
    let (low, high) = (Position::new(1300.0), Position::new(1700.0));
    let beat = Duration::from_millis(20);
    let mut stage = Stage::new(Prepared::new(Plan::of(&rig)), beat);
    let warm = Vec::from([0u8; 8]);
    assert!(COUNT.with(Cell::get) > 0 && warm.len() == 8, "the counter counts");
    let before = COUNT.with(Cell::get);
    for n in 0..2000u32 {
        let raw = f64::from(n % 1024);
        let gone = n % 700 == 699;
        let heard = Heard {
            frames: u32::from(!gone),
            changed: true,
            failsafe: false,
            way: if gone { Way::Gone } else { Way::Same },
        };
        let batch = if gone { Batch::default() } else { Batch::of(raw) };
        let pulse = Position::new(1000.0 + raw);
        let commands = match n % 400 {
            0 => [
                Command::Engage { servo: 0, pulse, stands_there: true },
                Command::Engage { servo: 1, pulse, stands_there: false },
            ],
            20 => [Command::GiveBack { servo: 0 }, Command::GiveBack { servo: 1 }],
            40 => [Command::Play { sequence: 0 }, Command::Jog { servo: 1, by: pulse, repeat: true }],
            150 => [Command::Hold, Command::Jog { servo: 0, by: pulse, repeat: false }],
            160 => [Command::Drive, Command::GoTo { servo: 0, pulse: Position::new(f64::NAN) }],
            200 => [Command::Exercise { servo: 0, what }, Command::Knob { servo: 1, input: 0, low, high }],
            300 => [Command::Trim { servo: 0, by: low }, Command::StandStill { servo: 1 }],
            250 => [
                Command::AsIf { input: 0, by: Some(AsIf::Wave { shape: WaveShape::Sine, period_s: 0.3 }) },
                Command::GiveBack { servo: 1 },
            ],
            280 => [Command::AsIf { input: 0, by: None }, Command::GiveBack { servo: 0 }],
            390 => [Command::Cut, Command::Drive],
            _ => [Command::StopPlaying, Command::Release { servo: 1 }],
        };
        let [one, other] = commands.map(|command| command.named(stage.plan()).unwrap());
        let gone = Command::Release { servo: ServoId::of(700) };
        let commands = if n % 10 == 0 { &[one, other, gone][..] } else { &[] };
        stage.advance(beat * n, Inflow { links: &[heard], inputs: &[batch], measured: &[] }, commands);
    }
    assert_eq!(COUNT.with(Cell::get) - before, 0);
}
