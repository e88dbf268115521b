//! Test signals from a recipe of a few words: tones, series, strings, sweeps, noises, bursts.
//!
//! A voice is written as its kind and its settings, `tone frequency=440Hz level=-6dB`. Each kind
//! has settings of its own, and all have those of when and how the voice sounds:
//!
//! | kind | settings, with what they are unless set |
//! |---|---|
//! | `tone` | `frequency=440Hz level=-20dB phase=0deg` |
//! | `harmonics` | `frequency=220Hz level=-20dB partials=10 slope=-6dB numbers=all` (`odd`, or a list `2,3,5`) |
//! | `string` | `frequency=196Hz level=-12dB inharmonicity=1e-4 decay=6s pluck=0.37 partials=40` |
//! | `sweep` | `from=20Hz to=20kHz law=exponential level=-6dB` (`linear`) |
//! | `noise` | `colour=white level=-40dB` (`pink`) |
//! | `take` | `file=a.wav gain=0dB channel=1` |
//! | every kind | `start=0s length=all fade=0s on=all every=all` |
//! | `tone`, `harmonics` | `decay=none vibrato-rate=0Hz vibrato-depth=0cents tremolo-rate=0Hz tremolo-depth=0 glide=none` |
//!
//! Levels of tones are those of the peak amplitude re full scale, of series and strings that of
//! partial 1 (whether or not it sounds), of noise that of its RMS re a full-scale sine. Everything
//! is computed in `f64` from closed forms where there are any, block by block, and depends on
//! nothing but the recipe.

use std::f64::consts::{SQRT_2, TAU};

use super::PluckedString;
use super::partials::Partial;
use super::sweep::Sweep;
use crate::error::Error;
use crate::units::{Cents, Decibels, Frequency, Seconds, amplitude_from_db};

/// One voice of a recipe.
#[derive(Debug, Clone, PartialEq)]
pub struct Voice {
    pub(super) source: Source,
    pub(super) timing: Timing,
    pub(super) motion: Motion,
}

/// What sounds.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Source {
    Partials(Vec<Partial>),
    Sweep(Sweep),
    Noise { pink: bool, rms: f64 },
    Take(RecordedVoice),
}

/// A take that sounds as a voice.
#[derive(Debug, Clone, PartialEq)]
pub struct RecordedVoice {
    /// Its file, or its name in a study.
    pub file: String,
    /// Which of its channels, as typed.
    pub channel: Option<String>,
    /// Factor of its samples.
    pub gain: f64,
}

/// When a voice sounds, in seconds.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) struct Timing {
    pub(super) start_s: f64,
    pub(super) length_s: Option<f64>,
    pub(super) fade_s: f64,
    /// Length and spacing of bursts.
    pub(super) bursts: Option<(f64, f64)>,
}

/// How frequency and amplitude move.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) struct Motion {
    pub(super) vibrato_hz: f64,
    pub(super) vibrato_cents: f64,
    pub(super) tremolo_hz: f64,
    pub(super) tremolo_depth: f64,
    /// Ratio of the last frequency to the first.
    pub(super) glide: Option<f64>,
}

/// The settings of a voice as they were written, taken out one by one.
struct Words {
    kind: &'static str,
    left: Vec<(String, String)>,
    known: Vec<&'static str>,
}

impl Words {
    fn take(&mut self, key: &'static str) -> Option<String> {
        self.known.push(key);
        let place = self.left.iter().position(|(name, _)| name == key)?;
        Some(self.left.remove(place).1)
    }

    fn read<T: std::str::FromStr<Err = Error>>(
        &mut self,
        key: &'static str,
    ) -> Result<Option<T>, Error> {
        self.take(key).map(|text| text.parse()).transpose()
    }

    fn hz(&mut self, key: &'static str, reference_hz: f64, usual: f64) -> Result<f64, Error> {
        Ok(self.read::<Frequency>(key)?.map_or(usual, |f| f.hz(reference_hz)))
    }

    fn amplitude(&mut self, usual_db: f64) -> Result<f64, Error> {
        let level = self.read::<Decibels>("level")?.map_or(usual_db, |level| level.0);
        Ok(amplitude_from_db(level))
    }

    fn seconds(&mut self, key: &'static str) -> Result<Option<f64>, Error> {
        Ok(self.read::<Seconds>(key)?.map(|time| time.0))
    }

