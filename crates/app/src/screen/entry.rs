//! What a maker types: numbers with units, and what is understood by them.
//!
//! A number that is plausible in another unit is asked about, never sent.

use wasvolta_core::clock::PwmClock;
use wasvolta_core::range;
use wasvolta_core::rate::Rates;
use wasvolta_core::rig::{Kind, NamedScale, Signal};
use wasvolta_core::scale::Scale;
use wasvolta_core::unit::{Degrees, Micros, Millimetres, Position, Rpm};

/// What a pulse entry is judged by.
#[derive(Debug, Clone)]
pub struct PulseContext {
    /// Where it stands.
    pub present: Position,
    /// What it is.
    pub kind: Kind,
    /// The fit or the levels, if any.
    pub scale: Option<Scale>,
    /// The output's clock; none of what is told counts.
    pub clock: Option<PwmClock>,
    /// How fast it turns, where that was timed.
    pub rates: Option<Rates>,
    /// The scales from other code that the rig names.
    pub scales: Vec<NamedScale>,
}

impl PulseContext {
    /// The pulse of a number in a scale that the rig names; none where its unit is no scale's name.
    fn in_named_scale(&self, said: &Said) -> Option<Result<Position, String>> {
        let named = self.scales.iter().find(|scale| scale.is_called(&said.unit))?;
        if self.kind.signal() != Signal::Pulse {
            let unit = if self.kind.is_smart() { "counts or deg" } else { "%" };
            return Some(Err(format!(
                "{} is a scale of pulses, and this servo has none: write {unit}",
                named.name
            )));
        }
        let pulse = match named.each() {
            Some(each) if said.relative => Ok(self.present + (each * said.value).place()),
            _ => named.asked(said.value).map(Micros::place),
        };
        Some(pulse.and_then(|pulse| {
            range::PULSE.check(pulse.get()).map_err(|outside| outside.to_string())?;
            Ok(pulse)
        }))
    }
}

/// What may be typed, with what is understood by it, for the help.
pub const FORMS: [(&str, &str); 10] = [
    ("1520us", "a pulse; without a unit too, where a pulse is asked for"),
    ("30deg", "an angle; a sign is its own, as in -20deg"),
    ("by 5deg", "a move from where it stands; by -20us goes back"),
    ("307t", "a pulse in ticks of its board's clock"),
    ("7.5%", "a pulse as a share of the frame; of a lamp or a continuous servo, its level"),
    ("1.5ms", "a pulse in milliseconds"),
    ("30rpm", "a rate of a continuous servo, once its turns were timed"),
    ("2048c", "a place of a smart servo in counts"),
    ("90 lib", "a number of other code, in a scale called lib; ‹name a scale› describes one"),
    ("0.8s", "a time; 800ms is the same"),
];

/// The word before a number that is a way and not a place.
const BY: &str = "by";

/// What a text says: a number, the unit behind it, and whether it stands for a way from where something is. A sign is the
/// number's own, wherever it stands.
struct Said {
    relative: bool,
    value: f64,
    unit: String,
}

/// The one rule by which every entry is read.
fn read(text: &str) -> Result<Said, String> {
    let text = text.trim().replace('−', "-");
    let way = text
        .strip_prefix(BY)
        .filter(|rest| rest.is_empty() || rest.starts_with(|c: char| !c.is_alphabetic()));
    let (relative, rest) = way.map_or((false, text.as_str()), |rest| (true, rest.trim_start()));
    let end =
        rest.find(|c: char| !(c.is_ascii_digit() || matches!(c, '+' | '-' | '.'))).unwrap_or(rest.len());
    let (number, unit) = rest.split_at(end);
    let value: f64 = number.parse().map_err(|_| match (text.is_empty(), relative) {
        (true, _) => "type a number".to_owned(),
        (_, true) if rest.is_empty() => "type how far: by 5deg, by -20us".to_owned(),
        _ => format!("{rest:?} does not begin with a number"),
    })?;
    Ok(Said { relative, value, unit: unit.trim().to_lowercase() })
}

/// A number and its unit, where only a place can be meant.
fn place(text: &str) -> Result<(f64, String), String> {
    match read(text)? {
        Said { relative: true, .. } => Err("by is for moves; write the value itself here".to_owned()),
        Said { value, unit, .. } => Ok((value, unit)),
    }
}

/// Whether an entry is a way from where something stands, as far as it is typed.
pub fn is_way(text: &str) -> bool {
    text.trim_start().starts_with(BY)
}

/// A way in words, for a maker to see while typing; none for a place, which is shown by where it is.
pub fn way_in_words(text: &str) -> Option<String> {
    let Said { relative: true, value, unit } = read(text).ok()? else { return None };
    let (unit, size) = (if unit.is_empty() { "us" } else { &unit }, value.abs());
    Some(format!("{size} {unit} further {}", if value < 0.0 { "down" } else { "up" }))
}

