//! The frame around every view: headline, roster, next line, keys line.
//!
//! A function from a scene to a buffer; nothing here changes anything.

use crate::screen::action::Action;
use crate::screen::dialog::Dialog;
use crate::screen::inputs::view::learn;
use crate::screen::layout::{self, WIDE};
use crate::screen::model::Tone;
use crate::screen::panel::Panel;
use crate::screen::pen::{Pen, width};
use crate::screen::scene::{Linked, Scene};
use crate::screen::{advice, roster, theme, view};
use crate::screen::{calibrate, commands, panels};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Style};
use wasvolta_core::link::Health;
use wasvolta_core::stage::Output;
use wasvolta_port::board::{Found, Phase};

/// The least size that shows everything a maker needs.
const LEAST: (u16, u16) = (80, 24);

/// Draws everything.
pub fn draw(scene: &Scene, area: Rect, buffer: &mut Buffer) {
    buffer.set_style(area, Style::new().fg(theme::INK).bg(theme::GROUND));
    let mut pen = Pen::new(buffer, area);
    if is_too_small(area) {
        return too_small(&mut pen, scene);
    }
    let (next_rows, body) = layout::rows(area);
    headline(&mut pen.part(0, 0, area.width, 1), scene);
    let column = layout::roster_columns(area.width);
    roster::draw(&mut pen.part(0, 1, column, body), scene);
    for row in 1..=body {
        pen.glyph(column, row, "│", theme::RULE);
    }
    let left = column + 2;
    let panel = panels::of(scene.model.view);
    let room = layout::room(area);
    (panel.draw)(&mut pen.part(room.x, room.y, room.width, room.height), scene);
    next_line(&mut pen.part(0, 1 + body, area.width, next_rows), scene);
    keys_line(&mut pen.part(0, area.height - 1, area.width, 1), scene);
    match &scene.model.dialog {
        Some(Dialog::Help { from }) => {
            view::help::draw(&mut pen.part(left, 1, area.width - left, body), scene, *from);
        }
        Some(Dialog::Palette { query, pick }) => {
            view::palette::draw(&mut pen.part(left, 1, area.width - left, body), scene, query.text(), *pick);
        }
        Some(Dialog::Fineness { wish }) => {
            calibrate::fineness::draw(&mut pen.part(left, 1, area.width - left, body), scene, wish.text());
        }
        Some(Dialog::Compare { card, rows }) => {
            calibrate::compare::draw(&mut pen.part(left, 1, area.width - left, body), scene, card, rows);
        }
        Some(Dialog::Listen(listen)) => {
            learn::listening(&mut pen.part(left, 1, area.width - left, body), scene, listen);
        }
        Some(Dialog::Watch(watching)) => {
            learn::watching(&mut pen.part(left, 1, area.width - left, body), scene, watching);
        }
        Some(Dialog::Recover { offer, from }) => {
            view::recover::draw(&mut pen.part(left, 1, area.width - left, body), offer, *from);
        }
        _ => {}
    }
}

/// Whether a window shows nothing but how large it must be.
pub const fn is_too_small(area: Rect) -> bool {
    area.width < LEAST.0 || area.height < LEAST.1
}

fn too_small(pen: &mut Pen<'_>, scene: &Scene) {
    let (block, word) = output(scene);
    pen.put(0, 0, &format!(" {word} "), block);
    let words = format!(
        "this window has {} × {} cells; wasvolta needs {} × {}. Ctrl-C cuts, Esc holds, q quits.",
        pen.width(),
        pen.height(),
        LEAST.0,
        LEAST.1
    );
    pen.paragraph(0, 1, &words, theme::text(theme::INK));
}

/// The output's block and word; each state has its own word, and only three are coloured.
fn output(scene: &Scene) -> (Style, &'static str) {
    match scene.model.snapshot.output {
        // Nothing is driven from here, and something pulses all the same.
        Output::Off if scene.finds_pulses() => (theme::block(theme::FAULT), "LEFT ON"),
        Output::Off => (Style::new().fg(theme::INK).bg(theme::RULE), "  OFF  "),
        Output::Driving => (theme::block(theme::COMMANDED), "DRIVING"),
        Output::Held => (theme::block(theme::INK), " HELD  "),
        Output::Cut => (theme::block(theme::FAULT), "  CUT  "),
    }
}

