//! Inputs: what comes in, what each stage makes of it, and where it ends up.

mod curve;
pub mod learn;
mod list;
mod strip;
mod words;

use super::goals;
use super::rows::{self, Part};
use super::told::Told;
use crate::screen::chart::Bar;
use crate::screen::inputs::handles::Handles;
use crate::screen::layout::room;
use crate::screen::pen::{Pen, width};
use crate::screen::rows::Row;
use crate::screen::scene::{Picked, Scene};
use crate::screen::touch::Touched;
use crate::screen::{chart, theme};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use wasvolta_core::rig::Input;
use wasvolta_core::shape::Span;
use wasvolta_core::stage::{InputState, Owner, Stand};
use wasvolta_engine::why;
use words::trimmed;

/// Draws the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) {
    laid(pen, scene);
}

/// The handles that a window of that size shows: it is drawn once more, unseen, so that they are where they are seen.
pub fn handles(scene: &Scene, window: Rect) -> Option<Handles> {
    let mut unseen = Buffer::empty(window);
    let mut untouched = Vec::new();
    laid(&mut Pen::new(&mut unseen, room(window), &scene.model.keys, &mut untouched), scene)
}

/// Draws it, and gives the handles of the line that is drawn.
fn laid(pen: &mut Pen<'_>, scene: &Scene) -> Option<Handles> {
    let Some(input) = scene.input() else {
        let y = list::draw(pen, scene, usize::from(pen.height() / 2));
        pen.paragraph(0, y + 1, "No input in this rig yet.", theme::text(theme::QUIET));
        return None;
    };
    let place = scene.input_place()?;
    let state = scene.input_state(place)?;
    let plan = scene.edition.plan.inputs.get(place)?;
    let all = rows::shown(scene);
    let at = scene.model.in_inputs.row.min(all.len().saturating_sub(1));
    let room = Room::of(pen.height(), &all, at, list::rows(scene));
    let (wide, high) = (pen.width(), pen.height());
    let mut y = list::draw(pen, scene, room.list) + room.gap;
    y += sentence(&mut pen.part(0, y, wide, 2 + room.gap), scene, input, state) + room.gap;
    let shown = &all[room.rows.clone()];
    let count = u16::try_from(shown.len()).unwrap_or(0) + 1;
    let of_mapping = room.part == Part::Mapping && scene.mapping().is_some();
    let curve_wide = if wide >= 84 { (wide / 3).min(46) } else { 0 };
    let stages_wide = if curve_wide > 0 { wide - curve_wide - 4 } else { wide };
    let picked = at - room.rows.start;
    stages(&mut pen.part(0, y, stages_wide, count), scene, (shown, picked), (&plan.shape.span, state));
    let draw_curve = |pen: &mut Pen<'_>| {
        if of_mapping {
            curve::of_mapping(pen, scene)
        } else {
            curve::of_input(pen, scene, &plan.shape, state)
        }
    };
    let mut drawn = None;
    if curve_wide > 0 {
        let rows = count.max(9).min(high.saturating_sub(y)).min(22);
        drawn = draw_curve(&mut pen.part(wide - curve_wide, y, curve_wide, rows));
    }
    y += count + room.gap;
    let left = high.saturating_sub(y);
    if curve_wide == 0 && (of_mapping || rows::bends(scene).is_some()) && left >= 5 {
        drawn = draw_curve(&mut pen.part(0, y, wide.min(64), left));
    } else if left >= 4 {
        strip::draw(&mut pen.part(0, y, wide, left.min(20)), scene, &plan.shape.span);
    }
    drawn
}

/// What there is room for: the list, and all rows or those of one part.
struct Room {
    list: usize,
    gap: u16,
    rows: std::ops::Range<usize>,
    part: Part,
}

