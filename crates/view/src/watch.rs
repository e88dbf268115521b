//! What is seen now, and when it is measured anew.

use std::collections::VecDeque;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use tonemap_core::Finding;
use tonemap_core::bands::{TimeWeighting, Weighting};
use tonemap_core::frame::FrameSettings;
use tonemap_core::intake::{Period, period};
use tonemap_core::live::{
    ChannelNow, Heard, Listener, LiveFormat, LiveSettings, PitchNow, PowerNow, Prepared, Standing,
    levels_db,
};
use tonemap_core::partials::{Partials, PartialsSettings};
use tonemap_core::spectrogram::FrequencyAxis;
use tonemap_core::spectrum::{Peak, SpectrumSettings};
use tonemap_core::units::amplitude_from_db;
use tonemap_core::window::WindowKind;

use crate::keys::{Action, Key};
use crate::plot::Axis;
use crate::theme::Looks;

/// What is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pane {
    /// All of it, small.
    Overview,
    /// The waveform.
    Waveform,
    /// The spectrum with its tones.
    Spectrum,
    /// Level over time and frequency.
    Spectrogram,
    /// The pitch, to be read from a distance.
    Pitch,
    /// The partials.
    Partials,
}

impl Pane {
    /// All of them, in the order of their keys.
    pub const ALL: [Self; 6] = [
        Self::Overview,
        Self::Waveform,
        Self::Spectrum,
        Self::Spectrogram,
        Self::Pitch,
        Self::Partials,
    ];
}

/// What whoever runs the view is asked for.
#[derive(Debug, Clone, PartialEq)]
pub enum Request {
    /// To end.
    Quit,
    /// To save what was heard last.
    Save,
    /// To draw what is seen into a file.
    Picture,
    /// To begin a recording, or to end it.
    Record,
    /// To listen in another way.
    Listen(Box<LiveSettings>),
}

/// How the input goes on, as the title says.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Running {
    /// What it is called.
    pub source: String,
    /// How long the recording lasts that is made, in seconds.
    pub recording_s: Option<f64>,
    /// How far the view is behind the samples, in seconds.
    pub behind_s: f64,
    /// Samples that were lost.
    pub lost_samples: u64,
    /// How long no sample has come, in seconds.
    pub silent_s: f64,
    /// Whether it has ended.
    pub has_ended: bool,
    /// What was done last: a file was written.
    pub notice: Option<String>,
}

/// Two places on an axis, and which of them is moved.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Cursors {
    pub(crate) places: [f64; 2],
    pub(crate) moved: usize,
}

/// The level of a channel as its meter shows it.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Meter {
    pub(crate) now: ChannelNow,
    /// The highest peak of late, until when it is shown.
    pub(crate) peak_dbfs: Option<f64>,
    until_s: f64,
    /// Clipped samples before the last reset, and when the last were.
    forgotten: u64,
    pub(crate) clipped_s: Option<f64>,
}

impl Meter {
    /// Clipped samples since the last reset.
    pub(crate) fn clipped(&self) -> u64 {
        self.now.clipped_samples - self.forgotten
    }
}

/// The fundamental at a time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct PitchPoint {
    pub(crate) time_s: f64,
    pub(crate) f0_hz: Option<f64>,
}

/// A column of the spectrogram.
#[derive(Debug, Clone)]
pub(crate) struct Column {
    pub(crate) levels_db: Vec<f32>,
}

/// Pictures are drawn, and levels read, so often, in seconds.
const PICTURE_S: f64 = 0.04;
/// The fundamental is looked for, the tones are and the partials, so often.
const PITCH_EVERY_S: f64 = 0.1;
const FINDINGS_EVERY_S: f64 = 0.5;
const PARTIALS_EVERY_S: f64 = 1.0;
/// Tones are measured so often, and take no more of the time than one in so many parts.
const TONES_EVERY: Duration = Duration::from_millis(500);
const TONES_REST: u32 = 25;
/// A peak is shown so long.
const HELD_S: f64 = 2.0;
/// Waveforms that last longer are not made to stand still.
const STANDING_S: f64 = 0.3;
/// Most columns that the spectrogram keeps, and most that are measured for a picture.
pub(crate) const COLUMNS: usize = 200;
const MOST_NEW_COLUMNS: usize = 4;
/// Steps of the zoom in time.
const SHOWN_S: [f64; 12] = [0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0];
/// Largest values of the waveform that keys step through.
const REACHES: [f64; 13] =
    [0.0001, 0.0002, 0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0];
