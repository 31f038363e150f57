//! A run at work, drawn into a terminal's buffer.

use ratatui::Frame;
use ratatui::layout::{Alignment, Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use textum_core::inspect::follow::{Follower, StageView, ViewState};
use textum_core::pipeline::executor::Load;
use textum_core::record::receipt::{Metric, RunStageState};

use super::chart::{PALETTE, Series, draw};
use super::text;

/// The smallest terminal that it fits in.
pub const SMALLEST: (u16, u16) = (56, 14);

/// What is shown of a run.
pub struct View<'v> {
    /// The run.
    pub follower: &'v Follower,
    /// The project's name.
    pub project: &'v str,
    /// The stage that is looked at, by its place.
    pub chosen: usize,
    /// The metric whose curve is shown.
    pub metric: Option<&'v str>,
    /// The end of the stage's log.
    pub log: &'v [String],
    /// Whether only the log is shown.
    pub log_only: bool,
    /// Whether it is asked if the run is to be stopped.
    pub asking: bool,
    /// How busy the machine is.
    pub load: Load,
    /// Now.
    pub now: jiff::Timestamp,
    /// When it was seen that the run had ended.
    pub ended: bool,
}

fn dim() -> Style {
    Style::new().add_modifier(Modifier::DIM)
}

fn word(state: &ViewState) -> (&'static str, Style) {
    match state {
        ViewState::Waiting => ("waits", dim()),
        ViewState::Running => ("runs", Style::new().fg(Color::Cyan)),
        ViewState::Settled(RunStageState::Ran) => ("ran", Style::new().fg(Color::Green)),
        ViewState::Settled(RunStageState::Reused) => ("reused", Style::new()),
        ViewState::Settled(RunStageState::UpToDate) => ("up-to-date", dim()),
        ViewState::Settled(RunStageState::Failed) => ("failed", Style::new().fg(Color::Red)),
        ViewState::Settled(RunStageState::Stopped) => ("stopped", Style::new().fg(Color::Red)),
        ViewState::Settled(RunStageState::Skipped) => ("skipped", dim()),
    }
}

/// A stage at work as a line, where there is no terminal.
pub fn line(follower: &Follower, stage: &StageView, now: jiff::Timestamp) -> String {
    let mut parts = vec![text::seconds(stage.elapsed(now))];
    parts.extend(stage.progress.map(|p| format!("{:.0} %", p * 100.0)));
    parts.extend(stage.left(now).map(|s| format!("about {} left", text::seconds(s))));
    parts.extend(stage.step.map(|s| format!("step {s}")));
    let values = follower.last_values(stage);
    parts.extend(values.iter().take(6).map(|(n, v)| format!("{n} {}", text::metric(&Metric(*v)))));
    format!("  {}  runs  {}", stage.name, parts.join("  "))
}

/// Draws it all.
pub fn render(frame: &mut Frame<'_>, view: &View<'_>) {
    let area = frame.area();
    if area.width < SMALLEST.0 || area.height < SMALLEST.1 {
        let said = format!("this terminal has {}×{} cells, {}×{} are needed", area.width, area.height, SMALLEST.0, SMALLEST.1);
        let lines = vec![Line::from(said), Line::from("make it larger, or use --plain; q quits, the run goes on")];
        frame.render_widget(Paragraph::new(lines).wrap(ratatui::widgets::Wrap { trim: true }), area);
        return;
    }
    let [head, _, body, foot] =
        Layout::vertical([Constraint::Length(2), Constraint::Length(1), Constraint::Min(8), Constraint::Length(1)]).areas(area);
    header(frame, view, head);
    if view.log_only {
        log(frame, view, body);
    } else {
        let stages = (view.follower.stages.len() as u16).clamp(1, body.height / 3) + 1;
        let rest = body.height - stages;
        let lines = (rest / 3).max(3);
        let [top, middle, bottom] =
            Layout::vertical([Constraint::Length(stages), Constraint::Min(4), Constraint::Length(lines)]).areas(body);
        table(frame, view, top);
        curve(frame, view, middle);
        log(frame, view, bottom);
    }
    footer(frame, view, foot);
}

fn header(frame: &mut Frame<'_>, view: &View<'_>, area: Rect) {
    let follower = view.follower;
    let began = follower.draft.started.parse::<jiff::Timestamp>().ok();
    let took = began.map_or(0.0, |b| view.now.duration_since(b).as_secs_f64());
    let settled = follower.stages.iter().filter(|s| matches!(s.state, ViewState::Settled(_))).count();
    let state = match (view.ended, follower.stopping) {
        (true, _) => match follower.ending {
            Some((state, seconds)) => format!("{} in {}", state.word(), text::seconds(seconds)),
            None => "has ended".to_string(),
        },
        (false, true) => "is stopping".to_string(),
        (false, false) => format!("at work for {}", text::seconds(took)),
    };
    let left = Line::from(vec![
        Span::styled(format!("run {}", follower.run), Style::new().add_modifier(Modifier::BOLD)),
        Span::raw(format!("  {state}  ")),
        Span::styled(format!("{settled} of {} stages", follower.stages.len()), dim()),
    ]);
    let set: Vec<String> =
        follower.draft.set.iter().filter_map(|n| Some(format!("{n} {}", text::param(follower.draft.params.get(n)?)))).collect();
    let about = format!("{}  {}", view.project, set.join(", "));
    frame.render_widget(Paragraph::new(vec![left, Line::styled(about, dim())]), area);
    let busy = view.load.busy.map_or("–".to_string(), |b| format!("{:.0} %", b * 100.0));
    let load = vec![
        Line::styled(format!("{} processors {busy} busy", view.load.processors), dim()),
        Line::styled(format!("memory {} of {}", text::bytes(view.load.memory_used), text::bytes(view.load.memory)), dim()),
    ];
    if area.width >= 90 {
        frame.render_widget(Paragraph::new(load).alignment(Alignment::Right), area);
    }
}

