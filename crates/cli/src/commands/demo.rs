//! `textum demo`.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use clap::Args;
use textum_core::config::manifest::manifest_schema;
use textum_core::fsio::IoError;
use textum_core::project::fingerprint::find_command;
use textum_core::project::workspace::Project;
use textum_core::record::receipt::Verdict;

use super::{here, repository, variables};
use crate::args::Global;
use crate::demo::{DEMO, ENGINE, FORECAST, Scene, Step, place_story, shared_model_story, story, team_story};
use crate::failure::{Failure, NOT_THERE, UNSUCCESSFUL, USAGE};
use crate::ui::Ui;

/// What `textum demo` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum demo                       into ./textum-demo\n  textum demo /tmp/looms --quiet-story\n  textum demo --team                two machines and what they share, in one folder\n  textum demo --registry            a model that is published, used elsewhere and taken back\n  textum demo --place               the pipeline on a cluster, Slurm where there is one\n  textum demo --write-only          the project alone, to try things by hand"
)]
pub struct DemoArgs {
    /// The folder: a new one, or an empty one
    #[arg(value_name = "DIR", default_value = "textum-demo", value_hint = clap::ValueHint::DirPath)]
    folder: PathBuf,
    /// Play the story without telling it: only its end is said
    #[arg(long)]
    quiet_story: bool,
    /// Only write the project
    #[arg(long, conflicts_with = "quiet_story")]
    write_only: bool,
    /// Without a git repository
    #[arg(long)]
    no_git: bool,
    /// The second act: two machines that share a depot
    #[arg(long, conflicts_with = "write_only")]
    team: bool,
    /// The third act: a model that others rely on
    #[arg(long, conflicts_with_all = ["write_only", "team"])]
    registry: bool,
    /// The fourth act: the pipeline on a cluster; Slurm where there is one, else an engine that stands in for it
    #[arg(long, conflicts_with_all = ["write_only", "team", "registry"])]
    place: bool,
}

/// Writes the sample project and plays its story.
pub fn run(global: &Global, args: &DemoArgs, ui: &Ui) -> Result<u8, Failure> {
    let folder = here(global).join(&args.folder);
    let project = if args.team || args.registry { folder.join("ada") } else { folder.clone() };
    let holds_something = std::fs::read_dir(&folder).is_ok_and(|mut entries| entries.next().is_some());
    if holds_something || folder.is_file() {
        let help = "name a new or an empty folder: textum demo DIR";
        return Err(Failure::new(USAGE, format!("{} is not empty", folder.display()), help));
    }
    let search = textum_base::environment::variable("PATH").unwrap_or_default();
    if find_command("python3", &search, Path::new("/")).is_none() {
        let help = "install Python 3 (its standard library is enough) and run the demo again";
        return Err(Failure::new(NOT_THERE, "the demo's steps are written in Python, and there is no `python3` on the PATH", help));
    }
    write(&project)?;
    // A repository of its own, also within another one: its commits are part of the story.
    let in_git = !args.no_git
        && repository::begin(&project)
        && repository::commit(&project, "The pipeline as it was found", "A weaver", "weaver@shed.example");
    if args.write_only {
        ui.result(&format!("the sample project is in {}", args.folder.display()));
        return Ok(0);
    }
    if args.team {
        let end = "What both machines have is in DIR/depot; DIR/ada and DIR/bo are theirs.";
        return act(&folder, args, in_git, team_story(in_git), ("That was the second act.", end), ui);
    }
    if args.registry {
        for (name, text) in FORECAST {
            put(&folder.join("bo").join(name), text)?;
        }
        let with_keys = find_command("ssh-keygen", &search, Path::new("/")).is_some();
        let end = "The registry is in DIR/depot; DIR/ada publishes, DIR/bo predicts.";
        return act(&folder, args, in_git, shared_model_story(with_keys), ("That was the third act.", end), ui);
    }
    let project = std::fs::canonicalize(&project).map_err(IoError::of("open the folder", &project))?;
    let player = Player { project: &project, ui, quiet: args.quiet_story, in_git, machine: None };
    if args.place {
        let mut asks = Command::new("sinfo");
        asks.arg("--noheader").stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let slurm = find_command("sbatch", &search, Path::new("/")).is_some() && asks.status().is_ok_and(|s| s.success());
        put(&project.join(ENGINE.0), ENGINE.1)?;
        for step in place_story(slurm) {
            player.play(&step)?;
        }
        let at = args.folder.display();
        ui.result(&format!("{} The project is in {at}.", ui.style.bold("That was the fourth act.")));
        return Ok(0);
    }
    for step in story() {
        player.play(&step)?;
    }
    player.end(&args.folder)
}

