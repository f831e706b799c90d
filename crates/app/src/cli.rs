//! The command line: what may be said.

use crate::hardware::Surroundings;
use crate::look::LookOptions;
use clap::{Args, Parser, Subcommand, ValueEnum};
use std::path::{Path, PathBuf};
use wasvolta_sheet::Paper;
use wasvolta_sheet::protractor::Fitting;
use wasvolta_sim::faults::{Kind, Struck};
use wasvolta_sim::practice::Deal;

/// The version, with the commit it was built from.
pub const VERSION: &str = concat!(env!("CARGO_PKG_VERSION"), " (", env!("WASVOLTA_COMMIT"), ")");

/// Calibrate servos by pulse width, map inputs to angles, and play poses in time.
#[derive(Debug, Parser)]
#[command(name = "wasvolta", version = VERSION, max_term_width = 100, after_help = after_help())]
pub struct Arguments {
    /// What to do; without it, the screen offers the demo, recent rigs, or a new one.
    #[command(subcommand)]
    pub command: Option<Command>,
    #[command(flatten)]
    pub look: LookOptions,
    /// Write a log: what was done and seen, and how well time was kept. At most 4 MiB, the oldest goes first.
    #[arg(long, value_name = "FILE", global = true)]
    pub log: Option<PathBuf>,
    /// Let what is written replace files that are there. What is read is never replaced.
    #[arg(long, global = true)]
    pub force: bool,
    /// Say only what was asked for, and trouble.
    #[arg(short, long, global = true)]
    pub quiet: bool,
}

fn after_help() -> String {
    format!(
        "Exit codes:\n{}\nQuitting, and the signals TERM, HUP, QUIT, USR1, USR2, ALRM and ABRT, release every servo; \
         after KILL, a crash of the machine, or when memory runs out, boards go on as each one's note in Wiring says, and `wasvolta release RIG` is the way back.\n\nEnvironment:\n{}",
        crate::exit::table(),
        environment()
    )
}

/// What of the environment is listened to, with what it does: help, man pages and documentation are made from it.
pub const ENVIRONMENT: [(&str, &str); 11] = [
    ("WASVOLTA_THEME", "as --theme"),
    ("WASVOLTA_COLOURS", "as --colours"),
    ("WASVOLTA_GLYPHS", "as --glyphs"),
    ("WASVOLTA_NO_MOUSE", "1 means the same as --no-mouse"),
    ("NO_COLOR", "no colours, unless --colours says otherwise"),
    ("TERM, COLORTERM", "how many colours the terminal has"),
    ("LC_ALL, LC_CTYPE, LANG", "whether it has more than plain letters"),
    ("XDG_CONFIG_HOME", "the folder with config.toml, which sets keys; ~/.config by default"),
    ("XDG_DATA_HOME", "the folder that keeps the demo's rig; ~/.local/share by default"),
    (
        "XDG_STATE_HOME",
        "the folder that keeps where servos were left, unsaved edits and recent rigs; ~/.local/state by default",
    ),
    ("TMPDIR", "the folder for the paths of simulated serial lines; /tmp by default"),
];

fn environment() -> String {
    let lines: Vec<String> = ENVIRONMENT.iter().map(|(name, words)| format!("  {name}  {words}")).collect();
    lines.join("\n")
}

