//! What does not fit together in a rig, found whole and said with where it is and what to do.
//!
//! Works on values, so that an edit is checked as a file is; where a path lies in a file's text is
//! [`super::file`]'s to find.

mod found;
mod layout;
mod mapping;
mod names;
mod scale;
mod sequence;
mod servo;

use super::card::Card;
use super::{
    Board, Ends, Flow, Index, Input, Joint, Layout, Link, OwnUnit, Parts, Port, PortKind, Protocol, QuitTo,
    Rig, Servo, Switch, protocol,
};
use crate::outside;
use crate::range::{self, Range};
use crate::unit::Degrees;
use std::collections::HashMap;
use std::fmt;

use found::Found;
use names::Names;

/// One step into a document.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// A key of a table.
    Key(String),
    /// A place in a list, from 0.
    At(usize),
}

/// Where in a document.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Path(pub Vec<Part>);

impl Path {
    fn of(list: &str, index: usize) -> Self {
        Self(vec![Part::Key(list.to_owned()), Part::At(index)])
    }

    fn key(&self, key: &str) -> Self {
        let mut path = self.clone();
        path.0.push(Part::Key(key.to_owned()));
        path
    }

    fn at(&self, index: usize) -> Self {
        let mut path = self.clone();
        path.0.push(Part::At(index));
        path
    }
}

impl fmt::Display for Path {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (n, part) in self.0.iter().enumerate() {
            match part {
                Part::Key(key) if n == 0 => write!(f, "{key}")?,
                Part::Key(key) => write!(f, ".{key}")?,
                Part::At(index) => write!(f, " {}", index + 1)?,
            }
        }
        Ok(())
    }
}

/// One thing that is wrong.
#[derive(Debug, Clone, PartialEq)]
pub struct Problem {
    /// Where in the rig it stands, from the outside in.
    pub path: Path,
    /// What is wrong, in words.
    pub message: String,
    /// What to do.
    pub help: String,
}

/// Everything that is wrong with a rig; empty when it is sound.
pub fn problems(rig: &Rig) -> Vec<Problem> {
    let mut found = Found::default();
    let names = Names::of(rig);
    let index = Index::of(rig);
    let rig = Parts { rig, index: &index };
    let root = Path::default();
    if rig.format != super::FORMAT {
        let message = format!("this is format {}, this program knows format {}", rig.format, super::FORMAT);
        found.say(root.key("format"), message, "open it with a newer wasvolta; nothing was changed");
    }
    let length = rig.name.chars().count();
    if rig.name.trim().is_empty() || length > range::NAME_LENGTH || rig.name.chars().any(outside::is_unfit) {
        let message = "a rig's name needs 1 to 40 visible characters";
        found.say(root.key("name"), message, "give it another name");
    }
    found.notes(&root, "notes", &rig.notes);
    found.numbers(&root, rig.rig);
    power_and_ports(&mut found, &rig);
    boards(&mut found, rig, &names);
    for (n, own) in rig.layouts.iter().enumerate() {
        let at = Path::of("layout", n);
        layout::check(&mut found, &at, own);
        if Layout::shipped().iter().any(|shipped| shipped.name == own.name) {
            let message = format!("{:?} is a layout that ships", own.name);
            found.say(at.key("name"), message, "give it a name of its own");
        }
    }
    found.unique("layout", rig.layouts.iter().map(|layout| layout.name.as_str()));
    for (n, own) in rig.scales.iter().enumerate() {
        scale::check(&mut found, &Path::of("scale", n), own);
    }
    // Behind a number capitals do not matter.
    let words: Vec<String> = rig.scales.iter().map(|scale| scale.name.to_lowercase()).collect();
    found.unique("scale", words.iter().map(String::as_str));
    let mut plugs = HashMap::new();
    for (n, servo) in rig.servos.iter().enumerate() {
        servo::check(&mut found, (rig, &names), n, servo);
        servo::plug(&mut found, (rig, &names), (n, servo), &mut plugs);
    }
    found.unique("servo", rig.servos.iter().map(|s| s.name.as_str()));
    let mut turned = HashMap::new();
    for (n, joint) in rig.joints.iter().enumerate() {
        check_joint(&mut found, (rig, &names), (n, joint), &mut turned);
    }
    found.unique("joint", rig.joints.iter().map(|j| j.name.as_str()));
    let mut taken = HashMap::new();
    for (n, link) in rig.links.iter().enumerate() {
        check_link(&mut found, (rig, &names), (n, link), &mut taken);
    }
    found.unique("link", rig.links.iter().map(|l| l.name.as_str()));
    for (n, input) in rig.inputs.iter().enumerate() {
        check_input(&mut found, (rig, &names), n, input);
    }
    found.unique("input", rig.inputs.iter().map(|i| i.name.as_str()));
    mapping::check(&mut found, rig, &names);
    mapping::presses(&mut found, rig, &names);
    poses(&mut found, rig, &names);
    sequence::check(&mut found, rig, &names);
    found.0
}

