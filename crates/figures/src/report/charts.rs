//! Charts of the report, as the chart library reads them.

use base64::Engine;
use plotly::common::{DashType, ErrorData, ErrorType, Fill, Line, Marker, MarkerSymbol, Mode};
use plotly::layout::{Axis, AxisType, Layout, Margin};
use plotly::{Bar, Plot, Scatter};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use tonemap_core::Measured;
use tonemap_core::collection::Distribution;
use tonemap_core::loudness::Loudness;
use tonemap_core::spectrogram::Spectrogram;
use tonemap_core::trend::CourseValue;
use tonemap_core::units::db_from_power;

use crate::colours::{COLOURS, ColourMap, diverging};
use crate::error::Error;
use crate::theme;

/// A chart of the page.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Chart {
    /// What it is called in its section.
    pub name: String,
    /// What it shows, as its caption.
    pub caption: String,
    /// What is to be seen in it, for those who do not see it.
    pub said: String,
    /// Data and layout for the library, safe inside a script element.
    pub(crate) plot: String,
    /// What is read under the cursor: `frequency`, `time`, `map` or `value`.
    pub(crate) reading: String,
    /// Units of what is read: across and upwards.
    pub(crate) units: [String; 2],
    /// For a map: its picture, and the levels of its first and last colour.
    pub(crate) map: Option<MapPicture>,
}

/// The picture of a map.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct MapPicture {
    pub(crate) source: String,
    pub(crate) low: f64,
    pub(crate) high: f64,
    /// How the page calls its colours.
    pub(crate) colours: String,
}

impl MapPicture {
    /// The ends of its scale in words.
    pub(super) fn ends(&self) -> [String; 2] {
        [self.low, self.high].map(|end| end.to_string().replace('-', "\u{2212}"))
    }
}

/// A curve.
#[derive(Debug, Clone, Default)]
pub struct ChartCurve {
    /// Its name.
    pub name: String,
    /// Its points.
    pub x: Vec<f64>,
    /// See above.
    pub y: Vec<f64>,
}

/// The difference in a band.
#[derive(Debug, Clone)]
pub struct DrawnBand {
    /// Its middle in Hz, and its width.
    pub center_hz: f64,
    /// See above.
    pub width_hz: f64,
    /// The difference, and the least that would be real, in dB.
    pub difference_db: f64,
    /// See above.
    pub least_db: Option<f64>,
    /// Whether it is real.
    pub is_real: bool,
}

fn colour(n: usize) -> String {
    let plotters::style::RGBColor(r, g, b) = theme::category(n);
    format!("rgb({r},{g},{b})")
}

fn dash(n: usize) -> DashType {
    match n % 4 {
        0 => DashType::Solid,
        1 => DashType::Dash,
        2 => DashType::Dot,
        _ => DashType::DashDot,
    }
}

/// To so many digits behind the point: what is not read need not be stored.
fn rounded(values: &[f64], digits: i32) -> Vec<f64> {
    let scale = 10f64.powi(digits);
    values.iter().map(|value| (value * scale).round() / scale).collect()
}

fn axis(title: &str) -> Axis {
    Axis::new().title(title).show_line(true).mirror(true).zero_line(false)
}

fn layout() -> Layout {
    Layout::new()
        .auto_size(true)
        .margin(Margin::new().left(60).right(14).top(52).bottom(46))
        .hover_mode(plotly::layout::HoverMode::XUnified)
}

/// A curve as the n-th of several, with so many digits behind the point.
fn line_of(
    curve: &ChartCurve,
    n: usize,
    (across, upwards): (i32, i32),
    dash: DashType,
) -> Box<Scatter<f64, f64>> {
    Scatter::new(rounded(&curve.x, across), rounded(&curve.y, upwards))
        .mode(Mode::Lines)
        .name(&curve.name)
        .line(Line::new().color(colour(n)).width(1.4).dash(dash))
}

/// One panel over a logarithmic axis.
fn over_frequency(y_title: &str) -> Layout {
    layout().x_axis(axis("Frequency, Hz").type_(AxisType::Log)).y_axis(axis(y_title))
}

