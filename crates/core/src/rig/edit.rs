//! The one list of edits: each takes a rig and gives another, or says why not. All are undone by keeping
//! the rig before.
//!
//! Commands, which act at once and are not undone, stand in `stage::command`.

pub mod boards;
pub mod joint;
pub mod links;
pub mod list;
pub mod mappings;
pub mod marks;
pub mod points;
pub mod roster;
pub mod scales;
pub mod sequences;

pub use marks::{Observation, drop_mark, keep_mark};
pub use sequences::{change_step, insert_step, keep_pose, remove_step};

use super::check::problems;
use super::{Ends, Joint, Kind, Limit, Rig, Servo};
use crate::clock::oscillator_from;
use crate::fit::TurnsBack;
use crate::scale::Scale;
use crate::unit::{Degrees, Hertz, Position};
use thiserror::Error;

/// Why an edit was refused. The rig stays as it was.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum Refused {
    /// Nothing of that name.
    #[error("there is no {what} called {name:?}")]
    Missing {
        /// What was looked for.
        what: &'static str,
        /// Its name, which other parts refer to.
        name: String,
    },
    /// The rig would not be sound.
    #[error("{message}: {help}")]
    Unsound {
        /// What would be wrong.
        message: String,
        /// What to do.
        help: String,
    },
    /// Something else is plugged in there.
    #[error("{by} is on channel {channel} of {board}: move that first, or choose a free channel")]
    ChannelTaken {
        /// What is there.
        by: String,
        /// The channel on that board, from 0; on a bus of smart servos the id.
        channel: u8,
        /// The board's name in the rig.
        board: String,
    },
    /// Its clock is not the program's to count with.
    #[error("{board} is a {chip}: it gets times, not ticks: there is no clock to correct")]
    ClockFixed {
        /// The board's name in the rig.
        board: String,
        /// What it is.
        chip: &'static str,
    },
    /// Servos would be left without a board.
    #[error("{board} still has {servos} servos: move or remove them first")]
    BoardInUse {
        /// The board's name in the rig.
        board: String,
        /// How many are on it.
        servos: usize,
    },
    /// Inputs would be left without a link.
    #[error("{}", left_on(*inputs, link))]
    LinkInUse {
        /// The link's name in the rig.
        link: String,
        /// How many stand on it.
        inputs: usize,
    },
    /// There is nothing to take away.
    #[error("there is no mark to drop")]
    NoMark,
    /// A mark contradicts another one.
    #[error("{0}")]
    Contradicts(TurnsBack),
    /// What is asked needs angles.
    #[error("{servo} has no angles yet: keep two marks first")]
    NoAngles {
        /// The servo's name in the rig.
        servo: String,
    },
    /// The servo stands at a limit before the endpoint.
    #[error("a limit at {limit_deg}° stops {joint} first: move that with ‹limit here›, then widen")]
    LimitFirst {
        /// The joint's name in the rig.
        joint: String,
        /// The limit in the way.
        limit_deg: f64,
    },
}

/// What an edit gives.
pub type Edited = Result<Rig, Refused>;

/// Which of two ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum End {
    /// The end with the smaller number.
    Low,
    /// The end with the larger number.
    High,
}

impl End {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Low => "low",
            Self::High => "high",
        }
    }

    /// The other one.
    #[must_use]
    pub const fn other(self) -> Self {
        match self {
            Self::Low => Self::High,
            Self::High => Self::Low,
        }
    }
}

impl<T> Ends<T> {
    /// The value at an end, to be set.
    pub const fn at_mut(&mut self, end: End) -> &mut T {
        match end {
            End::Low => &mut self.low,
            End::High => &mut self.high,
        }
    }
}

pub(super) fn missing(what: &'static str, name: &str) -> Refused {
    Refused::Missing { what, name: name.to_owned() }
}

pub(super) fn changed(rig: &Rig, change: impl FnOnce(&mut Rig) -> Result<(), Refused>) -> Edited {
    let mut next = rig.clone();
    change(&mut next)?;
    next.number_parts();
    match problems(&next).into_iter().next() {
        None => Ok(next),
        Some(problem) => Err(Refused::Unsound { message: problem.message, help: problem.help }),
    }
}

pub(super) fn servo_mut<'a>(rig: &'a mut Rig, name: &str) -> Result<&'a mut Servo, Refused> {
    rig.servos.iter_mut().find(|s| s.name == name).ok_or_else(|| missing("servo", name))
}

fn joint_mut<'a>(rig: &'a mut Rig, name: &str) -> Result<&'a mut Joint, Refused> {
    rig.joints.iter_mut().find(|j| j.name == name).ok_or_else(|| missing("joint", name))
}

