//! What is said of a room.

use serde::Serialize;

use super::decay::{BandDecay, CLEAR_DB, DecayCurve};
use super::excitation::Excitation;
use crate::bands::{Band, names};
use crate::finding::Finding;
use crate::measured::{Measured, flat};
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare};
use crate::significance::widened;
use crate::units::db_from_power;

/// What is known of a band, or of all of them together.
#[derive(Debug, Clone, Default, Serialize)]
pub struct RoomValues {
    /// Early decay time.
    pub edt_s: Option<f64>,
    /// Reverberation time from −5 to −25 dB.
    #[serde(flatten, serialize_with = "flat::t20_s")]
    pub t20_s: Option<Measured>,
    /// Reverberation time from −5 to −35 dB.
    #[serde(flatten, serialize_with = "flat::t30_s")]
    pub t30_s: Option<Measured>,
    /// Clarity for speech.
    pub c50_db: Option<f64>,
    /// Clarity for music.
    pub c80_db: Option<f64>,
    /// Definition.
    pub d50: Option<f64>,
    /// Centre time.
    pub ts_s: Option<f64>,
    /// Sound strength.
    pub strength_db: Option<f64>,
    /// Early lateral fraction.
    pub lateral_fraction: Option<f64>,
    /// Impulse-to-noise ratio; of interrupted noise, noise to background.
    pub inr_db: Option<f64>,
    /// 100·(T30/T20 − 1).
    pub curvature_percent: Option<f64>,
    /// Reverberation time of a second, slower decay.
    #[serde(flatten, serialize_with = "flat::late_s")]
    pub late_s: Option<Measured>,
    /// Level at which it would begin at time zero.
    pub late_level_db: Option<f64>,
    /// Standard deviation of T20 and T30 over positions.
    pub t20_spread_s: Option<f64>,
    /// See above.
    pub t30_spread_s: Option<f64>,
}

impl RoomValues {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 15] = [
        Field::plain("edt_s", "early decay time", Unit::Second, 3, |of| of.edt_s),
        Field::measured("t20_s", "T20", Unit::Second, 3, |of| of.t20_s),
        Field::measured("t30_s", "T30", Unit::Second, 3, |of| of.t30_s),
        Field::plain("c50_db", "C50", Unit::Decibel, 2, |of| of.c50_db),
        Field::plain("c80_db", "C80", Unit::Decibel, 2, |of| of.c80_db),
        Field::plain("d50", "D50", Unit::One, 3, |of| of.d50),
        Field::plain("ts_s", "centre time", Unit::Second, 4, |of| of.ts_s),
        Field::plain("strength_db", "strength G", Unit::Decibel, 2, |of| of.strength_db),
        Field::plain("lateral_fraction", "early lateral fraction", Unit::One, 3, |of| {
            of.lateral_fraction
        }),
        Field::plain("inr_db", "impulse-to-noise ratio", Unit::Decibel, 1, |of| of.inr_db),
        Field::plain("curvature_percent", "curvature", Unit::Percent, 1, |of| of.curvature_percent),
        Field::measured("late_s", "second decay", Unit::Second, 3, |of| of.late_s),
        Field::plain("late_level_db", "level of the second decay", Unit::Decibel, 1, |of| {
            of.late_level_db
        }),
        Field::plain("t20_spread_s", "T20, spread of positions", Unit::Second, 3, |of| {
            of.t20_spread_s
        }),
        Field::plain("t30_spread_s", "T30, spread of positions", Unit::Second, 3, |of| {
            of.t30_spread_s
        }),
    ];

    pub(super) fn of(decay: &BandDecay) -> Self {
        Self {
            edt_s: decay.edt_s,
            t20_s: decay.t20_s,
            t30_s: decay.t30_s,
            inr_db: decay.inr_db,
            curvature_percent: decay.curvature.map(|c| c.value),
            late_s: decay.late_s,
            late_level_db: decay.late_level_db,
            ..Self::default()
        }
    }

    /// T30, or T20 where there is none.
    #[must_use]
    pub fn time_s(&self) -> Option<Measured> {
        self.t30_s.or(self.t20_s)
    }
}

/// A band of a room.
#[derive(Debug, Clone, Serialize)]
pub struct RoomBand {
    /// Its name: the rounded middle, in Hz.
    pub center_hz: f64,
    /// Where it lies.
    #[serde(skip)]
    pub band: Band,
    /// What is known of it.
    #[serde(flatten)]
    pub values: RoomValues,
    /// Its decay, of one position.
    #[serde(skip)]
    pub curve: DecayCurve,
}

