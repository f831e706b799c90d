//! How the window is divided between headline, roster and view.

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
