//! How late beats are, beside a thread that does nothing but wait for the same deadlines.
//!
//! Both run at once, so that a busy moment of the machine meets both.

use crate::report::Row;
use crate::rigs;
use crate::share::Times;
use rustix::event::{Timespec, poll};
use std::io::{BufReader, Write};
use std::sync::{Arc, Mutex, OnceLock};
use std::time::Duration;
use wasvolta_engine::{BoardPort, Engine, Setup, Way, record};
use wasvolta_port::{Clock, WallClock};
use wasvolta_sim::{Bench, Truth};

const PERIOD: Duration = Duration::from_millis(5);
const BEATS: u32 = 6000;

/// The machine's clock, which remembers when the beat thread first asked it: its deadlines count from there.
struct Noting {
    clock: WallClock,
    start: OnceLock<Duration>,
}

impl Clock for Noting {
    fn now(&self) -> Duration {
        let now = self.clock.now();
        if std::thread::current().name() == Some("beat") {
            self.start.get_or_init(|| now);
        }
        now
    }

    fn wait(&self, time: Duration) {
        self.clock.wait(time);
    }
}

#[derive(Clone, Default)]
struct Shared(Arc<Mutex<Vec<u8>>>);

impl Write for Shared {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.lock().map_err(|_| std::io::ErrorKind::Other)?.extend_from_slice(bytes);
        Ok(bytes.len())
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Two hundred beats a second for half a minute.
pub fn measure() -> Vec<Row> {
    let clock = Arc::new(Noting { clock: WallClock::default(), start: OnceLock::new() });
    let bench = Bench::new(&Truth::default(), 1, clock.clone());
    let open = Box::new(move || Ok(Box::new(bench.bus("bench")) as Box<_>));
    let tape = Shared::default();
    let setup = Setup {
        boards: vec![BoardPort { name: "bus-0".into(), way: Way::Bus(open) }],
        opener: Box::new(wasvolta_engine::ways::opener),
        clock: clock.clone(),
        beat: PERIOD,
        record: Some(Box::new(tape.clone())),
    };
    let Ok(engine) = Engine::start(&Arc::new(rigs::of(16, 60)), setup) else { return Vec::new() };
    let bare = std::thread::spawn(bare);
    let bare = Times::of(bare.join().unwrap_or_default());
    drop(engine);
    let start = clock.start.get().copied().unwrap_or_default();
    let late = lateness(&tape, start);
    if late.is_empty() {
        return Vec::new();
    }
    let engine = Times::of(late);
    let row = |name: &str, per_mille: usize| {
        let (own, beside) = (engine.at(per_mille), bare.at(per_mille));
        Row::new(format!("beat lateness, {name} of {}", engine.count()), format!("{own:.0} µs"))
            .beside(format!("{beside:.0} µs, a bare timer in the same half minute"))
            .ratio(own / beside)
    };
    let (own, beside) = (engine.at(999), bare.at(999));
    vec![row("half", 500), row("99 %", 990), row("99.9 %", 999).wanted("≤ 1.5 ×", own <= 1.5 * beside)]
}

fn bare() -> Vec<Duration> {
    let clock = WallClock::default();
    let start = clock.now() + PERIOD / 2;
    (0..BEATS)
        .map(|n| {
            let deadline = start + PERIOD * n;
            loop {
                let left = deadline.saturating_sub(clock.now());
                if left.is_zero() {
                    return clock.now().saturating_sub(deadline);
                }
                let nanoseconds = i64::from(left.subsec_nanos());
                let timeout =
                    Timespec { tv_sec: left.as_secs().try_into().unwrap_or(0), tv_nsec: nanoseconds };
                let _ = poll(&mut [], Some(&timeout));
            }
        })
        .collect()
}

/// How long after the deadline it waited for each recorded turn began. Nothing else wakes this engine. Beats that
/// were slept through are not made up for: behind them it waits for the next one.
fn lateness(tape: &Shared, start: Duration) -> Vec<Duration> {
    let bytes = tape.0.lock().map(|b| b.clone()).unwrap_or_default();
    let (mut late, mut next) = (Vec::new(), Duration::ZERO);
    let _ = record::replay(BufReader::new(&bytes[..]), |at, _, _| {
        let since = at.saturating_sub(start);
        late.push(since.saturating_sub(next));
        let whole = u32::try_from(since.as_nanos() / PERIOD.as_nanos()).unwrap_or(u32::MAX);
        next = PERIOD * (whole + 1);
    });
    late
}
