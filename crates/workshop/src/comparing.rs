//! Two to four proofs side by side, as numbers and as maps; against each other, or against a reference.

use crate::{Column, Comparison, KnobRow, Look, Shown, Workshop, parse};
use fault::{Code, Fault};
use picture::against::{Against, Halves, against, look_map};
use picture::grain::{BlockMap, Judging};
use picture::maps::signed_colour;
use picture::{Plate, Region, Rgb, View, luminance, metrics};
use std::collections::BTreeMap;
use std::sync::Arc;
use store::ProofRow;
use tracer::{Description, RenderReport};
use tuning::{K, KNOBS, Value};

/// How proofs are looked at, by their ids; what is absent shows itself as it was made.
pub type Looks = BTreeMap<i64, Look>;

/// Most proofs in one comparison.
const MOST: usize = 4;

/// A proof made ready for comparing.
struct Side {
    row: ProofRow,
    description: Option<Description>,
    report: Option<RenderReport>,
    /// Frame, region and halves of the picture as delivered.
    plate: Arc<Plate>,
    halves: (Vec<Rgb>, Vec<Rgb>),
    view: View,
    /// Root mean square noise of the picture as it is shown; none of one without halves.
    noise: Option<f64>,
}

impl Side {
    /// The mean of the part inside a region.
    fn cut(&self, r: Region) -> Vec<Rgb> {
        let (a, b) = self.cut_halves(r);
        a.iter().zip(&b).map(|(a, b)| std::array::from_fn(|c| 0.5 * (a[c] + b[c]))).collect()
    }

    fn cut_halves(&self, r: Region) -> (Vec<Rgb>, Vec<Rgb>) {
        let own = self.plate.region;
        (own.cut(&self.halves.0, r), own.cut(&self.halves.1, r))
    }

    /// Places in a region have no samples, as in pilots and tests that were stopped early.
    fn has_gaps(&self, r: Region) -> bool {
        self.description.is_some() && self.plate.region.cut(&self.plate.samples, r).contains(&0)
    }

    /// The same on another frame, with what is then held of it.
    fn on_frame(&self, frame: (u32, u32)) -> Option<Side> {
        let own = self.plate.region;
        let scale = |v: u32, to: u32, of: u32, up: bool| {
            let x = v as f64 * to as f64 / of as f64;
            if up { x.ceil() as u32 } else { x.floor() as u32 }
        };
        let (fx, fy) = self.plate.frame;
        if !same_shape(frame, (fx, fy)) {
            return None;
        }
        let (x, y) = (scale(own.x, frame.0, fx, true), scale(own.y, frame.1, fy, true));
        let (right, bottom) = (scale(own.right(), frame.0, fx, false), scale(own.bottom(), frame.1, fy, false));
        if right <= x || bottom <= y {
            return None;
        }
        let region = Region { x, y, width: right - x, height: bottom - y };
        let (a, b) = self.halves.clone();
        let moved = Plate { a, b, ..(*self.plate).clone() }.on_frame(frame, region);
        let halves = (moved.a.clone(), moved.b.clone());
        Some(Side {
            row: self.row.clone(),
            description: self.description.clone(),
            report: self.report.clone(),
            plate: Arc::new(moved),
            halves,
            view: self.view,
            noise: self.noise,
        })
    }
}

/// Frames of the same shape but for whole pixels: others are not stretched onto each other.
fn same_shape(a: (u32, u32), b: (u32, u32)) -> bool {
    let side = |x: u32, of: u32, to: u32| x as f64 * to as f64 / of as f64;
    (side(a.1, a.0, b.0) - b.1 as f64).abs() <= 1.0 || (side(a.0, a.1, b.1) - b.0 as f64).abs() <= 1.0
}

