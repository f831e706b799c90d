//! What is allowed in a rig but worth a word: a supply that is too small, a bus that is too slow, an address that
//! others may use, a linkage driven beyond its reach, a pose that cannot be. What does not fit together at all is
//! [`super::check`]'s.

use super::{Ends, GoalKind, Index, Input, Joint, Layout, Mapping, MarkKind, Parts, Rig, Servo, Side};
use crate::power::Budget;
use crate::traffic::Traffic;
use crate::unit::{Hertz, Seconds};
use std::collections::{BTreeMap, BTreeSet};

/// From here on addresses are reserved by the I²C standard.
pub const RESERVED_FROM: u8 = 0x78;

/// One thing worth a word.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Worry {
    /// The name of what it is about: a board, rail, port, servo, joint or pose.
    pub about: String,
    /// What is wrong, in words.
    pub words: String,
    /// What to do.
    pub help: String,
}

impl Worry {
    fn new(about: &str, words: impl Into<String>, help: impl Into<String>) -> Self {
        Self { about: about.to_owned(), words: words.into(), help: help.into() }
    }
}

/// Everything worth a word, in the order of ports, boards, rails, servos, joints, poses. `beat` is the time between two beats.
pub fn worries(rig: &Rig, beat: Seconds) -> Vec<Worry> {
    worries_of(Parts { rig, index: &Index::of(rig) }, beat)
}

/// The same of a rig whose parts were looked up already.
pub fn worries_of(rig: Parts<'_>, beat: Seconds) -> Vec<Worry> {
    let mut all = Vec::new();
    all.extend(rig.ports.iter().filter(|p| p.kind.row().is_shared).filter_map(|p| bus(rig, &p.name, beat)));
    for board in &rig.boards {
        if let Some(address) = board.address.filter(|address| *address >= RESERVED_FROM) {
            let words = format!("address {address:#04x} is reserved by the I²C standard");
            all.push(Worry::new(&board.name, words, "other devices may answer there: solder another jumper"));
        }
        if board.rail.is_none() && rig.servos_on(&board.name).next().is_some() {
            let words = "the supply of its servos is not known";
            all.push(Worry::new(&board.name, words, "‹rail of the board› sets it, and what it can give"));
        }
    }
    all.extend(rig.rails.iter().flat_map(|rail| supply(rig, rail)));
    all.extend(rig.servos.iter().flat_map(|servo| levels(rig, servo)));
    all.extend(rig.servos.iter().filter_map(|servo| encoder(rig, servo)));
    all.extend(rig.inputs.iter().filter_map(level_in));
    all.extend(rig.servos.iter().filter_map(|servo| reach(rig, servo)));
    all.extend(rig.servos.iter().filter_map(sideless));
    all.extend(rig.joints.iter().flat_map(|joint| unmarked(rig, joint)));
    all.extend(played(rig));
    all.extend(rig.rig.mappings.iter().flat_map(|mapping| mapped(rig, mapping)));
    all
}

/// A servo's supply, and the level of its signal, are what its data sheet says that it takes.
fn levels(rig: Parts<'_>, servo: &Servo) -> Vec<Worry> {
    let Some(board) = rig.board(&servo.board) else { return Vec::new() };
    let rail = board.rail.as_deref().and_then(|name| rig.rails.iter().find(|rail| rail.name == name));
    let mut all = Vec::new();
    if let (Some(Ends { low: least, high: most }), Some(rail)) = (servo.volts, rail)
        && (rail.volts < least || rail.volts > most)
    {
        let words = format!(
            "its rail {} gives {} V, and it takes {} to {} V",
            rail.name,
            rail.volts.get(),
            least.get(),
            most.get()
        );
        let help = if rail.volts > most {
            "do not switch it on: put it on a rail of its own, behind a regulator"
        } else {
            "it will be slow and weak: put it on a rail that gives more"
        };
        all.push(Worry::new(&servo.name, words, help));
    }
    if let (Some(least), Some(level)) = (servo.signal_volts, board.signal_volts)
        && level < least
    {
        let words = format!(
            "{} gives a signal of {} V, and it takes {} V and more",
            board.name,
            level.get(),
            least.get()
        );
        all.push(Worry::new(&servo.name, words, "put a level shifter in its signal wire"));
    }
    all
}

