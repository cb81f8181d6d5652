//! A hierarchy over many lights, from which one is drawn in proportion to what it may send to a point: power, distance and
//! orientation of whole groups (Conty Estevez and Kulla, "Importance Sampling of Many Lights with Adaptive Tree Splitting",
//! 2018; their splitting is used to tell how likely each group is, not to send several rays). A node holds eight groups side by
//! side, whose importance is computed in lanes. Drawing and its chance cost O(log n).

use glam::Vec3;
use std::f32::consts::{FRAC_PI_2, PI};

/// Directions into which lights shine: within `spread` of the axis surfaces face, and from each surface another 90°.
#[derive(Debug, Clone, Copy)]
pub struct Cone {
    pub axis: Vec3,
    /// Radians; π for all directions.
    pub spread: f32,
}

impl Cone {
    pub const ALL: Cone = Cone { axis: Vec3::Y, spread: PI };

    fn with(self, o: Cone) -> Cone {
        let (a, b) = if self.spread >= o.spread { (self, o) } else { (o, self) };
        let between = a.axis.dot(b.axis).clamp(-1.0, 1.0).acos();
        if (between + b.spread).min(PI) <= a.spread {
            return a;
        }
        let spread = 0.5 * (a.spread + between + b.spread);
        let normal = a.axis.cross(b.axis);
        if spread >= PI || normal.length_squared() < 1e-12 {
            return Cone { axis: a.axis, spread: PI };
        }
        let turn = glam::Quat::from_axis_angle(normal.normalize(), spread - a.spread);
        Cone { axis: (turn * a.axis).normalize(), spread }
    }

    /// The solid angle that matters to the cost of a node.
    fn measure(&self) -> f32 {
        let end = (self.spread + FRAC_PI_2).min(PI);
        let (sin, cos) = self.spread.sin_cos();
        2.0 * PI * (1.0 - cos)
            + FRAC_PI_2 * (2.0 * end * sin - (self.spread - 2.0 * end).cos() - 2.0 * self.spread * sin + cos)
    }
}

/// What the tree needs to know of a light.
#[derive(Debug, Clone, Copy)]
pub struct Leaf {
    pub lo: Vec3,
    pub hi: Vec3,
    pub cone: Cone,
    pub power: f32,
}

impl Leaf {
    fn with(self, o: Leaf) -> Leaf {
        Leaf { lo: self.lo.min(o.lo), hi: self.hi.max(o.hi), cone: self.cone.with(o.cone), power: self.power + o.power }
    }

    fn area(&self) -> f32 {
        let d = self.hi - self.lo;
        d.x * d.y + d.y * d.z + d.z * d.x
    }
}

const WIDTH: usize = 8;
pub type Lanes = [f32; WIDTH];

/// Eight groups of lights or single lights side by side; lanes without one have no power.
#[derive(Clone)]
#[repr(align(32))]
struct Node {
    centre: [Lanes; 3],
    /// Radius of the sphere around the box.
    radius: Lanes,
    axis: [Lanes; 3],
    sin_spread: Lanes,
    cos_spread: Lanes,
    power: Lanes,
    /// The node of a group's members, or the light with [`IS_LIGHT`].
    next: [u32; WIDTH],
}

const IS_LIGHT: u32 = 1 << 31;

/// Levels below the root that are asked before a draw, where groups are near: enough to tell a few near lights from thousands far
/// away, few enough to cost little where lights are close together.
const OPENED: u32 = 2;

/// Boxes of a node's groups, for rays.
#[derive(Clone)]
struct Boxes {
    lo: [Vec3; WIDTH],
    hi: [Vec3; WIDTH],
}

/// A lane of a node.
#[derive(Debug, Clone, Copy)]
struct Turn {
    node: u32,
    lane: u32,
}

/// The point that receives light.
#[derive(Debug, Clone, Copy)]
pub struct Receiver {
    pub position: Vec3,
    /// The side that light is received on; none for points in a medium.
    pub normal: Option<Vec3>,
    /// Light on the other side counts too.
    pub both_sides: bool,
}

#[derive(Default)]
pub struct LightTree {
    /// The root first.
    nodes: Vec<Node>,
    boxes: Vec<Boxes>,
    /// Where each node but the root hangs, and where each light hangs, with the level of its node.
    parents: Vec<Turn>,
    lights: Vec<(Turn, u32)>,
}

/// cos(max(0, a − b)) of two angles.
#[inline(always)]
fn cos_less(sin_a: f32, cos_a: f32, sin_b: f32, cos_b: f32) -> f32 {
    if cos_a > cos_b { 1.0 } else { cos_a * cos_b + sin_a * sin_b }
}

