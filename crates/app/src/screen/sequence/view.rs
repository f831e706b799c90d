//! Sequence: steps to scale in time, under them a silhouette a joint, what rails must give, and the picked step.

mod bands;
mod blocks;
mod power;
mod time;

use super::hold::{Edge, Laid};
use super::{rows, told};
use crate::screen::layout::room;
use crate::screen::pen::Pen;
use crate::screen::scene::Scene;
use crate::screen::theme;
use crate::screen::touch::Touched;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use time::Time;
use wasvolta_core::review::Review;
use wasvolta_core::rig::{Layer, Sequence, Step, What};
use wasvolta_core::sequence::{Lasts, Program, rounded_up};
use wasvolta_core::stage::Play;

/// Draws the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) {
    laid(pen, scene);
}

/// Where the time is in a window of that size: it is drawn once more, unseen, so that all is where it is seen.
pub fn laid_in(scene: &Scene, window: Rect) -> Option<Laid> {
    let mut unseen = Buffer::empty(window);
    let mut untouched = Vec::new();
    laid(&mut Pen::new(&mut unseen, room(window), &scene.model.keys, &mut untouched), scene)
}

/// Draws it, and gives where the time is, where any is shown.
fn laid(pen: &mut Pen<'_>, scene: &Scene) -> Option<Laid> {
    let Some((sequence, program)) = scene.sequence() else {
        pen.put(0, 0, "no sequence yet", theme::strong(theme::INK));
        let words = "A sequence is a list of poses with the time to reach each. Move joints by hand in ‹Calibrate›, keep where they \
                     stand with ‹keep pose›, and insert the pose here with ‹insert step›.";
        pen.paragraph(0, 2, words, theme::text(theme::QUIET));
        return None;
    };
    let review = scene.review()?;
    let (wide, high) = (pen.width(), pen.height());
    let label = if wide >= 90 { 16 } else { 12 };
    title(pen, scene, (sequence, program), review);
    let roomy = high >= 34;
    let top = if roomy { 2 } else { 1 };
    let shown = u16::try_from(rows::shown(scene).len()).unwrap_or(9);
    let foot = match high {
        34.. => (shown + 1).min(14),
        26.. => 8,
        _ => 4,
    };
    let time = window(scene, program, wide - label);
    let mut laid = None;
    if sequence.steps.is_empty() {
        pen.put(0, top, "no step yet: ‹insert step› inserts a pose", theme::text(theme::QUIET));
    } else {
        let heads = blocks::draw(&mut pen.part(0, top, wide, high - top), scene, sequence, &time, label);
        let bands_top = top + heads + u16::from(roomy);
        let rails = if high >= 26 { u16::try_from(review.rails.len()).unwrap_or(0).min(2) } else { 0 };
        let bands_high = high.saturating_sub(bands_top + 2 + rails + foot);
        let used = bands::draw(&mut pen.part(0, bands_top, wide, bands_high), scene, &time, label);
        power::draw(&mut pen.part(0, bands_top + used, wide, rails), scene, review, &time, label);
        axis(&mut pen.part(0, bands_top + used + rails, wide, 2), scene, &time, label);
        let line = bands_top + used + rails - top - heads;
        now_line(&mut pen.part(label, top + heads, wide - label, line), scene, &time);
        let rows = bands_top + used + rails + 2 - top;
        laid = Some(Laid {
            cells: pen.part(label, top, wide - label, rows).place(),
            steps: pen.part(label, top + heads - 2, 1, 2).place().y,
            time: (time.from, time.to),
            edges: edges(sequence, program),
        });
    }
    details(&mut pen.part(0, high - foot, wide, foot), scene, review);
    laid
}

/// The edges of the steps that go to poses.
fn edges(sequence: &Sequence, program: &Program) -> Vec<Edge> {
    let poses = sequence.steps.iter().enumerate().filter(|(_, step)| step.pose.is_some());
    poses
        .filter_map(|(step, _)| {
            let when = program.step(step)?;
            Some(Edge { step, starts: when.starts, arrives: when.arrives(), ends: when.ends() })
        })
        .collect()
}

/// What is shown of the time: around what is looked at.
fn window<'a>(scene: &Scene, program: &'a Program, wide: u16) -> Time<'a> {
    // What is under the pointer must not run away with the scale.
    if let Some((from, to)) = scene.model.in_sequence.drag.as_ref().map(|drag| drag.laid.time) {
        return Time { program, from, to, wide };
    }
    let length = program.length().max(0.001);
    let span = length * scene.model.in_sequence.zoom;
    let middle = scene.model.in_sequence.time.min(length);
    let from = (middle - span / 2.0).clamp(0.0, length - span);
    Time { program, from, to: from + span, wide }
}