/// What a smart servo's data say that a count turns, and what its bus's layout does, may differ by this share.
const SAME_ENCODER: f64 = 0.05;

/// A smart servo's data are those of the encoder that its bus's layout has: a card of another kind of servo has others.
fn encoder(rig: Parts<'_>, servo: &Servo) -> Option<Worry> {
    let board = rig.board(&servo.board).filter(|_| servo.kind.is_smart())?;
    let layout = Layout::named(rig.rig, board.layout.as_deref()?)?;
    let (said, is) = (libm::fabs(servo.rated.as_ref()?.slope().gain), 1.0 / layout.counts_a_degree());
    if libm::fabs(said / is - 1.0) <= SAME_ENCODER {
        return None;
    }
    let words =
        format!("its data say that a count turns {said:.3}°; in layout {} it turns {is:.3}°", layout.name);
    Some(Worry::new(&servo.name, words, "is it another kind of servo? correct its data, or the layout"))
}

/// A signal is no higher than the pin takes on which it comes in.
fn level_in(input: &Input) -> Option<Worry> {
    let (level, most) = (input.signal_volts?, input.pin_volts?);
    if level <= most {
        return None;
    }
    let words = format!("its signal has {} V, and its pin takes {} V at most", level.get(), most.get());
    Some(Worry::new(
        &input.name,
        words,
        "unplug it: it needs a divider of two resistors, or a level shifter, in between",
    ))
}

/// A servo's endpoints pass what its linkage can drive.
fn reach(rig: Parts<'_>, servo: &Servo) -> Option<Worry> {
    let (a, b) = rig.through(servo).usable()?;
    let curve = servo.fit().ok()?.curve;
    let (a, b) = (curve.pulse_at(a), curve.pulse_at(b));
    let (least, most) = if a < b { (a, b) } else { (b, a) };
    let Ends { low, high } = servo.ends();
    if low >= least && high <= most {
        return None;
    }
    let unit = servo.kind.place_unit();
    let words = format!(
        "what it turns can be driven from {:.0} to {:.0} {unit} only; its endpoints {:.0} and {:.0} {unit} are moved inwards",
        if low > least { low } else { least }.get(),
        if high < most { high } else { most }.get(),
        low.get(),
        high.get()
    );
    let help = "set the endpoints to these, or put the horn on at another tooth";
    Some(Worry::new(&servo.name, words, help))
}

/// Marks of where it starts to turn that do not say from which side.
fn sideless(servo: &Servo) -> Option<Worry> {
    let marks = servo.marks.iter().filter(|m| m.seen == MarkKind::Starts && m.from == Side::Unknown).count();
    let words = format!("{marks} of its starts marks do not say from which side, so they give no stop band");
    let help = "drop them, and keep them anew with ‹starts›, coming from each side";
    (servo.kind.turns_on() && marks > 0).then(|| Worry::new(&servo.name, words, help))
}

/// A servo that shares its joint and has no angles.
fn unmarked(rig: Parts<'_>, joint: &Joint) -> Vec<Worry> {
    let alone = joint.others.is_empty();
    let members = joint.servos().filter_map(|name| rig.servo(name)).filter(|s| !alone && s.fit().is_err());
    let worry = |servo: &Servo| {
        let words = format!(
            "it turns {} together with others and has no angles: it neither leads nor follows",
            joint.name
        );
        Worry::new(&servo.name, words, "release the others, and keep two marks of it")
    };
    members.map(worry).collect()
}