/// How long the spectrogram and the course of the pitch last.
pub(crate) const COURSE_S: f64 = 10.0;
/// Averaging times that a key steps through.
const AVERAGES_S: [f64; 5] = [0.0, 0.5, 1.0, 2.0, 5.0];
/// Resolutions that keys step through, in Hz.
const RESOLUTIONS_HZ: [f64; 7] = [1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0];
const WINDOWS: [WindowKind; 4] =
    [WindowKind::BlackmanHarris, WindowKind::Hann, WindowKind::FlatTop, WindowKind::Rectangular];

/// What is seen, and how.
pub struct Watch {
    pub(crate) looks: Looks,
    pub(crate) pane: Pane,
    pub(crate) shows_help: bool,
    pub(crate) format: LiveFormat,
    pub(crate) settings: LiveSettings,
    pub(crate) is_frozen: bool,
    // What was measured last.
    pub(crate) time_s: f64,
    pub(crate) meters: Vec<Meter>,
    pub(crate) wave: Vec<f32>,
    /// Place in it at which the picture begins.
    pub(crate) wave_from: f64,
    pub(crate) power: Option<PowerNow>,
    pub(crate) held: Vec<f64>,
    pub(crate) peaks: Vec<Peak>,
    pub(crate) pitch: Option<PitchNow>,
    pub(crate) course: VecDeque<PitchPoint>,
    pub(crate) partials: Option<Partials>,
    pub(crate) columns: VecDeque<Column>,
    pub(crate) column_hz: f64,
    /// Columns so far. Of two the first waits for the second: the whole picture moves with each.
    pub(crate) columns_seen: usize,
    pub(crate) findings: Vec<Finding>,
    // How it is seen.
    pub(crate) shown: usize,
    /// The largest value of the waveform that is shown; by itself, that of late.
    pub(crate) reach: Option<f64>,
    pub(crate) frequencies: Axis,
    pub(crate) levels_db: (f64, f64),
    pub(crate) holds: bool,
    pub(crate) time_cursors: Option<Cursors>,
    pub(crate) frequency_cursors: Option<Cursors>,
    standing: Standing,
    prepared: Prepared,
    due: Due,
    /// Tones that are being measured, and when they are to be measured again.
    measuring: Option<(Instant, Receiver<Vec<Peak>>)>,
    tones_due: Instant,
}

/// When, in seconds of the sound, what is to be measured again.
#[derive(Debug, Clone, Copy, Default)]
struct Due {
    power: f64,
    pitch: f64,
    findings: f64,
    partials: f64,
    column: f64,
}

impl Watch {
    /// Nothing seen yet.
    ///
    /// # Errors
    ///
    /// A sample rate that no spectrogram can be made of.
    pub fn new(listener: &Listener, looks: Looks, pane: Pane) -> Result<Self, tonemap_core::Error> {
        let format = listener.format();
        let frames = FrameSettings {
            window: WindowKind::Hann,
            resolution_hz: Some(40f64.min(format.sample_rate_hz / 16.0)),
            ..FrameSettings::default()
        };
        let of_columns = SpectrumSettings { frames, ..SpectrumSettings::default() };
        let half_hz = 0.5 * format.sample_rate_hz;
        Ok(Self {
            looks,
            pane,
            shows_help: false,
            format,
            settings: listener.settings().clone(),
            is_frozen: false,
            time_s: 0.0,
            meters: Vec::new(),
            wave: Vec::new(),
            wave_from: 0.0,
            power: None,
            held: Vec::new(),
            peaks: Vec::new(),
            pitch: None,
            course: VecDeque::new(),
            partials: None,
            columns: VecDeque::new(),
            column_hz: 1.0,
            columns_seen: 0,
            findings: Vec::new(),
            shown: 4,
            reach: None,
            frequencies: Axis {
                low: 20f64.min(0.1 * half_hz),
                high: 20_000f64.min(half_hz),
                scale: FrequencyAxis::Logarithmic,
            },
            levels_db: (-100.0, 0.0),
            holds: false,
            time_cursors: None,
            frequency_cursors: None,
            standing: Standing::new(),
            prepared: Prepared::new(&of_columns, 0.0, format.sample_rate_hz)?,
            due: Due::default(),
            measuring: None,
            tones_due: Instant::now(),
        })
    }