/// Everything that is wrong with a servo card; empty when it is sound.
pub fn problems_of_card(card: &Card) -> Vec<Problem> {
    let mut found = Found::default();
    let root = Path::default();
    if card.format == 0 {
        found.say(
            root.key("format"),
            "formats are counted from 1",
            "write the format that it was written in",
        );
    }
    servo::itself(&mut found, &root, None, &card.servo(), "mark");
    found.word(root.key("kept"), "a day", &card.kept);
    for (n, limit) in card.limits.iter().enumerate() {
        let at = root.key("limit").at(n);
        found.numbers(&at, limit);
        found.notes(&at, "reason", &limit.reason);
    }
    found.0
}

/// Everything that is wrong with a register layout; empty when it is sound.
pub fn problems_of_layout(layout: &Layout) -> Vec<Problem> {
    let mut found = Found::default();
    layout::check(&mut found, &Path::default(), layout);
    found.0
}

fn power_and_ports(found: &mut Found, rig: &Rig) {
    for (n, rail) in rig.rails.iter().enumerate() {
        let at = Path::of("rail", n);
        found.name(&at, &rail.name);
        found.numbers(&at, rail);
    }
    found.unique("rail", rig.rails.iter().map(|r| r.name.as_str()));
    for (n, port) in rig.ports.iter().enumerate() {
        let at = Path::of("port", n);
        found.name(&at, &port.name);
        found.numbers(&at, port);
        let row = port.kind.row();
        match row.path {
            Some(what) => found.word(at.key("path"), what, &port.path),
            None if !port.path.is_empty() => {
                found.say(at.key("path"), format!("a {} has no path", row.word), "remove the line");
            }
            None => {}
        }
        if port.kind == PortKind::Udp && port.listens_at().is_none() {
            let message = format!("{:?} is not an address to listen at", port.path);
            found.say(
                at.key("path"),
                message,
                "write a port from 1 to 65535, or an address with it: \"0.0.0.0:7000\"",
            );
        }
        if port.kind == PortKind::Mqtt && port.broker().is_none() && !port.path.is_empty() {
            let message = format!("{:?} is not a broker's address", port.path);
            let help = "write its host, with its port and the topics to listen to: \"localhost:1883/hut/#\"";
            found.say(at.key("path"), message, help);
        }
        login(found, &at, port);
        if port.bus_hz.is_some() && !row.is_shared {
            let message = format!("a {} has no bus rate", row.word);
            found.say(at.key("bus_hz"), message, "remove the line, or make the port an I²C bus");
        }
        // A bus with a serial rate is one behind a bridge.
        if port.baud.is_some() && !row.has_baud {
            let message = format!("a {} has no baud", row.word);
            found.say(at.key("baud"), message, "remove the line, or make the port serial");
        }
    }
    found.unique("port", rig.ports.iter().map(|p| p.name.as_str()));
}

