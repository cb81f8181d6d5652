//! A hierarchy over many lights, from which one is drawn in proportion to what it may send to a point: power, distance and
//! orientation of whole groups (Conty Estevez and Kulla, "Importance Sampling of Many Lights with Adaptive Tree Splitting",
//! 2018; their splitting is used to tell how likely each group is, not to send several rays). Drawing and its chance cost
//! O(log n) where lights are spread out.

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

/// A node as it is asked for its importance. Children lie side by side.
struct Node {
    lo: Vec3,
    hi: Vec3,
    centre: Vec3,
    /// Radius of the sphere around the box.
    radius: f32,
    axis: Vec3,
    sin_spread: f32,
    cos_spread: f32,
    power: f32,
    /// First of two children, or the light with [`IS_LIGHT`].
    next: u32,
}

const IS_LIGHT: u32 = 1 << 31;

/// Levels of the tree in which groups may be opened before the draw: enough to tell a few near lights from thousands far away,
/// few enough to cost little where lights are close together.
const OPENED: u32 = 6;

/// Levels of the tree at most: thirty by cost, then halves of at most 2³² lights.
const MOST_DEPTH: usize = 64;

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
    nodes: Vec<Node>,
    /// For each light, the turns from the root to its leaf: bit k is the child taken at depth k.
    trails: Vec<(u64, u8)>,
}

/// cos(max(0, a − b)) of two angles.
fn cos_less(sin_a: f32, cos_a: f32, sin_b: f32, cos_b: f32) -> f32 {
    if cos_a > cos_b { 1.0 } else { cos_a * cos_b + sin_a * sin_b }
}

/// sin(max(0, a − b)).
fn sin_less(sin_a: f32, cos_a: f32, sin_b: f32, cos_b: f32) -> f32 {
    if cos_a > cos_b { 0.0 } else { sin_a * cos_b - cos_a * sin_b }
}

/// What to expect of a cosine that is at most `bound`, and `middle` at the middle of a group. The bound alone would promise far
/// too much for groups near the horizon.
fn likely(bound: f32, middle: f32) -> f32 {
    0.15 * bound + 0.85 * middle.max(0.0)
}

fn sine(cos: f32) -> f32 {
    (1.0 - cos * cos).max(0.0).sqrt()
}

impl Node {
    fn new(l: &Leaf) -> Node {
        let (sin_spread, cos_spread) = l.cone.spread.sin_cos();
        Node {
            lo: l.lo,
            hi: l.hi,
            centre: 0.5 * (l.lo + l.hi),
            radius: 0.5 * (l.hi - l.lo).length(),
            axis: l.cone.axis,
            sin_spread,
            cos_spread,
            power: l.power,
            next: 0,
        }
    }

    /// A group in the upper levels that is nearer than 1.4 times its radius.
    fn is_uncertain(&self, r: &Receiver, depth: u32) -> bool {
        depth < OPENED
            && self.next & IS_LIGHT == 0
            && (self.centre - r.position).length_squared() < 2.0 * self.radius * self.radius
    }

    /// An estimate of the light that arrives; zero only if none can.
    fn importance(&self, r: &Receiver) -> f32 {
        let to = self.centre - r.position;
        let d2 = to.length_squared();
        let radius2 = self.radius * self.radius;
        let near2 = d2.max(radius2).max(1e-20);
        // Inside the sphere around the node anything is possible.
        let inside = d2 <= radius2;
        let inverse = if d2 > 0.0 { 1.0 / d2.sqrt() } else { 0.0 };
        let w = to * inverse;
        let sin_b = self.radius * inverse;
        let cos_b = sine(sin_b);
        let mut out = 1.0;
        if self.cos_spread > -0.999 && !inside {
            let cos_w = -self.axis.dot(w);
            let sin_w = sine(cos_w);
            let cos_x = cos_less(sin_w, cos_w, self.sin_spread, self.cos_spread);
            let sin_x = sin_less(sin_w, cos_w, self.sin_spread, self.cos_spread);
            let cos = cos_less(sin_x, cos_x, sin_b, cos_b);
            if cos <= 0.0 {
                return 0.0;
            }
            out = likely(cos, cos_x);
        }
        if let (Some(n), false) = (r.normal, inside) {
            let cos_n = if r.both_sides { n.dot(w).abs() } else { n.dot(w) };
            let cos = cos_less(sine(cos_n), cos_n, sin_b, cos_b);
            if cos <= 0.0 {
                return 0.0;
            }
            out *= likely(cos, cos_n);
        }
        self.power * out / near2
    }
}

impl LightTree {
    pub fn new(leaves: &[Leaf]) -> LightTree {
        let mut tree = LightTree { nodes: Vec::new(), trails: vec![(0, 0); leaves.len()] };
        if leaves.is_empty() {
            return tree;
        }
        let mut order: Vec<u32> = (0..leaves.len() as u32).collect();
        let root = leaves.iter().copied().reduce(Leaf::with).unwrap_or(leaves[0]);
        tree.nodes.push(Node::new(&root));
        tree.grow(0, &mut order, leaves, 0, 0);
        tree
    }

    fn grow(&mut self, node: usize, lights: &mut [u32], leaves: &[Leaf], trail: u64, depth: u8) {
        if lights.len() == 1 {
            self.nodes[node].next = lights[0] | IS_LIGHT;
            self.trails[lights[0] as usize] = (trail, depth);
            return;
        }
        let middle = divide(lights, leaves, depth);
        let (left, right) = lights.split_at_mut(middle);
        let around = |list: &[u32]| list.iter().map(|i| leaves[*i as usize]).reduce(Leaf::with);
        let first = self.nodes.len();
        self.nodes[node].next = first as u32;
        for side in [&*left, &*right] {
            if let Some(l) = around(side) {
                self.nodes.push(Node::new(&l));
            }
        }
        self.grow(first, left, leaves, trail, depth + 1);
        self.grow(first + 1, right, leaves, trail | 1 << depth, depth + 1);
    }

