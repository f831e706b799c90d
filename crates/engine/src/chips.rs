//! What the engine knows of each chip beside what `core` says of it: how its driver is set up, and which links lead a pulse
//! to its channels. A row a chip.

use crate::why::Judge;
use crate::why::board::{EXPANDER, FIRMATA, PWM, SMART};
use std::sync::Arc;
use std::time::Duration;
use wasvolta_core::rig::{Board, Channel, Chip, Layout, Protocol, Rig, Servo, Signal, layout};
use wasvolta_core::unit::count16;
use wasvolta_port::board::BoardSettings;
use wasvolta_port::{expander, firmata, pwm, smart};
use wasvolta_wire::smart::Form;
use wasvolta_wire::smart::map::{Map, Register, Sign};

/// See the module.
pub struct ChipRow {
    /// What a board is to be.
    pub settings: fn(&Rig, &Board) -> BoardSettings,
    /// The links between its port and its channels, in the order in which a pulse passes them.
    pub links: &'static [(&'static str, Judge)],
}

/// The row of a chip.
pub const fn row(chip: Chip) -> &'static ChipRow {
    match chip {
        Chip::PwmExpander => &ChipRow { settings: expander, links: &EXPANDER },
        Chip::Firmata => &ChipRow { settings: firmata, links: &FIRMATA },
        Chip::LinuxPwm => &ChipRow { settings: pwm, links: &PWM },
        Chip::SmartBus => &ChipRow { settings: smart, links: &SMART },
    }
}

/// The widest pulse that is ever allowed, in µs.
const WIDEST_US: f64 = 2900.0;

fn frame(board: &Board) -> Duration {
    let period = board.clock().map_or(0.0, |clock| clock.period().get());
    Duration::try_from_secs_f64(period / 1e6).unwrap_or_default()
}

fn expander(_: &Rig, board: &Board) -> BoardSettings {
    BoardSettings::Expander(expander::ExpanderSettings {
        address: board.address.unwrap_or_default(),
        prescale: board.prescale(),
        frame: frame(board),
        widest: board.clock().map_or(0, |clock| count16((WIDEST_US / clock.tick().get()).ceil()).min(4095)),
    })
}

fn firmata(rig: &Rig, board: &Board) -> BoardSettings {
    let pins = |signal: Signal| {
        let pins = rig.servos_on(&board.name).filter(|s| s.kind.signal() == signal).map(Servo::plug);
        pins.fold(0, |bits, pin| bits | 1u128.checked_shl(u32::from(pin)).unwrap_or(0))
    };
    BoardSettings::Firmata(firmata::FirmataSettings {
        levels: pins(Signal::Share),
        switches: pins(Signal::Switch),
        reads: reads(rig, board),
    })
}

/// The pins that inputs are read from, over the links that stand on a board.
fn reads(rig: &Rig, board: &Board) -> firmata::Reads {
    let mut reads = firmata::Reads::default();
    let Some(link) = rig.link_on(board) else { return reads };
    for input in rig.inputs.iter().filter(|input| input.link == link.name) {
        let Some(Channel::Code(code)) = (Protocol::Firmata.row().read)(&input.channel) else { continue };
        if let Some(channel) = code.checked_sub(firmata::ANALOG) {
            reads.analog |= 1u16.checked_shl(channel.into()).unwrap_or(0);
        } else {
            let pin = 1u128 << (code % firmata::PULLED_UP);
            reads.digital |= pin;
            reads.pulled_up |= if code >= firmata::PULLED_UP { pin } else { 0 };
        }
    }
    reads
}

fn pwm(_: &Rig, board: &Board) -> BoardSettings {
    BoardSettings::Pwm(pwm::PwmSettings { frame: frame(board) })
}

/// The registers of a layout as the driver has them.
pub fn map_of(layout: &Layout) -> Map {
    let register = |own: &layout::Register| {
        let sign = match (own.signed, own.sign_bit) {
            (true, _) => Sign::Twos,
            (false, Some(bit)) => Sign::Bit(bit),
            (false, None) => Sign::None,
        };
        Register { at: own.at, bytes: own.bytes, sign }
    };
    let r = &layout.registers;
    let some = |own: &Option<layout::Register>| own.as_ref().map(register);
    let with = |own: &Option<layout::Register>, each: fn(&layout::Register) -> Option<f64>| {
        own.as_ref().map(|own| (register(own), each(own).unwrap_or(1.0)))
    };
    Map {
        form: if layout.form == 1 { Form::One } else { Form::Two },
        high_byte_first: layout.high_byte_first,
        steps: layout.steps,
        counts_a_degree: layout.counts_a_degree(),
        ring: layout.ring,
        kept: (layout.kept.low, layout.kept.high),
        models: layout.models.clone(),
        model: register(&r.model),
        id: register(&r.id),
        baud: register(&r.baud),
        bauds: layout.bauds.iter().map(|row| (row.number, row.baud)).collect(),
        drive: register(&r.drive),
        target: register(&r.target),
        speed: register(&r.speed),
        counts_s: layout.counts_s(&r.speed).unwrap_or(1.0),
        most_speed: r.speed.greatest.unwrap_or(u32::from(u16::MAX >> 1)),
        time: r.time.as_ref().map(|own| (register(own), own.is.unwrap_or(0))),
        position: register(&r.position),
        speed_now: r.speed_now.as_ref().map(|own| (register(own), layout.counts_s(own).unwrap_or(1.0))),
        load: with(&r.load, |own| own.each_percent),
        volts: with(&r.volts, |own| own.each_volts),
        celsius: some(&r.celsius),
        moving: some(&r.moving),
        faults: some(&r.faults),
        torque_limit: r.torque_limit.as_ref().map(|own| (register(own), own.greatest.unwrap_or(1))),
        limits: r
            .limit_low
            .as_ref()
            .zip(r.limit_high.as_ref())
            .map(|(low, high)| (register(low), register(high))),
        mode: r.mode.as_ref().and_then(|own| Some((register(own), own.is?))),
        return_delay: with(&r.return_delay, |own| own.each_us),
        answers: some(&r.answers),
        lock: some(&r.lock),
    }
}

fn smart(rig: &Rig, board: &Board) -> BoardSettings {
    let layout = board.layout.as_deref().and_then(|name| Layout::named(rig, name));
    let counts_a_degree = layout.map_or(1.0, Layout::counts_a_degree);
    let servo = |servo: &Servo| {
        // No faster than its data sheet says it can, nor than its joint may, where either says so.
        let rated = servo.rated_speed().map(|speed| speed.get() * counts_a_degree);
        let most = rated.unwrap_or(f64::MAX);
        smart::SmartServo { id: servo.plug(), model: servo.model, most }
    };
    let mut servos: Vec<smart::SmartServo> = rig.servos_on(&board.name).map(servo).collect();
    servos.sort_by_key(|servo| servo.id);
    let port = rig.port(&board.port);
    let adapter_ms = board.adapter_ms.unwrap_or(Board::USUAL_ADAPTER_MS);
    BoardSettings::Smart(Arc::new(smart::SmartSettings {
        map: layout.map(map_of).unwrap_or_default(),
        baud: port.and_then(|port| port.baud).unwrap_or(smart::USUAL_BAUD),
        adapter: Duration::try_from_secs_f64(adapter_ms / 1e3).unwrap_or_default(),
        servos,
    }))
}