/// Moves an endpoint to a pulse.
pub fn set_endpoint(rig: &Rig, servo: &str, end: End, pulse: Position) -> Edited {
    changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        let mut ends = servo.ends();
        *ends.at_mut(end) = rounded(servo.kind, pulse);
        servo.set_ends(ends);
        Ok(())
    })
}

/// Moves both endpoints.
pub fn set_endpoints(rig: &Rig, servo: &str, ends: Ends<Position>) -> Edited {
    changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        let kind = servo.kind;
        servo.set_ends(Ends { low: rounded(kind, ends.low), high: rounded(kind, ends.high) });
        Ok(())
    })
}

/// Moves an endpoint outwards by a step, so that the pulse can follow it.
pub fn widen(rig: &Rig, servo: &str, end: End, step: Position) -> Edited {
    let found = rig.servo(servo).ok_or_else(|| missing("servo", servo))?;
    if let (Some(joint), Ok(fit)) = (rig.joint_of(servo), found.fit()) {
        let Ends { low, high } = found.ends();
        let scale = Scale::of(fit.curve, rig.through(found));
        let angle_end = if scale.falls(low, high) { end.other() } else { end };
        let limit = match angle_end {
            End::Low => &joint.low,
            End::High => &joint.high,
        };
        if let Some(limit) = limit {
            return Err(Refused::LimitFirst { joint: joint.name.clone(), limit_deg: limit.angle_deg.get() });
        }
    }
    let Ends { low, high } = found.ends();
    let pulse = match end {
        End::Low => low - step,
        End::High => high + step,
    };
    set_endpoint(rig, servo, end, pulse)
}

/// Sets or takes away a joint's limit.
pub fn set_limit(rig: &Rig, joint: &str, end: End, limit: Option<Limit>) -> Edited {
    changed(rig, |rig| {
        let joint = joint_mut(rig, joint)?;
        let limit = limit.map(|l| Limit { angle_deg: rounded_angle(l.angle_deg), ..l });
        match end {
            End::Low => joint.low = limit,
            End::High => joint.high = limit,
        }
        Ok(())
    })
}

/// Makes a pulse the servo's centre.
pub fn set_centre(rig: &Rig, servo: &str, pulse: Position) -> Edited {
    changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        servo.set_centre(Some(rounded(servo.kind, pulse)));
        Ok(())
    })
}

/// Makes an angle the joint's home.
pub fn set_home(rig: &Rig, joint: &str, angle: Degrees) -> Edited {
    set_home_or_none(rig, joint, Some(angle))
}

/// Makes an angle the joint's home, or leaves it without one.
pub fn set_home_or_none(rig: &Rig, joint: &str, angle: Option<Degrees>) -> Edited {
    changed(rig, |rig| {
        joint_mut(rig, joint)?.home_deg = angle.map(rounded_angle);
        Ok(())
    })
}

/// Corrects a board's clock from the frame rate that was measured at its outputs.
///
/// Marks, endpoints and centre seen with the old clock are expressed anew, and the rate is set to what it
/// really is, so that the ticks on the wire do not change.
pub fn correct_clock(rig: &Rig, board: &str, measured: Hertz) -> Edited {
    changed(rig, |rig| {
        let board = rig.boards.iter_mut().find(|b| b.name == board).ok_or_else(|| missing("board", board))?;
        if !board.chip.row().has_own_clock {
            return Err(Refused::ClockFixed { board: board.name.clone(), chip: board.chip.word() });
        }
        let old = board.oscillator_hz;
        let new = Hertz::new(libm::round(oscillator_from(measured, board.prescale()).get()));
        let factor = old / new;
        board.oscillator_hz = new;
        board.frame_hz = measured;
        // An accessory has no pulses of its own: it gets a share of the frame, whatever that lasts.
        let pulsed = |s: &&mut Servo| s.board == board.name && !s.kind.is_accessory();
        for servo in rig.servos.iter_mut().filter(pulsed) {
            let Ends { low, high } = servo.endpoints_us;
            servo.endpoints_us = Ends { low: low * factor, high: high * factor };
            servo.centre_us = servo.centre_us.map(|c| c * factor);
            if let Some(pulse) = servo.arming.as_mut().and_then(|arming| arming.pulse_us.as_mut()) {
                *pulse = *pulse * factor;
            }
            for mark in servo.marks.iter_mut().filter(|m| m.oscillator_hz.is_none_or(|hz| hz == old)) {
                mark.pulse_us = mark.pulse_us.map(|pulse| pulse * factor);
                mark.tick_us = mark.tick_us.map(|tick| tick * factor);
                mark.oscillator_hz = Some(new);
            }
        }
        Ok(())
    })
}

