//! Inputs: what comes in, what each stage makes of it, and where it ends up.

pub mod learn;

use crate::screen::chart::Plot;
use crate::screen::pen::{Pen, cell_of, width};
use crate::screen::rows::InputRow;
use crate::screen::scene::{Linked, Picked, Scene, Sending};
use crate::screen::{chart, theme};
use ratatui::style::Color;
use wasvolta_core::link::Health;
use wasvolta_core::rig::switch::standing;
use wasvolta_core::rig::{Input, Mapping};
use wasvolta_core::shape::Shape;
use wasvolta_core::stage::plan::InputPlan;
use wasvolta_core::stage::{InputState, LinkState, Owner};
use wasvolta_sim::Mood;

/// What one line of the stages shows.
struct StageLine {
    stage: &'static str,
    row: InputRow,
    value: String,
    /// The value behind the stage, on its last line.
    after: Option<f64>,
}

/// Draws the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) {
    let Some(input) = scene.input() else {
        let y = list(pen, scene);
        pen.paragraph(0, y + 1, "No input in this rig yet.", theme::text(theme::QUIET));
        return;
    };
    let Some(place) = scene.input_place() else { return };
    let Some(state) = scene.input_state(place) else { return };
    let Some(plan) = scene.edition.plan.inputs.get(place) else { return };
    let (wide, high) = (pen.width(), pen.height());
    let gap = u16::from(high >= 30);
    let mut y = list(pen, scene) + gap;
    y = sentence(&mut pen.part(0, y, wide, 2), scene, input, state) + y + gap;
    let lines = lines(scene, input, state);
    let count = u16::try_from(lines.len()).unwrap_or(0) + 1;
    let curve_wide = if wide >= 84 { (wide / 3).min(44) } else { 0 };
    let stages_wide = if curve_wide > 0 { wide - curve_wide - 4 } else { wide };
    stages(&mut pen.part(0, y, stages_wide, count), scene, &lines, plan.shape.span.floor());
    if curve_wide > 0 {
        let rows = count.min(high - y);
        curve(&mut pen.part(wide - curve_wide, y, curve_wide, rows), scene, &plan.shape, state);
    }
    y += count + gap;
    let room = high.saturating_sub(y);
    if room >= 4 {
        strip(&mut pen.part(0, y, wide, room.min(20)), scene, plan.shape.span.floor());
    }
}

/// A row a link with how it stands, and below it a row an input with its live bar; gives the row behind.
fn list(pen: &mut Pen<'_>, scene: &Scene) -> u16 {
    // What is behind the picked one needs its room; a long list is shown around it.
    let most = usize::from(pen.height() / 3).max(2);
    let rows = list_rows(scene);
    let is_long = rows.len() > most;
    // The last row says how many more there are.
    let most = most - usize::from(is_long);
    let here =
        rows.iter().position(|row| matches!(row, ListRow::Input(n) if scene.input_place() == Some(*n)));
    let from = here.unwrap_or(0).saturating_sub(most / 2).min(rows.len().saturating_sub(most));
    let mut y = 0;
    for row in rows.iter().skip(from).take(most) {
        match row {
            ListRow::Link(linked) => link_row(pen, scene, y, linked),
            ListRow::Input(n) => input_row(pen, scene, y, *n),
        }
        y += 1;
    }
    if is_long {
        let words = format!("and {} more", rows.len() - most);
        pen.put(2, y, &words, theme::text(theme::QUIET));
        y += 1;
    }
    y
}

enum ListRow<'a> {
    Link(Linked<'a>),
    Input(usize),
}

/// Links in rig order, each with its inputs behind it.
fn list_rows<'a>(scene: &Scene<'a>) -> Vec<ListRow<'a>> {
    let mut rows = Vec::new();
    for linked in scene.links() {
        rows.push(ListRow::Link(linked));
        let inputs = scene.rig.inputs.iter().enumerate();
        rows.extend(inputs.filter(|(_, i)| i.link == linked.link.name).map(|(n, _)| ListRow::Input(n)));
    }
    rows
}