/// The pulse that an entry asks for: `1520us`, `-30deg`, `8.5%` of the frame, `307t` ticks; behind `by`, that much more
/// or less than the present pulse.
///
/// # Errors
/// Says what is understood.
pub fn pulse(text: &str, context: &PulseContext) -> Result<Position, String> {
    let said = read(text)?;
    if let Some(pulse) = context.in_named_scale(&said) {
        return pulse;
    }
    let Said { relative, value, unit } = said;
    if context.kind.levels().is_some() && (unit == "%" || (unit.is_empty() && context.kind.is_accessory())) {
        return level(relative, value, context);
    }
    if context.kind.is_accessory() {
        return Err(format!("{unit:?} is not a unit here: a level is in %, as 40 or by 5"));
    }
    let scale = || match &context.scale {
        Some(scale @ (Scale::Angle(_) | Scale::Bent(_))) => Ok(scale),
        Some(Scale::Level(_)) => Err("it has no angles: write its rate in %, or a pulse in us".to_owned()),
        None => Err("there is no fit yet, so no angles: keep two marks first".to_owned()),
    };
    let clock = || context.clock.ok_or("it has no frames to take a share of");
    let from = if relative { context.present } else { Position::ZERO };
    let smart = context.kind.is_smart();
    let asked = match unit.as_str() {
        "c" | "count" | "counts" if smart => from + Position::new(value),
        "u" | "us" | "µs" | "μs" | "ms" | "%" | "t" | "tick" | "ticks" if smart => {
            return Err(format!("a smart servo has no {unit}: counts or deg are understood"));
        }
        "" | "u" | "us" | "µs" | "μs" => from + Position::new(value),
        "ms" => from + Position::new(value * 1000.0),
        "d" | "de" | "deg" | "°" => {
            let scale = scale()?;
            let base = if relative { scale.angle_at(context.present) } else { Degrees::ZERO };
            scale.pulse_at(base + Degrees::new(value))
        }
        "%" => from + (clock()?.period() * (value / 100.0)).place(),
        "r" | "rpm" => {
            let rates = context
                .rates
                .as_ref()
                .ok_or("no rate was timed yet: ‹test or time› times it, then rpm are understood")?;
            let stop = context.scale.as_ref().map_or(Position::ZERO, |scale| scale.pulse_at(Degrees::ZERO));
            let base = if relative { rates.rate_at(context.present) } else { Rpm::ZERO };
            rates.pulse_for(base + Rpm::new(value), stop)
        }
        "t" | "tick" | "ticks" => from + (clock()?.tick() * value).place(),
        other if smart => return Err(format!("{other:?} is not a unit here: counts or deg are understood")),
        other => return Err(format!("{other:?} is not a unit here: us, deg, % or t (ticks) are understood")),
    };
    if smart {
        range::STEPS.check(asked.get()).map_err(|outside| outside.to_string())?;
        return Ok(asked);
    }
    if unit.is_empty() && !relative && !range::PULSE.holds(value) {
        return Err(pulse_question(value));
    }
    range::PULSE.check(asked.get()).map_err(|outside| outside.to_string())?;
    Ok(asked)
}

/// The pulse of a level in percent.
fn level(relative: bool, value: f64, context: &PulseContext) -> Result<Position, String> {
    let (Some(range), Some(scale)) = (context.kind.levels(), &context.scale) else {
        return Err("it has no levels".to_owned());
    };
    let base = if relative { scale.angle_at(context.present) } else { Degrees::ZERO };
    let level = base + Degrees::new(value);
    range.check(level.get()).map_err(|outside| outside.to_string())?;
    Ok(scale.pulse_at(level))
}

