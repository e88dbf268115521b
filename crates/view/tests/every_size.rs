//! The view drawn without a terminal: at every size, in every state.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use tonemap_core::live::{Listener, LiveFormat, LiveSettings};
use tonemap_core::partials::PartialsSettings;
use tonemap_core::synth::Simulated;
use tonemap_view::{Colours, Key, Looks, Pane, Request, Running, Watch};

fn heard(seconds: f64, channels: usize) -> Listener {
    let rate_hz = 48_000.0;
    let format = LiveFormat { sample_rate_hz: rate_hz, channels, bits: Some(24) };
    let names = (1..=channels).map(|n| format!("microphone {n}")).collect();
    let mut listener = Listener::new(format, LiveSettings::default(), names).expect("settings");
    let mut harp = Simulated::harp(rate_hz);
    let two = harp.play((seconds * rate_hz) as usize).expect("sound");
    let all: Vec<Vec<f32>> = (0..channels).map(|n| two[n % 2].clone()).collect();
    listener.push(&all);
    listener
}

fn watching(listener: &mut Listener, pane: Pane, keys: &str) -> Watch {
    let mut watch = Watch::new(listener, Looks::new(Colours::Few), pane).expect("a rate");
    watch.update(listener);
    for key in keys.chars() {
        if let Some(Request::Listen(settings)) = watch.key(Key::Char(key), listener) {
            listener.set(*settings.clone()).expect("settings");
            watch.listens(&settings);
        }
        watch.update(listener);
    }
    watch
}

/// The rows of a drawing.
fn drawn(watch: &Watch, width: u16, height: u16, running: &Running) -> Vec<String> {
    let mut cells = Buffer::empty(Rect::new(0, 0, width, height));
    watch.draw_into(cells.area, &mut cells, running);
    let row =
        |row: &[ratatui::buffer::Cell]| row.iter().map(ratatui::buffer::Cell::symbol).collect();
    cells.content.chunks(usize::from(width)).map(row).collect()
}

#[test]
fn every_pane_can_be_drawn_at_every_size() {
    let running = Running {
        source: "a source with a name that is much longer than any title has room for".into(),
        recording_s: Some(4000.0),
        behind_s: 12.0,
        lost_samples: 480,
        silent_s: 3.0,
        has_ended: false,
        notice: None,
    };
    for channels in [1, 2, 11] {
        // Before there is enough for anything, and after.
        for seconds in [0.0, 0.01, 1.4] {
            let mut listener = heard(seconds, channels);
            for (pane, keys) in Pane::ALL.iter().flat_map(|pane| [(pane, ""), (pane, "hcc?")]) {
                let watch = watching(&mut listener, *pane, keys);
                for width in (1..=130).step_by(7).chain([60, 80, 200]) {
                    for height in (1..=48).step_by(5).chain([18, 24, 60]) {
                        let rows = drawn(&watch, width, height, &running);
                        assert_eq!(rows.len(), usize::from(height));
                    }
                }
            }
        }
    }
}

#[test]
fn a_pane_shows_what_the_listener_measures() {
    let mut listener = heard(1.4, 2);
    let pitch = listener.pitch().expect("a note");
    let running = Running { source: "harp".into(), ..Running::default() };
    let watch = watching(&mut listener, Pane::Pitch, "");
    let text = drawn(&watch, 100, 30, &running).join("\n");
    let (hz, u) = tonemap_core::Measured::new(pitch.f0_hz, pitch.f0_hz_u).text(3);
    assert!(text.contains(&format!("{hz} ± {u} Hz")), "{text}");
    let watch = watching(&mut listener, Pane::Partials, "");
    let text = drawn(&watch, 100, 30, &running).join("\n");
    let partials = listener.partials(&PartialsSettings::default()).expect("partials");
    for partial in &partials.partials[..8] {
        let hz = tonemap_core::Measured::new(partial.frequency_hz, partial.frequency_hz_u);
        assert!(text.contains(&hz.text(3).0), "{} of {text}", partial.number);
    }
    // The spectrum reaches as high as its strongest bin, to a dot.
    let watch = watching(&mut listener, Pane::Overview, "");
    let rows = drawn(&watch, 80, 64, &running);
    let strongest = listener.power().expect("enough").power.into_iter().fold(0.0, f64::max);
    let level_db = 10.0 * strongest.log10();
    let begins = rows.iter().position(|row| row.contains("resolution")).expect("a spectrum") + 1;
    let plot = &rows[begins..rows.len() - 2];
    let has_dots = |row: &&String| row.chars().any(|c| ('\u{2801}'..='\u{28FF}').contains(&c));
    let first = plot.iter().position(|row| has_dots(&row)).expect("a curve") as f64;
    let wanted = -level_db / 100.0 * (plot.len() as f64 - 1.0);
    assert!(
        (first - wanted).abs() <= 1.0,
        "{first} rows from the top, {wanted} wanted: {level_db}"
    );
}

#[test]
fn frozen_is_frozen_and_zoom_keeps_the_cursors_in_place() {
    let mut listener = heard(2.0, 1);
    let running = Running { source: "harp".into(), ..Running::default() };
    let mut watch = watching(&mut listener, Pane::Waveform, " cc");
    let before = drawn(&watch, 90, 30, &running);
    let harp = Simulated::harp(48_000.0).play(9000).expect("sound");
    listener.push(&harp[..1]);
    watch.update(&mut listener);
    assert_eq!(drawn(&watch, 90, 30, &running), before);
    assert!(before[0].contains("FROZEN"));
    let column = |rows: &[String]| {
        let row = rows.iter().find(|row| row.contains('A') && row.contains('B')).expect("cursors");
        row.chars().position(|c| c == 'A')
    };
    for key in ['-', '-', '+', '+', '+'] {
        watch.key(Key::Char(key), &listener);
        assert_eq!(column(&drawn(&watch, 90, 30, &running)), column(&before));
    }
}
