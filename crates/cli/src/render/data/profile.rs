//! A table in figures.

use serde_json::{Value, json};
use textum_core::data::PictureFacts;
use textum_core::table::profile::{ColumnProfile, DriftMeasure, Profile, TargetKind};

use super::oddities;
use crate::failure::{DAMAGE, Failure};
use crate::render::table::{self, Cell, Look, table};
use crate::render::text;
use crate::ui::Style;

/// Everything that is told of a profile.
pub struct Told<'a> {
    /// What was summed up.
    pub name: &'a str,
    /// Its size in bytes.
    pub size: u64,
    /// What drift is measured from.
    pub against: Option<&'a str>,
    /// The column that others are related to.
    pub target: Option<&'a str>,
    /// The figures.
    pub profile: &'a Profile,
    /// What is told of pictures, where it is a folder of them.
    pub pictures: Option<&'a PictureFacts>,
}

const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

fn bars(counts: &[u64]) -> String {
    let most = counts.iter().copied().max().unwrap_or(0).max(1);
    // What is there is seen, however little; a space is none.
    let bar = |n: &u64| if *n == 0 { ' ' } else { BARS[((n * 8).div_ceil(most) as usize).clamp(1, 8) - 1] };
    counts.iter().map(bar).collect()
}

fn share(part: u64, of: u64) -> String {
    match part {
        0 => String::new(),
        _ if part == of => "100 %".into(),
        _ => {
            let percent = 100.0 * part as f64 / of.max(1) as f64;
            if percent < 0.1 { "< 0.1 %".into() } else { format!("{percent:.1} %") }
        }
    }
}

fn headline(told: &Told<'_>) -> String {
    let (rows, columns) = (text::counted(told.profile.rows, "row"), text::counted(told.profile.columns.len() as u64, "column"));
    let mut line = format!("{}: {rows}, {columns}, {}", told.name, text::bytes(told.size));
    if let Some(base) = told.against {
        let of = |reading: &str| {
            told.profile
                .columns
                .iter()
                .filter(|c| c.drift.as_ref().is_some_and(|d| d.reading == reading))
                .map(|c| c.name.clone())
                .collect::<Vec<_>>()
        };
        let (strong, some) = (of("strong"), of("some"));
        line.push_str(&match (strong.is_empty(), some.is_empty()) {
            (true, true) => format!("; no drift from {base}"),
            (false, _) => format!("; strong drift from {base} in {}", text::some(&strong, 4)),
            (true, false) => format!("; some drift from {base} in {}", text::some(&some, 4)),
        });
    }
    line
}

const NUMBERS: [&str; 13] =
    ["number", "missing", "distinct", "min", "lower q.", "median", "upper q.", "max", "mean", "dev.", "skew", "outliers", "spread"];
const OTHERS: [&str; 6] = ["other", "type", "missing", "distinct", "from … to", "most frequent"];

fn number_rows(profile: &Profile) -> Vec<Vec<Cell>> {
    let numeric = profile.columns.iter().filter_map(|c| Some((c, c.numbers.as_ref()?)));
    let row = |(c, n): (&ColumnProfile, &textum_core::table::profile::Numbers)| -> Vec<Cell> {
        let mut row = vec![Cell::new(&c.name, Look::Bold), share(c.missing, profile.rows).into(), text::count(c.distinct).into()];
        let figures = [n.min, n.lower_quartile, n.median, n.upper_quartile, n.max, n.mean, n.deviation];
        row.extend(figures.iter().map(|f| Cell::from(text::figure(*f))));
        row.push(n.skew.map(|s| format!("{s:.2}")).unwrap_or_default().into());
        row.push(share(n.outliers, c.count).into());
        row.push(Cell::new(c.histogram.as_ref().map(|h| bars(&h.counts)).unwrap_or_default(), Look::Accent));
        row
    };
    numeric.map(row).collect()
}

fn frequent(column: &ColumnProfile, rows: u64) -> String {
    // A column whose values are all different has no frequent one.
    if column.count == 0 {
        return String::new();
    }
    if column.distinct == column.count {
        return "each value once".into();
    }
    let mut shown = String::new();
    for f in column.frequent.iter().take(3) {
        let value: String = f.value.chars().take(20).collect();
        let one = format!("{value} {}", share(f.count, rows));
        // As many as fit beside the other columns.
        if !shown.is_empty() && shown.chars().count() + one.chars().count() > 38 {
            break;
        }
        shown.push_str(if shown.is_empty() { "" } else { ", " });
        shown.push_str(&one);
    }
    shown
}

