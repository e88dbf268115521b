use crate::bench::{Bench, codes, sine};

/// A fixture of the reader's tests: 440 Hz left, 997 Hz right, a tenth of a second.
fn fixture(name: &str) -> String {
    format!(
        "{}/../media/tests/data/two-tones-24bit-44100Hz-stereo{name}",
        env!("CARGO_MANIFEST_DIR")
    )
}

#[test]
fn every_format_gives_the_same_tones() {
    let bench = Bench::new();
    for (name, lossy) in [
        (".wav", false),
        (".flac", false),
        (".aiff", false),
        (".caf", false),
        ("-alac.m4a", false),
        ("-vorbis.ogg", true),
        ("-lame.mp3", true),
        ("-aac.m4a", true),
        (".aac", true),
    ] {
        let take = fixture(name);
        for (channel, frequency) in [(1, 440.0), (2, 997.0)] {
            let json = bench.json(&format!(
                "spectrum {take} --channel {channel} --peaks 1 --from 0.03 --to 0.1 --format json"
            ));
            let found = json["result"]["peaks"][0]["frequency_hz"].as_f64().unwrap_or(0.0);
            let within = if lossy { 1.0 } else { 0.001 };
            assert!((found - frequency).abs() < within, "{name}, channel {channel}: {found}");
            assert_eq!(codes(&json).contains(&"lossy_codec"), lossy, "{name}");
        }
    }
}

#[test]
fn standard_input_is_a_take() {
    let bench = Bench::new();
    let content = std::fs::read(fixture(".flac")).expect("a fixture");
    let run = bench.run_with_input("spectrum - --peaks 1 --to 0.1 --quiet", &content);
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.starts_with("standard input, channel 1\n"), "{}", run.out);
    assert!(run.out.contains("440.000"), "{}", run.out);
    let run = bench.run_with_input("inspect -", b"");
    assert_eq!((run.status, run.out.as_str()), (1, ""));
    assert_eq!(
        run.err,
        "tonemap: standard input: the file is empty; copy it again from where it was recorded.\n"
    );
}

#[test]
fn samples_without_a_header_are_read_as_told() {
    type Coding = fn(f32) -> Vec<u8>;
    let bench = Bench::new();
    let samples = sine(440.0);
    let bytes =
        |of: fn(f32) -> Vec<u8>| -> Vec<u8> { samples.iter().flat_map(|x| of(*x)).collect() };
    let codings: [(&str, Coding); 4] = [
        ("s16le", |x| ((x * 32_768.0) as i16).to_le_bytes().to_vec()),
        ("s24be", |x| ((x * 8_388_608.0) as i32).to_be_bytes()[1..].to_vec()),
        ("f32be", |x| x.to_be_bytes().to_vec()),
        ("f64le", |x| f64::from(x).to_le_bytes().to_vec()),
    ];
    for (coding, of) in codings {
        bench.write("take.raw", &bytes(of));
        let json = bench
            .json(&format!("spectrum take.raw --raw {coding},48kHz,1 --peaks 1 --format json"));
        let peaks = &json["result"]["peaks"];
        let strongest = peaks[0]["frequency_hz"].as_f64().unwrap_or(0.0);
        assert!((strongest - 440.0).abs() < 0.001, "{coding}: {peaks}");
    }
    bench.write("take.raw", &[0; 1001]);
    let json = bench.json("inspect take.raw --raw s16le,44743,2 --format json");
    assert_eq!(json["result"]["sample_rate_hz"].as_f64(), Some(44_743.0));
    assert!(codes(&json).contains(&"stray_bytes"));
    for wrong in ["s16,48kHz,2", "s16le,48kHz", "s16le,0,1", "s16le,48kHz,0", "s16le,48000.5,1"] {
        let run = bench.run(&format!("inspect take.raw --raw {wrong}"));
        assert_eq!(run.status, 2, "{wrong}");
        assert!(run.err.contains("s24le,48kHz,2"), "{}", run.err);
    }
}
