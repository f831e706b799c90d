//! Forms about one servo, its joint, its board, its cards: what each asks, and what is done with the answers.

use crate::screen::calibrate::cards;
use crate::screen::context::Context;
use crate::screen::entry;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::question::{Question, questions};
use wasvolta_core::fit::Side;
use wasvolta_core::linkage::{Branch, FourBar, Gear, Steering};
use wasvolta_core::preset;
use wasvolta_core::rig::edit::{self, boards, joint as joints, marks, roster};
use wasvolta_core::rig::{Ailing, Back, Ends, Exercised, Idle, Rated, Rig, Servo};
use wasvolta_core::stage::Command;
use wasvolta_core::stage::exercise::Exercise;
use wasvolta_core::unit::{Amps, Degrees, Hertz, Millimetres, Position, Seconds, Volts, count16};

/// The picked servo with its rig.
fn picked(desk: &Context) -> Option<(std::sync::Arc<Rig>, Servo)> {
    let rig = std::sync::Arc::clone(&desk.session.document.rig);
    let servo = desk.servo()?.clone();
    Some((rig, servo))
}

fn kind_of(desk: &Context, servo: &str) -> wasvolta_core::rig::Kind {
    desk.session.document.rig.servo(servo).map_or_else(Default::default, |servo| servo.kind)
}

fn open(desk: &mut Context, what: &Question, of: &str, fields: Vec<Field>) {
    desk.ask(what.name, Subject::of(of), fields);
}

/// Asks what is seen since the horn was put on anew.
pub fn horn_moved(desk: &mut Context, servo: &str, pulse: Position, expected: f64) {
    let at = kind_of(desk, servo).show_place(pulse);
    let hint = format!("the marks say {expected:+.1}° at {at}");
    let fields = vec![Field::new("the horn stands at", format!("{expected:.0}"), hint)];
    open(desk, &HORN_MOVED, servo, fields);
}

/// Asks what a servo's data sheet says.
pub fn rated(desk: &mut Context) {
    let Some((_, servo)) = picked(desk) else { return };
    let known = servo.rated.as_ref();
    let number = |value: Option<f64>| value.map_or_else(String::new, |v| format!("{v}"));
    let pulses =
        known.map_or_else(String::new, |r| format!("{}..{}", r.over().low.get(), r.over().high.get()));
    // What a class says is in µs, and of hobby servos.
    let class = Field::new("class", "", "micro, mini, standard, large, winch or continuous fills the rest");
    let mut fields: Vec<Field> = (!servo.kind.is_smart()).then_some(class).into_iter().collect();
    fields.extend([
        Field::new("travel", number(known.map(|r| r.travel_deg.get())), "degrees over what stands beside it"),
        Field::new(
            "over",
            pulses,
            if servo.kind.is_smart() { "its counts, as 0..4096" } else { "its pulses, as 900..2100 µs" },
        ),
        Field::new("s/60°", number(known.and_then(|r| r.s_per_60_deg).map(Seconds::get)), "seconds, as 0.15"),
        Field::new("stall", number(known.and_then(|r| r.stall_a).map(Amps::get)), "amperes, as 1.2"),
    ]);
    open(desk, &RATED, &servo.name, fields);
}

/// Asks for endpoints, centre and home.
pub fn ends(desk: &mut Context) {
    let Some((rig, servo)) = picked(desk) else { return };
    let Ends { low, high } = servo.ends();
    let smart = servo.kind.is_smart();
    let typed = |place: Position| {
        if smart { format!("{:.0}counts", place.get()) } else { format!("{:.1}us", place.get()) }
    };
    let [least, most, middle] = if smart {
        ["lowest position that may ever be sent; or an angle, as -60deg", "highest", "its centre"]
    } else {
        [
            "shortest pulse that may ever be sent; or an angle, as -60deg",
            "longest pulse that may ever be sent",
            "its centre pulse",
        ]
    };
    let mut fields = vec![
        Field::new("low", typed(low), least),
        Field::new("high", typed(high), most),
        Field::new("centre", typed(servo.centre()), middle),
    ];
    if let Some(joint) = rig.joint_of(&servo.name).filter(|_| servo.fit().is_ok()) {
        let home = joint.home_deg.map_or_else(String::new, |home| format!("{}", home.get()));
        fields.push(Field::new("home", home, "degrees, where it rests; empty for none"));
    }
    open(desk, &ENDS, &servo.name, fields);
}

