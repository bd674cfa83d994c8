//! What is put into the program when it is built: the notices of `exedra licences`.
//!
//! - [`licences`]: who wrote what is inside, and under which licence

mod licences;

use std::path::PathBuf;

fn main() -> std::io::Result<()> {
    // Asked when it runs: what was built in another checkout must not be believed here.
    let root = PathBuf::from(std::env::var("CARGO_MANIFEST_DIR").unwrap_or_default()).join("../..");
    let out = PathBuf::from(std::env::var("OUT_DIR").unwrap_or_default());
    // Without a built console (a plain `cargo check`) nothing of it is inside.
    let page = root.join("console/dist-report/report.html");
    println!("cargo::rerun-if-changed={}", page.display());
    std::fs::write(out.join("licences.txt"), licences::notices(&root, page.is_file())?)
}
