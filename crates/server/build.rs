//! The pages are built into the program, so a new front end must rebuild it.
use std::path::Path;

fn main() {
    let pages = Path::new("../../web/dist");
    if !pages.exists() {
        // Without the front end the program still builds and serves its API.
        let _ = std::fs::create_dir_all(pages);
    }
    println!("cargo:rerun-if-changed=../../web/dist");
}
