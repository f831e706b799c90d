//! Stand-ins over a real pty: one process is the board, or the bridge before it, another drives it.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

const RIG: &str = r#"format = 12
name = "Reeds"

[[port]]
name = "line"
kind = "serial"
path = "reeds.line"

[[board]]
name = "reeds"
port = "line"
chip = "firmata"

[[servo]]
name = "reeds.sway"
board = "reeds"
channel = 9
marks = [{ pulse_us = 1000, angle_deg = -40 }, { pulse_us = 2000, angle_deg = 40 }]

[[joint]]
name = "reeds.sway"
servo = "reeds.sway"
home_deg = 0

[[pose]]
name = "left"
angles_deg = { "reeds.sway" = -30 }

[[sequence]]
name = "sway"

[[sequence.step]]
pose = "left"
move_s = 0.4
"#;

fn wasvolta(home: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_wasvolta"));
    for name in ["HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR"] {
        command.env(name, home);
    }
    command.env("NO_COLOR", "1").current_dir(home).args(arguments);
    command
}

/// A board that runs until it is dropped.
struct Board(Child);

impl Board {
    fn start(home: &Path, more: &[&str]) -> Self {
        Self::of("firmata", home, more)
    }

    fn of(kind: &str, home: &Path, more: &[&str]) -> Self {
        let arguments = [&["sim", kind, "--link", "reeds.line"][..], more].concat();
        let child = wasvolta(home, &arguments).stdout(Stdio::null()).spawn().unwrap();
        let start = Instant::now();
        while !home.join("reeds.line").exists() {
            assert!(start.elapsed() < Duration::from_secs(20), "the board does not listen");
            std::thread::yield_now();
        }
        Self(child)
    }
}

impl Drop for Board {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.0.id().to_string()).status();
        // One that a test has stopped hears it once it goes on.
        let _ = Command::new("kill").args(["-CONT", &self.0.id().to_string()]).status();
        let _ = self.0.wait();
    }
}

/// Sends a signal to a process.
fn signal(name: &str, process: u32) {
    assert!(Command::new("kill").args([name, &process.to_string()]).status().unwrap().success());
}

/// A program under way, with what it says on standard error as it says it.
struct Running {
    child: Child,
    said: std::sync::Arc<std::sync::Mutex<String>>,
}

impl Running {
    fn start(mut command: Command) -> Self {
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let said = std::sync::Arc::new(std::sync::Mutex::new(String::new()));
        let outs: [Box<dyn std::io::Read + Send>; 2] =
            [Box::new(child.stdout.take().unwrap()), Box::new(child.stderr.take().unwrap())];
        for out in outs {
            let said = std::sync::Arc::clone(&said);
            std::thread::spawn(move || {
                for line in std::io::BufRead::lines(std::io::BufReader::new(out)).map_while(Result::ok) {
                    *said.lock().unwrap() += &(line + "\n");
                }
            });
        }
        Self { child, said }
    }

    fn until_said(&self, words: &str) {
        let start = Instant::now();
        while !self.said().contains(words) {
            assert!(start.elapsed() < Duration::from_secs(30), "never said {words:?}: {}", self.said());
            std::thread::yield_now();
        }
    }

    fn said(&self) -> String {
        self.said.lock().unwrap().clone()
    }

