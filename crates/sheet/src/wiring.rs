//! The wiring plan: boards as strips of pins with who is plugged in where, jumpers as they are to be soldered, lead
//! colours in words, and what each rail must give.

use crate::calibration::{BODY, MARGIN, SMALL, head_of};
use crate::list::{Align, List, Point, Tone, at, solid};
use crate::trim;
use crate::{NoSheet, Subject};
use wasvolta_core::power::Budget;
use wasvolta_core::rig::{Board, Rig, Servo};
use wasvolta_core::unit::number;

/// Boards on a sheet, two beside each other.
const SHOWN: usize = 4;
const ACROSS: usize = 2;
/// Where the boards begin under the head, and what a board takes downwards.
const TOP: f64 = 36.0;
const HEAD: f64 = 9.5;
const ROW: f64 = 4.7;
const BETWEEN: f64 = 9.0;
const GUTTER: f64 = 8.0;
/// Channels that are drawn of a board at most.
const ROWS: usize = 16;
/// Where the pins of a channel begin, and how far apart they are.
const PINS: f64 = 9.0;
const PITCH: f64 = 2.54;
const PIN: f64 = 1.7;
/// Ground, supply, signal: from the darkest lead to the lightest.
const LEADS: [Tone; 3] = [Tone::Ink, Tone::Quiet, Tone::Paper];

/// Draws up to four boards from one on, and all rails.
///
/// # Errors
/// When there is no board of that name.
pub fn draw(subject: &Subject<'_>, from: &str) -> Result<List, NoSheet> {
    let rig = subject.rig;
    let names = || rig.boards.iter().map(|b| b.name.as_str()).collect::<Vec<_>>().join(", ");
    let Some(first) = rig.boards.iter().position(|b| b.name == from) else {
        let there = if rig.boards.is_empty() { "none".to_owned() } else { names() };
        return Err(NoSheet::NoBoard { wanted: from.to_owned(), there });
    };
    let (wide, high) = subject.paper.size_mm();
    let mut list = List::new(&format!("{}: wiring", rig.name), (wide, high));
    let shown: Vec<&Board> = rig.boards.iter().skip(first).take(SHOWN).collect();
    let more = match rig.boards.len() {
        all if all > shown.len() => format!("boards {} to {} of {all}", first + 1, first + shown.len()),
        all => format!("{all} board{}", if all == 1 { "" } else { "s" }),
    };
    let accessories = rig.servos.iter().filter(|s| s.kind.is_accessory()).count();
    let beside = match accessories {
        0 => String::new(),
        1 => ", 1 accessory".to_owned(),
        n => format!(", {n} accessories"),
    };
    let below = format!("{more}, {} servos{beside}", rig.servos.len() - accessories);
    head_of(&mut list, (&rig.name, &below), &format!("wiring plan, {}", subject.date));
    let column = (wide - 2.0 * MARGIN - GUTTER) / number(ACROSS);
    let mut top = TOP;
    for pair in shown.chunks(ACROSS) {
        let mut lowest = top;
        for (n, board) in pair.iter().enumerate() {
            let corner = at(MARGIN + (column + GUTTER) * number(n), top);
            lowest = lowest.max(strip(&mut list, rig, board, (corner, column)));
        }
        top = lowest + BETWEEN;
    }
    let bottom = rails(&mut list, rig, top);
    reminders(&mut list, rig, bottom + 3.0);
    Ok(list)
}

/// One board; gives its lower edge.
fn strip(list: &mut List, rig: &Rig, board: &Board, (corner, wide): (Point, f64)) -> f64 {
    let Point { x, y } = corner;
    list.text(at(x, y), BODY * 1.2, Tone::Ink, Align::Left, &board.name);
    let rail = board.rail.as_ref().map_or_else(String::new, |rail| format!(", servos fed by {rail}"));
    let layout = board.layout.as_ref().map_or_else(String::new, |layout| format!(" ({layout})"));
    let about = format!("{}{layout} {}{rail}", board.chip.word(), board.at());
    list.text(at(x, y + 4.2), SMALL, Tone::Quiet, Align::Left, &about);
    if let Some(address) = board.address {
        jumpers(list, at(x + wide, y), address);
    }
    let servos = on_pins(rig, board);
    let mut row = y + HEAD;
    let smart = board.chip.row().is_smart;
    if smart && !servos.is_empty() {
        wire(list, at(x, row), servos.len());
    }
    for (channel, servo) in &servos {
        if smart {
            hop(list, at(x, row), *channel);
        } else {
            pins(list, at(x, row), *channel, servo.is_some());
        }
        if let Some(servo) = servo {
            let name = at(x + PINS + 3.0 * PITCH + 2.0, row + 1.0);
            list.text(name, BODY, Tone::Ink, Align::Left, &servo.name);
            let ends = between(servo);
            list.text(at(x + wide, row + 1.0), SMALL, Tone::Quiet, Align::Right, &ends);
        }
        row += ROW;
    }
    row - ROW
}

/// The wire of a bus, which goes on from servo to servo.
fn wire(list: &mut List, place: Point, servos: usize) {
    let x = place.x + PINS + PITCH;
    let end = place.y + ROW * (number(servos) - 1.0);
    list.line(&[at(x, place.y - ROW * 0.7), at(x, end)], solid(Tone::Ink, 0.4));
}

