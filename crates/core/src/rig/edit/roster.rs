//! Edits of who is there: servos, and what else hangs on channels, come, go, change their name, their kind or their
//! plug, and what refers to them follows. Boards stand in [`super::boards`].

use super::{Edited, Refused, changed, missing, servo_mut};
use crate::fit::{Shape, Side};
use crate::preset::Preset;
use crate::rig::{Arming, Ends, Idle, Joint, Kind, Layout, Rated, Rig, Servo, ServoId};
use crate::unit::{Counts, Position, Seconds, Volts};
use std::collections::BTreeMap;

/// Puts a servo on a channel, with a joint of the same name for it to turn; what has a level needs none.
pub fn add_servo(rig: &Rig, name: &str, (board, channel): (&str, u8), kind: Kind) -> Edited {
    changed(rig, |rig| {
        put_servo(rig, name, (board, channel), kind);
        Ok(())
    })
}

/// The same in a rig that is checked once all is done.
pub(super) fn put_servo(rig: &mut Rig, name: &str, (board, channel): (&str, u8), kind: Kind) {
    let smart = rig.board(board).is_some_and(|board| board.chip.row().is_smart);
    let kind = if smart { Kind::Smart } else { kind };
    let mut servo = Servo::new(name, (board, channel), kind);
    servo.endpoints_counts = cautious_counts(rig, &servo);
    servo.rated = rated_by_layout(rig, &servo);
    rig.servos.push(servo);
    if kind.has_angles() && rig.joint(name).is_none() {
        rig.joints.push(bare_joint(name));
    }
}

/// What a smart servo may do before anybody has said more; none of any other.
fn cautious_counts(rig: &Rig, servo: &Servo) -> Option<Ends<Counts>> {
    let layout = rig.board(&servo.board)?.layout.as_deref().filter(|_| servo.kind.is_smart())?;
    Some(Layout::named(rig, layout)?.cautious())
}

/// What an encoder says of its servo: how many counts a turn has. With one mark more it is calibrated.
fn rated_by_layout(rig: &Rig, servo: &Servo) -> Option<Rated> {
    let layout = rig.board(&servo.board)?.layout.as_deref().filter(|_| servo.kind.is_smart())?;
    let layout = Layout::named(rig, layout)?;
    let over = Ends { low: Position::ZERO, high: Position::new(f64::from(layout.steps)) };
    let rated = Rated { travel_deg: layout.span_deg, ..Rated::NOTHING };
    Some(rated.with_over(servo.kind, over))
}

/// A joint of a servo's name, with nothing said about it yet.
pub(super) fn bare_joint(servo: &str) -> Joint {
    Joint { name: servo.to_owned(), servo: servo.to_owned(), ..Joint::default() }
}

/// Gives a servo another name. A joint that has the servo's name takes the new one too, and so do mappings,
/// poses and steps that speak of it.
pub fn rename_servo(rig: &Rig, servo: &str, name: &str) -> Edited {
    changed(rig, |rig| {
        let renamed = servo_mut(rig, servo)?;
        name.clone_into(&mut renamed.name);
        if !renamed.kind.has_angles() {
            speak_otherwise(rig, servo, name);
            return Ok(());
        }
        for joint in &mut rig.joints {
            let names = std::iter::once(&mut joint.servo).chain(&mut joint.others);
            names.filter(|turning| *turning == servo).for_each(|turning| name.clone_into(turning));
        }
        // A joint called otherwise keeps its name: what speaks of it is still right.
        if let Some(joint) = rig.joints.iter_mut().find(|j| j.servo == name && j.name == servo) {
            name.clone_into(&mut joint.name);
            speak_otherwise(rig, servo, name);
        }
        Ok(())
    })
}

/// What mappings, poses and steps call something by one name they call by another.
fn speak_otherwise(rig: &mut Rig, old: &str, new: &str) {
    rig.mappings.iter_mut().for_each(|mapping| mapping.to.rename(old, new));
    for pose in &mut rig.poses {
        rename_key(&mut pose.angles_deg, old, new);
        rename_key(&mut pose.levels_percent, old, new);
    }
    for step in rig.sequences.iter_mut().flat_map(|s| &mut s.steps) {
        rename_key(&mut step.joints, old, new);
    }
    for mirror in rig.joints.iter_mut().filter_map(|joint| joint.mirror_of.as_mut()) {
        if mirror.joint == old {
            new.clone_into(&mut mirror.joint);
        }
    }
}