    /// Its exit code, once it has ended, after all that it said was read.
    fn ends(&mut self) -> Option<i32> {
        let code = self.child.wait().unwrap().code();
        let start = Instant::now();
        // The threads that read let go of it at the end of both outputs.
        while std::sync::Arc::strong_count(&self.said) > 1 && start.elapsed() < Duration::from_secs(20) {
            std::thread::yield_now();
        }
        code
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The rig with a show of half a minute.
fn long(rig: &str) -> String {
    rig.replace("move_s = 0.4", "move_s = 30")
}

/// A long show on a board, with its trace in `t.csv`, once it moves.
fn showing(home: &Path, rig: &str, more: &[&str]) -> Running {
    std::fs::write(home.join("reeds.rig.toml"), long(rig)).unwrap();
    // What is kept between runs is kept anew once it moves.
    let _ = std::fs::remove_dir_all(home.join("wasvolta"));
    let arguments =
        [&["play", "reeds.rig.toml", "sway", "--drive", "--trace", "t.csv", "--force"][..], more].concat();
    let show = Running::start(wasvolta(home, &arguments));
    let start = Instant::now();
    // The file is written in blocks: it is made when the show begins.
    show.until_said("moves: ");
    let kept = || {
        let entries = std::fs::read_dir(home.join("wasvolta")).ok()?;
        entries
            .flatten()
            .find(|e| e.file_name().to_string_lossy().starts_with("last-known"))
            .map(|e| e.path())
    };
    while kept().is_none() {
        assert!(start.elapsed() < Duration::from_secs(30), "no place was kept: {}", show.said());
        std::thread::yield_now();
    }
    show
}

fn play(home: &Path) -> Output {
    play_rig(home, RIG)
}

fn play_rig(home: &Path, rig: &str) -> Output {
    std::fs::write(home.join("reeds.rig.toml"), rig).unwrap();
    wasvolta(home, &["play", "reeds.rig.toml", "sway", "--drive", "--trace", "t.csv", "--force"])
        .output()
        .unwrap()
}

#[test]
fn a_sequence_is_played_on_a_board_over_a_pty_and_its_link_goes_with_it() {
    let home = tempfile::tempdir().unwrap();
    let board = Board::start(home.path(), &[]);
    let output = play(home.path());
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{words}");
    let csv = std::fs::read_to_string(home.path().join("t.csv")).unwrap();
    // −30° is 1125 µs, and a tick is a microsecond there.
    assert!(csv.lines().last().unwrap().contains("reeds.sway,-30.000,1125.00,1125"), "{csv}");
    drop(board);
    assert!(!home.path().join("reeds.line").exists());
}

/// The same servo on an expander behind a bridge.
fn bridged() -> String {
    RIG.replace("kind = \"serial\"\n", "kind = \"i2c\"\nbaud = 115200\n")
        .replace("chip = \"firmata\"\n", "chip = \"pwm-expander\"\naddress = 0x41\n")
}

#[test]
fn a_sequence_is_played_on_an_expander_behind_a_bridge_over_a_pty() {
    let home = tempfile::tempdir().unwrap();
    let board = Board::of("expander", home.path(), &["--address", "0x40", "--address", "0x41"]);
    let output = play_rig(home.path(), &bridged());
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let csv = std::fs::read_to_string(home.path().join("t.csv")).unwrap();
    assert!(csv.lines().last().unwrap().contains("reeds.sway,-30.000,1127.28,231"), "{csv}");
    // By reading only, from the path to the chip: released, so it sends no pulse.
    let why = wasvolta(home.path(), &["why", "reeds.rig.toml", "reeds.sway"]).output().unwrap();
    let words = String::from_utf8_lossy(&why.stdout).into_owned();
    assert!(words.contains("it answers at 0x41") && words.contains("no pulse on channel 9"), "{words}");
    let elsewhere = bridged().replace("0x41", "0x42");
    let output = play_rig(home.path(), &elsewhere);
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(words.contains("nothing answers"), "{words}");
    drop(board);
    assert!(!home.path().join("reeds.line").exists());
}

#[test]
fn a_rig_for_a_bus_behind_a_bridge_is_made_without_an_editor() {
    let home = tempfile::tempdir().unwrap();
    let arguments = ["new", "reeds", "--bus", "reeds.line", "--baud", "115200", "--address", "0x41"];
    assert!(wasvolta(home.path(), &arguments).status().unwrap().success());
    let text = std::fs::read_to_string(home.path().join("reeds.rig.toml")).unwrap();
    assert!(text.contains("kind = \"i2c\"\npath = \"reeds.line\"\nbaud = 115200\n"), "{text}");
}

#[test]
fn a_board_that_speaks_something_else_is_named() {
    let home = tempfile::tempdir().unwrap();
    let _board = Board::start(home.path(), &["--fault", "wrong-firmware"]);
    let output = play(home.path());
    assert_eq!(output.status.code(), Some(1));
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(words.contains("it speaks something else"), "{words}");
    assert!(words.contains("load a firmware that speaks Firmata 2"), "{words}");
}

#[test]
fn a_serial_port_is_asked_only_on_purpose_and_says_what_is_on_it() {
    let home = tempfile::tempdir().unwrap();
    let _board = Board::start(home.path(), &[]);
    let asked = |more: &[&str]| {
        let output =
            wasvolta(home.path(), &[&["scan", "--ask", "reeds.line"][..], more].concat()).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    assert!(asked(&[]).starts_with("reeds.line at 57600 baud speaks Firmata 2.7: a board with chip ="));
    let json: serde_json::Value = serde_json::from_str(&asked(&["--json"])).unwrap();
    assert_eq!((json["answer"].as_str(), json["major"].as_u64()), (Some("firmata"), Some(2)));
    let schema = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/json/ask.schema.json");
    let schema = serde_json::from_str(&std::fs::read_to_string(schema).unwrap()).unwrap();
    assert!(jsonschema::validator_for(&schema).unwrap().is_valid(&json), "{json}");
    let none = wasvolta(home.path(), &["scan", "--ask", "no.line"]).output().unwrap();
    assert_eq!(none.status.code(), Some(1));
    let words = String::from_utf8_lossy(&none.stderr).into_owned();
    assert!(words.contains("there is no such device") && words.contains("plug it in"), "{words}");
}

/// A chip in the kernel's manner whose files root alone may write: everybody sees that it is there.
#[test]
fn a_pwm_chip_that_this_user_may_not_write_to_is_a_failed_permission() {
    use std::os::unix::fs::PermissionsExt;
    if !rustix::process::geteuid().is_root() {
        return;
    }
    let home = tempfile::tempdir().unwrap();
    let chip = home.path().join("pwmchip0");
    std::fs::create_dir(&chip).unwrap();
    for (file, text, mode) in [("npwm", "2\n", 0o644), ("export", "", 0o600)] {
        std::fs::write(chip.join(file), text).unwrap();
        std::fs::set_permissions(chip.join(file), std::fs::Permissions::from_mode(mode)).unwrap();
    }
    let rig = RIG
        .replace("kind = \"serial\"\n", "kind = \"pwm\"\n")
        .replace("path = \"reeds.line\"", &format!("path = \"{}\"", chip.display()))
        .replace("chip = \"firmata\"\n", "chip = \"linux-pwm\"\n")
        .replace("channel = 9", "channel = 1");
    std::fs::write(home.path().join("reeds.rig.toml"), rig).unwrap();
    let program = home.path().join("wasvolta-copy");
    std::fs::copy(env!("CARGO_BIN_EXE_wasvolta"), &program).unwrap();
    for path in [home.path(), &chip] {
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    let mut nobody = Command::new("setpriv");
    nobody.args(["--reuid=65534", "--regid=65534", "--clear-groups"]).arg(&program);
    nobody.args(["why", "reeds.rig.toml", "reeds.sway"]).current_dir(home.path()).env("HOME", "/tmp");
    let output = nobody.output().unwrap();
    let words =
        String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(1), "{words}");
    assert!(words.contains("✓ path") && words.contains("✗ permission    no permission to open"), "{words}");
    let root = wasvolta(home.path(), &["why", "reeds.rig.toml", "reeds.sway"]).output().unwrap();
    let words = String::from_utf8_lossy(&root.stdout).into_owned();
    assert!(words.contains("✓ permission"), "{words}");
}

#[test]
fn why_does_not_open_a_line_and_says_so() {
    let home = tempfile::tempdir().unwrap();
    std::fs::write(home.path().join("reeds.rig.toml"), RIG).unwrap();
    let why = || {
        let output = wasvolta(home.path(), &["why", "reeds.rig.toml", "reeds.sway"]).output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stdout).into_owned())
    };
    let (code, words) = why();
    assert!(
        code == Some(1) && words.starts_with("✗ path          ") && words.contains(" does not exist"),
        "{words}"
    );
    let line = home.path().join("reeds.line");
    std::fs::write(&line, "").unwrap();
    let (code, words) = why();
    assert!(code == Some(1) && words.contains("reeds.line is not a serial line"), "{words}");
    std::fs::remove_file(&line).unwrap();
    let _board = Board::start(home.path(), &[]);
    let (code, words) = why();
    assert_eq!(code, Some(0), "nothing is known to be broken: {words}");
    assert!(
        words.contains("? answer        it was not asked: opening its line resets many boards"),
        "{words}"
    );
    assert!(words.contains("· firmware      not looked at: a link before it is not proven"), "{words}");
}

#[test]
fn a_show_whose_board_is_gone_stops_and_says_so_or_waits_for_it() {
    let home = tempfile::tempdir().unwrap();
    let board = Board::start(home.path(), &["--steady"]);
    let mut show = showing(home.path(), RIG, &[]);
    signal("-STOP", board.0.id());
    show.until_said("reeds is out of reach: it does not answer");
    // It hears again what it is told at the end.
    signal("-CONT", board.0.id());
    assert_eq!(show.ends(), Some(1), "{}", show.said());
    let said = show.said();
    assert!(
        said.contains("the show is stopped") && said.contains("stopped because a board was lost: "),
        "{said}"
    );
    // Told to wait, it goes on once the board is back.
    let short = RIG.replace("move_s = 0.4", "move_s = 5");
    let mut show = showing(home.path(), &short, &["--on-lost", "wait"]);
    signal("-STOP", board.0.id());
    show.until_said("the show waits for it");
    signal("-CONT", board.0.id());
    show.until_said("reeds is back");
    assert_eq!(show.ends(), Some(0), "{}", show.said());
    assert!(show.said().contains("played to the end: released: no pulses remain"), "{}", show.said());
}

#[test]
fn what_a_killed_program_left_is_kept_or_released_and_read_back() {
    for (kind, rig, more) in
        [("firmata", RIG.to_owned(), &["--steady"][..]), ("expander", bridged(), &["--address", "0x41"][..])]
    {
        let home = tempfile::tempdir().unwrap();
        let _board = Board::of(kind, home.path(), more);
        let kill = |more: &[&str]| {
            let mut show = showing(home.path(), &rig, more);
            show.child.kill().unwrap();
            show.child.wait().unwrap();
        };
        let run = |arguments: &[&str]| {
            let output = wasvolta(home.path(), arguments).output().unwrap();
            let said = [output.stdout, output.stderr].map(|out| String::from_utf8_lossy(&out).into_owned());
            (output.status.code(), said.concat())
        };
        kill(&[]);
        std::fs::write(home.path().join("reeds.rig.toml"), &rig).unwrap();
        let (code, said) = run(&["play", "reeds.rig.toml", "sway", "--drive"]);
        assert!(code == Some(1) && said.contains("say --adopt keep or --adopt release"), "{kind} {said}");
        // Asked or not: an end releases what was found.
        assert!(said.contains("released: no pulses remain"), "{kind} {said}");
        kill(&[]);
        let (code, said) = run(&["release", "reeds.rig.toml"]);
        assert_eq!(code, Some(0), "{kind} {said}");
        assert!(said.contains("pulses run on channel 9: stopping them"), "{kind} {said}");
        assert!(said.contains("released: no pulses remain"), "{kind} {said}");
        let (code, said) = run(&["release", "reeds.rig.toml", "--board", "reeds"]);
        assert!(code == Some(0) && said.contains("no pulses run on it\nnothing was driven"), "{kind} {said}");
        let (code, said) = run(&["release", "reeds.rig.toml", "--board", "lower"]);
        assert!(code == Some(1) && said.contains("no board is called"), "{kind} {said}");
        kill(&[]);
        std::fs::write(home.path().join("reeds.rig.toml"), &rig).unwrap();
        let (code, said) = run(&["play", "reeds.rig.toml", "sway", "--drive", "--adopt", "keep"]);
        assert!(code == Some(0) && said.contains("reeds.sway (kept where it is)"), "{kind} {said}");
        assert!(said.contains("played to the end: released: no pulses remain"), "{kind} {said}");
    }
}

#[test]
fn listening_to_the_pins_of_a_board_leaves_the_pulses_that_run_on_it() {
    let home = tempfile::tempdir().unwrap();
    let _board = Board::of("firmata", home.path(), &["--steady"]);
    let read = "[[link]]\nname = \"pins\"\non = \"reeds\"\n[[input]]\nname = \"dial\"\nlink = \"pins\"\n\
                channel = \"a0\"\nends = [0, 1023]\n";
    std::fs::write(home.path().join("in.rig.toml"), format!("{RIG}\n{read}")).unwrap();
    let link = heard(home.path());
    assert_eq!(
        (link["health"].as_str(), link["channels"][0]["channel"].as_str()),
        (Some("fresh"), Some("a0")),
        "{link}"
    );
    let mut show = showing(home.path(), RIG, &[]);
    show.child.kill().unwrap();
    show.child.wait().unwrap();
    // Who left them is not known, and who only listens does not ask: it says why it hears nothing.
    let link = heard(home.path());
    let trouble = link["trouble"].as_str().unwrap();
    assert!(trouble.contains("nobody has said yet what becomes of what was found on the board"), "{link}");
    let output = wasvolta(home.path(), &["release", "in.rig.toml"]).output().unwrap();
    let said = [output.stdout, output.stderr].map(|out| String::from_utf8_lossy(&out).into_owned()).concat();
    assert!(said.contains("pulses run on channel 9: stopping them"), "{said}");
}

#[test]
fn a_board_of_which_nothing_is_heard_is_no_board_that_was_released() {
    let home = tempfile::tempdir().unwrap();
    std::fs::write(home.path().join("reeds.rig.toml"), RIG).unwrap();
    let output = wasvolta(home.path(), &["release", "reeds.rig.toml"]).output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert_eq!(output.status.code(), Some(1), "{said}");
    assert!(said.contains("nothing was heard of reeds: whether it pulses is not known"), "{said}");
}

#[test]
fn every_signal_that_can_be_heard_ends_a_show_released_and_a_stop_holds_it_first() {
    let home = tempfile::tempdir().unwrap();
    let _board = Board::start(home.path(), &["--steady"]);
    for name in ["-INT", "-TERM", "-HUP", "-QUIT", "-USR1", "-USR2", "-ALRM", "-ABRT"] {
        let mut show = showing(home.path(), RIG, &[]);
        signal(name, show.child.id());
        assert_eq!(show.ends(), Some(1), "{name}: {}", show.said());
        assert!(show.said().contains("stopped: released: no pulses remain"), "{name}: {}", show.said());
    }
    let mut show = showing(home.path(), RIG, &[]);
    signal("-TSTP", show.child.id());
    show.until_said("held; it goes on when it is continued");
    signal("-CONT", show.child.id());
    signal("-TERM", show.child.id());
    assert_eq!(show.ends(), Some(1), "{}", show.said());
}

#[test]
fn two_programs_never_drive_one_board_whoever_starts_them_and_however_its_path_is_spelled() {
    let home = tempfile::tempdir().unwrap();
    let _board = Board::start(home.path(), &["--steady"]);
    let device = home.path().join("reeds.line").canonicalize().unwrap();
    // Anybody may open it, and look at the folder: only the claim keeps them apart.
    for (path, mode) in [(device.as_path(), "666"), (home.path(), "777")] {
        assert!(Command::new("chmod").arg(mode).arg(path).status().unwrap().success());
    }
    let show = showing(home.path(), RIG, &[]);
    let has = format!("process {} (wasvolta) has it", show.child.id());
    let other = RIG.replace("reeds.line", device.to_str().unwrap());
    std::fs::write(home.path().join("other.rig.toml"), long(&other)).unwrap();
    let said = |mut command: Command| {
        let output = command.output().unwrap();
        assert_eq!(output.status.code(), Some(1));
        [output.stdout, output.stderr].map(|out| String::from_utf8_lossy(&out).into_owned()).concat()
    };
    // Another rig, another spelling, another folder for what is kept while running.
    let mut second = wasvolta(home.path(), &["play", "other.rig.toml", "sway", "--drive"]);
    second.env("XDG_RUNTIME_DIR", "/tmp");
    let words = said(second);
    assert!(words.contains(&has), "{words}");
    let words = said(wasvolta(home.path(), &["scan", "--ask", device.to_str().unwrap()]));
    assert!(words.contains(&has), "{words}");
    // The rig itself has one program too.
    let words = said(wasvolta(home.path(), &["play", "./reeds.rig.toml", "sway", "--drive"]));
    assert!(words.contains("is in use: ") && words.contains(&has), "{words}");
    std::fs::write(home.path().join("a.servo.toml"), "").unwrap();
    if rustix::process::geteuid().is_root() {
        let program = home.path().join("wasvolta-copy");
        std::fs::copy(env!("CARGO_BIN_EXE_wasvolta"), &program).unwrap();
        let mut nobody = Command::new("setpriv");
        nobody.args(["--reuid=65534", "--regid=65534", "--clear-groups"]).arg(&program);
        nobody.args(["scan", "--ask", device.to_str().unwrap()]).current_dir("/").env("HOME", "/tmp");
        let words = said(nobody);
        assert!(words.contains("another user's program has it"), "{words}");
    }
    assert!(!show.said().contains("out of reach"), "and nothing was taken from the first: {}", show.said());
}

/// A rig of one link.
fn of_link(port: &str, link: &str) -> String {
    format!(
        "format = 12\nname = \"Marsh radio\"\n[[port]]\nname = \"way\"\n{port}\n[[link]]\nname = \"in\"\non = \"way\"\n{link}\n"
    )
}

/// What `inputs --json` says of the only link.
fn heard(home: &Path) -> serde_json::Value {
    let output = wasvolta(home, &["inputs", "in.rig.toml", "--json"]).stdin(Stdio::null()).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let said: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    said["links"][0].clone()
}

#[test]
fn a_receiver_of_each_protocol_is_heard_over_a_real_line_and_driven_by_a_script() {
    for protocol in ["ibus", "sbus", "crsf"] {
        let home = tempfile::tempdir().unwrap();
        std::fs::write(home.path().join("script"), "ch1 0.25\nch2 1\nnoise 0\n").unwrap();
        let _board = Board::of("radio", home.path(), &["--protocol", protocol, "--script", "script"]);
        let rig = of_link("kind = \"serial\"\npath = \"reeds.line\"", &format!("protocol = \"{protocol}\""));
        std::fs::write(home.path().join("in.rig.toml"), rig).unwrap();
        let link = heard(home.path());
        // On a busy machine a frame may be late, which says nothing of the receiver.
        assert!(matches!(link["health"].as_str(), Some("fresh" | "late")), "{link}");
        assert_eq!(link["protocol"], protocol, "{link}");
        assert!(link["rate_hz"].as_f64().is_some_and(|rate| rate > 20.0), "{link}");
        let at = |name: &str| {
            let all = link["channels"].as_array().unwrap();
            all.iter().find(|c| c["channel"] == name).and_then(|c| c["value"].as_f64()).unwrap()
        };
        assert!((at("ch1") - 1250.0).abs() < 1.0 && (at("ch2") - 2000.0).abs() < 1.0, "{protocol}: {link}");
        // Of a pty no parity can be had, and that is said.
        assert_eq!(
            link["note"].is_string(),
            protocol == "sbus" && link["note"] != serde_json::Value::Null,
            "{link}"
        );
    }
}

#[test]
fn a_receiver_that_speaks_another_protocol_than_the_rig_says_is_told_from_one_that_is_silent() {
    let home = tempfile::tempdir().unwrap();
    let _board = Board::of("radio", home.path(), &["--protocol", "crsf"]);
    let rig = |protocol: &str| {
        of_link("kind = \"serial\"\npath = \"reeds.line\"", &format!("protocol = \"{protocol}\""))
    };
    std::fs::write(home.path().join("in.rig.toml"), rig("ibus")).unwrap();
    let link = heard(home.path());
    let trouble = "bytes come that do not read as ibus: is the rate or the protocol different?";
    assert_eq!(
        (link["health"].as_str(), link["trouble"].as_str()),
        (Some("absent"), Some(trouble)),
        "{link}"
    );
}

#[test]
fn a_port_that_is_not_there_is_said_with_what_to_try_and_is_no_failure() {
    let home = tempfile::tempdir().unwrap();
    let rig = of_link("kind = \"serial\"\npath = \"/dev/tty-none\"", "protocol = \"sbus\"");
    std::fs::write(home.path().join("in.rig.toml"), rig).unwrap();
    let link = heard(home.path());
    assert_eq!(link["health"], "absent");
    let trouble = link["trouble"].as_str().unwrap();
    assert!(
        trouble.starts_with("cannot open /dev/tty-none: there is no such device; plug it in"),
        "{trouble}"
    );
}

#[test]
fn osc_messages_are_heard_and_watched_and_nothing_raw_is_shown() {
    let home = tempfile::tempdir().unwrap();
    let free = std::net::UdpSocket::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let rig = of_link(
        &format!("kind = \"udp\"\npath = \"{}\"", free.port()),
        "protocol = \"osc\"\n[[input]]\nname = \"wing\"\nlink = \"in\"\nchannel = \"/wing:2\"\nends = [0, 1]",
    );
    std::fs::write(home.path().join("in.rig.toml"), rig).unwrap();
    let mut watching = Running::start({
        let mut command = wasvolta(home.path(), &["inputs", "in.rig.toml", "--watch"]);
        command.stdin(Stdio::null());
        command
    });
    watching.until_said("fresh: osc on way");
    let mut sender = wasvolta(home.path(), &["sim", "osc", "--to", &free.to_string()])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let mut typed = sender.stdin.take().unwrap();
    std::io::Write::write_all(&mut typed, b"# a wing\n/wing 0.25 0.75\nwing 3\n/wing x\n").unwrap();
    drop(typed);
    sender.wait().unwrap();
    watching.until_said("/wing:2      0.75            input wing");
    watching.until_said("/wing        0.25");
    // An address with an escape sequence in it names no channel.
    let socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.send_to(b"/\x1b[31m\0\0\0,f\0\0\x3f\x80\0\0", free).unwrap();
    socket.send_to(b"/fine\0\0\0,f\0\0\x3f\x80\0\0", free).unwrap();
    watching.until_said("/fine        1");
    assert!(!watching.said().contains('\u{1b}'), "{}", watching.said());
    signal("-TERM", watching.child.id());
    assert_eq!(watching.ends(), Some(0));
}

#[test]
fn an_instrument_is_fresh_while_it_is_plugged_in_though_it_says_nothing() {
    let home = tempfile::tempdir().unwrap();
    std::fs::write(home.path().join("script"), "wait 0.4\n1/cc7 1\n1/bend 0\n1/note60 1\n").unwrap();
    let _board = Board::of("midi", home.path(), &["--script", "script"]);
    let rig = of_link("kind = \"serial\"\npath = \"reeds.line\"", "protocol = \"midi\"");
    std::fs::write(home.path().join("in.rig.toml"), rig).unwrap();
    let mut watching = Running::start({
        let mut command = wasvolta(home.path(), &["inputs", "in.rig.toml", "--watch"]);
        command.stdin(Stdio::null());
        command
    });
    watching.until_said("fresh: midi on way");
    signal("-TERM", watching.child.id());
    assert_eq!(watching.ends(), Some(0));
}

#[test]
fn numbers_come_in_on_standard_input() {
    let home = tempfile::tempdir().unwrap();
    std::fs::write(home.path().join("in.rig.toml"), of_link("kind = \"stdin\"", "")).unwrap();
    let mut child = wasvolta(home.path(), &["inputs", "in.rig.toml", "--watch"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut to = child.stdin.take().unwrap();
    let fed = std::thread::spawn(move || {
        // Until it is read no more.
        while std::io::Write::write_all(&mut to, b"knob=7 3.5\n").is_ok() {
            std::thread::park_timeout(Duration::from_millis(20));
        }
    });
    let mut said = std::io::BufRead::lines(std::io::BufReader::new(child.stdout.take().unwrap()));
    let seen = said.by_ref().map_while(Result::ok).find(|line| line.contains("field 2      3.5"));
    assert!(seen.is_some());
    signal("-TERM", child.id());
    child.wait().unwrap();
    fed.join().unwrap();
}

/// What a maker writes for a converter whose inputs read 100, 250, 0 and 1023, and a line of 2000 bytes a second.
const OF_THE_MAKER: &str = r"
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>
int read_converter(int input) { static const int counts[] = { 100, 250, 0, 1023 }; return counts[input]; }
void write_byte(char byte) { if (write(1, &byte, 1) != 1) exit(0); usleep(500); }
";

#[test]
fn the_program_for_a_microcontroller_compiles_and_what_it_prints_is_understood() {
    let home = tempfile::tempdir().unwrap();
    let write =
        |more: &[&str]| wasvolta(home.path(), &[&["firmware", "lines"], more].concat()).output().unwrap();
    assert!(write(&["--buttons", "2"]).status.success());
    let again = write(&[]);
    assert!(!again.status.success(), "what is there is not replaced");
    let source = std::fs::read_to_string(home.path().join("lines.c")).unwrap();
    assert!((30..=45).contains(&source.lines().count()), "some 30 lines");
    assert_eq!(write(&["--buttons", "2", "--output", "-"]).stdout, source.as_bytes());
    std::fs::write(home.path().join("maker.c"), OF_THE_MAKER).unwrap();
    let strict = ["-std=c99", "-Wall", "-Wextra", "-Werror", "-D_DEFAULT_SOURCE"];
    let compiled = Command::new("cc")
        .args(strict)
        .args(["lines.c", "maker.c", "-o", "board"])
        .current_dir(home.path())
        .output()
        .unwrap();
    assert!(compiled.status.success(), "{}", String::from_utf8_lossy(&compiled.stderr));
    std::fs::write(home.path().join("in.rig.toml"), of_link("kind = \"stdin\"", "")).unwrap();
    let mut board = Command::new(home.path().join("board")).stdout(Stdio::piped()).spawn().unwrap();
    let printed = board.stdout.take().unwrap();
    let output = wasvolta(home.path(), &["inputs", "in.rig.toml", "--json"]).stdin(printed).output().unwrap();
    board.wait().unwrap();
    let said: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let heard: Vec<_> = said["links"][0]["channels"]
        .as_array()
        .unwrap()
        .iter()
        .map(|channel| (channel["channel"].as_str().unwrap(), channel["value"].as_f64().unwrap()))
        .collect();
    assert_eq!(heard, [("knob1", 100.0), ("knob2", 250.0), ("button1", 1.0), ("button2", 0.0)], "{said}");
}

// --- A bus of smart servos ---

const SPINE: &str = r#"format = 12
name = "Heron's neck"

[[port]]
name = "line"
kind = "serial"
path = "reeds.line"
baud = 1000000

[[board]]
name = "neck"
port = "line"
chip = "smart-bus"
layout = "twelve-bit"

[[servo]]
name = "heron.nape"
kind = "smart"
board = "neck"
id = 1
model = 4242
endpoints_counts = [1200, 2900]
rated = { travel_deg = 360, counts = [0, 4096] }
marks = [{ counts = 2048, angle_deg = 0 }]

[[joint]]
name = "heron.nape"
servo = "heron.nape"
home_deg = 0

[[pose]]
name = "left"
angles_deg = { "heron.nape" = -30 }

[[sequence]]
name = "sway"

[[sequence.step]]
pose = "left"
move_s = 0.4
"#;

/// What the stand-in was told, by its standard input.
fn told(board: &mut Board, order: &str) {
    use std::io::Write;
    writeln!(board.0.stdin.as_mut().unwrap(), "{order}").unwrap();
}

#[test]
fn a_bus_on_a_real_line_is_asked_driven_left_holding_and_made_limp() {
    let home = tempfile::tempdir().unwrap();
    let home = home.path();
    let arguments = ["sim", "bus", "--link", "reeds.line", "--form", "2", "--ids", "1-2,9"];
    let child = wasvolta(home, &arguments).stdin(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap();
    let mut board = Board(child);
    let start = Instant::now();
    while !home.join("reeds.line").exists() {
        assert!(start.elapsed() < Duration::from_secs(20), "the bus does not listen");
        std::thread::yield_now();
    }
    let ask = [
        "scan",
        "--ask",
        "reeds.line",
        "--layout",
        "twelve-bit",
        "--ids",
        "0-10",
        "--baud",
        "1000000",
        "--json",
    ];
    let found = wasvolta(home, &ask).output().unwrap();
    let found: serde_json::Value = serde_json::from_slice(&found.stdout).unwrap();
    let ids: Vec<u64> = found.as_array().unwrap().iter().map(|one| one["id"].as_u64().unwrap()).collect();
    assert_eq!(ids, [1, 2, 9], "{found}");
    std::fs::write(home.join("neck.rig.toml"), SPINE).unwrap();
    // Within its ends before it is driven.
    told(&mut board, "hand 1 2048");
    let play = ["play", "neck.rig.toml", "sway", "--drive", "--trace", "t.csv", "--force"];
    let output = wasvolta(home, &play).output().unwrap();
    let words =
        format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "{words}");
    let last = std::fs::read_to_string(home.join("t.csv")).unwrap();
    let last = last.lines().last().unwrap().to_owned();
    // −30° is 341 counts below 2048.
    assert!(last.contains("heron.nape,-30.") && last.contains(",1707,"), "{last}");
    // One that is held fast is said not to have arrived, and waited for no longer than that takes.
    told(&mut board, "hand 1 2048");
    told(&mut board, "stuck@id1");
    let _ = std::fs::remove_file(home.join("t.csv"));
    let output = wasvolta(home, &play).output().unwrap();
    let words =
        format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(words.contains("heron.nape has not arrived: it is at "), "{words}");
    assert!(words.contains("released: the smart servos that were driven say that they are limp"), "{words}");
    told(&mut board, "stuck@id1");
    let _ = std::fs::remove_file(home.join("t.csv"));
    // Killed, it leaves the servo stiff; the next program says so, and makes it limp.
    std::fs::write(home.join("neck.rig.toml"), long(SPINE)).unwrap();
    let _ = std::fs::remove_file(home.join("t.csv"));
    let mut shown = Running::start(wasvolta(home, &play));
    let start = Instant::now();
    while std::fs::read_to_string(home.join("t.csv")).map_or(0, |rows| rows.lines().count()) < 40 {
        assert!(start.elapsed() < Duration::from_secs(30), "it never moved: {}", shown.said());
        std::thread::yield_now();
    }
    shown.child.kill().unwrap();
    shown.child.wait().unwrap();
    let release = |code: i32| {
        let output = wasvolta(home, &["release", "neck.rig.toml"]).output().unwrap();
        let words =
            format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
        assert_eq!(output.status.code(), Some(code), "{words}");
        words
    };
    let words = release(0);
    assert!(words.contains("stiff: id 1; making them limp"), "{words}");
    let words = release(0);
    assert!(words.contains("all its servos say that they are limp"), "{words}");
    told(&mut board, "silent@id1");
    let words = release(1);
    assert!(words.contains("id 1 does not say whether it is limp"), "{words}");
}