/// sin(max(0, a − b)).
#[inline(always)]
fn sin_less(sin_a: f32, cos_a: f32, sin_b: f32, cos_b: f32) -> f32 {
    if cos_a > cos_b { 0.0 } else { sin_a * cos_b - cos_a * sin_b }
}

/// What to expect of a cosine that is at most `bound`, and `middle` at the middle of a group. The bound alone would promise far
/// too much for groups near the horizon.
#[inline(always)]
fn likely(bound: f32, middle: f32) -> f32 {
    0.15 * bound + 0.85 * middle.max(0.0)
}

#[inline(always)]
fn sine(cos: f32) -> f32 {
    (1.0 - cos * cos).max(0.0).sqrt()
}

impl Node {
    fn empty() -> Node {
        let none = [0.0; WIDTH];
        Node {
            centre: [none; 3],
            radius: none,
            axis: [none, [1.0; WIDTH], none],
            sin_spread: none,
            cos_spread: [-1.0; WIDTH],
            power: none,
            next: [IS_LIGHT; WIDTH],
        }
    }

    fn put(&mut self, k: usize, l: &Leaf) {
        let (centre, (sin, cos)) = (0.5 * (l.lo + l.hi), l.cone.spread.sin_cos());
        for axis in 0..3 {
            self.centre[axis][k] = centre[axis];
            self.axis[axis][k] = l.cone.axis[axis];
        }
        self.radius[k] = 0.5 * (l.hi - l.lo).length();
        (self.sin_spread[k], self.cos_spread[k]) = (sin, cos);
        self.power[k] = l.power;
    }

    /// Estimates of the light that arrives from each group, zero only if none can; and the groups (bits) that are nearer than 1.4
    /// times their radius. One straight line of arithmetic, so that it is computed in lanes.
    #[inline]
    fn importance(&self, r: &Receiver) -> (Lanes, u32) {
        let p = r.position;
        let n = r.normal.unwrap_or(Vec3::ZERO);
        let (mut all, mut near) = ([0.0; WIDTH], [0u32; WIDTH]);
        for k in 0..WIDTH {
            let (x, y, z) = (self.centre[0][k] - p.x, self.centre[1][k] - p.y, self.centre[2][k] - p.z);
            let d2 = x * x + y * y + z * z;
            let radius2 = self.radius[k] * self.radius[k];
            // Inside the sphere around the group anything is possible.
            let inside = d2 <= radius2;
            let inverse = if d2 > 0.0 { 1.0 / d2.sqrt() } else { 0.0 };
            let sin_b = self.radius[k] * inverse;
            let cos_b = sine(sin_b);
            let cos_w = -(self.axis[0][k] * x + self.axis[1][k] * y + self.axis[2][k] * z) * inverse;
            let sin_w = sine(cos_w);
            let cos_x = cos_less(sin_w, cos_w, self.sin_spread[k], self.cos_spread[k]);
            let sin_x = sin_less(sin_w, cos_w, self.sin_spread[k], self.cos_spread[k]);
            let cos = cos_less(sin_x, cos_x, sin_b, cos_b);
            let sent = if cos > 0.0 { likely(cos, cos_x) } else { 0.0 };
            let sent = if self.cos_spread[k] <= -0.999 || inside { 1.0 } else { sent };
            let along = (n.x * x + n.y * y + n.z * z) * inverse;
            let cos_n = if r.both_sides { along.abs() } else { along };
            let cos = cos_less(sine(cos_n), cos_n, sin_b, cos_b);
            let received = if cos > 0.0 { likely(cos, cos_n) } else { 0.0 };
            let received = if r.normal.is_none() || inside { 1.0 } else { received };
            all[k] = self.power[k] * sent * received / d2.max(radius2).max(1e-20);
            near[k] = ((d2 < 2.0 * radius2) as u32) << k;
        }
        (all, near.iter().fold(0, |a, b| a | b))
    }
}

/// The lane at which the running sum of weights passes `at`, and how far it lies into it, 0…1; none if all are zero.
#[inline]
fn pick(weights: &Lanes, mut at: f32) -> Option<(usize, f32)> {
    let mut chosen = None;
    for (k, w) in weights.iter().enumerate().filter(|(_, w)| **w > 0.0) {
        // Rounding may leave a sliver behind the last one.
        chosen = Some((k, (at / w).min(0.999_999_94)));
        if at < *w {
            break;
        }
        at -= w;
    }
    chosen
}

