//! A servo card: what was found out about one servo, apart from where it was plugged in. Its file ends in
//! `.servo.toml`.

use super::bounds::{self, Formats, Named, Noted, Worded};
use super::check::problems_of_card;
use super::edit::{Edited, Refused};
use super::file::{self, Unfit};
use super::number::{self, known_of_a_servo};
use super::{Ends, Exercised, Idle, Kind, Limit, Mark, Rated, ReadAt, Rig, Servo};
use crate::fit::{Shape, Side};
use crate::unit::{Counts, Degrees, Micros, Position, Volts};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The format of the cards that this program writes.
pub const FORMAT: u32 = <Card as file::format::Versioned>::NEWEST;

/// See the module.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::card)]
#[schemars(transform = number::ranged::<Card>)]
pub struct Card {
    /// The version of the format, 5 at present. What an older one lacks has its usual value.
    #[schemars(transform = Formats(FORMAT))]
    pub format: u32,
    /// What the servo was called.
    #[schemars(transform = Named)]
    pub name: String,
    /// The day it was put on the card, as `2026-01-02`.
    #[schemars(transform = Worded)]
    pub kept: String,
    /// What it is.
    #[serde(default, skip_serializing_if = "usual")]
    pub kind: Kind,
    /// Its endpoints, in µs: no pulse goes beyond them.
    #[serde(default = "Ends::cautious", skip_serializing_if = "super::servo::is_cautious")]
    pub endpoints_us: Ends<Micros>,
    /// The endpoints of a smart servo, in counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub endpoints_counts: Option<Ends<Counts>>,
    /// The pulse in its middle, in µs; of a continuous one, its stop.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub centre_us: Option<Micros>,
    /// The centre of a smart servo, in counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub centre_counts: Option<Counts>,
    /// What its marks are joined by.
    #[serde(default, skip_serializing_if = "usual")]
    pub fit: Shape,
    /// From which side it arrives.
    #[serde(default, skip_serializing_if = "usual")]
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
    /// What it is given to stand still, where it is continuous.
    #[serde(default, skip_serializing_if = "usual")]
    pub idle: Idle,
    /// What was written about it.
    #[serde(default, deserialize_with = "super::strict::prose", skip_serializing_if = "String::is_empty")]
    #[schemars(transform = Noted)]
    pub notes: String,
    /// Its data sheet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rated: Option<Rated>,
    /// The limits that its joint had, to be read: they belong to the mechanism and are not taken over.
    #[serde(default, rename = "limit", skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<Limit>,
    /// What was seen, as angles of its own shaft.
    #[serde(default, rename = "mark", skip_serializing_if = "Vec::is_empty")]
    pub marks: Vec<Mark>,
    /// How it was exercised.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub exercised: Vec<Exercised>,
}

known_of_a_servo!(Card {});

fn usual<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// A line of two cards side by side: what it is about, and how it is said.
type ComparedRow = (&'static str, fn(&Card) -> String);

/// What a card says of one thing, and what another one says of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// What it is about.
    pub what: &'static str,
    /// What the first says.
    pub one: String,
    /// What the second says.
    pub other: String,
}

impl Difference {
    /// Whether they say the same.
    pub fn agrees(&self) -> bool {
        self.one == self.other
    }
}

impl Card {
    /// The card of a servo, with the limits of the joint that it turns.
    pub fn of(rig: &Rig, servo: &Servo, kept: &str) -> Self {
        let through = servo.through();
        // Behind another linkage an angle of the joint would mean something else.
        let at_shaft = |mark: &Mark| match mark.at {
            ReadAt::Servo => mark.clone(),
            ReadAt::Joint => Mark {
                angle_deg: mark.angle_deg.map(|angle| through.servo_at(angle)),
                at: ReadAt::Servo,
                ..mark.clone()
            },
        };
        let limits = rig.joint_of(&servo.name).into_iter().flat_map(|j| [j.low.clone(), j.high.clone()]);
        Self {
            format: FORMAT,
            name: servo.name.clone(),
            kept: kept.to_owned(),
            kind: servo.kind,
            endpoints_us: servo.endpoints_us,
            endpoints_counts: servo.endpoints_counts,
            centre_us: servo.centre_us,
            centre_counts: servo.centre_counts,
            fit: servo.fit,
            arrive: servo.arrive,
            teeth: servo.teeth,
            volts: servo.volts,
            signal_volts: servo.signal_volts,
            idle: servo.idle,
            notes: servo.notes.clone(),
            rated: servo.rated.clone(),
            limits: limits.flatten().collect(),
            marks: servo.marks.iter().map(at_shaft).collect(),
            exercised: servo.exercised.clone(),
        }
    }

