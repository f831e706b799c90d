//! Faders, toggles and buttons that are moved by keys. Pure: time is handed in.
//!
//! A terminal says when a key goes down, and again while it repeats; few say when it goes up. A button counts as pressed
//! until [`FIRST`] after its first key event, or [`REPEAT`] after the last repeat, or until its key is said to be up.

use std::time::Duration;

/// How long a button counts as pressed behind its first event: as long as keyboards wait before they repeat, and more.
pub const FIRST: Duration = Duration::from_millis(600);
/// How long behind a repeat.
pub const REPEAT: Duration = Duration::from_millis(150);
/// How far a key moves a fader, in percent.
pub const STEP: f64 = 2.0;
/// The greatest value of a fader, in percent.
pub const MOST: f64 = 100.0;

/// A button's key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Press {
    last: Duration,
    repeated: bool,
}

impl Press {
    fn holds(self, now: Duration) -> bool {
        let most = if self.repeated { REPEAT } else { FIRST };
        now.saturating_sub(self.last) < most
    }
}

/// See the module.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Faders {
    faders: [f64; 2],
    toggles: [bool; 2],
    buttons: [Option<Press>; 2],
}

impl Faders {
    /// Moves a fader by so many percent; it stops at its ends. What there is not, is not moved.
    pub fn slide(&mut self, fader: usize, by: f64) {
        if let Some(fader) = self.faders.get_mut(fader) {
            *fader = (*fader + by).clamp(0.0, MOST);
        }
    }

    /// Turns a toggle over.
    pub fn toggle(&mut self, toggle: usize) {
        if let Some(toggle) = self.toggles.get_mut(toggle) {
            *toggle = !*toggle;
        }
    }

    /// A button's key went down, or repeats.
    pub fn press(&mut self, button: usize, now: Duration) {
        if let Some(button) = self.buttons.get_mut(button) {
            let repeated = button.is_some_and(|press| press.holds(now));
            *button = Some(Press { last: now, repeated });
        }
    }

    /// A button's key is said to be up, or nobody can press it any more.
    pub fn release(&mut self, button: usize) {
        if let Some(button) = self.buttons.get_mut(button) {
            *button = None;
        }
    }

    /// The values of all, in the order of their channels: two faders in percent, two toggles, two buttons.
    pub fn values(&self, now: Duration) -> [f64; 6] {
        let is = |is: bool| f64::from(u8::from(is));
        let pressed = |press: Option<Press>| is(press.is_some_and(|press| press.holds(now)));
        let [a, b] = self.faders;
        [a, b, is(self.toggles[0]), is(self.toggles[1]), pressed(self.buttons[0]), pressed(self.buttons[1])]
    }
}

#[cfg(test)]
#[expect(clippy::float_cmp, reason = "whole numbers that nothing was done to")]
mod tests {
    use super::*;

    const MS: fn(u64) -> Duration = Duration::from_millis;

    #[test]
    fn a_fader_stops_at_its_ends_and_a_toggle_stays() {
        let mut faders = Faders::default();
        faders.slide(0, -STEP);
        faders.slide(1, 70.0);
        faders.slide(1, 70.0);
        faders.slide(2, 5.0);
        faders.toggle(1);
        assert_eq!(faders.values(MS(0)), [0.0, 100.0, 0.0, 1.0, 0.0, 0.0]);
        faders.toggle(1);
        assert_eq!(faders.values(MS(90_000))[3], 0.0);
    }

    #[test]
    fn a_button_is_pressed_as_long_as_its_key_seems_to_be() {
        let mut faders = Faders::default();
        faders.press(0, MS(1000));
        let at = |faders: &Faders, ms| faders.values(MS(ms))[4];
        assert_eq!([at(&faders, 1000), at(&faders, 1599), at(&faders, 1600)], [1.0, 1.0, 0.0]);
        // A key that is held repeats before the first time is over; then each repeat carries it on.
        faders.press(0, MS(2000));
        for n in 0..20 {
            faders.press(0, MS(2500 + n * 33));
        }
        let last = 2500 + 19 * 33;
        assert_eq!([at(&faders, last + 149), at(&faders, last + 150)], [1.0, 0.0]);
        // Two presses with a pause between are two.
        faders.press(1, MS(5000));
        assert_eq!(faders.values(MS(5599))[5], 1.0);
        faders.release(1);
        assert_eq!(faders.values(MS(5001))[5], 0.0);
        faders.press(7, MS(0));
        faders.release(7);
    }
}
