//! How a run ended: what was read back of every channel that had pulses, in words and as an exit code.

use crate::exit::Exit;
use crate::say;
use std::fmt::Write as _;
use wasvolta_core::rig::{Board, Rig};
use wasvolta_engine::worker::{Ended, Proof};

/// See the module.
#[derive(Debug)]
pub struct Ending {
    /// What may still pulse, with what went wrong.
    may_pulse: Vec<String>,
    why: Option<String>,
    /// What was released, and cannot say so.
    unsaid: Vec<String>,
    /// What keeps its pulse as it was told to.
    pulsing: Vec<String>,
    /// Smart servos that stay stiff as they were told to.
    stiff: Vec<String>,
    /// Boards of which nothing was ever heard.
    unheard: Vec<String>,
    /// Something had pulses, and was read back.
    silent: bool,
    /// Smart servos were driven, and have said that they are limp.
    limp: bool,
}

impl Ending {
    /// From what each board ended with.
    pub fn of(rig: &Rig, ended: &[Ended], staying: Vec<String>, unheard: Vec<String>) -> Self {
        let is_smart = |name: &String| rig.servo(name).is_some_and(|servo| servo.kind.is_smart());
        let (stiff, pulsing) = staying.into_iter().partition(is_smart);
        let (may_pulse, why, unsaid) = (Vec::new(), None, Vec::new());
        let mut ending = Self { may_pulse, why, unsaid, pulsing, stiff, unheard, silent: false, limp: false };
        for board in ended {
            let smart = board_of(rig, board).is_some_and(|board| board.chip.row().is_smart);
            match &board.proof {
                Proof::ReadBack if smart => ending.limp |= !board.channels.is_empty(),
                Proof::ReadBack => ending.silent = true,
                Proof::Unsaid => ending.unsaid.extend(named(rig, board, &board.channels)),
                Proof::MayPulse { channels, why } => {
                    ending.may_pulse.extend(named(rig, board, channels));
                    if let Some(error) = why {
                        ending.why = Some(format!("{error}; {}", error.fault.help()));
                    }
                }
            }
        }
        ending
    }

    /// Whether something may pulse that was to be released.
    pub const fn may_pulse(&self) -> bool {
        !self.may_pulse.is_empty()
    }

    /// Says it, and gives what the process ends with.
    pub fn tell(&self, first: &str) -> Exit {
        tracing::info!("ends: {self:?}");
        let told = self.words(first);
        if self.may_pulse() {
            say::trouble(told);
            return Exit::Failed;
        }
        say::note(told);
        Exit::Done
    }

    /// What became of the pulses, behind the first words.
    fn words(&self, first: &str) -> String {
        let pulses = if self.may_pulse() {
            let why = self.why.as_ref().map_or_else(String::new, |why| format!(" ({why})"));
            format!(
                "may still pulse or be stiff: {}{why}\nunplug the supply of the servos; `wasvolta release RIG` tries it again",
                self.may_pulse.join(", ")
            )
        } else if !self.unsaid.is_empty() {
            format!("told to release {}; whether they did could not be read back", self.unsaid.join(", "))
        } else {
            let stays = !self.pulsing.is_empty() || !self.stiff.is_empty();
            match (self.silent, self.limp) {
                (true | false, true) | (true, false) if stays => "released and read back",
                (true, false) => "released: no pulses remain",
                (true, true) => {
                    "released: no pulses remain, and the smart servos that were driven say that they are limp"
                }
                (false, true) => "released: the smart servos that were driven say that they are limp",
                (false, false) if stays => "nothing was released",
                (false, false) => "nothing was driven",
            }
            .to_owned()
        };
        let mut staying = String::new();
        for (names, words) in
            [(&self.pulsing, "pulses were told to stay for"), (&self.stiff, "told to stay stiff:")]
        {
            if !names.is_empty() {
                let _ = write!(staying, "; {words} {}", names.join(", "));
            }
        }
        let unheard = if self.unheard.is_empty() {
            String::new()
        } else {
            format!("\nnothing was heard of {}: whether it pulses is not known", self.unheard.join(", "))
        };
        format!("{first}{pulses}{staying}{unheard}")
    }
}

fn board_of<'r>(rig: &'r Rig, ended: &Ended) -> Option<&'r Board> {
    rig.boards.iter().find(|board| board.port == ended.port && board.address == ended.address)
}

