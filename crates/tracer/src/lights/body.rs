//! Lights with a place: how a point on each is drawn, and with which density. Spheres by the cone that they fill (Shirley,
//! Wang and Zimmerman 1996), flat shapes evenly over their area, triangles after Heitz (2019).

use super::lum;
use super::tree::{Cone, Leaf};
use crate::bvh::NONE;
use glam::{Vec2, Vec3};
use picture::luminance;
use scene::{Alpha, Light, LightKind, Mesh, Scene, Triangle};
use std::f32::consts::{FRAC_PI_2, PI, TAU};

/// Where a light ray leads.
#[derive(Debug, Clone, Copy)]
pub enum Target {
    /// To a point.
    Point(Vec3),
    /// In a direction without end.
    Direction(Vec3),
}

/// A chosen point of a light as seen from a point.
#[derive(Debug, Clone, Copy)]
pub struct LightSample {
    pub direction: Vec3,
    /// To the light; infinite for sky and suns.
    pub distance: f32,
    /// For triangles: instance, triangle and barycentric weights of its second and third corner. The caller looks up the
    /// radiance there, and `light` is 1 ÷ density.
    pub emitter: Option<(u32, u32, f32, f32)>,
    /// Radiance ÷ density.
    pub light: Vec3,
    /// Density for multiple importance sampling; none for lights that a ray cannot meet.
    pub pdf: Option<f32>,
    /// From the point on the light to where a ray to it ends: off a triangle of the scene by its rounding error, so that it does
    /// not shadow itself.
    pub off: Vec3,
}

impl LightSample {
    pub fn far(direction: Vec3, light: Vec3, pdf: Option<f32>) -> LightSample {
        LightSample { direction, distance: f32::INFINITY, emitter: None, light, pdf, off: Vec3::ZERO }
    }

    /// Where a ray from the point that the sample was drawn for leads.
    pub fn end(&self, from: Vec3) -> Target {
        if self.distance.is_finite() {
            Target::Point(from + self.direction * self.distance + self.off)
        } else {
            Target::Direction(self.direction)
        }
    }
}

/// The fall-off of a spot: unit direction in which it shines, cosines of the inner and outer angle.
#[derive(Debug, Clone, Copy)]
pub struct Beam {
    direction: Vec3,
    cos_inner: f32,
    cos_outer: f32,
}

impl Beam {
    /// Share of the intensity that leaves in direction `w`: the formula of KHR_lights_punctual.
    fn share(&self, w: Vec3) -> f32 {
        let t = (self.direction.dot(w) - self.cos_outer) / (self.cos_inner - self.cos_outer).max(1e-4);
        t.clamp(0.0, 1.0).powi(2)
    }
}

pub enum Body {
    Triangle {
        corners: [Vec3; 3],
        /// Unit normal to the front.
        normal: Vec3,
        area: f32,
        both_sides: bool,
        instance: u32,
        triangle: u32,
        power: f32,
        /// Rounding error of its points, metres.
        room: f32,
    },
    Point {
        position: Vec3,
        intensity: Vec3,
        beam: Option<Beam>,
    },
    Sphere {
        centre: Vec3,
        radius: f32,
        radiance: Vec3,
        beam: Option<Beam>,
    },
    /// A parallelogram or the ellipse inside it, seen from the front.
    Flat {
        centre: Vec3,
        /// Half the edges.
        a: Vec3,
        b: Vec3,
        normal: Vec3,
        round: bool,
        radiance: Vec3,
    },
}

/// A direction in a cone about an axis, evenly over its solid angle. The cone is given by 1 − the cosine of half its angle, which
/// tells small angles apart that have the same cosine.
pub fn draw_cone(axis: Vec3, opening: f32, u: Vec2) -> (Vec3, f32) {
    let below = u.x * opening;
    let sin = (below * (2.0 - below)).max(0.0).sqrt();
    let (s, c) = (TAU * u.y).sin_cos();
    let (t, b) = axis.any_orthonormal_pair();
    ((t * (sin * c) + b * (sin * s) + axis * (1.0 - below)).normalize(), cone_pdf(opening))
}

pub fn cone_pdf(opening: f32) -> f32 {
    1.0 / (TAU * opening).max(1e-30)
}

/// 1 − cos of an angle from the square of its sine, without cancellation; for angles up to 90°.
fn opening_of(sin2: f32) -> f32 {
    sin2 / (1.0 + (1.0 - sin2).max(0.0).sqrt())
}