/// What sequences ask of joints that cannot be, or that nobody has said enough of.
fn played(rig: Parts<'_>) -> Vec<Worry> {
    let poses: BTreeSet<&str> =
        rig.sequences.iter().flat_map(|s| &s.steps).filter_map(|step| step.pose.as_deref()).collect();
    // By joint, the angles it can have; none where it has no angles.
    let ranges: BTreeMap<&str, Option<(f64, f64)>> =
        rig.joints.iter().map(|joint| (joint.name.as_str(), angles_of(rig, joint))).collect();
    let mut all = Vec::new();
    let (mut without_angles, mut spoken) = (BTreeSet::new(), BTreeSet::new());
    for pose in rig.poses.iter().filter(|pose| poses.contains(pose.name.as_str())) {
        for (joint, angle) in &pose.angles_deg {
            spoken.insert(joint.as_str());
            match ranges.get(joint.as_str()) {
                Some(None) => {
                    without_angles.insert(joint.as_str());
                }
                Some(Some((least, most))) if angle.get() < least - HAIR || angle.get() > most + HAIR => {
                    let words = format!(
                        "asks {joint} for {:+.1}°, which ends at {:+.1}°",
                        angle.get(),
                        if angle.get() < *least { least } else { most }
                    );
                    all.push(Worry::new(
                        &pose.name,
                        words,
                        "change the angle, or widen the joint's limits and endpoints",
                    ));
                }
                _ => {}
            }
        }
    }
    for joint in without_angles {
        let words = "has no angles: sequences skip it";
        all.push(Worry::new(joint, words, "keep two marks of its servo"));
    }
    let homeless = rig.joints.iter().filter(|j| spoken.contains(j.name.as_str()) && j.home_deg.is_none());
    let names: Vec<String> = homeless.map(|joint| joint.name.clone()).collect();
    if !names.is_empty() {
        let words =
            "is in sequences and has no home: a dry run leaves it out, and it has nowhere to return to";
        all.push(Worry::new(
            &listed(&names),
            words,
            "‹home here› in Calibrate makes where it stands its home",
        ));
    }
    all
}

/// What a mapping asks of joints that cannot be: it goes as far as the joint does, and no further.
fn mapped(rig: Parts<'_>, mapping: &Mapping) -> Vec<Worry> {
    let goal = &mapping.to;
    let mut all = Vec::new();
    let mut ask = |joint: &str, angles: &[f64]| {
        let Some((least, most)) = rig.joint(joint).and_then(|joint| angles_of(rig, joint)) else { return };
        let (low, high) = angles.iter().fold((f64::MAX, f64::MIN), |(a, b), own| (a.min(*own), b.max(*own)));
        let beyond = [(low, least, low < least - HAIR), (high, most, high > most + HAIR)];
        for (asked, end, is) in beyond {
            if is && !angles.is_empty() {
                let words = format!("asks {joint} for {asked:+.1}°, which ends at {end:+.1}°");
                let help = "change what it asks for, or widen the joint's limits and endpoints";
                all.push(Worry::new(&mapping.name, words, help));
            }
        }
    };
    match goal.kind() {
        Some(GoalKind::Joint) => {
            let ends = goal.ends().map(|ends| vec![ends.low, ends.high]);
            let angles = ends.unwrap_or_else(|| goal.points.iter().map(|point| point.1).collect());
            ask(goal.name().unwrap_or_default(), &angles);
        }
        Some(kind) if kind.has_poses() => {
            let poses = || goal.poses().iter().filter_map(|pose| rig.pose(pose));
            for joint in rig.moved_by(mapping) {
                let angles: Vec<f64> =
                    poses().filter_map(|pose| Some(pose.angles_deg.get(joint)?.get())).collect();
                ask(joint, &angles);
            }
        }
        _ => {}
    }
    all
}

/// What is right to a hundredth of a degree is right.
const HAIR: f64 = 0.005;

/// The angles that limits, endpoints and what is between leave a joint; none where its servo has no fit.
fn angles_of(rig: Parts<'_>, joint: &Joint) -> Option<(f64, f64)> {
    let (mut least, mut most) = (f64::NEG_INFINITY, f64::INFINITY);
    for (n, servo) in joint.servos().filter_map(|name| rig.servo(name)).enumerate() {
        let (through, fit) = (rig.through(servo), servo.fit());
        let Ok(fit) = fit else {
            // Of several the first says what an angle is.
            if n == 0 {
                return None;
            }
            continue;
        };
        let curve = fit.from_side(servo.arrive);
        let Ends { low, high } = servo.ends();
        let (a, b) =
            (through.joint_at(curve.angle_at(low)).get(), through.joint_at(curve.angle_at(high)).get());
        (least, most) = (libm::fmax(least, libm::fmin(a, b)), libm::fmin(most, libm::fmax(a, b)));
        if let Some((a, b)) = through.usable() {
            let (a, b) = (through.joint_at(a).get(), through.joint_at(b).get());
            (least, most) = (libm::fmax(least, libm::fmin(a, b)), libm::fmin(most, libm::fmax(a, b)));
        }
    }
    let low = joint.low.as_ref().map_or(least, |l| libm::fmax(least, l.angle_deg.get()));
    let high = joint.high.as_ref().map_or(most, |l| libm::fmin(most, l.angle_deg.get()));
    Some((low, high))
}

