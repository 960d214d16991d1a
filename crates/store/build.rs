//! Migrations are built into the crate, so a new file must rebuild it.
fn main() {
    println!("cargo:rerun-if-changed=migrations");
}