    /// Whether the picture stands while the sound goes on.
    #[must_use]
    pub fn is_frozen(&self) -> bool {
        self.is_frozen
    }

    /// Seconds of the waveform that are seen.
    pub(crate) fn shown_s(&self) -> f64 {
        SHOWN_S[self.shown]
    }

    /// The largest value of the waveform that is shown.
    pub(crate) fn reach(&self) -> f64 {
        let heard = match self.settings.heard {
            Heard::Channel(n) => self.meters.get(n..=n).unwrap_or_default(),
            Heard::Mean => &self.meters[..],
        };
        let peaks = heard.iter().filter_map(|meter| meter.peak_dbfs).map(amplitude_from_db);
        let peak = peaks.fold(0.0, f64::max);
        let fits = REACHES.iter().find(|reach| **reach >= peak);
        self.reach.unwrap_or(fits.copied().unwrap_or(1.0))
    }

    /// Level of full scale in dB, as levels are shown.
    pub(crate) fn full_scale_db(&self) -> f64 {
        self.settings.reference.full_scale_db()
    }

    /// Measures what is to be seen, as far as it is time to.
    pub fn update(&mut self, listener: &mut Listener) {
        let channels = listener.channels();
        if self.is_frozen {
            return;
        }
        self.time_s = listener.time_s();
        self.update_meters(channels);
        let now_s = self.time_s;
        let is_due = |due: &mut f64, every_s: f64| {
            let is_due = now_s >= *due;
            if is_due {
                *due = now_s + every_s - 1e-6;
            }
            is_due
        };
        let average_s = self.settings.average_s;
        let shows_power = self.holds || matches!(self.pane, Pane::Overview | Pane::Spectrum);
        if shows_power && is_due(&mut self.due.power, PICTURE_S.max(0.1 * average_s)) {
            self.power = listener.power();
            self.hold();
        }
        if is_due(&mut self.due.pitch, PITCH_EVERY_S) {
            self.pitch = listener.pitch();
            let f0_hz = self.pitch.as_ref().map(|pitch| pitch.f0_hz);
            self.course.push_back(PitchPoint { time_s: now_s, f0_hz });
            while self.course.front().is_some_and(|point| point.time_s < now_s - COURSE_S) {
                self.course.pop_front();
            }
        }
        if is_due(&mut self.due.findings, FINDINGS_EVERY_S) {
            self.findings = listener.findings();
        }
        if self.pane == Pane::Spectrum {
            self.update_tones(listener);
        }
        if self.pane == Pane::Partials && is_due(&mut self.due.partials, PARTIALS_EVERY_S) {
            let settings =
                PartialsSettings { pitch: self.settings.pitch, ..PartialsSettings::default() };
            self.partials = listener.partials(&settings).ok().filter(|_| self.pitch.is_some());
        }
        self.update_columns(listener);
        if self.in_time() {
            self.update_wave(listener);
        }
    }

    /// Tones are measured beside the pictures: many take longer than a picture may.
    fn update_tones(&mut self, listener: &Listener) {
        if let Some((began, measured)) = &self.measuring {
            let Ok(peaks) = measured.try_recv() else { return };
            self.peaks = peaks;
            let rests = TONES_REST * began.elapsed();
            self.tones_due = Instant::now() + rests.max(TONES_EVERY);
            self.measuring = None;
        }
        if Instant::now() < self.tones_due {
            return;
        }
        let Some(work) = listener.spectrum_later() else { return };
        let (sender, receiver) = channel();
        self.measuring = Some((Instant::now(), receiver));
        // Who asked may be gone when it is done.
        std::thread::spawn(move || drop(sender.send(work().peaks)));
    }

