//! Units: frequencies, times, notes, cents and decibels, and how a user types them.
//!
//! Everything that a user can type as a quantity is read here, so that the same forms are
//! accepted everywhere and an error always shows them.

use std::fmt;
use std::str::FromStr;

use crate::error::Error;
use crate::finding::Finding;
use crate::measured::Measured;

/// Level in dB of an amplitude ratio: 20 lg(ratio). Zero gives negative infinity.
#[must_use]
pub fn db_from_amplitude(ratio: f64) -> f64 {
    20.0 * ratio.log10()
}

/// Level in dB of a power ratio: 10 lg(ratio). Zero gives negative infinity.
#[must_use]
pub fn db_from_power(ratio: f64) -> f64 {
    10.0 * ratio.log10()
}

/// Ratio of powers of a level in dB.
#[must_use]
pub fn power_from_db(db: f64) -> f64 {
    10f64.powf(0.1 * db)
}

/// Speed of sound in air at a temperature in °C: 331.3 m/s·√(1 + θ/273.15) (ISO 9613-1:1993).
#[must_use]
pub fn sound_speed_m_s(celsius: f64) -> f64 {
    331.3 * (1.0 + celsius / 273.15).sqrt()
}

/// Decibels per relative change of a power.
pub(crate) const DB_PER_POWER: f64 = 10.0 / std::f64::consts::LN_10;

/// Level of the mean power of levels, in dB; `None` of nothing.
pub fn mean_power_db(levels_db: impl IntoIterator<Item = f64>) -> Option<f64> {
    let (mut sum, mut count) = (0.0, 0u32);
    for db in levels_db {
        sum += power_from_db(db);
        count += 1;
    }
    (count > 0).then(|| db_from_power(sum / f64::from(count)))
}

/// Frequency so many cents above another.
#[must_use]
pub fn cents_above(hz: f64, cents: f64) -> f64 {
    hz * (cents / 1200.0).exp2()
}

/// Amplitude ratio of a level in dB.
#[must_use]
pub fn amplitude_from_db(db: f64) -> f64 {
    10f64.powf(db / 20.0)
}

/// Interval from `from_hz` to `to_hz` in cents: 1200 lb(to / from).
#[must_use]
pub fn cents_between(from_hz: f64, to_hz: f64) -> f64 {
    1200.0 * (to_hz / from_hz).log2()
}

/// Standard uncertainty of a frequency in cents: 1200/ln 2·u/f.
#[must_use]
pub fn cents_u(hz: &Measured) -> f64 {
    1200.0 / std::f64::consts::LN_2 * hz.u / hz.value
}

/// What levels refer to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum LevelReference {
    /// A full-scale sine is 0 dB.
    FullScale,
    /// The sound pressure 20 µPa (ISO 1683).
    Pressure {
        /// Level of a full-scale sine.
        full_scale_db: f64,
    },
    /// One volt, RMS.
    Voltage {
        /// Peak voltage at full scale.
        full_scale_v: f64,
    },
}

/// The reference sound pressure in Pa (ISO 1683).
const REFERENCE_PA: f64 = 20e-6;

