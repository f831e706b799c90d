//! The log file: what was done, what was seen, how well time was kept. Bounded, whatever happens.

use crate::files::output::Outputs;
use file_rotate::compression::Compression;
use file_rotate::suffix::AppendCount;
use file_rotate::{ContentLimit, FileRotate};
use miette::{IntoDiagnostic, miette};
use std::io::Write;
use std::path::Path;
use std::sync::Mutex;
use tracing::level_filters::LevelFilter;
use wasvolta_core::outside;

/// The size at which a file is put aside, in bytes.
const MOST: usize = 1 << 20;
/// Files that are kept beside the one being written.
const KEPT: usize = 3;

/// Writes the log to a file from now on; without one nothing is logged.
///
/// # Errors
/// When something else is there, or the file cannot be written.
pub fn start(path: Option<&Path>, outputs: &Outputs) -> miette::Result<()> {
    let Some(path) = path else { return Ok(()) };
    outputs.log(path).map_err(|why| miette!(help = "give --log a file that may be written", "{why}"))?;
    let name = path.display().to_string();
    let border = Border { out: rotated(path), name, outputs: outputs.clone(), ended: false };
    let subscriber = tracing_subscriber::fmt()
        .with_writer(Mutex::new(border))
        .with_ansi(false)
        .with_target(false)
        .with_max_level(LevelFilter::DEBUG)
        // It would say so on standard error, which is the screen's terminal.
        .log_internal_errors(false)
        .finish();
    tracing::subscriber::set_global_default(subscriber).into_diagnostic()?;
    tracing::info!("wasvolta {} begins", crate::cli::VERSION);
    Ok(())
}

/// The border at which lines go into the log: an entry is one line, and nothing in it moves a cursor when it is read in
/// a terminal. A log that cannot be written ends; the run goes on.
struct Border<W> {
    out: W,
    name: String,
    outputs: Outputs,
    ended: bool,
}

impl<W: Write> Write for Border<W> {
    /// Takes one entry: the subscriber writes each at once.
    fn write(&mut self, entry: &[u8]) -> std::io::Result<usize> {
        if !self.ended {
            let text = String::from_utf8_lossy(entry);
            let text = outside::line(text.trim_end_matches('\n')).into_owned() + "\n";
            if let Err(why) = self.out.write_all(text.as_bytes()).and_then(|()| self.out.flush()) {
                self.ended = true;
                self.outputs.trouble(format!("the log {} is not whole: {why}", self.name));
            }
        }
        Ok(entry.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// A file that is put aside when it is full; the oldest put aside goes.
fn rotated(path: &Path) -> FileRotate<AppendCount> {
    let limit = ContentLimit::BytesSurpassed(MOST);
    FileRotate::new(path, AppendCount::new(KEPT), limit, Compression::None, None)
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

    fn border<W>(out: W, outputs: &Outputs) -> Border<W> {
        Border { out, name: "run.log".to_owned(), outputs: outputs.clone(), ended: false }
    }

    #[test]
    fn an_entry_is_one_line_in_which_nothing_moves_a_cursor() {
        let mut log = border(Vec::new(), &Outputs::default());
        log.write_all("a\x1b[2Jb\nc\u{9b}d\n".as_bytes()).unwrap();
        assert_eq!(String::from_utf8(log.out).unwrap(), "a?[2Jb?c??d\n");
    }

    #[test]
    fn a_full_disk_ends_the_log_and_is_told_once() {
        let outputs = Outputs::default();
        let full = std::fs::File::options().write(true).open("/dev/full").unwrap();
        let mut log = border(full, &outputs);
        log.write_all(b"one\n").unwrap();
        log.write_all(b"two\n").unwrap();
        assert!(outputs.news().unwrap().starts_with("the log run.log is not whole: "));
        assert_eq!(outputs.news(), None);
    }
}
