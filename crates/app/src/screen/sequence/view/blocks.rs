//! Steps as blocks to scale, loops as brackets over them, waits as gates between them.

use super::time::Time;
use crate::screen::pen::{Pen, fit, width};
use crate::screen::scene::Scene;
use crate::screen::sequence::steps::rounds;
use crate::screen::theme;
use ratatui::style::Color;
use wasvolta_core::rig::{Sequence, What};
use wasvolta_core::sequence::OpKind;

/// The most rows of brackets.
const LEVELS: usize = 3;

/// Draws them; gives the rows used.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, sequence: &Sequence, time: &Time, label: u16) -> u16 {
    let wide = pen.width() - label;
    let levels = brackets(&mut pen.part(label, 0, wide, 3), spans(scene, sequence, time), time);
    if levels > 0 {
        pen.put(0, 0, "loops", theme::text(theme::QUIET));
    }
    let signs = signs(&mut pen.part(label, levels, wide, 1), sequence, time);
    let y = levels + signs;
    pen.put(0, y, "steps", theme::text(theme::QUIET));
    pen.put(0, y + 1, "move, dwell", theme::text(theme::QUIET));
    heads(&mut pen.part(label, y, wide, 2), scene, sequence, time);
    y + 2
}

/// Loops with where they begin and end, in seconds: those of the sequence, and of a call that is open.
fn spans(scene: &Scene, sequence: &Sequence, time: &Time) -> Vec<(f64, f64, String)> {
    let program = time.program;
    let own = sequence.loops.iter().filter_map(|own| {
        let (from, to) = sequence.span(own)?;
        let starts = program.enters_at(from).seconds();
        Some((starts, program.step(to).map_or(starts, |step| step.ends()), rounds(own)))
    });
    let mut all: Vec<(f64, f64, String)> = own.collect();
    let open = scene.model.in_sequence.open.then(|| program.step(scene.model.in_sequence.step)).flatten();
    if let Some(call) = open {
        for op in program.ops.iter().filter(|op| op.depth > 0) {
            let OpKind::Begin { rounds, end, .. } = op.kind else { continue };
            let end =
                usize::try_from(end).ok().and_then(|end| program.ops.get(end)).map_or(op.at, |end| end.at);
            let (from, to) = (op.at.seconds(), end.seconds());
            if from < call.starts - 1e-6 || to > call.ends() + 1e-6 {
                continue;
            }
            let words =
                rounds.count(&program.given).map_or_else(|| "for ever".to_owned(), |n| format!("× {n}"));
            all.push((from, to, words));
        }
    }
    all.sort_by(|(a, b, _), (c, d, _)| (d - c).total_cmp(&(b - a)).then(a.total_cmp(c)));
    all
}

/// Loops, the outermost on top; gives the rows used.
fn brackets(pen: &mut Pen<'_>, spans: Vec<(f64, f64, String)>, time: &Time) -> u16 {
    let mut used = 0;
    let mut rows: Vec<Vec<(f64, f64)>> = Vec::new();
    for (starts, ends, words) in spans {
        let free = |row: &Vec<(f64, f64)>| row.iter().all(|(a, b)| ends <= *a + 1e-6 || *b <= starts + 1e-6);
        let level = rows.iter().position(free).unwrap_or(rows.len());
        if level >= LEVELS {
            continue;
        }
        if level == rows.len() {
            rows.push(Vec::new());
        }
        if let Some(row) = rows.get_mut(level) {
            row.push((starts, ends));
        }
        let (a, b) = (time.column(starts), time.column(ends));
        let y = u16::try_from(level).unwrap_or(0);
        used = used.max(y + 1);
        for x in a..=b {
            pen.glyph(x, y, "─", theme::QUIET);
        }
        pen.glyph(a, y, if time.shown(starts).is_some() { "╭" } else { "─" }, theme::QUIET);
        pen.glyph(b, y, if time.shown(ends).is_some() { "╮" } else { "─" }, theme::QUIET);
        let room = usize::from(b.saturating_sub(a + 3));
        if room >= 3 {
            pen.put(a + 2, y, &format!(" {} ", fit(&words, room.saturating_sub(2))), theme::text(theme::INK));
        }
    }
    used
}

/// Labels, and what is waited for, where they are; gives the rows used.
fn signs(pen: &mut Pen<'_>, sequence: &Sequence, time: &Time) -> u16 {
    let mut free = 0;
    let mut any = false;
    for (n, step) in sequence.steps.iter().enumerate() {
        let wait = step.wait_for.as_ref();
        if wait.is_none() && step.label.is_none() {
            continue;
        }
        any = true;
        let Some(x) = time.shown(time.program.enters_at(n).seconds()) else { continue };
        let words = match (wait, &step.label) {
            (Some(wait), _) => format!("◇ {}", wait.words()),
            (None, label) => label.clone().unwrap_or_default(),
        };
        // Near the right end they begin before it, so that they can be read.
        let x = x.min(pen.width().saturating_sub(width(&words))).max(free);
        if x >= pen.width() {
            continue;
        }
        let color = if wait.is_some() { theme::INPUT } else { theme::QUIET };
        let room = usize::from(pen.width() - x);
        free = pen.put(x, 0, &fit(&words, room), theme::text(color)) + 1;
    }
    u16::from(any)
}

struct Block<'a> {
    name: String,
    times: (f64, f64, f64),
    picked: bool,
    short: bool,
    /// It plays another sequence.
    call: bool,
    style: &'a str,
}

