//! Servos and what else hangs on channels: what their sheets say, and what was seen of them.

use super::bounds::{self, Named, Noted, Worded};
use super::number::{self, known_of_a_servo, numbers};
use super::{Arming, Ends, Kind, ServoId, Side, is_false, is_usual, strict};
use crate::fit::{Fit, NoFit, Odd, RatedSlope, Seen, Shape, odd_one};
use crate::linkage::{FourBar, Gear, Transmission};
use crate::rate::{Band, NoRates, Rates, Turning};
use crate::scale::Sides;
use crate::unit::{
    Amps, Counts, Degrees, DegreesPerSecond, Hertz, Micros, Position, Rpm, Seconds, Ticks, Volts,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A servo on a channel, or whatever else hangs there.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::servo)]
#[schemars(transform = number::ranged::<Servo>)]
pub struct Servo {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: ServoId,
    /// Its name. The part before a dot is its group.
    #[schemars(transform = Named)]
    pub name: String,
    /// The name of its board.
    pub board: String,
    /// Its channel, 0–15; on a Firmata board its pin, 0–71. A smart servo has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(transform = bounds::channel)]
    pub channel: Option<u8>,
    /// The id of a smart servo on its bus, 0–253; with packets of form 2 up to 252.
    #[serde(default, rename = "id", skip_serializing_if = "Option::is_none")]
    #[schemars(transform = bounds::bus_id)]
    pub bus_id: Option<u8>,
    /// The model number that a smart servo reported when it was added. Nothing is written to a servo that reports another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<u16>,
    /// Its kind. A positional servo by default.
    #[serde(default, skip_serializing_if = "is_positional")]
    pub kind: Kind,
    /// The shortest and longest pulse that may ever be sent.
    #[serde(default = "Ends::cautious", skip_serializing_if = "is_cautious")]
    pub endpoints_us: Ends<Micros>,
    /// The endpoints of a smart servo, in counts; required there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub endpoints_counts: Option<Ends<Counts>>,
    /// Its centre pulse; of a continuous servo, its stop pulse.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub centre_us: Option<Micros>,
    /// The centre of a smart servo, in counts. The middle of its endpoints by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub centre_counts: Option<Counts>,
    /// The curve through its marks. A straight line by default.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub fit: Shape,
    /// The side from which it approaches every position, so that slack does not matter. Either side by default.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub arrive: Side,
    /// The number of teeth on its spline.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub teeth: Option<u8>,
    /// The lowest and highest supply voltage that it takes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub volts: Option<Ends<Volts>>,
    /// The lowest signal voltage that it follows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signal_volts: Option<Volts>,
    /// A gear or belt between it and its joint.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<Gear>,
    /// A four-bar linkage between it and its joint.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub linkage: Option<FourBar>,
    /// What a continuous servo gets when it should stand still. Its stop pulse by default.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub idle: Idle,
    /// The neutral pulse that a speed controller must see before it follows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub arming: Option<Arming>,
    /// The most current it draws, of an accessory or a continuous servo without rated data.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub draw_a: Option<Amps>,
    /// Its data sheet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rated: Option<Rated>,
    /// Its marks: pulses, each with the angle that was seen.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub marks: Vec<Mark>,
    /// How it was exercised, and what was seen.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub exercised: Vec<Exercised>,
    /// Notes, up to 400 characters.
    #[serde(default, deserialize_with = "strict::prose", skip_serializing_if = "String::is_empty")]
    #[schemars(transform = Noted)]
    pub notes: String,
}

known_of_a_servo!(Servo { draw_a: CURRENT, model: MODEL });

/// What a continuous servo is given when it is to stand still.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Idle {
    /// The pulse at which it stands.
    #[default]
    Pulse,
    /// It gets no pulse where it would stand still.
    Release,
}

/// An exercise of a servo.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Exercised>)]
pub struct Exercised {
    /// The day, as `2026-01-02`.
    #[schemars(transform = Worded)]
    pub on: String,
    /// The pulses between which it moved.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub over_us: Option<Ends<Micros>>,
    /// The range of a smart servo, in counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub over_counts: Option<Ends<Counts>>,
    /// How often it went back and forth.
    pub times: u32,
    /// What was seen, up to 400 characters.
    #[serde(default, deserialize_with = "strict::prose", skip_serializing_if = "String::is_empty")]
    #[schemars(transform = Noted)]
    pub seen: String,
}

