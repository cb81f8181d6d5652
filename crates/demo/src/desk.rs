//! *Eyepiece desk*: a desk at night, a lamp squeezed between wall, shelf and books, brass eyepieces, leather, a window.

use crate::glb::{Glb, Paint};
use crate::mesh::*;
use crate::paint;
use glam::{Mat4, Vec3};

pub fn eyepiece_desk() -> Vec<u8> {
    let mut g = Glb::default();
    let wood = g.texture(&paint::wood([0.10, 0.042, 0.018], [0.30, 0.15, 0.07]));
    let hide = g.texture(&paint::leather_bumps());
    let rough = g.texture(&paint::plaster_bumps());
    let chart = g.texture(&paint::star_chart());
    let script = g.texture(&paint::notes());

    let desk_top = g.material(Paint::new("desk top", Vec3::ONE, 0.0, 0.5).textured(wood).coated(0.12));
    let shelf_wood = g.material(Paint::new("shelf", Vec3::splat(0.8), 0.0, 0.55).textured(wood));
    let wall = g.material(Paint::matte("wall", Vec3::new(0.42, 0.40, 0.36)).bumped(rough, 0.35));
    let brass = g.material(Paint::new("brass", Vec3::new(0.86, 0.62, 0.28), 1.0, 0.22).brushed(0.7, 0.0));
    let old_brass = g.material(Paint::new("old brass", Vec3::new(0.60, 0.43, 0.20), 1.0, 0.42));
    let black = g.material(Paint::new("black enamel", Vec3::splat(0.03), 0.0, 0.3));
    let leather = g.material(Paint::new("leather", Vec3::new(0.19, 0.055, 0.03), 0.0, 0.5).bumped(hide, 0.8));
    let green_leather =
        g.material(Paint::new("green leather", Vec3::new(0.03, 0.10, 0.07), 0.0, 0.5).bumped(hide, 0.8));
    let blue_cloth =
        g.material(Paint::matte("blue cloth", Vec3::new(0.06, 0.10, 0.20)).fuzzy(Vec3::new(0.25, 0.35, 0.6), 0.4));
    let pages = g.material(Paint::matte("pages", Vec3::new(0.72, 0.66, 0.52)));
    let chart_paper = g.material(Paint::matte("star chart", Vec3::ONE).textured(chart));
    let note_paper = g.material(Paint::matte("notes", Vec3::ONE).textured(script));
    let glass =
        g.material(Paint::glass("crown glass", Vec3::ONE, 0.0, 1.52, true).absorbing(Vec3::new(0.8, 0.95, 0.9), 0.12));
    let shade = g.material(Paint::new("lamp shade", Vec3::new(0.05, 0.16, 0.12), 0.0, 0.6).coated(0.05));
    let bulb = g.material(Paint::matte("lamp bulb", Vec3::ZERO).shining(Vec3::new(1.0, 0.62, 0.30), 90.0));

    // The room: wall behind, wall at the right, ceiling, a window far left.
    g.object("back wall", &quad(Vec3::new(-2.0, -0.8, -0.42), Vec3::X * 2.68, Vec3::Y * 3.0), wall, Mat4::IDENTITY);
    g.object("right wall", &quad(Vec3::new(0.68, -0.8, 2.2), Vec3::NEG_Z * 2.62, Vec3::Y * 3.0), wall, Mat4::IDENTITY);
    g.object("ceiling", &quad(Vec3::new(-2.0, 2.2, -0.42), Vec3::X * 2.68, Vec3::Z * 2.62), wall, Mat4::IDENTITY);
    g.object("far wall", &quad(Vec3::new(0.68, -0.8, 2.2), Vec3::NEG_X * 2.68, Vec3::Y * 3.0), wall, Mat4::IDENTITY);
    g.object(
        "floor",
        &quad(Vec3::new(-2.0, -0.8, 2.2), Vec3::X * 2.68, Vec3::NEG_Z * 2.62),
        shelf_wood,
        Mat4::IDENTITY,
    );
    let mut frame = Mesh::default();
    let left = |y: f32, z: f32, h: f32, d: f32| quad(Vec3::new(-2.0, y, z), Vec3::Z * d, Vec3::Y * h);
    for part in [
        left(-0.8, -0.42, 0.9, 2.62),
        left(1.7, -0.42, 0.5, 2.62),
        left(0.1, -0.42, 1.6, 0.3),
        left(0.1, 1.5, 1.6, 0.7),
    ] {
        frame.add(&flipped(part), Mat4::IDENTITY);
    }
    for (y, z, size) in [(0.1, 0.66, Vec3::new(0.05, 1.6, 0.05)), (0.88, 0.69, Vec3::new(0.05, 0.04, 1.62))] {
        frame.add(&rounded_box(size, 0.008), at(-2.0, y, z));
    }
    g.object("window wall", &frame, wall, Mat4::IDENTITY);

    g.object("desk", &rounded_box(Vec3::new(1.7, 0.045, 0.95), 0.008), desk_top, at(-0.18, -0.045, 0.06));
    g.object("shelf", &rounded_box(Vec3::new(1.2, 0.03, 0.24), 0.004), shelf_wood, at(0.07, 0.50, -0.30));

    // The lamp: bulb 7 cm from the wall, 9 cm under the shelf, books hard beside it.
    let lamp = at(0.55, 0.0, -0.27);
    let foot = turned(
        &[
            (0.0, 0.0),
            (0.075, 0.0),
            (0.078, 0.008),
            (0.06, 0.018),
            (0.022, 0.028),
            (0.010, 0.05),
            (0.009, 0.30),
            (0.014, 0.305),
            (0.016, 0.33),
            (0.0, 0.335),
        ],
        48,
    );
    g.object("lamp foot", &foot, brass, lamp);
    let cone = turned(&[(0.098, 0.315), (0.040, 0.425), (0.038, 0.425), (0.096, 0.313), (0.098, 0.315)], 64);
    g.object("lamp shade", &cone, shade, lamp);
    g.object("lamp bulb", &sphere(0.026, 28), bulb, lamp * at(0.0, 0.368, 0.0));

    // Books on the shelf and beside the lamp.
    let mut x = -0.46;
    for (i, (w, h)) in
        [(0.04, 0.21), (0.03, 0.24), (0.05, 0.19), (0.035, 0.22), (0.028, 0.25), (0.045, 0.20), (0.03, 0.23)]
            .iter()
            .enumerate()
    {
        let cover = [leather, green_leather, blue_cloth][i % 3];
        book(&mut g, "book on the shelf", Vec3::new(*w, *h, 0.16), cover, pages, at(x + w * 0.5, 0.53, -0.31));
        x += w + 0.004;
    }
    let lean = Mat4::from_rotation_z(-0.22);
    book(&mut g, "leaning book", Vec3::new(0.035, 0.22, 0.16), leather, pages, at(x + 0.045, 0.535, -0.31) * lean);
    book(&mut g, "book by the lamp", Vec3::new(0.045, 0.27, 0.19), green_leather, pages, at(0.425, 0.0, -0.30));
    book(&mut g, "second book by the lamp", Vec3::new(0.035, 0.24, 0.17), blue_cloth, pages, at(0.382, 0.0, -0.31));
    let flat = |x: f32, y: f32, z: f32, turn: f32| {
        at(x, y, z) * Mat4::from_rotation_y(turn) * Mat4::from_rotation_z(std::f32::consts::FRAC_PI_2)
    };
    book(&mut g, "lying book", Vec3::new(0.035, 0.24, 0.17), leather, pages, flat(-0.30, 0.0175, -0.22, 0.25));
    book(
        &mut g,
        "upper lying book",
        Vec3::new(0.028, 0.20, 0.15),
        blue_cloth,
        pages,
        flat(-0.32, 0.0495, -0.215, -0.1),
    );

    // Papers.
    let sheet = quad(Vec3::new(-0.5, 0.0, 0.5), Vec3::X, Vec3::NEG_Z);
    g.object(
        "star chart",
        &sheet,
        chart_paper,
        at(0.06, 0.0008, 0.17) * Mat4::from_rotation_y(0.22) * Mat4::from_scale(Vec3::splat(0.40)),
    );
    g.object(
        "notes",
        &sheet,
        note_paper,
        at(-0.36, 0.0012, 0.20) * Mat4::from_rotation_y(-0.35) * Mat4::from_scale(Vec3::new(0.17, 1.0, 0.23)),
    );

    // Eyepieces: standing, and one lying.
    for (k, (x, z, scale, metal)) in [
        (0.02, -0.05, 1.25, brass),
        (0.13, -0.11, 1.0, old_brass),
        (0.235, -0.03, 0.85, brass),
        (-0.10, -0.13, 0.9, black),
        (0.30, 0.09, 0.7, brass),
    ]
    .into_iter()
    .enumerate()
    {
        eyepiece(
            &mut g,
            &format!("eyepiece {}", k + 1),
            metal,
            black,
            glass,
            at(x, 0.0, z) * Mat4::from_scale(Vec3::splat(scale)),
        );
    }
    let lying =
        at(-0.07, 0.026, 0.10) * Mat4::from_rotation_y(0.7) * Mat4::from_rotation_z(std::f32::consts::FRAC_PI_2);
    eyepiece(&mut g, "lying eyepiece", brass, black, glass, lying);

    // A leather case with a brass rim and a lens on its lid, a large lens on a stand.
    g.object(
        "case",
        &rounded_box(Vec3::new(0.16, 0.07, 0.11), 0.012),
        leather,
        at(-0.17, 0.0, 0.0) * Mat4::from_rotation_y(0.35),
    );
    g.object(
        "case clasp",
        &rounded_box(Vec3::new(0.022, 0.018, 0.006), 0.002),
        brass,
        at(-0.152, 0.034, 0.054) * Mat4::from_rotation_y(0.35),
    );
    g.object("lens on the case", &lens(0.034, 0.003, 0.004, 0.008, 56), glass, at(-0.185, 0.0758, -0.008));
    let upright =
        at(0.345, 0.098, -0.10) * Mat4::from_rotation_y(-0.45) * Mat4::from_rotation_x(std::f32::consts::FRAC_PI_2);
    g.object("large lens", &lens(0.062, 0.004, 0.012, 0.012, 72), glass, upright);
    let ring: Vec<(f32, f32)> = (0..=16)
        .map(|i| {
            let a = i as f32 / 16.0 * std::f32::consts::TAU;
            (0.0655 + 0.0035 * a.cos(), -0.0045 * a.sin())
        })
        .collect();
    g.object("lens ring", &flipped(turned(&ring, 72)), brass, upright);
    g.object(
        "lens stand",
        &turned(
            &[(0.0, 0.0), (0.036, 0.0), (0.038, 0.006), (0.012, 0.012), (0.006, 0.02), (0.006, 0.031), (0.0, 0.031)],
            40,
        ),
        old_brass,
        at(0.345, 0.0, -0.10),
    );

    g.camera("Desk, close", Vec3::new(-0.16, 0.30, 0.66), Vec3::new(0.13, 0.12, -0.12), 38.0);
    g.camera("Desk, wide", Vec3::new(-0.75, 0.55, 1.25), Vec3::new(0.05, 0.18, -0.15), 42.0);
    g.finish()
}