/// What to do.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Open the Marsh Clock, a complete rig on simulated hardware.
    ///
    /// Your changes are kept in your data folder and found again the next time.
    Demo {
        /// Forget the changes of earlier demos and start from the beginning.
        #[arg(long)]
        fresh: bool,
        #[command(flatten)]
        live: Live,
    },
    /// Deal an unknown simulated servo, perhaps with a hidden fault, to calibrate for practice.
    ///
    /// What it really is can be seen once it has two marks, beside what was found out. The same number deals the same servo
    /// again, from the beginning.
    Practice {
        /// The number of a deal, 0 to 9999; another one each time by default.
        #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(0..=i64::from(Deal::MOST)))]
        deal: Option<u32>,
        #[command(flatten)]
        live: Live,
    },
    /// Open a rig.
    Open {
        /// The rig, a *.rig.toml file.
        rig: PathBuf,
        #[command(flatten)]
        live: Live,
    },
    /// Write a new rig for a board on a bus, a serial line, or both.
    New(New),
    /// Check a rig: exit code 0 when sound, 1 with problems, 2 when it cannot be read.
    Check(Check),
    /// List what is in a rig, a line each.
    List(List),
    /// Listen to the links of a rig, and say what every channel says. Drives nothing.
    Inputs(Inputs),
    /// Look what is there: boards on I²C buses, PWM chips, serial ports. Reads only; serial ports stay unopened.
    Scan(Scan),
    /// Why does a servo not move? Traces its chain from the port to the horn, by reading only.
    Why(Why),
    /// Run a simulated board, receiver or microcontroller by itself and print where it is, until Ctrl-C.
    Sim(Sim),
    /// Write a C program for a microcontroller that is to send its knobs and buttons.
    Firmware(Firmware),
    /// Play a sequence without the screen. Ctrl-C ends it, Ctrl-Z holds it; both by what is read back.
    Play(Play),
    /// Stop every pulse that runs on the boards of a rig, as one that was killed has left it, and read back whether it
    /// did. Exit code 1 when something may still pulse.
    Release(Release),
    /// List every action with its keys, as they are set in config.toml.
    Keys {
        /// Print JSON on standard output.
        #[arg(long)]
        json: bool,
    },
    /// Write manual pages into a folder: one for the program, one for each command, one for the keys.
    Man {
        /// The folder.
        folder: PathBuf,
    },
    /// Print completions for a shell.
    Completions {
        /// The shell that the completions are for.
        shell: clap_complete::Shell,
    },
    /// Run a recording again and compare every setpoint; no device is touched.
    Replay(Replay),
    /// Servo cards: what was found out about single servos, in *.servo.toml files.
    #[command(subcommand)]
    Card(Card),
    /// Draw a sheet for paper: SVG or PDF, by the file's ending.
    Sheet(Sheet),
    /// Sequences: list them, show one step by step, or look at them before they run.
    #[command(subcommand)]
    Sequence(Sequence),
}

impl Command {
    /// The files that it reads: nothing that it writes may replace one of them.
    pub fn reads(&self) -> Vec<&Path> {
        let files: Vec<&PathBuf> = match self {
            Self::Open { rig, .. }
            | Self::Card(Card::Save { rig, .. })
            | Self::Sequence(
                Sequence::List { rig } | Sequence::Show { rig, .. } | Sequence::Check { rig, .. },
            ) => vec![rig],
            Self::Sequence(Sequence::Import { rig, table, .. }) => vec![rig, table],
            Self::Check(check) => vec![&check.rig],
            Self::List(list) => vec![&list.rig],
            Self::Inputs(inputs) => vec![&inputs.rig],
            Self::Scan(scan) => scan.rig.iter().collect(),
            Self::Why(why) => vec![&why.rig],
            Self::Play(play) => vec![&play.rig],
            Self::Release(release) => vec![&release.rig],
            Self::Replay(replay) => vec![&replay.file],
            Self::Card(Card::Load { card, rig, .. }) => vec![card, rig],
            Self::Card(Card::Compare { one, other }) => vec![one, other],
            Self::Card(Card::Alike { cards, .. }) => cards.iter().filter(|path| path.is_file()).collect(),
            Self::Sheet(sheet) => vec![&sheet.rig],
            Self::Demo { .. }
            | Self::Practice { .. }
            | Self::New(_)
            | Self::Sim(_)
            | Self::Firmware(_)
            | Self::Keys { .. }
            | Self::Man { .. }
            | Self::Completions { .. }
            | Self::Card(Card::List { .. }) => Vec::new(),
        };
        files.into_iter().map(PathBuf::as_path).collect()
    }

    /// Whether one of its outputs is standard output, by a path of `-`.
    pub fn writes_to_standard_output(&self) -> bool {
        let files: Vec<&PathBuf> = match self {
            Self::Play(play) => {
                play.trace.iter().chain(&play.live.record).chain(&play.live.sim_log).collect()
            }
            Self::Replay(replay) => replay.trace.iter().collect(),
            Self::Card(Card::Save { output, .. }) => vec![output],
            Self::Card(Card::Alike { output, .. }) => output.iter().collect(),
            Self::Sheet(sheet) => vec![&sheet.output],
            Self::Firmware(firmware) => vec![&firmware.output],
            _ => Vec::new(),
        };
        files.into_iter().any(|path| path == Path::new("-"))
    }