impl RoomBand {
    /// Its number beside what is known of it.
    pub const FIELDS: [Field<Self>; 1] =
        [Field::plain("center_hz", "middle", Unit::Hertz, 1, |of| Some(of.center_hz))];

    pub(super) fn new(
        band: Band,
        fraction: u32,
        values: RoomValues,
        decay: &Option<BandDecay>,
    ) -> Self {
        let curve = decay.as_ref().map(|decay| decay.curve.clone()).unwrap_or_default();
        Self { center_hz: band.nominal_hz(fraction), band, values, curve }
    }
}

/// The acoustics of a room, at one position or in the mean of several.
#[derive(Debug, Clone, Serialize)]
pub struct RoomAcoustics {
    /// What excites the room.
    pub excitation: Excitation,
    /// When the response begins in the take, or noise first stops; of one position.
    pub starts_s: Option<f64>,
    /// For how long the response was followed.
    pub lasts_s: Option<f64>,
    /// Decays that were averaged.
    pub decays: u64,
    /// Positions.
    pub positions: u64,
    /// Energy of the harmonics of a sweep re the response.
    pub distortion_db: Option<f64>,
    /// Mean reverberation time of the octaves of 500 Hz and 1 kHz.
    #[serde(flatten, serialize_with = "flat::mid_s")]
    pub mid_s: Option<Measured>,
    /// Mean strength in the octaves of 500 Hz and 1 kHz.
    pub strength_db: Option<f64>,
    /// Mean early lateral fraction in the octaves from 125 Hz to 1 kHz.
    pub lateral_fraction: Option<f64>,
    /// Bands.
    pub bands: Vec<RoomBand>,
    /// All bands together.
    pub broadband: RoomValues,
    /// Share of an octave that a band is.
    #[serde(skip)]
    pub fraction: u32,
    /// Level over time, re the highest, in steps of equal length from the first time on.
    #[serde(skip)]
    pub energy: (Vec<f64>, Vec<f64>),
    /// What must be known.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

impl RoomAcoustics {
    pub(super) fn empty(fraction: u32) -> Self {
        Self {
            excitation: Excitation::Impulse,
            starts_s: None,
            lasts_s: None,
            decays: 0,
            positions: 1,
            distortion_db: None,
            mid_s: None,
            strength_db: None,
            lateral_fraction: None,
            bands: Vec::new(),
            broadband: RoomValues::default(),
            fraction,
            energy: (Vec::new(), Vec::new()),
            findings: Vec::new(),
        }
    }

    pub(super) fn unknown(excitation: Excitation, fraction: u32, why: Finding) -> Self {
        Self { excitation, findings: vec![why], ..Self::empty(fraction) }
    }

    /// With the mean of the middle bands, and what must be known.
    pub(super) fn finished(mut self, found: &[Option<BandDecay>]) -> Self {
        self.average();
        let findings = [self.noise_said(found), self.slopes_said(found)].concat();
        self.findings.extend(findings);
        self
    }

    /// The means over octaves (ISO 3382-1:2009, table A.1).
    fn average(&mut self) {
        /// Edges of the octaves, a little wider, and how many there are.
        const MIDDLE: (f64, f64, u32) = (350.0, 1420.0, 2);
        const LATERAL: (f64, f64, u32) = (87.0, 1420.0, 4);
        let plain = |of: fn(&RoomValues) -> Option<f64>, octaves| {
            self.mean_over(octaves, |values| of(values).map(|value| Measured::new(value, 0.0)))
        };
        let strength = plain(|of| of.strength_db, MIDDLE);
        let lateral = plain(|of| of.lateral_fraction, LATERAL);
        self.mid_s = self.mean_over(MIDDLE, RoomValues::time_s);
        self.strength_db = strength.map(|mean| mean.value);
        self.lateral_fraction = lateral.map(|mean| mean.value);
    }

