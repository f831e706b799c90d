//! The first screen, when no rig was named: the demo, rigs that were open lately, or a new one.

use crate::files::output::Outputs;
use crate::fresh;
use crate::look::Look;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::keymap::Keymap;
use crate::screen::keys::Key;
use crate::screen::pen::Pen;
use crate::screen::terminal::{Screen, Waiting};
use crate::screen::touch::{self, Touch, Touched};
use crate::screen::typing::Recalled;
use crate::screen::{keys, terminal, theme};
use crate::signals::ENDING;
use crossterm::event::{Event, KeyCode, KeyEventKind, MouseButton, MouseEvent, MouseEventKind};
use miette::IntoDiagnostic;
use ratatui::DefaultTerminal;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use wasvolta_core::rig::fresh::Beginning;
use wasvolta_port::scan::Roots;

/// Time between two looks whether a signal has come.
const LOOK_UP: Duration = Duration::from_millis(100);

/// What was chosen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Choice {
    /// The Marsh Clock.
    Demo,
    /// A servo to practise on.
    Practice,
    Open(PathBuf),
    /// Nothing: the program ends.
    Nothing,
}

/// What a row leads to.
#[derive(Debug, Clone, PartialEq, Eq)]
enum To {
    Choice(Choice),
    /// A new rig, with a bus and a serial line to begin with.
    New {
        bus: &'static str,
        path: String,
    },
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Row {
    to: To,
    name: String,
    about: String,
}

/// What the machine and earlier runs have to offer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Offers {
    /// Rigs that were open lately, with how long ago.
    pub recent: Vec<(PathBuf, String)>,
    /// Paths of I²C buses.
    pub buses: Vec<String>,
    /// Paths of serial ports. None was opened: that resets many boards.
    pub lines: Vec<String>,
}

impl Offers {
    /// Looks at what is there; opens nothing.
    pub fn look(recent: Vec<(PathBuf, String)>, machine: &Roots) -> Self {
        let buses = machine.buses().into_iter().map(|way| way.path).collect();
        let lines = machine.serial_ports().into_iter().map(|port| port.way.path).collect();
        Self { recent, buses, lines }
    }
}

/// See the module.
pub struct Start {
    rows: Vec<Row>,
    pick: usize,
    form: Option<Form>,
    said: Option<String>,
    /// What may be clicked, as it was drawn last.
    touches: Vec<Touch>,
}

impl Start {
    /// The rows for what is there.
    pub fn new(offers: Offers) -> Self {
        let row = |to, name: String, about: String| Row { to, name, about };
        let mut rows = vec![row(
            To::Choice(Choice::Demo),
            "the demo".to_owned(),
            "the Marsh Clock, a complete rig on simulated hardware".to_owned(),
        )];
        for (path, ago) in offers.recent {
            let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            let folder = path.parent().map(|p| p.display().to_string()).unwrap_or_default();
            rows.push(row(To::Choice(Choice::Open(path)), name, format!("{ago}, in {folder}")));
        }
        let about = "an unknown simulated servo to calibrate, then its truth".to_owned();
        rows.push(row(To::Choice(Choice::Practice), "practice".to_owned(), about));
        let new = |bus, path: &str, about: &str| {
            let name = if path.is_empty() { "a new rig".to_owned() } else { format!("a new rig on {path}") };
            row(To::New { bus, path: path.to_owned() }, name, about.to_owned())
        };
        rows.extend(offers.buses.iter().map(|path| new("bus", path, "an I²C bus of this machine")));
        rows.extend(offers.lines.iter().map(|path| new("serial", path, "a serial port of this machine")));
        let simulated = To::New { bus: "bus", path: "sim:bench".to_owned() };
        let about = "a board whose servos are simulated: no hardware is needed".to_owned();
        rows.push(row(simulated, "a new rig, simulated".to_owned(), about));
        rows.push(new("bus", "", "from a bus path or serial port that you type"));
        Self { rows, pick: 0, form: None, said: None, touches: Vec::new() }
    }

