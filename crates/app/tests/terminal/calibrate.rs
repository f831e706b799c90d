//! A maker calibrates a servo knowing only the next line, the numbers on the screen, and what the eye sees.

use crate::harness::{Home, Pane, number_behind, rig_beside, until};
use std::path::Path;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Ends, Limit, MarkKind};
use wasvolta_core::unit::{Degrees, Position};
use wasvolta_sim::Truth;

/// Waits until the horn stands; gives the angle the eye reads.
pub fn eye(pane: &Pane) -> f64 {
    look_at(pane, "horn")
}

/// The same, of what stands behind a word in the legend.
fn look_at(pane: &Pane, what: &str) -> f64 {
    let mut seen = None;
    let mut same = 0;
    until(
        || {
            let screen = pane.screen();
            // What an eye sees stands in the legend, behind its sign.
            let now = number_behind(&screen[screen.find('◇')?..], what)?;
            let stands =
                screen.contains("modelled") && !screen.contains("gliding\u{20}") && seen == Some(now);
            same = if stands { same + 1 } else { 0 };
            seen = Some(now);
            (same >= 8).then_some(now)
        },
        || format!("the horn never stood on\n{}", pane.screen()),
    )
}

/// Answers the mark entry with the fewest keys: nudges from the prediction, or the number typed.
fn answer(pane: &mut Pane, angle: f64) {
    answer_to(pane, "the horn stands at", angle);
}

fn answer_to(pane: &mut Pane, question: &str, angle: f64) {
    // A screen may be caught half drawn: wait for the number, not only for the words before it.
    let predicted = until(|| number_behind(&pane.screen(), question), || pane.screen());
    let typed = format!("{angle:.0}");
    let nudges = usize::from(wasvolta_core::unit::count16((angle - predicted).abs()));
    if nudges <= typed.len() {
        let key = if angle > predicted { "Right" } else { "Left" };
        for _ in 0..nudges {
            pane.keys(&[key]);
        }
    } else {
        pane.text(&typed);
    }
    pane.keys(&["Enter"]);
    pane.see("mark kept");
}

/// So many marks on the picked servo, following the next line; gives the keys pressed.
fn keep_marks(pane: &mut Pane, count: u32) -> u32 {
    pane.see("e gives punt.rudder its first pulse where its horn stands");
    let stands = until(|| number_behind(&pane.screen(), "◇ horn"), || pane.screen());
    pane.keys(&["e"]);
    pane.see("Where does the horn stand now?");
    pane.text(&format!("{stands:.0}"));
    pane.keys(&["Enter"]);
    pane.see("punt.rudder engaged");
    pane.see("m keeps it as a mark");
    pane.pressed = 0;
    for mark in 1..=count {
        if mark > 1 {
            pane.keys(&["n"]);
            pane.see("gliding to");
        }
        let angle = eye(pane);
        pane.keys(&["m"]);
        answer(pane, angle);
        pane.see_no_more("the horn stands at");
    }
    pane.pressed
}

/// The worst difference between the saved fit and the hidden servo, over 200 pulses between its limits.
fn worst_error(rig: &Path) -> f64 {
    let Loaded::Sound(loaded) = load(&std::fs::read_to_string(rig).unwrap()) else { panic!("not sound") };
    let servo = loaded.servo("punt.rudder").unwrap();
    let aligned = servo.marks.iter().filter(|m| m.seen == MarkKind::Aligned).count();
    assert!(aligned >= 5, "{:?}", servo.marks);
    let name = rig.to_str().unwrap().replace(".rig.toml", ".sim.toml");
    let truth = Truth::parse(&std::fs::read_to_string(name).unwrap()).unwrap();
    let hidden = truth.boards[0].servos.iter().find(|s| s.channel == 4).unwrap();
    assert!(hidden.curve_deg.abs() <= 0.3);
    let line = servo.fit().unwrap().curve;
    let Ends { low, high } = servo.ends();
    (0..200)
        .map(|n| low.get() + (high - low).get() * f64::from(n) / 199.0)
        .map(|pulse| (line.angle_at(Position::new(pulse)).get() - hidden.angle(pulse)).abs())
        .fold(0.0, f64::max)
}

fn save(pane: &mut Pane) {
    pane.keys(&["C-s"]);
    pane.see("saved to");
    pane.see_no_more("unsaved");
}

#[test]
fn five_marks_in_25_keys_find_the_servo_to_half_a_degree() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["demo"]);
    let keys = keep_marks(&mut pane, 5);
    assert!(keys <= 25, "{keys} keys");
    // What its data sheet says is not so, and the screen says that.
    pane.see("≠ data sheet: turns");
    save(&mut pane);
    let worst = worst_error(&home.demo_rig());
    println!("five marks in {keys} keys, worst error {worst:.3}°");
    assert!(worst <= 0.5, "{worst}°");
}