fn bus(rig: Parts<'_>, port: &str, beat: Seconds) -> Option<Worry> {
    let traffic = Traffic::of(&rig, port);
    if traffic.fits(beat) {
        return None;
    }
    let words = format!(
        "{:.0} of {} channels fit in a beat of {:.0} ms at {}; all of them change {:.0} times a second at most",
        traffic.channels_a_beat(beat),
        traffic.channels,
        beat.get() * 1e3,
        rate(traffic.rate),
        traffic.updates_a_second()
    );
    let help = match traffic.rate_that_fits(beat) {
        Some(faster) => format!("set the bus to {} and write bus_hz = {:.0}", rate(faster), faster.get()),
        None if traffic.line.is_some() => {
            "set the bridge and its port to a higher baud; until then the channels take turns".to_owned()
        }
        None => "spread the boards over more buses; until then the channels take turns".to_owned(),
    };
    Some(Worry::new(port, words, help))
}

fn supply(rig: Parts<'_>, rail: &super::Rail) -> Vec<Worry> {
    let budget = Budget::of(&rig, rail);
    let mut all = Vec::new();
    if budget.is_tight() {
        let words = format!(
            "≈ {:.1} A when {}, its supply gives {:.1} A",
            budget.stall.get(),
            budget.worst(),
            budget.supply.get()
        );
        let help =
            format!("a supply of {:.1} A would be safe, or fewer servos on it", budget.safe_supply().get());
        all.push(Worry::new(&rail.name, words, help));
    }
    if !budget.uncounted.is_empty() {
        let words = format!("the current of {} is not known", listed(&budget.uncounted));
        all.push(Worry::new(
            &rail.name,
            words,
            "add stall_a to rated, or draw_a: read it from the data sheet, or measure it",
        ));
    }
    all
}

/// A bus rate as people say it.
pub fn rate(rate: Hertz) -> String {
    if rate.get() >= 1e6 {
        format!("{:.0} MHz", rate.get() / 1e6)
    } else {
        format!("{:.0} kHz", rate.get() / 1e3)
    }
}

