//! An error as a person reads it: the whole of it made fit to be shown, then drawn with its line underlined.

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use miette::{Diagnostic, LabeledSpan, NamedSource, SourceCode};
use std::collections::HashMap;
use std::error::Error;
use std::sync::Arc;
use unicode_width::UnicodeWidthStr;
use wasvolta_core::outside;

/// The width where standard error is no terminal.
const USUAL_WIDTH: usize = 80;

pub fn render(found: &dyn Diagnostic, coloured: bool, ascii: bool) -> String {
    let (fit, width) = (Fit::of(found, &mut HashMap::new()), width());
    let renderer = if coloured { Renderer::styled() } else { Renderer::plain() };
    let decor = if ascii { DecorStyle::Ascii } else { DecorStyle::Unicode };
    let mut groups = Vec::new();
    fit.draw(width, &mut groups);
    let renderer = renderer.decor_style(decor).term_width(width);
    // One by one: what is wrong is not a footnote of what it is part of.
    let drawn = groups.into_iter().map(|group| renderer.render(&[group]));
    drawn.collect::<Vec<_>>().join("\n\n") + "\n"
}

fn width() -> usize {
    rustix::termios::tcgetwinsize(rustix::stdio::stderr())
        .map_or(USUAL_WIDTH, |size| usize::from(size.ws_col).clamp(40, 120))
}

/// Words in lines no wider than `wide` columns; lines stay lines, and a word that alone is wider stands alone.
fn wrapped(words: &str, wide: usize) -> String {
    let mut all = String::new();
    for (n, line) in words.lines().enumerate() {
        if n > 0 {
            all.push('\n');
        }
        let mut used = 0;
        for (m, word) in line.split(' ').enumerate() {
            let next = word.width();
            if m > 0 && used + 1 + next > wide {
                all.push('\n');
                used = 0;
            } else if m > 0 {
                all.push(' ');
                used += 1;
            }
            all.push_str(word);
            used += next;
        }
    }
    all
}

type Sources = HashMap<(usize, usize), Arc<NamedSource<String>>>;

/// An error with nothing in it that does anything but be seen.
#[derive(Debug)]
struct Fit {
    message: String,
    help: Option<String>,
    cause: Option<Box<Self>>,
    related: Vec<Self>,
    labels: Vec<LabeledSpan>,
    source: Option<Arc<NamedSource<String>>>,
}

impl Fit {
    fn of(found: &dyn Diagnostic, sources: &mut Sources) -> Self {
        let labels = found.labels().into_iter().flatten();
        let fit = |label: LabeledSpan| {
            let words = label.label().map(|words| outside::line(words).into_owned());
            LabeledSpan::new_with_span(words, *label.inner())
        };
        let cause = match found.diagnostic_source() {
            Some(cause) => Some(Box::new(Self::of(cause, sources))),
            None => found.source().map(|cause| Box::new(Self::plain(cause))),
        };
        Self {
            message: outside::lines(&found.to_string()).into_owned(),
            help: found.help().map(|help| outside::lines(&help.to_string()).into_owned()),
            cause,
            related: found.related().into_iter().flatten().map(|other| Self::of(other, sources)).collect(),
            labels: labels.map(fit).collect(),
            source: found.source_code().and_then(|code| source(code, sources)),
        }
    }

    /// A cause that has no more to it than its words.
    fn plain(cause: &dyn Error) -> Self {
        Self {
            message: outside::lines(&cause.to_string()).into_owned(),
            help: None,
            cause: cause.source().map(|cause| Box::new(Self::plain(cause))),
            related: Vec::new(),
            labels: Vec::new(),
            source: None,
        }
    }
}

/// The whole text that an error points into, made fit: bytes stay where they were. Many errors point into one text.
fn source(code: &dyn SourceCode, sources: &mut Sources) -> Option<Arc<NamedSource<String>>> {
    let whole = code.read_span(&(0, 0).into(), 0, usize::MAX).ok()?;
    let bytes = whole.data();
    let made = sources.entry((bytes.as_ptr().addr(), bytes.len())).or_insert_with(|| {
        // A carriage return before a line break belongs to it.
        let text = outside::lines(&String::from_utf8_lossy(bytes).replace("\r\n", " \n")).into_owned();
        Arc::new(NamedSource::new(outside::line(whole.name().unwrap_or_default()), text))
    });
    Some(Arc::clone(made))
}

impl Fit {
    /// Its parts in the order in which they are read: what is wrong, where, why, and what to do.
    fn draw<'f>(&'f self, width: usize, groups: &mut Vec<Group<'f>>) {
        /// Columns before a message and beside a frame.
        const BESIDE: usize = 10;
        let wide = width.saturating_sub(BESIDE);
        let mut group = Level::ERROR.primary_title(wrapped(&self.message, wide)).elements(
            self.source.as_deref().filter(|_| !self.labels.is_empty()).map(|source| {
                let marks = self.labels.iter().map(|label| {
                    let span = label.offset()..label.offset() + label.len();
                    AnnotationKind::Primary.span(span).label(label.label())
                });
                Snippet::source(source.inner().as_str()).path(source.name()).annotations(marks)
            }),
        );
        let mut cause = self.cause.as_deref();
        while let Some(why) = cause {
            group = group.element(Level::NOTE.with_name("because").message(wrapped(&why.message, wide)));
            if let Some(help) = &why.help {
                group = group.element(Level::HELP.message(wrapped(help, wide)));
            }
            cause = why.cause.as_deref();
        }
        if let Some(help) = &self.help {
            group = group.element(Level::HELP.message(wrapped(help, wide)));
        }
        groups.push(group);
        self.related.iter().for_each(|other| other.draw(width, groups));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, thiserror::Error, Diagnostic)]
    #[error("no \x1b[31mservo")]
    #[diagnostic(help("ring \x07"))]
    struct Odd {
        #[source_code]
        text: NamedSource<String>,
        #[label("here \u{202e}")]
        at: miette::SourceSpan,
        #[source]
        why: std::io::Error,
    }

    #[test]
    fn nothing_from_outside_reaches_the_terminal_raw_and_places_stay() {
        let text = "a = 1\r\nb\u{9b} = \x1b[2J\r\n".to_owned();
        let at = text.find("[2J").unwrap();
        let odd = Odd {
            text: NamedSource::new("odd\x1b]0;x\x07.toml", text),
            at: (at, 3).into(),
            why: std::io::Error::other("because \u{9b}"),
        };
        let plain = render(&odd, false, false);
        assert!(plain.chars().all(|c| c == '\n' || !outside::is_unfit(c)), "{plain:?}");
        for wanted in
            ["no ?[31mservo", "because ??", "odd?]0;x?.toml:2:8", "b?? = ?[2J", "here ???", "ring ?"]
        {
            assert!(plain.contains(wanted), "{wanted:?} is missing from\n{plain}");
        }
        let coloured = render(&odd, true, false);
        assert!(coloured.contains("\x1b[91m") && !coloured.contains("\x1b[2J") && !coloured.contains('\x07'));
    }
}