fn headline(pen: &mut Pen<'_>, scene: &Scene) {
    let wide = pen.width();
    pen.ground(0, 0, wide, theme::RAISED);
    let (block, word) = output(scene);
    let mut x = pen.put(0, 0, &format!(" {word} "), block) + 1;
    x = pen.put(x, 0, &scene.rig.name, theme::strong(theme::INK));
    if scene.unsaved {
        x = pen.put(x, 0, " ·unsaved", theme::text(theme::QUIET));
    }
    let short = wide < 100;
    x = x.max(if short { 31 } else { layout::roster_columns(wide) + 2 });
    for panel in panels::TABLE {
        let key = panel.show.keys.first().map(|key| key.name()).unwrap_or_default();
        let (key, name) = (key.as_str(), panel.view.0);
        let here = scene.model.view == panel.view;
        let (key_style, name_style) = if here {
            (theme::text(theme::COMMANDED), theme::strong(theme::INK))
        } else {
            (theme::text(theme::QUIET), theme::text(theme::QUIET))
        };
        x = pen.words(x, 0, &[(key, key_style), (" ", name_style), (name, name_style), ("  ", name_style)]);
    }
    let mut end = wide.saturating_sub(1);
    for (text, color) in facts(scene, wide) {
        if end < x + width(&text) + 2 {
            break;
        }
        pen.put_right(end, 0, &text, theme::text(color));
        end -= width(&text) + 3;
    }
}

/// What stands on the right of the headline, the most important first.
fn facts(scene: &Scene, wide: u16) -> Vec<(String, Color)> {
    let snapshot = &scene.model.snapshot;
    let mut facts = Vec::new();
    facts.extend(stands_in(scene));
    facts.extend(worst_link(scene));
    for (board, state) in scene.edition.boards(snapshot) {
        if let Some(trouble) = state.trouble {
            facts.insert(0, (format!("✗ {}: {}", board.name, trouble.fault), theme::FAULT));
        } else if matches!(state.phase, Phase::Asking(Found::Pulsing { .. })) {
            facts.insert(0, (format!("✗ {} pulses", board.name), theme::FAULT));
        } else if let Some(clock) = board.clock().filter(|_| wide >= WIDE) {
            facts.push((format!("{} {:.2} Hz", board.name, clock.rate().get()), theme::QUIET));
        }
    }
    if wide >= WIDE {
        let late = snapshot.punctual.late;
        let rate = 1.0 / crate::hardware::BEAT.as_secs_f64();
        facts.push((format!("{rate:.0} beats/s, {late} late"), theme::QUIET));
    }
    facts
}

/// Inputs that something stands in for: what they say is not what their links say.
fn stands_in(scene: &Scene) -> Option<(String, Color)> {
    let inputs = scene.shown.rig.inputs.iter().zip(&scene.model.snapshot.inputs);
    let mut names = inputs.filter(|(_, state)| state.as_if.is_some()).map(|(input, _)| &input.name);
    let first = names.next()?;
    Some(match names.count() {
        0 => (format!("{first} as if"), theme::COMMANDED),
        more => (format!("{} inputs as if", more + 1), theme::COMMANDED),
    })
}

/// The worst of the links that drive something, with its age. One that drives nothing never alarms.
fn worst_link(scene: &Scene) -> Option<(String, Color)> {
    let worse = |linked: &Linked| match linked.state.health {
        Health::Fresh => 0,
        Health::Late => 1,
        Health::Stuck => 2,
        Health::Absent => 3,
        Health::Lost => 4,
    };
    let driving = || scene.links().filter(|linked| scene.drives(linked.link));
    let count = driving().count();
    // Of several that are alike the first.
    let worst = driving().reduce(|a, b| if worse(&b) > worse(&a) { b } else { a })?;
    let health = worst.state.health;
    let age = worst.state.age.map_or_else(String::new, |age| match age.as_millis() {
        ms @ 0..1000 => format!(" {ms:>2} ms"),
        ms => format!(" {:.0} s", f64::from(u32::try_from(ms).unwrap_or(u32::MAX)) / 1000.0),
    });
    let color = if matches!(health, Health::Lost | Health::Stuck) { theme::FAULT } else { theme::QUIET };
    let mark = if color == theme::FAULT { "✗ " } else { "" };
    if count > 1 && health == Health::Fresh {
        return Some((format!("{count} links fresh"), color));
    }
    Some((format!("{mark}{} {}{age}", worst.link.name, health.word()), color))
}

