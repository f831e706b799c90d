//! A game pad that the kernel itself makes, where this user may ask it to: the lines that read its devices are run then.
//! Where `/dev/uinput` does not open nothing is shown, and the test says so.

#![cfg(target_os = "linux")]
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use evdev::uinput::VirtualDevice;
use evdev::{AbsInfo, AbsoluteAxisCode, AttributeSet, EventType, InputEvent, KeyCode, UinputAbsSetup};
use rustix::event::{PollFd, PollFlags, poll};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};
use wasvolta_port::inlet::{Drained, Inlet, Outlet};
use wasvolta_port::pad;
use wasvolta_wire::decode::{Frame, Sink};

#[derive(Default)]
struct Heard {
    newest: BTreeMap<String, f64>,
    ends: BTreeMap<String, Option<(f64, f64)>>,
}

impl Sink for Heard {
    fn value(&mut self, _: u16, name: &str, value: f64) {
        self.newest.insert(name.to_owned(), value);
    }
    fn frame(&mut self, _: Frame) {}
    fn has(&mut self, _: u16, name: &str, ends: Option<(f64, f64)>) {
        self.ends.insert(name.to_owned(), ends);
    }
}

impl Outlet for Heard {
    fn bytes(&mut self, _: &[u8], _: Option<Duration>) {
        panic!("a pad brings no bytes");
    }
}

/// Drains until something holds.
fn until(inlet: &mut dyn Inlet, heard: &mut Heard, holds: impl Fn(&Heard, Drained) -> bool) {
    let begun = Instant::now();
    loop {
        let drained = inlet.drain(Duration::ZERO, heard);
        if holds(heard, drained) {
            return;
        }
        assert!(begun.elapsed() < Duration::from_secs(30), "{:?}", heard.newest);
        let fd = inlet.descriptor().unwrap();
        let second = rustix::event::Timespec { tv_sec: 1, tv_nsec: 0 };
        poll(&mut [PollFd::new(&fd, PollFlags::IN)], Some(&second)).unwrap();
    }
}

fn pad() -> std::io::Result<VirtualDevice> {
    let keys: AttributeSet<KeyCode> = std::iter::once(KeyCode::BTN_SOUTH).collect();
    let axis = UinputAbsSetup::new(AbsoluteAxisCode::ABS_X, AbsInfo::new(128, 0, 255, 0, 0, 0));
    VirtualDevice::builder()?.name("reed pad").with_keys(&keys)?.with_absolute_axis(&axis)?.build()
}

#[test]
fn a_pad_of_the_kernel_is_heard_and_pulled() {
    let mut device = match pad() {
        Ok(device) => device,
        Err(why) => {
            println!(
                "not run here: /dev/uinput does not open ({why}); the stand-in's records are what is tested"
            );
            return;
        }
    };
    let node = device.enumerate_dev_nodes_blocking().unwrap().next().unwrap().unwrap();
    let begun = Instant::now();
    let mut inlet = loop {
        match pad::open(&node) {
            Ok(inlet) => break inlet,
            Err(shut) => assert!(begun.elapsed() < Duration::from_secs(30), "{shut}"),
        }
        std::thread::park_timeout(Duration::from_millis(20));
    };
    let mut heard = Heard::default();
    until(&mut *inlet, &mut heard, |heard, _| heard.newest.contains_key("abs-x"));
    assert_eq!(heard.ends["abs-x"], Some((0.0, 255.0)), "the kernel says the ends");
    let event = |kind: EventType, code, value| InputEvent::new(kind.0, code, value);
    let x = event(EventType::ABSOLUTE, AbsoluteAxisCode::ABS_X.0, 200);
    let press = event(EventType::KEY, KeyCode::BTN_SOUTH.code(), 1);
    device.emit(&[x, press]).unwrap();
    until(&mut *inlet, &mut heard, |heard, _| {
        heard.newest["abs-x"] > 199.0 && heard.newest.get("btn-south").is_some_and(|at| *at > 0.5)
    });
    drop(device);
    until(&mut *inlet, &mut heard, |_, drained| drained == Drained::Gone);
}
