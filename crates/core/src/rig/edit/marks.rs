//! Edits of what was seen of a servo, and of what is made of it.

use super::{Edited, Refused, changed, rounded, rounded_angle, servo_mut};
use crate::fit::{NoFit, Shape, Side, TurnsBack};
use crate::linkage::Transmission;
use crate::rig::{Board, Exercised, Mark, MarkKind, ReadAt, Rig, Servo};
use crate::unit::{Degrees, Position, Rpm, Ticks};

/// What was seen at a pulse, with how it was sent.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Observation {
    /// The pulse on the wire.
    pub pulse: Position,
    /// The ticks it was.
    pub ticks: Ticks,
    /// How it was seen.
    pub seen: MarkKind,
    /// From which side the pulse came.
    pub from: Side,
    /// The angle, for an aligned mark.
    pub angle: Option<Degrees>,
    /// Whose angle that is.
    pub at: ReadAt,
    /// The rate, for one that turns.
    pub rate: Option<Rpm>,
}

impl Observation {
    fn mark(&self, rig: &Rig, servo: &Servo) -> Mark {
        let board = rig.board(&servo.board);
        // Counts are what they are: no clock stands behind them.
        let clock = board.filter(|_| !servo.kind.is_smart()).and_then(Board::clock);
        Mark {
            angle_deg: self.angle,
            at: self.at,
            rpm: self.rate,
            seen: self.seen,
            from: self.from,
            ticks: clock.map(|_| self.ticks),
            oscillator_hz: board.filter(|_| clock.is_some()).map(|b| b.oscillator_hz),
            tick_us: clock.map(|clock| clock.tick()),
            ..Mark::at(servo.kind, rounded(servo.kind, self.pulse))
        }
    }
}

/// Keeps a mark. One at the same pulse, seen the same way from the same side, is replaced.
///
/// Refused when it contradicts another one: then drop that, take this one again, or say that the horn was moved.
pub fn keep_mark(rig: &Rig, servo: &str, what: Observation) -> Edited {
    let before = rig.servo(servo).and_then(contradiction);
    let next = kept(rig, servo, what)?;
    match next.servo(servo).and_then(contradiction) {
        Some(back) if before.is_none() => Err(Refused::Contradicts(back)),
        _ => Ok(next),
    }
}

fn kept(rig: &Rig, servo: &str, what: Observation) -> Edited {
    let mark = rig.servo(servo).map(|servo| what.mark(rig, servo));
    changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        let Some(mark) = mark else { return Ok(()) };
        let same = |m: &Mark| {
            (m.ticks, m.seen, m.from, m.at) == (mark.ticks, mark.seen, mark.from, mark.at)
                && m.oscillator_hz == mark.oscillator_hz
        };
        match servo.marks.iter_mut().find(|m| same(m)) {
            Some(old) => *old = mark,
            None => servo.marks.push(mark),
        }
        in_order(&mut servo.marks);
        Ok(())
    })
}

/// Keeps where it buzzes or stops following. Each end has one such mark of a kind: it is where that begins.
///
/// # Errors
/// As [`keep_mark`].
pub fn keep_end(rig: &Rig, servo: &str, what: Observation) -> Edited {
    let centre = rig.servo(servo).map(Servo::centre).ok_or_else(|| super::missing("servo", servo))?;
    let there = |pulse: Position| pulse < centre;
    let rest = changed(rig, |rig| {
        let side = there(what.pulse);
        servo_mut(rig, servo)?.marks.retain(|m| m.seen != what.seen || there(m.place()) != side);
        Ok(())
    })?;
    keep_mark(&rest, servo, what)
}

/// Takes a mark again: what is seen now stands in the place of what was. Read the same, within what a reading may be
/// off, it counts as read once more.
///
/// # Errors
/// As [`keep_mark`], or when there is no such mark.
pub fn retake_mark(rig: &Rig, servo: &str, place: usize, what: Observation) -> Edited {
    let before = rig.servo(servo).and_then(|s| s.marks.get(place)).cloned();
    let next = kept(&drop_mark_at(rig, servo, place)?, servo, what)?;
    let same = |old: &Mark| {
        let error = old.error_deg.unwrap_or(Mark::USUAL_ERROR);
        old.at == what.at && old.angle_deg.zip(what.angle).is_some_and(|(a, b)| (a - b).abs() <= error)
    };
    let Some(old) = before.filter(same) else { return Ok(next) };
    changed(&next, |rig| {
        let near = |m: &&mut Mark| (m.place() - what.pulse).abs() < Position::new(0.1) && m.seen == what.seen;
        if let Some(mark) = servo_mut(rig, servo)?.marks.iter_mut().find(near) {
            mark.read = old.read.saturating_add(1).min(250);
        }
        Ok(())
    })
}

