//! How a smart servo is, in a word: by what it has said itself.

use crate::screen::scene::Picked;
use crate::screen::theme;
use ratatui::style::Color;
use wasvolta_core::rig::Ail;
use wasvolta_port::board::Stand;

/// The word and its colour; none of a servo that says nothing of itself.
pub fn word(picked: &Picked) -> Option<(&'static str, Color)> {
    let own = picked.feedback?;
    let worst = ails(picked).into_iter().find(|ail| ail.is_lasting());
    Some(match (own.stand, worst) {
        (Stand::Silent, _) if own.garbled => ("garbled", theme::FAULT),
        (Stand::Silent, _) => ("silent", theme::FAULT),
        (Stand::OtherModel(_), _) => ("other model", theme::FAULT),
        (Stand::UnknownModel(_), _) => ("which model?", theme::FAULT),
        (Stand::OtherMode(_), _) => ("other mode", theme::FAULT),
        (Stand::Weak, _) => ("no push", theme::FAULT),
        (Stand::Curt, _) => ("says too little", theme::FAULT),
        (Stand::Stiff | Stand::Limp, Some(ail)) => (ail.words().0, theme::FAULT),
        (Stand::Limp, None) if picked.state.engaged => ("to be stiff", theme::COMMANDED),
        (Stand::Limp, None) if picked.taught => ("by hand", theme::MEASURED),
        (Stand::Limp, None) => ("limp", theme::MEASURED),
        (Stand::Stiff, None) => ("stiff", theme::COMMANDED),
        (Stand::Unasked, _) => ("not asked yet", theme::QUIET),
    })
}

/// The same in five columns at most, as the roster has them.
pub fn short(word: &'static str) -> &'static str {
    match word {
        "silent" => "mute",
        "garbled" => "noise",
        "other model" | "which model?" => "model",
        "other mode" => "mode",
        "says too little" => "curt",
        "no push" => "weak",
        "to be stiff" => "limp",
        "by hand" => "moved",
        "not asked yet" => "…",
        "overload" => "load",
        "supply" => "volts",
        "current" => "amps",
        "sensor" => "sense",
        "range" | "limit" | "sum" | "told" => "told",
        word => word,
    }
}

/// Whether a word says that something is wrong.
pub fn is_wrong(word: (&str, Color)) -> bool {
    word.1 == theme::FAULT
}

/// All that it says is wrong with it, the worst first.
pub fn ails(picked: &Picked) -> Vec<Ail> {
    let bits = picked.feedback.map_or(0, |own| own.faults);
    picked.layout.map_or_else(Vec::new, |layout| layout.ails(bits).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_has_a_short_one_for_the_roster() {
        let ails = [
            Ail::Nothing,
            Ail::Supply,
            Ail::Hot,
            Ail::Overload,
            Ail::Current,
            Ail::Sensor,
            Ail::Shock,
            Ail::Limit,
        ];
        let stands = [
            "silent",
            "garbled",
            "other model",
            "which model?",
            "other mode",
            "says too little",
            "no push",
            "to be stiff",
            "limp",
            "by hand",
            "stiff",
            "not asked yet",
        ];
        for word in stands.into_iter().chain(ails.map(|ail| ail.words().0)) {
            assert!(short(word).chars().count() <= 5, "{word}");
        }
    }
}