fn sum(weights: &Lanes) -> f32 {
    weights.iter().sum()
}

impl LightTree {
    pub fn new(leaves: &[Leaf]) -> LightTree {
        let root = Turn { node: 0, lane: 0 };
        let mut tree = LightTree { lights: vec![(root, 0); leaves.len()], ..LightTree::default() };
        let mut order: Vec<u32> = (0..leaves.len() as u32).collect();
        if !leaves.is_empty() {
            tree.grow(&mut order, leaves, root, [0, 0]);
        }
        tree
    }

    /// Makes a node of lights, of a level and after so many halvings: they are halved until there are eight groups, that with the
    /// most power times surface first.
    fn grow(&mut self, lights: &mut [u32], leaves: &[Leaf], parent: Turn, [level, depth]: [u32; 2]) -> u32 {
        let around = |list: &[u32]| list.iter().map(|i| leaves[*i as usize]).reduce(Leaf::with).unwrap_or(leaves[0]);
        let whole = around(lights);
        let mut groups: Vec<(&mut [u32], Leaf, u32)> = vec![(lights, whole, depth)];
        while groups.len() < WIDTH {
            let worth = |g: &(&mut [u32], Leaf, u32)| if g.0.len() > 1 { g.1.power * g.1.area() } else { -1.0 };
            let widest = (0..groups.len()).max_by(|a, b| worth(&groups[*a]).total_cmp(&worth(&groups[*b])));
            let Some(widest) = widest.filter(|k| groups[*k].0.len() > 1) else { break };
            let (group, _, depth) = groups.remove(widest);
            let middle = divide(group, leaves, depth);
            let (left, right) = group.split_at_mut(middle);
            for half in [left, right] {
                let all = around(half);
                groups.push((half, all, depth + 1));
            }
        }
        let node = self.nodes.len() as u32;
        self.nodes.push(Node::empty());
        self.boxes.push(Boxes { lo: [Vec3::INFINITY; WIDTH], hi: [Vec3::NEG_INFINITY; WIDTH] });
        self.parents.push(parent);
        for (lane, (group, l, depth)) in groups.into_iter().enumerate() {
            let turn = Turn { node, lane: lane as u32 };
            self.nodes[node as usize].put(lane, &l);
            let boxes = &mut self.boxes[node as usize];
            (boxes.lo[lane], boxes.hi[lane]) = (l.lo, l.hi);
            let next = match group {
                [light] => {
                    self.lights[*light as usize] = (turn, level);
                    *light | IS_LIGHT
                }
                _ => self.grow(group, leaves, turn, [level + 1, depth]),
            };
            self.nodes[node as usize].next[lane] = next;
        }
        node
    }

    /// Importance of a node's groups. In the upper levels that of a group around or near the receiver would be worth no more than
    /// a guess: its members are asked in its place.
    fn weights(&self, node: usize, r: &Receiver, level: u32) -> Lanes {
        let n = &self.nodes[node];
        let (mut weights, near) = n.importance(r);
        if near != 0 && level < OPENED {
            for (lane, weight) in weights.iter_mut().enumerate() {
                if near >> lane & 1 == 1 && n.next[lane] & IS_LIGHT == 0 {
                    *weight = sum(&self.weights(n.next[lane] as usize, r, level + 1));
                }
            }
        }
        weights
    }

    /// The importance of the root's groups, and of all lights together.
    pub fn importance(&self, r: &Receiver) -> (Lanes, f32) {
        let weights = if self.nodes.is_empty() { [0.0; WIDTH] } else { self.weights(0, r, 0) };
        (weights, sum(&weights))
    }

    /// Draws a light; returns it with its chance. `root` is [`LightTree::importance`].
    pub fn draw(&self, r: &Receiver, root: &(Lanes, f32), u: f32) -> Option<(u32, f32)> {
        let (mut weights, mut all) = *root;
        let (mut node, mut level) = (0, 0);
        let (mut u, mut chance) = (u, 1.0);
        loop {
            let (lane, rest) = pick(&weights, u * all)?;
            chance *= weights[lane] / all;
            let next = self.nodes[node].next[lane];
            if next & IS_LIGHT != 0 {
                return Some((next & !IS_LIGHT, chance));
            }
            (node, level, u) = (next as usize, level + 1, rest);
            weights = self.weights(node, r, level);
            all = sum(&weights);
        }
    }

