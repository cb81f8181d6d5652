//! The ledgers of a render, read out: what each bounce costs and brings, and what the rays that split at the first hit do.

use super::Render;
use crate::brought::{CAUSTICS, USED};
use crate::counters::{BOUNCES, Cost};
use glam::Vec3;
use picture::noise::Loss;
use picture::{View, luminance};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use ts_rs::TS;

/// Which limit a depth table belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum DepthKind {
    All,
    Diffuse,
    Reflection,
    Transmission,
    Volume,
}

pub const DEPTHS: [DepthKind; 5] =
    [DepthKind::All, DepthKind::Diffuse, DepthKind::Reflection, DepthKind::Transmission, DepthKind::Volume];

/// One bounce number; the last one of a table holds all beyond it too where depths go beyond 24.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct DepthRow {
    pub bounces: u32,
    #[ts(type = "number")]
    pub rays: u64,
    /// Share of the sampling time that goes into bringing the light of this bounce.
    pub time: f64,
    /// Share of the light that it brings.
    pub light: f64,
    /// What would be lost if the depth ended here: exact for the limit of all bounces without clamps and tail fill, in the mean
    /// for one kind.
    pub loss: Loss,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct DepthTable {
    pub kind: DepthKind,
    pub rows: Vec<DepthRow>,
}

/// What leaves the first hit in several rays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum SplitKind {
    Direct,
    Diffuse,
    Reflection,
    Transmission,
}

pub const SPLIT_KINDS: [SplitKind; 4] =
    [SplitKind::Direct, SplitKind::Diffuse, SplitKind::Reflection, SplitKind::Transmission];

/// Rays of one kind at the first hit with all that follows them.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, TS)]
pub struct SplitRow {
    pub kind: SplitKind,
    pub split: u32,
    /// Share of the sampling time.
    pub time: f64,
}

/// Light rays to a group of lights, as a share of those from first hits.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct LightCost {
    pub name: String,
    pub rays: f64,
    /// Light rays of its own at the first hit, where shot edits can give it some: lamps and the environment.
    pub own: Option<u32>,
}

/// Costs by what was traced.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, TS)]
pub struct Ledgers {
    pub depth: Vec<DepthTable>,
    pub splits: Vec<SplitRow>,
    /// Share of the sampling time for the camera's way to the first hit, and for what scatters in media first.
    pub camera: f64,
    pub volume: f64,
    pub lights: Vec<LightCost>,
    /// What switching caustics off would lose.
    #[serde(default)]
    pub caustics: Vec<CausticRow>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum CausticKind {
    Reflected,
    Refracted,
}

/// Light that comes by one kind of caustics.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct CausticRow {
    pub kind: CausticKind,
    /// Share of all light, and what its loss would change on the display.
    pub light: f64,
    pub loss: Loss,
    /// Objects that would lose most of their light, with its share; known where parts are kept.
    pub darkened: Vec<Darkened>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct Darkened {
    pub name: String,
    pub lost: f64,
}

impl Darkened {
    /// Those that are named: who loses at least a fifth of its light, the worst first, three at most.
    pub fn worst(all: impl Iterator<Item = Darkened>) -> Vec<Darkened> {
        let mut worst: Vec<Darkened> = all.filter(|d| d.lost >= 0.2).collect();
        worst.sort_by(|a, b| b.lost.total_cmp(&a.lost));
        worst.truncate(3);
        worst
    }
}

/// A block's mean light by bounces, with its number of wanted pixels.
struct BlockLight {
    pixels: u64,
    all: Vec<Vec3>,
    used: [Vec<Vec3>; USED],
    caustics: [Vec3; CAUSTICS],
    /// Object that most of its first pixels show, plus one.
    object: u32,
}

impl Render {
    /// Costs and light by bounce and by split, of the wanted area.
    pub fn ledgers(&self) -> Ledgers {
        let mut blocks = Vec::new();
        let layout = &self.film.layout.brought;
        self.each_block(|tile, [_, k], pixels| {
            let stride = layout.stride();
            let Some(row) = tile.brought.get(k * stride..(k + 1) * stride).filter(|r| layout.samples(r) > 0.0) else {
                return;
            };
            blocks.push(BlockLight {
                pixels,
                all: layout.by_all(row),
                used: std::array::from_fn(|kind| layout.by_used(row, kind)),
                caustics: layout.caustics(row),
                object: self.film.object_at(tile, k),
            });
        });
        let c = &self.counters;
        let view = &self.settings.view;
        let by_bounce: [Cost; BOUNCES] = std::array::from_fn(|n| {
            let sum = |f: fn(&Cost) -> u64| c.by_bounce.iter().map(|kind| f(&kind[n])).sum();
            Cost { rays: sum(|c| c.rays), timed: sum(|c| c.timed) }
        });
        let total: Vec<Vec3> = blocks.iter().map(|b| b.all.iter().sum()).collect();
        let lit = Lit { blocks: &blocks, total: &total, view };
        let table = |kind: DepthKind, first: u32, costs: &[Cost], light: &dyn Fn(&BlockLight) -> Vec<Vec3>| {
            let lights: Vec<Vec<Vec3>> = blocks.iter().map(light).collect();
            depth_table(&lit, kind, first, &lights, costs.iter().map(|cost| (cost.rays, c.share(*cost))))
        };
        let mut depth = vec![table(DepthKind::All, 0, &by_bounce, &|b| b.all.clone())];
        for (kind, name) in DEPTHS[1..].iter().enumerate() {
            if c.by_used[kind].iter().any(|cost| cost.rays > 0) {
                depth.push(table(*name, 1, &c.by_used[kind][1..], &|b| b.used[kind].clone()));
            }
        }
        let set = &self.settings;
        let split = [set.split_direct, set.split[0], set.split[1], set.split[2]];
        let splits = SPLIT_KINDS.into_iter().enumerate().filter(|(k, _)| c.by_branch[1 + k].rays > 0);
        let first: u64 = c.light_rays.iter().sum();
        let caustics = [CausticKind::Reflected, CausticKind::Refracted]
            .into_iter()
            .map(|kind| caustic_row(&lit, kind, &self.stage.scene.objects))
            .filter(|row| row.light > 0.0)
            .collect();
        Ledgers {
            depth,
            splits: splits
                .map(|(k, kind)| SplitRow { kind, split: split[k], time: c.share(c.by_branch[1 + k]) })
                .collect(),
            camera: c.share(c.by_branch[0]),
            volume: c.share(c.by_branch[5]),
            caustics,
            lights: self
                .arrangement
                .lights
                .groups
                .iter()
                .zip(c.light_rays)
                .map(|(name, rays)| LightCost {
                    name: name.clone(),
                    rays: rays as f64 / first.max(1) as f64,
                    own: match self.description.edits.light(name) {
                        Some(edit) => Some(edit.split),
                        None => (name == "environment" || self.stage.scene.lights.iter().any(|l| l.name == *name))
                            .then_some(0),
                    },
                })
                .collect(),
        }
    }
}

/// Blocks with all of their light, and the view by which losses count.
struct Lit<'a> {
    blocks: &'a [BlockLight],
    total: &'a [Vec3],
    view: &'a View,
}

