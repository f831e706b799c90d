//! Lines of a GPIO chip as a way in: switches, rotary encoders, and the width of a hobby radio's pulse.
//!
//! What the kernel says stands behind [`Lines`]: on Linux that is its GPIO device, and a stand-in speaks the same edges.
//! Only lines that inputs stand on are asked for; no other is touched.

use crate::i2c::Fault;
use crate::inlet::{Drained, Inlet, Outlet, Shut};
use rustix::fd::BorrowedFd;
use std::path::Path;
use std::time::Duration;
use wasvolta_wire::decode::Frame;

/// Edges taken in one turn at most.
const MOST: usize = 4096;
/// A pulse of a hobby radio is within these, in µs; what is shorter or longer is noise, or an edge that was missed.
const PULSE: std::ops::RangeInclusive<f64> = 500.0..=2500.0;
/// What stands behind the name of a line whose pull-up is to be on.
const PULL_UP: &str = " pull-up";

/// A line that is asked for.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Wanted {
    /// Its name, or its number.
    pub line: String,
    /// Its pull-up is to be on.
    pub pull_up: bool,
}

/// A line went up or down.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Edge {
    /// Which, by its place among those that were asked for.
    pub line: usize,
    /// It is high now.
    pub high: bool,
    /// When, by the kernel's clock.
    pub at: Duration,
}

/// Lines that are held.
pub trait Lines: Send {
    /// What says that edges wait.
    fn descriptor(&self) -> BorrowedFd<'_>;
    /// Hands on the edges that wait, and never blocks.
    ///
    /// # Errors
    /// When the chip is gone.
    fn take(&mut self, each: &mut dyn FnMut(Edge)) -> std::io::Result<()>;
    /// Whether each of them is high.
    ///
    /// # Errors
    /// When the chip is gone.
    fn levels(&mut self) -> std::io::Result<Vec<bool>>;
}

/// What a channel makes of its lines, by their places.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Reading {
    /// 1 while it is high, 0 while it is low.
    Level(usize),
    /// Steps of an encoder: the two lines, how they stood, and the sum.
    Counts { lines: (usize, usize), stood: u8, sum: f64 },
    /// The time between its rise and its fall.
    Pulse { line: usize, rose: Option<Duration> },
}

/// Which lines channels need, and how each reads them. What is no channel is left out.
#[derive(Debug, Clone, Default)]
pub struct Plan {
    /// The lines, each once.
    pub lines: Vec<Wanted>,
    channels: Vec<(Box<str>, Reading)>,
}

impl Plan {
    /// For channels as a rig names them: `line NAME`, `counts A B`, `pulse NAME`, each with ` pull-up` behind it or not.
    pub fn of<'n>(channels: impl IntoIterator<Item = &'n str>) -> Self {
        let mut plan = Self::default();
        for name in channels {
            let (plain, pull_up) = name.strip_suffix(PULL_UP).map_or((name, false), |plain| (plain, true));
            let reading = match plain.split_once(' ') {
                Some(("line", line)) => Reading::Level(plan.line(line, pull_up)),
                Some(("pulse", line)) => Reading::Pulse { line: plan.line(line, pull_up), rose: None },
                Some(("counts", lines)) => {
                    let Some((a, b)) = lines.split_once(' ') else { continue };
                    let lines = (plan.line(a, pull_up), plan.line(b, pull_up));
                    Reading::Counts { lines, stood: 0, sum: 0.0 }
                }
                _ => continue,
            };
            plan.channels.push((name.into(), reading));
        }
        plan
    }

    fn line(&mut self, line: &str, pull_up: bool) -> usize {
        let same = self.lines.iter().position(|own| own.line == line);
        if let Some(own) = same.and_then(|place| self.lines.get_mut(place)) {
            own.pull_up |= pull_up;
        }
        same.unwrap_or_else(|| {
            self.lines.push(Wanted { line: line.to_owned(), pull_up });
            self.lines.len() - 1
        })
    }
}

struct Chip<L> {
    lines: L,
    channels: Vec<(Box<str>, Reading)>,
    levels: Vec<bool>,
    is_new: bool,
}

/// A way in over lines that are held.
pub fn inlet(lines: impl Lines + 'static, plan: Plan) -> Box<dyn Inlet> {
    Box::new(Chip { lines, channels: plan.channels, levels: Vec::new(), is_new: true })
}

