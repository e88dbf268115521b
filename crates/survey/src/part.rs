//! A share of the takes, for one of several machines.

use std::fmt;
use std::str::FromStr;

use crate::error::Error;

/// One of several shares of the takes. Which share a take belongs to depends on its path alone:
/// the remainder of the first eight bytes of its hash (BLAKE3), so that it is the same on every
/// machine and the shares are of about one size.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Part {
    /// Which, from 1.
    pub number: u32,
    /// Of how many.
    pub of: u32,
}

impl Part {
    /// Whether a take is of this share.
    #[must_use]
    pub fn holds(self, path: &str) -> bool {
        let hash = blake3::hash(path.as_bytes());
        let mut start = [0; 8];
        start.copy_from_slice(&hash.as_bytes()[..8]);
        u64::from_le_bytes(start) % u64::from(self.of) == u64::from(self.number - 1)
    }
}

impl fmt::Display for Part {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.number, self.of)
    }
}

impl FromStr for Part {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let read = || {
            let (number, of) = text.split_once('/')?;
            let (number, of) = (number.trim().parse().ok()?, of.trim().parse().ok()?);
            (1 <= number && number <= of).then_some(Self { number, of })
        };
        read().ok_or_else(|| Error::Part(text.into()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_path_is_in_one_part_and_parts_are_of_one_size() {
        for of in [1, 2, 3, 16] {
            let mut counts = vec![0_u32; of as usize];
            for n in 0..4000 {
                let path = format!("harp/take-{n}.wav");
                let parts = (1..=of).map(|number| Part { number, of });
                let holding: Vec<Part> = parts.filter(|part| part.holds(&path)).collect();
                assert_eq!(holding.len(), 1, "{path}");
                counts[holding[0].number as usize - 1] += 1;
            }
            let mean = 4000.0 / f64::from(of);
            // Five standard deviations of a fair share.
            let far = counts.iter().map(|c| (f64::from(*c) - mean).abs()).fold(0.0, f64::max);
            assert!(far <= 5.0 * mean.sqrt(), "{counts:?}");
        }
    }

    #[test]
    fn parts_are_read_as_they_are_written() {
        let third = Part { number: 3, of: 16 };
        assert_eq!((third.to_string(), "3/16".parse::<Part>().ok()), ("3/16".into(), Some(third)));
        for wrong in ["", "3", "0/4", "5/4", "a/4", "-1/4", "3/16/2"] {
            assert!(wrong.parse::<Part>().is_err(), "{wrong}");
        }
    }
}