    /// Tells the cut for a receiver: groups that lie so far away, compared to their size, that their importance means
    /// something, and single lights. A group around or near the receiver is worth no more than a guess; its children are
    /// told in its place. `tell` gets a node with its importance and returns whether to go on.
    fn cut(&self, r: &Receiver, tell: &mut impl FnMut(usize, f32) -> bool) {
        let mut stack = [(0u32, 0u32); 2 * MOST_DEPTH];
        let mut top = usize::from(!self.nodes.is_empty());
        while top > 0 {
            top -= 1;
            let (i, depth) = stack[top];
            let i = i as usize;
            let n = &self.nodes[i];
            if n.is_uncertain(r, depth) {
                stack[top] = (n.next + 1, depth + 1);
                stack[top + 1] = (n.next, depth + 1);
                top += 2;
            } else if !tell(i, n.importance(r)) {
                return;
            }
        }
    }

    /// The importance of all lights together.
    pub fn importance(&self, r: &Receiver) -> f32 {
        let mut sum = 0.0;
        self.cut(r, &mut |_, importance| {
            sum += importance;
            true
        });
        sum
    }

    fn chance_of_second(&self, first: usize, r: &Receiver) -> Option<f32> {
        let (a, b) = (self.nodes[first].importance(r), self.nodes[first + 1].importance(r));
        (a + b > 0.0).then(|| b / (a + b))
    }

    /// Draws a light; returns it with its chance. `total` is [`LightTree::importance`].
    pub fn draw(&self, r: &Receiver, total: f32, u: f32) -> Option<(u32, f32)> {
        let mut rest = u * total;
        let mut chosen = None;
        self.cut(r, &mut |i, importance| {
            if importance > 0.0 {
                // Rounding may leave a sliver behind the last one.
                chosen = Some((i, importance, (rest / importance).min(0.999_999_94)));
                if rest < importance {
                    return false;
                }
                rest -= importance;
            }
            true
        });
        let (i, importance, mut u) = chosen?;
        let (mut node, mut chance) = (&self.nodes[i], importance / total);
        while node.next & IS_LIGHT == 0 {
            let first = node.next as usize;
            let second = self.chance_of_second(first, r)?;
            let share = if u < 1.0 - second {
                u /= 1.0 - second;
                node = &self.nodes[first];
                1.0 - second
            } else {
                u = (u - (1.0 - second)) / second;
                node = &self.nodes[first + 1];
                second
            };
            chance *= share;
            u = u.min(0.999_999_94);
        }
        Some((node.next & !IS_LIGHT, chance))
    }

    /// The chance with which [`LightTree::draw`] draws a light.
    pub fn chance(&self, r: &Receiver, total: f32, light: u32) -> f32 {
        let (trail, depth) = self.trails[light as usize];
        let mut node = &self.nodes[0];
        let mut turns = (0..depth).map(|k| (trail >> k & 1) as usize);
        let mut down = 0;
        while node.is_uncertain(r, down) {
            let Some(turn) = turns.next() else { break };
            down += 1;
            node = &self.nodes[node.next as usize + turn];
        }
        let mut chance = node.importance(r) / total;
        for turn in turns {
            let first = node.next as usize;
            let Some(second) = self.chance_of_second(first, r) else { return 0.0 };
            chance *= if turn == 1 { second } else { 1.0 - second };
            if chance == 0.0 {
                return 0.0;
            }
            node = &self.nodes[first + turn];
        }
        chance
    }

    /// Tells every light whose box a ray from `origin` meets before `far`.
    pub fn along(&self, origin: Vec3, direction: Vec3, far: f32, tell: &mut impl FnMut(u32)) {
        let inverse = direction.recip();
        let mut stack = [0u32; 2 * MOST_DEPTH];
        let mut top = usize::from(!self.nodes.is_empty());
        while top > 0 {
            top -= 1;
            let n = &self.nodes[stack[top] as usize];
            let (a, b) = ((n.lo - origin) * inverse, (n.hi - origin) * inverse);
            let (enter, leave) = (a.min(b).max_element(), a.max(b).min_element());
            if enter.max(0.0) > leave * 1.000_001 || enter > far {
                continue;
            }
            if n.next & IS_LIGHT != 0 {
                tell(n.next & !IS_LIGHT);
            } else {
                stack[top] = n.next;
                stack[top + 1] = n.next + 1;
                top += 2;
            }
        }
    }
}

/// Orders lights so that a cut divides them well, and returns the cut: least power × directions × surface over binned
/// planes. From a certain depth on they are halved, which keeps trails short enough.
fn divide(lights: &mut [u32], leaves: &[Leaf], depth: u8) -> usize {
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
            let total = tree.importance(&r);
            let chances: Vec<f32> = (0..200).map(|i| tree.chance(&r, total, i)).collect();
            // Chances may add up to less where groups promised light that none of their members sends.
            let sum = chances.iter().sum::<f32>();
            assert!(sum < 1.001 && sum > 0.5, "{sum}");
            let n = 20_000;
            let mut counts = [0u32; 200];
            for i in 0..n {
                let Some((light, chance)) = tree.draw(&r, total, (i as f32 + 0.5) / n as f32) else { continue };
                assert!((chance / chances[light as usize] - 1.0).abs() < 1e-3);
                counts[light as usize] += 1;
            }
            for i in 0..200 {
                assert!((counts[i] as f32 / n as f32 - chances[i]).abs() < 2e-3 + 0.02 * chances[i]);
            }
        }
    }
}
