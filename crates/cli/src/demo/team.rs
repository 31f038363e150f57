//! The second act: two machines and a depot.

use super::Step;

/// Who does something: the folder of a machine; empty where it is done beside all of them.
pub type Scene = (&'static str, Step);

/// The second act, in order. `in_git`: whether machines clone a repository, or the files are copied.
pub fn team_story(in_git: bool) -> Vec<Scene> {
    use Step::{Git, Say, Shell, Textum};
    let clone = if in_git {
        "git clone --quiet ada bo"
    } else {
        "mkdir bo && (cd ada && tar cf - --exclude .textum --exclude build --exclude data .) | tar xf - -C bo"
    };
    let again = if in_git {
        "rm -rf ada && git clone --quiet bo ada"
    } else {
        "rm -rf ada && mkdir ada && (cd bo && tar cf - --exclude .textum --exclude build --exclude data .) | tar xf - -C ada"
    };
    vec![
        ("ada", Say("Ada and Bo work on one pipeline, each on a machine of their own. Ada begins, and trains.")),
        ("ada", Textum(&["run"])),
        ("ada", Say("A depot is what they share: here a folder, as well a bucket or a machine that is reached by ssh.")),
        ("ada", Textum(&["depot", "add", "team", "../depot"])),
        ("ada", Textum(&["sync"])),
        ("ada", Git("git add --all; git commit --quiet --message 'A depot for the team'")),
        ("", Say("Bo has nothing but the repository.")),
        ("", Shell(clone)),
        ("bo", Shell("ls")),
        ("bo", Say("One command brings the data and the model that this commit speaks of.")),
        ("bo", Textum(&["restore"])),
        ("bo", Say("Is it really the model of this pipeline? Nothing is left to do, and its lineage is known.")),
        ("bo", Textum(&["run"])),
        ("bo", Textum(&["trace", "build/model.json"])),
        ("bo", Say("Bo tries another rate, and shares what came of it.")),
        ("bo", Textum(&["run", "--set", "fit.rate=0.3"])),
        ("bo", Textum(&["note", "last", "a little better, and twice as fast"])),
        ("bo", Textum(&["sync"])),
        ("ada", Say("Ada has the same idea. It is not trained a second time: what Bo has is right for the same inputs.")),
        ("ada", Textum(&["run", "--set", "fit.rate=0.3"])),
        ("ada", Textum(&["runs"])),
        ("", Say("Then Ada's disk dies.")),
        ("", Shell(again)),
        ("ada", Textum(&["restore"])),
        ("ada", Textum(&["show", "last"])),
        ("ada", Say("Nothing that was synced is lost. Is the depot whole, and how large is it?")),
        ("ada", Textum(&["verify", "--depot", "team", "--deep"])),
        ("ada", Textum(&["stats", "--depot", "team"])),
    ]
}