impl Workshop {
    /// A proof as it is looked at, or as it shows itself.
    fn side(&self, id: i64, looks: &Looks) -> Result<Side, Fault> {
        let row = self.0.store.proof(id)?;
        let description = self.description_of(&row)?;
        let plate = self.plate(id)?;
        let look = looks.get(&id).cloned().map_or_else(|| self.look_of(id), Ok)?;
        // Both halves cleaned alike, so that their difference is the grain that is left.
        let [a, b] = self.cleaned(id, &look)?.halves.clone();
        let judging = Judging::delivered(look.view, look.clean);
        let noise = description.is_some().then(|| BlockMap::of_halves(&plate, [&a, &b], &judging).summary().0);
        let report = row.report.as_deref().map(|r| parse(r, "report")).transpose()?;
        Ok(Side { view: look.view, report, halves: (a, b), plate, description, row, noise })
    }

    /// The table of a comparison. The first of `ids` is A; the others are measured against it, or all of them against
    /// `reference`. Every figure is of the pictures as they are looked at.
    pub fn compare(&self, ids: &[i64], reference: Option<i64>, looks: &Looks) -> Result<Comparison, Fault> {
        if ids.len() < 2 && reference.is_none() || ids.is_empty() || ids.len() > MOST {
            let what = format!("{} proofs cannot be compared", ids.len());
            return Err(Fault::new(Code::OutOfRange, what, "proofs", format!("choose two to {MOST}")));
        }
        self.shared(&format!("comparison {ids:?} {reference:?} {looks:?}"), || {
            self.make_comparison(ids, reference, looks)
        })
    }

    fn make_comparison(&self, ids: &[i64], reference: Option<i64>, looks: &Looks) -> Result<Comparison, Fault> {
        let sides: Vec<Side> = ids.iter().map(|id| self.side(*id, looks)).collect::<Result<_, _>>()?;
        let base = match reference {
            Some(id) => Some(self.side(id, looks)?),
            None => None,
        };
        let first = &sides[0];
        let ratio = |x: Option<f64>, y: Option<f64>| x.zip(y).filter(|(_, y)| *y > 0.0).map(|(x, y)| x / y);
        let figure = |s: &Side, f: fn(&RenderReport) -> f64| s.report.as_ref().map(f);
        let mut columns = Vec::new();
        for (i, s) in sides.iter().enumerate() {
            let mut column = Column {
                proof: s.row.id,
                seconds: figure(s, |r| r.seconds),
                time_ratio: ratio(figure(first, |r| r.seconds), figure(s, |r| r.seconds)),
                grain: s.noise,
                grain_ratio: ratio(first.noise, s.noise),
                samples_per_pixel: figure(s, |r| r.samples_per_pixel),
                rays: figure(s, |r| r.rays.iter().map(|k| k.rays as f64).sum()),
                metrics: None,
                against: None,
                shared: None,
                notes: Vec::new(),
            };
            let against_base = base.as_ref().or((i > 0).then_some(first));
            if let Some(b) = against_base.filter(|b| b.row.id != s.row.id) {
                self.0.screen.install(|| measure(&mut column, s, b, base.is_some()))?;
            }
            columns.push(column);
        }
        let known: Vec<Option<&Description>> = sides.iter().map(|s| s.description.as_ref()).collect();
        let value = |d: &Option<&Description>, i: usize| -> Option<Value> {
            d.and_then(|d| d.tuning.to_map().get(KNOBS[i].id).map(|v| (*v).clone()))
        };
        let rows = (0..KNOBS.len())
            .map(|i| KnobRow {
                id: KNOBS[i].id,
                label: KNOBS[i].label,
                values: known.iter().map(|d| value(d, i)).collect(),
            })
            .filter(|r| {
                let mut given = r.values.iter().flatten();
                given.next().is_some_and(|v| given.any(|w| w != v))
            })
            .collect();
        Ok(Comparison { rows, columns, reference })
    }

    /// Where b is brighter or darker than a: display luminance, signed, times `gain`.
    pub fn difference(&self, a: i64, b: i64, gain: f64, looks: &Looks) -> Result<Shown, Fault> {
        let (a, b, r, frame) = self.pair(a, b, looks)?;
        let view = b.view;
        let shown = |s: &Side| -> Vec<f32> { s.cut(r).iter().map(|c| luminance(view.display(*c))).collect() };
        let (da, db) = (shown(&a), shown(&b));
        Ok(Shown::opaque(frame, r, da.iter().zip(&db).map(|(a, b)| signed_colour((b - a) as f64 * gain))))
    }

