//! Four Sobol dimensions (Joe and Kuo 2008, direction numbers new-joe-kuo-6) with nested uniform scrambling by hash
//! (Burley, "Practical Hash-based Owen Scrambling", 2020). Indices are looked up byte by byte: O(1) a point.

/// Joe–Kuo parameters of dimensions 2…4: degree s, coefficients a, initial m. Dimension 1 is the van der Corput sequence.
const PARAMETERS: [(u32, u32, [u32; 3]); 3] = [(1, 0, [1, 0, 0]), (2, 1, [1, 3, 0]), (3, 1, [1, 3, 1])];

/// Numbers of the four dimensions side by side.
pub type Four = [u32; 4];

/// For each byte of the index, the exclusive-or of its direction numbers, with the bits in reverse order, as scrambling wants
/// them: one line of memory brings all dimensions.
static TABLES: [[Four; 256]; 4] = tables();

const fn tables() -> [[Four; 256]; 4] {
    let mut t = [[[0u32; 4]; 256]; 4];
    let mut dimension = 0;
    while dimension < 4 {
        let v = directions(dimension);
        let mut i = 0;
        while i < 4 * 256 {
            let (byte, value) = (i / 256, i % 256);
            let mut bit = 0;
            while bit < 8 {
                if value >> bit & 1 == 1 {
                    t[byte][value][dimension] ^= v[byte * 8 + bit].reverse_bits();
                }
                bit += 1;
            }
            i += 1;
        }
        dimension += 1;
    }
    t
}

const fn directions(dimension: usize) -> [u32; 32] {
    let mut v = [0u32; 32];
    let mut i = 0;
    while i < 32 {
        if dimension == 0 {
            v[i] = 1 << (31 - i);
        } else {
            let (s, a, m) = PARAMETERS[dimension - 1];
            let s = s as usize;
            if i < s {
                v[i] = m[i] << (31 - i);
            } else {
                let mut x = v[i - s] ^ (v[i - s] >> s);
                let mut k = 1;
                while k < s {
                    if a >> (s - 1 - k) & 1 == 1 {
                        x ^= v[i - k];
                    }
                    k += 1;
                }
                v[i] = x;
            }
        }
        i += 1;
    }
    v
}

/// The unscrambled point `index` as fractions of 2³², with their bits in reverse order.
#[inline]
fn reversed(index: u32) -> Four {
    let b = index.to_le_bytes().map(usize::from);
    let rows = [0, 1, 2, 3].map(|k| TABLES[k][b[k]]);
    std::array::from_fn(|d| rows[0][d] ^ rows[1][d] ^ rows[2][d] ^ rows[3][d])
}

/// Point `index`, each dimension scrambled by a seed of its own, as fractions of 2³².
#[inline]
pub fn scrambled(index: u32, seeds: Four) -> Four {
    let plain = reversed(index);
    std::array::from_fn(|d| permute(plain[d], seeds[d]).reverse_bits())
}

/// A good 32-bit mixer (finaliser of MurmurHash3, public domain).
#[inline]
pub fn mix(mut x: u32) -> u32 {
    x ^= x >> 16;
    x = x.wrapping_mul(0x85eb_ca6b);
    x ^= x >> 13;
    x = x.wrapping_mul(0xc2b2_ae35);
    x ^ (x >> 16)
}

/// Hash of two numbers.
#[inline]
pub fn combine(a: u32, b: u32) -> u32 {
    mix(a ^ mix(b.wrapping_add(0x9e37_79b9)).wrapping_add(a << 6).wrapping_add(a >> 2))
}

/// Owen scrambling: every bit is flipped depending on all higher bits.
#[inline]
pub fn scramble(x: u32, seed: u32) -> u32 {
    permute(x.reverse_bits(), seed).reverse_bits()
}

/// Every bit is flipped depending on all lower ones: a Laine–Karras style permutation with Burley's constants.
#[inline]
fn permute(mut x: u32, seed: u32) -> u32 {
    x ^= x.wrapping_mul(0x3d20_adea);
    x = x.wrapping_add(seed);
    x = x.wrapping_mul((seed >> 16) | 1);
    x ^= x.wrapping_mul(0x0552_6c56);
    x ^ x.wrapping_mul(0x53a2_2864)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// First points of the table by Joe and Kuo (2008), dimensions 1 to 4, in the order of the plain (not Gray code) index.
    #[test]
    fn first_points_match_the_published_sequence() {
        let expected: [[f64; 4]; 8] = [
            [0.0, 0.0, 0.0, 0.0],
            [0.5, 0.5, 0.5, 0.5],
            [0.25, 0.75, 0.75, 0.75],
            [0.75, 0.25, 0.25, 0.25],
            [0.125, 0.625, 0.375, 0.125],
            [0.625, 0.125, 0.875, 0.625],
            [0.375, 0.375, 0.625, 0.875],
            [0.875, 0.875, 0.125, 0.375],
        ];
        for (i, row) in expected.iter().enumerate() {
            for (d, x) in row.iter().enumerate() {
                let value = reversed(i as u32)[d].reverse_bits() as f64 / 2f64.powi(32);
                assert_eq!(value, *x, "point {i}, dimension {}", d + 1);
            }
        }
    }

    /// A (0,2)-sequence in base 2: each elementary interval of area 2^-m holds exactly one of any 2^m aligned points,
    /// scrambled or not (Niederreiter 1992; Owen 1995 for the scrambled ones).
    #[test]
    fn every_elementary_interval_holds_its_share() {
        for seed in [None, Some((17u32, 99u32)), Some((0x1234_5678, 0x9abc_def0))] {
            for m in [4u32, 7, 10] {
                for start in [0u32, 1 << m] {
                    for j in 0..=m {
                        let mut seen = vec![0u8; 1 << m];
                        for i in start..start + (1 << m) {
                            let index = seed.map_or(i, |s| scramble(i, s.0));
                            let seeds = |s: u32| [0u32, 1, 2, 3].map(|d| s.wrapping_add(d * 0x9e37));
                            let point =
                                seed.map_or(reversed(index).map(u32::reverse_bits), |s| scrambled(index, seeds(s.1)));
                            let cell = |x: u32, bits: u32| if bits == 0 { 0 } else { x >> (32 - bits) };
                            seen[((cell(point[0], j) << (m - j)) | cell(point[1], m - j)) as usize] += 1;
                        }
                        assert!(seen.iter().all(|c| *c == 1), "m = {m}, split {j}, seed {seed:?}");
                    }
                }
            }
        }
    }
}
