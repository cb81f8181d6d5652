//! Six small scenes on which denoisers are tried, each with something that is easily lost. They are for measuring alone:
//! nothing is tuned on them.

use crate::glb::{Glb, Paint};
use crate::mesh::*;
use crate::paint;
use glam::{Mat4, Vec3};

/// Name and GLB of each.
pub fn denoiser_trials() -> Vec<(&'static str, Vec<u8>)> {
    vec![
        ("hair-thin lines", lines()),
        ("textured wall", wall()),
        ("shadow on cloth", cloth()),
        ("text on a label", label()),
        ("glass before chart", glass()),
        ("dim room", dim()),
    ]
}

/// A closed room about the origin, two metres wide and high: most light comes by way of its walls, as noisy as such light is.
fn room(g: &mut Glb, floor: usize, back: usize) {
    let plain = g.material(Paint::matte("wall", Vec3::new(0.66, 0.64, 0.6)));
    let mut side = |name: &str, corner: Vec3, a: Vec3, b: Vec3, material: usize| {
        g.object(name, &quad(corner, a, b), material, Mat4::IDENTITY);
    };
    let (x, y, z) = (Vec3::X * 2.0, Vec3::Y * 2.0, Vec3::Z * 2.0);
    side("floor", Vec3::new(-1.0, 0.0, 1.0), x, -z, floor);
    side("back", Vec3::new(-1.0, 0.0, -1.0), x, y, back);
    side("ceiling", Vec3::new(-1.0, 2.0, -1.0), x, z, plain);
    side("left", Vec3::new(-1.0, 0.0, 1.0), -z, y, plain);
    side("right", Vec3::new(1.0, 0.0, -1.0), z, y, plain);
    side("front", Vec3::new(1.0, 0.0, 1.0), -x, y, plain);
}

/// A square lamp of `side` metres at a place, shining downwards or up.
fn lamp(g: &mut Glb, side: f32, at: Vec3, strength: f32, down: bool) {
    let shining = g.material(Paint::matte("lamp", Vec3::ZERO).shining(Vec3::new(1.0, 0.9, 0.75), strength));
    let from = at - Vec3::new(0.5 * side, 0.0, 0.5 * side);
    let (x, z) = (Vec3::X * side, Vec3::Z * side);
    let mesh = if down { quad(from, x, z) } else { quad(from, z, x) };
    g.object("lamp", &mesh, shining, Mat4::IDENTITY);
}

fn seen(mut g: Glb, from: Vec3, to: Vec3, degrees: f32) -> Vec<u8> {
    g.camera("Trial", from, to, degrees);
    g.finish()
}

fn lines() -> Vec<u8> {
    let mut g = Glb::default();
    let grey = g.material(Paint::matte("grey", Vec3::splat(0.5)));
    let dark = g.material(Paint::new("wire", Vec3::new(0.04, 0.04, 0.05), 0.0, 0.4));
    let steel = g.material(Paint::new("steel", Vec3::splat(0.7), 1.0, 0.25));
    room(&mut g, grey, grey);
    lamp(&mut g, 0.2, Vec3::new(-0.3, 1.5, 0.3), 60.0, false);
    for i in 0..26 {
        let radius = 0.0006 + 0.00025 * (i % 5) as f32;
        let lean = Mat4::from_rotation_z(0.35 * ((i * 7) % 11) as f32 / 11.0 - 0.17);
        let place = at(-0.6 + 0.047 * i as f32, 0.0, -0.4 + 0.3 * ((i * 5) % 7) as f32 / 7.0);
        g.object("wire", &cylinder(radius, 0.9, 10), if i % 3 == 0 { steel } else { dark }, place * lean);
    }
    seen(g, Vec3::new(0.1, 0.55, 0.95), Vec3::new(0.0, 0.38, -0.3), 38.0)
}

fn wall() -> Vec<u8> {
    let mut g = Glb::default();
    let slabs = g.texture(&paint::slabs([0.42, 0.36, 0.30], [0.30, 0.29, 0.28]));
    let boards = g.texture(&paint::wood([0.12, 0.06, 0.03], [0.34, 0.20, 0.10]));
    let rough = g.texture(&paint::plaster_bumps());
    let stone = g.material(Paint::matte("stone", Vec3::ONE).textured(slabs).bumped(rough, 0.8));
    let wood = g.material(Paint::new("boards", Vec3::ONE, 0.0, 0.4).textured(boards));
    room(&mut g, wood, stone);
    lamp(&mut g, 0.15, Vec3::new(-0.8, 1.5, -0.6), 60.0, false);
    seen(g, Vec3::new(0.3, 0.7, 0.9), Vec3::new(-0.1, 0.5, -1.0), 42.0)
}

