//! The story of the sample project: what is said, done by hand, and asked of Textum.

/// A step of the story.
pub enum Step {
    /// Somebody tells what happens.
    Say(&'static str),
    /// A command of the shell, for what the shed does.
    Shell(&'static str),
    /// A command of the shell for the project's repository; left out where there is none.
    Git(&'static str),
    /// A command of Textum; `FIRST` stands for the first run's id, `SWEEP` for the name of the sweep.
    Textum(&'static [&'static str]),
    /// A run in the background, whose process is killed when a job of it is at a place.
    Lost(&'static [&'static str]),
}

/// The whole story, in order.
pub fn story() -> Vec<Step> {
    use Step::{Git, Say, Shell, Textum};
    vec![
        Say(
            "A weaving shed wants to know which looms will stop in the next shift. The pipeline has five\nstages: clean, split, fit, score, judge. What would a run do?",
        ),
        Textum(&["plan"]),
        Say("Nothing has run before, so everything would. Run it."),
        Textum(&["run"]),
        Say("Once more: nothing has changed, nothing is executed."),
        Textum(&["run"]),
        Say(
            "Which learning rate, and trees of which depth? A run for each combination, side by side; what\nthey share (clean, split) is done once.",
        ),
        Textum(&["run", "--vary", "fit.rate=0.1,0.2,0.4", "--vary", "fit.depth=2..3"]),
        Textum(&["plot", "SWEEP", "--metric", "auc", "--against", "fit.rate"]),
        Say("Is it really only these two parameters in which the best differs from the first run?"),
        Textum(&["compare", "FIRST", "best:auc"]),
        Say("Take its parameters over into the manifest. Its results are recorded: nothing is trained again."),
        Textum(&["restore", "best:auc", "--params"]),
        Textum(&["run"]),
        Git("git add --all; git commit --quiet --message 'The rate and the depth that the sweep found'"),
        Git("git log --oneline"),
        Say("Would more rounds help? Go on from the last checkpoint instead of from scratch."),
        Textum(&["run", "--from", "best:auc#last", "--set", "fit.rounds=60"]),
        Textum(&["plot", "best:auc", "last", "--metric", "watch_loss"]),
        Textum(&["report", "last", "--against", "FIRST", "-o", "report.html"]),
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
        Say(
            "Somebody moves the usual humidity out of steps/clean.py into a module beside it, and forgets to\ndeclare that. The result is the same, so that nothing else runs.",
        ),
        Shell("echo 'HUMIDITY = \"62.0\"' > steps/usual.py"),
        Shell("sed -i -e 's/\"62.0\"/usual.HUMIDITY/' -e 's/^import os/import os, usual/' steps/clean.py"),
        Textum(&["run"]),
        Say("Weeks later the number is changed. No manifest speaks of that file; the plan knows all the same."),
        Shell("sed -i 's/62.0/48.0/' steps/usual.py"),
        Textum(&["plan"]),
        Say("It was a mistake. Taken back, the result stands again; and what is read is written down at last."),
        Shell("sed -i 's/48.0/62.0/' steps/usual.py"),
        Textum(&["plan"]),
        Textum(&["adopt"]),
        Git("git add --all; git commit --quiet --message 'The usual humidity in a module'"),
        Say("Where does the model that stands here come from?"),
        Textum(&["trace", "build/model.json"]),
        Say("And the first run of all, before any parameter was changed: its data and outputs, as they were."),
        Textum(&["restore", "FIRST"]),
        Textum(&["trace", "build/model.json"]),
        Say("And the proof: make the first model again from nothing but its recorded inputs."),
        Textum(&["rebuild", "FIRST:build/model.json"]),
        Textum(&["show", "FIRST"]),
    ]
}
