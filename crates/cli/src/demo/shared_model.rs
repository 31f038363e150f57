//! The third act: a model that others rely on.

use super::{Files, Scene, Step};

/// The project that predicts with a published model.
pub const FORECAST: Files = &[
    ("textum.toml", include_str!("../../assets/forecast/textum.toml")),
    ("predict.py", include_str!("../../assets/forecast/predict.py")),
    ("serve.py", include_str!("../../assets/forecast/serve.py")),
];

/// Tomorrow's rows: what is known before they have happened.
const ROWS: &str = "cut -d, -f1-15 ../ada/build/test.csv | head -61 > tomorrow.csv";

/// The third act, in order. `with_keys`: whether there are keys to sign with.
pub fn shared_model_story(with_keys: bool) -> Vec<Scene> {
    use Step::{Say, Shell, Textum};
    let ada = |words: &'static [&'static str]| ("ada", Textum(words));
    let bo = |words: &'static [&'static str]| ("bo", Textum(words));
    let mut story = vec![
        ("ada", Say("Ada's model is good. Others are to rely on it: it is published where the team shares what it has.")),
        ada(&["run"]),
        ada(&["depot", "add", "team", "../depot"]),
    ];
    if with_keys {
        story.extend([
            ("ada", Say("Who may do what goes by SSH keys. What is live is to be approved by somebody else.")),
            ("ada", Shell("for name in ada bo; do ssh-keygen -q -t ed25519 -N '' -C $name -f ../$name.key; done")),
            ada(&["registry", "section", "weaving", "--accepts", "model", "--guard", "live=1", "--signed", "--key", "../ada.key"]),
            ada(&["registry", "role", "weaving", "reviewer", "../bo.key.pub", "--key", "../ada.key"]),
            ada(&["publish", "stop-predictor", "--section", "weaving", "--key", "../ada.key"]),
            bo(&["registry", "approve", "stop-predictor@1", "--for", "live", "--key", "../bo.key"]),
            ada(&["alias", "stop-predictor@1", "live", "--key", "../ada.key"]),
        ]);
    } else {
        story.extend([ada(&["publish", "stop-predictor"]), ada(&["alias", "stop-predictor@1", "live"])]);
    }
    story.extend([
        ada(&["registry", "show", "stop-predictor@live"]),
        ("", Say("Somewhere else, without a project: does it predict there as it did here?")),
        ("", Textum(&["fetch", "stop-predictor@live", "--depot", "./depot", "-o", "elsewhere", "--check"])),
        ("bo", Say("Bo predicts every evening. The model is an input of his pipeline, by its alias.")),
        ("bo", Shell("cat textum.toml")),
        ("bo", Shell(ROWS)),
        bo(&["run"]),
        ("bo", Shell("head -4 risks.csv")),
        ("bo", Say("A server answers single rows, and says with each answer which version made it.")),
        ("bo", Shell("python3 serve.py --try tomorrow.csv")),
        ("ada", Say("New data comes, and a new version, a little worse: within what the model's check allows.")),
        ("ada", Shell("python3 shed/export.py data/shifts.csv --mistake")),
        ada(&["run"]),
    ]);
    if with_keys {
        story.extend([
            ada(&["publish", "stop-predictor", "--key", "../ada.key"]),
            bo(&["registry", "approve", "stop-predictor@2", "--for", "live", "--key", "../bo.key"]),
            ada(&["alias", "stop-predictor@2", "live", "--key", "../ada.key"]),
        ]);
    } else {
        story.extend([ada(&["publish", "stop-predictor"]), ada(&["alias", "stop-predictor@2", "live"])]);
    }
    story.extend([
        ada(&["sync"]),
        bo(&["plan"]),
        bo(&["run"]),
        ("bo", Say("Some of tomorrow's risks look odd. Where do they come from?")),
        bo(&["trace", "risks.csv"]),
        bo(&["sync"]),
        ("ada", Say("Why do the two versions differ?")),
        ada(&["compare", "stop-predictor@1", "stop-predictor@2"]),
        ("ada", Say("Shed C gave humidity as a fraction. What was made of such rows, and who uses it?")),
        ada(&["impact", "shifts", "--where", "shed = \"C\" and humidity < 1"]),
        ("ada", Say("Back to the version before, and the wrong one is retired.")),
    ]);
    if with_keys {
        story.extend([
            ada(&["alias", "stop-predictor@1", "live", "--only-if", "@2", "--key", "../ada.key"]),
            ada(&["retire", "stop-predictor@2", "--because", "shed C: humidity as a fraction", "--key", "../ada.key"]),
        ]);
    } else {
        story.extend([
            ada(&["alias", "stop-predictor@1", "live", "--only-if", "@2"]),
            ada(&["retire", "stop-predictor@2", "--because", "shed C: humidity as a fraction"]),
        ]);
    }
    story.extend([
        bo(&["plan"]),
        bo(&["run"]),
        ("ada", Say("All of it is in the log: who did what, signed by whom, and that nothing was changed since.")),
        ada(&["registry", "history"]),
        ada(&["registry", "check"]),
    ]);
    story
}