    fn update_meters(&mut self, channels: Vec<ChannelNow>) {
        let now_s = self.time_s;
        if self.meters.len() != channels.len() {
            let meter = |now: &ChannelNow| Meter {
                now: now.clone(),
                peak_dbfs: None,
                until_s: 0.0,
                forgotten: 0,
                clipped_s: None,
            };
            self.meters = channels.iter().map(meter).collect();
        }
        for (meter, now) in self.meters.iter_mut().zip(channels) {
            let is_higher = now.peak_dbfs.unwrap_or(f64::NEG_INFINITY)
                >= meter.peak_dbfs.unwrap_or(f64::NEG_INFINITY);
            if is_higher || now_s >= meter.until_s {
                (meter.peak_dbfs, meter.until_s) = (now.peak_dbfs, now_s + HELD_S);
            }
            if now.newly_clipped > 0 {
                meter.clipped_s = Some(now_s);
            }
            meter.now = now;
        }
    }

    fn hold(&mut self) {
        let Some(now) = &self.power else { return };
        if self.held.len() != now.power.len() {
            self.held = now.power.clone();
        }
        for (held, power) in self.held.iter_mut().zip(&now.power) {
            *held = held.max(*power);
        }
    }

    fn update_columns(&mut self, listener: &Listener) {
        let every_s = COURSE_S / COLUMNS as f64;
        let mut measured = None;
        let mut count = 0;
        while self.due.column <= self.time_s {
            self.due.column += every_s;
            count += 1;
            if count > COLUMNS {
                self.due.column = self.time_s + every_s;
            }
            if measured.is_none() || count < MOST_NEW_COLUMNS {
                measured = listener.power_of(&self.prepared).map(|now| {
                    self.column_hz = now.bin_spacing_hz;
                    Column { levels_db: levels_db(&now.power) }
                });
            }
            self.columns_seen += 1;
            self.columns.push_back(measured.clone().unwrap_or(Column { levels_db: Vec::new() }));
            if self.columns.len() > COLUMNS {
                self.columns.pop_front();
            }
        }
    }

    fn update_wave(&mut self, listener: &Listener) {
        let rate_hz = self.format.sample_rate_hz;
        let shown_s = self.shown_s();
        let period_s = self.pitch.as_ref().map(|pitch| 1.0 / pitch.f0_hz);
        let before_s = period_s.map_or(shown_s, |period_s| 2.5 * period_s).max(0.005);
        self.wave = listener.last(shown_s + before_s.min(STANDING_S)).0;
        let shown = shown_s * rate_hz;
        self.wave_from = if shown_s <= STANDING_S {
            self.standing.place(&self.wave, shown, period_s.map(|period_s| period_s * rate_hz))
        } else {
            (self.wave.len() as f64 - shown).max(0.0)
        };
    }

    /// Does what a key asks for; gives what only whoever runs the view can do.
    pub fn key(&mut self, key: Key, listener: &Listener) -> Option<Request> {
        if std::mem::take(&mut self.shows_help) {
            return None;
        }
        let action = key.action()?;
        match action {
            Action::Quit => return Some(Request::Quit),
            Action::Save => return Some(Request::Save),
            Action::Picture => return Some(Request::Picture),
            Action::Record => return Some(Request::Record),
            Action::Help => self.shows_help = true,
            Action::Pane(n) => self.look_at(Pane::ALL[n]),
            Action::NextPane => {
                let next = Pane::ALL.iter().position(|pane| *pane == self.pane).unwrap_or(0) + 1;
                self.look_at(Pane::ALL[next % Pane::ALL.len()]);
            }
            Action::Freeze => self.freeze(listener),
            Action::Cursor => self.next_cursor(),
            Action::Move(steps) => self.go(steps),
            Action::Zoom(closer) => self.zoom(closer),
            Action::Scale(larger) => self.scale(larger),
            Action::Axis => {
                self.frequencies.scale = match self.frequencies.scale {
                    FrequencyAxis::Logarithmic => FrequencyAxis::Linear,
                    _ => FrequencyAxis::Logarithmic,
                };
            }
            Action::Hold => {
                self.holds = !self.holds;
                self.held.clear();
            }
            Action::Reset => self.reset(),
            Action::Window
            | Action::Resolution(_)
            | Action::Average
            | Action::Reference(_)
            | Action::Channel
            | Action::Weighting
            | Action::TimeWeighting => {
                return Some(Request::Listen(Box::new(self.listening(action))));
            }
        }
        None
    }

