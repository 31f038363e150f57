//! The story of the sample project: what is said, done by hand, and asked of Textum.

use std::path::Path;

use textum_core::fsio::IoError;

/// A step of the story.
pub enum Step {
    /// Somebody tells what happens.
    Say(&'static str),
    /// Something is done by hand; the words are shown like a command.
    Hand(&'static str, fn(&Path) -> Result<(), IoError>),
    /// A command of the shell, for what the shed does.
    Shell(&'static str),
    /// A command of Textum; `FIRST` stands for the first run's id.
    Textum(&'static [&'static str]),
}

fn slower_rate(project: &Path) -> Result<(), IoError> {
    let path = project.join("textum.toml");
    let text = std::fs::read_to_string(&path).map_err(IoError::of("read", &path))?;
    let changed = text.replacen("rate = 0.2", "rate = 0.1", 1);
    std::fs::write(&path, changed).map_err(IoError::of("write", &path))
}

/// The whole story, in order.
pub fn story() -> Vec<Step> {
    use Step::{Hand, Say, Shell, Textum};
    vec![
        Say(
            "A weaving shed wants to know which looms will stop in the next shift. The pipeline has four\nstages: clean, split, fit, judge. What would a run do?",
        ),
        Textum(&["plan"]),
        Say("Nothing has run before, so everything would. Run it."),
        Textum(&["run"]),
        Say("Once more: nothing has changed, nothing is executed."),
        Textum(&["run"]),
        Say("Does a smaller learning rate do better? Only what depends on it runs again."),
        Hand("sed -i 's/rate = 0.2/rate = 0.1/' textum.toml", slower_rate),
        Textum(&["plan"]),
        Textum(&["run"]),
        Say(
            "The shed exports its data anew, over the old file. Nobody notices that shed C now gives\nhumidity as a fraction instead of a percentage.",
        ),
        Shell("python3 shed/export.py data/shifts.csv --mistake"),
        Textum(&["plan"]),
        Textum(&["run"]),
        Say("The scores are others now. Which runs were there, and what differed?"),
        Textum(&["runs"]),
        Say("Another version of the data. What has changed in it?"),
        Textum(&["data", "versions", "shifts"]),
        Textum(&["data", "diff", "shifts@1", "shifts@2"]),
        Say(
            "One column, one shed, a hundredth of what it was: a fraction instead of a percentage. Somebody\nshould know; and which runs have learnt from such rows?",
        ),
        Textum(&["data", "record", "shifts@2", "-m", "shed C: humidity as a fraction, do not use"]),
        Textum(&["data", "find", "shifts", "--where", "shed = \"C\" and humidity < 1"]),
        Say("Back to the good version: its results are recorded, so nothing is executed."),
        Textum(&["restore", "shifts@1"]),
        Textum(&["run"]),
        Textum(&["data", "versions", "shifts"]),
        Say("Where does the model that stands here come from?"),
        Textum(&["trace", "build/model.json"]),
        Say("And the first run of all, before the rate was changed: its data and outputs, as they were."),
        Textum(&["restore", "FIRST"]),
        Textum(&["trace", "build/model.json"]),
        Say("And the proof: make the first model again from nothing but its recorded inputs."),
        Textum(&["rebuild", "FIRST:build/model.json"]),
        Textum(&["show", "FIRST"]),
    ]
}
