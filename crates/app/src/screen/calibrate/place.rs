//! Who drives a servo, and how well its place is known: a row of every reading of it.

use crate::screen::pen::Pen;
use crate::screen::scene::Picked;
use crate::screen::theme;

/// Who drives it, and how well its place is known.
pub fn state_row(pen: &mut Pen<'_>, picked: &Picked, y: u16, label: u16) -> u16 {
    let names = if picked.servo.kind.has_angles() { ("where it is", "where") } else { ("driven by", "by") };
    pen.put(0, y, if label < 13 { names.1 } else { names.0 }, theme::text(theme::QUIET));
    let place = picked.place();
    let place = picked.value(place).unwrap_or_else(|| picked.at(place));
    let known = picked.state.estimate.known.word();
    let words = if picked.is_unknown() { known.to_owned() } else { format!("{place} {known}") };
    let words = match (picked.state.arming(), picked.servo.kind.has_angles()) {
        (Some(_), _) if picked.state.is_unarmed() => "waits for its first pulses".to_owned(),
        (Some(left), _) => format!("arming, {:.1} s more", left.as_secs_f64()),
        (None, true) => words,
        // What a lamp or a motor does follows at once, and nothing is remembered of it.
        (None, _) if picked.state.engaged => picked.state.owner.word().to_owned(),
        (None, _) => "off".to_owned(),
    };
    let color = if picked.measured().is_some() { theme::MEASURED } else { theme::INK };
    let x = pen.put(label, y, &words, theme::text(color)) + 2;
    if let Some(stopped) = picked.state.stopped {
        pen.put(x, y, stopped.words(), theme::text(theme::FAULT));
    } else if picked.state.gliding {
        pen.put(x, y, "gliding", theme::text(theme::COMMANDED));
    } else if label >= 13
        && picked.servo.kind.has_angles()
        && picked.state.engaged
        && (picked.state.pulse - picked.wire_pulse()).abs().get() >= 1.0
    {
        // What is sent is whole ticks; a microsecond of difference is worth a word.
        let words = format!("asked {:.1} {}", picked.state.pulse.get(), picked.unit());
        pen.put(x, y, &words, theme::text(theme::QUIET));
    }
    y + 1
}
