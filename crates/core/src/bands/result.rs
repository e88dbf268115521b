//! Measured levels, and their numbers.

use serde::ser::SerializeMap;
use serde::{Serialize, Serializer};

use super::corrections::{Correction, OF_BANDS, Response};
use super::octave::{Band, names};
use super::rating::NoiseRating;
use super::short_time::{EXCEEDED_PERCENT, Followed, SILENCE, TimeWeighting, bare_level, level};
use super::weighting::Weighting;
use super::{BandMeter, BandSettings, Stream, TotalMeter};
use crate::finding::Finding;
use crate::measured::{Measured, flat};
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare, pair};
use crate::units::{DB_PER_POWER, LevelReference, db_from_amplitude, db_from_power, power_from_db};

/// Levels that are exceeded during [`EXCEEDED_PERCENT`] of the time; null in silence, and where the
/// take is too short for the time weighting.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Percentiles(pub [Option<f64>; EXCEEDED_PERCENT.len()]);

impl Percentiles {
    /// The level that is exceeded during so many percent of the time, if it is one of them.
    #[must_use]
    pub fn exceeded(&self, percent: f64) -> Option<f64> {
        EXCEEDED_PERCENT.iter().position(|known| *known == percent).and_then(|n| self.0[n])
    }
}

impl Serialize for Percentiles {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(self.0.len()))?;
        for (percent, db) in EXCEEDED_PERCENT.iter().zip(&self.0) {
            map.serialize_entry(&percent.to_string(), db)?;
        }
        map.end()
    }
}

/// A level over all frequencies with one weighting, and its statistics.
#[derive(Debug, Clone, PartialEq, Default, Serialize)]
pub struct Weighted {
    /// The frequency weighting.
    pub weighting: Weighting,
    /// Equivalent level.
    #[serde(flatten, serialize_with = "flat::leq_db")]
    pub leq_db: Option<Measured>,
    /// Highest and lowest time-weighted level.
    pub max_db: Option<f64>,
    /// See above.
    pub min_db: Option<f64>,
    /// Levels that the time-weighted level exceeds during a share of the time.
    pub percentiles: Percentiles,
    /// Exposure: the level that lasts 1 s and has the same energy.
    pub exposure_db: Option<f64>,
}

/// The level in a band.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct BandLevel {
    /// Its name: the rounded middle, in Hz.
    pub center_hz: f64,
    /// Its middle in Hz.
    pub exact_center_hz: f64,
    /// Its edges.
    #[serde(skip)]
    pub band: Band,
    /// Equivalent level.
    #[serde(flatten, serialize_with = "flat::level_db")]
    pub level_db: Option<Measured>,
    /// Highest and lowest time-weighted level.
    pub max_db: Option<f64>,
    /// See above.
    pub min_db: Option<f64>,
    /// Levels that the time-weighted level exceeds during a share of the time.
    pub percentiles: Percentiles,
    /// Over so many seconds it is averaged.
    pub averaged_s: f64,
    /// What the microphone reads too high here, taken away from all levels of the band.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub response_db: Option<f64>,
    /// Level of the background.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub background_db: Option<f64>,
    /// Equivalent level without it.
    #[serde(flatten, serialize_with = "corrected_db")]
    pub corrected_db: Option<Measured>,
    /// What was done about it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub correction: Option<Correction>,
    /// Equivalent level of each step of the course, if it was kept; null while the filter settles.
    #[serde(rename = "course_db", skip_serializing_if = "Vec::is_empty")]
    pub course_db: Vec<Option<f64>>,
}

/// Two keys where there was a background.
fn corrected_db<S: Serializer>(value: &Option<Measured>, serializer: S) -> Result<S::Ok, S::Error> {
    match value {
        Some(_) => flat::corrected_db(value, serializer),
        None => serializer.serialize_map(Some(0))?.end(),
    }
}

/// A step of the course.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Moment {
    /// Middle of the step in seconds from the start of the take.
    pub time_s: f64,
    /// Equivalent level of the step.
    pub level_db: Option<f64>,
    /// Highest time-weighted level in it; null while that settles.
    pub max_db: Option<f64>,
}

