//! Shapes: turned profiles, rounded boxes, prisms, plates.

use glam::{Mat4, Vec2, Vec3};
use std::f32::consts::TAU;

#[derive(Debug, Clone, Default)]
pub struct Mesh {
    pub positions: Vec<Vec3>,
    pub normals: Vec<Vec3>,
    pub uvs: Vec<Vec2>,
    pub indices: Vec<u32>,
}

impl Mesh {
    pub fn add(&mut self, other: &Mesh, at: Mat4) {
        let base = self.positions.len() as u32;
        self.positions.extend(other.positions.iter().map(|p| at.transform_point3(*p)));
        self.normals.extend(other.normals.iter().map(|n| at.transform_vector3(*n).normalize_or(Vec3::Y)));
        self.uvs.extend(&other.uvs);
        self.indices.extend(other.indices.iter().map(|i| base + i));
    }

    fn vertex(&mut self, p: Vec3, n: Vec3, t: Vec2) -> u32 {
        self.positions.push(p);
        self.normals.push(n);
        self.uvs.push(t);
        self.positions.len() as u32 - 1
    }
}

/// A parallelogram with texture coordinates in metres; normal a × b.
pub fn quad(corner: Vec3, a: Vec3, b: Vec3) -> Mesh {
    let mut m = Mesh::default();
    let n = a.cross(b).normalize();
    let (la, lb) = (a.length(), b.length());
    for (s, t) in [(0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0)] {
        m.vertex(corner + a * s + b * t, n, Vec2::new(s * la, (1.0 - t) * lb));
    }
    m.indices = vec![0, 1, 2, 0, 2, 3];
    m
}

/// A solid of revolution about Y from points (radius, height), in order from bottom outside to top. Edges sharper than 35°
/// stay sharp. The swept angle runs from `from` to `to` (fractions of a turn).
pub fn turned_between(profile: &[(f32, f32)], steps: usize, from: f32, to: f32) -> Mesh {
    let mut m = Mesh::default();
    let p: Vec<Vec2> = profile.iter().map(|(r, y)| Vec2::new(*r, *y)).collect();
    let normal_of = |i: usize| {
        let d = (p[i + 1] - p[i]).normalize_or(Vec2::Y);
        Vec2::new(d.y, -d.x)
    };
    let mut length = 0.0;
    for i in 0..p.len() - 1 {
        let own = normal_of(i);
        let blend = |j: Option<usize>| match j.map(normal_of) {
            Some(n) if n.dot(own) > 35f32.to_radians().cos() => (n + own).normalize(),
            _ => own,
        };
        let lower = blend(i.checked_sub(1));
        let upper = blend((i + 2 < p.len()).then_some(i + 1));
        let next = length + (p[i + 1] - p[i]).length();
        let base = m.positions.len() as u32;
        for k in 0..=steps {
            let a = (from + (to - from) * k as f32 / steps as f32) * TAU;
            let (s, c) = a.sin_cos();
            let around = (to - from) * k as f32 / steps as f32 * TAU * p[i].x.max(p[i + 1].x);
            for (q, n, v) in [(p[i], lower, length), (p[i + 1], upper, next)] {
                m.vertex(Vec3::new(q.x * c, q.y, q.x * s), Vec3::new(n.x * c, n.y, n.x * s), Vec2::new(around, v));
            }
        }
        for k in 0..steps as u32 {
            let (a, b, c, d) = (base + 2 * k, base + 2 * k + 1, base + 2 * k + 2, base + 2 * k + 3);
            m.indices.extend([a, b, d, a, d, c]);
        }
        length = next;
    }
    m
}

pub fn turned(profile: &[(f32, f32)], steps: usize) -> Mesh {
    turned_between(profile, steps, 0.0, 1.0)
}

