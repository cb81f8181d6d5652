//! Writes the TypeScript declarations into the file that is named: `./run types`.

fn main() -> std::io::Result<()> {
    match std::env::args().nth(1) {
        Some(file) => std::fs::write(file, server::types::typescript()),
        None => Err(std::io::Error::other("name the file to write")),
    }
}
