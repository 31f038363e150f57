//! Curves as figures.

use std::collections::BTreeMap;

use serde_json::{Value, json};
use textum_core::config::manifest::Better;
use textum_core::figure::{Axis, COLORS, Figure, GREY, Mark, Scale};
use textum_core::inspect::curve::{Curve, thinned};
use textum_core::record::ledger::RunRow;
use textum_core::record::receipt::Metric;

use super::table::Cell;
use super::text;

/// Points of a curve that are drawn at most.
const MOST_POINTS: usize = 1600;
/// More curves than this are drawn grey, but for the best ones.
const MOST_NAMED: usize = 8;

/// What goes across.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Across {
    /// The step.
    Step,
    /// Seconds.
    Time,
}

/// Curves that are to be drawn.
pub struct Drawn<'d> {
    /// The curves, of all metrics.
    pub curves: &'d [Curve],
    /// The metrics, a figure each.
    pub metrics: &'d [String],
    /// What goes across.
    pub across: Across,
    /// What each run is called.
    pub names: &'d BTreeMap<String, String>,
    /// Whether values are drawn by their logarithm.
    pub log: bool,
}

/// A metric over parameters.
pub struct Spread<'s> {
    /// The runs.
    pub rows: &'s [RunRow],
    /// The metric.
    pub metric: &'s str,
    /// The parameters.
    pub params: &'s [String],
    /// Which direction of the metric is better.
    pub better: Option<Better>,
    /// Whether the metric is drawn by its logarithm.
    pub log: bool,
}

/// What runs are called in a figure: by their last part, and by the few parameters in which they differ.
pub fn names(rows: &[RunRow]) -> BTreeMap<String, String> {
    let differing: Vec<&String> = rows
        .first()
        .map(|first| {
            first
                .params
                .iter()
                .filter(|(n, v)| rows.iter().any(|r| !r.params.contains(&(n.clone(), v.clone()))))
                .map(|(n, _)| n)
                .collect()
        })
        .unwrap_or_default();
    let name = |run: &RunRow| {
        let short = run.label.clone().unwrap_or_else(|| run.run.rsplit('-').next().unwrap_or_default().to_string());
        let values: Vec<String> = run
            .params
            .iter()
            .filter(|(n, _)| differing.contains(&n))
            .take(2)
            .map(|(n, v)| format!("{} {}", n.rsplit('.').next().unwrap_or(n), text::param(v)))
            .collect();
        if values.is_empty() { short } else { format!("{short}  {}", values.join(", ")) }
    };
    rows.iter().map(|r| (r.run.clone(), name(r))).collect()
}

impl Drawn<'_> {
    /// From where to where all curves go across: panels on one page share their axis.
    pub fn across_all(&self) -> Option<(f64, f64)> {
        let x = |p: &textum_core::inspect::curve::Point| if self.across == Across::Time { p.seconds } else { p.step as f64 };
        let all = self.curves.iter().filter(|c| self.metrics.contains(&c.metric)).flat_map(|c| c.points.iter().map(x));
        let range = all
            .filter(|x| x.is_finite())
            .fold(None, |range: Option<(f64, f64)>, x| Some(range.map_or((x, x), |(from, to)| (from.min(x), to.max(x)))));
        range.filter(|(from, to)| from < to && self.metrics.len() > 1)
    }

    /// The points of a curve as they are drawn.
    pub fn points(&self, curve: &Curve, most: usize) -> Vec<(f64, f64)> {
        let x = |p: &textum_core::inspect::curve::Point| if self.across == Across::Time { p.seconds } else { p.step as f64 };
        thinned(&curve.points, most).iter().map(|p| (x(p), p.value)).collect()
    }

    /// The curves of a metric, the best first, each with its colour; those beyond a few are grey.
    pub fn colored(&self, metric: &str) -> Vec<(&Curve, &'static str)> {
        let mut of: Vec<&Curve> = self.curves.iter().filter(|c| c.metric == metric).collect();
        let many = of.len() > MOST_NAMED;
        if many && of.iter().any(|c| c.best.is_some()) {
            // Which direction is better shows in where the best of a curve lies.
            let rising = of.iter().any(|c| c.best.zip(c.points.first().copied()).is_some_and(|(b, f)| b.value > f.value));
            let value = |c: &Curve| c.best.map_or(f64::NAN, |b| if rising { -b.value } else { b.value });
            of.sort_by(|a, b| value(a).total_cmp(&value(b)));
        }
        of.into_iter()
            .enumerate()
            .map(|(i, c)| (c, if many && i >= MOST_NAMED / 2 { GREY } else { COLORS[i % COLORS.len()] }))
            .collect()
    }

    /// What a curve is called.
    pub fn name(&self, curve: &Curve) -> String {
        let several = self.curves.iter().any(|c| c.run == curve.run && c.metric == curve.metric && c.stage != curve.stage);
        let name = self.names.get(&curve.run).cloned().unwrap_or_else(|| curve.run.clone());
        if several { format!("{name} {}", curve.stage) } else { name }
    }
}

/// A figure for each metric.
pub fn figures(drawn: &Drawn<'_>) -> Vec<Figure> {
    let mut figures: Vec<Figure> = drawn.metrics.iter().map(|metric| figure(drawn, metric)).collect();
    let room = figures.iter().map(Figure::room_for_names).fold(0.0, f64::max);
    figures.iter_mut().for_each(|figure| figure.room = room);
    figures
}

