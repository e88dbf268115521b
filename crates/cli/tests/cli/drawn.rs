//! What stands in figures: a mark for each tone, note and value, curves with their points, labels
//! that leave each other room.

use ab_glyph::{Font, FontRef};
use roxmltree::{Document, Node};
use serde_json::Value;

use crate::bench::Bench;
use crate::shapes::study;

const CURVE: &str = "#0B6E75";
const SECOND_CURVE: &str = "#D55E00";
const TRACK: &str = "#78F0DC";
const BAND: &str = "#7A6C9E";

/// A figure, with the result that it shows.
struct Drawn {
    svg: String,
    result: Value,
}

impl Drawn {
    fn of(bench: &Bench, arguments: &str) -> Self {
        let run = bench.run(&format!("{arguments} --format json --figure f.svg --force --quiet"));
        assert_eq!(run.status, 0, "{arguments}: {}", run.err);
        let svg = std::fs::read_to_string(bench.path("f.svg")).expect("drawn");
        let collisions = collisions(&svg);
        assert!(collisions.is_empty(), "{arguments}: {collisions:?}");
        let value: Value =
            serde_json::from_str(run.out.lines().next().expect("one")).expect("JSON");
        Self { svg, result: value["result"].clone() }
    }

    /// Numbers of points of the lines or shapes of a kind and colour.
    fn points(&self, tag: &str, colour: &str) -> Vec<usize> {
        let document = Document::parse(&self.svg).expect("well-formed");
        let is_it = |node: &Node<'_, '_>| {
            let paint = if tag == "polyline" { "stroke" } else { "fill" };
            node.has_tag_name(tag) && node.attribute(paint) == Some(colour)
        };
        let points = |node: Node<'_, '_>| {
            node.attribute("points").map_or(0, |points| points.split_whitespace().count())
        };
        document.descendants().filter(is_it).map(points).collect()
    }

    /// How many rings of marks there are.
    fn marks(&self) -> usize {
        self.points("circle", "none").len()
    }

    fn count(&self, list: &str) -> usize {
        self.result[list].as_array().unwrap_or_else(|| panic!("{list}: {}", self.result)).len()
    }
}

/// Pairs of level texts that cover each other, and texts that leave the figure.
fn collisions(svg: &str) -> Vec<String> {
    let document = Document::parse(svg).expect("well-formed");
    let root = document.root_element();
    let view: Vec<f64> = root
        .attribute("viewBox")
        .expect("a view")
        .split_whitespace()
        .map(|number| number.parse().expect("a number"))
        .collect();
    let regular = include_bytes!("../../../figures/assets/Inter-Regular.otf");
    let bold = include_bytes!("../../../figures/assets/Inter-SemiBold.otf");
    let boxes: Vec<(String, [f64; 4])> = document
        .descendants()
        .filter(|node| node.has_tag_name("text") && node.attribute("transform").is_none())
        // Heads and accidentals of a chord stand close.
        .filter(|node| node.attribute("font-family") != Some("Staff Signs"))
        .map(|node| {
            let number = |name: &str| -> f64 {
                node.attribute(name).and_then(|value| value.parse().ok()).expect("a number")
            };
            let words = node.text().unwrap_or_default().trim().to_string();
            let is_bold = node.attribute("font-weight") == Some("bold");
            let face: &[u8] = if is_bold { bold } else { regular };
            let font = FontRef::try_from_slice(face).expect("a font");
            let size = number("font-size");
            let scale = size / f64::from(font.units_per_em().expect("known"));
            let advances = words.chars().map(|c| font.h_advance_unscaled(font.glyph_id(c)));
            let width = scale * advances.map(f64::from).sum::<f64>();
            let left = match node.attribute("text-anchor") {
                Some("middle") => number("x") - 0.5 * width,
                Some("end") => number("x") - width,
                _ => number("x"),
            };
            // From the top of capitals to the baseline, below the point that a text hangs from.
            let (top, bottom) = (number("y") + 0.1 * size, number("y") + 0.76 * size);
            (words, [left, left + width, top, bottom])
        })
        .collect();
    let mut found = Vec::new();
    for (n, (words, a)) in boxes.iter().enumerate() {
        if a[0] < view[0] || a[1] > view[0] + view[2] || a[3] > view[1] + view[3] {
            found.push(format!("'{words}' leaves the page"));
        }
        for (other, b) in &boxes[n + 1..] {
            if a[0] < b[1] && b[0] < a[1] && a[2] < b[3] && b[2] < a[3] {
                found.push(format!("'{words}' and '{other}'"));
            }
        }
    }
    found
}

