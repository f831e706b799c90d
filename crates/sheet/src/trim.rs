//! Numbers as they stand in files: fixed decimals, then nothing that says nothing.

/// A number with at most `decimals` digits behind the point; no trailing zeros, no negative zero.
pub fn number(value: f64, decimals: usize) -> String {
    let text = format!("{value:.decimals$}");
    let text = if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { &text };
    if text == "-0" { "0".to_owned() } else { text.to_owned() }
}

/// A signed number with a true minus, as it stands on paper.
pub fn signed(value: f64, decimals: usize) -> String {
    let text = format!("{:.decimals$}", value.abs());
    let zero = text.chars().all(|c| matches!(c, '0' | '.'));
    match (zero, value < 0.0) {
        (true, _) => text,
        (_, true) => format!("−{text}"),
        _ => format!("+{text}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_say_no_more_than_they_know() {
        assert_eq!(number(50.0, 3), "50");
        assert_eq!(number(-0.0001, 3), "0");
        assert_eq!(number(12.340, 3), "12.34");
        assert_eq!(signed(-0.04, 1), "0.0");
        assert_eq!(signed(-7.25, 2), "−7.25");
        assert_eq!(signed(7.0, 0), "+7");
    }
}
