//! The links of the board itself, by its kind.

use super::{Facts, Finding, Judge, RECENT, failed, proven};
use crate::snapshot::able;
use crate::wiring::role;
use wasvolta_port::Fault;
use wasvolta_port::board::{Evidence, Found, Lapse, Stand};
use wasvolta_port::expander::Seen;
use wasvolta_port::firmata::{Firmware, Role};
use wasvolta_wire::expander::mode2;

/// How often a board is asked before it is said that no answer came in time.
pub const ASKED: usize = 3;

/// An expander: is it there, is it one, does it run as it was told?
pub(crate) const EXPANDER: [(&str, Judge); 5] = [
    ("address", address),
    ("chip", chip),
    ("awake", awake),
    ("frame rate", frame_rate),
    ("registers", registers),
];

/// A microcontroller: does it speak, what, and can that pin drive a servo?
pub(crate) const FIRMATA: [(&str, Judge); 3] = [("answer", answer), ("firmware", firmware), ("pin", pin)];

/// A chip of the kernel: has it that channel?
pub(crate) const PWM: [(&str, Judge); 2] = [("chip", kernel_chip), ("channel", kernel_channel)];

/// A bus of smart servos: does this one answer, is it the one, may it be driven?
pub(crate) const SMART: [(&str, Judge); 3] =
    [("answer", smart_answer), ("model", smart_model), ("set up", smart_set_up)];

/// Nothing of a bus is known beside a run: opening its line would take it from who has it.
fn not_asked() -> Finding {
    Finding::Unknown("it was not asked".to_owned(), "open the rig, and look at ‹Wiring›".to_owned())
}

fn smart_answer(facts: &Facts) -> Finding {
    if let Some(fault) = facts.trouble {
        return failed("the line to it is gone", fault.help());
    }
    let Some(feedback) = facts.feedback else { return not_asked() };
    let id = facts.servo.plug();
    match feedback.stand {
        Stand::Unasked => failed(format!("id {id} was not asked yet"), "wait a moment"),
        Stand::Silent if feedback.garbled => failed(
            format!("what comes from id {id} is garbled"),
            "two servos may have this id, or there is noise: unplug one of them, look at ground and supply",
        ),
        Stand::Silent => failed(
            format!("id {id} does not answer"),
            "check its plug, its supply, its id and its rate: ‹scan ids› in Wiring finds all of them",
        ),
        _ => proven(format!("id {id} answers")),
    }
}

fn smart_model(facts: &Facts) -> Finding {
    let Some(feedback) = facts.feedback else { return not_asked() };
    match feedback.stand {
        Stand::OtherModel(model) => failed(
            format!(
                "it says that it is model {model}, which is not the one in the rig: nothing is written to it"
            ),
            "plug in the right one; or ‹keep model› accepts this one, if the layout fits it",
        ),
        Stand::UnknownModel(model) => failed(
            format!("it says that it is model {model}; the rig does not say which it should be"),
            "‹engage› keeps that number, if the layout matches its data sheet",
        ),
        _ => proven(format!("model {}", feedback.model)),
    }
}

fn smart_set_up(facts: &Facts) -> Finding {
    let Some(feedback) = facts.feedback else { return not_asked() };
    match feedback.stand {
        Stand::OtherMode(mode) => failed(
            format!("its mode is {mode}: it does not follow positions"),
            "set it to follow positions, with its maker's tool",
        ),
        Stand::Weak => failed(
            "its torque limit is 0, as after an overload",
            "see what stops it; then ‹restart servo› lets it push again",
        ),
        Stand::Curt => failed(
            "it is set to answer less than everything",
            "set it to answer everything, with its maker's tool",
        ),
        _ => proven("follows positions, answers all"),
    }
}

fn seen<'a>(facts: &Facts<'a>) -> Option<&'a Seen> {
    facts.evidence?.registers()
}

fn address(facts: &Facts) -> Finding {
    let at = facts.board.at();
    match facts.trouble {
        Some(fault @ Fault::Transfer) => failed(format!("transfers {at} fail on the way"), fault.help()),
        Some(fault @ Fault::TimedOut) if facts.run.is_none() => {
            failed(format!("no answer came from {at} in time, asked {ASKED} times"), fault.help())
        }
        Some(fault @ (Fault::TimedOut | Fault::Silent)) => {
            failed(format!("no answer comes from {at} in time"), fault.help())
        }
        Some(fault) => failed(format!("nothing answers {at}"), fault.help()),
        None if facts.evidence.is_none() => failed(
            format!("nothing has been heard {at} yet"),
            "wait a moment; when it stays so, scan the bus",
        ),
        None => proven(format!("it answers {at}")),
    }
}

fn chip(facts: &Facts) -> Finding {
    let unfamiliar = seen(facts).is_some_and(|seen| !seen.is_familiar());
    match facts.asks {
        Some(Found::Pulsing { .. }) => failed(
            "it was found sending pulses already, and you have not said what to do with them",
            "‹found pulses› asks: keep them, or release them",
        ),
        _ if unfamiliar => failed(
            format!("what answers {} is not a PWM expander as it left the factory", facts.board.at()),
            "check the address jumpers: another device may sit there",
        ),
        _ => proven("a PWM expander"),
    }
}