#[test]
fn a_spectrum_shows_its_curve_and_a_mark_for_each_tone() {
    let drawn = Drawn::of(&study(), "spectrum cut0.wav");
    // One more stands in the legend.
    assert_eq!(drawn.marks(), drawn.count("peaks") + 1);
    let points: usize = drawn.points("polyline", CURVE).into_iter().sum();
    assert!(points > 2000, "{points}");
}

#[test]
fn pitch_and_partials_show_every_frame_of_their_tracks() {
    let bench = study();
    let drawn = Drawn::of(&bench, "pitch tone.wav");
    let voiced = drawn.result["track"].as_array().expect("a track").iter();
    let voiced = voiced.filter(|point| point["voiced"] == true).count();
    let points: usize = drawn.points("polyline", TRACK).into_iter().sum();
    assert!((voiced..=voiced + 4).contains(&points), "{points} of {voiced}");
    let drawn = Drawn::of(&bench, "partials cut0.wav --tracks");
    let tracks = drawn.result["tracks"].as_array().expect("tracks");
    let long =
        tracks.iter().filter(|track| track["level_db"].as_array().is_some_and(|l| l.len() > 20));
    let lines = drawn.points("polyline", TRACK);
    assert!(lines.len() >= long.count() && lines.iter().sum::<usize>() > 1000, "{lines:?}");
    // Tones off the series stand beside them, dashed.
    let dashes = |others: &str| {
        let lines =
            Drawn::of(&bench, &format!("partials others.wav{others}")).points("polyline", TRACK);
        lines.iter().filter(|points| **points == 2).count()
    };
    let (without, with) = (dashes(""), dashes(" --others"));
    assert!(with > without + 20, "{with} dashes, {without} without");
}

#[test]
fn timbre_shows_its_descriptors_over_time() {
    let drawn = Drawn::of(&study(), "timbre tone.wav");
    for colour in [CURVE, SECOND_CURVE] {
        let points: usize = drawn.points("polyline", colour).into_iter().sum();
        assert!(points > 300, "{colour}: {points}");
    }
}

#[test]
fn tuning_shows_a_mark_for_each_note_and_each_stiffness() {
    let drawn = Drawn::of(&study(), "tuning cut0.wav cut1.wav tone.wav");
    let notes = drawn.result["notes"].as_array().expect("notes");
    let stiff = notes.iter().filter(|note| !note["inharmonicity"].is_null()).count();
    assert!(notes.len() == 3 && stiff >= 2, "{notes:?}");
    // The tone has no stiffness to be drawn on a logarithmic axis.
    assert!((notes.len() + 2..=notes.len() + stiff).contains(&drawn.marks()), "{}", drawn.marks());
}

#[test]
fn a_unison_shows_a_row_and_a_distance_for_each_partial() {
    let drawn = Drawn::of(&study(), "unison pair.wav --before cut0.wav");
    let judged = (drawn.result["partials"].as_array().expect("partials").iter())
        .filter(|partial| !partial["beat_hz"].is_null())
        .count();
    assert!(judged >= 6, "{}", drawn.result);
    assert_eq!(drawn.marks(), judged);
    // Fitted courses, the line of the distances, and the sign of the legend.
    let fitted = drawn.points("polyline", CURVE);
    assert_eq!(fitted.len(), judged + 2, "{fitted:?}");
    assert!(fitted.iter().filter(|points| **points > 50).count() > judged, "{fitted:?}");
    assert!(drawn.points("polyline", SECOND_CURVE).len() > judged / 2);
}

