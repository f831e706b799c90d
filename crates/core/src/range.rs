//! The one table of ranges: what a number in a rig, on the command line or in an entry may be.
//!
//! It makes the check and the message; documentation and test generators read the same rows.

use thiserror::Error;

/// One row: a quantity's name, what it is in words with its unit, and its least and greatest value.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Range {
    /// A short name, as messages begin with it.
    pub name: &'static str,
    /// How the unit is written.
    pub unit: &'static str,
    /// The least allowed value.
    pub least: f64,
    /// The greatest allowed value.
    pub greatest: f64,
}

/// A number outside its row.
#[derive(Debug, Clone, PartialEq, Error)]
#[error("{name} is {value}{behind}, outside {least} to {greatest}{behind}", behind = spaced(unit))]
pub struct OutOfRange {
    name: &'static str,
    unit: &'static str,
    value: f64,
    least: f64,
    greatest: f64,
}

/// A unit as it stands behind a number; quantities without one have nothing there.
fn spaced(unit: &str) -> String {
    if unit.is_empty() { String::new() } else { format!(" {unit}") }
}

impl Range {
    const fn new(name: &'static str, unit: &'static str, least: f64, greatest: f64) -> Self {
        Self { name, unit, least, greatest }
    }

    /// Whether `value` is finite and within the row, both ends included.
    pub fn holds(&self, value: f64) -> bool {
        (self.least..=self.greatest).contains(&value)
    }

    /// # Errors
    /// Says what the range is when `value` lies outside it or is not a number.
    pub fn check(&self, value: f64) -> Result<(), OutOfRange> {
        if self.holds(value) {
            return Ok(());
        }
        Err(OutOfRange {
            name: self.name,
            unit: self.unit,
            value,
            least: self.least,
            greatest: self.greatest,
        })
    }
}

