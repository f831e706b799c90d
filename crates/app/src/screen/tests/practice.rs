//! Practice: a dealt servo is calibrated by the next line, and then its truth stands beside the fit.

use super::*;
use crate::screen::dialog::Dialog;
use wasvolta_sim::Sight;
use wasvolta_sim::practice::{Deal, Wrong};

/// A deal, as `wasvolta practice` opens it.
fn dealt(deal: &Deal) -> Bench {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("practice.rig.toml");
    std::fs::write(&path, crate::practice::rig(deal)).unwrap();
    std::fs::write(folder.path().join("practice.sim.toml"), deal.bench()).unwrap();
    let mut bench = Bench::reopened(&path, folder);
    bench.session.practice = Some(deal.clone());
    bench
}

/// The next line.
fn next(bench: &Bench) -> String {
    let frame = bench.frame(160, 47);
    frame.lines().rev().find(|line| line.starts_with(" next")).unwrap_or_default().to_owned()
}

/// Reads the horn and types it as a mark.
fn mark(bench: &mut Bench) {
    bench.pass(150);
    let look = bench.model.scene(&bench.session).picked().unwrap().look.unwrap();
    let Sight::Horn(seen) = look.sight else { panic!("{look:?}") };
    bench.press(Key::char('m'));
    bench.enter(&format!("{seen:.0}"));
    bench.pass(300);
}

fn calibrated(deal: &Deal) -> Bench {
    let mut bench = dealt(deal);
    bench.press(Key::char('e'));
    bench.code(KeyCode::Enter);
    bench.pass(50);
    mark(&mut bench);
    for _ in 0..4 {
        bench.press(Key::char('n'));
        mark(&mut bench);
    }
    bench
}

fn shown(bench: &mut Bench) -> Vec<(String, String, String, bool)> {
    bench.act("show the truth");
    let Some(Dialog::Compare { rows, .. }) = bench.model.dialog.clone() else {
        panic!("{}", bench.frame(160, 47))
    };
    rows.into_iter().map(|row| (row.what, row.one, row.other, row.agrees)).collect()
}

fn first_with(wrong: Option<Wrong>) -> Deal {
    (0..1000).map(Deal::of).find(|deal| deal.wrong == wrong).unwrap()
}

#[test]
fn a_good_servo_is_found_to_be_what_it_is_and_the_keys_are_counted() {
    let deal = first_with(None);
    let mut bench = dealt(&deal);
    bench.act("show the truth");
    assert!(bench.frame(160, 47).contains("keep two marks first"), "{}", bench.frame(160, 47));
    let mut bench = calibrated(&deal);
    let before = bench.model.presses;
    let rows = shown(&mut bench);
    let row = |what: &str| rows.iter().find(|row| row.0 == what).unwrap();
    assert!(row("slope").3 && row("0° at").3 && row("worst miss").3 && row("board's clock").3, "{rows:?}");
    assert!(row("what is wrong").2.contains("nothing"), "{rows:?}");
    // Its endpoints were not looked for: they lie far inside.
    assert!(!row("low endpoint").3 && row("low endpoint").1.contains("inside"), "{rows:?}");
    let typed = ":show the truth".chars().count() + 1;
    let frame = bench.frame(160, 47);
    assert!(frame.contains(&format!("Deal {}, {} keys in", deal.number, before + typed)), "{frame}");
    assert!(frame.contains("── fit  ·· what it is"), "{frame}");
    for (wide, high) in [(100, 30), (80, 24)] {
        assert!(bench.frame(wide, high).contains("what is wrong"), "{}", bench.frame(wide, high));
    }
    bench.code(KeyCode::Esc);
    assert!(bench.model.dialog.is_none());
}

#[test]
fn what_is_wrong_shows_in_the_line_that_it_is_about() {
    for (wrong, what) in
        [(Wrong::Bends, "worst miss"), (Wrong::Clock, "board's clock"), (Wrong::Slack, "slack")]
    {
        let deal = first_with(Some(wrong));
        let rows = shown(&mut calibrated(&deal));
        let row = rows.iter().find(|row| row.0 == what).unwrap();
        assert!(!row.3, "{wrong:?}: {rows:?}");
        assert_eq!(rows.last().unwrap().2, wrong.words());
    }
    // In the smallest window no number is cut off from its unit.
    let mut bench = calibrated(&first_with(Some(Wrong::Bends)));
    bench.act("show the truth");
    let frame = bench.frame(80, 24);
    let page: String = frame.lines().filter_map(|line| line.split('│').nth(1)).collect();
    assert!(!page.contains('…') && page.contains("endpoints") && page.contains("inside"), "{frame}");
    // A reversed one and one of another travel are found out by marks alone.
    for wrong in [Wrong::Reversed, Wrong::Travel] {
        let rows = shown(&mut calibrated(&first_with(Some(wrong))));
        assert!(rows[0].0 == "slope" && rows[0].3, "{wrong:?}: {rows:?}");
    }
}

#[test]
fn the_truth_is_told_of_the_dealt_servo_and_of_no_other() {
    let mut bench = calibrated(&first_with(None));
    bench.act("add servo");
    bench.enter("heron.eye");
    bench.press(Key::char('e'));
    bench.code(KeyCode::Enter);
    bench.pass(50);
    for _ in 0..2 {
        mark(&mut bench);
        bench.press(Key::char('n'));
    }
    bench.pass(300);
    assert!(!next(&bench).contains("show the truth"), "{}", next(&bench));
    bench.act("show the truth");
    let frame = bench.frame(160, 47);
    assert!(
        bench.model.dialog.is_none() && frame.contains("that is not the servo that was dealt"),
        "{frame}"
    );
}

#[test]
fn the_next_line_leads_to_the_truth_and_elsewhere_nothing_is_hidden() {
    let mut bench = calibrated(&first_with(None));
    // From the slack on it leads outwards, and once both ends are set to the truth.
    assert!(
        next(&bench).contains("from its other side") || next(&bench).contains("To go further"),
        "{}",
        next(&bench)
    );
    bench.act("ends");
    bench.enter("900us");
    bench.pass(400);
    assert!(next(&bench).contains(":show the truth"), "{}", next(&bench));
    let mut plain = Bench::new();
    plain.act("show the truth");
    assert!(plain.frame(160, 47).contains("nothing is hidden here"), "{}", plain.frame(160, 47));
}
