//! What the screen takes in each frame: the newest snapshot, what happened, what boards ask, what became of them.

use crate::edition::Edition;
use crate::screen::calibrate::behind;
use crate::screen::calibrate::forms::SEEN;
use crate::screen::dialog::Dialog;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::health;
use crate::screen::inputs::goals;
use crate::screen::model::{Model, STRIP, TRACED, Tone};
use crate::screen::moment::Moment;
use crate::screen::scene::Picked;
use crate::screen::sequence::acts::keep_standing;
use crate::session::Session;
use std::sync::Arc;
use std::time::Duration;
use wasvolta_core::rig::edit::keep_pose;
use wasvolta_core::rig::edit::links::free;
use wasvolta_core::rig::{Back, Board, Does, Rig, ServoId};
use wasvolta_core::stage::{About, Event, EventKind, Refusal};
use wasvolta_engine::snapshot::BoardState;
use wasvolta_port::board::Stand;
use wasvolta_port::expander::{Lapse, Phase};
use wasvolta_port::inlet::Shut;

/// What becomes of a servo whose pulses had stopped.
pub const fn interrupted(back: Back, smart: bool) -> &'static str {
    match back {
        Back::Last if smart => "was not driven for a while: it continues from where it is",
        Back::Ask if smart => {
            "was not driven for a while, and stays limp: ‹engage› makes it stiff where it is"
        }
        Back::StayReleased if smart => "was not driven for a while and stays limp, as its joint says",
        Back::Last => "lost its pulses for a while: it glides on from its last one",
        Back::Ask => "lost its pulses and may have moved: ‹engage› asks where it stands",
        Back::StayReleased => "lost its pulses and stays released, as its joint says",
    }
}

impl Model {
    /// Takes in what has happened since the last frame.
    pub fn observe(&mut self, session: &mut Session, now: Duration) {
        self.snapshot.clone_from(session.runner.engine.snapshot());
        session.runner.forget_before(&self.snapshot);
        if let Some(found) = session.runner.lookout.found() {
            self.in_wiring.scan = Some(found);
        }
        if let Some(answer) = session.runner.lookout.answer() {
            self.say(Tone::Done, &answer, now);
            self.in_wiring.answer = Some(answer);
        }
        self.look(session);
        let events: Vec<(u64, Event)> =
            self.snapshot.events.iter().copied().filter(|(number, _)| *number > self.events_seen).collect();
        for (number, event) in events {
            self.events_seen = number;
            self.hear(session, event, now);
        }
        self.follow_boards();
        self.follow_lag(session);
        self.follow_hands(session);
        self.follow_health(session);
        self.note_boards(session.runner.edition_of(&self.snapshot));
        self.settle(session);
        let edition = session.runner.edition_of(&self.snapshot);
        let link = edition.input(self.input.id).and_then(|input| edition.index.links.named(&input.link));
        let engine = &session.runner.engine;
        let troubles = (0..engine.compiled().rig.links.len()).map(|n| engine.link_trouble(n));
        let said = |(n, shut): (usize, Option<Shut>)| match shut {
            Some(shut) => Some(format!("{shut}; {}", shut.help)),
            None => edition.rig.links.get(n).and_then(|link| edition.unread_pin(link, &self.snapshot)),
        };
        self.in_wiring.link_troubles = troubles.enumerate().map(said).collect();
        self.in_inputs.link_trouble =
            link.and_then(|n| self.in_wiring.link_troubles.get(n)).cloned().flatten();
        if let Some(player) = self.snapshot.players.of(self.sequence.id).filter(|p| p.play.goes_on()) {
            self.in_sequence.time = player.at.seconds();
        }
        session.runner.engine.trace(self.input.id);
        self.follow_trace();
        session.runner.keyboard.tick();
        self.in_inputs.keyboard = session.runner.keyboard.values();
        super::inputs::listen::hear(
            &mut self.dialog,
            &mut self.in_inputs.background,
            session.runner.edition_of(&self.snapshot),
            &self.snapshot,
        );
        self.follow_rests(session, now);
        self.follow_course(session);
        if session.runner.engine.is_recording_broken()
            && !std::mem::replace(&mut self.told_of_recording, true)
        {
            let words =
                "the recording is not whole: this machine could not write it fast enough; all else goes on";
            self.say(Tone::Refused, words, now);
        }
        if self.said.as_ref().is_some_and(|(_, _, until)| now > *until) {
            self.said = None;
        }
    }

