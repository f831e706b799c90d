#![no_main]

#[path = "../checks.rs"]
#[allow(dead_code, reason = "each target asks for one of them")]
mod checks;

libfuzzer_sys::fuzz_target!(|data: &[u8]| checks::check("smart", data));