fn link_row(pen: &mut Pen<'_>, scene: &Scene, y: u16, linked: &Linked) {
    let (word, color) = health(linked.state, scene.drives(linked.link));
    let wide = pen.width();
    let x = pen.put(0, y, &linked.link.name, theme::text(theme::QUIET));
    pen.put_right(wide, y, &word, theme::text(color));
    let end = wide.saturating_sub(width(&word));
    let rate = linked
        .state
        .usual()
        .map_or_else(String::new, |usual| format!(", {:.0} /s", 1.0 / usual.as_secs_f64()));
    let what = format!("  {}{rate}", linked.protocol.row().title);
    if x + width(&what) + 2 < end {
        pen.put(x, y, &what, theme::text(theme::QUIET));
    }
}

fn input_row(pen: &mut Pen<'_>, scene: &Scene, y: u16, n: usize) {
    let wide = pen.width();
    let (Some(input), Some(state), Some(plan)) =
        (scene.rig.inputs.get(n), scene.input_state(n), scene.edition.plan.inputs.get(n))
    else {
        return;
    };
    let here = scene.input_place() == Some(n);
    let style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
    pen.put(2, y, &trimmed(&input.name, 15), style);
    let beside = if wide < 84 { 28 } else { 38 };
    let bar_wide = wide.saturating_sub(18 + beside).min(60);
    let heard = scene.link_of(input).is_some_and(|linked| linked.state.is_heard());
    let shown = if state.raw.is_some() && heard { theme::INPUT } else { theme::QUIET };
    chart::bar(pen, (18, y, bar_wide), plan.shape.span.floor(), state.stages.shaped(), shown);
    let x = 18 + bar_wide + 2;
    pen.put(x, y, &value(plan, state), theme::strong(shown));
    let drives = scene.rig.mappings.iter().filter(|m| m.input == input.name).map(|m| m.joint.as_str());
    let drives = drives.collect::<Vec<_>>().join(", ");
    let drives = if drives.is_empty() { "drives nothing".to_owned() } else { format!("→ {drives}") };
    let room = usize::from(wide.saturating_sub(x + 12));
    pen.put(x + 12, y, &trimmed(&drives, room), theme::text(theme::QUIET));
}

/// Where it stands: of a switch in words, of anything else as its shaped value.
fn value(plan: &InputPlan, state: &InputState) -> String {
    match (state.raw, &plan.switch) {
        (None, _) => "–".to_owned(),
        (Some(_), None) => format!("{:+.3}", state.stages.shaped() + 0.0),
        (Some(_), Some(switch)) => state
            .switch
            .position(switch)
            .map_or_else(|| "–".to_owned(), |position| standing(position, switch.positions())),
    }
}

/// A text in so many columns, its end left out with a mark.
fn trimmed(text: &str, room: usize) -> String {
    if text.chars().count() <= room {
        return text.to_owned();
    }
    let kept: String = text.chars().take(room.saturating_sub(1)).collect();
    format!("{kept}…")
}

/// How a link stands, in words with the age of its newest frame. One that drives nothing never alarms.
fn health(state: &LinkState, drives: bool) -> (String, Color) {
    let age = state.age.map_or_else(String::new, |age| {
        if age.as_millis() < 1000 {
            format!(", {:>3} ms old", age.as_millis())
        } else {
            format!(", {:.1} s old", age.as_secs_f64())
        }
    });
    let alarm = if drives { theme::FAULT } else { theme::QUIET };
    match state.health {
        Health::Fresh => (format!("● fresh{age}"), theme::INK),
        Health::Late => (format!("◐ late{age}"), theme::INK),
        Health::Absent => ("○ absent".to_owned(), theme::QUIET),
        Health::Lost => (format!("✗ lost{age}"), alarm),
        Health::Stuck => (format!("✗ stuck{age}"), alarm),
    }
}

/// From the line to the wire in one sentence; gives the rows used.
fn sentence(pen: &mut Pen<'_>, scene: &Scene, input: &Input, state: &InputState) -> u16 {
    source(pen, scene, input, state);
    let Some(mapping) = scene.mapping() else {
        pen.put(0, 1, "drives nothing", theme::text(theme::QUIET));
        return 2;
    };
    let driven = scene.rig.turned_by(&mapping.joint).and_then(|(n, _)| scene.servo(n));
    let words = asks(scene, mapping, state, driven.as_ref().map(|p| p.state.owner));
    let x = pen.put(0, 1, &words, theme::text(theme::INPUT));
    if let Some(part) = driven {
        does(pen, x, &mapping.joint, &part);
    }
    2
}

