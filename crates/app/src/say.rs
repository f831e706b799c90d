//! What is said to whoever started the program, on standard output and standard error: the border at which text from
//! outside is made fit to be shown.
//!
//! Whoever reads it may be gone: a closed pipe, a terminal that hung up. The standard macros panic then, and a
//! panic within a panic ends the process before anything is released. Here such a line is lost; that it was lost
//! is remembered, and said at the end where somebody may still hear it.

mod report;

use crate::look::Look;
use serde::Serialize;
use std::borrow::Cow;
use std::fmt::{Display, Write as _};
use std::io::{ErrorKind, IsTerminal, Write};
use std::sync::{LazyLock, OnceLock};
use wasvolta_core::outside;

/// Puts keys in the places of the names of what they do.
pub type Speller = Box<dyn Fn(&str) -> String + Send + Sync>;

/// How things are said.
#[derive(Default)]
struct Manner {
    quiet: bool,
    /// Standard output is a file of its own: notes must not stand in it.
    data: bool,
    look: Option<Look>,
    coloured: bool,
    spell: Option<Speller>,
}

/// Standard output and standard error are the process's own, and so is the manner of speaking to them.
static MANNER: OnceLock<Manner> = OnceLock::new();
/// Why standard output could not be written, the first time that it could not.
static UNHEARD: OnceLock<std::io::Error> = OnceLock::new();

fn manner() -> &'static Manner {
    static PLAIN: LazyLock<Manner> = LazyLock::new(Manner::default);
    MANNER.get().unwrap_or(&PLAIN)
}

/// Chooses the manner, once: whether only what was asked for is said, whether standard output is an output file that
/// nothing else may stand in, and with which signs and colours it is said.
pub fn speak(quiet: bool, data: bool, look: Look, spell: Speller) {
    let coloured = look.has_colours() && (look.was_told_colours() || std::io::stderr().is_terminal());
    // A second choice would be that of another command line, and there is none.
    let _ = MANNER.set(Manner { quiet, data, look: Some(look), coloured, spell: Some(spell) });
}

/// How many of something there are, in words that fit one of it too.
pub fn counted(n: usize, what: &str) -> String {
    format!("{n} {what}{}", if n == 1 { "" } else { "s" })
}

/// With the keys that it names.
pub fn spelled(words: &str) -> Cow<'_, str> {
    match &manner().spell {
        Some(spell) => spell(words).into(),
        None => words.into(),
    }
}

/// With the signs that the terminal has.
fn dressed(words: &str) -> String {
    let spelled = spelled(words);
    let fit = outside::lines(&spelled);
    match manner().look {
        Some(look) => look.text(&fit),
        None => fit.into_owned(),
    }
}

fn put(text: &str) {
    let mut out = std::io::stdout().lock();
    if let Err(error) = writeln!(out, "{text}").and_then(|()| out.flush()) {
        failed(error);
    }
}

/// Standard output could not be written.
pub fn failed(error: std::io::Error) {
    let _ = UNHEARD.set(error);
}

/// A line of what was asked for.
pub fn line(words: impl Display) {
    put(&dressed(&words.to_string()));
}

/// Where something stands that goes on, in a line that is written over; an empty one takes it away. Only where somebody
/// watches.
pub fn progress(words: &str) {
    if manner().quiet || !std::io::stderr().is_terminal() {
        return;
    }
    // What cannot be written is lost: it is no more than a look.
    let mut out = std::io::stderr().lock();
    let _ = write!(out, "\r\x1b[K{}", dressed(words)).and_then(|()| out.flush());
}

/// A line on what was done: left out where only what was asked for is wanted.
pub fn note(words: impl Display) {
    match *manner() {
        Manner { quiet: true, .. } => {}
        Manner { data: true, .. } => trouble(words),
        _ => line(words),
    }
}

/// What was asked for as JSON. It keeps every sign of a text from outside, by its number where it must not be seen raw.
pub fn json(value: &impl Serialize) {
    match serde_json::to_string_pretty(value) {
        Ok(text) => put(&escaped(&spelled(&text))),
        Err(error) => trouble(format_args!("cannot write JSON: {error}")),
    }
}

/// The same on one line, for what is said again and again.
pub fn json_line(value: &impl Serialize) {
    match serde_json::to_string(value) {
        Ok(text) => put(&escaped(&spelled(&text))),
        Err(error) => trouble(format_args!("cannot write JSON: {error}")),
    }
}

/// JSON in which what is unfit to be seen stands by its number. Outside its texts JSON has only line breaks of these.
fn escaped(json: &str) -> String {
    let mut out = String::with_capacity(json.len());
    for c in json.chars() {
        if c != '\n' && outside::is_unfit(c) {
            let mut units = [0; 2];
            for unit in c.encode_utf16(&mut units) {
                // A text takes whatever is written into it.
                let _ = write!(out, "\\u{unit:04x}");
            }
        } else {
            out.push(c);
        }
    }
    out
}

/// A line of trouble, or of what to know beside what was asked for.
pub fn trouble(words: impl Display) {
    let _ = writeln!(std::io::stderr().lock(), "{}", dressed(&words.to_string()));
}

/// An error with its causes, its place and what to do.
pub fn report(report: &miette::Report) {
    let manner = manner();
    let ascii = manner.look.is_some_and(Look::is_ascii);
    let text = report::render(report.as_ref(), manner.coloured, ascii);
    let text = spelled(&text);
    let text = match manner.look {
        // Its colours are codes that must not be taken out again: what came from outside was fit before.
        Some(look) => look.text(&text),
        None => text.into_owned(),
    };
    let _ = writeln!(std::io::stderr().lock(), "{text}");
}

/// Why what was asked for could not be said, if it could not. A reader that has gone wanted no more: that is no
/// failure.
pub fn unheard() -> Option<&'static std::io::Error> {
    UNHEARD.get().filter(|error| error.kind() != ErrorKind::BrokenPipe)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn json_keeps_every_sign_and_shows_none_that_is_unfit() {
        let odd = "a\x1b\u{9b}\u{202e}\u{e0041}\n\"\\";
        let text = escaped(&serde_json::to_string_pretty(&[odd]).unwrap());
        assert!(!text.chars().any(|c| c != '\n' && outside::is_unfit(c)), "{text}");
        let back: Vec<String> = serde_json::from_str(&text).unwrap();
        assert_eq!(back, [odd]);
    }
}
