//! How many strings sound, and how far they are apart: from all partials together.

use super::C;
use super::components::{Own, is_sound, matched};
use super::fit::{
    Fitted, MOST, Noisy, OWN, Pole, SHARED, Solution, Strings, fit, fit_within, strongest,
};
use super::steadiness::{Fluctuation, heard_s};
use crate::linear::inverse;
use crate::measured::Measured;
use crate::partials::string_law;

/// χ² that two frequencies must gain over two decays of one.
const APART_GAIN: f64 = 40.0;
/// χ² that they gain by chance.
const CHANCE_GAIN: f64 = 10.0;
/// Farther apart than this no two strings are one note, as ln of a ratio: 30 cents.
const FARTHEST: f64 = 0.0175;
/// Differences in stiffness that are believed, as a share of the stiffness, or as such.
const STIFFER: f64 = 0.5;
const LEAST_STIFFER: f64 = 2e-5;
/// A frequency of its own is seen if it lies so many uncertainties off, and by so much of a turn.
pub(super) const APART_U: f64 = 6.0;
const LEAST_TURNS: f64 = 0.5;
/// And if it moves the power by this share of it.
pub(super) const LEAST_DEPTH: f64 = 0.04;
/// A string is seen in a partial by so many uncertainties of its amplitude.
const SEEN_U: f64 = 4.0;
/// Candidates that are fitted to the end.
const FOLLOWED: usize = 3;

/// Rates of the components of each band, and strings, to begin a fit with.
type Start = (Vec<Vec<C>>, Strings);

/// Spacing of two components of a partial as a share of its frequency, positive, with its
/// uncertainty.
#[derive(Debug, Clone, Copy)]
struct Spacing {
    number: usize,
    share: f64,
    u: f64,
}

/// What is known of the strings of a note.
pub(super) enum Known {
    /// So many sound.
    Strings(Solution),
    /// The partials are better accounted for by two, but not so much better that it is sure: with the
    /// weight that this account has, up to 1.
    Perhaps(Solution, f64),
    /// No others are seen.
    Nothing,
}

/// Finds the strings of a note by its partials: the best fit of as many as are seen and as all
/// partials agree on. The first string of the fit is the strongest.
pub(super) fn strings(owns: &[&Own], inharmonicity: f64, most: usize) -> Known {
    const FEWEST: usize = 2;
    if owns.len() < FEWEST {
        return Known::Nothing;
    }
    let Some(strict) = two(owns, inharmonicity) else { return Known::Nothing };
    let strict = with_own_stiffness(owns, strict);
    let three = (most >= MOST).then(|| three(owns, &strict)).flatten();
    let two = kept_to(owns, strict.clone());
    let left = two.as_ref().map_or(strict.left, |two| two.left);
    let three = three.map(|three| with_own_stiffness(owns, strongest_first(three, owns)));
    let three = three.filter(|three| {
        left - three.left > least_gain(owns.len())
            && (0..2).all(|other| is_seen(three, owns, other))
            && is_apart(three, owns)
            && keeps_together(three, owns)
    });
    let one: f64 = owns.iter().map(|own| own.fits[0].left).sum();
    let as_one = in_tune(owns, inharmonicity).map_or(one, |in_tune| in_tune.left.min(one));
    let two = two.map(|two| strongest_first(two, owns));
    match (three, two) {
        (Some(three), _) => Known::Strings(three),
        (None, Some(two))
            if one - two.left > least_gain(owns.len())
                && as_one - two.left > APART_GAIN
                && is_seen(&two, owns, 0)
                && keeps_together(&two, owns) =>
        {
            Known::Strings(two)
        }
        (None, Some(two)) if as_one - two.left > CHANCE_GAIN && !strays(&two) => {
            let weight = (as_one - two.left - CHANCE_GAIN) / (APART_GAIN - CHANCE_GAIN);
            Known::Perhaps(two, weight.min(1.0))
        }
        _ => Known::Nothing,
    }
}

fn strays(solution: &Solution) -> bool {
    solution.strings.is_some_and(|strings| strings.strays > 0.0)
}