/// Where it comes from, and what was read there.
fn source(pen: &mut Pen<'_>, scene: &Scene, input: &Input, state: &InputState) {
    let Some(linked) = scene.link_of(input) else { return };
    let port = scene.edition.parts().place_of(linked.link).map(|(port, _)| port);
    let at = port.map_or("", |port| if port.path.is_empty() { port.kind.word() } else { &port.path });
    let said = scene.edition.channel_state(input, &scene.model.snapshot).filter(|state| state.is_old);
    let old = said.and_then(|state| state.newest);
    let old = old.map_or_else(String::new, |value| format!(": {value} was kept there, of unknown age"));
    let counted = input.switch.as_ref().map_or_else(String::new, |switch| {
        let did = if switch.positions.is_empty() { "pressed" } else { "changed" };
        let times = if state.switch.changes == 1 {
            "once".to_owned()
        } else {
            format!("{} times", state.switch.changes)
        };
        format!(", {did} {times}")
    });
    let place = format!("{} of {} on {at}{old}{counted}", input.channel, linked.link.name);
    let quiet = theme::text(theme::QUIET);
    let x = pen.put(0, 0, &place, quiet);
    let open = if linked.report.open { "open" } else { "closed" };
    let counts = linked.report.counts;
    let words = format!("{open}, {} good, {} bad, {} bytes skipped", counts.good, counts.bad, counts.skipped);
    let wide = pen.width();
    if x + width(&words) + 2 <= wide {
        pen.put_right(wide, 0, &words, quiet);
    }
}

/// What it asks for, and no more: limits, speed and the hand stand between that and the wire.
fn asks(scene: &Scene, mapping: &Mapping, state: &InputState, owner: Option<Owner>) -> String {
    let raw = state.raw.map_or_else(|| "–".to_owned(), |r| format!("{r:.0}"));
    let input = scene.input_place().and_then(|n| scene.edition.plan.inputs.get(n));
    let shaped = input.map_or_else(String::new, |input| value(input, state));
    let place = scene.rig.mappings.iter().position(|m| m.joint == mapping.joint);
    let plan = place.and_then(|n| scene.edition.plan.mappings.get(n));
    let span = input.map(|input| input.shape.span);
    match (owner == Some(Owner::LostMapping), &mapping.failsafe, plan.zip(span)) {
        (true, Some(failsafe), _) => format!("lost → asks {:+.1}°", failsafe.angle_deg.get() + 0.0),
        (true, None, _) => "lost → stay".to_owned(),
        (false, _, Some((plan, span))) => {
            let angle = plan.angle(state.stages.shaped(), &span);
            let asks = if owner == Some(Owner::Mapping) { "asks" } else { "would ask" };
            format!("{raw} → {shaped} → {asks} {:+.1}°", angle.get() + 0.0)
        }
        (false, _, None) => raw,
    }
}

/// What is on the wire of what it drives, and who put it there.
fn does(pen: &mut Pen<'_>, x: u16, joint: &str, part: &Picked) {
    let wire = match part.wire.ticks() {
        Some(t) => {
            let angle = part.value(part.wire_pulse()).map_or_else(String::new, |angle| format!("{angle}, "));
            let ticks = if pen.width() < 64 { String::new() } else { format!(", {} ticks", t.0) };
            format!("   wire {angle}{:.0} µs{ticks}", part.wire_pulse().get())
        }
        None => format!("   wire: {}", part.wire.without()),
    };
    let x =
        pen.put(x, 1, &wire, theme::text(if part.state.engaged { theme::COMMANDED } else { theme::QUIET }));
    let who = match part.state.owner {
        Owner::Nobody => format!("   {joint} is not engaged"),
        Owner::Mapping => format!("   {joint} follows"),
        Owner::LostMapping => format!("   {joint} does as told for a lost link"),
        other => format!("   {joint} is driven by {}", other.word()),
    };
    pen.put(x, 1, &who, theme::text(theme::QUIET));
}