    /// Where a proof's look differs from a reference beyond its grain: display luminance, signed, times `gain`.
    pub fn look_change(&self, proof: i64, reference: i64, gain: f64, looks: &Looks) -> Result<Shown, Fault> {
        let (r, x, shared, frame) = self.pair(reference, proof, looks)?;
        let ((xa, xb), (ra, rb)) = (x.cut_halves(shared), r.cut_halves(shared));
        let halves = (Halves { a: &xa, b: &xb }, Halves { a: &ra, b: &rb });
        let map = look_map(halves.0, halves.1, shared.width as usize, 8, &x.view);
        Ok(Shown::opaque(frame, shared, map.iter().map(|v| signed_colour(v * gain))))
    }

    /// Two proofs on the frame of the second, with the part that both hold.
    fn pair(&self, a: i64, b: i64, looks: &Looks) -> Result<(Side, Side, Region, (u32, u32)), Fault> {
        let (mut a, b) = (self.side(a, looks)?, self.side(b, looks)?);
        let frame = b.plate.frame;
        if a.plate.frame != frame {
            let apart = if same_shape(a.plate.frame, frame) { nothing_shared } else { other_shape };
            a = a.on_frame(frame).ok_or_else(apart)?;
        }
        let shared = a.plate.region.shared(b.plate.region).ok_or_else(nothing_shared)?;
        Ok((a, b, shared, frame))
    }
}

fn other_shape() -> Fault {
    let remedy = "choose proofs whose frames have the same shape";
    Fault::new(Code::Contradiction, "their frames have different shapes", "proofs", remedy)
}

fn nothing_shared() -> Fault {
    Fault::new(Code::Contradiction, "the two show no common part of the frame", "proofs", "choose proofs that overlap")
}

/// Fills in how a proof differs from a base.
fn measure(column: &mut Column, s: &Side, base: &Side, is_reference: bool) -> Result<(), Fault> {
    let moved;
    let mut b = base;
    if b.plate.frame != s.plate.frame {
        match b.on_frame(s.plate.frame) {
            Some(m) => moved = m,
            None if !same_shape(b.plate.frame, s.plate.frame) => {
                column.notes.push("not measured: the frames have different shapes".into());
                return Ok(());
            }
            None => return Ok(()),
        }
        column.notes.push(format!(
            "{} of {} × {} was brought to {} × {} first",
            if is_reference { "the reference" } else { "A" },
            base.plate.frame.0,
            base.plate.frame.1,
            s.plate.frame.0,
            s.plate.frame.1
        ));
        b = &moved;
    }
    let Some(shared) = s.plate.region.shared(b.plate.region) else {
        column.notes.push("no common part of the frame".into());
        return Ok(());
    };
    if s.has_gaps(shared) || b.has_gaps(shared) {
        column.notes.push("not measured: one of the two has places that were not rendered".into());
        return Ok(());
    }
    let size = (shared.width as usize, shared.height as usize);
    column.metrics = Some(metrics::compare(&s.cut(shared), &b.cut(shared), size, &s.view)?);
    column.shared = Some(shared);
    let seed = |s: &Side| s.description.as_ref().map(|d| d.tuning.whole(K::SamplingSeed));
    let halves_known = s.description.is_some() && b.description.is_some();
    if !halves_known {
        column.notes.push("grain and look cannot be told apart: one of the two is a picture from elsewhere".into());
    } else if seed(s) == seed(b) {
        column.notes.push("the same seed: shared samples hide error, so grain and look are not told apart".into());
    } else {
        let ((xa, xb), (ra, rb)) = (s.cut_halves(shared), b.cut_halves(shared));
        let split: Against = against(Halves { a: &xa, b: &xb }, Halves { a: &ra, b: &rb }, size.0);
        column.against = Some(split);
    }
    Ok(())
}
