//! A tmux pane with the program in it, and a scripted person at its keys.

use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// The program under test.
pub const PROGRAM: &str = env!("CARGO_BIN_EXE_wasvolta");
const PATIENCE: Duration = Duration::from_secs(30);
static PANES: AtomicU32 = AtomicU32::new(0);

/// Waits for a condition; without it in half a minute, fails with what `say` gives.
pub fn until<T>(mut look: impl FnMut() -> Option<T>, say: impl Fn() -> String) -> T {
    let start = Instant::now();
    loop {
        if let Some(found) = look() {
            return found;
        }
        assert!(start.elapsed() < PATIENCE, "{}", say());
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// A folder of one's own for everything that a run keeps.
pub struct Home {
    folder: TempDir,
}

impl Home {
    pub fn new() -> Self {
        Self { folder: tempfile::tempdir().unwrap() }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// The demo's rig once it was started.
    pub fn demo_rig(&self) -> PathBuf {
        self.path("data/wasvolta/marsh-clock.rig.toml")
    }

    pub fn sim_log(&self) -> PathBuf {
        self.path("bus.log")
    }

    /// The environment that keeps a run within this folder.
    pub fn environment(&self) -> Vec<(&'static str, PathBuf)> {
        vec![
            ("HOME", self.folder.path().to_owned()),
            ("XDG_CONFIG_HOME", self.path("config")),
            ("XDG_DATA_HOME", self.path("data")),
            ("XDG_STATE_HOME", self.path("state")),
            ("XDG_RUNTIME_DIR", self.folder.path().to_owned()),
            // What a terminal can draw is chosen from this too.
            ("LC_ALL", PathBuf::from("C.UTF-8")),
        ]
    }

    /// The last transfers that the simulated bus saw, as lines.
    pub fn bus(&self) -> Vec<String> {
        std::fs::read_to_string(self.sim_log()).unwrap_or_default().lines().map(str::to_owned).collect()
    }

    /// Whether the last writes on the bus are the releases of these channels, in order. What was told is read back
    /// behind them.
    pub fn was_released_last(&self, channels: &[u8]) -> bool {
        let bus: Vec<String> = self.bus().into_iter().filter(|line| line.contains("write")).collect();
        let wanted: Vec<String> =
            channels.iter().map(|n| format!("write {} 00 00 00 10", 6 + 4 * n)).collect();
        bus.len() >= wanted.len()
            && bus[bus.len() - wanted.len()..].iter().zip(&wanted).all(|(l, w)| l.ends_with(w))
    }
}

/// The program in a pane.
pub struct Pane {
    socket: String,
    pub pressed: u32,
}

impl Pane {
    /// Starts the program at 160×47.
    pub fn start(home: &Home, arguments: &[&str]) -> Self {
        Self::sized(home, arguments, (160, 47))
    }

    /// Starts the program in its own folder, as a person would after `cd`.
    pub fn start_in(home: &Home, arguments: &[&str]) -> Self {
        Self::script(home, arguments, (160, 47), &format!("cd '{}'; ", home.path("").display()))
    }

    /// Starts the program in a window of some size.
    pub fn sized(home: &Home, arguments: &[&str], size: (u16, u16)) -> Self {
        Self::script(home, arguments, size, "")
    }

    fn script(home: &Home, arguments: &[&str], (columns, rows): (u16, u16), before: &str) -> Self {
        let socket = format!("wasvolta-{}-{}", std::process::id(), PANES.fetch_add(1, Ordering::SeqCst));
        let pane = Self { socket, pressed: 0 };
        let mut command = pane.tmux(&["-f", "/dev/null", "new-session", "-d", "-s", "w"]);
        command.args(["-x", &columns.to_string(), "-y", &rows.to_string(), "env"]);
        for (name, path) in home.environment() {
            command.arg(format!("{name}={}", path.display()));
        }
        // What the program says after the screen is left stays to be read.
        let words: Vec<String> = arguments.iter().map(|a| format!("'{a}'")).collect();
        let script = format!("{before}'{PROGRAM}' {}; echo left with $?; exec cat", words.join(" "));
        command.args(["sh", "-c", &script]);
        let status = command.status().expect("tmux is needed: cargo xtask test installs it");
        assert!(status.success());
        pane.tmux(&["set", "-g", "status", "off"]).status().unwrap();
        pane
    }

    fn tmux(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new("tmux");
        command.args(["-L", &self.socket]).args(arguments);
        command
    }

    /// Presses keys, by tmux's names.
    pub fn keys(&mut self, keys: &[&str]) {
        for key in keys {
            self.pressed += 1;
            assert!(self.tmux(&["send-keys", "-t", "w", key]).status().unwrap().success());
        }
    }

    /// Does what a command is for, by its name.
    pub fn act(&mut self, name: &str) {
        self.keys(&[":"]);
        self.see("Type some of its name");
        self.text(name);
        self.keys(&["Enter"]);
        self.see_no_more("Type some of its name");
    }

    /// Types a text; every character is a key.
    pub fn text(&mut self, text: &str) {
        self.pressed += u32::try_from(text.chars().count()).unwrap();
        // At the end of an argument it would end tmux's command.
        let text = text.strip_suffix(';').map_or_else(|| text.to_owned(), |text| format!("{text}\\;"));
        assert!(self.tmux(&["send-keys", "-t", "w", "-l", "--", &text]).status().unwrap().success());
    }

    /// What a mouse reports, as terminals write it: a button's code, a cell from 1, and M, or m where it goes up.
    pub fn mouse(&mut self, reports: &[(u8, (u16, u16), char)]) {
        for (code, (column, row), end) in reports {
            self.text(&format!("\x1b[<{code};{column};{row}{end}"));
        }
    }

    /// Whether the program has asked for the mouse.
    pub fn has_mouse(&self) -> bool {
        let flag = self.tmux(&["display-message", "-p", "-t", "w", "#{mouse_button_flag}"]).output().unwrap();
        String::from_utf8_lossy(&flag.stdout).trim() == "1"
    }

    /// What stands on the screen.
    pub fn screen(&self) -> String {
        let output = self.tmux(&["capture-pane", "-p", "-t", "w"]).output().unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// Waits until a text stands on the screen; gives the screen.
    pub fn see(&self, wanted: &str) -> String {
        until(
            || Some(self.screen()).filter(|screen| screen.contains(wanted)),
            || format!("never saw {wanted:?} on\n{}", self.screen()),
        )
    }

    /// Waits until a text is gone.
    pub fn see_no_more(&self, unwanted: &str) {
        until(
            || (!self.screen().contains(unwanted)).then_some(()),
            || format!("{unwanted:?} never went from\n{}", self.screen()),
        );
    }

    /// The process that runs in the pane.
    pub fn process(&self) -> u32 {
        let shell = self.tmux(&["display-message", "-p", "-t", "w", "#{pane_pid}"]).output().unwrap();
        let shell: u32 = String::from_utf8_lossy(&shell.stdout).trim().parse().unwrap();
        let children = format!("/proc/{shell}/task/{shell}/children");
        until(
            || std::fs::read_to_string(&children).ok()?.split_whitespace().next()?.parse().ok(),
            || "the program is not running".to_owned(),
        )
    }

    /// Starts a shell in which the program can be stopped and brought back.
    pub fn shell(home: &Home) -> Self {
        let socket = format!("wasvolta-{}-{}", std::process::id(), PANES.fetch_add(1, Ordering::SeqCst));
        let pane = Self { socket, pressed: 0 };
        let mut command =
            pane.tmux(&["-f", "/dev/null", "new-session", "-d", "-s", "w", "-x", "160", "-y", "47", "env"]);
        for (name, path) in home.environment() {
            command.arg(format!("{name}={}", path.display()));
        }
        assert!(command.args(["PS1=$ ", "bash", "--norc"]).status().unwrap().success());
        pane
    }

    /// Changes the window's size.
    pub fn resize(&self, columns: u16, rows: u16) {
        let (columns, rows) = (columns.to_string(), rows.to_string());
        assert!(
            self.tmux(&["resize-window", "-t", "w", "-x", &columns, "-y", &rows]).status().unwrap().success()
        );
    }

    /// Kills the program, which gets no chance to tidy its screen, and waits until it is gone.
    pub fn kill(&self) {
        let process = self.process();
        send_signal("-KILL", process);
        let gone = || (!Path::new(&format!("/proc/{process}")).exists()).then_some(());
        until(gone, || "the process stays".to_owned());
    }

    /// Sends the program a signal.
    pub fn signal(&self, signal: &str) {
        send_signal(signal, self.process());
    }
}

/// Starts a command on a terminal that is only a pair of descriptors; gives its far end too. Closed, it hangs up.
pub fn on_a_terminal(mut command: Command, (columns, rows): (u16, u16)) -> (Child, File) {
    let far = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
    grantpt(&far).unwrap();
    unlockpt(&far).unwrap();
    tcsetwinsize(&far, Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 }).unwrap();
    let name = ptsname(&far, Vec::new()).unwrap().into_string().unwrap();
    let near = File::options().read(true).write(true).open(name).unwrap();
    let end = || Stdio::from(near.try_clone().unwrap());
    (command.stdin(end()).stdout(end()).stderr(end()).spawn().unwrap(), File::from(far))
}

/// Sends a process a signal.
pub fn send_signal(signal: &str, process: u32) {
    assert!(Command::new("kill").args([signal, &process.to_string()]).status().unwrap().success());
}

impl Drop for Pane {
    fn drop(&mut self) {
        let _ = self.tmux(&["kill-server"]).status();
    }
}

/// The number behind a word on the screen, such as `horn -31°`.
pub fn number_behind(screen: &str, word: &str) -> Option<f64> {
    let rest = &screen[screen.find(word)? + word.len()..];
    let digits: String = rest
        .trim_start()
        .chars()
        .take_while(|c| c.is_ascii_digit() || matches!(c, '-' | '+' | '.'))
        .collect();
    digits.parse().ok()
}

/// Copies the demo's files, changed, to where a test may write.
pub fn rig_beside(home: &Home, change: impl Fn(&str) -> String, sim: impl Fn(&str) -> String) -> PathBuf {
    let examples = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples");
    let read = |name: &str| std::fs::read_to_string(examples.join(name)).unwrap();
    let rig = home.path("bench.rig.toml");
    std::fs::write(&rig, change(&read("marsh-clock.rig.toml"))).unwrap();
    std::fs::write(home.path("bench.sim.toml"), sim(&read("marsh-clock.sim.toml"))).unwrap();
    rig
}

/// The text of the copy of unsaved edits, if there is one; it is never half a copy.
pub fn copy_in(home: &Home) -> Option<String> {
    let folder = std::fs::read_dir(home.path("state/wasvolta/recovery")).ok()?;
    let found = folder.flatten().map(|e| e.path()).find(|p| p.extension().is_some_and(|e| e == "toml"))?;
    let text = std::fs::read_to_string(found).unwrap();
    let copy: toml_edit::DocumentMut = text.parse().unwrap();
    Some(copy["text"].as_str().unwrap().to_owned())
}