/// What meters found.
#[derive(Debug, Clone, Serialize)]
pub struct Levels {
    /// Share of an octave that a band is.
    pub fraction: u32,
    /// Frequency weighting of the numbers that follow.
    pub weighting: Weighting,
    /// Time weighting of maxima, minima and percentiles.
    pub time_weighting: TimeWeighting,
    /// Length of the span.
    pub averaged_s: f64,
    /// Equivalent level.
    #[serde(flatten, serialize_with = "flat::leq_db")]
    pub leq_db: Option<Measured>,
    /// The same, A-weighted.
    #[serde(flatten, serialize_with = "flat::laeq_db")]
    pub laeq_db: Option<Measured>,
    /// The same, C-weighted.
    #[serde(flatten, serialize_with = "flat::lceq_db")]
    pub lceq_db: Option<Measured>,
    /// Highest and lowest time-weighted level.
    pub max_db: Option<f64>,
    /// See above.
    pub min_db: Option<f64>,
    /// Levels that the time-weighted level exceeds during a share of the time.
    pub percentiles: Percentiles,
    /// Exposure.
    pub exposure_db: Option<f64>,
    /// Peak of the C-weighted waveform: re full scale that of a full-scale sine is 0 dB, re 20 µPa
    /// it is that of the pressure, 3 dB over the level of a sine.
    pub lcpeak_db: Option<f64>,
    /// Ratings of the noise; `None` without a calibration, or without the octaves they need.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub noise_rating: Option<NoiseRating>,
    /// All weightings.
    pub weighted: Vec<Weighted>,
    /// The bands, from the lowest.
    pub bands: Vec<BandLevel>,
    /// Length of a step of the course.
    pub every_s: f64,
    /// The level over time.
    pub course: Vec<Moment>,
    /// What must be known.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

const PERCENTILE_LABELS: [Label; EXCEEDED_PERCENT.len()] = [
    Label::new("percentiles.1", "level exceeded 1 % of the time", Unit::Level, 2),
    Label::new("percentiles.5", "level exceeded 5 % of the time", Unit::Level, 2),
    Label::new("percentiles.10", "level exceeded 10 % of the time", Unit::Level, 2),
    Label::new("percentiles.50", "level exceeded 50 % of the time", Unit::Level, 2),
    Label::new("percentiles.90", "level exceeded 90 % of the time", Unit::Level, 2),
    Label::new("percentiles.95", "level exceeded 95 % of the time", Unit::Level, 2),
    Label::new("percentiles.99", "level exceeded 99 % of the time", Unit::Level, 2),
];

impl Percentiles {
    fn quantities(&self, key: Option<&Key>, name: &str) -> impl Iterator<Item = Quantity> {
        PERCENTILE_LABELS.iter().zip(&self.0).map(move |(label, db)| {
            let place = match key {
                Some(key) => key.clone().then(label.field),
                None => Key::of(label.field),
            };
            let quantity = Quantity::new(place, label, pair(*db, None));
            Quantity { name: format!("{name}{}", quantity.name).into(), ..quantity }
        })
    }
}

impl Weighted {
    /// Its numbers but the percentiles.
    pub const FIELDS: [Field<Self>; 4] = [
        Field::measured("leq_db", "equivalent level", Unit::Level, 2, |of| of.leq_db),
        Field::plain("max_db", "highest level", Unit::Level, 2, |of| of.max_db),
        Field::plain("min_db", "lowest level", Unit::Level, 2, |of| of.min_db),
        Field::plain("exposure_db", "exposure level", Unit::Level, 2, |of| of.exposure_db),
    ];
}

impl BandLevel {
    /// Its numbers but the percentiles.
    pub const FIELDS: [Field<Self>; 9] = [
        Field::plain("center_hz", "middle", Unit::Hertz, 1, |band| Some(band.center_hz)),
        Field::plain("exact_center_hz", "exact middle", Unit::Hertz, 2, |band| {
            Some(band.exact_center_hz)
        }),
        Field::measured("level_db", "level", Unit::Level, 2, |band| band.level_db),
        Field::plain("max_db", "highest level", Unit::Level, 2, |band| band.max_db),
        Field::plain("min_db", "lowest level", Unit::Level, 2, |band| band.min_db),
        Field::plain("averaged_s", "averaging time", Unit::Second, 3, |band| Some(band.averaged_s)),
        Field::plain("response_db", "response of the microphone", Unit::Decibel, 2, |band| {
            band.response_db
        }),
        Field::plain("background_db", "background", Unit::Level, 2, |band| band.background_db),
        Field::measured("corrected_db", "level without the background", Unit::Level, 2, |band| {
            band.corrected_db
        }),
    ];

    /// Its level without the background, where there was one.
    #[must_use]
    pub fn own_db(&self) -> Option<Measured> {
        self.corrected_db.or(self.level_db)
    }