    /// Takes a key; gives what was chosen, once it was.
    pub fn press(&mut self, key: Key) -> Option<Choice> {
        self.said = None;
        if let Some(form) = self.form.take() {
            return self.press_form(form, key);
        }
        match key.code {
            KeyCode::Up => self.pick = self.pick.saturating_sub(1),
            KeyCode::Down => self.pick = (self.pick + 1).min(self.rows.len() - 1),
            KeyCode::Enter => return self.take(),
            KeyCode::Char('q') | KeyCode::Esc => return Some(Choice::Nothing),
            _ => self.said = Some("↑ ↓ pick, Enter takes it, q leaves".to_owned()),
        }
        None
    }

    /// Takes what the mouse did: a click takes a row, a field or a word of the keys line, the wheel goes through them.
    fn mouse(&mut self, event: MouseEvent) -> Option<Choice> {
        let key = match event.kind {
            MouseEventKind::ScrollUp => KeyCode::Up,
            MouseEventKind::ScrollDown => KeyCode::Down,
            MouseEventKind::Down(MouseButton::Left) => {
                return self.click(touch::at(&self.touches, (event.column, event.row))?);
            }
            _ => return None,
        };
        self.press(Key::of(key))
    }

    fn click(&mut self, touched: Touched) -> Option<Choice> {
        match (touched, &mut self.form) {
            (Touched::Key(key), _) => self.press(key),
            (Touched::Line(field), Some(form)) => {
                form.here = field;
                None
            }
            (Touched::Line(row), None) => {
                self.pick = row;
                self.press(Key::of(KeyCode::Enter))
            }
            _ => None,
        }
    }

    fn take(&mut self) -> Option<Choice> {
        let row = self.rows.get(self.pick)?;
        let (bus, path) = match &row.to {
            To::Choice(choice) => return Some(choice.clone()),
            To::New { bus, path } => (*bus, path.clone()),
        };
        let (on_bus, on_line) = if bus == "bus" { (path, String::new()) } else { (String::new(), path) };
        let fields = vec![
            Field::new(
                "I²C bus",
                on_bus,
                "The bus's path, as /dev/i2c-1, or sim:bench for a simulated one; empty for none.",
            ),
            Field::new(
                "address",
                "0x40",
                "The address of the 16-channel board on the bus: 0x40 with no jumper closed.",
            ),
            Field::new(
                "serial port",
                on_line,
                "A port that prints numbers, as /dev/ttyACM0, or sim:knob; empty for none.",
            ),
            Field::new(
                "servo bus",
                "",
                "A port with smart servos on it, as /dev/ttyUSB0, or sim:neck; empty for none.",
            ),
            Field::new(
                "layout",
                "twelve-bit",
                "Where their registers stand: ten-bit, twelve-bit, twelve-bit-compact.",
            ),
            Field::new("file", "my.rig.toml", "Where to keep the rig; nothing is ever overwritten."),
        ];
        self.form = Some(Form::new("new rig", Subject::default(), fields));
        None
    }

    /// Takes what was pasted into the word that is being typed; never for keys.
    fn paste(&mut self, text: &str) {
        if let Some(form) = &mut self.form {
            for key in Key::typing(text) {
                form.press(key, &Recalled::default());
            }
        }
    }

    fn press_form(&mut self, mut form: Form, key: Key) -> Option<Choice> {
        if key.code == KeyCode::Esc {
            return None;
        }
        if key.code == KeyCode::Enter {
            match make(&form) {
                Ok(path) => return Some(Choice::Open(path)),
                Err(words) => self.said = Some(words.to_string()),
            }
        } else {
            form.press(key, &Recalled::default());
        }
        self.form = Some(form);
        None
    }

    pub fn draw(&mut self, area: Rect, buffer: &mut Buffer) {
        let mut touches = Vec::new();
        self.show(area, buffer, &mut touches);
        self.touches = touches;
    }

