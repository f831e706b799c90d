//! Edits of what a servo turns: gear, linkage, more servos on one joint, steered pairs, sense and mounting.

use super::{Edited, Refused, changed, joint_mut, missing, rounded_angle, servo_mut};
use crate::fit::Ground;
use crate::linkage::{Branch, FourBar, Gear, Steering};
use crate::rig::{Ailing, Back, Ends, Joint, Limit, ReadAt, Rig, Servo};
use crate::unit::{Degrees, Hertz, Position};

/// About what a servo is reversed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum About {
    /// Its centre stays: p becomes 2c − p.
    Centre,
    /// Its endpoints change places: p becomes low + high − p.
    Ends,
    /// Its one mark keeps its place and its angle: which way it turns was taken from a data sheet, and is wrong.
    Mark,
}

impl About {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Centre, Self::Ends, Self::Mark];

    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Centre => "centre",
            Self::Ends => "ends",
            Self::Mark => "mark",
        }
    }

    /// The pulse, or count, about which is mirrored. A mark is none unless all that is known of the slope is assumed:
    /// more than one say which way it turns.
    pub fn middle(self, servo: &Servo) -> Option<Position> {
        let Ends { low, high } = servo.ends();
        match self {
            Self::Centre => Some(servo.centre()),
            Self::Ends => Some((low + high) * 0.5),
            Self::Mark => {
                let fit = servo.fit().ok().filter(|fit| fit.ground == Ground::Assumed)?;
                fit.points.first().map(|seen| seen.pulse)
            }
        }
    }
}

/// Lets a joint's angles rise the other way, so that what a pose or an input asks goes to the mirrored pulse.
///
/// Limits and home stay where they are in the mechanism, and so have other angles; poses keep their angles.
pub fn reverse(rig: &Rig, servo: &str, about: About) -> Edited {
    let found = rig.servo(servo).ok_or_else(|| missing("servo", servo))?;
    let pivot = about.middle(found).ok_or_else(|| Refused::Unsound {
        message: format!("reversing about a mark needs exactly one mark, and {servo} has another number"),
        help: "reverse it about its centre or its ends".to_owned(),
    })?;
    let curve = found.fit().ok().map(|fit| fit.curve);
    let twice = curve.as_ref().map_or(Degrees::ZERO, |curve| curve.angle_at(pivot) * 2.0);
    let at_joint = rig.through(found).joint_at(twice * 0.5) * 2.0;
    let joint = rig.joint_of(servo).map(|j| j.name.clone());
    changed(rig, |rig| {
        let part = servo_mut(rig, servo)?;
        if let Some(bars) = &mut part.linkage {
            bars.reversed = !bars.reversed;
            bars.offset_deg = at_joint - bars.offset_deg;
        } else if let Some(gear) = &mut part.gear {
            *gear = Gear { ratio: -gear.ratio, offset_deg: at_joint - gear.offset_deg };
        } else {
            if let Some(rated) = &mut part.rated {
                rated.reversed = !rated.reversed;
            }
            for mark in &mut part.marks {
                mark.angle_deg = mark.angle_deg.map(|angle| rounded_angle(twice - angle));
            }
        }
        if part.linkage.is_some() || part.gear.is_some() {
            for mark in part.marks.iter_mut().filter(|m| m.at == ReadAt::Joint) {
                mark.angle_deg = mark.angle_deg.map(|angle| rounded_angle(at_joint - angle));
            }
        }
        if let Some(joint) = joint.as_ref().and_then(|name| rig.joints.iter_mut().find(|j| &j.name == name)) {
            mirror(joint, at_joint);
        }
        Ok(())
    })
}

fn mirror(joint: &mut Joint, twice: Degrees) {
    let turned = |limit: Option<Limit>| {
        limit.map(|limit| Limit { angle_deg: rounded_angle(twice - limit.angle_deg), ..limit })
    };
    let (low, high) = (turned(joint.high.take()), turned(joint.low.take()));
    (joint.low, joint.high) = (low, high);
    joint.home_deg = joint.home_deg.map(|home| rounded_angle(twice - home));
}