fn next_line(pen: &mut Pen<'_>, scene: &Scene) {
    for row in 0..pen.height() {
        pen.ground(0, row, pen.width(), theme::RAISED);
    }
    let (label, style, words) = if let Some((label, words)) = view::prompt::words(scene) {
        (label, theme::block(theme::COMMANDED), words)
    } else if let Some((tone, words, _)) = &scene.model.said {
        match tone {
            Tone::Done => ("done", theme::strong(theme::INK), words.clone()),
            Tone::Refused => ("✗", theme::strong(theme::FAULT), words.clone()),
        }
    } else {
        ("next", theme::strong(theme::COMMANDED), advice::next(scene, panels::of(scene.model.view).advice))
    };
    let x = pen.put(0, 0, &format!(" {label} "), style) + 1;
    let trouble = scene
        .model
        .said
        .as_ref()
        .filter(|(tone, _, _)| *tone == Tone::Refused && scene.model.dialog.is_some());
    let words = trouble.map_or(words.clone(), |(_, why, _)| format!("{words}   {why}"));
    let (rows, columns) = (pen.height(), pen.width());
    pen.part(x, 0, columns - x, rows).paragraph(0, 0, &words, theme::text(theme::INK));
}

fn keys_line(pen: &mut Pen<'_>, scene: &Scene) {
    let wide = pen.width();
    pen.ground(0, 0, wide, theme::RAISED);
    let shown: Vec<(String, &str)> = match &scene.model.dialog {
        Some(dialog) => {
            let named = dialog.keys().iter().filter(|row| !row.shown.is_empty());
            named.map(|row| (row.shown.to_owned(), row.word)).collect()
        }
        None => view_keys(scene),
    };
    let mut tail: Vec<(String, &str)> = vec![("Ctrl-C".to_owned(), "cut")];
    if scene.model.dialog.is_none() {
        tail.push(("?".to_owned(), "all keys"));
    }
    let size = |(key, word): &(String, &str)| width(key) + width(word) + 4;
    let reserved: u16 = tail.iter().map(size).sum();
    let mut x = 1;
    for item in shown.iter().filter(|item| !tail.iter().any(|t| t.0 == item.0)) {
        if x + size(item) + reserved <= wide {
            x = put_key(pen, x, item);
        }
    }
    for item in &tail {
        x = put_key(pen, x, item);
    }
}

fn put_key(pen: &mut Pen<'_>, x: u16, (key, word): &(String, &str)) -> u16 {
    let words =
        [(key.as_str(), theme::strong(theme::INK)), (" ", Style::new()), (*word, theme::text(theme::QUIET))];
    pen.words(x, 0, &words) + 3
}

/// Keys that do something now: after the arrows those of a picked mark and those that the next line names, then the
/// others in the table's order.
fn view_keys(scene: &Scene) -> Vec<(String, &'static str)> {
    let advice = advice::next(scene, panels::of(scene.model.view).advice);
    let panel = panels::of(scene.model.view);
    let first = (panel.first)(scene);
    let works = |a: &&Action| a.works_in(scene.model.view) && (a.ready)(scene).is_ok();
    let rank = |a: &Action, key: &str| match key {
        "← →" => 0,
        "↑ ↓" if first.contains(&a.name) => 0,
        _ if first.contains(&a.name) => 1,
        _ if a.keys.first().is_some_and(|key| advice::names(&advice, &key.name())) => 2,
        _ if a.short.is_empty() => 4,
        _ => 3,
    };
    let ranked = commands::all().filter(works).filter_map(|a| {
        let (key, word) = shown(scene, panel, a)?;
        Some((rank(a, &key), key, word))
    });
    let mut all: Vec<(u8, String, &str)> = ranked.filter(|(rank, ..)| *rank < 4).collect();
    all.sort_by_key(|(rank, ..)| *rank);
    all.into_iter().map(|(_, key, word)| (key, word)).collect()
}

/// How an action's key stands in the line, and its word. The arrows and the nudge stand as pairs.
fn shown(scene: &Scene, panel: &Panel, action: &Action) -> Option<(String, &'static str)> {
    if !panel.nudges && action.short == "nudge" {
        return None;
    }
    let playing = scene.play().goes_on();
    let key = action.keys.first()?.name();
    let word = if action.short.is_empty() { action.name } else { action.short };
    let called = |own: &'static str| if own.is_empty() { word } else { own };
    Some(match key.as_str() {
        // Each is one half of a pair.
        "←" | "↑" | "," => return None,
        "→" => ("← →".to_owned(), called(panel.arrows.0)),
        "↓" => ("↑ ↓".to_owned(), called(panel.arrows.1)),
        "." => (", .".to_owned(), word),
        "p" if playing => ("p".to_owned(), "stand still"),
        _ => (key, word),
    })
}