fn rename_key<T>(map: &mut BTreeMap<String, T>, old: &str, new: &str) {
    if let Some(value) = map.remove(old) {
        map.insert(new.to_owned(), value);
    }
}

/// Takes a servo out, with its joint and what mappings, poses and steps say of that joint. A pose that has
/// nothing left to say stays, empty: steps may still name it.
pub fn remove_servo(rig: &Rig, servo: &str) -> Edited {
    changed(rig, |rig| {
        let found = rig.servo(servo).ok_or_else(|| missing("servo", servo))?;
        let spoken = rig.spoken_name(found).map(str::to_owned);
        rig.servos.retain(|s| s.name != servo);
        if turns_no_more(rig, servo)
            && let Some(name) = spoken
        {
            speak_no_more(rig, &name);
        }
        Ok(())
    })
}

/// Takes a servo from its joint, which goes with its last servo; whether it went.
fn turns_no_more(rig: &mut Rig, servo: &str) -> bool {
    for joint in &mut rig.joints {
        if joint.servo == servo && !joint.others.is_empty() {
            joint.servo = joint.others.remove(0);
            joint.steering = None;
        } else if joint.others.iter().any(|other| other == servo) {
            joint.others.retain(|other| other != servo);
            joint.steering = None;
        }
    }
    let joints = rig.joints.len();
    rig.joints.retain(|j| j.servo != servo);
    // What has a level has no joint and is spoken of by itself.
    rig.joints.len() < joints || rig.joint_of(servo).is_none()
}

pub(super) fn speak_no_more(rig: &mut Rig, name: &str) {
    for pose in &mut rig.poses {
        pose.angles_deg.remove(name);
        pose.levels_percent.remove(name);
    }
    super::mappings::without_part(rig, name);
    for step in rig.sequences.iter_mut().flat_map(|s| &mut s.steps) {
        step.joints.remove(name);
    }
    for joint in &mut rig.joints {
        joint.mirror_of.take_if(|mirror| mirror.joint == name);
    }
}

/// What hangs on a channel is of another kind. What it cannot have any more goes: marks and joint with the angles that
/// poses have for it, or levels and arming.
pub fn set_kind(rig: &Rig, servo: &str, kind: Kind) -> Edited {
    let found = rig.servo(servo).ok_or_else(|| missing("servo", servo))?;
    if found.kind == kind {
        return Ok(rig.clone());
    }
    let spoken = rig.spoken_name(found).map(str::to_owned);
    changed(rig, |rig| {
        if turns_no_more(rig, servo)
            && let Some(name) = spoken
        {
            speak_no_more(rig, &name);
        }
        let part = servo_mut(rig, servo)?;
        (part.gear, part.linkage, part.teeth) = (None, None, None);
        (part.fit, part.arrive, part.idle) = (Shape::default(), Side::default(), Idle::default());
        let draws = part.draw_a.or_else(|| part.rated.take().and_then(|rated| rated.stall_a));
        part.kind = kind;
        part.marks.clear();
        if !kind.turns_on() {
            part.arming = None;
        }
        if kind.is_accessory() {
            (part.endpoints_us, part.centre_us) = (Ends::cautious(), None);
        }
        part.draw_a = draws.filter(|_| !kind.has_angles());
        if kind.has_angles() {
            rig.joints.push(bare_joint(servo));
        }
        Ok(())
    })
}

/// What a continuous servo must see before it follows, or that it follows at once.
pub fn set_arming(rig: &Rig, servo: &str, arming: Option<Arming>) -> Edited {
    changed(rig, |rig| {
        servo_mut(rig, servo)?.arming = arming;
        Ok(())
    })
}

/// What a servo's sheet says.
pub fn set_rated(rig: &Rig, servo: &str, rated: Option<Rated>) -> Edited {
    changed(rig, |rig| {
        servo_mut(rig, servo)?.rated = rated;
        Ok(())
    })
}

/// What a servo takes: its supply, and the least level of its signal.
pub fn set_levels(rig: &Rig, servo: &str, volts: Option<Ends<Volts>>, signal: Option<Volts>) -> Edited {
    changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        (servo.volts, servo.signal_volts) = (volts, signal);
        Ok(())
    })
}

/// What servos of a class usually are, for one whose sheet is lost. A continuous one is made so.
pub fn set_class(rig: &Rig, servo: &str, class: &Preset) -> Edited {
    let rig = set_kind(rig, servo, class.kind)?;
    changed(&rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        servo.rated.clone_from(&class.rated);
        servo.teeth = class.kind.has_angles().then_some(class.teeth);
        servo.draw_a = (!class.kind.has_angles()).then_some(class.draw);
        Ok(())
    })
}