impl Chart {
    /// The class of its height: it has one panel, some, or a row for each curve.
    pub(super) fn height(&self) -> &'static str {
        let has = |axis: &str| self.plot.contains(&format!("\"{axis}\""));
        match (has("yaxis4"), has("yaxis2")) {
            (true, _) => " rows",
            (false, true) => " tall",
            (false, false) => "",
        }
    }

    fn new(
        name: &str,
        (caption, said): (&str, String),
        plot: &Plot,
        reading: &'static str,
        units: [&str; 2],
    ) -> Self {
        let mut value: Value = serde_json::from_str(&plot.to_json()).unwrap_or_default();
        for trace in value["data"].as_array_mut().into_iter().flatten() {
            take_literally(&mut trace["name"]);
        }
        for axis in value["layout"].as_object_mut().into_iter().flatten() {
            if let (true, Some(title)) = (axis.0.contains("axis"), axis.1.get_mut("title")) {
                take_literally(&mut title["text"]);
            }
        }
        Self {
            name: name.into(),
            caption: caption.into(),
            said,
            plot: script_safe(&value),
            reading: reading.into(),
            units: units.map(String::from),
            map: None,
        }
    }
}

/// The library reads tags in names and titles, of links and of bold type: they are names that users
/// gave, and stand as they are.
fn take_literally(text: &mut Value) {
    if let Some(words) = text.as_str() {
        *text = words.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").into();
    }
}

/// JSON that cannot end the script element it stands in.
fn script_safe(value: &Value) -> String {
    value.to_string().replace('<', "\\u003c")
}

/// A number in words, with so many digits as are looked at.
fn spoken(value: f64) -> String {
    let digits = (2 - value.abs().max(1e-3).log10().floor() as i32).clamp(0, 4) as usize;
    format!("{value:.digits$}")
}

/// The point with the greatest value of curves.
fn greatest(curves: &[ChartCurve]) -> Option<(f64, f64)> {
    let points = curves.iter().flat_map(|curve| curve.x.iter().zip(&curve.y));
    points.map(|(x, y)| (*x, *y)).max_by(|a, b| a.1.total_cmp(&b.1))
}

/// Where the curves are highest, in words.
fn highest(curves: &[ChartCurve], [across, upwards]: [&str; 2]) -> String {
    greatest(curves).map_or("No values".into(), |(x, y)| {
        format!("Highest {} {upwards} at {} {across}", spoken(y), spoken(x))
    })
}

/// Spectra over a logarithmic axis, with the tones marked.
#[must_use]
pub fn spectrum_chart(
    name: &str,
    caption: &str,
    curves: &[ChartCurve],
    tones: &ChartCurve,
    (y_title, unit): (&str, &str),
) -> Chart {
    let mut plot = Plot::new();
    for (n, curve) in curves.iter().enumerate() {
        plot.add_trace(line_of(curve, n, (3, 2), dash(n)));
    }
    if !tones.x.is_empty() {
        let marker = Marker::new().color(colour(1)).size(8).symbol(MarkerSymbol::Circle);
        let trace = Scatter::new(rounded(&tones.x, 4), rounded(&tones.y, 2))
            .mode(Mode::Markers)
            .name(&tones.name)
            .marker(marker);
        plot.add_trace(trace);
    }
    plot.set_layout(over_frequency(y_title));
    let said = highest(curves, ["Hz", unit]);
    Chart::new(name, (caption, said), &plot, "frequency", ["Hz", unit])
}

/// Values in bands over a logarithmic axis, each curve with its markers.
#[must_use]
pub fn bands_chart(
    name: &str,
    caption: &str,
    curves: &[ChartCurve],
    (y_title, unit): (&str, &str),
) -> Chart {
    let mut plot = Plot::new();
    for (n, curve) in curves.iter().enumerate() {
        let marker = Marker::new().color(colour(n)).size(6);
        plot.add_trace(line_of(curve, n, (3, 3), dash(n)).mode(Mode::LinesMarkers).marker(marker));
    }
    plot.set_layout(over_frequency(y_title));
    let said = highest(curves, ["Hz", unit]);
    Chart::new(name, (caption, said), &plot, "frequency", ["Hz", unit])
}

