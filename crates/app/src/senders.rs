//! Simulated senders of a rig: what prints, and what receives a radio, on ptys that the engine opens as any line.

use crate::files;
use crate::keyboard::Keyboard;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use wasvolta_core::rig::{PortKind, Protocol};
use wasvolta_engine::{Opener, ways};
use wasvolta_port::Fault;
use wasvolta_port::inlet::{self, OpenInlet, Shut};
use wasvolta_port::{gpio, iio, pad};
use wasvolta_sim::sender::Speaker;
use wasvolta_sim::sender::fields::Fields;
use wasvolta_sim::sender::midi::Instrument;
use wasvolta_sim::sender::radio::{Radio, Speech};
use wasvolta_sim::truth::{KnobTruth, RadioTruth};
use wasvolta_sim::{Sender, SimChip, SimPad, SimSensor, StandIn, Truth};

/// Something that a hand moves by itself is moved this often.
const HAND_MOVES: Duration = Duration::from_millis(20);

struct Inner {
    truth: Truth,
    seed: u64,
    by_hand: bool,
    /// By the NAME of `sim:NAME`.
    senders: BTreeMap<String, Sender>,
    /// What brings no bytes, by the same.
    pads: BTreeMap<String, SimPad>,
    chips: BTreeMap<String, SimChip>,
    sensors: BTreeMap<String, SimSensor>,
    ended: Arc<AtomicBool>,
    /// Holds the lines' paths.
    folder: files::Passing,
}

/// See the module. All handles speak of the same ones.
#[derive(Clone)]
pub struct Senders(Arc<Mutex<Inner>>);

/// What speaks a protocol where nothing was said of it; none where no stand-in does.
pub fn stand_in(protocol: Protocol, name: &str) -> Option<Box<dyn Speaker>> {
    let radio = |speech| Box::new(Radio::new(RadioTruth::of(name, speech))) as Box<dyn Speaker>;
    match protocol {
        Protocol::Lines => Some(Box::new(Fields::new(vec![KnobTruth::of(name, "knob")]))),
        Protocol::Ibus => Some(radio(Speech::Ibus)),
        Protocol::Sbus => Some(radio(Speech::Sbus)),
        Protocol::Crsf => Some(radio(Speech::Crsf)),
        Protocol::Midi => Some(Box::new(Instrument::default())),
        _ => None,
    }
}

impl Senders {
    /// None yet: each comes when its line is opened. Where time passes by hand none speaks by itself.
    pub fn new(truth: &Truth, seed: u64, by_hand: bool, folder: files::Passing) -> Self {
        let (truth, senders) = (truth.clone(), BTreeMap::new());
        let (pads, chips, sensors) = (BTreeMap::new(), BTreeMap::new(), BTreeMap::new());
        Self(Arc::new(Mutex::new(Inner {
            truth,
            seed,
            by_hand,
            senders,
            pads,
            chips,
            sensors,
            ended: Arc::default(),
            folder,
        })))
    }