impl Body {
    pub fn punctual(l: &Light, intensity: Vec3, radius: f32) -> Body {
        let beam = match l.kind {
            LightKind::Spot { cos_inner, cos_outer } => Some(Beam { direction: l.direction, cos_inner, cos_outer }),
            _ => None,
        };
        if radius > 0.0 {
            return Body::Sphere { centre: l.position, radius, radiance: intensity / (PI * radius * radius), beam };
        }
        Body::Point { position: l.position, intensity, beam }
    }

    pub fn sphere(centre: Vec3, radius: f32, radiance: Vec3) -> Body {
        Body::Sphere { centre, radius, radiance, beam: None }
    }

    pub fn disc(centre: Vec3, normal: Vec3, radius: f32, radiance: Vec3) -> Body {
        let (a, b) = normal.any_orthonormal_pair();
        Body::Flat { centre, a: a * radius, b: b * radius, normal, round: true, radiance }
    }

    /// Its height lies as close to the vertical as its direction allows.
    pub fn rectangle(centre: Vec3, normal: Vec3, width: f32, height: f32, radiance: Vec3) -> Body {
        let across = scene::up_beside(normal).cross(normal).normalize();
        let (a, b) = (across * (0.5 * width), normal.cross(across) * (0.5 * height));
        Body::Flat { centre, a, b, normal, round: false, radiance }
    }

    /// An emitting triangle; none without area.
    pub fn triangle(scene: &Scene, mesh: &Mesh, instance: u32, triangle: u32) -> Option<Body> {
        let t = &mesh.triangles[triangle as usize];
        let m = &scene.materials[t.material as usize];
        let mut corners = mesh.corners(t);
        let size = |c: &[Vec3; 3]| c.iter().fold(0.0f32, |most, c| most.max(c.abs().max_element()));
        let (mut mirrored, mut largest) = (false, size(&corners));
        if instance != NONE {
            let place = &scene.instances[instance as usize].to_world;
            corners = corners.map(|p| place.transform_point3(p));
            // Rays are tested in the mesh's own space, where the same error may be larger.
            let m = place.matrix3;
            largest *= m.x_axis.abs().max(m.y_axis.abs()).max(m.z_axis.abs()).max_element();
            largest = 2.0 * largest.max(size(&corners));
            mirrored = place.matrix3.determinant() < 0.0;
        }
        let normal = (corners[1] - corners[0]).cross(corners[2] - corners[0]) * if mirrored { -1.0 } else { 1.0 };
        let area = 0.5 * normal.length();
        if !(area > 0.0 && area.is_finite()) {
            return None;
        }
        let textured = mean_over(scene, mesh, t);
        let sides = if m.double_sided { 2.0 } else { 1.0 };
        let power = (lum(m.emission) * textured * area * PI * sides).max(1e-12);
        let normal = normal.normalize();
        Some(Body::Triangle {
            corners,
            normal,
            area,
            both_sides: m.double_sided,
            instance,
            triangle,
            power,
            room: 2e-6 * largest,
        })
    }

    /// A light that sends nothing.
    pub fn nothing() -> Body {
        Body::Point { position: Vec3::ZERO, intensity: Vec3::ZERO, beam: None }
    }

    /// Rays can meet it, and it is no triangle of the scene.
    pub fn has_shape(&self) -> bool {
        matches!(self, Body::Sphere { .. } | Body::Flat { .. })
    }

    pub fn centre(&self) -> Vec3 {
        match self {
            Body::Triangle { corners: [a, b, c], .. } => (*a + *b + *c) / 3.0,
            Body::Point { position, .. } => *position,
            Body::Sphere { centre, .. } | Body::Flat { centre, .. } => *centre,
        }
    }