    /// Whether it shows the screen.
    pub const fn has_screen(&self) -> bool {
        matches!(self, Self::Demo { .. } | Self::Practice { .. } | Self::Open { .. })
    }

    /// Whether it goes by the keys that are set, or tells them.
    pub const fn needs_keys(&self) -> bool {
        self.has_screen() || matches!(self, Self::Keys { .. } | Self::Man { .. })
    }
}

/// What to do with servo cards.
#[derive(Debug, Subcommand)]
pub enum Card {
    /// List the cards of a folder, a line each.
    List {
        /// The folder; this one by default.
        #[arg(default_value = ".")]
        folder: PathBuf,
    },
    /// Write the card of a servo of a rig.
    Save {
        /// The rig, a *.rig.toml file.
        rig: PathBuf,
        /// Of which servo.
        servo: String,
        /// Where to write it: NAME.servo.toml; - writes to standard output.
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
    },
    /// Put a card on a servo of a rig, and save the rig.
    Load {
        /// The card, a *.servo.toml file.
        card: PathBuf,
        /// The rig, a *.rig.toml file.
        rig: PathBuf,
        /// On which servo.
        servo: String,
    },
    /// Lay the cards of a kind, ten of one box, on one chart: a line each, how far apart they stand, and whether one is odd.
    Alike {
        /// The cards, *.servo.toml files, or a folder of them.
        #[arg(required = true)]
        cards: Vec<PathBuf>,
        /// Draw them on a sheet too: NAME.svg or NAME.pdf; - writes SVG to standard output, without the lines.
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// The date on the sheet; today by default. The same cards and date give the same bytes.
        #[arg(long, value_name = "YYYY-MM-DD")]
        date: Option<chrono::NaiveDate>,
        /// The size of the paper.
        #[arg(long, value_enum, default_value_t = PaperSize::A4)]
        paper: PaperSize,
    },
    /// Two cards side by side; exit code 1 when they differ in more than name and day.
    Compare {
        /// The first card, a *.servo.toml file.
        one: PathBuf,
        /// The second card, a *.servo.toml file.
        other: PathBuf,
    },
}

/// What `inputs` listens to.
#[derive(Debug, Args)]
pub struct Inputs {
    /// The rig, a *.rig.toml file.
    pub rig: PathBuf,
    /// Go on, and say every change, until Ctrl-C.
    #[arg(long)]
    pub watch: bool,
    /// Say it as JSON on standard output; with --watch one line each time.
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub bench: SimulatedBench,
}

/// Run a simulated board by itself.
#[derive(Debug, Args)]
pub struct Sim {
    /// The kind of simulated hardware.
    #[arg(value_enum)]
    pub board: SimKind,
    /// A radio's receiver: what it speaks.
    #[arg(long, value_enum, value_name = "PROTOCOL", default_value_t = RadioProtocol::Ibus)]
    pub protocol: RadioProtocol,
    /// Lines: what is on the microcontroller's pins, by the names that it prints; may be said several times.
    #[arg(long = "field", value_name = "NAME")]
    pub fields: Vec<String>,
    /// A bus: the form of its packets. 2 unless its layout says otherwise.
    #[arg(long, value_name = "1|2", value_parser = clap::value_parser!(u8).range(1..=2))]
    pub form: Option<u8>,
    /// A bus: the layout of its registers, by its name or its file. That of the form by default.
    #[arg(long, value_name = "LAYOUT")]
    pub layout: Option<String>,
    /// A bus: ids, as 1-8; may be said several times. 1-3 by default.
    #[arg(long, value_name = "1-8", value_delimiter = ',', value_parser = crate::layouts::ids)]
    pub ids: Vec<std::ops::RangeInclusive<u8>>,
    /// Radio, lines, a bus and OSC: commands are read from this file instead of standard input, a line each: `ch1 0.3`, `wait
    /// 2`,
    /// `off`, `well`, `frozen`, `failsafe`, `silent`, `rubbish`, `noise 5`, `unplug`, `plug`.
    #[arg(long, value_name = "FILE")]
    pub script: Option<PathBuf>,
    /// Expanders: the address of one; may be said several times. 0x40 by default.
    #[arg(long = "address", value_name = "0x40", value_parser = crate::fresh::address)]
    pub addresses: Vec<u8>,
    /// Firmata: it is not started anew when its line is opened, so that its pulses outlive a program that was killed.
    #[arg(long)]
    pub steady: bool,
    /// OSC: where it sends, an address with a port.
    #[arg(long, value_name = "ADDRESS:PORT", default_value = "127.0.0.1:7000")]
    pub to: std::net::SocketAddr,
    /// Make a link at this path to where it listens, to write into a rig.
    #[arg(long, value_name = "PATH")]
    pub link: Option<PathBuf>,
    #[command(flatten)]
    pub bench: SimulatedBench,
}

