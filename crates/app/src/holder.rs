//! One program a rig: the rig's file is held while it is worked on. Devices are held where they are driven, by
//! [`wasvolta_port::claim`].

use std::fs::File;
use std::path::Path;
use thiserror::Error;
use wasvolta_port::claim::{self, Taken};

/// Held until dropped, or until the process ends in whatever way.
#[derive(Debug)]
pub struct Hold(#[expect(dead_code, reason = "the lock is the open file")] File);

/// Someone else was first.
#[derive(Debug, Error)]
#[error("{what} is in use: {taken}; close that first")]
pub struct Held {
    what: String,
    taken: Taken,
}

/// Holds a rig's file as it is now: written anew it is another one, to be held again.
///
/// # Errors
/// Names the process that holds it already.
pub fn hold(rig: &Path) -> Result<Option<Hold>, Held> {
    // One that cannot be opened is refused by whoever reads it.
    let Ok(file) = claim::open(rig) else { return Ok(None) };
    match claim::whole(&file) {
        Ok(()) => Ok(Some(Hold(file))),
        Err(taken) => Err(Held { what: rig.display().to_string(), taken }),
    }
}

/// The name a file is known by between runs: its real path, however it was spelled.
pub fn file_name(path: &Path) -> String {
    path.canonicalize().unwrap_or_else(|_| path.to_owned()).display().to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_second_is_told_who_holds_it() {
        let rig = tempfile::NamedTempFile::new().unwrap();
        let first = hold(rig.path()).unwrap();
        let error = hold(rig.path()).unwrap_err().to_string();
        let begins = format!("{} is in use: process {} (", rig.path().display(), std::process::id());
        assert!(error.starts_with(&begins) && error.ends_with(") has it; close that first"), "{error}");
        drop(first);
        assert!(hold(rig.path()).unwrap().is_some());
        assert!(hold(Path::new("/nowhere.rig.toml")).unwrap().is_none());
    }
}
