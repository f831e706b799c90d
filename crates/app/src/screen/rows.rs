//! A line of a view that can be picked and changed: one kind of value, whatever it is about. A new setting is one line in
//! the list of its room.

use super::context::Context;
use super::entry::{self, PulseContext};
use super::scene::Scene;
use wasvolta_core::range::{self, Range};
use wasvolta_core::rig::Input;
use wasvolta_core::shape::Stages;

/// See the module.
pub struct Row {
    /// What it belongs to; empty where that is what the row above does.
    pub stage: &'static str,
    pub name: &'static str,
    /// Whether it is there now.
    pub applies: fn(&Scene) -> bool,
    /// What stands in it, and how that is changed.
    pub holds: Holds,
    /// The value behind the stage, of the last row of one.
    pub behind: Option<fn(&Stages) -> f64>,
}

/// What stands in a row.
pub enum Holds {
    Number {
        /// Its unit: how it is written and read, and how far a step goes.
        unit: fn(&Scene) -> &'static Unit,
        /// Its value; none where it is off.
        get: fn(&Scene) -> Option<f64>,
        set: Set,
        /// Where it is off: how that is written. It is typed that way too.
        off: Option<&'static str>,
    },
    /// One of some.
    Choice {
        /// How the present one is written.
        show: fn(&Scene) -> String,
        /// Goes on to another: −1 or 1.
        change: fn(&mut Context, isize),
        /// Takes what was typed; none where it can only be chosen.
        enter: Option<Enter>,
    },
}

/// Takes what was typed; where it is not understood it says what is, and nothing has changed.
pub type Enter = fn(&mut Context, &str) -> Result<(), String>;

/// How a number is set.
pub enum Set {
    /// In the picked input, as an edit.
    Input(fn(&mut Input, Option<f64>)),
    /// By doing something.
    By(fn(&mut Context, Option<f64>)),
}

/// A unit of numbers in rows.
pub struct Unit {
    /// How far a step goes, by the size of the nudge.
    pub steps: [f64; 6],
    /// How a number is written.
    pub show: fn(f64) -> String,
    /// How it is read.
    pub read: fn(&str) -> Result<f64, String>,
    /// What it may be.
    pub range: &'static Range,
}

impl Row {
    /// A number that is always there.
    pub const fn number(
        stage: &'static str,
        name: &'static str,
        unit: fn(&Scene) -> &'static Unit,
        get: fn(&Scene) -> Option<f64>,
        set: Set,
    ) -> Self {
        Self {
            stage,
            name,
            applies: |_| true,
            holds: Holds::Number { unit, get, set, off: None },
            behind: None,
        }
    }

    /// One of some, by the arrows.
    pub const fn choice(
        stage: &'static str,
        name: &'static str,
        show: fn(&Scene) -> String,
        change: fn(&mut Context, isize),
    ) -> Self {
        let holds = Holds::Choice { show, change, enter: None };
        Self { stage, name, applies: |_| true, holds, behind: None }
    }

    /// There only where something is so.
    pub const fn when(self, applies: fn(&Scene) -> bool) -> Self {
        Self { applies, ..self }
    }

    /// The last one of its stage.
    pub const fn behind(self, value: fn(&Stages) -> f64) -> Self {
        Self { behind: Some(value), ..self }
    }

    /// A number that may be off.
    pub const fn or(mut self, words: &'static str) -> Self {
        if let Holds::Number { off, .. } = &mut self.holds {
            *off = Some(words);
        }
        self
    }

    /// A choice that can be typed too.
    pub const fn typed(mut self, take: Enter) -> Self {
        if let Holds::Choice { enter, .. } = &mut self.holds {
            *enter = Some(take);
        }
        self
    }

    /// What stands in it, as it is written.
    pub fn show(&self, scene: &Scene) -> String {
        match &self.holds {
            Holds::Number { unit, get, off, .. } => match (get(scene), off) {
                (Some(value), _) => (unit(scene).show)(value + 0.0),
                (None, Some(words)) => (*words).to_owned(),
                (None, None) => "–".to_owned(),
            },
            Holds::Choice { show, .. } => show(scene),
        }
    }