impl Room {
    fn of(high: u16, rows: &[&Row], at: usize, listed: usize) -> Self {
        /// The sentence, the head of the rows, and a strip that says something.
        const BESIDE: usize = 2 + 1 + 5;
        /// A list that is worth its name.
        const SHORT: usize = 6;
        let gap = u16::from(high >= 30);
        let high = usize::from(high).saturating_sub(3 * usize::from(gap));
        let part = rows::part(rows, at);
        let left = |shown: usize| high.saturating_sub(BESIDE + shown);
        if left(rows.len()) >= SHORT.min(listed) {
            return Self { list: left(rows.len()).min(14), gap, rows: 0..rows.len(), part };
        }
        let of_part = |n: &usize| rows::part(rows, *n) == part;
        let from = (0..rows.len()).find(of_part).unwrap_or(0);
        let to = (0..rows.len()).rfind(of_part).map_or(rows.len(), |last| last + 1);
        Self { list: left(to - from).clamp(2, 14), gap, rows: from..to, part }
    }
}

/// From the line to the wire in one sentence; gives the rows used.
fn sentence(pen: &mut Pen<'_>, scene: &Scene, input: &Input, state: &InputState) -> u16 {
    source(pen, scene, input, state);
    let Some(mapping) = scene.mapping() else {
        pen.put(0, 1, "moves nothing", theme::text(theme::QUIET));
        return 2;
    };
    let place = scene.shown.index.mappings.place(mapping.id);
    let snapshot = &scene.model.snapshot;
    let stands = place.and_then(|place| snapshot.mappings.get(place));
    let parts = place.and_then(|place| why::asked(scene.shown, snapshot, place)).unwrap_or_default();
    let driven = scene.moved();
    let moves = stands.is_some_and(|state| state.stand == Stand::Moves);
    let angle = driven.as_ref().filter(|_| moves).and_then(|part| {
        let follow = part.plan.follows.iter().find(|follow| Some(follow.mapping) == place)?;
        let value = stands?.value;
        let is_own = part.state.mapping() == place && part.state.owner == Owner::Mapping;
        let asks = if is_own { "asks" } else { "would ask" };
        Some(match follow.along.angle(value) {
            Some(angle) => {
                format!("{asks} {}", part.servo.kind.show(wasvolta_core::unit::Degrees::new(angle)))
            }
            None => format!("{asks} {:+.1} °/s", value + 0.0),
        })
    });
    // What has no angles yet follows nothing; what would be asked of it is known all the same.
    let bare = || {
        // What plays goes at its tempo, and that is said already.
        let is_asked = |told: &Told| moves && *told != Told::Tempos && !goals::has_poses(scene);
        let told = Told::of(scene, mapping).filter(is_asked)?;
        Some(format!("would ask {}", told.show(stands?.value)))
    };
    let words: Vec<String> = parts.into_iter().chain(angle.or_else(bare)).collect();
    let x = pen.put(0, 1, &words.join(" → "), theme::text(theme::INPUT));
    let Some(part) = driven else { return 2 };
    let ([full, long, short, least], who) = does(scene, &part);
    let fits = |wire: &&String| x + 6 + width(wire) + width(&who) <= pen.width();
    let (x, y, wire) = match [&full, &long, &short].into_iter().find(fits) {
        Some(wire) => (x + 3, 1, wire),
        None if pen.height() > 2 => (0, 2, &long),
        // Who drives it stands in the roster.
        None => match [&long, &short, &least].into_iter().find(|wire| x + 3 + width(wire) <= pen.width()) {
            Some(wire) => (x + 3, 1, wire),
            None => return 2,
        },
    };
    let color = if part.state.engaged { theme::COMMANDED } else { theme::QUIET };
    let x = pen.put(x, y, wire, theme::text(color));
    if x + 3 + width(&who) <= pen.width() {
        pen.put(x + 3, y, &who, theme::text(theme::QUIET));
    }
    y + 1
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

/// What is on the wire of what it drives, in full and ever shorter, and who put it there.
fn does(scene: &Scene, part: &Picked) -> ([String; 4], String) {
    let joint = part.joint.map_or(&part.servo.name, |joint| &joint.name);
    let who = match (part.state.owner, part.state.picked_up_from()) {
        (Owner::Nobody, _) => format!("{joint} is not engaged"),
        (Owner::Mapping, Some(_)) => format!("{joint} waits to be passed"),
        (Owner::Mapping, None) => format!("{joint} follows"),
        (Owner::LostMapping, _) => format!("{joint} does as told for a lost link"),
        (Owner::Hand, _) => format!("{joint} is driven by hand"),
        (Owner::Sequence, _) => format!("{joint} is driven by the sequence"),
        (Owner::Home, _) => format!("nothing drives {joint}: it is kept at home"),
        (Owner::Rest, _) => format!("nothing drives {joint}: it stays"),
    };
    match part.wire.ticks() {
        Some(ticks) => {
            let micros = format!("{:.0} µs", part.wire_pulse().get());
            let angle = part.value(part.wire_pulse());
            let least = format!("wire {}", angle.as_deref().unwrap_or(&micros));
            let pulse = angle.map_or_else(|| least.clone(), |_| format!("{least}, {micros}"));
            let named = part.in_scales(scene.rig).into_iter().next();
            let named = named.map_or_else(String::new, |named| format!(", {named}"));
            let ticks = format!("{pulse}, {} ticks", ticks.0);
            ([format!("{ticks}{named}"), ticks, pulse, least], who)
        }
        None => {
            let none = format!("wire: {}", part.wire.without());
            (std::array::from_fn(|_| none.clone()), who)
        }
    }
}

/// The rows, each with what can be set and the value behind it.
fn stages(
    pen: &mut Pen<'_>,
    scene: &Scene,
    (rows, picked): (&[&'static Row], usize),
    (span, state): (&Span, &InputState),
) {
    let wide = pen.width();
    let value_at = 24;
    let bar_at = value_at + 18;
    let bar_wide = wide.saturating_sub(bar_at + 9).min(48);
    pen.put(2, 0, "stage", theme::text(theme::QUIET));
    pen.put(value_at, 0, "set to", theme::text(theme::QUIET));
    if rows.iter().any(|row| row.behind.is_some()) {
        pen.put_right(bar_at + bar_wide + 8, 0, "result", theme::text(theme::QUIET));
    }
    for ((n, row), y) in rows.iter().enumerate().zip(1..) {
        let here = n == picked;
        pen.touch(0, y, (wide, 1), Touched::Row(n.cast_signed() - picked.cast_signed()));
        if here {
            pen.ground(0, y, wide, theme::RAISED);
            pen.glyph(0, y, "▌", theme::COMMANDED);
        }
        pen.put(2, y, row.stage, theme::text(theme::QUIET));
        let style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
        pen.put(12, y, row.name, style);
        let behind = row.behind.map(|behind| behind(&state.stages));
        let room = if behind.is_some() { 17 } else { wide.saturating_sub(value_at) };
        let x = pen.put(value_at, y, &trimmed(&row.show(scene), usize::from(room)), style);
        if let Some(behind) = behind
            && bar_wide >= 6
        {
            let dead =
                if row.stage == "deadband" { scene.input().map_or(0.0, |input| input.deadband) } else { 0.0 };
            chart::bar(pen, (bar_at, y, bar_wide), Bar::of(span, behind, dead), theme::INPUT);
            let number = format!("{:+.3}", behind + 0.0);
            pen.put_right(bar_at + bar_wide + 8, y, &number, theme::text(theme::INPUT));
        }
        let hint = row.hint(scene);
        let hint_at = bar_at.max(x + 2);
        if here && behind.is_none() && hint_at + width(&hint) <= wide {
            pen.put(hint_at, y, &hint, theme::text(theme::QUIET));
        }
    }
}
