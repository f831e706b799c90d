//! Sheets as a maker would check them: what they say, their scale, and that nothing leaves the paper.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test may fail loudly")]

use wasvolta_core::rig::Rig;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::unit::Micros;
use wasvolta_sheet::calibration::words;
use wasvolta_sheet::list::{List, Shape};
use wasvolta_sheet::protractor::{BAR_MM, Fitting, SeenFrom, Under};
use wasvolta_sheet::{
    Form, NoSheet, Paper, Subject, calibration, linkage, protractor, sequence, svg, wiring,
};

fn rig() -> Rig {
    match load(include_str!("../../../examples/marsh-clock.rig.toml")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

fn subject<'a>(rig: &'a Rig, servo: &'a str, paper: Paper) -> Subject<'a> {
    Subject { rig, servo, paper, date: "2026-01-02" }
}

fn assert_on_paper(list: &List) {
    let (wide, high) = list.size;
    let inside = |x: f64, y: f64| x >= 5.0 && x <= wide - 5.0 && y >= 5.0 && y <= high - 5.0;
    for shape in &list.shapes {
        match shape {
            Shape::Line { points, .. } => {
                for p in points {
                    assert!(inside(p.x, p.y), "{}: a line at {p:?}", list.title);
                }
            }
            Shape::Text { at, size, words, .. } => {
                let end = at.x + text_width(words, *size);
                assert!(inside(at.x, at.y) && inside(end, at.y), "{}: {words:?} ends at {end}", list.title);
            }
        }
    }
}

/// No wider than this: the font's widest letters are about an em.
fn text_width(words: &str, size: f64) -> f64 {
    size * 0.45 * f64::from(u32::try_from(words.chars().count()).unwrap())
}

#[test]
fn the_calibration_sheet_says_what_is_known() {
    let rig = rig();
    let list = calibration::draw(&subject(&rig, "heron.neck", Paper::A4)).unwrap();
    let all = words(&list).join("\n");
    for part in [
        "heron.neck",
        "Marsh Clock, channel 1 of upper (0x40)",
        "calibration sheet, 2026-01-02",
        "+9.863 °/100 µs,  0° at 1494.5 µs",
        "It turns 99 % of what its data sheet",
        "−0.14°",
        "+0.56°",
        "620 µs (−86.25°) to 2380 µs (+87.33°)",
        "−60°: the neck touches the hip plate",
        "+60°: the cable in the neck is short",
        "50.029 Hz, asked for 50 Hz",
        "4.880 µs, 0.481°",
        "360 steps between the endpoints",
        "7.4 to 178.1 old, centre 92.2 old",
        "120° over 900 to 2100 µs",
        "metal gears; the horn sits one tooth to the left",
    ] {
        assert!(all.contains(part), "{part:?} is missing in\n{all}");
    }
}

/// Cards of one box: ten lines that differ a little, and one that differs much.
fn ten_of_a_box() -> wasvolta_core::alike::Alike {
    let rig = rig();
    let own = wasvolta_core::rig::card::Card::of(&rig, rig.servo("heron.neck").unwrap(), "2026-01-02");
    let card = |n: u32| {
        let mut card = own.clone();
        card.name = format!("reed.{n}");
        let share = if n == 7 { 1.2 } else { 1.0 + f64::from(n) * 0.002 };
        for mark in &mut card.marks {
            mark.angle_deg = mark.angle_deg.map(|angle| angle * share);
        }
        card
    };
    wasvolta_core::alike::Alike::of(&(1..=10).map(card).collect::<Vec<_>>()).unwrap()
}

#[test]
fn ten_of_a_box_lie_on_one_sheet_and_the_odd_one_is_named() {
    use wasvolta_sheet::alike;
    let ten = ten_of_a_box();
    for paper in [Paper::A4, Paper::Letter] {
        let list = alike::draw(&ten, paper, "2026-01-02").unwrap();
        let all = words(&list).join("\n");
        for part in ["10 of a kind", "reed.7 is like none", "off the mean of all", "7  reed.7"] {
            assert!(all.contains(part), "{part:?} is missing in\n{all}");
        }
        assert_on_paper(&list);
    }
    assert_eq!(
        alike::draw(&ten, Paper::A4, "2026-01-02").unwrap(),
        alike::draw(&ten, Paper::A4, "2026-01-02").unwrap()
    );
    let many = wasvolta_core::alike::Alike {
        members: ten.members.iter().cycle().take(alike::MOST + 1).cloned().collect(),
        ..ten.clone()
    };
    assert!(alike::draw(&many, Paper::A4, "").unwrap_err().to_string().starts_with("25 cards are more"));
    let full = wasvolta_core::alike::Alike {
        members: ten.members.iter().cycle().take(alike::MOST).cloned().collect(),
        ..ten
    };
    assert_on_paper(&alike::draw(&full, Paper::Letter, "").unwrap());
}

#[test]
fn nothing_leaves_the_paper_whatever_the_servo() {
    let mut rig = rig();
    for servo in &mut rig.servos {
        servo.notes = "a note that goes on and on ".repeat(14);
    }
    rig.joints[0].low.as_mut().unwrap().reason = "the neck touches the hip plate of the heron ".repeat(3);
    // More marks than the table has rows.
    let many = (0..60).map(|n| {
        let mut mark = rig.servos[0].marks[0].clone();
        mark.pulse_us = Some(Micros::new(700.0 + 25.0 * f64::from(n)));
        mark
    });
    let mut crowded = rig.clone();
    crowded.servos[0].marks = many.collect();
    for (n, mark) in crowded.servos[0].marks.iter_mut().enumerate() {
        let n = f64::from(u32::try_from(n).unwrap());
        mark.angle_deg = Some(wasvolta_core::unit::Degrees::new(-78.0 + 2.46 * n));
    }
    for paper in [Paper::A4, Paper::Letter] {
        for rig in [&rig, &crowded] {
            for servo in ["heron.neck", "heron.beak"] {
                assert_on_paper(&calibration::draw(&subject(rig, servo, paper)).unwrap());
            }
            for servo in ["heron.neck", "heron.beak", "punt.rudder"] {
                for horn_mm in [10.0, 25.0, 70.0] {
                    for seen_from in [SeenFrom::Horn, SeenFrom::Back] {
                        let fitting = Fitting { horn_mm, seen_from, ..Fitting::default() };
                        assert_on_paper(&protractor::draw(&subject(rig, servo, paper), &fitting).unwrap());
                    }
                }
            }
        }
    }
}

#[test]
fn the_bar_is_fifty_millimetres_in_the_files_own_coordinates() {
    let rig = rig();
    let list = protractor::draw(&subject(&rig, "heron.neck", Paper::A4), &Fitting::default()).unwrap();
    let text = svg::write(&list);
    assert!(
        text.contains("width=\"210mm\" height=\"297mm\" viewBox=\"0 0 210 297\""),
        "a unit is a millimetre"
    );
    assert!(text.contains("<polyline points=\"15,278 65,278\""), "the bar, 15 to 65 mm");
    assert!((BAR_MM - 50.0).abs() < f64::EPSILON);
}

#[test]
fn a_degree_on_the_scale_is_a_degree_on_the_paper() {
    let rig = rig();
    let fitting = Fitting { horn_mm: 40.0, ..Fitting::default() };
    let list = protractor::draw(&subject(&rig, "heron.neck", Paper::A4), &fitting).unwrap();
    let mirrored = Fitting { seen_from: SeenFrom::Back, ..fitting };
    let back = protractor::draw(&subject(&rig, "heron.neck", Paper::A4), &mirrored).unwrap();
    let text_at = |list: &List, wanted: &str| {
        let found = list.shapes.iter().find_map(|shape| match shape {
            Shape::Text { at, words, .. } if words == wanted => Some(*at),
            _ => None,
        });
        found.unwrap()
    };
    // The two rays of the limits at ±60° meet in the spline, 43 mm from the scale's edge.
    let rays: Vec<&Vec<wasvolta_sheet::list::Point>> = list
        .shapes
        .iter()
        .filter_map(|shape| match shape {
            Shape::Line { points, stroke: Some(stroke), .. }
                if points.len() == 2 && stroke.tone == wasvolta_sheet::list::Tone::Limit =>
            {
                Some(points)
            }
            _ => None,
        })
        .collect();
    assert_eq!(rays.len(), 2);
    for (ray, sign) in rays.iter().zip([-1.0, 1.0]) {
        let (dx, dy) = (ray[1].x - ray[0].x, ray[0].y - ray[1].y);
        assert!((dx.atan2(dy).to_degrees() - sign * 60.0).abs() < 1e-9);
        assert!((ray[1].x - 105.0).hypot(ray[1].y - (15.0 + 22.0 + 43.0 + 13.0)) - 48.0 < 1e-9);
    }
    assert!(text_at(&list, "+60").x > 105.0 && text_at(&back, "+60").x < 105.0, "mirrored from behind");
}

#[test]
fn the_same_rig_and_date_give_the_same_bytes() {
    let rig = rig();
    for paper in [Paper::A4, Paper::Letter] {
        let draw = || calibration::draw(&subject(&rig, "heron.neck", paper)).unwrap();
        for form in [Form::Svg, Form::Pdf] {
            assert!(form.write(&draw()).unwrap() == form.write(&draw()).unwrap(), "{form:?}");
        }
        let other = calibration::draw(&Subject { date: "2026-01-03", ..subject(&rig, "heron.neck", paper) });
        assert!(Form::Pdf.write(&draw()).unwrap() != Form::Pdf.write(&other.unwrap()).unwrap());
    }
}

#[test]
fn the_pdf_carries_its_font_and_the_svg_its_letters() {
    let rig = rig();
    let list = calibration::draw(&subject(&rig, "heron.neck", Paper::A4)).unwrap();
    let pdf = Form::Pdf.write(&list).unwrap();
    let pdf = String::from_utf8_lossy(&pdf);
    assert!(pdf.starts_with("%PDF-") && pdf.contains("/FontFile"), "the font is embedded");
    let svg = svg::write(&list);
    assert!(!svg.contains("font-family") && svg.contains("<path id=\"g"), "letters are outlines");
    assert!(svg.contains("aria-label=\"heron.neck\""), "and can be read aloud");
}

#[test]
fn what_cannot_be_drawn_says_what_to_do() {
    let rig = rig();
    let none = calibration::draw(&subject(&rig, "heron.tail", Paper::A4)).unwrap_err().to_string();
    assert_eq!(
        none,
        "there is no servo called \"heron.tail\"; there is: heron.neck, heron.beak, punt.rudder, crane.slew, crane.boom, crane.winch, reeds.sway, marsh.moon, marsh.lantern, punt.pole, heron.nape, heron.throat"
    );
    let lamp = calibration::draw(&subject(&rig, "marsh.moon", Paper::A4)).unwrap_err().to_string();
    assert_eq!(
        lamp,
        "marsh.moon is dimmer: it has a level, and no angles to draw; the wiring sheet shows it"
    );
    let unmarked = calibration::draw(&subject(&rig, "punt.rudder", Paper::A4)).unwrap_err().to_string();
    assert!(unmarked.contains("cannot have a calibration sheet yet: no mark yet"), "{unmarked}");
    let long = Fitting { horn_mm: 90.0, ..Fitting::default() };
    let error = protractor::draw(&subject(&rig, "heron.neck", Paper::A4), &long).unwrap_err();
    assert!(matches!(error, NoSheet::TooSmall { way: "across", .. }), "{error}");
    let error = error.to_string();
    assert!(
        error.starts_with("a horn of 90 mm needs 212 mm across, A4 has 180 mm between its margins"),
        "{error}"
    );
    let absurd = Fitting { hole_mm: 0.0, ..Fitting::default() };
    let error = protractor::draw(&subject(&rig, "heron.neck", Paper::A4), &absurd).unwrap_err().to_string();
    assert_eq!(error, "spline hole is 0 mm, outside 1 to 40 mm");
}

#[test]
fn the_wiring_plan_says_who_is_where_and_what_the_rails_must_give() {
    let rig = rig();
    for paper in [Paper::A4, Paper::Letter] {
        let list = wiring::draw(&subject(&rig, "", paper), "upper").unwrap();
        assert_on_paper(&list);
        let all = words(&list).join("\n");
        for part in [
            "Marsh Clock",
            "4 boards, 10 servos, 2 accessories",
            "wiring plan, 2026-01-02",
            "PWM expander at 0x41, servos fed by crane-rail",
            "heron.neck",
            "620 to 2380 µs",
            "A filled jumper is to be closed with solder.",
            "A5",
            "crane-rail, 6 V, 4 A",
            "≈ 0.08 A idle, 1.8 A moving, 6.4 A at the most",
            "continuous, 1100 to 1900 µs",
            "dimmer",
            "on-off",
            "Lamps and relays need a transistor or a driver",
            "too little: 7.1 A would be safe",
            "darkest is ground, the middle one supply, the lightest signal",
            "smart bus (twelve-bit) on neck-line, servos fed by neck-rail",
            "id 1",
            "1300 to 2900 counts",
            "its servos keep holding until their supply is off",
        ] {
            assert!(all.contains(part), "{part:?} is missing in\n{all}");
        }
        assert!(Form::Pdf.write(&list).unwrap().starts_with(b"%PDF"));
    }
    let none = wiring::draw(&subject(&rig, "", Paper::A4), "middle").unwrap_err();
    assert_eq!(
        none.to_string(),
        "there is no board called \"middle\"; there is: upper, lower, desk, neck-bus"
    );
}

#[test]
fn no_sheet_of_a_smart_servo_has_microseconds_on_it() {
    let rig = rig();
    let subject = subject(&rig, "heron.nape", Paper::A4);
    let calibration = calibration::draw(&subject).unwrap();
    let disc = protractor::draw(&subject, &Fitting::default()).unwrap();
    for (list, parts) in [
        (
            &calibration,
            &[
                "+8.805 °/100 counts,  0° at 2104.7 counts",
                "place, counts",
                "1300 counts (",
                "id",
                "registers",
            ][..],
        ),
        (&disc, &["1300 counts at ", "2900 counts at "][..]),
    ] {
        assert_on_paper(list);
        let all = words(list).join("\n");
        assert!(!all.contains("µs") && !all.contains("ticks"), "{all}");
        for part in parts {
            assert!(all.contains(part), "{part:?} is missing in\n{all}");
        }
    }
}

#[test]
fn a_wiring_plan_of_many_boards_shows_four_and_says_which() {
    let mut rig = rig();
    for address in 0x42..0x50 {
        let board = rig.boards[0].clone();
        let name = format!("b{address}");
        for channel in 0..16 {
            let servo = rig.servos[0].clone();
            let name = format!("reeds.n{address}-{channel}");
            rig.servos.push(wasvolta_core::rig::Servo {
                name,
                board: format!("b{address}"),
                channel: Some(channel),
                ..servo
            });
        }
        rig.boards.push(wasvolta_core::rig::Board { name, address: Some(address), ..board });
    }
    for paper in [Paper::A4, Paper::Letter] {
        let list = wiring::draw(&subject(&rig, "", paper), "b70").unwrap();
        assert_on_paper(&list);
        let all = words(&list).join("\n");
        assert!(all.contains("boards 9 to 12 of 18") && all.contains("reeds.n73-15"), "{all}");
    }
}

/// The rudder with its rod, marked at the joint.
fn linked() -> Rig {
    let text = include_str!("../../../examples/marsh-clock.rig.toml").replace(
        "s_per_60_deg = 0.14, stall_a = 1.2 }\n",
        "s_per_60_deg = 0.14, stall_a = 1.2 }\n\
         linkage = { horn_mm = 16, rod_mm = 50, arm_mm = 22, pivots_mm = 52, horn_at_deg = 90 }\n\
         marks = [\n  { pulse_us = 1200, angle_deg = -20.439, at = \"joint\", from = \"below\" },\n\
         { pulse_us = 1800, angle_deg = 21.83, at = \"joint\", from = \"below\" },\n]\n",
    );
    match load(&text) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_linkage_has_a_sheet_in_true_scale_with_what_one_turns_the_other() {
    let rig = linked();
    for paper in [Paper::A4, Paper::Letter] {
        let list = linkage::draw(&subject(&rig, "punt.rudder", paper)).unwrap();
        let is_bar = |shape: &Shape| matches!(shape, Shape::Line { points, .. } if points.len() == 2 && (points[1].x - points[0].x - BAR_MM).abs() < 1e-9 && points[0].y.total_cmp(&points[1].y).is_eq());
        assert_eq!(list.shapes.iter().filter(|shape| is_bar(shape)).count(), 1, "the bar to measure");
        assert_on_paper(&list);
        let all = words(&list).join("\n");
        for part in
            ["linkage, true scale", "16 mm", "50 mm", "−73.34°: horn and rod line up", "+107.3°", "same side"]
        {
            assert!(all.contains(part), "{part}\n{all}");
        }
        // From the shaft to the horn's pin it is 16 mm on the paper too.
        let bars = list.shapes.iter().filter_map(|shape| match shape {
            Shape::Line { points, .. } if points.len() == 2 => {
                Some((points[1].x - points[0].x).hypot(points[1].y - points[0].y))
            }
            _ => None,
        });
        assert_eq!(bars.filter(|long| (long - 16.0).abs() < 1e-9).count(), 3, "at both ends and between");
    }
    let none = linkage::draw(&subject(&rig, "heron.neck", Paper::A4)).unwrap_err();
    assert!(none.to_string().contains("without a linkage"), "{none}");
}

#[test]
fn behind_a_linkage_each_side_has_its_own_protractor_and_the_sheet_is_the_shafts() {
    let rig = linked();
    let angles = |under: Under| {
        let fitting = Fitting { under, ..Fitting::default() };
        let list = protractor::draw(&subject(&rig, "punt.rudder", Paper::A4), &fitting).unwrap();
        assert_on_paper(&list);
        words(&list).iter().find(|words| words.starts_with('−') && words.contains(", ")).unwrap().to_string()
    };
    assert_eq!(angles(Under::Joint), "−20.44°, +21.83°");
    assert_eq!(angles(Under::Horn), "−30°, +30°", "taken back through the rod");
    let list = calibration::draw(&subject(&rig, "punt.rudder", Paper::A4)).unwrap();
    assert_on_paper(&list);
    let all = words(&list).join("\n");
    assert!(all.contains("+10.000 °/100 µs") && all.contains("rising joint"), "{all}");
}

#[test]
fn what_turns_without_end_has_a_sheet_of_its_stop_and_its_rates() {
    let text = include_str!("../../../examples/marsh-clock.rig.toml");
    let none = calibration::draw(&subject(&rig(), "crane.winch", Paper::A4)).unwrap_err();
    assert!(none.to_string().contains("just starts to turn, either way"), "{none}");
    let marks = "kind = \"continuous\"\nmarks = [\n\
        { pulse_us = 1183, seen = \"starts\", from = \"above\" },\n{ pulse_us = 1207, seen = \"starts\", from = \"below\" },\n\
        { pulse_us = 1400, seen = \"turns\", rpm = 40 },\n{ pulse_us = 1560, seen = \"turns\", rpm = 73 },\n\
        { pulse_us = 1700, seen = \"turns\", rpm = 73.5 },\n]";
    let rig = match load(&text.replace("kind = \"continuous\"", marks).replace("centre_us = 1480\n", "")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    };
    for paper in [Paper::A4, Paper::Letter] {
        let list = calibration::draw(&subject(&rig, "crane.winch", paper)).unwrap();
        assert_on_paper(&list);
        let all = words(&list).join("\n");
        for part in [
            "stands still from 1183.0 to 1207.0 µs, its stop 1195.0 µs",
            "+73.5 rpm, from 1560 µs on",
            "+40.0",
        ] {
            assert!(all.contains(part), "{part}\n{all}");
        }
    }
}

#[test]
fn a_firmata_sheet_says_nothing_of_an_oscillator_that_nobody_knows() {
    let text = include_str!("../../core/tests/data/small.rig.toml")
        .replace("kind = \"i2c\"\npath = \"sim:bench-bus\"", "kind = \"serial\"\npath = \"sim:bench-bus\"")
        .replace("chip = \"pwm-expander\"\naddress = 0x40\n", "chip = \"firmata\"\n");
    let Loaded::Sound(rig) = load(&text) else { panic!("{:?}", load(&text)) };
    let all = words(&calibration::draw(&subject(&rig, "heron.neck", Paper::A4)).unwrap()).join("\n");
    assert!(all.contains("one tick") && !all.contains("oscillator") && !all.contains("divider"), "{all}");
}

#[test]
fn nothing_on_a_sheet_does_more_than_be_read() {
    let mut rig = rig();
    rig.name = "Marsh\u{1b}[2J\u{202e}<&\"".to_owned();
    rig.joints[0].low.as_mut().unwrap().reason = "be\u{7}ll\u{9b}".to_owned();
    for list in [
        calibration::draw(&subject(&rig, "heron.neck", Paper::A4)).unwrap(),
        wiring::draw(&subject(&rig, "", Paper::A4), "upper").unwrap(),
    ] {
        let text = svg::write(&list);
        assert!(text.chars().all(|c| c == '\n' || !wasvolta_core::outside::is_unfit(c)), "{}", list.title);
        assert!(!text.contains("<&\"") && words(&list).join("").contains('?'));
    }
}

#[test]
fn a_sequence_chart_says_what_happens_when_and_what_was_found() {
    let rig = rig();
    let of = |name| sequence::draw(&subject(&rig, "", Paper::A4), name).unwrap();
    let crossing = of("crossing");
    let all = words(&crossing).join("\n");
    for part in [
        "Marsh Clock, 3 steps, 19.75 s, each loop drawn once",
        "× 4",
        "reach-out",
        "3 plays strike",
        "punt.pole",
        "-20 to 45°",
        "needs 0.43 s",
        "≈ 0.8 of 8.0 A",
        "Step 2 of strike is short: heron.neck needs 0.422 s.",
        "at 2.70 s while heron.neck, heron.beak, marsh.moon move",
    ] {
        assert!(all.contains(part), "{part:?} is missing from\n{all}");
    }
    assert!(words(&of("lift")).join("\n").contains("waits until visitor is pressed"));
    assert!(words(&of("breathe")).join("\n").contains("until it is stopped"));
    for name in ["wake", "strike", "lift", "crossing", "sleep", "breathe"] {
        assert_on_paper(&of(name));
        assert_eq!(svg::write(&of(name)), svg::write(&of(name)));
    }
    assert_eq!(
        sequence::draw(&subject(&rig, "", Paper::A4), "dance").unwrap_err().to_string(),
        "there is no sequence called \"dance\"; there is: wake, strike, lift, crossing, drink, sleep, breathe"
    );
}

#[test]
fn a_long_sequence_has_as_many_pages_as_it_needs_and_each_stands_in_the_pdf() {
    let mut rig = rig();
    let strike = rig.sequences.iter_mut().find(|own| own.name == "strike").unwrap();
    strike.loops.clear();
    let steps = strike.steps.clone();
    for n in 0..60 {
        strike.steps.extend(steps.iter().cloned().map(|mut step| {
            step.label = step.label.map(|label| format!("{label}-{n}"));
            step
        }));
    }
    let list = sequence::draw(&subject(&rig, "", Paper::Letter), "strike").unwrap();
    assert!(list.pages > 1, "{}", list.pages);
    let whole = List { size: (list.size.0, list.size.1 * 100.0), ..list.clone() };
    assert_on_paper(&whole);
    // No text is cut by the edge between two pages.
    for shape in &list.shapes {
        if let Shape::Text { at, words, .. } = shape {
            let on_page = at.y % list.size.1;
            assert!((5.0..=list.size.1 - 5.0).contains(&on_page), "{words:?} at {on_page} mm");
        }
    }
    let pdf = Form::Pdf.write(&list).unwrap();
    let text = String::from_utf8_lossy(&pdf).into_owned();
    assert!(text.contains(&format!("/Count {}", list.pages)), "as many pages");
    assert_eq!(text.matches("/Type /Page\n").count(), list.pages);
}
