//! `textum registry watch`.

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use clap::Args;
use textum_core::event::CancelToken;
use textum_core::publish::{
    DeadLetter, Event, Filter, Home, Place, Position, PublishError, Told, Tries, Watcher, events_after, post, try_to_tell,
};
use textum_core::registry::LogError;
use textum_core::store::Digest;

use super::{WhichRegistry, cache_folder, open_registry};
use crate::args::{Format, Global};
use crate::failure::{Failure, INTERRUPTED, UNSUCCESSFUL, USAGE};
use crate::render::registry as render;
use crate::ui::{Ui, catch_interrupts};

/// What `textum registry watch` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Each event is told once and in order: the position is kept, and a watcher that starts again goes on where it was. What\ncannot be told is tried again after growing pauses, and then kept as a dead letter; what comes after it is told.\nShould the machine be lost right after an event was told, it is told once more, with the same id.\n\nA command gets the event as JSON on its standard input, and TEXTUM_EVENT, TEXTUM_ENTRY, TEXTUM_NAME,\nTEXTUM_VERSION, TEXTUM_ALIAS and TEXTUM_BEFORE; --post sends it as a CloudEvent 1.0.\n\nExamples:\n  textum registry watch --alias live -- ./deploy.sh\n  textum registry watch stop-predictor --post https://shed.example/events\n  textum registry watch --alias live --once -- ./deploy.sh     for a timer\n  textum registry watch --alias live --dead -- ./deploy.sh     what could not be told"
)]
pub struct WatchArgs {
    /// Only what happens to this published name
    name: Option<String>,
    /// Only moves of this alias
    #[arg(long)]
    alias: Option<String>,
    /// Send each event to this url
    #[arg(long, value_name = "URL", conflicts_with = "command")]
    post: Option<String>,
    /// The first time, begin behind this entry, 0 for all; else with what comes from now on
    #[arg(long, value_name = "ENTRY")]
    from: Option<u64>,
    /// Tell what there is, and end
    #[arg(long)]
    once: bool,
    /// Look every so many seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 5.0)]
    every: f64,
    /// Try to tell an event so often at most
    #[arg(long, value_name = "N", default_value_t = 8, value_parser = clap::value_parser!(u32).range(1..=100))]
    tries: u32,
    /// The first pause between two tries, in seconds; each next one is twice as long
    #[arg(long, value_name = "SECONDS", default_value_t = 1.0)]
    pause: f64,
    /// A name by which its position is kept; else by what it tells and how
    #[arg(long = "as", value_name = "NAME")]
    called: Option<String>,
    /// List what could not be told
    #[arg(long, conflicts_with_all = ["once", "redeliver"])]
    dead: bool,
    /// Try to tell that once more
    #[arg(long)]
    redeliver: bool,
    #[command(flatten)]
    which: WhichRegistry,
    /// The command that is started for each event
    #[arg(last = true, value_name = "COMMAND")]
    command: Vec<String>,
}

/// How an event is told.
fn tell(args: &WatchArgs, event: &Event) -> Result<(), String> {
    if let Some(url) = &args.post {
        return post(url, &event.cloud);
    }
    let Some((program, words)) = args.command.split_first() else { return Ok(()) };
    let mut command = Command::new(program);
    command.args(words).envs(event.variables.iter().map(|(n, v)| (n, v))).stdin(Stdio::piped());
    let mut child = command.spawn().map_err(|e| format!("{program} could not be started: {e}"))?;
    if let Some(mut input) = child.stdin.take() {
        // One that does not care for it does not read it.
        let _ = std::io::Write::write_all(&mut input, event.cloud.to_string().as_bytes());
    }
    let status = child.wait().map_err(|e| format!("{program}: {e}"))?;
    if status.success() { Ok(()) } else { Err(format!("{program} did not succeed ({status})")) }
}

/// What the position is kept under.
fn called(args: &WatchArgs) -> Result<String, Failure> {
    if let Some(name) = &args.called {
        let fine = name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_')) && (1..=64).contains(&name.len());
        return match fine {
            true => Ok(name.clone()),
            false => Err(Failure::new(USAGE, format!("`{name}` cannot be a watcher's name"), "use letters, digits, `-` and `_`")),
        };
    }
    let what = serde_json::json!([args.name, args.alias, args.post, args.command]);
    Ok(Digest::of(what.to_string().as_bytes()).hex()[..16].to_string())
}

/// What is wrong with how it is asked for.
fn check(args: &WatchArgs) -> Result<(), Failure> {
    if args.post.is_none() && args.command.is_empty() && !args.dead {
        let help = "name a command behind `--`, or a server with --post URL";
        return Err(Failure::new(USAGE, "nobody would be told", help));
    }
    if let Some(url) = args.post.as_deref().filter(|u| !u.starts_with("http://") && !u.starts_with("https://")) {
        return Err(Failure::new(USAGE, format!("`{url}` is no url of a server"), "it begins with http:// or https://"));
    }
    let sound = |seconds: f64| seconds.is_finite() && (0.0..=86_400.0).contains(&seconds);
    if !sound(args.every) || !sound(args.pause) {
        return Err(Failure::new(USAGE, "--every and --pause are seconds, up to a day", "write a number, as in --every 10"));
    }
    Ok(())
}

