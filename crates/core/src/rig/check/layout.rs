//! What does not fit together in a register layout.

use super::Path;
use super::found::Found;
use crate::rig::Layout;

/// One layout, wherever it stands.
pub(super) fn check(found: &mut Found, at: &Path, layout: &Layout) {
    found.name(at, &layout.name);
    found.numbers(at, layout);
    if layout.kept.low > layout.kept.high {
        found.say(at.key("kept"), "the first register is behind the last", "write them as [first, last]");
    }
    if layout.bauds.is_empty() {
        found.say(at.key("bauds"), "it has no baud rate", "write each as { number = 1, baud = 1000000 }");
    }
    for (n, row) in layout.bauds.iter().enumerate() {
        found.numbers(&at.key("bauds").at(n), row);
    }
    if layout.faults.len() > 8 {
        found.say(at.key("faults"), "a fault has eight bits", "remove the rest");
    }
    let last_address = if layout.form == 1 { 255 } else { 65_535 };
    let mut taken: Vec<(u32, u32, &str)> = Vec::new();
    for (key, register) in layout.each_register() {
        let at = at.key("registers").key(key);
        found.numbers(&at, register);
        if !matches!(register.bytes, 1 | 2 | 4) {
            found.say(at.key("bytes"), "a register has 1, 2 or 4 bytes", "write which");
        }
        let (first, last) =
            (u32::from(register.at), u32::from(register.at) + u32::from(register.bytes.max(1)) - 1);
        if last > last_address {
            let message = format!("packets of form {} know addresses up to {last_address}", layout.form);
            found.say(at.key("at"), message, "correct the address, or the form");
        }
        if let Some((_, _, other)) = taken.iter().find(|(a, b, _)| first <= *b && last >= *a) {
            let message = format!("it overlaps with {other}");
            found.say(at.key("at"), message, "correct one of the two addresses");
        }
        taken.push((first, last, key));
        if register.signed && register.sign_bit.is_some() {
            found.say(at.key("sign_bit"), "there are two kinds of sign", "keep one of the two");
        }
        if register.sign_bit.is_some_and(|bit| u16::from(bit) >= u16::from(register.bytes) * 8) {
            found.say(at.key("sign_bit"), "the register has no such bit", "bits are counted from 0");
        }
    }
    let registers = &layout.registers;
    for (key, register) in [("speed", Some(&registers.speed)), ("speed_now", registers.speed_now.as_ref())] {
        let Some(register) = register else { continue };
        if register.each_rpm.is_some() == register.each_counts_s.is_some() {
            let help = "write each_rpm or each_counts_s, whichever its data sheet gives";
            found.say(at.key("registers").key(key), "the size of one step of its speed is missing", help);
        }
    }
    // They are written together, so that a servo never goes anywhere at a speed that is left from before.
    let parts = [Some(&registers.target), registers.time.as_ref(), Some(&registers.speed)];
    let first = parts.into_iter().flatten().map(|r| r.at).min().unwrap_or_default();
    let last = parts
        .into_iter()
        .flatten()
        .map(|r| r.at.saturating_add(u16::from(r.bytes)))
        .max()
        .unwrap_or_default();
    let bytes: u16 = parts.into_iter().flatten().map(|r| u16::from(r.bytes)).sum();
    if last - first != bytes {
        let message = "target and speed do not stand side by side";
        found.say(
            at.key("registers").key("target"),
            message,
            "name what is between as time, with what it is",
        );
    }
    if registers.time.as_ref().is_some_and(|time| time.is.is_none()) {
        let help = "write is = 0, where that means that the speed counts";
        found.say(at.key("registers").key("time"), "the value written there is missing", help);
    }
}
