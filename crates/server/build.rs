//! The embedded front end counts as source: a new build of it makes a new program.

fn main() {
    println!("cargo:rerun-if-changed=../../web/dist");
}
