//! Where the samples come from: standard input, a take, or a simulated instrument, each read by a
//! thread of its own.

use std::io::{ErrorKind, Read, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel};
use std::time::{Duration, Instant};

use anyhow::{Context, Result, bail};
use tonemap_core::live::LiveFormat;
use tonemap_core::synth::Simulated;
use tonemap_media::{Block, RawFormat, TakeInfo, TakeStream};

use crate::take::Take;

/// Samples of each channel.
pub(super) type Samples = Vec<Vec<f32>>;

/// So many blocks may wait: 20 s or more. A source that can wait then does.
const WAITING_BLOCKS: usize = 2048;
/// Length of a block, in seconds.
const BLOCK_S: f64 = 0.01;

/// Samples as they come.
pub(super) struct Feed {
    receiver: Receiver<Samples>,
    counts: Arc<Counts>,
    pub(super) format: LiveFormat,
    /// What it is called.
    pub(super) name: String,
    /// Names of its channels.
    pub(super) channels: Vec<String>,
    received: u64,
    last: Instant,
}

/// What the thread that reads has done.
#[derive(Default)]
struct Counts {
    sent: AtomicU64,
    /// Samples that found no room.
    lost: AtomicU64,
    /// Whether whoever took the samples that are passed on is gone.
    is_alone: AtomicBool,
    failure: std::sync::Mutex<Option<anyhow::Error>>,
}

/// Where a source that cannot wait puts its samples.
#[cfg(feature = "microphone")]
pub(super) struct Sink {
    sender: SyncSender<Samples>,
    counts: Arc<Counts>,
}

#[cfg(feature = "microphone")]
impl Sink {
    /// Hands samples over, or counts them as lost; `false` if nobody wants them any more.
    pub(super) fn push(&self, samples: Samples) -> bool {
        let count = samples.first().map_or(0, Vec::len) as u64;
        match self.sender.try_send(samples) {
            Ok(()) => self.counts.sent.fetch_add(count, Ordering::Relaxed),
            Err(std::sync::mpsc::TrySendError::Full(_)) => {
                self.counts.lost.fetch_add(count, Ordering::Relaxed)
            }
            Err(std::sync::mpsc::TrySendError::Disconnected(_)) => return false,
        };
        true
    }
}

/// What came.
pub(super) enum Came {
    Samples(Samples),
    /// Nothing for as long as was waited.
    Nothing,
    /// Nothing will.
    End,
}

impl Feed {
    fn new(format: LiveFormat, name: String) -> (Self, SyncSender<Samples>, Arc<Counts>) {
        let (sender, receiver) = sync_channel(WAITING_BLOCKS);
        let counts = Arc::new(Counts::default());
        let channels = (1..=format.channels).map(|n| n.to_string()).collect();
        let feed = Self {
            receiver,
            counts: counts.clone(),
            format,
            name,
            channels,
            received: 0,
            last: Instant::now(),
        };
        (feed, sender, counts)
    }

    /// What a source pushes that cannot wait.
    #[cfg(feature = "microphone")]
    pub(super) fn pushed(format: LiveFormat, name: String) -> (Self, Sink) {
        let (feed, sender, counts) = Self::new(format, name);
        (feed, Sink { sender, counts })
    }

    /// What comes by standard input; it is passed on to standard output if that is wanted.
    pub(super) fn standard_input(raw: Option<RawFormat>, passes_on: bool) -> Result<Self> {
        let shared = Arc::new(Counts::default());
        let input = Tee { input: std::io::stdin(), passes_on, counts: shared.clone() };
        let stream = match raw {
            Some(format) => TakeStream::raw(input, format),
            None => TakeStream::wav(input),
        };
        let mut stream = match stream {
            Err(tonemap_media::Error::Empty) => {
                bail!("standard input: nothing came; start what captures the samples")
            }
            stream => stream.context("standard input")?,
        };
        let format = format_of(stream.info());
        let (mut feed, sender, _) = Self::new(format, "standard input".into());
        feed.counts = shared.clone();
        let most = (BLOCK_S * format.sample_rate_hz).ceil() as usize;
        std::thread::spawn(move || {
            let mut block = Block::default();
            let read = loop {
                match stream.read(&mut block, most) {
                    Ok(true) if send(&sender, &shared, block.channels().to_vec()) => (),
                    Ok(_) => break Ok(()),
                    Err(error) => break Err(error),
                }
            };
            shared.end(read.context("standard input"));
        });
        Ok(feed)
    }