    fn show(&self, area: Rect, buffer: &mut Buffer, touches: &mut Vec<Touch>) {
        buffer.set_style(area, Style::new().fg(theme::INK).bg(theme::GROUND));
        let keys = Keymap::default();
        let mut pen = Pen::new(buffer, area, &keys, touches);
        let (wide, high) = (pen.width(), pen.height());
        pen.ground(0, 0, wide, theme::RAISED);
        pen.put(0, 0, "   OFF   ", Style::new().fg(theme::INK).bg(theme::RULE));
        pen.put(10, 0, "wasvolta", theme::strong(theme::INK));
        let top = if high >= 30 { 5 } else { 2 };
        let left = if wide >= 120 { 12 } else { 3 };
        pen.put(left, top, "What do you want to work on?", theme::strong(theme::INK));
        let names = self.rows.iter().map(|r| crate::screen::pen::width(&r.name)).max().unwrap_or(0).min(36);
        let room = usize::from(high.saturating_sub(top + 10)).max(1);
        let first = (self.pick + 1).saturating_sub(room);
        for (y, (n, row)) in (top + 2..).zip(self.rows.iter().enumerate().skip(first).take(room)) {
            let here = n == self.pick;
            if here {
                pen.ground(left - 2, y, wide.saturating_sub(left), theme::RAISED);
                pen.glyph(left - 2, y, "▌", theme::COMMANDED);
            }
            let style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
            pen.part(left, y, names, 1).put(0, 0, &row.name, style);
            pen.put(left + names + 3, y, &row.about, theme::text(theme::QUIET));
            if self.form.is_none() {
                pen.touch(left - 2, y, (wide, 1), Touched::Line(n));
            }
        }
        if let Some(form) = &self.form {
            let rows = u16::try_from(self.rows.len().min(room)).unwrap_or(0);
            draw_form(&mut pen.part(left, top + rows + 3, wide, 6), form);
        }
        self.bottom(&mut pen, high);
    }

    fn bottom(&self, pen: &mut Pen<'_>, high: u16) {
        let wide = pen.width();
        for y in [high.saturating_sub(2), high.saturating_sub(1)] {
            pen.ground(0, y, wide, theme::RAISED);
        }
        let (label, style, words) = match (&self.said, &self.form) {
            (Some(words), _) => (" no ", theme::strong(theme::FAULT), words.as_str()),
            (None, Some(form)) => (
                " new rig ",
                theme::block(theme::COMMANDED),
                form.fields.get(form.here).map_or("", |f| f.hint.as_ref()),
            ),
            (None, None) => (
                " next ",
                theme::strong(theme::COMMANDED),
                "Nothing here moves anything. The demo needs no hardware.",
            ),
        };
        let x = pen.put(0, high.saturating_sub(2), label, style) + 1;
        pen.put(x, high.saturating_sub(2), words, theme::text(theme::INK));
        let (enter, tab, esc) = (Key::of(KeyCode::Enter), Key::of(KeyCode::Tab), Key::of(KeyCode::Esc));
        let keys: &[(&str, &str, Option<Key>)] = if self.form.is_some() {
            &[
                ("Enter", "make the rig and open it", Some(enter)),
                ("Tab ↑ ↓", "next field", Some(tab)),
                ("Esc", "back", Some(esc)),
            ]
        } else {
            &[("↑ ↓", "pick", None), ("Enter", "take it", Some(enter)), ("q", "leave", Some(Key::char('q')))]
        };
        let y = high.saturating_sub(1);
        keys.iter().fold(1, |x, (name, word, key)| {
            let end = pen.put(x, y, name, theme::strong(theme::INK)) + 1;
            let end = pen.put(end, y, word, theme::text(theme::QUIET));
            if let Some(key) = key {
                pen.touch(x, y, (end - x, 1), Touched::Key(*key));
            }
            end + 3
        });
    }
}

fn draw_form(pen: &mut Pen<'_>, form: &Form) {
    for (y, (n, field)) in (0..).zip(form.fields.iter().enumerate()) {
        let here = n == form.here;
        let style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
        pen.put_right(12, y, field.label, theme::text(theme::QUIET));
        let text = if here { field.typing.shown() } else { field.typing.text().to_owned() };
        pen.put(14, y, &text, style);
        pen.touch(0, y, (pen.width(), 1), Touched::Line(n));
    }
}

