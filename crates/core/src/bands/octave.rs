//! Bands of 1/N octave: their middles, edges and names (IEC 61260-1:2014).

use serde::Serialize;

use crate::quantity::Key;

/// A stretch of frequency.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct Band {
    /// Its middle in Hz.
    pub center_hz: f64,
    /// Its edges in Hz.
    pub low_hz: f64,
    /// See above.
    pub high_hz: f64,
}

impl Band {
    /// The rounded middle that a band of 1/`fraction` octave is called by (IEC 61260-1:2014, annex
    /// E): 31.5 Hz, 160 Hz; of bands narrower than a third, three digits where the first is at most
    /// 4, else two.
    #[must_use]
    pub fn nominal_hz(&self, fraction: u32) -> f64 {
        /// The base-ten preferred numbers of IEC 61260-1:2014, table E.1, in a decade.
        const NAMES: [f64; 11] = [1.0, 1.25, 1.6, 2.0, 2.5, 3.15, 4.0, 5.0, 6.3, 8.0, 10.0];
        let decade = 10f64.powf(self.center_hz.log10().floor());
        if fraction > 3 {
            let steps = if self.center_hz < 5.0 * decade { 100.0 } else { 10.0 };
            // Multiplied by a power of ten: a quotient would leave digits behind the last.
            return (self.center_hz / decade * steps).round() * decade / steps;
        }
        let mut names = NAMES.iter().map(|name| name * decade);
        let near = names.find(|name| (self.center_hz / name - 1.0).abs() < 0.02);
        near.unwrap_or(self.center_hz)
    }

    /// Its name in words: 31.5 Hz.
    #[must_use]
    pub fn name(&self, fraction: u32) -> String {
        let hz = self.nominal_hz(fraction);
        format!("{hz:.*} Hz", usize::from(hz.fract() != 0.0))
    }

    /// Where it stands in a list of bands of 1/`fraction` octave.
    pub(crate) fn key(&self, fraction: u32) -> Key {
        // Names have digits enough for bands down to 1/24 octave.
        let is_named = fraction <= 24;
        Key::band("bands", if is_named { self.nominal_hz(fraction) } else { self.center_hz })
    }
}

/// Bands of 1/`fraction` octave in a range: middles and edges of IEC 61260-1:2014, base ten.
#[must_use]
pub fn octave_bands(fraction: u32, (low_hz, high_hz): (f64, f64)) -> Vec<Band> {
    let per = f64::from(fraction);
    let ratio = |steps: f64| 10f64.powf(0.3 * steps / per);
    let odd = fraction % 2 == 1;
    let band = |x: i32| {
        let steps = f64::from(x) + if odd { 0.0 } else { 0.5 };
        let center_hz = 1000.0 * ratio(steps);
        Band { center_hz, low_hz: center_hz * ratio(-0.5), high_hz: center_hz * ratio(0.5) }
    };
    let first = ((low_hz / 1000.0).log10() / 0.3 * per).floor() as i32 - 1;
    let last = ((high_hz / 1000.0).log10() / 0.3 * per).ceil() as i32 + 1;
    let inside =
        |band: &Band| (low_hz * ratio(-0.1)..=high_hz * ratio(0.1)).contains(&band.center_hz);
    (first..=last).map(band).filter(inside).collect()
}

/// Bands in words, those between the first and the last by their number.
pub(crate) fn names(bands: &[Band], fraction: u32) -> String {
    let name = |band: Option<&Band>| band.map_or(String::new(), |band| band.name(fraction));
    match bands.len() {
        1 => format!("Band of {}", name(bands.first())),
        2 => format!("Bands of {} and {}", name(bands.first()), name(bands.last())),
        count => format!("{count} bands, {} to {}", name(bands.first()), name(bands.last())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bands_are_those_of_the_standard() {
        let thirds = octave_bands(3, (20.0, 20_000.0));
        assert_eq!(thirds.len(), 31);
        assert!((thirds[17].center_hz - 1000.0).abs() < 1e-9);
        assert!((thirds[0].center_hz - 19.953).abs() < 1e-3);
        assert!((thirds[17].high_hz - 1122.018).abs() < 1e-3);
        let neighbours = thirds
            .windows(2)
            .all(|pair| (pair[0].high_hz - pair[1].low_hz).abs() < 1e-9 * pair[1].low_hz);
        assert!(neighbours);
        assert_eq!(octave_bands(1, (20.0, 20_000.0)).len(), 10);
        assert_eq!([0, 2, 9, 30].map(|n| thirds[n].nominal_hz(3)), [20.0, 31.5, 160.0, 20_000.0]);
        let narrow = octave_bands(24, (900.0, 1100.0));
        let names: Vec<f64> = narrow.iter().map(|band| band.nominal_hz(24)).collect();
        assert_eq!(names, [900.0, 930.0, 960.0, 990.0, 1010.0, 1040.0, 1070.0]);
    }
}
