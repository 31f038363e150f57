//! What is erased: before it is done, afterwards, and the account of it.

use std::collections::BTreeMap;

use serde_json::{Value, json};
use textum_core::depot::project_key;
use textum_core::erase::{Account, DepotErased, ErasePlan, Erased, Found, GoesAs};
use textum_core::record::ledger::Erasure;
use textum_core::record::receipt::{LeftKind, LeftOver};
use textum_core::store::Digest;

use super::table::{Cell, Look, table};
use super::text;
use crate::ui::{Style, escape};

/// So many things of a kind are listed.
const LISTED: usize = 12;

fn word(given: GoesAs) -> &'static str {
    match given {
        GoesAs::Data => "data",
        GoesAs::Output => "output",
        GoesAs::Checkpoint => "checkpoint",
        GoesAs::Log => "log",
        GoesAs::Published => "published",
    }
}

/// Why something is left, and what to do about it.
fn why(kind: LeftKind) -> &'static str {
    match kind {
        LeftKind::Git => "is in the history of the git repository, which Textum does not change",
        LeftKind::Reference => "is only referred to: its file is yours to change",
        LeftKind::Model => "is a model that stays",
        LeftKind::Shared => "is also what something is that has nothing to do with the rows: it stays",
        LeftKind::SameRows => "has the same rows, though no receipt says that it was made of them",
        LeftKind::File => "is a file that has the same rows or may have: look at it",
        LeftKind::Unread => "could not be looked through",
        LeftKind::Project => "is a project of the depot that could not be looked through",
    }
}

fn left(items: &[LeftOver], style: &Style) -> String {
    if items.is_empty() {
        return String::new();
    }
    let mut out = format!("\n{}\n", style.bad("left"));
    for item in items.iter().take(4 * LISTED) {
        out.push_str(&format!("  {} {}\n", escape::line(&item.what), style.dim(why(item.kind))));
    }
    if items.len() > 4 * LISTED {
        out.push_str(&style.dim(&format!("  and {} more\n", text::count((items.len() - 4 * LISTED) as u64))));
    }
    out
}

/// What was found, and what goes with it.
pub struct Told<'t> {
    /// The dataset.
    pub dataset: &'t str,
    /// The condition; none where it is not known here.
    pub condition: Option<&'t str>,
    /// What was found.
    pub found: &'t Found,
    /// What goes.
    pub plan: &'t ErasePlan,
    /// Depots that it goes from.
    pub depots: &'t [String],
}

/// That the registry was not asked, and why: what was published of the rows is not known then.
fn unasked(plan: &ErasePlan, style: &Style) -> String {
    plan.no_registry.as_ref().map_or(String::new(), |why| {
        format!("\n{} the registry was not asked what was published of them: {}\n", style.bad("note:"), escape::line(why))
    })
}

/// What goes, by what it is.
fn goes_text(plan: &ErasePlan, style: &Style) -> String {
    let mut out = String::new();
    let mut kinds: Vec<GoesAs> = plan.goes.iter().map(|g| g.given).collect();
    kinds.sort_unstable();
    kinds.dedup();
    if !plan.goes.is_empty() {
        out.push_str(&format!("\n{}\n", style.accent("goes with them")));
    }
    for kind in kinds {
        let mut names: Vec<String> =
            plan.goes.iter().filter(|g| g.given == kind && !g.path.is_empty()).map(|g| g.path.clone()).collect();
        names.sort();
        names.dedup();
        let digests: std::collections::HashSet<_> = plan.goes.iter().filter(|g| g.given == kind).map(|g| g.digest).collect();
        let count = digests.len() as u64;
        let counted = match kind {
            GoesAs::Data => text::counted(count, "content") + " of datasets",
            GoesAs::Published => text::counted(count, "file") + " that were published",
            _ => text::counted(count, word(kind)),
        };
        let names = if names.is_empty() { String::new() } else { format!("  {}", style.dim(&text::some(&names, 4))) };
        out.push_str(&format!("  {counted}{names}\n"));
    }
    if !plan.impact.runs.is_empty() {
        let runs: Vec<String> = plan.impact.runs.iter().rev().map(|r| r.run.clone()).collect();
        out.push_str(&format!("  of {}  {}\n", text::counted(runs.len() as u64, "run"), style.dim(&text::some(&runs, 4))));
    }
    for version in &plan.impact.versions {
        let aliases = if version.aliases.is_empty() { String::new() } else { format!(" ({})", version.aliases.join(", ")) };
        let state = if version.retired { "is retired already" } else { "will be retired" };
        out.push_str(&format!("  published {}{}  {}\n", version.version, style.bad(&aliases), style.dim(state)));
    }
    for made in plan.impact.predictions.iter().take(LISTED) {
        let by = format!("by {} in {}", made.by, made.project);
        out.push_str(&format!("  predictions {}  {}\n", escape::line(&made.path), style.dim(&escape::line(&by))));
    }
    out
}