impl LevelReference {
    /// The words behind "dB".
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::FullScale => "re full scale",
            Self::Pressure { .. } => "re 20 µPa",
            Self::Voltage { .. } => "re 1 V",
        }
    }

    /// What a level of 0 dB is, as a result's settings name it.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::FullScale => "full scale",
            Self::Pressure { .. } => "20 µPa",
            Self::Voltage { .. } => "1 V",
        }
    }

    /// Level of a full-scale sine in dB.
    #[must_use]
    pub fn full_scale_db(self) -> f64 {
        match self {
            Self::FullScale => 0.0,
            Self::Pressure { full_scale_db } => full_scale_db,
            Self::Voltage { full_scale_v } => {
                db_from_amplitude(full_scale_v / std::f64::consts::SQRT_2)
            }
        }
    }

    /// Level of the peak of a full-scale sine in dB: re full scale 0 dB too, else 3 dB over that of
    /// the sine.
    #[must_use]
    pub fn peak_full_scale_db(self) -> f64 {
        let over_rms = if self == Self::FullScale { 0.0 } else { db_from_power(2.0) };
        self.full_scale_db() + over_rms
    }

    /// Unit of the signal.
    #[must_use]
    pub fn unit(self) -> &'static str {
        match self {
            Self::FullScale => "FS",
            Self::Pressure { .. } => "Pa",
            Self::Voltage { .. } => "V",
        }
    }

    /// The signal in its unit at full scale.
    #[must_use]
    pub fn per_full_scale(self) -> f64 {
        match self {
            Self::FullScale => 1.0,
            Self::Pressure { full_scale_db } => {
                std::f64::consts::SQRT_2 * REFERENCE_PA * amplitude_from_db(full_scale_db)
            }
            Self::Voltage { full_scale_v } => full_scale_v,
        }
    }
}

const SHARP_NAMES: [&str; 12] = ["C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B"];

/// A note of the equally tempered scale, by its MIDI number: 69 is A4.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Note(pub i32);

impl Note {
    /// The note nearest to a frequency, and how many cents the frequency lies above it.
    ///
    /// `reference_hz` is the frequency of A4. Returns `None` unless both are positive and finite.
    #[must_use]
    pub fn nearest(frequency_hz: f64, reference_hz: f64) -> Option<(Self, f64)> {
        let positive = |x: f64| x.is_finite() && x > 0.0;
        if !(positive(frequency_hz) && positive(reference_hz)) {
            return None;
        }
        let semitones = 69.0 + 12.0 * (frequency_hz / reference_hz).log2();
        let nearest = semitones.round();
        Some((Self(nearest as i32), 100.0 * (semitones - nearest)))
    }

    /// Its equally tempered frequency in Hz, with A4 at `reference_hz`.
    #[must_use]
    pub fn frequency_hz(self, reference_hz: f64) -> f64 {
        reference_hz * f64::from(self.0 - 69).exp2().powf(1.0 / 12.0)
    }
}

impl fmt::Display for Note {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = SHARP_NAMES[self.0.rem_euclid(12) as usize];
        write!(f, "{name}{}", self.0.div_euclid(12) - 1)
    }
}

/// Writes a note by its name.
// The serializer hands over a reference.
#[expect(clippy::trivially_copy_pass_by_ref)]
pub(crate) fn note_text<S: serde::Serializer>(
    note: &Note,
    serializer: S,
) -> Result<S::Ok, S::Error> {
    serializer.collect_str(note)
}

impl FromStr for Note {
    type Err = Error;

    /// Reads scientific pitch notation: `A4`, `C#5`, `Bb3`, `F-1`.
    fn from_str(text: &str) -> Result<Self, Error> {
        let unreadable =
            || Error::Unreadable { given: text.into(), wanted: "a note", forms: "A4, C#5 or Bb3" };
        let mut chars = text.trim().chars();
        let step = match chars.next().map(|c| c.to_ascii_uppercase()) {
            Some('C') => 0,
            Some('D') => 2,
            Some('E') => 4,
            Some('F') => 5,
            Some('G') => 7,
            Some('A') => 9,
            Some('B') => 11,
            _ => return Err(unreadable()),
        };
        let rest = chars.as_str();
        let (shift, octave) = match rest.strip_prefix(['#', '♯']) {
            Some(octave) => (1, octave),
            None => match rest.strip_prefix(['b', '♭']) {
                Some(octave) => (-1, octave),
                None => (0, rest),
            },
        };
        let octave: i32 = octave.parse().map_err(|_| unreadable())?;
        if !(-1..=12).contains(&octave) {
            return Err(unreadable());
        }
        Ok(Self(12 * (octave + 1) + step + shift))
    }
}

/// A frequency as typed: a number in Hz or a note, which needs the reference pitch.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Frequency {
    /// In Hz.
    Hertz(f64),
    /// As a note.
    Note(Note),
}

