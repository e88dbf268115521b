//! Sums over samples with many running sums, which lets the compiler use vector instructions: those of
//! the processor at hand in what implements `WithSimd`. A closure would not do: it is compiled for
//! the least processor, unless it is so short that it vanishes.

use pulp::{Arch, Simd, WithSimd};
use rustfft::FftNum;

/// Running sums side by side.
const LANES: usize = 16;

/// Σ x.
#[inline(always)]
pub(crate) fn sum<T: FftNum>(x: &[T]) -> T {
    let (parts, rest) = x.as_chunks::<LANES>();
    let mut sums = [T::zero(); LANES];
    for x in parts {
        for lane in 0..LANES {
            sums[lane] = sums[lane] + x[lane];
        }
    }
    rest.iter().chain(&sums).fold(T::zero(), |sum, x| sum + *x)
}

/// The greatest of what is not negative.
#[inline(always)]
pub(crate) fn greatest<T: FftNum + PartialOrd>(x: &[T]) -> T {
    let greater = |a: T, b: T| if b > a { b } else { a };
    let (parts, rest) = x.as_chunks::<LANES>();
    let mut most = [T::zero(); LANES];
    for x in parts {
        for lane in 0..LANES {
            most[lane] = greater(most[lane], x[lane]);
        }
    }
    rest.iter().chain(&most).fold(T::zero(), |most, x| greater(most, *x))
}

/// Σ a·b over as many samples as `a` has.
#[inline(always)]
pub(crate) fn dot<T: FftNum>(a: &[T], b: &[T]) -> T {
    let (a_parts, a_rest) = a.as_chunks::<LANES>();
    let (b_parts, b_rest) = b[..a.len()].as_chunks::<LANES>();
    let mut sums = [T::zero(); LANES];
    for (a, b) in a_parts.iter().zip(b_parts) {
        for lane in 0..LANES {
            sums[lane] = sums[lane] + a[lane] * b[lane];
        }
    }
    let rest = a_rest.iter().zip(b_rest).fold(T::zero(), |sum, (a, b)| sum + *a * *b);
    sums.iter().fold(rest, |sum, x| sum + *x)
}

/// Σ a·b in double precision, over as many samples as `a` has.
pub(crate) fn product(a: &[f32], b: &[f32]) -> f64 {
    Arch::new().dispatch(Product { a, b: &b[..a.len()] })
}

struct Product<'a> {
    a: &'a [f32],
    b: &'a [f32],
}

impl WithSimd for Product<'_> {
    type Output = f64;

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) -> f64 {
        let (a_parts, a_rest) = self.a.as_chunks::<LANES>();
        let (b_parts, b_rest) = self.b.as_chunks::<LANES>();
        let mut sums = [0.0; LANES];
        for (a, b) in a_parts.iter().zip(b_parts) {
            for lane in 0..LANES {
                sums[lane] += f64::from(a[lane]) * f64::from(b[lane]);
            }
        }
        let rest = a_rest.iter().zip(b_rest).map(|(a, b)| f64::from(*a) * f64::from(*b));
        sums.iter().sum::<f64>() + rest.sum::<f64>()
    }
}

/// Σ h[k]·x[n + k] for n from 0 on, some side by side, each added up in the same order wherever it
/// stands; `x` has as many values as `sums` and the taps − 1 at least.
pub(crate) fn convolve<T: FftNum>(taps: &[T], x: &[T], sums: &mut [T]) {
    Arch::new().dispatch(Convolution { taps, x, sums });
}

struct Convolution<'a, T> {
    taps: &'a [T],
    x: &'a [T],
    sums: &'a mut [T],
}

impl<T: FftNum> WithSimd for Convolution<'_, T> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) {
        let Self { taps, x, sums } = self;
        let count = sums.len();
        let (parts, rest) = sums.as_chunks_mut::<LANES>();
        for (n, part) in parts.iter_mut().enumerate() {
            let mut sums = [T::zero(); LANES];
            for (k, tap) in taps.iter().enumerate() {
                let Some(x) = x[LANES * n + k..].first_chunk::<LANES>() else { return };
                for lane in 0..LANES {
                    sums[lane] = sums[lane] + *tap * x[lane];
                }
            }
            *part = sums;
        }
        let done = count - rest.len();
        for (n, sum) in rest.iter_mut().enumerate() {
            let products = taps.iter().zip(&x[done + n..]);
            *sum = products.fold(T::zero(), |sum, (tap, x)| sum + *tap * *x);
        }
    }
}