/// Asks for the teeth of its spline, and the side from which it should arrive.
pub fn spline(desk: &mut Context) {
    let Some((_, servo)) = picked(desk) else { return };
    let teeth = servo.teeth.map_or_else(String::new, |teeth| teeth.to_string());
    let side = match servo.arrive {
        Side::Unknown => "either",
        Side::Below => "below",
        Side::Above => "above",
    };
    let fields = vec![
        Field::new("teeth", teeth, "of its spline; empty when not counted"),
        Field::new("arrives from", side, "either, below or above: from one side slack does not matter"),
    ];
    open(desk, &SPLINE, &servo.name, fields);
}

/// Asks about what it is reversed.
pub fn reverse(desk: &mut Context) {
    let Some((_, servo)) = picked(desk) else { return };
    let said = |about: joints::About| {
        Some(format!("{}: about {}", about.word(), servo.kind.show_place(about.middle(&servo)?)))
    };
    let hint = joints::About::ALL.into_iter().filter_map(said).collect::<Vec<_>>().join("; ");
    // Which way it turns was never seen where one mark is all there is: that mark stays as it was read.
    let first = joints::About::Mark.middle(&servo).map_or(joints::About::Centre, |_| joints::About::Mark);
    open(desk, &REVERSE, &servo.name, vec![Field::new("about", first.word(), hint)]);
}

/// Asks for a gear or a belt.
pub fn gear(desk: &mut Context) {
    let Some((_, servo)) = picked(desk) else { return };
    let gear = servo.gear.unwrap_or(Gear { ratio: 1.0, offset_deg: Degrees::ZERO });
    let fields = vec![
        Field::new(
            "ratio",
            format!("{}", gear.ratio),
            "degrees of the joint for one of the servo; 1 for none",
        ),
        Field::new(
            "offset",
            format!("{}", gear.offset_deg.get()),
            "degrees of the joint with the servo at 0°",
        ),
    ];
    open(desk, &GEAR, &servo.name, fields);
}

/// Asks for the lengths of a linkage.
pub fn linkage(desk: &mut Context) {
    let Some((_, servo)) = picked(desk) else { return };
    let known = servo.linkage;
    let mm = |of: fn(&FourBar) -> Millimetres| {
        known.as_ref().map_or_else(String::new, |bars| format!("{}", of(bars).get()))
    };
    let arm = known.and_then(|bars| bars.arm_at(bars.horn_at_deg).ok());
    let fields = vec![
        Field::new("horn", mm(|b| b.horn_mm), "mm from the shaft to the rod"),
        Field::new("rod", mm(|b| b.rod_mm), "mm between its two pins"),
        Field::new("arm", mm(|b| b.arm_mm), "mm from the joint's axis to the rod"),
        Field::new("pivots", mm(|b| b.pivots_mm), "mm from the shaft to the joint's axis"),
        Field::new(
            "horn at",
            known.map_or_else(|| "90".to_owned(), |b| format!("{}", b.horn_at_deg.get())),
            "degrees from the line between the axes, with the servo at 0°",
        ),
        Field::new(
            "arm at",
            arm.map_or_else(|| "90".to_owned(), |arm| format!("{:.0}", arm.get())),
            "roughly: it tells which of two solutions is meant",
        ),
        Field::new(
            "joint at",
            known.map_or_else(|| "0".to_owned(), |b| format!("{}", b.offset_deg.get())),
            "degrees that the joint counts then",
        ),
    ];
    open(desk, &LINKAGE, &servo.name, fields);
}