/// χ² that another string must gain: twice the amplitude, the decay of each partial, and two
/// shared, by what chance and a choice of places give.
fn least_gain(bands: usize) -> f64 {
    let parameters = 3.0 * bands as f64 + 2.0;
    parameters + 4.0 * (2.0 * parameters).sqrt() + 20.0
}

fn noisy<'a>(owns: &[&'a Own]) -> Vec<Noisy<'a>> {
    owns.iter().map(|own| own.noisy()).collect()
}

/// The best fit of two strings that all partials keep to.
fn two(owns: &[&Own], inharmonicity: f64) -> Option<Solution> {
    let spacings: Vec<Spacing> = owns.iter().filter_map(|own| spacing(own)).collect();
    let mut candidates = candidates(&spacings, most_b(inharmonicity));
    candidates.truncate(FOLLOWED);
    // Nearly in tune: a tenth of a turn while the highest partial is heard.
    let turns = owns.iter().map(|own| own.band.centre_hz / -own.poles(1)[0].rate.re);
    let most_turns = turns.filter(|turns| *turns > 0.0).fold(1.0, f64::max);
    candidates.push((0.1 / most_turns, 0.0));
    let begin = |(delta, b): (f64, f64), fits_stiffness: bool| {
        let others = [(delta, b), (0.0, 0.0)];
        let fits_mistuning = true;
        let strings =
            Strings { inharmonicity, others, fits_mistuning, fits_stiffness, strays: 0.0 };
        (owns.iter().map(|own| start(own, &strings, 2)).collect(), strings)
    };
    let best = |fits_stiffness: bool| {
        best_of(owns, candidates.iter().map(|one| begin(*one, fits_stiffness)).collect())
    };
    best(owns.len() > 2).or_else(|| best(false))
}

/// Two strings of one frequency in each partial: two decays.
fn in_tune(owns: &[&Own], inharmonicity: f64) -> Option<Solution> {
    /// Decays of both to begin with, by that of one alone.
    const DECAYS: [[f64; 2]; 3] = [[1.5, 0.6], [6.0, 0.9], [1.1, 0.2]];
    let strings = Strings {
        inharmonicity,
        others: [(0.0, 0.0); MOST - 1],
        fits_mistuning: false,
        fits_stiffness: false,
        strays: 0.0,
    };
    let from = |[early, late]: [f64; 2]| {
        let decays = |own: &&Own| {
            let one = own.poles(1)[0].rate;
            vec![C::new(early * one.re, one.im), C::new(late * one.re, one.im)]
        };
        fit(&noisy(owns), owns.iter().map(decays).collect(), Some(strings))
    };
    DECAYS.into_iter().filter_map(from).min_by(|a, b| a.left.total_cmp(&b.left))
}

/// The same strings with the stiffness that the partials of the first show.
fn with_own_stiffness(owns: &[&Own], solution: Solution) -> Solution {
    let frequency = |(n, (own, fitted)): (usize, (&&Own, &Fitted))| {
        let mut slope = [0.0; OWN];
        slope[3] = 1.0 / std::f64::consts::TAU;
        let hz = own.band.centre_hz + fitted.poles[0].offset_hz();
        (fitted.number, Measured::new(hz, solution.variance_of(n, slope).sqrt()))
    };
    let of_first: Vec<(usize, Measured)> =
        owns.iter().zip(&solution.bands).enumerate().map(frequency).collect();
    let law = string_law(&of_first).filter(|law| law.inharmonicity.u.is_finite());
    let Some((law, strings)) = law.zip(solution.strings) else { return solution };
    let strings = Strings { inharmonicity: law.inharmonicity.value.max(0.0), ..strings };
    fit(&noisy(owns), solution.rates(), Some(strings)).unwrap_or(solution)
}

fn most_b(inharmonicity: f64) -> f64 {
    (STIFFER * inharmonicity).max(LEAST_STIFFER)
}