    /// What was asked for is so from now on.
    pub fn listens(&mut self, settings: &LiveSettings) {
        let is_other = settings.heard != self.settings.heard;
        self.settings = settings.clone();
        self.due = Due { column: self.due.column, ..Due::default() };
        self.held.clear();
        (self.measuring, self.tones_due) = (None, Instant::now());
        if is_other {
            self.course.clear();
            self.columns.clear();
        }
    }

    fn listening(&self, action: Action) -> LiveSettings {
        let mut asked = self.settings.clone();
        let frames = &mut asked.spectrum.frames;
        match action {
            Action::Window => frames.window = after(&WINDOWS, frames.window),
            Action::Resolution(finer) => {
                let now = frames.resolution_hz.unwrap_or(10.0);
                let nearest = RESOLUTIONS_HZ.iter().position(|hz| *hz >= now).unwrap_or(0);
                let next = if finer { nearest.saturating_sub(1) } else { nearest + 1 };
                frames.segment = None;
                frames.resolution_hz = Some(RESOLUTIONS_HZ[next.min(RESOLUTIONS_HZ.len() - 1)]);
            }
            Action::Average => asked.average_s = after(&AVERAGES_S, asked.average_s),
            Action::Reference(higher) => {
                let hz = asked.pitch.reference_hz + if higher { 0.5 } else { -0.5 };
                let hz = hz.clamp(380.0, 500.0);
                (asked.pitch.reference_hz, asked.spectrum.reference_hz) = (hz, hz);
            }
            Action::Channel => {
                let channels = self.format.channels;
                asked.heard = match asked.heard {
                    Heard::Channel(n) if n + 1 < channels => Heard::Channel(n + 1),
                    Heard::Channel(_) if channels > 1 => Heard::Mean,
                    _ => Heard::Channel(0),
                };
            }
            Action::Weighting => asked.weighting = after(&Weighting::ALL, asked.weighting),
            Action::TimeWeighting => {
                asked.time_weighting = after(&TimeWeighting::ALL, asked.time_weighting);
            }
            _ => (),
        }
        asked
    }

    fn look_at(&mut self, pane: Pane) {
        self.pane = pane;
        (self.due.partials, self.due.power) = (0.0, 0.0);
        self.tones_due = Instant::now();
    }

    fn freeze(&mut self, listener: &Listener) {
        self.is_frozen = !self.is_frozen;
        if self.is_frozen {
            if !self.in_time() {
                self.update_wave(listener);
            }
            // All that is kept can be looked at; the picture stays where it is.
            let from_end = self.wave.len() as f64 - self.wave_from;
            let seen_end = (self.time_s * self.format.sample_rate_hz).round() as u64;
            let kept = listener.last(self.settings.kept_s).0;
            let newer = listener.history().end().saturating_sub(seen_end) as usize;
            self.wave = kept[..kept.len().saturating_sub(newer)].to_vec();
            self.wave_from = (self.wave.len() as f64 - from_end).max(0.0);
        }
    }

    fn in_time(&self) -> bool {
        matches!(self.pane, Pane::Overview | Pane::Waveform)
    }

    fn next_cursor(&mut self) {
        let places = if self.in_time() {
            [0.3, 0.7].map(|share| share * self.shown_s())
        } else {
            [0.4, 0.6].map(|share| self.frequencies.value(share))
        };
        let cursors =
            if self.in_time() { &mut self.time_cursors } else { &mut self.frequency_cursors };
        *cursors = match cursors {
            None => Some(Cursors { places, moved: 0 }),
            Some(Cursors { moved: 0, places }) => Some(Cursors { places: *places, moved: 1 }),
            Some(_) => None,
        };
    }

