//! Painted textures: wood, leather, plaster, stone and a star chart, from value noise. Tileable where they repeat.

use picture::{View, files};

fn hash(x: i32, y: i32, salt: u32) -> f32 {
    let mut h =
        (x as u32).wrapping_mul(0x8da6_b343) ^ (y as u32).wrapping_mul(0xd816_3841) ^ salt.wrapping_mul(0xcb1a_b31f);
    h = (h ^ (h >> 15)).wrapping_mul(0x2c1b_3c6d);
    h = (h ^ (h >> 12)).wrapping_mul(0x297a_2d39);
    (h ^ (h >> 15)) as f32 / u32::MAX as f32
}

/// Smooth noise 0…1 with `cells` per tile.
fn noise(u: f32, v: f32, cells: (i32, i32), salt: u32) -> f32 {
    let (x, y) = (u * cells.0 as f32, v * cells.1 as f32);
    let (fx, fy) = (x.floor(), y.floor());
    let smooth = |t: f32| t * t * (3.0 - 2.0 * t);
    let (tx, ty) = (smooth(x - fx), smooth(y - fy));
    let at = |dx: i32, dy: i32| hash((fx as i32 + dx).rem_euclid(cells.0), (fy as i32 + dy).rem_euclid(cells.1), salt);
    let lerp = |a: f32, b: f32, t: f32| a + (b - a) * t;
    lerp(lerp(at(0, 0), at(1, 0), tx), lerp(at(0, 1), at(1, 1), tx), ty)
}

fn layered(u: f32, v: f32, cells: (i32, i32), layers: u32, salt: u32) -> f32 {
    let (mut sum, mut weight, mut k) = (0.0, 0.0, 1.0);
    for l in 0..layers {
        sum += k * noise(u, v, (cells.0 << l, cells.1 << l), salt + l);
        weight += k;
        k *= 0.5;
    }
    sum / weight
}

fn png(size: (u32, u32), f: impl Fn(f32, f32) -> [f32; 3]) -> Vec<u8> {
    let pixels: Vec<[f32; 3]> = (0..size.0 * size.1)
        .map(|i| f((i % size.0) as f32 / size.0 as f32, (i / size.0) as f32 / size.1 as f32))
        .collect();
    let mut out = Vec::new();
    files::png(&mut out, &pixels, size, &View::PLAIN, files::PngForm::PLAIN).unwrap_or_default();
    out
}

fn blend(a: [f32; 3], b: [f32; 3], t: f32) -> [f32; 3] {
    std::array::from_fn(|c| a[c] + (b[c] - a[c]) * t.clamp(0.0, 1.0))
}

/// Boards along u, one tile = one metre with four boards.
pub fn wood(dark: [f32; 3], light: [f32; 3]) -> Vec<u8> {
    png((512, 512), |u, v| {
        let board = (v * 4.0).floor();
        let shift = hash(board as i32, 7, 3);
        let warp = layered(u, v, (2, 8), 3, 11);
        let grain = layered((u + shift).fract(), (v + 0.06 * warp).fract(), (3, 64), 3, 21 + board as u32);
        let seam = ((v * 4.0).fract() - 0.5).abs() * 2.0;
        let tone = 0.75 * grain + 0.35 * (shift - 0.5);
        let c = blend(dark, light, tone);
        c.map(|x| x * if seam > 0.985 { 0.35 } else { 1.0 })
    })
}

/// Encodes a height field as a tangent-space normal map. The values are data, so the sRGB curve is undone.
fn bump(size: u32, strength: f32, height: impl Fn(f32, f32) -> f32) -> Vec<u8> {
    let e = 1.0 / size as f32;
    png((size, size), |u, v| {
        let dx = (height((u + e).fract(), v) - height((u + 1.0 - e).fract(), v)) * strength;
        let dy = (height(u, (v + e).fract()) - height(u, (v + 1.0 - e).fract())) * strength;
        let l = (dx * dx + dy * dy + 1.0).sqrt();
        [-dx / l, dy / l, 1.0 / l].map(|n| picture::srgb_decode(0.5 * n + 0.5))
    })
}

/// Pebbled leather.
pub fn leather_bumps() -> Vec<u8> {
    bump(256, 3.0, |u, v| {
        // Distance to the nearest of jittered points makes cells.
        let n = 14;
        let (x, y) = (u * n as f32, v * n as f32);
        let mut nearest = 9.0f32;
        for dy in -1..=1 {
            for dx in -1..=1 {
                let (cx, cy) = (x.floor() as i32 + dx, y.floor() as i32 + dy);
                let (wx, wy) = (cx.rem_euclid(n), cy.rem_euclid(n));
                let px = cx as f32 + hash(wx, wy, 1);
                let py = cy as f32 + hash(wx, wy, 2);
                nearest = nearest.min((px - x).powi(2) + (py - y).powi(2));
            }
        }
        1.0 - nearest.min(1.0).sqrt() * 0.9
    })
}