impl Sim {
    /// Whether anything is said that only a bus of smart servos knows.
    pub const fn is_about_a_bus(&self) -> bool {
        self.form.is_some() || self.layout.is_some() || !self.ids.is_empty()
    }
}

/// Boards that run by themselves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum SimKind {
    /// PWM expanders with a servo on each channel, behind a UART-to-I²C bridge.
    Expander,
    /// A microcontroller of 20 pins that speaks Firmata, a servo on each that can drive one.
    Firmata,
    /// A bus of smart servos, which are moved by hand by what is typed or by a script: `hand 1 700`.
    Bus,
    /// A radio's receiver; its transmitter's sticks are moved by what is typed or by a script.
    Radio,
    /// A microcontroller that prints lines of numbers.
    Lines,
    /// An instrument that speaks MIDI: two controllers, a pitch wheel and four keys.
    Midi,
    /// Sends OSC messages as datagrams: each line that is typed, or of a script, as `/wing 0.5 2`.
    Osc,
}

/// What a radio's receiver speaks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum RadioProtocol {
    /// 14 channels at 115200 baud.
    Ibus,
    /// 16 channels at 100000 baud, even parity, two stop bits.
    Sbus,
    /// 16 channels at 420000 baud.
    Crsf,
}

/// Check a rig.
#[derive(Debug, Args)]
pub struct Check {
    /// The rig, a *.rig.toml file; - reads standard input.
    pub rig: PathBuf,
    /// Say it as JSON on standard output.
    #[arg(long)]
    pub json: bool,
    /// Let warnings count: exit code 1 with any of them.
    #[arg(long)]
    pub strict: bool,
}

/// List what is in a rig.
#[derive(Debug, Args)]
pub struct List {
    /// The rig, a *.rig.toml file; - reads standard input.
    pub rig: PathBuf,
    /// Of which kind; all of them by default.
    #[arg(value_enum)]
    pub what: Option<Listed>,
    /// Say it as JSON on standard output.
    #[arg(long)]
    pub json: bool,
}

/// What a rig has in lists.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Listed {
    /// Servos, and whatever else hangs on a channel.
    Servos,
    /// The poses, each with how many joints it sets.
    Poses,
    /// The sequences, each with its steps and length.
    Sequences,
    /// The inputs, each with its link and what it drives.
    Inputs,
}

/// Look what is there.
#[derive(Debug, Args)]
pub struct Scan {
    /// A rig, a *.rig.toml file: its simulated buses are looked at too, and what is missing is said.
    pub rig: Option<PathBuf>,
    /// Ask this serial port what is on it. Opening it resets many boards: their servos twitch.
    #[arg(long, value_name = "PATH")]
    pub ask: Option<PathBuf>,
    /// The rate to ask it at. 57600 by default; of a bus of smart servos every rate that its layout knows.
    #[arg(long, value_name = "BAUD", requires = "ask")]
    pub baud: Option<u32>,
    /// Ask it as a bus of smart servos with registers as this layout has them, by its name or its file: every id is asked
    /// who it is, by reading only.
    #[arg(long, value_name = "LAYOUT", requires = "ask")]
    pub layout: Option<String>,
    /// The ids to ask, as 0-20. All by default.
    #[arg(long, value_name = "0-20", requires = "layout", value_parser = crate::layouts::ids)]
    pub ids: Option<std::ops::RangeInclusive<u8>>,
    /// Say it as JSON on standard output.
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub bench: SimulatedBench,
}

