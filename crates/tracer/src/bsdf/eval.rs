//! What a surface scatters from one given direction into another, with the density of drawing it: lobe by lobe, from the top.

use super::*;

impl Bsdf<'_> {
    /// f·|cos| and density for a world direction, by kind.
    pub fn eval(&self, direction: Vec3) -> Eval {
        let wi = self.frame.transpose() * direction;
        let above = wi.dot(self.geometric) > 0.0;
        let mut e = Eval::default();
        if wi.z > 0.0 && above {
            self.eval_above(wi, direction, &mut e);
        } else if wi.z < 0.0 && !above && self.weights[2] > 0.0 && !self.smooth() {
            self.eval_below(wi, &mut e);
        }
        e
    }

    fn eval_above(&self, wi: Vec3, direction: Vec3, e: &mut Eval) {
        let even = wi.z * FRAC_1_PI;
        // What coat and sheen leave of the light for the layers below, for matte and for other lobes.
        let (mut matte, mut left, mut returned) = (Vec3::ONE, Vec3::ONE, 0.0);
        if let Some(c) = &self.coat {
            let wi_c = c.frame.transpose() * direction;
            if wi_c.z > 0.0 {
                let look = c.layer.look(wi_c);
                let both = (1.0 - c.strength * c.look.albedo.x) * (1.0 - c.strength * look.albedo.x);
                left *= c.lets_through(look.albedo.x);
                matte *= both / (1.0 - c.strength * c.layer.mean().x);
                if c.returned > 0.0 {
                    let even = (self.alpha.x * self.alpha.y).sqrt().sqrt();
                    let other = energy::coat_return(wi_c.z, even, c.roughness);
                    returned = c.strength * c.returned * other / c.mean_returned;
                }
                if self.allowed[1] && c.alpha >= SMOOTH {
                    let (f, drawn) = glossy(c.wo, wi_c, Vec2::splat(c.alpha));
                    let cos = c.wo.dot((c.wo + wi_c).normalize_or(Vec3::Z)).max(0.0);
                    e.f[1] += c.strength * (fresnel::schlick(Vec3::splat(COAT_F0), 1.0, cos) * f);
                    e.f[1] += c.strength * c.layer.multiple_lobe(&c.look, &look) * (wi_c.z * FRAC_1_PI);
                    e.pdf[1] += self.reflecting.coat * drawn;
                    e.any += self.among_reflecting(self.reflecting.coat * drawn);
                }
            }
        }
        if let Some(f) = &self.fuzz {
            if self.allowed[0] {
                e.f[0] += f.colour * left * (energy::sheen(self.wo, wi, f.roughness) * wi.z);
            }
            let other = f.colour.max_element() * energy::sheen_albedo(wi.z, f.roughness);
            let rest = 1.0 - f.taken.max(other);
            left *= rest;
            returned *= rest;
            matte *= rest;
        }
        let look = self.layer.look(wi);
        if self.weights[0] > 0.0 {
            let look_base = if self.mixed { self.over_base.look(wi) } else { look };
            e.f[0] += self.diffuse * self.over_base.through(&self.look_base, &look_base) * matte * even;
            e.pdf[0] = even;
            e.any += self.mixture.diffuse * even;
        }
        if self.allowed[1] && !self.smooth() && self.reflecting.layer + self.reflecting.glass > 0.0 {
            let (shape, drawn) = glossy(self.wo, wi, self.alpha);
            let cos = self.wo.dot((self.wo + wi).normalize_or(Vec3::Z)).max(0.0);
            let layer =
                fresnel::schlick(self.f0, self.f90, cos) * shape + self.layer.multiple_lobe(&self.look, &look) * even;
            e.f[1] += (layer * left + self.twice * (returned * even)) * (1.0 - self.glass);
            let r = &self.reflecting;
            let broad = r.broad * broad_density(wi.z);
            e.pdf[1] += (r.layer + r.glass) * drawn + broad;
            e.any += self.among_reflecting(r.layer * drawn + broad);
            if self.mixture.glass > 0.0 {
                let onwards = self.mixture.bouncing_on * (1.0 - self.passing) * broad_density(wi.z);
                let gets_out = self.gets_out(ggx::g2(self.wo, wi, self.alpha) / ggx::g1(self.wo, self.alpha));
                e.any += self.mixture.glass * (self.mirrors(cos) * gets_out * drawn + onwards);
            }
            if self.glass > 0.0 {
                let back = self.fresnel(cos) * shape + self.glass_broad(wi, false) * even;
                e.f[1] += left * (self.glass * back);
            }
        }
    }

    fn eval_below(&self, wi: Vec3, e: &mut Eval) {
        let even = wi.z.abs() * FRAC_1_PI;
        let left = self.left_through(wi);
        let narrow = 1.0 - self.broad_through;
        let mut f = self.glass_broad(wi, true) * even;
        let broad = broad_density(-wi.z);
        let mut pdf = self.broad_through * broad;
        e.any += (self.mixture.broad_through + self.mixture.glass * self.mixture.bouncing_on * self.passing) * broad;
        if self.solid {
            let mut h = (self.wo + wi * self.eta).normalize_or(Vec3::Z);
            if h.z < 0.0 {
                h = -h;
            }
            let (o, i) = (self.wo.dot(h), wi.dot(h));
            if o > 0.0 && i < 0.0 {
                let jacobian = -i / (i + o / self.eta).powi(2).max(1e-12);
                let shape = ggx::d(h, self.alpha) * ggx::g2_through(self.wo, wi, self.alpha) * o / self.wo.z.max(1e-6);
                f += (1.0 - self.fresnel(o)) * shape * jacobian;
                let drawn = ggx::visible_pdf(self.wo, h, self.alpha) * jacobian;
                pdf += narrow * drawn;
                let gets_out = self.gets_out(ggx::g1(wi, self.alpha));
                e.any += self.mixture.glass * (1.0 - self.mirrors(o)) * gets_out * drawn;
            }
            // Radiance changes by the square of the relative index when it passes the boundary.
            f /= self.eta * self.eta;
        } else {
            let mirrored = Vec3::new(wi.x, wi.y, -wi.z);
            let (shape, drawn) = glossy(self.wo, mirrored, self.alpha);
            let cos = self.wo.dot((self.wo + mirrored).normalize_or(Vec3::Z)).max(0.0);
            f += (1.0 - self.fresnel(cos)) * shape;
            pdf += narrow * drawn;
            let gets_out = self.gets_out(ggx::g2(self.wo, mirrored, self.alpha) / ggx::g1(self.wo, self.alpha));
            e.any += self.mixture.glass * (1.0 - self.mirrors(cos)) * gets_out * drawn;
        }
        e.f[2] = self.tint * (self.glass * left * f);
        e.pdf[2] = pdf;
    }

    /// π times the lobe of glass for light that bounced more than once, before the change of radiance at the boundary.
    fn glass_broad(&self, wi: Vec3, through: bool) -> f32 {
        match self.lost {
            Some(g) if self.solid => {
                let r = self.spread;
                let passing = self.passing;
                let (to, share) = if through { (1 - self.side, passing) } else { (self.side, 1.0 - passing) };
                share * g.missing(self.side, self.wo, r) * g.missing(to, wi, r) / g.mean_missing(to, r)
            }
            _ => {
                // A thin sheet passes light as it reflects it, mirrored to the other side.
                let f = 1.0 - self.passing;
                let lobe = self.layer.white_lobe(&self.look, &self.layer.look(wi));
                lobe * if through { 1.0 - f } else { f }
            }
        }
    }
}

/// D·G/(4 cos o) of a pair of directions on the same side, which is f·cos i without Fresnel, and the density of drawing it.
fn glossy(wo: Vec3, wi: Vec3, alpha: Vec2) -> (f32, f32) {
    let h = (wo + wi).normalize_or(Vec3::Z);
    let cos = wo.dot(h).max(0.0);
    let shape = ggx::d(h, alpha) * ggx::g2(wo, wi, alpha) / (4.0 * wo.z.max(1e-6));
    (shape, ggx::visible_pdf(wo, h, alpha) / (4.0 * cos.max(1e-6)))
}