fn in_order(marks: &mut [Mark]) {
    marks.sort_by(|a, b| a.place().get().total_cmp(&b.place().get()));
}

/// Two marks of a servo that cannot both be.
pub fn contradiction(servo: &Servo) -> Option<TurnsBack> {
    match servo.fit() {
        Err(NoFit::TurnsBack(back)) => Some(back),
        _ => None,
    }
}

/// Drops the mark nearest to a pulse.
pub fn drop_mark(rig: &Rig, servo: &str, near: Position) -> Edited {
    let marks = rig.servo(servo).map_or(&[][..], |servo| &servo.marks);
    let far = |m: &Mark| (m.place() - near).abs().get();
    let nearest = (0..marks.len()).min_by(|&a, &b| far(&marks[a]).total_cmp(&far(&marks[b])));
    drop_mark_at(rig, servo, nearest.ok_or(Refused::NoMark)?)
}

/// Drops a mark by its place in the list.
pub fn drop_mark_at(rig: &Rig, servo: &str, place: usize) -> Edited {
    changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        if place >= servo.marks.len() {
            return Err(Refused::NoMark);
        }
        servo.marks.remove(place);
        Ok(())
    })
}

/// Changes one mark by its place in the list.
///
/// Refused as [`keep_mark`] is.
pub fn change_mark(rig: &Rig, servo: &str, place: usize, change: impl FnOnce(&mut Mark)) -> Edited {
    let before = rig.servo(servo).and_then(contradiction);
    let next = changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        change(servo.marks.get_mut(place).ok_or(Refused::NoMark)?);
        in_order(&mut servo.marks);
        Ok(())
    })?;
    match next.servo(servo).and_then(contradiction) {
        Some(back) if before.is_none() => Err(Refused::Contradicts(back)),
        _ => Ok(next),
    }
}

/// Puts marks beside those that a servo has; one of the same pulse, seen the same way, is replaced.
pub fn add_marks(rig: &Rig, servo: &str, marks: &[Mark]) -> Edited {
    changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        for mark in marks {
            let same = |m: &Mark| {
                (m.place() - mark.place()).abs().get() < 0.005
                    && (m.seen, m.from, m.at) == (mark.seen, mark.from, mark.at)
            };
            servo.marks.retain(|m| !same(m));
            servo.marks.push(mark.clone());
        }
        in_order(&mut servo.marks);
        match contradiction(servo) {
            Some(back) => Err(Refused::Contradicts(back)),
            None => Ok(()),
        }
    })
}

/// How far a horn was moved on its spline, from an angle that is seen now and what the marks say of that pulse: whole
/// teeth where their number is known.
///
/// # Errors
/// When the marks say nothing yet.
pub fn moved_by(servo: &Servo, pulse: Position, seen: Degrees) -> Result<Degrees, Refused> {
    let fit = servo.fit().map_err(|_| Refused::NoAngles { servo: servo.name.clone() })?;
    let by = seen - fit.curve.angle_at(pulse);
    Ok(servo.teeth.map_or(by, |teeth| {
        let tooth = 360.0 / f64::from(teeth);
        Degrees::new(libm::round(by.get() / tooth) * tooth)
    }))
}

/// The horn sits elsewhere on its spline: every angle that was read shifts by the same.
pub fn move_horn(rig: &Rig, servo: &str, by: Degrees) -> Edited {
    changed(rig, |rig| {
        shift(servo_mut(rig, servo)?, by);
        Ok(())
    })
}

fn shift(servo: &mut Servo, by: Degrees) {
    let through = servo.through();
    for mark in &mut servo.marks {
        let at = mark.at;
        mark.angle_deg = mark.angle_deg.map(|angle| rounded_angle(shifted(&through, at, angle, by)));
    }
}

fn shifted(through: &Transmission, at: ReadAt, angle: Degrees, by: Degrees) -> Degrees {
    match at {
        ReadAt::Servo => angle + by,
        ReadAt::Joint => through.joint_at(through.servo_at(angle) + by),
    }
}

/// Keeps a mark that the earlier ones contradict because the horn was moved since: they are shifted to agree with it.
pub fn keep_after_move(rig: &Rig, servo: &str, what: Observation) -> Edited {
    let found = rig.servo(servo).ok_or_else(|| super::missing("servo", servo))?;
    let seen = what.mark(rig, found).aligned(&found.through()).ok_or(Refused::NoMark)?;
    let by = moved_by(found, seen.pulse, seen.angle)?;
    kept(&move_horn(rig, servo, by)?, servo, what)
}

/// What the marks are joined by.
pub fn set_shape(rig: &Rig, servo: &str, shape: Shape) -> Edited {
    changed(rig, |rig| {
        servo_mut(rig, servo)?.fit = shape;
        Ok(())
    })
}

