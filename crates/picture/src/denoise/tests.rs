use super::detail::DetailMap;
use super::profile::{Hints, Profile, even, noise_level};
use super::*;
use crate::{Region, View, luminance};

fn hash(i: u32) -> u32 {
    let mut x = i.wrapping_mul(0x9E37_79B9) ^ 0x85EB_CA6B;
    x = (x ^ (x >> 16)).wrapping_mul(0x7FEB_352D);
    x = (x ^ (x >> 15)).wrapping_mul(0x846C_A68B);
    x ^ (x >> 16)
}

/// Gaussian noise of deviation 1 from two hashes (Box and Muller 1958).
fn gauss(i: u32) -> f32 {
    let unit = |k: u32| (hash(k) as f64 + 0.5) / 4_294_967_296.0;
    ((-2.0 * unit(2 * i).ln()).sqrt() * (std::f64::consts::TAU * unit(2 * i + 1)).cos()) as f32
}

/// A plate of given light and albedo, each half with noise of a deviation in proportion to the albedo.
fn plate(size: (u32, u32), noise: f32, light: impl Fn(u32, u32) -> f32, albedo: impl Fn(u32, u32) -> f32) -> Plate {
    let (w, h) = size;
    let n = w * h;
    let albedo: Vec<Rgb> = (0..n).map(|i| [albedo(i % w, i / w); 3]).collect();
    let half = |salt: u32| -> Vec<Rgb> {
        (0..n)
            .map(|i| {
                let of = |c: u32| light(i % w, i / w) + noise * gauss(3 * (2 * i + salt) + c);
                std::array::from_fn(|c| albedo[i as usize][c] * of(c as u32))
            })
            .collect()
    };
    Plate {
        frame: size,
        region: Region::whole(w, h),
        a: half(0),
        b: half(1),
        samples: vec![64; n as usize],
        coverage: vec![1.0; n as usize],
        normal: vec![[0.0, 0.0, 1.0]; n as usize],
        depth: vec![2.0; n as usize],
        split: None,
        layers: Vec::new(),
        albedo,
    }
}

/// Light and albedo 1 with a little noise.
pub(crate) fn even_plate(size: (u32, u32), noise: f32) -> Plate {
    plate(size, noise, |_, _| 1.0, |_, _| 1.0)
}

fn mse(x: &[Rgb], truth: impl Fn(usize) -> f32) -> f64 {
    let of = |(i, c): (usize, &Rgb)| ((c[1] - truth(i)) as f64).powi(2);
    x.iter().enumerate().map(of).sum::<f64>() / x.len() as f64
}

fn all(blend: f32) -> [CleanUp; 3] {
    Method::ALL.map(|m| CleanUp::with(m, blend))
}

/// Two fields of albedo 0.2 and 0.8 in even light: noise goes, the edge stays, energy is kept within 0.5 %, blend 0 is the noisy
/// picture, and a picture without noise comes out as it was within half a step of the display.
#[test]
fn noise_goes_the_edge_stays_and_a_clean_picture_is_left_alone() {
    let fields = |noise: f32| plate((96, 64), noise, |_, _| 1.0, |x, _| if x < 48 { 0.2 } else { 0.8 });
    let (noisy, clear) = (fields(0.15), fields(0.0));
    let truth = |i: usize| clear.a[i][1];
    let energy = |p: &[Rgb]| p.iter().map(|c| luminance(*c) as f64).sum::<f64>();
    for (how, gain) in all(1.0).into_iter().zip([40.0, 40.0, 8.0]) {
        let done = clean(&noisy, &how);
        let left = mse(&noisy.mean(), truth) / mse(&done, truth);
        assert!(left > gain, "{how:?}: {left}");
        let kept = energy(&done) / energy(&noisy.mean());
        assert!((kept - 1.0).abs() < 0.005, "{how:?}: {kept}");
        let row = 30 * 96;
        assert!((done[row + 47][1] - 0.2).abs() < 0.03 && (done[row + 48][1] - 0.8).abs() < 0.1, "{how:?}");
        for (x, r) in clean(&clear, &how).iter().zip(&clear.a) {
            let step = View::PLAIN.display(*x)[0] - View::PLAIN.display(*r)[0];
            assert!(step.abs() < 0.5 / 255.0, "{how:?}: {x:?} {r:?}");
        }
    }
    for how in all(0.0) {
        assert_eq!(clean(&noisy, &how), noisy.mean());
    }
}

