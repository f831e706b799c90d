//! Several servos at once: how they are picked, what is done to all of them, and servos from a pasted list.

use super::*;
use crate::screen::many;
use wasvolta_core::rig::ServoId;

fn shift(bench: &mut Bench, code: KeyCode) {
    bench.now += Duration::from_millis(200);
    let event = Event::Key(KeyEvent::new(code, KeyModifiers::SHIFT));
    update::event(&mut bench.model, &mut bench.session, &event, bench.now);
    bench.pass(1);
}

fn picked(bench: &Bench) -> Vec<String> {
    let edition = &bench.session.runner.edition;
    let name = |id: ServoId| edition.servo(id).unwrap().name.clone();
    many::all(&bench.model, edition).into_iter().map(name).collect()
}

fn paste(bench: &mut Bench, text: &str) {
    update::event(&mut bench.model, &mut bench.session, &Event::Paste(text.to_owned()), bench.now);
    bench.pass(1);
}

#[test]
fn shift_and_an_arrow_pick_more_or_one_less_and_any_other_pick_is_one_again() {
    let mut bench = Bench::demo();
    bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
    assert_eq!(picked(&bench), ["heron.neck"]);
    shift(&mut bench, KeyCode::Down);
    shift(&mut bench, KeyCode::Down);
    assert_eq!(picked(&bench), ["heron.neck", "heron.beak", "heron.nape"]);
    assert!(bench.frame(160, 47).contains("3 picked"), "{}", bench.frame(160, 47));
    shift(&mut bench, KeyCode::Up);
    assert_eq!(picked(&bench), ["heron.neck", "heron.beak"]);
    bench.code(KeyCode::PageDown);
    assert_eq!(picked(&bench).len(), 1);
    bench.act("pick group");
    bench.enter("crane");
    assert_eq!(picked(&bench), ["crane.slew", "crane.boom", "crane.winch"]);
    bench.act("pick group");
    bench.enter("swamp");
    assert!(bench.frame(160, 47).contains("no servo's name begins with"), "{}", bench.frame(160, 47));
    bench.code(KeyCode::Esc);
    assert_eq!(picked(&bench).len(), 3, "what was refused changes nothing");
}

#[test]
fn several_that_are_picked_lie_on_one_chart_and_one_sheet() {
    let mut bench = Bench::new();
    bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
    bench.act("cards of a kind");
    let frame = bench.frame(160, 47);
    assert!(frame.contains("there is 1 card: a chart needs two or more of a kind"), "{frame}");
    shift(&mut bench, KeyCode::Down);
    bench.act("cards of a kind");
    for (wide, high) in [(160, 47), (100, 30), (80, 24)] {
        let frame = bench.frame(wide, high);
        assert!(frame.contains("+9.86 °/100 µs") && frame.contains("2  heron.beak"), "{frame}");
    }
    let frame = bench.frame(160, 47);
    assert!(frame.contains("2 of a kind: at the same pulse any two stand within"), "{frame}");
    assert!(frame.contains("mean") && frame.contains("1040"), "{frame}");
    insta::assert_snapshot!("alike_160x47", frame);
    bench.code(KeyCode::Esc);
    bench.act("sheet of a kind");
    bench.enter("two.svg");
    let written = std::fs::read_to_string(bench.folder.path().join("two.svg")).unwrap();
    assert!(written.contains("heron.beak") && written.contains("off the mean"));
    // Cards beside the rig lie beside the one that is picked; what is no card of its kind is left out and named.
    bench.code(KeyCode::PageUp);
    bench.code(KeyCode::PageDown);
    let rig = bench.session.document.rig.clone();
    let card = wasvolta_core::rig::card::Card::of(&rig, &rig.servos[0], "2026-01-02");
    std::fs::write(bench.folder.path().join("neck.servo.toml"), card.text().unwrap()).unwrap();
    std::fs::write(bench.folder.path().join("torn.servo.toml"), "format = 5\nname = ").unwrap();
    bench.act("cards of a kind");
    let frame = bench.frame(160, 47);
    assert!(frame.contains("2  heron.neck") && frame.contains("Left out: torn.servo.toml"), "{frame}");
}