    /// Raises its levels by so many dB.
    fn add(&mut self, by: f64) {
        add_measured(by, [&mut self.level_db]);
        add(by, [&mut self.max_db, &mut self.min_db]);
        add(by, self.percentiles.0.iter_mut().chain(&mut self.course_db));
    }
}

const LEQ: Label = Label::new("leq_db", "equivalent level", Unit::Level, 2).with_u();
const LAEQ: Label = Label::new("laeq_db", "equivalent level, A", Unit::Level, 2).with_u();
const LCEQ: Label = Label::new("lceq_db", "equivalent level, C", Unit::Level, 2).with_u();
const MAX: Label = Label::new("max_db", "highest level", Unit::Level, 2);
const MIN: Label = Label::new("min_db", "lowest level", Unit::Level, 2);
const EXPOSURE: Label = Label::new("exposure_db", "exposure level", Unit::Level, 2);
const PEAK: Label = Label::new("lcpeak_db", "peak level, C", Unit::Level, 2);
const FRACTION: Label = Label::new("fraction", "bands to the octave", Unit::One, 0);
const AVERAGED: Label = Label::new("averaged_s", "averaging time", Unit::Second, 3);
const EVERY: Label = Label::new("every_s", "step of the course", Unit::Second, 3);
const NR: Label = Label::new("noise_rating.nr", "noise rating NR", Unit::One, 1);
const NR_AT: Label = Label::new("noise_rating.nr_at_hz", "octave of NR", Unit::Hertz, 1);
const NC: Label = Label::new("noise_rating.nc", "noise criterion NC", Unit::One, 1);
const NC_AT: Label = Label::new("noise_rating.nc_at_hz", "octave of NC", Unit::Hertz, 1);

impl Quantities for Levels {
    fn quantities(&self) -> Vec<Quantity> {
        let mut all = vec![
            Quantity::top(&LAEQ, self.laeq_db),
            Quantity::top(&LCEQ, self.lceq_db),
            Quantity::top(&LEQ, self.leq_db),
            Quantity::top(&MAX, pair(self.max_db, None)),
            Quantity::top(&MIN, pair(self.min_db, None)),
            Quantity::top(&EXPOSURE, pair(self.exposure_db, None)),
            Quantity::top(&PEAK, pair(self.lcpeak_db, None)),
        ];
        all.extend(self.percentiles.quantities(None, ""));
        if let Some(rating) = self.noise_rating {
            let of = [
                (&NR, rating.nr),
                (&NR_AT, rating.nr_at_hz),
                (&NC, rating.nc),
                (&NC_AT, rating.nc_at_hz),
            ];
            all.extend(of.map(|(label, value)| Quantity::top(label, pair(value, None))));
        }
        for band in &self.bands {
            let (key, name) = (band.band.key(self.fraction), band.band.name(self.fraction));
            all.extend(Quantity::of_item(&key, &name, &BandLevel::FIELDS, band));
            all.extend(band.percentiles.quantities(Some(&key), &format!("{name}, ")));
        }
        for (n, weighted) in (1..).zip(&self.weighted) {
            let key = Key::item("weighted", n);
            let name = format!("{}-weighted", weighted.weighting.letter());
            all.extend(Quantity::of_item(&key, &name, &Weighted::FIELDS, weighted));
            all.extend(weighted.percentiles.quantities(Some(&key), &format!("{name}, ")));
        }
        all.push(Quantity::top(&FRACTION, bare(f64::from(self.fraction))));
        all.push(Quantity::top(&AVERAGED, bare(self.averaged_s)));
        all.push(Quantity::top(&EVERY, bare(self.every_s)));
        all
    }
}

impl Levels {
    /// What two meters found of one stream.
    #[must_use]
    pub fn of(
        bands: BandMeter,
        totals: TotalMeter,
        settings: &BandSettings,
        stream: &Stream,
    ) -> Self {
        let (every_s, _, _) = settings.steps(stream);
        let lasts_s = stream.lasts_s();
        let mut findings = Vec::new();
        findings.extend(omitted(&bands.above, settings.fraction, |names| {
            format!(
                "{names}: omitted, since they reach beyond half the sample rate, {} Hz.",
                0.5 * stream.rate_hz
            )
        }));
        findings.extend(omitted(&bands.too_slow, settings.fraction, |names| {
            format!(
                "{names}: omitted, since the span of {lasts_s:.3} s is too short for their filters \
                 to settle. Measure a longer span."
            )
        }));
        let peak = totals.peaks.into_iter().map(super::TruePeak::finish).fold(0.0, f32::max);
        let followed = totals.levels.map(super::ShortTime::finish);
        let weighted: Vec<Weighted> = Weighting::ALL
            .into_iter()
            .zip(&followed)
            .map(|(weighting, of)| Weighted {
                weighting,
                leq_db: of.mean.map(level),
                max_db: of.most.map(bare_level),
                min_db: of.least.map(bare_level),
                percentiles: percentiles(of),
                exposure_db: of.mean.map(|p| bare_level(p.value) + db_from_power(of.averaged_s)),
            })
            .collect();
        let place = Weighting::ALL.iter().position(|one| *one == settings.weighting).unwrap_or(0);
        let (chosen, own) = (&weighted[place], &followed[place]);
        findings.extend(own.drift_db.map(|db| drifts(db, settings.weighting)));
        if own.least.is_none() && own.mean.is_some() {
            findings.push(Finding::note(
                "short_for_time_weighting",
                format!(
                    "The lowest level and the percentiles are omitted: time weighting {} takes \
                     {:.3} s to settle, and the span lasts {lasts_s:.3} s.",
                    settings.time_weighting.letter(),
                    settings.time_weighting.settles_s()
                ),
            ));
        }
        let moment = |(n, step): (usize, &super::short_time::Step)| Moment {
            time_s: stream.start_s + (n as f64 + 0.5) * every_s,
            level_db: known_level(step.mean),
            max_db: known_level(step.highest),
        };
        let mut of_bands: Vec<BandLevel> = bands
            .bands
            .into_iter()
            .map(|(band, level)| of_band(band, settings.fraction, &level.finish()))
            .collect();
        widen_beside_neighbours(&mut of_bands);
        Self {
            fraction: settings.fraction,
            weighting: settings.weighting,
            time_weighting: settings.time_weighting,
            averaged_s: lasts_s,
            leq_db: chosen.leq_db,
            laeq_db: weighted[0].leq_db,
            lceq_db: weighted[1].leq_db,
            max_db: chosen.max_db,
            min_db: chosen.min_db,
            percentiles: chosen.percentiles,
            exposure_db: chosen.exposure_db,
            lcpeak_db: (peak > 0.0).then(|| db_from_amplitude(f64::from(peak))),
            noise_rating: None,
            bands: of_bands,
            every_s,
            course: own.steps.iter().enumerate().map(moment).collect(),
            weighted,
            findings,
        }
    }