#[test]
fn a_wrong_oscillator_is_found_with_a_meter_and_corrected() {
    let home = Home::new();
    let rig = rig_beside(&home, str::to_owned, |sim| sim.replace("25_000_000", "26_100_000"));
    let mut pane = Pane::start(&home, &["open", rig.to_str().unwrap()]);
    // Two more than five: the half degree is to be the clock's, not a reading's.
    keep_marks(&mut pane, 7);
    save(&mut pane);
    let before = worst_error(&rig);
    assert!(before > 0.5, "a clock 4.4 % off must show: {before}°");
    let ticks = until(|| number_behind(&pane.screen(), "on the wire"), || pane.screen());
    pane.see("meter 52.230 Hz");
    let meter = 52.230;
    pane.act("correct clock");
    pane.see("A meter at an output of upper shows");
    pane.text(&meter.to_string());
    pane.keys(&["Enter"]);
    pane.see("clock of upper corrected");
    let after = until(|| number_behind(&pane.screen(), "on the wire"), || pane.screen());
    assert!((after - ticks).abs() < 0.5, "the ticks on the wire stay: {ticks}, {after}");
    save(&mut pane);
    let after = worst_error(&rig);
    println!("worst error {before:.3}° before, {after:.3}° after the clock was corrected");
    assert!(after <= 0.5, "{after}°");
}

/// Goes to an angle, and waits until it is commanded.
fn go_to(pane: &mut Pane, typed: &str, angle: f64) {
    pane.text(typed);
    pane.keys(&["Enter"]);
    let there = || number_behind(&pane.screen(), "━ commanded").filter(|now| (now - angle).abs() < 1.0);
    until(there, || pane.screen());
}

#[test]
fn a_rudder_behind_a_linkage_with_unequal_sides_is_calibrated_by_keys_only() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["demo"]);
    pane.see("e gives punt.rudder its first pulse where its horn stands");
    pane.keys(&[":"]);
    pane.text("linkage");
    pane.keys(&["Enter"]);
    pane.see("mm from the shaft to the rod");
    for (n, length) in ["16", "50", "22", "52", "90", "96"].into_iter().enumerate() {
        if n > 0 {
            pane.keys(&["Tab"]);
        }
        pane.text(length);
    }
    pane.keys(&["Enter"]);
    pane.see("a linkage, same side");
    pane.keys(&["e"]);
    pane.see("Where does the horn stand now?");
    pane.text("17");
    pane.keys(&["Enter"]);
    pane.see("punt.rudder engaged");
    pane.see("m keeps it as a mark");
    for mark in 1..=7 {
        if mark > 1 {
            pane.keys(&["n"]);
            pane.see("gliding to");
        }
        let angle = look_at(&pane, ", joint");
        pane.keys(&["m"]);
        answer_to(&mut pane, "the joint stands at", angle);
        pane.see_no_more("the joint stands at");
    }
    // The two sides come out unequal, and so are their limits. A sign says how much further: from 0° on.
    go_to(&mut pane, "0deg", 0.0);
    pane.keys(&["h"]);
    pane.see("home");
    for (typed, angle, reason) in
        [("-24deg", -24.0, "the tiller meets the rail"), ("27deg", 27.0, "the rod leans on the thwart")]
    {
        go_to(&mut pane, typed, angle);
        pane.keys(&["l"]);
        pane.see("limit is at");
        pane.text(&format!("{angle:.0}"));
        pane.keys(&["Enter"]);
        pane.see("because:");
        pane.text(reason);
        pane.keys(&["Enter"]);
        pane.see(reason);
    }
    save(&mut pane);
    let Loaded::Sound(rig) = load(&std::fs::read_to_string(home.demo_rig()).unwrap()) else {
        panic!("not sound")
    };
    let servo = rig.servo("punt.rudder").unwrap();
    let scale = rig.scale_of(servo).unwrap();
    let truth = Truth::parse(include_str!("../../../../examples/marsh-clock.sim.toml")).unwrap();
    let hidden = truth.boards[0].servos.iter().find(|s| s.channel == 4).unwrap();
    let Ends { low, high } = servo.ends();
    let worst = (0..=100)
        .map(|n| low.get() + (high - low).get() * f64::from(n) / 100.0)
        .map(|pulse| {
            // The horn is where the servo puts it, and the worked linkage says what that does to the arm.
            let joint = servo.through().joint_at(Degrees::new(hidden.angle(pulse)));
            (scale.angle_at(Position::new(pulse)) - joint).abs().get()
        })
        .fold(0.0, f64::max);
    println!("a rudder behind a linkage: worst error {worst:.2}° at the joint");
    assert!(worst <= 1.0, "{worst}°");
    let joint = rig.joint("punt.rudder").unwrap();
    let limit = |limit: &Option<Limit>| limit.as_ref().map(|l| l.angle_deg.get());
    assert_eq!((limit(&joint.low), limit(&joint.high)), (Some(-24.0), Some(27.0)));
    let sides = [-24.0, 27.0].map(|angle| (scale.pulse_at(Degrees::new(angle)) - servo.centre()).abs().get());
    assert!((sides[0] - sides[1]).abs() > 10.0, "unequal in pulses: {sides:?}");
}
