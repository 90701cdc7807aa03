//! What a newcomer follows leads somewhere: every path that the guides name is there, and every room is on the map of its crate.

use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn read(path: &str) -> String {
    std::fs::read_to_string(root().join(path)).unwrap_or_else(|e| panic!("{path}: {e}"))
}

#[test]
fn every_path_in_the_guides_is_there() {
    let mut looked_at = 0;
    for guide in ["README.md", "CONTRIBUTING.md", "DESIGN.md"] {
        for quoted in read(guide).split('`').skip(1).step_by(2) {
            let is_path = quoted.starts_with("crates/") || quoted.starts_with("docs/") || quoted.starts_with("./scripts/");
            if is_path && !quoted.contains(['<', '*', ' ', '{']) {
                assert!(root().join(quoted).exists(), "{guide} names {quoted}, which is not there");
                looked_at += 1;
            }
        }
    }
    assert!(looked_at > 40, "{looked_at}");
}

#[test]
fn every_room_is_on_the_map_of_its_crate() {
    for name in ["core", "store", "web"] {
        let map = read(&format!("crates/{name}/src/lib.rs"));
        let comment: String = map.lines().filter(|l| l.starts_with("//!")).collect();
        let rooms = map.lines().filter_map(|l| l.strip_prefix("pub mod ")?.strip_suffix(';'));
        let missing: Vec<&str> = rooms.filter(|r| !comment.contains(&format!("[`{r}`]"))).collect();
        assert!(missing.is_empty(), "crates/{name}: not on the map: {missing:?}");
    }
}