/// Asks which other servo turns the same joint.
pub fn couple(desk: &mut Context) {
    let Some((rig, servo)) = picked(desk) else { return };
    let Some(joint) = rig.joint_of(&servo.name) else { return };
    let other = rig.servos.iter().find(|s| s.kind.has_angles() && !joint.servos().any(|t| t == s.name));
    let fields =
        vec![Field::new("with", other.map_or("", |s| s.name.as_str()), "a servo that turns the same joint")];
    open(desk, &COUPLE, &joint.name, fields);
}

/// Lets the picked servo turn a joint of its own again.
pub fn uncouple(desk: &mut Context) {
    let Some((rig, servo)) = picked(desk) else { return };
    let Some(joint) = rig.joint_of(&servo.name) else { return };
    let leaves =
        if joint.servo == servo.name { joint.others.first().cloned() } else { Some(servo.name.clone()) };
    let Some(leaves) = leaves else { return desk.refuse("it is the only servo of its joint") };
    desk.edit(&format!("{leaves} turns a joint of its own"), |rig| joints::uncouple(rig, &leaves));
}

/// Asks for the geometry of a steered pair.
pub fn steering(desk: &mut Context) {
    let Some((rig, servo)) = picked(desk) else { return };
    let Some(joint) = rig.joint_of(&servo.name) else { return };
    let known = joint.steering;
    let mm = |of: fn(&Steering) -> Millimetres| {
        known.as_ref().map_or_else(String::new, |p| format!("{}", of(p).get()))
    };
    let fields = vec![
        Field::new("track", mm(|p| p.track_mm), "mm between the kingpins; empty for no pair"),
        Field::new("wheelbase", mm(|p| p.wheelbase_mm), "mm to the other axle"),
    ];
    open(desk, &STEERING, &joint.name, fields);
}

/// Asks how the maker sees the joint.
pub fn mounting(desk: &mut Context) {
    let Some((rig, servo)) = picked(desk) else { return };
    let Some(joint) = rig.joint_of(&servo.name) else { return };
    let turns = if joint.anticlockwise { "anticlockwise" } else { "clockwise" };
    let fields = vec![
        Field::new("0° points", format!("{}", joint.mounted_deg.get()), "degrees clockwise from straight up"),
        Field::new("angles rise", turns, "clockwise or anticlockwise, as you see it"),
    ];
    open(desk, &MOUNTING, &joint.name, fields);
}

fn volts_said(volts: Option<Volts>) -> String {
    volts.map_or_else(String::new, |volts| format!("{}", volts.get()))
}

/// Asks which supply and signal a servo takes, and which signal its board gives.
pub fn volts(desk: &mut Context) {
    let Some((rig, servo)) = picked(desk) else { return };
    let takes =
        servo.volts.map_or_else(String::new, |Ends { low: a, high: b }| format!("{}..{}", a.get(), b.get()));
    let gives = rig.board(&servo.board).and_then(|board| board.signal_volts);
    let fields = vec![
        Field::new("supply", takes, "volts that it takes, as 4.8..6; empty when not known"),
        Field::new("signal from", volts_said(servo.signal_volts), "volts at least, as its data sheet says"),
        Field::new("board gives", volts_said(gives), "volts of its board's signal, as 3.3 or 5"),
    ];
    open(desk, &VOLTS, &servo.name, fields);
}

/// Asks with which level an input's signal comes, and how much its pin takes.
pub fn pin_volts(desk: &mut Context) {
    let Some(input) = desk.input().cloned() else { return };
    let fields = vec![
        Field::new("comes with", volts_said(input.signal_volts), "volts at most, as 5; empty when not known"),
        Field::new("pin takes", volts_said(input.pin_volts), "volts at most, as 3.3"),
    ];
    open(desk, &PIN_VOLTS, &input.name, fields);
}

/// Volts as they are written; nothing where nobody knows.
fn typed_volts(text: &str) -> Result<Option<Volts>, String> {
    let number = text.trim_end_matches(['V', 'v', ' ']);
    if number.is_empty() {
        return Ok(None);
    }
    number
        .parse()
        .map(|volts| Some(Volts::new(volts)))
        .map_err(|_| format!("{text:?} is not a voltage: write 3.3 or 5"))
}

