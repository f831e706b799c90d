//! How a run ended: what was read back of every channel that had pulses, in words and as an exit code.

use crate::exit::Exit;
use crate::say;
use wasvolta_core::rig::Rig;
use wasvolta_engine::worker::{Ended, Proof};

/// See the module.
#[derive(Debug)]
pub struct Ending {
    /// What may still pulse, with what went wrong.
    may_pulse: Vec<String>,
    why: Option<String>,
    /// What was released, and cannot say so.
    unsaid: Vec<String>,
    /// What stays as it was told to.
    staying: Vec<String>,
    /// Boards of which nothing was ever heard.
    unheard: Vec<String>,
    /// Something had pulses, and was read back.
    read_back: bool,
}

impl Ending {
    /// From what each board ended with.
    pub fn of(rig: &Rig, ended: &[Ended], staying: Vec<String>, unheard: Vec<String>) -> Self {
        let mut ending =
            Self { may_pulse: Vec::new(), why: None, unsaid: Vec::new(), staying, unheard, read_back: false };
        for board in ended {
            match &board.proof {
                Proof::ReadBack => ending.read_back = true,
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
                "may still pulse: {}{why}\nunplug the supply of the servos; `wasvolta release RIG` tries it again",
                self.may_pulse.join(", ")
            )
        } else if !self.unsaid.is_empty() {
            format!("told to release {}; whether they did could not be read back", self.unsaid.join(", "))
        } else if self.read_back {
            let all =
                if self.staying.is_empty() { "released: no pulses remain" } else { "released and read back" };
            all.to_owned()
        } else if self.staying.is_empty() {
            "nothing was driven".to_owned()
        } else {
            "nothing was released".to_owned()
        };
        let staying = if self.staying.is_empty() {
            String::new()
        } else {
            format!("; pulses were told to stay for {}", self.staying.join(", "))
        };
        let unheard = if self.unheard.is_empty() {
            String::new()
        } else {
            format!("\nnothing was heard of {}: whether it pulses is not known", self.unheard.join(", "))
        };
        format!("{first}{pulses}{staying}{unheard}")
    }
}

/// The servos on some channels of a board, by their names and places.
fn named(rig: &Rig, ended: &Ended, channels: &[usize]) -> Vec<String> {
    let here = |b: &&wasvolta_core::rig::Board| b.port == ended.port && b.address == ended.address;
    let board = rig.boards.iter().find(here).map_or(ended.port.as_str(), |board| board.name.as_str());
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
            failed.starts_with("may still pulse: heron.neck (channel 1 of upper) (cannot write the board"),
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
