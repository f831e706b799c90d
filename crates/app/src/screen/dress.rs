//! The finished frame is dressed for a terminal: in the theme, the colours and the glyphs that were chosen for it.
//!
//! Views draw with the theme's roles and with braille and blocks; what a terminal lacks is exchanged in the
//! finished buffer, cell by cell, so no view knows of it.

use crate::look::{Colours, Glyphs, Look, Theme, ascii, dots};
use crate::screen::theme;
use ratatui::buffer::{Buffer, Cell};
use ratatui::style::{Color, Modifier};

impl Look {
    /// Exchanges in a finished buffer what the terminal lacks.
    pub fn dress(&self, buffer: &mut Buffer) {
        let as_drawn = self.theme == Theme::Dark && self.colours == Colours::Full;
        let mut known = Exchanged::default();
        for cell in &mut buffer.content {
            if self.glyphs == Glyphs::Ascii {
                upright(cell);
            }
            if !as_drawn {
                self.colour(cell, &mut known);
            }
            match self.glyphs {
                Glyphs::Braille => {}
                Glyphs::Blocks => exchange(cell, quarters),
                Glyphs::Ascii => exchange(cell, ascii),
            }
        }
    }

    fn colour(&self, cell: &mut Cell, known: &mut Exchanged) {
        match self.colours {
            Colours::None => without_colour(cell),
            Colours::Sixteen => {
                cell.fg = known.get(cell.fg, |color| self.sixteenth(color));
                cell.bg = known.get(cell.bg, |color| self.sixteenth(color));
                // Many terminals make bold black a dark grey, which nobody can read on yellow.
                if cell.fg == Color::Black {
                    cell.modifier.remove(Modifier::BOLD);
                }
            }
            Colours::Full | Colours::Table => {
                cell.fg = known.get(cell.fg, |color| self.exact(color));
                cell.bg = known.get(cell.bg, |color| self.exact(color));
            }
        }
    }

    fn exact(&self, color: Color) -> Color {
        let color = match (self.theme, role(color)) {
            (Theme::Light, Some(role)) => role.light,
            _ => color,
        };
        if self.colours == Colours::Table { nearest_in_table(color) } else { color }
    }

    fn sixteenth(&self, color: Color) -> Color {
        let Some(role) = role(color) else { return color };
        match self.theme {
            Theme::Dark => role.sixteen_dark,
            Theme::Light => role.sixteen_light,
        }
    }
}

/// The dozen colours of a frame with what each is exchanged for: the nearest of 240 is looked for once a colour, not once
/// a cell.
#[derive(Default)]
struct Exchanged(Vec<(Color, Color)>);

impl Exchanged {
    fn get(&mut self, color: Color, exchange: impl FnOnce(Color) -> Color) -> Color {
        if let Some((_, other)) = self.0.iter().find(|(known, _)| *known == color) {
            return *other;
        }
        let other = exchange(color);
        self.0.push((color, other));
        other
    }
}

/// Words and shapes say what colour says; a coloured ground is shown by reversing its cell.
/// Letters have no upper blocks: what was drawn as the ground of one is drawn as what is below it.
fn upright(cell: &mut Cell) {
    let below = match cell.symbol() {
        "▀" => "▅",
        "▔" => "▇",
        _ => return,
    };
    if cell.fg == theme::GROUND {
        let ink = cell.bg;
        cell.set_symbol(below).set_fg(ink).set_bg(theme::GROUND);
    }
}

fn without_colour(cell: &mut Cell) {
    let plain = [theme::GROUND, theme::RAISED, Color::Reset];
    // A block that fills its cell has its own colour behind it; reversed it would be empty.
    let reversed = !plain.contains(&cell.bg) && cell.fg != cell.bg;
    cell.fg = Color::Reset;
    cell.bg = Color::Reset;
    if reversed {
        cell.modifier.insert(Modifier::REVERSED);
    }
}

/// One role of a colour in all its dresses; views know it by the dark one.
struct Role {
    dark: Color,
    light: Color,
    sixteen_dark: Color,
    sixteen_light: Color,
}

const fn rgb(hex: u32) -> Color {
    let [_, red, green, blue] = hex.to_be_bytes();
    Color::Rgb(red, green, blue)
}

/// Every role. A row a line, as a table is. Sixteen colours have no ground between black and a grey on which
/// yellow fades, so there the raised ground is the ground; signs and places tell its rows.
#[rustfmt::skip]
const ROLES: [Role; 10] = [
    Role { dark: theme::GROUND, light: rgb(0xf7_f5_f0), sixteen_dark: Color::Black, sixteen_light: Color::White },
    Role { dark: theme::RAISED, light: rgb(0xe7_e4_dc), sixteen_dark: Color::Black, sixteen_light: Color::Gray },
    Role { dark: theme::INK, light: rgb(0x20_28_2c), sixteen_dark: Color::White, sixteen_light: Color::Black },
    Role { dark: theme::QUIET, light: rgb(0x55_61_67), sixteen_dark: Color::Gray, sixteen_light: Color::DarkGray },
    Role { dark: theme::RULE, light: rgb(0xb4_bb_bb), sixteen_dark: Color::DarkGray, sixteen_light: Color::Gray },
    Role { dark: theme::COMMANDED, light: rgb(0x8a_50_00), sixteen_dark: Color::LightYellow, sixteen_light: Color::Blue },
    Role { dark: theme::MEASURED, light: rgb(0x0a_6c_66), sixteen_dark: Color::LightCyan, sixteen_light: Color::Green },
    Role { dark: theme::INPUT, light: rgb(0x5e_3d_b8), sixteen_dark: Color::LightMagenta, sixteen_light: Color::Magenta },
    Role { dark: theme::FAULT, light: rgb(0xae_25_1b), sixteen_dark: Color::LightRed, sixteen_light: Color::Red },
    Role { dark: theme::SILHOUETTE, light: rgb(0x7b_8a_8f), sixteen_dark: Color::Cyan, sixteen_light: Color::Cyan },
];