/// What a continuous servo is given when it is to stand still.
pub fn set_idle(rig: &Rig, servo: &str, idle: Idle) -> Edited {
    changed(rig, |rig| {
        servo_mut(rig, servo)?.idle = idle;
        Ok(())
    })
}

/// After which time a servo that the hand leaves alone is released; never without one.
pub fn set_auto_release(rig: &Rig, after: Option<Seconds>) -> Edited {
    changed(rig, |rig| {
        rig.release_after_s = after;
        Ok(())
    })
}

/// Puts another servo in the place of one: its joint with limits, its poses and mappings stay, what was found out
/// about the old one goes. Its rated data stay too, for it is mostly of the same kind.
///
/// A running stage knows nothing of where the new one stands.
pub fn replace_servo(rig: &Rig, servo: &str) -> Edited {
    let counts = rig.servo(servo).and_then(|servo| cautious_counts(rig, servo));
    changed(rig, |rig| {
        let servo = servo_mut(rig, servo)?;
        servo.id = ServoId::default();
        (servo.endpoints_us, servo.endpoints_counts) = (Ends::cautious(), counts);
        servo.set_centre(None);
        servo.model = None;
        servo.marks.clear();
        servo.exercised.clear();
        (servo.fit, servo.arrive) = (Shape::default(), Side::default());
        Ok(())
    })
}

/// Which model a smart servo is to say that it is: one that says another is told nothing.
pub fn set_model(rig: &Rig, servo: &str, model: u16) -> Edited {
    changed(rig, |rig| {
        servo_mut(rig, servo)?.model = Some(model);
        Ok(())
    })
}

/// What would go or change with a servo, in words: "2 poses and 1 mapping"; empty when nothing does.
pub fn spoken_of(rig: &Rig, servo: &str) -> String {
    let Some(servo) = rig.servo(servo) else { return String::new() };
    let name = rig.spoken_name(servo).unwrap_or_default();
    let poses = rig.poses.iter().filter(|pose| pose.target(servo.kind, name).is_some()).count();
    let mappings = rig.mappings_of(name).count();
    let counted = |(n, what): (usize, &str)| match n {
        0 => None,
        1 => Some(format!("1 {what}")),
        n => Some(format!("{n} {what}s")),
    };
    let parts: Vec<String> =
        [(poses, "pose"), (mappings, "mapping")].into_iter().filter_map(counted).collect();
    parts.join(" and ")
}

/// Moves a servo to another channel, as its plug was.
///
/// A running stage gives the servo no pulses there until it is engaged anew.
pub fn move_servo(rig: &Rig, servo: &str, board: &str, channel: u8) -> Edited {
    let taken = |s: &&Servo| s.board == board && s.plug() == channel && s.name != servo;
    if let Some(other) = rig.servos.iter().find(taken) {
        return Err(Refused::ChannelTaken { by: other.name.clone(), channel, board: board.to_owned() });
    }
    changed(rig, |rig| {
        if rig.board(board).is_none() {
            return Err(missing("board", board));
        }
        let servo = servo_mut(rig, servo)?;
        board.clone_into(&mut servo.board);
        servo.plug_into(channel);
        Ok(())
    })
}

/// Exchanges the plugs of two servos: what was thought to be one is the other.
///
/// A running stage gives neither of them pulses until it is engaged anew.
pub fn swap_servos(rig: &Rig, one: &str, other: &str) -> Edited {
    changed(rig, |rig| {
        let plug = |rig: &Rig, name: &str| {
            let servo = rig.servo(name).ok_or_else(|| missing("servo", name))?;
            Ok((servo.board.clone(), servo.plug()))
        };
        let (first, second) = (plug(rig, one)?, plug(rig, other)?);
        for (name, (board, channel)) in [(one, second), (other, first)] {
            let servo = servo_mut(rig, name)?;
            servo.board = board;
            servo.plug_into(channel);
        }
        Ok(())
    })
}