/// A name and a password stand in no rig, only in a file that one finds wherever the program was started.
fn login(found: &mut Found, at: &Path, port: &Port) {
    let Some(file) = &port.login_file else { return };
    let at = at.key("login_file");
    if port.kind == PortKind::Mqtt {
        found.word(at.clone(), "a path", file);
        if !file.starts_with('/') && !file.starts_with("~/") {
            found.say(at, format!("{file:?} is not an absolute path"), "write it from / or from ~/");
        }
    } else {
        found.say(at, format!("a {} asks for no login", port.kind.word()), "remove the line");
    }
}

fn boards(found: &mut Found, rig: Parts<'_>, names: &Names<'_>) {
    for (n, board) in rig.boards.iter().enumerate() {
        let at = Path::of("board", n);
        found.name(&at, &board.name);
        let kind = board.chip.port();
        if let Some(port) = rig.port(&board.port).filter(|port| port.kind != kind) {
            let message = format!(
                "{} is a {}, and {} is a {}",
                board.name,
                board.chip.word(),
                port.name,
                port.kind.word()
            );
            found.say(at.key("port"), message, format!("put it on a {}", kind.word()));
        } else if let Some(ports) = names.ports.get(&kind) {
            found.known(at.key("port"), &board.port, ports);
        }
        if let Some(rail) = &board.rail {
            found.known(at.key("rail"), rail, &names.rails);
        }
        found.numbers(&at, board);
        smart_bus(found, &rig, &at, board);
        if board.chip.has_address() {
            addressed(found, &rig, n, board);
        } else {
            alone(found, &rig, n, board);
        }
    }
    found.unique("board", rig.boards.iter().map(|b| b.name.as_str()));
}

/// What a smart bus needs beside the rest, and nothing else has.
fn smart_bus(found: &mut Found, rig: &Rig, at: &Path, board: &Board) {
    let all = || {
        let names = Layout::shipped().iter().chain(&rig.layouts).map(|layout| layout.name.as_str());
        format!("there is: {}", names.collect::<Vec<_>>().join(", "))
    };
    if !board.chip.row().is_smart {
        for (key, _) in [("layout", board.layout.is_some()), ("adapter_ms", board.adapter_ms.is_some())]
            .into_iter()
            .filter(|(_, given)| *given)
        {
            let message = format!("a {} has no {key}", board.chip.word());
            found.say(at.key(key), message, "remove the line, or write chip = \"smart-bus\"");
        }
        return;
    }
    match &board.layout {
        None => found.say(at.clone(), "a smart bus needs the layout of its servos", all()),
        Some(name) if Layout::named(rig, name).is_none() => {
            found.say(at.key("layout"), format!("no layout is called {name:?}"), all());
        }
        Some(_) => {}
    }
    if board.signal_volts.is_some() {
        found.say(at.key("signal_volts"), "a smart bus gives no pulses", "remove the line");
    }
}

/// What a board on a bus needs beside the rest: an address of its own.
fn addressed(found: &mut Found, rig: &Rig, n: usize, board: &Board) {
    let at = Path::of("board", n);
    let Some(address) = board.address else {
        return found.say(
            at,
            "a board on a bus needs its address",
            "write address = 0x40, as its jumpers set it",
        );
    };
    if address == 0x70 {
        let help = "solder another address jumper; 0x70 speaks to all boards at once";
        found.say(at.key("address"), "0x70 is the all-call address", help);
    }
    let twin = rig.boards.iter().take(n).find(|b| b.port == board.port && b.address == board.address);
    if let Some(twin) = twin {
        let message = format!("{} has address {address:#04x} on this port too", twin.name);
        found.say(at.key("address"), message, "solder another address jumper on one of them");
    }
}

