//! `release`: the way back without a screen, for boards that a killed program has left pulsing.

use crate::cli::Release;
use crate::document::Document;
use crate::exit::Exit;
use crate::files::output::Outputs;
use crate::runner::Runner;
use crate::say;
use miette::miette;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::{Duration, Instant};
use wasvolta_engine::snapshot::BoardState;
use wasvolta_port::Fault;
use wasvolta_port::board::{Evidence, Found, Phase, Stand};

/// A board that was reset by the opening of its line says who it is by then, or is asked and answers.
const HEARD_BY: Duration = Duration::from_secs(8);
/// Time between two looks at the boards.
const LOOK: Duration = Duration::from_millis(20);

/// Releases; gives the exit code: 1 when something may still pulse, or could not be looked at.
///
/// # Errors
/// When the rig cannot be used, another program has a device of it, or it has no such board.
pub fn run(asked: &Release, outputs: &Outputs) -> miette::Result<ExitCode> {
    let rig = Runner::boards_only(&Document::open(&asked.rig, outputs)?.rig, &asked.boards)?;
    let mut runner = Runner::start(&asked.rig, &Arc::new(rig), &(&asked.bench).into(), outputs)?;
    if runner.edition.rig.boards.is_empty() {
        return Err(miette!("this rig has no board to release"));
    }
    let begun = Instant::now();
    let known = |state: &BoardState| state.phase != Phase::Down || state.trouble.is_some();
    loop {
        let snapshot = runner.engine.snapshot().clone();
        let late = begun.elapsed() >= HEARD_BY;
        // One that fails at once may come: a line that is being reset, a bus that is busy.
        let settled = runner.edition.boards(&snapshot).all(|(_, state)| state.phase != Phase::Down);
        let heard = runner.edition.boards(&snapshot).all(|(_, state)| known(state));
        if settled || late || (heard && begun.elapsed() >= HEARD_BY / 4) {
            break;
        }
        std::thread::sleep(LOOK);
    }
    let snapshot = runner.engine.snapshot().clone();
    let mut whole = true;
    for (board, state) in runner.edition.boards(&snapshot) {
        let smart: Vec<u8> = runner
            .edition
            .rig
            .servos_on(&board.name)
            .filter(|servo| servo.kind.is_smart())
            .map(wasvolta_core::rig::Servo::plug)
            .collect();
        let (words, known) = found(state, &smart, |fault| runner.help(&board.name, fault));
        whole &= known;
        say::line(format_args!("{} {}: {words}", board.name, board.at()));
    }
    // The end of a runner stops what was found, and reads it back.
    let exit = runner.finish().tell("");
    Ok(if whole { exit } else { Exit::Failed }.into())
}

/// What was found on a board, and whether anything is known of it; of a bus of smart servos with their ids.
fn found(state: &BoardState, smart: &[u8], help: impl Fn(Fault) -> String) -> (String, bool) {
    match (state.trouble, &state.phase) {
        (Some(trouble), _) => {
            (format!("cannot {} it: {}; {}", trouble.doing, trouble.fault, help(trouble.fault)), false)
        }
        (None, Phase::Asking(Found::Pulsing { ticks, .. })) => {
            let channels: Vec<String> = ticks.used().map(|n| n.to_string()).collect();
            let channels = channels.join(", ");
            let words = match state.evidence {
                Some(Evidence::Smart(_)) => format!("stiff: id {channels}; making them limp"),
                _ => format!("pulses run on channel {channels}: stopping them"),
            };
            (words, true)
        }
        (None, Phase::Asking(Found::Unfamiliar)) => {
            let words = "what answers was set up by something else and may be another kind of chip: nothing was written. \
                         If it is the right one, open the rig and start it anew there, or take its supply away";
            (words.to_owned(), false)
        }
        (None, Phase::Started) if !smart.is_empty() => {
            let unsaid = smart.iter().filter(|id| state.feedback.get(usize::from(**id)).stand != Stand::Limp);
            let unsaid: Vec<String> = unsaid.map(ToString::to_string).collect();
            if unsaid.is_empty() {
                ("all its servos say that they are limp".to_owned(), true)
            } else {
                (format!("id {} does not say whether it is limp", unsaid.join(", ")), false)
            }
        }
        (None, Phase::Started) if !state.says_what_runs() => {
            ("it cannot say what runs on it: take the supply of the servos away to be sure".to_owned(), false)
        }
        (None, Phase::Started) => ("no pulses run on it".to_owned(), true),
        (None, Phase::Down) => ("it has not said who it is".to_owned(), false),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_port::board::Evidence;
    use wasvolta_port::firmata::Firmware;

    #[test]
    fn a_board_that_cannot_say_what_it_does_is_not_said_to_do_nothing() {
        let of = |says_pins| BoardState {
            phase: Phase::Started,
            evidence: Some(Evidence::Firmata(Firmware { says_pins, ..Firmware::default() })),
            ..BoardState::default()
        };
        assert_eq!(
            found(&of(true), &[], |fault| fault.help().to_owned()),
            ("no pulses run on it".to_owned(), true)
        );
        let (words, known) = found(&of(false), &[], |fault| fault.help().to_owned());
        assert!(!known && words.contains("cannot say what runs on it"), "{words}");
    }

    #[test]
    fn a_bus_says_who_is_stiff_and_whose_stand_is_unknown() {
        let of = |stands: &[(usize, Stand)]| {
            let mut state = BoardState { phase: Phase::Started, ..BoardState::default() };
            for &(id, stand) in stands {
                state.feedback.set(id, wasvolta_port::board::Feedback { stand, ..Default::default() });
            }
            found(&state, &[1, 2], |fault| fault.help().to_owned())
        };
        let (words, known) = of(&[(1, Stand::Limp), (2, Stand::Limp)]);
        assert!(known && words.contains("limp"), "{words}");
        let (words, known) = of(&[(1, Stand::Limp), (2, Stand::Silent)]);
        assert!(!known && words.starts_with("id 2 does not say"), "{words}");
        assert!(!of(&[(1, Stand::Limp)]).1, "one was never asked");
    }
}
