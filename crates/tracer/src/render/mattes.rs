//! Which objects and materials every pixel shows, by camera rays alone: the first samples of the render, so that mattes have the
//! edges of the picture, with its filter, lens and motion.

use super::Render;
use crate::path::Tally;
use picture::mattes::Mattes;
use rayon::prelude::*;
use std::collections::BTreeMap;

/// Rays for each half of a pixel: shares are told to 1 in 32.
const RAYS: u32 = 16;
/// Camera rays of a pixel.
pub const MATTE_RAYS: f64 = 2.0 * RAYS as f64;

type Shares = Vec<(u32, f32)>;

impl Render {
    /// Mattes of the delivered area: objects, then materials.
    pub fn mattes(&self) -> [Mattes; 2] {
        self.mattes_of(self.settings.delivered.1)
    }

    /// Mattes of a part of the delivered frame.
    pub fn mattes_of(&self, area: picture::Region) -> [Mattes; 2] {
        let s = &self.settings;
        let frame = s.delivered.0;
        let tracer = self.tracer();
        let scale = (s.frame.0 as f64 / frame.0 as f64, s.frame.1 as f64 / frame.1 as f64);
        // Film pixels under a delivered one; with oversize their number grows, so each needs fewer rays.
        let span = |i: u32, scale: f64| {
            let (from, to) = ((i as f64 * scale) as u32, (((i + 1) as f64 * scale).ceil() as u32).max(1));
            from..to.max(from + 1)
        };
        let rays = ((RAYS as f64 / (scale.0 * scale.1)).ceil() as u32).clamp(2, RAYS);
        let of = |i: u32| -> (Shares, Shares) {
            let (x, y) = (area.x + i % area.width, area.y + i / area.width);
            let (mut objects, mut materials) = (BTreeMap::new(), BTreeMap::new());
            let mut all = 0u32;
            let mut tally = Tally::default();
            for fy in span(y, scale.1) {
                for fx in span(x, scale.0) {
                    for index in 0..rays {
                        for half in 0..2 {
                            all += 1;
                            if let Some((object, material)) = tracer.first_thing(fx, fy, half, index, &mut tally) {
                                *objects.entry(object).or_insert(0u32) += 1;
                                *materials.entry(material).or_insert(0u32) += 1;
                            }
                        }
                    }
                }
            }
            let shares = |m: BTreeMap<u32, u32>| m.into_iter().map(|(k, n)| (k, n as f32 / all as f32)).collect();
            (shares(objects), shares(materials))
        };
        let pixels: Vec<(Shares, Shares)> =
            self.pool.install(|| (0..area.area() as u32).into_par_iter().map(of).collect());
        let (objects, materials): (Vec<Shares>, Vec<Shares>) = pixels.into_iter().unzip();
        let scene = &self.stage.scene;
        let named =
            |kind: &str, i: usize, name: &str| if name.is_empty() { format!("{kind} {}", i + 1) } else { name.into() };
        let object_names = scene.objects.iter().enumerate().map(|(i, n)| named("object", i, n)).collect();
        let material_names = scene.materials.iter().enumerate().map(|(i, m)| named("material", i, &m.name)).collect();
        [
            Mattes { layer: "CryptoObject", names: object_names, pixels: objects },
            Mattes { layer: "CryptoMaterial", names: material_names, pixels: materials },
        ]
    }
}