numbers! { Exercised { over_us: PULSE, over_counts: STEPS, times: TIMES } }

/// The data sheet of a servo.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Rated>)]
pub struct Rated {
    /// The travel over those pulses or counts.
    pub travel_deg: Degrees,
    /// The pulses of that travel.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pulses_us: Option<Ends<Micros>>,
    /// The counts of that travel, of a smart servo.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub counts: Option<Ends<Counts>>,
    /// Longer pulses turn it towards smaller angles.
    #[serde(default, skip_serializing_if = "is_false")]
    pub reversed: bool,
    /// The time for 60°.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub s_per_60_deg: Option<Seconds>,
    /// The current while it stands still.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub idle_a: Option<Amps>,
    /// The current while it turns freely.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub moving_a: Option<Amps>,
    /// The current at a stall.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stall_a: Option<Amps>,
}

numbers! {
    Rated {
        travel_deg: TRAVEL, pulses_us: PULSE, counts: STEPS, s_per_60_deg: RATED_SPEED, idle_a: CURRENT, moving_a: CURRENT,
        stall_a: CURRENT,
    }
}

/// An observation: this pulse, this angle. Of a continuous servo: this pulse, this rate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Mark>)]
pub struct Mark {
    /// The pulse on the wire, in µs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pulse_us: Option<Micros>,
    /// The counts of a smart servo, in place of a pulse.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub counts: Option<Counts>,
    /// The angle seen, of an aligned mark.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub angle_deg: Option<Degrees>,
    /// Whether the angle is the servo's or the joint's. The servo's by default.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub at: ReadAt,
    /// The rate seen, of a continuous servo.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rpm: Option<Rpm>,
    /// What was observed. Aligned by default.
    #[serde(default, skip_serializing_if = "is_aligned")]
    pub seen: MarkKind,
    /// The side from which the pulse came. Unknown by default.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub from: Side,
    /// The uncertainty of the reading, ±.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error_deg: Option<Degrees>,
    /// How often the same angle was read. Read twice, it does not count as a misreading.
    #[serde(default = "once", skip_serializing_if = "is_once")]
    pub read: u8,
    /// The ticks on the wire.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ticks: Option<Ticks>,
    /// The oscillator frequency that those ticks were counted with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub oscillator_hz: Option<Hertz>,
    /// The length of one of those ticks, which was the finest step then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tick_us: Option<Micros>,
}

numbers! {
    Mark {
        pulse_us: PULSE, counts: STEPS, angle_deg: ANGLE, rpm: RPM, error_deg: READING = [Mark::USUAL_ERROR.get()], read: READ = [1.0], ticks: COUNT,
        oscillator_hz: OSCILLATOR, tick_us: TICK,
    }
}

impl Default for Mark {
    /// A mark of nothing, to be filled in.
    fn default() -> Self {
        Self {
            pulse_us: None,
            counts: None,
            angle_deg: None,
            at: ReadAt::default(),
            rpm: None,
            seen: MarkKind::default(),
            from: Side::default(),
            error_deg: None,
            read: once(),
            ticks: None,
            oscillator_hz: None,
            tick_us: None,
        }
    }
}

/// Where an angle was read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ReadAt {
    /// At the servo's horn.
    #[default]
    Servo,
    /// At what it turns, behind gear or linkage; of a steered pair, at its wheel.
    Joint,
}

/// How a mark was seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum MarkKind {
    /// Against an angle.
    #[default]
    Aligned,
    /// The horn starts to move here.
    Starts,
    /// The horn stops following here.
    Stops,
    /// The servo buzzes here.
    Buzzes,
    /// A continuous servo turned at a rate.
    Turns,
}

impl MarkKind {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Aligned => "aligned",
            Self::Starts => "starts",
            Self::Stops => "stops",
            Self::Buzzes => "buzzes",
            Self::Turns => "turns",
        }
    }
}

impl Rated {
    /// What no data sheet says anything of.
    pub const NOTHING: Self = Self {
        travel_deg: Degrees::ZERO,
        pulses_us: None,
        counts: None,
        reversed: false,
        s_per_60_deg: None,
        idle_a: None,
        moving_a: None,
        stall_a: None,
    };

