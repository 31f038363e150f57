//! `textum data add`.

use std::path::{Path, PathBuf};

use clap::Args;
use textum_base::without_dots;
use textum_core::data::{Declaration, add, record_datasets};
use textum_core::fsio::IoError;
use textum_core::project::workspace::{Project, Workspace};
use textum_core::record::receipt::StorageMode;

use crate::args::{Format, Global};
use crate::commands::{by_whom, here, open_to_write, variables};
use crate::failure::{Failure, NOT_THERE, USAGE};
use crate::render::data::list;
use crate::ui::Ui;

/// What `textum data add` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum data add data/looms.csv --key loom --about \"One row per loom\"\n  textum data add /mnt/shed/photos --name photos --reference\n\nA reference stays where it is: only its digests and the listing of its files are recorded."
)]
pub struct AddArgs {
    /// The file or folder
    #[arg(value_name = "PATH", value_hint = clap::ValueHint::AnyPath)]
    path: Option<PathBuf>,
    /// Its name; left out: that of the file
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// The columns that tell the rows of a table apart
    #[arg(long, value_name = "COL", num_args = 1.., value_delimiter = ',')]
    key: Vec<String>,
    /// Keep digests only; the bytes stay where they are
    #[arg(long)]
    reference: bool,
    /// What is in it, in a sentence
    #[arg(long, value_name = "TEXT")]
    about: Option<String>,
}

fn name_of(path: &Path) -> String {
    let stem = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let stem = stem.split('.').next().unwrap_or_default();
    stem.chars().map(|c| if c.is_ascii_alphanumeric() || matches!(c, '-' | '_') { c } else { '-' }).collect()
}

/// The path as the manifest has it.
fn declared_path(root: &Path, global: &Global, given: &Path, reference: bool) -> Result<String, Failure> {
    let folder = std::fs::canonicalize(here(global)).map_err(IoError::of("open the folder", &here(global)))?;
    let full = without_dots(&folder.join(given));
    if full.symlink_metadata().is_err() {
        return Err(Failure::new(NOT_THERE, format!("there is nothing at {}", full.display()), "check the path"));
    }
    let path = match (full.strip_prefix(root), reference) {
        (Ok(below), _) => below,
        (Err(_), true) => &full,
        (Err(_), false) => {
            let help = "move it into the project, or add --reference to leave its bytes there";
            return Err(Failure::new(USAGE, format!("{} lies outside the project", full.display()), help));
        }
    };
    let text = path.to_str().ok_or_else(|| Failure::new(USAGE, format!("the name {path:?} is not UTF-8"), "rename it"))?;
    Ok(text.to_string())
}

/// Declares and records.
pub fn run(global: &Global, args: &AddArgs, ui: &Ui) -> Result<u8, Failure> {
    let folder = here(global);
    let root = Workspace::find(&folder)?.root().to_path_buf();
    let project = Project::open(&folder, variables())?;
    // `--key COL… PATH` takes the path for a column: the last word is it then.
    let mut key = args.key.clone();
    let given = match &args.path {
        None if key.len() > 1 => key.pop().map(PathBuf::from),
        path => path.clone(),
    };
    let given = given.ok_or_else(|| Failure::new(USAGE, "which file or folder?", "textum data add PATH --name NAME"))?;
    let path = declared_path(&root, global, &given, args.reference)?;
    let name = args.name.clone().unwrap_or_else(|| name_of(&given));
    let declaration = Declaration {
        name: name.clone(),
        path,
        about: args.about.clone(),
        key,
        hold: if args.reference { StorageMode::Reference } else { StorageMode::Store },
    };
    let added = add(&root, &project.manifest, &declaration)?;
    drop(project);
    let mut project = open_to_write(global, ui)?;
    let found = record_datasets(&mut project, &[name], &by_whom(), None)?;
    if ui.format == Format::Json {
        ui.json(&list::recorded_json(&found));
        return Ok(0);
    }
    let mut out = format!("{} to textum.toml\n\n", ui.style.bold("added"));
    added.section.trim_end().lines().for_each(|line| out.push_str(&format!("  {line}\n")));
    if let Some(line) = &added.ignored {
        out.push_str(&format!(
            "\n  {} {line} {}\n",
            ui.style.good("+"),
            ui.style.dim("in .gitignore: Textum keeps the data, git its receipt")
        ));
    }
    out.push('\n');
    out.push_str(&list::recorded(&found, &ui.style));
    ui.result(&out);
    if added.tracked {
        ui.say(&format!(
            "{} git keeps this data too: `git rm --cached {}` leaves it to Textum",
            ui.err_style.accent("note:"),
            declaration.path
        ));
    }
    Ok(0)
}