/// A pulse that any servo could be asked for.
pub const PULSE: Range = Range::new("pulse", "µs", 300.0, 2900.0);
/// Frames a second.
pub const FRAME_RATE: Range = Range::new("frame rate", "Hz", 40.0, 400.0);
/// An angle of a joint.
pub const ANGLE: Range = Range::new("angle", "°", -3600.0, 3600.0);
/// A level of what has no angle: a lamp's light.
pub const LEVEL: Range = Range::new("level", "%", 0.0, 100.0);
/// A level of a continuous servo.
pub const RATE_LEVEL: Range = Range::new("rate", "%", -100.0, 100.0);
/// How long a speed controller must see its neutral before it follows.
pub const ARMING: Range = Range::new("arming time", "s", 0.1, 60.0);
/// A time in a sequence.
pub const TIME: Range = Range::new("time", "s", 0.0, 86_400.0);
/// How hard a joint speeds up.
pub const ACCELERATION: Range = Range::new("acceleration", "°/s²", 1.0, 1_000_000.0);
/// A tempo of a sequence.
pub const TEMPO: Range = Range::new("tempo", "%", 10.0, 400.0);
/// A whole number that a sequence is given.
pub const PARAMETER: Range = Range::new("parameter", "", 0.0, 1000.0);
/// How often a loop is played.
pub const ROUNDS: Range = Range::new("times", "", 0.0, 100_000.0);
/// The most that a layer adds to an angle.
pub const ADDED: Range = Range::new("at most", "°", 0.1, 90.0);
/// What a value is compared with: a shaped one, or degrees.
pub const THRESHOLD: Range = Range::new("threshold", "", -3600.0, 3600.0);
/// How far from where it is told to be a joint has arrived.
pub const ARRIVAL: Range = Range::new("arrival", "°", 0.1, 45.0);
/// A speed of a joint.
pub const SPEED: Range = Range::new("speed", "°/s", 0.1, 10_000.0);
/// How fast a mapping turns a joint; backwards is negative.
pub const TURN_RATE: Range = Range::new("rate", "°/s", -10_000.0, 10_000.0);
/// A share of an input in what a mapping makes of several.
pub const WEIGHT: Range = Range::new("weight", "", -10.0, 10.0);
/// A position of a switch, counted from 1.
pub const POSITION: Range = Range::new("position", "", 1.0, 8.0);
/// A data sheet's seconds for 60°: the same speeds, turned over.
pub const RATED_SPEED: Range = Range::new("rated speed", "s/60°", 0.006, 600.0);
/// An oscillator of a PWM chip.
pub const OSCILLATOR: Range = Range::new("oscillator", "Hz", 1.0e6, 50.0e6);
/// A 7-bit address that an expander can have.
pub const ADDRESS: Range = Range::new("address", "", 64.0, 127.0);
/// A channel of a sixteen-channel board.
pub const CHANNEL: Range = Range::new("channel", "", 0.0, 15.0);
/// Bits a second of an I²C bus that expanders can follow.
pub const BUS_RATE: Range = Range::new("bus rate", "Hz", 10_000.0, 1_000_000.0);
/// A serial rate.
pub const BAUD: Range = Range::new("baud", "Bd", 50.0, 4_000_000.0);
/// A trim, in the shaped signal's own unit.
pub const TRIM: Range = Range::new("trim", "", -1.0, 1.0);
/// A deadband, in the shaped signal's own unit.
pub const DEADBAND: Range = Range::new("deadband", "", 0.0, 0.99);
/// How much of a cubic the curve has: 0 is straight, negative is steeper around rest.
pub const EXPO: Range = Range::new("expo", "", -0.5, 1.0);
/// A smoothing time constant.
pub const SMOOTHING: Range = Range::new("smoothing", "ms", 0.0, 10_000.0);
/// A rate limit of a shaped signal.
pub const RATE: Range = Range::new("rate", "/s", 0.01, 1000.0);
/// How long the contacts of a switch may bounce.
pub const DEBOUNCE: Range = Range::new("debounce", "ms", 0.0, 1000.0);
/// How long a link may be silent.
pub const LOST_AFTER: Range = Range::new("lost after", "ms", 50.0, 60_000.0);
/// How long a link that speaks when something changes may be silent.
pub const HEARTBEAT: Range = Range::new("heartbeat", "s", 0.1, 3600.0);
/// The time of one round of a wave.
pub const PERIOD: Range = Range::new("period", "s", 0.02, 3600.0);
/// What makes noise the same again.
pub const SEED: Range = Range::new("seed", "", 0.0, 999_999.0);
/// A raw reading.
pub const RAW: Range = Range::new("raw value", "", -1.0e9, 1.0e9);
/// A travel that a data sheet claims.
pub const TRAVEL: Range = Range::new("travel", "°", 1.0, 3600.0);
/// The level of a signal.
pub const SIGNAL_VOLTS: Range = Range::new("signal level", "V", 0.5, 60.0);
/// Volts of a supply.
pub const SUPPLY_VOLTS: Range = Range::new("supply", "V", 1.0, 60.0);
/// Amperes of a supply or a servo.
pub const CURRENT: Range = Range::new("current", "A", 0.0, 1000.0);
/// A joint's share of a step's move time.
pub const MOVE_SHARE: Range = Range::new("share of the move", "", 0.01, 1.0);
/// The same in percent.
pub const MOVE_PERCENT: Range = Range::new("share of the move", "%", 1.0, 100.0);
/// A horn, from its spline to its tip.
pub const HORN: Range = Range::new("horn", "mm", 5.0, 500.0);
/// The hole that a protractor has for a spline.
pub const HOLE: Range = Range::new("spline hole", "mm", 1.0, 40.0);

