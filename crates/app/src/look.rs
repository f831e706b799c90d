//! How things look on a terminal: theme, colours that it has, glyphs that it has; chosen by a person, else by what the
//! terminal says of itself.

use clap::builder::BoolishValueParser;
use clap::{Args, ValueEnum};
use std::ffi::OsString;

/// Dark or light ground.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub enum Theme {
    /// Light ink on a dark ground.
    #[default]
    Dark,
    /// Dark ink on a light ground.
    Light,
}

/// How many colours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Colours {
    /// Any colour, 24 bits each.
    Full,
    /// The 256 of a terminal's table.
    #[value(name = "256")]
    Table,
    /// The 16 that a terminal's owner has chosen.
    #[value(name = "16")]
    Sixteen,
    /// None: words, shapes and reversed cells only.
    None,
}

/// What drawings are made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Glyphs {
    /// Eight dots a cell.
    Braille,
    /// Four quarters a cell.
    Blocks,
    /// Letters and signs only; d stands for degrees, u for micro.
    Ascii,
}

/// How the screen looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Args)]
pub struct LookOptions {
    /// Light or dark.
    #[arg(long, value_enum, default_value_t, env = "WASVOLTA_THEME", global = true)]
    pub theme: Theme,
    /// How many colours; by the terminal by default. `NO_COLOR` means none.
    #[arg(long, value_enum, value_name = "HOW MANY", env = "WASVOLTA_COLOURS", global = true)]
    pub colours: Option<Colours>,
    /// What drawings are made of; by the terminal by default.
    #[arg(long, value_enum, env = "WASVOLTA_GLYPHS", global = true)]
    pub glyphs: Option<Glyphs>,
    /// Leave the mouse to the terminal everywhere; nothing here needs it.
    #[arg(long, env = "WASVOLTA_NO_MOUSE", value_parser = BoolishValueParser::new(), global = true)]
    pub no_mouse: bool,
}

/// The choice, with nothing left open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Look {
    /// Dark or light.
    pub theme: Theme,
    /// How many colours.
    pub colours: Colours,
    /// The colours were chosen by a person, not by what the terminal says of itself.
    told_colours: bool,
    /// What drawings are made of.
    pub glyphs: Glyphs,
    /// The mouse may do something.
    pub mouse: bool,
}

impl LookOptions {
    /// Fills what was not said from the terminal's own words.
    pub fn resolve(self, variable: impl Fn(&str) -> Option<OsString>) -> Look {
        let word =
            |name: &str| variable(name).map(|v| v.to_string_lossy().to_lowercase()).filter(|v| !v.is_empty());
        let terminal = word("TERM").unwrap_or_default();
        let plain = word("NO_COLOR").is_some() || terminal == "dumb";
        let direct = word("COLORTERM").is_some_and(|c| c == "truecolor" || c == "24bit")
            || terminal.ends_with("-direct");
        let by_terminal = match () {
            () if plain => Colours::None,
            () if direct => Colours::Full,
            () if terminal.contains("256") => Colours::Table,
            () => Colours::Sixteen,
        };
        let locale = ["LC_ALL", "LC_CTYPE", "LANG"].iter().find_map(|name| word(name));
        // A terminal that says nothing of its letters is a modern one more often than not.
        let unicode = locale.is_none_or(|l| l.contains("utf"));
        let by_letters = if unicode && terminal != "linux" { Glyphs::Braille } else { Glyphs::Ascii };
        Look {
            theme: self.theme,
            colours: self.colours.unwrap_or(by_terminal),
            told_colours: self.colours.is_some(),
            glyphs: self.glyphs.unwrap_or(by_letters),
            mouse: !self.no_mouse,
        }
    }
}

impl Look {
    /// A look for a test.
    #[cfg(test)]
    pub const fn of(theme: Theme, colours: Colours, glyphs: Glyphs) -> Self {
        Self { theme, colours, told_colours: true, glyphs, mouse: true }
    }

    /// Whether it has colours at all.
    pub const fn has_colours(self) -> bool {
        !matches!(self.colours, Colours::None)
    }