/// Watches.
pub fn run(global: &Global, args: &WatchArgs, ui: &Ui) -> Result<u8, Failure> {
    check(args)?;
    let opened = open_registry(global, &args.which, ui)?;
    let source = match &opened.place.home {
        Home::Depot(depot) => format!("urn:textum:depot:{}", depot.id()),
        Home::Project => format!("urn:textum:project:{}", opened.project.as_ref().map_or("", |p| p.manifest.name.as_str())),
    };
    let folder = match &opened.project {
        Some(project) => project.workspace.state().join("watchers"),
        None => cache_folder().join("watchers"),
    };
    // Another registry is another position.
    let folder = folder.join(&Digest::of(source.as_bytes()).hex()[..16]);
    let watcher = Watcher::open(&folder, &called(args)?)?;
    let position = first_position(args, &watcher, &opened.place)?;
    if args.dead {
        match ui.format {
            Format::Json => ui.json(&position),
            _ => ui.result(&render::dead_text(&position.dead)),
        }
        return Ok(0);
    }
    let filter = Filter { name: args.name.clone(), alias: args.alias.clone() };
    let mut watch = Watch { args, ui, place: &opened.place, cancel: catch_interrupts(), source, filter, watcher, position };
    watch.watcher.keep(watch.position.clone())?;
    if args.redeliver {
        watch.redeliver()?;
    }
    watch.watch()
}

/// A watcher at work.
struct Watch<'w> {
    args: &'w WatchArgs,
    ui: &'w Ui,
    place: &'w Place,
    cancel: &'static CancelToken,
    source: String,
    filter: Filter,
    watcher: Watcher,
    position: Position,
}

impl Watch<'_> {
    /// Waits; whether to go on.
    fn wait(&self, time: Duration) -> bool {
        let until = Instant::now() + time;
        while !self.cancel.asked() && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(50).min(until.saturating_duration_since(Instant::now())));
        }
        !self.cancel.asked()
    }

    fn told(&self, event: &Event) -> Told {
        let tries = Tries { most: self.args.tries, pause: self.args.pause };
        try_to_tell(
            tries,
            || tell(self.args, event),
            &|time| self.wait(time),
            |number, why, next| {
                let next = next.map_or("given up".to_string(), |n| format!("again in {:.1} s", n.as_secs_f64()));
                let head = self.ui.err_style.bad("not told:");
                self.ui.say(&format!("{head} entry {} (try {number}): {why}; {next}", event.entry));
            },
        )
    }

    /// Tries once more to tell what could not be told.
    fn redeliver(&mut self) -> Result<(), Failure> {
        let all = events_after(&self.place.registry()?, 0, &self.filter, &self.source);
        for letter in std::mem::take(&mut self.position.dead) {
            match all.iter().find(|e| e.entry == letter.entry).map(|event| self.told(event)) {
                Some(Told::Yes(_)) => self.ui.result(&format!("told: entry {}\n", letter.entry)),
                Some(Told::No(why)) => self.position.dead.push(DeadLetter { why, ..letter }),
                Some(Told::Stopped) | None => self.position.dead.push(letter),
            }
        }
        Ok(self.watcher.keep(self.position.clone())?)
    }

    fn watch(&mut self) -> Result<u8, Failure> {
        loop {
            let registry = match self.place.registry() {
                Ok(registry) => registry,
                // A line that is down for a while is waited out; what is not whole is not.
                Err(e @ (PublishError::Depots(_) | PublishError::Log(LogError::Storage(_)))) if !self.args.once => {
                    self.ui.say(&format!("{} {e}", self.ui.err_style.bad("note:")));
                    if self.wait(Duration::from_secs_f64(self.args.every.max(1.0))) {
                        continue;
                    }
                    return Ok(INTERRUPTED);
                }
                Err(e) => return Err(e.into()),
            };
            for event in events_after(&registry, self.position.entry, &self.filter, &self.source) {
                match self.told(&event) {
                    Told::Yes(_) if self.ui.format == Format::Json => self.ui.result(&event.cloud.to_string()),
                    Told::Yes(_) => self.ui.result(&render::event_text(&event, &self.ui.style)),
                    Told::No(why) => {
                        let at = textum_base::clock::now().to_string();
                        self.position.dead.push(DeadLetter { entry: event.entry, why, at });
                    }
                    Told::Stopped => return Ok(INTERRUPTED),
                }
                self.position.entry = event.entry;
                self.watcher.keep(self.position.clone())?;
            }
            let end = registry.entries.len() as u64;
            if end > self.position.entry {
                self.position.entry = end;
                self.watcher.keep(self.position.clone())?;
            }
            if self.args.once {
                return Ok(if self.position.dead.is_empty() { 0 } else { UNSUCCESSFUL });
            }
            if !self.wait(Duration::from_secs_f64(self.args.every)) {
                return Ok(INTERRUPTED);
            }
        }
    }
}

/// Where it begins: where it was, else where it is told to, else with what comes from now on. A watcher that is started again
/// with the same words tells nothing twice.
fn first_position(args: &WatchArgs, watcher: &Watcher, place: &Place) -> Result<Position, Failure> {
    match (watcher.position.clone(), args.from) {
        (Some(known), _) => Ok(known),
        (None, Some(entry)) => Ok(Position { entry, dead: Vec::new() }),
        (None, None) => Ok(Position { entry: place.registry()?.entries.len() as u64, dead: Vec::new() }),
    }
}
