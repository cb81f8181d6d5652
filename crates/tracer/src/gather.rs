//! What one camera sample brings home: light by part and by light group, and guides.

use crate::lights::{Group, MOST_GROUPS};
use glam::Vec3;
use picture::luminance;

/// Parts of the light: emission and environment as the camera sees them, then diffuse, reflection, transmission and volume,
/// each direct (from a light by one scattering) and bounced. The kind is that of the first scattering.
pub const PARTS: usize = 10;

pub const PART_NAMES: [&str; PARTS] = [
    "emission",
    "environment",
    "diffuse_direct",
    "diffuse_bounced",
    "reflection_direct",
    "reflection_bounced",
    "transmission_direct",
    "transmission_bounced",
    "volume_direct",
    "volume_bounced",
];

pub const EMISSION: usize = 0;
pub const ENVIRONMENT: usize = 1;

/// The part of a kind (diffuse, reflection, transmission, volume).
pub fn part_of(kind: usize, bounced: bool) -> usize {
    2 + 2 * kind + bounced as usize
}

/// The value of one sample.
#[derive(Debug, Clone)]
pub struct Sample {
    pub parts: [Vec3; PARTS],
    pub groups: [Vec3; MOST_GROUPS],
    /// Light that arrives after as many bounces as the limit allows, and after one less.
    pub last: [Vec3; 2],
    /// Kinds of light (bits) to which that after as many bounces belongs, and the radiance that clamps leave room for beyond it.
    pub last_kinds: u8,
    pub room: f32,
    /// Luminance of the first hit's direct light, and how much of it is in shadow.
    pub lit: [f32; 2],
    /// Luminance that clamps have taken.
    pub clamped: f32,
    pub covered: bool,
    /// Of the first surface that is no perfect mirror or window.
    pub albedo: Vec3,
    pub normal: Vec3,
    /// The whole way to it, metres.
    pub depth: f32,
    pub first: FirstHit,
}

/// The first surface that the camera meets.
#[derive(Debug, Clone, Copy, Default)]
pub struct FirstHit {
    pub position: Vec3,
    pub normal: Vec3,
    pub albedo: Vec3,
    pub depth: f32,
    /// Object and material number plus one; 0 where there is none.
    pub object: u32,
    pub material: u32,
}

impl Sample {
    pub fn black() -> Sample {
        Sample {
            parts: [Vec3::ZERO; PARTS],
            groups: [Vec3::ZERO; MOST_GROUPS],
            last: [Vec3::ZERO; 2],
            last_kinds: 0,
            room: 0.0,
            lit: [0.0; 2],
            clamped: 0.0,
            covered: false,
            albedo: Vec3::ZERO,
            normal: Vec3::ZERO,
            depth: 0.0,
            first: FirstHit::default(),
        }
    }

    pub fn add(&mut self, part: usize, group: Group, light: Vec3) {
        self.parts[part] += light;
        self.groups[group as usize] += light;
    }

    /// All parts together, always added in the same order.
    pub fn radiance(&self) -> Vec3 {
        self.parts.iter().sum()
    }

    /// Holds direct light and bounced light of each kind below their limits.
    pub fn clamp(&mut self, direct: f32, bounced: &[f32; 4]) {
        let mut lost = 0.0;
        for (kind, bounced) in bounced.iter().enumerate() {
            for (part, most) in [(part_of(kind, false), direct), (part_of(kind, true), *bounced)] {
                let top = self.parts[part].max_element();
                if top > most {
                    let before = self.parts[part];
                    self.parts[part] *= most / top;
                    lost += luminance((before - self.parts[part]).to_array());
                }
            }
        }
        if lost > 0.0 {
            // Groups keep their proportions.
            let (after, before) = (self.radiance(), self.groups.iter().sum::<Vec3>());
            let keep = after / before.max(Vec3::splat(1e-20));
            self.groups.iter_mut().for_each(|g| *g *= keep);
        }
        // What lies beyond the last bounce may fill what the limits of its kinds leave, and no more.
        let room = |kind: usize| (bounced[kind] - self.parts[part_of(kind, true)].max_element()).max(0.0);
        self.room = (0..4).filter(|kind| self.last_kinds >> kind & 1 == 1).map(room).sum();
        self.clamped = lost;
    }
}