    /// Its text.
    ///
    /// # Errors
    /// When a number in it has no form in TOML.
    pub fn text(&self) -> Result<String, toml_edit::ser::Error> {
        toml_edit::ser::to_string_pretty(self)
    }

    /// Reads one, and checks it as a rig is checked.
    ///
    /// # Errors
    /// When it is no card, of a newer format, or something in it cannot be.
    pub fn load(text: &str) -> Result<Self, Unfit> {
        let reading = file::read::<Self>(text)?;
        let found = problems_of_card(&reading.values);
        if found.is_empty() {
            return Ok(reading.values);
        }
        Err(Unfit::Problems(found.into_iter().map(|problem| reading.locate(problem)).collect()))
    }

    /// Gives a servo of a rig what the card says: it is the one that was plugged in. Its name, its plug, its joint and
    /// what is between the two stay.
    ///
    /// # Errors
    /// When there is no such servo, the card is of another kind, or the rig would not be sound.
    pub fn put(&self, rig: &Rig, servo: &str) -> Edited {
        let unsound = |message: String, help: &str| Refused::Unsound { message, help: help.to_owned() };
        let found = rig.servo(servo).ok_or_else(|| super::edit::missing("servo", servo))?;
        if found.kind != self.kind {
            let message =
                format!("{servo} is {}, the card is of one that is {}", found.kind.word(), self.kind.word());
            return Err(unsound(message, "‹kind› changes what it is"));
        }
        super::edit::changed(rig, |rig| {
            let part = super::edit::servo_mut(rig, servo)?;
            (part.endpoints_us, part.endpoints_counts) = (self.endpoints_us, self.endpoints_counts);
            (part.centre_us, part.centre_counts) = (self.centre_us, self.centre_counts);
            (part.fit, part.arrive, part.teeth, part.idle) = (self.fit, self.arrive, self.teeth, self.idle);
            (part.volts, part.signal_volts) = (self.volts, self.signal_volts);
            part.notes.clone_from(&self.notes);
            part.rated.clone_from(&self.rated);
            part.marks.clone_from(&self.marks);
            part.exercised.clone_from(&self.exercised);
            Ok(())
        })
    }

    /// A servo as the card describes it, on no channel in particular.
    pub fn servo(&self) -> Servo {
        Servo {
            endpoints_us: self.endpoints_us,
            endpoints_counts: self.endpoints_counts,
            centre_us: self.centre_us,
            centre_counts: self.centre_counts,
            fit: self.fit,
            arrive: self.arrive,
            teeth: self.teeth,
            volts: self.volts,
            signal_volts: self.signal_volts,
            idle: self.idle,
            rated: self.rated.clone(),
            marks: self.marks.clone(),
            exercised: self.exercised.clone(),
            notes: self.notes.clone(),
            ..Servo::new(&self.name, ("", 0), self.kind)
        }
    }