fn levels(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let takes = match form.word(0).split_once("..") {
        Some((a, b)) => typed_volts(a)?.zip(typed_volts(b)?).map(|(a, b)| Ends { low: a, high: b }),
        None if form.word(0).is_empty() => None,
        None => return Err("write the least and the greatest volts, as 4.8..6".to_owned()),
    };
    let (signal, gives) = (typed_volts(form.word(1))?, typed_volts(form.word(2))?);
    let board = desk.session.document.rig.servo(of).map(|s| s.board.clone()).unwrap_or_default();
    desk.done(
        &format!("{of}: what it takes and its board gives is kept; Wiring says where they differ"),
        |rig| boards::set_signal(&roster::set_levels(rig, of, takes, signal)?, &board, gives),
    )
}

fn pin_levels(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let (comes, takes) = (typed_volts(form.word(0))?, typed_volts(form.word(1))?);
    desk.done(&format!("{of}: its level is kept; Wiring says where its pin takes less"), |rig| {
        edit::change_input(rig, of, |input| (input.signal_volts, input.pin_volts) = (comes, takes))
    })
}

/// Asks for a board's frame rate.
pub fn frame_rate(desk: &mut Context) {
    let Some((rig, servo)) = picked(desk) else { return };
    let Some(board) = rig.board(&servo.board) else { return };
    let fields = vec![Field::new(
        "frames a second",
        format!("{}", board.frame_hz.get()),
        "40 to 400 Hz; its slowest servo must take it",
    )];
    open(desk, &FRAME_RATE, &board.name, fields);
}

/// Asks when an idle servo is released.
pub fn auto_release(desk: &mut Context) {
    let after =
        desk.session.document.rig.release_after_s.map_or_else(|| "0".to_owned(), |s| format!("{}", s.get()));
    let fields = vec![Field::new(
        "after",
        format!("{after}s"),
        "left alone by the hand; 0s for never; loaded joints never are",
    )];
    open(desk, &AUTO_RELEASE, "", fields);
}

/// Asks what happens to the picked joint when its board is back and its pulses had stopped meanwhile.
pub fn back(desk: &mut Context) {
    let found = desk.picked(|p| p.joint.map(|j| (j.name.clone(), j.back, p.servo.kind.is_smart())));
    let Some(Some((joint, now, smart))) = found else { return };
    let word = BACKS.iter().find(|(back, _)| *back == now).map_or("usual", |(_, word)| word);
    let hint = if smart {
        "usual, last (stiff again where it is), ask (limp until ‹engage›), stay-released"
    } else {
        "usual, last (go on from its last pulse), ask (where it stands), stay-released"
    };
    open(desk, &BACK, &joint, vec![Field::new("then", word, hint)]);
}

/// What may happen to a joint then, by its word.
const BACKS: [(Option<Back>, &str); 4] = [
    (None, "usual"),
    (Some(Back::Last), "last"),
    (Some(Back::Ask), "ask"),
    (Some(Back::StayReleased), "stay-released"),
];

/// Asks what happens to the picked joint while its smart servo ails.
pub fn ailing(desk: &mut Context) {
    let Some(Some((joint, now))) = desk.picked(|p| p.joint.map(|j| (j.name.clone(), j.ailing))) else {
        return;
    };
    let word = Ailing::ALL.iter().find(|(ailing, _)| *ailing == now).map_or("slower", |(_, word)| word);
    let hint = "slower (half its speed), hold (stop where it is), limp (it may sag), go-on (only say so)";
    open(desk, &AILING, &joint, vec![Field::new("then", word, hint)]);
}