#[test]
fn what_is_told_one_is_told_all_and_edits_are_undone_at_once() {
    let mut bench = Bench::new();
    bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
    shift(&mut bench, KeyCode::Down);
    let before = bench.session.document.rig.clone();
    bench.act("rated data");
    assert!(bench.frame(160, 47).contains("for all 2:"), "{}", bench.frame(160, 47));
    bench.enter("micro");
    let rated = |bench: &Bench, n: usize| bench.session.document.rig.servos[n].rated.clone();
    assert!(rated(&bench, 0) == rated(&bench, 1) && rated(&bench, 0) != before.servos[0].rated);
    assert!(bench.frame(160, 47).contains("rated, for 2 servos"), "{}", bench.frame(160, 47));
    bench.press(Key::char('u'));
    assert_eq!(*bench.session.document.rig, *before, "one undo for all of them");
    // Engaged one after another, where they were left; released at once.
    for servo in 0..2 {
        bench.model.pick_servo(&bench.session.document.rig.clone(), servo);
        bench.press(Key::char('e'));
        bench.enter("5");
        bench.pass(60);
    }
    bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
    shift(&mut bench, KeyCode::Down);
    let engaged = |bench: &Bench| (0..2).map(|n| bench.model.snapshot.servos[n].engaged).collect::<Vec<_>>();
    assert_eq!(engaged(&bench), [true, true]);
    bench.press(Key::char('r'));
    bench.pass(10);
    assert_eq!(engaged(&bench), [false, false]);
    assert!(bench.frame(160, 47).contains("release, for 2 servos"), "{}", bench.frame(160, 47));
    bench.press(Key::char('r'));
    assert!(bench.frame(160, 47).contains("heron.neck: it is released already"), "{}", bench.frame(160, 47));
    bench.press(Key::char('e'));
    bench.watch(300);
    assert_eq!(engaged(&bench), [true, true], "each where it was left");
    // Homes of both, in one edit.
    let before = bench.session.document.rig.clone();
    bench.press(Key::char('h'));
    let homes =
        |rig: &wasvolta_core::rig::Rig| rig.joints.iter().filter(|joint| joint.home_deg.is_some()).count();
    assert!(homes(&bench.session.document.rig) >= 2);
    assert_ne!(*bench.session.document.rig, *before);
    bench.press(Key::char('u'));
    assert_eq!(*bench.session.document.rig, *before);
}

#[test]
fn a_pasted_list_adds_servos_once_it_is_agreed_to_and_is_never_taken_for_keys() {
    let mut bench = Bench::new();
    let before = bench.session.document.rig.clone();
    paste(&mut bench, "name,board,channel\nheron.tail,upper,9\nheron.foot,upper,10\n");
    assert!(
        bench.frame(160, 47).contains("Add 2 servos: heron.tail on upper 9, heron.foot on upper 10?"),
        "{}",
        bench.frame(160, 47)
    );
    assert_eq!(*bench.session.document.rig, *before);
    bench.code(KeyCode::Enter);
    assert_eq!(bench.session.document.rig.servos.len(), before.servos.len() + 2);
    bench.press(Key::char('u'));
    assert_eq!(*bench.session.document.rig, *before);
    paste(&mut bench, "heron.tail,upper,2\n");
    bench.code(KeyCode::Enter);
    assert!(bench.frame(160, 47).contains("heron.beak"), "who has that channel: {}", bench.frame(160, 47));
    assert_eq!(*bench.session.document.rig, *before);
    bench.code(KeyCode::Esc);
    // Letters that would be keys: engage, quit.
    paste(&mut bench, "eq");
    assert!(!bench.model.quit && bench.model.dialog.is_none());
    assert!(bench.frame(160, 47).contains("pasted: row 1 is not"), "{}", bench.frame(160, 47));
    // Into what is typed goes the first line.
    bench.press(Key::char('a'));
    paste(&mut bench, "heron.tail\r\nheron.foot");
    assert!(bench.frame(160, 47).contains("name heron.tail▏"), "{}", bench.frame(160, 47));
}