/// A transfer function: magnitude, phase and coherence over a logarithmic axis, one below the
/// other.
#[must_use]
pub fn response_chart(
    name: &str,
    caption: &str,
    frequency_hz: &[f64],
    [magnitude_db, phase_deg, coherence]: [&[Option<f64>]; 3],
) -> Chart {
    let mut plot = Plot::new();
    let panels = [
        ("magnitude", magnitude_db, "y", 2),
        ("phase", phase_deg, "y2", 1),
        ("coherence", coherence, "y3", 4),
    ];
    for (n, (of, values, place, digits)) in panels.into_iter().enumerate() {
        let scale = 10f64.powi(digits);
        let values = values.iter().map(|v| v.map(|v| (v * scale).round() / scale));
        let trace = Scatter::new(rounded(frequency_hz, 3), values.collect())
            .mode(Mode::Lines)
            .name(of)
            .line(Line::new().color(colour(n)).width(1.4))
            .y_axis(place);
        plot.add_trace(trace);
    }
    plot.set_layout(
        layout()
            .x_axis(axis("Frequency, Hz").type_(AxisType::Log).anchor("y3"))
            .y_axis(axis("Magnitude, dB").domain(&[0.56, 1.0]))
            .y_axis2(axis("Phase, °").domain(&[0.27, 0.5]).range(vec![-180.0, 180.0]))
            .y_axis3(axis("Coherence").domain(&[0.0, 0.21]).range(vec![0.0, 1.02])),
    );
    let known = frequency_hz.iter().zip(magnitude_db).filter_map(|(hz, db)| Some((*hz, (*db)?)));
    let (x, y) = known.unzip();
    let said = highest(&[ChartCurve { name: String::new(), x, y }], ["Hz", "dB"]);
    Chart::new(name, (caption, said), &plot, "frequency", ["Hz", "dB"])
}

/// Quantities over time.
#[must_use]
pub fn course_chart(
    name: &str,
    caption: &str,
    curves: &[ChartCurve],
    (y_title, unit): (&str, &str),
) -> Chart {
    let mut plot = Plot::new();
    for (n, curve) in curves.iter().enumerate() {
        plot.add_trace(line_of(curve, n, (4, 3), dash(n / 6)));
    }
    plot.set_layout(layout().x_axis(axis("Time, s")).y_axis(axis(y_title)));
    let said = highest(curves, ["s", unit]);
    Chart::new(name, (caption, said), &plot, "time", ["s", unit])
}

/// Two spectra, and below them on a scale of its own the difference in bands.
#[must_use]
pub fn difference_chart(
    name: &str,
    caption: &str,
    curves: &[ChartCurve],
    bands: &[DrawnBand],
    level_unit: &str,
) -> Chart {
    let mut plot = Plot::new();
    for (n, curve) in curves.iter().enumerate() {
        let line = Line::new().color(colour(n)).width(if n == 0 { 2.0 } else { 1.2 });
        let trace = Scatter::new(rounded(&curve.x, 3), rounded(&curve.y, 2))
            .mode(Mode::Lines)
            .name(&curve.name)
            .line(line);
        plot.add_trace(trace);
    }
    for (is_real, name, tint) in
        [(true, "difference", colour(2)), (false, "not distinguishable", "rgb(190,196,204)".into())]
    {
        let shown: Vec<&DrawnBand> = bands.iter().filter(|band| band.is_real == is_real).collect();
        if shown.is_empty() {
            continue;
        }
        let centers = rounded(&shown.iter().map(|band| band.center_hz).collect::<Vec<_>>(), 2);
        let values = rounded(&shown.iter().map(|band| band.difference_db).collect::<Vec<_>>(), 2);
        let mut bar = Bar::new(centers, values).name(name).marker(Marker::new().color(tint));
        bar = bar.y_axis("y2");
        plot.add_trace(bar);
    }
    for sign in [1.0, -1.0] {
        let known: Vec<&DrawnBand> = bands.iter().filter(|b| b.least_db.is_some()).collect();
        let x = rounded(&known.iter().map(|band| band.center_hz).collect::<Vec<_>>(), 2);
        let y: Vec<f64> = known.iter().map(|band| sign * band.least_db.unwrap_or(0.0)).collect();
        let line = Line::new().color("rgb(122,108,158)").width(1.0).dash(DashType::Dot);
        let trace = Scatter::new(x, rounded(&y, 2))
            .mode(Mode::Lines)
            .name("limit of significance")
            .show_legend(sign > 0.0)
            .line(line)
            .y_axis("y2");
        plot.add_trace(trace);
    }
    plot.set_layout(
        layout()
            .x_axis(axis("Frequency, Hz").type_(AxisType::Log).anchor("y2"))
            .y_axis(axis(&format!("Level, {level_unit}")).domain(&[0.42, 1.0]))
            .y_axis2(axis("Difference, dB").domain(&[0.0, 0.34])),
    );
    let real = bands.iter().filter(|band| band.is_real);
    let real: Vec<&DrawnBand> = real.collect();
    let most = real.iter().max_by(|a, b| a.difference_db.abs().total_cmp(&b.difference_db.abs()));
    let said = most.map_or("No band differs significantly".into(), |band| {
        let (by, at) = (spoken(band.difference_db), spoken(band.center_hz));
        format!("{} of {} bands differ, most by {by} dB at {at} Hz", real.len(), bands.len())
    });
    let mut chart = Chart::new(name, (caption, said), &plot, "frequency", ["Hz", "dB"]);
    // Bars as wide as their bands: on a logarithmic axis they cannot be given one width.
    if let Ok(mut value) = serde_json::from_str::<Value>(&chart.plot) {
        for trace in value["data"].as_array_mut().into_iter().flatten() {
            if trace["type"] == "bar" {
                let xs: Vec<f64> =
                    trace["x"].as_array().into_iter().flatten().filter_map(Value::as_f64).collect();
                let width = |x: &f64| {
                    let near = bands.iter().find(|band| (band.center_hz / x - 1.0).abs() < 1e-3);
                    near.map_or(0.2 * x, |band| 0.8 * band.width_hz)
                };
                trace["width"] = xs.iter().map(|x| json!(width(x))).collect();
            }
        }
        chart.plot = script_safe(&value);
    }
    chart
}