fn title(pen: &mut Pen<'_>, scene: &Scene, (sequence, program): (&Sequence, &Program), review: &Review) {
    let x = pen.put(0, 0, &sequence.name, theme::strong(theme::INK)) + 2;
    let steps = sequence.steps.len();
    let length = match review.lasts {
        Lasts::Seconds(seconds) if seconds > program.length() + 0.005 => {
            format!("{seconds:.2} s; each loop is drawn once")
        }
        Lasts::Seconds(seconds) => format!("{seconds:.2} s"),
        Lasts::Waits(seconds) => format!("{seconds:.2} s and what it waits for"),
        Lasts::Forever => "until it is stopped".to_owned(),
    };
    let layer = match sequence.layer {
        Layer::Beside => "",
        Layer::Over => ", over others",
        Layer::Added => ", added to others",
    };
    let words = format!("{steps} step{}, {length}{layer}", if steps == 1 { "" } else { "s" });
    let x = pen.put(x, 0, &words, theme::text(theme::QUIET)) + 2;
    let tempo = scene.model.snapshot.tempo;
    let tempo =
        if (tempo - 1.0).abs() > 1e-9 { format!(" at {:.0} %", tempo * 100.0) } else { String::new() };
    let Some(player) = scene.player() else {
        if !tempo.is_empty() {
            pen.put(x, 0, &format!("would play{tempo}"), theme::text(theme::INK));
        }
        return;
    };
    let word = match player.play {
        Play::Leading => "on its way to where it begins".to_owned(),
        Play::Playing => "playing".to_owned(),
        Play::Waiting => {
            let waits = scene.sequence().and_then(|(_, program)| told::waits(scene.edition, program, player));
            waits.unwrap_or_else(|| "waits".to_owned())
        }
        Play::Paused => "standing".to_owned(),
        Play::Ended => "ended".to_owned(),
        Play::Stopped => return,
    };
    let round =
        player.counts.iter().take_while(|count| **count > 0).map(|count| format!("round {}", count + 1));
    let round = round.last().map_or_else(String::new, |round| format!(", {round}"));
    let left = scene.sequence().filter(|_| player.play == Play::Playing);
    let left = left.and_then(|(_, program)| player.lasts(program).left(player.tempo));
    let left = left.map_or_else(String::new, |left| format!(", {left}"));
    let only = if player.screen_only { " on the screen only: output is off" } else { "" };
    pen.put(x, 0, &format!("{word}{tempo}{round}{left}{only}"), theme::strong(theme::COMMANDED));
}

fn axis(pen: &mut Pen<'_>, scene: &Scene, time: &Time, label: u16) {
    let span = time.to - time.from;
    let pitch = [0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 30.0, 60.0, 300.0, 600.0, 1800.0]
        .into_iter()
        .find(|p| p / span * f64::from(time.wide) >= 9.0)
        .unwrap_or(3600.0);
    let mut t = (time.from / pitch).ceil() * pitch;
    while t <= time.to + 1e-9 {
        let x = label + time.column(t);
        let text = if pitch < 0.1 {
            format!("{t:.2} s")
        } else if pitch < 1.0 {
            format!("{t:.1} s")
        } else {
            format!("{t:.0} s")
        };
        pen.put_centred(x, 0, &text, theme::text(theme::QUIET));
        t += pitch;
    }
    if scene.model.in_sequence.zoom < 1.0 {
        pen.put(
            0,
            0,
            &format!("{:.0} % of it", scene.model.in_sequence.zoom * 100.0),
            theme::text(theme::QUIET),
        );
    }
    let now = format!("{:.2} s", scene.model.in_sequence.time);
    pen.put_centred(
        label + time.column(scene.model.in_sequence.time),
        1,
        &now,
        theme::strong(theme::COMMANDED),
    );
}

fn now_line(pen: &mut Pen<'_>, scene: &Scene, time: &Time) {
    let Some(x) = time.shown(scene.model.in_sequence.time.min(time.program.length())) else { return };
    for y in 0..pen.height() {
        // It goes behind words.
        let worded = |x: u16, pen: &mut Pen<'_>| {
            pen.cell(x, y).is_some_and(|cell| cell.symbol().chars().any(char::is_alphanumeric))
        };
        if worded(x, pen) || (worded(x + 1, pen) && x.checked_sub(1).is_some_and(|x| worded(x, pen))) {
            continue;
        }
        if let Some(cell) = pen.cell(x, y) {
            cell.set_symbol("│").set_fg(theme::MARK).set_bg(theme::GROUND);
        }
    }
}