/// What a board that is alone on its port may not have.
fn alone(found: &mut Found, rig: &Rig, n: usize, board: &Board) {
    let at = Path::of("board", n);
    let word = board.chip.word();
    if board.address.is_some() {
        found.say(at.key("address"), format!("a {word} has no address"), "remove the line");
    }
    if let Some(twin) = rig.boards.iter().take(n).find(|b| b.port == board.port) {
        let message = format!("{} is on this port already", twin.name);
        found.say(
            at.key("port"),
            message,
            "such a board needs a port of its own: give the other one another port",
        );
    }
    if !board.chip.row().sets_frame_rate && board.frame_hz != super::chip::FIXED_RATE {
        let help = "remove the line, or use a board whose frame rate can be set";
        let message = if board.chip.row().is_smart {
            "a smart bus has no frames"
        } else {
            "its firmware sends 50 frames a second, and that cannot be changed"
        };
        found.say(at.key("frame_hz"), message, help);
    }
}

fn check_joint<'r>(
    found: &mut Found,
    (rig, names): (Parts<'r>, &Names<'_>),
    (n, joint): (usize, &'r Joint),
    turned: &mut HashMap<&'r str, &'r str>,
) {
    let at = Path::of("joint", n);
    found.name(&at, &joint.name);
    turning(found, (rig, names), (n, joint), turned);
    found.numbers(&at, joint);
    for (key, limit) in [("low", &joint.low), ("high", &joint.high)] {
        if let Some(limit) = limit {
            found.numbers(&at.key(key), limit);
            found.notes(&at.key(key), "reason", &limit.reason);
        }
    }
    if let (Some(low), Some(high)) = (&joint.low, &joint.high)
        && low.angle_deg >= high.angle_deg
    {
        found.say(at.key("high"), "the high limit is not above the low one", "swap the two angles");
    }
    if let Some(mirror) = &joint.mirror_of {
        let at = at.key("mirror_of");
        found.numbers(&at, mirror);
        if found.known(at.key("joint"), &mirror.joint, &names.joints) && mirror.joint == joint.name {
            found.say(at.key("joint"), "it would be the mirror image of itself", "name the joint beside it");
        }
    }
    reaches(found, &at, rig, joint);
    if joint.quit == QuitTo::HomeFirst && joint.home_deg.is_none() {
        found.say(at.key("quit"), "it has no home to go to", "give it home_deg");
    }
    if let Some(home) = joint.home_deg {
        let outside = joint.low.as_ref().is_some_and(|l| home < l.angle_deg)
            || joint.high.as_ref().is_some_and(|h| home > h.angle_deg);
        if outside {
            found.say(at.key("home_deg"), "home lies outside the limits", "bring one within the other");
        }
    }
}

/// What a linkage or a steered pair can do holds the joint's limits, and servos on one joint have angles in common.
fn reaches(found: &mut Found, at: &Path, rig: Parts<'_>, joint: &Joint) {
    /// Limits are written with two decimals.
    const HAIR: f64 = 0.005;
    let ordered = |a: Degrees, b: Degrees| if a < b { (a, b) } else { (b, a) };
    let mut common: Option<(Degrees, Degrees)> = None;
    for servo in joint.servos().filter_map(|name| rig.servo(name)) {
        let through = rig.through(servo);
        if let Some((a, b)) = through.usable() {
            let (least, most) = ordered(through.joint_at(a), through.joint_at(b));
            let what = if joint.steering.is_some() { "the steered pair with" } else { "the linkage of" };
            for (key, limit) in [("low", &joint.low), ("high", &joint.high)] {
                let Some(angle) = limit.as_ref().map(|limit| limit.angle_deg.get()) else { continue };
                if angle < least.get() - HAIR || angle > most.get() + HAIR {
                    let message = format!(
                        "the limit at {angle}° cannot be met: {what} {} reaches from {:.1}° to {:.1}°",
                        servo.name,
                        least.get(),
                        most.get()
                    );
                    found.say(at.key(key).key("angle_deg"), message, "set the limit inside that first");
                }
            }
        }
        let Ok(fit) = servo.fit() else { continue };
        let Ends { low, high } = servo.ends();
        let angle = |pulse| through.joint_at(fit.curve.angle_at(pulse));
        let (least, most) = ordered(angle(low), angle(high));
        common = Some(common.map_or((least, most), |(a, b)| {
            (if least > a { least } else { a }, if most < b { most } else { b })
        }));
    }
    if let Some((least, most)) = common.filter(|(least, most)| !joint.others.is_empty() && least >= most) {
        let message = format!(
            "its servos have no angle in common: one begins at {:.1}° where another ends at {:.1}°",
            least.get(),
            most.get()
        );
        found.say(at.key("with"), message, "mark their angles at the same joint, or widen their endpoints");
    }
}

