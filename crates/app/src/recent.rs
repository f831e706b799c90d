//! Rigs that were open lately, newest first.

use crate::date::{ago, now};
use crate::files;
use crate::files::input::{self, What};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use std::time::Duration;

const KEPT: usize = 12;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Entry {
    path: PathBuf,
    /// Seconds since 1970.
    at_s: u64,
}

/// See the module.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Recent {
    #[serde(default)]
    rig: Vec<Entry>,
}

fn place(state: &Path) -> PathBuf {
    state.join("recent.toml")
}

impl Recent {
    /// What was kept; nothing if that cannot be read.
    pub fn read(state: &Path) -> Self {
        let text = input::text(&place(state), What::Kept).unwrap_or_default();
        toml_edit::de::from_str(&text).unwrap_or_default()
    }

    /// Rigs that are still there, with how long ago each was open.
    pub fn there(&self) -> Vec<(PathBuf, String)> {
        let now = now();
        let entry = |e: &Entry| (e.path.clone(), ago(Duration::from_secs(now.saturating_sub(e.at_s))));
        self.rig.iter().filter(|e| e.path.exists()).map(entry).collect()
    }

    /// Notes that a rig was opened. Losing that costs a path to type, so a full disk is not reported.
    pub fn note(state: &Path, rig: &Path) {
        let mut recent = Self::read(state);
        let Ok(path) = rig.canonicalize() else { return };
        recent.rig.retain(|e| e.path != path);
        recent.rig.insert(0, Entry { path, at_s: now() });
        recent.rig.truncate(KEPT);
        if let Ok(text) = toml_edit::ser::to_string_pretty(&recent) {
            let _ = files::write(&place(state), text);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_newest_comes_first_once_and_what_is_gone_is_not_offered() {
        let folder = tempfile::tempdir().unwrap();
        let (a, b) = (folder.path().join("a.rig.toml"), folder.path().join("b.rig.toml"));
        std::fs::write(&a, "").unwrap();
        std::fs::write(&b, "").unwrap();
        for rig in [&a, &b, &a] {
            Recent::note(folder.path(), rig);
        }
        let there: Vec<PathBuf> = Recent::read(folder.path()).there().into_iter().map(|e| e.0).collect();
        assert_eq!(there, [a.canonicalize().unwrap(), b.canonicalize().unwrap()]);
        std::fs::remove_file(a).unwrap();
        assert_eq!(Recent::read(folder.path()).there().len(), 1);
    }
}