    pub fn leaf(&self) -> Leaf {
        let beam_cone = |beam: &Option<Beam>| match beam {
            // Beyond the beam's edge there is no light: the cone with its 90° must reach just that far.
            Some(b) => Cone { axis: b.direction, spread: (b.cos_outer.acos() - FRAC_PI_2).max(0.0) },
            None => Cone::ALL,
        };
        let beam_share = |beam: &Option<Beam>| beam.map_or(4.0 * PI, |b| TAU * (1.0 - b.cos_outer));
        match self {
            Body::Triangle { corners: [a, b, c], normal, both_sides, power, .. } => {
                let spread = if *both_sides { PI } else { 0.0 };
                let cone = Cone { axis: *normal, spread };
                Leaf { lo: a.min(*b).min(*c), hi: a.max(*b).max(*c), cone, power: *power }
            }
            Body::Point { position, intensity, beam } => Leaf {
                lo: *position,
                hi: *position,
                cone: beam_cone(beam),
                power: (lum(*intensity) * beam_share(beam)).max(1e-12),
            },
            Body::Sphere { centre, radius, radiance, beam } => Leaf {
                lo: *centre - *radius,
                hi: *centre + *radius,
                cone: if beam.is_some() { Cone { axis: beam_cone(beam).axis, spread: FRAC_PI_2 } } else { Cone::ALL },
                power: (lum(*radiance) * PI * radius * radius * beam_share(beam)).max(1e-12),
            },
            Body::Flat { centre, a, b, normal, round, radiance } => {
                let reach = a.abs() + b.abs();
                let area = a.cross(*b).length() * if *round { PI } else { 4.0 };
                let cone = Cone { axis: *normal, spread: 0.0 };
                Leaf { lo: *centre - reach, hi: *centre + reach, cone, power: (lum(*radiance) * area * PI).max(1e-12) }
            }
        }
    }

    pub fn sample(&self, from: Vec3, u: Vec2) -> Option<LightSample> {
        match self {
            Body::Triangle { corners, instance, triangle, .. } => {
                let (mut b0, mut b1) = (0.5 * u.x, u.y - 0.5 * u.x);
                if u.y <= u.x {
                    (b0, b1) = (u.x - 0.5 * u.y, 0.5 * u.y);
                }
                let point = corners[0] * (1.0 - b0 - b1) + corners[1] * b0 + corners[2] * b1;
                self.towards(from, point, Vec3::ONE, Some((*instance, *triangle, b0, b1)))
            }
            Body::Point { position, intensity, beam } => {
                let to = *position - from;
                let d2 = to.length_squared();
                let direction = to / d2.sqrt();
                let share = beam.map_or(1.0, |b| b.share(-direction));
                let light = *intensity * (share / d2);
                (light.max_element() > 0.0 && light.is_finite()).then(|| LightSample {
                    direction,
                    distance: d2.sqrt(),
                    emitter: None,
                    light,
                    pdf: None,
                    off: Vec3::ZERO,
                })
            }
            Body::Sphere { centre, radius, .. } => {
                let to = *centre - from;
                let d2 = to.length_squared();
                let r2 = radius * radius;
                if d2 <= r2 * 1.000_1 {
                    // From inside every direction leads to it.
                    let z = 1.0 - 2.0 * u.x;
                    let r = (1.0 - z * z).max(0.0).sqrt();
                    let (s, c) = (TAU * u.y).sin_cos();
                    return self.met(from, Vec3::new(r * c, r * s, z), 1.0 / (4.0 * PI));
                }
                let (direction, pdf) = draw_cone(to / d2.sqrt(), opening_of(r2 / d2), u);
                self.met(from, direction, pdf)
            }
            Body::Flat { centre, a, b, round, radiance, .. } => {
                let (x, y) = if *round {
                    let (s, c) = (TAU * u.y).sin_cos();
                    (u.x.sqrt() * c, u.x.sqrt() * s)
                } else {
                    (2.0 * u.x - 1.0, 2.0 * u.y - 1.0)
                };
                self.towards(from, *centre + *a * x + *b * y, *radiance, None)
            }
        }
    }

    fn towards(
        &self,
        from: Vec3,
        point: Vec3,
        radiance: Vec3,
        emitter: Option<(u32, u32, f32, f32)>,
    ) -> Option<LightSample> {
        let to = point - from;
        let distance = to.length();
        let direction = to / distance;
        let pdf = self.pdf(from, direction, distance);
        let light = radiance / pdf;
        let off = match self {
            // The direction's rounding moves the end aside as well.
            Body::Triangle { normal, room, .. } => {
                *normal * ((room + 4e-7 * distance) * -normal.dot(direction).signum())
            }
            _ => Vec3::ZERO,
        };
        (pdf > 0.0 && pdf.is_finite()).then_some(LightSample {
            direction,
            distance,
            emitter,
            light,
            pdf: Some(pdf),
            off,
        })
    }

