//! Pictures of every main view, from the demo, in a real terminal window on a display that nobody sees.
//!
//! Time passes by hand, so the same program gives the same pictures.

use crate::{run, tools};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const DISPLAY: &str = ":87";
const SOCKET: &str = "wasvolta-pictures";
const COLUMNS: &str = "160";
const ROWS: &str = "47";
const PATIENCE: Duration = Duration::from_secs(20);

/// One thing that the scripted maker does.
enum Do {
    /// Press keys, by tmux's names.
    Keys(&'static [&'static str]),
    /// Type a text and press Enter.
    Enter(&'static str),
    /// Type a text.
    Type(&'static str),
    /// Let beats pass.
    Beats(&'static str),
    /// Wait until a text stands on the screen.
    See(&'static str),
    /// Take a picture.
    Picture(&'static str),
    /// Take a picture of a page that something asks or shows over the view.
    Page(&'static str),
}

/// The whole session: every main view once.
const SCRIPT: &[Do] = &[
    Do::See("Horn off?"),
    Do::Beats("20"),
    Do::Keys(&["PageUp", "PageUp", "PageUp", "e"]),
    Do::Enter("5"),
    Do::Beats("10"),
    Do::Keys(&["g", "PageUp", "e"]),
    Do::Enter("0"),
    Do::Beats("10"),
    Do::Enter("1181us"),
    Do::Beats("400"),
    Do::See("commanded -30.9°"),
    Do::Picture("calibrate"),
    Do::Keys(&["PageDown", "PageDown", "PageDown", "PageDown", ":"]),
    Do::Enter("linkage"),
    Do::Type("16"),
    Do::Keys(&["Tab"]),
    Do::Type("50"),
    Do::Keys(&["Tab"]),
    Do::Type("22"),
    Do::Keys(&["Tab"]),
    Do::Enter("52"),
    Do::See("a linkage, same side"),
    Do::Keys(&["o"]),
    Do::Beats("60"),
    Do::Keys(&["m"]),
    Do::Enter("-2"),
    Do::Enter("1752us"),
    Do::Beats("200"),
    Do::Keys(&["m"]),
    Do::Enter("15"),
    Do::Enter("1250us"),
    Do::Beats("200"),
    Do::Keys(&["m"]),
    Do::Enter("-18"),
    Do::Enter("2000us"),
    Do::Beats("200"),
    Do::Keys(&["m"]),
    Do::Enter("30"),
    Do::Beats("400"),
    Do::See("at the servo"),
    Do::Picture("linkage"),
    Do::Keys(&["r", "u", "u", "u", "u", "u", "PageUp", "PageUp", "PageUp", "PageUp"]),
    Do::Beats("20"),
    Do::Keys(&["g", "PageDown", "F3", "Down"]),
    Do::Beats("300"),
    Do::Keys(&["Right"]),
    Do::Beats("90"),
    Do::Keys(&["Right"]),
    Do::Beats("60"),
    Do::Keys(&["Right"]),
    Do::Beats("120"),
    Do::See("heron.neck follows"),
    Do::Picture("inputs"),
    // The pole's course is bent where its stick stands.
    Do::Keys(&["Up", "Right", "Right", "Right", "Right"]),
    Do::Keys(&["PageDown", "PageDown", "PageDown", "PageDown", "e"]),
    Do::Enter("-18"),
    Do::Beats("10"),
    Do::Keys(&["g", "B"]),
    Do::See("a point at"),
    Do::Keys(&[
        "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down",
    ]),
    Do::Keys(&["Down", "Down", "Down", "Left", "Left", "Left"]),
    Do::Beats("150"),
    Do::See("punt.pole follows"),
    Do::Picture("mapping"),
    Do::Keys(&["u", "u", "u", "u", "r", "PageUp", "PageUp", "PageUp", "PageUp"]),
    Do::Beats("20"),
    Do::Keys(&["PageUp", "F4", "Up", "Up", "Right", "Down", "Down", "Right", "p"]),
    Do::Beats("101"),
    Do::See("playing"),
    Do::Picture("sequence"),
    Do::Keys(&["F1"]),
    Do::See("lower 0x41"),
    Do::Beats("5"),
    Do::Picture("wiring"),
    Do::Keys(&["F2", "PageDown", "PageDown", "PageDown", "PageDown"]),
    Do::Keys(&["PageDown", "PageDown", "PageDown", "PageDown", "e", "Enter"]),
    Do::Beats("60"),
    Do::See("sees its neutral first"),
    Do::Beats("60"),
    Do::Beats("20"),
    Do::Enter("40%"),
    Do::Beats("5"),
    Do::Beats("10"),
    Do::Beats("20"),
    Do::Beats("100"),
    Do::Enter("-25%"),
    Do::Beats("5"),
    Do::Beats("15"),
    Do::Beats("20"),
    Do::Beats("60"),
    Do::See("rpm"),
    Do::Picture("level"),
    // The neck's smart servo on its way, and the bus that it hangs on.
    Do::Keys(&["r", "PageUp", "PageUp", "PageUp", "PageUp", "PageUp", "PageUp", "e"]),
    Do::Beats("20"),
    Do::See("heron.nape engaged"),
    Do::Enter("-20deg"),
    Do::Beats("8"),
    Do::Beats("8"),
    Do::Beats("8"),
    Do::Beats("8"),
    Do::Beats("8"),
    Do::Beats("8"),
    Do::Beats("8"),
    Do::Beats("8"),
    Do::Enter("28deg"),
    Do::Beats("2"),
    Do::Beats("2"),
    Do::Beats("2"),
    Do::Beats("2"),
    Do::Beats("2"),
    Do::Beats("2"),
    Do::Beats("2"),
    Do::Beats("2"),
    Do::Beats("2"),
    Do::See("is behind by"),
    Do::Picture("smart"),
    Do::Keys(&["F1"]),
    Do::Beats("120"),
    Do::Beats("120"),
    Do::See("neck-line"),
    Do::Picture("bus"),
];

/// A dealt servo is calibrated, then its truth is looked at.
const PRACTICE: &[Do] = &[
    Do::See("Horn off?"),
    Do::Keys(&["e", "Enter"]),
    Do::Beats("60"),
    Do::Keys(&["m"]),
    Do::Enter("-2"),
    Do::Enter("1250us"),
    Do::Beats("160"),
    Do::Keys(&["m"]),
    Do::Enter("-31"),
    Do::Enter("1750us"),
    Do::Beats("160"),
    Do::Keys(&["m"]),
    Do::Enter("28"),
    Do::Enter("2000us"),
    Do::Beats("160"),
    Do::Keys(&["m"]),
    Do::Enter("49"),
    Do::Enter("1000us"),
    Do::Beats("160"),
    Do::Keys(&["m"]),
    Do::Enter("-51"),
    Do::Keys(&[":"]),
    Do::Enter("show the truth"),
    Do::See("what is wrong"),
    Do::Page("practice"),
];

/// Takes all pictures.
pub fn take() -> Result<(), String> {
    tools::need(&[
        ("tmux", "tmux"),
        ("Xvfb", "xvfb"),
        ("xterm", "xterm"),
        ("import", "imagemagick"),
        ("fc-list", "fontconfig fonts-dejavu"),
        ("rsvg-convert", "librsvg2-bin"),
    ])?;
    run(&["build", "--release", "--package", "wasvolta"])?;
    for (arguments, script) in [(&["demo"][..], SCRIPT), (&["practice", "--deal", "3"], PRACTICE)] {
        let _stage = Stage::set(arguments)?;
        for step in script {
            play(step)?;
        }
    }
    sheet()?;
    println!("look at each picture before you keep it");
    Ok(())
}

/// A calibration sheet as it comes out of a printer.
fn sheet() -> Result<(), String> {
    let drawing = std::env::temp_dir().join(format!("wasvolta-sheet-{}.svg", std::process::id()));
    let program = |name: &str| Command::new(name);
    let drawn = program("target/release/wasvolta")
        .args(["sheet", "examples/marsh-clock.rig.toml", "calibration", "--servo", "heron.neck"])
        .args(["--date", "2026-01-02", "-o"])
        .arg(&drawing)
        .status();
    let shown = program("rsvg-convert")
        .args(["-d", "96", "-p", "96", "-o", "docs/screenshots/sheet.png"])
        .arg(&drawing)
        .status();
    let _ = std::fs::remove_file(&drawing);
    match (drawn, shown) {
        (Ok(drawn), Ok(shown)) if drawn.success() && shown.success() => Ok(()),
        _ => Err("the sheet could not be drawn".to_owned()),
    }
}

/// A display, a terminal on it, and the program in that.
struct Stage {
    display: Child,
    window: Child,
    home: PathBuf,
}

impl Stage {
    fn set(arguments: &[&str]) -> Result<Self, String> {
        let home = std::env::temp_dir().join(format!("wasvolta-pictures-{}", std::process::id()));
        std::fs::create_dir_all(&home).map_err(|e| e.to_string())?;
        let display = quietly("Xvfb").args([DISPLAY, "-screen", "0", "1280x799x24"]).spawn();
        let display = display.map_err(|e| format!("Xvfb: {e}"))?;
        tmux(&["-f", "/dev/null", "new-session", "-d", "-s", "w", "-x", COLUMNS, "-y", ROWS], |command| {
            command.args(["env", "COLORTERM=truecolor"]);
            for name in ["HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR"] {
                command.arg(format!("{name}={}", home.display()));
            }
            command.arg("target/release/wasvolta").args(arguments).args(["--clock", "manual"]);
        })?;
        for setting in [
            &["set", "-g", "status", "off"][..],
            &["set", "-g", "default-terminal", "tmux-256color"],
            &["set", "-ga", "terminal-overrides", ",*:RGB"],
        ] {
            tmux(setting, |_| {})?;
        }
        let window = quietly("xterm")
            .env("DISPLAY", DISPLAY)
            .env("TERM", "xterm-256color")
            .args([
                "-fa",
                "DejaVu Sans Mono",
                "-fs",
                "10",
                "-geometry",
                "160x47+0+0",
                "-b",
                "0",
                "-bw",
                "0",
                "+sb",
            ])
            .args(["-bg", "#10151a", "-fg", "#d7dedc", "-e", "tmux", "-L", SOCKET, "attach", "-t", "w"])
            .spawn()
            .map_err(|e| format!("xterm: {e}"))?;
        Ok(Self { display, window, home })
    }
}

fn play(step: &Do) -> Result<(), String> {
    match step {
        Do::Keys(keys) => keys.iter().try_for_each(|key| press(key)),
        Do::Type(text) => type_text(text),
        Do::Enter(text) => {
            type_text(text)?;
            press("Enter")
        }
        Do::Beats(count) => {
            press(":")?;
            type_text("pass beats")?;
            press("Enter")?;
            see("beats of 20 ms")?;
            type_text(count)?;
            press("Enter")?;
            see(&format!("{count} beats passed"))
        }
        Do::See(text) => see(text),
        Do::Picture(name) => {
            // What was said last would stand in the place of the next line.
            see("\n next ")?;
            picture(name)
        }
        Do::Page(name) => picture(name),
    }
}

impl Drop for Stage {
    fn drop(&mut self) {
        let _ = tmux(&["kill-server"], |_| {});
        for child in [&mut self.window, &mut self.display] {
            let _ = child.kill();
            let _ = child.wait();
        }
        let _ = std::fs::remove_dir_all(&self.home);
    }
}

fn quietly(program: &str) -> Command {
    let mut command = Command::new(program);
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    command
}

fn tmux(arguments: &[&str], more: impl FnOnce(&mut Command)) -> Result<String, String> {
    let mut command = Command::new("tmux");
    command.args(["-L", SOCKET]).args(arguments);
    more(&mut command);
    let output = command.output().map_err(|e| format!("tmux: {e}"))?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    Err(format!("tmux {}: {}", arguments.join(" "), String::from_utf8_lossy(&output.stderr)))
}

fn press(key: &str) -> Result<(), String> {
    tmux(&["send-keys", "-t", "w", key], |_| {}).map(|_| ())
}

fn type_text(text: &str) -> Result<(), String> {
    tmux(&["send-keys", "-t", "w", "-l", "--", text], |_| {}).map(|_| ())
}

fn screen() -> Result<String, String> {
    tmux(&["capture-pane", "-p", "-t", "w"], |_| {})
}

fn see(text: &str) -> Result<(), String> {
    let start = Instant::now();
    while !screen()?.contains(text) {
        if start.elapsed() > PATIENCE {
            return Err(format!("never saw {text:?} on\n{}", screen()?));
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    Ok(())
}

/// Takes a picture once two looks at the window are the same: then it has caught up with the program.
fn picture(name: &str) -> Result<(), String> {
    let path = Path::new("docs/screenshots").join(format!("{name}.png"));
    std::fs::create_dir_all("docs/screenshots").map_err(|e| e.to_string())?;
    // Drawn anew as a whole: a font may leave pixels of what stood there before.
    let client = tmux(&["list-clients", "-F", "#{client_name}"], |_| {})?;
    tmux(&["refresh-client", "-t", client.trim()], |_| {})?;
    let mut before = Vec::new();
    let start = Instant::now();
    loop {
        std::thread::sleep(Duration::from_millis(300));
        let output = Command::new("import")
            .env("DISPLAY", DISPLAY)
            .args(["-window", "root", "-strip", "-define", "png:exclude-chunks=date,time"])
            .arg(&path)
            .output()
            .map_err(|e| format!("import: {e}"))?;
        if !output.status.success() {
            return Err(format!("import: {}", String::from_utf8_lossy(&output.stderr)));
        }
        let now = std::fs::read(&path).map_err(|e| e.to_string())?;
        if now == before {
            println!("{}", path.display());
            return Ok(());
        }
        if start.elapsed() > PATIENCE {
            return Err(format!("the window never came to rest for {name}"));
        }
        before = now;
    }
}