    /// Mean of the bands within so many octaves; `None` where one is not known.
    fn mean_over(
        &self,
        (low_hz, high_hz, octaves): (f64, f64, u32),
        of: impl Fn(&RoomValues) -> Option<Measured>,
    ) -> Option<Measured> {
        let within = |of: &&RoomBand| of.band.low_hz > low_hz && of.band.high_hz < high_hz;
        let known = self.bands.iter().filter(within).map(|band| of(&band.values));
        let known: Vec<Measured> = known.collect::<Option<_>>()?;
        let count = known.len() as f64;
        let is_whole = known.len() as u32 >= octaves * self.fraction;
        let variance = known.iter().map(|one| one.u.powi(2)).sum::<f64>();
        let value = known.iter().map(|one| one.value).sum::<f64>() / count;
        is_whole.then(|| Measured::new(value, variance.sqrt() / count))
    }

    /// Bands for which something holds, in words.
    fn named(&self, holds: impl Fn(usize) -> bool) -> Option<String> {
        let bands: Vec<Band> =
            (0..self.bands.len()).filter(|n| holds(*n)).map(|n| self.bands[n].band).collect();
        (!bands.is_empty()).then(|| names(&bands, self.fraction))
    }

    /// What noise, the end of the take and filters do to the decays.
    fn noise_said(&self, found: &[Option<BandDecay>]) -> Vec<Finding> {
        /// What the standards ask for: T20 ends at −25 dB, and the noise lies 10 dB lower.
        const FOR_T20_DB: f64 = 25.0;
        let of = |n: usize| found.get(n).and_then(Option::as_ref);
        let has = |n: usize, holds: &dyn Fn(&BandDecay) -> bool| of(n).is_some_and(holds);
        let inr = |decay: &BandDecay| decay.inr_db.unwrap_or(f64::INFINITY);
        let mut findings = Vec::new();
        let is_open = |decay: &BandDecay| decay.t20_s.is_none() && !decay.is_cut && !decay.rings;
        let hidden = |n: usize| match of(n) {
            Some(decay) => is_open(decay) && inr(decay) < FOR_T20_DB,
            None => true,
        };
        let uncertain = |n: usize| has(n, &|decay| is_open(decay) && inr(decay) >= FOR_T20_DB);
        if let Some(bands) = self.named(uncertain) {
            findings.push(Finding::note(
                "decay_uncertain",
                format!(
                    "{bands}: the sound in so narrow a band wavers too much for T20, whose \
                     uncertainty would be above 30 %. Use wider bands, or average more positions."
                ),
            ));
        }
        if let Some(bands) = self.named(hidden) {
            findings.push(Finding::warning(
                "decay_hidden",
                format!(
                    "{bands}: no reverberation time, as the decay sinks into the noise before it has \
                     fallen by 25 dB. Excite the room louder, or average a longer sweep."
                ),
            ));
        }
        let cut = |n: usize| has(n, &|d| d.is_cut && inr(d) < FOR_T20_DB + CLEAR_DB);
        if let Some(bands) = self.named(cut) {
            findings.push(Finding::warning(
                "decay_cut",
                format!(
                    "{bands}: the take ends before the decay has fallen by 35 dB, and what would \
                     follow is assumed to continue as it fell. Record for longer."
                ),
            ));
        }
        if let Some(bands) = self.named(|n| has(n, &|decay| decay.rings)) {
            findings.push(Finding::warning(
                "filter_rings",
                format!(
                    "{bands}: the decay is as fast as the filter rings, bandwidth times reverberation \
                     time below 4: no reverberation time. Use wider bands."
                ),
            ));
        }
        let near = |n: usize| {
            has(n, &|decay| {
                let lacks =
                    |to: f64, time: Option<Measured>| time.is_some() && inr(decay) < to + CLEAR_DB;
                !decay.is_cut && (lacks(FOR_T20_DB, decay.t20_s) || lacks(35.0, decay.t30_s))
            })
        };
        if let Some(bands) = self.named(near) {
            findings.push(Finding::note(
                "noise_near",
                format!(
                    "{bands}: ISO 3382 asks for noise 10 dB below the end of the line, 35 dB for T20 \
                     and 45 dB for T30. It is nearer here; it was subtracted, which is right if it \
                     is steady."
                ),
            ));
        }
        findings
    }

