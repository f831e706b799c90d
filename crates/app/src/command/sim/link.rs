//! The path at which a stand-in is found: a symbolic link to its pty.

use miette::{IntoDiagnostic, WrapErr};
use std::path::{Path, PathBuf};

/// A link that goes when the stand-in does.
pub(super) struct Link<'a> {
    pub(super) path: &'a Path,
    to: PathBuf,
}

impl<'a> Link<'a> {
    /// Makes the link at `path`, which leads to `to`.
    ///
    /// One that leads nowhere was left by a stand-in that was killed, and is replaced. Nothing else is.
    ///
    /// # Errors
    /// When something else is at `path`, or the link cannot be made.
    pub(super) fn make(path: &'a Path, to: &Path) -> miette::Result<Self> {
        if path.is_symlink() && !path.exists() {
            std::fs::remove_file(path).into_diagnostic()?;
        }
        std::os::unix::fs::symlink(to, path).into_diagnostic().wrap_err_with(|| {
            format!("cannot make the link {}: is something there already?", path.display())
        })?;
        Ok(Self { path, to: to.to_owned() })
    }
}

impl Drop for Link<'_> {
    fn drop(&mut self) {
        // Whoever has put something else there since has taken the place.
        if std::fs::read_link(self.path).is_ok_and(|to| to == self.to) {
            let _ = std::fs::remove_file(self.path);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_its_own_link_is_taken_away() {
        let folder = tempfile::tempdir().unwrap();
        let (path, to) = (folder.path().join("line"), folder.path().join("pty"));
        std::fs::write(&to, "").unwrap();
        drop(Link::make(&path, &to).unwrap());
        assert!(!path.is_symlink());
        let link = Link::make(&path, &to).unwrap();
        std::fs::remove_file(&path).unwrap();
        std::fs::write(&path, "of somebody").unwrap();
        drop(link);
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "of somebody");
        assert!(Link::make(&path, &to).is_err(), "and it is not replaced");
        std::fs::remove_file(&path).unwrap();
        std::os::unix::fs::symlink(folder.path().join("gone"), &path).unwrap();
        assert!(Link::make(&path, &to).is_ok(), "what leads nowhere is");
    }
}
