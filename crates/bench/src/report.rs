//! One table: what was measured, what stands beside it, what was wanted.

use std::fmt::Write;

#[derive(Debug, Clone)]
pub struct Row {
    what: String,
    figure: String,
    beside: String,
    ratio: Option<f64>,
    wanted: &'static str,
    held: bool,
}

impl Row {
    pub fn new(what: impl Into<String>, figure: impl Into<String>) -> Self {
        let (what, figure) = (what.into(), figure.into());
        Self { what, figure, beside: String::new(), ratio: None, wanted: "", held: true }
    }

    /// What the same work costs bare, in the same run.
    pub fn beside(mut self, words: impl Into<String>) -> Self {
        self.beside = words.into();
        self
    }

    /// How much more it is than that.
    pub const fn ratio(mut self, ratio: f64) -> Self {
        self.ratio = Some(ratio);
        self
    }

    /// What was wanted, and whether it holds.
    pub const fn wanted(mut self, words: &'static str, held: bool) -> Self {
        self.wanted = words;
        self.held = held;
        self
    }

    /// Whether what was wanted holds.
    pub const fn held(&self) -> bool {
        self.held
    }
}

/// The table as Markdown.
pub fn table(rows: &[Row]) -> String {
    let mut text =
        String::from("| what | figure | beside it | ratio | wanted | |\n|---|---|---|---|---|---|\n");
    for row in rows {
        let ratio = row.ratio.map_or_else(String::new, |r| format!("{r:.2}"));
        let held = match (row.wanted, row.held) {
            ("", _) => "",
            (_, true) => "holds",
            (_, false) => "**missed**",
        };
        let _ = writeln!(
            text,
            "| {} | {} | {} | {ratio} | {} | {held} |",
            row.what, row.figure, row.beside, row.wanted
        );
    }
    text
}
