//! Channels while one is looked for, and an input while it is watched: what was observed, drawn.

use crate::screen::chart::Bar;
use crate::screen::inputs::heard::{Listen, Watching};
use crate::screen::pen::{Pen, cell_of, width};
use crate::screen::scene::Scene;
use crate::screen::{chart, theme};
use wasvolta_core::rig::{Channel, Pressed, Protocol};
use wasvolta_core::unit::{count16, number};
use wasvolta_core::watch::{BARS, Kind, Proposal};

/// Heights of a bar in eighths of a cell.
const EIGHTHS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

/// Every live channel, the liveliest first.
pub fn listening(pen: &mut Pen<'_>, scene: &Scene, listen: &Listen) {
    pen.clear();
    let (wide, high) = (pen.width(), pen.height());
    let quiet = theme::text(theme::QUIET);
    let is_ready = listen.ears.iter().any(|ear| ear.lively.is_ready());
    let question = if !is_ready && !listen.ears.is_empty() {
        "Touch nothing for a moment: this finds what moves by itself."
    } else if listen.for_input.is_some() {
        "Move the one that it should read, and nothing else."
    } else {
        "Move the one you mean, and nothing else."
    };
    pen.put(2, 1, question, theme::strong(theme::INK));
    if listen.ears.is_empty() {
        let words =
            "Nothing is heard on any link yet. ‹add link› adds a link; ‹Wiring› shows what is plugged in.";
        pen.put(2, 3, words, quiet);
        return;
    }
    let room = usize::from(high.saturating_sub(5)).max(1);
    let chosen = listen.pick.or_else(|| listen.chosen().map(|_| 0));
    let first = (chosen.unwrap_or(0) + 1).saturating_sub(room);
    let bar_at = 34;
    let bar_wide = wide.saturating_sub(bar_at + 34).min(50);
    for (y, (n, ear)) in (3..).zip(listen.ears.iter().enumerate().skip(first).take(room)) {
        let link = scene.edition.link(ear.link);
        let Some((link, protocol)) = link.and_then(|link| Some((link, scene.rig.protocol_of(link)?))) else {
            continue;
        };
        let here = chosen == Some(n);
        if here {
            pen.ground(1, y, wide - 2, theme::RAISED);
            pen.glyph(1, y, "▌", theme::COMMANDED);
        }
        let lively = ear.lively.best() > 0.0;
        let ink = if lively { theme::INPUT } else { theme::QUIET };
        let name = protocol.name(&ear.channel);
        let style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
        pen.put(3, y, &cut(&name, 16), style);
        pen.put(20, y, &cut(&link.name, 12), quiet);
        if let Some(value) = ear.newest
            && bar_wide >= 6
        {
            let usual = (protocol.row().usual)(&ear.channel);
            let (low, most) = ear.ends.unwrap_or((usual.0, usual.2));
            let share = if most > low { ((value - low) / (most - low)).clamp(0.0, 1.0) } else { 0.0 };
            chart::bar(pen, (bar_at, y, bar_wide), Bar { at: share, rest: (0.0, 0.0) }, ink);
        }
        let value = ear.newest.map_or_else(|| "–".to_owned(), |value| shown(value, protocol, &ear.channel));
        let x = bar_at + bar_wide + 2;
        pen.put(x, y, &value, theme::text(ink));
        let input = scene.rig.inputs.iter().find(|input| input.link == link.name && input.channel == name);
        let state = match (lively, input) {
            (_, Some(input)) => format!("input {}", input.name),
            (true, None) => "moves".to_owned(),
            (false, None) => String::new(),
        };
        pen.put(x + 12, y, &cut(&state, usize::from(wide.saturating_sub(x + 13))), quiet);
    }
    if listen.ears.len() > room {
        let words = format!("{} more", listen.ears.len() - room);
        pen.put_right(wide - 2, high.saturating_sub(1), &words, quiet);
    }
}

fn cut(text: &str, room: usize) -> String {
    if text.chars().count() <= room {
        return text.to_owned();
    }
    let kept: String = text.chars().take(room.saturating_sub(1)).collect();
    format!("{kept}…")
}

fn shown(value: f64, protocol: Protocol, channel: &Channel) -> String {
    let unit = (protocol.row().unit)(channel);
    let space = if unit.is_empty() { "" } else { " " };
    format!("{}{space}{unit}", plain(value))
}

/// A number with as many decimals as say something.
fn plain(value: f64) -> String {
    let is_whole = wasvolta_core::unit::whole(value).is_some();
    if value.abs() >= 100.0 || is_whole { format!("{:.0}", value + 0.0) } else { format!("{value:.2}") }
}

