//! Drawing directions: of one kind of scattering, or of all kinds at once.

use super::*;

/// A direction of the upper half space with density cos/π.
pub fn cosine_weighted(u: Vec2) -> Vec3 {
    let (r, phi) = (u.x.sqrt(), TAU * u.y);
    let (sin, cos) = phi.sin_cos();
    Vec3::new(r * cos, r * sin, (1.0 - u.x).max(0.0).sqrt())
}

/// A direction of the upper half space for light that bounced more than once between microfacets: half by the cosine, half
/// evenly, since more of it than of the cosine leaves at grazing angles. Drawn by the cosine alone, weights of up to three
/// would multiply over the bounces inside a solid.
fn broad(u: Vec2) -> Vec3 {
    if u.x < 0.5 {
        return cosine_weighted(Vec2::new(2.0 * u.x, u.y));
    }
    let z = 2.0 * u.x - 1.0;
    let (sin, cos) = (TAU * u.y).sin_cos();
    let r = (1.0 - z * z).max(0.0).sqrt();
    Vec3::new(r * cos, r * sin, z)
}

impl Bsdf<'_> {
    /// Draws one direction for all kinds; none when it leads nowhere. For a perfect mirror or window its weight is over the chance
    /// among all kinds.
    pub fn sample_any(&self, choice: f32, turn: f32, u: Vec2) -> Option<(Kind, Scatter)> {
        let m = &self.mixture;
        if choice < m.diffuse {
            return Some((Kind::Diffuse, self.finish(cosine_weighted(u), true)?));
        }
        let choice = choice - m.diffuse;
        if choice < m.reflecting {
            let others = 1.0 - self.reflecting.glass;
            let s = self.reflect(choice / m.reflecting * others, u)?;
            let singular = s.singular.map(|f| f * (others / m.reflecting));
            return Some((Kind::Reflection, Scatter { singular, ..s }));
        }
        let choice = choice - m.reflecting;
        if choice < m.broad_through {
            return Some((Kind::Transmission, self.pass(0.0, u)?));
        }
        if m.glass <= 0.0 {
            return None;
        }
        let h = self.microfacet(u);
        let cos = self.wo.dot(h);
        let mirrors = self.mirrors(cos);
        if m.bouncing_on > 0.0 {
            let mirrored = turn < mirrors;
            let wi = if mirrored {
                Some(2.0 * cos * h - self.wo).filter(|w| w.z > 0.0)
            } else {
                self.through(h, cos).filter(|w| w.z < 0.0)
            };
            let share = match wi {
                Some(w) if mirrored => ggx::g2(self.wo, w, self.alpha) / ggx::g1(self.wo, self.alpha),
                Some(w) if self.solid => ggx::g1(w, self.alpha),
                Some(w) => ggx::g2(self.wo, Vec3::new(w.x, w.y, -w.z), self.alpha) / ggx::g1(self.wo, self.alpha),
                None => 0.0,
            };
            // What is left of numbers that were used for a decision is even again.
            let rest = (choice - m.broad_through) / m.glass;
            if rest >= share {
                let rest = (rest - share) / (1.0 - share).max(1e-6);
                let first = if mirrored { turn / mirrors } else { (turn - mirrors) / (1.0 - mirrors) };
                let passes = rest < self.passing;
                let second = if passes { rest / self.passing } else { (rest - self.passing) / (1.0 - self.passing) };
                let w = broad(Vec2::new(first, second.clamp(0.0, 1.0)));
                return Some(if passes {
                    (Kind::Transmission, self.finish(Vec3::new(w.x, w.y, -w.z), false)?)
                } else {
                    (Kind::Reflection, self.finish(w, true)?)
                });
            }
        }
        let (kind, s, own, chance) = if turn < mirrors {
            // Glass is the last lobe of reflection.
            (Kind::Reflection, self.reflect(1.0, u)?, self.reflecting.glass, mirrors)
        } else {
            (Kind::Transmission, self.pass(1.0, u)?, 1.0, 1.0 - mirrors)
        };
        let singular = s.singular.map(|f| f * (own / (m.glass * chance)));
        Some((kind, Scatter { singular, ..s }))
    }

    /// Where light goes that a microfacet of glass lets through; none at total reflection.
    fn through(&self, h: Vec3, cos: f32) -> Option<Vec3> {
        if self.solid {
            return fresnel::refract(self.wo, h, self.eta);
        }
        let r = 2.0 * cos * h - self.wo;
        Some(Vec3::new(r.x, r.y, -r.z))
    }

    /// A normal of the layer's and of glass's microfacets that `wo` sees.
    fn microfacet(&self, u: Vec2) -> Vec3 {
        if self.smooth() { Vec3::Z } else { ggx::sample_visible(self.wo, self.alpha, u) }
    }

    /// Draws a direction of a kind; none when it leads nowhere.
    pub fn sample(&self, kind: Kind, choice: f32, u: Vec2) -> Option<Scatter> {
        match kind {
            Kind::Diffuse => self.finish(cosine_weighted(u), true),
            Kind::Reflection => self.reflect(choice, u),
            Kind::Transmission => self.pass(choice, u),
        }
    }

    fn reflect(&self, choice: f32, u: Vec2) -> Option<Scatter> {
        let r = &self.reflecting;
        if choice < r.coat {
            let c = self.coat.as_ref()?;
            let smooth = c.alpha < SMOOTH;
            let h = if smooth { Vec3::Z } else { ggx::sample_visible(c.wo, Vec2::splat(c.alpha), u) };
            let cos = c.wo.dot(h);
            let direction = c.frame * (2.0 * cos * h - c.wo);
            let wi = self.frame.transpose() * direction;
            if smooth {
                let f = fresnel::schlick(Vec3::splat(COAT_F0), 1.0, cos) * (c.strength / r.coat);
                return self.singular(wi, f, true);
            }
            return self.finish(wi, true);
        }
        let choice = choice - r.coat;
        if choice < r.broad {
            return self.finish(broad(u), true);
        }
        let choice = choice - r.broad;
        let smooth = self.smooth();
        let h = self.microfacet(u);
        let cos = self.wo.dot(h);
        if cos <= 0.0 {
            return None;
        }
        let wi = 2.0 * cos * h - self.wo;
        if !smooth {
            return self.finish(wi, true);
        }
        let left = self.left_both(wi);
        if choice < r.layer {
            let f = fresnel::schlick(self.f0, self.f90, cos) * (left * (1.0 - self.glass) / r.layer);
            return self.singular(wi, f, true);
        }
        (r.glass > 0.0).then_some(())?;
        self.singular(wi, Vec3::splat(left * self.glass * self.fresnel(cos) / r.glass), true)
    }

    /// What coat and sheen leave of light that a perfect mirror below them reflects.
    fn left_both(&self, wi: Vec3) -> f32 {
        let mut left = 1.0;
        if let Some(c) = &self.coat {
            let other = c.layer.look(c.frame.transpose() * (self.frame * wi));
            left *= c.lets_through(other.albedo.x);
        }
        if let Some(f) = &self.fuzz {
            left *= 1.0 - f.taken.max(f.colour.max_element() * energy::sheen_albedo(wi.z, f.roughness));
        }
        left
    }

    fn pass(&self, choice: f32, u: Vec2) -> Option<Scatter> {
        if choice < self.broad_through {
            let w = broad(u);
            return self.finish(Vec3::new(w.x, w.y, -w.z), false);
        }
        let smooth = self.smooth();
        let h = self.microfacet(u);
        let cos = self.wo.dot(h);
        if cos <= 0.0 {
            return None;
        }
        let wi = self.through(h, cos)?;
        if !smooth {
            return self.finish(wi, false);
        }
        let scale = if self.solid { 1.0 / (self.eta * self.eta) } else { 1.0 };
        let left = self.left_through(wi);
        self.singular(wi, self.tint * (left * self.glass * (1.0 - self.fresnel(cos)) * scale), false)
    }

    fn on_right_side(&self, wi: Vec3, above: bool) -> bool {
        let geometric = wi.dot(self.geometric) > 0.0;
        if above { wi.z > 0.0 && geometric } else { wi.z < 0.0 && !geometric }
    }

    fn singular(&self, wi: Vec3, weight: Vec3, above: bool) -> Option<Scatter> {
        self.on_right_side(wi, above)
            .then(|| Scatter { direction: (self.frame * wi).normalize(), singular: Some(weight) })
    }

    fn finish(&self, wi: Vec3, above: bool) -> Option<Scatter> {
        self.on_right_side(wi, above).then(|| Scatter { direction: (self.frame * wi).normalize(), singular: None })
    }
}