/// The picked step's values, one of them picked, and what was found of it.
fn details(pen: &mut Pen<'_>, scene: &Scene, review: &Review) {
    let rows_high = usize::from(pen.height());
    let all = rows::shown(scene);
    let picked = scene.model.in_sequence.row.min(all.len().saturating_sub(1));
    let first = (picked + 1).saturating_sub(rows_high.saturating_sub(1)).min(all.len());
    for (y, (n, row)) in (0..pen.height()).zip(all.iter().enumerate().skip(first)) {
        let here = n == picked;
        pen.touch(0, y, (58, 1), Touched::Row(n.cast_signed() - picked.cast_signed()));
        if here {
            pen.ground(0, y, 58, theme::RAISED);
            pen.glyph(0, y, "▌", theme::COMMANDED);
        }
        pen.put(2, y, row.name, theme::text(theme::QUIET));
        let style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
        let end = pen.put(13, y, &rows::value(scene, row), style);
        if here && rows::is_number(row) {
            let hint = row.hint(scene).replace(" by", "");
            pen.put(end.max(36) + 2, y, &hint, theme::text(theme::QUIET));
        }
    }
    let below = all.len().saturating_sub(first + rows_high);
    if let Some(last) = pen.height().checked_sub(1).filter(|_| below > 0) {
        pen.put(47, last, &format!("↓ {below} more"), theme::text(theme::QUIET));
    }
    let wide = pen.width();
    if wide >= 78 {
        notes(&mut pen.part(62, 0, wide - 62, pen.height()), scene, review);
    }
}

/// What the picked step does in words, and what was found of it.
fn notes(pen: &mut Pen<'_>, scene: &Scene, review: &Review) {
    let Some((sequence, program)) = scene.sequence() else { return };
    let at = scene.model.in_sequence.step;
    let place = scene.edition.index.sequences.place(sequence.id).unwrap_or(0);
    let mut y = match sequence.steps.get(at).and_then(Step::what) {
        Some(What::Pose(pose)) => of_pose(pen, scene, pose),
        Some(What::Play(name)) => {
            pen.put(
                0,
                0,
                &format!("plays {name}: {}", crate::say::counted(program.laid_out(at).len(), "step")),
                theme::text(theme::QUIET),
            );
            let does =
                if scene.model.in_sequence.open { "‹go on› closes it" } else { "‹go on› opens it" };
            pen.put(0, 1, does, theme::text(theme::QUIET));
            2
        }
        Some(What::Wait(wait)) => {
            pen.paragraph(0, 0, &format!("waits until {}", wait.words()), theme::text(theme::QUIET))
        }
        None => 0,
    };
    let servo = |n: usize| scene.rig.servos.get(n).map_or("", |servo| servo.name.as_str());
    let mut say = |words: String| {
        if y < pen.height() {
            y = pen.paragraph(0, y, &words, theme::text(theme::FAULT));
        }
    };
    let flats: Vec<usize> = program
        .laid_out(at)
        .iter()
        .filter_map(|flat| program.steps.iter().position(|own| own == flat))
        .collect();
    let shorts = review.shorts.iter().filter(|short| flats.contains(&short.flat));
    let mine: Vec<String> = shorts
        .map(|s| {
            let assumed = if s.assumed { ", its speed not known: assumed 100 °/s" } else { "" };
            format!("{} needs {:.2} s{assumed}", servo(s.servo), rounded_up(s.needs))
        })
        .collect();
    if !mine.is_empty() {
        say(format!("cannot get there in time: {}", mine.join(", ")));
    }
    let here = |sequence: usize, step: usize| (sequence, step) == (place, at);
    for met in review.met.iter().filter(|met| here(met.sequence, met.step)) {
        say(format!(
            "{} is asked for {:+.1}° and ends at {:+.1}°",
            servo(met.servo),
            met.asked.get(),
            met.gets.get()
        ));
    }
    for fine in review.fine.iter().filter(|fine| here(fine.sequence, fine.step)) {
        let what = if fine.slack { "the play of its gears" } else { "one tick" };
        say(format!(
            "{} moves {:.2}°, less than {what}, {:.2}°: too little to see",
            servo(fine.servo),
            fine.moves.get(),
            fine.least.get()
        ));
    }
    let peak = scene.place().and_then(|servo| review.peaks.iter().find(|peak| peak.servo == servo));
    if let Some(peak) = peak.filter(|_| y < pen.height()) {
        let (rated, known) = program.speed_of(peak.servo);
        let hard = if peak.acceleration.is_finite() {
            format!("{:.0} °/s²", peak.acceleration)
        } else {
            "its speed jumps".to_owned()
        };
        let of = if known { format!("it can {rated:.0}") } else { format!("assumed {rated:.0}") };
        let words = format!(
            "{}: up to {:.0} °/s ({of}) at {:.2} s, {hard}",
            servo(peak.servo),
            peak.speed,
            peak.at.seconds()
        );
        pen.paragraph(0, y, &words, theme::text(theme::QUIET));
    }
}

/// A pose in angles; gives the row behind it.
fn of_pose(pen: &mut Pen<'_>, scene: &Scene, pose: &str) -> u16 {
    let Some(pose) = scene.edition.parts().pose(pose) else { return 0 };
    pen.put(0, 0, &format!("pose {}", pose.name), theme::text(theme::QUIET));
    let rig = scene.rig;
    let said = rig.servos.iter().filter_map(|servo| {
        let name = scene.edition.parts().spoken_name(servo)?;
        Some(format!("{name} {}", servo.kind.show(pose.target(servo.kind, name)?)))
    });
    pen.paragraph(0, 1, &said.collect::<Vec<_>>().join("   "), theme::text(theme::INK))
}
