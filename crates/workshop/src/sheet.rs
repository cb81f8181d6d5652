//! The proofs of a shot to take along: a table as CSV (RFC 4180), and a contact sheet as PNG.

use crate::{ProofView, Workshop};
use fault::Fault;
use font8x8::{BASIC_FONTS, LATIN_FONTS, UnicodeFonts};
use picture::files::{PngForm, png, read_picture};
use picture::{Rgb, View, reduced};
use std::collections::BTreeSet;

/// Cells a row, their size, and the lines of text under a picture.
const COLUMNS: usize = 4;
const PICTURE: (usize, usize) = (304, 190);
const GAP: usize = 16;
const LINES: usize = 3;
const LINE: usize = 13;

/// A field of RFC 4180: quoted where it must be.
fn field(text: &str) -> String {
    // Spreadsheets take such a beginning for a formula.
    let plain = if text.starts_with(['=', '+', '-', '@']) { format!("'{text}") } else { text.to_string() };
    if plain.contains(['"', ',', '\n', '\r']) { format!("\"{}\"", plain.replace('"', "\"\"")) } else { plain }
}

impl Workshop {
    /// All proofs of a shot, oldest first; a column for every knob in which they differ.
    pub fn proofs_csv(&self, shot: i64) -> Result<String, Fault> {
        let mut proofs = self.proofs(shot)?;
        proofs.reverse();
        let mut knobs: BTreeSet<&str> = BTreeSet::new();
        for pair in proofs.windows(2) {
            for (id, value) in &pair[1].tuning {
                if pair[0].tuning.get(id) != Some(value) {
                    knobs.insert(id);
                }
            }
        }
        let heads = [
            "proof",
            "name",
            "kind",
            "state",
            "camera",
            "width",
            "height",
            "region",
            "seconds",
            "samples_per_pixel",
            "grain",
            "worst_block",
            "settled",
            "capped",
            "rays",
            "overlays",
            "note",
        ];
        let mut out =
            heads.iter().map(|h| h.to_string()).chain(knobs.iter().map(|k| field(k))).collect::<Vec<_>>().join(",");
        out.push_str("\r\n");
        for p in &proofs {
            let number = |f: fn(&tracer::RenderReport) -> f64| {
                p.report.as_ref().map_or(String::new(), |r| format!("{:.6}", f(r)))
            };
            let region = p.region.map_or(String::new(), |r| format!("{} {} {} {}", r.x, r.y, r.width, r.height));
            let mut row = vec![
                p.number.to_string(),
                field(&p.name),
                format!("{:?}", p.kind).to_lowercase(),
                format!("{:?}", p.state).to_lowercase(),
                field(p.camera.as_deref().unwrap_or("")),
                p.frame.0.to_string(),
                p.frame.1.to_string(),
                region,
                number(|r| r.seconds),
                number(|r| r.samples_per_pixel),
                number(|r| r.grain),
                number(|r| r.worst_block),
                number(|r| r.settled),
                number(|r| r.capped),
                p.report.as_ref().map_or(String::new(), |r| r.rays.iter().map(|k| k.rays).sum::<u64>().to_string()),
                field(&p.overlays.join("; ")),
                field(&p.note),
            ];
            let value = |k: &&str| match p.tuning.get(*k) {
                Some(serde_json::Value::String(s)) => field(s),
                Some(v) => v.to_string(),
                None => String::new(),
            };
            row.extend(knobs.iter().map(value));
            out.push_str(&row.join(","));
            out.push_str("\r\n");
        }
        Ok(out)
    }

    /// Small pictures of all proofs with what they took and what grain they left.
    pub fn contact_sheet(&self, shot: i64) -> Result<Vec<u8>, Fault> {
        let mut proofs = self.proofs(shot)?;
        proofs.reverse();
        let title = format!("{}: {} proofs", self.shot(shot)?.name, proofs.len());
        let cell = (PICTURE.0 + GAP, PICTURE.1 + LINES * LINE + GAP + 6);
        let rows = proofs.len().div_ceil(COLUMNS).max(1);
        let head = 2 * GAP + 8;
        let (w, h) = (COLUMNS * cell.0 + GAP, head + rows * cell.1);
        let mut sheet = Sheet { pixels: vec![[0.9; 3]; w * h], width: w };
        sheet.text(GAP, GAP, &title, COLUMNS * cell.0);
        for (i, p) in proofs.iter().enumerate() {
            let (x, y) = (GAP + i % COLUMNS * cell.0, head + i / COLUMNS * cell.1);
            sheet.fill(x, y, PICTURE, [0.18; 3]);
            if let Ok(small) = read_picture(&self.0.store.proof_folder(p.id).join("thumb.png")) {
                let scale = (PICTURE.0 as f64 / small.width as f64).min(PICTURE.1 as f64 / small.height as f64);
                let to = |n: usize| ((n as f64 * scale) as usize).max(1);
                let size = (to(small.width), to(small.height));
                let pixels = reduced(&small.pixels, (small.width, small.height), size);
                sheet.lay(x + (PICTURE.0 - size.0) / 2, y + (PICTURE.1 - size.1) / 2, &pixels, size);
            }
            for (k, line) in lines(p).iter().enumerate() {
                sheet.text(x, y + PICTURE.1 + 5 + k * LINE, line, PICTURE.0);
            }
        }
        let mut out = Vec::new();
        png(&mut out, &sheet.pixels, (w as u32, h as u32), &View::PLAIN, PngForm::PLAIN)?;
        Ok(out)
    }
}

fn lines(p: &ProofView) -> [String; LINES] {
    let name = if p.name.is_empty() { String::new() } else { format!(" {}", p.name) };
    let mark = if p.kept { "" } else { " (not kept)" };
    let region = p.region.map_or("whole frame".to_string(), |r| format!("region {} x {}", r.width, r.height));
    let figures = p.report.as_ref().map_or(String::new(), |r| {
        format!("{:.1} s, grain {:.2} %, {:.0} spp", r.seconds, 100.0 * r.grain, r.samples_per_pixel)
    });
    [format!("proof {}{name}{mark}", p.number), figures, format!("{} x {}, {region}", p.frame.0, p.frame.1)]
}

struct Sheet {
    pixels: Vec<Rgb>,
    width: usize,
}

impl Sheet {
    fn fill(&mut self, x: usize, y: usize, (w, h): (usize, usize), colour: Rgb) {
        for row in y..y + h {
            self.pixels[row * self.width + x..row * self.width + x + w].fill(colour);
        }
    }

    fn lay(&mut self, x: usize, y: usize, pixels: &[Rgb], (w, h): (usize, usize)) {
        for row in 0..h {
            let to = (y + row) * self.width + x;
            self.pixels[to..to + w].copy_from_slice(&pixels[row * w..(row + 1) * w]);
        }
    }

    /// One line, cut off at `most` pixels.
    fn text(&mut self, x: usize, y: usize, text: &str, most: usize) {
        for (i, c) in text.chars().take(most / 8).enumerate() {
            let Some(glyph) = BASIC_FONTS.get(c).or_else(|| LATIN_FONTS.get(c)).or_else(|| BASIC_FONTS.get('?')) else {
                continue;
            };
            for (row, bits) in glyph.iter().enumerate() {
                for column in (0..8).filter(|k| bits >> k & 1 == 1) {
                    self.pixels[(y + row) * self.width + x + 8 * i + column] = [0.015; 3];
                }
            }
        }
    }
}
