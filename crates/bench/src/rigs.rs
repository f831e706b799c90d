//! Rigs of any size: every servo calibrated, half of them in a sequence, half behind inputs of six stages.

use std::collections::BTreeMap;
use std::time::Duration;
use wasvolta_core::Stage;
use wasvolta_core::easing::Easing;
use wasvolta_core::inflow::Inflow;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{
    Board, Ends, Goal, Input, Joint, Mapping, Mark, Port, PortKind, Pose, Rig, Sequence, Servo, Step,
};
use wasvolta_core::stage::{Command, Plan, Prepared};
use wasvolta_core::unit::{Degrees, Micros, Position, Seconds};

const SEED: &str = include_str!("../../../examples/marsh-clock.rig.toml");

/// The demo's rig: what the parts of larger ones are like.
pub fn marsh_clock() -> Rig {
    match load(SEED) {
        Loaded::Sound(rig) => *rig,
        other => unreachable!("the demo's rig is sound: {other:?}"),
    }
}

/// A rig of `count` servos on as many boards as they need, two to a port. The first half plays the sequence
/// `wake` of `seconds` and more; each servo of the other half follows an input of its own.
pub fn of(count: u16, seconds: u16) -> Rig {
    let mut seed = marsh_clock();
    // Its inputs stand on one link alone, of lines.
    seed.links.retain(|link| link.name == "micro");
    let servos: Vec<Servo> = (0..count).map(|n| servo(&seed, n)).collect();
    let joints = servos.iter().map(|s| Joint {
        name: s.name.clone(),
        servo: s.name.clone(),
        ..seed.joints[0].clone()
    });
    let half = usize::from(count / 2);
    let poses: Vec<Pose> =
        [("low", -40.0), ("high", 40.0)].map(|(name, angle)| pose(name, angle, &servos[..half])).into();
    let step = |n: u16| Step {
        easing: Easing::MinimumJerk,
        ..Step::to_pose(if n.is_multiple_of(2) { "high" } else { "low" }, Seconds::new(1.0))
    };
    let steps = (0..seconds).map(step).collect();
    let knobs = seed.port(&seed.links[0].on).cloned();
    let mut rig = Rig {
        presses: Vec::new(),
        ports: (0..boards(count).div_ceil(2)).map(|n| port(&seed, n)).chain(knobs).collect(),
        boards: (0..boards(count)).map(|n| board(&seed, n)).collect(),
        joints: joints.collect(),
        inputs: (0..).zip(&servos[half..]).map(|(n, s)| input(&seed, n, s)).collect(),
        mappings: servos[half..].iter().map(mapping).collect(),
        poses,
        sequences: vec![Sequence { name: "wake".to_owned(), steps, ..Sequence::default() }],
        servos,
        ..seed
    };
    rig.number_parts();
    rig
}

fn boards(servos: u16) -> u16 {
    servos.div_ceil(16)
}

fn port(seed: &Rig, n: u16) -> Port {
    Port {
        name: format!("bus-{n}"),
        kind: PortKind::I2c,
        path: "sim:bench".to_owned(),
        ..seed.ports[0].clone()
    }
}

fn board(seed: &Rig, n: u16) -> Board {
    let address = if n.is_multiple_of(2) { 0x40 } else { 0x41 };
    Board {
        signal_volts: None,
        name: format!("board-{n}"),
        port: format!("bus-{}", n / 2),
        address: Some(address),
        ..seed.boards[0].clone()
    }
}

fn servo(seed: &Rig, n: u16) -> Servo {
    let mark = |pulse: f64, angle: f64| Mark {
        pulse_us: Some(Micros::new(pulse)),
        angle_deg: Some(Degrees::new(angle)),
        ..seed.servos[0].marks[0].clone()
    };
    Servo {
        name: format!("reed.n{n}"),
        board: format!("board-{}", n / 16),
        channel: Some(u8::try_from(n % 16).unwrap_or(0)),
        endpoints_us: Ends { low: Micros::new(700.0), high: Micros::new(2300.0) },
        marks: vec![mark(800.0, -70.0), mark(2200.0, 70.0)],
        ..seed.servos[0].clone()
    }
}

