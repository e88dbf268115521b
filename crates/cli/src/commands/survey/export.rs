//! `survey export` and `survey join`: tables for other programs, and parts put together.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use clap::Args;
use tonemap_survey::export::Form;
use tonemap_survey::{Reader, join};

use crate::files::{self, Content};
use crate::output;
use crate::status::{self, Status};
use crate::text;

/// Write the tables of a survey into a folder, a file each
///
/// Columns that hold numbers are described in the table 'columns': key, name and unit. In Parquet
/// the same stands in the metadata of each file, under 'tonemap.columns'.
#[derive(Args)]
pub(super) struct Export {
    /// The survey
    #[arg(value_name = "SURVEY")]
    survey: PathBuf,
    #[command(flatten)]
    forms: Forms,
    /// Replace files that exist already
    #[arg(long)]
    force: bool,
    /// Print nothing
    #[arg(long, short)]
    quiet: bool,
}

/// What the files are.
#[derive(Args)]
#[group(required = true)]
struct Forms {
    /// Apache Parquet, into this folder
    #[arg(long, value_name = "FOLDER")]
    parquet: Option<PathBuf>,
    /// Comma-separated values, into this folder
    #[arg(long, value_name = "FOLDER")]
    csv: Option<PathBuf>,
    /// JSON Lines, into this folder
    #[arg(long, value_name = "FOLDER")]
    json: Option<PathBuf>,
}

impl Export {
    pub(super) fn run(&self) -> Result<Status> {
        let reader = Reader::open(&self.survey)?;
        let Forms { parquet, csv, json } = &self.forms;
        let all = [(Form::Parquet, parquet), (Form::Csv, csv), (Form::JsonLines, json)];
        let asked = all.into_iter().filter_map(|(form, folder)| Some((form, folder.as_ref()?)));
        // Before the first of several is written.
        asked.clone().try_for_each(|(form, _)| form.check())?;
        for (form, folder) in asked {
            self.write(&reader, form, folder)?;
        }
        Ok(Status::Done)
    }

    fn write(&self, reader: &Reader, form: Form, folder: &Path) -> Result<()> {
        let tables = reader.tables()?;
        std::fs::create_dir_all(folder).with_context(|| files::shown(folder))?;
        let file = |table: &str| folder.join(format!("{table}.{}", form.ending()));
        for table in &tables {
            files::claim(&file(&table.name), Content::Result, self.force)?;
        }
        let mut said = Vec::new();
        for table in &tables {
            let file = file(&table.name);
            let rows = files::write_by(&file, Content::Result, self.force, |out| {
                Ok(reader.write(table, form, out)?)
            })?;
            let count = if rows == 1 { "one row".into() } else { text::grouped(rows) + " rows" };
            said.push(format!("{}: {count}\n", files::shown(&file)));
        }
        if self.quiet { Ok(()) } else { output::print(&said.concat()) }
    }
}

/// Put the parts of a survey together
///
/// The joined survey is the same as if one machine had measured all takes, in whichever order the
/// parts are named, and however often they are joined. Every part must be there, measured by the
/// same commands and program.
#[derive(Args)]
pub(super) struct Join {
    /// Parts, as 'survey --part' made them
    #[arg(value_name = "PART", required = true)]
    parts: Vec<PathBuf>,
    /// The survey to make; one that was joined before is replaced
    #[arg(long, value_name = "FILE")]
    into: PathBuf,
    /// Join without the parts that are missing
    #[arg(long)]
    incomplete: bool,
    /// Replace a file that exists already
    #[arg(long)]
    force: bool,
    /// Print nothing
    #[arg(long, short)]
    quiet: bool,
}

impl Join {
    pub(super) fn run(&self) -> Result<Status> {
        let was_joined = Reader::open(&self.into)
            .and_then(|reader| reader.runs())
            .is_ok_and(|runs| !runs.is_empty() && runs.iter().all(|run| run.joined_of.is_some()));
        let into = self.into.canonicalize().ok();
        if into.is_some() && self.parts.iter().any(|part| part.canonicalize().ok() == into) {
            let name = files::shown(&self.into);
            bail!("{name}: a part cannot be joined into itself; choose another name");
        }
        let draft = files::Draft::begin(&self.into, Content::Result, self.force || was_joined)?;
        let joined = join(&self.parts, draft.path(), self.incomplete)?;
        draft.finish()?;
        if joined.waiting > 0 {
            status::say(&format!(
                "{} of the parts are not measured yet; run the parts again, and join them then",
                text::takes(joined.waiting)
            ));
        }
        if !self.quiet {
            let name = files::shown(&self.into);
            let (takes, parts) = (text::takes(joined.takes), joined.parts);
            output::print(&format!("{name}: {takes} of {parts} parts\n"))?;
        }
        Ok(Status::Done)
    }
}
