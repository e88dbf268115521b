//! Everything that is looked at in one take, in one pass.

use serde::{Serialize, Serializer};

use super::course::{Course, CourseMeter, Region};
use super::faults::{FaultMeter, Faults};
use super::grain::Grains;
use super::hum::{Hum, HumMeter};
use super::levels::{ChannelLevels, LevelGauge};
use super::noise::{Noise, NoiseMeter};
use super::period::Period;
use super::relation::ChannelRelation;
use super::true_peak::TruePeakMeter;
use crate::finding::Finding;
use crate::measured::Measured;
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare, pair};
use crate::span::SampleSpan;
use crate::units::{amplitude_from_db, db_from_power};

/// A channel so far below the loudest, in dB, in which nothing stands out of the noise, is dead.
const DEAD_DB: f64 = 40.0;
const DEAD_OVER_NOISE_DB: f64 = 3.0;

/// Time around a click, or an end of a dropout, in which an onset is none, in seconds.
const FAULT_REACH_S: f64 = 0.015;

/// What is found in one channel.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct ChannelInspection {
    /// Its name; its number, counted from 1, unless [`Inspection::name`] gave it another.
    pub name: String,
    /// Levels and clipping.
    #[serde(flatten)]
    pub levels: ChannelLevels,
    /// RMS level of the noise in dBFS; `None` if it cannot be found.
    pub noise_floor_dbfs: Option<f64>,
    /// The loudest 50 ms over the noise, in dB.
    pub dynamic_range_db: Option<f64>,
    /// Highest frequency at which the channel holds anything, in Hz.
    pub bandwidth_hz: Option<f64>,
    /// By how many dB the spectrum falls there, if it does so as lossy coders make it.
    pub band_edge_db: Option<f64>,
    /// Mains hum, if there is any.
    pub hum: Option<Hum>,
    /// Clicks and dropouts.
    #[serde(flatten)]
    pub faults: Faults,
    /// Its period, where one was measured: [`super::period`].
    pub period: Option<Period>,
    /// Levels of sound pressure.
    #[serde(flatten)]
    pub pressure: PressureLevels,
}

/// Levels in dB re 20 µPa; unknown until [`ChannelInspection::calibrate`].
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct PressureLevels {
    /// Of a full-scale sine.
    pub full_scale_db: Option<f64>,
    /// RMS.
    pub rms_db: Option<f64>,
    /// RMS of the loudest 50 ms.
    pub loudest_db: Option<f64>,
    /// RMS of the noise.
    pub noise_floor_db: Option<f64>,
}

/// What is found in one take.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Inspection {
    /// The channels.
    pub channels: Vec<ChannelInspection>,
    /// Each channel compared with the next.
    #[serde(rename = "correlations", serialize_with = "correlations")]
    pub relations: Vec<ChannelRelation>,
    /// When something sounds and begins, all channels together.
    #[serde(flatten)]
    pub course: Course,
}

fn correlations<S: Serializer>(
    relations: &[ChannelRelation],
    serializer: S,
) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(relations.iter().map(ChannelRelation::correlation))
}

