//! Where the registers of a kind of smart servo stand, what they hold and in which steps: data, as TOML. Three ship; a
//! rig brings others as `[[layout]]`, which is what a `*.layout.toml` of its own holds too.

use super::bounds::{self, Named};
use super::file::{self, Unfit};
use super::number::{self, numbers};
use super::{Ends, LayoutId, Rig};
use crate::unit::{Counts, Degrees, DegreesPerSecond, Position};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::sync::LazyLock;

/// A register: its address, its size, and the worth of one step.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Register>)]
pub struct Register {
    /// The address of its first byte.
    pub at: u16,
    /// Its size in bytes: 1, 2 or 4.
    pub bytes: u8,
    /// It is signed, as two's complement.
    #[serde(default, skip_serializing_if = "super::is_false")]
    pub signed: bool,
    /// The bit that holds its sign, counted from 0.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sign_bit: Option<u8>,
    /// One step of a speed, in rpm.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub each_rpm: Option<f64>,
    /// One step of a speed, in positions a second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub each_counts_s: Option<f64>,
    /// One step of a load, in percent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub each_percent: Option<f64>,
    /// One step of a voltage, in volts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub each_volts: Option<f64>,
    /// One step of a time, in µs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub each_us: Option<f64>,
    /// The largest number that may be written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub greatest: Option<u32>,
    /// The value that it must have for this program to drive the servo; of a move time, the value that is written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub is: Option<u32>,
}

numbers! {
    Register {
        at: REGISTER, bytes: REGISTER_BYTES, sign_bit: SIGN_BIT, each_rpm: EACH, each_counts_s: EACH,
        each_percent: EACH, each_volts: EACH, each_us: EACH, greatest: REGISTER_VALUE, is: REGISTER_VALUE,
    }
}

/// The registers that are used, by what they hold.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Registers {
    /// Its model number.
    pub model: Register,
    /// The id of the servo on its bus.
    pub id: Register,
    /// The number of its baud rate.
    pub baud: Register,
    /// 1 while it drives, 0 while it is limp.
    pub drive: Register,
    /// Its target position.
    pub target: Register,
    /// The speed of its moves.
    pub speed: Register,
    /// Its present position.
    pub position: Register,
    /// The move time, between target and speed; written as `is`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<Register>,
    /// Its present speed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed_now: Option<Register>,
    /// Its present load.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load: Option<Register>,
    /// Its supply voltage.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub volts: Option<Register>,
    /// Its temperature, in °C.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub celsius: Option<Register>,
    /// Whether it is moving.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub moving: Option<Register>,
    /// Its faults, one bit each, where its answers do not carry them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub faults: Option<Register>,
    /// Its torque limit; 0 is limp.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub torque_limit: Option<Register>,
    /// Its own position limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit_low: Option<Register>,
    /// Its own position limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit_high: Option<Register>,
    /// Its mode: position or speed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<Register>,
    /// Its delay before an answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub return_delay: Option<Register>,
    /// Which instructions it answers; 2 means all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answers: Option<Register>,
    /// 0 allows writing to memory, 1 locks it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lock: Option<Register>,
}

/// A baud rate, and its number in the register.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<BaudNumber>)]
pub struct BaudNumber {
    /// The number in the register.
    pub number: u8,
    /// The rate, in bits a second.
    pub baud: u32,
}

numbers! { BaudNumber { number: BYTE, baud: BAUD } }

/// What a bit of a fault means.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Ail {
    /// The bit has no meaning that is known.
    #[serde(rename = "")]
    Nothing,
    /// Its supply is out of range.
    Supply,
    /// It is too hot.
    Hot,
    /// It pushes harder, or for longer, than it may.
    Overload,
    /// It draws too much.
    Current,
    /// Its sensor is wrong.
    Sensor,
    /// It felt an electrical shock.
    Shock,
    /// It was told a place beyond its own limits.
    Limit,
    /// It was told a value that cannot be.
    Range,
    /// A sum was wrong.
    Sum,
    /// It was told something that it does not know.
    Instruction,
}

impl Ail {
    /// A word, and a sentence.
    pub const fn words(self) -> (&'static str, &'static str) {
        match self {
            Self::Nothing => ("fault", "it has a fault that its layout does not name"),
            Self::Supply => ("supply", "its supply is out of its range"),
            Self::Hot => ("hot", "it is too hot"),
            Self::Overload => ("overload", "it is overloaded"),
            Self::Current => ("current", "it draws too much"),
            Self::Sensor => ("sensor", "its sensor is faulty"),
            Self::Shock => ("shock", "it felt an electrical shock"),
            Self::Limit => ("limit", "it got a target beyond its own limits"),
            Self::Range => ("range", "it got a value that is out of range"),
            Self::Sum => ("sum", "a packet had a wrong checksum"),
            Self::Instruction => ("told", "it got an instruction that it does not know"),
        }
    }

