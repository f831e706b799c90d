//! What a person can do with something simulated that is a way in: move what is on it, and pull its plug.

use crate::sender::Mood;
use crate::{FirmataBoard, Sender, SimChip, SimPad, SimSensor};

/// Something simulated that a link hears, by the names that a rig has for its channels.
pub trait StandIn: Send {
    /// Where what is behind a channel stands, 0–1; none where nothing can be moved there.
    fn position(&self, channel: &str) -> Option<f64>;
    /// Moves it by a share of its whole way; it stops at its ends. From then on nothing else moves it.
    fn turn(&self, channel: &str, by: f64);
    /// How it fares.
    fn mood(&self) -> Mood {
        Mood::Well
    }
    /// Lets it fare otherwise, where it can.
    fn set_mood(&self, _: Mood) {}
    /// Whether its plug is in.
    fn is_plugged(&self) -> bool;
    /// Pulls its plug.
    fn unplug(&self);
    /// Plugs it in again.
    ///
    /// # Errors
    /// When the system has no more of what it needs.
    fn replug(&self) -> std::io::Result<()>;
}

impl StandIn for Sender {
    fn position(&self, channel: &str) -> Option<f64> {
        self.position(channel)
    }

    fn turn(&self, channel: &str, by: f64) {
        self.turn(channel, by);
    }

    fn mood(&self) -> Mood {
        self.mood()
    }

    fn set_mood(&self, mood: Mood) {
        self.set_mood(mood);
    }

    fn is_plugged(&self) -> bool {
        self.is_plugged()
    }

    fn unplug(&self) {
        self.unplug();
    }

    fn replug(&self) -> std::io::Result<()> {
        self.replug()
    }
}

impl StandIn for SimPad {
    fn position(&self, channel: &str) -> Option<f64> {
        self.position(channel)
    }

    fn turn(&self, channel: &str, by: f64) {
        self.turn(channel, by);
    }

    fn is_plugged(&self) -> bool {
        self.is_plugged()
    }

    fn unplug(&self) {
        self.unplug();
    }

    fn replug(&self) -> std::io::Result<()> {
        self.replug();
        Ok(())
    }
}

impl StandIn for SimSensor {
    fn position(&self, channel: &str) -> Option<f64> {
        self.position(channel)
    }

    fn turn(&self, channel: &str, by: f64) {
        self.turn(channel, by);
    }

    fn is_plugged(&self) -> bool {
        self.is_plugged()
    }

    fn unplug(&self) {
        self.unplug();
    }

    fn replug(&self) -> std::io::Result<()> {
        self.replug()
    }
}

impl StandIn for SimChip {
    fn position(&self, channel: &str) -> Option<f64> {
        Some(f64::from(u8::from(self.is_high(line(channel)?))))
    }

    fn turn(&self, channel: &str, by: f64) {
        if let Some(line) = line(channel) {
            self.hold(line, by > 0.0);
        }
    }

    fn is_plugged(&self) -> bool {
        self.is_there()
    }

    fn unplug(&self) {
        self.unplug();
    }

    fn replug(&self) -> std::io::Result<()> {
        self.replug();
        Ok(())
    }
}

/// The line of a channel that reads one: an encoder turns by two, and a pulse by itself.
fn line(channel: &str) -> Option<&str> {
    let line = channel.strip_prefix("line ")?;
    Some(line.strip_suffix(" pull-up").unwrap_or(line))
}

/// A pin of a board, by the name that a rig has for it.
enum Pin {
    Analog(usize),
    Digital(usize),
}

impl Pin {
    fn of(channel: &str) -> Option<Self> {
        let plain = channel.strip_suffix(" pull-up").unwrap_or(channel);
        let (kind, number) = plain.split_at_checked(1)?;
        let number = number.parse().ok()?;
        match kind {
            "a" => Some(Self::Analog(number)),
            "d" => Some(Self::Digital(number)),
            _ => None,
        }
    }
}

impl StandIn for FirmataBoard {
    fn position(&self, channel: &str) -> Option<f64> {
        match Pin::of(channel)? {
            Pin::Analog(channel) => self.analog(channel),
            Pin::Digital(pin) => self.is_high(pin).map(|high| f64::from(u8::from(high))),
        }
    }

    fn turn(&self, channel: &str, by: f64) {
        match Pin::of(channel) {
            Some(Pin::Analog(channel)) => {
                let at = self.analog(channel).unwrap_or(0.0);
                self.set_analog(channel, at + by);
            }
            Some(Pin::Digital(pin)) => self.set_pin(pin, Some(by > 0.0)),
            None => {}
        }
    }

    fn is_plugged(&self) -> bool {
        self.is_plugged()
    }

    fn unplug(&self) {
        self.set_plugged(false);
    }

    fn replug(&self) -> std::io::Result<()> {
        self.set_plugged(true);
        Ok(())
    }
}