fn pulse_question(value: f64) -> String {
    if (0.3..=2.9).contains(&value) {
        return format!("{value} µs is not a servo pulse; did you mean {value}ms, or {}us?", value * 1000.0);
    }
    if (-180.0..=180.0).contains(&value) {
        return format!("{value} µs is not a servo pulse; did you mean {value}deg?");
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
    let (value, unit) = place(text)?;
    match unit.as_str() {
        "" if value.abs() >= 300.0 => {
            Err(format!("{value}° is far for a servo; did you mean a pulse? write {value}deg if not"))
        }
        "" | "d" | "de" | "deg" | "°" => {
            range::ANGLE.check(value).map_err(|outside| outside.to_string())?;
            Ok(Degrees::new(value))
        }
        other => Err(format!("{other:?} is not an angle: write 30 or 30deg")),
    }
}

/// The same, where it is the angle of a servo's joint: then a number in a scale that the rig names is one too.
///
/// # Errors
/// Says what is understood.
pub fn angle_of(text: &str, context: Option<&PulseContext>) -> Result<Degrees, String> {
    let Some((said, context)) = read(text).ok().zip(context) else { return angle(text) };
    let Some(pulse) = context.in_named_scale(&said).filter(|_| !said.relative) else { return angle(text) };
    match &context.scale {
        Some(scale @ (Scale::Angle(_) | Scale::Bent(_))) => Ok(scale.angle_at(pulse?)),
        _ => Err(format!("{} has no angle before there is a fit: keep two marks first", text.trim())),
    }
}

/// A length in millimetres.
///
/// # Errors
/// Says what is understood.
pub fn millimetres(text: &str) -> Result<Millimetres, String> {
    let (value, unit) = place(text)?;
    let millimetres = match unit.as_str() {
        "" | "m" | "mm" => value,
        "c" | "cm" => value * 10.0,
        other => return Err(format!("{other:?} is not a length: write 16 or 16mm")),
    };
    range::LENGTH.check(millimetres).map_err(|outside| outside.to_string())?;
    Ok(Millimetres::new(millimetres))
}

/// The seconds that an entry asks for.
///
/// # Errors
/// Says what is understood.
pub fn seconds(text: &str) -> Result<f64, String> {
    let (value, unit) = place(text)?;
    let seconds = match unit.as_str() {
        "" if value >= 10.0 => {
            return Err(format!("{value} without a unit: did you mean {value}s or {value}ms?"));
        }
        "" | "s" => value,
        "m" | "ms" => value / 1000.0,
        other => return Err(format!("{other:?} is not a time: write 0.5, 0.5s or 500ms")),
    };
    range::TIME.check(seconds).map_err(|outside| outside.to_string())?;
    Ok(seconds)
}

/// A plain number, or a share of one as percent.
///
/// # Errors
/// Says what is understood.
pub fn plain(text: &str) -> Result<f64, String> {
    let (value, unit) = place(text)?;
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
    let (value, unit) = place(text)?;
    match unit.as_str() {
        "" | "h" | "hz" => {
            range::FRAME_RATE.check(value).map_err(|outside| outside.to_string())?;
            Ok(value)
        }
        other => Err(format!("{other:?} is not a rate: write what the meter shows in Hz")),
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
            present: Position::new(1500.0),
            kind: Kind::Positional,
            scale: Some(Scale::Angle(Line::through(Position::new(1500.0), Degrees::ZERO, 0.1))),
            clock: Some(PwmClock::ideal(12, Hertz::new(50.0))),
            rates: None,
            scales: Vec::new(),
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
            ("by 5", 1505.0),
            ("by -5us", 1495.0),
            ("by -2.5%", 1000.0),
            ("by -20deg", 1300.0),
            ("by +1ms", 2500.0),
            ("1.5ms", 1500.0),
        ] {
            assert!((us(text) - wanted).abs() < 1e-9, "{text}");
        }
        assert!((us("8.5%") - 1700.0).abs() < 1e-9);
        assert!((us("-30deg") - 1200.0).abs() < 1e-9);
        assert!((us("by 1t") - 1504.8828125).abs() < 1e-9);
    }

    #[test]
    fn a_sign_is_the_values_own_wherever_the_servo_stands() {
        let turned = PulseContext { present: Position::new(1600.0), ..context() };
        let at = |text: &str| pulse(text, &turned).map(|pulse| (pulse.get() - 1500.0) / 10.0);
        assert_eq!([at("-20deg"), at("+20deg"), at("by -20deg")], [Ok(-20.0), Ok(20.0), Ok(-10.0)]);
        assert_eq!(pulse("+5", &turned).unwrap_err(), "5 µs is not a servo pulse; did you mean 5deg?");
        assert!(pulse("-2.5%", &turned).unwrap_err().contains("outside 300 to 2900"), "no pulse is negative");
        assert_eq!(angle("-20"), Ok(Degrees::new(-20.0)));
        assert_eq!(angle("+5deg"), Ok(Degrees::new(5.0)));
        assert!(angle("by 5").unwrap_err().contains("the value itself") && seconds("by 1s").is_err());
        assert_eq!(pulse("by", &turned).unwrap_err(), "type how far: by 5deg, by -20us");
        assert!(pulse("bypass", &turned).is_err() && seconds("-1s").is_err());
        assert_eq!(way_in_words("by -20deg").unwrap(), "20 deg further down");
        assert_eq!(way_in_words("by 5").unwrap(), "5 us further up");
        assert_eq!(["by", "x", "-20deg"].map(way_in_words), [None, None, None]);
        assert!(is_way("by") && !is_way("-5"));
    }

    #[test]
    fn what_is_plausible_in_another_unit_is_asked_about() {
        assert_eq!(
            pulse("1.5", &context()).unwrap_err(),
            "1.5 µs is not a servo pulse; did you mean 1.5ms, or 1500us?"
        );
        assert_eq!(pulse("45", &context()).unwrap_err(), "45 µs is not a servo pulse; did you mean 45deg?");
        assert_eq!(pulse("2930us", &context()).unwrap_err(), "pulse is 2930 µs, outside 300 to 2900 µs");
        assert!(angle("350").unwrap_err().contains("did you mean a pulse"));
        assert_eq!(seconds("15").unwrap_err(), "15 without a unit: did you mean 15s or 15ms?");
        assert!((seconds("15ms").unwrap() - 0.015).abs() < 1e-12);
    }

    #[test]
    fn levels_are_percent_where_there_are_no_angles() {
        let sides = |low, zero, high| {
            let [low, zero, high] = [low, zero, high].map(Position::new);
            Some(Scale::Level(Sides::sharp(low, zero, high)))
        };
        let lamp = PulseContext {
            kind: Kind::Dimmer,
            scale: sides(0.0, 0.0, 20e3),
            present: Position::new(4e3),
            ..context()
        };
        let us = |text: &str, context: &PulseContext| pulse(text, context).map(Position::get);
        assert_eq!([us("40", &lamp), us("40%", &lamp), us("by 5", &lamp)], [Ok(8e3), Ok(8e3), Ok(5e3)]);
        assert_eq!(us("140", &lamp).unwrap_err(), "level is 140 %, outside 0 to 100 %");
        assert!(us("1500us", &lamp).unwrap_err().contains("a level is in %"));
        let winch =
            PulseContext { kind: Kind::Continuous, scale: sides(1000.0, 1480.0, 2000.0), ..context() };
        assert_eq!([us("-50%", &winch), us("1520", &winch)], [Ok(1240.0), Ok(1520.0)]);
        assert!(us("30deg", &winch).unwrap_err().contains("no angles"));
    }

    #[test]
    fn a_number_of_other_code_goes_through_its_pulse() {
        let read = |name, text| wasvolta_core::rig::edit::scales::read(name, text).unwrap();
        let scales = vec![read("Lib", "0..180 over 544..2400us"), read("c60", "150..600 of 4096 at 60Hz")];
        let named = PulseContext { scales, ..context() };
        let us = |text: &str| pulse(text, &named).map(Position::get);
        assert_eq!([us("90 lib"), us("90lib"), us("0 LIB")], [Ok(1472.0), Ok(1472.0), Ok(544.0)]);
        assert!(
            (us("by 18 lib").unwrap() - 1685.6).abs() < 1e-9
                && (us("by -1 c60").unwrap() - 1495.931).abs() < 1e-3
        );
        assert!((us("368.64 c60").unwrap() - 1500.0).abs() < 1e-9);
        assert_eq!(us("181 lib").unwrap_err(), "181 Lib is outside 0 to 180 Lib");
        assert!(us("by 180 lib").unwrap_err().contains("outside 300 to 2900"));
        // 1472 µs are −2.8° by this fit: 90 of such a scale need not be a middle.
        let angle = |text: &str| angle_of(text, Some(&named)).map(Degrees::get);
        assert!((angle("90 lib").unwrap() + 2.8).abs() < 1e-9);
        assert_eq!([angle("-20"), angle("30deg")], [Ok(-20.0), Ok(30.0)]);
        assert!(angle("by 5 lib").is_err() && angle("90 bil").unwrap_err().contains("not an angle"));
        assert!(angle_of("90 lib", None).is_err() && angle("200 lib").unwrap_err().contains("outside"));
        let bare = PulseContext { scale: None, ..named.clone() };
        assert!(angle_of("90 lib", Some(&bare)).unwrap_err().contains("keep two marks first"));
        let smart = PulseContext { kind: Kind::Smart, ..named.clone() };
        assert_eq!(
            pulse("90 lib", &smart).unwrap_err(),
            "Lib is a scale of pulses, and this servo has none: write counts or deg"
        );
        assert!(
            pulse("90 lib", &PulseContext { kind: Kind::Dimmer, ..named }).unwrap_err().ends_with("write %")
        );
    }

    #[test]
    fn no_scale_can_be_called_what_is_understood_as_a_unit() {
        let units = FORMS.iter().filter(|(form, _)| *form != "90 lib");
        for (form, _) in units {
            let Said { unit, .. } = read(form).unwrap();
            assert!(unit == "%" || wasvolta_core::rig::UNITS.contains(&unit.as_str()), "{form}");
        }
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