/// Asks over what, how fast and how often a servo goes to and fro.
pub fn exercise(desk: &mut Context) {
    let found = desk.picked(|p| {
        let (low, high) = p.plan.guard.free();
        (p.servo.name.clone(), low, high, p.slope(), p.servo.kind)
    });
    let Some((name, low, high, slope, kind)) = found else { return };
    let speed = if slope.is_some() { 60.0 } else { 300.0 };
    let unit = if kind.is_smart() { "counts" } else { "us" };
    let fields = vec![
        Field::new("from", format!("{:.0}{unit}", low.get()), "a place, or an angle as -30deg"),
        Field::new("to", format!("{:.0}{unit}", high.get()), "a place, or an angle as 30deg"),
        Field::new(
            "speed",
            format!("{speed}"),
            match (slope, kind.is_smart()) {
                (Some(_), _) => "degrees a second",
                (None, true) => "counts a second",
                (None, false) => "µs a second",
            },
        ),
        Field::new("pause", "0.5s", "at either end"),
        Field::new(
            "times",
            "10",
            "there and back; 0 for a routine: centre, both sides, then slowly over all",
        ),
    ];
    open(desk, &EXERCISE, &name, fields);
}

/// Asks what was seen during an exercise.
pub fn seen(desk: &mut Context) {
    if let Some((_, servo)) = picked(desk) {
        let fields =
            vec![Field::new("what was seen", "", "in words, kept with the servo; Esc keeps nothing")];
        open(desk, &SEEN, &servo.name, fields);
    }
}

/// Asks how a continuous servo stands still.
pub fn idle(desk: &mut Context) {
    let Some((_, servo)) = picked(desk) else { return };
    let by = if servo.idle == Idle::Release { "release" } else { "pulse" };
    open(
        desk,
        &IDLE,
        &servo.name,
        vec![Field::new("by", by, "pulse: it sees its stop pulse; release: none at all")],
    );
}

/// Asks for a card to put on the picked servo.
pub fn load_card(desk: &mut Context) {
    let Some((_, servo)) = picked(desk) else { return };
    let cards = desk.session.document.cards();
    let Some(first) = cards.first().cloned() else {
        return desk.refuse("there is no *.servo.toml beside this rig; ‹save card› writes one");
    };
    let hint = format!("there are {}", cards.join(", "));
    open(desk, &LOAD_CARD, &servo.name, vec![Field::new("card", first, hint)]);
}

/// Asks for a card to compare the picked servo with.
pub fn compare_card(desk: &mut Context) {
    let Some((_, servo)) = picked(desk) else { return };
    let cards = desk.session.document.cards();
    let Some(first) = cards.first().cloned() else {
        return desk.refuse("there is no *.servo.toml beside this rig; ‹save card› writes one");
    };
    let hint = format!("there are {}", cards.join(", "));
    open(desk, &COMPARE_CARD, &servo.name, vec![Field::new("with", first, hint)]);
}

/// Asks where marks are written to.
pub fn marks_out(desk: &mut Context) {
    if let Some((_, servo)) = picked(desk) {
        let file = format!("{}-marks.csv", servo.name);
        open(
            desk,
            &MARKS_OUT,
            &servo.name,
            vec![Field::new("file", file, "comma-separated, a line for each mark")],
        );
    }
}

/// Asks where marks are read from.
pub fn marks_in(desk: &mut Context) {
    if let Some((_, servo)) = picked(desk) {
        let file = format!("{}-marks.csv", servo.name);
        let head = if servo.kind.is_smart() {
            "a header with counts and angle_deg, then a line for each mark"
        } else {
            "a header with pulse_us and angle_deg, then a line for each mark"
        };
        open(desk, &MARKS_IN, &servo.name, vec![Field::new("file", file, head)]);
    }
}