impl ChannelInspection {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 24] = [
        Field::plain("peak_dbfs", "peak", Unit::FullScale, 2, |c| c.levels.peak_dbfs),
        Field::plain("true_peak_dbfs", "true peak", Unit::FullScale, 2, |c| {
            c.levels.true_peak_dbfs
        }),
        Field::plain("rms_dbfs", "RMS", Unit::FullScale, 2, |c| c.levels.rms_dbfs),
        Field::plain("crest_db", "crest", Unit::Decibel, 1, |c| c.levels.crest_db),
        Field::plain("loudest_dbfs", "loudest 50 ms", Unit::FullScale, 2, |c| {
            c.levels.loudest_dbfs
        }),
        Field::plain("dc_offset", "DC", Unit::One, 6, |c| Some(c.levels.dc_offset)),
        Field::plain("bits_used", "bits used", Unit::One, 0, |c| c.levels.bits_used.map(f64::from)),
        Field::plain("clipped_samples", "clipped samples", Unit::One, 0, |c| {
            Some(c.levels.clipped_samples as f64)
        }),
        Field::plain("flat_top_dbfs", "flat tops", Unit::FullScale, 2, |c| c.levels.flat_top_dbfs),
        Field::plain("noise_floor_dbfs", "noise floor", Unit::FullScale, 1, |c| c.noise_floor_dbfs),
        Field::plain("dynamic_range_db", "range", Unit::Decibel, 1, |c| c.dynamic_range_db),
        Field::plain("bandwidth_hz", "bandwidth", Unit::Hertz, 0, |c| c.bandwidth_hz),
        Field::plain("band_edge_db", "fall at the band edge", Unit::Decibel, 1, |c| c.band_edge_db),
        Field::measured("hum.mains_hz", "mains frequency", Unit::Hertz, 2, |c| {
            pair(c.hum.as_ref().map(|hum| hum.mains_hz), None)
        }),
        Field::measured("hum.level_dbfs", "hum", Unit::FullScale, 1, |c| {
            pair(c.hum.as_ref().map(|hum| hum.level_dbfs), None)
        }),
        Field::plain("click_count", "clicks", Unit::One, 0, |c| Some(c.faults.click_count as f64)),
        Field::plain("dropout_count", "dropouts", Unit::One, 0, |c| {
            Some(c.faults.dropout_count as f64)
        }),
        Field::measured("period.period_s", "period", Unit::Second, 9, |c| {
            c.period.map(|period| Measured::new(period.period_s, period.period_s_u))
        }),
        Field::measured("period.frequency_hz", "frequency of the period", Unit::Hertz, 6, |c| {
            c.period.map(|period| Measured::new(period.frequency_hz, period.frequency_hz_u))
        }),
        Field::measured("period.periods", "periods", Unit::One, 0, |c| {
            pair(c.period.map(|period| f64::from(period.periods)), None)
        }),
        Field::plain("full_scale_db", "level of full scale", Unit::Level, 2, |c| {
            c.pressure.full_scale_db
        }),
        Field::plain("rms_db", "level", Unit::Level, 2, |c| c.pressure.rms_db),
        Field::plain("loudest_db", "level of the loudest 50 ms", Unit::Level, 2, |c| {
            c.pressure.loudest_db
        }),
        Field::plain("noise_floor_db", "level of the noise", Unit::Level, 1, |c| {
            c.pressure.noise_floor_db
        }),
    ];

    /// Adds levels of sound pressure: a full-scale sine has so many dB re 20 µPa.
    pub fn calibrate(&mut self, full_scale_db: f64) {
        let level = |dbfs: Option<f64>| dbfs.map(|dbfs| dbfs + full_scale_db);
        self.pressure = PressureLevels {
            full_scale_db: Some(full_scale_db),
            rms_db: level(self.levels.rms_dbfs),
            loudest_db: level(self.levels.loudest_dbfs),
            noise_floor_db: level(self.noise_floor_dbfs),
        };
    }
}

impl Quantities for Inspection {
    fn quantities(&self) -> Vec<Quantity> {
        const CORRELATION: Label =
            Label::new("correlations", "correlation with the next channel", Unit::One, 3);
        const ONSET: Label = Label::new("onsets_s", "onset", Unit::Second, 3);
        const DIED: Label = Label::new("died_s", "end of the sound", Unit::Second, 3);
        const REGION: [Field<Region>; 2] = [
            Field::plain("start_s", "start", Unit::Second, 3, |region| Some(region.start_s)),
            Field::plain("end_s", "end", Unit::Second, 3, |region| Some(region.end_s)),
        ];
        let mut all = vec![Quantity::top(&DIED, pair(self.course.died_s, None))];
        for (n, channel) in (1..).zip(&self.channels) {
            let (key, name) = (Key::item("channels", n), format!("channel {}", channel.name));
            all.extend(Quantity::of_item(&key, &name, &ChannelInspection::FIELDS, channel));
        }
        for (n, relation) in (1..).zip(&self.relations) {
            let key = Key::item(CORRELATION.field, n);
            all.push(Quantity::new(key, &CORRELATION, pair(relation.correlation(), None)));
        }
        for (n, region) in (1..).zip(&self.course.regions) {
            let key = Key::item("regions", n);
            all.extend(Quantity::of_item(&key, &format!("sounding region {n}"), &REGION, region));
        }
        for (n, onset_s) in (1..).zip(&self.course.onsets_s) {
            all.push(Quantity::new(Key::item(ONSET.field, n), &ONSET, bare(*onset_s)));
        }
        all
    }
}

