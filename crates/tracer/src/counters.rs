//! What the samples of a render cost: rays and processor time by kind, by bounce and by branch.
//!
//! Rays are counted always. The clock is read in one of 32 camera samples, chosen by hash: reading it at every ray would take
//! more than the rays' bookkeeping may. A ray belongs to the bounce whose light it can bring: a scattered ray to the number
//! of scatterings behind it, a light ray to one more. So a limit of k bounces saves exactly the rays beyond k.

use crate::pool::thread_time;
use serde::{Deserialize, Serialize};
use ts_rs::TS;

/// What a ray was traced for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum RayKind {
    Camera,
    /// Towards a light.
    Direct,
    Diffuse,
    Reflection,
    Transmission,
    Volume,
}

pub const KINDS: [RayKind; 6] =
    [RayKind::Camera, RayKind::Direct, RayKind::Diffuse, RayKind::Reflection, RayKind::Transmission, RayKind::Volume];

/// Bounce numbers that are told apart: 0 … 23, and all beyond together.
pub const BOUNCES: usize = 25;

pub(crate) fn bin(bounces: u32) -> usize {
    (bounces as usize).min(BOUNCES - 1)
}

/// Rays, and processor nanoseconds from one in 32 samples.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct Cost {
    pub rays: u64,
    pub timed: u64,
}

impl Cost {
    fn add(&mut self, o: &Cost) {
        self.rays += o.rays;
        self.timed += o.timed;
    }
}

/// Rays that start at one vertex, as the ledgers count them.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Charge {
    pub kind: RayKind,
    /// Scatterings of every kind behind it, a light ray's own among them.
    pub bounces: u32,
    pub used: [u32; 4],
    /// What the path left the first hit by: the camera's own way, light rays from there, or a kind of scattering.
    pub branch: usize,
}

#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Counters {
    /// By [`RayKind`] and bounce.
    pub by_bounce: [[Cost; BOUNCES]; 6],
    /// By kind of scattering (diffuse, reflection, transmission, volume): rays behind so many scatterings of that kind.
    pub by_used: [[Cost; BOUNCES]; 4],
    /// By branch at the first hit: the camera's way to it, light rays from it, and everything that follows a diffuse,
    /// reflected, transmitted or volume ray.
    pub by_branch: [Cost; 6],
    /// Rays that started at the first hit, by [`RayKind`].
    pub first: [u64; 6],
    /// Light rays from the first hit by light group.
    pub light_rays: [u64; crate::lights::MOST_GROUPS],
    /// Samples whose value was not finite and was counted as black.
    pub broken: u64,
    /// Luminance that clamps took away, and that was left, in millionths of a unit.
    pub clamped: u64,
    pub kept: u64,
}

impl Counters {
    pub fn add(&mut self, o: &Counters) {
        self.join(o, |a, b| *a += b);
    }

    /// Adds a share of what another render counted, where only some of its samples are taken over: a ray costs alike, and a
    /// sample takes as many, all over its picture.
    pub(crate) fn add_share(&mut self, o: &Counters, share: f64) {
        self.join(o, |a, b| *a += (share * b as f64).round() as u64);
    }

    fn join(&mut self, o: &Counters, f: impl Fn(&mut u64, u64)) {
        let cost = |a: &mut Cost, b: &Cost| {
            f(&mut a.rays, b.rays);
            f(&mut a.timed, b.timed);
        };
        self.by_bounce.iter_mut().flatten().zip(o.by_bounce.iter().flatten()).for_each(|(a, b)| cost(a, b));
        self.by_used.iter_mut().flatten().zip(o.by_used.iter().flatten()).for_each(|(a, b)| cost(a, b));
        self.by_branch.iter_mut().zip(&o.by_branch).for_each(|(a, b)| cost(a, b));
        self.first.iter_mut().zip(o.first).for_each(|(a, b)| f(a, b));
        self.light_rays.iter_mut().zip(o.light_rays).for_each(|(a, b)| f(a, b));
        f(&mut self.broken, o.broken);
        f(&mut self.clamped, o.clamped);
        f(&mut self.kept, o.kept);
    }

    #[inline]
    pub(crate) fn count(&mut self, c: &Charge) {
        self.each(c, |cost| cost.rays += 1);
    }

    #[inline]
    fn each(&mut self, c: &Charge, mut f: impl FnMut(&mut Cost)) {
        f(&mut self.by_bounce[c.kind as usize][bin(c.bounces)]);
        f(&mut self.by_branch[c.branch]);
        for (k, used) in c.used.into_iter().enumerate() {
            if used > 0 {
                f(&mut self.by_used[k][bin(used)]);
            }
        }
    }

    /// Rays of a kind, and their timed nanoseconds.
    pub fn of_kind(&self, kind: RayKind) -> Cost {
        let mut sum = Cost::default();
        self.by_bounce[kind as usize].iter().for_each(|c| sum.add(c));
        sum
    }

    /// Rays and time of everything.
    pub fn all(&self) -> Cost {
        let mut sum = Cost::default();
        self.by_branch.iter().for_each(|c| sum.add(c));
        sum
    }

    /// What a cost is of all of it: time where samples were timed, rays before that.
    pub fn share(&self, cost: Cost) -> f64 {
        let all = self.all();
        if all.timed > 0 { cost.timed as f64 / all.timed as f64 } else { cost.rays as f64 / all.rays.max(1) as f64 }
    }
}

/// Charges processor time to rays in the samples that were chosen for it.
pub(crate) struct Clock {
    last: Option<u64>,
}

impl Clock {
    /// Runs in samples whose lot is drawn.
    pub fn start(lot: u32) -> Clock {
        Clock { last: (lot & 31 == 0).then(thread_time) }
    }

    #[inline]
    pub fn charge(&mut self, counters: &mut Counters, to: impl FnOnce() -> Charge) {
        if let Some(last) = &mut self.last {
            let now = thread_time();
            let spent = now - *last;
            counters.each(&to(), |cost| cost.timed += spent);
            *last = now;
        }
    }
}
