//! How each kind of port with links on it is opened on this machine.

use crate::wiring::WaySetup;
use rustix::fd::BorrowedFd;
use std::path::PathBuf;
use std::time::Duration;
use wasvolta_core::rig::{Framing, PortKind, Wave};
use wasvolta_port::Fault;
use wasvolta_port::inlet::{self, Drained, Inlet, OpenInlet, Outlet, Shut};
use wasvolta_port::{gpio, iio, mqtt, pad, serial};
use wasvolta_wire::decode::{Carrier, Frame};

/// The time between two values of a wave.
const WAVE_EVERY: Duration = Duration::from_millis(20);
/// Values that were missed beyond this are not made up for.
const MOST_AT_ONCE: u32 = 10;

/// What opens a way as it is set up; it is tried again and again where it cannot be opened yet.
pub fn opener(setup: &WaySetup) -> OpenInlet {
    let WaySetup { port, protocol, wave, .. } = setup;
    let path = PathBuf::from(&port.path);
    match port.kind {
        PortKind::Serial => {
            let row = protocol.row();
            let (baud, framing) = (port.baud.unwrap_or(row.baud), framing(row.framing));
            Box::new(move || inlet::line(&path, baud, framing))
        }
        PortKind::Stdin => Box::new(inlet::standard_input),
        PortKind::Udp => {
            let at = port.listens_at();
            Box::new(move || at.map_or_else(|| Err(nothing("no place to listen at")), inlet::datagrams))
        }
        PortKind::Wave => {
            let wave = wave.unwrap_or(Wave::USUAL);
            Box::new(move || Ok(Box::new(Waving { wave, next: None, began: Duration::ZERO })))
        }
        PortKind::Midi => Box::new(move || inlet::device(&path)),
        PortKind::Evdev => Box::new(move || pad::open(&path)),
        PortKind::Gpio => {
            let plan = gpio::Plan::of(setup.channels.iter().map(String::as_str));
            Box::new(move || gpio::open(&path, &plan))
        }
        PortKind::Iio => Box::new(move || iio::open(&path)),
        PortKind::Mqtt => match port.broker() {
            Some((host, number, topics)) => mqtt::opener(mqtt::Broker {
                host: host.to_owned(),
                port: number,
                topics: topics.to_owned(),
                wills: setup.wills.clone(),
                login_file: port.login_file.clone(),
            }),
            None => Box::new(|| Err(nothing("no broker to listen at"))),
        },
        PortKind::Keys => Box::new(|| {
            Err(Shut {
                words: "the keyboard's faders are moved on the screen alone".to_owned(),
                help: "open the rig in the program: in ‹Inputs› ‹play faders› plays them".to_owned(),
                fault: Fault::OtherKind,
            })
        }),
        PortKind::I2c | PortKind::Pwm => Box::new(|| Err(nothing("no link can stand there"))),
    }
}

fn nothing(words: &str) -> Shut {
    Shut { words: words.to_owned(), help: "put the link on another port".to_owned(), fault: Fault::OtherKind }
}

/// The bits around each byte, as a line takes them.
pub const fn framing(framing: Framing) -> serial::Framing {
    match framing {
        Framing::EightNone1 => serial::Framing::EightNone1,
        Framing::EightEven2 => serial::Framing::EightEven2,
    }
}

/// How bytes are carried over a kind of port.
pub(crate) const fn carrier(kind: PortKind) -> Carrier {
    if matches!(kind, PortKind::Udp) { Carrier::Datagrams } else { Carrier::Stream }
}

/// A wave generator at work: every 20 ms a value, from when it was first asked.
struct Waving {
    wave: Wave,
    next: Option<Duration>,
    began: Duration,
}

impl Inlet for Waving {
    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        None
    }

    fn drain(&mut self, now: Duration, out: &mut dyn Outlet) -> Drained {
        let mut next = *self.next.get_or_insert_with(|| {
            self.began = now;
            now
        });
        let mut made = 0;
        while next <= now {
            if made < MOST_AT_ONCE {
                out.value(1, "", self.wave.at(next.saturating_sub(self.began)));
                out.frame(Frame::Values);
                made += 1;
                next += WAVE_EVERY;
            } else {
                next = now + WAVE_EVERY;
            }
        }
        self.next = Some(next);
        Drained::Open
    }
}