/// A quantity over a condition, with its curve and band.
#[must_use]
pub fn trend_chart(
    name: &str,
    caption: &str,
    points: &[(f64, Measured)],
    course: &[CourseValue],
    (x_title, y_title): (&str, &str),
) -> Chart {
    let mut plot = Plot::new();
    let of = |value: fn(&CourseValue) -> f64| course.iter().map(value).collect::<Vec<f64>>();
    if course.len() > 1 {
        let edge = Line::new().color("rgba(122,108,158,0.4)").width(0.5);
        let high = Scatter::new(of(|c| c.x), of(|c| c.high)).mode(Mode::Lines).line(edge.clone());
        plot.add_trace(high.show_legend(false).name("band"));
        let low = Scatter::new(of(|c| c.x), of(|c| c.low)).mode(Mode::Lines).line(edge);
        let low = low.fill(Fill::ToNextY).fill_color("rgba(122,108,158,0.18)");
        plot.add_trace(low.name("band of 95 %"));
        let line = Line::new().color("rgb(122,108,158)").width(1.8);
        let middle = Scatter::new(of(|c| c.x), of(|c| c.value)).mode(Mode::Lines).line(line);
        plot.add_trace(middle.name("fit"));
    }
    let bars: Vec<f64> =
        points.iter().map(|(_, v)| if v.u.is_finite() { 2.0 * v.u } else { 0.0 }).collect();
    let trace = Scatter::new(
        points.iter().map(|(x, _)| *x).collect(),
        points.iter().map(|(_, value)| value.value).collect::<Vec<f64>>(),
    )
    .mode(Mode::Markers)
    .name("measured, ± 2 u")
    .marker(Marker::new().color(colour(0)).size(9))
    .error_y(ErrorData::new(ErrorType::Data).array(bars));
    plot.add_trace(trace);
    plot.set_layout(layout().x_axis(axis(x_title)).y_axis(axis(y_title)));
    let said = match points {
        [(from, first), .., (to, last)] => format!(
            "{} at {}, {} at {}",
            spoken(first.value),
            spoken(*from),
            spoken(last.value),
            spoken(*to)
        ),
        _ => format!("{} values", points.len()),
    };
    Chart::new(name, (caption, said), &plot, "value", [x_title, y_title])
}

