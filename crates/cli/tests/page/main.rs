//! The report in a real browser: it opens without errors, its charts are drawn, zoomed and read,
//! and on paper nothing is cut.
//!
//! Needs Chromium and its driver, as Debian's packages chromium and chromium-driver bring them.
//! Where they are not installed the page is not looked at, unless TONEMAP_BROWSER=required says
//! that it must be.

mod browser;

use std::path::Path;
use std::time::{Duration, Instant};

use assert_cmd::Command;
use browser::Browser;
use serde_json::{Value, json};
use tonemap_core::synth::{self, PluckedString};
use tonemap_media::{WavEncoding, write_wav};

/// A study of three strings, and its report.
fn report(folder: &Path) {
    for (n, hz) in [196.0, 197.0, 198.5].into_iter().enumerate() {
        let string = PluckedString { frequency_hz: hz, ..PluckedString::default() };
        let samples = synth::to_samples(&string.render(48_000.0, 2.0));
        let file = std::fs::File::create(folder.join(format!("string-turn{n}.wav"))).expect("made");
        write_wav(file, 48_000, &[samples], WavEncoding::Integer(24)).expect("written");
    }
    let run = |arguments: &[&str]| {
        let mut command = Command::cargo_bin("tonemap").expect("the program is built");
        command.current_dir(folder).args(arguments).assert().success();
    };
    run(&["study", "make", ".", "--title", "Alder Hall <script>alert('!')</script> & harp"]);
    let pattern = "string-turn{turn}.wav";
    run(&[
        "study",
        "add",
        "string-turn0.wav",
        "string-turn1.wav",
        "string-turn2.wav",
        "--pattern",
        pattern,
    ]);
    // The study's own pitch, and a condition whose name would be a link.
    let file = folder.join("study.toml");
    let study = std::fs::read_to_string(&file).expect("a study");
    let study =
        study.replace("= 440.0", "= 442.0").replace("turn = ", &format!("'{LINK}' = 0, turn = "));
    std::fs::write(file, study).expect("written");
    let trend = format!("pitch.notes[1].f0_hz over {LINK}");
    let usual = ["--trend", "partials.f0_hz over turn", "--trend", "timbre.centroid_hz over turn"];
    let pair = ["--pair", "string-turn0 string-turn2"];
    let words =
        [&["report", "--sound", "--quiet", "--trend", &trend], &usual[..], &pair[..]].concat();
    run(&words);
}

/// A name that is a link to those who read tags in it.
const LINK: &str = "<a href=\"https://example.org/x\">k</a>";

/// Whether a browser is there; where it must be, it is missed.
fn browser() -> Option<Browser> {
    let browser = Browser::start();
    let is_required = std::env::var("TONEMAP_BROWSER").is_ok_and(|wish| wish == "required");
    assert!(browser.is_some() || !is_required, "no chromedriver was found");
    if browser.is_none() {
        eprintln!("no chromedriver: the page was not looked at");
    }
    browser
}