/// Why does a servo not move?
#[derive(Debug, Args)]
pub struct Why {
    /// The rig, a *.rig.toml file.
    pub rig: PathBuf,
    /// The servo's name.
    pub servo: String,
    /// Say it as JSON on standard output.
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub bench: SimulatedBench,
}

/// What simulated hardware is like.
#[derive(Debug, Clone, Args)]
pub struct SimulatedBench {
    /// Seed of the simulated hardware: the same seed gives the same servos and readings.
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    /// What is wrong with it.
    #[arg(long = "fault", value_name = "KIND[@ADDRESS[:CHANNEL]]", help = faults())]
    pub faults: Vec<Struck>,
}

fn faults() -> String {
    let kinds: Vec<String> = Kind::all().map(|kind| format!("{}: {}", kind.name(), kind.words())).collect();
    format!(
        "Switch on a fault of the simulated hardware, everywhere or at one board or channel; may be given several times. {}",
        kinds.join("; ")
    )
}

/// Run a recording again.
#[derive(Debug, Args)]
pub struct Replay {
    /// What --record has written; - reads standard input.
    pub file: PathBuf,
    /// Write the setpoints, a row a servo a turn, as CSV; - writes to standard output.
    #[arg(long, value_name = "FILE.csv")]
    pub trace: Option<PathBuf>,
}

/// Write a program for a microcontroller.
#[derive(Debug, Args)]
pub struct Firmware {
    /// What it sends.
    #[arg(value_enum)]
    pub kind: FirmwareKind,
    /// How many knobs it has, on the first inputs of its converter.
    #[arg(long, value_name = "COUNT", default_value_t = 2, value_parser = clap::value_parser!(u8).range(0..=16))]
    pub knobs: u8,
    /// How many buttons, on the inputs after them.
    #[arg(long, value_name = "COUNT", default_value_t = 1, value_parser = clap::value_parser!(u8).range(0..=16))]
    pub buttons: u8,
    /// Where to write it; - writes to standard output.
    #[arg(short, long, value_name = "FILE.c", default_value = "lines.c")]
    pub output: PathBuf,
}

/// The programs there are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FirmwareKind {
    /// Lines of numbers, as `knob1=512 button1=0`.
    Lines,
}

/// Draw a sheet for paper.
#[derive(Debug, Args)]
pub struct Sheet {
    /// The rig, a *.rig.toml file.
    pub rig: PathBuf,
    /// What to draw.
    #[arg(value_enum)]
    pub kind: SheetKind,
    /// Of which servo.
    #[arg(long, value_name = "NAME", required_if_eq_any([("kind", "calibration"), ("kind", "protractor"), ("kind", "linkage")]))]
    pub servo: Option<String>,
    /// Wiring: the board to begin with; four fit on a sheet.
    #[arg(long, value_name = "NAME")]
    pub board: Option<String>,
    /// Of which sequence.
    #[arg(long, value_name = "NAME", required_if_eq("kind", "sequence"))]
    pub sequence: Option<String>,
    /// Where to write it: NAME.svg or NAME.pdf; - writes SVG to standard output.
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
    /// The date on the sheet; today by default. The same rig and date give the same bytes.
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub date: Option<chrono::NaiveDate>,
    /// The size of the paper.
    #[arg(long, value_enum, default_value_t = PaperSize::A4)]
    pub paper: PaperSize,
    /// Protractor: from the spline's middle to the horn's tip, in mm.
    #[arg(long, value_name = "MM", default_value_t = Fitting::default().horn_mm)]
    pub horn: f64,
    /// Protractor: the hole for the spline, in mm.
    #[arg(long, value_name = "MM", default_value_t = Fitting::default().hole_mm)]
    pub hole: f64,
    /// Protractor: for the joint, about its axis, instead of for the horn.
    #[arg(long)]
    pub joint: bool,
    /// Protractor: the side one looks from.
    #[arg(long, value_enum, default_value_t = MountingSide::Horn)]
    pub seen_from: MountingSide,
}