/// How a quantity is spread in groups: the median of each, with bars from 5 to 95 %.
#[must_use]
pub fn spread_chart(
    name: &str,
    caption: &str,
    groups: &[(String, Distribution)],
    (x_title, y_title): (&str, &str),
) -> Chart {
    let of = |value: fn(&Distribution) -> f64| groups.iter().map(|(_, one)| value(one)).collect();
    let bars = ErrorData::new(ErrorType::Data)
        .array(of(|one| one.high - one.median))
        .array_minus(of(|one| one.median - one.low));
    let names: Vec<String> = groups.iter().map(|(name, _)| name.clone()).collect();
    let medians: Vec<f64> = of(|one| one.median);
    let trace = Scatter::new(names, medians)
        .mode(Mode::Markers)
        .name("median, 5 to 95 %")
        .marker(Marker::new().color(colour(0)).size(9))
        .error_y(bars);
    let mut plot = Plot::new();
    plot.add_trace(trace);
    plot.set_layout(layout().x_axis(axis(x_title)).y_axis(axis(y_title)));
    let ends = |of: &dyn Fn(f64, f64) -> f64| groups.iter().map(|(_, one)| one.median).reduce(of);
    let said = match (ends(&f64::min), ends(&f64::max)) {
        (Some(low), Some(high)) => {
            format!("Medians of {} groups from {} to {}", groups.len(), spoken(low), spoken(high))
        }
        _ => "No values".into(),
    };
    Chart::new(name, (caption, said), &plot, "value", [x_title, y_title])
}

/// A spectrogram as a picture between axes. Noise, whose cells hardly repeat and so do not pack, is
/// drawn with half the columns in 32 steps of level.
///
/// # Errors
///
/// [`Error::Drawing`] if the picture cannot be encoded.
pub fn map_chart(
    name: &str,
    caption: &str,
    spectrogram: &Spectrogram,
    full_scale_db: f64,
    colours: ColourMap,
    level_unit: &str,
) -> Result<Chart, Error> {
    let (low, high) = spectrogram.usual_range_db().unwrap_or((-100.0, 0.0));
    let (low, high) = (low + full_scale_db, high + full_scale_db);
    let plan = &spectrogram.plan;
    let (width, height) = (plan.columns, plan.rows());
    let mut indices = vec![0u8; width * height];
    for x in 0..width {
        for (row, power) in spectrogram.column(x).iter().enumerate() {
            let level = db_from_power(f64::from(power.max(1e-37))) + full_scale_db;
            let share = (level - low) / (high - low);
            let index = (share * COLOURS as f64).clamp(0.0, (COLOURS - 1) as f64) as u8;
            indices[(height - 1 - row) * width + x] = index;
        }
    }
    let (from_hz, to_hz) = (plan.edges_hz[0], plan.edges_hz[height]);
    let table = colours.table();
    let fine = indexed_png(width, height, &indices, &table)?;
    let column_s = plan.span_s() / width as f64;
    let (png, drawn_s) = if fine.len() > LARGE_PICTURE_BYTES {
        let (width, indices) = coarser(width, &indices);
        (indexed_png(width, height, &indices, &table)?, 2.0 * column_s * width as f64)
    } else {
        (fine, plan.span_s())
    };
    let said = format!("Levels from {low:.0} to {high:.0} {level_unit}");
    let picture = Picture {
        png,
        colours: "map",
        drawn_s,
        across: (0.0, plan.span_s()),
        upwards: (from_hz.log10(), to_hz.log10()),
        axis: axis("Frequency, Hz").type_(AxisType::Log),
    };
    Ok(picture.chart(name, (caption, said), (low, high), level_unit))
}

/// A picture of more bytes is drawn coarser.
const LARGE_PICTURE_BYTES: usize = 42_000;

/// The louder of each two columns, in 32 steps of level; cells at the lower end stay there.
fn coarser(width: usize, indices: &[u8]) -> (usize, Vec<u8>) {
    const STEP: u8 = (COLOURS / 32) as u8;
    let stepped = |index: u8| if index == 0 { 0 } else { index / STEP * STEP + STEP / 2 };
    let pair = |pair: &[u8]| stepped(pair.iter().copied().max().unwrap_or(0));
    let rows = indices.chunks(width).flat_map(|row| row.chunks(2).map(pair));
    (width.div_ceil(2), rows.collect())
}

/// A picture between axes, before it is a chart.
struct Picture {
    png: Vec<u8>,
    /// How the page calls its colours.
    colours: &'static str,
    /// How long the picture is, from the start of the axis.
    drawn_s: f64,
    /// Time in seconds.
    across: (f64, f64),
    /// In the units of the axis.
    upwards: (f64, f64),
    axis: Axis,
}