/// Plays an act in a folder with a folder for each machine; `end` is what is said when it is over.
fn act(folder: &Path, args: &DemoArgs, in_git: bool, scenes: Vec<Scene>, end: (&str, &str), ui: &Ui) -> Result<u8, Failure> {
    let root = std::fs::canonicalize(folder).map_err(IoError::of("open the folder", folder))?;
    let mut last = "";
    for (machine, step) in scenes {
        let at = if machine.is_empty() { root.clone() } else { root.join(machine) };
        let player = Player { project: &at, ui, quiet: args.quiet_story, in_git, machine: Some(machine).filter(|m| !m.is_empty()) };
        if machine != last && !machine.is_empty() {
            player.tell(&format!("\n{}", ui.style.bold(&format!("[{machine}'s machine]"))));
        }
        last = machine;
        player.play(&step)?;
    }
    let at = args.folder.display().to_string();
    ui.result(&format!("{} {}", ui.style.bold(end.0), end.1.replace("DIR", &at)));
    Ok(0)
}

fn write(project: &Path) -> Result<(), Failure> {
    for (name, text) in DEMO {
        put(&project.join(name), text)?;
    }
    put(&project.join("textum.schema.json"), &serde_json::to_string_pretty(&manifest_schema()).unwrap_or_default())?;
    shell(project, "python3 shed/export.py data/shifts.csv")
}

/// Writes a file that is not there yet.
pub fn put(path: &Path, text: &str) -> Result<(), Failure> {
    if let Some(folder) = path.parent() {
        textum_core::fsio::create_folder(folder)?;
    }
    Ok(textum_core::fsio::overwrite(path, text.as_ref())?)
}

fn shell(project: &Path, command: &str) -> Result<(), Failure> {
    let status = Command::new("/bin/sh")
        .args(["-c", command])
        .current_dir(project)
        .stdin(Stdio::null())
        .status()
        .map_err(IoError::of("start", Path::new("/bin/sh")))?;
    if status.success() {
        return Ok(());
    }
    Err(Failure::new(
        UNSUCCESSFUL,
        format!("`{command}` did not succeed ({status})"),
        "run it by hand in the demo's folder to see why",
    ))
}

/// So long a job in the background is waited for.
const LONGEST_WAIT: std::time::Duration = std::time::Duration::from_secs(60);

struct Player<'p> {
    project: &'p Path,
    ui: &'p Ui,
    quiet: bool,
    in_git: bool,
    /// Whose machine it is meant to be.
    machine: Option<&'p str>,
}