/// How an encoder's two lines stand, in the order in which they turn: 00, 01, 11, 10.
const fn turn(a: bool, b: bool) -> u8 {
    match (a, b) {
        (false, false) => 0,
        (false, true) => 1,
        (true, true) => 2,
        (true, false) => 3,
    }
}

impl<L: Lines> Chip<L> {
    fn begin(&mut self, out: &mut dyn Outlet) -> std::io::Result<()> {
        self.levels = self.lines.levels()?;
        let level = |line: usize| self.levels.get(line).copied().unwrap_or_default();
        for (name, reading) in &mut self.channels {
            out.has(0, name, None);
            match reading {
                Reading::Level(line) => out.value(0, name, f64::from(u8::from(level(*line)))),
                Reading::Counts { lines, stood, sum } => {
                    *stood = turn(level(lines.0), level(lines.1));
                    out.value(0, name, *sum);
                }
                Reading::Pulse { .. } => {}
            }
        }
        out.frame(Frame::Values);
        Ok(())
    }
}

impl Reading {
    /// What it says at an edge; nothing where it says nothing new.
    fn hear(&mut self, edge: &Edge, levels: &[bool]) -> Option<f64> {
        let level = |line: usize| levels.get(line).copied().unwrap_or_default();
        match self {
            Self::Level(line) => (*line == edge.line).then_some(f64::from(u8::from(edge.high))),
            Self::Counts { lines, stood, sum } if edge.line == lines.0 || edge.line == lines.1 => {
                let stands = turn(level(lines.0), level(lines.1));
                // A step of two may have gone either way: it is no step.
                let step = match (stands + 4 - *stood) % 4 {
                    1 => 1.0,
                    3 => -1.0,
                    _ => 0.0,
                };
                *stood = stands;
                *sum += step;
                (step != 0.0).then_some(*sum)
            }
            Self::Pulse { line, rose } if *line == edge.line => {
                if edge.high {
                    *rose = Some(edge.at);
                    return None;
                }
                // Whole nanoseconds: what is told in µs comes out even.
                let width =
                    edge.at.checked_sub(rose.take()?).filter(|width| *width < Duration::from_millis(20))?;
                let us = f64::from(width.subsec_nanos()) / 1e3;
                PULSE.contains(&us).then_some(us)
            }
            Self::Counts { .. } | Self::Pulse { .. } => None,
        }
    }
}

impl<L: Lines> Inlet for Chip<L> {
    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(self.lines.descriptor())
    }

    fn drain(&mut self, _: Duration, out: &mut dyn Outlet) -> Drained {
        if std::mem::take(&mut self.is_new) && self.begin(out).is_err() {
            return Drained::Gone;
        }
        let Self { lines, channels, levels, .. } = self;
        let mut left = MOST;
        let done = lines.take(&mut |edge| {
            let Some(less) = left.checked_sub(1) else { return };
            left = less;
            if let Some(level) = levels.get_mut(edge.line) {
                *level = edge.high;
            }
            let mut any = false;
            for (name, reading) in &mut *channels {
                if let Some(value) = reading.hear(&edge, levels) {
                    out.value(0, name, value);
                    any = true;
                }
            }
            if any {
                out.frame(Frame::Values);
            }
        });
        if done.is_ok() { Drained::Open } else { Drained::Gone }
    }
}

/// Asks a chip for lines, as inputs, with both edges.
///
/// # Errors
/// When the chip is not there, when this user may not open it, when it has no such line, and when something else has it.
pub fn open(path: &Path, plan: &Plan) -> Result<Box<dyn Inlet>, Shut> {
    let lines = kernel::open(path, &plan.lines)?;
    Ok(inlet(lines, plan.clone()))
}

fn shut(path: &Path, doing: &str, words: &str, fault: Fault) -> Shut {
    let help = match fault {
        Fault::NoBus => "write a chip that is there: `wasvolta scan` lists them",
        Fault::Denied => {
            "GPIO chips belong to the group gpio: add your user to it (usermod -aG gpio USER), and log in again"
        }
        Fault::Absent => "write a line that the chip has, by its name or its number",
        Fault::Busy => "another program or a driver holds that line: close that first",
        _ => "write the path of a GPIO chip, as /dev/gpiochip0",
    };
    Shut { words: format!("cannot {doing} {}: {words}", path.display()), help: help.to_owned(), fault }
}