impl Picture {
    fn chart(
        self,
        name: &str,
        words: (&str, String),
        (low, high): (f64, f64),
        unit: &str,
    ) -> Chart {
        let source = base64::engine::general_purpose::STANDARD.encode(self.png);
        let source = format!("data:image/png;base64,{source}");
        let ((from_s, to_s), (bottom, top)) = (self.across, self.upwards);
        let corners = Scatter::new(vec![from_s, to_s], vec![bottom, top])
            .mode(Mode::Markers)
            .opacity(0.0)
            .show_legend(false)
            .hover_info(plotly::common::HoverInfo::Skip);
        let mut plot = Plot::new();
        plot.add_trace(corners);
        let time = axis("Time, s").range(vec![from_s, to_s]).show_grid(false);
        let upwards = self.axis.range(vec![bottom, top]).show_grid(false);
        plot.set_layout(layout().x_axis(time).y_axis(upwards));
        let mut chart = Chart::new(name, words, &plot, "map", ["s", unit]);
        if let Ok(mut value) = serde_json::from_str::<Value>(&chart.plot) {
            value["layout"]["hovermode"] = json!(false);
            value["layout"]["images"] = json!([{
                "source": "map", "xref": "x", "yref": "y", "xanchor": "left", "yanchor": "top",
                "x": from_s, "y": top, "sizex": self.drawn_s, "sizey": top - bottom,
                "sizing": "stretch", "layer": "below",
            }]);
            chart.plot = script_safe(&value);
        }
        let colours = self.colours.to_string();
        chart.map = Some(MapPicture { source, low, high, colours });
        chart
    }
}

/// Specific loudness over time and critical-band rate; beside another sound its difference from
/// that, as long as there are both. `None` of a sound whose loudness was not followed.
///
/// # Errors
///
/// [`Error::Drawing`] if the picture cannot be encoded.
pub fn ear_chart(
    name: &str,
    caption: &str,
    loudness: &Loudness,
    less: Option<&Loudness>,
    colours: ColourMap,
) -> Result<Option<Chart>, Error> {
    /// Columns of a picture at most.
    const MOST: usize = 280;
    const BARK: (f64, f64) = (0.05, 24.05);
    let own = &loudness.stretches;
    let count = less.map_or(own.len(), |less| own.len().min(less.stretches.len()));
    let (Some(first), true) = (own.first(), count > 1) else { return Ok(None) };
    let stretches_per_column = count.div_ceil(MOST);
    let width = count / stretches_per_column;
    let height = first.specific.len();
    // Of what falls into one column, what is farthest from nothing.
    let cell = |x: usize, row: usize| -> f32 {
        let at = |n: usize| {
            let beside = less.map_or(0.0, |less| less.stretches[n].specific[row]);
            own[n].specific[row] - beside
        };
        let of = (0..stretches_per_column).map(|n| at(x * stretches_per_column + n));
        of.max_by(|a, b| a.abs().total_cmp(&b.abs())).unwrap_or(0.0)
    };
    let cells: Vec<f32> = (0..height)
        .rev()
        .flat_map(|row| (0..width).map(move |x| (x, row)))
        .map(|(x, row)| cell(x, row))
        .collect();
    let reach = cells.iter().fold(0.0f32, |most, sone| most.max(sone.abs())).max(1e-6);
    let table = if less.is_some() { diverging() } else { colours.table() };
    let share = |sone: f32| if less.is_some() { 0.5 + 0.5 * sone / reach } else { sone / reach };
    let index = |sone: &f32| (share(*sone) * COLOURS as f32).clamp(0.0, (COLOURS - 1) as f32) as u8;
    let indices: Vec<u8> = cells.iter().map(index).collect();
    let lasts_s = (width * stretches_per_column) as f64 * loudness.stretch_s;
    let from_s = first.time_s - 0.5 * loudness.stretch_s;
    let reach = f64::from(reach);
    let low = if less.is_some() { -reach } else { 0.0 };
    let said = format!("From {} to {} sone/Bark", spoken(low), spoken(reach));
    let picture = Picture {
        png: indexed_png(width, height, &indices, &table)?,
        colours: if less.is_some() { "difference" } else { "map" },
        drawn_s: lasts_s,
        across: (from_s, from_s + lasts_s),
        upwards: BARK,
        axis: axis("Critical-band rate, Bark"),
    };
    let to_three = |value: f64| (1e3 * value).round() / 1e3;
    let range = (to_three(low), to_three(reach));
    Ok(Some(picture.chart(name, (caption, said), range, "sone/Bark")))
}

