//! The program in a terminal: its first frame, its frames, and what it costs while nothing happens.

use crate::program;
use crate::report::Row;
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};
use std::fs::File;
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use wasvolta_core::unit::number;

/// What ratatui writes once a frame.
const FRAME_MARK: &[u8] = b"\x1b[?25l";
const PATIENCE: Duration = Duration::from_secs(20);

struct Terminal {
    child: Child,
    keys: File,
    seen: Arc<Mutex<Vec<u8>>>,
    started: Instant,
}

impl Terminal {
    fn start(home: &Path) -> std::io::Result<Self> {
        let outer = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY)?;
        grantpt(&outer)?;
        unlockpt(&outer)?;
        tcsetwinsize(&outer, Winsize { ws_row: 47, ws_col: 160, ws_xpixel: 0, ws_ypixel: 0 })?;
        let name = ptsname(&outer, Vec::new())?;
        let name = name.to_string_lossy().into_owned();
        let inner = File::options().read(true).write(true).open(name)?;
        let mut command = Command::new(program());
        command.args(["demo", "--fresh", "--log"]).arg(home.join("run.log"));
        for variable in ["HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR"] {
            command.env(variable, home);
        }
        command.env("TERM", "xterm-256color").env("COLORTERM", "truecolor");
        command.stdin(inner.try_clone()?).stdout(inner.try_clone()?).stderr(Stdio::from(inner));
        let started = Instant::now();
        let child = command.spawn()?;
        let keys = File::from(outer);
        let mut screen = keys.try_clone()?;
        let seen = Arc::new(Mutex::new(Vec::new()));
        let all = Arc::clone(&seen);
        std::thread::spawn(move || {
            let mut bytes = [0; 8192];
            while let Ok(count @ 1..) = screen.read(&mut bytes) {
                if let (Ok(mut all), Some(new)) = (all.lock(), bytes.get(..count)) {
                    all.extend_from_slice(new);
                }
            }
        });
        Ok(Self { child, keys, seen, started })
    }

    /// Waits for words; gives the time since the start.
    fn see(&self, wanted: &str) -> Option<Duration> {
        while self.started.elapsed() < PATIENCE {
            let found = self.seen.lock().ok()?.windows(wanted.len()).any(|w| w == wanted.as_bytes());
            if found {
                return Some(self.started.elapsed());
            }
            std::thread::sleep(Duration::from_micros(200));
        }
        None
    }

    fn press(&mut self, keys: &[u8]) {
        let _ = self.keys.write_all(keys);
    }

    /// Waits for its end, a while at most.
    fn ended(&mut self) -> Option<()> {
        let asked = Instant::now();
        while asked.elapsed() < PATIENCE {
            if self.child.try_wait().ok()?.is_some() {
                return Some(());
            }
            std::thread::sleep(Duration::from_millis(5));
        }
        None
    }

    /// Bytes and frames that come within a time.
    fn watch(&self, time: Duration) -> Option<(usize, usize)> {
        self.seen.lock().ok()?.clear();
        std::thread::sleep(time);
        let seen = self.seen.lock().ok()?;
        let frames = seen.windows(FRAME_MARK.len()).filter(|w| *w == FRAME_MARK).count();
        Some((seen.len(), frames))
    }

    /// Seconds of a processor that were used so far.
    fn used(&self) -> Option<f64> {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.child.id())).ok()?;
        let fields: Vec<&str> = stat.rsplit(')').next()?.split_whitespace().collect();
        let ticks: f64 = fields.get(11)?.parse::<f64>().ok()? + fields.get(12)?.parse::<f64>().ok()?;
        Some(ticks / number(usize::try_from(rustix::param::clock_ticks_per_second()).ok()?))
    }

    /// Memory that is held, in MB.
    fn resident(&self) -> Option<f64> {
        resident(&self.child.id().to_string())
    }
}

/// Memory that a process holds, in MB.
pub fn resident(process: &str) -> Option<f64> {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).ok()?;
    let line = status.lines().find(|l| l.starts_with("VmRSS:"))?;
    Some(line.split_whitespace().nth(1)?.parse::<f64>().ok()? / 1024.0)
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The demo at 160 × 47.
pub fn measure() -> Vec<Row> {
    run().unwrap_or_default()
}

fn run() -> Option<Vec<Row>> {
    let mut rows = Vec::new();
    let first = (0..5).filter_map(|_| {
        let home = tempfile::tempdir().ok()?;
        Terminal::start(home.path()).ok()?.see("all keys")
    });
    let first = first.min()?.as_secs_f64() * 1e3;
    rows.push(Row::new("first frame", format!("{first:.0} ms")).wanted("≤ 100 ms", first <= 100.0));
    let home = tempfile::tempdir().ok()?;
    let mut terminal = Terminal::start(home.path()).ok()?;
    terminal.see("all keys")?;
    std::thread::sleep(Duration::from_secs(1));
    let before = terminal.used()?;
    let (_, frames) = terminal.watch(Duration::from_secs(10))?;
    let idle = (terminal.used()? - before) * 10.0;
    rows.push(
        Row::new("a core, output off", format!("{idle:.1} %"))
            .beside(format!("{:.1} frames/s", number(frames) / 10.0))
            .wanted("≤ 2 %", idle <= 2.0),
    );
    // The neck, calibrated: engage where it stands, then glide across. PgUp goes through the servos.
    terminal.press(&b"\x1b[5~".repeat(4));
    terminal.press(b"e\r");
    // A frame writes only what differs, so words cannot be waited for.
    std::thread::sleep(Duration::from_secs(1));
    terminal.press(b"-55deg\r");
    std::thread::sleep(Duration::from_secs(2));
    terminal.press(b"55deg\r");
    std::thread::sleep(Duration::from_millis(300));
    let (bytes, frames) = terminal.watch(Duration::from_millis(1300))?;
    let each = number(bytes) / number(frames.max(1));
    rows.push(
        Row::new("bytes a frame, one servo moving", format!("{each:.0}"))
            .beside(format!("{frames} frames in 1.3 s"))
            .wanted("≤ 2 kB", each <= 2000.0),
    );
    std::thread::sleep(Duration::from_secs(5));
    let resident = terminal.resident()?;
    rows.push(Row::new("memory held", format!("{resident:.1} MB")).wanted("≤ 40 MB", resident <= 40.0));
    // Whatever is open is closed first: an entry would take the key for a letter.
    terminal.press(b"\x1b");
    std::thread::sleep(Duration::from_millis(200));
    terminal.press(b"q");
    terminal.ended()?;
    rows.push(draws(&std::fs::read_to_string(home.path().join("run.log")).ok()?));
    Some(rows)
}

/// What the log says of drawing: "… half under 0.713 ms, 99 % under 1.204 ms, worst …".
fn draws(log: &str) -> Row {
    let behind = |line: &str, words: &str| -> Option<f64> {
        line[line.find(words)? + words.len()..].split_whitespace().next()?.parse().ok()
    };
    let lines = log.lines().filter(|l| l.contains("frames in"));
    let all: Vec<(f64, f64)> =
        lines.filter_map(|l| Some((behind(l, "half under ")?, behind(l, "99 % under ")?))).collect();
    let half = all.iter().map(|a| a.0).fold(0.0, f64::max);
    let most = all.iter().map(|a| a.1).fold(0.0, f64::max);
    let row = Row::new("a drawing: view, difference, writing", format!("{half:.2} ms in half of them"));
    row.beside(format!("99 %: {most:.2} ms; worst 5 s of the run")).wanted("≤ 2 ms", half <= 2.0)
}