/// Puts a gear or a belt between a servo and its joint, or takes away what is there.
pub fn set_gear(rig: &Rig, servo: &str, gear: Option<Gear>) -> Edited {
    changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        (servo.gear, servo.linkage) = (gear, None);
        Ok(())
    })
}

/// Puts a linkage between a servo and its joint.
pub fn set_linkage(rig: &Rig, servo: &str, bars: FourBar) -> Edited {
    changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        (servo.gear, servo.linkage) = (None, Some(bars));
        Ok(())
    })
}

/// The branch of a linkage whose arm lies nearer to where it is seen with the servo at 0°, counted as the horn is.
pub fn branch_by(bars: FourBar, arm_at: Degrees) -> Branch {
    let off = |branch: Branch| {
        let arm = FourBar { branch, ..bars }.arm_at(bars.horn_at_deg).ok()?;
        let off = libm::fabs(libm::remainder((arm - arm_at).get(), 360.0));
        Some((off, branch))
    };
    let nearer = [Branch::SameSide, Branch::Crossed].into_iter().filter_map(off);
    nearer.min_by(|a, b| a.0.total_cmp(&b.0)).map_or_else(Branch::default, |(_, branch)| branch)
}

/// Lets another servo turn a joint together with those that do. The joint that it had of its own goes, with what poses
/// and mappings say of that.
pub fn couple(rig: &Rig, joint: &str, servo: &str) -> Edited {
    let own = rig.joint_of(servo).ok_or_else(|| missing("servo", servo))?;
    if own.name == joint {
        return Err(Refused::Unsound {
            message: format!("{servo} turns {joint} already"),
            help: "name another servo".to_owned(),
        });
    }
    let (own, alone) = (own.name.clone(), own.others.is_empty());
    changed(rig, |rig| {
        rig.joints.iter_mut().for_each(|j| j.others.retain(|other| other != servo));
        if alone {
            rig.joints.retain(|j| j.name != own);
            super::roster::speak_no_more(rig, &own);
        }
        joint_mut(rig, joint)?.others.push(servo.to_owned());
        Ok(())
    })
}

/// A servo turns a joint of its own again.
pub fn uncouple(rig: &Rig, servo: &str) -> Edited {
    changed(rig, |rig| {
        let joint = rig.joints.iter_mut().find(|j| j.others.iter().any(|other| other == servo));
        let joint = joint.ok_or_else(|| missing("coupled servo", servo))?;
        joint.others.retain(|other| other != servo);
        joint.steering = None;
        rig.joints.push(super::roster::bare_joint(servo));
        Ok(())
    })
}

/// A joint's two servos steer a pair of wheels, or no more.
pub fn set_steering(rig: &Rig, joint: &str, steering: Option<Steering>) -> Edited {
    changed(rig, |rig| {
        joint_mut(rig, joint)?.steering = steering;
        Ok(())
    })
}

/// How a maker sees a joint: where its 0° points, clockwise from straight up, and the way in which its angles rise.
pub fn set_mounting(rig: &Rig, joint: &str, mounted: Degrees, anticlockwise: bool) -> Edited {
    changed(rig, |rig| {
        let joint = joint_mut(rig, joint)?;
        (joint.mounted_deg, joint.anticlockwise) = (mounted, anticlockwise);
        Ok(())
    })
}

/// Whether a weight pulls on a joint.
pub fn set_loaded(rig: &Rig, joint: &str, loaded: bool) -> Edited {
    changed(rig, |rig| {
        joint_mut(rig, joint)?.loaded = loaded;
        Ok(())
    })
}

/// What happens to a joint when its board is back and its pulses had stopped; none for what is usual.
pub fn set_back(rig: &Rig, joint: &str, back: Option<Back>) -> Edited {
    changed(rig, |rig| {
        joint_mut(rig, joint)?.back = back;
        Ok(())
    })
}