#[cfg(target_os = "linux")]
mod kernel {
    //! The kernel's own chips. What stands here is run only where there are some.

    use super::{Duration, Edge, Fault, Lines, Path, Shut, Wanted, shut};
    use gpiocdev::Request;
    use gpiocdev::chip::Chip;
    use gpiocdev::line::{Bias, EdgeDetection, EdgeKind, Offset, Value};
    use rustix::fd::{AsFd, BorrowedFd};

    struct Held {
        request: Request,
        offsets: Vec<Offset>,
    }

    pub(super) fn open(path: &Path, wanted: &[Wanted]) -> Result<impl Lines + use<>, Shut> {
        use std::io::ErrorKind;
        // Asked of the system first, whose words are plain.
        std::fs::File::open(path).map_err(|error| match error.kind() {
            ErrorKind::NotFound => shut(path, "open", "no such chip", Fault::NoBus),
            ErrorKind::PermissionDenied => shut(path, "open", "permission denied", Fault::Denied),
            _ => shut(path, "open", &error.to_string(), Fault::OtherKind),
        })?;
        let chip = Chip::from_path(path)
            .map_err(|error| shut(path, "open", &error.to_string(), Fault::OtherKind))?;
        let offset = |wanted: &Wanted| {
            let named = chip.find_line_info(&wanted.line).map(|info| info.offset);
            let numbered = || wanted.line.parse().ok().filter(|offset| chip.line_info(*offset).is_ok());
            named.or_else(numbered).ok_or_else(|| {
                shut(path, "read", &format!("it has no line {:?}", wanted.line), Fault::Absent)
            })
        };
        let offsets = wanted.iter().map(offset).collect::<Result<Vec<_>, _>>()?;
        let mut asked = Request::builder();
        asked.on_chip(path).with_consumer("wasvolta");
        for (offset, wanted) in offsets.iter().zip(wanted) {
            asked.with_line(*offset).as_input().with_edge_detection(EdgeDetection::BothEdges);
            asked.with_bias(wanted.pull_up.then_some(Bias::PullUp));
        }
        let request =
            asked.request().map_err(|error| shut(path, "hold lines of", &error.to_string(), Fault::Busy))?;
        Ok(Held { request, offsets })
    }

    impl Lines for Held {
        fn descriptor(&self) -> BorrowedFd<'_> {
            self.request.as_fd()
        }

        fn take(&mut self, each: &mut dyn FnMut(Edge)) -> std::io::Result<()> {
            let failed = |error: gpiocdev::Error| std::io::Error::other(error.to_string());
            while self.request.has_edge_event().map_err(failed)? {
                let event = self.request.read_edge_event().map_err(failed)?;
                if let Some(line) = self.offsets.iter().position(|own| *own == event.offset) {
                    let (high, at) =
                        (event.kind == EdgeKind::Rising, Duration::from_nanos(event.timestamp_ns));
                    each(Edge { line, high, at });
                }
            }
            Ok(())
        }

        fn levels(&mut self) -> std::io::Result<Vec<bool>> {
            let level = |offset: &Offset| self.request.value(*offset).map(|value| value == Value::Active);
            self.offsets
                .iter()
                .map(level)
                .collect::<Result<_, _>>()
                .map_err(|error| std::io::Error::other(error.to_string()))
        }
    }
}

#[cfg(not(target_os = "linux"))]
mod kernel {
    use super::{BorrowedFd, Edge, Fault, Lines, Path, Shut, Wanted, shut};

    enum None {}

    pub(super) fn open(path: &Path, _: &[Wanted]) -> Result<impl Lines + use<>, Shut> {
        Err::<None, _>(shut(path, "open", "GPIO chips are read on Linux alone", Fault::OtherKind))
    }

    impl Lines for None {
        fn descriptor(&self) -> BorrowedFd<'_> {
            match *self {}
        }
        fn take(&mut self, _: &mut dyn FnMut(Edge)) -> std::io::Result<()> {
            match *self {}
        }
        fn levels(&mut self) -> std::io::Result<Vec<bool>> {
            match *self {}
        }
    }
}