    /// A direction towards a sphere, drawn with a density.
    fn met(&self, from: Vec3, direction: Vec3, pdf: f32) -> Option<LightSample> {
        let (distance, radiance) = self.meet(from, direction, f32::INFINITY).or_else(|| {
            // A direction on the very edge may miss by rounding: the nearest point stands for it.
            let Body::Sphere { centre, radiance, beam, .. } = self else { return None };
            Some(((*centre - from).dot(direction), *radiance * beam.map_or(1.0, |b| b.share(-direction))))
        })?;
        Some(LightSample { direction, distance, emitter: None, light: radiance / pdf, pdf: Some(pdf), off: Vec3::ZERO })
    }

    /// Density of [`Body::sample`] for a direction that leads to the light at a distance.
    pub fn pdf(&self, from: Vec3, direction: Vec3, distance: f32) -> f32 {
        let over_area = |cos: f32, area: f32| if cos > 0.0 { distance * distance / (area * cos) } else { 0.0 };
        match self {
            Body::Triangle { normal, area, both_sides, .. } => {
                let cos = -normal.dot(direction);
                over_area(if *both_sides { cos.abs() } else { cos }, *area)
            }
            Body::Point { .. } => 0.0,
            Body::Sphere { centre, radius, .. } => {
                let (r2, d2) = (radius * radius, (*centre - from).length_squared());
                if d2 <= r2 * 1.000_1 { 1.0 / (4.0 * PI) } else { cone_pdf(opening_of(r2 / d2)) }
            }
            Body::Flat { a, b, normal, round, .. } => {
                over_area(-normal.dot(direction), a.cross(*b).length() * if *round { PI } else { 4.0 })
            }
        }
    }

    /// Where a ray meets the shape, and the radiance it gets from there.
    pub fn meet(&self, origin: Vec3, direction: Vec3, far: f32) -> Option<(f32, Vec3)> {
        match self {
            Body::Sphere { centre, radius, radiance, beam } => {
                let to = *centre - origin;
                let along = to.dot(direction);
                // From the closest point: no cancellation for small spheres far away.
                let off2 = (to - direction * along).length_squared();
                let half = (radius * radius - off2).max(-1.0);
                if half < 0.0 {
                    return None;
                }
                let half = half.sqrt();
                let near = along - half;
                let distance = if near > 1e-4 * radius { near } else { along + half };
                let share = beam.map_or(1.0, |b| b.share(-direction));
                (distance > 0.0 && distance < far && share > 0.0).then(|| (distance, *radiance * share))
            }
            Body::Flat { centre, a, b, normal, round, radiance } => {
                let cos = -normal.dot(direction);
                if cos <= 0.0 {
                    return None;
                }
                let distance = (origin - *centre).dot(*normal) / cos;
                if !(distance > 0.0 && distance < far) {
                    return None;
                }
                let at = origin + direction * distance - *centre;
                let (x, y) = (at.dot(*a) / a.length_squared(), at.dot(*b) / b.length_squared());
                let inside = if *round { x * x + y * y <= 1.0 } else { x.abs() <= 1.0 && y.abs() <= 1.0 };
                inside.then_some((distance, *radiance))
            }
            _ => None,
        }
    }
}

/// Mean over a triangle of its emission texture's luminance and of the share of the surface that is there, from a grid of points
/// inside it. What is small enough to fall between the points is drawn too seldom, never missed: see the floor of `power`.
fn mean_over(scene: &Scene, mesh: &Mesh, t: &Triangle) -> f32 {
    let m = &scene.materials[t.material as usize];
    let alpha = m.alpha != Alpha::Opaque;
    if m.emissive_texture.is_none() && !alpha {
        return 1.0;
    }
    let n = 12;
    let (mut sum, mut count) = (0.0, 0);
    for i in 0..n {
        for j in 0..n - i {
            let (u, v) = ((i as f32 + 1.0 / 3.0) / n as f32, (j as f32 + 1.0 / 3.0) / n as f32);
            let shown = if alpha { m.alpha_at(&scene.textures, mesh, t, u, v) } else { 1.0 };
            let light = m.emissive_texture.map_or(1.0, |tex| {
                luminance(tex.rgb(&scene.textures, mesh.uv_at(t, tex.set as usize, u, v)).to_array())
            });
            sum += light * shown;
            count += 1;
        }
    }
    sum / count as f32
}
