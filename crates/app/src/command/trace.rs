//! A trace: what is sent, a row a servo a beat, as CSV.

use crate::files::output::{Outputs, Stream};
use miette::IntoDiagnostic;
use std::path::Path;
use std::time::Duration;
use wasvolta_core::rig::Rig;
use wasvolta_core::stage::{Plan, ServoState};
use wasvolta_core::unit::Position;

/// See the module.
pub struct Trace {
    out: csv::Writer<Stream>,
}

impl Trace {
    /// Begins a file.
    ///
    /// # Errors
    /// When it must not be written there, or cannot be.
    pub fn begin(path: &Path, outputs: &Outputs) -> miette::Result<Self> {
        let stream = outputs.begin("trace", path).into_diagnostic()?;
        let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::Any(b'\n')).from_writer(stream);
        out.write_record([
            "t_s",
            "servo",
            "joint_deg",
            "pulse_us",
            "ticks",
            "level_percent",
            "pulse_us_per_s",
            "counts",
            "counts_per_s",
        ])
        .into_diagnostic()?;
        Ok(Self { out })
    }

    /// One row a servo, in rig order; empty fields while it is released.
    pub fn rows(&mut self, t: Duration, rig: &Rig, plan: &Plan, servos: &[ServoState]) -> miette::Result<()> {
        let t = format!("{:.3}", t.as_secs_f64());
        for ((servo, plan), state) in rig.servos.iter().zip(&plan.servos).zip(servos) {
            let setpoint = state.setpoint.filter(|_| state.engaged);
            let ticks = setpoint.map(|setpoint| setpoint.target);
            let value = ticks.and(plan.scale.as_ref()).map_or_else(String::new, |s| {
                // What is only on or off has no level between, whatever way it is on.
                let pulse = match servo.kind {
                    kind if kind.is_switch() => ticks.map_or(Position::ZERO, |t| plan.guard.pulse(t)),
                    _ => state.pulse - state.trim(),
                };
                format!("{:.3}", s.angle_at(pulse).get() + 0.0)
            });
            // One column a unit: what has a level has no angle.
            let (angle, level) = match servo.kind.levels() {
                None => (value, String::new()),
                Some(_) => (String::new(), value),
            };
            let place = ticks.map_or_else(String::new, |t| format!("{:.2}", plan.guard.pulse(t).get()));
            let ticks = ticks.map_or_else(String::new, |t| t.0.to_string());
            let tick = plan.guard.step().get();
            let speed =
                setpoint.map_or_else(String::new, |told| format!("{:.1}", f64::from(told.speed) * tick));
            let none = String::new;
            let (pulse, ticks, pulse_speed, counts, counts_speed) = if servo.kind.is_smart() {
                (none(), none(), none(), ticks, speed)
            } else {
                (place, ticks, speed, none(), none())
            };
            let row = [&t, &servo.name, &angle, &pulse, &ticks, &level, &pulse_speed, &counts, &counts_speed];
            self.out.write_record(row).into_diagnostic()?;
        }
        Ok(())
    }

    /// Ends the file.
    ///
    /// # Errors
    /// Where a row has no form as CSV. A disk that refuses ends the file, and is told at the end of the run.
    pub fn finish(mut self) -> miette::Result<()> {
        self.out.flush().into_diagnostic()
    }
}