fn cloth() -> Vec<u8> {
    let mut g = Glb::default();
    let pattern = g.texture(&paint::checks());
    let cloth = g.material(Paint::matte("cloth", Vec3::ONE).textured(pattern));
    let plain = g.material(Paint::matte("plain", Vec3::splat(0.4)));
    let bars = g.material(Paint::matte("bars", Vec3::splat(0.1)));
    room(&mut g, cloth, plain);
    lamp(&mut g, 0.4, Vec3::new(-0.2, 1.6, 0.0), 14.0, true);
    for i in 0..7 {
        let x = -0.45 + 0.15 * i as f32;
        g.object("bar", &rounded_box(Vec3::new(0.03, 0.02, 0.9), 0.004), bars, at(x, 0.42, 0.0));
    }
    seen(g, Vec3::new(0.0, 0.95, 0.92), Vec3::new(0.0, 0.0, 0.0), 36.0)
}

fn label() -> Vec<u8> {
    let mut g = Glb::default();
    let script = g.texture(&paint::notes());
    let boards = g.texture(&paint::wood([0.10, 0.05, 0.02], [0.30, 0.16, 0.08]));
    let paper = g.material(Paint::new("label", Vec3::ONE, 0.0, 0.6).textured(script));
    let jar = g.material(Paint::new("jar", Vec3::new(0.10, 0.22, 0.18), 0.0, 0.15).coated(0.05));
    let wood = g.material(Paint::new("table", Vec3::ONE, 0.0, 0.45).textured(boards));
    let plain = g.material(Paint::matte("plain", Vec3::splat(0.35)));
    room(&mut g, wood, plain);
    lamp(&mut g, 0.2, Vec3::new(0.5, 1.4, 0.6), 60.0, false);
    for (i, x) in [-0.34f32, 0.0, 0.34].into_iter().enumerate() {
        g.object("jar", &cylinder(0.14, 0.36, 48), jar, at(x, 0.0, -0.02 * i as f32));
        let front = quad(Vec3::new(-0.5, 0.0, 0.0), Vec3::X, Vec3::Y);
        let size = Mat4::from_scale(Vec3::new(0.17, 0.2, 1.0));
        g.object("label", &front, paper, at(x, 0.08, 0.145 - 0.02 * i as f32) * size);
    }
    seen(g, Vec3::new(0.05, 0.32, 0.95), Vec3::new(0.0, 0.17, 0.0), 34.0)
}

fn glass() -> Vec<u8> {
    let mut g = Glb::default();
    let chart = g.texture(&paint::star_chart());
    let paper = g.material(Paint::matte("chart", Vec3::ONE).textured(chart));
    let plain = g.material(Paint::matte("plain", Vec3::splat(0.4)));
    let clear = g.material(Paint::glass("clear", Vec3::ONE, 0.0, 1.5, true));
    let frosted = g.material(Paint::glass("frosted", Vec3::ONE, 0.12, 1.5, true));
    room(&mut g, plain, plain);
    let sheet = quad(Vec3::new(-0.5, 0.0, 0.0), Vec3::X, Vec3::Y);
    g.object("chart", &sheet, paper, at(0.0, 0.0, -0.5));
    lamp(&mut g, 0.2, Vec3::new(0.1, 1.6, 0.4), 60.0, false);
    g.object("pane", &rounded_box(Vec3::new(0.34, 0.7, 0.012), 0.003), clear, at(-0.24, 0.0, -0.2));
    g.object("frosted pane", &rounded_box(Vec3::new(0.34, 0.7, 0.012), 0.003), frosted, at(0.24, 0.0, -0.25));
    g.object("ball", &sphere(0.11, 48), clear, at(0.0, 0.11, 0.12));
    seen(g, Vec3::new(0.1, 0.5, 0.95), Vec3::new(0.0, 0.36, -0.3), 36.0)
}

/// A room lit through a slot by what a lamp behind a screen leaves.
fn dim() -> Vec<u8> {
    let mut g = Glb::default();
    let tone = g.texture(&paint::plaster([0.55, 0.52, 0.46]));
    let boards = g.texture(&paint::wood([0.10, 0.05, 0.02], [0.30, 0.16, 0.08]));
    let plaster = g.material(Paint::matte("plaster", Vec3::ONE).textured(tone));
    let wood = g.material(Paint::new("floor", Vec3::ONE, 0.0, 0.5).textured(boards));
    let brass = g.material(Paint::new("brass", Vec3::new(0.86, 0.62, 0.28), 1.0, 0.3));
    room(&mut g, wood, plaster);
    g.object("screen", &rounded_box(Vec3::new(0.04, 1.4, 0.9), 0.01), wood, at(0.5, 0.0, -0.55));
    lamp(&mut g, 0.12, Vec3::new(0.78, 1.0, -0.6), 40.0, true);
    g.object("ball", &sphere(0.16, 48), brass, at(-0.25, 0.16, -0.45));
    g.object("block", &rounded_box(Vec3::new(0.25, 0.4, 0.25), 0.02), plaster, at(0.1, 0.0, -0.7));
    seen(g, Vec3::new(-0.3, 0.75, 0.85), Vec3::new(-0.05, 0.4, -0.6), 48.0)
}
