//! What a shell can offer: run ids, stages, parameters. Silent where there is no project.

use clap_complete::CompletionCandidate;
use textum_core::project::workspace::Project;

fn project() -> Option<Project> {
    Project::open(std::path::Path::new("."), Vec::new()).ok()
}

/// The stages of the manifest.
pub fn stages() -> Vec<CompletionCandidate> {
    let Some(project) = project() else { return Vec::new() };
    project.manifest.stages.iter().map(|s| CompletionCandidate::new(&s.name)).collect()
}

/// The parameters, ready for a value.
pub fn params() -> Vec<CompletionCandidate> {
    let Some(project) = project() else { return Vec::new() };
    project
        .params
        .iter()
        .map(|(name, value)| CompletionCandidate::new(format!("{name}=")).help(Some(format!("now {value}").into())))
        .collect()
}

/// What runs are told apart by: parameters, metrics and the rest.
pub fn fields() -> Vec<CompletionCandidate> {
    let Some(project) = project() else { return Vec::new() };
    let params = project.params.iter().map(|(name, _)| name.to_string());
    let newest = project.ledger.runs(Some(1)).unwrap_or_default().into_iter().flat_map(|r| r.metrics).map(|(name, _)| name);
    let data = project.manifest.data.iter().map(|d| format!("data.{}", d.name));
    let own = ["state", "label", "started", "took", "sweep", "by"].map(String::from);
    params.chain(newest).chain(data).chain(own).map(CompletionCandidate::new).collect()
}

/// The names of sweeps, and of runs.
pub fn runs_and_sweeps() -> Vec<CompletionCandidate> {
    let sweeps = project().and_then(|p| p.ledger.sweeps().ok()).unwrap_or_default();
    sweeps.into_iter().map(CompletionCandidate::new).chain(runs()).collect()
}

/// The newest runs, by the last part of their ids, and other names of runs.
pub fn runs() -> Vec<CompletionCandidate> {
    let Some(project) = project() else { return Vec::new() };
    let runs = project.ledger.runs(Some(30)).unwrap_or_default();
    let by_id = runs.iter().filter_map(|r| {
        let suffix = r.run.rsplit('-').next()?;
        Some(CompletionCandidate::new(suffix).help(Some(format!("{}, {}", r.run, r.state).into())))
    });
    let best = project.manifest.metrics.iter().map(|(name, _)| CompletionCandidate::new(format!("best:{name}")));
    by_id.chain(best).chain([CompletionCandidate::new("last")]).collect()
}

/// The datasets of the manifest.
pub fn datasets() -> Vec<CompletionCandidate> {
    let Some(project) = project() else { return Vec::new() };
    project.manifest.data.iter().map(|d| CompletionCandidate::new(&d.name)).collect()
}

/// The datasets and their versions.
pub fn versions() -> Vec<CompletionCandidate> {
    let Some(project) = project() else { return Vec::new() };
    let names = project.ledger.dataset_names().unwrap_or_default();
    let all = names.iter().flat_map(|n| textum_core::data::versions(&project.ledger, n).unwrap_or_default());
    datasets().into_iter().chain(all.map(|v| CompletionCandidate::new(v.name()).help(Some(v.recorded.into())))).collect()
}
