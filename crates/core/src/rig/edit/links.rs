//! Edits of links and inputs: they come with their ports, change their names, their places, and go.

use super::{Edited, Refused, changed, missing};
use crate::rig::{Ends, Input, Link, Port, PortKind, Protocol, Rig, Sequence, Switch};

/// A link that is to be added.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewLink<'a> {
    /// Its name, which other parts refer to.
    pub name: &'a str,
    /// The port that it stands on, which comes with it where the rig has none of that name; or the board.
    pub port: &'a str,
    /// The kind, the path and the rate of a port that comes with it.
    pub way: (PortKind, &'a str, Option<u32>),
    /// What is spoken there; the port's usual by default.
    pub protocol: Option<Protocol>,
}

/// Puts a link on a port, which is added where there is none of that name.
pub fn add_link(rig: &Rig, new: &NewLink) -> Edited {
    changed(rig, |rig| {
        if rig.port(new.port).is_none() && rig.board(new.port).is_none() {
            let (kind, path, baud) = new.way;
            rig.ports.push(Port { baud, ..Port::new(new.port, kind, path) });
        }
        rig.links.push(Link::new(new.name, new.port, new.protocol));
        Ok(())
    })
}

/// Gives a link another name; its inputs follow.
pub fn rename_link(rig: &Rig, link: &str, name: &str) -> Edited {
    changed(rig, |rig| {
        let renamed = rig.links.iter_mut().find(|l| l.name == link).ok_or_else(|| missing("link", link))?;
        name.clone_into(&mut renamed.name);
        for input in rig.inputs.iter_mut().filter(|input| input.link == link) {
            name.clone_into(&mut input.link);
        }
        Ok(())
    })
}

/// Takes a link out that no input stands on. A port that nothing else stands on goes with it.
pub fn remove_link(rig: &Rig, link: &str) -> Edited {
    let left = rig.inputs.iter().filter(|input| input.link == link).count();
    if left > 0 {
        return Err(Refused::LinkInUse { link: link.to_owned(), inputs: left });
    }
    changed(rig, |rig| {
        let place = rig.links.iter().position(|l| l.name == link).ok_or_else(|| missing("link", link))?;
        let on = rig.links.remove(place).on;
        leave_port(rig, &on);
        Ok(())
    })
}

/// A port goes once nothing stands on it any more.
fn leave_port(rig: &mut Rig, port: &str) {
    let used =
        rig.links.iter().any(|link| link.on == port) || rig.boards.iter().any(|board| board.port == port);
    if !used {
        rig.ports.retain(|own| own.name != port);
    }
}

/// Lets a link stand on another port, or speak otherwise; its inputs stay. The port comes with it where the rig has none
/// of that name, and the one that it leaves goes once nothing stands on it.
pub fn move_link(rig: &Rig, link: &str, to: &NewLink) -> Edited {
    changed(rig, |rig| {
        if rig.port(to.port).is_none() && rig.board(to.port).is_none() {
            let (kind, path, baud) = to.way;
            rig.ports.push(Port { baud, ..Port::new(to.port, kind, path) });
        }
        let moved = rig.links.iter_mut().find(|l| l.name == link).ok_or_else(|| missing("link", link))?;
        let before = std::mem::replace(&mut moved.on, to.port.to_owned());
        moved.protocol = to.protocol;
        leave_port(rig, &before);
        Ok(())
    })
}

/// Makes an input of a channel.
pub fn add_input(rig: &Rig, input: Input) -> Edited {
    changed(rig, |rig| {
        rig.inputs.push(input);
        Ok(())
    })
}

/// An input of a channel with the ends that its device gives, or that are usual for it: nothing was seen of it yet.
pub fn usual_input(
    name: &str,
    (link, protocol): (&str, Protocol),
    channel: &str,
    ends: Option<(f64, f64)>,
) -> Input {
    let row = protocol.row();
    let read = (row.read)(channel);
    let (low, centre, high) = match (ends, &read) {
        (Some((low, high)), _) if low < high => (low, None, high),
        (_, Some(channel)) => (row.usual)(channel),
        _ => (0.0, None, 1.0),
    };
    let ends = Ends { low, high };
    let pressed = read.and_then(|channel| (row.pressed)(&channel));
    let switch = pressed.map(|pressed| Switch::between(ends, pressed));
    Input { centre, switch, ..Input::new(name, link, channel, ends) }
}

/// Gives an input another name; its mappings, presses and the waits for it follow.
pub fn rename_input(rig: &Rig, input: &str, name: &str) -> Edited {
    changed(rig, |rig| {
        let renamed =
            rig.inputs.iter_mut().find(|i| i.name == input).ok_or_else(|| missing("input", input))?;
        name.clone_into(&mut renamed.name);
        rig.mappings.iter_mut().for_each(|mapping| mapping.rename_input(input, name));
        for press in rig.presses.iter_mut().filter(|press| press.input == input) {
            name.clone_into(&mut press.input);
        }
        for sequence in &mut rig.sequences {
            let steps = sequence.steps.iter_mut().filter_map(|step| step.wait_for.as_mut());
            let loops = sequence.loops.iter_mut().filter_map(|own| own.until.as_mut());
            for own in steps.chain(loops).filter_map(|wait| wait.input.as_mut()).filter(|own| *own == input) {
                name.clone_into(own);
            }
        }
        Ok(())
    })
}