    /// What is said of decays that are no straight lines.
    fn slopes_said(&self, found: &[Option<BandDecay>]) -> Vec<Finding> {
        /// A decay that curves by more is not one (ISO 3382-2:2008, annex B).
        const CURVED_PERCENT: f64 = 10.0;
        let of = |n: usize| found.get(n).and_then(Option::as_ref);
        let has = |n: usize, holds: &dyn Fn(&BandDecay) -> bool| of(n).is_some_and(holds);
        let mut findings = Vec::new();
        if let Some(bands) = self.named(|n| has(n, &|decay| decay.late_s.is_some())) {
            let level =
                |n: &usize| self.bands[*n].values.late_level_db.unwrap_or(f64::NEG_INFINITY);
            let clearest = (0..self.bands.len()).max_by(|a, b| level(a).total_cmp(&level(b)));
            let example = clearest.map_or(String::new(), |n| {
                let band = &self.bands[n];
                let values = &band.values;
                let s = |time: Option<f64>| time.map_or("–".into(), |s| format!("{s:.2} s"));
                format!(
                    " At {}: {} at first, then {} from a level of {:.0} dB.",
                    band.band.name(self.fraction),
                    s(of(n).and_then(|decay| decay.first_s)),
                    s(values.late_s.map(|late| late.value)),
                    values.late_level_db.unwrap_or_default()
                )
                .replace('-', "−")
            });
            findings.push(Finding::note(
                "two_slopes",
                format!(
                    "{bands}: the decay has two slopes, as of coupled rooms, of one surface that \
                     absorbs, or of a band whose parts differ; one time does not describe it.{example}"
                ),
            ));
        }
        let curved = |n: usize| {
            has(n, &|decay| {
                let is_sure = |c: &Measured| c.value.abs() > CURVED_PERCENT + 2.0 * c.u;
                decay.late_s.is_none() && decay.curvature.as_ref().is_some_and(is_sure)
            })
        };
        if let Some(bands) = self.named(curved) {
            findings.push(Finding::note(
                "curved_decay",
                format!(
                    "{bands}: T30 and T20 differ by more than 10 %: the decay is not a straight line, \
                     and its time depends on where it is read."
                ),
            ));
        }
        findings
    }
}

/// The mean of several positions in a room: reverberation times and what is early and late by their
/// arithmetic mean (ISO 3382-1:2009, 8.1; ISO 3382-2:2008, 7.1), the least of the impulse-to-noise ratios.
#[must_use]
pub fn mean_of(mut positions: Vec<RoomAcoustics>) -> Option<RoomAcoustics> {
    if positions.len() < 2 {
        return positions.pop();
    }
    let first = positions.first()?;
    let mut mean = RoomAcoustics {
        excitation: first.excitation,
        decays: positions.iter().map(|one| one.decays).sum(),
        positions: positions.len() as u64,
        distortion_db: positions.iter().filter_map(|one| one.distortion_db).reduce(f64::max),
        ..RoomAcoustics::empty(first.fraction)
    };
    // Bands that all positions have.
    for band in &first.bands {
        let of = |one: &RoomAcoustics| {
            let near =
                |of: &&RoomBand| (of.band.center_hz / band.band.center_hz - 1.0).abs() < 1e-6;
            one.bands.iter().find(near).map(|of| of.values.clone())
        };
        if let Some(all) = positions.iter().map(of).collect::<Option<Vec<_>>>() {
            let values = RoomValues::mean_of(&all);
            mean.bands.push(RoomBand { values, curve: DecayCurve::default(), ..band.clone() });
        }
    }
    let broadband: Vec<RoomValues> = positions.iter().map(|one| one.broadband.clone()).collect();
    mean.broadband = RoomValues::mean_of(&broadband);
    mean.average();
    Some(mean)
}

impl RoomValues {
    fn mean_of(all: &[Self]) -> Self {
        let count = all.len() as f64;
        let known =
            |of: fn(&Self) -> Option<f64>| -> Option<Vec<f64>> { all.iter().map(of).collect() };
        let plain = |of: fn(&Self) -> Option<f64>| {
            known(of).map(|values| values.iter().sum::<f64>() / count)
        };
        let spread = |of: fn(&Self) -> Option<f64>| {
            let mean = plain(of)?;
            let squares: f64 = known(of)?.iter().map(|value| (value - mean).powi(2)).sum();
            Some((squares / (count - 1.0)).sqrt())
        };
        let measured = |of: fn(&Self) -> Option<Measured>| -> Option<Measured> {
            let values: Vec<Measured> = all.iter().map(of).collect::<Option<_>>()?;
            let mean = values.iter().map(|value| value.value).sum::<f64>() / count;
            let squares: f64 = values.iter().map(|value| (value.value - mean).powi(2)).sum();
            // Positions scatter by what a room does, and by what each is uncertain by.
            let of_spread = widened(count - 1.0) * (squares / (count - 1.0) / count).sqrt();
            let own = values.iter().map(|value| value.u.powi(2)).sum::<f64>().sqrt() / count;
            Some(Measured::new(mean, of_spread.max(own)))
        };
        let (t20_s, t30_s) = (measured(|of| of.t20_s), measured(|of| of.t30_s));
        let ratio = t30_s.zip(t20_s).map(|(long, short)| long.value / short.value);
        Self {
            edt_s: plain(|of| of.edt_s),
            t20_s,
            t30_s,
            c50_db: plain(|of| of.c50_db),
            c80_db: plain(|of| of.c80_db),
            d50: plain(|of| of.d50),
            ts_s: plain(|of| of.ts_s),
            strength_db: plain(|of| of.strength_db),
            lateral_fraction: plain(|of| of.lateral_fraction),
            inr_db: known(|of| of.inr_db).and_then(|all| all.into_iter().reduce(f64::min)),
            curvature_percent: ratio.map(|ratio| 100.0 * (ratio - 1.0)),
            late_s: measured(|of| of.late_s),
            late_level_db: plain(|of| of.late_level_db),
            t20_spread_s: spread(|of| of.t20_s.map(|time| time.value)),
            t30_spread_s: spread(|of| of.t30_s.map(|time| time.value)),
        }
    }
}

/// The level of a response over time re its highest: times from the sample of time zero, and levels.
pub(super) fn energy_time(samples: &[f64], zero: usize, rate_hz: f64) -> (Vec<f64>, Vec<f64>) {
    const POINTS: usize = 900;
    const SHORTEST_S: f64 = 0.000_5;
    let step = ((SHORTEST_S * rate_hz) as usize).max(samples.len() / POINTS).max(1);
    let powers = samples.chunks_exact(step).map(|of| of.iter().map(|x| x * x).sum::<f64>());
    let powers: Vec<f64> = powers.collect();
    let most = powers.iter().copied().fold(f64::MIN_POSITIVE, f64::max);
    let time = |n: usize| ((n as f64 + 0.5) * step as f64 - zero as f64) / rate_hz;
    let levels = powers.iter().map(|power| db_from_power((power / most).max(1e-20)));
    ((0..powers.len()).map(time).collect(), levels.collect())
}

const STARTS: Label = Label::new("starts_s", "start of the response", Unit::Second, 4);
const LASTS: Label = Label::new("lasts_s", "length of the response", Unit::Second, 3);
const DECAYS: Label = Label::new("decays", "decays", Unit::One, 0);
const POSITIONS: Label = Label::new("positions", "positions", Unit::One, 0);
const DISTORTION: Label = Label::new("distortion_db", "distortion", Unit::Decibel, 1);
const MID: Label = Label::new("mid_s", "Tmid", Unit::Second, 3).with_u();
const STRENGTH: Label = Label::new("strength_db", "mean strength G", Unit::Decibel, 2);
const LATERAL: Label = Label::new("lateral_fraction", "mean early lateral fraction", Unit::One, 3);

impl Quantities for RoomAcoustics {
    fn quantities(&self) -> Vec<Quantity> {
        let plain = |label, value: Option<f64>| Quantity::top(label, value.and_then(bare));
        let mut all = vec![
            plain(&STARTS, self.starts_s),
            plain(&LASTS, self.lasts_s),
            plain(&DECAYS, Some(self.decays as f64)),
            plain(&POSITIONS, Some(self.positions as f64)),
            plain(&DISTORTION, self.distortion_db),
            Quantity::top(&MID, self.mid_s),
            plain(&STRENGTH, self.strength_db),
            plain(&LATERAL, self.lateral_fraction),
        ];
        for band in &self.bands {
            let (key, name) = (band.band.key(self.fraction), band.band.name(self.fraction));
            all.extend(Quantity::of_item(&key, &name, &RoomBand::FIELDS, band));
            all.extend(Quantity::of_item(&key, &name, &RoomValues::FIELDS, &band.values));
        }
        let broadband = Key::of("broadband");
        all.extend(Quantity::of_item(
            &broadband,
            "broadband",
            &RoomValues::FIELDS,
            &self.broadband,
        ));
        all
    }
}
