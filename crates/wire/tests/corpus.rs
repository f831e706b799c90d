//! What the fuzzer has found worth keeping is replayed through its own checks.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

#[path = "../../../fuzz/checks.rs"]
mod checks;

use std::path::Path;

#[test]
fn the_corpus_of_every_decoder_holds() {
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus");
    for name in checks::ALL {
        let files = std::fs::read_dir(corpus.join(name)).unwrap();
        let all: Vec<Vec<u8>> = files.map(|file| std::fs::read(file.unwrap().path()).unwrap()).collect();
        assert!(all.len() >= 3, "{name} has a corpus");
        for data in all {
            checks::check(name, &data);
        }
    }
}
