//! What a maker types: numbers with units, and what is understood by them.
//!
//! A number that is plausible in another unit is asked about, never sent.

use wasvolta_core::clock::PwmClock;
use wasvolta_core::range;
use wasvolta_core::rate::Rates;
use wasvolta_core::rig::Kind;
use wasvolta_core::scale::Scale;
use wasvolta_core::unit::{Degrees, Micros, Millimetres, Rpm};

/// What a pulse entry is judged by.
#[derive(Debug, Clone)]
pub struct PulseContext {
    /// Where it stands.
    pub present: Micros,
    /// What it is.
    pub kind: Kind,
    /// The fit or the levels, if any.
    pub scale: Option<Scale>,
    /// The output's clock.
    pub clock: PwmClock,
    /// How fast it turns, where that was timed.
    pub rates: Option<Rates>,
}

/// A number and the unit behind it.
fn split(text: &str) -> Result<(bool, f64, String), String> {
    let text = text.trim().replace('−', "-");
    let end =
        text.find(|c: char| !(c.is_ascii_digit() || matches!(c, '+' | '-' | '.'))).unwrap_or(text.len());
    let (number, unit) = text.split_at(end);
    let value: f64 = number.parse().map_err(|_| {
        if text.is_empty() {
            "type a number".to_owned()
        } else {
            format!("{text:?} does not begin with a number")
        }
    })?;
    Ok((number.starts_with(['+', '-']), value, unit.trim().to_lowercase()))
}

/// The pulse that an entry asks for: `1520us`, `30deg`, `8.5%` of the frame, `307t` ticks; with a sign, that
/// much more or less than the present pulse.
///
/// # Errors
/// Says what is understood.
pub fn pulse(text: &str, context: &PulseContext) -> Result<Micros, String> {
    let (relative, value, unit) = split(text)?;
    if context.kind.levels().is_some() && (unit == "%" || (unit.is_empty() && context.kind.is_accessory())) {
        return level(relative, value, context);
    }
    if context.kind.is_accessory() {
        return Err(format!("{unit:?} is no unit here: a level is in %, as 40 or +5"));
    }
    let scale = || match &context.scale {
        Some(scale @ (Scale::Angle(_) | Scale::Bent(_))) => Ok(scale),
        Some(Scale::Level(_)) => Err("it has no angles: write its rate in %, or a pulse in us".to_owned()),
        None => Err("there is no fit yet, so no angles: keep two marks first".to_owned()),
    };
    let from = if relative { context.present } else { Micros::ZERO };
    let asked = match unit.as_str() {
        "" | "u" | "us" | "µs" | "μs" => from + Micros::new(value),
        "ms" => from + Micros::new(value * 1000.0),
        "d" | "de" | "deg" | "°" => {
            let scale = scale()?;
            let base = if relative { scale.angle_at(context.present) } else { Degrees::ZERO };
            scale.pulse_at(base + Degrees::new(value))
        }
        "%" => from + context.clock.period() * (value / 100.0),
        "r" | "rpm" => {
            let rates =
                context.rates.as_ref().ok_or("no rate was timed yet: t times it, then rpm are understood")?;
            let stop = context.scale.as_ref().map_or(Micros::ZERO, |scale| scale.pulse_at(Degrees::ZERO));
            rates.pulse_for(Rpm::new(value), stop)
        }
        "t" | "tick" | "ticks" => from + context.clock.tick() * value,
        other => return Err(format!("{other:?} is no unit here: us, deg, % or t (ticks) are understood")),
    };
    if unit.is_empty() && !relative && !range::PULSE.holds(value) {
        return Err(pulse_question(value));
    }
    range::PULSE.check(asked.get()).map_err(|outside| outside.to_string())?;
    Ok(asked)
}

/// The pulse of a level in percent.
fn level(relative: bool, value: f64, context: &PulseContext) -> Result<Micros, String> {
    let (Some(range), Some(scale)) = (context.kind.levels(), &context.scale) else {
        return Err("it has no levels".to_owned());
    };
    let base = if relative && context.kind.is_accessory() {
        scale.angle_at(context.present)
    } else {
        // A sign is the rate's own where it can turn backwards.
        Degrees::ZERO
    };
    let level = base + Degrees::new(value);
    range.check(level.get()).map_err(|outside| outside.to_string())?;
    Ok(scale.pulse_at(level))
}

fn pulse_question(value: f64) -> String {
    if (0.3..=2.9).contains(&value) {
        return format!("{value} µs is no pulse; did you mean {value}ms, or {}us?", value * 1000.0);
    }
    if (-180.0..=180.0).contains(&value) {
        return format!("{value} µs is no pulse; did you mean {value}deg?");
    }
    match range::PULSE.check(value) {
        Err(outside) => outside.to_string(),
        Ok(()) => String::new(),
    }
}

/// The angle that an entry asks for; signs are the angle's own.
///
/// # Errors
/// Says what is understood.
pub fn angle(text: &str) -> Result<Degrees, String> {
    let (_, value, unit) = split(text)?;
    match unit.as_str() {
        "" if value.abs() >= 300.0 => {
            Err(format!("{value}° is far for a servo; did you mean a pulse? write {value}deg if not"))
        }
        "" | "d" | "de" | "deg" | "°" => {
            range::ANGLE.check(value).map_err(|outside| outside.to_string())?;
            Ok(Degrees::new(value))
        }
        other => Err(format!("{other:?} is no angle: write 30 or 30deg")),
    }
}