fn other_rows(profile: &Profile) -> Vec<Vec<Cell>> {
    let others = profile.columns.iter().filter(|c| c.numbers.is_none());
    let row = |c: &ColumnProfile| -> Vec<Cell> {
        let kind = match c.r#type.as_str() {
            "mixed" => format!("mixed ({} numbers)", text::count(c.kinds.integer + c.kinds.number)),
            other => other.to_string(),
        };
        let range = c.range.as_ref().map(|(a, b)| {
            let cut = |t: &String| t.chars().take(12).collect::<String>();
            format!("{} … {}", cut(a), cut(b))
        });
        vec![
            Cell::new(&c.name, Look::Bold),
            kind.into(),
            share(c.missing, profile.rows).into(),
            text::count(c.distinct).into(),
            Cell::new(range.unwrap_or_default(), Look::Dim),
            frequent(c, profile.rows).into(),
        ]
    };
    others.map(row).collect()
}

fn relation_rows(profile: &Profile) -> Vec<Vec<Cell>> {
    let mut related: Vec<_> = profile.columns.iter().filter_map(|c| Some((c, c.relation.as_ref()?))).collect();
    related.sort_by(|a, b| b.1.value.abs().total_cmp(&a.1.value.abs()));
    let row = |(c, r): (&ColumnProfile, &textum_core::table::profile::Relation)| -> Vec<Cell> {
        let length = (r.value.abs() * 30.0).round() as usize;
        let (name, look) = match (r.measure, r.value < 0.0) {
            ("r", false) => ("Pearson's r", Look::Accent),
            // The sign stands beside the bar: colours are for better and worse.
            ("r", true) => ("Pearson's r", Look::Plain),
            ("eta", _) => ("correlation ratio η", Look::Accent),
            _ => ("Cramér's V", Look::Accent),
        };
        vec![
            Cell::new(&c.name, Look::Bold),
            format!("{:+.3}", r.value).replace("-0.000", "+0.000").into(),
            Cell::new(if length == 0 { "·".into() } else { "▪".repeat(length) }, look),
            Cell::new(name, Look::Dim),
        ]
    };
    related.into_iter().map(row).collect()
}

const PAIRS: [&str; 4] = ["column", "goes with", "", ""];
/// So many pairs are shown to people.
const MOST_PAIRS: usize = 12;

fn pair_rows(profile: &Profile) -> Vec<Vec<Cell>> {
    let measure = |m: &str| match m {
        "r" => "Pearson's r",
        "eta" => "correlation ratio η",
        _ => "Cramér's V",
    };
    let row = |p: &textum_core::table::profile::Pair| -> Vec<Cell> {
        vec![
            Cell::new(&p.a, Look::Bold),
            p.b.as_str().into(),
            format!("{:+.3}", p.relation.value).into(),
            Cell::new(measure(p.relation.measure), Look::Dim),
        ]
    };
    profile.pairs.iter().take(MOST_PAIRS).map(row).collect()
}

/// What should be known beside the figures, a line each.
/// What is amiss with pictures.
fn picture_notes(facts: &PictureFacts) -> Vec<String> {
    let mut lines = vec![match facts.others {
        0 => text::counted(facts.pictures, "picture"),
        n => format!("{}, {}", text::counted(facts.pictures, "picture"), text::counted(n, "other file")),
    }];
    let mut add = |count: usize, one: &str, many: &str, some: Vec<String>| {
        if count > 0 {
            let what = if count == 1 { one } else { many };
            lines.push(format!("{} {what}: {}", text::count(count as u64), text::some(&some, 3)));
        }
    };
    let broken = facts.broken.iter().map(|(path, why)| format!("{path} ({why})")).collect();
    add(facts.broken.len(), "is broken", "are broken", broken);
    let same = facts.same.iter().map(|group| group.join(" = ")).collect();
    add(facts.same.len(), "content is there more than once", "contents are there more than once", same);
    let alike = facts.alike.iter().map(|(a, b, _)| format!("{a} ~ {b}")).collect();
    add(facts.alike.len(), "shows what another one shows", "show what another one shows", alike);
    add(facts.blank.len(), "shows nothing", "show nothing", facts.blank.clone());
    lines
}

