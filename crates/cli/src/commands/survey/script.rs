//! `survey script`: a survey in parts on a cluster, as a job array of its batch scheduler.

use std::path::PathBuf;

use anyhow::{Context, Result};
use clap::Args;
use tonemap_core::units::Seconds;

use super::asked;
use super::run::long_time;
use crate::args::{Format, OutputArgs};
use crate::output;
use crate::status::Status;

/// Print a script that measures a survey in parts on a cluster, and joins them
///
/// One job for each part, and one that joins them when all have ended. Each works on a disk of its
/// own node and copies its part back every few minutes, so that a node that dies costs no more than
/// that; a job that is preempted, or whose node dies, is queued again and goes on.
#[derive(Args)]
pub(super) struct Script {
    /// Folders with recordings, as every node sees them
    #[arg(value_name = "FOLDER", required = true)]
    folders: Vec<PathBuf>,
    /// Commands on takes, with their options
    #[arg(long, value_name = "COMMANDS")]
    measure: String,
    /// The survey to make, where every node sees it; its parts are kept beside it
    #[arg(long, value_name = "FILE")]
    into: PathBuf,
    /// For Slurm: run the script where sbatch is
    #[arg(long, required = true)]
    slurm: bool,
    /// Parts
    #[arg(long, value_name = "NUMBER")]
    parts: std::num::NonZeroU32,
    /// Longest time of a job, after which the rest of its part is queued again
    #[arg(long, value_name = "TIME", default_value = "4h", value_parser = long_time)]
    time: Seconds,
    /// How often a part is copied back
    #[arg(long, value_name = "TIME", default_value = "10m", value_parser = long_time)]
    every: Seconds,
    /// Cores of a job
    #[arg(long, value_name = "NUMBER", default_value = "1")]
    cores: std::num::NonZeroU32,
    /// Memory of a job in MB
    #[arg(long, value_name = "MEGABYTES", default_value = "1000")]
    memory: std::num::NonZeroU32,
    /// Folder on the disk of a node [default: SLURM_TMPDIR, else TMPDIR, else /tmp]
    #[arg(long, value_name = "FOLDER")]
    scratch: Option<PathBuf>,
    /// More options for 'survey', as one word: '--names {bell}/{cut}.wav'
    #[arg(long = "with", value_name = "OPTIONS", default_value = "", allow_hyphen_values = true)]
    options: String,
    /// Write the script to a file
    #[arg(long, value_name = "FILE", help_heading = "Files")]
    output: Option<PathBuf>,
    /// Replace a file that exists already
    #[arg(long, help_heading = "Files")]
    force: bool,
}

impl Script {
    pub(super) fn run(&self) -> Result<Status> {
        asked::read(&self.measure)?;
        let output = OutputArgs {
            format: Format::Text,
            output: self.output.clone(),
            force: self.force,
            quiet: false,
            verbose: false,
        };
        output::write_result(&output, &self.text()?)?;
        Ok(Status::Done)
    }

    fn text(&self) -> Result<String> {
        let quoted = |word: &str| Ok::<_, anyhow::Error>(shlex::try_quote(word)?.into_owned());
        let path = |path: &PathBuf| {
            let path = std::path::absolute(path)?;
            quoted(path.to_str().context("the name of a folder is not UTF-8")?)
        };
        let folders: Vec<String> = self.folders.iter().map(path).collect::<Result<_>>()?;
        let program = path(&std::env::current_exe()?)?;
        let scratch = match &self.scratch {
            Some(folder) => path(folder)?,
            None => "\"${SLURM_TMPDIR:-${TMPDIR:-/tmp}}\"".into(),
        };
        let (minutes, every_s) = ((self.time.0 / 60.0).ceil().max(1.0), self.every.0);
        Ok(TEMPLATE
            .replace("@PROGRAM@", &program)
            .replace("@FOLDERS@", &folders.join(" "))
            .replace("@MEASURE@", &quoted(&self.measure)?)
            .replace("@OPTIONS@", &self.options)
            .replace("@INTO@", &path(&self.into)?)
            .replace("@PARTS@", &self.parts.to_string())
            .replace("@MINUTES@", &minutes.to_string())
            .replace("@EVERY@", &format!("{every_s}s"))
            .replace("@CORES@", &self.cores.to_string())
            .replace("@MEMORY@", &self.memory.to_string())
            .replace("@SCRATCH@", &scratch))
    }
}

/// The script. What stands in the quoted documents is run on the nodes.
const TEMPLATE: &str = r#"#!/bin/bash
# A survey in @PARTS@ parts under Slurm. Run it where sbatch is: it queues the parts as one job array,
# and a job that joins them when all have ended. Run again, it goes on with what is left.
set -euo pipefail

export TONEMAP=@PROGRAM@
export INTO=@INTO@
export PARTS=@PARTS@
export WORK=$INTO.parts
mkdir -p "$WORK"

parts=$(sbatch --parsable --array=1-@PARTS@ --job-name=survey --requeue --open-mode=append \
  --ntasks=1 --cpus-per-task=@CORES@ --mem=@MEMORY@M --time=@MINUTES@ --signal=B:USR1@60 \
  --output="$WORK/part-%a.log" <<'JOB'
#!/bin/bash
set -euo pipefail
number=$SLURM_ARRAY_TASK_ID
part=part-$number.sqlite
scratch=$(mktemp -d @SCRATCH@/survey.XXXXXX)
trap 'rm -rf "$scratch"' EXIT
echo "part $number of $PARTS on ${SLURMD_NODENAME:-$(hostname)}, begun ${SLURM_RESTART_COUNT:-0} times before"

# What is there is whole at every instant: it is copied under another name, and then renamed.
keep() {
  cp "$scratch/$part" "$WORK/.$part.$SLURM_JOB_ID"
  mv "$WORK/.$part.$SLURM_JOB_ID" "$WORK/$part"
}
# The time of the job is nearly over: what was measured is kept, and the rest queued again.
late() {
  if [ -n "${work:-}" ]; then kill -TERM "$work" 2>/dev/null || true; wait "$work" || true; fi
  keep
  scontrol requeue "$SLURM_JOB_ID"
  exit 0
}
trap late USR1

if [ -e "$WORK/$part" ]; then cp "$WORK/$part" "$scratch/$part"; fi
while true; do
  "$TONEMAP" survey @FOLDERS@ --measure @MEASURE@ @OPTIONS@ --part "$number/$PARTS" \
    --into "$scratch/$part" --jobs @CORES@ --stop-after @EVERY@ &
  work=$!
  wait "$work"
  work=
  keep
  if "$TONEMAP" survey show "$scratch/$part" --format json --quiet | grep -q '"waiting":0,'; then
    break
  fi
done
JOB
)

joined=$(sbatch --parsable --job-name=survey-join --requeue --ntasks=1 --mem=@MEMORY@M \
  --time=@MINUTES@ --dependency="afterok:${parts%%;*}" --kill-on-invalid-dep=yes \
  --output="$WORK/join.log" <<'JOB'
#!/bin/bash
set -euo pipefail
"$TONEMAP" survey join "$WORK"/part-*.sqlite --into "$INTO"
JOB
)

echo "parts: job ${parts%%;*}; they are joined into $INTO by job ${joined%%;*}"
"#;
