//! The sample project, written into the program, and the story that is played with it.

mod places;
mod shared_model;
mod story;
mod team;

pub use places::{ENGINE, place_story};
pub use shared_model::{FORECAST, shared_model_story};
pub use story::{Step, story};
pub use team::{Scene, team_story};

/// Files of a project: path, text, whether it may be executed.
pub type Files = &'static [(&'static str, &'static str)];

/// The sample project.
pub const DEMO: Files = &[
    ("textum.toml", include_str!("../../assets/demo/textum.toml")),
    (".gitignore", include_str!("../../assets/demo/gitignore")),
    ("shed/export.py", include_str!("../../assets/demo/shed/export.py")),
    ("shed/predict.py", include_str!("../../assets/demo/shed/predict.py")),
    ("steps/clean.py", include_str!("../../assets/demo/steps/clean.py")),
    ("steps/split.py", include_str!("../../assets/demo/steps/split.py")),
    ("steps/fit.py", include_str!("../../assets/demo/steps/fit.py")),
    ("steps/score.py", include_str!("../../assets/demo/steps/score.py")),
];

/// A project with one stage, in shell.
pub const BARE: Files = &[
    ("textum.toml", include_str!("../../assets/bare/textum.toml")),
    ("steps/count.sh", include_str!("../../assets/bare/steps/count.sh")),
    ("data/looms.csv", include_str!("../../assets/bare/looms.csv")),
];

/// A tabular model, from table to scores, in Python's standard library.
pub const TABULAR: Files = &[
    ("textum.toml", include_str!("../../assets/tabular/textum.toml")),
    ("data/shifts.csv", include_str!("../../assets/tabular/data/shifts.csv")),
    ("steps/clean.py", include_str!("../../assets/demo/steps/clean.py")),
    ("steps/split.py", include_str!("../../assets/demo/steps/split.py")),
    ("steps/fit.py", include_str!("../../assets/demo/steps/fit.py")),
    ("steps/score.py", include_str!("../../assets/demo/steps/score.py")),
];