    /// What is wrong with the servo itself, and not with what it was told.
    pub const fn is_lasting(self) -> bool {
        !matches!(self, Self::Limit | Self::Range | Self::Sum | Self::Instruction)
    }
}

/// See the module.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Layout>)]
pub struct Layout {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: LayoutId,
    /// Its name, which other parts refer to.
    #[schemars(transform = Named)]
    pub name: String,
    /// The packet form, 1 or 2.
    pub form: u8,
    /// How many positions it has, counted from 0.
    pub steps: u32,
    /// The angle that all its steps cover; a ring covers a whole turn.
    pub span_deg: Degrees,
    /// Its positions form a ring: the first follows the last.
    #[serde(default, skip_serializing_if = "super::is_false")]
    pub ring: bool,
    /// Its registers have the high byte first.
    #[serde(default, skip_serializing_if = "super::is_false")]
    pub high_byte_first: bool,
    /// The model numbers that it fits. Any by default.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub models: Vec<u16>,
    /// The first and last register of the range that is kept in memory without supply.
    pub kept: Ends<u16>,
    /// The baud rates that its register can hold.
    #[schemars(length(min = 1))]
    pub bauds: Vec<BaudNumber>,
    /// The meaning of each fault bit, from bit 0; empty for a bit without one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schemars(transform = bounds::faults)]
    pub faults: Vec<Ail>,
    /// The address of each register.
    pub registers: Registers,
}

numbers! {
    Layout {
        form: FORM, steps: PLACES, span_deg: SPAN, models: MODEL, kept: REGISTER,
    }
}

const SHIPPED_TEXTS: [&str; 3] = [
    include_str!("../../layouts/ten-bit.layout.toml"),
    include_str!("../../layouts/twelve-bit.layout.toml"),
    include_str!("../../layouts/twelve-bit-compact.layout.toml"),
];

static SHIPPED: LazyLock<Vec<Layout>> =
    LazyLock::new(|| SHIPPED_TEXTS.iter().filter_map(|text| Layout::load(text).ok()).collect());