    /// Moves the cursor, or what is shown.
    fn go(&mut self, steps: i32) {
        /// Steps across a pane.
        const ACROSS: f64 = 240.0;
        let share = f64::from(steps) / ACROSS;
        if self.in_time() {
            let shown_s = self.shown_s();
            if let Some(cursors) = &mut self.time_cursors {
                let place = &mut cursors.places[cursors.moved];
                *place = (*place + share * shown_s).clamp(0.0, shown_s);
            } else if self.is_frozen {
                let shown = shown_s * self.format.sample_rate_hz;
                let last = (self.wave.len() as f64 - shown).max(0.0);
                self.wave_from = (self.wave_from + 10.0 * share * shown).clamp(0.0, last);
            }
            return;
        }
        let axis = self.frequencies;
        if let Some(cursors) = &mut self.frequency_cursors {
            let place = &mut cursors.places[cursors.moved];
            *place = axis.value((axis.share(*place) + share).clamp(0.0, 1.0));
            return;
        }
        let moved =
            Axis { low: axis.value(10.0 * share), high: axis.value(1.0 + 10.0 * share), ..axis };
        if moved.low >= self.lowest_hz() && moved.high <= self.highest_hz() {
            self.frequencies = moved;
        }
    }

    fn lowest_hz(&self) -> f64 {
        match self.frequencies.scale {
            FrequencyAxis::Logarithmic => 5.0,
            _ => 0.0,
        }
    }

    fn highest_hz(&self) -> f64 {
        0.5 * self.format.sample_rate_hz
    }

    fn zoom(&mut self, closer: bool) {
        if self.in_time() {
            let before = self.shown_s();
            self.shown = if closer {
                self.shown.saturating_sub(1)
            } else {
                (self.shown + 1).min(SHOWN_S.len() - 1)
            };
            let ratio = self.shown_s() / before;
            if let Some(cursors) = &mut self.time_cursors {
                cursors.places = cursors.places.map(|place| place * ratio);
            }
            let shown = self.shown_s() * self.format.sample_rate_hz;
            let last = (self.wave.len() as f64 - shown).max(0.0);
            self.wave_from = self.wave_from.min(last);
            return;
        }
        // Around the cursor, or the middle.
        let axis = self.frequencies;
        let middle = match &self.frequency_cursors {
            Some(cursors) => axis.share(cursors.places[cursors.moved]),
            None => 0.5,
        };
        let factor = if closer { 0.5 } else { 2.0 };
        let low = axis.value(middle - factor * middle).max(self.lowest_hz());
        let high = axis.value(middle + factor * (1.0 - middle)).min(self.highest_hz());
        if high - low > 10.0 {
            self.frequencies = Axis { low, high, ..axis };
        }
    }

    fn scale(&mut self, larger: bool) {
        if self.in_time() {
            let now = self.reach();
            let next = if larger {
                REACHES.iter().rev().find(|reach| **reach < now)
            } else {
                REACHES.iter().find(|reach| **reach > now)
            };
            self.reach = Some(next.copied().unwrap_or(now));
            return;
        }
        let step = if larger { 10.0 } else { -10.0 };
        let (low, high) = self.levels_db;
        self.levels_db = ((low + step).clamp(-180.0, -20.0), high);
    }

    fn reset(&mut self) {
        self.held.clear();
        self.reach = None;
        for meter in &mut self.meters {
            (meter.peak_dbfs, meter.until_s) = (meter.now.peak_dbfs, 0.0);
            meter.forgotten = meter.now.clipped_samples;
            meter.clipped_s = None;
        }
    }

    /// The waveform between the cursors in time: its period, and how many seconds from the first
    /// cursor to the second.
    pub(crate) fn between_cursors(&self) -> Option<(Option<Period>, f64)> {
        let cursors = self.time_cursors?;
        let rate_hz = self.format.sample_rate_hz;
        let [a, b] = cursors.places;
        let place = |s: f64| {
            ((self.wave_from + s * rate_hz).round().max(0.0) as usize).min(self.wave.len())
        };
        let samples = &self.wave[place(a.min(b))..place(a.max(b))];
        Some((period(samples, rate_hz, a.min(b)), b - a))
    }
}

/// What follows in a list, from its end on its first again.
fn after<T: Copy + PartialEq>(list: &[T], now: T) -> T {
    let place = list.iter().position(|one| *one == now);
    list[place.map_or(0, |place| (place + 1) % list.len())]
}