/// The best of the fits from several starts whose strings are near each other and alike.
fn best_of(owns: &[&Own], starts: Vec<Start>) -> Option<Solution> {
    /// Rounds after which it is seen which fits are worth finishing, and how many are.
    const ROUNDS: usize = 20;
    const FINISHED: usize = 2;
    /// One partial in so many holds terms that cancel at most.
    const CANCELS: usize = 3;
    let bands = noisy(owns);
    // Strings that begin in opposite phase cancel in a partial here and there, but not in most.
    let are_sound = |solution: &Solution| {
        let pairs = owns.iter().zip(&solution.bands);
        let cancel = pairs.filter(|(own, fitted)| !is_sound(&own.band, &fitted.poles)).count();
        CANCELS * cancel <= owns.len()
    };
    let is_like = |solution: &Solution| {
        solution.strings.is_some_and(|strings| {
            let most_b = most_b(strings.inharmonicity);
            let mut others = strings.others.iter();
            others.all(|(delta, b)| delta.abs() < FARTHEST && b.abs() < most_b)
        }) && are_sound(solution)
    };
    let begun = |(rates, strings): Start| fit_within(ROUNDS, &bands, rates, Some(strings));
    let mut begun: Vec<(bool, Solution)> = (starts.into_iter())
        .filter_map(begun)
        .map(|solution| (is_like(&solution), solution))
        .collect();
    // Those that are alike first.
    begun.sort_by(|(is_like, a), (is, b)| is.cmp(is_like).then(a.left.total_cmp(&b.left)));
    (begun.into_iter().take(FINISHED))
        .filter_map(|(_, solution)| fit(&bands, solution.rates(), solution.strings))
        .filter(is_like)
        .min_by(|a, b| a.left.total_cmp(&b.left))
}

/// The fit itself where all partials keep to its strings as well as could be measured, and else
/// one of such as they stray from.
fn kept_to(owns: &[&Own], strict: Solution) -> Option<Solution> {
    let count = strict.bands[0].poles.len();
    let tied = (count - 1) as f64 * (owns.len() as f64 - 2.0).max(1.0);
    // What chance alone gives in one of ten thousand cases.
    let chance = tied + 4.0 * (2.0 * tied).sqrt() + 6.0;
    if strict.left - alone(owns, count) < chance { Some(strict) } else { straying(owns, &strict) }
}

/// What each band by itself leaves with so many components, or as many as it needs.
fn alone(owns: &[&Own], count: usize) -> f64 {
    owns.iter().map(|own| own.fits[count.min(own.fits.len()) - 1].left).sum()
}

/// The same strings with partials that stray from them, by what makes the strays most likely (A. P.
/// Dempster, N. M. Laird and D. B. Rubin, J. R. Stat. Soc. B 39, 1977).
fn straying(owns: &[&Own], strict: &Solution) -> Option<Solution> {
    const ROUNDS: usize = 8;
    /// Rounds of each fit: the next goes on from there.
    const ROUNDS_EACH: usize = 10;
    const FIRST: f64 = 1e-4;
    let bands = noisy(owns);
    let mut strays = FIRST;
    let mut solution = strict.clone();
    for _ in 0..ROUNDS {
        let strings = Strings { strays, ..solution.strings? };
        solution = fit_within(ROUNDS_EACH, &bands, solution.rates(), Some(strings))?;
        let (mut square, mut count) = (0.0, 0.0);
        for (n, band) in solution.bands.iter().enumerate() {
            for (other, stray) in band.strays.iter().enumerate().take(band.poles.len() - 1) {
                square += stray * stray + solution.stray_variance(n, other);
                count += 1.0;
            }
        }
        let before = strays;
        strays = (square / count).sqrt();
        if (strays / before - 1.0).abs() < 0.02 {
            break;
        }
    }
    Some(solution)
}

/// What two components of a partial are apart, where it has two.
fn spacing(own: &Own) -> Option<Spacing> {
    let solution = own.fits.get(1)?;
    let [a, b] = solution.bands[0].poles[..] else { return None };
    let mut slope = [0.0; OWN];
    (slope[3], slope[7]) = (1.0, -1.0);
    let whole = std::f64::consts::TAU * own.band.centre_hz;
    Some(Spacing {
        number: own.band.number,
        share: (a.rate.im - b.rate.im).abs() / whole,
        u: solution.variance_of(0, slope).sqrt() / whole,
    })
}