    /// Two cards side by side.
    pub fn beside(&self, other: &Self) -> Vec<Difference> {
        let rows: [ComparedRow; 10] = [
            ("name", |c| c.name.clone()),
            ("kept", |c| c.kept.clone()),
            ("kind", |c| c.kind.word().to_owned()),
            ("endpoints", |c| {
                let Ends { low, high } = c.servo().ends();
                format!("{:.0} to {}", low.get(), c.kind.show_place(high))
            }),
            ("centre", |c| c.kind.show_place(c.servo().centre())),
            ("slope", |c| {
                c.fitted(|fit| format!("{:.2} °/100 {}", fit.line.gain() * 100.0, c.kind.place_unit()))
            }),
            ("0° at", |c| c.fitted(|fit| format!("{:.1} {}", fit.zero().get(), c.kind.place_unit()))),
            ("travel", Self::travel),
            ("slack", |c| {
                c.fitted(|fit| {
                    fit.slack.map_or_else(|| "not seen".to_owned(), |s| format!("{:.1}°", s.mean.get()))
                })
            }),
            ("marks", |c| c.marks.len().to_string()),
        ];
        rows.into_iter().map(|(what, say)| Difference { what, one: say(self), other: say(other) }).collect()
    }

    fn fitted(&self, say: impl FnOnce(&crate::fit::Fit) -> String) -> String {
        self.servo().fit().map_or_else(|_| "no fit".to_owned(), |fit| say(&fit))
    }

    fn travel(&self) -> String {
        let Ends { low, high } = self.servo().ends();
        let angle = |fit: &crate::fit::Fit, pulse: Position| -> Degrees { fit.curve.angle_at(pulse) };
        self.fitted(|fit| format!("{:.0}°", (angle(fit, high) - angle(fit, low)).abs().get()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::{Loaded, load};

    #[test]
    fn a_card_keeps_what_was_found_out_and_reads_back_the_same() {
        let Loaded::Sound(rig) = load(include_str!("../../tests/data/small.rig.toml")) else { panic!() };
        let card = Card::of(&rig, &rig.servos[0], "2026-01-02");
        let text = card.text().unwrap();
        assert!(text.contains("[[mark]]") && text.contains("kept = \"2026-01-02\""), "{text}");
        assert!(!text.contains("channel") && !text.contains("board"), "{text}");
        assert_eq!(Card::load(&text).unwrap(), card);
        let said = |text: &str| match Card::load(text).unwrap_err() {
            Unfit::Unreadable(one) => one.message,
            Unfit::Problems(all) => all.into_iter().map(|one| one.message).collect::<Vec<_>>().join("; "),
        };
        assert_eq!(
            said("format = 1\ncolour = 3\nsize = 1\n"),
            "there is no key `colour` here; there is no key `size` here"
        );
        for (from, to, words) in [
            ("travel_deg = 120", "travel_deg = 1e-320", "travel is 0."),
            ("pulse_us = 1100", "pulse_us = nan", "pulse is NaN"),
            ("format = 5", "format = 6", "this is format 6, this program knows format 5"),
            ("angle_deg = -45", "angle_deg = -4500", "angle is -4500"),
        ] {
            let changed = text.replacen(from, to, 1);
            assert!(changed != text && said(&changed).starts_with(words), "{to} {}", said(&changed));
        }
        assert_eq!(card.limits.len(), 2, "with their reasons");
    }

    #[test]
    fn a_card_is_put_on_another_channel_and_compared_with_what_is_there() {
        let Loaded::Sound(rig) = load(include_str!("../../tests/data/small.rig.toml")) else { panic!() };
        let (neck, beak) = (Card::of(&rig, &rig.servos[0], "a"), Card::of(&rig, &rig.servos[1], "b"));
        let put = neck.put(&rig, "heron.beak").unwrap();
        assert_eq!((put.servos[1].plug(), &put.servos[1].marks), (2, &rig.servos[0].marks));
        assert_eq!(put.joints, rig.joints);
        let rows = neck.beside(&beak);
        let row = |what| rows.iter().find(|r| r.what == what).unwrap();
        assert_eq!(
            (row("slope").one.as_str(), row("slope").other.as_str()),
            ("10.00 °/100 µs", "10.00 °/100 µs")
        );
        assert!(!row("0° at").agrees() && row("slope").agrees());
        let continuous = Card { kind: Kind::Continuous, ..neck.clone() };
        let refused = continuous.put(&rig, "heron.neck").unwrap_err().to_string();
        assert!(
            refused.starts_with("heron.neck is positional, the card is of one that is continuous"),
            "{refused}"
        );
    }
}
