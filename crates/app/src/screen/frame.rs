//! The frame around every view: headline, roster, next line, keys line.
//!
//! A function from a scene to a buffer; nothing here changes anything.

use crate::screen::action::Action;
use crate::screen::dialog::{Dialog, DialogKey};
use crate::screen::inputs::view::learn;
use crate::screen::keymap::speaks_of;
use crate::screen::layout::{self, WIDE};
use crate::screen::model::Tone;
use crate::screen::panel::Panel;
use crate::screen::pen::{Pen, width};
use crate::screen::scene::{Linked, Scene};
use crate::screen::touch::{Touch, Touched};
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

/// Draws everything; gives what may be clicked, and where.
pub fn draw(scene: &Scene, area: Rect, buffer: &mut Buffer) -> Vec<Touch> {
    buffer.set_style(area, Style::new().fg(theme::INK).bg(theme::GROUND));
    let mut touches = Vec::new();
    let mut pen = Pen::new(buffer, area, &scene.model.keys, &mut touches);
    if is_too_small(area) {
        too_small(&mut pen, scene);
    } else {
        whole(&mut pen, scene, area);
    }
    touches
}

fn whole(pen: &mut Pen<'_>, scene: &Scene, area: Rect) {
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
        Some(Dialog::Help { query, from }) => {
            view::help::draw(&mut pen.part(left, 1, area.width - left, body), scene, query, *from);
        }
        Some(Dialog::Palette { query, pick }) => {
            view::palette::draw(&mut pen.part(left, 1, area.width - left, body), scene, query, *pick);
        }
        Some(Dialog::Fineness { wish }) => {
            calibrate::fineness::draw(&mut pen.part(left, 1, area.width - left, body), scene, wish.text());
        }
        Some(Dialog::Compare { other, rows, angles, .. }) => {
            calibrate::compare::draw(
                &mut pen.part(left, 1, area.width - left, body),
                scene,
                (other, rows, angles),
            );
        }
        Some(Dialog::Alike { alike, .. }) => {
            super::everywhere::alike::draw(&mut pen.part(left, 1, area.width - left, body), alike);
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
        "this window has {} × {} cells; wasvolta needs {} × {}. ‹cut› cuts, ‹hold› holds, ‹quit› quits.",
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
        let key = scene.model.keys.of(panel.show.name).first().map(|key| key.name()).unwrap_or_default();
        let (key, name) = (key.as_str(), panel.view.0);
        let here = scene.model.view == panel.view;
        let (key_style, name_style) = if here {
            (theme::text(theme::COMMANDED), theme::strong(theme::INK))
        } else {
            (theme::text(theme::QUIET), theme::text(theme::QUIET))
        };
        let from = x;
        x = pen.words(x, 0, &[(key, key_style), (" ", name_style), (name, name_style), ("  ", name_style)]);
        pen.touch(from, 0, (x - from, 1), Touched::Action(panel.show.name));
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

/// A word of the keys line with its keys before it.
struct Item {
    /// The keys as they are written, each with what a click on it means.
    keys: Vec<(String, Option<Touched>)>,
    /// What they do.
    word: &'static str,
}

impl Item {
    fn width(&self) -> u16 {
        self.keys.iter().map(|(key, _)| width(key) + 1).sum::<u16>() + width(self.word) + 3
    }

    /// Writes it; gives the column behind. A click on the word is one on the last of its keys.
    fn put(&self, pen: &mut Pen<'_>, x: u16) -> u16 {
        let mut end = x;
        for (key, touched) in &self.keys {
            let from = end;
            end = pen.put(end, 0, key, theme::strong(theme::INK)) + 1;
            if let Some(touched) = touched {
                pen.touch(from, 0, (end - from, 1), *touched);
            }
        }
        let from = end;
        end = pen.put(end, 0, self.word, theme::text(theme::QUIET));
        if let Some((_, Some(touched))) = self.keys.last() {
            pen.touch(from, 0, (end - from, 1), *touched);
        }
        end + 3
    }

    /// An action by its name.
    fn of(scene: &Scene, name: &'static str, word: &'static str) -> Self {
        Self {
            keys: vec![(scene.model.keys.way(name).unwrap_or_default(), Some(Touched::Action(name)))],
            word,
        }
    }

    /// A row of a dialog's table: its keys stand there in the order in which they are written.
    fn asked(row: &DialogKey) -> Option<Self> {
        let touched = |name: &str| {
            let own = row.keys.iter().find(|(key, _)| key.name() == name);
            own.map(|(key, _)| Touched::Key(*key))
        };
        let keys: Vec<(String, Option<Touched>)> = if row.keys.is_empty() {
            vec![(row.shown.to_owned(), None)]
        } else {
            row.shown.split(' ').map(|name| (name.to_owned(), touched(name))).collect()
        };
        (!row.shown.is_empty()).then_some(Self { keys, word: row.word })
    }
}

fn keys_line(pen: &mut Pen<'_>, scene: &Scene) {
    let wide = pen.width();
    pen.ground(0, 0, wide, theme::RAISED);
    let (shown, tail) = match &scene.model.dialog {
        Some(dialog) => {
            (dialog.keys().iter().filter_map(Item::asked).collect(), vec![Item::of(scene, "cut", "cut")])
        }
        None => {
            (view_keys(scene), vec![Item::of(scene, "cut", "cut"), Item::of(scene, "all keys", "all keys")])
        }
    };
    let reserved: u16 = tail.iter().map(Item::width).sum();
    let mut x = 1;
    for item in shown.iter().filter(|item| !tail.iter().any(|own| own.keys == item.keys)) {
        if x + item.width() + reserved <= wide {
            x = item.put(pen, x);
        }
    }
    for item in &tail {
        x = item.put(pen, x);
    }
}

/// Where keys stand that the next line names, and from where on none is shown.
const NAMED: usize = 10;
const HIDDEN: usize = 12;

/// Keys that do something now: after the arrows those of a picked mark and those that the next line names, then the
/// others in the table's order.
fn view_keys(scene: &Scene) -> Vec<Item> {
    let advice = advice::next(scene, panels::of(scene.model.view).advice);
    let panel = panels::of(scene.model.view);
    let first = (panel.first)(scene);
    let works = |a: &&Action| a.works_in(scene.model.view) && (a.ready)(scene).is_ok();
    let rank = |a: &Action| match a.name {
        "more" => 0,
        "row below" if first.contains(&a.name) => 0,
        name => match first.iter().position(|first| *first == name) {
            Some(place) => 1 + place,
            None if speaks_of(&advice, name) => NAMED,
            None if a.short.is_empty() => HIDDEN,
            None => HIDDEN - 1,
        },
    };
    let ranked = commands::all().filter(works).filter_map(|a| Some((rank(a), shown(scene, panel, a)?)));
    let mut all: Vec<(usize, Item)> = ranked.filter(|(rank, _)| *rank < HIDDEN).collect();
    all.sort_by_key(|(rank, _)| *rank);
    all.into_iter().map(|(_, item)| item).collect()
}

/// How an action's key stands in the line, and its word. The arrows and the nudge stand as pairs.
fn shown(scene: &Scene, panel: &Panel, action: &Action) -> Option<Item> {
    if !panel.nudges && action.short == "nudge" || scene.model.keys.of(action.name).is_empty() {
        return None;
    }
    let word = if action.short.is_empty() { action.name } else { action.short };
    let called = |own: &'static str| if own.is_empty() { word } else { own };
    let one = |word| Item::of(scene, action.name, word);
    let pair = |other, word| {
        let mut item = Item::of(scene, other, word);
        item.keys.extend(one(word).keys);
        item
    };
    Some(match action.name {
        // Each is one half of a pair.
        "less" | "row above" | "smaller nudge" => return None,
        "more" => pair("less", called(panel.arrows.0)),
        "row below" => pair("row above", called(panel.arrows.1)),
        "larger nudge" => pair("smaller nudge", word),
        "play" if scene.play().goes_on() => one("pause"),
        _ => one(word),
    })
}
