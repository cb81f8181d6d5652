//! Writes the demo's scenes and sky into a folder: `cargo run --release -p demo --example scenes -- FOLDER`.

fn main() -> std::io::Result<()> {
    let folder = std::path::PathBuf::from(std::env::args().nth(1).unwrap_or_else(|| ".".into()));
    std::fs::create_dir_all(&folder)?;
    std::fs::write(folder.join("eyepiece-desk.glb"), demo::eyepiece_desk())?;
    std::fs::write(folder.join("dome-hall.glb"), demo::dome_hall())?;
    std::fs::write(folder.join("lens-cabinet.glb"), demo::lens_cabinet())?;
    std::fs::write(folder.join("tarnfell-dusk.hdr"), demo::tarnfell_dusk())
}