questions! {
    HORN_MOVED("horn moved") => |desk, about, form| moved(desk, &about.of, form);
    RATED("rated") => |desk, about, form| sheet(desk, &about.of, form);
    ENDS("ends") => |desk, about, form| typed_ends(desk, &about.of, form);
    SPLINE("spline") => |desk, about, form| typed_spline(desk, &about.of, form);
    REVERSE("reverse") => |desk, about, form| reversed(desk, &about.of, form);
    GEAR("gear") => |desk, about, form| geared(desk, &about.of, form);
    LINKAGE("linkage") => |desk, about, form| linked(desk, &about.of, form);
    COUPLE("couple") => |desk, Subject { of, .. }, form| {
            let other = form.word(0);
            desk.done(&format!("{other} turns {of} too: they move only together"), |rig| {
                joints::couple(rig, of, other)
            })
        };
    STEERING("steering") => |desk, about, form| steered(desk, &about.of, form);
    MOUNTING("mounting") => |desk, about, form| mounted(desk, &about.of, form);
    VOLTS("volts") => |desk, about, form| levels(desk, &about.of, form);
    PIN_VOLTS("signal level") => |desk, about, form| pin_levels(desk, &about.of, form);
    FRAME_RATE("frame rate") => |desk, Subject { of, .. }, form| {
            let rate = Hertz::new(entry::hertz(form.word(0))?);
            let words = format!("{of} sends {} frames a second; pulses and angles stay", rate.get());
            desk.done(&words, |rig| joints::set_frame_rate(rig, of, rate))
        };
    AUTO_RELEASE("auto-release") => |desk, _, form| {
            let after = Some(Seconds::new(entry::seconds(form.word(0))?)).filter(|s| *s != Seconds::ZERO);
            let words = after.map_or_else(
                || "no servo is released automatically".to_owned(),
                |s| format!("a servo left alone for {} s is released, unless its joint is loaded", s.get()),
            );
            desk.done(&words, |rig| roster::set_auto_release(rig, after))
        };
    BACK("board back") => |desk, Subject { of, .. }, form| {
            let (back, word) = BACKS[chosen(form.word(0), &BACKS.map(|(_, word)| word))?];
            let words = format!("{of} when its board is back: {word}");
            desk.done(&words, |rig| joints::set_back(rig, of, back))
        };
    AILING("on servo fault") => |desk, Subject { of, .. }, form| {
            let (ailing, word) = Ailing::ALL[chosen(form.word(0), &Ailing::ALL.map(|(_, word)| word))?];
            let words = format!("{of} while its servo ails: {word}");
            desk.done(&words, |rig| joints::set_ailing(rig, of, ailing))
        };
    EXERCISE("exercise") => |desk, _, form| exercised(desk, form);
    SEEN("what was seen") => |desk, about, form| noted(desk, &about.of, form);
    IDLE("standing still") => |desk, Subject { of, .. }, form| {
            let release = chosen(form.word(0), &["pulse", "release"])? == 1;
            let (idle, words) = if release {
                (Idle::Release, format!("{of} stands still without pulses"))
            } else {
                (Idle::Pulse, format!("{of} stands still by its stop pulse"))
            };
            desk.done(&words, |rig| roster::set_idle(rig, of, idle))
        };
    LOAD_CARD("load card") => |desk, about, form| cards::load(desk, &about.of, form.word(0));
    COMPARE_CARD("compare") => |desk, about, form| cards::compare(desk, &about.of, form.word(0));
    MARKS_OUT("marks to") => |desk, about, form| cards::marks_out(desk, &about.of, form.word(0));
    MARKS_IN("marks from") => |desk, about, form| cards::marks_in(desk, &about.of, form.word(0));
}

/// Which of some words one begins.
fn chosen(said: &str, words: &[&str]) -> Result<usize, String> {
    let said = said.trim().to_lowercase();
    let found = words.iter().position(|word| !said.is_empty() && word.starts_with(&said));
    found.ok_or_else(|| format!("{said:?} is not one of {}", words.join(", ")))
}

fn moved(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let seen = entry::angle(form.word(0))?;
    let (pulse, servo) = desk.picked(|p| (p.wire_pulse(), p.servo.clone())).ok_or("no servo is picked")?;
    let by = marks::moved_by(&servo, pulse, seen).map_err(|refused| refused.to_string())?;
    let teeth = servo.teeth.map_or_else(String::new, |teeth| {
        format!(", {:.0} teeth", (by.get() / 360.0 * f64::from(teeth)).abs())
    });
    desk.done(&format!("the horn was moved: marks shifted by {:+.1}°{teeth}", by.get()), |rig| {
        marks::move_horn(rig, of, by)
    })
}

