//! How inputs and links stand, in words.

use crate::screen::theme;
use ratatui::style::Color;
use wasvolta_core::link::Health;
use wasvolta_core::rig::switch::standing;
use wasvolta_core::stage::plan::InputPlan;
use wasvolta_core::stage::{InputState, LinkState};

/// Where it stands: of a switch in words, of anything else as its shaped value.
pub fn value(plan: &InputPlan, state: &InputState) -> String {
    match (state.counts, &plan.switch) {
        (None, _) => "–".to_owned(),
        (Some(_), None) if plan.shape.span.is_own() => format!("{:+.1}°", state.stages.shaped() + 0.0),
        (Some(_), None) => format!("{:+.3}", state.stages.shaped() + 0.0),
        (Some(_), Some(switch)) => state
            .switch
            .position(switch)
            .map_or_else(|| "–".to_owned(), |position| standing(position, switch.positions())),
    }
}

/// A text in so many columns, its end left out with a mark.
pub fn trimmed(text: &str, room: usize) -> String {
    if text.chars().count() <= room {
        return text.to_owned();
    }
    let kept: String = text.chars().take(room.saturating_sub(1)).collect();
    format!("{kept}…")
}

/// How a link stands, in words with the age of its newest frame. One that drives nothing never alarms.
pub fn health(state: &LinkState, drives: bool) -> (String, Color) {
    let age = state.age.map_or_else(String::new, |age| {
        if age.as_millis() < 1000 {
            format!(", {:>3} ms old", age.as_millis())
        } else {
            format!(", {:.1} s old", age.as_secs_f64())
        }
    });
    let alarm = if drives { theme::FAULT } else { theme::QUIET };
    match state.health {
        Health::Fresh => (format!("● fresh{age}"), theme::INK),
        Health::Late => (format!("◐ late{age}"), theme::INK),
        Health::Absent => ("○ absent".to_owned(), theme::QUIET),
        Health::Lost => (format!("✗ lost{age}"), alarm),
        Health::Stuck => (format!("✗ stuck{age}"), alarm),
    }
}