/// What happens to a joint while its smart servo ails.
///
/// # Errors
/// When there is no such joint.
pub fn set_ailing(rig: &Rig, joint: &str, ailing: Ailing) -> Edited {
    changed(rig, |rig| {
        joint_mut(rig, joint)?.ailing = ailing;
        Ok(())
    })
}

/// Frames a second of a board. Pulses stay what they are, and so do the angles; ticks are counted anew.
pub fn set_frame_rate(rig: &Rig, board: &str, rate: Hertz) -> Edited {
    changed(rig, |rig| {
        let board = rig.boards.iter_mut().find(|b| b.name == board).ok_or_else(|| missing("board", board))?;
        board.frame_hz = rate;
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::small as rig;
    use crate::unit::Millimetres;

    fn without_poses() -> Rig {
        let mut rig = Rig { poses: Vec::new(), sequences: Vec::new(), ..rig() };
        rig.servos[0].centre_us = Some(crate::unit::Micros::new(1450.0));
        rig
    }

    #[test]
    fn reversing_about_the_centre_and_about_the_ends_are_different() {
        for about in [About::Centre, About::Ends] {
            let before = without_poses();
            let servo = &before.servos[0];
            let after = reverse(&before, "heron.neck", about).unwrap();
            let (was, is) = (servo.fit().unwrap().curve, after.servos[0].fit().unwrap().curve);
            let angle = Degrees::new(20.0);
            let mirrored = about.middle(servo).unwrap() * 2.0 - was.pulse_at(angle);
            assert!((is.pulse_at(angle) - mirrored).abs().get() < 0.2, "{about:?}");
            let pulse = was.pulse_at(before.joints[0].low.as_ref().unwrap().angle_deg);
            let high = after.joints[0].high.as_ref().unwrap();
            assert!((is.pulse_at(high.angle_deg) - pulse).abs().get() < 0.2, "a limit stays where it is");
        }
        assert!(
            reverse(&without_poses(), "heron.neck", About::Mark).is_err(),
            "its marks say which way it turns"
        );
        let servo = &without_poses().servos[0];
        assert_ne!(About::Centre.middle(servo), About::Ends.middle(servo));
    }

    #[test]
    fn a_branch_is_chosen_by_where_the_arm_is_seen() {
        let mm = Millimetres::new;
        let bars = FourBar {
            horn_mm: mm(16.0),
            rod_mm: mm(50.0),
            arm_mm: mm(22.0),
            pivots_mm: mm(52.0),
            horn_at_deg: Degrees::new(90.0),
            branch: Branch::default(),
            offset_deg: Degrees::ZERO,
            reversed: false,
        };
        assert_eq!(branch_by(bars, Degrees::new(92.0)), Branch::SameSide);
        assert_eq!(branch_by(bars, Degrees::new(-120.0)), Branch::Crossed);
        let long = FourBar { rod_mm: mm(200.0), ..bars };
        let refused = set_linkage(&rig(), "heron.neck", long).unwrap_err().to_string();
        assert!(refused.starts_with("the linkage cannot close with the horn at 90°"), "{refused}");
    }

    #[test]
    fn a_servo_is_coupled_to_a_joint_and_freed_again() {
        let rig = without_poses();
        let together =
            couple(&Rig { mappings: Vec::new(), ..rig.clone() }, "heron.neck", "heron.beak").unwrap();
        assert_eq!(together.joint_of("heron.beak").unwrap().name, "heron.neck");
        assert!(together.joint("heron.beak").is_none());
        assert!(couple(&together, "heron.neck", "heron.beak").is_err());
        let apart = uncouple(&together, "heron.beak").unwrap();
        assert_eq!(apart.joint_of("heron.beak").unwrap().name, "heron.beak");
        assert!(
            set_steering(
                &apart,
                "heron.neck",
                Some(Steering { track_mm: Millimetres::new(1.0), wheelbase_mm: Millimetres::new(1.0) })
            )
            .is_err(),
            "a pair has two"
        );
    }
}
