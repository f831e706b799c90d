//! Twenty-four smart servos on one line: what a beat takes on the wire, beside the sum of its bytes and delays.

use crate::report::Row;
use std::sync::Arc;
use std::time::Duration;
use wasvolta_core::rig::Layout;
use wasvolta_engine::chips::map_of;
use wasvolta_port::Clock;
use wasvolta_port::board::{BoardSettings, Driver, Orders, Stand};
use wasvolta_port::serial::Stream;
use wasvolta_port::smart::{FRAME, Smart, SmartServo, SmartSettings};
use wasvolta_sim::faults::Faults;
use wasvolta_sim::truth::SmartServoTruth;
use wasvolta_sim::{ManualClock, SmartBus};
use wasvolta_wire::smart::budget::{Budget, Load};

const SERVOS: u8 = 24;
const BAUD: u32 = 1_000_000;
const BEATS: u32 = 250;

/// A row for each form and return delay.
pub fn measure() -> Vec<Row> {
    [("twelve-bit", 0), ("twelve-bit", 500), ("ten-bit", 0)]
        .into_iter()
        .filter_map(|(layout, delay)| row(layout, delay))
        .collect()
}

fn row(name: &str, delay_us: u64) -> Option<Row> {
    let map = map_of(Layout::shipped().iter().find(|own| own.name == name)?);
    let clock = Arc::new(ManualClock::default());
    let bus = SmartBus::new(map.clone(), 3, clock.clone(), Arc::new(Faults::default()));
    let ids: Vec<u8> = (1..=SERVOS).collect();
    for id in &ids {
        let return_delay_us = Duration::from_micros(delay_us).as_secs_f64() * 1e6;
        bus.put(SmartServoTruth { return_delay_us, ..SmartServoTruth::drawn(3, *id, map.steps) });
    }
    bus.takes_time(BAUD, Duration::ZERO);
    let servo = |id: &u8| SmartServo { id: *id, model: Some(SmartServoTruth::MODEL), most: f64::MAX };
    let settings = SmartSettings {
        map: map.clone(),
        baud: BAUD,
        adapter: Duration::ZERO,
        servos: ids.iter().map(servo).collect(),
    };
    let settings = BoardSettings::Smart(Arc::new(settings));
    let mut driver = Smart::of(&settings)?;
    let mut line: Box<dyn Stream> = Box::new(bus.open().ok()?);
    let mut orders = Orders::default();
    let mut until = |driver: &mut Smart, orders: &Orders, end: Duration| {
        while clock.now() < end {
            let now = clock.now();
            // A simulated line fails in no other way than by being gone.
            let _ = driver.service(&mut line, now, orders, &*clock);
            let due = driver.due(now, &orders.wanted).unwrap_or(now + FRAME);
            clock.advance(due.saturating_sub(clock.now()).clamp(Duration::from_micros(20), FRAME));
        }
    };
    until(&mut driver, &orders, Duration::from_secs(2));
    for id in &ids {
        let place = bus.place(*id).unwrap_or_default();
        orders.wanted.set(usize::from(*id), Some(wasvolta_core::unit::count16(place)));
    }
    until(&mut driver, &orders, Duration::from_secs(6));
    let mut stiff = 0;
    driver.feedback(&mut |_, own| stiff += u32::from(own.stand == Stand::Stiff));
    bus.take_used();
    let began = 6_000_u64;
    for beat in 0..BEATS {
        for id in &ids {
            let at = orders.wanted.get(usize::from(*id)).unwrap_or_default();
            let step = if beat % 2 == 0 { 3 } else { -3 };
            orders.wanted.set(usize::from(*id), Some(at.saturating_add_signed(step)));
        }
        until(&mut driver, &orders, Duration::from_millis(began) + FRAME * (beat + 1));
    }
    let used = bus.take_used() / BEATS;
    let load = Load {
        servos: ids.len(),
        baud: BAUD,
        return_delay: Duration::from_micros(delay_us),
        adapter: Duration::ZERO,
        frame: FRAME,
    };
    let budget = Budget::of(&map, &load);
    // Everyone is asked twice a second how it is besides.
    let looks = budget.looks * u32::from(SERVOS) / 25;
    let sum = budget.beat() + looks;
    let ratio = used.as_secs_f64() / sum.as_secs_f64();
    let row = Row::new(
        format!("a beat of {stiff} smart servos, {name}, {delay_us} µs return delay"),
        format!("{:.2} ms on the wire", used.as_secs_f64() * 1e3),
    )
    .beside(format!("{:.2} ms of bytes and delays", sum.as_secs_f64() * 1e3))
    .ratio(ratio)
    .wanted("≤ 1.05", ratio <= 1.05 && stiff == u32::from(SERVOS));
    Some(row)
}