    fn number(&mut self, key: &'static str, usual: f64) -> Result<f64, Error> {
        let Some(text) = self.take(key) else { return Ok(usual) };
        text.parse().ok().filter(|number: &f64| number.is_finite()).ok_or(Error::Unreadable {
            given: text,
            wanted: "a number",
            forms: "0.37 or 1e-4",
        })
    }

    /// Refuses what is left over.
    fn end(self) -> Result<(), Error> {
        match self.left.first() {
            None => Ok(()),
            Some((key, _)) => Err(Error::Setting {
                setting: "a setting of the voice",
                given: format!("'{key}'"),
                allowed: format!("one of those of a {}: {}", self.kind, self.known.join(", ")),
            }),
        }
    }
}

const KINDS: [&str; 6] = ["tone", "harmonics", "string", "sweep", "noise", "take"];

impl Voice {
    /// Reads a voice from one line: its kind, then `name=value` for each setting.
    ///
    /// # Errors
    ///
    /// [`Error::Unreadable`] and [`Error::Setting`] for what is not understood.
    pub fn from_line(line: &str, reference_hz: f64) -> Result<Self, Error> {
        let mut parts = line.split_whitespace();
        let kind = parts.next().unwrap_or_default();
        let words = parts
            .map(|part| match part.split_once('=') {
                Some((key, value)) => Ok((key.to_string(), value.to_string())),
                None => Err(Error::Unreadable {
                    given: part.into(),
                    wanted: "a setting of a voice",
                    forms: "frequency=440Hz, in 'tone frequency=440Hz level=-6dB'",
                }),
            })
            .collect::<Result<_, _>>()?;
        Self::from_words(kind, words, reference_hz)
    }

    /// Reads a voice from its kind and settings by name. Notes are those of A4 at `reference_hz`.
    ///
    /// # Errors
    ///
    /// As [`from_line`](Self::from_line).
    pub fn from_words(
        kind: &str,
        words: Vec<(String, String)>,
        reference_hz: f64,
    ) -> Result<Self, Error> {
        let Some(kind) = KINDS.into_iter().find(|known| *known == kind) else {
            return Err(Error::Setting {
                setting: "the kind of a voice",
                given: format!("'{kind}'"),
                allowed: KINDS.join(", "),
            });
        };
        let mut words = Words { kind, left: words, known: Vec::new() };
        let source = match kind {
            "tone" => tone(&mut words, reference_hz)?,
            "harmonics" => series(&mut words, reference_hz)?,
            "string" => string(&mut words, reference_hz)?,
            "sweep" => sweep(&mut words, reference_hz)?,
            "take" => take(&mut words)?,
            _ => noise(&mut words)?,
        };
        let motion = match kind {
            "tone" | "harmonics" => motion(&mut words, &source, reference_hz)?,
            _ => Motion::default(),
        };
        let timing = timing(&mut words)?;
        words.end()?;
        Ok(Self { source, timing, motion })
    }

    /// The take that it is, if it is one.
    #[must_use]
    pub fn recorded(&self) -> Option<&RecordedVoice> {
        match &self.source {
            Source::Take(recorded) => Some(recorded),
            _ => None,
        }
    }

    /// When it begins, in seconds.
    #[must_use]
    pub fn start_s(&self) -> f64 {
        self.timing.start_s
    }

    /// The partials at the beginning of the voice, if it is made of them: the truth about it.
    #[must_use]
    pub fn partials(&self) -> &[Partial] {
        match &self.source {
            Source::Partials(partials) => partials,
            _ => &[],
        }
    }
}

fn decay(words: &mut Words) -> Result<f64, Error> {
    Ok(words.seconds("decay")?.filter(|t60| *t60 > 0.0).unwrap_or(f64::INFINITY))
}

fn tone(words: &mut Words, reference_hz: f64) -> Result<Source, Error> {
    let frequency_hz = words.hz("frequency", reference_hz, 440.0)?;
    let amplitude = words.amplitude(-20.0)?;
    let phase_rad = match words.take("phase") {
        None => 0.0,
        Some(text) => {
            let number = |text: &str| text.trim().parse().ok();
            let phase: Option<f64> = match (text.strip_suffix("deg"), text.strip_suffix("rad")) {
                (Some(degrees), _) => number(degrees).map(f64::to_radians),
                (_, Some(radians)) => number(radians),
                _ => None,
            };
            phase.filter(|phase| phase.is_finite()).ok_or(Error::Unreadable {
                given: text,
                wanted: "a phase",
                forms: "90deg or 1.57rad",
            })?
        }
    };
    let t60_s = decay(words)?;
    Ok(Source::Partials(vec![Partial { frequency_hz, amplitude, phase_rad, t60_s }]))
}