/// Mistunings and differences of stiffness that account for spacings, the best first: by single
/// partials, and by pairs of them with either sign.
fn candidates(spacings: &[Spacing], most_b: f64) -> Vec<(f64, f64)> {
    let mut all: Vec<(f64, f64)> = spacings.iter().map(|one| (one.share, 0.0)).collect();
    for (n, one) in spacings.iter().enumerate() {
        for other in &spacings[n + 1..] {
            for sign in [1.0, -1.0] {
                let (x, y) = ((one.number as f64).powi(2), (other.number as f64).powi(2));
                let b = 2.0 * (sign * other.share - one.share) / (y - x);
                all.push((one.share - 0.5 * b * x, b));
            }
        }
    }
    all.retain(|(delta, b)| delta.abs() < FARTHEST && b.abs() < most_b);
    let mut scored: Vec<(f64, (f64, f64))> = all
        .into_iter()
        .map(|one| improved(spacings, one))
        .map(|one| (lost(spacings, one), one))
        .collect();
    scored.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut kept: Vec<(f64, f64)> = Vec::new();
    for (_, one) in scored {
        // The sign of both together says nothing here.
        let is_same = |other: &(f64, f64)| {
            spacings.iter().all(|spacing| {
                let n = spacing.number;
                (apart(one, n).abs() - apart(*other, n).abs()).abs() < 3.0 * floored(spacing)
            })
        };
        if !kept.iter().any(is_same) {
            kept.push(one);
        }
    }
    kept
}

fn apart((delta, b): (f64, f64), number: usize) -> f64 {
    delta + 0.5 * b * (number * number) as f64
}

/// The uncertainty of a spacing, but not less than what real strings stray.
fn floored(spacing: &Spacing) -> f64 {
    spacing.u.hypot(2e-6).hypot(0.005 * spacing.share)
}

/// What an account leaves of the spacings, each counted no more than a stray one.
fn lost(spacings: &[Spacing], account: (f64, f64)) -> f64 {
    const STRAY: f64 = 9.0;
    let of = |one: &Spacing| {
        ((apart(account, one.number).abs() - one.share) / floored(one)).powi(2).min(STRAY)
    };
    spacings.iter().map(of).sum()
}

/// The line through the spacings that an account nearly explains, with the signs that it gives
/// them.
fn improved(spacings: &[Spacing], account: (f64, f64)) -> (f64, f64) {
    const NEAR: f64 = 16.0;
    let mut account = account;
    for _ in 0..3 {
        let (mut normal, mut right) = ([[0.0; 2]; 2], [0.0; 2]);
        let mut used = 0;
        for one in spacings {
            let made = apart(account, one.number);
            let u = floored(one);
            if ((made.abs() - one.share) / u).powi(2) > NEAR {
                continue;
            }
            used += 1;
            let row = [1.0, 0.5 * (one.number * one.number) as f64];
            for a in 0..2 {
                right[a] += row[a] * made.signum() * one.share / (u * u);
                for b in 0..2 {
                    normal[a][b] += row[a] * row[b] / (u * u);
                }
            }
        }
        if used < 3 {
            return account;
        }
        let Some(covariance) = inverse(normal) else { return account };
        account = (
            covariance[0][0] * right[0] + covariance[0][1] * right[1],
            covariance[1][0] * right[0] + covariance[1][1] * right[1],
        );
    }
    account
}

/// Rates of a band to begin with for strings: the first lies where, with the others as far apart
/// from it as they are, most of the band is accounted for.
fn start(own: &Own, strings: &Strings, count: usize) -> Vec<C> {
    let whole = std::f64::consts::TAU * own.band.centre_hz;
    let places: Vec<f64> = std::iter::once(0.0)
        .chain((0..count - 1).map(|other| whole * strings.apart(other, own.band.number)))
        .collect();
    let known = own.poles(MOST);
    let rates = |first: f64| -> Vec<C> {
        let of = |place: &f64| {
            let omega = first + place;
            let off = |pole: &&Pole| (pole.rate.im - omega).abs();
            let nearest = known.iter().min_by(|a, b| off(a).total_cmp(&off(b)));
            let decay = nearest.map_or(0.0, |pole| pole.rate.re);
            C::new(decay.min(-0.05 / own.band.lasting_s()), omega)
        };
        places.iter().map(of).collect()
    };
    let middle = own.poles(1)[0].rate.im - places.iter().sum::<f64>() / places.len() as f64;
    let each = known.iter().flat_map(|pole| places.iter().map(move |place| pole.rate.im - place));
    let tried = each.chain(std::iter::once(middle)).map(rates);
    let judged = tried.map(|rates| (own.band.misfit_of(&rates), rates));
    judged.min_by(|a, b| a.0.total_cmp(&b.0)).map_or_else(Vec::new, |(_, rates)| rates)
}