impl Frequency {
    /// In Hz, with A4 at `reference_hz`.
    #[must_use]
    pub fn hz(self, reference_hz: f64) -> f64 {
        match self {
            Self::Hertz(hz) => hz,
            Self::Note(note) => note.frequency_hz(reference_hz),
        }
    }
}

impl FromStr for Frequency {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        if let Ok(note) = text.parse() {
            return Ok(Self::Note(note));
        }
        number_with_unit(text, &[("khz", 1e3), ("hz", 1.0), ("k", 1e3)])
            .filter(|hz| *hz >= 0.0)
            .map(Self::Hertz)
            .ok_or_else(|| Error::Unreadable {
                given: text.into(),
                wanted: "a frequency",
                forms: "440, 440Hz, 2.5kHz or A4",
            })
    }
}

/// What is to be resolved as typed: a distance in Hz (`5Hz`), or two tones (`A3..A#3`).
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Separation {
    /// A resolution in Hz.
    Hertz(f64),
    /// Two tones of any levels within some 20 dB.
    Tones(Frequency, Frequency),
}

impl Separation {
    /// The resolution in Hz that it takes, with A4 at `reference_hz`: for two tones their distance
    /// over 1.5, at which they show as two whatever their phases.
    #[must_use]
    pub fn resolution_hz(self, reference_hz: f64) -> f64 {
        match self {
            Self::Hertz(hz) => hz,
            Self::Tones(a, b) => (a.hz(reference_hz) - b.hz(reference_hz)).abs() / 1.5,
        }
    }
}

impl FromStr for Separation {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let tones = text.split_once("..").map(|(a, b)| (a.trim().parse(), b.trim().parse()));
        match (tones, text.parse()) {
            (Some((Ok(a), Ok(b))), _) if a != b => Ok(Self::Tones(a, b)),
            (None, Ok(Frequency::Hertz(hz))) => Ok(Self::Hertz(hz)),
            _ => Err(Error::Unreadable {
                given: text.into(),
                wanted: "a resolution",
                forms: "5Hz, or two tones to be resolved, A3..A#3",
            }),
        }
    }
}

/// A part of an octave as typed: `1/3`, `1/12`, `1`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Octaves(pub f64);

impl FromStr for Octaves {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let number = |text: &str| number_with_unit(text, &[]).filter(|number| *number > 0.0);
        let octaves = match text.split_once('/') {
            Some((above, below)) => {
                number(above).zip(number(below)).map(|(above, below)| above / below)
            }
            None => number(text),
        };
        octaves.map(Self).ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "a part of an octave",
            forms: "1/3, 1/12 or 1",
        })
    }
}

/// An interval as typed, in cents: `60`, `60cents`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Cents(pub f64);

impl FromStr for Cents {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        number_with_unit(text, &[("cents", 1.0), ("cent", 1.0), ("ct", 1.0), ("c", 1.0)])
            .map(Self)
            .ok_or_else(|| Error::Unreadable {
                given: text.into(),
                wanted: "an interval",
                forms: "60 or 60cents",
            })
    }
}

/// A range of frequencies as typed: `50Hz..8kHz`, `G3..`, `..2kHz`.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct FrequencyRange {
    /// Lower end; `None` means from zero.
    pub low: Option<Frequency>,
    /// Upper end; `None` means to the Nyquist frequency.
    pub high: Option<Frequency>,
}

impl FrequencyRange {
    /// Both ends in Hz, with A4 at `reference_hz`; the upper end is cut to the Nyquist frequency.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] if the range is empty or begins above the Nyquist frequency.
    pub fn hz(self, reference_hz: f64, sample_rate_hz: f64) -> Result<(f64, f64), Error> {
        let nyquist_hz = sample_rate_hz / 2.0;
        let low = self.low.map_or(0.0, |f| f.hz(reference_hz));
        let high = self.high.map_or(nyquist_hz, |f| f.hz(reference_hz));
        if low < high.min(nyquist_hz) {
            Ok((low, high.min(nyquist_hz)))
        } else {
            Err(Error::Setting {
                setting: "the frequency range",
                given: format!("{low} Hz to {high} Hz"),
                allowed: format!("rising and begin below half the sample rate, {nyquist_hz} Hz"),
            })
        }
    }