/// Takes an input out, with what it drives.
///
/// # Errors
/// When a sequence waits for it: that is named.
pub fn remove_input(rig: &Rig, input: &str) -> Edited {
    let waits = |sequence: &&Sequence| sequence.waits().any(|wait| wait.input.as_deref() == Some(input));
    if let Some(sequence) = rig.sequences.iter().find(waits) {
        let message = format!("{} waits for {input}", sequence.name);
        return Err(Refused::Unsound { message, help: "let it wait for something else first".to_owned() });
    }
    changed(rig, |rig| {
        let before = rig.inputs.len();
        rig.inputs.retain(|i| i.name != input);
        super::mappings::without_input(rig, input);
        if rig.inputs.len() == before { Err(missing("input", input)) } else { Ok(()) }
    })
}

/// Lets an input stand on another channel, of its own link or of another; its shaping and what it drives stay.
pub fn move_input(rig: &Rig, input: &str, link: &str, channel: &str) -> Edited {
    changed(rig, |rig| {
        let moved = rig.inputs.iter_mut().find(|i| i.name == input).ok_or_else(|| missing("input", input))?;
        link.clone_into(&mut moved.link);
        channel.clone_into(&mut moved.channel);
        Ok(())
    })
}

/// A name that no input has: the one that is wished, or the same with the least number behind it that is free.
pub fn free_input_name(rig: &Rig, like: &str) -> String {
    let taken = |name: &str| rig.inputs.iter().any(|input| input.name == name);
    free(like, taken)
}

/// A name that no link has.
pub fn free_link_name(rig: &Rig, like: &str) -> String {
    let taken = |name: &str| rig.links.iter().any(|link| link.name == name);
    free(like, taken)
}

/// The name that is wished, or the same with the least number behind it that is not taken.
pub fn free(like: &str, taken: impl Fn(&str) -> bool) -> String {
    let numbered = (2..).map(|n| format!("{like}-{n}"));
    std::iter::once(like.to_owned()).chain(numbered).find(|name| !taken(name)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::check::problems;
    use crate::rig::file::small as rig;

    fn radio<'a>() -> NewLink<'a> {
        NewLink {
            name: "radio",
            port: "radio-line",
            way: (PortKind::Serial, "/dev/ttyUSB0", None),
            protocol: Some(Protocol::Crsf),
        }
    }

    #[test]
    fn a_link_comes_with_its_port_and_both_go_when_nothing_stands_on_them() {
        let more = add_link(&rig(), &radio()).unwrap();
        assert_eq!(more.port("radio-line").map(|p| p.path.as_str()), Some("/dev/ttyUSB0"));
        let stick = usual_input("stick", ("radio", Protocol::Crsf), "ch1", None);
        let driven = add_input(&more, stick).unwrap();
        assert!(problems(&driven).is_empty());
        let refused = remove_link(&driven, "radio").unwrap_err().to_string();
        assert_eq!(refused, "1 input stands on radio: move or remove it first");
        let gone = remove_link(&remove_input(&driven, "stick").unwrap(), "radio").unwrap();
        assert_eq!((gone.links.len(), gone.port("radio-line")), (1, None));
        assert!(add_link(&more, &NewLink { name: "second", ..radio() }).is_err(), "a line has one link");
        assert!(remove_link(&more, "none").is_err());
    }

    #[test]
    fn names_are_followed_and_an_input_keeps_what_it_drives_on_another_channel() {
        let more = add_link(&rig(), &radio()).unwrap();
        let renamed = rename_link(&more, "micro", "desk").unwrap();
        assert_eq!((renamed.inputs[0].link.as_str(), renamed.inputs[0].name.as_str()), ("desk", "knob"));
        let renamed = rename_input(&renamed, "knob", "dial").unwrap();
        assert!(renamed.mappings[0].from.contains_key("dial"));
        let moved = move_input(&renamed, "dial", "radio", "ch3").unwrap();
        assert_eq!((moved.inputs[0].channel.as_str(), moved.mappings.len()), ("ch3", 1));
        let refused = move_input(&renamed, "dial", "radio", "ch99").unwrap_err().to_string();
        assert!(refused.contains("radio has no channel \"ch99\""), "{refused}");
        let without = remove_input(&moved, "dial").unwrap();
        assert!(without.inputs.is_empty() && without.mappings.is_empty());
        assert_eq!(free_input_name(&rig(), "knob"), "knob-2");
        assert_eq!(free_link_name(&rig(), "radio"), "radio");
    }

    #[test]
    fn a_link_that_moves_takes_its_inputs_along_and_leaves_an_empty_port_behind() {
        let to = NewLink {
            name: "",
            port: "other",
            way: (PortKind::Serial, "/dev/ttyACM1", Some(9600)),
            protocol: None,
        };
        let moved = move_link(&rig(), "micro", &to).unwrap();
        assert_eq!((moved.links[0].on.as_str(), moved.inputs[0].link.as_str()), ("other", "micro"));
        assert!(moved.port("knob-line").is_none() && moved.port("other").is_some());
    }
}
