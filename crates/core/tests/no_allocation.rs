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
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::stage::{Command, Plan, Prepared, Reading};
use wasvolta_core::unit::Micros;

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

#[test]
fn advancing_allocates_nothing_whatever_happens() {
    let Loaded::Sound(rig) = load(include_str!("data/small.rig.toml")) else { panic!("not sound") };
    let beat = Duration::from_millis(20);
    let mut stage = Stage::new(Prepared::new(Plan::of(&rig)), beat);
    let warm = Vec::from([0u8; 8]);
    assert!(COUNT.with(Cell::get) > 0 && warm.len() == 8, "the counter counts");
    let before = COUNT.with(Cell::get);
    for n in 0..2000u32 {
        let raw = f64::from(n % 1024);
        let gone = n % 700 == 699;
        let reading =
            Reading { value: (!gone).then_some(raw), frames: u32::from(!gone), changed: true, gone };
        let pulse = Micros::new(1000.0 + raw);
        let commands = match n % 400 {
            0 => [
                Command::Engage { servo: 0, pulse, told: true },
                Command::Engage { servo: 1, pulse, told: false },
            ],
            20 => [Command::GiveBack { servo: 0 }, Command::GiveBack { servo: 1 }],
            40 => [Command::Play { sequence: 0 }, Command::Jog { servo: 1, by: pulse, repeat: true }],
            150 => [Command::Hold, Command::Jog { servo: 0, by: pulse, repeat: false }],
            160 => [Command::Drive, Command::GoTo { servo: 0, pulse: Micros::new(f64::NAN) }],
            390 => [Command::Cut, Command::Drive],
            _ => [Command::StopPlaying, Command::Release { servo: 7 }],
        };
        let commands = if n % 10 == 0 { &commands[..] } else { &[] };
        stage.advance(beat * n, &[reading], commands);
    }
    assert_eq!(COUNT.with(Cell::get) - before, 0);
}