fn input(seed: &Rig, n: u32, servo: &Servo) -> Input {
    Input {
        signal_volts: None,
        pin_volts: None,
        name: format!("in-{}", servo.name.replace('.', "-")),
        channel: format!("v{n}"),
        ends: Ends { low: 0.0, high: 1023.0 },
        trim: 0.02,
        deadband: 0.03,
        expo: 0.3,
        smoothing_ms: 40.0,
        rise_per_s: Some(20.0),
        fall_per_s: Some(20.0),
        link: seed.links[0].name.clone(),
        ..seed.inputs[0].clone()
    }
}

const FIFTY: Ends<Degrees> = Ends { low: Degrees::new(-50.0), high: Degrees::new(50.0) };

fn mapping(servo: &Servo) -> Mapping {
    let input = format!("in-{}", servo.name.replace('.', "-"));
    Mapping::of(&servo.name, &input, Goal::joint(&servo.name, FIFTY))
}

/// `inputs` of six stages and `joints` that follow them: each one input by itself, or by threes in a blend along three
/// poses, from two inputs by weight.
pub fn mapped(inputs: u16, joints: u16, blends: bool) -> Rig {
    let half = of(joints * 2, 10);
    let servos: Vec<Servo> = half.servos[usize::from(joints)..].to_vec();
    let names: Vec<String> = servos.iter().map(|servo| servo.name.clone()).collect();
    let inputs: Vec<Input> = half.inputs.into_iter().take(usize::from(inputs)).collect();
    let input = |n: usize| inputs[n % inputs.len()].name.clone();
    let pose = |(name, angle): (&str, f64)| pose(name, angle, &servos);
    let mappings: Vec<Mapping> = if blends {
        let goal = |joints: &[String]| Goal {
            blend: ["low", "middle", "high"].map(str::to_owned).into(),
            joints: joints.to_vec(),
            ..Goal::default()
        };
        let blend = |(n, joints): (usize, &[String])| Mapping {
            from: BTreeMap::from([(input(2 * n), 0.7), (input(2 * n + 1), 0.3)]),
            ..Mapping::of(&joints[0], "", goal(joints))
        };
        names.chunks(3).enumerate().map(blend).collect()
    } else {
        let plain = |(n, name): (usize, &String)| Mapping::of(name, &input(n), Goal::joint(name, FIFTY));
        names.iter().enumerate().map(plain).collect()
    };
    let mut rig = Rig {
        joints: half.joints[usize::from(joints)..].to_vec(),
        poses: [("low", -40.0), ("middle", 5.0), ("high", 40.0)].map(pose).into(),
        sequences: Vec::new(),
        presses: Vec::new(),
        servos,
        inputs,
        mappings,
        ..half
    };
    rig.number_parts();
    rig
}

fn pose(name: &str, angle: f64, servos: &[Servo]) -> Pose {
    let angles = servos.iter().map(|s| (s.name.clone(), Degrees::new(angle)));
    Pose { name: name.to_owned(), angles_deg: angles.collect(), ..Pose::default() }
}

/// A stage that plays the first sequence of a rig, with every servo engaged and given back; and the time it is at.
pub fn playing(rig: &Rig, beat: Duration) -> (Stage, Duration) {
    let (mut stage, now) = given_back(rig, beat);
    stage.advance(now + beat, Inflow::default(), &[Command::Play { sequence: rig.sequences[0].id }]);
    (stage, now + beat)
}

/// A stage with every servo engaged and given back; and the time it is at.
pub fn given_back(rig: &Rig, beat: Duration) -> (Stage, Duration) {
    let mut stage = Stage::new(Prepared::new(Plan::of(rig)), beat);
    let servos = rig.servos.iter().map(|servo| servo.id);
    let pulse = Position::new(1500.0);
    let engage: Vec<Command> =
        servos.clone().map(|servo| Command::Engage { servo, pulse, stands_there: true }).collect();
    let give: Vec<Command> = servos.map(|servo| Command::GiveBack { servo }).collect();
    stage.advance(Duration::ZERO, Inflow::default(), &engage);
    stage.advance(beat, Inflow::default(), &give);
    (stage, beat)
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_core::rig::check::problems;

    #[test]
    fn what_is_measured_is_a_sound_rig() {
        for count in [2, 16, 992] {
            let problems = problems(&of(count, 10));
            assert!(problems.is_empty(), "{count}: {problems:?}");
        }
        for blends in [false, true] {
            let rig = mapped(40, 60, blends);
            assert_eq!((rig.inputs.len(), rig.joints.len(), problems(&rig)), (40, 60, Vec::new()));
        }
    }
}