fn series(words: &mut Words, reference_hz: f64) -> Result<Source, Error> {
    let frequency_hz = words.hz("frequency", reference_hz, 220.0)?;
    let amplitude = words.amplitude(-20.0)?;
    let count = count(words, 10)?;
    let slope_db = words.read::<Decibels>("slope")?.map_or(-6.0, |slope| slope.0);
    let numbers: Vec<u32> = match words.take("numbers").as_deref() {
        None | Some("all") => (1..=count).collect(),
        Some("odd") => (1..).step_by(2).take(count as usize).collect(),
        Some(list) => list
            .split(',')
            .map(|number| match number.parse() {
                Ok(number) if number > 0 => Ok(number),
                _ => Err(Error::Unreadable {
                    given: list.into(),
                    wanted: "a choice of harmonics",
                    forms: "all, odd, or 2,3,5",
                }),
            })
            .collect::<Result<_, _>>()?,
    };
    let t60_s = decay(words)?;
    let partial = |number: u32| {
        let n = f64::from(number);
        Partial {
            frequency_hz: n * frequency_hz,
            amplitude: amplitude * amplitude_from_db(slope_db * n.log2()),
            phase_rad: -TAU / 4.0,
            t60_s,
        }
    };
    Ok(Source::Partials(numbers.into_iter().map(partial).collect()))
}

fn string(words: &mut Words, reference_hz: f64) -> Result<Source, Error> {
    let usual = PluckedString::default();
    let string = PluckedString {
        frequency_hz: words.hz("frequency", reference_hz, usual.frequency_hz)?,
        inharmonicity: words.number("inharmonicity", usual.inharmonicity)?.clamp(0.0, 0.1),
        pluck_position: words.number("pluck", usual.pluck_position)?.clamp(0.01, 0.99),
        t60_s: words.seconds("decay")?.unwrap_or(usual.t60_s).max(1e-3),
        damping: usual.damping,
        amplitude: words.amplitude(-12.0)?,
        partials: count(words, usual.partials)?,
    };
    Ok(Source::Partials(string.truth()))
}

fn count(words: &mut Words, usual: u32) -> Result<u32, Error> {
    let count = words.number("partials", f64::from(usual))?;
    if (1.0..=1000.0).contains(&count) && count.fract() == 0.0 {
        return Ok(count as u32);
    }
    Err(Error::Setting {
        setting: "the number of partials",
        given: count.to_string(),
        allowed: "1 to 1000".into(),
    })
}

fn sweep(words: &mut Words, reference_hz: f64) -> Result<Source, Error> {
    let from_hz = words.hz("from", reference_hz, 20.0)?;
    let to_hz = words.hz("to", reference_hz, 20_000.0)?;
    let exponential = match words.take("law").as_deref() {
        None | Some("exponential") => true,
        Some("linear") => false,
        Some(other) => {
            return Err(Error::Unreadable {
                given: other.into(),
                wanted: "the law of a sweep",
                forms: "exponential or linear",
            });
        }
    };
    if from_hz == to_hz || (exponential && from_hz.min(to_hz) <= 0.0) {
        return Err(Error::Setting {
            setting: "the sweep",
            given: format!("{from_hz} Hz to {to_hz} Hz"),
            allowed: "between two frequencies, above 0 Hz if it is exponential".into(),
        });
    }
    Ok(Source::Sweep(Sweep { from_hz, to_hz, exponential, amplitude: words.amplitude(-6.0)? }))
}

fn noise(words: &mut Words) -> Result<Source, Error> {
    let pink = match words.take("colour").as_deref() {
        None | Some("white") => false,
        Some("pink") => true,
        Some(other) => {
            return Err(Error::Unreadable {
                given: other.into(),
                wanted: "a colour of noise",
                forms: "white or pink",
            });
        }
    };
    Ok(Source::Noise { pink, rms: words.amplitude(-40.0)? / SQRT_2 })
}

