//! A register layout as it is said on the command line: the name of one that ships, or a file.

use crate::files;
use miette::miette;
use std::ops::RangeInclusive;
use std::path::Path;
use wasvolta_core::rig::Layout;

/// The layout that is said.
///
/// # Errors
/// When there is none of that name, or the file is none.
pub fn said(word: &str) -> miette::Result<Layout> {
    if let Some(layout) = Layout::shipped().iter().find(|layout| layout.name == word) {
        return Ok(layout.clone());
    }
    let path = Path::new(word);
    if !word.contains(['/', '.']) {
        let known: Vec<&str> = Layout::shipped().iter().map(|layout| layout.name.as_str()).collect();
        return Err(miette!(
            help = "or give the path of a file, as ./own.layout.toml",
            "there is no layout {word:?}: {}",
            known.join(", ")
        ));
    }
    Ok(files::layout(path)?)
}

/// Ids as they are said: `1`, `1-8`.
///
/// # Errors
/// In words, when they are none.
pub fn ids(said: &str) -> Result<RangeInclusive<u8>, String> {
    let wrong = || format!("{said:?}: write the first and the last id, as 1-8");
    let (first, last) = said.split_once('-').unwrap_or((said, said));
    let (first, last) = (first.trim().parse::<u8>(), last.trim().parse::<u8>());
    let (Ok(first), Ok(last)) = (first, last) else { return Err(wrong()) };
    if first > last || last > 253 { Err(wrong()) } else { Ok(first..=last) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_layout_is_a_name_or_a_file_and_ids_are_a_range() {
        assert_eq!(said("ten-bit").unwrap().steps, 1024);
        assert!(said("twelve").unwrap_err().to_string().contains("twelve-bit-compact"));
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("own.layout.toml");
        std::fs::write(&path, include_str!("../../core/layouts/ten-bit.layout.toml")).unwrap();
        assert_eq!(said(path.to_str().unwrap()).unwrap().name, "ten-bit");
        std::fs::write(&path, "name = 3").unwrap();
        assert!(said(path.to_str().unwrap()).is_err());
        assert_eq!((ids("1-8"), ids("4")), (Ok(1..=8), Ok(4..=4)));
        assert!(["", "8-1", "1-254", "x"].into_iter().all(|said| ids(said).is_err()));
    }
}