    /// Refers all levels to what they are calibrated to.
    #[must_use]
    pub fn calibrated(mut self, reference: LevelReference) -> Self {
        let by = reference.full_scale_db();
        add_measured(by, [&mut self.leq_db, &mut self.laeq_db, &mut self.lceq_db]);
        add(by, [&mut self.max_db, &mut self.min_db, &mut self.exposure_db]);
        add(reference.peak_full_scale_db(), [&mut self.lcpeak_db]);
        add(by, &mut self.percentiles.0);
        for of in &mut self.weighted {
            add_measured(by, [&mut of.leq_db]);
            add(by, [&mut of.max_db, &mut of.min_db, &mut of.exposure_db]);
            add(by, &mut of.percentiles.0);
        }
        for band in &mut self.bands {
            band.add(by);
        }
        for at in &mut self.course {
            add(by, [&mut at.level_db, &mut at.max_db]);
        }
        self
    }

    /// Takes the response of the microphone away from the bands, and from the equivalent levels
    /// over all frequencies by what it adds to the sum of the bands.
    #[must_use]
    pub fn without_response(mut self, response: &Response) -> Self {
        for weighted in &mut self.weighted {
            let (mut with, mut without) = (0.0, 0.0);
            for band in &self.bands {
                let hz = band.exact_center_hz;
                let Some(level) = band.level_db else { continue };
                let power = power_from_db(level.value) * weighted.weighting.power(hz);
                with += power;
                without += power * power_from_db(-response.at(hz));
            }
            let by = if with > 0.0 { db_from_power(without / with) } else { 0.0 };
            add_measured(by, [&mut weighted.leq_db]);
            add(by, [&mut weighted.exposure_db]);
        }
        let of = |weighting| self.weighted.iter().find(|of| of.weighting == weighting);
        self.leq_db = of(self.weighting).and_then(|of| of.leq_db);
        self.exposure_db = of(self.weighting).and_then(|of| of.exposure_db);
        self.laeq_db = of(Weighting::A).and_then(|of| of.leq_db);
        self.lceq_db = of(Weighting::C).and_then(|of| of.leq_db);
        for band in &mut self.bands {
            let by = response.at(band.exact_center_hz);
            band.response_db = Some(by);
            band.add(-by);
        }
        self
    }