/// The sheets there are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum SheetKind {
    /// What the servo does with a pulse: chart, marks, endpoints, limits, wire.
    Calibration,
    /// A scale in true size to lay under the horn.
    Protractor,
    /// Horn, rod and arm between servo and joint, and what one turns the other.
    Linkage,
    /// Boards with their jumpers, who is on which pin, leads, rails and their sums.
    Wiring,
    /// Steps in time with loops and waits, a band a joint, what rails must give, and what was found.
    Sequence,
}

/// Sizes of paper.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum PaperSize {
    /// 210 × 297 mm.
    A4,
    /// 215.9 × 279.4 mm.
    Letter,
}

impl From<PaperSize> for Paper {
    fn from(size: PaperSize) -> Self {
        match size {
            PaperSize::A4 => Self::A4,
            PaperSize::Letter => Self::Letter,
        }
    }
}

/// The side that a protractor is looked at from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum MountingSide {
    /// The side of the horn.
    Horn,
    /// Behind the servo.
    Back,
}

/// Write a new rig.
#[derive(Debug, Args)]
#[command(group = clap::ArgGroup::new("way in").required(true).multiple(true))]
pub struct New {
    /// Where to keep it: NAME.rig.toml.
    pub file: PathBuf,
    /// The path of an I²C bus with a 16-channel PWM expander on it; sim:NAME for a simulated one.
    #[arg(long, value_name = "PATH", group = "way in")]
    pub bus: Option<String>,
    /// The expander's address, as its jumpers set it.
    #[arg(long, value_name = "ADDRESS", default_value = "0x40", requires = "bus")]
    pub address: String,
    /// The bus is behind a UART-to-I²C bridge at that path, at this rate; 9600 is what it has after power-on.
    #[arg(long, value_name = "BAUD", requires = "bus")]
    pub baud: Option<u32>,
    /// The path of a serial port on which a microcontroller prints numbers; sim:NAME for a simulated one.
    #[arg(long, value_name = "PATH", group = "way in")]
    pub serial: Option<String>,
    /// The path of a serial port with a microcontroller that speaks Firmata; sim:NAME for a simulated one.
    #[arg(long, value_name = "PATH", group = "way in")]
    pub firmata: Option<String>,
    /// The path of a PWM chip of the kernel, best that of its device; sim:NAME for a simulated one.
    #[arg(long, value_name = "PATH", group = "way in")]
    pub pwm: Option<String>,
    /// The path of a serial port with a bus of smart servos; sim:NAME for a simulated one.
    #[arg(long, value_name = "PATH", group = "way in")]
    pub smart: Option<String>,
    /// Where the registers of its servos stand: ten-bit, twelve-bit or twelve-bit-compact.
    #[arg(long, value_name = "LAYOUT", default_value = "twelve-bit", requires = "smart")]
    pub layout: String,
}

/// How a live run behaves.
#[derive(Debug, Clone, Args)]
pub struct Live {
    #[command(flatten)]
    pub bench: SimulatedBench,
    /// Whether time passes by itself, or only by the command "pass beats" of the palette.
    #[arg(long, value_enum, default_value_t = ClockKind::Wall)]
    pub clock: ClockKind,
    /// Write every transfer that a simulated bus sees to a file.
    #[arg(long, value_name = "FILE")]
    pub sim_log: Option<PathBuf>,
    /// Record the run: wake times, readings, commands; `wasvolta replay` gives the same setpoints from it.
    #[arg(long, value_name = "FILE")]
    pub record: Option<PathBuf>,
}

impl From<&Live> for Surroundings {
    fn from(live: &Live) -> Self {
        Self {
            by_hand: live.clock == ClockKind::Manual,
            sim_log: live.sim_log.clone(),
            record: live.record.clone(),
            ..(&live.bench).into()
        }
    }
}

impl From<&SimulatedBench> for Surroundings {
    fn from(bench: &SimulatedBench) -> Self {
        Self { seed: bench.seed, faults: bench.faults.clone(), ..Self::default() }
    }
}