/// The first few of some names.
fn listed(names: &[String]) -> String {
    const SHOWN: usize = 3;
    let first = names.iter().take(SHOWN).map(String::as_str).collect::<Vec<_>>().join(", ");
    match names.len() {
        0..=SHOWN => first,
        more => format!("{first} and {} more", more - SHOWN),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::edit::boards::{NewBoard, add_board};
    use crate::rig::file::{Loaded, load};
    use crate::rig::{Rail, Servo};
    use crate::unit::{Amps, Volts};

    const BEAT: Seconds = Seconds::new(0.02);

    fn rig() -> Rig {
        Rig { rails: vec![six(8.0)], ..crate::rig::file::small() }
    }

    fn six(amps: f64) -> Rail {
        Rail {
            id: crate::rig::RailId::default(),
            name: "six-volt".into(),
            volts: Volts::new(6.0),
            amps: Amps::new(amps),
        }
    }

    fn said(rig: &Rig) -> Vec<String> {
        worries(rig, BEAT).into_iter().map(|w| format!("{}: {}; {}", w.about, w.words, w.help)).collect()
    }

    #[test]
    fn a_reserved_address_and_a_board_without_a_rail_are_worth_a_word() {
        let port = rig().ports[0].name.clone();
        let mut more = add_board(&rig(), &NewBoard::expander("far", &port, 0x79)).unwrap();
        assert_eq!(
            said(&more).iter().filter(|w| w.contains("0x79")).collect::<Vec<_>>(),
            [
                "far: address 0x79 is reserved by the I²C standard; other devices may answer there: solder another \
              jumper"
            ]
        );
        more.boards[0].rail = None;
        assert!(said(&more).iter().any(|w| w.starts_with("upper: the supply of its servos is not known")));
    }

    #[test]
    fn a_rail_or_a_level_outside_what_is_taken_is_named() {
        let mut rig = rig();
        rig.boards[0].rail = Some("six-volt".into());
        rig.servos[0].volts = Some(Ends { low: Volts::new(6.0), high: Volts::new(8.4) });
        rig.servos[0].signal_volts = Some(Volts::new(3.0));
        rig.boards[0].signal_volts = Some(Volts::new(3.3));
        (rig.inputs[0].signal_volts, rig.inputs[0].pin_volts) =
            (Some(Volts::new(3.3)), Some(Volts::new(3.3)));
        let named = |rig: &Rig| -> Vec<String> {
            said(rig).into_iter().filter(|words| words.contains(" V")).collect()
        };
        assert_eq!(named(&rig), [""; 0]);
        rig.servos[0].volts = Some(Ends { low: Volts::new(4.8), high: Volts::new(5.5) });
        rig.servos[0].signal_volts = Some(Volts::new(3.5));
        rig.inputs[0].signal_volts = Some(Volts::new(5.0));
        assert_eq!(
            named(&rig),
            [
                "heron.neck: its rail six-volt gives 6 V, and it takes 4.8 to 5.5 V; do not switch it on: put it on a \
                 rail of its own, behind a regulator",
                "heron.neck: upper gives a signal of 3.3 V, and it takes 3.5 V and more; put a level shifter in its \
                 signal wire",
                "knob: its signal has 5 V, and its pin takes 3.3 V at most; unplug it: it needs a divider \
                 of two resistors, or a level shifter, in between",
            ]
        );
        rig.servos[0].volts = Some(Ends { low: Volts::new(6.6), high: Volts::new(8.4) });
        assert!(named(&rig)[0].contains("it takes 6.6 to 8.4 V; it will be slow and weak"));
    }

    #[test]
    fn a_supply_that_is_too_small_is_told_what_would_do() {
        let mut rig = rig();
        rig.boards[0].rail = Some("six-volt".into());
        for servo in &mut rig.servos {
            let rated = "travel_deg = 120\npulses_us = [900, 2100]\nstall_a = 1.5\n";
            servo.rated = Some(toml_edit::de::from_str(rated).unwrap());
        }
        assert_eq!(said(&rig), [""; 0]);
        rig.rails = vec![six(2.0)];
        let words = "six-volt: ≈ 3.0 A when all 2 servos stall, its supply gives 2.0 A; a supply of 3.3 A would be \
                     safe, or fewer servos on it";
        assert_eq!(said(&rig), [words]);
        rig.servos[1].rated = None;
        assert!(said(&rig).iter().any(|w| w.starts_with("six-volt: the current of heron.beak is not known")));
    }

    #[test]
    fn data_of_another_encoder_are_worth_a_word() {
        let text = |rated: &str| {
            format!(
                "format = 12\nname = \"neck\"\n[[port]]\nname = \"line\"\nkind = \"serial\"\npath = \"x\"\n\
                 [[board]]\nname = \"bus\"\nport = \"line\"\nchip = \"smart-bus\"\nlayout = \"ten-bit\"\n\
                 [[servo]]\nname = \"nape\"\nkind = \"smart\"\nboard = \"bus\"\nid = 1\n\
                 endpoints_counts = [300, 700]\nrated = {{ {rated} }}\n"
            )
        };
        let of = |rated: &str| {
            let Loaded::Sound(rig) = load(&text(rated)) else { panic!("{}", text(rated)) };
            said(&rig).into_iter().filter(|words| words.contains("a count turns")).collect::<Vec<_>>()
        };
        assert_eq!(of("travel_deg = 300, counts = [0, 1023]"), [""; 0]);
        assert_eq!(of("travel_deg = 300, counts = [0, 1023], reversed = true"), [""; 0]);
        let other = of("travel_deg = 360, counts = [0, 4096]");
        assert!(
            other[0].starts_with(
                "nape: its data say that a count turns 0.088°; in layout ten-bit it turns 0.293°"
            ),
            "{other:?}"
        );
    }

    #[test]
    fn what_cannot_be_driven_followed_or_played_is_said_with_the_pulses() {
        use crate::linkage::{Branch, FourBar};
        use crate::rig::edit::joint;
        use crate::unit::{Degrees, Micros, Millimetres};
        let mut linked = rig();
        linked.joints[0].low = None;
        linked.joints[0].high = None;
        linked.servos[0].endpoints_us = Ends { low: Micros::new(1000.0), high: Micros::new(2000.0) };
        let bars = FourBar {
            horn_mm: Millimetres::new(20.0),
            rod_mm: Millimetres::new(40.0),
            arm_mm: Millimetres::new(22.0),
            pivots_mm: Millimetres::new(50.0),
            horn_at_deg: Degrees::new(90.0),
            branch: Branch::SameSide,
            offset_deg: Degrees::ZERO,
            reversed: false,
        };
        let linked = joint::set_linkage(&linked, "heron.neck", bars).unwrap();
        let (a, b) = linked.servos[0].through().usable().unwrap();
        let curve = linked.servos[0].fit().unwrap().curve;
        let (a, b) = (curve.pulse_at(a).get().max(1000.0), curve.pulse_at(b).get().min(2000.0));
        let words = format!("heron.neck: what it turns can be driven from {a:.0} to {b:.0} µs only;");
        assert!(said(&linked).iter().any(|w| w.starts_with(&words)), "{words} {:?}", said(&linked));
        let mut far = rig();
        far.poses[0].angles_deg.insert("heron.neck".into(), Degrees::new(80.0));
        far.joints[0].home_deg = None;
        far.servos[1].marks.clear();
        let pose = &far.poses[0].name;
        assert!(
            said(&far)
                .iter()
                .any(|w| w.starts_with(&format!("{pose}: asks heron.neck for +80.0°, which ends at +45.0°"))),
            "{:?}",
            said(&far)
        );
        assert!(
            said(&far).iter().any(|w| w.starts_with("heron.neck: is in sequences and has no home")),
            "{:?}",
            said(&far)
        );
        assert!(said(&far).iter().any(|w| w.starts_with("heron.beak: has no angles")), "{:?}", said(&far));
        let mut shared = Rig { poses: Vec::new(), sequences: Vec::new(), mappings: Vec::new(), ..rig() };
        shared = joint::couple(&shared, "heron.neck", "heron.beak").unwrap();
        shared.servos[1].marks.clear();
        assert!(said(&shared).iter().any(|w| w.starts_with("heron.beak: it turns heron.neck together")));
    }

    #[test]
    fn a_mapping_that_asks_for_more_than_a_joint_can_is_told_where_that_ends() {
        let mut rig = rig();
        rig.mappings[0].to.angles_deg =
            Some(Ends { low: crate::unit::Degrees::new(0.0), high: crate::unit::Degrees::new(500.0) });
        let words = said(&rig);
        assert!(
            words.iter().any(|words| words.contains("asks heron.beak for +500.0°, which ends at +100.0°")),
            "{words:?}"
        );
        let blend =
            crate::rig::Goal { blend: vec!["rest".to_owned(), "look".to_owned()], ..Default::default() };
        rig.mappings[0].to = blend;
        rig.poses[1].angles_deg.insert("heron.neck".to_owned(), crate::unit::Degrees::new(-48.0));
        let words = said(&rig);
        assert!(words.iter().any(|words| words.contains("asks heron.neck for -48.0°, which ends at -45.0°")));
    }

    #[test]
    fn a_bus_that_is_too_slow_is_told_which_rate_would_do() {
        let mut rig = rig();
        let (board, servo) = (rig.boards[0].clone(), rig.servos[0].clone());
        rig.boards = (0x40..0x45)
            .map(|address| crate::rig::Board {
                name: format!("b{address}"),
                address: Some(address),
                ..board.clone()
            })
            .collect();
        let board = rig.boards.clone();
        rig.servos = board
            .iter()
            .flat_map(|b| {
                (0..16).map(|channel| Servo {
                    board: b.name.clone(),
                    channel: Some(channel),
                    ..servo.clone()
                })
            })
            .collect();
        let words = said(&rig);
        assert!(words[0].contains("of 80 channels fit in a beat of 20 ms at 100 kHz"), "{}", words[0]);
        assert!(words[0].contains("set the bus to 400 kHz and write bus_hz = 400000"), "{}", words[0]);
        rig.ports[0].bus_hz = Some(Hertz::new(400e3));
        assert!(!said(&rig).iter().any(|w| w.contains("fit in a beat")));
    }
}