    /// Where that travel begins and ends.
    pub fn over(&self) -> Ends<Position> {
        either(self.pulses_us, self.counts).unwrap_or_else(|| Ends::cautious().places())
    }

    /// The same travel over other places, of something of that kind.
    #[must_use]
    pub const fn with_over(self, kind: Kind, over: Ends<Position>) -> Self {
        let (pulses_us, counts) = split(kind, over);
        Self { pulses_us, counts, ..self }
    }

    /// The slope and middle that the sheet claims.
    pub fn slope(&self) -> RatedSlope {
        let Ends { low, high } = self.over();
        let sign = if self.reversed { -1.0 } else { 1.0 };
        RatedSlope { gain: sign * self.travel_deg.get() / (high - low).get(), middle: (low + high) * 0.5 }
    }
}

impl Ends<Micros> {
    /// Endpoints before any calibration.
    pub const fn cautious() -> Self {
        Self { low: Micros::new(1000.0), high: Micros::new(2000.0) }
    }

    /// The same as places.
    pub const fn places(self) -> Ends<Position> {
        Ends { low: self.low.place(), high: self.high.place() }
    }
}

impl Ends<Counts> {
    /// The same as places.
    pub const fn places(self) -> Ends<Position> {
        Ends { low: self.low.place(), high: self.high.place() }
    }
}

/// Where something begins and ends, written in the one unit or the other.
fn either(pulses: Option<Ends<Micros>>, counts: Option<Ends<Counts>>) -> Option<Ends<Position>> {
    counts.map(Ends::<Counts>::places).or(pulses.map(Ends::<Micros>::places))
}

/// The same the other way: written in the unit that a kind has.
const fn split(kind: Kind, over: Ends<Position>) -> (Option<Ends<Micros>>, Option<Ends<Counts>>) {
    if kind.is_smart() {
        (None, Some(Ends { low: over.low.counts(), high: over.high.counts() }))
    } else {
        (Some(Ends { low: over.low.micros(), high: over.high.micros() }), None)
    }
}

impl Exercised {
    /// Where it went.
    pub fn over(&self) -> Ends<Position> {
        either(self.over_us, self.over_counts).unwrap_or_else(|| Ends::cautious().places())
    }

    /// The same between other places, of something of that kind.
    #[must_use]
    pub const fn with_over(mut self, kind: Kind, over: Ends<Position>) -> Self {
        (self.over_us, self.over_counts) = split(kind, over);
        self
    }
}

impl Mark {
    /// A mark of that place, of something of that kind, with nothing else said yet.
    pub fn at(kind: Kind, place: Position) -> Self {
        Self::default().moved(kind, place)
    }

    /// The same at another place.
    #[must_use]
    pub const fn moved(mut self, kind: Kind, place: Position) -> Self {
        (self.pulse_us, self.counts) =
            if kind.is_smart() { (None, Some(place.counts())) } else { (Some(place.micros()), None) };
        self
    }

    /// Where it was seen.
    pub fn place(&self) -> Position {
        self.counts.map(Counts::place).or(self.pulse_us.map(Micros::place)).unwrap_or(Position::ZERO)
    }

    /// What it says of the servo's shaft, if it was aligned against an angle: what was read at the joint is taken back
    /// through what is between.
    pub fn aligned(&self, through: &Transmission) -> Option<Seen> {
        (self.seen == MarkKind::Aligned).then_some(())?;
        let (angle, error) = (self.angle_deg?, self.error_deg.unwrap_or(Self::USUAL_ERROR));
        let seen =
            |angle, error| Seen { pulse: self.place(), angle, error, from: self.from, sure: self.read > 1 };
        Some(match self.at {
            ReadAt::Servo => seen(angle, error),
            ReadAt::Joint => {
                let shaft = through.servo_at(angle);
                // Where the joint hardly turns a misreading means much; at most a quarter of a turn.
                let ratio = libm::fmax(libm::fabs(through.ratio_at(shaft)), error.get() / 90.0);
                seen(shaft, error * (1.0 / ratio))
            }
        })
    }

    /// How far a reading against a protractor may be off, by default.
    pub const USUAL_ERROR: Degrees = Degrees::new(1.0);

    /// How far its pulse may be off because it was counted in coarser ticks than `tick`, ±; none where it was not.
    pub fn carried_error(&self, tick: Micros) -> Option<Micros> {
        let then = self.tick_us?;
        (then.get() > tick.get() * 1.01).then(|| then * 0.5)
    }
}

