//! What the strings that account for the partials of a note say of it: grade, strings, partials and
//! their courses.

use super::components::{Own, State};
use super::fit::{Fitted, OWN, SHARED, Solution, strongest, two_strongest};
use super::steadiness::{Fluctuation, grade, least_spacing_hz, slopes, visible};
use super::strings::{self, APART_U, LEAST_DEPTH};
use super::{C, CENTS, SteadyCourse, UnisonPartial, UnisonString};
use crate::measured::Measured;
use crate::partials::{StringLaw, string_law};

/// Of a grade nothing is known that has this uncertainty: any from 0 to 100 is as likely.
const MOST_U: f64 = 100.0 / 3.464;

/// The partials that are heard, with the strings that account for them, and those that may be
/// there.
#[derive(Clone, Copy)]
pub(super) struct Judged<'a> {
    pub(super) heard: &'a [&'a Own],
    pub(super) solution: Option<&'a Solution>,
    /// With the weight that they have.
    pub(super) perhaps: Option<(&'a Solution, f64)>,
}

impl Judged<'_> {
    /// The stiff string through the partials: those of the strongest string, or the strongest
    /// component of each.
    pub(super) fn law(&self) -> Option<StringLaw> {
        let frequency = |n: usize| {
            let (solution, place) = self.fit_of(n);
            let poles = &solution.bands[place].poles;
            let main = if self.solution.is_some() { 0 } else { strongest(poles) };
            (self.heard[n].band.number, self.frequency_hz(n, main))
        };
        string_law(&(0..self.heard.len()).map(frequency).collect::<Vec<_>>())
    }

    /// Frequency of a component of a partial.
    fn frequency_hz(&self, n: usize, component: usize) -> Measured {
        let (solution, place) = self.fit_of(n);
        let mut slope = [0.0; OWN];
        slope[4 * component + 3] = 1.0 / std::f64::consts::TAU;
        let hz = self.heard[n].band.centre_hz + solution.bands[place].poles[component].offset_hz();
        Measured::new(hz, solution.variance_of(place, slope).sqrt() * self.beyond_noise())
    }

    /// The fit that holds of a partial, and its place in it.
    fn fit_of(&self, n: usize) -> (&Solution, usize) {
        match self.solution {
            Some(solution) => (solution, n),
            None => (self.heard[n].best(), 0),
        }
    }

    fn fitted(&self, n: usize) -> &Fitted {
        let (solution, place) = self.fit_of(n);
        &solution.bands[place]
    }

    /// How much greater uncertainties are than the noise makes them: what strings leave.
    fn beyond_noise(&self) -> f64 {
        let Some(solution) = self.strung() else { return 1.0 };
        let mut free = 0.0;
        for (own, fitted) in self.heard.iter().zip(&solution.bands) {
            free += 2.0 * own.band.values.len() as f64 / own.band.correlated;
            free -= 4.0 * fitted.poles.len() as f64;
        }
        (solution.left / free.max(1.0)).max(1.0).sqrt()
    }

    /// Whether the components of a partial by itself are apart, beyond chance.
    fn beats_alone(&self, n: usize) -> bool {
        const LEAST_TURNS: f64 = 0.35;
        let own = self.heard[n];
        let fitted = &own.best().bands[0];
        if fitted.poles.len() < 2 {
            return false;
        }
        let (a, b) = two_strongest(&fitted.poles);
        let (hz, u) = strings::spacing_hz(own.best(), 0, a, b);
        let lived_s = strings::lived_s(own, fitted);
        let is_heard = Fluctuation::of(&fitted.poles, lived_s, 1.0).depth > LEAST_DEPTH;
        is_heard && hz.abs() > APART_U * u && hz.abs() * lived_s > LEAST_TURNS
    }

    pub(super) fn strings(&self) -> Vec<UnisonString> {
        let count = self.solution.map_or(1, |solution| solution.bands[0].poles.len());
        let level = |n: usize| {
            let power: f64 = (0..self.heard.len())
                .map(|band| {
                    let gain = self.heard[band].band.gain;
                    let poles = &self.fitted(band).poles;
                    match self.solution {
                        Some(_) => (poles[n].amplitude.norm() / gain).powi(2),
                        None => poles.iter().map(|p| (p.amplitude.norm() / gain).powi(2)).sum(),
                    }
                })
                .sum();
            10.0 * power.log10()
        };
        let cents = |n: usize| {
            let Some(other) = n.checked_sub(1) else { return Measured::new(0.0, 0.0) };
            self.apart_cents(None, Some(other)).unwrap_or(Measured::new(0.0, f64::NAN))
        };
        let of = |n: usize| {
            let cents = cents(n);
            UnisonString { cents: cents.value, cents_u: cents.u, level_db: level(n) }
        };
        (0..count).filter(|_| !self.heard.is_empty()).map(of).collect()
    }

    /// Distance of one string from another, `None` being the first, in cents.
    fn apart_cents(&self, from: Option<usize>, to: Option<usize>) -> Option<Measured> {
        let solution = self.solution?;
        let strings = solution.strings.as_ref()?;
        let mut weights = [0.0; SHARED];
        let mut delta = 0.0;
        for (other, sign) in [(from, -1.0), (to, 1.0)] {
            if let Some(other) = other {
                weights[2 * other] += sign;
                delta += sign * strings.others[other].0;
            }
        }
        let u = strings::shared_u(solution, weights) * self.beyond_noise();
        Some(Measured::new(CENTS * delta, CENTS * u))
    }

    pub(super) fn mistuning_cents(&self) -> Option<Measured> {
        let solution = self.solution?;
        if solution.bands[0].poles.len() < 3 {
            return self.apart_cents(None, Some(0));
        }
        let pairs = [(None, Some(0)), (None, Some(1)), (Some(0), Some(1))];
        let all = pairs.into_iter().filter_map(|(from, to)| self.apart_cents(from, to));
        let widest = all.max_by(|a, b| a.value.abs().total_cmp(&b.value.abs()))?;
        Some(Measured::new(widest.value.abs(), widest.u))
    }

    pub(super) fn stiffer(&self) -> Option<Measured> {
        let solution = self.solution?;
        let strings = solution.strings.as_ref().filter(|strings| strings.fits_stiffness)?;
        if solution.bands[0].poles.len() > 2 {
            return None;
        }
        let mut weights = [0.0; SHARED];
        weights[1] = 1.0;
        let u = strings::shared_u(solution, weights) * self.beyond_noise();
        Some(Measured::new(strings.others[0].1, u))
    }

    /// What shows no beat may have one slower than this, in Hz.
    fn least_spacing_hz(&self, n: usize) -> f64 {
        let two_decays = self.two_decays(n).filter(|(depth, _)| *depth > LEAST_DEPTH);
        two_decays.map_or(0.0, |(_, hz)| hz).max(self.least_of_equals_hz(n))
    }

    /// The same of two components of equal level and decay.
    fn least_of_equals_hz(&self, n: usize) -> f64 {
        let own = self.heard[n];
        let poles = &own.best().bands[0].poles;
        least_spacing_hz(&own.band, &poles[strongest(poles)], own.noise)
    }

    /// Where a partial has two decays, the depth to which they would beat, and how far they may be
    /// apart in Hz.
    fn two_decays(&self, n: usize) -> Option<(f64, f64)> {
        let own = self.heard[n];
        let fitted = &own.best().bands[0];
        let (a, b) = (fitted.poles.len() > 1).then(|| two_strongest(&fitted.poles))?;
        let (hz, u) = strings::spacing_hz(own.best(), 0, a, b);
        let depth = Fluctuation::of(&fitted.poles, strings::lived_s(own, fitted), 1.0).depth;
        Some((depth, hz.abs() + 2.0 * u))
    }

    pub(super) fn nearer_than_cents(&self) -> Option<f64> {
        if self.solution.is_some() {
            return None;
        }
        let of = |n: usize| CENTS * self.least_spacing_hz(n) / self.heard[n].band.centre_hz;
        (0..self.heard.len()).map(of).min_by(f64::total_cmp)
    }

    /// The components by whose fluctuation a partial is graded, of the fit and its place in it;
    /// `None` where none is seen.
    fn graded(&self, n: usize) -> Option<(&Solution, usize)> {
        let of_all = self.strung().map(|solution| (solution, n));
        of_all.or_else(|| self.beats_alone(n).then(|| (self.heard[n].best(), 0)))
    }

    fn fluctuation(&self, n: usize) -> Fluctuation {
        let own = self.heard[n];
        let of = |fitted: &Fitted| {
            Fluctuation::of(&fitted.poles, strings::lived_s(own, fitted), own.band.gain)
        };
        match self.graded(n) {
            Some((solution, place)) => of(&solution.bands[place]),
            None => Fluctuation { depth: 0.0, unsteadiness: 0.0, ..of(self.fitted(n)) },
        }
    }

    pub(super) fn grade(&self) -> Option<Measured> {
        (!self.heard.is_empty()).then(|| self.weighed(Self::graded_as_one))
    }

    /// The mean of what a value is by the strings that may be there and what it is without them.
    fn weighed(&self, value: impl Fn(&Self) -> Measured) -> Measured {
        let with = value(self);
        match self.perhaps {
            Some((_, weight)) if weight < 1.0 => {
                let without = value(&Self { perhaps: None, ..*self });
                let apart = with.value - without.value;
                let variance = weight * with.u.powi(2)
                    + (1.0 - weight) * (without.u.powi(2) + weight * apart.powi(2));
                Measured::new(without.value + weight * apart, variance.sqrt())
            }
            _ => with,
        }
    }

    /// The grade by one account of the partials.
    fn graded_as_one(&self) -> Measured {
        let all: Vec<Fluctuation> = (0..self.heard.len()).map(|n| self.fluctuation(n)).collect();
        let energy: f64 = all.iter().map(|one| one.energy).sum();
        let value = grade(&all);
        let (mut slopes_of, mut variance, mut unseen) = (Vec::new(), 0.0, 0.0);
        for (n, one) in all.iter().enumerate() {
            let slope = || {
                // A change of energy weighs by how far the partial is off the mean.
                let off = one.unsteadiness - (1.0 - value / 100.0);
                self.slopes(n, |of| one.energy * of.unsteadiness + off * of.energy)
                    .map(|slope| 100.0 / energy * slope)
            };
            match self.graded(n) {
                Some((_, place)) if place == n && self.strung().is_some() => {
                    slopes_of.push(slope());
                }
                Some((solution, place)) => variance += solution.variance_of(place, slope()),
                // What is not seen is not seen in any partial.
                None => unseen += 100.0 * one.energy / energy * self.unseen(n),
            }
        }
        if let Some(solution) = self.strung() {
            variance = solution.variance(&slopes_of, [0.0; SHARED]) * self.beyond_noise().powi(2);
        }
        // No more is unknown than there is.
        Measured::new(value, variance.sqrt().hypot(unseen).min(MOST_U))
    }

    /// The fit of all partials together by which they are graded.
    fn strung(&self) -> Option<&Solution> {
        self.solution.or(self.perhaps.map(|(solution, _)| solution))
    }

    fn slopes(&self, n: usize, of: impl Fn(&Fluctuation) -> f64) -> [f64; OWN] {
        let Some((solution, place)) = self.graded(n) else { return [0.0; OWN] };
        let (own, fitted) = (self.heard[n], &solution.bands[place]);
        slopes(&fitted.poles, strings::lived_s(own, fitted), own.band.gain, of)
    }

    fn unsteadiness(&self, n: usize) -> Measured {
        self.weighed(|judged| {
            let value = judged.fluctuation(n).unsteadiness;
            let Some((solution, place)) = judged.graded(n) else {
                return Measured::new(value, judged.unseen(n));
            };
            let slope = judged.slopes(n, |of| of.unsteadiness);
            let u = solution.variance_of(place, slope).sqrt() * judged.beyond_noise();
            Measured::new(value, u)
        })
    }

    /// The uncertainty of the unsteadiness of a partial that shows none: as likely as not anything
    /// from none to what would just have been seen.
    fn unseen(&self, n: usize) -> f64 {
        let decays = self.two_decays(n).map_or(0.0, |(depth, hz)| depth * visible(hz));
        decays.hypot(visible(self.least_of_equals_hz(n))) / 3f64.sqrt()
    }

    /// What is said of a partial: of one that is judged with its place among those.
    pub(super) fn partial(&self, own: &Own, judged: Option<usize>) -> UnisonPartial {
        let band = &own.band;
        let (solution, place) = match judged {
            Some(n) => self.fit_of(n),
            None => (&own.fits[0], 0),
        };
        let poles = &solution.bands[place].poles;
        let main = strongest(poles);
        let mut slope = [0.0; OWN];
        slope[4 * main + 3] = 1.0 / std::f64::consts::TAU;
        let power: f64 = poles.iter().map(|pole| pole.amplitude.norm_sqr()).sum();
        let frequency_hz = band.centre_hz + poles[main].offset_hz();
        let mut partial = UnisonPartial {
            number: band.number,
            frequency_hz,
            frequency_hz_u: solution.variance_of(place, slope).sqrt() * self.beyond_noise(),
            level_db: 10.0 * power.log10() - 20.0 * band.gain.log10(),
            spacing_hz: None,
            spacing_hz_u: None,
            spacing_cents: None,
            spacing_cents_u: None,
            beat_hz: None,
            beat_hz_u: None,
            slower_than_hz: None,
            depth_db: None,
            beats: None,
            unsteadiness: judged.map(|n| self.unsteadiness(n)),
            hidden: own.state == State::Hidden,
            wavers: own.state == State::Wavers,
        };
        let Some(n) = judged else { return partial };
        if self.solution.is_none() && !self.beats_alone(n) {
            partial.slower_than_hz = Some(self.least_spacing_hz(n));
            return partial;
        }
        // Of strings the second from the first, of a partial by itself the weaker from the stronger.
        let (a, b) = if self.solution.is_some() { (0, 1) } else { two_strongest(poles) };
        let (hz, u) = strings::spacing_hz(solution, place, a, b);
        let u = u * self.beyond_noise();
        if self.solution.is_some() {
            let first_hz = band.centre_hz + poles[a].offset_hz();
            (partial.spacing_hz, partial.spacing_hz_u) = (Some(hz), Some(u));
            partial.spacing_cents = Some(CENTS * (hz / first_hz).ln_1p());
            partial.spacing_cents_u = Some(CENTS * u / (first_hz + hz));
        }
        (partial.beat_hz, partial.beat_hz_u) = (Some(hz.abs()), Some(u));
        partial.depth_db = Some(self.fluctuation(n).depth_db());
        partial.beats = Some(hz.abs() * strings::lived_s(own, &solution.bands[place]));
        partial
    }

    /// The level of a partial that is judged over time, with its decay removed.
    pub(super) fn course(&self, own: &Own, judged: usize, onset_s: f64) -> SteadyCourse {
        /// Points that are kept at most.
        const MOST: usize = 400;
        const DIP_DB: f64 = -1.5;
        /// Power over the noise where the course ends.
        const OVER_NOISE: f64 = 10.0;
        let fitted = self.fitted(judged);
        let steady_at = |seconds: f64| -> f64 {
            fitted.poles.iter().map(|pole| pole.at(seconds).norm_sqr()).sum()
        };
        let least = OVER_NOISE * own.noise / own.band.correlated;
        let heard = |n: &usize| steady_at(*n as f64 * own.band.step_s) > least;
        let count = (0..own.band.values.len()).take_while(heard).count().max(1);
        let block = count.div_ceil(MOST);
        let mut course = SteadyCourse {
            number: own.band.number,
            time_s: Vec::new(),
            level_db: Vec::new(),
            fitted_db: Vec::new(),
            dips_s: Vec::new(),
        };
        for (n, of_block) in own.band.values[..count].chunks(block).enumerate() {
            let middle = n as f64 * block as f64 + (of_block.len() as f64 - 1.0) / 2.0;
            let seconds = middle * own.band.step_s;
            let power = of_block.iter().map(C::norm_sqr).sum::<f64>() / of_block.len() as f64;
            let steady = steady_at(seconds);
            let made: C = fitted.poles.iter().map(|pole| pole.at(seconds)).sum();
            course.time_s.push(onset_s + own.band.start_s + seconds);
            course.level_db.push(10.0 * (power / steady).log10());
            course.fitted_db.push(10.0 * (made.norm_sqr() / steady).log10());
        }
        let made = &course.fitted_db;
        let is_dip =
            |n: &usize| made[*n] < DIP_DB && made[*n] <= made[n - 1] && made[*n] < made[n + 1];
        if self.solution.is_some() || self.beats_alone(judged) {
            let dips = (1..made.len().saturating_sub(1)).filter(is_dip);
            course.dips_s = dips.map(|n| course.time_s[n]).collect();
        }
        course
    }
}
