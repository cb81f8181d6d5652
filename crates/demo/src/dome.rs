//! *Dome hall*: the telescope under the dome. Light comes only through the slit; nearly all of it is indirect.

use crate::glb::{Glb, Paint};
use crate::mesh::*;
use crate::paint;
use crate::sky::moon;
use glam::{Mat4, Quat, Vec3};
use std::f32::consts::{FRAC_PI_2, TAU};

const RADIUS: f32 = 6.0;
const WALL: f32 = 3.0;

pub fn dome_hall() -> Vec<u8> {
    let mut g = Glb::default();
    let plaster = g.texture(&paint::plaster([0.72, 0.68, 0.60]));
    let stone = g.texture(&paint::slabs([0.30, 0.28, 0.25], [0.38, 0.36, 0.33]));
    let planks = g.texture(&paint::wood([0.14, 0.07, 0.03], [0.34, 0.19, 0.09]));
    let chart = g.texture(&paint::star_chart());

    let wall = g.material(Paint::matte("plaster", Vec3::ONE).textured(plaster));
    let floor = g.material(Paint::new("floor", Vec3::ONE, 0.0, 0.45).textured(stone));
    let rib = g.material(Paint::new("ribs", Vec3::new(0.24, 0.22, 0.20), 0.0, 0.6));
    let white = g.material(Paint::new("white enamel", Vec3::new(0.78, 0.76, 0.70), 0.0, 0.28));
    let brass = g.material(Paint::new("brass", Vec3::new(0.86, 0.62, 0.28), 1.0, 0.25));
    let iron = g.material(Paint::new("iron", Vec3::new(0.10, 0.12, 0.13), 0.0, 0.4));
    let wood = g.material(Paint::new("wood", Vec3::ONE, 0.0, 0.5).textured(planks));
    let paper = g.material(Paint::matte("star chart", Vec3::ONE).textured(chart));
    let glass = g.material(Paint::glass("objective", Vec3::ONE, 0.0, 1.55, true));

    let m = moon();
    let slit = m.z.atan2(m.x) / TAU;
    let half = 0.024;
    let arc = |r: f32| -> Vec<(f32, f32)> {
        (0..=28)
            .map(|i| {
                let a = i as f32 / 28.0 * FRAC_PI_2;
                (r * a.cos().max(0.0), WALL + r * a.sin())
            })
            .collect()
    };
    // A closed quarter across the top keeps the zenith dark; the slit ends short of it.
    g.object("dome", &flipped(turned_between(&arc(RADIUS), 160, slit + half, slit + 1.0 - half)), wall, Mat4::IDENTITY);
    let cap: Vec<(f32, f32)> = arc(RADIUS - 0.01).into_iter().filter(|p| p.1 > WALL + RADIUS * 0.975).collect();
    g.object("dome cap", &flipped(turned(&cap, 64)), wall, Mat4::IDENTITY);
    g.object("drum", &flipped(turned(&[(RADIUS, 0.0), (RADIUS, WALL)], 160)), wall, Mat4::IDENTITY);
    let side = 2.0 * RADIUS + 0.2;
    g.object(
        "floor",
        &quad(Vec3::new(-0.5 * side, 0.0, 0.5 * side), Vec3::X * side, Vec3::NEG_Z * side),
        floor,
        Mat4::IDENTITY,
    );
    let mut ribs = Mesh::default();
    for k in 0..16 {
        let from = slit + half + 0.004 + (1.0 - 2.0 * half - 0.008) * k as f32 / 15.0;
        ribs.add(&flipped(turned_between(&arc(RADIUS - 0.12), 2, from - 0.0035, from + 0.0035)), Mat4::IDENTITY);
        for edge in [-0.0035, 0.0035] {
            let mut side = Mesh::default();
            let points = arc(RADIUS);
            for w in points.windows(2) {
                let a = (from + edge) * TAU;
                let at = |p: (f32, f32), shrink: f32| {
                    let s = (RADIUS - shrink) / RADIUS;
                    Vec3::new(p.0 * s * a.cos(), WALL + (p.1 - WALL) * s, p.0 * s * a.sin())
                };
                let (p, q) = (at(w[0], 0.0), at(w[1], 0.0));
                if (q - p).length() > 1e-4 {
                    side.add(&quad(p, q - p, at(w[0], 0.12) - p), Mat4::IDENTITY);
                }
            }
            ribs.add(&side, Mat4::IDENTITY);
        }
    }
    g.object("ribs", &ribs, rib, Mat4::IDENTITY);
    let ring =
        |r: f32, y: f32, w: f32, h: f32| turned(&[(r - w, y), (r, y), (r, y + h), (r - w, y + h), (r - w, y)], 128);
    g.object("rail", &ring(RADIUS, WALL - 0.12, 0.22, 0.24), rib, Mat4::IDENTITY);
    g.object("skirting", &ring(RADIUS, 0.0, 0.06, 0.22), wood, Mat4::IDENTITY);

    // Pier and mount.
    g.object("step", &turned(&[(1.5, 0.0), (1.5, 0.16), (1.46, 0.20), (0.55, 0.20)], 96), floor, Mat4::IDENTITY);
    let pier = turned(
        &[
            (0.62, 0.2),
            (0.60, 0.32),
            (0.46, 0.40),
            (0.40, 0.55),
            (0.34, 1.5),
            (0.36, 1.62),
            (0.46, 1.70),
            (0.46, 1.80),
            (0.2, 1.82),
        ],
        64,
    );
    g.object("pier", &pier, iron, Mat4::IDENTITY);
    let aim = Mat4::from_quat(Quat::from_rotation_arc(Vec3::Y, m));
    let tube_at = at(0.0, 2.55, 0.0) * aim * at(0.0, -1.7, 0.0);
    let tube = turned(
        &[
            (0.10, 0.0),
            (0.14, 0.0),
            (0.15, 0.05),
            (0.15, 0.35),
            (0.26, 0.55),
            (0.27, 0.60),
            (0.27, 3.2),
            (0.29, 3.22),
            (0.29, 3.35),
            (0.34, 3.40),
            (0.34, 3.95),
            (0.31, 3.95),
            (0.31, 3.45),
            (0.25, 3.40),
            (0.25, 0.65),
            (0.12, 0.40),
            (0.10, 0.0),
        ],
        72,
    );
    g.object("tube", &tube, white, tube_at);
    let mut bands = Mesh::default();
    for y in [0.62, 1.35, 1.95, 3.16] {
        bands.add(&turned(&[(0.268, y), (0.285, y), (0.285, y + 0.05), (0.268, y + 0.05)], 72), Mat4::IDENTITY);
    }
    bands.add(
        &turned(
            &[(0.05, -0.30), (0.065, -0.30), (0.07, -0.12), (0.11, -0.06), (0.11, 0.02), (0.05, 0.02), (0.05, -0.30)],
            48,
        ),
        Mat4::IDENTITY,
    );
    bands.add(&cylinder(0.035, 0.9, 32), at(0.34, 0.45, 0.0));
    bands.add(&cylinder(0.045, 0.06, 32), at(0.34, 1.3, 0.0));
    g.object("brass bands", &bands, brass, tube_at);
    g.object("objective", &lens(0.305, 0.03, 0.03, 0.04, 64), glass, tube_at * at(0.0, 3.6, 0.0));
    let mut cradle = Mesh::default();
    cradle.add(&rounded_box(Vec3::new(0.10, 1.0, 0.34), 0.03), at(0.36, -0.55, 0.0));
    cradle.add(&rounded_box(Vec3::new(0.10, 1.0, 0.34), 0.03), at(-0.36, -0.55, 0.0));
    cradle.add(&rounded_box(Vec3::new(0.84, 0.12, 0.40), 0.03), at(0.0, -0.66, 0.0));
    let across = Mat4::from_rotation_y(-m.z.atan2(m.x) + FRAC_PI_2);
    g.object("cradle", &cradle, iron, at(0.0, 2.42, 0.0) * across);
    let wheel: Vec<(f32, f32)> = (0..=12)
        .map(|i| {
            let a = i as f32 / 12.0 * TAU;
            (0.26 + 0.018 * a.cos(), -0.018 * a.sin())
        })
        .collect();
    let wheel_at = at(0.0, 2.42, 0.0) * across * at(0.50, 0.0, 0.0) * Mat4::from_rotation_z(FRAC_PI_2);
    g.object("hand wheel", &flipped(turned(&wheel, 48)), brass, wheel_at);
    let mut spokes = Mesh::default();
    for k in 0..6 {
        spokes.add(
            &cylinder(0.012, 0.26, 12),
            Mat4::from_rotation_y(k as f32 / 6.0 * TAU) * Mat4::from_rotation_z(FRAC_PI_2),
        );
    }
    spokes.add(&cylinder(0.04, 0.2, 24), at(0.0, -0.05, 0.0));
    g.object("spokes", &spokes, brass, wheel_at);

    // A railing around the step, open to the front.
    let mut posts = Mesh::default();
    for k in 0..17 {
        let a = (0.42 + 0.82 * k as f32 / 16.0) * TAU;
        posts.add(
            &turned(&[(0.035, 0.0), (0.035, 0.03), (0.016, 0.06), (0.014, 0.84), (0.026, 0.88), (0.0, 0.91)], 20),
            at(2.1 * a.cos(), 0.0, 2.1 * a.sin()),
        );
    }
    g.object("posts", &posts, brass, Mat4::IDENTITY);
    for y in [0.48, 0.86] {
        let pipe: Vec<(f32, f32)> = (0..=10)
            .map(|i| {
                let a = i as f32 / 10.0 * TAU;
                (2.1 + 0.02 * a.cos(), y - 0.02 * a.sin())
            })
            .collect();
        g.object(
            "railing",
            &flipped(turned_between(&pipe, 120, 0.42, 1.24)),
            if y > 0.6 { wood } else { brass },
            Mat4::IDENTITY,
        );
    }

    // The observer's stair, a table with a chart, and a stool.
    let mut stair = Mesh::default();
    for k in 0..6 {
        let y = 0.22 * (k + 1) as f32;
        stair.add(&rounded_box(Vec3::new(0.9, 0.05, 0.30), 0.01), at(0.0, y - 0.05, -0.26 * k as f32));
    }
    for x in [-0.42, 0.42] {
        let rail = at(x, 0.0, 0.15) * Mat4::from_rotation_x(-0.70);
        stair.add(&rounded_box(Vec3::new(0.06, 2.0, 0.16), 0.01), rail);
        for k in [0, 3, 5] {
            stair.add(&rounded_box(Vec3::new(0.05, 0.22 * (k + 1) as f32, 0.05), 0.008), at(x, 0.0, -0.26 * k as f32));
        }
    }
    g.object("stair", &stair, wood, at(1.7, 0.0, -2.6) * Mat4::from_rotation_y(2.4));
    let mut table = Mesh::default();
    table.add(&rounded_box(Vec3::new(1.5, 0.06, 0.85), 0.012), at(0.0, 0.76, 0.0));
    for (x, z) in [(-0.66, -0.34), (0.66, -0.34), (-0.66, 0.34), (0.66, 0.34)] {
        table.add(&turned(&[(0.03, 0.0), (0.045, 0.2), (0.03, 0.5), (0.05, 0.72), (0.05, 0.77)], 24), at(x, 0.0, z));
    }
    let table_at = at(-3.3, 0.0, -2.1) * Mat4::from_rotation_y(0.75);
    g.object("table", &table, wood, table_at);
    g.object(
        "chart on the table",
        &quad(Vec3::new(-0.5, 0.0, 0.5), Vec3::X, Vec3::NEG_Z),
        paper,
        table_at * at(0.1, 0.822, 0.0) * Mat4::from_scale(Vec3::splat(0.7)),
    );
    g.object("globe", &sphere(0.19, 48), paper, table_at * at(-0.5, 1.06, -0.05));
    g.object(
        "globe foot",
        &turned(&[(0.0, 0.0), (0.10, 0.0), (0.10, 0.02), (0.015, 0.04), (0.012, 0.07), (0.0, 0.07)], 32),
        brass,
        table_at * at(-0.5, 0.82, -0.05),
    );
    g.object(
        "stool",
        &turned(&[(0.17, 0.0), (0.17, 0.03), (0.05, 0.06), (0.05, 0.42), (0.19, 0.46), (0.20, 0.50), (0.0, 0.51)], 40),
        wood,
        at(-1.9, 0.0, 1.2),
    );

    g.camera("From the stair", Vec3::new(3.6, 1.75, 4.0), Vec3::new(-0.5, 2.35, -0.3), 58.0);
    g.camera("By the table", Vec3::new(-4.6, 1.6, 1.0), Vec3::new(-0.6, 1.7, -1.2), 55.0);
    g.finish()
}