/// What makes time pass.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ClockKind {
    /// The machine's clock.
    Wall,
    /// Beats that pass on command.
    Manual,
}

/// What to do with sequences.
#[derive(Debug, Subcommand)]
pub enum Sequence {
    /// List the sequences of a rig, with how long each plays.
    List {
        /// The rig, a *.rig.toml file.
        rig: PathBuf,
    },
    /// Show one step by step: when each begins, what it does, and what is found of it.
    Show {
        /// The rig, a *.rig.toml file.
        rig: PathBuf,
        /// The sequence's name.
        sequence: String,
    },
    /// Make a sequence of a table with one time a row: a column `time_s`, and one a joint in degrees. The time is the sum of
    /// move and dwell: the move gets what its joints need.
    Import {
        /// The rig, a *.rig.toml file; the sequence is put into it.
        rig: PathBuf,
        /// The table, comma-separated values.
        table: PathBuf,
        /// What the sequence is to be called.
        #[arg(long)]
        name: String,
    },
    /// Look at sequences before they run: short steps, limits met, peaks, what is too fine to be seen, rails. Exit code 1
    /// when something is found.
    Check {
        /// The rig, a *.rig.toml file.
        rig: PathBuf,
        /// Only this one.
        sequence: Option<String>,
        /// Say it as JSON.
        #[arg(long)]
        json: bool,
    },
}

/// Play sequences without the screen.
#[derive(Debug, Args)]
pub struct Play {
    /// The rig, a *.rig.toml file.
    pub rig: PathBuf,
    /// The sequences, one after the other; those that are layers play beside all of them.
    #[arg(required = true, value_name = "SEQUENCE")]
    pub sequences: Vec<String>,
    /// Begin the first of them at the step with this label.
    #[arg(long, value_name = "LABEL")]
    pub from: Option<String>,
    /// How fast, in percent of what is written: 10 to 400.
    #[arg(long, value_name = "PERCENT")]
    pub tempo: Option<f64>,
    /// How often all of them are played.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub times: u32,
    /// What a parameter of theirs is, as strokes=3; may be said several times.
    #[arg(long, value_name = "NAME=N")]
    pub with: Vec<String>,
    /// Say as JSON what was found before it ran, and how it went.
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub way: Way,
    /// Write what is sent, a row a servo a beat, as CSV; - writes to standard output.
    #[arg(long, value_name = "FILE.csv")]
    pub trace: Option<PathBuf>,
    /// What to do when a board that the sequence needs is out of reach for more than a second.
    #[arg(long, value_enum, default_value_t = OnLost::Stop)]
    pub on_lost: OnLost,
    /// What to do with pulses that run on a board already. Without it nothing is played then.
    #[arg(long, value_enum)]
    pub adopt: Option<Adopt>,
    #[command(flatten)]
    pub live: Live,
}

/// What to do when a board is lost.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum OnLost {
    /// Hold, release everything, and end with exit code 1.
    Stop,
    /// Stand still in the sequence until it is back, then go on.
    Wait,
    /// Go on with what can still be reached.
    GoOn,
}

/// What to do with pulses that run already.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Adopt {
    /// Keep them: their servos go on from where they are.
    Keep,
    /// Stop them first.
    Release,
}

/// Stop what runs on the boards of a rig.
#[derive(Debug, Args)]
pub struct Release {
    /// The rig, a *.rig.toml file.
    pub rig: PathBuf,
    /// Only this board; may be said several times.
    #[arg(long = "board", value_name = "NAME")]
    pub boards: Vec<String>,
    #[command(flatten)]
    pub bench: SimulatedBench,
}

/// Exactly one of the two.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub struct Way {
    /// No device is touched; time is virtual and as fast as it can be. Starts at home.
    #[arg(long, conflicts_with_all = ["on_lost", "adopt", "seed", "faults", "clock", "sim_log", "record"])]
    pub dry: bool,
    /// Servos move. Engages those of the sequence at their last known place and glides in. A key that one waits for
    /// is typed in the terminal, followed by Enter.
    #[arg(long)]
    pub drive: bool,
}
