//! `demo`: the sounds of Alder Hall, and the whole example run on them.

mod steps;

use std::fs;
use std::io::{self, Cursor, Write};
use std::path::PathBuf;

use anyhow::{Context, Result, bail};
use clap::Args;
use tonemap_core::synth::{self, alder_hall, alder_rooms};
use tonemap_core::units::Note;
use tonemap_figures::{PageStep, index_page};
use tonemap_media::{WavEncoding, write_wav};
use tonemap_study::{FILE_NAME, Study};

use crate::files::{self, Content};
use crate::interrupt;
use crate::status::Status;
use steps::{INTRODUCTION, STEPS, Step, TITLE};

/// Write the takes of Alder Hall, a made-up village hall, and run the example on them
///
/// The folder becomes a study of synthesised takes, with the tables and figures that the commands
/// make of them, and index.html, a page that shows them all. Every command line is printed before
/// it runs.
#[derive(Args)]
pub(crate) struct Demo {
    /// Folder to make
    #[arg(value_name = "FOLDER", default_value = "alder-hall")]
    folder: PathBuf,
    /// Write the demo anew into a folder that it has made
    #[arg(long)]
    force: bool,
    /// Print nothing but the name of the page
    #[arg(long, short)]
    quiet: bool,
}

/// A sound at a position in a room, at a sample rate, so many seconds long.
type InRoom = fn(u64, f64, f64) -> Vec<f64>;

impl Demo {
    pub(crate) fn run(&self) -> Result<Status> {
        self.prepare_folder()?;
        self.write_takes()?;
        let mut pages = Vec::new();
        for step in STEPS {
            pages.push(self.run_step(step)?);
        }
        let page = index_page(TITLE, INTRODUCTION, &pages, env!("CARGO_PKG_VERSION"))?;
        let file = self.folder.join("index.html");
        files::write_whole(&file, Content::Result, page.as_bytes(), true)?;
        let mut out = io::stdout().lock();
        writeln!(
            out,
            "Every step is shown in {}, the whole study in {}",
            file.display(),
            self.folder.join("report.html").display()
        )?;
        Ok(Status::Done)
    }

    fn prepare_folder(&self) -> Result<()> {
        let folder = files::shown(&self.folder);
        if self.folder.exists() && !self.folder.is_dir() {
            bail!("{folder}: this is a file; name a folder");
        }
        fs::create_dir_all(&self.folder)
            .with_context(|| format!("{folder}: the folder could not be made"))?;
        files::sweep(&self.folder);
        let mut entries =
            fs::read_dir(&self.folder).with_context(|| format!("{folder}: it cannot be read"))?;
        if entries.next().is_none() {
            return Ok(());
        }
        // Only what the demo has made is made anew.
        if !self.is_of_demo() {
            bail!("{folder}: the folder holds files that are not the demo's; name another");
        }
        if !self.force {
            bail!(
                "{folder}: the demo was written here already; name another, or write it anew with \
                 --force"
            );
        }
        let study = self.folder.join(FILE_NAME);
        fs::remove_file(&study).with_context(|| files::shown(&study))
    }

    /// Whether the folder is one that the demo has made.
    fn is_of_demo(&self) -> bool {
        let text = files::read_own(&self.folder.join(FILE_NAME)).unwrap_or_default();
        Study::read(&text).is_ok_and(|study| study.title == TITLE)
    }