fn table(frame: &mut Frame<'_>, view: &View<'_>, area: Rect) {
    let stages = &view.follower.stages;
    let wide = stages.iter().map(|s| s.name.chars().count()).max().unwrap_or(0).min(28);
    let rows = usize::from(area.height.saturating_sub(1));
    let from = view.chosen.saturating_sub(rows.saturating_sub(1));
    let lines: Vec<Line<'_>> = stages
        .iter()
        .enumerate()
        .skip(from)
        .take(rows)
        .map(|(i, stage)| {
            let (said, style) = word(&stage.state);
            let mark = if i == view.chosen { "▸ " } else { "  " };
            let mut spans = vec![
                Span::styled(mark, Style::new().fg(Color::Cyan)),
                Span::styled(
                    format!("{:<wide$}  ", stage.name),
                    if i == view.chosen { Style::new().add_modifier(Modifier::BOLD) } else { Style::new() },
                ),
                Span::styled(format!("{said:<11}"), style),
            ];
            if stage.state == ViewState::Running {
                spans.push(Span::raw(format!("{:>10}  ", text::seconds(stage.elapsed(view.now)))));
                if let Some(share) = stage.progress {
                    let full = (share * 20.0).round() as usize;
                    spans.push(Span::styled("█".repeat(full), Style::new().fg(Color::Cyan)));
                    spans.push(Span::styled("░".repeat(20 - full.min(20)), dim()));
                    spans.push(Span::raw(format!(" {:>3.0} %  ", share * 100.0)));
                }
                if let Some(left) = stage.left(view.now) {
                    spans.push(Span::styled(format!("about {} left  ", text::seconds(left)), dim()));
                }
                spans.extend(stage.step.map(|s| Span::raw(format!("step {s}  "))));
                spans.extend(stage.at_place.as_ref().map(|at| Span::styled(at.clone(), dim())));
            } else if matches!(stage.state, ViewState::Settled(_)) {
                let took = if stage.seconds > 0.0 { text::seconds(stage.seconds) } else { String::new() };
                spans.push(Span::styled(format!("{took:>10}  "), dim()));
                spans.extend(stage.reason.as_ref().map(|r| Span::styled(r.clone(), Style::new().fg(Color::Red))));
            }
            if stage.checkpoints > 0 {
                spans.push(Span::styled(format!("  {}", text::counted(stage.checkpoints as u64, "checkpoint")), dim()));
            }
            Line::from(spans)
        })
        .collect();
    frame.render_widget(Paragraph::new(lines), area);
}

fn curve(frame: &mut Frame<'_>, view: &View<'_>, area: Rect) {
    let Some(stage) = view.follower.stages.get(view.chosen) else { return };
    let Some((name, points)) = view.metric.and_then(|m| stage.curves.series.get_key_value(m)) else {
        let said = match stage.state {
            ViewState::Waiting => "this stage has not begun",
            _ => "this stage has told no metrics by step",
        };
        frame.render_widget(Paragraph::new(Line::styled(format!("  {said}"), dim())), area);
        return;
    };
    let [title, chart] = Layout::vertical([Constraint::Length(1), Constraint::Min(3)]).areas(area);
    let others: Vec<String> = view
        .follower
        .last_values(stage)
        .iter()
        .filter(|(n, _)| *n != name)
        .take(5)
        .map(|(n, v)| format!("{n} {}", text::metric(&Metric(*v))))
        .collect();
    let last = points.last().map_or(f64::NAN, |p| p.value);
    frame.render_widget(
        Paragraph::new(Line::from(vec![
            Span::styled(
                format!("  {name} {}", text::metric(&Metric(last))),
                Style::new().fg(PALETTE[0]).add_modifier(Modifier::BOLD),
            ),
            Span::styled(format!("   {}", others.join("  ")), dim()),
        ])),
        title,
    );
    let kept = textum_core::inspect::curve::thinned(points, 2000);
    let points = kept.iter().filter(|p| p.value.is_finite()).map(|p| (p.step as f64, p.value)).collect();
    let series = Series { name: String::new(), points, color: 0, note: String::new(), dots: false };
    draw(&[series], ("step", ""), chart, None, false, None, frame.buffer_mut());
}

fn log(frame: &mut Frame<'_>, view: &View<'_>, area: Rect) {
    let name = view.follower.stages.get(view.chosen).map_or("", |s| s.name.as_str());
    let mut lines = vec![Line::styled(format!("  what {name} prints"), dim())];
    let room = usize::from(area.height.saturating_sub(1));
    let from = view.log.len().saturating_sub(room);
    lines.extend(view.log[from..].iter().map(|l| Line::from(format!("  {l}"))));
    frame.render_widget(Paragraph::new(lines), area);
}

fn footer(frame: &mut Frame<'_>, view: &View<'_>, area: Rect) {
    let line = match (view.asking, view.ended) {
        (true, _) => Line::styled(
            "  Stop this run? Its steps and checkpoints stay. y stops it, any other key does not",
            Style::new().fg(Color::Red).add_modifier(Modifier::BOLD),
        ),
        (false, true) => Line::styled("  q quits", dim()),
        (false, false) => Line::styled("  ↑↓ stage   m metric   l log   s stop   q quit, the run goes on", dim()),
    };
    frame.render_widget(Paragraph::new(line), area);
}