/// Before it is done.
pub fn plan_text(told: &Told<'_>, style: &Style) -> String {
    let (found, plan) = (told.found, told.plan);
    let rows: u64 = found.versions.iter().map(|v| v.rows).sum();
    let with = told.condition.map_or(String::new(), |c| format!(" with {c}"));
    let mut out = format!(
        "{}: {}{with} in {}\n",
        style.bold(&escape::line(told.dataset)),
        text::counted(rows, "row"),
        text::counted(found.versions.len() as u64, "version"),
    );
    let versions: Vec<Vec<Cell>> = found
        .versions
        .iter()
        .map(|v| {
            let share = format!("{} of {}", text::count(v.rows), text::counted(v.of, "row"));
            vec![Cell::from(v.version.name()), Cell::from(share), Cell::new(text::moment(&v.version.recorded), Look::Dim)]
        })
        .collect();
    out.push_str(&table(&[], &versions, "  ", style));
    out.push_str(&goes_text(plan, style));
    if let Some(next) = &found.next {
        let place = if next.in_tree.is_some() { "is written without them and recorded" } else { "is recorded without them" };
        let kept = format!("{} stay, {} go", text::counted(next.kept, "row"), text::count(next.removed));
        out.push_str(&format!("\n{} {place}: {kept}\n", style.accent(&escape::line(&next.path))));
    }
    for (what, names) in [
        ("from the working tree", plan.places.tree.iter().map(ToString::to_string).collect::<Vec<_>>()),
        ("moved aside", plan.places.aside.iter().map(ToString::to_string).collect()),
        ("sandboxes", plan.places.sandboxes.clone()),
        ("damaged packs", plan.places.damaged.iter().filter_map(|p| Some(p.file_name()?.to_string_lossy().into_owned())).collect()),
    ] {
        if !names.is_empty() {
            out.push_str(&format!("  {what}  {}\n", style.dim(&text::some(&names, 4))));
        }
    }
    let depots = if told.depots.is_empty() { String::new() } else { format!(", and from {}", told.depots.join(", ")) };
    let contents = text::counted(plan.contents.len() as u64, "content");
    out.push_str(&format!("\n{contents} go from the store, at most {}{depots}\n", text::bytes(plan.frees)));
    out.push_str(&left(&plan.left, style));
    out.push_str(&unasked(plan, style));
    out
}

/// What became of a depot.
pub enum Reached {
    /// It was done.
    Done(DepotErased),
    /// It could not be, and why.
    Pending(String, String),
}

/// What became of a published version.
pub struct Retired {
    /// `NAME@V`.
    pub version: String,
    /// Why it could not be retired.
    pub failed: Option<String>,
}

/// What became of depots.
pub fn depots_text(depots: &[Reached], style: &Style) -> String {
    let mut out = String::new();
    for depot in depots {
        match depot {
            Reached::Done(done) => {
                let entries = text::counted(done.entries, "entry").replace("entrys", "entries");
                out.push_str(&format!("  {} {entries} went, {}\n", style.good(&done.depot), text::bytes(done.bytes)));
                for project in &done.projects {
                    let name = escape::line(project);
                    out.push_str(&format!("    {name} had made something of them: it is gone too, and told there\n"));
                }
                for (name, why) in &done.unseen {
                    let what = format!("{} could not be looked through: {}", escape::line(name), escape::line(why));
                    out.push_str(&format!("    {} {what}\n", style.bad("left:")));
                }
            }
            Reached::Pending(name, why) => {
                out.push_str(&format!("  {} {}\n", style.bad(&format!("{name} is pending:")), escape::line(why)));
            }
        }
    }
    out
}

