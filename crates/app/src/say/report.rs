//! An error as a person reads it: the whole of it made fit to be shown, then drawn with its line underlined.

use miette::{Diagnostic, GraphicalReportHandler, GraphicalTheme, LabeledSpan, NamedSource, SourceCode};
use std::collections::HashMap;
use std::error::Error;
use std::fmt;
use std::sync::Arc;
use wasvolta_core::outside;

/// The width where standard error is no terminal.
const USUAL_WIDTH: usize = 80;

/// Draws it.
pub fn render(found: &dyn Diagnostic, coloured: bool, ascii: bool) -> String {
    let theme = match (ascii, coloured) {
        (true, true) => {
            GraphicalTheme { characters: GraphicalTheme::ascii().characters, ..GraphicalTheme::unicode() }
        }
        (true, false) => GraphicalTheme::none(),
        (false, true) => GraphicalTheme::unicode(),
        (false, false) => GraphicalTheme::unicode_nocolor(),
    };
    let fit = Fit::of(found, &mut HashMap::new());
    let mut text = String::new();
    let handler = GraphicalReportHandler::new_themed(theme).with_width(width()).with_links(false);
    // A text takes whatever is written into it.
    let _ = handler.render_report(&mut text, &fit);
    text
}

fn width() -> usize {
    rustix::termios::tcgetwinsize(rustix::stdio::stderr())
        .map_or(USUAL_WIDTH, |size| usize::from(size.ws_col).clamp(40, 120))
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

impl fmt::Display for Fit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl Error for Fit {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        self.cause.as_deref().map(|cause| cause as _)
    }
}

impl Diagnostic for Fit {
    fn help<'a>(&'a self) -> Option<Box<dyn fmt::Display + 'a>> {
        self.help.as_ref().map(|help| Box::new(help) as _)
    }

    fn labels(&self) -> Option<Box<dyn Iterator<Item = LabeledSpan> + '_>> {
        (!self.labels.is_empty()).then(|| Box::new(self.labels.iter().cloned()) as _)
    }

    fn source_code(&self) -> Option<&dyn SourceCode> {
        self.source.as_ref().map(|source| source as _)
    }

    fn related<'a>(&'a self) -> Option<Box<dyn Iterator<Item = &'a dyn Diagnostic> + 'a>> {
        (!self.related.is_empty())
            .then(|| Box::new(self.related.iter().map(|other| other as &dyn Diagnostic)) as _)
    }

    fn diagnostic_source(&self) -> Option<&dyn Diagnostic> {
        self.cause.as_deref().map(|cause| cause as _)
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
        assert!(coloured.contains("\x1b[31m") && !coloured.contains("\x1b[2J") && !coloured.contains('\x07'));
    }
}