fn sheet(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let said = |label: &str| form.said(label).filter(|text| !text.is_empty());
    if let Some(class) = said("class") {
        let preset = preset::named(class).ok_or_else(|| {
            let names: Vec<&str> = preset::ALL.iter().map(|p| p.name).collect();
            format!("{class:?} is not a class: {}", names.join(", "))
        })?;
        let words = format!("typical data of a {} servo: marks tell what it really does", preset.name);
        return desk.done(&words, |rig| roster::set_class(rig, of, preset));
    }
    let number = |label: &str| said(label).map(entry::plain).transpose();
    let kind = kind_of(desk, of);
    let (unit, help) = if kind.is_smart() {
        ("counts", "write the counts of the travel as 0..4096")
    } else {
        ("us", "write the pulses of the travel as 900..2100")
    };
    let (low, high) = said("over").and_then(|text| text.split_once("..")).ok_or(help)?;
    let pulse = |text: &str| entry::plain(text.trim().trim_end_matches(unit)).map(Position::new);
    let before = desk.session.document.rig.servo(of).and_then(|s| s.rated.clone());
    let over = Ends { low: pulse(low)?, high: pulse(high)? };
    let rated = Rated {
        travel_deg: Degrees::new(number("travel")?.ok_or("write the travel in degrees")?),
        s_per_60_deg: number("s/60°")?.map(Seconds::new),
        stall_a: number("stall")?.map(Amps::new),
        ..before.unwrap_or(Rated::NOTHING).with_over(kind, over)
    };
    let words = format!(
        "rated {:.0}° over {} to {} {}",
        rated.travel_deg.get(),
        rated.over().low.get(),
        rated.over().high.get(),
        kind.place_unit()
    );
    desk.done(&words, |rig| roster::set_rated(rig, of, Some(rated)))
}

fn typed_ends(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let context = desk.pulse_context().ok_or("no servo is picked")?;
    let pulse = |label: &str| entry::pulse(form.said(label).unwrap_or_default(), &context);
    let (low, high, centre) = (pulse("low")?, pulse("high")?, pulse("centre")?);
    let home = form.said("home").filter(|text| !text.is_empty());
    let home = home.map(|text| entry::angle_of(text, Some(&context))).transpose()?;
    let asks_home = form.said("home").is_some();
    let was = desk.session.document.rig.servo(of).map(Servo::centre);
    let joint = desk.session.document.rig.joint_of(of).map(|j| j.name.clone());
    let kind = kind_of(desk, of);
    let words = format!(
        "endpoints {:.0} and {}, centre {}",
        low.get(),
        kind.show_place(high),
        kind.show_place(centre)
    );
    desk.done(&words, |rig| {
        let mut next = edit::set_endpoints(rig, of, Ends { low, high })?;
        if was.is_none_or(|was| (was - centre).abs().get() > 0.05) {
            next = edit::set_centre(&next, of, centre)?;
        }
        match joint.filter(|_| asks_home) {
            Some(joint) => edit::set_home_or_none(&next, &joint, home),
            None => Ok(next),
        }
    })
}

fn typed_spline(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let teeth = match form.word(0) {
        "" => None,
        text => Some(text.parse::<u8>().map_err(|_| format!("{text:?} is not a number of teeth"))?),
    };
    let side =
        [Side::Unknown, Side::Below, Side::Above][chosen(form.word(1), &["either", "below", "above"])?];
    let arrives = match side {
        Side::Unknown => "arrives from either side".to_owned(),
        side => format!("arrives {} everywhere", side.word()),
    };
    desk.done(&format!("{of} {arrives}"), |rig| {
        marks::set_arrival(&marks::set_teeth(rig, of, teeth)?, of, side)
    })
}

fn reversed(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let all = joints::About::ALL;
    let about = all[chosen(form.word(0), &all.map(joints::About::word))?];
    let words = format!("reversed about its {}; limits and home stay where they are", about.word());
    desk.done(&words, |rig| joints::reverse(rig, of, about))
}

