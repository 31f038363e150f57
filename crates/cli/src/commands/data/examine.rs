//! `textum data examine`.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use clap::Args;
use textum_core::config::manifest::{Command, ExaminedTable, RuleDecl, RuleForm, read_rules};
use textum_core::data::{DataRef, find_data};
use textum_core::fsio::IoError;
use textum_core::pipeline::examination::{Inspection, inspect, rules_csv};
use textum_core::project::workspace::Project;
use textum_core::table::Table;
use textum_core::table::examine::{AGAINST, parse};

use crate::args::{Format, Global};
use crate::commands::{here, open};
use crate::failure::{Failure, UNSUCCESSFUL, USAGE};
use crate::render::data::examine as render;
use crate::ui::Ui;

/// What `textum data examine` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Rules are sentences: `rows between 5000 and 20000`, `shift_id is unique`, `humidity between 0 and 100 in 98 %`, `shed in A, B, C`, `columns as in against`, `drift below 0.25`, `no row of build/test.csv without stopped`, `loom among id of looms`, `began before build/test.csv`, or any condition as of `data find`. docs/rules.md has all of them.\n\nExamples:\n  textum data examine shifts --rules rules.toml\n  textum data examine shifts@2 --rule 'humidity between 0 and 100 in 98 %'\n  textum data examine shifts --rule 'drift below 0.25' --against shifts@1\n  textum data examine build/train.csv --rule 'no row of build/test.csv without stopped'\n  textum data examine shifts                                  by the rules that stages of the manifest hold it against"
)]
pub struct ExamineArgs {
    /// A dataset, a version, or a path
    #[arg(value_name = "NAME[@V]", add = clap_complete::ArgValueCandidates::new(crate::complete::versions))]
    name: String,
    /// A file of rules: TOML with `rules = […]`
    #[arg(long, value_name = "FILE")]
    rules: Option<PathBuf>,
    /// A rule, as often as there are some
    #[arg(long = "rule", value_name = "RULE")]
    rule: Vec<String>,
    /// The table that `against` means in rules
    #[arg(long, value_name = "NAME@W", add = clap_complete::ArgValueCandidates::new(crate::complete::versions))]
    against: Option<String>,
    /// So many rows that break a rule are shown
    #[arg(long, value_name = "N", default_value_t = 5)]
    examples: usize,
}

/// Rules, and what the tables that they name are.
#[derive(Default)]
struct Asked {
    rules: Vec<RuleDecl>,
    tables: BTreeMap<String, String>,
}

fn called(table: &ExaminedTable) -> String {
    table.version.clone().unwrap_or_else(|| table.path.to_string())
}

/// The rules of a file, of the command line, or of the stages that examine this.
fn asked(project: &Project, args: &ExamineArgs, side: &DataRef, here: &Path) -> Result<Asked, Failure> {
    let mut asked = Asked::default();
    let mut against = args.against.clone();
    if let Some(file) = &args.rules {
        let path = here.join(file);
        let text = std::fs::read_to_string(&path).map_err(IoError::of("read", &path))?;
        let read = read_rules(&text).map_err(|e| {
            let help = "write it as in: rules = [\"shift_id is unique\"]; `textum data propose` writes one";
            Failure::new(USAGE, format!("{} holds no rules: {e}", file.display()), help)
        })?;
        against = against.or(read.against);
        asked.rules.extend(read.rules.iter().map(RuleForm::decl));
    }
    asked.rules.extend(args.rule.iter().map(|rule| RuleForm::Plain(rule.clone()).decl()));
    if asked.rules.is_empty() {
        let of_stages = project.manifest.stages.iter().filter_map(|s| match &s.run {
            Command::Examine(examination) if *examination.data.path == *side.path => Some(examination),
            _ => None,
        });
        for examination in of_stages {
            asked.rules.extend(examination.rules.iter().cloned());
            for (name, table) in &examination.tables {
                let meant = asked.tables.entry(name.clone()).or_insert_with(|| called(table));
                if *meant != called(table) && against.is_none() {
                    let what = format!("`{name}` means {meant} in one stage and {} in another", called(table));
                    return Err(Failure::new(
                        USAGE,
                        what,
                        "say which is meant with --against, or name a file of rules with --rules",
                    ));
                }
            }
        }
    }
    if asked.rules.is_empty() {
        let help = "name a file with --rules, or a rule with --rule; `textum data propose` suggests some";
        return Err(Failure::new(USAGE, format!("no rules are said for {}, and no stage examines it", args.name), help));
    }
    for rule in &asked.rules {
        // What does not parse is told when it is held against the table.
        for table in parse(&rule.rule).iter().flat_map(|rule| rule.tables()) {
            asked.tables.entry(table.to_string()).or_insert_with(|| table.to_string());
        }
    }
    if args.against.is_some() && !asked.tables.contains_key(AGAINST) {
        let help = "leave --against out, or write a rule such as `columns as in against` or `drift below 0.25`";
        return Err(Failure::new(USAGE, "no rule holds against another table", help));
    }
    if let Some(meant) = asked.tables.get_mut(AGAINST) {
        match against {
            Some(against) => *meant = against,
            None if meant == AGAINST => {
                let help = "say which table is meant with --against, as in --against shifts@1";
                return Err(Failure::new(USAGE, "a rule holds against something that is not said", help));
            }
            None => {}
        }
    }
    Ok(asked)
}

fn look(project: &Project, args: &ExamineArgs, side: &DataRef, here: &Path) -> Result<Inspection, Failure> {
    let asked = asked(project, args, side, here)?;
    let mut found: Vec<(String, DataRef)> = Vec::new();
    for (name, meant) in &asked.tables {
        found.push((name.clone(), find_data(project, meant, here)?));
    }
    let mut others: BTreeMap<String, Table<'_>> = BTreeMap::new();
    for (name, side) in &found {
        others.insert(name.clone(), side.any_table(project)?);
    }
    let scratch = textum_core::table::scratch(project.store.folder());
    Ok(inspect(&side.name, &side.any_table(project)?, &others, &asked.rules, args.examples, &scratch)?)
}

/// Holds a table against rules.
pub fn run(global: &Global, args: &ExamineArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let here = here(global);
    let side = find_data(&project, &args.name, &here)?;
    let inspection = look(&project, args, &side, &here)?;
    match ui.format {
        Format::Json => ui.json(&render::json(&inspection)),
        Format::Csv => {
            let csv = rules_csv(&inspection).map_err(IoError::of("write", Path::new("rules")))?;
            ui.result(&String::from_utf8_lossy(&csv));
        }
        Format::Md => ui.result(&render::markdown(&inspection)),
        _ => ui.result(&render::text(&inspection, ui.verbose, &ui.style)),
    }
    Ok(if inspection.is_fine() { 0 } else { UNSUCCESSFUL })
}
