//! The view of a run at work: keys in, pictures out.

use std::io::{Read, Seek, SeekFrom};
use std::path::Path;
use std::time::{Duration, Instant};

use ratatui::crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers};
use textum_core::config::manifest::Better;
use textum_core::inspect::follow::{Follower, StageView, ViewState};
use textum_core::pipeline::executor::{Load, Machine};
use textum_core::record::receipt::RunReceipt;

use crate::render::follow::{View, render};

/// How often it looks at the run.
const LOOK: Duration = Duration::from_millis(400);
/// How often it looks at the machine.
const LOAD: Duration = Duration::from_millis(1500);
/// Bytes of the end of a log that are looked at.
const TAIL: u64 = 16 << 10;

/// The last lines of a log, as a terminal can show them.
fn tail(log: &Path) -> Vec<String> {
    let read = || -> std::io::Result<Vec<u8>> {
        let mut file = std::fs::File::open(log)?;
        let length = file.metadata()?.len();
        file.seek(SeekFrom::Start(length.saturating_sub(TAIL)))?;
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes)?;
        Ok(bytes)
    };
    let bytes = read().unwrap_or_default();
    let plain = |line: &str| {
        // What a progress bar wrote over itself: the last of it counts.
        let last = line.trim_end_matches('\r').rsplit('\r').next().unwrap_or_default();
        last.replace('\t', "    ").chars().filter(|c| !c.is_control()).collect::<String>()
    };
    String::from_utf8_lossy(&bytes).lines().map(plain).collect()
}

/// The metrics of a stage in the order in which they are offered: those with a direction first.
fn metrics(stage: &StageView, directions: &[(String, Better)]) -> Vec<String> {
    let mut names: Vec<String> = stage.curves.series.keys().cloned().collect();
    names.sort_by_key(|n| !directions.iter().any(|(d, _)| d == n));
    names
}

/// Shows the run until the person quits. `stop` asks it to stop, `ended` gives its receipt once it has ended.
pub fn watch(
    follower: &mut Follower,
    project: &str,
    directions: &[(String, Better)],
    stop: &dyn Fn(&Follower),
    ended: &dyn Fn(&Follower) -> Option<RunReceipt>,
) -> std::io::Result<()> {
    let mut terminal = ratatui::try_init()?;
    let result = shown(&mut terminal, follower, project, directions, stop, ended);
    ratatui::restore();
    result
}

fn shown(
    terminal: &mut ratatui::DefaultTerminal,
    follower: &mut Follower,
    project: &str,
    directions: &[(String, Better)],
    stop: &dyn Fn(&Follower),
    ended: &dyn Fn(&Follower) -> Option<RunReceipt>,
) -> std::io::Result<()> {
    let (mut chosen, mut metric, mut log_only, mut asking): (Option<usize>, usize, bool, bool) = (None, 0, false, false);
    let mut machine = Machine::default();
    let mut log = Vec::new();
    let (mut load, mut looked_at_load) = (Load::default(), None::<Instant>);
    loop {
        if follower.at_work {
            follower.look();
        }
        if !follower.at_work
            && follower.ending.is_none()
            && let Some(receipt) = ended(follower)
        {
            follower.end(&receipt);
        }
        if looked_at_load.is_none_or(|t| t.elapsed() >= LOAD) {
            (load, looked_at_load) = (machine.look(), Some(Instant::now()));
        }
        // Unless a person chose a stage, it is the one that runs.
        let running = || follower.stages.iter().position(|s| s.state == ViewState::Running);
        let last = || follower.stages.iter().rposition(|s| s.state != ViewState::Waiting);
        let place = chosen.or_else(running).or_else(last).unwrap_or(0).min(follower.stages.len().saturating_sub(1));
        let names = follower.stages.get(place).map(|s| metrics(s, directions)).unwrap_or_default();
        // When the run has ended its log is in the store: what was seen last stays.
        if follower.at_work {
            log = follower.stages.get(place).map(|s| tail(&s.log)).unwrap_or_default();
        }
        let view = View {
            follower,
            project,
            chosen: place,
            metric: (!names.is_empty()).then(|| names[metric % names.len()].as_str()),
            log: &log,
            log_only,
            asking,
            load,
            now: textum_base::clock::now(),
            ended: !follower.at_work,
        };
        terminal.draw(|frame| render(frame, &view))?;
        if !event::poll(LOOK)? {
            continue;
        }
        let Event::Key(key) = event::read()? else { continue };
        if key.kind != KeyEventKind::Press {
            continue;
        }
        if std::mem::take(&mut asking) {
            if key.code == KeyCode::Char('y') {
                stop(follower);
            }
            continue;
        }
        match key.code {
            KeyCode::Char('q') | KeyCode::Esc => return Ok(()),
            KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => return Ok(()),
            KeyCode::Down | KeyCode::Tab | KeyCode::Char('j') => {
                chosen = Some((place + 1) % follower.stages.len().max(1));
            }
            KeyCode::Up | KeyCode::Char('k') => {
                chosen = Some(place.checked_sub(1).unwrap_or(follower.stages.len().saturating_sub(1)))
            }
            KeyCode::Char('m') => metric += 1,
            KeyCode::Char('l') => log_only = !log_only,
            KeyCode::Char('s') if follower.at_work => asking = true,
            _ => {}
        }
    }
}
