//! Manual pages and shell completions, made from the command line's own definition.

use crate::cli::Arguments;
use crate::exit::Exit;
use crate::files::output::{Outputs, Replace};
use crate::say;
use crate::screen::commands;
use crate::screen::keymap::Keymap;
use clap::CommandFactory;
use clap_mangen::roff::{Roff, bold, italic, roman};
use miette::{Context, IntoDiagnostic};
use std::path::Path;
use std::process::ExitCode;

/// Writes a page for the program and one for each command into a folder; says which.
///
/// # Errors
/// When the folder cannot be written.
pub fn pages(folder: &Path, keys: &Keymap, outputs: &Outputs) -> miette::Result<ExitCode> {
    let cannot = || format!("cannot write manual pages into {}", folder.display());
    let made = tempfile::tempdir().into_diagnostic().wrap_err_with(cannot)?;
    clap_mangen::generate_to(Arguments::command(), made.path()).into_diagnostic().wrap_err_with(cannot)?;
    std::fs::write(made.path().join("wasvolta-keys.7"), page_of_keys(keys))
        .into_diagnostic()
        .wrap_err_with(cannot)?;
    let mut pages: Vec<_> =
        std::fs::read_dir(made.path()).into_diagnostic()?.flatten().map(|e| e.path()).collect();
    pages.sort_unstable();
    for page in &pages {
        let text = std::fs::read(page).into_diagnostic()?;
        let path = folder.join(page.file_name().unwrap_or_default());
        outputs.write(&path, &text, Replace::AsTold).into_diagnostic().wrap_err_with(cannot)?;
    }
    say::note(format_args!("read them with `man {}`", folder.join("wasvolta.1").display()));
    Ok(Exit::Done.into())
}

/// The page of the keys, as they are set.
fn page_of_keys(keys: &Keymap) -> String {
    let mut page = Roff::new();
    page.control("TH", ["wasvolta-keys", "7"]);
    page.control("SH", ["NAME"]);
    page.text([roman("wasvolta-keys - which key does what in wasvolta")]);
    page.control("SH", ["DESCRIPTION"]);
    page.text([roman(
        "An action without a key is found by its name: : opens the list. Keys are set by name in config.toml, in a table \
         [keys] with lines as \"mark\" = \"m\", or [\"m\", \"Space\"], or [] for none. Ctrl-C cuts, always.",
    )]);
    for (name, actions) in commands::groups() {
        page.control("SH", [name.to_uppercase().as_str()]);
        for action in actions {
            let shown = keys.shown(action.name);
            let shown = if shown.is_empty() { "no key" } else { shown.as_str() };
            page.control("TP", []);
            page.text([bold(shown), roman("  "), italic(action.name)]);
            page.text([roman(action.long)]);
        }
    }
    page.to_roff()
}

/// Prints what a shell needs to complete commands.
pub fn completions(shell: clap_complete::Shell) -> ExitCode {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "wasvolta", &mut script);
    say::line(String::from_utf8_lossy(&script).trim_end());
    Exit::Done.into()
}