/// A count of ticks.
pub const COUNT: Range = Range::new("ticks", "", 0.0, 65_535.0);
/// How long an adapter sits on bytes.
pub const ADAPTER: Range = Range::new("adapter's wait", "ms", 0.0, 100.0);
/// A place of a smart servo.
pub const STEPS: Range = Range::new("counts", "", 0.0, 65_535.0);
/// An address of a smart servo's register.
pub const REGISTER: Range = Range::new("register", "", 0.0, 65_535.0);
/// Bytes of a register.
pub const REGISTER_BYTES: Range = Range::new("bytes of a register", "", 1.0, 4.0);
/// The bit of a register that is its sign.
pub const SIGN_BIT: Range = Range::new("sign bit", "", 1.0, 31.0);
/// What one step of a register is worth.
pub const EACH: Range = Range::new("a register's step", "", 1.0e-6, 1.0e6);
/// What a register may hold.
pub const REGISTER_VALUE: Range = Range::new("register's value", "", 0.0, 1.0e6);
/// A number in a byte.
pub const BYTE: Range = Range::new("number", "", 0.0, 255.0);
/// The form of packets.
pub const FORM: Range = Range::new("form", "", 1.0, 2.0);
/// How many places a smart servo has.
pub const PLACES: Range = Range::new("places", "", 16.0, 65_536.0);
/// The angle over all of them.
pub const SPAN: Range = Range::new("span", "°", 1.0, 360.0);
/// What a smart servo says it is.
pub const MODEL: Range = Range::new("model number", "", 0.0, 65_535.0);
/// The length of a tick, in µs.
pub const TICK: Range = Range::new("tick", "µs", 0.01, 100.0);
/// How far a reading of an angle may be off.
pub const READING: Range = Range::new("reading error", "°", 0.01, 45.0);
/// How often a mark was read the same.
pub const READ: Range = Range::new("times read", "", 1.0, 250.0);
/// Degrees of a joint for a degree of its servo.
pub const RATIO: Range = Range::new("ratio", "", -100.0, 100.0);
/// A length in a mechanism.
pub const LENGTH: Range = Range::new("length", "mm", 1.0, 5000.0);
/// Teeth of a spline.
pub const TEETH: Range = Range::new("teeth", "", 8.0, 60.0);
/// Turns a minute.
pub const RPM: Range = Range::new("rate", "rpm", -10_000.0, 10_000.0);
/// How long a servo may stand idle before it is released.
pub const IDLE: Range = Range::new("idle time", "s", 5.0, 86_400.0);
/// A number that other code uses for a pulse.
pub const SCALE_VALUE: Range = Range::new("scale's value", "", -1.0e6, 1.0e6);
/// The counts that a frame has.
pub const FRAME_STEPS: Range = Range::new("steps of a frame", "", 2.0, 1_048_576.0);
/// How often an exercise goes there and back.
pub const TIMES: Range = Range::new("times", "", 1.0, 100_000.0);

/// The time between two beats.
pub const BEAT: Range = Range::new("beat", "s", 0.001, 1.0);
/// Degrees that a real servo turns for 100 µs.
pub const GAIN: Range = Range::new("gain", "°/100 µs", -1000.0, 1000.0);
/// How small a change of its pulse a real servo does not follow.
pub const DEAD_PULSE: Range = Range::new("deadband", "µs", 0.0, 1000.0);
/// A pulse that a real servo may see, whatever sends it.
pub const WIDE_PULSE: Range = Range::new("pulse", "µs", 0.0, 25_000.0);
/// A share of a whole.
pub const SHARE: Range = Range::new("share", "", 0.0, 1.0);
/// Counts of a pulse-width chip's counter.
pub const TICKS_12: Range = Range::new("ticks", "", 0.0, 4095.0);

