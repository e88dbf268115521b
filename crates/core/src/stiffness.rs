//! Where the partials of a stiff string lie: f_n = n·F·√(1 + B·n²).
//!
//! B = π³·E·d⁴/(64·T·L²) for a round string of modulus E, diameter d, tension T and length L (H.
//! Fletcher, J. Acoust. Soc. Am. 36, 1964). Both functions are relative to the first partial, not
//! to F.

/// Frequency of partial n over that of the first, n·√((1 + B·n²)/(1 + B)).
pub(crate) fn stiff_ratio(number: usize, inharmonicity: f64) -> f64 {
    let n = number as f64;
    n * ((1.0 + inharmonicity * n * n) / (1.0 + inharmonicity)).max(0.0).sqrt()
}

/// How far stiffness puts partial n from n times the first, in cents: 600·lb((1 + B·n²)/(1 + B)).
#[must_use]
pub fn stiff_cents(number: f64, inharmonicity: f64) -> f64 {
    600.0 * ((1.0 + inharmonicity * number * number) / (1.0 + inharmonicity)).log2()
}