/// A length in millimetres.
///
/// # Errors
/// Says what is understood.
pub fn millimetres(text: &str) -> Result<Millimetres, String> {
    let (_, value, unit) = split(text)?;
    let millimetres = match unit.as_str() {
        "" | "m" | "mm" => value,
        "c" | "cm" => value * 10.0,
        other => return Err(format!("{other:?} is no length here: write 16 or 16mm")),
    };
    range::LENGTH.check(millimetres).map_err(|outside| outside.to_string())?;
    Ok(Millimetres::new(millimetres))
}

/// The seconds that an entry asks for.
///
/// # Errors
/// Says what is understood.
pub fn seconds(text: &str) -> Result<f64, String> {
    let (_, value, unit) = split(text)?;
    let seconds = match unit.as_str() {
        "" if value >= 10.0 => {
            return Err(format!("{value} without a unit: did you mean {value}s or {value}ms?"));
        }
        "" | "s" => value,
        "m" | "ms" => value / 1000.0,
        other => return Err(format!("{other:?} is no time: write 0.5, 0.5s or 500ms")),
    };
    range::TIME.check(seconds).map_err(|outside| outside.to_string())?;
    Ok(seconds)
}

/// A plain number, or a share of one as percent.
///
/// # Errors
/// Says what is understood.
pub fn plain(text: &str) -> Result<f64, String> {
    let (_, value, unit) = split(text)?;
    match unit.as_str() {
        "" => Ok(value),
        "%" => Ok(value / 100.0),
        other => Err(format!("{other:?} is not understood: write a number, or a percentage")),
    }
}

/// A frame rate as a meter shows it.
///
/// # Errors
/// Says what is understood.
pub fn hertz(text: &str) -> Result<f64, String> {
    let (_, value, unit) = split(text)?;
    match unit.as_str() {
        "" | "h" | "hz" => {
            range::FRAME_RATE.check(value).map_err(|outside| outside.to_string())?;
            Ok(value)
        }
        other => Err(format!("{other:?} is no rate: write what the meter shows in Hz")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_core::curve::Line;
    use wasvolta_core::scale::Sides;
    use wasvolta_core::unit::Hertz;

    fn context() -> PulseContext {
        PulseContext {
            present: Micros::new(1500.0),
            kind: Kind::Positional,
            scale: Some(Scale::Angle(Line::through(Micros::new(1500.0), Degrees::ZERO, 0.1))),
            clock: PwmClock::ideal(12, Hertz::new(50.0)),
            rates: None,
        }
    }

    fn us(text: &str) -> f64 {
        pulse(text, &context()).unwrap().get()
    }

    #[test]
    fn units_and_signs_are_understood() {
        for (text, wanted) in [
            ("1520us", 1520.0),
            ("1520", 1520.0),
            ("30deg", 1800.0),
            ("+5", 1505.0),
            ("-2.5%", 1000.0),
            ("1.5ms", 1500.0),
        ] {
            assert!((us(text) - wanted).abs() < 1e-9, "{text}");
        }
        assert!((us("8.5%") - 1700.0).abs() < 1e-9);
        assert!((us("-30deg") - 1200.0).abs() < 1e-9);
        assert!((us("+1t") - 1504.8828125).abs() < 1e-9);
    }

    #[test]
    fn what_is_plausible_in_another_unit_is_asked_about() {
        assert_eq!(
            pulse("1.5", &context()).unwrap_err(),
            "1.5 µs is no pulse; did you mean 1.5ms, or 1500us?"
        );
        assert_eq!(pulse("45", &context()).unwrap_err(), "45 µs is no pulse; did you mean 45deg?");
        assert_eq!(pulse("2930us", &context()).unwrap_err(), "pulse is 2930 µs, outside 300 to 2900 µs");
        assert!(angle("350").unwrap_err().contains("did you mean a pulse"));
        assert_eq!(seconds("15").unwrap_err(), "15 without a unit: did you mean 15s or 15ms?");
        assert!((seconds("15ms").unwrap() - 0.015).abs() < 1e-12);
    }

    #[test]
    fn levels_are_percent_where_there_are_no_angles() {
        let sides = |low, zero, high| {
            let [low, zero, high] = [low, zero, high].map(Micros::new);
            Some(Scale::Level(Sides::sharp(low, zero, high)))
        };
        let lamp = PulseContext {
            kind: Kind::Dimmer,
            scale: sides(0.0, 0.0, 20e3),
            present: Micros::new(4e3),
            ..context()
        };
        let us = |text: &str, context: &PulseContext| pulse(text, context).map(Micros::get);
        assert_eq!([us("40", &lamp), us("40%", &lamp), us("+5", &lamp)], [Ok(8e3), Ok(8e3), Ok(5e3)]);
        assert_eq!(us("140", &lamp).unwrap_err(), "level is 140 %, outside 0 to 100 %");
        assert!(us("1500us", &lamp).unwrap_err().contains("a level is in %"));
        let winch = PulseContext { kind: Kind::Endless, scale: sides(1000.0, 1480.0, 2000.0), ..context() };
        assert_eq!([us("-50%", &winch), us("1520", &winch)], [Ok(1240.0), Ok(1520.0)]);
        assert!(us("30deg", &winch).unwrap_err().contains("no angles"));
    }

    #[test]
    fn junk_says_what_is_understood() {
        assert!(pulse("12parsec", &context()).unwrap_err().contains("us, deg, % or t"));
        assert!(pulse("", &context()).is_err() && pulse("--3", &context()).is_err());
        assert!(angle("3us").is_err() && plain("x").is_err() && hertz("12").is_err());
        let unfitted = PulseContext { scale: None, ..context() };
        assert!(pulse("30deg", &unfitted).unwrap_err().contains("keep two marks first"));
    }
}
