//! Pictures as planes of floats in padded rows, for filters that work on runs of pixels.
//!
//! All arithmetic is by lanes without fused operations, so the results do not depend on how wide the processor works.

use rayon::prelude::*;

/// Pixels in a run.
pub(super) const L: usize = 32;
/// Pixels beyond the left and right borders; the farthest that a filter may reach.
pub(super) const PAD: usize = 32;

/// Planes of a picture, row by row: all planes of a row lie together.
pub(super) struct Field {
    pub w: usize,
    pub h: usize,
    planes: usize,
    stride: usize,
    data: Vec<f32>,
}

/// A run of a row from its pixel x on.
#[inline(always)]
pub(super) fn lanes(row: &[f32], x: usize) -> &[f32; L] {
    row[x..x + L].first_chunk().expect("a run is in its row")
}

impl Field {
    /// From a function that fills in the planes of a pixel; `beyond` stands in the padding.
    pub fn of(w: usize, h: usize, planes: usize, beyond: f32, fill: impl Fn(usize, &mut [f32]) + Sync) -> Field {
        let stride = w.next_multiple_of(L) + 2 * PAD;
        let mut data = vec![beyond; h * planes * stride];
        data.par_chunks_mut(planes * stride).enumerate().for_each(|(y, rows)| {
            let mut pixel = vec![0.0; planes];
            for x in 0..w {
                fill(y * w + x, &mut pixel);
                pixel.iter().enumerate().for_each(|(c, v)| rows[c * stride + PAD + x] = *v);
            }
        });
        Field { w, h, planes, stride, data }
    }

    /// A row of a plane; its first pixel stands at [`PAD`].
    #[inline(always)]
    pub fn row(&self, y: usize, plane: usize) -> &[f32] {
        let at = (y * self.planes + plane) * self.stride;
        &self.data[at..at + self.stride]
    }

    pub fn get(&self, x: usize, y: usize, plane: usize) -> f32 {
        self.row(y, plane)[PAD + x]
    }

    /// A field of the same size. `run` gets the place of a run in its row, padding included, and its row, and hands out each
    /// plane's values.
    pub fn filtered(&self, planes: usize, run: impl Fn(usize, usize, &mut dyn FnMut(usize, [f32; L])) + Sync) -> Field {
        let stride = self.stride;
        let mut data = vec![0.0; self.h * planes * stride];
        data.par_chunks_mut(planes * stride).enumerate().for_each(|(y, rows)| {
            for x in (PAD..PAD + self.w).step_by(L) {
                run(x, y, &mut |plane, values| {
                    let at = plane * stride + x;
                    rows[at..at + L].copy_from_slice(&values);
                });
            }
        });
        Field { w: self.w, h: self.h, planes, stride, data }
    }
}