impl Servo {
    /// A part on a channel of which nothing else is known.
    pub fn new(name: &str, (board, channel): (&str, u8), kind: Kind) -> Self {
        Self {
            id: ServoId::default(),
            name: name.to_owned(),
            board: board.to_owned(),
            channel: (!kind.is_smart()).then_some(channel),
            bus_id: kind.is_smart().then_some(channel),
            model: None,
            kind,
            endpoints_us: Ends::cautious(),
            endpoints_counts: None,
            centre_us: None,
            centre_counts: None,
            fit: Shape::default(),
            arrive: Side::default(),
            teeth: None,
            volts: None,
            signal_volts: None,
            gear: None,
            linkage: None,
            idle: Idle::default(),
            arming: None,
            draw_a: None,
            rated: None,
            marks: Vec::new(),
            exercised: Vec::new(),
            notes: String::new(),
        }
    }

    /// Its channel on its board; of a smart servo its id on its bus.
    pub fn plug(&self) -> u8 {
        self.bus_id.or(self.channel).unwrap_or_default()
    }

    /// Puts it on another channel, or under another id.
    pub const fn plug_into(&mut self, channel: u8) {
        (self.channel, self.bus_id) =
            if self.kind.is_smart() { (None, Some(channel)) } else { (Some(channel), None) };
    }

    /// Its endpoints, which hold whatever asks.
    pub fn ends(&self) -> Ends<Position> {
        either(Some(self.endpoints_us), self.endpoints_counts).unwrap_or_else(|| Ends::cautious().places())
    }

    /// Gives it other endpoints.
    pub fn set_ends(&mut self, ends: Ends<Position>) {
        let (pulses, counts) = split(self.kind, ends);
        self.endpoints_us = pulses.unwrap_or_else(Ends::cautious);
        self.endpoints_counts = counts;
    }

    /// The place that was said to be its centre, if one was.
    pub fn said_centre(&self) -> Option<Position> {
        self.centre_counts.map(Counts::place).or(self.centre_us.map(Micros::place))
    }

    /// Says which place is its centre.
    pub fn set_centre(&mut self, centre: Option<Position>) {
        let smart = self.kind.is_smart();
        self.centre_us = centre.filter(|_| !smart).map(Position::micros);
        self.centre_counts = centre.filter(|_| smart).map(Position::counts);
    }

    /// The fit through its aligned marks.
    ///
    /// # Errors
    /// When there are too few marks, or they do not turn.
    pub fn fit(&self) -> Result<Fit, NoFit> {
        let through = self.through();
        let seen: Vec<Seen> = self.marks.iter().filter_map(|mark| mark.aligned(&through)).collect();
        Fit::of(&seen, self.rated.as_ref().map(Rated::slope), self.fit)
    }

    /// The place among its marks of the one that the others do not agree with, with what they say.
    pub fn odd_mark(&self, fit: &Result<Fit, NoFit>) -> Option<(usize, Odd)> {
        let through = self.through();
        let odd = match fit {
            Ok(fit) => *fit.odd()?,
            Err(NoFit::TurnsBack(back)) => {
                let seen: Vec<Seen> = self.marks.iter().filter_map(|mark| mark.aligned(&through)).collect();
                // Of two that turn back one is odd; where the others do not tell which, the first.
                let of_the_two = |odd: &Odd| {
                    [back.low.pulse, back.high.pulse]
                        .iter()
                        .any(|p| (*p - odd.seen.pulse).abs() < Position::new(0.6))
                };
                let first = || {
                    let place =
                        seen.iter().position(|s| (s.pulse - back.low.pulse).abs() < Position::new(0.6))?;
                    let or_bends = false;
                    Some(Odd { place, seen: *seen.get(place)?, expected: back.high.angle, or_bends })
                };
                odd_one(&seen).filter(of_the_two).or_else(first)?
            }
            Err(_) => return None,
        };
        let mut aligned = self.marks.iter().enumerate().filter(|(_, mark)| mark.aligned(&through).is_some());
        Some((aligned.nth(odd.place)?.0, odd))
    }