/// From which side it is to arrive.
pub fn set_arrival(rig: &Rig, servo: &str, side: Side) -> Edited {
    changed(rig, |rig| {
        servo_mut(rig, servo)?.arrive = side;
        Ok(())
    })
}

/// How many teeth its spline has, so that a moved horn is known to have moved by whole ones.
pub fn set_teeth(rig: &Rig, servo: &str, teeth: Option<u8>) -> Edited {
    changed(rig, |rig| {
        servo_mut(rig, servo)?.teeth = teeth;
        Ok(())
    })
}

/// Shifts everything that is known of a continuous servo's pulses: it stands still elsewhere, for it got warm.
pub fn shift_stop(rig: &Rig, servo: &str, by: Position) -> Edited {
    changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        let centre = servo.centre();
        if servo.band().is_none() {
            servo.set_centre(Some(rounded(servo.kind, centre + by)));
        }
        let kind = servo.kind;
        for mark in &mut servo.marks {
            *mark = mark.clone().moved(kind, rounded(kind, mark.place() + by));
            // It was never seen with those ticks.
            mark.ticks = None;
        }
        Ok(())
    })
}

/// Keeps where a continuous servo starts to turn, in the place of the marks from that side: it does so elsewhere now.
pub fn replace_edge(rig: &Rig, servo: &str, what: Observation) -> Edited {
    let without = changed(rig, |rig| {
        servo_mut(rig, servo)?.marks.retain(|m| (m.seen, m.from) != (what.seen, what.from));
        Ok(())
    })?;
    kept(&without, servo, what)
}

/// Writes down how it was exercised and what was seen.
pub fn note_exercise(rig: &Rig, servo: &str, what: Exercised) -> Edited {
    changed(rig, |rig| {
        servo_mut(rig, servo)?.exercised.push(what);
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::small as rig;

    fn aligned(pulse: f64, angle: f64) -> Observation {
        Observation {
            pulse: Position::new(pulse),
            ticks: Ticks(crate::unit::count16(pulse / 4.88)),
            seen: MarkKind::Aligned,
            from: Side::Below,
            angle: Some(Degrees::new(angle)),
            at: ReadAt::Servo,
            rate: None,
        }
    }

    #[test]
    fn a_mark_is_kept_in_order_and_replaced_at_the_same_ticks_and_side() {
        let once = keep_mark(&rig(), "heron.neck", aligned(1464.0, 2.0)).unwrap();
        assert_eq!(once.servos[0].marks[1].angle_deg, Some(Degrees::new(2.0)));
        assert!((once.servos[0].marks[1].tick_us.unwrap().get() - 4.88).abs() < 1e-9);
        let twice = keep_mark(&once, "heron.neck", aligned(1464.0, 3.0)).unwrap();
        assert_eq!(twice.servos[0].marks.len(), 3);
        assert_eq!(twice.servos[0].marks[1].angle_deg, Some(Degrees::new(3.0)));
        let both = keep_mark(&twice, "heron.neck", Observation { from: Side::Above, ..aligned(1464.0, 4.0) });
        assert_eq!(both.unwrap().servos[0].marks.len(), 4, "from the other side it is another one");
        let dropped = drop_mark(&twice, "heron.neck", Position::new(1450.0)).unwrap();
        assert_eq!(dropped.servos[0].marks, rig().servos[0].marks);
    }

    #[test]
    fn a_mark_that_contradicts_is_refused_until_it_is_said_that_the_horn_was_moved() {
        let rig = keep_mark(&rig(), "heron.neck", aligned(1500.0, 1.0)).unwrap();
        let far = aligned(1700.0, -30.0);
        let refused = keep_mark(&rig, "heron.neck", far).unwrap_err();
        assert!(matches!(refused, Refused::Contradicts(_)), "{refused}");
        let moved = keep_after_move(&rig, "heron.neck", far).unwrap();
        let by = moved.servos[0].marks[0].angle_deg.unwrap() - rig.servos[0].marks[0].angle_deg.unwrap();
        assert!(by.get() < -40.0);
        let fit = moved.servos[0].fit().unwrap();
        assert!((fit.curve.angle_at(Position::new(1700.0)).get() + 30.0).abs() < 0.1);
    }

    #[test]
    fn a_horn_moves_by_whole_teeth_where_they_are_known() {
        let rig = set_teeth(&rig(), "heron.neck", Some(24)).unwrap();
        let servo = &rig.servos[0];
        let at = servo.fit().unwrap().curve.angle_at(Position::new(1500.0));
        assert_eq!(
            moved_by(servo, Position::new(1500.0), at + Degrees::new(14.2)).unwrap(),
            Degrees::new(15.0)
        );
        let untoothed = Servo { teeth: None, ..servo.clone() };
        let by = moved_by(&untoothed, Position::new(1500.0), at + Degrees::new(14.2)).unwrap();
        assert!((by.get() - 14.2).abs() < 1e-9);
    }
}