    /// What the arrows do to it.
    pub fn hint(&self, scene: &Scene) -> String {
        let words = match &self.holds {
            Holds::Number { unit, .. } => format!("‹less› ‹more› by {}", unit(scene).step(scene.model.nudge)),
            Holds::Choice { enter: None, .. } => "‹less› ‹more› choose".to_owned(),
            Holds::Choice { .. } => "‹less› ‹more› choose, or type".to_owned(),
        };
        // As wide as it will be drawn.
        scene.model.keys.spell(&words).into_owned()
    }

    /// Changes it by a step, within what it may be.
    pub fn change(&self, desk: &mut Context, direction: f64) {
        let nudge = desk.model.nudge;
        match &self.holds {
            Holds::Choice { change, .. } => change(desk, if direction > 0.0 { 1 } else { -1 }),
            Holds::Number { unit, get, set, off } => {
                let scene = desk.model.scene(desk.session);
                let (unit, value) = (unit(&scene), get(&scene));
                let next = match value {
                    Some(value) => value + unit.step(nudge) * direction,
                    // What is off begins at a whole, and goes off again below its least.
                    None if off.is_some() && direction > 0.0 => 1.0,
                    None if off.is_some() => return,
                    None => unit.step(nudge) * direction,
                };
                let next = (next * 1e4).round() / 1e4;
                let least = unit.range.least;
                let next = (off.is_none() || next >= least).then(|| next.clamp(least, unit.range.greatest));
                if next != value {
                    self.set(desk, set, next);
                }
            }
        }
    }

    /// Takes what was typed; `of` is what an angle is judged by, where the row is about a servo's joint.
    ///
    /// # Errors
    /// Says what is understood; nothing has changed then.
    pub fn enter(&self, desk: &mut Context, text: &str, of: Option<&PulseContext>) -> Result<(), String> {
        match &self.holds {
            Holds::Choice { enter: Some(enter), .. } => enter(desk, text),
            Holds::Choice { .. } => Err("‹less› and ‹more› choose this one".to_owned()),
            Holds::Number { set, off: Some(words), .. } if text.trim() == *words => {
                self.set(desk, set, None);
                Ok(())
            }
            Holds::Number { unit, set, .. } => {
                let unit = unit(&desk.model.scene(desk.session));
                let value = if *unit.range == range::ANGLE {
                    entry::angle_of(text, of)?.get()
                } else {
                    (unit.read)(text)?
                };
                unit.range.check(value).map_err(|outside| outside.to_string())?;
                self.set(desk, set, Some(value));
                Ok(())
            }
        }
    }

    fn set(&self, desk: &mut Context, set: &Set, value: Option<f64>) {
        match set {
            Set::By(set) => set(desk, value),
            Set::Input(set) => {
                let Some(input) = desk.input().map(|input| input.name.clone()) else { return };
                let written = self.written(&desk.model.scene(desk.session), value);
                let words = format!("{input}: {} {written}", self.name);
                desk.edit(&words, |rig| {
                    wasvolta_core::rig::edit::change_input(rig, &input, |input| set(input, value))
                });
            }
        }
    }

    /// A value of it, as it is written.
    fn written(&self, scene: &Scene, value: Option<f64>) -> String {
        match (&self.holds, value) {
            (Holds::Number { unit, .. }, Some(value)) => (unit(scene).show)(value + 0.0),
            (Holds::Number { off, .. }, None) => off.unwrap_or("off").to_owned(),
            (Holds::Choice { .. }, _) => String::new(),
        }
    }
}

impl Unit {
    fn step(&self, nudge: usize) -> f64 {
        self.steps.get(nudge).copied().unwrap_or(self.steps[0])
    }
}

/// A value as a device sends it.
pub static RAW: Unit = Unit {
    steps: [1.0, 2.0, 5.0, 10.0, 20.0, 50.0],
    show: |value| format!("{}", (value * 1e3).round() / 1e3),
    read: entry::plain,
    range: &range::RAW,
};

