//! Rigs of any size: every servo calibrated, half of them in a sequence, half behind inputs of six stages.

use std::collections::BTreeMap;
use std::time::Duration;
use wasvolta_core::Stage;
use wasvolta_core::easing::Easing;
use wasvolta_core::inflow::Inflow;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{
    Board, Ends, Input, Joint, Mapping, Mark, Port, PortKind, Pose, PoseId, Rig, Sequence, SequenceId, Servo,
    Step,
};
use wasvolta_core::stage::{Command, Plan, Prepared};
use wasvolta_core::unit::{Degrees, Micros, Seconds};

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
        pose: if n.is_multiple_of(2) { "high" } else { "low" }.to_owned(),
        move_s: Some(Seconds::new(1.0)),
        easing: Easing::MinimumJerk,
        dwell_s: Seconds::ZERO,
        joints: BTreeMap::new(),
    };
    let steps = (0..seconds).map(step).collect();
    let knobs = seed.port(&seed.links[0].on).cloned();
    let mut rig = Rig {
        ports: (0..boards(count).div_ceil(2)).map(|n| port(&seed, n)).chain(knobs).collect(),
        boards: (0..boards(count)).map(|n| board(&seed, n)).collect(),
        joints: joints.collect(),
        inputs: (0..).zip(&servos[half..]).map(|(n, s)| input(&seed, n, s)).collect(),
        mappings: servos[half..].iter().map(mapping).collect(),
        poses,
        sequences: vec![Sequence { id: SequenceId::default(), name: "wake".to_owned(), steps }],
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
        pulse_us: Micros::new(pulse),
        angle_deg: Some(Degrees::new(angle)),
        ..seed.servos[0].marks[0].clone()
    };
    Servo {
        name: format!("reed.n{n}"),
        board: format!("board-{}", n / 16),
        channel: u8::try_from(n % 16).unwrap_or(0),
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

fn mapping(servo: &Servo) -> Mapping {
    Mapping {
        input: format!("in-{}", servo.name.replace('.', "-")),
        joint: servo.name.clone(),
        angles_deg: Ends { low: Degrees::new(-50.0), high: Degrees::new(50.0) },
        failsafe: None,
    }
}

fn pose(name: &str, angle: f64, servos: &[Servo]) -> Pose {
    let angles = servos.iter().map(|s| (s.name.clone(), Degrees::new(angle)));
    Pose {
        id: PoseId::default(),
        name: name.to_owned(),
        angles_deg: angles.collect(),
        levels_percent: BTreeMap::new(),
    }
}

/// A stage that plays the first sequence of a rig, with every servo engaged and given back; and the time it is at.
pub fn playing(rig: &Rig, beat: Duration) -> (Stage, Duration) {
    let mut stage = Stage::new(Prepared::new(Plan::of(rig)), beat);
    let servos = rig.servos.iter().map(|servo| servo.id);
    let pulse = Micros::new(1500.0);
    let engage: Vec<Command> =
        servos.clone().map(|servo| Command::Engage { servo, pulse, stands_there: true }).collect();
    let give: Vec<Command> = servos.map(|servo| Command::GiveBack { servo }).collect();
    stage.advance(Duration::ZERO, Inflow::default(), &engage);
    stage.advance(beat, Inflow::default(), &give);
    stage.advance(beat * 2, Inflow::default(), &[Command::Play { sequence: rig.sequences[0].id }]);
    (stage, beat * 2)
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
    }
}