    /// Takes in every beat of the picked input since the last frame.
    fn follow_trace(&mut self) {
        let (trace, strip) = (&self.snapshot.trace, &mut self.in_inputs.strip);
        if trace.of != Some(self.input.id) {
            return;
        }
        if trace.count < self.in_inputs.traced {
            strip.clear();
            self.in_inputs.traced = 0;
        }
        for sample in trace.since(self.in_inputs.traced) {
            if strip.len() == TRACED {
                strip.pop_front();
            }
            strip.push_back(sample);
        }
        self.in_inputs.traced = trace.count;
    }

    /// A stick that rests elsewhere than it was learned is said once.
    fn follow_rests(&mut self, session: &Session, now: Duration) {
        let edition = session.runner.edition_of(&self.snapshot);
        for id in self.in_inputs.rests.hear(edition, &self.snapshot) {
            let Some((input, rest)) = edition.input(id).zip(self.in_inputs.rests.moved(id)) else { continue };
            let words = format!("{} rests at {rest:.0} now: was the transmitter's trim moved?", input.name);
            self.say(Tone::Done, &words, now);
            self.note(self.snapshot.now, &words);
        }
    }

    /// What the picked servo was told lately, and where it was.
    fn follow_course(&mut self, session: &Session) {
        if std::mem::replace(&mut self.course_of, self.servo.id) != self.servo.id {
            self.course.clear();
        }
        let at_s = self.snapshot.now.as_secs_f64();
        let moment = self.scene(session).picked().map(|p| Moment {
            at_s,
            told: p.state.engaged.then(|| p.wire_pulse() - p.state.trim()),
            measured: p.measured(),
        });
        let Some(moment) =
            moment.filter(|moment| self.course.back().is_none_or(|last| last.at_s < moment.at_s))
        else {
            return;
        };
        if self.course.len() == STRIP {
            self.course.pop_front();
        }
        self.course.push_back(moment);
    }

    fn look(&mut self, session: &Session) {
        let Some(simulated) = &session.runner.simulated else { return };
        self.in_wiring.faults = simulated.faults().on().iter().map(ToString::to_string).collect();
        let rig = &session.document.rig;
        let picked = session.runner.edition.servo(self.servo.id);
        self.seen = picked.and_then(|servo| Some((servo.id, simulated.look(rig, servo)?)));
        self.meter = picked.and_then(|servo| simulated.meter_hz(rig, rig.board(&servo.board)?));
    }

    fn hear(&mut self, session: &mut Session, event: Event, now: Duration) {
        let edition = Arc::clone(session.runner.edition_of(&self.snapshot));
        let rig: &Rig = &edition.rig;
        let (servo, link) = match event.about {
            About::Servo(servo) => (edition.servo(servo).map_or("", |s| s.name.as_str()), ""),
            About::Link(link) => ("", edition.link(link).map_or("", |l| l.name.as_str())),
            About::Input(_) | About::Output | About::Sequence(..) => ("", ""),
        };
        let smart = rig.servo(servo).is_some_and(|servo| servo.kind.is_smart());
        let words = match event.kind {
            EventKind::Refused(Refusal::Cannot) => {
                let pins = event.about.servo().and_then(|servo| session.runner.able(&self.snapshot, servo));
                let pins = pins.map_or_else(String::new, |pins| format!("; those that can: {pins}"));
                self.bell = true;
                self.say(Tone::Refused, &format!("{servo} {}{pins}", Refusal::Cannot.words()), now);
                return;
            }
            EventKind::Refused(why) => {
                self.say(Tone::Refused, format!("{servo} {}", why.words()).trim(), now);
                return;
            }
            EventKind::Stopped(stopped) => {
                self.bell = true;
                let words = format!("{servo} is {}", rig.stopped_words(servo, stopped));
                self.say(Tone::Refused, &words, now);
                return;
            }
            EventKind::Engaged => format!("{servo} engaged"),
            EventKind::Released => format!("{servo} released"),
            EventKind::IdleReleased => {
                let words = format!("{servo} was released: nothing was asked of it for long");
                self.say(Tone::Done, &words, now);
                words
            }
            EventKind::Exercised => {
                self.ask_what_was_seen(event.about, servo);
                format!("{servo} exercised")
            }
            EventKind::Cut => "output cut".to_owned(),
            EventKind::Held => "held".to_owned(),
            EventKind::Enabled => "enabled again".to_owned(),
            EventKind::Sequence { told, at } => {
                let About::Sequence(id, _) = event.about else { return };
                super::sequence::told::words(&edition, id, told, at)
            }
            EventKind::Shares { .. } | EventKind::TooMany => {
                let words = super::sequence::told::refused(&edition, event);
                self.say(Tone::Refused, &words, now);
                return;
            }
            EventKind::Link(health) => {
                return self.note_health(event.at, &format!("link {link}"), health.word());
            }
            EventKind::NotANumber => format!("{servo}: target not a number"),
            EventKind::Resumed => {
                if smart {
                    format!("{servo} continues: it was stiff all along")
                } else {
                    format!("{servo} continues from the pulse it kept")
                }
            }
            EventKind::Interrupted(back) => {
                let words = format!("{servo} {}", interrupted(back, smart));
                if back != Back::Last {
                    self.bell = true;
                    self.say(Tone::Refused, &words, now);
                }
                words
            }
            EventKind::Pressed { place, does, done } => {
                return self.pressed(session, event, (place, does, done), now);
            }
            EventKind::AsIf(on) => {
                let About::Input(input) = event.about else { return };
                let input = edition.input(input).map_or("", |input| input.name.as_str());
                format!(
                    "{input} {}",
                    if on { "reads as if it were moved" } else { "is what its link says again" }
                )
            }
            EventKind::LostReleased => {
                let words = format!("{servo} was released: a link of what moves it is lost");
                self.say(Tone::Refused, &words, now);
                words
            }
            EventKind::Displaced => {
                let words = format!("{servo} glides to where it may stand: the edit left it outside");
                self.say(Tone::Done, &words, now);
                words
            }
        };
        self.note(event.at, &words);
    }

