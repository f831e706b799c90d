//! Edits of named scales, and how a person writes one in a line.

use super::{Edited, Refused, changed, missing};
use crate::rig::{Ends, NamedScale, Rig};
use crate::unit::{Hertz, Micros};

/// What is understood by [`read`], for whoever asks.
pub const FORMS: &str = "as 0..180 over 544..2400us, or 150..600 of 4096 at 60Hz";

/// A scale as it is written in a line: `0..180 over 544..2400us`, or `150..600 of 4096 at 60Hz`. Units may be left out,
/// and *to* may stand for the two dots.
///
/// # Errors
/// Says what is understood.
pub fn read(name: &str, text: &str) -> Result<NamedScale, String> {
    let plain = text.to_lowercase().replace('−', "-").replace(" to ", "..");
    let named = NamedScale { name: name.to_owned(), ..NamedScale::default() };
    let wrong = || format!("{text:?} is not a scale: write it {FORMS}");
    if let Some((values, pulses)) = plain.split_once("over") {
        let (values, pulses) = (ends(values, &[]), ends(pulses, &["us", "µs", "μs"]));
        let (values, pulses) = values.zip(pulses).ok_or_else(wrong)?;
        let pulses_us = Some(Ends { low: Micros::new(pulses.low), high: Micros::new(pulses.high) });
        return Ok(NamedScale { values, pulses_us, ..named });
    }
    let (values, frame) = plain.split_once("of").ok_or_else(wrong)?;
    let (steps, rate) = frame.split_once("at").ok_or_else(wrong)?;
    let values = ends(values, &[]).ok_or_else(wrong)?;
    let steps = Some(steps.trim().parse().map_err(|_| wrong())?);
    let rate_hz = Some(Hertz::new(number(rate, &["hz"]).ok_or_else(wrong)?));
    Ok(NamedScale { values, steps, rate_hz, ..named })
}

fn ends(text: &str, units: &[&str]) -> Option<Ends<f64>> {
    let (low, high) = text.split_once("..")?;
    Some(Ends { low: number(low, units)?, high: number(high, units)? })
}

fn number(text: &str, units: &[&str]) -> Option<f64> {
    let text = text.trim();
    let bare = units.iter().find_map(|unit| text.strip_suffix(unit)).unwrap_or(text);
    bare.trim().parse().ok().filter(|number: &f64| number.is_finite())
}

/// Tells a scale: a new one behind the others, or in the place of the one that is called so already.
///
/// # Errors
/// When it is none: its name is a unit's, say, or its pulses are no servo's.
pub fn tell_scale(rig: &Rig, scale: &NamedScale) -> Edited {
    changed(rig, |rig| {
        match rig.scales.iter_mut().find(|known| known.is_called(&scale.name)) {
            Some(known) => *known = NamedScale { id: known.id, notes: known.notes.clone(), ..scale.clone() },
            None => rig.scales.push(scale.clone()),
        }
        Ok(())
    })
}

fn place(rig: &Rig, name: &str) -> Result<usize, Refused> {
    rig.scales.iter().position(|scale| scale.is_called(name)).ok_or_else(|| missing("scale", name))
}

/// Puts a scale before the others: it is the one that is shown where there is room for one.
///
/// # Errors
/// When there is none of that name.
pub fn scale_first(rig: &Rig, name: &str) -> Edited {
    changed(rig, |rig| {
        let at = place(rig, name)?;
        rig.scales[..=at].rotate_right(1);
        Ok(())
    })
}

/// Forgets a scale. Nothing else in the rig is written in it.
///
/// # Errors
/// When there is none of that name.
pub fn remove_scale(rig: &Rig, name: &str) -> Edited {
    changed(rig, |rig| {
        let at = place(rig, name)?;
        rig.scales.remove(at);
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::small as rig;

    fn lib() -> NamedScale {
        read("lib", "0..180 over 544..2400us").unwrap()
    }

    #[test]
    fn a_line_says_a_scale_in_either_form() {
        assert_eq!(lib().described(), "0 to 180 over 544 to 2400 µs");
        for text in ["0..180 over 544..2400", " 0 to 180 over 544us..2400 µs", "0..180over544 to 2400us"] {
            assert_eq!(read("lib", text), Ok(lib()), "{text}");
        }
        assert!((read("s", "−90..90 over 1000..2000us").unwrap().values.low + 90.0).abs() < 1e-9);
        let counts = read("c", "150..600 of 4096 at 60Hz").unwrap();
        assert_eq!(
            (counts.steps, counts.rate_hz, counts.pulses_us),
            (Some(4096), Some(Hertz::new(60.0)), None)
        );
        assert_eq!(read("c", &counts.described()), Ok(counts), "what it is called is understood");
        for junk in [
            "",
            "lib",
            "0..180",
            "0..180 over",
            "0..x over 1..2",
            "1..2 of 4096",
            "1..2 of -4 at 60",
            "inf..1 over 1..2",
        ] {
            assert!(read("lib", junk).unwrap_err().contains("150..600 of 4096 at 60Hz"), "{junk}");
        }
    }

    #[test]
    fn the_same_name_tells_it_anew_and_keeps_its_id() {
        let told = tell_scale(&rig(), &lib()).unwrap();
        let other = read("LIB", "0..100 over 1000..2000").unwrap();
        let again = tell_scale(&told, &other).unwrap();
        assert_eq!((again.scales.len(), again.scales[0].id), (1, told.scales[0].id));
        assert!((again.scale("lib").unwrap().values.high - 100.0).abs() < 1e-9);
        let two = tell_scale(&told, &read("c60", "150..600 of 4096 at 60").unwrap()).unwrap();
        let turned = scale_first(&two, "C60").unwrap();
        assert_eq!(turned.scales.iter().map(|s| s.name.as_str()).collect::<Vec<_>>(), ["c60", "lib"]);
        assert_eq!(turned.scales[1].id, two.scales[0].id);
        assert!(remove_scale(&remove_scale(&two, "lib").unwrap(), "c60").unwrap().scales.is_empty());
        assert!(remove_scale(&two, "none").is_err() && scale_first(&two, "none").is_err());
    }

    #[test]
    fn what_is_no_scale_is_refused_with_what_to_do() {
        let refused =
            |name: &str, text: &str| tell_scale(&rig(), &read(name, text).unwrap()).unwrap_err().to_string();
        assert!(refused("deg", "0..180 over 544..2400").contains("means a unit already"));
        assert!(refused("DEG", "0..180 over 544..2400").contains("means a unit already"));
        assert!(refused("1lib", "0..180 over 544..2400").contains("begin it with a letter"));
        assert!(refused("lib", "180..0 over 544..2400").contains("not below the second"));
        assert!(refused("lib", "0..180 over 544..544").contains("are equal"));
        assert!(refused("lib", "0..180 over 544..24000").contains("outside 300 to 2900 µs"));
        let slow = refused("lib", "150..600 of 4096 at 300");
        assert!(slow.starts_with("150.0 would be 122 µs, which is not a servo's pulse"), "{slow}");
    }
}