const SHARES: [f64; 6] = [0.01, 0.01, 0.02, 0.05, 0.1, 0.2];

/// What is added to a share of a way.
pub static TRIM: Unit =
    Unit { steps: SHARES, show: |value| format!("{value:+.3}"), read: entry::plain, range: &range::TRIM };

/// A part of a way.
pub static PART: Unit =
    Unit { steps: SHARES, show: |value| format!("{value:.3}"), read: entry::plain, range: &range::DEADBAND };

/// How much of a cube a curve has.
pub static EXPO: Unit =
    Unit { steps: SHARES, show: |value| format!("{value:+.2}"), read: entry::plain, range: &range::EXPO };

/// A place from −1 to 1.
pub static PLACE: Unit =
    Unit { steps: SHARES, show: |value| format!("{value:+.2}"), read: entry::plain, range: &range::TRIM };

/// A share of an input.
pub static WEIGHT: Unit =
    Unit { steps: SHARES, show: |value| format!("× {value:.2}"), read: entry::plain, range: &range::WEIGHT };

const MILLISECONDS: [f64; 6] = [5.0, 5.0, 10.0, 20.0, 50.0, 100.0];

/// The time of a smoothing.
pub static SMOOTHING: Unit = Unit {
    steps: MILLISECONDS,
    show: |value| format!("{value:.0} ms"),
    read: milliseconds,
    range: &range::SMOOTHING,
};

/// The time for which contacts bounce.
pub static DEBOUNCE: Unit = Unit {
    steps: MILLISECONDS,
    show: |value| format!("{value:.0} ms"),
    read: milliseconds,
    range: &range::DEBOUNCE,
};

/// Whole ways a second.
pub static RATE: Unit = Unit {
    steps: [0.1, 0.1, 0.2, 0.5, 1.0, 2.0],
    show: |value| format!("{value:.2} /s"),
    read: entry::plain,
    range: &range::RATE,
};

const TENS: [f64; 6] = [0.5, 1.0, 1.0, 2.0, 5.0, 10.0];

/// An angle of a joint.
pub static ANGLE: Unit = Unit {
    steps: TENS,
    show: |value| format!("{value:+.1}°"),
    read: |text| entry::angle(text).map(wasvolta_core::unit::Degrees::get),
    range: &range::ANGLE,
};

/// A level, or a place along a row of poses.
pub static LEVEL: Unit =
    Unit { steps: TENS, show: |value| format!("{value:.0} %"), read: percent, range: &range::LEVEL };

/// How fast what plays goes, beside what is written.
pub static TEMPO: Unit =
    Unit { steps: TENS, show: |value| format!("{value:.0} %"), read: percent, range: &range::TEMPO };

/// A rate of a continuous servo.
pub static RATE_LEVEL: Unit =
    Unit { steps: TENS, show: |value| format!("{value:+.0} %"), read: percent, range: &range::RATE_LEVEL };

/// How fast a joint turns.
pub static TURN_RATE: Unit = Unit {
    steps: TENS,
    show: |value| format!("{value:+.1} °/s"),
    read: |text| {
        entry::plain(text.trim().trim_end_matches("/s").trim_end_matches('°').trim_end_matches("deg"))
    },
    range: &range::TURN_RATE,
};

/// A time of a step or a move.
pub static TIME: Unit = Unit {
    steps: [0.01, 0.02, 0.05, 0.1, 0.2, 0.5],
    show: |value| format!("{value:.2} s"),
    read: entry::seconds,
    range: &range::TIME,
};

/// A bare time of smoothing or debouncing is in milliseconds, as it is shown.
fn milliseconds(text: &str) -> Result<f64, String> {
    let bare = text.trim().ends_with(|c: char| c.is_ascii_digit() || c == '.');
    let text = if bare { format!("{text}ms") } else { text.to_owned() };
    Ok(entry::seconds(&text)? * 1000.0)
}

fn percent(text: &str) -> Result<f64, String> {
    entry::plain(text.trim().trim_end_matches('%').trim_end())
}