/// A third string beside two: where what they leave has most along all partials.
fn three(owns: &[&Own], two: &Solution) -> Option<Solution> {
    /// Places of the third that are looked at, and accounts that are followed to the end.
    const PLACES: usize = 2;
    const MOST_FOLLOWED: usize = 4;
    let strings = two.strings?;
    let lefts: Vec<(f64, Vec<f64>)> = (owns.iter().zip(&two.bands))
        .map(|(own, fitted)| {
            let decay = fitted.poles.iter().map(|pole| pole.rate.re).fold(0.0, f64::min);
            let power = matched(&own.band, &own.band.left(&fitted.poles), decay);
            (own.noise, power)
        })
        .collect();
    let finest =
        owns.iter().map(|own| own.band.centre_hz * own.band.lasting_s()).fold(1.0, f64::max);
    let step = (0.3 / finest).max(FARTHEST / 4000.0);
    let reach = (FARTHEST / step) as i64;
    let score = |delta: f64| -> f64 {
        let of = |((own, fitted), (noise, power)): ((&&Own, &Fitted), &(f64, Vec<f64>))| {
            let whole_hz = own.band.centre_hz + fitted.poles[0].offset_hz();
            let offset = fitted.poles[0].offset_hz() + whole_hz * delta;
            if offset.abs() > own.band.farthest_hz() {
                return 0.0;
            }
            let k = (offset * own.band.step_s * power.len() as f64).round() as i64;
            (power[k.rem_euclid(power.len() as i64) as usize] / noise).ln_1p()
        };
        owns.iter().zip(&two.bands).zip(&lefts).map(of).sum()
    };
    let scores: Vec<f64> = (-reach..=reach).map(|n| score(n as f64 * step)).collect();
    let mut tops: Vec<usize> = (1..scores.len() - 1)
        .filter(|n| scores[*n] >= scores[n - 1] && scores[*n] > scores[n + 1])
        .collect();
    tops.sort_by(|a, b| scores[*b].total_cmp(&scores[*a]));
    let second = strings.others[0];
    let mut others: Vec<[(f64, f64); 2]> = (tops.into_iter().take(PLACES))
        .map(|n| [second, ((n as i64 - reach) as f64 * step, 0.0)])
        .collect();
    // Or one of the two is two.
    others.push([(1.25 * second.0, second.1), (0.75 * second.0, second.1)]);
    others.extend(of_clear_partials(owns, strings.inharmonicity));
    let mut begun: Vec<(f64, Start)> = (others.into_iter())
        .map(|others| {
            let strings = Strings { others, strays: 0.0, ..strings };
            let rates: Vec<Vec<C>> = owns.iter().map(|own| start(own, &strings, MOST)).collect();
            let left = owns.iter().zip(&rates).map(|(own, rates)| own.band.misfit_of(rates).ln());
            (left.sum(), (rates, strings))
        })
        .collect();
    begun.sort_by(|a, b| a.0.total_cmp(&b.0));
    let followed = begun.into_iter().take(MOST_FOLLOWED).map(|(_, start)| start);
    kept_to(owns, best_of(owns, followed.collect())?)
}

