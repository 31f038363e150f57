//! stub
use crate::args::Global;
use crate::failure::Failure;
use crate::ui::Ui;
use clap::Args;
/// Args.
#[derive(Debug, Args)]
pub struct ReportArgs {}
/// Runs.
pub fn run(_global: &Global, _args: &ReportArgs, _ui: &Ui) -> Result<u8, Failure> {
    Ok(0)
}
