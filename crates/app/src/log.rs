//! The log file: what was done, what was seen, how well time was kept. Bounded, whatever happens.

use file_rotate::compression::Compression;
use file_rotate::suffix::AppendCount;
use file_rotate::{ContentLimit, FileRotate};
use miette::IntoDiagnostic;
use std::path::Path;
use std::sync::Mutex;
use tracing::level_filters::LevelFilter;

/// The size at which a file is put aside, in bytes.
const MOST: usize = 1 << 20;
/// Files that are kept beside the one being written.
const KEPT: usize = 3;

/// Writes the log to a file from now on; without one nothing is logged.
///
/// # Errors
/// When the file cannot be written.
pub fn start(path: Option<&Path>) -> miette::Result<()> {
    let Some(path) = path else { return Ok(()) };
    // The rotating writer says nothing of a file that it cannot open: asked first, and in words.
    std::fs::File::options().create(true).append(true).open(path).map_err(|why| {
        miette::miette!(
            help = "give --log a file that may be written",
            "cannot write the log {}: {why}",
            path.display()
        )
    })?;
    let subscriber = tracing_subscriber::fmt()
        .with_writer(Mutex::new(rotated(path)))
        .with_ansi(false)
        .with_target(false)
        .with_max_level(LevelFilter::DEBUG)
        .finish();
    tracing::subscriber::set_global_default(subscriber).into_diagnostic()?;
    tracing::info!("wasvolta {} begins", crate::cli::VERSION);
    Ok(())
}

/// A file that is put aside when it is full; the oldest put aside goes.
fn rotated(path: &Path) -> FileRotate<AppendCount> {
    let limit = ContentLimit::BytesSurpassed(MOST);
    FileRotate::new(path, AppendCount::new(KEPT), limit, Compression::None, None)
}

/// Text from outside, without what could move a cursor.
pub fn plain(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn a_log_never_grows_beyond_its_bound() {
        let folder = tempfile::tempdir().unwrap();
        let mut log = rotated(&folder.path().join("run.log"));
        let line = [b'x'; 1023];
        for _ in 0..9 * 1024 {
            log.write_all(&line).unwrap();
            log.write_all(b"\n").unwrap();
        }
        let sizes: Vec<u64> =
            std::fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().metadata().unwrap().len()).collect();
        assert_eq!(sizes.len(), 1 + KEPT);
        assert!(sizes.iter().sum::<u64>() <= (4 << 20) + 4096, "{sizes:?}");
    }

    #[test]
    fn what_could_move_a_cursor_is_not_written() {
        assert_eq!(plain("a\x1b[2Jb\nc"), "a [2Jb c");
    }
}
