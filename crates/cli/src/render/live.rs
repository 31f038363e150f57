//! Runs at work, here and elsewhere.

use jiff::Timestamp;
use serde_json::{Value, json};
use textum_core::event::{Event, read_log};
use textum_core::pipeline::exec::LiveView;
use textum_core::record::receipt::RunReceipt;
use textum_core::share::RemoteRun;

use super::csv::Data;
use super::table::{Cell, Look, markdown, table};
use super::text;
use crate::ui::Style;

/// What is told of a run at work.
struct Line {
    run: String,
    started: String,
    by: String,
    depot: Option<String>,
    stages: Vec<String>,
    silent: Option<f64>,
    is_silent: bool,
}

/// The stages that were begun and have not ended.
fn running(events: impl Iterator<Item = Event>) -> Vec<String> {
    let mut running: Vec<String> = Vec::new();
    for event in events {
        match event {
            Event::StageStarted { stage, .. } => running.push(stage),
            Event::StageSettled { stage, .. } => running.retain(|s| *s != stage),
            _ => {}
        }
    }
    running
}

fn lines(here: &[LiveView], elsewhere: &[RemoteRun]) -> Vec<Line> {
    let own = here.iter().map(|view| Line {
        run: view.draft.run.clone(),
        started: view.draft.started.clone(),
        by: view.draft.by.clone(),
        depot: None,
        stages: running(view.events.iter().cloned()),
        silent: None,
        is_silent: false,
    });
    let others = elsewhere.iter().map(|remote| {
        let draft: Option<RunReceipt> = serde_json::from_str(&remote.state.draft).ok();
        Line {
            run: remote.state.run.clone(),
            started: draft.as_ref().map(|d| d.started.clone()).unwrap_or_default(),
            by: draft.map(|d| d.by).unwrap_or_default(),
            depot: Some(remote.depot.clone()),
            stages: running(read_log(&remote.state.events).into_iter().map(|logged| logged.event)),
            silent: remote.silent,
            is_silent: remote.is_silent(),
        }
    });
    own.chain(others).collect()
}

const HEADER: [&str; 5] = ["run", "began", "by", "where", "at"];

fn cells(line: &Line, now: Timestamp) -> Vec<Cell> {
    let place = line.depot.as_ref().map_or("here".to_string(), |depot| format!("elsewhere, told to {depot}"));
    let at = match (line.is_silent, line.silent) {
        (true, Some(seconds)) => Cell::new(format!("not heard of for {}", text::seconds(seconds)), Look::Bad),
        _ => Cell::new(line.stages.join(", "), Look::Accent),
    };
    vec![
        Cell::new(&line.run, Look::Bold),
        Cell::new(text::ago(&line.started, now), Look::Dim),
        line.by.as_str().into(),
        Cell::new(place, Look::Dim),
        at,
    ]
}

/// For people.
pub fn text(here: &[LiveView], elsewhere: &[RemoteRun], now: Timestamp, style: &Style) -> String {
    let lines = lines(here, elsewhere);
    let mut out = table(&HEADER, &lines.iter().map(|l| cells(l, now)).collect::<Vec<_>>(), "", style);
    if let Some(line) = lines.iter().find(|l| l.depot.is_some() && !l.is_silent) {
        let short = line.run.rsplit('-').next().unwrap_or_default();
        let depot = line.depot.as_deref().unwrap_or_default();
        out.push_str(
            &style
                .dim(&format!("textum follow {short} --depot {depot} watches one, textum stop {short} --depot {depot} ends it\n")),
        );
    }
    out
}

/// As a table in Markdown.
pub fn markdown_of(here: &[LiveView], elsewhere: &[RemoteRun], now: Timestamp) -> String {
    markdown(&HEADER, &lines(here, elsewhere).iter().map(|l| cells(l, now)).collect::<Vec<_>>())
}

/// As data.
pub fn csv(here: &[LiveView], elsewhere: &[RemoteRun]) -> String {
    let mut data = Data::new(["run", "started", "by", "depot", "stages", "silent"]);
    for line in lines(here, elsewhere) {
        let silent = line.silent.map(|s| s.to_string()).unwrap_or_default();
        data.add([line.run, line.started, line.by, line.depot.unwrap_or_default(), line.stages.join(" "), silent]);
    }
    data.text()
}

/// As JSON.
pub fn json(here: &[LiveView], elsewhere: &[RemoteRun]) -> Value {
    let of = |l: Line| {
        json!({"run": l.run, "started": l.started, "by": l.by, "depot": l.depot, "stages": l.stages, "silent": l.silent,
               "heard_of": !l.is_silent})
    };
    lines(here, elsewhere).into_iter().map(of).collect()
}