    /// A switch was pressed: what came of it, in words. A pose is kept here.
    fn pressed(
        &mut self,
        session: &mut Session,
        event: Event,
        (place, does, done): (u8, Does, bool),
        now: Duration,
    ) {
        let About::Input(input) = event.about else { return };
        let Some(name) = session.runner.edition.input(input).map(|input| input.name.clone()) else { return };
        let rig = &session.document.rig;
        let press = rig.presses.iter().find(|press| press.input == name && press.place() == place).cloned();
        let words = match press {
            Some(press) if does == Does::Keep => {
                let like = press.pose.unwrap_or_else(|| "kept".to_owned());
                let pose = free(&like, |name| rig.pose(name).is_some());
                match keep_standing(&self.scene(session), &pose) {
                    Ok(targets) => {
                        let edit = |rig: &Rig| keep_pose(rig, &pose, &targets);
                        match session.edit(&format!("pose {pose} kept by {name}"), edit) {
                            Ok(()) => {
                                self.bell = true;
                                format!("{name} was pressed: the pose {pose} is kept")
                            }
                            Err(why) => format!("{name} was pressed, and no pose is kept: {why}"),
                        }
                    }
                    Err(why) => format!("{name} was pressed, and no pose is kept: {why}"),
                }
            }
            _ if !done => format!("{name} was pressed: {}", does.in_vain()),
            Some(press) => format!("{name} was pressed: it {}", goals::does(&press)),
            None => format!("{name} was pressed: {}", does.word()),
        };
        self.say(Tone::Done, &words, now);
        self.note(event.at, &words);
    }

    /// Once the picked servo was exercised, what was seen is worth a word.
    fn ask_what_was_seen(&mut self, about: About, servo: &str) {
        if about == About::Servo(self.servo.id) && self.dialog.is_none() {
            let hint = "in words, kept with the servo; Esc keeps nothing";
            let fields = vec![Field::new("what was seen", "", hint)];
            self.dialog = Some(Dialog::Form(Form::new(SEEN.name, Subject::of(servo), fields)));
        }
    }

    /// Whatever a board asks is asked anew.
    pub fn ask_again(&mut self) {
        self.asked_about.clear();
        self.follow_boards();
    }

    /// How far the picked servo lags behind, for its strip.
    fn follow_lag(&mut self, session: &Session) {
        let lag = self.shown(session).picked().and_then(|p| Some((p.servo.id, behind::now(&p)?)));
        if let Some((servo, degrees)) = lag {
            self.in_calibrate.behind.look(self.snapshot.now, servo, degrees);
        }
    }

    /// Which limp joints are moved by hand.
    fn follow_hands(&mut self, session: &Session) {
        let scene = self.shown(session);
        let lent = self.in_wiring.lent.as_ref().is_some_and(|lent| !lent.told);
        let limp = |n| {
            let picked = scene.servo(n)?;
            let own = picked.feedback?;
            // What moves it while its bus is lent is no hand.
            let limp = !lent && !picked.state.engaged && own.stand == Stand::Limp;
            let at = picked.measured().filter(|_| limp).zip(picked.layout);
            Some((picked.servo.id, at.map(|(at, layout)| at.get() / layout.counts_a_degree())))
        };
        let all: Vec<(ServoId, Option<f64>)> = (0..scene.rig.servos.len()).filter_map(limp).collect();
        for (servo, at) in all {
            self.taught.look(servo, at);
        }
    }