/// The servos that turn a joint: there, positional, and turning no other.
fn turning<'r>(
    found: &mut Found,
    (rig, names): (Parts<'r>, &Names<'_>),
    (n, joint): (usize, &'r Joint),
    turned: &mut HashMap<&'r str, &'r str>,
) {
    let at = Path::of("joint", n);
    for (m, servo) in joint.servos().enumerate() {
        let at = m.checked_sub(1).map_or_else(|| at.key("servo"), |other| at.key("with").at(other));
        if !found.known(at.clone(), servo, &names.servos) {
            continue;
        }
        if let Some(turns) = rig.servo(servo).filter(|s| !s.kind.has_angles()) {
            let message = format!("{} is {} and turns no joint", turns.name, turns.kind.word());
            found.say(at.clone(), message, "remove the joint: poses have levels_percent for it");
        }
        if joint.servos().take(m).any(|other| other == servo) {
            found.say(at, format!("{servo} stands here twice"), "remove it");
        } else if let Some(twin) = turned.get(servo) {
            let message = format!("{servo} turns joint {twin} already");
            found.say(at, message, "one servo turns one joint; remove one of the two");
        } else {
            turned.insert(servo, &joint.name);
        }
    }
    let Some(pair) = &joint.steering else { return };
    let at = at.key("steering");
    if joint.others.len() != 1 {
        found.say(at.clone(), "a steered pair has two servos", "write the right one as with = [\"NAME\"]");
    }
    found.numbers(&at, pair);
}

/// A link stands where what it speaks can be spoken, and alone unless its kind of port is shared.
fn check_link<'r>(
    found: &mut Found,
    (rig, names): (Parts<'r>, &Names<'_>),
    (n, link): (usize, &'r Link),
    taken: &mut HashMap<&'r str, &'r str>,
) {
    let at = Path::of("link", n);
    found.name(&at, &link.name);
    found.numbers(&at, link);
    found.known(at.key("on"), &link.on, &names.ways_in);
    let Some((port, board)) = rig.place_of(link) else { return };
    if board.is_none()
        && let Some(chip) = rig.chip_on(&port.name)
    {
        let message = format!("{} already has a {}", port.name, chip.word());
        found.say(at.key("on"), message, "a link needs a line of its own: use another port");
    }
    if let (None, Some(Protocol::Firmata)) = (board, link.protocol) {
        let help = "add the board, and write its name here: it may drive servos too";
        found.say(at.key("on"), format!("{} is a serial line, not a Firmata board", port.name), help);
    }
    if !port.kind.row().shares_links
        && let Some(twin) = taken.insert(&link.on, &link.name)
    {
        let message = format!("{twin} is on {} already", link.on);
        found.say(
            at.key("on"),
            message,
            "a line has one link only: use another port, or put the inputs on that link",
        );
    }
    let Some(protocol) = rig.protocol_of(link) else { return };
    let row = protocol.row();
    let reports = board.and_then(|board| board.chip.row().reports);
    if board.map_or(!row.on.contains(&port.kind), |_| reports != Some(protocol)) {
        let can: Vec<&str> = match reports {
            Some(reports) => vec![reports.word()],
            None => Protocol::on(port.kind).map(Protocol::word).collect(),
        };
        let message = format!("{} cannot carry {}: it is a {}", port.name, row.title, port.kind.word());
        found.say(at.key("protocol"), message, format!("it can have: {}", can.join(", ")));
    }
    let (streams, title) = (rig.flow_of(link, protocol) == Flow::Streaming, row.title);
    let misplaced = [
        ("lost_after_ms", !streams && link.lost_after_ms.is_some(), "speaks when something changes"),
        ("stuck_is_lost", !streams && link.stuck_is_lost, "speaks when something changes"),
        ("heartbeat_s", streams && link.heartbeat_s.is_some(), "sends by itself"),
    ];
    for (key, _, why) in misplaced.into_iter().filter(|(_, wrong, _)| *wrong) {
        let help =
            if streams { "write lost_after_ms instead" } else { "remove the line, or write heartbeat_s" };
        found.say(at.key(key), format!("a link of {title} {why}"), help);
    }
    if let Some(will) = &link.will {
        found.word(at.key("will"), "a topic", will);
        if protocol != Protocol::Mqtt {
            found.say(at.key("will"), format!("a link of {title} has no last-will topic"), "remove the line");
        }
    }
    if let Some(wave) = &link.wave {
        found.numbers(&at.key("wave"), wave);
        if protocol != Protocol::Wave {
            found.say(at.key("wave"), format!("a link of {title} makes no wave"), "remove the line");
        }
    }
}