    fn write_takes(&self) -> Result<()> {
        const RATE: u32 = 48_000;
        let rate = f64::from(RATE);
        let narrow = |sound: &[f64]| synth::to_samples(sound);
        let strings = [
            ("harp-g3.wav", alder_hall::harp_g3()),
            ("harp-g3-other.wav", alder_hall::harp_g3_other()),
        ];
        for (name, string) in strings {
            let note = narrow(&alder_hall::harp_note(&string, rate, 5.0));
            self.write_take(name, RATE, 24, &[note])?;
        }
        for (name, cents) in
            ["harp-pair.wav", "harp-pair-week.wav"].into_iter().zip(alder_hall::HARP_PAIR_CENTS)
        {
            self.write_take(name, RATE, 24, &[narrow(&alder_hall::harp_pair(cents, rate, 6.0))])?;
        }
        for (number, slipped_cents) in alder_hall::HARP_COMPASS {
            let string = alder_hall::harp_string(number, slipped_cents);
            let note = narrow(&alder_hall::harp_note(&string, rate, 2.6));
            let name = Note(number).to_string().to_lowercase();
            self.write_take(&format!("string-{name}.wav"), RATE, 24, &[note])?;
        }
        self.write_take("flute-a4.wav", RATE, 24, &[narrow(&alder_hall::flute_tone(rate, 3.0))])?;
        self.write_take("bell-cut0.wav", RATE, 24, &[narrow(&alder_hall::bell_note(rate, 9.0))])?;
        for cuts in 1..=alder_hall::BELL_CUTS {
            let bell = narrow(&alder_hall::bell_note_after(cuts, rate, 4.0));
            self.write_take(&format!("bell-cut{cuts}.wav"), RATE, 24, &[bell])?;
        }
        self.write_take("flute-scale.wav", RATE, 24, &[narrow(&alder_hall::flute_scale(rate))])?;
        self.write_take("hall-burst.wav", RATE, 24, &[narrow(&alder_hall::hall_burst(rate, 2.5))])?;
        self.write_take("calibrator.wav", RATE, 24, &[narrow(&alder_hall::calibrator(rate, 3.0))])?;
        let seat = narrow(&alder_hall::harp_from_the_seat(rate, 5.0));
        self.write_take("harp-seat.wav", RATE, 24, &[seat])?;
        for (candidate, name) in [(0, "a"), (1, "b")] {
            for run in 1..=3 {
                let fan = narrow(&alder_hall::fan(candidate, run, rate, 4.0));
                self.write_take(&format!("fan-{name}-run{run}.wav"), RATE, 24, &[fan])?;
            }
        }
        let rooms: [(&str, InRoom); 3] = [
            ("wall-hall.wav", alder_rooms::hall_noise),
            ("wall-green.wav", alder_rooms::green_room_noise),
            ("wall-quiet.wav", alder_rooms::green_room_quiet),
        ];
        for (name, sound) in rooms {
            let positions = 0..alder_rooms::WALL_POSITIONS;
            let channels: Vec<Vec<f32>> =
                positions.map(|position| narrow(&sound(position, rate, 8.0))).collect();
            self.write_take(name, RATE, 24, &channels)?;
        }
        let seats: Vec<Vec<f32>> = (0..alder_rooms::SEATS_M.len())
            .map(|seat| Ok(narrow(&alder_rooms::hall_sweep(seat, rate)?)))
            .collect::<Result<_>>()?;
        self.write_take("hall-sweep.wav", RATE, 24, &seats)?;
        let burst = narrow(&alder_rooms::green_room_burst(rate, 1.6));
        self.write_take("green-burst.wav", RATE, 24, &[burst])?;
        let wagon = narrow(&alder_hall::passing_wagon(rate, 9.0));
        self.write_take("wagon.wav", RATE, 24, &[wagon])?;
        let night = narrow(&alder_rooms::hall_at_night(rate, 30.0));
        self.write_take("hall-night.wav", RATE, 24, &[night])?;
        let worn = narrow(&alder_hall::worn_fan(rate, 10.0));
        self.write_take("fan-worn.wav", RATE, 24, &[worn])?;
        self.write_plucks(rate)?;
        self.write_take("harp-copy.wav", RATE, 24, &[narrow(&alder_hall::poor_copy(rate, 4.0))])?;
        let overdriven = narrow(&alder_hall::overdriven_flute(44_100.0, 2.0));
        let dead = vec![0.0; overdriven.len()];
        self.write_take("damaged.wav", 44_100, 16, &[overdriven, dead])
    }