    /// What stands in under a name, where there is something yet.
    pub fn get(&self, name: &str) -> Option<Box<dyn StandIn>> {
        fn boxed<T: StandIn + Clone + 'static>(found: Option<&T>) -> Option<Box<dyn StandIn>> {
            found.map(|found| Box::new(found.clone()) as Box<dyn StandIn>)
        }
        let inner = self.lock();
        boxed(inner.senders.get(name))
            .or_else(|| boxed(inner.pads.get(name)))
            .or_else(|| boxed(inner.chips.get(name)))
            .or_else(|| boxed(inner.sensors.get(name)))
    }

    /// The sender of a name, which comes where there was none: as the truth has it, else as is usual for a protocol.
    fn ensure(&self, name: &str, protocol: Protocol) -> Result<Sender, Shut> {
        let mut inner = self.lock();
        if let Some(sender) = inner.senders.get(name) {
            return Ok(sender.clone());
        }
        let shut = |words: String| Shut {
            words,
            help: "put the link on a port of this machine".to_owned(),
            fault: Fault::OtherKind,
        };
        let radio = inner.truth.radios.iter().find(|radio| radio.line == name).cloned();
        let fields: Vec<KnobTruth> =
            inner.truth.knobs.iter().filter(|knob| knob.line == name).cloned().collect();
        let speaker: Box<dyn Speaker> = match radio {
            Some(radio) => Box::new(Radio::new(radio)),
            None if !fields.is_empty() => Box::new(Fields::new(fields)),
            None => stand_in(protocol, name)
                .ok_or_else(|| shut(format!("nothing simulates {} on a line", protocol.row().title)))?,
        };
        let path = inner.folder.path().join(format!("line-{}", inner.senders.len()));
        let sender = Sender::plug_in(speaker, inner.seed, &path)
            .map_err(|error| shut(format!("cannot simulate a serial line: {error}")))?;
        if !inner.by_hand {
            sender.run();
        }
        inner.senders.insert(name.to_owned(), sender.clone());
        Ok(sender)
    }

    /// Lets all of them say what they would in a time.
    pub fn pass(&self, time: Duration) {
        let inner = self.lock();
        inner.senders.values().for_each(|sender| sender.pass(time));
        inner.pads.values().for_each(|pad| pad.pass(time));
        inner.chips.values().for_each(|chip| chip.play(time));
        inner.sensors.values().for_each(|sensor| sensor.pass(time));
    }

    /// The pad of a name, which comes where there was none.
    fn pad(&self, name: &str) -> std::io::Result<SimPad> {
        let mut inner = self.lock();
        if let Some(pad) = inner.pads.get(name) {
            return Ok(pad.clone());
        }
        let pad = SimPad::new()?;
        inner.pads.insert(name.to_owned(), pad.clone());
        let played = pad.clone();
        inner.play(move |time| played.pass(time));
        Ok(pad)
    }

    /// The GPIO chip of a name.
    fn chip(&self, name: &str) -> std::io::Result<SimChip> {
        let mut inner = self.lock();
        if let Some(chip) = inner.chips.get(name) {
            return Ok(chip.clone());
        }
        let chip = SimChip::new()?;
        inner.chips.insert(name.to_owned(), chip.clone());
        let played = chip.clone();
        inner.play(move |time| played.play(time));
        Ok(chip)
    }

    /// The sensor of a name.
    fn sensor(&self, name: &str) -> std::io::Result<SimSensor> {
        let mut inner = self.lock();
        if let Some(sensor) = inner.sensors.get(name) {
            return Ok(sensor.clone());
        }
        let directory = inner.folder.path().join(format!("sensor-{}", inner.sensors.len()));
        let sensor = SimSensor::new(&directory)?;
        inner.sensors.insert(name.to_owned(), sensor.clone());
        let played = sensor.clone();
        inner.play(move |time| played.pass(time));
        Ok(sensor)
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Inner {
    /// Lets a hand move something as time goes by, unless time passes by hand.
    fn play(&self, mut pass: impl FnMut(Duration) + Send + 'static) {
        if self.by_hand {
            return;
        }
        let ended = Arc::clone(&self.ended);
        std::thread::spawn(move || {
            while !ended.load(Ordering::SeqCst) {
                std::thread::sleep(HAND_MOVES);
                pass(HAND_MOVES);
            }
        });
    }
}

impl Drop for Inner {
    fn drop(&mut self) {
        self.ended.store(true, Ordering::SeqCst);
        self.senders.values().for_each(Sender::stop);
    }
}

/// What opens ways in: simulated ones on the lines of their senders, all others on this machine.
pub fn opener(senders: Option<&Senders>, keyboard: &Keyboard) -> Opener {
    let (senders, keyboard) = (senders.cloned(), keyboard.clone());
    Box::new(move |setup| -> OpenInlet {
        if setup.port.kind == PortKind::Keys {
            let keyboard = keyboard.clone();
            return Box::new(move || keyboard.open());
        }
        let name = setup.port.simulated().map(str::to_owned);
        let Some((senders, name)) = senders.clone().zip(name) else { return ways::opener(setup) };
        let shut = |error: std::io::Error| Shut {
            words: format!("cannot simulate it: {error}"),
            help: "put the link on a port of this machine".to_owned(),
            fault: Fault::OtherKind,
        };
        match setup.port.kind {
            PortKind::Evdev => {
                return Box::new(move || {
                    let open = senders.pad(&name).and_then(|pad| pad.open());
                    open.map(pad::inlet).map_err(shut)
                });
            }
            PortKind::Gpio => {
                let plan = gpio::Plan::of(setup.channels.iter().map(String::as_str));
                return Box::new(move || {
                    let open = senders.chip(&name).and_then(|chip| chip.open(&plan.lines));
                    open.map(|lines| gpio::inlet(lines, plan.clone())).map_err(shut)
                });
            }
            PortKind::Iio => {
                return Box::new(move || iio::open(senders.sensor(&name).map_err(shut)?.directory()));
            }
            _ => {}
        }
        let protocol = setup.protocol;
        let row = protocol.row();
        let (baud, framing) = (setup.port.baud.unwrap_or(row.baud), ways::framing(row.framing));
        Box::new(move || inlet::line(senders.ensure(&name, protocol)?.path(), baud, framing))
    })
}