fn notes(told: &Told<'_>) -> Vec<String> {
    let profile = told.profile;
    let mut lines = oddities(told.name, &profile.oddities);
    if let Some(again) = profile.duplicates.filter(|n| *n > 0) {
        lines.push(format!(
            "{} the same as one before",
            if again == 1 { "1 row is".into() } else { format!("{} rows are", text::count(again)) }
        ));
    }
    lines.extend(told.pictures.into_iter().flat_map(picture_notes));
    let names: Vec<String> = profile.columns.iter().filter(|c| c.identifier).map(|c| c.name.clone()).collect();
    if !names.is_empty() {
        let drift = if told.against.is_some() { ": left out of drift" } else { "" };
        let (tell, say) = if names.len() == 1 { ("tells", "says") } else { ("tell", "say") };
        lines.push(format!("{} {tell} rows apart and {say} nothing beside{drift}", text::some(&names, 4)));
    }
    if let (Some(target), Some(kind)) = (told.target, profile.target_kind) {
        let (taken, other) = match kind {
            TargetKind::Classes => ("classes", "number"),
            TargetKind::Number => ("a quantity", "classes"),
        };
        lines.push(format!("{target} is taken for {taken}; --target-kind {other} says otherwise"));
    }
    lines
}

const DRIFT: [&str; 7] = ["column", "reading", "PSI", "KS D", "p", "TV", "mean"];

fn drift_rows(profile: &Profile) -> Vec<Vec<Cell>> {
    let order = |reading: &str| ["strong", "some", "none"].iter().position(|r| *r == reading);
    let mut drifted: Vec<_> = profile.columns.iter().filter_map(|c| Some((c, c.drift.as_ref()?))).collect();
    drifted.sort_by_key(|(_, d)| order(d.reading));
    let figure = |value: Option<f64>| value.map_or("–".into(), |v| format!("{v:.3}"));
    let row = |(c, d): (&ColumnProfile, &textum_core::table::profile::Drift)| -> Vec<Cell> {
        let look = if d.reading == "strong" {
            Look::Bad
        } else if d.reading == "some" {
            Look::Accent
        } else {
            Look::Dim
        };
        let reading = if d.measure == DriftMeasure::Type { "another type" } else { d.reading };
        let mean = match (d.mean_before, &c.numbers) {
            (Some(before), Some(now)) => format!("{} → {}", text::figure(before), text::figure(now.mean)),
            _ => String::new(),
        };
        vec![
            Cell::new(&c.name, Look::Bold),
            Cell::new(reading, look),
            figure(d.psi).into(),
            figure(d.ks).into(),
            if d.p < 0.001 { "< 0.001".into() } else { figure(Some(d.p)).into() },
            figure(d.variation).into(),
            mean.into(),
        ]
    };
    drifted.into_iter().map(row).collect()
}

const READING: &str =
    "usual reading: PSI, TV and D below 0.1 none, from 0.25 on strong; p is corrected for all columns, from 0.001 on none";

/// A text in lines that fit, indented.
fn wrapped(text: &str, width: usize) -> String {
    let mut out = String::new();
    let mut line = String::from(" ");
    for word in text.split(' ') {
        if line.len() + 1 + word.len() > width && line.len() > 1 {
            out.push_str(&format!("{line}\n"));
            line = "   ".into();
        }
        line.push_str(&format!(" {word}"));
    }
    format!("{out}{line}\n")
}

/// Columns of the table of numbers that are left out, one after another, where the terminal is narrow.
const LEAST_TELLING: [&[&str]; 5] = [&["skew"], &["dev."], &["outliers"], &["distinct"], &["lower q.", "upper q."]];