#[test]
fn a_modulation_shows_its_envelope_its_depth_and_its_rates() {
    let bench = study();
    let voice = "tone frequency=700Hz level=-20dB tremolo-rate=6Hz tremolo-depth=0.5";
    let words = ["signal", voice, "--duration", "6s", "--output", "fan.wav", "--quiet"];
    assert_eq!(bench.run_words(&words).status, 0);
    let drawn = Drawn::of(&bench, "modulation fan.wav");
    let lines = drawn.points("polyline", CURVE);
    // Both sides of the envelope; depth over time; the spectrum of the envelope; the legend.
    let long = lines.iter().filter(|points| **points > 1000).count();
    assert_eq!(long, 2, "{lines:?}");
    let moments = drawn.count("course");
    assert!(lines.contains(&moments), "{moments} of {lines:?}");
    assert!(lines.len() == 5 && drawn.count("spectrum") > 100, "{lines:?}");
}

#[test]
fn levels_show_a_bar_for_each_band_and_weighting() {
    let bench = study();
    let drawn = Drawn::of(&bench, "bands cut0.wav");
    assert_eq!(drawn.points("polygon", CURVE).len(), drawn.count("bands") + 3);
    // Two ends of each step of the course.
    let longest = drawn.points("polyline", CURVE).into_iter().max();
    let text = bench.run("bands cut0.wav --course --format csv --quiet").out;
    assert_eq!(longest, Some(2 * (text.lines().count() - 1)));
    let both = Drawn::of(&bench, "bands cut0.wav --channel 1,1 --fraction 1");
    let bars = both.points("polygon", SECOND_CURVE).len();
    assert!(bars >= both.count("bands") + 3, "{bars}");
}

#[test]
fn loudness_is_shown_along_the_ear_over_time_and_as_what_bands_would_save() {
    let bench = study();
    let one = Drawn::of(&bench, "loudness tone.wav --assume full-scale=94dB");
    // Beside dashes there are the specific loudness and the course.
    let lines = one.points("polyline", CURVE);
    let curves: Vec<usize> = lines.into_iter().filter(|points| *points > 2).collect();
    assert_eq!(curves, [one.count("specific"), 200]);
    let both = Drawn::of(&bench, "loudness tone.wav --channel 1,1 --assume full-scale=94dB");
    assert_eq!(both.points("polyline", CURVE).iter().filter(|n| **n == 240).count(), 1);
    assert_eq!(both.points("polyline", SECOND_CURVE).iter().filter(|n| **n == 240).count(), 1);
    // A bar for each critical band, and the signs.
    let bars = both.points("polygon", CURVE).len() + both.points("polygon", SECOND_CURVE).len();
    assert!((20..=26).contains(&bars), "{bars}");
}

#[test]
fn a_transfer_shows_what_is_coherent_and_leaves_the_rest_blank() {
    let bench = study();
    let line = "transfer cut0.wav cut0.wav --curve";
    let drawn = Drawn::of(&bench, line);
    let curve = &drawn.result["curve"];
    let points = curve["frequency_hz"].as_array().expect("points").len();
    let kept = curve["magnitude_db"].as_array().expect("points");
    let kept = kept.iter().filter(|db| !db.is_null()).count();
    let of = |colour: &str| drawn.points("polyline", colour).into_iter().sum::<usize>();
    assert_eq!(of(BAND), points);
    // Points alone are drawn as dashes.
    assert!((kept..kept + kept / 5 + 9).contains(&of(CURVE)), "{} of {kept}", of(CURVE));
}

#[test]
fn a_room_shows_the_decay_of_each_band_with_its_lines() {
    let drawn = Drawn::of(&study(), "room burst.wav");
    let bands = drawn.count("bands");
    let curves = drawn.points("polyline", CURVE).into_iter().filter(|points| *points > 60).count();
    // A decay for each band, and the level over time.
    assert_eq!(curves, bands + 1);
    let known = drawn.result["bands"].as_array().expect("bands");
    let known = known.iter().filter(|band| !band["t20_s"].is_null()).count();
    // Each band that has one has its line and its uncertainty; beside them the times over bands.
    let lines = drawn.points("polyline", SECOND_CURVE);
    let ends = lines.iter().filter(|points| **points == 2).count();
    assert!((2 * known..=2 * known + 2).contains(&ends), "{ends} of {known}");
    let thirds = Drawn::of(&study(), "room burst.wav --fraction 3 --range 100Hz..5kHz");
    assert_eq!(thirds.count("bands"), 18);
}