    /// A line in the log for every smart servo that begins to ail, or ails no more, by its own word.
    fn follow_health(&mut self, session: &Session) {
        let scene = self.shown(session);
        let wrong = |n| {
            let picked: Picked<'_> = scene.servo(n)?;
            let word = health::word(&picked)?;
            let word = health::is_wrong(word).then_some(word.0);
            Some((picked.servo.id, picked.servo.name.clone(), word))
        };
        let all: Vec<_> = (0..scene.rig.servos.len()).filter_map(wrong).collect();
        let at = self.snapshot.now;
        for (servo, name, word) in all {
            let was = self.ailing.iter().find(|(id, _)| *id == servo).map(|(_, word)| *word);
            if was == word {
                continue;
            }
            self.ailing.retain(|(id, _)| *id != servo);
            self.ailing.extend(word.map(|word| (servo, word)));
            self.note_health(at, &format!("{name}:"), word.unwrap_or("well again"));
        }
    }

    /// Speaks up when a board asks something, once a question.
    fn follow_boards(&mut self) {
        for state in self.snapshot.boards.iter().flatten() {
            let asked = self.asked_about.contains(&state.id);
            match &state.phase {
                Phase::Asking(found) if !asked && self.dialog.is_none() => {
                    let found = found.clone();
                    self.dialog = Some(Dialog::Found { board: state.id, found });
                    self.asked_about.push(state.id);
                }
                Phase::Started => self.asked_about.retain(|board| *board != state.id),
                _ => {}
            }
        }
    }

    /// What is picked may be gone after an undo: then the one in its place is picked, or the last that is there.
    fn settle(&mut self, session: &Session) {
        let last = |count: usize| count.saturating_sub(1);
        let (rig, index) = (&session.document.rig, &session.runner.edition.index);
        self.servo.settle(&rig.servos, &index.servos);
        self.input.settle(&rig.inputs, &index.inputs);
        self.sequence.settle(&rig.sequences, &index.sequences);
        self.in_wiring.plug.0.settle(&rig.boards, &index.boards);
        let marks = session.runner.edition.servo(self.servo.id).map_or(0, |servo| servo.marks.len());
        self.in_calibrate.mark =
            self.in_calibrate.mark.filter(|_| marks > 0).map(|mark| mark.min(last(marks)));
        let steps =
            session.runner.edition.sequence(self.sequence.id).map_or(0, |sequence| sequence.steps.len());
        self.in_sequence.step = self.in_sequence.step.min(last(steps));
    }

    /// Notes what became of each board: missing, back, not as it was left. One line each, and one for every servo
    /// that gets its pulses back.
    fn note_boards(&mut self, edition: &Edition) {
        let rig = &edition.rig;
        let states: Vec<(&Board, BoardState)> =
            edition.boards(&self.snapshot).map(|(board, state)| (board, state.clone())).collect();
        let next = states.iter().map(|(_, state)| state.clone()).collect();
        let before = std::mem::replace(&mut self.boards_seen, next);
        for (board, is) in states {
            let was = before.iter().find(|was| was.id == board.id).cloned().unwrap_or_default();
            let lapse = is.lapse.filter(|_| is.lapses > was.lapses).map(|(_, lapse)| lapse);
            let words = match (was.trouble, is.trouble) {
                (None, Some(trouble)) => Some(format!("{}: {}", board.name, trouble.fault)),
                (Some(_), None) if was.starts > 0 => Some(match lapse {
                    Some(lapse) => format!("{} is back; it {}", board.name, lapse.words()),
                    None => format!("{} is back", board.name),
                }),
                _ if lapse.is_some() => lapse.map(|lapse| format!("{} {}", board.name, lapse.words())),
                _ if is.starts > was.starts => Some(format!("{} started", board.name)),
                _ => None,
            };
            if let Some(words) = words {
                self.note(self.snapshot.now, &words);
            }
            let again = (is.starts > was.starts && was.starts > 0) || lapse.is_some_and(Lapse::is_restart);
            for servo in rig.servos_on(&board.name) {
                let place = usize::from(servo.plug());
                let (had, has) = (was.sent.get(place), is.sent.get(place));
                if again && had.is_some() {
                    self.engaging.push(servo.id);
                }
                if has.is_some() && self.engaging.contains(&servo.id) {
                    self.engaging.retain(|engaging| *engaging != servo.id);
                    self.note(self.snapshot.now, &format!("{} engaged again", servo.name));
                }
            }
        }
    }
}