fn lines(scene: &Scene, input: &Input, state: &InputState) -> Vec<StageLine> {
    let s = &state.stages;
    let mapping = scene.mapping();
    scene
        .input_rows()
        .into_iter()
        .map(|row| {
            let rate = |r: Option<f64>| r.map_or_else(|| "no limit".to_owned(), |r| format!("{r:.2} /s"));
            let (stage, value, after) = match row {
                InputRow::Which => ("", input.name.clone(), None),
                InputRow::Turn => {
                    let sender = scene.sender;
                    let fares = match sender {
                        Some(Sending { plugged: false, .. }) | None => "plug is out",
                        Some(Sending { mood: Mood::Well, .. }) => "simulated",
                        Some(Sending { mood, .. }) => mood.word(),
                    };
                    let at = sender.and_then(|sender| sender.at).unwrap_or(0.0);
                    ("stand-in", format!("{:.0} %, {fares}", at * 100.0), None)
                }
                InputRow::Low => ("span", format!("{:.0}", input.ends.low), None),
                InputRow::Centre => ("", format!("{:.0}", input.centre.unwrap_or(0.0)), None),
                InputRow::High => ("", format!("{:.0}", input.ends.high), Some(s.span)),
                InputRow::Pressed => {
                    let words = match &input.switch {
                        None => "no switch".to_owned(),
                        Some(switch) => match (switch.on_above, switch.on_below) {
                            (Some(on), _) => format!("above {}", on + 0.0),
                            (_, Some(on)) => format!("below {}", on + 0.0),
                            _ => format!("{} positions", switch.positions.len()),
                        },
                    };
                    ("switch", words, None)
                }
                InputRow::Debounce => {
                    let debounce = input.switch.as_ref().map_or(0.0, |switch| switch.debounce_ms);
                    ("", format!("{debounce:.0} ms"), Some(s.span))
                }
                InputRow::Trim => ("trim", format!("{:+.3}", input.trim), Some(s.trim)),
                InputRow::Deadband => ("deadband", format!("{:.3}", input.deadband), Some(s.deadband)),
                InputRow::Expo => ("curve", format!("{:+.2}", input.expo), Some(s.curve)),
                InputRow::Smoothing => {
                    ("smoothing", format!("{:.0} ms", input.smoothing_ms), Some(s.smoothing))
                }
                InputRow::Rise => ("rate", rate(input.rise_per_s), None),
                InputRow::Fall => ("", rate(input.fall_per_s), Some(s.rate)),
                InputRow::MapLow => (
                    "mapping",
                    mapping.map_or_else(String::new, |m| format!("{:+.1}°", m.angles_deg.low.get())),
                    None,
                ),
                InputRow::MapHigh => (
                    "",
                    mapping.map_or_else(String::new, |m| format!("{:+.1}°", m.angles_deg.high.get())),
                    None,
                ),
                InputRow::Failsafe => {
                    let words = mapping.and_then(|m| m.failsafe.as_ref()).map_or_else(
                        || "stay".to_owned(),
                        |f| format!("to {:+.1}° in {:.1} s", f.angle_deg.get(), f.over_s.get()),
                    );
                    ("", words, None)
                }
            };
            StageLine { stage, row, value, after }
        })
        .collect()
}

/// The stages in order, each with what can be set and the value behind it.
fn stages(pen: &mut Pen<'_>, scene: &Scene, lines: &[StageLine], floor: f64) {
    let wide = pen.width();
    let value_at = 24;
    let bar_at = value_at + 18;
    let bar_wide = wide.saturating_sub(bar_at + 9).min(48);
    pen.put(2, 0, "stage", theme::text(theme::QUIET));
    pen.put(value_at, 0, "set to", theme::text(theme::QUIET));
    pen.put_right(bar_at + bar_wide + 8, 0, "behind it", theme::text(theme::QUIET));
    for ((n, line), y) in lines.iter().enumerate().zip(1..) {
        let here = n == scene.model.in_inputs.row;
        if here {
            pen.ground(0, y, wide, theme::RAISED);
            pen.glyph(0, y, "▌", theme::COMMANDED);
        }
        pen.put(2, y, line.stage, theme::text(theme::QUIET));
        let style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
        pen.put(12, y, line.row.name(), style);
        pen.put(value_at, y, &line.value, style);
        if let Some(after) = line.after
            && bar_wide >= 6
        {
            chart::bar(pen, (bar_at, y, bar_wide), floor, after, theme::INPUT);
            pen.put_right(
                bar_at + bar_wide + 8,
                y,
                &format!("{:+.3}", after + 0.0),
                theme::text(theme::INPUT),
            );
        }
        let step = line.row.step(scene.model.nudge);
        if here && line.after.is_none() && wide >= bar_at + 20 {
            let hint = match line.row {
                InputRow::Which => "← → another input".to_owned(),
                InputRow::Pressed => "← → the other way, or none".to_owned(),
                _ => format!("← → by {step}"),
            };
            pen.put(bar_at + 2, y, &hint, theme::text(theme::QUIET));
        }
    }
}