fn check_input(found: &mut Found, (rig, names): (Parts<'_>, &Names<'_>), n: usize, input: &Input) {
    let at = Path::of("input", n);
    found.name(&at, &input.name);
    found.known(at.key("link"), &input.link, &names.links);
    found.word(at.key("channel"), "a channel", &input.channel);
    if let Some(protocol) = rig.link(&input.link).and_then(|link| rig.protocol_of(link))
        && (protocol.row().read)(&input.channel).is_none()
        && !input.channel.is_empty()
    {
        let message = format!("{} has no channel {:?}", input.link, input.channel);
        found.say(at.key("channel"), message, format!("{} has {}", protocol.row().title, protocol.row().has));
    }
    if let Some(servo) = on_its_pin(rig, input) {
        let message = format!("{} hangs on that pin", servo.name);
        found.say(at.key("channel"), message, "a pin is either driven or read: use one that drives nothing");
    }
    let Ends { low, high } = input.ends;
    found.numbers(&at, input);
    #[expect(clippy::float_cmp, reason = "only exactly equal ends divide by zero")]
    if low == high {
        found.say(
            at.key("ends"),
            "both ends are the same",
            "give the raw values at the two ends of the movement",
        );
    }
    if let Some(centre) = input.centre {
        let inside = centre > low.min(high) && centre < low.max(high);
        if !inside {
            found.say(at.key("centre"), "the centre is not between the ends", "give the raw value at rest");
        }
    }
    if input.unit == Some(OwnUnit::Deg) {
        let shaped = [
            ("centre", input.centre.is_some()),
            ("switch", input.switch.is_some()),
            ("deadband", input.deadband != 0.0),
            ("expo", input.expo != 0.0),
            ("curve", !input.curve.is_empty()),
        ];
        for (key, _) in shaped.into_iter().filter(|(_, is)| *is) {
            let message = format!("an input in degrees has no {key}");
            found.say(at.key(key), message, "remove the line, or the unit");
        }
        if low > high {
            found.say(at.key("ends"), "degrees rise from the first end to the second", "swap the two ends");
        }
    }
    if let Some(switch) = &input.switch {
        check_switch(found, &at.key("switch"), switch);
        if input.centre.is_some() {
            found.say(at.key("centre"), "a switch has no rest in its middle", "remove the line");
        }
    }
    if !input.curve.is_empty() {
        curve(found, &at, input);
    }
}

fn check_switch(found: &mut Found, at: &Path, switch: &Switch) {
    found.numbers(at, switch);
    if switch.overlaps() {
        let help = "on_above must not be below off_below, nor on_below above off_above";
        found.say(at.clone(), "it would be pressed and released at once", help);
    } else if switch.works().is_none() {
        let help = "give on_above and off_below; or on_below and off_above, of what reads less when it is pressed; or \
                    positions, two to eight of them, all different";
        found.say(at.clone(), "this is not a switch", help);
    }
}