    /// What must be said of a range whose upper end was cut.
    #[must_use]
    pub fn cut(self, reference_hz: f64, sample_rate_hz: f64) -> Option<Finding> {
        let high = self.high.map(|f| f.hz(reference_hz)).filter(|hz| *hz > sample_rate_hz / 2.0)?;
        Some(Finding::warning(
            "range_cut",
            format!(
                "The range was to end at {high} Hz, but the recording holds nothing above half \
                 its sample rate; it was cut to {} Hz.",
                sample_rate_hz / 2.0
            ),
        ))
    }
}

impl FromStr for FrequencyRange {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let (low, high) = text.split_once("..").ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "a range of frequencies",
            forms: "50Hz..8kHz, G3..C6, ..2kHz or 100..",
        })?;
        let end = |end: &str| match end.trim() {
            "" => Ok(None),
            end => end.parse().map(Some),
        };
        Ok(Self { low: end(low)?, high: end(high)? })
    }
}

/// A time as typed, in seconds: `1.5`, `1.5s`, `250ms`, `1:02.5`, `1:00:00`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Seconds(pub f64);

impl FromStr for Seconds {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let seconds = if text.contains(':') { clock(text) } else { duration(text) };
        seconds.filter(|s| *s >= 0.0).map(Self).ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "a time",
            forms: "1.5, 1.5s, 250ms or 1:02.5",
        })
    }
}

/// Where to cut through time and frequency as typed: at a time (`1.25s`), or at a frequency (`A4`,
/// `440Hz`). A number without a unit could be either, and is refused.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Cut {
    /// At a time.
    Time(Seconds),
    /// At a frequency.
    Frequency(Frequency),
}

impl FromStr for Cut {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let read = || {
            if text.trim().parse::<f64>().is_ok() {
                return None;
            }
            let time = text.parse().map(Self::Time);
            time.or_else(|_| text.parse().map(Self::Frequency)).ok()
        };
        read().ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "a time or a frequency with its unit",
            forms: "1.25s, 250ms, 1:02.5, A4, 440Hz or 2.5kHz",
        })
    }
}

/// A length of a stretch of sound as typed: samples (`8192`) or time (`200ms`).
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Extent {
    /// In samples.
    Samples(usize),
    /// In seconds.
    Seconds(f64),
}

impl Extent {
    /// In samples, rounded.
    #[must_use]
    pub fn samples(self, sample_rate_hz: f64) -> usize {
        match self {
            Self::Samples(samples) => samples,
            Self::Seconds(seconds) => (seconds * sample_rate_hz).round() as usize,
        }
    }
}

impl FromStr for Extent {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        if let Ok(samples) = text.trim().parse() {
            return Ok(Self::Samples(samples));
        }
        let has_unit = text.trim_end().ends_with('s');
        duration(text).filter(|s| has_unit && *s > 0.0).map(Self::Seconds).ok_or_else(|| {
            Error::Unreadable {
                given: text.into(),
                wanted: "a length",
                forms: "8192 (samples), 200ms or 0.5s",
            }
        })
    }
}

/// A share as typed: `75%` or `0.75`, read as a fraction.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Share(pub f64);

impl FromStr for Share {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        number_with_unit(text, &[("%", 0.01)])
            .filter(|share| (0.0..1.0).contains(share))
            .map(Self)
            .ok_or_else(|| Error::Unreadable {
                given: text.into(),
                wanted: "a share below 100 %",
                forms: "75% or 0.75",
            })
    }
}

/// A level as typed: `94dB` or `94`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Decibels(pub f64);

impl FromStr for Decibels {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        number_with_unit(text, &[("db", 1.0)]).map(Self).ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "a level",
            forms: "94dB or 94",
        })
    }
}