impl Player<'_> {
    fn tell(&self, text: &str) {
        if !self.quiet {
            self.ui.result(text);
        }
    }

    fn play(&self, step: &Step) -> Result<(), Failure> {
        let style = &self.ui.style;
        match step {
            Step::Say(words) => {
                self.tell(&format!("\n{}\n", style.dim(&words.lines().map(|l| format!("# {l}")).collect::<Vec<_>>().join("\n"))))
            }
            Step::Shell(command) => {
                self.tell(&format!("{} {command}\n", style.accent("$")));
                shell(self.project, command)?;
            }
            Step::Git(command) if self.in_git => {
                self.tell(&format!("{} {command}\n", style.accent("$")));
                shell(self.project, command)?;
            }
            Step::Git(_) => {}
            Step::Lost(words) => self.lose(words)?,
            Step::Textum(words) => {
                // An act beside all machines has no project to ask.
                let names_one = words.iter().any(|w| w.contains("FIRST") || w.contains("SWEEP"));
                let (first, sweep) = if names_one { (self.first_run()?, self.sweep()?) } else { Default::default() };
                let words: Vec<String> = words.iter().map(|w| w.replace("FIRST", &first).replace("SWEEP", &sweep)).collect();
                let shown: Vec<String> = words.iter().map(|w| textum_core::config::manifest::shell_word(w)).collect();
                self.tell(&format!("{} textum {}\n", style.accent("$"), shown.join(" ")));
                self.textum(&words)?;
                self.tell("\n");
            }
        }
        Ok(())
    }

    /// Begins a run in the background, waits until a job of it is at a place, and kills its process.
    fn lose(&self, words: &[&str]) -> Result<(), Failure> {
        let style = &self.ui.style;
        self.tell(&format!("{} textum {}\n", style.accent("$"), words.join(" ")));
        let program = std::env::current_exe().map_err(IoError::of("find", Path::new("textum")))?;
        let mut command = Command::new(&program);
        command.args(words).args(["--format", "json"]).current_dir(self.project).stdin(Stdio::null());
        let output = command.output().map_err(IoError::of("start", &program))?;
        let begun: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
        let (Some(run), Some(process)) = (begun["run"].as_str(), begun["process"].as_i64()) else {
            let said = String::from_utf8_lossy(&output.stderr).into_owned();
            let help = "look at it by hand in the demo's folder";
            return Err(Failure::new(UNSUCCESSFUL, format!("no run began in the background: {said}"), help));
        };
        self.tell(&format!("{run} is at work in the background\n"));
        let project = Project::open(self.project, variables())?;
        let runs = project.workspace.runs_folder();
        let is_there =
            || std::fs::read_dir(runs.join(run)).into_iter().flatten().flatten().any(|e| e.path().join("submitted").exists());
        let waited = std::time::Instant::now();
        while !is_there() && waited.elapsed() < LONGEST_WAIT {
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        // It has the job's number by then, and listens to it.
        std::thread::sleep(std::time::Duration::from_millis(500));
        self.tell(&format!("{} kill -9 {process}\n", style.accent("$")));
        shell(self.project, &format!("kill -9 {process}"))
    }

    /// The last part of the first run's id; empty before there is one.
    fn first_run(&self) -> Result<String, Failure> {
        let project = Project::open(self.project, variables())?;
        let first = project.ledger.run_ids()?.pop().unwrap_or_default();
        Ok(first.rsplit('-').next().unwrap_or_default().to_string())
    }

    /// The name of the newest sweep; empty before there is one.
    fn sweep(&self) -> Result<String, Failure> {
        let project = Project::open(self.project, variables())?;
        Ok(project.ledger.sweeps()?.into_iter().next().unwrap_or_default())
    }

    fn textum(&self, words: &[String]) -> Result<(), Failure> {
        let program = std::env::current_exe().map_err(IoError::of("find", Path::new("textum")))?;
        let mut command = Command::new(&program);
        command.args(words).current_dir(self.project);
        if let Some(machine) = self.machine {
            command.env("USER", machine).env("TEXTUM_HOST", format!("{machine}-loom"));
        }
        if self.ui.style.on() {
            command.args(["--color", "always"]);
        }
        let (status, said) = match self.quiet {
            true => {
                let output = command.stdin(Stdio::null()).output().map_err(IoError::of("start", &program))?;
                (output.status, [output.stdout, output.stderr].concat())
            }
            false => (command.status().map_err(IoError::of("start", &program))?, Vec::new()),
        };
        if status.success() {
            return Ok(());
        }
        // What nobody wanted to see is of interest now.
        if !said.is_empty() {
            self.ui.insist(String::from_utf8_lossy(&said).trim_end());
        }
        let help = format!("look at it by hand: cd {} && textum {}", self.project.display(), words.join(" "));
        Err(Failure::new(UNSUCCESSFUL, format!("`textum {}` did not succeed ({status})", words.join(" ")), help))
    }

    fn end(&self, folder: &Path) -> Result<u8, Failure> {
        let project = Project::open(self.project, variables())?;
        let ids = project.ledger.run_ids()?;
        let rebuilds = match ids.last() {
            Some(first) => project.ledger.rebuilds_of(first)?,
            None => Vec::new(),
        };
        let identical = serde_json::to_value(Verdict::Identical).unwrap_or_default();
        let good = rebuilds.last().is_some_and(|r| identical == r.verdict.as_str());
        let verdict = rebuilds.last().map_or("missing", |r| r.verdict.as_str());
        self.ui.result(&format!(
            "{} {} runs were recorded, the first model was rebuilt: {verdict}.\nThe project is in {}: go on there, for instance with `textum plan`.",
            self.ui.style.bold("That was the story."),
            ids.len(),
            folder.display()
        ));
        Ok(if good { 0 } else { UNSUCCESSFUL })
    }
}