/// The servo on the pin that an input is read from.
fn on_its_pin<'r>(rig: Parts<'r>, input: &Input) -> Option<&'r Servo> {
    let link = rig.link(&input.link)?;
    let (_, board) = rig.place_of(link)?;
    let pin = protocol::digital_pin(&(rig.protocol_of(link)?.row().read)(&input.channel)?)?;
    let board = board?;
    rig.rig.servos.iter().find(|servo| servo.board == board.name && servo.channel == Some(pin))
}

fn curve(found: &mut Found, at: &Path, input: &Input) {
    let rising = input.curve.windows(2).all(|w| w[1].0 > w[0].0);
    let up = input.curve.windows(2).all(|w| w[1].1 >= w[0].1);
    let down = input.curve.windows(2).all(|w| w[1].1 <= w[0].1);
    let inside = input.curve.iter().all(|&(a, b)| a.abs() <= 1.0 && b.abs() <= 1.0);
    if input.curve.len() < 2 || !rising || !(up || down) || !inside {
        let help = "two points or more within -1 to 1, ordered, that only rise or only fall";
        found.say(at.key("curve"), "this is not a curve", help);
    }
    if input.expo != 0.0 {
        found.say(at.key("expo"), "there are points and expo", "keep one of the two");
    }
}

fn poses(found: &mut Found, rig: Parts<'_>, names: &Names<'_>) {
    for (n, pose) in rig.poses.iter().enumerate() {
        let at = Path::of("pose", n);
        found.name(&at, &pose.name);
        if let Some(opposite) = &pose.opposite
            && found.known(at.key("opposite"), opposite, &names.poses)
        {
            let back = rig.pose(opposite).and_then(|other| other.opposite.as_deref());
            if opposite == &pose.name || back != Some(pose.name.as_str()) {
                let message = format!("{} and {opposite} are not each other's opposite", pose.name);
                let help = format!("write opposite = {:?} in {opposite} too, or remove the line", pose.name);
                found.say(at.key("opposite"), message, help);
            }
        }
        // The range of a level depends on what has it.
        found.numbers_but(&at, pose, "levels_percent");
        for (joint, angle) in &pose.angles_deg {
            let here = at.key("angles_deg").key(joint);
            if found.known(here.clone(), joint, &names.joints) {
                let joint = names.joints.places.get(joint.as_str()).and_then(|n| rig.joints.get(*n));
                outside_limits(found, here, joint, *angle);
            }
        }
    }
    let ranges = rig.servos.iter().filter_map(|servo| Some((servo.name.as_str(), servo.kind.levels()?)));
    let ranges: HashMap<&str, &Range> = ranges.collect();
    for (n, pose) in rig.poses.iter().enumerate() {
        for (name, level) in &pose.levels_percent {
            let here = Path::of("pose", n).key("levels_percent").key(name);
            if found.known(here.clone(), name, &names.levels)
                && let Some(range) = ranges.get(name.as_str())
            {
                found.range(here, range, level.get());
            }
        }
    }
    found.unique("pose", rig.poses.iter().map(|p| p.name.as_str()));
}

fn outside_limits(found: &mut Found, at: Path, joint: Option<&Joint>, angle: Degrees) {
    let Some(joint) = joint else { return };
    let beyond = match (&joint.low, &joint.high) {
        (Some(low), _) if angle < low.angle_deg => Some(("low", low)),
        (_, Some(high)) if angle > high.angle_deg => Some(("high", high)),
        _ => None,
    };
    if let Some((which, limit)) = beyond {
        let message = format!(
            "{}° is beyond the {which} limit {}° of {}",
            angle.get(),
            limit.angle_deg.get(),
            joint.name
        );
        let why = if limit.reason.is_empty() { String::new() } else { format!(" ({})", limit.reason) };
        found.say(at, message, format!("bring the angle inside{why}, or move the limit"));
    }
}