/// An input while it is moved: a bar of all that was seen, and what follows from it.
pub fn watching(pen: &mut Pen<'_>, scene: &Scene, watching: &Watching) {
    pen.clear();
    let Some(input) = scene.edition.input(watching.input) else { return };
    let quiet = theme::text(theme::QUIET);
    let wide = pen.width();
    let watch = &watching.watch;
    let x = pen.put(2, 1, &input.name, theme::strong(theme::INK));
    let from = format!("{} of {}, {} values seen", input.channel, input.link, watch.count());
    pen.put(x + 2, 1, &from, quiet);
    let task = "Move it all the way, to both ends. Let it rest. Do that twice.";
    let below = pen.paragraph(2, 3, task, theme::text(theme::INK)) + 1;
    let Some(found) = watch.judge() else {
        let words = if watch.count() == 0 { "Nothing comes yet." } else { "It has not moved yet." };
        pen.put(2, below, words, quiet);
        return;
    };
    let facts = facts(&found, watch.was_told());
    // The bars have all the room that the facts leave; below them stand their line and its numbers.
    let taken = below + count16(number(facts.len())) + 4;
    let tall = pen.height().saturating_sub(taken).clamp(4, 24);
    bars(&mut pen.part(2, below, wide.saturating_sub(4), tall + 2), watching, &found);
    for (y, (what, value, about)) in (below + tall + 3..).zip(facts) {
        if y >= pen.height() {
            return;
        }
        pen.put(2, y, what, quiet);
        let x = pen.put(16, y, &value, theme::strong(theme::INK));
        let about_at = x.max(34) + 2;
        if about_at + width(about) < wide {
            pen.put(about_at, y, about, quiet);
        }
    }
}

/// How often it was where, with the ends, the rest and where it is now.
fn bars(pen: &mut Pen<'_>, watching: &Watching, found: &Proposal) {
    let (wide, rows) = (pen.width(), pen.height().saturating_sub(2));
    let counts = watching.watch.histogram();
    let most = counts.iter().copied().max().unwrap_or(1).max(1);
    let (low, high) = found.ends;
    for x in 0..wide {
        let bar = usize::from(x) * BARS / usize::from(wide.max(1));
        let count = counts.get(bar).copied().unwrap_or_default();
        // Few are seen beside many: their square roots stand there.
        let share = (f64::from(count) / f64::from(most)).sqrt();
        let eighths = usize::from(count16((share * f64::from(rows) * 8.0).ceil()));
        for row in 0..rows {
            let filled = eighths.saturating_sub(usize::from(rows - 1 - row) * 8).min(8);
            let glyph = EIGHTHS.get(filled).copied().unwrap_or("█");
            if filled > 0 {
                pen.glyph(x, row, glyph, theme::INPUT);
            }
        }
        pen.glyph(x, rows, "─", theme::RULE);
    }
    let at = |value: f64| cell_of((value - low) / (high - low) * f64::from(wide - 1)).min(wide - 1);
    let quiet = theme::text(theme::QUIET);
    pen.put(0, rows + 1, &plain(low), quiet);
    pen.put_right(wide, rows + 1, &plain(high), quiet);
    for place in found.centre.into_iter().chain(match &found.kind {
        Kind::Switch(positions) => positions.clone(),
        Kind::Stays | Kind::Returns => Vec::new(),
    }) {
        pen.glyph(at(place), rows, "┼", theme::MARK);
    }
    if let Some(centre) = found.centre {
        pen.put_centred(at(centre), rows + 1, &format!("rest {}", plain(centre)), theme::text(theme::MARK));
    }
    if let Some(now) = watching.watch.newest() {
        pen.glyph(at(now.clamp(low, high)), rows, "●", theme::INPUT);
    }
}

/// What follows, each with why.
fn facts(found: &Proposal, told: bool) -> Vec<(&'static str, String, &'static str)> {
    let (low, high) = found.ends;
    let mut facts = vec![
        ("it", found.kind.words(), "from what it did when let go"),
        ("span", format!("{} to {}", plain(low), plain(high)), "each end was seen three times and more"),
    ];
    match found.pressed {
        Some(pressed) => {
            let (at, other) = if pressed == Pressed::High { (high, low) } else { (low, high) };
            let about = if told {
                "as you said"
            } else {
                "it was there for the shorter time; press it and say so if that is wrong"
            };
            facts.push(("pressed", format!("at {}, not at {}", plain(at), plain(other)), about));
        }
        None => {
            if let Kind::Switch(positions) = &found.kind {
                let all: Vec<String> = positions.iter().map(|at| plain(*at)).collect();
                facts.push(("positions", all.join(", "), "where it stood, lowest first"));
            }
        }
    }
    if let Some(centre) = found.centre {
        facts.push(("rest", plain(centre), "the middle of where it stood when it was let go"));
    }
    match (found.noise, found.deadband) {
        (Some(noise), Some(deadband)) if !matches!(found.kind, Kind::Switch(_)) => {
            facts.push(("noise", format!("±{}", plain(noise)), "one standard deviation at rest"));
            facts.push((
                "deadband",
                format!("{deadband:.3}"),
                "three times that, as a share of its shorter side",
            ));
        }
        (None, _) => facts.push(("noise", "not known".to_owned(), "let it rest for half a second")),
        _ => {}
    }
    facts.push(("rate", format!("{:.0} /s", found.rate), "values a second"));
    if found.outliers > 0 {
        facts.push(("left out", number(found.outliers).to_string(), "values seen only once or twice"));
    }
    facts
}