fn fitting(header: &[&'static str], rows: Vec<Vec<Cell>>, width: usize, style: &Style) -> String {
    let (mut header, mut rows) = (header.to_vec(), rows);
    for names in LEAST_TELLING {
        let laid = table(&header, &rows, "  ", &Style::new(false));
        if laid.lines().all(|line| crate::ui::escape::width(line) <= width) {
            break;
        }
        while let Some(at) = header.iter().position(|h| names.contains(h)) {
            header.remove(at);
            rows.iter_mut().for_each(|row| drop(row.remove(at)));
        }
    }
    table(&header, &rows, "  ", style)
}

/// For people.
pub fn text(told: &Told<'_>, width: usize, style: &Style) -> String {
    let profile = told.profile;
    let mut out = format!("{}\n", style.bold(&headline(told)));
    for odd in notes(told) {
        out.push_str(&format!("  {odd}\n"));
    }
    let numbers = number_rows(profile);
    if !numbers.is_empty() {
        out.push_str(&format!("\n{}", fitting(&NUMBERS, numbers, width, style)));
    }
    let others = other_rows(profile);
    if !others.is_empty() {
        out.push_str(&format!("\n{}", table(&OTHERS, &others, "  ", style)));
    }
    if let Some(target) = told.target {
        let header = [format!("goes with {target}"), String::new(), String::new(), String::new()];
        let header: Vec<&str> = header.iter().map(String::as_str).collect();
        out.push_str(&format!("\n{}", table(&header, &relation_rows(profile), "  ", style)));
    }
    let pairs = pair_rows(profile);
    if !pairs.is_empty() {
        out.push_str(&format!("\n{}", table(&PAIRS, &pairs, "  ", style)));
    }
    if let Some(base) = told.against {
        let (none, rows): (Vec<_>, Vec<_>) = drift_rows(profile).into_iter().partition(|row| row[1].text == "none");
        out.push_str(&format!("\n  {}\n", style.dim(&format!("drift from {base}"))));
        if !rows.is_empty() {
            out.push_str(&table(&DRIFT, &rows, "  ", style));
        }
        if !none.is_empty() {
            let names: Vec<String> = none.iter().map(|row| row[0].text.clone()).collect();
            out.push_str(&wrapped(&format!("none in {}", names.join(", ")), width));
        }
        out.push_str(&style.dim(&wrapped(READING, width)));
    }
    out
}

/// As Markdown.
pub fn markdown(told: &Told<'_>) -> String {
    let mut out = format!("{}\n", headline(told));
    let mut add = |header: &[&str], rows: Vec<Vec<Cell>>| {
        if !rows.is_empty() {
            out.push_str(&format!("\n{}", table::markdown(header, &rows)));
        }
    };
    add(&NUMBERS, number_rows(told.profile));
    add(&OTHERS, other_rows(told.profile));
    add(&[told.target.unwrap_or_default(), "value", "", "measure"], relation_rows(told.profile));
    add(&PAIRS, pair_rows(told.profile));
    add(&DRIFT, drift_rows(told.profile));
    out
}

/// As JSON.
pub fn json(told: &Told<'_>) -> Value {
    json!({
        "name": told.name, "size": told.size, "against": told.against, "target": told.target, "rows": told.profile.rows,
        "duplicates": told.profile.duplicates, "target_kind": told.profile.target_kind, "pairs": told.profile.pairs,
        "columns": told.profile.columns, "oddities": told.profile.oddities, "pictures": told.pictures,
    })
}

/// As one page without outside references.
pub fn html(told: &Told<'_>) -> Result<String, Failure> {
    let texts =
        |rows: Vec<Vec<Cell>>| -> Vec<Vec<String>> { rows.into_iter().map(|r| r.into_iter().map(|c| c.text).collect()).collect() };
    let spreads: Vec<Value> = told
        .profile
        .columns
        .iter()
        .filter_map(|c| Some((c, c.numbers.as_ref()?)))
        .map(|(c, _)| {
            let counts = c.histogram.as_ref().map(|h| h.counts.clone()).unwrap_or_default();
            let most = counts.iter().copied().max().unwrap_or(1).max(1) as f64;
            let heights: Vec<String> = counts.iter().map(|n| format!("{:.1}", 28.0 * *n as f64 / most)).collect();
            json!({"counts": counts, "heights": heights})
        })
        .collect();
    let relations: Vec<Value> = relation_rows(told.profile)
        .into_iter()
        .map(|r| {
            let value: f64 = r[1].text.parse().unwrap_or(0.0);
            json!({"column": r[0].text, "value": r[1].text, "width": format!("{:.1}", value.abs() * 100.0), "negative": value < 0.0, "measure": r[3].text})
        })
        .collect();
    let mut environment = minijinja::Environment::new();
    environment.set_undefined_behavior(minijinja::UndefinedBehavior::Strict);
    let render = |environment: &mut minijinja::Environment<'static>| -> Result<String, minijinja::Error> {
        environment.add_template("profile.html", include_str!("../../../assets/pages/profile.html"))?;
        environment.get_template("profile.html")?.render(minijinja::value::Serde(json!({
            "name": told.name, "headline": headline(told), "notes": notes(told),
            "numbers_header": NUMBERS, "numbers": texts(number_rows(told.profile)), "spreads": spreads,
            "others_header": OTHERS, "others": texts(other_rows(told.profile)), "target": told.target, "relations": relations,
            "against": told.against, "drift_header": DRIFT, "drift": texts(drift_rows(told.profile)), "reading": READING,
        })))
    };
    render(&mut environment).map_err(|e| Failure::new(DAMAGE, format!("the page could not be made: {e}"), "please report this"))
}
