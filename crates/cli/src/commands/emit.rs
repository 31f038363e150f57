//! `textum emit`.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::Args;
use textum_core::fsio::{FileLock, IoError, TryLock};
use textum_core::pipeline::signal::{Ask, Signal, parse_line, signal_line};

use crate::failure::{DAMAGE, Failure, UNSUCCESSFUL, USAGE};
use crate::ui::Ui;

/// What `textum emit` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples, within a stage:\n  textum emit --step 4 loss=0.412 auc=0.81\n  textum emit --step 4 loss=0.412 --checkpoint    returns when the checkpoint is safely stored\n  textum emit --progress 0.4\n  textum emit --note 'early stopping armed'\n\nThe same without this program: append a line of JSON to the file $TEXTUM_SIGNALS, such as\n  {\"metric\": {\"loss\": 0.412, \"auc\": 0.81}, \"step\": 4}\n\nOutside a stage nothing is recorded: it says so, and the exit status is 0, so that a script can be run by hand."
)]
pub struct EmitArgs {
    /// Metrics, each NAME=NUMBER (nan, inf and -inf too)
    #[arg(value_name = "NAME=NUMBER", allow_hyphen_values = false)]
    metrics: Vec<String>,
    /// The step that they belong to; left out: the one after the last
    #[arg(long, value_name = "N")]
    step: Option<u64>,
    /// How much is done, 0 to 1
    #[arg(long, value_name = "SHARE")]
    progress: Option<f64>,
    /// Words
    #[arg(long, value_name = "TEXT")]
    note: Option<String>,
    /// Store a version of the stage's checkpoints, and wait until it is safe
    #[arg(long)]
    checkpoint: bool,
}

/// Emits.
pub fn run(args: &EmitArgs, ui: &Ui) -> Result<u8, Failure> {
    let mut signal = Signal { step: args.step, progress: args.progress, note: args.note.clone(), ..Signal::default() };
    for text in &args.metrics {
        let value = text.split_once('=').and_then(|(name, value)| Some((name, value.trim().parse::<f64>().ok()?)));
        let Some((name, value)) = value.filter(|(name, _)| !name.is_empty()) else {
            return Err(Failure::new(USAGE, format!("`{text}` is no metric"), "write NAME=NUMBER, as in loss=0.412"));
        };
        signal.metrics.push((name.to_string(), value));
    }
    if args.metrics.is_empty() && args.progress.is_none() && args.note.is_none() && !args.checkpoint {
        return Err(Failure::new(USAGE, "nothing is told", "give metrics, --progress, --note or --checkpoint"));
    }
    let waiting = args.checkpoint.then(|| format!("{}x{:x}", std::process::id(), nanos()));
    signal.checkpoint = waiting.clone().map(Ask::Waiting);
    let line = signal_line(&signal);
    // What the other side would not understand is told to whoever can mend it.
    parse_line(line.trim_end()).map_err(|what| Failure::new(USAGE, what, "see textum emit --help"))?;
    let Some(path) = textum_base::environment::raw_variable("TEXTUM_SIGNALS").map(PathBuf::from) else {
        ui.say("textum emit: this is not within a stage (TEXTUM_SIGNALS is not set): nothing is recorded");
        return Ok(0);
    };
    let mut file = textum_core::fsio::append(&path)?;
    // One write, so that lines of several processes do not mix.
    file.write_all(line.as_bytes()).map_err(IoError::of("write", &path))?;
    match waiting {
        Some(name) => answer(&path, &name, ui),
        None => Ok(0),
    }
}

fn nanos() -> i64 {
    textum_base::clock::nanoseconds()
}

/// So long nobody has asked a machine that is reached by SSH, and nobody listens.
const SILENT: Duration = Duration::from_secs(15);

/// A stage of a run, seen from its folder.
struct Stage<'f> {
    folder: &'f Path,
}

impl Stage<'_> {
    /// Whether it is a job that goes on whatever becomes of the Textum that submitted it.
    fn outlives_textum(&self) -> bool {
        self.folder.join("task.json").exists() || self.is_sent()
    }

    /// Whether it works on a machine that shares no folder.
    fn is_sent(&self) -> bool {
        self.folder.join("once").is_dir()
    }

    /// Whether nobody listens.
    fn is_alone(&self) -> bool {
        if !self.is_sent() {
            return matches!(FileLock::try_existing(&self.folder.join("begun.json")), Ok(TryLock::Taken(_) | TryLock::Absent));
        }
        // Whoever asks for it renews the lease.
        let asked = self.folder.ancestors().nth(2).and_then(|f| std::fs::metadata(f.join("lease")).ok()?.modified().ok());
        asked.is_none_or(|asked| asked.elapsed().is_ok_and(|since| since > SILENT))
    }
}

/// Waits until the checkpoint is stored, as long as somebody listens.
fn answer(signals: &Path, name: &str, ui: &Ui) -> Result<u8, Failure> {
    let folder = signals.parent().unwrap_or(Path::new("."));
    let (answer, stage) = (folder.join("answers").join(name), Stage { folder });
    let mut sleep = Duration::from_millis(2);
    loop {
        // Asked before looking: an answer given just before its giver ended is still found.
        let alone = stage.is_alone();
        match std::fs::read_to_string(&answer) {
            Ok(text) if text == "stored" => {
                let _ = textum_core::fsio::remove_file(&answer);
                return Ok(0);
            }
            Ok(what) => {
                let _ = textum_core::fsio::remove_file(&answer);
                let help = "write the checkpoint first, to the path that the stage declares as `checkpoints`";
                return Err(Failure::new(UNSUCCESSFUL, what, help));
            }
            Err(_) if alone && stage.outlives_textum() => {
                // Whoever takes the job up stores it if it still stands there then.
                ui.say("textum emit: nobody listens at the moment; the checkpoint is told, and not stored yet");
                return Ok(0);
            }
            Err(_) if alone => {
                let help = "the run is over or was lost; `textum resume` goes on with it";
                return Err(Failure::new(DAMAGE, "nobody listens to this stage any more: the checkpoint is not stored", help));
            }
            Err(_) => std::thread::sleep(sleep),
        }
        sleep = (sleep * 2).min(Duration::from_millis(30));
    }
}