pub fn plaster_bumps() -> Vec<u8> {
    bump(256, 1.6, |u, v| layered(u, v, (8, 8), 4, 5))
}

pub fn plaster(tone: [f32; 3]) -> Vec<u8> {
    png((256, 256), |u, v| {
        let k = 0.88 + 0.12 * layered(u, v, (3, 3), 5, 41);
        tone.map(|x| x * k)
    })
}

/// Stone slabs, one tile = two slabs each way.
pub fn slabs(a: [f32; 3], b: [f32; 3]) -> Vec<u8> {
    png((512, 512), |u, v| {
        let (i, j) = ((u * 2.0) as i32, (v * 2.0) as i32);
        let edge = ((u * 2.0).fract() - 0.5).abs().max(((v * 2.0).fract() - 0.5).abs());
        let c = blend(a, b, if (i + j) % 2 == 0 { 0.0 } else { 1.0 });
        let vein = layered(u, v, (4, 4), 5, 77);
        c.map(|x| x * (0.8 + 0.35 * vein) * if edge > 0.485 { 0.45 } else { 1.0 })
    })
}

/// A sheet with circles, hour lines and stars of the sky over Tarnfell.
pub fn star_chart() -> Vec<u8> {
    png((512, 512), |u, v| {
        let paper = 0.9 - 0.12 * layered(u, v, (5, 5), 4, 9);
        let mut c = [0.80 * paper, 0.74 * paper, 0.60 * paper];
        let ink = [0.06, 0.09, 0.16];
        let (x, y) = (u - 0.5, v - 0.5);
        let r = (x * x + y * y).sqrt();
        let line = |d: f32, w: f32| (1.0 - (d.abs() / w)).clamp(0.0, 1.0);
        for k in 1..=4 {
            c = blend(c, ink, 0.8 * line(r - 0.11 * k as f32, 0.0028));
        }
        if r < 0.44 && r > 0.03 {
            let turn = y.atan2(x) / std::f32::consts::TAU * 24.0;
            let off = (turn - turn.round()).abs() * r * std::f32::consts::TAU / 24.0;
            c = blend(c, ink, 0.55 * line(off, 0.0018));
        }
        for i in 0..90 {
            let a = hash(i, 1, 5) * std::f32::consts::TAU;
            let s = 0.43 * hash(i, 2, 5).sqrt();
            let size = 0.002 + 0.006 * hash(i, 3, 5).powi(3);
            let d = ((x - s * a.cos()).powi(2) + (y - s * a.sin()).powi(2)).sqrt();
            c = blend(c, ink, ((size - d) / 0.002 + 0.5).clamp(0.0, 1.0));
        }
        c
    })
}

/// Lines of handwriting, too small to read.
pub fn notes() -> Vec<u8> {
    png((256, 256), |u, v| {
        let paper = 0.92 - 0.08 * layered(u, v, (4, 4), 3, 15);
        let row = (v * 22.0).floor();
        let in_row = (v * 22.0).fract();
        let inside = u > 0.1 && u < 0.72 + 0.2 * hash(row as i32, 0, 8) && v > 0.08 && v < 0.92;
        let stroke = noise(u, row / 22.0, (70, 22), 31) * 0.5 + 0.25;
        let written = inside && (in_row - stroke).abs() < 0.09 && noise(u, v, (18, 22), 33) > 0.3;
        let c = [0.86 * paper, 0.82 * paper, 0.72 * paper];
        if written { blend(c, [0.08, 0.08, 0.2], 0.8) } else { c }
    })
}

/// A woven pattern of small checks and stripes.
pub fn checks() -> Vec<u8> {
    png((512, 512), |u, v| {
        let check = ((u * 24.0).floor() + (v * 24.0).floor()).rem_euclid(2.0) > 0.5;
        let stripe = (u * 8.0).fract() < 0.12 || (v * 8.0).fract() < 0.12;
        let thread = 0.85 + 0.15 * noise(u, v, (128, 128), 51);
        let c = if stripe {
            [0.55, 0.10, 0.08]
        } else if check {
            [0.62, 0.58, 0.48]
        } else {
            [0.16, 0.20, 0.30]
        };
        c.map(|x: f32| x * thread)
    })
}