/// The first channel that nothing is on: board and channel.
pub fn free_channel(rig: &Rig) -> Option<(&str, u8)> {
    let taken = |board: &str, channel: u8| rig.servos.iter().any(|s| s.board == board && s.plug() == channel);
    rig.boards.iter().find_map(|board| {
        let first = board.chip.row().usual_channels.start;
        let free = (first..board.chip.channels()).find(|c| !taken(&board.name, *c))?;
        Some((board.name.as_str(), free))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::check::problems;
    use crate::rig::edit::joint;
    use crate::rig::file::small as rig;
    use crate::rig::file::{Loaded, Source, load};
    use crate::rig::{Chip, Mark};
    use crate::unit::Degrees;
    use crate::unit::{Micros, Seconds};

    #[test]
    fn what_has_a_level_needs_no_joint_and_poses_follow_its_name() {
        let Loaded::Sound(rig) = load(include_str!("../../../tests/data/crane.rig.toml")) else { panic!() };
        let more = add_servo(&rig, "crane.beacon", ("lower", 9), Kind::OnOff).unwrap();
        assert!(more.joint("crane.beacon").is_none() && more.servos.last().unwrap().kind == Kind::OnOff);
        assert_eq!(spoken_of(&rig, "crane.lamp"), "2 poses");
        let renamed = rename_servo(&rig, "crane.lamp", "crane.eye").unwrap();
        let level =
            |rig: &Rig, name: &str| rig.poses[0].target(Kind::Dimmer, name).map(crate::unit::Degrees::get);
        assert_eq!((level(&renamed, "crane.eye"), level(&renamed, "crane.lamp")), (Some(40.0), None));
        let gone = remove_servo(&renamed, "crane.eye").unwrap();
        assert_eq!(level(&gone, "crane.eye"), None);
        assert_eq!(gone.poses[0].levels_percent.len(), 2);
        // A lamp that turns out to be a servo: nothing of a lamp is left.
        let servo = set_kind(&rig, "crane.lamp", Kind::Positional).unwrap();
        assert!(servo.joint("crane.lamp").is_some() && servo.servo("crane.lamp").unwrap().draw_a.is_none());
        assert_eq!(level(&servo, "crane.lamp"), None);
        let winch = set_kind(&rig, "crane.winch", Kind::OnOff).unwrap();
        let winch = winch.servo("crane.winch").unwrap();
        assert!(winch.arming.is_none() && winch.endpoints_us == Ends::cautious() && winch.draw_a.is_some());
        let arming = Arming { pulse_us: Some(Micros::new(1000.0)), for_s: Seconds::new(2.0) };
        let refused = set_arming(&rig, "crane.winch", Some(arming)).unwrap_err().to_string();
        assert!(refused.contains("is not between its endpoints"), "{refused}");
    }

    #[test]
    fn a_servo_added_later_stands_in_its_group() {
        let more = add_servo(&rig(), "punt.pole", ("upper", 5), Kind::Positional).unwrap();
        let more = add_servo(&more, "heron.tail", ("upper", 6), Kind::Positional).unwrap();
        let names: Vec<&str> = more.by_group().iter().map(|n| more.servos[*n].name.as_str()).collect();
        assert_eq!(names, ["heron.neck", "heron.beak", "heron.tail", "punt.pole"]);
    }

    #[test]
    fn a_new_smart_servo_is_calibrated_by_one_mark() {
        let new = super::super::boards::NewBoard {
            name: "spine",
            chip: Chip::SmartBus,
            port: "spine-line",
            path: ("/dev/ttyUSB0", None),
            address: None,
            layout: Some("ten-bit"),
        };
        let rig = super::super::boards::add_board(&rig(), &new).unwrap();
        let mut more = add_servo(&rig, "heron.spine", ("spine", 3), Kind::Smart).unwrap();
        let unread = joint::reverse(&more, "heron.spine", joint::About::Mark).unwrap_err().to_string();
        assert!(unread.contains("needs exactly one mark"), "{unread}");
        let spine = more.servos.last_mut().unwrap();
        assert!(spine.fit().is_err(), "nobody knows where its horn sits");
        let mark = Mark::at(Kind::Smart, Position::new(500.0));
        spine.marks.push(Mark { angle_deg: Some(Degrees::new(10.0)), ..mark });
        let fit = spine.fit().unwrap();
        // 300° over 1024 places: 200 counts are 58.59°.
        assert!((fit.line.gain() * 200.0 - 58.594).abs() < 1e-3, "{fit:?}");
        // Which way it turns was never seen: turned about its mark, that stays where it was read.
        let turned = joint::reverse(&more, "heron.spine", joint::About::Mark).unwrap();
        let spine = turned.servo("heron.spine").unwrap();
        assert_eq!(spine.marks, more.servo("heron.spine").unwrap().marks);
        let back = spine.fit().unwrap();
        assert!((back.line.gain() + fit.line.gain()).abs() < 1e-9, "{back:?}");
    }

    #[test]
    fn a_new_servo_has_a_joint_an_id_of_its_own_and_cautious_endpoints() {
        let more = add_servo(&rig(), "heron.tail", ("upper", 7), Kind::Positional).unwrap();
        let tail = more.servo("heron.tail").unwrap();
        assert!(rig().servos.iter().all(|s| s.id != tail.id));
        assert_eq!(tail.endpoints_us, Ends::cautious());
        assert_eq!(more.joint_of("heron.tail").unwrap().name, "heron.tail");
        let twice = add_servo(&more, "heron.tail", ("upper", 8), Kind::Positional).unwrap_err().to_string();
        assert!(twice.contains("heron.tail"), "{twice}");
        let taken = add_servo(&more, "heron.wing", ("upper", 7), Kind::Positional).unwrap_err().to_string();
        assert_eq!(
            taken,
            "heron.tail is on channel 7 of upper too: move one of them to the channel its plug is really on"
        );
        assert!(
            add_servo(&rig(), "two words", ("upper", 7), Kind::Positional)
                .unwrap_err()
                .to_string()
                .contains("a name is")
        );
        assert!(
            add_servo(&rig(), "heron.wing", ("upper", 16), Kind::Positional)
                .unwrap_err()
                .to_string()
                .contains("0 to 15")
        );
    }

    #[test]
    fn what_refers_to_a_servo_follows_its_name() {
        let before = rig();
        let after = rename_servo(&before, "heron.neck", "heron.throat").unwrap();
        assert!(problems(&after).is_empty());
        let text = serde_json::to_string(&after).unwrap();
        assert!(!text.contains("heron.neck"), "{text}");
        assert_eq!(after.servos[0].id, before.servos[0].id);
        assert_eq!(rename_servo(&after, "heron.throat", "heron.neck").unwrap(), before);
    }

    #[test]
    fn a_renamed_servo_keeps_what_a_person_wrote_beside_it() {
        let text = include_str!("../../../tests/data/small.rig.toml");
        let source = Source::read(text.to_owned()).unwrap();
        let renamed = rename_servo(&rig(), "heron.neck", "heron.throat").unwrap();
        let next = source.with(&renamed).unwrap();
        let comments = |text: &str| text.matches('#').count();
        assert_eq!(comments(next.text()), comments(text));
        assert!(matches!(load(next.text()), Loaded::Sound(read) if *read == renamed));
    }

    #[test]
    fn nothing_speaks_of_a_servo_that_is_gone() {
        assert_eq!(spoken_of(&rig(), "heron.neck"), "2 poses");
        let after = remove_servo(&rig(), "heron.neck").unwrap();
        assert!(problems(&after).is_empty());
        assert!(!serde_json::to_string(&after).unwrap().contains("heron.neck"));
        assert_eq!(after.poses.len(), rig().poses.len());
        assert!(remove_servo(&after, "heron.neck").is_err());
    }

    #[test]
    fn a_replaced_servo_keeps_what_is_the_joints() {
        let before = rig();
        let after = replace_servo(&before, "heron.neck").unwrap();
        let (old, new) = (&before.servos[0], &after.servos[0]);
        assert!(new.marks.is_empty() && new.endpoints_us == Ends::cautious() && new.id != old.id);
        assert_eq!((&new.name, new.channel, &new.rated), (&old.name, old.channel, &old.rated));
        assert_eq!(
            (&after.joints, &after.poses, &after.mappings),
            (&before.joints, &before.poses, &before.mappings)
        );
        assert!(replace_servo(&before, "heron.tail").is_err());
    }

    #[test]
    fn two_servos_change_places_and_back() {
        let after = swap_servos(&rig(), "heron.neck", "heron.beak").unwrap();
        assert_eq!((after.servos[0].plug(), after.servos[1].plug()), (2, 1));
        assert_eq!(swap_servos(&after, "heron.beak", "heron.neck").unwrap(), rig());
        assert!(swap_servos(&rig(), "heron.neck", "heron.tail").is_err());
        assert_eq!(swap_servos(&rig(), "heron.neck", "heron.neck").unwrap(), rig());
    }

    #[test]
    fn a_servo_moves_to_a_free_channel_only() {
        let after = move_servo(&rig(), "heron.neck", "upper", 9).unwrap();
        assert_eq!(after.servos[0].plug(), 9);
        let taken = move_servo(&rig(), "heron.neck", "upper", 2).unwrap_err().to_string();
        assert_eq!(taken, "heron.beak is on channel 2 of upper: move that first, or choose a free channel");
        assert!(move_servo(&rig(), "heron.neck", "lower", 2).is_err());
        assert_eq!(free_channel(&rig()), Some(("upper", 0)));
    }
}