/// Curves over time, each in a row of its own with the same scale.
#[must_use]
pub fn rows_chart(
    name: &str,
    caption: &str,
    curves: &[ChartCurve],
    (y_title, unit): (&str, &str),
) -> Chart {
    /// The library has so many axes.
    const MOST: usize = 8;
    const GAP: f64 = 0.02;
    let curves = &curves[..curves.len().min(MOST)];
    let values = curves.iter().flat_map(|curve| curve.y.iter().copied());
    let low = values.clone().fold(f64::INFINITY, f64::min).max(-40.0);
    let high = values.fold(f64::NEG_INFINITY, f64::max);
    let range = vec![low - 1.0, high + 1.0];
    let mut plot = Plot::new();
    let mut laid = layout();
    let each = 1.0 / curves.len().max(1) as f64;
    for (n, curve) in curves.iter().enumerate() {
        let trace = Scatter::new(rounded(&curve.x, 4), rounded(&curve.y, 3))
            .mode(Mode::Lines)
            .name(&curve.name)
            .line(Line::new().color(colour(0)).width(1.4))
            .show_legend(false);
        let place = if n == 0 { "y".to_string() } else { format!("y{}", n + 1) };
        plot.add_trace(trace.y_axis(place));
        let top = 1.0 - n as f64 * each;
        let row = axis(&curve.name).domain(&[top - each + GAP, top]).range(range.clone());
        laid = match n {
            0 => laid.y_axis(row),
            1 => laid.y_axis2(row),
            2 => laid.y_axis3(row),
            3 => laid.y_axis4(row),
            4 => laid.y_axis5(row),
            5 => laid.y_axis6(row),
            6 => laid.y_axis7(row),
            _ => laid.y_axis8(row),
        };
    }
    let last = if curves.len() > 1 { format!("y{}", curves.len()) } else { "y".into() };
    plot.set_layout(laid.x_axis(axis("Time, s").anchor(last)));
    let caption = format!("{caption}. {y_title}, one scale in all rows");
    let said = highest(curves, ["s", unit]);
    Chart::new(name, (&caption, said), &plot, "time", ["s", unit])
}

fn indexed_png(
    width: usize,
    height: usize,
    indices: &[u8],
    table: &[[u8; 3]; COLOURS],
) -> Result<Vec<u8>, Error> {
    let mut file = Vec::new();
    let mut encoder = png::Encoder::new(&mut file, width as u32, height as u32);
    encoder.set_color(png::ColorType::Indexed);
    encoder.set_depth(png::BitDepth::Eight);
    encoder.set_palette(table.as_flattened().to_vec());
    encoder.set_compression(png::Compression::Balanced);
    let mut writer = encoder.write_header().map_err(Error::drawing)?;
    writer.write_image_data(indices).map_err(Error::drawing)?;
    writer.finish().map_err(Error::drawing)?;
    Ok(file)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_coarser_picture_keeps_what_is_loud_where_it_is() {
        let (width, cells) = coarser(5, &[0, 0, 9, 200, 255, 7, 0, 0, 1, 3]);
        assert_eq!(width, 3);
        assert_eq!(cells, [0, 204, 252, 4, 4, 4]);
    }

    #[test]
    fn names_of_users_are_no_tags() {
        let curve = ChartCurve { name: "<b>k</b> & co".into(), x: vec![1.0], y: vec![2.0] };
        let title = r#"<a href="https://example.org/x">cut</a>"#;
        let chart = course_chart("id", "caption", &[curve], (title, "dB"));
        assert!(!chart.plot.contains('<'), "{}", chart.plot);
        let value: Value = serde_json::from_str(&chart.plot).expect("JSON");
        assert_eq!(value["data"][0]["name"], "&lt;b&gt;k&lt;/b&gt; &amp; co");
        let shown = value["layout"]["yaxis"]["title"]["text"].as_str().expect("a title");
        assert!(shown.starts_with("&lt;a href="), "{shown}");
    }
}