    /// The chance with which [`LightTree::draw`] draws a light.
    pub fn chance(&self, r: &Receiver, root: &(Lanes, f32), light: u32) -> f32 {
        let (mut turn, mut level) = self.lights[light as usize];
        let mut chance = 1.0;
        while level > 0 {
            let weights = self.weights(turn.node as usize, r, level);
            let own = weights[turn.lane as usize];
            if own <= 0.0 {
                return 0.0;
            }
            chance *= own / sum(&weights);
            (turn, level) = (self.parents[turn.node as usize], level - 1);
        }
        chance * root.0[turn.lane as usize] / root.1
    }

    /// Tells every light whose box a ray from `origin` meets before `far`.
    pub fn along(&self, origin: Vec3, direction: Vec3, far: f32, tell: &mut impl FnMut(u32)) {
        let inverse = direction.recip();
        let mut stack = Vec::with_capacity(64);
        stack.extend((!self.nodes.is_empty()).then_some(0u32));
        while let Some(i) = stack.pop() {
            let boxes = &self.boxes[i as usize];
            for (k, next) in self.nodes[i as usize].next.into_iter().enumerate() {
                let (a, b) = ((boxes.lo[k] - origin) * inverse, (boxes.hi[k] - origin) * inverse);
                let (enter, leave) = (a.min(b).max_element(), a.max(b).min_element());
                let absent = boxes.lo[k].x > boxes.hi[k].x;
                if absent || enter.max(0.0) > leave * 1.000_001 || enter > far {
                    continue;
                }
                match next & IS_LIGHT {
                    0 => stack.push(next),
                    _ => tell(next & !IS_LIGHT),
                }
            }
        }
    }
}