fn take(words: &mut Words) -> Result<Source, Error> {
    let Some(file) = words.take("file") else {
        return Err(Error::Unreadable {
            given: "take".into(),
            wanted: "a voice",
            forms: "'take file=a.wav gain=-3dB'",
        });
    };
    let gain = amplitude_from_db(words.read::<Decibels>("gain")?.map_or(0.0, |gain| gain.0));
    Ok(Source::Take(RecordedVoice { file, channel: words.take("channel"), gain }))
}

fn motion(words: &mut Words, source: &Source, reference_hz: f64) -> Result<Motion, Error> {
    let vibrato_hz = words.hz("vibrato-rate", reference_hz, 0.0)?;
    let vibrato_cents = words.read::<Cents>("vibrato-depth")?.map_or(0.0, |depth| depth.0);
    let tremolo_hz = words.hz("tremolo-rate", reference_hz, 0.0)?;
    let tremolo_depth = words.number("tremolo-depth", 0.0)?;
    let glide = match (words.read::<Frequency>("glide")?, source) {
        (Some(to), Source::Partials(partials)) => {
            partials.first().map(|first| to.hz(reference_hz) / first.frequency_hz)
        }
        _ => None,
    };
    let wrong = |setting: &'static str, given: String, allowed: &str| {
        Err(Error::Setting { setting, given, allowed: allowed.into() })
    };
    if !(0.0..=1.0).contains(&tremolo_depth) {
        return wrong("the depth of the tremolo", tremolo_depth.to_string(), "from 0 to 1");
    }
    if !(0.0..=2400.0).contains(&vibrato_cents) {
        let given = format!("{vibrato_cents} cents");
        return wrong("the depth of the vibrato", given, "from 0 to 2400 cents");
    }
    if glide.is_some_and(|ratio| !(1e-3..=1e3).contains(&ratio)) {
        return wrong("the end of the glide", "out of reach".into(), "within ten octaves");
    }
    Ok(Motion { vibrato_hz, vibrato_cents, tremolo_hz, tremolo_depth, glide })
}

fn timing(words: &mut Words) -> Result<Timing, Error> {
    let start_s = words.seconds("start")?.unwrap_or(0.0);
    let length_s = words.seconds("length")?;
    let fade_s = words.seconds("fade")?.unwrap_or(0.0);
    let bursts = match (words.seconds("on")?, words.seconds("every")?) {
        (None, None) => None,
        (Some(on), Some(every)) if on > 0.0 && on <= every => Some((on, every)),
        (on, every) => {
            let shown = |time: Option<f64>| time.map_or("nothing".into(), |s| format!("{s} s"));
            return Err(Error::Setting {
                setting: "the burst",
                given: format!("on for {} every {}", shown(on), shown(every)),
                allowed: "on for some time, and every so much or more: on=20ms every=200ms".into(),
            });
        }
    };
    Ok(Timing { start_s, length_s, fade_s, bursts })
}

/// A recipe: voices that sound together.
#[derive(Debug, Clone, PartialEq)]
pub struct Recipe {
    /// The voices.
    pub voices: Vec<Voice>,
    /// Samples per second.
    pub sample_rate_hz: f64,
    /// Length in seconds.
    pub duration_s: f64,
    /// Where the noises begin; each voice has its own.
    pub seed: u64,
}

impl Recipe {
    /// Length in samples.
    #[must_use]
    pub fn samples(&self) -> u64 {
        (self.duration_s * self.sample_rate_hz).round() as u64
    }

    /// First sample of a voice and the first after it.
    pub(super) fn reach(&self, timing: Timing) -> (u64, u64) {
        let start = (timing.start_s * self.sample_rate_hz).round() as u64;
        let length_s = timing.length_s.unwrap_or(f64::INFINITY).min(self.duration_s);
        let length = (length_s * self.sample_rate_hz).round() as u64;
        (start, self.samples().min(start + length))
    }

