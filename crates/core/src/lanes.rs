//! Sums over samples with eight running sums, which lets the compiler use vector instructions.

/// Σ x.
pub(crate) fn sum(x: &[f64]) -> f64 {
    let (eights, rest) = x.as_chunks::<8>();
    let mut sums = [0.0; 8];
    for x in eights {
        for lane in 0..8 {
            sums[lane] += x[lane];
        }
    }
    rest.iter().sum::<f64>() + sums.iter().sum::<f64>()
}

/// Σ a·b over as many samples as `a` has.
pub(crate) fn dot(a: &[f64], b: &[f64]) -> f64 {
    let (a_eights, a_rest) = a.as_chunks::<8>();
    let (b_eights, b_rest) = b[..a.len()].as_chunks::<8>();
    let mut sums = [0.0; 8];
    for (a, b) in a_eights.iter().zip(b_eights) {
        for lane in 0..8 {
            sums[lane] += a[lane] * b[lane];
        }
    }
    let rest: f64 = a_rest.iter().zip(b_rest).map(|(a, b)| a * b).sum();
    rest + sums.iter().sum::<f64>()
}

/// Σ h[k]·x[n + k] for so many n from 0 on, eight side by side, each
/// added up in the same order wherever it stands; `x` has `count` + the taps − 1 values at least.
pub(crate) fn convolve(taps: &[f64], x: &[f64], count: usize, sums: &mut Vec<f64>) {
    sums.clear();
    sums.resize(count, 0.0);
    let (eights, rest) = sums.as_chunks_mut::<8>();
    for (n, eight) in eights.iter_mut().enumerate() {
        for (tap, x) in taps.iter().zip(x[8 * n..].windows(8)) {
            for lane in 0..8 {
                eight[lane] += tap * x[lane];
            }
        }
    }
    let done = count - rest.len();
    for (n, sum) in rest.iter_mut().enumerate() {
        *sum = taps.iter().zip(&x[done + n..]).fold(0.0, |sum, (tap, x)| sum + tap * x);
    }
}

/// Σ a·b of narrow samples over as many as `a` has.
#[expect(clippy::inline_always, reason = "what is not inlined is compiled for the least processor")]
#[inline(always)]
pub(crate) fn narrow_dot(a: &[f32], b: &[f32]) -> f32 {
    let (a_parts, a_rest) = a.as_chunks::<16>();
    let (b_parts, b_rest) = b[..a.len()].as_chunks::<16>();
    let mut sums = [0.0; 16];
    for (a, b) in a_parts.iter().zip(b_parts) {
        for lane in 0..16 {
            sums[lane] += a[lane] * b[lane];
        }
    }
    let rest: f32 = a_rest.iter().zip(b_rest).map(|(a, b)| a * b).sum();
    rest + sums.iter().sum::<f32>()
}