/// Raw place to shaped value, with a dot where it is; the mapping's ends are its two handles.
fn curve(pen: &mut Pen<'_>, scene: &Scene, shape: &Shape, state: &InputState) {
    let floor = shape.span.floor();
    let left = 7;
    let (wide, rows) = (pen.width(), pen.height());
    if rows < 6 {
        return;
    }
    let mut plot = Plot::new(wide - left, rows - 1, (floor, 1.0), (floor, 1.0));
    plot.dashed((floor, floor), (1.0, 1.0), theme::RULE, (1, 3));
    if floor < 0.0 {
        plot.dashed((floor, 0.0), (1.0, 0.0), theme::RULE, (1, 4));
        plot.dashed((0.0, floor), (0.0, 1.0), theme::RULE, (1, 4));
    }
    let points =
        (0..=120u32).map(|n| floor + (1.0 - floor) * f64::from(n) / 120.0).map(|x| (x, shape.rest_at(x)));
    plot.curve(points, theme::INK);
    for end in [floor, 1.0] {
        plot.disc(end, shape.rest_at(end), theme::MARK);
    }
    if state.raw.is_some() {
        plot.disc(state.stages.span, state.stages.shaped(), theme::INPUT);
    }
    plot.canvas.lay(pen, left, 0);
    let mapping = scene.mapping();
    let quiet = theme::text(theme::QUIET);
    let label = |low: bool| {
        mapping.map_or_else(
            || if low { format!("{floor:+.0}") } else { "+1".to_owned() },
            |m| format!("{:+.1}°", if low { m.angles_deg.low.get() } else { m.angles_deg.high.get() }),
        )
    };
    pen.put_right(left - 1, 0, &label(false), quiet);
    pen.put_right(left - 1, rows - 2, &label(true), quiet);
    let (low, high) = (scene.input().map_or(0.0, |i| i.ends.low), scene.input().map_or(0.0, |i| i.ends.high));
    pen.put(left, rows - 1, &format!("{low:.0}"), quiet);
    pen.put_right(wide, rows - 1, &format!("{high:.0} raw"), quiet);
}

/// The last seconds of raw and shaped values.
fn strip(pen: &mut Pen<'_>, scene: &Scene, floor: f64) {
    const SECONDS: f64 = 12.0;
    let (wide, rows) = (pen.width(), pen.height());
    let left = 7;
    let now = scene.model.snapshot.now.as_secs_f64();
    let mut plot = Plot::new(wide - left, rows - 1, (-SECONDS, 0.0), (floor, 1.0));
    plot.dashed((-SECONDS, 0.0), (0.0, 0.0), theme::RULE, (1, 4));
    let recent = || {
        scene
            .model
            .in_inputs
            .strip
            .iter()
            .map(move |(at, raw, shaped)| (at.as_secs_f64() - now, *raw, *shaped))
            .filter(|p| p.0 >= -SECONDS)
    };
    plot.curve(recent().map(|(t, raw, _)| (t, raw)), theme::QUIET);
    plot.curve(recent().map(|(t, _, shaped)| (t, shaped)), theme::INPUT);
    plot.canvas.lay(pen, left, 0);
    let quiet = theme::text(theme::QUIET);
    pen.put_right(left - 1, 0, "+1", quiet);
    let (_, zero) = plot.cell(0.0, 0.0);
    pen.put_right(left - 1, zero.min(rows - 2), "0", quiet);
    if floor < 0.0 {
        pen.put_right(left - 1, rows - 2, "-1", quiet);
    }
    pen.put(left, rows - 1, &format!("{SECONDS:.0} s ago"), quiet);
    pen.put_right(wide, rows - 1, "now", quiet);
    let middle = left + cell_of(f64::from(wide - left) / 2.0);
    pen.put_right(middle, rows - 1, "── raw   ", quiet);
    pen.put(middle, rows - 1, "── shaped", theme::text(theme::INPUT));
}