/// All rows, for the documentation and for tests that walk them.
pub const ALL: &[Range] = &[
    PULSE,
    FRAME_RATE,
    ANGLE,
    LEVEL,
    RATE_LEVEL,
    ARMING,
    TIME,
    ACCELERATION,
    TEMPO,
    PARAMETER,
    ROUNDS,
    ADDED,
    THRESHOLD,
    ARRIVAL,
    SPEED,
    TURN_RATE,
    WEIGHT,
    POSITION,
    RATED_SPEED,
    OSCILLATOR,
    ADDRESS,
    CHANNEL,
    BUS_RATE,
    BAUD,
    TRIM,
    DEADBAND,
    EXPO,
    SMOOTHING,
    RATE,
    DEBOUNCE,
    LOST_AFTER,
    HEARTBEAT,
    PERIOD,
    SEED,
    RAW,
    TRAVEL,
    SIGNAL_VOLTS,
    SUPPLY_VOLTS,
    CURRENT,
    MOVE_SHARE,
    MOVE_PERCENT,
    HORN,
    HOLE,
    COUNT,
    TICK,
    READING,
    READ,
    RATIO,
    LENGTH,
    TEETH,
    RPM,
    IDLE,
    SCALE_VALUE,
    FRAME_STEPS,
    TIMES,
    BEAT,
    GAIN,
    DEAD_PULSE,
    WIDE_PULSE,
    SHARE,
    TICKS_12,
];

/// The longest name, in characters.
pub const NAME_LENGTH: usize = 40;
/// The longest notes, in characters.
pub const NOTES_LENGTH: usize = 400;

/// The longest path or word that something outside is called by, in characters.
pub const PATH_LENGTH: usize = 400;

/// Why a name is not one.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("a name is 1 to {NAME_LENGTH} letters, digits, - and _, with one dot at most, not {0:?}")]
pub struct BadName(pub String);

/// # Errors
/// When `name` is empty, too long, or holds anything but letters, digits, `-`, `_` and one dot.
pub fn check_name(name: &str) -> Result<(), BadName> {
    let length = name.chars().count();
    let plain = name.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_' | '.'));
    let dots = name.chars().filter(|&c| c == '.').count();
    let inner_dot = !name.starts_with('.') && !name.ends_with('.');
    if (1..=NAME_LENGTH).contains(&length) && plain && dots <= 1 && inner_dot {
        Ok(())
    } else {
        Err(BadName(name.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_row_takes_its_own_ends_and_nothing_beyond() {
        for row in ALL {
            let step = (row.greatest - row.least) * 1e-6;
            assert!(row.check(row.least).is_ok() && row.check(row.greatest).is_ok(), "{}", row.name);
            assert!(row.check(row.least - step).is_err(), "{} below", row.name);
            assert!(row.check(row.greatest + step).is_err(), "{} above", row.name);
            assert!(row.check(f64::NAN).is_err(), "{} not a number", row.name);
        }
    }

    #[test]
    fn the_design_ranges_stand_in_the_table() {
        assert_eq!((PULSE.least, PULSE.greatest), (300.0, 2900.0));
        assert_eq!((FRAME_RATE.least, FRAME_RATE.greatest), (40.0, 400.0));
        assert_eq!((ANGLE.least, ANGLE.greatest), (-3600.0, 3600.0));
        assert_eq!((TIME.least, TIME.greatest), (0.0, 86_400.0));
        assert_eq!((SPEED.least, SPEED.greatest), (0.1, 10_000.0));
        assert_eq!((NAME_LENGTH, NOTES_LENGTH), (40, 400));
    }

    #[test]
    fn a_message_says_what_is_allowed() {
        let message = PULSE.check(2930.0).unwrap_err().to_string();
        assert_eq!(message, "pulse is 2930 µs, outside 300 to 2900 µs");
        assert_eq!(DEADBAND.check(2.0).unwrap_err().to_string(), "deadband is 2, outside 0 to 0.99");
    }

    #[test]
    fn names_have_one_dot_at_most() {
        assert!(check_name("heron.neck").is_ok());
        assert!(check_name("wing-left_2").is_ok());
        for bad in ["", "a.b.c", "two words", ".x", "x.", "a/b"] {
            assert!(check_name(bad).is_err(), "{bad:?}");
        }
        assert!(check_name(&"n".repeat(41)).is_err());
    }
}
