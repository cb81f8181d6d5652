//! Inner loops that work as wide as the processor allows. No fused operations are used, so results do not depend on that.

/// A function in two editions, for processors with AVX2 and for others; the call chooses.
macro_rules! wide {
    ($(#[$doc:meta])* fn $name:ident($($arg:ident: $kind:ty),* $(,)?) $(-> $out:ty)? $body:block) => {
        $(#[$doc])*
        fn $name($($arg: $kind),*) $(-> $out)? {
            #[inline(always)]
            fn plain($($arg: $kind),*) $(-> $out)? $body
            #[cfg(target_arch = "x86_64")]
            {
                #[target_feature(enable = "avx2")]
                fn with_avx2($($arg: $kind),*) $(-> $out)? {
                    plain($($arg),*)
                }
                if std::arch::is_x86_feature_detected!("avx2") {
                    // SAFETY: the processor has what the function needs.
                    return unsafe { with_avx2($($arg),*) };
                }
            }
            plain($($arg),*)
        }
    };
}

pub(super) use wide;

/// e^−x for x ≥ 0, nearly, and exactly 0 from 8 on: (1 − x/8)⁸.
#[inline(always)]
pub(super) fn fading(x: f32) -> f32 {
    let t = (1.0 - 0.125 * x).max(0.0);
    let t2 = t * t;
    let t4 = t2 * t2;
    t4 * t4
}
