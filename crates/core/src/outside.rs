//! Text from outside on its way to a terminal, a log or a sheet: what could move a cursor, ring a bell, or turn
//! the direction of reading is not passed on.
//!
//! This is the one rule for it. Every border calls it: what is printed, logged, drawn and written on sheets. A sign
//! that is taken out leaves as many `?` as it had bytes, so that a place in the text stays where it was.

use std::borrow::Cow;

/// One line: a line break is taken out too.
pub fn line(text: &str) -> Cow<'_, str> {
    without(text, is_unfit)
}

/// Lines: breaks and tabs stay.
pub fn lines(text: &str) -> Cow<'_, str> {
    without(text, |c| is_unfit(c) && !matches!(c, '\n' | '\t'))
}

/// Whether a sign does something beside being seen: control codes of both sets, marks that turn the direction of
/// reading (`Bidi_Control` of Unicode), and those that are not seen at all.
pub fn is_unfit(c: char) -> bool {
    c.is_control()
        || matches!(
            c,
            '\u{ad}'
                | '\u{61c}'
                | '\u{180e}'
                | '\u{200b}'..='\u{200f}'
                | '\u{2028}'..='\u{202e}'
                | '\u{2060}'..='\u{206f}'
                | '\u{feff}'
                | '\u{fff9}'..='\u{fffb}'
                | '\u{fffe}'
                | '\u{ffff}'
                | '\u{e0000}'..='\u{e007f}'
        )
}

fn without(text: &str, unfit: impl Fn(char) -> bool) -> Cow<'_, str> {
    if !text.chars().any(&unfit) {
        return Cow::Borrowed(text);
    }
    let mut fit = String::with_capacity(text.len());
    for c in text.chars() {
        if unfit(c) {
            fit.extend(std::iter::repeat_n('?', c.len_utf8()));
        } else {
            fit.push(c);
        }
    }
    Cow::Owned(fit)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_does_something_beside_being_seen_is_taken_out() {
        for (raw, fit) in [
            ("a\x1b[2Jb\x07", "a?[2Jb?"),
            ("one\ntwo\tthree\r", "one?two?three?"),
            ("\u{9b}31m", "??31m"),
            ("neck\u{202e}gnp.", "neck???gnp."),
            ("\u{feff}format", "???format"),
        ] {
            assert_eq!(line(raw), fit);
        }
        assert_eq!(lines("one\r\n\ttwo\x1b"), "one?\n\ttwo?");
        assert!(matches!(line("heron.neck µ° ∞ 本"), Cow::Borrowed(_)));
    }

    proptest! {
        #[test]
        fn places_stay_where_they_were(text in any::<String>()) {
            let fit = line(&text);
            prop_assert_eq!(fit.len(), text.len());
            prop_assert!(!fit.chars().any(is_unfit));
            prop_assert_eq!(line(&fit).into_owned(), fit.clone().into_owned());
            for (at, c) in text.char_indices().filter(|(_, c)| !is_unfit(*c)) {
                prop_assert!(fit[at..].starts_with(c));
            }
        }
    }
}