/// Changes one input.
pub fn change_input(rig: &Rig, input: &str, change: impl FnOnce(&mut super::Input)) -> Edited {
    changed(rig, |rig| {
        change(rig.inputs.iter_mut().find(|i| i.name == input).ok_or_else(|| missing("input", input))?);
        Ok(())
    })
}

fn left_on(inputs: usize, link: &str) -> String {
    if inputs == 1 {
        format!("1 input stands on {link}: move or remove it first")
    } else {
        format!("{inputs} inputs stand on {link}: move or remove them first")
    }
}

/// Pulses are kept to a hundredth of a microsecond, well under the finest tick; counts are whole.
fn rounded(kind: Kind, at: Position) -> Position {
    let parts = if kind.is_smart() { 1.0 } else { 100.0 };
    Position::new(libm::round(at.get() * parts) / parts)
}

/// Angles are kept to a hundredth of a degree.
fn rounded_angle(angle: Degrees) -> Degrees {
    Degrees::new(libm::round(angle.get() * 100.0) / 100.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::small as rig;
    use crate::unit::Ticks;

    #[test]
    fn what_would_make_the_rig_unsound_is_refused() {
        let beyond = set_endpoint(&rig(), "heron.neck", End::Low, Position::new(250.0)).unwrap_err();
        assert!(beyond.to_string().starts_with("pulse is 250 µs, outside 300 to 2900 µs"), "{beyond}");
        assert!(set_endpoint(&rig(), "heron.neck", End::Low, Position::new(2200.0)).is_err());
        let limit = Limit { angle_deg: Degrees::new(10.0), reason: String::new() };
        let tight = set_limit(&rig(), "heron.neck", End::High, Some(limit)).unwrap_err();
        assert!(tight.to_string().contains("look") || tight.to_string().contains("beyond"), "{tight}");
    }

    #[test]
    fn widening_is_refused_where_a_limit_stops_first() {
        let refused = widen(&rig(), "heron.neck", End::Low, Position::new(10.0)).unwrap_err();
        assert_eq!(
            refused.to_string(),
            "a limit at -45° stops heron.neck first: move that with ‹limit here›, then widen"
        );
        let wider = widen(&rig(), "heron.beak", End::High, Position::new(10.0)).unwrap();
        assert_eq!(wider.servos[1].ends(), Ends { low: Position::new(1000.0), high: Position::new(2010.0) });
    }

    #[test]
    fn a_clock_correction_keeps_ticks_and_angles() {
        let before = rig();
        let after = correct_clock(&before, "upper", Hertz::new(52.230)).unwrap();
        assert!((after.boards[0].oscillator_hz.get() - 26.1e6).abs() < 1e3);
        assert_eq!(after.boards[0].prescale(), 121);
        let (old, new) = (before.servos[0].fit().unwrap().curve, after.servos[0].fit().unwrap().curve);
        for ticks in (200..500).map(Ticks) {
            let was = old.angle_at(before.boards[0].clock().unwrap().pulse(ticks));
            let is = new.angle_at(after.boards[0].clock().unwrap().pulse(ticks));
            assert!((was - is).abs().get() < 1e-6);
        }
    }

    proptest::proptest! {
        #[test]
        fn a_clock_correction_leaves_every_tick_on_the_wire(measured in 47.0..54.0f64) {
            let before = rig();
            let after = correct_clock(&before, "upper", Hertz::new(measured)).unwrap();
            let ticks = |rig: &Rig, pulse: Position| {
                let clock = rig.boards[0].clock().unwrap();
                clock.quantise(pulse, Position::new(300.0), Position::new(2900.0)).unwrap()
            };
            for (was, is) in before.servos.iter().zip(&after.servos) {
                let pulses = |s: &Servo| {
                    let marks = s.marks.iter().map(crate::rig::Mark::place);
                    marks.chain([s.ends().low, s.ends().high]).collect::<Vec<_>>()
                };
                for (was, is) in pulses(was).into_iter().zip(pulses(is)) {
                    proptest::prop_assert_eq!(ticks(&before, was), ticks(&after, is));
                }
            }
        }
    }

    #[test]
    fn steps_come_and_go_and_a_new_sequence_is_made() {
        let more = insert_step(&rig(), "wake", 1, "look").unwrap();
        assert_eq!(more.sequences[0].steps[1].pose.as_deref(), Some("look"));
        let fewer = remove_step(&more, "wake", 1).unwrap();
        assert_eq!(fewer, rig());
        assert!(remove_step(&fewer, "wake", 9).is_err());
        assert_eq!(insert_step(&rig(), "strike", 0, "look").unwrap().sequences[1].name, "strike");
    }
}