/// A distance as typed, in metres: `3m`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Metres(pub f64);

impl FromStr for Metres {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        number_with_unit(text, &[("m", 1.0)])
            .filter(|_| text.trim_end().ends_with('m'))
            .map(Self)
            .ok_or_else(|| Error::Unreadable {
                given: text.into(),
                wanted: "a distance",
                forms: "3m or 1.5m",
            })
    }
}

/// An area as typed, in m²: `11m2`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SquareMetres(pub f64);

impl FromStr for SquareMetres {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        number_with_unit(text, &[("m2", 1.0), ("m²", 1.0)]).map(Self).ok_or_else(|| {
            Error::Unreadable { given: text.into(), wanted: "an area", forms: "11m2" }
        })
    }
}

/// A volume as typed, in m³: `32m3`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CubicMetres(pub f64);

impl FromStr for CubicMetres {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        number_with_unit(text, &[("m3", 1.0), ("m³", 1.0)]).map(Self).ok_or_else(|| {
            Error::Unreadable { given: text.into(), wanted: "a volume", forms: "32m3" }
        })
    }
}

/// A temperature as typed, in °C: `20C`, `-5C`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Celsius(pub f64);

impl FromStr for Celsius {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        number_with_unit(&text.replace('−', "-"), &[("°c", 1.0), ("c", 1.0)]).map(Self).ok_or_else(
            || Error::Unreadable {
                given: text.into(),
                wanted: "a temperature",
                forms: "20C or -5C",
            },
        )
    }
}

/// A voltage as typed, with its unit: `4V`, `350mV`. Above 0.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Volts(pub f64);

impl FromStr for Volts {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        number_with_unit(text, &[("mv", 1e-3), ("v", 1.0)])
            .filter(|volts| *volts > 0.0 && text.trim_end().ends_with(['v', 'V']))
            .map(Self)
            .ok_or_else(|| Error::Unreadable {
                given: text.into(),
                wanted: "a voltage",
                forms: "4V or 350mV",
            })
    }
}

/// The sensitivity of a microphone as typed, in mV/Pa: `12.5mV/Pa`, `0.05V/Pa`. Above 0.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sensitivity(pub f64);

impl FromStr for Sensitivity {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        number_with_unit(text, &[("mv/pa", 1.0), ("v/pa", 1000.0)])
            .filter(|number| *number > 0.0 && text.contains('/'))
            .map(Self)
            .ok_or_else(|| Error::Unreadable {
                given: text.into(),
                wanted: "a sensitivity",
                forms: "12.5mV/Pa or 0.05V/Pa",
            })
    }
}

/// Seconds from a number with an optional unit.
fn duration(text: &str) -> Option<f64> {
    number_with_unit(text, &[("ms", 1e-3), ("us", 1e-6), ("min", 60.0), ("s", 1.0)])
}

/// Seconds from `minutes:seconds` or `hours:minutes:seconds`.
fn clock(text: &str) -> Option<f64> {
    text.split(':').try_fold(0.0, |seconds, part| {
        let part: f64 = part.trim().parse().ok()?;
        (part >= 0.0).then_some(60.0 * seconds + part)
    })
}

