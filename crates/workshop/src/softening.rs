//! What softened caustics took: a softened test against the newest one whose samples differ in nothing else.

use crate::Workshop;
use fault::Fault;
use picture::{Plate, luminance};
use serde::Serialize;
use std::collections::BTreeMap;
use store::{ProofKind, ProofRow, ProofState};
use tracer::{Darkened, Description};
use ts_rs::TS;
use tuning::K;

/// Standard errors from which a loss is beyond what noise explains.
const SURE: f64 = 3.0;

/// Softened caustics of a proof.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Softening {
    /// Roughness of surfaces behind a diffuse bounce at the least.
    pub roughness: f64,
    /// None where no test without has ended.
    pub against: Option<SofteningAgainst>,
}

/// What differs from a test without softening.
#[derive(Debug, Clone, Serialize, TS)]
pub struct SofteningAgainst {
    #[ts(type = "number")]
    pub proof: i64,
    #[ts(type = "number")]
    pub proof_number: i64,
    /// Change of all light as a share of it, below 0 where some is lost, and its standard error.
    pub light: f64,
    pub error: f64,
    pub darkened: Vec<Darkened>,
}

impl Workshop {
    /// What softening changed in a proof; none where its caustics are sharp.
    pub(crate) fn softening(&self, proof: i64, plate: &Plate) -> Result<Option<Softening>, Fault> {
        let row = self.0.store.proof(proof)?;
        let Some(d) = self.description_of(&row)? else { return Ok(None) };
        let roughness = d.tuning.real(K::PathsSoften);
        if roughness == 0.0 {
            return Ok(None);
        }
        let wanted = Description { tuning: d.tuning.clone().with(K::PathsSoften, 0.0), ..d.clone() };
        let fits = |p: &ProofRow| -> Result<bool, Fault> {
            let from = self.description_of(p)?.filter(|_| p.kind == ProofKind::Test && p.state == ProofState::Done);
            Ok(from.is_some_and(|from| from.region == d.region && wanted.same_samples(&from)))
        };
        let mut sharp = None;
        for p in self.0.store.each_proof(row.shot) {
            let p = p?;
            if fits(&p)? {
                sharp = Some(p);
                break;
            }
        }
        let Some(sharp) = sharp else { return Ok(Some(Softening { roughness, against: None })) };
        let stage = self.stage(&(d.scene.clone(), d.environment.clone()), &mut |_| {})?;
        let (light, error, darkened) = change(&*self.plate(sharp.id)?, plate, &stage.scene.objects);
        let (proof, proof_number) = (sharp.id, sharp.number);
        Ok(Some(Softening {
            roughness,
            against: Some(SofteningAgainst { proof, proof_number, light, error, darkened }),
        }))
    }
}

/// Light before and after, and the variance of both that the halves show.
#[derive(Default)]
struct Sums {
    light: [f64; 2],
    variance: f64,
}

impl Sums {
    fn add(&mut self, pair: [[f64; 2]; 2]) {
        for (sum, [a, b]) in self.light.iter_mut().zip(pair) {
            *sum += 0.5 * (a + b);
            self.variance += (0.5 * (a - b)).powi(2);
        }
    }

    /// Change as a share of what there was, and its standard error; the noise of both counts as independent.
    fn change(&self) -> [f64; 2] {
        let before = self.light[0].max(1e-30);
        [self.light[1] / before - 1.0, self.variance.sqrt() / before]
    }
}

/// Change of the light between two pictures of the same region, its standard error, and the objects that lost much.
fn change(before: &Plate, after: &Plate, names: &[String]) -> (f64, f64, Vec<Darkened>) {
    let ids = after.layers.iter().find(|(n, _)| n == "object.id").map(|(_, v)| v);
    let (mut all, mut objects) = (Sums::default(), BTreeMap::<usize, Sums>::new());
    // A test that was stopped may have seen some places only.
    for i in (0..after.a.len()).filter(|i| before.samples[*i] > 0 && after.samples[*i] > 0) {
        let pair = [before, after].map(|p| [p.a[i], p.b[i]].map(|c| luminance(c) as f64));
        all.add(pair);
        if let Some(k) = ids.and_then(|ids| (ids[i] as usize).checked_sub(1)) {
            objects.entry(k).or_default().add(pair);
        }
    }
    let lost = objects.iter().filter_map(|(k, sums)| {
        let [change, error] = sums.change();
        let name = names.get(*k).cloned().unwrap_or_default();
        (-change > SURE * error).then_some(Darkened { name, lost: -change })
    });
    let darkened = Darkened::worst(lost);
    let [light, error] = all.change();
    (light, error, darkened)
}

#[cfg(test)]
mod tests {
    use super::*;
    use picture::Region;

    /// Two objects of two pixels each: one loses half of its light, the other as much but cannot be told from noise.
    #[test]
    fn a_loss_is_told_beyond_what_noise_explains() {
        let plate = |levels: [[f32; 2]; 4]| {
            let half = |h: usize| levels.map(|l| [l[h]; 3]).to_vec();
            let zero = vec![[0.0; 3]; 4];
            Plate {
                frame: (2, 2),
                region: Region::whole(2, 2),
                a: half(0),
                b: half(1),
                samples: vec![8; 4],
                coverage: vec![1.0; 4],
                albedo: zero.clone(),
                normal: zero,
                depth: vec![1.0; 4],
                split: None,
                layers: vec![("object.id".into(), vec![1.0, 1.0, 2.0, 2.0])],
            }
        };
        let before = plate([[2.0, 2.0], [2.0, 2.0], [1.0, 3.0], [3.0, 1.0]]);
        let after = plate([[1.0, 1.0], [1.0, 1.0], [0.0, 2.0], [2.0, 0.0]]);
        let (light, error, darkened) = change(&before, &after, &["Flask".into(), "Wall".into()]);
        assert!((light + 0.5).abs() < 1e-6, "{light}");
        // Four half-differences of 1 against a sum of 8.
        assert!((error - 0.25).abs() < 1e-6, "{error}");
        assert_eq!(darkened, [Darkened { name: "Flask".into(), lost: 0.5 }]);
        // What was not rendered is no loss.
        let part = Plate { samples: vec![8, 0, 8, 8], ..plate([[1.0, 1.0], [0.0, 0.0], [0.0, 2.0], [2.0, 0.0]]) };
        assert!((change(&before, &part, &[]).0 + 0.5).abs() < 1e-6);
    }
}
