//! Colour maps for pictures: even steps of lightness, so that equal differences of level look
//! equal.
//!
//! Each is a path in the Oklab space (B. Ottosson, "A perceptual color space for image processing",
//! 2020) along which the lightness changes evenly from end to end: read in grey, or by an eye that
//! does not distinguish some colours, it is as true as in colour.

use std::str::FromStr;

use crate::error::Error;

/// The colour maps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ColourMap {
    /// From near black through blue, violet and rose to cream.
    #[default]
    Ember,
    /// From near black through blue and green to pale yellow.
    Lagoon,
    /// From white to near black, for print: the louder the darker.
    Grey,
}

impl FromStr for ColourMap {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        match text {
            "ember" => Ok(Self::Ember),
            "lagoon" => Ok(Self::Lagoon),
            "grey" => Ok(Self::Grey),
            _ => Err(Error::Colours { given: text.into() }),
        }
    }
}

/// Colours of a map.
pub(crate) const COLOURS: usize = 256;

impl ColourMap {
    /// The colours from the quietest to the loudest.
    #[must_use]
    pub fn table(self) -> [[u8; 3]; COLOURS] {
        let mut table = [[0; 3]; COLOURS];
        for (n, colour) in table.iter_mut().enumerate() {
            let share = n as f64 / (COLOURS - 1) as f64;
            // Lightness, chroma and hue in degrees along the path.
            let (lightness, chroma, hue) = match self {
                Self::Ember => (0.13 + 0.84 * share, 0.18 * bow(share), 255.0 + 190.0 * share),
                Self::Lagoon => (0.13 + 0.84 * share, 0.14 * bow(share), 275.0 - 165.0 * share),
                Self::Grey => (1.0 - 0.87 * share, 0.0, 0.0),
            };
            *colour = within_gamut(lightness, chroma, hue.to_radians());
        }
        table
    }
}

/// Colours of a difference, from blue for the least through white for none to orange for the
/// greatest: blue and orange stay apart for all common kinds of colour blindness, and grey shows
/// how large it is.
pub(crate) fn diverging() -> [[u8; 3]; COLOURS] {
    let mut table = [[0; 3]; COLOURS];
    for (n, colour) in table.iter_mut().enumerate() {
        let share = 2.0 * n as f64 / (COLOURS - 1) as f64 - 1.0;
        let size = share.abs();
        let hue: f64 = if share < 0.0 { 255.0 } else { 50.0 };
        *colour = within_gamut(0.975 - 0.52 * size, 0.17 * size.powf(0.8), hue.to_radians());
    }
    table
}

/// Colours of an angle, from −180° to 180° and round to the same colour: light at 0, dark half a turn
/// away, and the hue says to which side.
pub(crate) fn cyclic() -> [[u8; 3]; COLOURS] {
    let mut table = [[0; 3]; COLOURS];
    for (n, colour) in table.iter_mut().enumerate() {
        let degrees = 360.0 * (n as f64 + 0.5) / COLOURS as f64 - 180.0;
        let lightness = 0.64 + 0.18 * degrees.to_radians().cos();
        *colour = within_gamut(lightness, 0.095, (degrees + 95.0).to_radians());
    }
    table
}

/// From 0 up and down again, fuller in the middle than an arch.
fn bow(share: f64) -> f64 {
    (4.0 * share * (1.0 - share)).max(0.0).powf(0.55)
}

/// The colour of a lightness and hue with as much of the chroma as a screen can show.
fn within_gamut(lightness: f64, chroma: f64, hue: f64) -> [u8; 3] {
    let mut share = 1.0;
    loop {
        let linear = linear_rgb(lightness, share * chroma, hue);
        let fits = linear.iter().all(|value| (-1e-4..=1.0001).contains(value));
        if fits || share < 0.02 {
            return linear.map(|value| (255.0 * companded(value.clamp(0.0, 1.0))).round() as u8);
        }
        share -= 0.02;
    }
}

fn linear_rgb(lightness: f64, chroma: f64, hue: f64) -> [f64; 3] {
    let (a, b) = (chroma * hue.cos(), chroma * hue.sin());
    let long = (lightness + 0.396_337_777_4 * a + 0.215_803_757_3 * b).powi(3);
    let medium = (lightness - 0.105_561_345_8 * a - 0.063_854_172_8 * b).powi(3);
    let short = (lightness - 0.089_484_177_5 * a - 1.291_485_548_0 * b).powi(3);
    [
        4.076_741_662_1 * long - 3.307_711_591_3 * medium + 0.230_969_929_2 * short,
        -1.268_438_004_6 * long + 2.609_757_401_1 * medium - 0.341_319_396_5 * short,
        -0.004_196_086_3 * long - 0.703_418_614_7 * medium + 1.707_614_701_0 * short,
    ]
}

/// The transfer function of IEC 61966-2-1.
fn companded(linear: f64) -> f64 {
    if linear <= 0.003_130_8 { 12.92 * linear } else { 1.055 * linear.powf(1.0 / 2.4) - 0.055 }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Lightness L of Oklab from a colour on a screen.
    fn lightness(colour: [u8; 3]) -> f64 {
        let [r, g, b] = colour.map(|value| {
            let v = f64::from(value) / 255.0;
            if v <= 0.04045 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
        });
        let long = (0.412_221_470_8 * r + 0.536_332_536_3 * g + 0.051_445_992_9 * b).cbrt();
        let medium = (0.211_903_498_2 * r + 0.680_699_545_1 * g + 0.107_396_956_6 * b).cbrt();
        let short = (0.088_302_461_9 * r + 0.281_718_837_6 * g + 0.629_978_700_5 * b).cbrt();
        0.210_454_255_3 * long + 0.793_617_785_0 * medium - 0.004_072_046_8 * short
    }

    #[test]
    fn an_angle_comes_round_to_its_colour() {
        let table = cyclic();
        let step =
            |a: [u8; 3], b: [u8; 3]| a.iter().zip(b).map(|(a, b)| a.abs_diff(b)).max().unwrap_or(0);
        let largest = (0..COLOURS).map(|n| step(table[n], table[(n + 1) % COLOURS])).max();
        assert!(largest.is_some_and(|step| step < 5), "{largest:?}");
        assert!(lightness(table[COLOURS / 2]) > lightness(table[0]) + 0.3);
        assert!(step(table[COLOURS / 4], table[3 * COLOURS / 4]) > 60, "sides are apart");
    }

    #[test]
    fn lightness_changes_evenly_from_end_to_end() {
        for map in [ColourMap::Ember, ColourMap::Lagoon, ColourMap::Grey] {
            let table = map.table();
            // Over sixteen colours, since eight bits leave single steps rough.
            let steps: Vec<f64> =
                table.windows(17).map(|part| lightness(part[16]) - lightness(part[0])).collect();
            let mean = steps.iter().sum::<f64>() / steps.len() as f64;
            assert!(mean.abs() > 0.05, "{map:?}");
            assert!(steps.iter().all(|step| (step / mean - 1.0).abs() < 0.3), "{map:?}");
            let halves =
                lightness(table[128]) - 0.5 * (lightness(table[0]) + lightness(table[255]));
            assert!(halves.abs() < 0.02, "{map:?} {halves}");
        }
    }
}
