//! The sky over Tarnfell at dusk as a Radiance HDR picture: a bright band where the sun has just gone, a small moon.

use glam::Vec3;

const WIDTH: usize = 1024;
const HEIGHT: usize = 512;

/// Direction of the moon, towards it.
pub fn moon() -> Vec3 {
    Vec3::new(-0.42, 0.72, 0.38).normalize()
}

/// 1024×512 pixels; the middle column is −Z, the top row +Y.
pub fn tarnfell_dusk() -> Vec<u8> {
    let moon = moon();
    let glow = Vec3::new(-0.8, 0.02, 0.6).normalize();
    let pixels: Vec<image::Rgb<f32>> = (0..WIDTH * HEIGHT)
        .map(|i| {
            let u = ((i % WIDTH) as f32 + 0.5) / WIDTH as f32;
            let v = ((i / WIDTH) as f32 + 0.5) / HEIGHT as f32;
            let (sp, cp) = ((u - 0.5) * std::f32::consts::TAU).sin_cos();
            let (st, ct) = (v * std::f32::consts::PI).sin_cos();
            let d = Vec3::new(st * sp, ct, -st * cp);
            let up = d.y.max(0.0);
            let towards = d.dot(glow).max(0.0);
            let mut c = Vec3::new(0.16, 0.24, 0.44).lerp(Vec3::new(0.035, 0.06, 0.15), up.powf(0.55));
            c += Vec3::new(1.9, 0.85, 0.34) * towards.powi(5) * (-7.0 * up).exp();
            c += Vec3::new(0.5, 0.32, 0.22) * towards.powi(2) * (-3.0 * up).exp() * 0.6;
            // Hills below the horizon.
            if d.y < 0.0 {
                c = Vec3::new(0.018, 0.02, 0.024) + c * 0.1 * (1.0 + d.y);
            }
            let off = d.angle_between(moon).to_degrees();
            c += Vec3::new(1.0, 0.95, 0.86) * 420.0 * (1.0 - ((off - 1.2) / 0.35).clamp(0.0, 1.0));
            c += Vec3::new(0.4, 0.42, 0.5) * 0.9 * (-off / 5.0).exp();
            image::Rgb(c.to_array())
        })
        .collect();
    let mut out = Vec::new();
    // Writing to memory cannot fail.
    let _ = image::codecs::hdr::HdrEncoder::new(&mut out).encode(&pixels, WIDTH, HEIGHT);
    out
}
