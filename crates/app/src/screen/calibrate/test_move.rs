//! Predict, then look: a test move says what should be seen, asks what is, and names the cause of the difference.

use crate::screen::calibrate::hand::glide;
use crate::screen::context::Context;
use crate::screen::dial::Dial;
use crate::screen::dial::Does;
use crate::screen::dialog::{Dialog, TestMove};
use crate::screen::keys::Key;
use wasvolta_core::diagnose::{self, Cause, Expected, Heard, Look};
use wasvolta_core::rig::Servo;
use wasvolta_core::unit::Hertz;

/// What a servo is judged by: its marks, or else its data sheet.
fn expected(servo: &Servo, rate: Hertz) -> Option<Expected> {
    let (curve, absolute) = match (servo.fit(), &servo.rated) {
        (Ok(fit), _) if fit.points.len() > 1 => (fit.curve, true),
        (_, Some(rated)) => (diagnose::from_sheet(rated.slope()), false),
        _ => return None,
    };
    Some(Expected { curve, absolute, centre: servo.centre(), rate })
}

/// Begins: says where it would go and what should be seen.
pub fn begin(desk: &mut Context) {
    let Some(Some(test)) = desk.picked(|p| {
        let expected = expected(p.servo, p.clock()?.rate())?;
        let moves = diagnose::moves(p.plan.guard.free(), expected.centre);
        let test = TestMove {
            expected,
            moves,
            step: 0,
            gone: false,
            dial: Dial::default(),
            heard: Heard::Quiet,
            looks: Vec::new(),
        };
        Some(test)
    }) else {
        return desk.refuse("nothing says what to expect: two marks, or ‹rated data›");
    };
    desk.model.in_calibrate.finding = None;
    desk.model.dialog = Some(Dialog::Test(test));
}

/// A key while a test move is under way.
pub fn key(desk: &mut Context, pressed: (Key, Option<Does>), mut test: TestMove) -> Option<Dialog> {
    match pressed.1 {
        Some(Does::Answer) if !test.gone => return go(desk, test),
        Some(Does::Answer) => return look(desk, test),
        Some(Does::Other) => {
            test.heard = match test.heard {
                Heard::Quiet => Heard::Buzzes,
                Heard::Buzzes => Heard::Twitches,
                Heard::Twitches => Heard::Quiet,
            };
            if test.heard != Heard::Quiet {
                // Whatever it pushes against, it need not push while one types.
                glide(desk, test.expected.centre);
            }
        }
        _ if test.gone => test.dial.press(pressed, 1.0),
        _ => {}
    }
    Some(Dialog::Test(test))
}

fn go(desk: &mut Context, mut test: TestMove) -> Option<Dialog> {
    let (pulse, angle) = test.prediction()?;
    glide(desk, pulse);
    // What a data sheet says begins where the horn is seen first.
    let off = test
        .looks
        .last()
        .map_or(0.0, |last| last.seen.get() - test.expected.curve.angle_at(last.pulse).get());
    let off = if test.expected.absolute { 0.0 } else { off };
    test.dial = Dial::at((angle + off).round());
    (test.gone, test.heard) = (true, Heard::Quiet);
    Some(Dialog::Test(test))
}

fn look(desk: &mut Context, mut test: TestMove) -> Option<Dialog> {
    let (stands, on_wire) = desk.picked(|p| (p.stands(), p.wire_pulse()))?;
    if !stands && test.heard == Heard::Quiet {
        desk.refuse("it still moves: wait until the horn stands");
        return Some(Dialog::Test(test));
    }
    let seen = match test.dial.angle() {
        Ok(seen) => seen,
        Err(words) => {
            desk.refuse(&words);
            test.dial.typing.clear();
            return Some(Dialog::Test(test));
        }
    };
    let &(pulse, from) = test.moves.get(test.step)?;
    // What the wire had, in whole ticks; it may be on its way back from a stop.
    let pulse = if test.heard == Heard::Quiet { on_wire } else { pulse };
    test.looks.push(Look { pulse, from, seen, heard: test.heard });
    (test.step, test.gone) = (test.step + 1, false);
    if test.step < test.moves.len() {
        return go(desk, test);
    }
    let cause = diagnose::cause(&test.expected, &test.looks);
    let words = format!("{}: {}", cause.name(), cause.words());
    desk.model.note(desk.model.snapshot.now, &format!("test move: {words}"));
    if let Some(servo) = desk.servo() {
        desk.model.in_calibrate.finding = Some((servo.id, words.clone()));
    }
    if cause == Cause::None {
        desk.say(&words);
    } else {
        desk.refuse(&words);
    }
    None
}