#[test]
fn a_pass_shows_the_law_of_each_tone() {
    let drawn = Drawn::of(&study(), "passby pass.wav");
    let laws = drawn.points("polyline", TRACK).into_iter().filter(|points| *points > 200).count();
    assert_eq!(laws, drawn.count("tones"));
}

#[test]
fn notes_stand_on_their_staves_beside_their_spectrum() {
    const HEAD: char = '\u{e0a4}';
    let signs = |drawn: &Drawn, sign: char| drawn.svg.matches(sign).count();
    let chord = Drawn::of(&study(), "notate cut0.wav --chord-at 0.5s --steps quarter");
    assert_eq!(signs(&chord, HEAD), chord.count("notes"));
    assert_eq!(chord.marks(), chord.count("notes"));
    let notes = chord.result["notes"].as_array().expect("notes");
    let sharps = notes.iter().filter(|note| {
        let name = note["note"].as_str().expect("a name");
        name.contains('#') && !name.contains(['+', '-'])
    });
    assert_eq!(signs(&chord, '\u{e262}'), sharps.count());
    // Two octaves above the treble clef, that again, and the bass.
    for clef in ['\u{e054}', '\u{e050}', '\u{e062}'] {
        assert_eq!(signs(&chord, clef), 1);
    }
    assert!(chord.svg.contains("Staff Signs"), "the font is embedded");
    let phrase = Drawn::of(&study(), "notate tone.wav");
    assert_eq!(signs(&phrase, HEAD), phrase.count("notes"));
    let courses = phrase.points("polyline", CURVE).into_iter().filter(|points| *points > 50);
    assert_eq!(courses.count(), phrase.count("notes"));
    Drawn::of(&study(), "notate cut0.wav --partials --most 30");
}

#[test]
fn an_insulation_shows_a_mark_for_each_band_and_the_deviations() {
    let drawn = Drawn::of(&study(), "isolation --source cut0.wav --receiver cut1.wav");
    let bands = drawn.count("bands");
    for colour in [CURVE, SECOND_CURVE] {
        let lines = drawn.points("polyline", colour);
        assert!(lines.contains(&bands), "{colour}: {lines:?} of {bands}");
    }
    let deviations = drawn.points("polygon", "#C43D21").len();
    assert!(deviations > 0 && deviations <= 16, "{deviations}");
}

#[test]
fn a_comparison_shows_both_curves_and_a_bar_for_each_band() {
    let drawn = Drawn::of(&study(), "compare cut0.wav cut1.wav");
    for colour in [CURVE, SECOND_CURVE] {
        let points: usize = drawn.points("polyline", colour).into_iter().sum();
        assert!(points > 300, "{colour}: {points}");
    }
    let bars = drawn.points("polygon", BAND).len() + drawn.points("polygon", CURVE).len();
    let bands = drawn.count("bands");
    assert!(bars >= bands && bars <= bands + 8, "{bars} bars of {bands} bands");
}

#[test]
fn a_trend_shows_its_values_its_line_and_its_band() {
    let drawn = Drawn::of(&study(), "trend --quantity partials.f0_hz --over cut");
    assert_eq!(drawn.marks(), 3);
    assert_eq!(drawn.points("polyline", BAND), [41]);
    assert_eq!(drawn.points("polygon", BAND), [82]);
}

#[test]
fn a_waterfall_shows_spectrum_after_spectrum() {
    let drawn = Drawn::of(&study(), "spectrogram cut0.wav --waterfall");
    let spectra = drawn.points("polyline", CURVE);
    assert!(spectra.len() > 30 && spectra.iter().all(|points| *points > 100), "{spectra:?}");
}
