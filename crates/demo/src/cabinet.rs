//! *Lens cabinet*: rows of lenses and prisms behind a glass door. Paths pass many surfaces of glass.

use crate::glb::{Glb, Paint};
use crate::mesh::*;
use crate::paint;
use glam::{Mat4, Vec3};
use std::f32::consts::{FRAC_PI_2, TAU};

pub fn lens_cabinet() -> Vec<u8> {
    let mut g = Glb::default();
    let grain = g.texture(&paint::wood([0.09, 0.035, 0.016], [0.26, 0.12, 0.055]));
    let plaster = g.texture(&paint::plaster([0.36, 0.42, 0.42]));
    let planks = g.texture(&paint::wood([0.16, 0.09, 0.05], [0.36, 0.22, 0.12]));
    let wood = g.material(Paint::new("walnut", Vec3::ONE, 0.0, 0.5).textured(grain).coated(0.1));
    let felt = g.material(Paint::matte("felt", Vec3::new(0.30, 0.33, 0.36)).fuzzy(Vec3::splat(0.3), 0.5));
    let wall = g.material(Paint::matte("wall", Vec3::ONE).textured(plaster));
    let boards = g.material(Paint::new("floor", Vec3::ONE, 0.0, 0.5).textured(planks));
    let brass = g.material(Paint::new("brass", Vec3::new(0.86, 0.62, 0.28), 1.0, 0.2));
    let label = g.material(Paint::matte("label", Vec3::new(0.75, 0.70, 0.58)));
    let pane = g.material(Paint::glass("door pane", Vec3::splat(0.97), 0.0, 1.5, false));
    let strip = g.material(Paint::matte("light strip", Vec3::ZERO).shining(Vec3::new(1.0, 0.78, 0.52), 60.0));
    let kinds = [
        Paint::glass("crown glass", Vec3::ONE, 0.0, 1.52, true).absorbing(Vec3::new(0.72, 0.95, 0.84), 0.05),
        Paint::glass("flint glass", Vec3::ONE, 0.0, 1.65, true).absorbing(Vec3::new(0.96, 0.92, 0.70), 0.05),
        Paint::glass("amber filter", Vec3::ONE, 0.0, 1.52, true).absorbing(Vec3::new(0.95, 0.42, 0.06), 0.02),
        Paint::glass("blue filter", Vec3::ONE, 0.0, 1.52, true).absorbing(Vec3::new(0.10, 0.35, 0.85), 0.02),
        Paint::glass("sea filter", Vec3::ONE, 0.0, 1.52, true).absorbing(Vec3::new(0.12, 0.72, 0.50), 0.02),
        Paint::glass("ground glass", Vec3::ONE, 0.35, 1.52, true),
    ]
    .map(|p| g.material(p));

    // The room.
    g.object("wall", &quad(Vec3::new(-4.0, 0.0, -0.25), Vec3::X * 8.0, Vec3::Y * 4.0), wall, Mat4::IDENTITY);
    g.object("floor", &quad(Vec3::new(-4.0, 0.0, 5.0), Vec3::X * 8.0, Vec3::NEG_Z * 5.3), boards, Mat4::IDENTITY);

    // The case: 1.3 × 1.5 m, 36 cm deep, on feet.
    let (w, h, d, t, y0) = (1.3f32, 1.5f32, 0.36f32, 0.03f32, 0.14f32);
    let mut case = Mesh::default();
    for x in [-0.5 * (w - t), 0.5 * (w - t)] {
        case.add(&rounded_box(Vec3::new(t, h, d), 0.004), at(x, y0, 0.0));
    }
    for y in [y0, y0 + h - t] {
        case.add(&rounded_box(Vec3::new(w + 0.04, t, d + 0.04), 0.008), at(0.0, y, 0.0));
    }
    case.add(&rounded_box(Vec3::new(w + 0.10, 0.045, d + 0.08), 0.015), at(0.0, y0 + h, 0.0));
    let shelves: Vec<f32> = (1..4).map(|k| y0 + h * k as f32 / 4.0).collect();
    for y in &shelves {
        case.add(&rounded_box(Vec3::new(w - 2.0 * t, 0.018, d - 0.05), 0.003), at(0.0, *y, -0.015));
    }
    for (x, z) in [(-0.58, 0.12), (0.58, 0.12), (-0.58, -0.12), (0.58, -0.12)] {
        case.add(&turned(&[(0.02, 0.0), (0.035, 0.05), (0.025, 0.09), (0.045, 0.14)], 32), at(x, 0.0, z));
    }
    g.object("case", &case, wood, Mat4::IDENTITY);
    g.object("back", &quad(Vec3::new(-0.5 * w, y0, -0.5 * d + 0.012), Vec3::X * w, Vec3::Y * h), felt, Mat4::IDENTITY);
    // Two door frames with panes, the right one ajar.
    let mut door = Mesh::default();
    let (dw, dh, bar) = (0.5 * w - 0.004, h - 2.0 * t - 0.006, 0.042);
    for x in [0.5 * bar, dw - 0.5 * bar] {
        door.add(&rounded_box(Vec3::new(bar, dh, 0.024), 0.005), at(x, 0.0, 0.0));
    }
    for y in [0.0, dh - bar] {
        door.add(&rounded_box(Vec3::new(dw - 2.0 * bar, bar, 0.022), 0.004), at(0.5 * dw, y, 0.0));
    }
    let sheet = quad(Vec3::new(bar, bar, 0.0), Vec3::X * (dw - 2.0 * bar), Vec3::Y * (dh - 2.0 * bar));
    let left = at(-0.5 * w + 0.002, y0 + t + 0.003, 0.5 * d + 0.014);
    let right = at(0.5 * w - 0.002, y0 + t + 0.003, 0.5 * d + 0.014)
        * Mat4::from_rotation_y(0.62)
        * Mat4::from_scale(Vec3::new(-1.0, 1.0, 1.0));
    for (name, place, knob) in [("left door", left, dw - 0.02), ("right door", right, dw - 0.02)] {
        g.object(name, &door, wood, place);
        g.object(&format!("pane of the {name}"), &sheet, pane, place);
        g.object(&format!("knob of the {name}"), &sphere(0.014, 24), brass, place * at(knob, 0.62, 0.026));
    }
    // Light strips under the top and under each shelf, behind the front edge.
    let mut y_of = shelves.clone();
    y_of.push(y0 + h - t);
    for (k, y) in y_of.iter().enumerate() {
        g.object(
            &format!("lip {}", k + 1),
            &rounded_box(Vec3::new(w - 2.0 * t, 0.03, 0.008), 0.002),
            wood,
            at(0.0, y - 0.026, 0.5 * d - 0.044),
        );
        g.object(
            &format!("light strip {}", k + 1),
            &rounded_box(Vec3::new(w - 0.16, 0.006, 0.010), 0.002),
            strip,
            at(0.0, y - 0.008, 0.5 * d - 0.06),
        );
    }

    let stand = |g: &mut Glb, x: f32, y: f32, z: f32, r: f32, turn: f32, kind: usize, bulge: (f32, f32)| {
        let place = at(x, y + r + 0.022, z) * Mat4::from_rotation_y(turn);
        let upright = place * Mat4::from_rotation_x(FRAC_PI_2);
        g.object("lens", &lens(r, 0.006, bulge.0, bulge.1, 64), kinds[kind], upright);
        let rim: Vec<(f32, f32)> = (0..=10)
            .map(|i| {
                let a = i as f32 / 10.0 * TAU;
                (r + 0.0035 + 0.003 * a.cos(), -0.006 * a.sin())
            })
            .collect();
        g.object("lens ring", &flipped(turned(&rim, 64)), brass, upright);
        g.object(
            "lens foot",
            &turned(&[(0.0, 0.0), (0.026, 0.0), (0.027, 0.004), (0.008, 0.009), (0.005, 0.018), (0.0, 0.019)], 32),
            brass,
            at(x, y, z),
        );
    };
    let base = y0 + t;
    let levels = [base, shelves[0] + 0.018, shelves[1] + 0.018, shelves[2] + 0.018];
    // Top: large lenses. Then filters, prisms, small lenses.
    for k in 0..5 {
        let x = -0.48 + 0.24 * k as f32;
        let r = [0.085, 0.105, 0.12, 0.10, 0.08][k];
        stand(
            &mut g,
            x,
            levels[3],
            -0.03 + 0.02 * (k % 2) as f32,
            r,
            0.25 - 0.12 * k as f32,
            [0, 1, 0, 5, 1][k],
            [(0.016, 0.016), (0.02, 0.008), (0.024, 0.024), (0.012, 0.0), (-0.010, -0.010)][k],
        );
    }
    for k in 0..7 {
        let x = -0.51 + 0.17 * k as f32;
        let z = -0.08 + 0.10 * (k % 2) as f32;
        stand(
            &mut g,
            x,
            levels[2],
            z,
            0.07,
            0.3 * (k as f32 - 3.0) / 3.0,
            [2, 0, 3, 1, 4, 2, 3][k],
            (0.002, 0.002 + 0.008 * (k % 2) as f32),
        );
    }
    for k in 0..6 {
        let x = -0.47 + 0.19 * k as f32;
        let turn = Mat4::from_rotation_y([0.3, -0.5, 1.2, 0.1, -0.9, 0.5][k]);
        let kind = kinds[[0, 1, 0, 4, 1, 2][k]];
        if k % 3 == 2 {
            let upright = at(x, levels[1] + 0.10, 0.0) * turn * Mat4::from_rotation_z(FRAC_PI_2) * at(0.0, -0.035, 0.0);
            g.object("standing prism", &prism(0.085, 0.2), kind, upright);
        } else {
            g.object("prism", &prism(0.10, 0.13), kind, at(x, levels[1], 0.01) * turn);
        }
    }
    for k in 0..8 {
        let x = -0.52 + 0.148 * k as f32;
        if k % 4 == 3 {
            g.object("glass ball", &sphere(0.06, 56), kinds[k / 4], at(x, levels[0] + 0.0602, 0.0));
        } else {
            stand(
                &mut g,
                x,
                levels[0],
                -0.04 + 0.03 * (k % 3) as f32,
                0.055 + 0.012 * (k % 3) as f32,
                0.2 * (k as f32 - 3.5) / 3.5,
                [0, 1, 5][k % 3],
                (0.012, 0.012),
            );
        }
    }
    for (level, y) in levels.iter().enumerate() {
        for k in 0..5 {
            let x = -0.5 + 0.25 * k as f32 + 0.03 * (level % 2) as f32;
            g.object(
                "label",
                &rounded_box(Vec3::new(0.07, 0.022, 0.004), 0.001),
                label,
                at(x, *y, 0.5 * d - 0.055) * Mat4::from_rotation_x(-0.35),
            );
        }
    }

    g.camera("Front", Vec3::new(0.35, 1.05, 2.35), Vec3::new(0.02, 0.88, 0.0), 42.0);
    g.camera("Prisms, close", Vec3::new(0.12, 0.82, 0.95), Vec3::new(-0.05, 0.70, 0.0), 36.0);
    g.finish()
}