    /// A take, at so many times its own speed.
    pub(super) fn take(take: &Take, speed: f64) -> Result<Self> {
        let format = format_of(&take.info);
        let (mut feed, sender, counts) = Self::new(format, take.name());
        feed.channels = take.channel_names();
        let mut reader = take.reader()?;
        std::thread::spawn(move || {
            let mut pace = Pace::new(speed * format.sample_rate_hz);
            let most = (BLOCK_S * format.sample_rate_hz).ceil() as usize;
            let mut block = Block::default();
            let read = loop {
                match reader.read(&mut block) {
                    Ok(true) => (),
                    Ok(false) => break Ok(()),
                    Err(error) => break Err(error),
                }
                let frames = block.frames();
                let mut is_wanted = true;
                for from in (0..frames).step_by(most) {
                    let part = from..frames.min(from + most);
                    pace.wait_for(part.len());
                    let samples = block.channels().iter().map(|of| of[part.clone()].to_vec());
                    is_wanted = is_wanted && send(&sender, &counts, samples.collect());
                }
                if !is_wanted {
                    break Ok(());
                }
            };
            counts.end(read.map_err(anyhow::Error::from));
        });
        Ok(feed)
    }

    /// A simulated instrument, at so many times its own speed.
    pub(super) fn simulated(mut sound: Simulated, name: String, speed: f64) -> Self {
        let format = LiveFormat {
            sample_rate_hz: sound.sample_rate_hz(),
            channels: sound.channels(),
            bits: None,
        };
        let (feed, sender, counts) = Self::new(format, name);
        std::thread::spawn(move || {
            let mut pace = Pace::new(speed * format.sample_rate_hz);
            let most = (BLOCK_S * format.sample_rate_hz).ceil() as usize;
            let played = loop {
                pace.wait_for(most);
                let samples = match sound.play(most) {
                    Ok(samples) => samples,
                    Err(error) => break Err(error),
                };
                if samples[0].is_empty() || !send(&sender, &counts, samples) {
                    break Ok(());
                }
            };
            counts.end(played.map_err(anyhow::Error::from));
        });
        feed
    }

    /// What comes within a time.
    pub(super) fn next(&mut self, patience: Duration) -> Result<Came> {
        match self.receiver.recv_timeout(patience) {
            Ok(samples) => {
                self.received += samples.first().map_or(0, Vec::len) as u64;
                self.last = Instant::now();
                Ok(Came::Samples(samples))
            }
            Err(RecvTimeoutError::Timeout) => Ok(Came::Nothing),
            Err(RecvTimeoutError::Disconnected) => match self.failure() {
                Some(error) => Err(error),
                None => Ok(Came::End),
            },
        }
    }

    fn failure(&self) -> Option<anyhow::Error> {
        let failure = self.counts.failure.lock();
        failure.unwrap_or_else(std::sync::PoisonError::into_inner).take()
    }

    /// How far behind the samples whoever reads them is, in seconds.
    pub(super) fn behind_s(&self) -> f64 {
        let sent = self.counts.sent.load(Ordering::Relaxed);
        sent.saturating_sub(self.received) as f64 / self.format.sample_rate_hz
    }

    /// Samples that were lost because nobody took them in time.
    pub(super) fn lost_samples(&self) -> u64 {
        self.counts.lost.load(Ordering::Relaxed)
    }

    /// How long nothing has come, in seconds.
    pub(super) fn silent_s(&self) -> f64 {
        self.last.elapsed().as_secs_f64()
    }

    /// Whether samples were to be passed on and nobody takes them any more.
    pub(super) fn is_alone(&self) -> bool {
        self.counts.is_alone.load(Ordering::Relaxed)
    }
}

impl Counts {
    fn end(&self, read: Result<()>) {
        let mut failure = self.failure.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        *failure = read.err();
    }
}

/// Hands samples over; `false` if nobody wants them any more.
fn send(sender: &SyncSender<Samples>, counts: &Counts, samples: Samples) -> bool {
    counts.sent.fetch_add(samples.first().map_or(0, Vec::len) as u64, Ordering::Relaxed);
    sender.send(samples).is_ok()
}

fn format_of(info: &TakeInfo) -> LiveFormat {
    LiveFormat {
        sample_rate_hz: info.sample_rate_hz,
        channels: info.channels,
        bits: info.bits_per_sample,
    }
}

/// Keeps to a speed.
struct Pace {
    began: Instant,
    samples: f64,
    per_s: f64,
}

impl Pace {
    fn new(per_s: f64) -> Self {
        Self { began: Instant::now(), samples: 0.0, per_s }
    }

    /// Waits until so many more samples would have come. Whoever was held up catches up.
    fn wait_for(&mut self, samples: usize) {
        self.samples += samples as f64;
        let due = Duration::from_secs_f64(self.samples / self.per_s);
        std::thread::sleep(due.saturating_sub(self.began.elapsed()));
    }
}

/// An input of which a copy goes to standard output, byte by byte.
struct Tee {
    input: std::io::Stdin,
    passes_on: bool,
    counts: Arc<Counts>,
}

impl Read for Tee {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let count = self.input.read(into)?;
        if self.passes_on {
            let mut out = std::io::stdout().lock();
            match out.write_all(&into[..count]).and_then(|()| out.flush()) {
                Err(error) if error.kind() == ErrorKind::BrokenPipe => {
                    self.passes_on = false;
                    self.counts.is_alone.store(true, Ordering::Relaxed);
                }
                done => done?,
            }
        }
        Ok(count)
    }
}
