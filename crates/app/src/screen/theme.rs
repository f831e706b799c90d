//! Colours, one meaning each. Never alone: a shape or a word says the same.

use ratatui::style::{Color, Modifier, Style};

pub const GROUND: Color = Color::Rgb(0x10, 0x15, 0x1a);
/// The ground of headline, next line and selected rows.
pub const RAISED: Color = Color::Rgb(0x1b, 0x25, 0x2d);
pub const INK: Color = Color::Rgb(0xd7, 0xde, 0xdc);
/// Text that may be overlooked; 4.5:1 on both grounds.
pub const QUIET: Color = Color::Rgb(0x8c, 0x9b, 0x9d);
/// Thin rules and scales, never text.
pub const RULE: Color = Color::Rgb(0x3c, 0x4a, 0x52);
/// What is commanded.
pub const COMMANDED: Color = Color::Rgb(0xf2, 0xb1, 0x4b);
/// What is measured.
pub const MEASURED: Color = Color::Rgb(0x5f, 0xd0, 0xc6);
pub const INPUT: Color = Color::Rgb(0xb5, 0x9c, 0xf2);
pub const MARK: Color = Color::Rgb(0xf8, 0xfa, 0xf9);
/// A limit or a fault.
pub const FAULT: Color = Color::Rgb(0xf4, 0x78, 0x66);

/// The inside of movements of joints that are not picked; 4.5:1 on the ground.
pub const SILHOUETTE: Color = Color::Rgb(0x7f, 0x93, 0x9b);

/// Text in a colour.
pub fn text(color: Color) -> Style {
    Style::new().fg(color)
}

/// Strong text in a colour.
pub fn strong(color: Color) -> Style {
    Style::new().fg(color).add_modifier(Modifier::BOLD)
}

/// A solid block with its word in the ground's colour.
pub fn block(color: Color) -> Style {
    Style::new().fg(GROUND).bg(color).add_modifier(Modifier::BOLD)
}

/// How much two colours stand apart, 1 to 21, by the web's accessibility guidelines.
#[cfg(test)]
pub fn contrast(a: Color, b: Color) -> f64 {
    let light = |color: Color| {
        let Color::Rgb(r, g, b) = color else { panic!("{color:?} has no known light") };
        let part = |v: u8| {
            let v = f64::from(v) / 255.0;
            if v <= 0.04045 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
        };
        0.2126 * part(r) + 0.7152 * part(g) + 0.0722 * part(b)
    };
    let (a, b) = (light(a), light(b));
    (a.max(b) + 0.05) / (a.min(b) + 0.05)
}