fn role(color: Color) -> Option<&'static Role> {
    // A mark is ink at its strongest.
    let color = if color == theme::MARK { theme::INK } else { color };
    ROLES.iter().find(|role| role.dark == color)
}

/// The nearest of a terminal's 240 fixed colours: a cube of six steps a side, and 24 greys.
fn nearest_in_table(color: Color) -> Color {
    const STEPS: [i32; 6] = [0, 95, 135, 175, 215, 255];
    let Color::Rgb(red, green, blue) = color else { return color };
    let wanted = [red, green, blue].map(i32::from);
    let far = |found: [i32; 3]| found.iter().zip(wanted).map(|(a, b)| (a - b) * (a - b)).sum::<i32>();
    let cube = (0..216u8).map(|n| {
        let step = |share: u8| STEPS.get(usize::from(n / share % 6)).copied().unwrap_or(0);
        (16 + n, [step(36), step(6), step(1)])
    });
    let greys = (0..24u8).map(|n| (232 + n, [8 + 10 * i32::from(n); 3]));
    cube.chain(greys).min_by_key(|(_, found)| far(*found)).map_or(color, |(n, _)| Color::Indexed(n))
}

fn exchange(cell: &mut Cell, with: fn(char) -> Option<char>) {
    let Some(c) = cell.symbol().chars().next() else { return };
    if let Some(other) = with(c) {
        cell.set_char(other);
    }
}

/// A braille sign as quarters of a cell.
fn quarters(c: char) -> Option<char> {
    const QUARTERS: [char; 16] =
        [' ', '▘', '▝', '▀', '▖', '▌', '▞', '▛', '▗', '▚', '▐', '▜', '▄', '▙', '▟', '█'];
    let dots = dots(c)?;
    let quarter = |mask: u32, place: usize| if dots & mask == 0 { 0 } else { 1 << place };
    // Dots are numbered down the left column, down the right one, then the lowest row.
    let all = quarter(0x03, 0) | quarter(0x18, 1) | quarter(0x44, 2) | quarter(0xa0, 3);
    QUARTERS.get::<usize>(all).copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_colour_of_the_theme_has_all_its_dresses_and_stays_readable() {
        let dressed = |color| role(color).unwrap().light;
        for ink in [
            theme::INK,
            theme::QUIET,
            theme::COMMANDED,
            theme::MEASURED,
            theme::INPUT,
            theme::MARK,
            theme::FAULT,
        ] {
            for ground in [theme::GROUND, theme::RAISED] {
                let contrast = theme::contrast(dressed(ink), dressed(ground));
                assert!(contrast >= 4.5, "{ink:?} on {ground:?} is {contrast:.2}");
            }
            for look in [Theme::Dark, Theme::Light] {
                let look = Look::of(look, Colours::Sixteen, Glyphs::Braille);
                assert_ne!(look.sixteenth(ink), look.sixteenth(theme::GROUND));
                assert_ne!(look.sixteenth(ink), look.sixteenth(theme::SILHOUETTE));
            }
        }
    }

    #[test]
    fn the_table_of_256_has_a_near_colour() {
        assert_eq!(nearest_in_table(rgb(0x00_00_00)), Color::Indexed(16));
        assert_eq!(nearest_in_table(rgb(0xff_ff_ff)), Color::Indexed(231));
        assert_eq!(nearest_in_table(rgb(0x12_12_12)), Color::Indexed(233));
        assert_eq!(nearest_in_table(rgb(0xff_af_5f)), Color::Indexed(215));
    }

    #[test]
    fn a_frame_looks_for_each_of_its_colours_once() {
        let mut looks = 0;
        let mut known = Exchanged::default();
        for n in 0..10_000u32 {
            let color = rgb(n % 12);
            let other = known.get(color, |color| {
                looks += 1;
                nearest_in_table(color)
            });
            assert_eq!(other, nearest_in_table(color));
        }
        assert_eq!(looks, 12);
    }

    #[test]
    fn braille_becomes_quarters_or_letters_and_names_stay() {
        assert_eq!(quarters('\u{2800}'), Some(' '));
        assert_eq!(quarters('\u{28ff}'), Some('█'));
        assert_eq!(quarters('\u{2801}'), Some('▘'));
        assert_eq!(quarters('\u{2880}'), Some('▗'));
        assert_eq!(quarters('a'), None);
        assert_eq!((ascii('⣿'), ascii('°'), ascii('本'), ascii('ä')), (Some('#'), Some('d'), None, None));
    }
}
