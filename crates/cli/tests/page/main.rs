//! The report in a real browser: it opens without errors, its charts are drawn, zoomed together and
//! read, tables sort, filter and copy, the sound has its place in the spectrogram, what is folded
//! opens, all can be reached and read by everyone, and on paper nothing is cut.
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

const PITCHES_HZ: [f64; 3] = [196.0, 197.0, 198.5];

/// A study of three strings, and its report.
fn report(folder: &Path) {
    for (n, hz) in PITCHES_HZ.into_iter().enumerate() {
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
    // And a take whose name would be a picture.
    std::fs::copy(folder.join("string-turn0.wav"), folder.join(PICTURE)).expect("copied");
    let with = format!("inspect '{PICTURE}'");
    let ear = "loudness string-turn0 --assume 'full-scale = 94dB'";
    let more = ["--with", "unison string-turn0", "--with", &with, "--with", ear];
    let begin = ["report", "--sound", "--quiet", "--trend", &trend];
    let words = [&begin, &usual[..], &pair[..], &more[..]].concat();
    run(&words);
}

/// A name that is a link to those who read tags in it.
const LINK: &str = "<a href=\"https://example.org/x\">k</a>";

/// One that is a picture, and would run a script.
const PICTURE: &str = "x\"><img src=x onerror=document.title=1>.wav";

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
    // Without its sounds, of some 0.1 MB each, a page of 40 takes stays below 6 MB.
    let text = std::fs::read_to_string(&page).expect("text");
    let (_, drawing) = text.split_once("id=\"drawing\">").expect("what draws");
    let sounds: usize =
        text.split("src=\"data:audio/flac;base64,").skip(1).filter_map(|rest| rest.find('"')).sum();
    assert!(sounds > 0, "no sound is packed");
    let (_, measured) = text.split_once("id=\"measured-0\"").expect("measurements");
    let (measured, _) = measured.split_once("id=\"take-0\"").expect("takes");
    let own = size as usize - sounds - drawing.len() - measured.len();
    let of_40 = drawing.len() + own * 40 / PITCHES_HZ.len();
    println!("{size} bytes, {own} of three takes without sounds; 40 takes: {of_40}");
    assert!(of_40 < 6_000_000, "{of_40} bytes of 40 takes");
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
    zooms_together(&browser);
    sorts_filters_and_copies(&browser);
    folds_and_follows(&browser);
    plays(&browser);
    reads_the_map(&browser);
    reads_what_the_ear_hears(&browser);
    walks_by_keys(&browser);
    switches_curves(&browser);
    is_for_everyone(&browser);
    folds_its_contents_on_a_phone(&browser);
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
    assert_eq!(browser.run("return document.querySelectorAll('img').length"), json!(0));
    assert_ne!(browser.run("return document.title"), json!("1"));
    let heads =
        browser.run("return [...document.querySelectorAll('h3')].map((h) => h.textContent)");
    let is_named = |head: &Value| head.as_str().is_some_and(|text| text.contains("<img src=x"));
    assert!(heads.as_array().is_some_and(|all| all.iter().any(is_named)), "{heads}");
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

/// The spectrogram shows the frequencies that the spectrum was zoomed to; a double click in either
/// gives all back.
fn zooms_together(browser: &Browser) {
    let range = |chart: &str, axis: &str| {
        let script =
            format!("return document.querySelector('#{chart} .plot')._fullLayout.{axis}.range");
        let range = browser.run(&script);
        [0, 1].map(|n| range[n].as_f64().expect("an end"))
    };
    let same = |a: [f64; 2], b: [f64; 2]| a.iter().zip(b).all(|(a, b)| (a - b).abs() < 1e-6);
    let whole = [20f64.log10(), 20_000f64.log10()];
    let (spectrum, map) = (range("take-0-spectrum", "xaxis"), range("take-0-map", "yaxis"));
    assert!(same(spectrum, map), "{spectrum:?} {map:?}");
    assert!(!same(range("take-1-map", "yaxis"), map), "another take has its own");
    browser.run(
        "const g = document.querySelector('#take-0-map .plot');
         Plotly.relayout(g, {'xaxis.range': [0.5, 1.0]})",
    );
    wait_for(
        browser,
        "const r = document.querySelector('#take-0-partials .plot')._fullLayout.xaxis.range;
         return r[0] === 0.5 && r[1] === 1",
    );
    browser.run(
        "Plotly.relayout(document.querySelector('#take-0-spectrum .plot'), {'xaxis.autorange': true})",
    );
    wait_for(
        browser,
        &format!(
            "const r = document.querySelector('#take-0-map .plot')._fullLayout.yaxis.range;
             return Math.abs(r[0] - {}) < 0.05",
            whole[0]
        ),
    );
}

fn sorts_filters_and_copies(browser: &Browser) {
    let click = |selector: &str| {
        let [left, top, width, height] = place(browser, selector);
        browser.click((left + 0.5 * width, top + 0.5 * height));
    };
    // The takes by their fundamental, which stands in the sixth column: up, then down.
    let names = "return [...document.querySelectorAll('#takes ~ .table tbody th')].map((t) => t.textContent.trim())";
    let up = json!(["string-turn0", "string-turn1", "string-turn2"]);
    let down = json!(["string-turn2", "string-turn1", "string-turn0"]);
    let head = "#takes ~ .table thead th:nth-child(6) button";
    click(head);
    assert_eq!(browser.run(names), up);
    click(head);
    assert_eq!(browser.run(names), down);
    let sort =
        "return document.querySelector('#takes ~ .table th[aria-sort]').getAttribute('aria-sort')";
    assert_eq!(browser.run(sort), json!("descending"));
    // Rows that hold a word, and those alone are copied.
    browser.run(
        "document.querySelectorAll('#take-0 ~ * .table, article[aria-labelledby=take-0] .table').forEach((t, n) => (t.id = `table-${n}`));
         Object.defineProperty(navigator, 'clipboard', {value: {writeText: async (text) => (window.copied = text)}})",
    );
    click("#table-0 input");
    for key in ["G", "3"] {
        browser.press(key);
    }
    let rows = "return [...document.querySelectorAll('#table-0 tbody tr')].filter((r) => !r.hidden).length";
    let shown = browser.run(rows).as_u64().expect("a number");
    assert!(shown >= 1, "the fundamental is a G3");
    click("#table-0 .tools button");
    let copied = wait_for(browser, "return window.copied || null");
    let copied = copied.as_str().expect("a text");
    let lines: Vec<&str> = copied.lines().collect();
    assert_eq!(lines.len() as u64, shown + 1, "{copied}");
    assert!(lines[0].contains("\"frequency, Hz\",± u,"), "{copied}");
    assert!(lines[1].contains("G3") && !copied.contains('\u{2212}'), "{copied}");
}

/// A link in the overview opens the take that it leads to, and the index shows where one is.
fn folds_and_follows(browser: &Browser) {
    browser.run("document.querySelector('article[aria-labelledby=take-2] > details').open = false");
    let [left, top, width, height] = place(browser, ".overview li:nth-child(3) a");
    browser.click((left + 0.5 * width, top + 0.5 * height));
    wait_for(
        browser,
        "return document.querySelector('article[aria-labelledby=take-2] > details').open",
    );
    wait_for(
        browser,
        "const a = document.querySelector('.index a[aria-current]'); return a && a.hash === '#take-2'",
    );
}

/// The line in the spectrogram stands where the sound is, and a click there goes to that time.
fn plays(browser: &Browser) {
    browser.run(
        "Plotly.relayout(document.querySelector('#take-0-map .plot'), {'xaxis.range': [0, 2]})",
    );
    browser.run("const a = document.querySelector('audio'); a.load(); a.preload = 'auto'");
    wait_for(browser, "return document.querySelector('audio').duration > 1.9");
    browser.run("document.querySelector('audio').currentTime = 0.5");
    let at = wait_for(
        browser,
        "const g = document.querySelector('#take-0-map .plot'); const line = g.querySelector('.playhead');
         if (!line || line.hidden) return null;
         return g._fullLayout.xaxis.p2d(parseFloat(line.style.left) - g._fullLayout.xaxis._offset)",
    );
    assert!((at.as_f64().expect("a time") - 0.5).abs() < 0.02, "{at}");
    let place = browser.run(
        "const g = document.querySelector('#take-0-map .plot'); g.scrollIntoView({block: 'center'});
         const b = g.getBoundingClientRect(); const {xaxis, yaxis} = g._fullLayout;
         return [b.left + xaxis._offset + xaxis.d2p(1.25), b.top + yaxis._offset + 40]",
    );
    browser.click((place[0].as_f64().expect("x"), place[1].as_f64().expect("y")));
    wait_for(browser, "return Math.abs(document.querySelector('audio').currentTime - 1.25) < 0.03");
}

/// On a wide screen, a common one and a phone, light and dark: nothing is wider than the screen, and
/// all can be reached, named and read.
fn is_for_everyone(browser: &Browser) {
    for size in [(1920, 1080), (1280, 800), (390, 844)] {
        for is_dark in [false, true] {
            browser.emulate_screen(size, is_dark);
            wait_for(
                browser,
                &format!(
                    "const paper = getComputedStyle(document.body).backgroundColor;
                     return innerWidth === {} && (paper === 'rgb(255, 255, 255)') !== {is_dark}",
                    size.0
                ),
            );
            // The charts follow.
            wait_for(
                browser,
                "const [plot, body] = ['.plot', 'body'].map((s) => document.querySelector(s));
                 return plot._fullLayout.paper_bgcolor === getComputedStyle(document.documentElement).getPropertyValue('--paper').trim()",
            );
            let faults = browser.run(include_str!("checks.js"));
            assert_eq!(faults, json!([]), "{size:?}, dark {is_dark}");
            let wide = "return document.documentElement.scrollWidth";
            let wide = browser.run(wide).as_u64().expect("a width");
            assert!(wide <= u64::from(size.0), "{wide} on {size:?}");
        }
    }
    browser.emulate_screen((1280, 800), false);
}

/// The contents stand closed above the page; opened, they lead to what is named.
fn folds_its_contents_on_a_phone(browser: &Browser) {
    browser.emulate_screen((390, 844), false);
    browser.run("scrollTo(0, 0); document.querySelector('.index > details').open = false");
    let click = |selector: &str| {
        let [left, top, width, height] = place(browser, selector);
        browser.click((left + 0.5 * width, top + 0.5 * height));
    };
    click(".index summary");
    wait_for(browser, "return document.querySelector('.index > details').open");
    let link = ".index > details > ul > li:last-child > a";
    click(link);
    wait_for(
        browser,
        &format!(
            "const hash = document.querySelector('{link}').hash;
             const top = document.querySelector(hash).getBoundingClientRect().top;
             return location.hash === hash && top > -5 && top < innerHeight"
        ),
    );
    browser.emulate_screen((1280, 800), false);
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

/// Over critical bands the cursor says the band and its specific loudness: a G3 has its first
/// partial at 1.9 Bark, and nothing at 23.
fn reads_what_the_ear_hears(browser: &Browser) {
    let chart = "#measured-2-ear";
    let specific = |bark: f64| {
        let place = browser.run(&format!(
            "const g = document.querySelector('{chart} .plot'); g.scrollIntoView({{block: 'center'}});
             document.querySelector('{chart} output').textContent = '';
             const b = g.getBoundingClientRect(); const {{xaxis, yaxis}} = g._fullLayout;
             return [b.left + xaxis._offset + xaxis.d2p(0.3), b.top + yaxis._offset + yaxis.d2p({bark})];"
        ));
        browser.hover((place[0].as_f64().expect("x"), place[1].as_f64().expect("y")));
        let script = format!("return document.querySelector('{chart} output').textContent");
        let words = wait_for(browser, &script);
        let words = words.as_str().expect("words");
        let (at, value) = words.split_once(" Bark: ").expect(words);
        assert!(at.ends_with(&format!("{bark:.1}")) && value.ends_with(" sone/Bark"), "{words}");
        value.split(' ').next().and_then(|number| number.parse::<f64>().ok()).expect("a number")
    };
    let (loud, quiet) = (specific(1.9), specific(23.0));
    assert!(loud > 0.5 && quiet < 0.1 * loud, "{loud} {quiet}");
}

fn walks_by_keys(browser: &Browser) {
    browser.run("document.querySelector('#trend-1-chart .plot').focus()");
    browser.press("\u{e014}");
    let words =
        wait_for(browser, "return document.querySelector('#trend-1-chart output').textContent");
    assert!(words.as_str().is_some_and(|words| words.starts_with("turn 0")), "{words}");
}

fn switches_curves(browser: &Browser) {
    let chart = "#compare-0-0-chart .plot";
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