    /// Whether its colours were chosen by a person.
    pub const fn was_told_colours(self) -> bool {
        self.told_colours
    }

    /// Whether it is made of letters and signs only.
    pub const fn is_ascii(self) -> bool {
        matches!(self.glyphs, Glyphs::Ascii)
    }

    /// A text with the signs that the terminal has.
    pub fn text(self, text: &str) -> String {
        if self.is_ascii() { text.chars().map(|c| ascii(c).unwrap_or(c)).collect() } else { text.to_owned() }
    }
}

/// The dots of a braille sign, if it is one.
pub fn dots(c: char) -> Option<u32> {
    (0x2800..=0x28ff).contains(&u32::from(c)).then(|| u32::from(c) - 0x2800)
}

/// A sign of the drawings as a letter that every terminal has.
pub fn ascii(c: char) -> Option<char> {
    if c.is_ascii() {
        return None;
    }
    if let Some(dots) = dots(c) {
        return Some(match dots.count_ones() {
            0 => ' ',
            1 | 2 => '.',
            3 | 4 => ':',
            _ => '#',
        });
    }
    Some(match c {
        '│' | '▏' | '╵' | '▐' | '▌' | '┃' => '|',
        '─' | '–' | '−' | '╶' => '-',
        '↘' => '\\',
        '↻' => ')',
        '↺' => '(',
        '□' => 'O',
        '≠' => '!',
        '∞' => '8',
        '┈' | '┄' | '·' | '…' | '╌' => '.',
        '┊' => ':',
        '┼' | '✓' | '╭' | '╮' => '+',
        '█' | '▆' | '▇' | '▪' | '■' => '#',
        '▒' | '░' | '↗' => '/',
        '▁' | '▂' | '▃' | '▄' => '_',
        '▀' | '▔' => '"',
        '◆' => '*',
        '━' | '▅' => '=',
        '←' | '≤' => '<',
        '→' | '≥' | '▸' => '>',
        '↑' | '▲' => '^',
        '↓' | '▽' | '▼' => 'v',
        '✗' | '×' => 'x',
        '○' | '◇' | '◐' => 'o',
        '●' => '@',
        '±' | '≈' => '~',
        '°' => 'd',
        'µ' | 'μ' => 'u',
        '²' => '2',
        // Letters of a name stay what they are.
        c if c.is_alphanumeric() => return None,
        _ => '?',
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn look(words: &[(&str, &str)]) -> Look {
        LookOptions::default()
            .resolve(|name| words.iter().find(|(n, _)| *n == name).map(|(_, value)| OsString::from(value)))
    }

    #[test]
    fn a_terminal_gets_what_it_says_it_has() {
        type Row = (&'static [(&'static str, &'static str)], Colours, Glyphs);
        let rows: [Row; 7] = [
            (&[("TERM", "xterm-256color"), ("COLORTERM", "truecolor")], Colours::Full, Glyphs::Braille),
            (&[("TERM", "tmux-256color")], Colours::Table, Glyphs::Braille),
            (&[("TERM", "linux"), ("LANG", "en_GB.UTF-8")], Colours::Sixteen, Glyphs::Ascii),
            (&[("TERM", "xterm"), ("LANG", "C")], Colours::Sixteen, Glyphs::Ascii),
            (&[("TERM", "xterm-256color"), ("NO_COLOR", "1")], Colours::None, Glyphs::Braille),
            (&[("TERM", "xterm-256color"), ("NO_COLOR", "")], Colours::Table, Glyphs::Braille),
            (&[("TERM", "dumb")], Colours::None, Glyphs::Braille),
        ];
        for (words, colours, glyphs) in rows {
            let found = look(words);
            assert_eq!((found.colours, found.glyphs), (colours, glyphs), "{words:?}");
        }
        let told = LookOptions { colours: Some(Colours::Sixteen), ..LookOptions::default() };
        let told = told.resolve(|name| (name == "NO_COLOR").then(|| OsString::from("1")));
        assert_eq!(told.colours, Colours::Sixteen, "what is said on the command line wins");
    }
}
