//! One program a rig and a bus: a lock that names who holds it.

use rustix::fs::{FlockOperation, flock};
use std::fs::File;
use std::io::{Read, Seek, Write};
use std::path::{Path, PathBuf};
use thiserror::Error;

/// Held until dropped, or until the process ends in whatever way.
#[derive(Debug)]
pub struct Hold(#[expect(dead_code, reason = "the lock is the open file")] File);

/// Someone else was first.
#[derive(Debug, Error)]
#[error("{what} is in use by process {holder}: close that first")]
pub struct Held {
    what: String,
    holder: String,
}

/// Holds something by its name. A machine without a folder for locks has none to hold.
///
/// # Errors
/// Names the process that holds it already.
pub fn hold(what: &str) -> Result<Option<Hold>, Held> {
    let Ok(mut file) =
        File::options().create(true).truncate(false).read(true).write(true).open(lock_path(what))
    else {
        return Ok(None);
    };
    if flock(&file, FlockOperation::NonBlockingLockExclusive).is_err() {
        let mut holder = String::new();
        let _ = file.read_to_string(&mut holder);
        return Err(Held { what: what.to_owned(), holder: holder.trim().to_owned() });
    }
    let _ =
        file.set_len(0).and_then(|()| file.rewind()).and_then(|()| writeln!(file, "{}", std::process::id()));
    Ok(Some(Hold(file)))
}

/// The process that holds something, if one does. Holds nothing itself.
pub fn who(what: &str) -> Option<String> {
    match hold(what) {
        Ok(_let_go_at_once) => None,
        Err(held) => Some(held.holder),
    }
}

fn lock_path(what: &str) -> PathBuf {
    let folder = std::env::var_os("XDG_RUNTIME_DIR").map_or_else(std::env::temp_dir, PathBuf::from);
    let plain: String = what.chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
    folder.join(format!("wasvolta{plain}.lock"))
}

/// The name a file is held by: its real path, however it was spelled.
pub fn file_name(path: &Path) -> String {
    path.canonicalize().unwrap_or_else(|_| path.to_owned()).display().to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_second_is_told_who_holds_it() {
        let what = format!("/test/bus-{}", std::process::id());
        let first = hold(&what).unwrap();
        let error = hold(&what).unwrap_err().to_string();
        assert_eq!(error, format!("{what} is in use by process {}: close that first", std::process::id()));
        assert_eq!(who(&what), Some(std::process::id().to_string()));
        drop(first);
        assert_eq!(who(&what), None);
        assert!(hold(&what).unwrap().is_some());
        std::fs::remove_file(lock_path(&what)).unwrap();
    }
}