/// How far two strings lie from a third, and how much stiffer they are, by those partials that show
/// three components by themselves most clearly: by each, and by each two, whichever component of
/// one is which of the other.
fn of_clear_partials(owns: &[&Own], inharmonicity: f64) -> Vec<[(f64, f64); 2]> {
    const MOST_PARTIALS: usize = 3;
    const ORDERS: [[usize; 2]; 2] = [[0, 1], [1, 0]];
    let mut shown: Vec<&&Own> = owns.iter().filter(|own| own.fits.len() >= MOST).collect();
    let clear = |own: &Own| own.fits[1].left - own.fits[2].left;
    shown.sort_by(|a, b| clear(b).total_cmp(&clear(a)));
    shown.truncate(MOST_PARTIALS);
    // What two components of a partial lie from a third, as shares of its frequency.
    let apart = |own: &Own, first: usize| -> [f64; 2] {
        let poles = own.poles(MOST);
        let whole = std::f64::consts::TAU * own.band.centre_hz;
        [1, 2].map(|n| (poles[(first + n) % MOST].rate.im - poles[first].rate.im) / whole)
    };
    let most_b = most_b(inharmonicity);
    let mut all: Vec<[(f64, f64); 2]> =
        shown.iter().map(|own| apart(own, 0).map(|share| (share, 0.0))).collect();
    for (n, own) in shown.iter().enumerate() {
        for other in &shown[n + 1..] {
            let square = |own: &Own| (own.band.number as f64).powi(2);
            for (first, order) in (0..MOST).flat_map(|first| ORDERS.map(|order| (first, order))) {
                let (one, two) = (apart(own, 0), apart(other, first));
                let solved = [0, 1].map(|string| {
                    let b =
                        2.0 * (two[order[string]] - one[string]) / (square(other) - square(own));
                    (one[string] - 0.5 * b * square(own), b)
                });
                if solved.iter().all(|(delta, b)| delta.abs() < FARTHEST && b.abs() < most_b) {
                    all.push(solved);
                }
            }
        }
    }
    all
}

/// Energy of each component of a partial over the part of the note that is heard.
pub(super) fn energies(own: &Own, poles: &[Pole]) -> Vec<f64> {
    let lasting_s = own.band.lasting_s();
    let of = |pole: &Pole| {
        pole.amplitude.norm_sqr() * heard_s(-2.0 * pole.rate.re, lasting_s) / own.band.gain.powi(2)
    };
    poles.iter().map(of).collect()
}

/// The same fit with the string first that has most energy.
fn strongest_first(solution: Solution, owns: &[&Own]) -> Solution {
    let Some(strings) = solution.strings else { return solution };
    let count = solution.bands.first().map_or(0, |band| band.poles.len());
    let mut energy = vec![0.0; count];
    for (own, fitted) in owns.iter().zip(&solution.bands) {
        for (sum, one) in energy.iter_mut().zip(energies(own, &fitted.poles)) {
            *sum += one;
        }
    }
    let mut order: Vec<usize> = (0..count).collect();
    order.sort_by(|a, b| energy[*b].total_cmp(&energy[*a]));
    if order.iter().enumerate().all(|(n, place)| n == *place) {
        return solution;
    }
    let of = |n: usize| if n == 0 { (0.0, 0.0) } else { strings.others[n - 1] };
    let first = of(order[0]);
    let mut others = [(0.0, 0.0); MOST - 1];
    for (place, n) in order[1..].iter().enumerate() {
        let (delta, b) = of(*n);
        others[place] = (delta - first.0, b - first.1);
    }
    let inharmonicity = strings.inharmonicity + first.1;
    let strings = Strings { inharmonicity, others, ..strings };
    let rates =
        solution.bands.iter().map(|band| order.iter().map(|n| band.poles[*n].rate).collect());
    let again = fit(&noisy(owns), rates.collect(), Some(strings));
    again.unwrap_or(solution)
}