impl Layout {
    /// What the bits of a fault mean, the worst for the servo itself first.
    pub fn ails(&self, bits: u8) -> impl Iterator<Item = Ail> + '_ {
        let all = (0..8u8)
            .filter(move |bit| bits >> bit & 1 == 1)
            .map(|bit| self.faults.get(usize::from(bit)).copied().unwrap_or(Ail::Nothing));
        let mut all: Vec<Ail> = all.collect();
        all.sort_by_key(|ail| (!ail.is_lasting(), *ail == Ail::Nothing, *ail == Ail::Supply));
        all.into_iter()
    }

    /// Those that ship.
    pub fn shipped() -> &'static [Self] {
        &SHIPPED
    }

    /// Reads one from the text of a `*.layout.toml`, and checks it.
    ///
    /// # Errors
    /// When it is none, or something in it cannot be.
    pub fn load(text: &str) -> Result<Self, Unfit> {
        let reading = file::read::<Self>(text)?;
        let found = super::check::problems_of_layout(&reading.values);
        if found.is_empty() {
            return Ok(reading.values);
        }
        Err(Unfit::Problems(found.into_iter().map(|problem| reading.locate(problem)).collect()))
    }

    /// The layout of a name: a rig's own, or one that ships.
    pub fn named<'r>(rig: &'r Rig, name: &str) -> Option<&'r Self> {
        rig.layouts.iter().chain(Self::shipped()).find(|layout| layout.name == name)
    }

    /// The last place.
    pub const fn last(&self) -> u32 {
        self.steps.saturating_sub(1)
    }

    /// Places that a degree of its shaft is. A span has one place less between its ends than it has places, a ring has not.
    pub fn counts_a_degree(&self) -> f64 {
        let steps = if self.ring { self.steps } else { self.last() };
        f64::from(steps) / self.span_deg.get()
    }

    /// The angle of a place, from that of place 0.
    pub fn angle_of(&self, at: Position) -> Degrees {
        Degrees::new(at.get() / self.counts_a_degree())
    }

    /// The place in the middle.
    pub fn middle(&self) -> Position {
        Position::new(if self.ring { f64::from(self.steps) } else { f64::from(self.last()) } / 2.0)
    }

    /// What a new servo may do before anybody has said more: 45° to either side of its middle.
    pub fn cautious(&self) -> Ends<Counts> {
        let way = self.counts_a_degree() * 45.0;
        let at = |off: f64| Counts::new(libm::round(self.middle().get() + off));
        Ends { low: at(-way), high: at(way) }
    }

    /// Places a second that one step of a speed register is.
    pub fn counts_s(&self, register: &Register) -> Option<f64> {
        let by_rpm = |rpm: f64| rpm * 6.0 * self.counts_a_degree();
        register.each_counts_s.or(register.each_rpm.map(by_rpm))
    }

    /// The greatest speed that it can be told, in degrees a second of its shaft.
    pub fn most_speed(&self) -> Option<DegreesPerSecond> {
        let speed = &self.registers.speed;
        Some(DegreesPerSecond::new(
            f64::from(speed.greatest?) * self.counts_s(speed)? / self.counts_a_degree(),
        ))
    }

    /// The number by which its baud register knows a rate, if it does.
    pub fn number_of_baud(&self, baud: u32) -> Option<u8> {
        // Some rates are called otherwise than they are, by up to 3 %.
        let off = |row: &BaudNumber| row.baud.abs_diff(baud);
        let near = self.bauds.iter().filter(|row| off(row) <= baud / 33);
        near.min_by_key(|row| off(row)).map(|row| row.number)
    }

    /// Whether a register is kept in memory.
    pub const fn keeps(&self, address: u16) -> bool {
        self.kept.low <= address && address <= self.kept.high
    }

    /// All of its registers, each with its key.
    pub fn each_register(&self) -> impl Iterator<Item = (&'static str, &Register)> {
        let r = &self.registers;
        let must = [
            ("model", &r.model),
            ("id", &r.id),
            ("baud", &r.baud),
            ("drive", &r.drive),
            ("target", &r.target),
            ("speed", &r.speed),
            ("position", &r.position),
        ];
        let may = [
            ("time", &r.time),
            ("speed_now", &r.speed_now),
            ("load", &r.load),
            ("volts", &r.volts),
            ("celsius", &r.celsius),
            ("moving", &r.moving),
            ("faults", &r.faults),
            ("torque_limit", &r.torque_limit),
            ("limit_low", &r.limit_low),
            ("limit_high", &r.limit_high),
            ("mode", &r.mode),
            ("return_delay", &r.return_delay),
            ("answers", &r.answers),
            ("lock", &r.lock),
        ];
        must.into_iter().chain(may.into_iter().filter_map(|(key, register)| Some((key, register.as_ref()?))))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn layout(name: &str) -> &'static Layout {
        Layout::shipped().iter().find(|layout| layout.name == name).unwrap()
    }

    #[test]
    fn those_that_ship_are_sound_and_place_their_angles_as_described() {
        assert_eq!(Layout::shipped().len(), SHIPPED_TEXTS.len(), "each reads and is sound");
        let angle = |name: &str, at: f64| layout(name).angle_of(Position::new(at)).get();
        assert!((angle("ten-bit", 705.0) - 206.745).abs() < 5e-4);
        assert!((angle("twelve-bit", 3010.0) - 264.551).abs() < 5e-4);
        assert!((angle("twelve-bit-compact", 3010.0) - 264.551).abs() < 5e-4);
        assert_eq!(layout("ten-bit").middle(), Position::new(511.5));
        assert_eq!(layout("twelve-bit").middle(), Position::new(2048.0));
        assert_eq!(
            layout("twelve-bit").cautious(),
            Ends { low: Counts::new(1536.0), high: Counts::new(2560.0) }
        );
    }

    #[test]
    fn rates_are_found_under_the_name_that_they_go_by() {
        assert_eq!(layout("ten-bit").number_of_baud(115_200), Some(16), "really 117647");
        assert_eq!(layout("ten-bit").number_of_baud(1_000_000), Some(1));
        assert_eq!(layout("ten-bit").number_of_baud(57_600), Some(34));
        let two =
            [9600, 57_600, 115_200, 1_000_000, 2_000_000].map(|b| layout("twelve-bit").number_of_baud(b));
        assert_eq!(two, [0, 1, 2, 3, 4].map(Some));
        let compact = [1_000_000, 500_000, 250_000, 128_000, 115_200];
        assert_eq!(
            compact.map(|b| layout("twelve-bit-compact").number_of_baud(b)),
            [0, 1, 2, 3, 4].map(Some)
        );
        assert_eq!(layout("twelve-bit").number_of_baud(300), None);
    }

    #[test]
    fn a_step_of_speed_is_what_the_description_says() {
        let one = |name: &str| layout(name).counts_s(&layout(name).registers.speed).unwrap();
        // 0.111 rpm are 0.666 °/s; 1023 places stand for 300°.
        assert!((one("ten-bit") - 0.666 * 3.41).abs() < 1e-9);
        assert!((one("twelve-bit") - 0.229 * 6.0 * 4096.0 / 360.0).abs() < 1e-9);
        assert!((one("twelve-bit-compact") - 1.0).abs() < 1e-12);
    }

    #[test]
    fn the_registers_stand_where_the_description_has_them() {
        type Row = (&'static str, u16, u8);
        let rows: [(&str, [Row; 16]); 3] = [
            (
                "ten-bit",
                [
                    ("id", 3, 1),
                    ("baud", 4, 1),
                    ("drive", 24, 1),
                    ("target", 30, 2),
                    ("speed", 32, 2),
                    ("position", 36, 2),
                    ("speed_now", 38, 2),
                    ("load", 40, 2),
                    ("volts", 42, 1),
                    ("celsius", 43, 1),
                    ("moving", 46, 1),
                    ("model", 0, 2),
                    ("torque_limit", 34, 2),
                    ("limit_low", 6, 2),
                    ("limit_high", 8, 2),
                    ("return_delay", 5, 1),
                ],
            ),
            (
                "twelve-bit",
                [
                    ("id", 7, 1),
                    ("baud", 8, 1),
                    ("drive", 64, 1),
                    ("target", 116, 4),
                    ("speed", 112, 4),
                    ("position", 132, 4),
                    ("speed_now", 128, 4),
                    ("load", 126, 2),
                    ("volts", 144, 2),
                    ("celsius", 146, 1),
                    ("moving", 122, 1),
                    ("model", 0, 2),
                    ("torque_limit", 100, 2),
                    ("limit_low", 52, 4),
                    ("limit_high", 48, 4),
                    ("return_delay", 9, 1),
                ],
            ),
            (
                "twelve-bit-compact",
                [
                    ("id", 5, 1),
                    ("baud", 6, 1),
                    ("drive", 40, 1),
                    ("target", 42, 2),
                    ("speed", 46, 2),
                    ("position", 56, 2),
                    ("speed_now", 58, 2),
                    ("load", 60, 2),
                    ("volts", 62, 1),
                    ("celsius", 63, 1),
                    ("moving", 66, 1),
                    ("model", 3, 2),
                    ("torque_limit", 48, 2),
                    ("limit_low", 9, 2),
                    ("limit_high", 11, 2),
                    ("return_delay", 7, 1),
                ],
            ),
        ];
        for (name, registers) in rows {
            for (key, at, bytes) in registers {
                let (_, found) = layout(name).each_register().find(|(k, _)| *k == key).unwrap();
                assert_eq!((found.at, found.bytes), (at, bytes), "{name} {key}");
            }
        }
        let answers = |name: &str| layout(name).registers.answers.as_ref().unwrap().at;
        assert_eq!(["ten-bit", "twelve-bit", "twelve-bit-compact"].map(answers), [16, 68, 8]);
        let kept = |name: &str| (layout(name).kept.low, layout(name).kept.high);
        assert_eq!(["ten-bit", "twelve-bit", "twelve-bit-compact"].map(kept), [(0, 23), (0, 63), (0, 39)]);
        let signs = |name: &str, key: &str| {
            let (_, found) = layout(name).each_register().find(|(k, _)| *k == key).unwrap();
            (found.signed, found.sign_bit)
        };
        assert_eq!([signs("ten-bit", "speed_now"), signs("ten-bit", "load")], [(false, Some(10)); 2]);
        assert_eq!([signs("twelve-bit", "position"), signs("twelve-bit", "load")], [(true, None); 2]);
        let compact = ["position", "speed_now", "load"].map(|key| signs("twelve-bit-compact", key).1);
        assert_eq!(compact, [Some(15), Some(15), Some(10)]);
        let lock = layout("twelve-bit-compact").registers.lock.as_ref().unwrap();
        assert_eq!(lock.at, 55);
        assert_eq!(layout("twelve-bit").registers.faults.as_ref().unwrap().at, 70);
        let mode = |name: &str| layout(name).registers.mode.as_ref().map(|mode| mode.at);
        assert_eq!([mode("twelve-bit"), mode("twelve-bit-compact")], [Some(11), Some(33)]);
    }
}