/// The steps, to scale: move on a raised ground, dwell behind it.
fn heads(pen: &mut Pen<'_>, scene: &Scene, sequence: &Sequence, time: &Time) {
    let (from, to) = scene.model.in_sequence.picked();
    let shorts = time.program.shorts();
    for (n, step) in sequence.steps.iter().enumerate() {
        let Some(when) = time.program.step(n) else { continue };
        let picked = (from..=to).contains(&n);
        let laid_out = time.program.laid_out(n);
        let is_short = |starts| {
            shorts.iter().any(|s| time.program.steps.get(s.flat).is_some_and(|f| f.starts == starts))
        };
        match step.what() {
            Some(What::Wait(_)) => gate(pen, time, when.starts, picked),
            Some(What::Play(_)) if scene.model.in_sequence.open && scene.model.in_sequence.step == n => {
                for flat in laid_out {
                    let own = scene.rig.sequences.get(flat.sequence).and_then(|s| s.steps.get(flat.step));
                    let pose = own.and_then(|step| step.pose.clone()).unwrap_or_default();
                    let t = flat.time();
                    block(
                        pen,
                        time,
                        &Block {
                            name: format!("{}.{} {pose}", n + 1, flat.step + 1),
                            times: (t.starts, t.arrives(), t.ends()),
                            picked,
                            short: is_short(flat.starts),
                            call: true,
                            style: "▏",
                        },
                    );
                }
            }
            Some(What::Play(name)) => block(
                pen,
                time,
                &Block {
                    name: format!("{} {name}", n + 1),
                    times: (when.starts, when.arrives(), when.ends()),
                    picked,
                    short: laid_out.iter().any(|flat| is_short(flat.starts)),
                    call: true,
                    style: "▏",
                },
            ),
            Some(What::Pose(pose)) => block(
                pen,
                time,
                &Block {
                    name: format!("{} {pose}", n + 1),
                    times: (when.starts, when.arrives(), when.ends()),
                    picked,
                    short: laid_out.iter().any(|flat| is_short(flat.starts)),
                    call: false,
                    style: "▏",
                },
            ),
            None => {}
        }
    }
    instants(pen, scene, sequence, time);
    // Gates lie over the edges of the blocks between which they stand.
    for (n, step) in sequence.steps.iter().enumerate() {
        if step.wait_for.is_some()
            && let Some(when) = time.program.step(n)
        {
            gate(pen, time, when.starts, (from..=to).contains(&n));
        }
    }
}

/// Steps that take no time at all: what has no width has a sign of its own, with the numbers of all that stand there.
fn instants(pen: &mut Pen<'_>, scene: &Scene, sequence: &Sequence, time: &Time) {
    let (from, to) = scene.model.in_sequence.picked();
    let mut at: Vec<(u16, Vec<usize>)> = Vec::new();
    for (n, step) in sequence.steps.iter().enumerate() {
        let when = time.program.step(n).filter(|when| when.ends() - when.starts < 1e-6);
        let Some(x) = when.filter(|_| step.wait_for.is_none()).and_then(|when| time.shown(when.starts))
        else {
            continue;
        };
        match at.last_mut().filter(|(last, _)| *last == x) {
            Some((_, steps)) => steps.push(n),
            None => at.push((x, vec![n])),
        }
    }
    for (x, steps) in at {
        let picked = steps.iter().any(|n| (from..=to).contains(n));
        let color = if picked { theme::COMMANDED } else { theme::INK };
        pen.glyph(x, 0, "◆", color);
        let numbers: Vec<String> = steps.iter().map(|n| (n + 1).to_string()).collect();
        pen.put(x, 1, &numbers.join(","), theme::text(color));
    }
}

fn gate(pen: &mut Pen<'_>, time: &Time, at: f64, picked: bool) {
    let Some(x) = time.shown(at) else { return };
    let color = if picked { theme::COMMANDED } else { theme::INPUT };
    pen.glyph(x, 0, "◇", color);
    pen.glyph(x, 1, "┊", color);
}

fn block(pen: &mut Pen<'_>, time: &Time, block: &Block) {
    let (starts, arrives, ends) = block.times;
    if ends < time.from || starts > time.to {
        return;
    }
    let (a, b, c) = (time.column(starts), time.column(arrives), time.column(ends));
    let color: Color = match (block.short, block.picked) {
        (true, _) => theme::FAULT,
        (false, true) => theme::COMMANDED,
        (false, false) => theme::INK,
    };
    for y in 0..2 {
        pen.ground(a, y, b.saturating_sub(a).max(1), theme::RAISED);
        let edge = if block.picked { "▌" } else { block.style };
        pen.glyph(a, y, edge, if block.picked { theme::COMMANDED } else { theme::QUIET });
    }
    let room = usize::from(c.saturating_sub(a + 2));
    let style = if block.picked { theme::strong(color) } else { theme::text(color) };
    let name = if block.call { format!("▸ {}", block.name) } else { block.name.clone() };
    let brief = if usize::from(width(&name)) <= room || room >= 6 {
        fit(&name, room)
    } else {
        fit(block.name.split(' ').next().unwrap_or_default(), room)
    };
    pen.put(a + 1, 0, &brief, style);
    let moves = arrives - starts;
    let times =
        if block.call { format!("{moves:.2} s") } else { format!("{moves:.2}, {:.2} s", ends - arrives) };
    if times.len() <= room {
        pen.put(a + 1, 1, &times, theme::text(theme::QUIET));
    } else if room >= 4 {
        pen.put(a + 1, 1, &fit(&format!("{moves:.2}"), room), theme::text(theme::QUIET));
    }
}