/// Orders lights so that a cut divides them well, and returns the cut: least power × directions × surface over binned
/// planes. From a certain depth on they are halved, which keeps trails short enough.
fn divide(lights: &mut [u32], leaves: &[Leaf], depth: u32) -> usize {
    const BINS: usize = 12;
    let centre = |i: u32| leaves[i as usize].lo + leaves[i as usize].hi;
    let (lo, hi) =
        lights.iter().fold((Vec3::INFINITY, Vec3::NEG_INFINITY), |b, i| (b.0.min(centre(*i)), b.1.max(centre(*i))));
    let half = lights.len() / 2;
    if depth > 30 || lo == hi {
        return half;
    }
    let extent = hi - lo;
    let bin =
        |i: u32, axis: usize| (((centre(i)[axis] - lo[axis]) / extent[axis] * BINS as f32) as usize).min(BINS - 1);
    let mut best: Option<(f32, usize, usize)> = None;
    for axis in (0..3).filter(|a| extent[*a] > 0.0) {
        let mut bins: [Option<Leaf>; BINS] = [None; BINS];
        for i in lights.iter() {
            let b = &mut bins[bin(*i, axis)];
            let l = leaves[*i as usize];
            *b = Some(b.map_or(l, |o| o.with(l)));
        }
        let join = |part: &[Option<Leaf>]| part.iter().flatten().copied().reduce(Leaf::with);
        // Long thin groups are worse than round ones.
        let thin = extent.max_element() / extent[axis];
        for k in 1..BINS {
            if let (Some(a), Some(b)) = (join(&bins[..k]), join(&bins[k..])) {
                let cost = |l: Leaf| l.power * l.cone.measure() * l.area().max(1e-12);
                let total = thin * (cost(a) + cost(b));
                if best.is_none_or(|b| total < b.0) {
                    best = Some((total, axis, k));
                }
            }
        }
    }
    let Some((_, axis, k)) = best else { return half };
    lights.sort_by_key(|i| bin(*i, axis) >= k);
    lights.iter().filter(|i| bin(**i, axis) < k).count()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sampler::Sampler;

    /// The chances of all lights add up to 1, drawing follows them, and near lights are preferred.
    #[test]
    fn lights_are_drawn_by_their_chance() {
        let random = |i: u32| {
            let [x, y, z, w] = Sampler::new(9, i, 0, 0, 0).set(0);
            (Vec3::new(x, y, z) * 10.0, w)
        };
        let leaves: Vec<Leaf> = (0..200)
            .map(|i| {
                let (p, w) = random(i);
                let cone = Cone { axis: (random(i + 1000).0 - 5.0).normalize(), spread: 0.3 * w };
                Leaf { lo: p, hi: p + 0.1, cone: if i % 3 == 0 { Cone::ALL } else { cone }, power: 0.1 + w }
            })
            .collect();
        let tree = LightTree::new(&leaves);
        for k in 0..20 {
            let r = Receiver {
                position: random(k + 500).0,
                normal: (k % 2 == 0).then(|| (random(k + 700).0 - 5.0).normalize()),
                both_sides: false,
            };
            let root = tree.importance(&r);
            let chances: Vec<f32> = (0..200).map(|i| tree.chance(&r, &root, i)).collect();
            // Chances may add up to less where groups promised light that none of their members sends.
            let sum = chances.iter().sum::<f32>();
            assert!(sum < 1.001 && sum > 0.5, "{sum}");
            let n = 20_000;
            let mut counts = [0u32; 200];
            for i in 0..n {
                let Some((light, chance)) = tree.draw(&r, &root, (i as f32 + 0.5) / n as f32) else { continue };
                assert!((chance / chances[light as usize] - 1.0).abs() < 1e-3);
                counts[light as usize] += 1;
            }
            for i in 0..200 {
                assert!((counts[i] as f32 / n as f32 - chances[i]).abs() < 2e-3 + 0.02 * chances[i]);
            }
        }
    }

    /// Some point of a light's box, its middle or a corner, sends light to a receiver.
    fn sends(l: &Leaf, r: &Receiver) -> bool {
        let corner = |k: usize| Vec3::from_array([0, 1, 2].map(|a| if k >> a & 1 == 1 { l.hi[a] } else { l.lo[a] }));
        (0..8).map(corner).chain([0.5 * (l.lo + l.hi)]).any(|from| {
            let w = (from - r.position).normalize_or_zero();
            let out = (-l.cone.axis.dot(w)).clamp(-1.0, 1.0).acos() < l.cone.spread + FRAC_PI_2 - 0.01;
            let above = r.normal.is_none_or(|n| if r.both_sides { n.dot(w).abs() > 0.01 } else { n.dot(w) > 0.01 });
            w != Vec3::ZERO && out && above
        })
    }

    /// Whatever sends light to a receiver has a chance there, however many, large, bright, far or coincident lights are: else its light
    /// would be lost.
    #[test]
    fn what_may_send_light_has_a_chance() {
        let mut state = 0;
        let mut next = || {
            state += 1;
            Sampler::new(4, state, 0, 0, 0).set(0)
        };
        let mut sending = 0;
        for case in 0..60 {
            let [size, count, spread, alike] = next();
            let scale = 10f32.powf(8.0 * size - 4.0);
            let count = 1 + (600.0 * count * count) as usize;
            let mut place = || {
                let [x, y, z, _] = next();
                (Vec3::new(x, y, z) - 0.5) * scale
            };
            let places: Vec<Vec3> = (0..count).map(|_| place()).collect();
            let leaves: Vec<Leaf> = (0..count)
                .map(|i| {
                    // Some lie in one place; some have no size, some are as large as all together.
                    let p = places[if alike < 0.3 { i / 7 } else { i }];
                    let [a, b, power, extent] = next();
                    let half = Vec3::splat(0.5 * scale * if extent < 0.3 { 0.0 } else { extent.powi(8) });
                    let axis = Vec3::new(a - 0.5, b - 0.5, power - 0.3).normalize_or(Vec3::Y);
                    let cone = if i % 4 == 0 { Cone::ALL } else { Cone { axis, spread: 3.0 * spread * a * b } };
                    Leaf { lo: p - half, hi: p + half, cone, power: 10f32.powf(8.0 * power - 4.0) }
                })
                .collect();
            let tree = LightTree::new(&leaves);
            for k in 0..8 {
                let [x, y, z, w] = next();
                let position = match k {
                    0 => places[0],
                    1 => Vec3::new(x, y, z) * 30.0 * scale,
                    _ => (Vec3::new(x, y, z) - 0.5) * 1.2 * scale,
                };
                let normal = (w > 0.2).then(|| Vec3::new(y - 0.5, z - 0.5, x - 0.5).normalize_or(Vec3::Z));
                let r = Receiver { position, normal, both_sides: w > 0.8 };
                let root = tree.importance(&r);
                let chances: Vec<f32> =
                    (0..count as u32).map(|i| if root.1 > 0.0 { tree.chance(&r, &root, i) } else { 0.0 }).collect();
                let sum: f64 = chances.iter().map(|c| *c as f64).sum();
                assert!(sum < 1.001 && chances.iter().all(|c| (0.0..=1.0001).contains(c)), "case {case}, {k}: {sum}");
                for (i, leaf) in leaves.iter().enumerate() {
                    if sends(leaf, &r) {
                        assert!(
                            chances[i] > 0.0,
                            "case {case}, {k}: light {i} of {count} sends light and has no chance"
                        );
                        sending += 1;
                    }
                }
            }
        }
        assert!(sending > 10_000, "{sending}");
    }
}