fn make(form: &Form) -> Result<PathBuf, fresh::NotMade> {
    let some = |n: usize| Some(form.word(n).to_owned()).filter(|w| !w.is_empty());
    let bus = some(0).map(|path| fresh::address(form.word(1)).map(|address| (path, address))).transpose()?;
    let smart = some(3).map(|path| (path, form.word(4).to_owned()));
    let file = some(5).unwrap_or_else(|| "my.rig.toml".to_owned());
    let beginning = Beginning { bus, serial: some(2), smart, ..Beginning::default() };
    fresh::make(Path::new(&file), beginning, &Outputs::default())
}

/// Shows it until something is chosen.
///
/// # Errors
/// When the terminal cannot be used.
pub fn run(offers: Offers, look: &Look) -> miette::Result<Choice> {
    let mut start = Start::new(offers);
    // A signal ends it as q does: the terminal is given back.
    let ended = Arc::new(AtomicBool::new(false));
    for signal in ENDING {
        signal_hook::flag::register(signal, Arc::clone(&ended)).into_diagnostic()?;
    }
    let mut screen = Screen::take(|| ()).into_diagnostic()?;
    // Given back with the terminal.
    terminal::ask_for_mouse(look.mouse);
    choose(&mut start, &mut screen, look, &ended).into_diagnostic()
}

