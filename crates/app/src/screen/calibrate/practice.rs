//! Practice: what a dealt servo really is, beside what was found out about it.

use crate::screen::beside::Beside;
use crate::screen::context::Context;
use crate::screen::dialog::Dialog;
use crate::screen::ready::{Ready, need};
use crate::screen::scene::{Picked, Scene};
use std::time::Duration;
use wasvolta_core::rig::{Ends, MarkKind};
use wasvolta_core::unit::Position;
use wasvolta_sim::practice::{Deal, Wrong};

/// The least marks for which the truth is shown: with fewer there is nothing beside which to show it.
const ENOUGH: usize = 2;

/// How many of the servo's marks are angles.
fn aligned(picked: &Picked) -> usize {
    picked.servo.marks.iter().filter(|mark| mark.seen == MarkKind::Aligned).count()
}

/// It hangs where the dealt servo does. Any other servo of the bench has a truth of its own.
fn dealt(scene: &Scene, picked: &Picked) -> bool {
    let port = scene.rig.port(&picked.board.port);
    let way = port.and_then(|port| port.path.strip_prefix("sim:"));
    way == Some(Deal::BUS)
        && picked.board.address == Some(Deal::ADDRESS)
        && picked.servo.plug() == Deal::CHANNEL
}

/// Somebody practises, picked the dealt servo, and has marks beside which the truth can stand.
pub fn practised(scene: &Scene) -> Ready {
    need(
        scene.practice.is_some(),
        "nothing is hidden here: `wasvolta practice` deals a servo to find out about",
    )?;
    let dealt = scene.picked().filter(|picked| dealt(scene, picked));
    need(dealt.is_some(), "that is not the servo that was dealt: its truth is another's")?;
    let marks = dealt.map_or(0, |picked| aligned(&picked));
    need(marks >= ENOUGH, "keep two marks first: there is nothing beside which to show it yet")
}

/// Shows what the servo really is.
pub fn show(desk: &mut Context) {
    // By the engine's time, which passes by hand where somebody lets it.
    let (presses, now) = (desk.model.presses, desk.model.snapshot.now);
    let scene = desk.model.scene(desk.session);
    let Some((deal, picked)) = scene.practice.zip(scene.picked()) else { return };
    let rows = rows(&scene, &picked, deal);
    let words = format!(
        "Deal {}, {presses} keys in {}. `wasvolta practice` deals another, `--deal {}` this one again.",
        deal.number,
        time(now),
        deal.number
    );
    let angles = angles(&picked, deal);
    desk.model.dialog = Some(Dialog::Compare { other: "what it really is".to_owned(), words, rows, angles });
}

/// Its real angles, a little beyond where it follows, or as far as its endpoints go.
fn angles(picked: &Picked, deal: &Deal) -> Vec<(f64, f64)> {
    let believed = picked.board.oscillator_hz.get();
    let (Ends { low, high }, own) = (deal.follows(believed), picked.servo.ends());
    let (low, high) = (low.min(own.low.get()) - 60.0, high.max(own.high.get()) + 60.0);
    let pulses = (0..=120).map(|n| low + (high - low) * f64::from(n) / 120.0);
    pulses.map(|pulse| (pulse, deal.angle(pulse, believed))).collect()
}

fn time(taken: Duration) -> String {
    let seconds = taken.as_secs();
    if seconds < 60 { format!("{seconds} s") } else { format!("{} min {} s", seconds / 60, seconds % 60) }
}

/// A line a thing: what was found, what is so, and whether that is near enough.
fn rows(scene: &Scene, picked: &Picked, deal: &Deal) -> Vec<Beside> {
    let believed = picked.board.oscillator_hz.get();
    let clock = believed / deal.oscillator_hz;
    let fit = scene.fit().and_then(|fit| fit.as_ref().ok());
    let none = || "not found out".to_owned();
    let mut rows = Vec::new();
    let mut row = |what: &str, one: String, other: String, agrees: bool| {
        rows.push(Beside { what: what.to_owned(), one, other, agrees });
    };
    let gain = deal.servo.gain_deg_per_100us * (1.0 - deal.servo.sag) * clock;
    let own = fit.map(|fit| fit.line.gain() * 100.0);
    row(
        "slope",
        own.map_or_else(none, |own| format!("{own:+.2} °/100 µs")),
        format!("{gain:+.2} °/100 µs"),
        own.is_some_and(|own| (own / gain - 1.0).abs() < 0.02),
    );
    let zero = deal.servo.zero_us / clock;
    let own = fit.map(|fit| fit.curve.pulse_at(wasvolta_core::unit::Degrees::ZERO).get());
    row(
        "0° at",
        own.map_or_else(none, |own| format!("{own:.1} µs")),
        format!("{zero:.1} µs"),
        own.is_some_and(|own| ((own - zero) * gain / 100.0).abs() < 1.0),
    );
    let Ends { low, high } = picked.servo.ends();
    let worst = fit.map(|fit| {
        let steps = (0..=200).map(|n| low + (high - low) * (f64::from(n) / 200.0));
        let off = |at: Position| fit.curve.angle_at(at).get() - deal.angle(at.get(), believed);
        steps
            .map(|at| (at, off(at)))
            .fold((low, 0.0), |a: (Position, f64), b| if b.1.abs() > a.1.abs() { b } else { a })
    });
    row(
        "worst miss",
        worst.map_or_else(none, |(at, off)| format!("{off:+.1}° at {:.0} µs", at.get())),
        "0° between the endpoints".to_owned(),
        worst.is_some_and(|(_, off)| off.abs() < 1.5),
    );
    let follows = deal.follows(believed);
    for (what, own, end, inside) in [
        ("low endpoint", low.get(), follows.low, low.get() - follows.low),
        ("high endpoint", high.get(), follows.high, follows.high - high.get()),
    ] {
        let words = if inside >= 0.0 {
            format!("{inside:.0} µs inside")
        } else {
            format!("{:.0} µs beyond", -inside)
        };
        // So far inside it wastes travel, beyond it buzzes.
        row(
            what,
            format!("{own:.0} µs, {words}"),
            format!("follows to {end:.0} µs"),
            (0.0..60.0).contains(&inside),
        );
    }
    let slack = fit.and_then(|fit| fit.slack.as_ref()).map(|slack| slack.mean.get());
    row(
        "slack",
        slack.map_or_else(none, |slack| format!("{slack:.1}°")),
        format!("{:.1}°", deal.servo.slack_deg),
        slack.map_or(deal.servo.slack_deg < 1.0, |slack| (slack - deal.servo.slack_deg).abs() < 1.0),
    );
    row(
        "board's clock",
        format!("{:.3} MHz", believed / 1e6),
        format!("{:.3} MHz", deal.oscillator_hz / 1e6),
        (clock - 1.0).abs() < 0.005,
    );
    let wrong = deal.wrong.map_or("nothing: it is as its data sheet says", Wrong::words);
    rows.push(Beside {
        what: "what is wrong".to_owned(),
        one: String::new(),
        other: wrong.to_owned(),
        agrees: true,
    });
    rows
}