fn geared(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let (ratio, offset) = (entry::plain(form.word(0))?, entry::angle(form.word(1))?);
    let gear = Gear { ratio, offset_deg: offset };
    let none = Gear { ratio: 1.0, offset_deg: Degrees::ZERO };
    let (gear, words) = if gear == none {
        (None, "the servo's shaft is the joint".to_owned())
    } else {
        (Some(gear), format!("{ratio}° of the joint for each degree of the servo"))
    };
    desk.done(&words, |rig| joints::set_gear(rig, of, gear))
}

fn linked(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let mm = |n: usize| entry::millimetres(form.word(n));
    let before = desk.session.document.rig.servo(of).and_then(|s| s.linkage);
    let bars = FourBar {
        horn_mm: mm(0)?,
        rod_mm: mm(1)?,
        arm_mm: mm(2)?,
        pivots_mm: mm(3)?,
        horn_at_deg: entry::angle(form.word(4))?,
        branch: Branch::default(),
        offset_deg: entry::angle(form.word(6))?,
        reversed: before.is_some_and(|bars| bars.reversed),
    };
    let bars = FourBar { branch: joints::branch_by(bars, entry::angle(form.word(5))?), ..bars };
    let words = format!(
        "a linkage, {}; ‹mechanism› draws it where there is room for one drawing only",
        bars.branch.word()
    );
    desk.done(&words, |rig| joints::set_linkage(rig, of, bars))
}

fn steered(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let pair = match (form.word(0), form.word(1)) {
        ("", _) => None,
        (track, base) => {
            Some(Steering { track_mm: entry::millimetres(track)?, wheelbase_mm: entry::millimetres(base)? })
        }
    };
    let words = if pair.is_some() {
        "a steered pair: its angle is that of a wheel in the middle"
    } else {
        "no steered pair"
    };
    desk.done(words, |rig| joints::set_steering(rig, of, pair))
}

fn mounted(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let angle = entry::angle(form.word(0))?;
    let anticlockwise = chosen(form.word(1), &["clockwise", "anticlockwise"])? == 1;
    desk.done("drawn as you see it", |rig| joints::set_mounting(rig, of, angle, anticlockwise))
}

fn exercised(desk: &mut Context, form: &Form) -> Result<String, String> {
    let context = desk.pulse_context().ok_or("no servo is picked")?;
    let (a, b) = (entry::pulse(form.word(0), &context)?, entry::pulse(form.word(1), &context)?);
    let speed = entry::plain(form.word(2))?;
    let pause = entry::seconds(form.word(3))?;
    let times = entry::plain(form.word(4))?;
    if speed <= 0.0 || !(0.0..=60.0).contains(&pause) || !(0.0..=60_000.0).contains(&times) {
        return Err("a speed above 0, a pause of 60 s at most, 60000 times at most".to_owned());
    }
    let (slope, centre) = desk.picked(|p| (p.slope(), p.servo.centre())).ok_or("no servo is picked")?;
    let (low, high) = if a < b { (a, b) } else { (b, a) };
    let what = Exercise {
        low,
        high,
        centre: centre.within(low, high),
        us_per_s: slope.map_or(speed, |slope| speed / slope),
        pause_ms: u32::from(count16(pause * 1e3)),
        times: Some(u32::from(count16(times))).filter(|times| *times > 0),
    };
    desk.servo_command(|servo| Command::Exercise { servo, what });
    desk.model.in_calibrate.exercised = Some((Ends { low, high }, what.times.unwrap_or(1)));
    Ok("exercising; ‹exercise› or an arrow ends it, ‹hold› holds".to_owned())
}

fn noted(desk: &mut Context, of: &str, form: &Form) -> Result<String, String> {
    let (over, times) = desk.model.in_calibrate.exercised.ok_or("nothing was exercised in this run")?;
    let kind = kind_of(desk, of);
    let (on, seen) = (crate::date::today().to_string(), form.word(0).to_owned());
    let what = Exercised { on, over_us: None, over_counts: None, times, seen }.with_over(kind, over);
    desk.done("noted with the servo", |rig| marks::note_exercise(rig, of, what))
}