/// The servos on some channels of a board, by their names and places.
fn named(rig: &Rig, ended: &Ended, channels: &[usize]) -> Vec<String> {
    let board = board_of(rig, ended).map_or(ended.port.as_str(), |board| board.name.as_str());
    let place = |channel: &usize| {
        let mut servos = rig.servos_on(board);
        match servos.find(|servo| usize::from(servo.plug()) == *channel) {
            Some(servo) => format!("{} ({})", servo.name, rig.plug_words(board, channel)),
            None => rig.plug_words(board, channel),
        }
    };
    channels.iter().map(place).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_core::rig::file::{Loaded, load};
    use wasvolta_port::{BusError, Fault};

    fn rig() -> Rig {
        let Loaded::Sound(rig) = load(include_str!("../../core/tests/data/small.rig.toml")) else { panic!() };
        *rig
    }

    fn words(proof: Proof) -> String {
        let ended = Ended { port: "bench-bus".into(), address: Some(0x40), channels: vec![1, 5], proof };
        Ending::of(&rig(), &[ended], Vec::new(), Vec::new()).words("")
    }

    #[test]
    fn it_says_no_more_than_was_read_back() {
        assert_eq!(words(Proof::ReadBack), "released: no pulses remain");
        let unsaid = words(Proof::Unsaid);
        assert_eq!(
            unsaid,
            "told to release heron.neck (channel 1 of upper), channel 5 of upper; whether they did could not be read back"
        );
        let device = "the board at 0x40, register 10".to_owned();
        let why = Some(BusError { doing: "write", device, fault: Fault::Transfer });
        let failed = words(Proof::MayPulse { channels: vec![1], why });
        assert!(
            failed.starts_with(
                "may still pulse or be stiff: heron.neck (channel 1 of upper) (cannot write the board"
            ),
            "{failed}"
        );
        assert!(failed.contains("unplug the supply"), "{failed}");
        let nothing = Ending::of(&rig(), &[], Vec::new(), vec!["upper".to_owned()]);
        assert_eq!(
            nothing.words(""),
            "nothing was driven\nnothing was heard of upper: whether it pulses is not known"
        );
        assert!(!nothing.may_pulse());
    }

    #[test]
    fn smart_servos_are_limp_or_stay_stiff_and_have_no_pulses() {
        let Loaded::Sound(rig) = load(include_str!("../../../examples/marsh-clock.rig.toml")) else {
            panic!()
        };
        let bus =
            || Ended { port: "neck-line".into(), address: None, channels: vec![1], proof: Proof::ReadBack };
        let ending = |ended: &[Ended], staying: &[&str]| {
            let staying = staying.iter().map(|name| (*name).to_owned()).collect();
            Ending::of(&rig, ended, staying, Vec::new()).words("")
        };
        assert_eq!(
            ending(&[bus()], &[]),
            "released: the smart servos that were driven say that they are limp"
        );
        let board = Ended { port: "bench-bus".into(), address: Some(0x40), ..bus() };
        assert_eq!(
            ending(&[bus(), board], &[]),
            "released: no pulses remain, and the smart servos that were driven say that they are limp"
        );
        // One that was never driven has said nothing of the kind.
        assert_eq!(ending(&[Ended { channels: Vec::new(), ..bus() }], &[]), "nothing was driven");
        assert_eq!(
            ending(&[bus()], &["heron.nape", "heron.beak"]),
            "released and read back; pulses were told to stay for heron.beak; told to stay stiff: heron.nape"
        );
    }

    #[test]
    fn what_stays_hides_nothing_of_the_rest() {
        let with = |proofs: &[Proof]| {
            let ended = |proof: &Proof| Ended {
                port: "bench-bus".into(),
                address: Some(0x40),
                channels: vec![1],
                proof: proof.clone(),
            };
            let ended: Vec<Ended> = proofs.iter().map(ended).collect();
            Ending::of(&rig(), &ended, vec!["heron.beak".to_owned()], Vec::new()).words("")
        };
        let stays = "; pulses were told to stay for heron.beak";
        assert_eq!(with(&[]), format!("nothing was released{stays}"));
        assert_eq!(with(&[Proof::ReadBack]), format!("released and read back{stays}"));
        let unsaid = with(&[Proof::ReadBack, Proof::Unsaid]);
        assert!(unsaid.starts_with("told to release heron.neck") && unsaid.ends_with(stays), "{unsaid}");
    }
}