/// Whether another string has a frequency of its own: it is seen in half of the partials, or in
/// three, and in two of them it lies apart from the first by more than chance and by half a
/// turn, and is no stiffer than another string may be.
fn is_seen(solution: &Solution, owns: &[&Own], other: usize) -> bool {
    let mut seen = 0;
    let mut apart = 0;
    for (n, (own, fitted)) in owns.iter().zip(&solution.bands).enumerate() {
        let pole = fitted.poles[other + 1];
        let amplitude = pole.amplitude;
        let mut along = [0.0; OWN];
        let place = 4 * (other + 1);
        (along[place], along[place + 1]) =
            (amplitude.re / amplitude.norm(), amplitude.im / amplitude.norm());
        let u = solution.variance_of(n, along).sqrt();
        seen += usize::from(amplitude.norm() > SEEN_U * u);
        let (hz, u) = spacing_hz(solution, n, 0, other + 1);
        let lived_s = lived_s(own, fitted);
        // What is over at once belongs to the stroke.
        let is_heard = Fluctuation::of(&[fitted.poles[0], pole], lived_s, 1.0).depth > LEAST_DEPTH;
        let turns = hz.abs() * lived_s;
        apart += usize::from(is_heard && hz.abs() > APART_U * u && turns > LEAST_TURNS);
    }
    apart >= 2.min(owns.len()) && (2 * seen >= owns.len() || seen >= 3)
}

/// Whether the partials agree on the same strings: they stray from them by much less than these are
/// apart, the less the more strings there are to be fitted, and enough of them do.
fn keeps_together(solution: &Solution, owns: &[&Own]) -> bool {
    const STRAYS: [f64; 2] = [0.1, 0.04];
    const FEWEST: usize = 5;
    const KNOWN_U: f64 = 4.0;
    const NO_WORSE: f64 = 1.15;
    const CHANCE: f64 = 30.0;
    let Some(strings) = solution.strings else { return false };
    let count = solution.bands[0].poles.len() - 1;
    let bands = &solution.bands;
    let as_good = alone(owns, count + 1) * NO_WORSE + CHANCE;
    if strings.strays > 0.0 && (bands.len() < FEWEST || solution.left > as_good) {
        return false;
    }
    (0..count).all(|other| {
        let square = |number: &usize| strings.apart(other, *number).powi(2);
        let mean = bands.iter().map(|band| square(&band.number)).sum::<f64>() / bands.len() as f64;
        // Mistuned or stiffer: one of both is known.
        let is_known = |place: usize, value: f64| {
            let mut weights = [0.0; SHARED];
            weights[place] = 1.0;
            value.abs() > KNOWN_U * shared_u(solution, weights)
        };
        let (delta, b) = strings.others[other];
        strings.strays < STRAYS[count - 1] * mean.sqrt()
            && (is_known(2 * other, delta) || (b != 0.0 && is_known(2 * other + 1, b)))
    })
}

/// Whether the second and the third string have frequencies of their own.
fn is_apart(solution: &Solution, owns: &[&Own]) -> bool {
    owns.iter().zip(&solution.bands).enumerate().any(|(n, (own, fitted))| {
        let (hz, u) = spacing_hz(solution, n, 1, 2);
        hz.abs() > APART_U * u && hz.abs() * lived_s(own, fitted) > LEAST_TURNS
    })
}

/// How long a partial is heard above its noise, in seconds.
pub(super) fn lived_s(own: &Own, fitted: &Fitted) -> f64 {
    let Some(pole) = fitted.poles.get(strongest(&fitted.poles)) else { return 0.0 };
    let over = pole.amplitude.norm_sqr() / (own.noise / own.band.correlated);
    let until_s = 0.5 * over.max(1.0).ln() / (-pole.rate.re).max(1e-9);
    until_s.min(own.band.lasting_s())
}

/// How far component b lies above a in a band, in Hz, with its uncertainty.
pub(super) fn spacing_hz(solution: &Solution, band: usize, a: usize, b: usize) -> (f64, f64) {
    let poles = &solution.bands[band].poles;
    let mut slope = [0.0; OWN];
    slope[4 * b + 3] = 1.0;
    slope[4 * a + 3] -= 1.0;
    let hz = poles[b].offset_hz() - poles[a].offset_hz();
    (hz, solution.variance_of(band, slope).sqrt() / std::f64::consts::TAU)
}

/// Variance of a difference of what strings share: δ or b of one less that of another.
pub(super) fn shared_u(solution: &Solution, weights: [f64; SHARED]) -> f64 {
    let none = vec![[0.0; OWN]; solution.bands.len()];
    solution.variance(&none, weights).sqrt()
}
