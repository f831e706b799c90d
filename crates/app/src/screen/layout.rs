//! How the window is divided between headline, roster and view.

use ratatui::layout::Rect;

/// From this width on the next line needs one row only.
pub const WIDE: u16 = 110;

/// How wide the roster is in a window of some width.
pub const fn roster_columns(wide: u16) -> u16 {
    match wide {
        0..100 => 21,
        100..140 => 29,
        _ => 38,
    }
}

/// Rows kept free under the headline, where there is room.
pub const fn air(body: u16) -> u16 {
    if body >= 24 { 1 } else { 0 }
}

/// Rows of the next line, and those between it and the headline.
pub const fn rows(window: Rect) -> (u16, u16) {
    let next = if window.width >= WIDE { 1 } else { 2 };
    (next, window.height.saturating_sub(next + 2))
}

/// The part of a window that a view draws into.
pub const fn room(window: Rect) -> Rect {
    let (left, (_, body)) = (roster_columns(window.width) + 2, rows(window));
    let air = air(body);
    Rect {
        x: left,
        y: 1 + air,
        width: window.width.saturating_sub(left + 1),
        height: body.saturating_sub(air),
    }
}
