//! Numbers from other code: told, typed, shown, and taken back.

use super::*;

/// The bench with the neck picked, in a rig that names no scale.
fn bench() -> Bench {
    let mut bench = Bench::with(|rig| {
        let from = rig.find("# The clock's first controller").unwrap();
        let end = from + rig[from..].find("\n\n").unwrap();
        let mut rig = rig.to_owned();
        rig.replace_range(from..end, "");
        rig
    });
    bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
    bench
}

fn tell(bench: &mut Bench, name: &str, numbers: &str) {
    bench.act("name a scale");
    bench.text(name);
    bench.code(KeyCode::Tab);
    bench.enter(numbers);
}

#[test]
fn a_scale_is_told_once_then_typed_and_shown() {
    let mut bench = bench();
    assert!(!bench.frame(160, 47).contains("in other code"));
    bench.act("forget scale");
    assert!(
        bench.frame(160, 47).contains("there is no scale: :name a scale describes one"),
        "{}",
        bench.frame(160, 47)
    );
    tell(&mut bench, "lib", "0..180 over 544..2400us");
    assert!(bench.frame(160, 47).contains("lib: 0 to 180 over 544 to 2400 µs"), "{}", bench.frame(160, 47));
    // Where it stands is not known yet, and so no number of it is.
    assert!(!bench.frame(160, 47).contains("other code"), "{}", bench.frame(160, 47));
    bench.press(Key::char('e'));
    bench.code(KeyCode::Enter);
    bench.pass(50);
    bench.text("90 lib");
    let asked = bench.frame(160, 47);
    assert!(asked.contains("→ 1472.0 µs, -2.") && asked.contains("°, 90.0 lib"), "{asked}");
    bench.code(KeyCode::Enter);
    bench.pass(200);
    let frame = bench.frame(160, 47);
    // What is sent is a whole tick, and that is what its number says.
    assert!(frame.contains("other code   90.2 lib"), "{frame}");
    let mark = frame.lines().find(|line| line.contains("off by")).unwrap();
    assert!(mark.trim_end().ends_with("lib"), "the marks have a column of it: {mark}");
    bench.text("200 lib");
    bench.code(KeyCode::Enter);
    assert!(bench.frame(160, 47).contains("200 lib is outside 0 to 180 lib"), "{}", bench.frame(160, 47));
    bench.code(KeyCode::Esc);
    // At every size there is a row of it.
    for (wide, high) in [(160, 47), (100, 30), (80, 24)] {
        assert!(bench.frame(wide, high).contains(" lib"), "{}", bench.frame(wide, high));
    }
}

#[test]
fn a_wrong_one_says_how_it_is_written_and_stays_to_be_mended() {
    let mut bench = bench();
    tell(&mut bench, "lib", "0..180");
    assert!(
        bench.frame(160, 47).contains("is not a scale: write it as 0..180 over 544..2400us"),
        "{}",
        bench.frame(160, 47)
    );
    assert!(bench.model.dialog.is_some());
    bench.code(KeyCode::Esc);
    tell(&mut bench, "us", "0..180 over 544..2400us");
    assert!(bench.frame(160, 47).contains("means a unit already"), "{}", bench.frame(160, 47));
    assert!(bench.session.document.rig.scales.is_empty());
}

#[test]
fn the_first_of_several_can_be_chosen_and_one_can_be_forgotten() {
    let mut bench = bench();
    tell(&mut bench, "lib", "0..180 over 544..2400us");
    tell(&mut bench, "c60", "150..600 of 4096 at 60Hz");
    let names =
        |bench: &Bench| bench.session.document.rig.scales.iter().map(|s| s.name.clone()).collect::<Vec<_>>();
    bench.act("scale first");
    bench.code(KeyCode::Enter);
    assert_eq!(names(&bench), ["c60", "lib"]);
    bench.act("forget scale");
    bench.enter("LIB");
    assert_eq!(names(&bench), ["c60"]);
    bench.press(Key::char('u'));
    bench.press(Key::char('u'));
    assert_eq!(names(&bench), ["lib", "c60"]);
}