    /// Many plucks of a few strings, in a folder of their own; the last is a copy of another that was
    /// turned down.
    fn write_plucks(&self, rate: f64) -> Result<()> {
        let folder = self.folder.join("plucks");
        fs::create_dir_all(&folder)
            .with_context(|| format!("{}: the folder could not be made", files::shown(&folder)))?;
        for number in alder_hall::PLUCKED_STRINGS {
            let string = Note(number).to_string().to_lowercase();
            for pluck in 1..=alder_hall::PLUCKS {
                let sound = alder_hall::harp_pluck(number, pluck, rate, 1.6);
                let name = format!("plucks/{string}-{pluck:02}.wav");
                self.write_take(&name, rate as u32, 24, &[synth::to_samples(&sound)])?;
                if pluck == 5 && number == alder_hall::PLUCKED_STRINGS[2] {
                    let quieter: Vec<f64> = sound.iter().map(|x| 0.5 * x).collect();
                    let name = format!("plucks/{string}-copy.wav");
                    self.write_take(&name, rate as u32, 24, &[synth::to_samples(&quieter)])?;
                }
            }
        }
        Ok(())
    }

    fn write_take(&self, name: &str, rate: u32, bits: u16, channels: &[Vec<f32>]) -> Result<()> {
        let mut file = Cursor::new(Vec::new());
        write_wav(&mut file, rate, channels, WavEncoding::Integer(bits))?;
        files::write_whole(&self.folder.join(name), Content::Sound, file.get_ref(), true)
    }

    /// A word of a command line; one with a star as a shell has it, the names of the files that
    /// match.
    fn expanded(&self, word: String) -> Result<Vec<String>> {
        let Some((start, end)) = word.split_once('*') else { return Ok(vec![word]) };
        let mut names = Vec::new();
        for entry in fs::read_dir(&self.folder)? {
            let name = entry?.file_name().to_string_lossy().into_owned();
            if name.len() >= word.len() - 1 && name.starts_with(start) && name.ends_with(end) {
                names.push(name);
            }
        }
        names.sort();
        Ok(names)
    }

    /// Runs one command line as the user would, in the folder, and keeps what it printed.
    fn run_step(&self, step: &Step) -> Result<PageStep> {
        let command = format!("tonemap {}", step.arguments);
        let mut out = io::stdout().lock();
        if !self.quiet {
            writeln!(out, "# {}\n$ {command}", step.heading)?;
        }
        let mut arguments = Vec::new();
        for word in shlex::split(step.arguments).unwrap_or_default() {
            arguments.extend(self.expanded(word)?);
        }
        let writes_nothing =
            ["study", "again", "survey plucks"].iter().any(|word| step.arguments.starts_with(word));
        if self.force && !writes_nothing {
            arguments.push("--force".into());
        }
        let run = interrupt::run_self(&arguments, &self.folder, &[])
            .context("the program could not be started")?;
        if !run.status.success() {
            let said = String::from_utf8_lossy(&run.stderr);
            let said = said.trim().trim_start_matches("tonemap: ").trim_end_matches('.');
            bail!("{command}: {said}");
        }
        let output = String::from_utf8_lossy(&run.stdout).into_owned();
        if !self.quiet {
            writeln!(out, "{output}")?;
        }
        Ok(PageStep {
            heading: step.heading.into(),
            text: step.text.into(),
            command,
            output,
            figure: step.figure.map(Into::into),
            files: step.files.iter().map(|file| (*file).to_string()).collect(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    #[test]
    fn steps_name_the_figures_they_draw() {
        for step in STEPS {
            assert_eq!(step.figure.is_some(), step.arguments.contains("--figure"));
            let named = step.figure.into_iter().chain(step.files.iter().copied());
            for file in named {
                let usual = [FILE_NAME, "report.html"].contains(&file);
                assert!(step.arguments.contains(file) || usual, "{file}");
                assert!(!Path::new(file).is_absolute());
            }
        }
    }
}