/// A servo on the wire, by its id.
fn hop(list: &mut List, place: Point, id: u8) {
    list.text(at(place.x + 6.0, place.y + 1.0), SMALL, Tone::Quiet, Align::Right, &format!("id {id}"));
    let middle = at(place.x + PINS + PITCH, place.y);
    list.circle(middle, 1.1, Some(solid(Tone::Ink, 0.4)), Some(Tone::Paper));
}

/// What may go to it: its endpoints, or what it is where that is no servo.
fn between(servo: &Servo) -> String {
    if servo.kind.is_accessory() {
        return servo.kind.word().to_owned();
    }
    let (low, high) = (servo.ends().low.get(), servo.ends().high.get());
    let unit = servo.kind.place_unit();
    let ends = format!("{} to {} {unit}", trim::number(low, 0), trim::number(high, 0));
    if servo.kind.has_angles() { ends } else { format!("{}, {ends}", servo.kind.word()) }
}

/// The channels that are drawn: all of a board that has few, else those that a servo is on.
fn on_pins<'a>(rig: &'a Rig, board: &'a Board) -> Vec<(u8, Option<&'a Servo>)> {
    let on = |channel: u8| rig.servos_on(&board.name).find(|servo| servo.plug() == channel);
    let all = (0..board.chip.channels()).map(|channel| (channel, on(channel)));
    let few = usize::from(board.chip.channels()) <= ROWS;
    all.filter(|(_, servo)| few || servo.is_some()).take(ROWS).collect()
}

/// A channel's number and its three pins, filled by their leads where something is plugged in.
fn pins(list: &mut List, place: Point, channel: u8, taken: bool) {
    list.text(at(place.x + 6.0, place.y + 1.0), SMALL, Tone::Quiet, Align::Right, &channel.to_string());
    for (n, lead) in LEADS.into_iter().enumerate() {
        let (x, y) = (place.x + PINS + PITCH * number(n), place.y - PIN / 2.0);
        let corners = vec![at(x, y), at(x + PIN, y), at(x + PIN, y + PIN), at(x, y + PIN)];
        let edge = solid(if taken { Tone::Ink } else { Tone::Rule }, 0.2);
        list.form(corners, Some(edge), taken.then_some(lead));
    }
}

/// The address jumpers, from the highest bit, ending at a place: filled is to be closed with solder.
fn jumpers(list: &mut List, end: Point, address: u8) {
    const APART: f64 = 7.0;
    for bit in 0..6u8 {
        let x = end.x - APART * f64::from(bit) - 2.0;
        let closed = address >> bit & 1 == 1;
        let corners = vec![at(x, end.y - 2.0), at(x + 2.0, end.y - 2.0), at(x + 2.0, end.y), at(x, end.y)];
        list.form(corners, Some(solid(Tone::Ink, 0.2)), closed.then_some(Tone::Ink));
        list.text(at(x - 0.4, end.y), SMALL, Tone::Quiet, Align::Right, &format!("A{bit}"));
    }
}

/// The rails with their sums; gives the baseline behind them.
fn rails(list: &mut List, rig: &Rig, top: f64) -> f64 {
    let right = list.size.0 - MARGIN;
    let mut y = top;
    list.line(&[at(MARGIN, y - 5.0), at(right, y - 5.0)], solid(Tone::Rule, 0.2));
    for rail in &rig.rails {
        let budget = Budget::of(rig, rail);
        let supply = format!(
            "{}, {} V, {} A",
            rail.name,
            trim::number(rail.volts.get(), 1),
            trim::number(rail.amps.get(), 1)
        );
        list.text(at(MARGIN, y), BODY, Tone::Ink, Align::Left, &supply);
        let sums = format!(
            "≈ {:.2} A idle, {:.1} A moving, {:.1} A at the most",
            budget.idle.get(),
            budget.moving.get(),
            budget.stall.get()
        );
        list.text(at(MARGIN + 50.0, y), BODY, Tone::Ink, Align::Left, &sums);
        let (words, tone) = if budget.is_tight() {
            (format!("too little: {:.1} A would be safe", budget.safe_supply().get()), Tone::Limit)
        } else if budget.uncounted.is_empty() {
            ("enough, estimated".to_owned(), Tone::Quiet)
        } else {
            (format!("and {} not known", budget.uncounted.len()), Tone::Quiet)
        };
        list.text(at(right, y), BODY, tone, Align::Right, &words);
        y += 5.2;
    }
    y
}

/// What no drawing can see to.
fn reminders(list: &mut List, rig: &Rig, top: f64) {
    let wide = list.size.0 - 2.0 * MARGIN;
    let bus = if rig.boards.iter().any(|board| board.chip.row().is_smart) {
        " A bus goes on from servo to servo in any order: each needs an id of its own, and the last one nothing \
         behind it. After a crash or a pulled cable its servos keep holding until their supply is off."
    } else {
        ""
    };
    let words = "A filled jumper is to be closed with solder. Leads, from the left pin: darkest is ground, the middle one supply, the lightest signal; check yours. Join \
                 all grounds: supply, board, controller. Lamps and relays need a transistor or a driver: a pin gives a \
                 signal, not power. The board's logic supply sets the signal's level, 3.3 or 5 V. \
                 Sums are estimates from data sheets.";
    list.paragraph(at(MARGIN, top), SMALL, Tone::Quiet, wide, &format!("{words}{bus}"));
}
