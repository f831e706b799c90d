//! Files that are written by keys: beside the rig unless a path says more, and over nothing before that was asked.

use crate::files::output::{Refused, Replace};
use crate::screen::context::Context;
use std::fmt::Display;
use std::path::{Path, PathBuf};

/// A path as it is meant: beside the rig, unless it says more.
pub fn beside(desk: &Context, said: &str) -> PathBuf {
    desk.session.document.path().with_file_name(said.trim())
}

/// Writes a file where it was asked for; gives its full path. What is there already is replaced when the next key
/// is Enter again, and that is what the words say.
///
/// # Errors
/// In words, with nothing written.
pub fn write<E: Display>(
    desk: &mut Context,
    said: &str,
    write: impl FnOnce(&mut Context, &Path, Replace) -> Result<PathBuf, E>,
    there: impl FnOnce(&E) -> Option<&Refused>,
) -> Result<PathBuf, String> {
    let path = beside(desk, said);
    let asked = desk.model.replacing.take().is_some_and(|before| before == path);
    let replace = if asked { Replace::Asked } else { Replace::AsTold };
    write(desk, &path, replace).map_err(|error| {
        if matches!(there(&error), Some(Refused::There { .. })) {
            let words =
                format!("{} is there already: Enter again replaces it, Esc leaves it", path.display());
            desk.model.replacing = Some(path);
            return words;
        }
        error.to_string()
    })
}