/// Inspects a take whose samples arrive in blocks of all channels.
///
/// The work has two halves, which may run on two threads; each must be given all samples in order.
pub struct Inspector {
    levels: LevelInspector,
    sound: SoundInspector,
}

/// The half that looks at samples one by one: levels, faults, and the course.
pub struct LevelInspector {
    grains: Grains,
    gauges: Vec<LevelGauge>,
    true_peaks: Vec<TruePeakMeter>,
    faults: Vec<FaultMeter>,
    course: CourseMeter,
    samples: u64,
}

/// The half that looks at spectra, and compares channels.
pub struct SoundInspector {
    noises: Vec<NoiseMeter>,
    hums: Vec<HumMeter>,
    relations: Vec<ChannelRelation>,
}

impl Inspector {
    /// An inspector for a span of a take of `channels` channels, stored in `bits` bits; `None` for
    /// floating point.
    #[must_use]
    pub fn new(sample_rate_hz: f64, bits: Option<u32>, channels: usize, span: SampleSpan) -> Self {
        let gauge = LevelGauge::new(sample_rate_hz, bits, span.start);
        let step = bits.map_or(0.0, |bits| 0.5f32.powi(bits as i32 - 1));
        let faults = FaultMeter::new(sample_rate_hz, span.start, step);
        // Windows and transforms are planned once for all channels.
        let noise = NoiseMeter::new(sample_rate_hz, span.len());
        let hum = HumMeter::new(sample_rate_hz, span.len());
        Self {
            levels: LevelInspector {
                grains: Grains::new(sample_rate_hz, channels),
                gauges: vec![gauge; channels],
                true_peaks: vec![TruePeakMeter::default(); channels],
                faults: vec![faults; channels],
                course: CourseMeter::new(sample_rate_hz, channels, span.start),
                samples: 0,
            },
            sound: SoundInspector {
                noises: vec![noise; channels],
                hums: vec![hum; channels],
                relations: vec![ChannelRelation::default(); channels.saturating_sub(1)],
            },
        }
    }

    /// Both halves.
    pub fn halves(&mut self) -> (&mut LevelInspector, &mut SoundInspector) {
        (&mut self.levels, &mut self.sound)
    }

    /// What was found in the samples so far.
    #[must_use]
    pub fn finish(self) -> Inspection {
        let LevelInspector { grains, mut gauges, mut true_peaks, faults, course, samples } =
            self.levels;
        grains.finish(|n, grain| {
            gauges[n].take(grain);
            true_peaks[n].take(grain);
        });
        let SoundInspector { noises, hums, relations } = self.sound;
        let one_by_one = gauges.into_iter().zip(true_peaks).zip(faults);
        let channels: Vec<ChannelInspection> = one_by_one
            .zip(noises.into_iter().zip(hums))
            .map(|(((gauge, true_peak), faults), (noise, hum))| {
                let Noise { floor_dbfs, bandwidth_hz, edge_db } =
                    noise.finish(f64::from(gauge.coding_step()));
                let levels = gauge.finish(Some(true_peak.finish()));
                let range = levels.loudest_dbfs.zip(floor_dbfs).map(|(loud, floor)| loud - floor);
                ChannelInspection {
                    name: String::new(),
                    levels,
                    noise_floor_dbfs: floor_dbfs,
                    dynamic_range_db: range,
                    bandwidth_hz,
                    band_edge_db: edge_db,
                    hum: hum.finish(),
                    faults: faults.finish(),
                    period: None,
                    pressure: PressureLevels::default(),
                }
            })
            .collect();
        let power: f64 = channels
            .iter()
            .flat_map(|channel| {
                // Hum is there in the pauses, too.
                [channel.noise_floor_dbfs, channel.hum.as_ref().map(|hum| hum.level_dbfs)]
            })
            .flatten()
            .map(|db| amplitude_from_db(db).powi(2))
            .sum();
        let noise_dbfs = (power > 0.0).then(|| db_from_power(power));
        let mut course = course.finish(samples, noise_dbfs);
        // What is heard at a fault is no beginning.
        let faults: Vec<f64> = channels
            .iter()
            .flat_map(|channel| {
                let dropouts = channel.faults.dropouts.iter();
                let ends = dropouts.flat_map(|dropout| [dropout.start_s, dropout.end_s]);
                channel.faults.clicks_s.iter().copied().chain(ends)
            })
            .collect();
        course.onsets_s.retain(|onset_s| {
            faults.iter().all(|fault_s| (onset_s - fault_s).abs() > FAULT_REACH_S)
        });
        let mut found = Inspection { channels, relations, course };
        let numbers: Vec<String> = (1..=found.channels.len()).map(|n| n.to_string()).collect();
        found.name(&numbers);
        found
    }
}