/// A box with rounded edges, its base centred on the origin.
pub fn rounded_box(size: Vec3, radius: f32) -> Mesh {
    let half = size * 0.5 - Vec3::splat(radius);
    let n = 2usize;
    let mut m = Mesh::default();
    // Six faces as grids whose outer rings bend around the edges.
    let coords: Vec<(f32, f32)> = (0..=2 * n + 1)
        .map(|i| if i <= n { (-1.0, i as f32 / n as f32 - 1.0) } else { (1.0, (i - n - 1) as f32 / n as f32) })
        .collect();
    for axis in 0..3 {
        for sign in [-1.0f32, 1.0] {
            let (u, v) = ((axis + 1) % 3, (axis + 2) % 3);
            let base = m.positions.len() as u32;
            let count = coords.len() as u32;
            for (ci, cb) in &coords {
                for (ri, rb) in &coords {
                    let mut centre = Vec3::ZERO;
                    centre[axis] = sign * half[axis];
                    centre[u] = ci * half[u];
                    centre[v] = ri * half[v];
                    let mut d = Vec3::ZERO;
                    d[axis] = sign;
                    d[u] = (cb * std::f32::consts::FRAC_PI_4).tan();
                    d[v] = (rb * std::f32::consts::FRAC_PI_4).tan();
                    let d = d.normalize();
                    let p = centre + d * radius + Vec3::Y * size.y * 0.5;
                    let t = match axis {
                        0 => Vec2::new(p.z, p.y),
                        1 => Vec2::new(p.x, p.z),
                        _ => Vec2::new(p.x, p.y),
                    };
                    m.vertex(p, d, t);
                }
            }
            for i in 0..count - 1 {
                for j in 0..count - 1 {
                    let a = base + i * count + j;
                    let (b, c, d) = (a + count, a + count + 1, a + 1);
                    if sign > 0.0 {
                        m.indices.extend([a, b, c, a, c, d]);
                    } else {
                        m.indices.extend([a, c, b, a, d, c]);
                    }
                }
            }
        }
    }
    m
}

pub fn sphere(radius: f32, steps: usize) -> Mesh {
    let profile: Vec<(f32, f32)> = (0..=steps / 2)
        .map(|i| {
            let a = i as f32 / (steps / 2) as f32 * std::f32::consts::PI;
            (radius * a.sin(), -radius * a.cos())
        })
        .collect();
    turned(&profile, steps)
}

/// A closed cylinder standing on the origin.
pub fn cylinder(radius: f32, height: f32, steps: usize) -> Mesh {
    turned(&[(0.0, 0.0), (radius, 0.0), (radius, height), (0.0, height)], steps)
}

/// A lens about Y, centred: aperture radius, rim thickness, and how far each side bulges (negative: hollow).
pub fn lens(radius: f32, rim: f32, lower: f32, upper: f32, steps: usize) -> Mesh {
    let rings = 20;
    let sag = |bulge: f32, t: f32| {
        if bulge == 0.0 {
            return 0.0;
        }
        // The sphere through rim and vertex.
        let b = bulge.abs();
        let r = (radius * radius + b * b) / (2.0 * b);
        bulge.signum() * ((r * r - (t * radius).powi(2)).sqrt() - (r - b))
    };
    let mut profile = Vec::new();
    for i in 0..=rings {
        let t = i as f32 / rings as f32;
        profile.push((t * radius, -0.5 * rim - sag(lower, t)));
    }
    for i in 0..=rings {
        let t = 1.0 - i as f32 / rings as f32;
        profile.push((t * radius, 0.5 * rim + sag(upper, t)));
    }
    turned(&profile, steps)
}

/// A triangular prism along X, one face down, centred in X and Z.
pub fn prism(side: f32, length: f32) -> Mesh {
    let h = side * 0.75f32.sqrt();
    let (a, b, c) = (Vec2::new(-0.5 * side, 0.0), Vec2::new(0.5 * side, 0.0), Vec2::new(0.0, h));
    let at = |x: f32, p: Vec2| Vec3::new(x, p.y, p.x);
    let l = 0.5 * length;
    let mut m = Mesh::default();
    for (p, q) in [(a, b), (b, c), (c, a)] {
        let face = quad(at(-l, p), at(-l, q) - at(-l, p), Vec3::X * length);
        // Outwards is away from the prism's axis.
        let middle = 0.5 * (at(0.0, p) + at(0.0, q)) - Vec3::Y * h / 3.0;
        m.add(&if face.normals[0].dot(middle) < 0.0 { flipped(face) } else { face }, Mat4::IDENTITY);
    }
    for (x, order) in [(-l, [a, c, b]), (l, [a, b, c])] {
        let n = Vec3::X * x.signum();
        let v: Vec<u32> = order.iter().map(|p| m.vertex(at(x, *p), n, *p)).collect();
        let face = (m.positions[v[1] as usize] - m.positions[v[0] as usize])
            .cross(m.positions[v[2] as usize] - m.positions[v[0] as usize]);
        m.indices.extend(if face.dot(n) > 0.0 { [v[0], v[1], v[2]] } else { [v[0], v[2], v[1]] });
    }
    m
}

pub fn flipped(mut m: Mesh) -> Mesh {
    m.normals.iter_mut().for_each(|n| *n = -*n);
    m.indices.chunks_exact_mut(3).for_each(|t| t.swap(1, 2));
    m
}

pub fn at(x: f32, y: f32, z: f32) -> Mat4 {
    Mat4::from_translation(Vec3::new(x, y, z))
}