/// The words of a lapse, if one of a kind was seen lately.
fn lately(facts: &Facts, is_it: impl Fn(Lapse) -> bool) -> Option<String> {
    let (ago, lapse) = facts.lapse.filter(|(ago, lapse)| *ago <= RECENT && is_it(*lapse))?;
    Some(format!("{:.0} s ago it {}", ago.as_secs_f64(), lapse.words()))
}

fn awake(facts: &Facts) -> Finding {
    let told_by_nobody = facts.run.is_none();
    if let Some(words) = lately(facts, |lapse| lapse == Lapse::Asleep) {
        return failed(words, "find the other program that drives this bus, and close it");
    }
    if let Some(words) = lately(facts, |lapse| lapse == Lapse::Reset) {
        return failed(
            words,
            "give the board a supply of its own, not shared with the servos; check its plug",
        );
    }
    match seen(facts) {
        Some(seen) if seen.is_awake() => proven("its oscillator runs"),
        _ if told_by_nobody => failed(
            "it sleeps, as after power-on: no program has started it",
            "open the rig, and engage the servo",
        ),
        _ => failed(
            "it sleeps",
            "it is started again by itself; when it stays so, something else puts it to sleep",
        ),
    }
}

fn frame_rate(facts: &Facts) -> Finding {
    if let Some(words) = lately(facts, |lapse| lapse == Lapse::OtherRate) {
        return failed(words, "find the other program that drives this bus, and close it");
    }
    let wanted = facts.board.prescale();
    match seen(facts) {
        Some(seen) if seen.prescale != wanted => failed(
            format!(
                "its divider is {}, for {:.0} Hz it must be {wanted}",
                seen.prescale,
                facts.board.frame_hz.get()
            ),
            "open the rig: it is set at the start; or another program has set it",
        ),
        _ => proven(format!("{:.2} Hz", facts.board.clock().map_or(0.0, |clock| clock.rate().get()))),
    }
}

fn registers(facts: &Facts) -> Finding {
    let foreign = |lapse| matches!(lapse, Lapse::Overwritten | Lapse::OtherOutputs);
    if let Some(words) = lately(facts, foreign) {
        return failed(words, "find the other program that drives this bus, and close it");
    }
    let inverted = seen(facts).is_some_and(|seen| seen.modes[1] & mode2::INVRT != 0);
    if inverted {
        return failed("its outputs are inverted", "open the rig: they are set at the start");
    }
    proven("they hold what was sent")
}

fn said(facts: &Facts) -> Option<Firmware> {
    match facts.evidence? {
        Evidence::Firmata(firmware) => Some(*firmware),
        _ => None,
    }
}

fn answer(facts: &Facts) -> Finding {
    match facts.trouble {
        Some(Fault::Foreign) => proven("it speaks"),
        Some(fault) => failed("it says nothing on its line", fault.help()),
        None => match lately(facts, |lapse| lapse == Lapse::Reset) {
            Some(words) => failed(words, "give the board a supply of its own, not shared with the servos"),
            None if facts.run.is_none() => Finding::Unknown(
                "it was not asked: opening its line resets many boards".to_owned(),
                "open the rig, and look at ‹Wiring›; or ask it on purpose with `wasvolta scan --ask`"
                    .to_owned(),
            ),
            None if said(facts).is_none() => failed(
                "it has not said yet who it is",
                "opening the line may have reset it: wait three seconds",
            ),
            None => proven("it answers"),
        },
    }
}

fn firmware(facts: &Facts) -> Finding {
    match (facts.trouble, said(facts)) {
        (Some(fault @ Fault::Foreign), _) => failed("it does not speak Firmata 2", fault.help()),
        (_, Some(Firmware { version: (major, minor), pins, .. })) => {
            proven(format!("Firmata {major}.{minor}, {pins} pins"))
        }
        _ => proven("Firmata"),
    }
}

fn pin(facts: &Facts) -> Finding {
    let pin = facts.servo.plug();
    let role = role(facts.servo.kind);
    if said(facts).is_some_and(|firmware| firmware.can(role, usize::from(pin))) {
        let fineness = if role == Role::Servo { "; its step is 1 µs" } else { "" };
        return proven(format!("pin {pin} can {}{fineness}", role.words()));
    }
    let can = facts.evidence.and_then(|evidence| able(evidence, role));
    let can = can.map_or_else(String::new, |pins| format!("; pins {pins} can"));
    failed(
        format!("pin {pin} of this board cannot {}{can}", role.words()),
        "plug it on another pin, and move it there with ‹move servo›",
    )
}

fn kernel_chip(facts: &Facts) -> Finding {
    match facts.trouble {
        Some(fault) => failed(format!("the kernel refuses: {fault}"), fault.help()),
        None => match facts.evidence {
            Some(Evidence::Pwm(chip)) => {
                proven(format!("{} channels; what it really does cannot be read", chip.channels))
            }
            _ => failed("the kernel has not said yet what it can", "wait a moment"),
        },
    }
}

fn kernel_channel(facts: &Facts) -> Finding {
    let channel = facts.servo.plug();
    match facts.evidence {
        Some(Evidence::Pwm(chip)) if usize::from(channel) < chip.channels => {
            proven(format!("channel {channel}"))
        }
        _ => failed(
            format!("the chip has no channel {channel}"),
            "plug it elsewhere, and move it there with ‹move servo›",
        ),
    }
}