/// Afterwards.
pub fn done_text(done: &Erased, retired: &[Retired], depots: &[Reached], style: &Style) -> String {
    let rows: u64 = done.found.versions.iter().map(|v| v.rows).sum();
    let count = if done.said.follows.is_some() { done.plan.contents.len() } else { done.said.contents.len() };
    let contents = text::counted(count as u64, "content");
    let dataset = escape::line(&done.said.dataset);
    let what = match done.said.follows {
        Some(_) => format!("{contents} that were made of rows of {dataset} went"),
        None => format!("{} of {dataset}; {contents} went", text::counted(rows, "row")),
    };
    let mut out = format!("{}: {what}, the store is {} smaller\n", style.good("erased"), text::bytes(done.freed.bytes));
    if let Some(number) = done.said.next {
        out.push_str(&format!("  {dataset}@{number} is without them\n"));
    }
    for version in retired {
        match &version.failed {
            None => out.push_str(&format!("  {} is retired\n", version.version)),
            Some(why) => {
                let what = format!("{} could not be retired: {}", version.version, escape::line(why));
                out.push_str(&format!("  {} {what}\n", style.bad("left:")));
            }
        }
    }
    out.push_str(&depots_text(depots, style));
    for path in &done.changed {
        let what = format!("{} was changed meanwhile and is left as it is: look at it", escape::line(path));
        out.push_str(&format!("  {} {what}\n", style.bad("left:")));
    }
    out.push_str(&left(&done.plan.left, style));
    out.push_str(&unasked(&done.plan, style));
    out.push_str(&style.dim(&format!("  the receipt: {}\n", done.receipt)));
    out
}

fn goes_json(plan: &ErasePlan) -> Vec<Value> {
    plan.goes.iter().map(|g| json!({"as": word(g.given), "path": g.path, "run": g.run, "digest": g.digest})).collect()
}

/// What goes, as JSON.
pub fn plan_json(told: &Told<'_>) -> Value {
    let (found, plan) = (told.found, told.plan);
    let versions: Vec<Value> =
        found.versions.iter().map(|v| json!({"version": v.version.name(), "rows": v.rows, "of": v.of})).collect();
    let goes: Vec<Value> =
        plan.goes.iter().map(|g| json!({"as": word(g.given), "path": g.path, "run": g.run, "digest": g.digest})).collect();
    let next =
        found.next.as_ref().map(|n| json!({"path": n.path, "digest": n.content.digest, "rows": n.kept, "removed": n.removed}));
    json!({
        "dataset": told.dataset, "versions": versions, "unread": found.unread, "next": next, "goes": goes,
        "contents": plan.contents.len(), "frees": plan.frees, "tree": plan.places.tree, "aside": plan.places.aside,
        "sandboxes": plan.places.sandboxes, "left": plan.left, "depots": told.depots, "runs": plan.impact.runs,
        "published": plan.impact.versions, "predictions": plan.impact.predictions, "registry": plan.no_registry,
    })
}

/// What became of depots, as JSON.
pub fn depots_json(depots: &[Reached]) -> Value {
    let one = |depot: &Reached| match depot {
        Reached::Done(done) => json!(done),
        Reached::Pending(name, why) => json!({"depot": name, "pending": why}),
    };
    depots.iter().map(one).collect()
}

/// What was done, as JSON.
pub fn done_json(told: &Told<'_>, done: &Erased, retired: &[Retired], depots: &[Reached]) -> Value {
    let retired: Vec<Value> = retired.iter().map(|r| json!({"version": r.version, "failed": r.failed})).collect();
    let mut value = plan_json(told);
    value["receipt"] = json!(done.receipt);
    value["said"] = json!(done.said);
    value["freed"] = json!(done.freed.bytes);
    value["changed"] = json!(done.changed);
    value["retired"] = json!(retired);
    value["depots"] = depots_json(depots);
    value
}

/// Depots by name, with the receipts that they have not heard of.
type Unheard = BTreeMap<String, Vec<Digest>>;