fn choose(
    start: &mut Start,
    shown: &mut DefaultTerminal,
    look: &Look,
    ended: &AtomicBool,
) -> std::io::Result<Choice> {
    while !ended.load(Ordering::SeqCst) {
        shown.draw(|f| {
            start.draw(f.area(), f.buffer_mut());
            look.dress(f.buffer_mut());
        })?;
        // What came together was read together: of that some may wait already.
        if !crossterm::event::poll(Duration::ZERO)? {
            match terminal::waits(LOOK_UP) {
                Waiting::Gone => break,
                Waiting::Nothing | Waiting::Something => continue,
            }
        }
        // Nothing is driven yet, so there is nothing to cut; it does not quit either.
        match crossterm::event::read()? {
            Event::Key(key) if key.kind != KeyEventKind::Release && !keys::is_cut(key) => {
                if let Some(choice) = Key::pressed(key).find_map(|key| start.press(key)) {
                    return Ok(choice);
                }
            }
            Event::Mouse(event) => {
                if let Some(choice) = start.mouse(event) {
                    return Ok(choice);
                }
            }
            Event::Paste(text) => start.paste(&text),
            _ => {}
        }
    }
    Ok(Choice::Nothing)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn frame(start: &mut Start, columns: u16, rows: u16) -> String {
        let area = Rect::new(0, 0, columns, rows);
        let mut buffer = Buffer::empty(area);
        start.draw(area, &mut buffer);
        let row = |y: u16| (0..columns).map(|x| buffer[(x, y)].symbol()).collect::<String>();
        (0..rows).map(|y| row(y).trim_end().to_owned() + "\n").collect()
    }

    fn start() -> Start {
        let recent = vec![(PathBuf::from("/rigs/crane.rig.toml"), "2 days ago".to_owned())];
        Start::new(Offers { recent, buses: vec!["/dev/i2c-1".into()], lines: vec!["/dev/ttyACM0".into()] })
    }

    #[test]
    fn it_offers_the_demo_what_was_open_and_what_is_there() {
        let mut start = start();
        insta::assert_snapshot!("start_100x30", frame(&mut start, 100, 30));
        for _ in 0..3 {
            start.press(Key::of(KeyCode::Down));
        }
        start.press(Key::of(KeyCode::Enter));
        insta::assert_snapshot!("start_new_80x24", frame(&mut start, 80, 24));
        for (columns, rows) in (1..200).step_by(13).flat_map(|c| (1..60).step_by(7).map(move |r| (c, r))) {
            frame(&mut start, columns, rows);
        }
    }

    fn event(kind: MouseEventKind, (column, row): (u16, u16)) -> MouseEvent {
        MouseEvent { kind, column, row, modifiers: crossterm::event::KeyModifiers::NONE }
    }

    /// Clicks a text where it is drawn.
    fn click(start: &mut Start, text: &str) -> Option<Choice> {
        let frame = frame(start, 100, 30);
        let (row, line) = frame.lines().enumerate().find(|(_, line)| line.contains(text)).unwrap();
        let column = line[..line.find(text).unwrap()].chars().count();
        let cell = (u16::try_from(column).unwrap(), u16::try_from(row).unwrap());
        let at = |kind| event(kind, cell);
        assert_eq!(start.mouse(at(MouseEventKind::Up(MouseButton::Left))), None);
        start.mouse(at(MouseEventKind::Down(MouseButton::Left)))
    }

    #[test]
    fn a_click_takes_a_row_a_field_or_a_word_of_the_keys_line() {
        assert_eq!(click(&mut start(), "the demo"), Some(Choice::Demo));
        assert_eq!(click(&mut start(), "crane.rig"), Some(Choice::Open("/rigs/crane.rig.toml".into())));
        assert_eq!(click(&mut start(), "q leave"), Some(Choice::Nothing));
        assert_eq!(click(&mut start(), "What do you want"), None);
        let mut start = start();
        assert_eq!(click(&mut start, "a new rig, simulated"), None);
        assert_eq!(click(&mut start, "twelve-bit"), None);
        start.press(Key::char('X'));
        let typed = frame(&mut start, 100, 30);
        assert!(typed.contains("layout  X▏") && typed.contains("sim:bench"), "{typed}");
        assert_eq!(click(&mut start, "the demo"), None, "what is asked is not left by a click beside it");
        assert!(start.form.is_some());
        assert_eq!(click(&mut start, "Esc back"), None);
        assert!(start.form.is_none());
        let before = start.pick;
        start.mouse(event(MouseEventKind::ScrollUp, (0, 0)));
        assert_eq!(start.pick + 1, before);
    }

    #[test]
    fn a_row_is_taken_and_q_leaves() {
        assert_eq!(start().press(Key::of(KeyCode::Enter)), Some(Choice::Demo));
        assert_eq!(start().press(Key::char('q')), Some(Choice::Nothing));
        let mut start = start();
        start.press(Key::of(KeyCode::Down));
        let open = Choice::Open(PathBuf::from("/rigs/crane.rig.toml"));
        assert_eq!(start.press(Key::of(KeyCode::Enter)), Some(open));
    }

    #[test]
    fn a_new_rig_is_made_of_what_is_typed_and_a_wrong_word_is_said() {
        let folder = tempfile::tempdir().unwrap();
        let mut start = start();
        for _ in 0..3 {
            start.press(Key::of(KeyCode::Down));
        }
        start.press(Key::of(KeyCode::Enter));
        start.press(Key::of(KeyCode::Tab));
        start.paste("0x70\nq");
        start.press(Key::of(KeyCode::Up));
        start.press(Key::of(KeyCode::Up));
        for c in folder.path().join("arm").display().to_string().chars() {
            start.press(Key::char(c));
        }
        assert_eq!(start.press(Key::of(KeyCode::Enter)), None);
        assert!(start.said.clone().unwrap().contains("all-call"), "{:?}", start.said);
        start.press(Key::of(KeyCode::Down));
        start.press(Key::of(KeyCode::Down));
        for c in "0x41".chars() {
            start.press(Key::char(c));
        }
        let path = folder.path().join("arm.rig.toml");
        assert_eq!(start.press(Key::of(KeyCode::Enter)), Some(Choice::Open(path.clone())));
        let rig = crate::files::open(&path).unwrap().rig().clone();
        assert_eq!((rig.boards[0].address, rig.ports[0].path.as_str()), (Some(0x41), "/dev/i2c-1"));
    }
}