/// Noise of path tracing is skewed: most pixels are a little too dark and few much too bright. Log-normal noise, here as much as
/// its mean, has its light spread, not taken away.
#[test]
fn skewed_noise_keeps_its_light() {
    let mut p = even_plate((96, 64), 0.0);
    for (salt, half) in [(0, &mut p.a), (1, &mut p.b)] {
        (0..).zip(half.iter_mut()).for_each(|(i, c)| *c = [(0.83 * gauss(2 * i + salt) - 0.345).exp(); 3]);
    }
    let energy = |p: &[Rgb]| p.iter().map(|c| luminance(*c) as f64).sum::<f64>();
    for method in Method::ALL {
        let done = clean(&p, &CleanUp::with(method, 1.0));
        let kept = energy(&done) / energy(&p.mean());
        assert!((kept - 1.0).abs() < 0.015, "{method:?}: {kept}");
        assert!(mse(&done, |_| 1.0) < 0.1 * mse(&p.mean(), |_| 1.0), "{method:?}");
    }
}

/// Light that varies by itself, without a guide to tell: waves of eight pixels at three times the noise keep 85 % of their
/// height.
#[test]
fn texture_of_the_light_survives() {
    let wave = |x: u32| (x as f32 * std::f32::consts::TAU / 8.0).sin();
    let noisy = plate((96, 64), 0.1, |x, _| 1.0 + 0.3 * wave(x), |_, _| 0.5);
    for how in all(1.0) {
        let done = clean(&noisy, &how);
        let height: f64 = done.iter().enumerate().map(|(i, c)| (c[1] * wave(i as u32 % 96)) as f64).sum::<f64>();
        let height = 2.0 * height / done.len() as f64 / (0.5 * 0.3);
        assert!(height > 0.85 && height < 1.05, "{how:?}: {height}");
    }
}

/// Cloth everywhere, as fine as noise and as strong: nothing is flat, but two halves know what is noise. Its threads keep 85 % of
/// their height and noise falls to less than a third of its variance; the same picture without halves loses threads.
#[test]
fn halves_tell_a_fine_texture_from_noise() {
    let thread = |x: u32, y: u32| if hash(x % 7 + 7 * (y % 5)).is_multiple_of(2) { 1.0f32 } else { -1.0 };
    let light = |x: u32, y: u32| 0.5 + 0.06 * thread(x, y);
    let p = plate((96, 64), 0.06, light, |_, _| 1.0);
    let how = CleanUp::with(Method::Colour, 1.0);
    let height = |of: &[Rgb]| {
        let along = |(i, c): (usize, &Rgb)| ((c[1] - 0.5) * thread(i as u32 % 96, i as u32 / 96)) as f64;
        of.iter().enumerate().map(along).sum::<f64>() / of.len() as f64 / 0.06
    };
    let done = clean(&p, &how);
    let truth = |i: usize| light(i as u32 % 96, i as u32 / 96);
    assert!(height(&done) > 0.85, "{}", height(&done));
    assert!(mse(&done, truth) < 0.33 * mse(&p.mean(), truth), "{}", mse(&done, truth) / mse(&p.mean(), truth));
    let lone = Plate { a: p.mean(), b: p.mean(), ..p };
    assert!(height(&clean(&lone, &how)) < 0.7, "{}", height(&clean(&lone, &how)));
}

fn picture_of(w: u32, h: u32) -> Vec<f32> {
    (0..w * h)
        .map(|i| {
            let (x, y) = (i % w, i / w);
            let shape = if (x as f32 - 40.0).powi(2) + (y as f32 - 30.0).powi(2) < 400.0 { 0.7 } else { 0.3 };
            shape + 0.1 * (x as f32 / 9.0).sin() + 0.05 * gauss(i)
        })
        .collect()
}

