//! stub
use crate::args::Global;
use crate::failure::Failure;
use crate::ui::Ui;
use clap::Args;
/// Args.
#[derive(Debug, Args)]
pub struct FollowArgs {}
/// Runs.
pub fn run(_global: &Global, _args: &FollowArgs, _ui: &Ui) -> Result<u8, Failure> {
    Ok(0)
}