/// What others have erased, what would go here with it, and depots that have not heard of all that was erased.
pub fn unfollowed_text(erasures: &[(Erasure, ErasePlan)], depots: &Unheard, style: &Style) -> String {
    let mut out = String::new();
    if erasures.is_empty() && depots.is_empty() {
        return "nothing is pending\n".to_string();
    }
    for (depot, receipts) in depots {
        let count = text::counted(receipts.len() as u64, "erasing");
        out.push_str(&format!("{} has not heard of {count} yet\n", style.bold(depot)));
    }
    for (erasure, plan) in erasures {
        let head = format!("rows of {}: {erasure}", erasure.dataset);
        let contents = text::counted(plan.contents.len() as u64, "content");
        out.push_str(&format!("{}\n{}", style.bold(&escape::line(&head)), goes_text(plan, style)));
        let tree: Vec<String> = plan.places.tree.iter().map(ToString::to_string).collect();
        if !tree.is_empty() {
            out.push_str(&format!("  from the working tree  {}\n", style.dim(&text::some(&tree, 4))));
        }
        out.push_str(&format!("\n{contents} go from the store, at most {}\n", text::bytes(plan.frees)));
    }
    out
}

/// The same as JSON.
pub fn unfollowed_json(erasures: &[(Erasure, ErasePlan)], depots: &Unheard) -> Value {
    let one = |(erasure, plan): &(Erasure, ErasePlan)| json!({"erased": erasure, "contents": plan.contents.len(), "frees": plan.frees, "goes": goes_json(plan), "tree": plan.places.tree});
    json!({"theirs": erasures.iter().map(one).collect::<Vec<_>>(), "depots": depots})
}

fn sentence(item: &LeftOver) -> String {
    format!("- `{}` {}", escape::markdown(&item.what), why(item.kind))
}

/// The accounts of what was erased of a dataset, as Markdown.
pub fn report(project: &str, dataset: &str, accounts: &[Account]) -> String {
    let mut out = format!("# Rows erased from {}\n\nProject {}", escape::markdown(dataset), escape::markdown(project));
    out.push_str(&format!(" ({}).\n", project_key(project)));
    for account in accounts {
        let said = &account.said;
        out.push_str(&format!("\n## {}\n\n", text::moment(&said.erased)));
        out.push_str(&format!("- **By:** {}\n", escape::markdown(&said.by)));
        out.push_str(&format!("- **Because:** {}\n", escape::markdown(&said.because)));
        out.push_str(&format!("- **Told by their columns:** {}\n", escape::markdown(&said.columns.join(", "))));
        out.push_str(&format!("- **Receipt:** `{}`\n", account.receipt));
        if let Some(follows) = &said.follows {
            out.push_str(&format!("- **Carries out:** `{follows}`, which was made elsewhere\n"));
        }
        if let Some(next) = said.next {
            out.push_str(&format!("- **The dataset without them:** {}@{next}\n", escape::markdown(dataset)));
        }
        out.push_str("\n| version | rows | it was |\n|---|---:|---|\n");
        for (number, version) in &said.versions {
            out.push_str(&format!(
                "| {}@{} | {} | `{}` |\n",
                escape::markdown(dataset),
                escape::markdown(number),
                version.rows,
                version.digest
            ));
        }
        out.push_str(&format!("\n### What went: {}\n\n", text::counted(account.gone.len() as u64, "content")));
        out.push_str("| what | run | size | it was |\n|---|---|---:|---|\n");
        for gone in &account.gone {
            let what = if gone.what.is_empty() { "a file in a folder, or a log" } else { &gone.what };
            let run = gone.run.clone().unwrap_or_default();
            out.push_str(&format!(
                "| {} | {} | {} | `{}` |\n",
                escape::markdown(what),
                escape::markdown(&run),
                text::bytes(gone.size),
                gone.digest
            ));
        }
        if !said.published.is_empty() {
            out.push_str("\n### Published versions that were made of them\n\n");
            said.published.iter().for_each(|v| out.push_str(&format!("- {}\n", escape::markdown(v))));
        }
        out.push_str("\n### What is left\n\n");
        if said.left.is_empty() && account.pending.is_empty() && account.here.is_empty() {
            out.push_str("Nothing that is known here.");
        }
        let mut items: Vec<String> = said.left.iter().map(sentence).collect();
        items.extend(account.pending.iter().map(|d| format!("- the depot {} has not heard of it yet", escape::markdown(d))));
        items.extend(account.here.iter().map(|d| format!("- `{d}` is in the store: it was made or recorded again, or is shared")));
        out.push_str(&items.join("\n"));
        out.push('\n');
    }
    out.push_str("\nWhat Textum does not see is not in this account: backups, copies outside the project, what people know.\n");
    out
}