/// The level of noise against scikit-image 0.26.0 (`restoration.estimate_sigma`) on the same array, which gives 0.05233, and
/// denoising against its `denoise_nl_means` with the true level, patches of 5 and a window of 15: 33.4, 34.6 and 35.7 dB for
/// h of 0.6, 0.8 and 1.0 levels. The noisy array has 26.1 dB.
#[test]
fn noise_is_measured_and_taken_as_others_do() {
    let (w, h) = (96u32, 64u32);
    let noisy = picture_of(w, h);
    let level = noise_level(&noisy, w as usize, h as usize);
    assert!((level / 0.05233 - 1.0).abs() < 0.05, "{level}");
    // The same picture with its values on the even scale.
    let linear: Vec<Rgb> = noisy.iter().map(|v| [crate::srgb_decode(v.clamp(0.0, 1.0)); 3]).collect();
    let mut p = even_plate((w, h), 0.0);
    (p.a, p.b) = (linear.clone(), linear);
    let done = clean(&p, &CleanUp::with(Method::Colour, 1.0));
    let truth = |i: u32| noisy[i as usize] - 0.05 * gauss(i);
    let error: f64 = (0..w * h).map(|i| ((even(done[i as usize][1]) - truth(i)) as f64).powi(2)).sum::<f64>();
    let psnr = -10.0 * (error / (w * h) as f64).log10();
    assert!(psnr > 34.6, "{psnr}");
}

/// A bright sample in one half is stray, the same brightness in both is detail; what is taken is what was above the usual.
#[test]
fn stray_pixels_are_those_of_one_half() {
    let mut p = even_plate((64, 48), 0.05);
    let (stray, detail) = (20 * 64 + 20, 30 * 64 + 40);
    p.a[stray] = [25.0; 3];
    (p.a[detail], p.b[detail]) = ([25.0; 3], [24.0; 3]);
    let found = Strays::of(&p, 0.5);
    assert_eq!((found.pixels, found.found[0].0, found.found[0].1[1]), (1, stray, 1.0));
    let swept = found.removed(p.clone());
    assert!(swept.a[stray][0] < 3.0 && swept.a[detail] == p.a[detail]);
    let light = |p: &Plate| p.mean().iter().map(|c| luminance(*c) as f64).sum::<f64>();
    assert!((1.0 - light(&swept) / light(&p) - found.energy).abs() < 1e-6);
    assert_eq!(Strays::of(&p, 0.0).pixels, 0);
}

/// A denoiser that swallows a line of 2 steps loses those 2 steps in the blocks of that line and nowhere else; noise alone is
/// taken for detail in fewer than 4 blocks of 1000 (the 99.9 % point of F(64, 64) is 2.20).
#[test]
fn detail_is_told_from_noise() {
    let depth = 2.0 / 255.0;
    let line = |x: u32, _: u32| 0.5 - if x % 8 == 3 && (64..72).contains(&x) { depth * 8f32.sqrt() } else { 0.0 };
    let with = |line: &dyn Fn(u32, u32) -> f32| plate((512, 256), 0.004, line, |_, _| 1.0);
    let (flat, lined) = (with(&|_, _| 0.5), with(&line));
    let view = View::PLAIN;
    let straight =
        |p: &Plate| [&p.a, &p.b].map(|half| half.iter().map(|c| c.map(crate::srgb_decode)).collect::<Vec<Rgb>>());
    let gone = vec![[crate::srgb_decode(0.5); 3]; flat.a.len()];
    let lost = |p: &Plate| {
        let [a, b] = straight(p);
        DetailMap::of(p.region, &view, [&a, &b], [&gone, &gone]).lost.grain
    };
    let chance = lost(&flat).iter().filter(|l| **l > 0.0).count();
    assert!(chance as f64 / 2048.0 < 0.004, "{chance}");
    let found = lost(&lined);
    let column: Vec<f64> = found.iter().enumerate().filter(|(i, _)| i % 64 == 8).map(|(_, l)| *l).collect();
    let mean = column.iter().sum::<f64>() / column.len() as f64;
    assert!((mean / depth as f64 - 1.0).abs() < 0.05, "{mean}");
}

