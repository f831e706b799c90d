//! A new rig as a file: from words a maker types, to a file that was not there before.

use crate::files;
use crate::files::output::{Outputs, Refused, Replace};
use std::path::{Path, PathBuf};
use thiserror::Error;
use wasvolta_core::rig::fresh::{self, Beginning};

/// Why there is no new rig. No file was touched.
#[derive(Debug, Error)]
pub enum NotMade {
    /// What was asked for cannot be.
    #[error("{message}: {help}")]
    Unsound {
        /// What is wrong.
        message: String,
        /// What to do.
        help: String,
    },
    /// There is nothing to drive and nothing to hear.
    #[error("a rig begins with a bus or a serial line: give one, such as /dev/i2c-1")]
    Empty,
    /// It is no address.
    #[error("{0:?} is not an address: write it as on the board, such as 0x40")]
    Address(String),
    /// It must not be written there, or cannot be.
    #[error(transparent)]
    Refused(#[from] Refused),
}

/// A bus address as a person writes it: 0x40 or 64.
///
/// # Errors
/// When it is not a number of one byte.
pub fn address(text: &str) -> Result<u8, NotMade> {
    let text = text.trim();
    let read = match text.strip_prefix("0x").or_else(|| text.strip_prefix("0X")) {
        Some(hex) => u8::from_str_radix(hex, 16),
        None => text.parse(),
    };
    read.map_err(|_| NotMade::Address(text.to_owned()))
}

/// Writes a new rig; gives its path, which ends as rigs do.
///
/// # Errors
/// When the file is there already, or what was asked for cannot be.
pub fn make(path: &Path, beginning: Beginning, outputs: &Outputs) -> Result<PathBuf, NotMade> {
    if beginning.is_empty() {
        return Err(NotMade::Empty);
    }
    let stem = files::stem(path);
    let path = path.with_file_name(format!("{stem}.rig.toml"));
    let source = fresh::rig(&Beginning { name: stem, ..beginning })
        .map_err(|located| NotMade::Unsound { message: located.message, help: located.help })?;
    Ok(outputs.write(&path, source.text().as_bytes(), Replace::AsTold)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_new_rig_ends_as_rigs_do_and_overwrites_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let outputs = Outputs::default();
        let bus = || Beginning { bus: Some(("/dev/i2c-1".to_owned(), 0x40)), ..Beginning::default() };
        let path = make(&folder.path().join("arm"), bus(), &outputs).unwrap();
        assert_eq!(path, folder.path().join("arm.rig.toml"));
        assert_eq!(files::open(&path).unwrap().rig().name, "arm");
        let again = make(&folder.path().join("arm.toml"), bus(), &outputs).unwrap_err().to_string();
        assert!(again.contains("is there already: give another name"), "{again}");
        assert!(matches!(
            make(&folder.path().join("leg"), Beginning::default(), &outputs),
            Err(NotMade::Empty)
        ));
    }

    #[test]
    fn addresses_are_read_as_they_stand_on_boards() {
        assert_eq!(address("0x40").unwrap(), 0x40);
        assert_eq!(address(" 65 ").unwrap(), 65);
        assert!(address("4x").is_err() && address("0x140").is_err());
    }
}