/// Covers and pages; `size` is thickness, height, depth with the spine forward.
fn book(g: &mut Glb, name: &str, size: Vec3, cover: usize, pages: usize, at_: Mat4) {
    let t = 0.003;
    let mut covers = Mesh::default();
    for side in [-1.0, 1.0] {
        covers.add(&rounded_box(Vec3::new(t, size.y, size.z), 0.0014), at(side * 0.5 * (size.x - t), 0.0, 0.0));
    }
    covers.add(&rounded_box(Vec3::new(size.x, size.y, t), 0.0014), at(0.0, 0.0, 0.5 * (size.z - t)));
    for k in [0.18, 0.5, 0.82] {
        covers.add(&rounded_box(Vec3::new(size.x * 0.98, 0.006, t * 2.2), 0.002), at(0.0, size.y * k, 0.5 * size.z));
    }
    g.object(name, &covers, cover, at_);
    g.object(
        &format!("pages of {name}"),
        &rounded_box(Vec3::new(size.x - 2.0 * t, size.y - 0.008, size.z - 0.008), 0.001),
        pages,
        at_ * at(0.0, 0.004, -0.002),
    );
}

/// A turned barrel with knurled ring, an eye lens on top and a field lens below; about 9 cm high.
fn eyepiece(g: &mut Glb, name: &str, metal: usize, dark: usize, glass: usize, at_: Mat4) {
    let barrel = turned(
        &[
            (0.014, 0.0),
            (0.0158, 0.0),
            (0.0162, 0.002),
            (0.0162, 0.030),
            (0.0155, 0.031),
            (0.0155, 0.034),
            (0.024, 0.038),
            (0.0245, 0.040),
            (0.0245, 0.052),
            (0.0235, 0.054),
            (0.0235, 0.074),
            (0.022, 0.078),
            (0.0165, 0.084),
            (0.0140, 0.084),
            (0.0135, 0.080),
            (0.0135, 0.004),
            (0.014, 0.0),
        ],
        64,
    );
    g.object(name, &barrel, metal, at_);
    let mut knurls = Mesh::default();
    for k in 0..40 {
        let turn = Mat4::from_rotation_y(k as f32 / 40.0 * std::f32::consts::TAU);
        knurls.add(&rounded_box(Vec3::new(0.0022, 0.011, 0.0022), 0.0006), turn * at(0.0244, 0.0405, 0.0));
    }
    g.object(&format!("grip of {name}"), &knurls, dark, at_);
    g.object(&format!("eye lens of {name}"), &lens(0.0132, 0.002, 0.001, 0.004, 40), glass, at_ * at(0.0, 0.079, 0.0));
    g.object(&format!("field lens of {name}"), &lens(0.0132, 0.002, 0.003, 0.0, 40), glass, at_ * at(0.0, 0.010, 0.0));
}