/// Two flat fields with noise of 0.02 and 0.05 on the even scale beside fine stripes: the profile finds both levels within
/// three standard errors (a median of 49 details scatters by 1.17/√49, the middle of three of those by about 11 %), none of its
/// areas lies on the stripes, a struck area no longer counts, and one that is pointed to does.
#[test]
fn a_profile_rests_on_flat_areas_and_heeds_hints() {
    let (w, h) = (144u32, 64u32);
    let value = |i: u32| match i % w / 48 {
        0 => 0.3 + 0.02 * gauss(i),
        1 => 0.7 + 0.05 * gauss(i),
        _ => 0.5 + if i.is_multiple_of(2) { 0.2 } else { -0.2 } + 0.02 * gauss(i),
    };
    let picture: Vec<Rgb> = (0..w * h).map(|i| [crate::srgb_decode(value(i)); 3]).collect();
    let region = Region { x: 32, y: 16, width: w, height: h };
    let of = |hints: &Hints| Profile::of([&picture, &picture], region, hints);
    let own = of(&Hints::default());
    for (brightness, level) in [(0.3, 0.02), (0.7, 0.05)] {
        let found = own.level(brightness);
        assert!((found / level - 1.0).abs() < 0.33, "{brightness}: {found}");
    }
    assert!(own.areas.iter().all(|a| a.region.right() <= 32 + 96), "{:?}", own.areas);
    // Without the bright field its level is unknown and the dark one's stands for it.
    let bright = Region { x: 32 + 48, y: 16, width: 48, height: h };
    let struck = of(&Hints { struck: vec![bright], pointed: Vec::new() });
    assert!(struck.areas.iter().any(|a| a.struck) && struck.level(0.7) < 0.025, "{}", struck.level(0.7));
    let stripes = Region { x: 32 + 96, y: 16, width: 48, height: h };
    let pointed = of(&Hints { struck: Vec::new(), pointed: vec![stripes] });
    assert!(pointed.areas.iter().any(|a| a.region == stripes), "{:?}", pointed.areas);
}

/// Which denoiser errs more is told by the halves alone, and never the wrong way round: over patterns that guides do not show, noise,
/// and all pairs of denoisers.
#[test]
fn the_halves_tell_which_denoiser_errs_more() {
    let stripes = |of: f32, by: f32| move |x: u32, y: u32| 0.4 + by * ((x as f32 + 0.3 * y as f32) * of).sin();
    let mut told_apart = 0;
    for (of, by) in [(0.05f32, 0.2f32), (0.8, 0.2), (2.0, 0.3), (2.8, 0.1)] {
        for noise in [0.02, 0.1, 0.3] {
            let light = stripes(of, by);
            let (noisy, truth) = (plate((96, 64), noise, light, |_, _| 0.8), plate((96, 64), 0.0, light, |_, _| 0.8));
            let each = all(1.0).map(|how| {
                let done = clean_halves(&noisy, &how);
                let error = |half: &[Rgb]| {
                    let squared = |(x, t): (&Rgb, &Rgb)| {
                        let (x, t) = (View::PLAIN.display(*x), View::PLAIN.display(*t));
                        (0..3).map(|c| (x[c] as f64 - t[c] as f64).powi(2)).sum::<f64>()
                    };
                    half.iter().zip(&truth.a).map(squared).sum::<f64>()
                };
                (error(&done[0]) + error(&done[1]), risk([&noisy.a, &noisy.b], [&done[0], &done[1]], &View::PLAIN))
            });
            for (k, j) in [(0, 1), (0, 2), (1, 0), (1, 2), (2, 0), (2, 1)] {
                if surely_worse(each[k].1, each[j].1) {
                    told_apart += 1;
                    assert!(each[k].0 > each[j].0, "{k} {j} {:?} {:?}, {of} {by} {noise}", each[k], each[j]);
                }
            }
        }
    }
    assert!(told_apart >= 4, "{told_apart}");
}
