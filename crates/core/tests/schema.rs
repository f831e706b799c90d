//! The JSON Schema of the rig format is made from the types; the one in the documentation is that one.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

#[test]
fn the_schema_in_the_documentation_is_made_from_the_types() {
    let schema = schemars::schema_for!(wasvolta_core::rig::Rig);
    let text = serde_json::to_string_pretty(&schema).unwrap() + "\n";
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/rig.schema.json");
    if std::env::var_os("WASVOLTA_WRITE_SCHEMA").is_some() {
        std::fs::write(&path, &text).unwrap();
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(
        kept == text,
        "docs/rig.schema.json is not that of the types; WASVOLTA_WRITE_SCHEMA=1 cargo test writes it anew"
    );
}