/// A finite number, times the factor of the first unit that it ends with.
fn number_with_unit(text: &str, units: &[(&str, f64)]) -> Option<f64> {
    let text = text.trim().to_ascii_lowercase();
    let (number, factor) = units
        .iter()
        .find_map(|(unit, factor)| text.strip_suffix(unit).map(|number| (number, *factor)))
        .unwrap_or((&text, 1.0));
    let number: f64 = number.trim().parse().ok()?;
    number.is_finite().then_some(number * factor)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rooms_are_read_with_their_units() {
        assert_eq!("1.5 m".parse(), Ok(Metres(1.5)));
        assert_eq!("11m²".parse(), Ok(SquareMetres(11.0)));
        assert_eq!("32m3".parse(), Ok(CubicMetres(32.0)));
        assert_eq!("−5 °C".parse(), Ok(Celsius(-5.0)));
        for wrong in ["3", "3km", "m"] {
            assert!(wrong.parse::<Metres>().is_err(), "{wrong}");
        }
        assert!("20F".parse::<Celsius>().is_err());
    }

    #[test]
    fn what_calibrates_is_read_with_its_unit() {
        assert_eq!("94 dB".parse(), Ok(Decibels(94.0)));
        assert_eq!("500mV".parse(), Ok(Volts(0.5)));
        assert_eq!("0.05 V/Pa".parse(), Ok(Sensitivity(50.0)));
        assert_eq!("12.5mV/Pa".parse(), Ok(Sensitivity(12.5)));
        assert!("4".parse::<Volts>().is_err() && "-4V".parse::<Volts>().is_err());
        assert!("12.5".parse::<Sensitivity>().is_err() && "loud".parse::<Decibels>().is_err());
    }

    #[test]
    fn frequencies_are_read_in_every_form() {
        let hz = |text: &str| text.parse::<Frequency>().map(|f| f.hz(440.0));
        assert_eq!(hz("440"), Ok(440.0));
        assert_eq!(hz("440 Hz"), Ok(440.0));
        assert_eq!(hz("2.5kHz"), Ok(2500.0));
        assert_eq!(hz("A4"), Ok(440.0));
        assert!((hz("Bb3").unwrap_or(0.0) - 233.081_880_759).abs() < 1e-8);
        for wrong in ["", "Hz", "H4", "-3Hz", "nan", "inf", "5 apples", "A44"] {
            let error = hz(wrong).expect_err(wrong).to_string();
            assert!(error.contains("440, 440Hz, 2.5kHz or A4"), "{error}");
        }
    }

    #[test]
    fn notes_and_frequencies_agree() {
        for midi in 0..=127 {
            let note = Note(midi);
            assert_eq!(note.to_string().parse(), Ok(note));
            let (nearest, cents) =
                Note::nearest(note.frequency_hz(442.0) * 1.001, 442.0).expect("positive");
            assert_eq!(nearest, note);
            assert!((cents - cents_between(1.0, 1.001)).abs() < 1e-9);
        }
        assert_eq!("C4".parse(), Ok(Note(60)));
        assert_eq!(Note::nearest(0.0, 440.0), None);
    }

    #[test]
    fn times_and_lengths_are_read_in_every_form() {
        let s = |text: &str| text.parse::<Seconds>().map(|s| s.0);
        assert_eq!(s("1.5"), Ok(1.5));
        assert_eq!(s("250ms"), Ok(0.25));
        assert_eq!(s("1:02.5"), Ok(62.5));
        assert_eq!(s("1:00:00"), Ok(3600.0));
        for wrong in ["", "1:xx", "-1", "1h", "1:-2"] {
            assert!(s(wrong).is_err(), "{wrong}");
        }
        assert_eq!("8192".parse(), Ok(Extent::Samples(8192)));
        assert_eq!("200ms".parse(), Ok(Extent::Seconds(0.2)));
        assert!("0.5".parse::<Extent>().is_err(), "a bare fraction could be either");
    }

    #[test]
    fn ranges_are_cut_to_what_the_rate_holds() {
        let range: FrequencyRange = "50Hz..80kHz".parse().expect("a range");
        assert_eq!(range.hz(440.0, 48_000.0), Ok((50.0, 24_000.0)));
        let range: FrequencyRange = "..A4".parse().expect("a range");
        assert_eq!(range.hz(440.0, 48_000.0), Ok((0.0, 440.0)));
        let range: FrequencyRange = "30kHz..40kHz".parse().expect("a range");
        assert!(range.hz(440.0, 48_000.0).is_err());
        assert!("50".parse::<FrequencyRange>().is_err());
        assert_eq!("75%".parse(), Ok(Share(0.75)));
        assert!("100%".parse::<Share>().is_err());
    }
}