fn figure(drawn: &Drawn<'_>, metric: &str) -> Figure {
    let across = if drawn.across == Across::Time { "seconds since the stage began" } else { "step" };
    let y = Axis { label: metric.to_string(), scale: if drawn.log { Scale::Log } else { Scale::Even }, range: None };
    let x = match drawn.across_all() {
        Some((from, to)) => Axis::even(across).within(from, to),
        None => Axis::even(across),
    };
    let mut figure = Figure::new(&format!("{metric} by {}", if drawn.across == Across::Time { "time" } else { "step" }), x, y);
    let colored = drawn.colored(metric);
    // What is grey stands behind.
    for (curve, color) in colored.iter().rev() {
        let points = drawn.points(curve, MOST_POINTS);
        // A branch is drawn from the point of the other curve where it began.
        let began = curve.from.as_ref().and_then(|(run, step)| {
            let parent = drawn.curves.iter().find(|c| c.run == *run && c.metric == metric && c.stage == curve.stage)?;
            parent.points.iter().find(|p| p.step == *step).filter(|_| drawn.across == Across::Step)
        });
        if let (Some(began), Some(first)) = (began, points.first()) {
            let joined = vec![(began.step as f64, began.value), *first];
            figure.marks.push(Mark::Line { points: joined, name: None, color: (*color).into(), dashed: true });
        }
        let best = curve.best.map(|b| format!("  best {} at {}", text::figure(b.value), b.step)).unwrap_or_default();
        let name = (*color != GREY).then(|| format!("{}{best}", drawn.name(curve)));
        figure.marks.push(Mark::Line { points, name, color: (*color).into(), dashed: false });
    }
    let few = colored.len() <= 4;
    for (curve, color) in colored.iter().filter(|(_, c)| *c != GREY).take(if few { 4 } else { 1 }) {
        if let Some(best) = curve.best {
            let x = if drawn.across == Across::Time { best.seconds } else { best.step as f64 };
            figure.marks.push(Mark::Star { at: (x, best.value), text: String::new(), color: (*color).into() });
        }
    }
    let grey = colored.iter().filter(|(_, c)| *c == GREY).count();
    figure.subtitle = match grey {
        0 => "circle: the best step".to_string(),
        n => format!("{} curves; the {} best have names, {n} are grey", colored.len(), colored.len() - n),
    };
    if colored.iter().all(|(c, _)| c.best.is_none()) {
        figure.subtitle = String::new();
    }
    figure
}

/// Figures one below the other as one SVG.
pub fn stacked(figures: &[Figure]) -> String {
    if let [one] = figures {
        return one.svg();
    }
    let width = figures.iter().map(|f| f.size.0).fold(0.0, f64::max);
    let height: f64 = figures.iter().map(|f| f.size.1).sum();
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {width} {height}\" width=\"{width}\" height=\"{height}\">"
    );
    let mut top = 0.0;
    for figure in figures {
        out.push_str(&figure.svg().trim_end().replacen("<svg ", &format!("<svg y=\"{top}\" "), 1));
        top += figure.size.1;
    }
    out.push_str("</svg>\n");
    out
}

/// A page with the figures and the values behind them.
pub fn page(figures: &[Figure], table: &str) -> String {
    let svgs: String = figures.iter().map(Figure::svg).collect();
    let escaped = table.replace('&', "&amp;").replace('<', "&lt;");
    format!(
        "<!doctype html><meta charset=\"utf-8\"><title>textum plot</title><style>body{{font:14px/1.5 system-ui,sans-serif;color:#22252a;\
         background:#fbfaf7;margin:2rem auto;max-width:60rem;padding:0 1rem}}svg{{max-width:100%;height:auto;display:block;margin-bottom:1rem;\
         border:1px solid #e6e8eb}}pre{{overflow:auto}}</style>{svgs}<details open><summary>Values</summary><pre>{escaped}</pre></details>\n"
    )
}

/// The values behind the figures in short: a line a curve.
pub fn table(drawn: &Drawn<'_>) -> String {
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    for metric in drawn.metrics {
        for (curve, _) in drawn.colored(metric) {
            rows.push(summary(drawn, curve));
        }
    }
    super::table::table(&["metric", "run", "steps", "last", "best", "at step"], &rows, "", &crate::ui::Style::new(false))
}

/// A curve in short.
pub fn summary(drawn: &Drawn<'_>, curve: &Curve) -> Vec<Cell> {
    let last = curve.points.last();
    let number = |v: Option<f64>| v.map_or("–".to_string(), |v| text::metric(&Metric(v)));
    vec![
        curve.metric.as_str().into(),
        drawn.name(curve).into(),
        text::count(curve.points.len() as u64).into(),
        number(last.map(|p| p.value)).into(),
        number(curve.best.map(|p| p.value)).into(),
        curve.best.map_or("–".to_string(), |p| p.step.to_string()).into(),
    ]
}

/// The curves as JSON.
pub fn json(drawn: &Drawn<'_>) -> Value {
    drawn
        .curves
        .iter()
        .map(|c| {
            let points: Vec<Value> =
                c.points.iter().map(|p| json!({"step": p.step, "seconds": p.seconds, "value": Metric(p.value)})).collect();
            let from = c.from.as_ref().map(|(run, step)| json!({"run": run, "step": step}));
            let best = c.best.map(|p| json!({"step": p.step, "value": Metric(p.value)}));
            json!({"run": c.run, "stage": c.stage, "metric": c.metric, "from": from, "best": best, "points": points})
        })
        .collect()
}