impl LevelInspector {
    /// Takes the next samples of all channels.
    pub fn push(&mut self, channels: &[Vec<f32>]) {
        self.samples += channels.first().map_or(0, Vec::len) as u64;
        self.course.hear(channels);
        self.grains.push(channels, |n, grain| {
            self.gauges[n].take(grain);
            self.true_peaks[n].take(grain);
            self.faults[n].take(grain);
            self.course.take(n, &grain.totals);
        });
    }
}

impl SoundInspector {
    /// Takes the next samples of all channels.
    pub fn push(&mut self, channels: &[Vec<f32>]) {
        for (n, samples) in channels.iter().enumerate() {
            self.noises[n].push(samples);
            self.hums[n].push(samples);
        }
        for (relation, pair) in self.relations.iter_mut().zip(channels.windows(2)) {
            relation.push(&pair[0], &pair[1]);
        }
    }
}

impl Inspection {
    /// Gives the channels their names.
    pub fn name(&mut self, names: &[String]) {
        for (channel, name) in self.channels.iter_mut().zip(names) {
            channel.name.clone_from(name);
        }
    }

    /// What all this says about the recording.
    #[must_use]
    pub fn findings(&self) -> Vec<Finding> {
        let mut findings = Vec::new();
        let loudest = self.channels.iter().filter_map(|channel| channel.levels.rms_dbfs);
        let loudest = loudest.fold(f64::NEG_INFINITY, f64::max);
        for channel in &self.channels {
            let name = &channel.name;
            findings.extend(channel.levels.findings(name));
            findings.extend(channel.dead(name, loudest));
            findings.extend(channel.lossy_like(name));
            findings.extend(channel.hum.iter().map(|hum| hum.finding(name)));
            findings.extend(channel.faults.findings(name));
        }
        for (relation, pair) in self.relations.iter().zip(self.channels.windows(2)) {
            findings.extend(relation.finding(&pair[0].name, &pair[1].name));
        }
        findings
    }
}

impl ChannelInspection {
    fn dead(&self, name: &str, loudest_dbfs: f64) -> Option<Finding> {
        let (rms, floor) = (self.levels.rms_dbfs?, self.noise_floor_dbfs?);
        let is_dead = rms < loudest_dbfs - DEAD_DB && rms < floor + DEAD_OVER_NOISE_DB;
        is_dead.then(|| {
            Finding::warning(
                "dead_channel",
                format!(
                    "Channel {name} holds nothing but noise at {rms:.1} dBFS while another channel \
                     sounds: its microphone or line was dead. Leave it out."
                ),
            )
        })
    }

    fn lossy_like(&self, name: &str) -> Option<Finding> {
        let (bandwidth_hz, fall_db) = (self.bandwidth_hz?, self.band_edge_db?);
        Some(Finding::warning(
            "lossy_like",
            format!(
                "Channel {name} ends abruptly at {:.1} kHz, where it falls by {fall_db:.0} dB: \
                 lossy \
                 coders and converters to a lower sample rate leave such an edge, instruments and \
                 rooms do not. Partials near and above it, and weak ones beside strong ones, may \
                 have been left out; look for the original recording.",
                bandwidth_hz / 1000.0
            ),
        ))
    }
}