fn caustic_row(&Lit { blocks, total, view }: &Lit, kind: CausticKind, names: &[String]) -> CausticRow {
    let own = |b: &BlockLight| b.caustics[kind as usize];
    let bright = |v: Vec3| luminance(v.to_array()) as f64;
    let mut objects: BTreeMap<&str, [f64; 2]> = BTreeMap::new();
    let (mut light, mut all) = (0.0, 1e-30);
    for (b, total) in blocks.iter().zip(total) {
        let pair = [b.pixels as f64 * bright(own(b)), b.pixels as f64 * bright(*total)];
        (light, all) = (light + pair[0], all + pair[1]);
        let Some(name) = b.object.checked_sub(1).and_then(|k| names.get(k as usize)) else { continue };
        let sums = objects.entry(name).or_default();
        *sums = [sums[0] + pair[0], sums[1] + pair[1]];
    }
    let losses =
        blocks.iter().zip(total).map(|(b, t)| (Loss::steps(view, t.to_array(), (*t - own(b)).to_array()), b.pixels));
    let lost = objects.into_iter().filter(|(_, [_, own])| *own > 0.0);
    let darkened =
        Darkened::worst(lost.map(|(name, [lost, own])| Darkened { name: name.to_string(), lost: lost / own }));
    CausticRow { kind, light: light / all, loss: Loss::of(losses.collect()), darkened }
}

/// `lights` are each block's light by bounces, from bounce `first` on; `costs` the rays and the share of the time of each.
fn depth_table(
    &Lit { blocks, total, view }: &Lit,
    kind: DepthKind,
    first: u32,
    lights: &[Vec<Vec3>],
    costs: impl Iterator<Item = (u64, f64)>,
) -> DepthTable {
    let count = lights.iter().map(Vec::len).max().unwrap_or(0);
    let weigh = |f: &dyn Fn(usize) -> Vec3| -> f64 {
        (0..blocks.len()).map(|i| blocks[i].pixels as f64 * luminance(f(i).to_array()) as f64).sum()
    };
    let all = weigh(&|i| total[i]).max(1e-30);
    let rows = (0..count).zip(costs).map(|(n, (rays, time))| {
        let losses = (0..blocks.len()).map(|i| {
            let beyond: Vec3 = lights[i][n + 1..].iter().sum();
            (Loss::steps(view, total[i].to_array(), (total[i] - beyond).to_array()), blocks[i].pixels)
        });
        DepthRow {
            bounces: first + n as u32,
            rays,
            time,
            light: weigh(&|i| lights[i][n]) / all,
            loss: Loss::of(losses.collect()),
        }
    });
    DepthTable { kind, rows: rows.collect() }
}
