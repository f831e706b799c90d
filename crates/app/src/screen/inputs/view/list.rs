//! Links with their inputs: how each stands, where it is, what it moves.

use super::words::{health, trimmed, value};
use crate::screen::chart::{self, Bar};
use crate::screen::inputs::acts;
use crate::screen::pen::{Pen, width};
use crate::screen::scene::{Linked, Scene};
use crate::screen::theme;
use crate::screen::touch::Touched;

/// A row of the list.
enum Listed<'a> {
    Link(Linked<'a>),
    /// A link whose inputs are folded away: how many.
    Folded(Linked<'a>, usize),
    Input(usize),
}

/// How many rows there would be with nothing folded.
pub fn rows(scene: &Scene) -> usize {
    scene.rig.links.len() + scene.rig.inputs.len()
}

/// Draws at most so many rows; gives the row behind. Where not all have room, the inputs of other links than that of the
/// picked one fold away, and then what is far from the picked one scrolls out.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, most: usize) -> u16 {
    let folds = rows(scene) > most;
    let rows = listed(scene, folds);
    // The last row says how many more there are, where that leaves room for some; the row of inputs counts them too.
    let is_long = rows.len() > most && most > 3;
    let most = most.saturating_sub(usize::from(is_long)).max(1);
    let here = rows.iter().position(|row| matches!(row, Listed::Input(n) if scene.input_place() == Some(*n)));
    let from = here.unwrap_or(0).saturating_sub(most / 2).min(rows.len().saturating_sub(most));
    let mut y = 0;
    for row in rows.iter().skip(from).take(most) {
        match row {
            Listed::Link(linked) => link_row(pen, scene, y, linked, None),
            Listed::Folded(linked, inputs) => link_row(pen, scene, y, linked, Some(*inputs)),
            Listed::Input(n) => input_row(pen, scene, y, *n),
        }
        y += 1;
    }
    if is_long {
        let words = format!("and {} more: the row input goes through them", rows.len() - most);
        pen.put(2, y, &words, theme::text(theme::QUIET));
        y += 1;
    }
    y
}

/// Links in rig order, each with its inputs behind it.
fn listed<'a>(scene: &Scene<'a>, folds: bool) -> Vec<Listed<'a>> {
    let picked = scene.input().map_or("", |input| input.link.as_str());
    let order = acts::listed(scene.rig);
    let of = |name: &str| -> Vec<usize> {
        let on = |n: &usize| scene.rig.inputs.get(*n).is_some_and(|input| input.link == name);
        order.iter().copied().filter(on).collect()
    };
    let mut rows = Vec::new();
    for linked in scene.links() {
        let inputs = of(&linked.link.name);
        if folds && linked.link.name != picked && !inputs.is_empty() {
            rows.push(Listed::Folded(linked, inputs.len()));
        } else {
            rows.push(Listed::Link(linked));
            rows.extend(inputs.into_iter().map(Listed::Input));
        }
    }
    rows
}

fn link_row(pen: &mut Pen<'_>, scene: &Scene, y: u16, linked: &Linked, folded: Option<usize>) {
    let (word, color) = health(linked.state, scene.drives(linked.link));
    let wide = pen.width();
    let x = pen.put(0, y, &linked.link.name, theme::text(theme::QUIET));
    pen.put_right(wide, y, &word, theme::text(color));
    let end = wide.saturating_sub(width(&word));
    let rate = linked
        .state
        .usual()
        .map_or_else(String::new, |usual| format!(", {:.0} /s", 1.0 / usual.as_secs_f64()));
    let inputs = folded.map_or_else(String::new, |inputs| {
        format!(", {inputs} input{} folded", if inputs == 1 { "" } else { "s" })
    });
    let title = linked.protocol.row().title;
    let words =
        [format!("  {title}{rate}{inputs}"), format!("  {title}{inputs}"), inputs.replace(", ", "  ")];
    if let Some(words) = words.iter().find(|words| x + width(words) + 2 < end) {
        pen.put(x, y, words, theme::text(theme::QUIET));
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
    pen.touch(0, y, (wide, 1), Touched::Input(n));
    let beside = if wide < 84 { 28 } else { 38 };
    let bar_wide = wide.saturating_sub(18 + beside).min(60);
    let heard = state.as_if.is_some() || scene.link_of(input).is_some_and(|linked| linked.state.is_heard());
    let is_known = state.counts.is_some();
    let shown = if is_known && heard { theme::INPUT } else { theme::QUIET };
    let at = if is_known { state.stages.span } else { f64::NAN };
    chart::bar(pen, (18, y, bar_wide), Bar::of(&plan.shape.span, at, input.deadband), shown);
    let x = 18 + bar_wide + 2;
    pen.put(x, y, &value(plan, state), theme::strong(shown));
    let as_if = if state.as_if.is_some() { "as if " } else { "" };
    let names = scene.rig.mappings.iter().filter(|own| own.from.contains_key(&input.name));
    let mut moves: Vec<String> = names.map(|own| own.name.clone()).collect();
    let watched = scene.rig.mappings.iter().filter_map(|own| own.only_while.as_ref());
    if watched.into_iter().any(|only| only.input == input.name) {
        moves.push("which mapping holds".to_owned());
    }
    let acts = scene.rig.presses.iter().filter(|press| press.input == input.name);
    moves.extend(acts.map(crate::screen::inputs::goals::does));
    let moves =
        if moves.is_empty() { "moves nothing".to_owned() } else { format!("→ {}", moves.join(", ")) };
    let room = usize::from(wide.saturating_sub(x + 12));
    let x = pen.put(x + 12, y, as_if, theme::strong(theme::COMMANDED));
    pen.put(x, y, &trimmed(&moves, room.saturating_sub(as_if.len())), theme::text(theme::QUIET));
}