fn wait_for(browser: &Browser, script: &str) -> Value {
    let begun = Instant::now();
    loop {
        let value = browser.run(script);
        if value != Value::Null && value != json!(false) && value != json!("") {
            return value;
        }
        assert!(begun.elapsed() < Duration::from_secs(30), "in vain: {script}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// Left, top, width and height of an element.
fn place(browser: &Browser, selector: &str) -> [f64; 4] {
    let script = format!(
        "const e = document.querySelector('{selector}'); e.scrollIntoView({{block: 'center'}});
         const b = e.getBoundingClientRect(); return [b.left, b.top, b.width, b.height];"
    );
    let values = browser.run(&script);
    [0, 1, 2, 3].map(|n| values[n].as_f64().expect("a place"))
}

#[test]
fn the_page_opens_zooms_reads_and_prints() {
    let folder = tempfile::tempdir().expect("a folder");
    report(folder.path());
    let page = folder.path().join("report.html");
    let size = std::fs::metadata(&page).expect("written").len();
    assert!(size < 8_000_000, "{size} bytes");
    let Some(browser) = browser() else { return };
    browser.open(&format!("file://{}", page.display()));
    // What the study says is text, and stays so.
    assert_eq!(
        browser.run("return document.querySelector('h1').textContent"),
        json!("Alder Hall <script>alert('!')</script> & harp")
    );
    let charts = wait_for(&browser, "return document.querySelectorAll('.chart').length");
    // Two of each take at least, a comparison, two trends.
    assert!(charts.as_u64().is_some_and(|count| count >= 9), "{charts}");
    browser.run("window.drawAll()");
    wait_for(
        &browser,
        "return [...document.querySelectorAll('.chart')].every((c) => c.dataset.drawn === 'done'
           && c.querySelector('svg.main-svg .plot, svg.main-svg .cartesianlayer') !== null)",
    );
    names_are_no_links(&browser);
    zooms_and_reads(&browser);
    reads_the_map(&browser);
    walks_by_keys(&browser);
    switches_curves(&browser);
    fits_on_paper(&browser);
    assert_eq!(browser.errors(), Vec::<String>::new());
    asks_nothing_from_outside(&browser);
}

/// Nothing that the page might be made to ask for would come.
fn asks_nothing_from_outside(browser: &Browser) {
    let asked = "return fetch('https://example.org/').then(() => 'came', () => 'refused')";
    assert_eq!(wait_for(browser, asked), json!("refused"));
    let said = browser.errors();
    assert!(said.iter().any(|error| error.contains("Content Security Policy")), "{said:?}");
}

fn names_are_no_links(browser: &Browser) {
    let links = "return document.querySelectorAll('.main-svg a, a[href^=\"http\"]').length";
    assert_eq!(browser.run(links), json!(0));
    let titles =
        "return [...document.querySelectorAll('#trend-0-chart text')].map((t) => t.textContent)";
    let titles = browser.run(titles);
    let is_there = titles.as_array().is_some_and(|all| all.iter().any(|title| *title == LINK));
    assert!(is_there, "the name stands as it was given: {titles}");
}

fn zooms_and_reads(browser: &Browser) {
    let [left, top, width, height] = place(browser, "#take-0-spectrum .plot");
    let across = |share: f64| (left + share * width, top + 0.4 * height);
    browser.hover(across(0.5));
    let words =
        wait_for(browser, "return document.querySelector('#take-0-spectrum output').textContent");
    let words = words.as_str().expect("words");
    assert!(
        words.contains(" Hz (") && words.contains("cent): ") && words.contains(" dB "),
        "{words}"
    );
    // Cents are counted from the study's A4 of 442 Hz.
    let words = words.replace('\u{2212}', "-");
    let (hz, rest) = words.split_once(" Hz (").expect("a frequency");
    let cents = rest.split(' ').nth(1).and_then(|cents| cents.parse::<f64>().ok()).expect("cents");
    let hz: f64 = hz.rsplit(' ').next().and_then(|hz| hz.parse().ok()).expect("a frequency");
    let place = 12.0 * (hz / 442.0).log2();
    let truth = 100.0 * (place - place.round());
    assert!((cents - truth).abs() < 1.0, "{words}: {truth}");
    let range = "return document.querySelector('#take-0-spectrum .plot').layout.xaxis.range";
    let before = browser.run(range);
    browser.drag(across(0.45), across(0.6));
    let zoomed = wait_for(
        browser,
        &format!("const r = (() => {{ {range} }})(); return r[0] !== {} && r", before[0]),
    );
    let span =
        |range: &Value| range[1].as_f64().expect("an end") - range[0].as_f64().expect("an end");
    assert!(span(&zoomed) < 0.3 * span(&before), "{before} {zoomed}");
}

fn reads_the_map(browser: &Browser) {
    // The first partial, half a second after the pluck: loud; between partials far above all:
    // quiet.
    let at = |hz: f64| {
        let script = format!(
            "const g = document.querySelector('#take-0-map .plot'); g.scrollIntoView({{block: 'center'}});
             const b = g.getBoundingClientRect(); const {{xaxis, yaxis}} = g._fullLayout;
             return [b.left + xaxis._offset + xaxis.d2p(0.5), b.top + yaxis._offset + yaxis.d2p({hz})];"
        );
        let point = browser.run(&script);
        (point[0].as_f64().expect("a place"), point[1].as_f64().expect("a place"))
    };
    let level = |hz: f64| {
        browser.run("document.querySelector('#take-0-map output').textContent = ''");
        browser.hover(at(hz));
        let words =
            wait_for(browser, "return document.querySelector('#take-0-map output').textContent");
        let words = words.as_str().expect("words").replace('\u{2212}', "-");
        let level = words.split(": ").nth(1).expect("a level").replace("at most ", "");
        level.split(' ').next().and_then(|number| number.parse::<f64>().ok()).expect("a number")
    };
    let (loud, quiet) = (level(196.0), level(18_000.0));
    assert!(loud > quiet + 40.0, "{loud} {quiet}");
}

fn walks_by_keys(browser: &Browser) {
    browser.run("document.querySelector('#trend-1-chart .plot').focus()");
    browser.press("\u{e014}");
    let words =
        wait_for(browser, "return document.querySelector('#trend-1-chart output').textContent");
    assert!(words.as_str().is_some_and(|words| words.starts_with("turn 0")), "{words}");
}

fn switches_curves(browser: &Browser) {
    let chart = "#compare-0-0 ~ figure .plot";
    let shown = format!(
        "return document.querySelector('{chart}').data.filter((t) => t.visible === 'legendonly').length"
    );
    assert_eq!(browser.run(&shown), json!(0));
    let [left, top, width, height] = place(browser, &format!("{chart} .legendtoggle"));
    browser.click((left + 0.5 * width, top + 0.5 * height));
    wait_for(browser, &format!("return (() => {{ {shown} }})() === 1"));
}

fn fits_on_paper(browser: &Browser) {
    let pdf = browser.print();
    assert!(pdf.starts_with(b"%PDF"), "a document");
    // As wide as an A4 page between its margins, at 96 dots per inch.
    browser.emulate_paper(688, 1000);
    wait_for(
        browser,
        "window.dispatchEvent(new Event('beforeprint')); return matchMedia('print').matches",
    );
    let wide = wait_for(
        browser,
        "const cut = [...document.querySelectorAll('h1, p, table, dl, .plot .main-svg, .findings li')]
           .filter((e) => e.getBoundingClientRect().right > innerWidth + 1)
           .map((e) => `${e.tagName} ${e.className.baseVal || e.className} ${e.getBoundingClientRect().right}`);
         return [document.documentElement.scrollWidth <= innerWidth, cut]",
    );
    assert_eq!(wide, json!([true, []]));
    let low = browser.run(
        "return [...document.querySelectorAll('.chart')].filter((c) =>
           c.querySelector('.main-svg').getBoundingClientRect().bottom > c.getBoundingClientRect().bottom + 1).length",
    );
    assert_eq!(low, json!(0), "charts reach into what follows them");
}
