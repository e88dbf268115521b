//! The inputs of the computer, in a program that was built with them.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use anyhow::{Context, Result, bail};
use cpal::traits::{DeviceTrait, HostTrait, StreamTrait};
use cpal::{Device, FromSample, Sample, SampleFormat, SizedSample, StreamConfig};
use tonemap_core::live::LiveFormat;

use super::feed::{Feed, Sink};

/// What stands for the input that the system uses by itself.
pub(super) const USUAL: &str = "default";

/// Listens to an input by its name.
pub(super) fn listen(name: &str) -> Result<Feed> {
    let host = cpal::default_host();
    let device = if name == USUAL {
        host.default_input_device().context("the system has no input that it uses by itself")?
    } else {
        let named = |device: &Device| device.to_string() == name;
        let mut all = host.input_devices().context("the inputs cannot be listed")?;
        let Some(device) = all.find(named) else {
            let names: Vec<String> = host.input_devices()?.map(|d| d.to_string()).collect();
            bail!("there is no input '{name}'; there are: {}", names.join(", "));
        };
        device
    };
    let usual = device.default_input_config().context("the input states no format")?;
    let format = LiveFormat {
        sample_rate_hz: f64::from(usual.sample_rate()),
        channels: usize::from(usual.channels()),
        bits: match usual.sample_format() {
            SampleFormat::I16 => Some(16),
            SampleFormat::I24 => Some(24),
            _ => None,
        },
    };
    let (feed, sink) = Feed::pushed(format, device.to_string());
    let coding = usual.sample_format();
    let config: StreamConfig = usual.into();
    // A stream may not leave the thread that made it.
    std::thread::spawn(move || {
        let ended = Arc::new(AtomicBool::new(false));
        let stream = match coding {
            SampleFormat::I16 => open::<i16>(&device, config, sink, &ended),
            SampleFormat::I24 => open::<cpal::I24>(&device, config, sink, &ended),
            SampleFormat::I32 => open::<i32>(&device, config, sink, &ended),
            _ => open::<f32>(&device, config, sink, &ended),
        };
        // What cannot be opened ends the sound: the other end sees that nothing comes any more.
        let Ok(stream) = stream else { return };
        if stream.play().is_err() {
            return;
        }
        while !ended.load(Ordering::Relaxed) {
            std::thread::sleep(Duration::from_millis(50));
        }
    });
    Ok(feed)
}

/// Opens an input whose samples are stored so.
fn open<T>(
    device: &Device,
    config: StreamConfig,
    sink: Sink,
    ended: &Arc<AtomicBool>,
) -> Result<cpal::Stream, cpal::Error>
where
    T: SizedSample,
    f32: FromSample<T>,
{
    let channels = usize::from(config.channels);
    let (gone, failed) = (ended.clone(), ended.clone());
    device.build_input_stream::<T, _, _>(
        config,
        move |interleaved: &[T], _| {
            let channel = |n: usize| interleaved.iter().skip(n).step_by(channels);
            let samples = (0..channels).map(|n| channel(n).map(|x| f32::from_sample(*x)).collect());
            // The sound card does not wait: what finds no room is lost, and counted.
            if !sink.push(samples.collect()) {
                gone.store(true, Ordering::Relaxed);
            }
        },
        move |_| failed.store(true, Ordering::Relaxed),
        None,
    )
}