    /// Subtracts the power of a background, measured with the same settings, from the bands.
    #[must_use]
    pub fn without_background(mut self, background: &Self) -> Self {
        let mut near = Vec::new();
        for band in &mut self.bands {
            let same = |other: &&BandLevel| other.center_hz == band.center_hz;
            let other = background.bands.iter().find(same).and_then(|other| other.level_db);
            let Some((level, other)) = band.level_db.zip(other) else { continue };
            let (corrected, done) = OF_BANDS.apply(level, other);
            band.background_db = Some(other.value);
            (band.corrected_db, band.correction) = (Some(corrected), Some(done));
            if done == Correction::Limited {
                near.push(band.band);
            }
        }
        if !near.is_empty() {
            let text = format!(
                "{}: the background is less than 3 dB below the level, and is not subtracted. These \
                 levels are upper limits.",
                names(&near, self.fraction)
            );
            self.findings.push(Finding::warning("background_near", text));
        }
        self
    }

    /// Rates the noise. The levels must be re 20 µPa.
    #[must_use]
    pub fn rated(mut self) -> Self {
        let known = |band: &BandLevel| Some((band.exact_center_hz, band.own_db()?.value));
        let bands: Vec<(f64, f64)> = self.bands.iter().filter_map(known).collect();
        self.noise_rating = NoiseRating::of(self.fraction, &bands);
        self
    }
}

/// Raises levels by so many dB.
fn add<'a>(by: f64, levels: impl IntoIterator<Item = &'a mut Option<f64>>) {
    for db in levels.into_iter().flatten() {
        *db += by;
    }
}

fn add_measured<'a>(by: f64, levels: impl IntoIterator<Item = &'a mut Option<Measured>>) {
    for level in levels.into_iter().flatten() {
        level.value += by;
    }
}

fn known_level(power: f64) -> Option<f64> {
    (power > SILENCE).then(|| bare_level(power))
}

fn percentiles(of: &Followed) -> Percentiles {
    Percentiles(of.exceeded.map(|power| power.map(bare_level)))
}

fn of_band(band: Band, fraction: u32, found: &Followed) -> BandLevel {
    BandLevel {
        center_hz: band.nominal_hz(fraction),
        exact_center_hz: band.center_hz,
        band,
        level_db: found.mean.map(level),
        max_db: found.most.map(bare_level),
        min_db: found.least.map(bare_level),
        percentiles: percentiles(found),
        averaged_s: found.averaged_s,
        response_db: None,
        background_db: None,
        corrected_db: None,
        correction: None,
        course_db: found.steps.iter().map(|step| known_level(step.mean)).collect(),
    }
}

/// Widens the uncertainty of a band by what the skirts of its filter may bring from its neighbours.
///
/// The power that comes in at an edge is a share f of that of the neighbour, and as much of the own
/// goes out: f·(P_low + P_high − 2·P) if the density is even within each band and steps at the
/// edges, nothing if it is a slope. It lies between the two.
fn widen_beside_neighbours(bands: &mut [BandLevel]) {
    /// ½·∫ dx/(1 + (c·x)¹⁰) from 1 on, half a band being 1.
    const SKIRT: f64 = 0.035;
    let powers: Vec<Option<f64>> =
        bands.iter().map(|band| band.level_db.map(|level| power_from_db(level.value))).collect();
    let power = |n: Option<usize>| n.and_then(|n| *powers.get(n)?);
    for (n, band) in bands.iter_mut().enumerate() {
        let Some((level, own)) = band.level_db.as_mut().zip(powers[n]) else { continue };
        let low = power(n.checked_sub(1)).unwrap_or(own);
        let high = power(Some(n + 1)).unwrap_or(own);
        let share = (SKIRT * ((low + high) / own - 2.0).abs()).min(1.0);
        level.u = level.u.hypot(DB_PER_POWER * share / 3f64.sqrt());
    }
}

/// A note of bands that are omitted, if there are any.
pub(crate) fn omitted(
    bands: &[Band],
    fraction: u32,
    said: impl FnOnce(String) -> String,
) -> Option<Finding> {
    (!bands.is_empty()).then(|| Finding::note("bands_omitted", said(names(bands, fraction))))
}

fn drifts(db: f64, weighting: Weighting) -> Finding {
    let way = if db > 0.0 { "rises" } else { "falls" };
    Finding::note(
        "level_drifts",
        format!(
            "The {}-weighted level {way} by {:.1} dB over the span: the mean stands for no level that \
             lasts. Its course is in the table.",
            weighting.letter(),
            db.abs()
        ),
    )
}