    /// What is between its shaft and its joint. A linkage that cannot close was refused before.
    pub fn through(&self) -> Transmission {
        match (self.gear, self.linkage) {
            (_, Some(bars)) => Transmission::linked(bars).unwrap_or(Transmission::DIRECT),
            (Some(gear), None) => Transmission::geared(gear),
            (None, None) => Transmission::DIRECT,
        }
    }

    /// The band in which a continuous one stands still, where marks tell it.
    pub fn band(&self) -> Option<Band> {
        // A tick before it started it stood still: the edge lies between the two.
        let edge = |m: &Mark| {
            let half = (m.tick_us.unwrap_or(Micros::ZERO) * 0.5).place();
            let edge = if m.from == Side::Below { m.place() - half } else { m.place() + half };
            (edge, m.from)
        };
        Band::of(&self.marks.iter().filter(|m| m.seen == MarkKind::Starts).map(edge).collect::<Vec<_>>())
    }

    /// How fast a continuous one turns.
    ///
    /// # Errors
    /// When nothing was timed yet, its stop band is not known, or two rates contradict each other.
    pub fn rates(&self) -> Result<Rates, NoRates> {
        let turning = |m: &Mark| Some(Turning { pulse: m.place(), rate: m.rpm? });
        let seen: Vec<Turning> = self.marks.iter().filter_map(turning).collect();
        Rates::of(self.band().ok_or(NoRates::None)?, &seen)
    }

    /// The pulses of a continuous one's levels: its saturations where rates were seen, else its endpoints.
    pub fn sides(&self) -> Sides {
        let Ends { low, high } = self.ends();
        let stop = self.centre();
        let band = self.band().filter(|band| stop >= band.low && stop <= band.high);
        let still = band.map_or((stop, stop), |band| (band.low, band.high));
        let rates = self.rates().ok();
        let full = |longer: bool, end: Position, edge: Position| {
            let seen = rates.as_ref().and_then(|rates| rates.saturation(longer));
            let pulse = seen.unwrap_or(end).within(low, high);
            if (pulse > edge) == longer { pulse } else { end }
        };
        let (low, high) = (full(false, low, still.0), full(true, high, still.1));
        let seen = rates.map_or_else(Vec::new, |rates| rates.levels((low, high), still));
        Sides { low, zero: stop, high, still, seen }
    }

    /// Its centre, or 1500 µs; of a smart one the middle of its endpoints. Of a continuous one the pulse at which it stops:
    /// the middle of the band that marks tell,
    /// or else what was said, or else the pulse that arms it.
    pub fn centre(&self) -> Position {
        let neutral = self.arming.as_ref().and_then(|arming| arming.pulse_us.map(Micros::place));
        let band = self.kind.turns_on().then(|| self.band()).flatten().map(|band| band.middle());
        let usual = || {
            if self.kind.is_smart() {
                let Ends { low, high } = self.ends();
                (low + high) * 0.5
            } else {
                Position::new(1500.0)
            }
        };
        band.or(self.said_centre()).or(neutral).unwrap_or_else(usual)
    }

    /// The pulse that it must see before it follows, and for how long; none when it follows at once.
    pub fn arms(&self) -> Option<(Position, Seconds)> {
        let arming = self.arming.as_ref()?;
        Some((arming.pulse_us.map_or_else(|| self.centre(), Micros::place), arming.for_s))
    }

    /// The part of the name before the dot, or nothing.
    pub fn group(&self) -> &str {
        self.name.split_once('.').map_or("", |(group, _)| group)
    }

    /// The part of the name after the dot, or all of it.
    pub fn short_name(&self) -> &str {
        self.name.split_once('.').map_or(self.name.as_str(), |(_, short)| short)
    }

    /// The greatest speed the sheet gives, in degrees a second.
    pub fn rated_speed(&self) -> Option<DegreesPerSecond> {
        let seconds = self.rated.as_ref()?.s_per_60_deg?;
        Some(DegreesPerSecond::new(60.0 / seconds.get()))
    }
}

pub(super) fn is_cautious(ends: &Ends<Micros>) -> bool {
    *ends == Ends::cautious()
}

fn is_positional(kind: &Kind) -> bool {
    *kind == Kind::default()
}

const fn once() -> u8 {
    1
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "as the serializer asks")]
const fn is_once(times: &u8) -> bool {
    *times == once()
}

fn is_aligned(how: &MarkKind) -> bool {
    *how == MarkKind::Aligned
}
