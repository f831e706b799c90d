//! The chain of the picked servo: each link proven, failed, or not to be seen from here; and why it is where it is.

use crate::screen::pen::{Pen, wrap};
use crate::screen::scene::Scene;
use crate::screen::theme;
use ratatui::style::{Color, Style};
use wasvolta_engine::why::{self, Link, Verdict};

/// Where the words begin, behind sign and name.
const WORDS: u16 = 15;
/// Narrower than this, only the links' names stand in the chain.
const NARROW: u16 = 44;

/// Draws the chain.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) {
    let Some((board, channel, servo)) = scene.plug() else { return };
    let Some(servo) = servo.and_then(|n| scene.servo(n)) else {
        pen.put(0, 0, &scene.rig.plug_words(&board.name, channel), theme::strong(theme::INK));
        let words = match scene.edition.parts().input_on_pin(board, channel) {
            Some(input) => format!("The input {} is read here: no servo can hang on this pin.", input.name),
            None => "Nothing is plugged in here, as far as the rig knows. ‹add servo› adds a servo on this channel."
                .to_owned(),
        };
        pen.paragraph(0, 2, &words, theme::text(theme::QUIET));
        return;
    };
    let Some(links) = scene.chain() else { return };
    let x = pen.put(0, 0, &servo.servo.name, theme::strong(theme::INK));
    pen.put(
        x + 2,
        0,
        title(links, pen.width() >= NARROW, servo.servo.kind.is_smart()),
        theme::text(theme::QUIET),
    );
    let first = why::first_not_proven(links).map(|link| link.name);
    let mut y = 1;
    let brief = is_brief(pen, links);
    for link in links {
        y = draw_link(pen, y, link, (first == Some(link.name), brief));
    }
    if let Some(line) = why::from_source_to_wire(scene.edition, &scene.model.snapshot, scene.model.servo.id) {
        let room = usize::from(pen.width());
        let rows = u16::try_from(wrap(&line, room).len()).unwrap_or(1);
        if y + rows <= pen.height() {
            let y = (y + 1).min(pen.height() - rows);
            let color = if servo.state.engaged { theme::COMMANDED } else { theme::QUIET };
            pen.paragraph(0, y, &line, theme::text(color));
        }
    }
}

fn title(links: &[Link], roomy: bool, smart: bool) -> &'static str {
    match why::first_not_proven(links).map(|link| (link.verdict, link.name)) {
        Some((Verdict::Failed, "engaged" | "output")) if smart => "is not driven",
        Some((Verdict::Failed, "engaged" | "output")) => "gets no pulse",
        Some((Verdict::Failed, _)) if roomy => "cannot move: a link is broken",
        Some((Verdict::Failed, _)) => "a link is broken",
        _ if roomy => "driven, as far as seen from here",
        _ => "is driven",
    }
}

fn dress(verdict: Verdict) -> (&'static str, Color) {
    match verdict {
        Verdict::Proven => ("✓", theme::INK),
        Verdict::Failed => ("✗", theme::FAULT),
        Verdict::Unprovable => ("?", theme::COMMANDED),
        Verdict::Behind => ("·", theme::QUIET),
    }
}

/// Whether what is said of the first link that is not proven must be cut short for all links to have room.
fn is_brief(pen: &Pen<'_>, links: &[Link]) -> bool {
    let room = usize::from(pen.width().saturating_sub(2)).max(1);
    let said = why::first_not_proven(links)
        .map_or(0, |link| wrap(&link.words, room).len() + wrap(&format!("try: {}", link.help), room).len());
    pen.width() < NARROW && 1 + links.len() + said > usize::from(pen.height())
}

/// One link, the first that is not proven with what to try; gives the row behind. In brief, of one that nobody can
/// prove only what to try is said, and of a broken one only what is wrong: the next line has the rest.
fn draw_link(pen: &mut Pen<'_>, y: u16, link: &Link, (first, brief): (bool, bool)) -> u16 {
    let wide = pen.width();
    let waits = matches!((link.verdict, link.name), (Verdict::Failed, "output" | "engaged"));
    // What is merely not engaged is no fault.
    let (sign, color) = if waits { ("○", theme::COMMANDED) } else { dress(link.verdict) };
    pen.put(0, y, sign, theme::strong(color));
    let name = if link.verdict == Verdict::Behind { theme::QUIET } else { theme::INK };
    pen.put(2, y, link.name, if first { theme::strong(name) } else { theme::text(name) });
    let failed = link.verdict == Verdict::Failed && !waits;
    let words = theme::text(if failed { theme::FAULT } else { theme::QUIET });
    if wide >= NARROW {
        if !first {
            pen.put(WORDS, y, &link.words, words);
            return y + 1;
        }
        let next = pen.paragraph(WORDS, y, &link.words, words);
        return advise(pen, WORDS, next, link);
    }
    match (first, brief, link.verdict) {
        (false, _, _) => y + 1,
        (true, true, Verdict::Failed) => pen.paragraph(2, y + 1, &link.words, words),
        (true, true, _) => advise(pen, 2, y + 1, link),
        (true, false, _) => {
            let next = pen.paragraph(2, y + 1, &link.words, words);
            advise(pen, 2, next, link)
        }
    }
}

fn advise(pen: &mut Pen<'_>, x: u16, y: u16, link: &Link) -> u16 {
    if link.help.is_empty() {
        return y;
    }
    pen.paragraph(x, y, &format!("try: {}", link.help), Style::new().fg(theme::INK))
}