    /// The inverse filter of the one sweep in it ([`Sweep::inverse`]); `None` if there is none, or
    /// more than one.
    #[must_use]
    pub fn inverse(&self) -> Option<Vec<f64>> {
        let mut sweeps = self.voices.iter().filter_map(|voice| match voice.source {
            Source::Sweep(sweep) => Some((sweep, self.reach(voice.timing))),
            _ => None,
        });
        let (sweep, (start, end)) = sweeps.next()?;
        let samples = usize::try_from(end.checked_sub(start)?).ok()?;
        sweeps.next().is_none().then(|| sweep.inverse(samples, self.sample_rate_hz))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::samples::Samples;
    use crate::spectrum::{CurveSettings, Scaling, SpectrumSettings, measure};
    use crate::synth::to_samples;

    fn played(lines: &[&str], duration_s: f64) -> Vec<f64> {
        let voices = lines.iter().map(|line| Voice::from_line(line, 440.0).expect(line)).collect();
        let recipe = Recipe { voices, sample_rate_hz: 48_000.0, duration_s, seed: 3 };
        let mut player = recipe.player().expect("plays");
        let mut sound = Vec::new();
        // Blocks of odd length.
        let mut block = vec![0.0; 1237];
        loop {
            let count = player.play(&mut block).expect("played");
            sound.extend_from_slice(&block[..count]);
            if count == 0 {
                return sound;
            }
        }
    }

    #[test]
    fn tones_have_their_frequency_level_and_phase() {
        let sound = played(
            &["tone frequency=A4 level=-6.0206dB phase=90deg", "tone frequency=1kHz level=-40dB"],
            1.0,
        );
        assert_eq!(sound.len(), 48_000);
        let peaks = measure(&to_samples(&sound), 48_000.0, &SpectrumSettings::default())
            .expect("measured")
            .peaks;
        assert!((peaks[0].frequency_hz - 440.0).abs() < 1e-6);
        assert!((peaks[0].level_db + 6.0206).abs() < 1e-5);
        assert!((peaks[0].phase_rad.expect("steady") - TAU / 4.0).abs() < 1e-6);
        assert!((peaks[1].level_db + 40.0).abs() < 1e-4);
    }

    #[test]
    fn pink_noise_falls_by_3_db_an_octave_and_has_its_level() {
        let sound = played(&["noise colour=pink level=-20dB"], 60.0);
        let power = sound.iter().map(|x| x * x).sum::<f64>() / sound.len() as f64;
        assert!((10.0 * (2.0 * power).log10() + 20.0).abs() < 0.2, "{power}");
        let spectrum = measure(&to_samples(&sound), 48_000.0, &SpectrumSettings::default());
        let spectrum = spectrum.expect("measured");
        let curve =
            spectrum.curve(&CurveSettings { scaling: Scaling::Density, ..Default::default() });
        let octave = |low: f64| {
            let inside = curve.frequency_hz.iter().zip(&curve.value);
            let values: Vec<f64> = inside
                .filter(|(hz, _)| (low..2.0 * low).contains(*hz))
                .map(|(hz, value)| value * hz)
                .collect();
            10.0 * (values.iter().sum::<f64>() / values.len() as f64).log10()
        };
        for low in [40.0, 80.0, 320.0, 1280.0, 10_000.0] {
            assert!((octave(low) - octave(2560.0)).abs() < 0.35, "{low} {}", octave(low));
        }
    }

    #[test]
    fn glides_vibrato_and_tremolo_follow_their_laws() {
        let cents_at = |sound: &[f64], t: f64| {
            let middle = (t * 48_000.0) as usize;
            let part = to_samples(&sound[middle - 1200..middle + 1200]);
            let spectrum = measure(&part, 48_000.0, &SpectrumSettings::default()).expect("ok");
            1200.0 * (spectrum.peaks[0].frequency_hz / 2000.0).log2()
        };
        let glide = played(&["tone frequency=2kHz glide=4kHz"], 10.0);
        assert!((cents_at(&glide, 5.0) - 600.0).abs() < 1.0, "{}", cents_at(&glide, 5.0));
        let vibrato = played(&["tone frequency=2kHz vibrato-rate=0.5Hz vibrato-depth=30"], 2.0);
        assert!((cents_at(&vibrato, 0.5) - 30.0).abs() < 0.5, "{}", cents_at(&vibrato, 0.5));
        assert!((cents_at(&vibrato, 1.5) + 30.0).abs() < 0.5);
        let tremolo = played(&["tone level=0dB tremolo-rate=1Hz tremolo-depth=0.5"], 1.0);
        let greatest = |from: usize| {
            tremolo[from..from + 500].iter().fold(0.0f64, |most, x| most.max(x.abs()))
        };
        assert!((greatest(11_750) - 1.5).abs() < 0.01 && (greatest(35_750) - 0.5).abs() < 0.01);
    }

    #[test]
    fn a_sweep_and_its_inverse_make_an_impulse() {
        for law in ["exponential", "linear"] {
            let line = format!("sweep from=50Hz to=20kHz law={law} level=-6dB");
            let sound = played(&[&line], 1.0);
            let voices = vec![Voice::from_line(&line, 440.0).expect("read")];
            let recipe = Recipe { voices, sample_rate_hz: 48_000.0, duration_s: 1.0, seed: 0 };
            let inverse = recipe.inverse().expect("one sweep");
            let convolved = |lag: isize| -> f64 {
                sound
                    .iter()
                    .enumerate()
                    .filter_map(|(n, x)| {
                        let other = (47_999 + lag).checked_sub(n as isize)?;
                        Some(x * inverse.get(usize::try_from(other).ok()?)?)
                    })
                    .sum()
            };
            assert!((convolved(0) - 1.0).abs() < 1e-9);
            // Beside it little is left, and far from it next to nothing.
            assert!(convolved(40).abs() < 0.05, "{law} {}", convolved(40));
            assert!(convolved(10_000).abs() < 1e-3, "{law} {}", convolved(10_000));
        }
    }

    #[test]
    fn bursts_and_spans_are_where_they_should_be() {
        let sound =
            played(&["noise level=-20dB start=100ms length=500ms on=20ms every=100ms"], 1.0);
        let sounds = |t: f64| sound[(t * 48_000.0) as usize..][..100].iter().any(|x| *x != 0.0);
        for t in [0.101, 0.117, 0.201, 0.515] {
            assert!(sounds(t), "{t}");
        }
        for t in [0.05, 0.125, 0.19, 0.61, 0.9] {
            assert!(!sounds(t), "{t}");
        }
    }

    #[test]
    fn a_take_sounds_where_and_as_loud_as_it_should() {
        let take: Vec<f32> = (0..1000u16).map(|n| f32::from(n) / 1000.0).collect();
        let line = "take file=a.wav gain=-6.0206dB start=10ms length=5ms";
        let voices = vec![Voice::from_line(line, 440.0).expect("read")];
        let recipe = Recipe { voices, sample_rate_hz: 48_000.0, duration_s: 0.05, seed: 3 };
        let takes: [Option<&dyn Samples>; 1] = [Some(&take)];
        let mut player = recipe.player_with(&takes).expect("plays");
        let mut sound = vec![0.0; 2400];
        assert_eq!(player.play(&mut sound), Ok(2400));
        for (n, x) in sound.iter().enumerate() {
            let inside = (480..480 + 240).contains(&n);
            let expected = if inside { 0.5 * (n - 480) as f64 / 1000.0 } else { 0.0 };
            assert!((x - expected).abs() < 1e-6, "{n}");
        }
        assert!(recipe.player().is_err(), "there is no take");
    }

    #[test]
    fn what_is_not_understood_is_refused_with_what_is() {
        for (line, reason) in [
            ("", "tone, harmonics, string, sweep, noise, take"),
            ("take gain=3dB", "file=a.wav"),
            ("drum", "must be tone"),
            (
                "tone frequncy=440Hz",
                "'frequncy', but must be one of those of a tone: frequency, level",
            ),
            ("tone 440Hz", "frequency=440Hz"),
            ("tone phase=90", "90deg"),
            ("sweep from=0Hz", "above 0 Hz"),
            ("noise colour=brown", "white or pink"),
            ("tone on=20ms", "every"),
            ("harmonics numbers=0,1", "2,3,5"),
            ("tone tremolo-depth=2", "from 0 to 1"),
        ] {
            let error = Voice::from_line(line, 440.0).expect_err(line).to_string();
            assert!(error.contains(reason), "{line}: {error}");
        }
        let voices = vec![Voice::from_line("tone frequency=30kHz", 440.0).expect("read")];
        let recipe = Recipe { voices, sample_rate_hz: 48_000.0, duration_s: 1.0, seed: 0 };
        assert!(recipe.player().is_err());
        assert!(Recipe { duration_s: 0.0, voices: Vec::new(), ..recipe }.player().is_err());
    }
}
