//! The one table from errors to what is said, what to do next, and the exit status.

use textum_core::config::manifest::{LoadError, ManifestError, SetError, WriteParamsError};
use textum_core::config::param_file::ParamFileError;
use textum_core::config::sweep::SweepError;
use textum_core::data::DataError;
use textum_core::depot::{DepotError, Fault};
use textum_core::erase::EraseError;
use textum_core::figure::PictureError;
use textum_core::fsio::IoError;
use textum_core::inspect::comparison::{CompareError, PairError};
use textum_core::inspect::curve::CurveError;
use textum_core::inspect::lineage::TraceError;
use textum_core::maintain::rebuild::RebuildError;
use textum_core::maintain::restore::EnvironmentError;
use textum_core::maintain::restore::{ParamsError, RestoreError};
use textum_core::maintain::upkeep::UpkeepError;
use textum_core::maintain::verify::VerifyError;
use textum_core::pipeline::adopt::AdoptError;
use textum_core::pipeline::draft::DraftError;
use textum_core::pipeline::evaluation::{EvaluationError, PairedError};
use textum_core::pipeline::examination::ExaminationError;
use textum_core::pipeline::exec::ExecError;
use textum_core::pipeline::plan::{PlanError, ReadError};
use textum_core::project::depots::DepotsError;
use textum_core::project::fingerprint::{PythonError, ScanError};
use textum_core::project::tree::{ClearError, PutError};
use textum_core::project::workspace::{LoadProjectError, WorkspaceError};
use textum_core::publish::PublishError;
use textum_core::record::ledger::{CheckpointError, FieldError, LedgerError, NameError};
use textum_core::record::receipt::{DocumentError, ReceiptError, TreeReceiptError};
use textum_core::registry::{KeyError, LogError};
use textum_core::share::SyncError;
use textum_core::store::StoreError;
use textum_core::table::TableError;
use textum_core::table::examine::ExamineError;
use textum_core::table::filter::FilterError;
use textum_core::table::without::WithoutError;

/// A command that did not come to its end.
#[derive(Debug)]
pub struct Failure {
    /// What happened, to which file or name.
    pub message: String,
    /// What to do next.
    pub help: String,
    /// The exit status.
    pub code: u8,
    /// The mistakes of a manifest, which are shown in its text.
    pub mistakes: Option<Box<ManifestError>>,
}

/// Something did not succeed that was executed or checked.
pub const UNSUCCESSFUL: u8 = 1;
/// Wrong usage or a wrong manifest.
pub const USAGE: u8 = 2;
/// What was asked for is not there.
pub const NOT_THERE: u8 = 3;
/// Damage, or the operating system refused.
pub const DAMAGE: u8 = 4;
/// A person interrupted it.
pub const INTERRUPTED: u8 = 130;

impl Failure {
    /// A failure with what to do next.
    pub fn new(code: u8, message: impl Into<String>, help: impl Into<String>) -> Failure {
        Failure { message: message.into(), help: help.into(), code, mistakes: None }
    }
}

/// Turns transparent wrappers into the failure of what they wrap.
macro_rules! unwrapping {
    ($error:ident { $($variant:ident),* } $(, $pattern:pat => $make:expr)* $(,)?) => {
        impl From<$error> for Failure {
            fn from(error: $error) -> Failure {
                #[allow(unused_variables)]
                let said = error.to_string();
                match error {
                    $($error::$variant(inner) => inner.into(),)*
                    $($pattern => $make(said),)*
                }
            }
        }
    };
}

fn wrong(help: &'static str) -> impl Fn(String) -> Failure {
    move |said| Failure::new(USAGE, said, help)
}

fn absent(help: &'static str) -> impl Fn(String) -> Failure {
    move |said| Failure::new(NOT_THERE, said, help)
}

fn damaged(help: &'static str) -> impl Fn(String) -> Failure {
    move |said| Failure::new(DAMAGE, said, help)
}

impl From<IoError> for Failure {
    fn from(error: IoError) -> Failure {
        use std::io::ErrorKind as K;
        let help = match error.source.kind() {
            K::NotFound => {
                return Failure::new(
                    NOT_THERE,
                    error.to_string(),
                    "check the path; it is relative to the folder of the project or to -C",
                );
            }
            K::PermissionDenied => "check who may read and write it, then run the command again",
            K::StorageFull | K::QuotaExceeded | K::FileTooLarge => "make room and run the command again; nothing recorded is lost",
            K::ReadOnlyFilesystem => "the file system cannot be written to: work on a copy",
            _ => "nothing recorded is lost; mend the cause and run the command again",
        };
        Failure::new(DAMAGE, error.to_string(), help)
    }
}

impl From<Box<ManifestError>> for Failure {
    fn from(error: Box<ManifestError>) -> Failure {
        Failure { message: error.to_string(), help: String::new(), code: USAGE, mistakes: Some(error) }
    }
}

impl From<ScanError> for Failure {
    fn from(error: ScanError) -> Failure {
        let said = error.to_string();
        match error {
            ScanError::Io(e) => e.into(),
            ScanError::Store(e) => e.into(),
            ScanError::NotUtf8 { .. } => {
                wrong("rename it: recorded paths are UTF-8 text, so that they mean the same everywhere")(said)
            }
            ScanError::LinkLeaves { .. } => {
                wrong("put the content itself there, or declare the place that the link points to")(said)
            }
            ScanError::NotAFile { .. } => wrong("move it out of what is recorded")(said),
        }
    }
}

unwrapping!(StoreError { Io },
    StoreError::Damaged { .. } => damaged("`textum verify` tells what it touches, `textum verify --repair` mends what it can; damaged content is never handed out"),
    StoreError::Missing { .. } => absent("no depot has it either; if it is an output, `textum rebuild` can make it again, and whoever has it sends it with `textum sync`"),
    StoreError::Held { .. } => |said| Failure::new(UNSUCCESSFUL, said, "an erasing was cut off: any command finishes it, as soon as there is room and it may write here"),
    StoreError::Source(_) => damaged("`textum depot check` tells what is wrong with it; nothing here was changed"),
);
impl From<DepotError> for Failure {
    fn from(error: DepotError) -> Failure {
        Failure::from(&error)
    }
}

impl From<&DepotError> for Failure {
    fn from(error: &DepotError) -> Failure {
        let said = error.to_string();
        let (code, help) = match error {
            DepotError::Storage(e) if e.fault == Fault::Temporary => {
                (DAMAGE, "try again later: what has travelled is kept, and it goes on from there")
            }
            DepotError::Storage(e) if e.fault == Fault::Denied => {
                (DAMAGE, "look at the credentials and at who may read and write there")
            }
            DepotError::Storage(_) => (DAMAGE, "look at the depot's url and options: `textum depot check` tries them"),
            DepotError::Store(_) | DepotError::Io(_) => {
                (DAMAGE, "nothing recorded is lost; mend the cause and run the command again")
            }
            DepotError::NotThere(_) => (NOT_THERE, "`textum depot add` makes one; or correct the url"),
            DepotError::Foreign(..) => (USAGE, "name an empty place: a depot shares its place with nothing else"),
            DepotError::Newer { .. } => (DAMAGE, "use a newer Textum; nothing was changed"),
            DepotError::Damaged { depot, .. } => {
                let help = format!(
                    "`textum verify --depot {depot} --deep` tells what it touches, with --repair whoever has the content mends it"
                );
                return Failure::new(DAMAGE, said, help);
            }
            DepotError::Interrupted => (INTERRUPTED, "run it again when you like"),
        };
        Failure::new(code, said, help)
    }
}

unwrapping!(DepotsError {},
    DepotsError::None => absent("`textum depot add NAME URL` declares one"),
    DepotsError::Several(_) => wrong("name one of them"),
    DepotsError::Unknown { .. } => absent("`textum depot list` lists them"),
    DepotsError::Depot(e) => |_| Failure::from(&*e),
);
unwrapping!(SyncError { Depots, Ledger, Receipt, Store, Name, Data },
    SyncError::Forgotten => |said| Failure::new(UNSUCCESSFUL, said, "`textum data erase --pending` erases it here too, with what was made of it; then `textum sync`"),
);
unwrapping!(KeyError {},
    KeyError::Protected(_) => wrong("`ssh-add` it, or name another with --key; --unsigned signs nothing"),
    KeyError::OnlyPublic(_) => wrong("`ssh-add` the private key, or name it with --key; --unsigned signs nothing"),
    KeyError::Unreadable { .. } | KeyError::NotPublic(_) | KeyError::CannotSign { .. } => wrong("name an SSH key (ed25519, ECDSA or RSA) with --key, TEXTUM_KEY or git's user.signingkey; --unsigned signs nothing"),
);
unwrapping!(LogError { Io, Key },
    LogError::Storage(e) => |_| DepotError::from(e).into(),
    LogError::Damaged { .. } => damaged("nothing was changed: `textum registry check` tells all that is not right; whoever has read it before can tell what it was"),
    LogError::NoEffect(_) => |said| Failure::new(UNSUCCESSFUL, said, "nothing was entered: `textum registry section NAME` tells who may do what, `textum registry history` what was done"),
    LogError::Crowded(_) => |said| Failure::new(UNSUCCESSFUL, said, "run the command again"),
);
unwrapping!(PublishError { Log, Depots, Sync, Key, Store, Ledger, Run, Receipt, Document, Trace, Data, Table, Scan, Put, Workspace, Io },
    PublishError::NotThere { what, help } => |_| Failure::new(NOT_THERE, what, help),
    PublishError::Wrong { what, help } => |_| Failure::new(USAGE, what, help),
    PublishError::Refused { what, help } => |_| Failure::new(UNSUCCESSFUL, what, help),
);
unwrapping!(CurveError { Store, Receipt, Io });
unwrapping!(CompareError { Store, Receipt, Ledger });
unwrapping!(PairError { Data, Paired },
    PairError::Stage(_) => wrong("`textum show RUN` lists the stages of a run; name one with --stage"),
    PairError::Other(_) => wrong("compare runs whose stage evaluates in the same way"),
);
unwrapping!(PairedError { Evaluation, Table },
    PairedError::OtherRows(_) => wrong("compare runs whose models judged the same rows: with the same data and the same split"),
);
unwrapping!(EvaluationError { Table, Io, Data },
    EvaluationError::Cells { .. } => wrong("mend the predictions"),
    EvaluationError::Empty(_) => wrong("mend the predictions"),
    EvaluationError::NoScore { .. } => wrong("name a column for each class that occurs"),
    EvaluationError::NoPositive { .. } => wrong("name a class that occurs with `positive`"),
);
unwrapping!(PictureError {},
    PictureError(_) => damaged("write an .svg instead"),
);
unwrapping!(LedgerError { Io, Store, Receipt },
    LedgerError::Older => damaged("run the command again: it is made anew from the receipts"),
    LedgerError::Busy { .. } => |said| Failure::new(UNSUCCESSFUL, said, "nothing is wrong with it: wait for the other process, or end it, and run the command again"),
    LedgerError::Full { .. } => damaged("nothing is wrong with it: make room and run the command again"),
    LedgerError::Refused { .. } => damaged("nothing is wrong with it: check who may write it and the folder that it lies in"),
    LedgerError::Disk { .. } => damaged("check the disk, then run the command again; nothing recorded is lost"),
    LedgerError::NotADatabase { .. } => damaged("the ledger is only an index: `textum verify --repair` makes it anew from the receipts"),
    LedgerError::Damaged { .. } => damaged("the ledger is only an index: `textum verify --repair` makes it anew from the receipts"),
    LedgerError::Newer { .. } => damaged("use a newer Textum, or let this one make its own: `textum verify --repair`"),
);
unwrapping!(ReceiptError { Store, Document });
unwrapping!(DocumentError {},
    DocumentError::Malformed { .. } => damaged("run `textum verify` to see what it touches"),
    DocumentError::Newer { .. } => damaged("use the newer Textum that wrote it"),
    DocumentError::Unwritable(_) => damaged("please report this"),
);
unwrapping!(WorkspaceError { Io },
    WorkspaceError::NoProject(_) => absent("begin one with `textum new`, or name its folder with -C"),
    WorkspaceError::Newer { .. } => damaged("use a newer Textum; nothing was changed"),
    WorkspaceError::Format { .. } => damaged("write that line into it again, and run `textum verify`; nothing recorded is lost by this"),
    WorkspaceError::Busy { .. } => |said| Failure::new(UNSUCCESSFUL, said, "wait for it to end, or work beside it with `textum run --sandbox`"),
);
unwrapping!(LoadError { Io, Mistakes });
unwrapping!(SweepError { Set },
    SweepError::Range { .. } => wrong("values are a list (0.05,0.1), a range of whole numbers (2..5), with a step (0..1:0.25), even(0..1, 5) or log(0.001..0.1, 5)"),
    SweepError::Twice(_) => wrong("give each parameter once: --vary with all its values, or --set with one"),
    SweepError::Endless(_) => wrong("draw some of them with --sample N, or vary less"),
);
unwrapping!(CheckpointError { Ledger },
    CheckpointError::None { .. } => absent("declare `checkpoints = \"build/checkpoints\"` in the stage, and signal with `textum emit --checkpoint`; `textum runs --steps RUN` lists what there is"),
    CheckpointError::NoStep { .. } => absent("`textum runs --steps RUN` lists its steps and checkpoints"),
    CheckpointError::SeveralStages { .. } => wrong("name the stage too, as in 7f3a:fit#4"),
    CheckpointError::NoDirection(_) => wrong("add [metric.NAME] with better = \"higher\" or \"lower\" to the manifest"),
    CheckpointError::Form(_) => wrong("`textum runs --steps RUN` lists steps and checkpoints"),
);
unwrapping!(ParamsError { Manifest, Load, Io });
unwrapping!(ParamFileError { Io },
    ParamFileError::NoPlace { .. } => wrong("a value with an anchor, an alias, a merged one or a list over several lines has no place of its own: change the file by hand, or give it one"),
    ParamFileError::Format(_) | ParamFileError::TooLarge(_) | ParamFileError::Malformed { .. } => wrong("correct the file: `textum plan` shows what is wrong"),
);
unwrapping!(WriteParamsError {},
    WriteParamsError::Malformed(_) => wrong("correct the manifest: `textum plan` shows its mistakes"),
);
unwrapping!(LoadProjectError { Workspace, Manifest, Ledger });
unwrapping!(SetError {},
    SetError::Form(_) | SetError::Unknown { .. } => wrong("`textum show last` lists the parameters; the manifest has them in [params], or in the files that it names in `param_files`"),
    SetError::Table { .. } => wrong("set one of these"),
    SetError::WrongType { .. } => wrong("give a value of the type that it has now"),
);
unwrapping!(PythonError {},
    PythonError::NotFound(_) => absent("install it, activate its virtual environment, or correct `python` in [environment]"),
    PythonError::InProject(_) => |said| Failure::new(UNSUCCESSFUL, said, "`textum run` starts it; reading commands execute nothing that lies in the project"),
    PythonError::NoAnswer { .. } => damaged("start the interpreter by hand to see what is wrong with it"),
);
unwrapping!(TreeReceiptError { Io },
    TreeReceiptError::Malformed { .. } => wrong("bring it back with `git checkout -- textum.receipt.json`, or delete it: the next run writes it anew"),
);
unwrapping!(ReadError { Scan, Store });
unwrapping!(PlanError { Mistakes, Read, Python, Ledger, Receipt, Document, Tree, Data },
    PlanError::NoStage { .. } => absent("`textum plan` lists the stages"),
);
unwrapping!(EnvironmentError { Io, Receipt, Put },
    EnvironmentError::None(_) => absent("`textum trace RUN --all` tells what its stages were seen to read"),
    EnvironmentError::NotEmpty(_) => wrong("name a new or an empty folder"),
    EnvironmentError::TwoVersions { .. } => wrong("each file comes from one environment"),
    EnvironmentError::NoInterpreter { .. } => absent("install that version, and name it in [environment] python"),
    EnvironmentError::Command { .. } => damaged("keep = \"files\" in [environment] keeps the files of later runs, so that neither an index nor a network is needed"),
);
unwrapping!(DraftError { Io, Mistakes },
    DraftError::Taken(_) | DraftError::Name(_) => wrong("choose another name, or take the stage out of textum.toml first"),
    DraftError::Failed(_) => |said| Failure::new(UNSUCCESSFUL, said, "what it printed stands above; the manifest is as it was"),
    DraftError::NotObserved(_) => |said| Failure::new(UNSUCCESSFUL, said, "write the stage by hand: docs/observing.md says what observing needs"),
    DraftError::NothingWritten => |said| Failure::new(UNSUCCESSFUL, said, "let it write its result into a file of the project; the manifest is as it was"),
    DraftError::Settle(_) => damaged("run the command again"),
);
unwrapping!(AdoptError { Plan, Ledger, Receipt, Document, Store, Io, Mistakes, Load },
    AdoptError::Layout(_) => wrong("`textum adopt --dry-run` tells what it reads"),
);
unwrapping!(PutError { Io, Store, Clear },
    PutError::LinkLeaves { .. } => damaged("the receipt that speaks of it is not one that Textum wrote: restore what you need path by path, as in RUN:PATH"),
);
unwrapping!(ClearError { Io, Store, Ledger },
    ClearError::Own(_) => damaged("the receipt that speaks of it is not one that Textum wrote: restore what you need path by path, as in RUN:PATH"),
);
impl From<Box<DataError>> for Failure {
    fn from(error: Box<DataError>) -> Failure {
        (*error).into()
    }
}

impl From<TableError> for Failure {
    fn from(error: TableError) -> Failure {
        let said = error.to_string();
        match error {
            TableError::Stopped => Failure::new(INTERRUPTED, error.to_string(), "run it again when you like"),
            TableError::Io(e) => e.into(),
            TableError::Source(e) => match e.downcast::<StoreError>() {
                Ok(e) => (*e).into(),
                Err(e) => damaged("`textum verify` looks whether it is whole")(e.to_string()),
            },
            TableError::NoTable { .. } => wrong(
                "tables are files ending in .csv, .tsv, .jsonl, .ndjson, .json or .parquet, also with .gz or .zst, or folders of them; `table = { … }` says of a dataset how another is written",
            )(said),
            TableError::Malformed { .. } => damaged("correct the file, or export it again")(said),
            TableError::NoColumn { columns, .. } => {
                Failure::new(USAGE, said, format!("its columns are {}", crate::render::text::some(&columns, 24)))
            }
            TableError::NoRoom { .. } => damaged("make room and run the command again")(said),
        }
    }
}

/// A condition with what is wrong in it underlined.
pub fn pointed_at(text: &str, source: &FilterError) -> Failure {
    let width = |text: &str| unicode_width::UnicodeWidthStr::width(text);
    let (before, marked) = (&text[..source.at.start], &text[source.at.clone()]);
    let under = format!("{}{}", " ".repeat(width(before)), "^".repeat(width(marked).max(1)));
    Failure::new(USAGE, format!("{}\n  {text}\n  {under}", source.what), source.help.clone())
}

unwrapping!(DataError { Io, Store, Ledger, Scan, Document, Table, Mistakes },
    DataError::Filter { text, source } => |_| pointed_at(&text, &source),
    DataError::NoDataset { .. } => absent("`textum data` lists the datasets; `textum data add PATH` declares one"),
    DataError::NoVersion { .. } => absent("`textum data versions NAME` lists them"),
    DataError::NothingRecorded(_) => absent("`textum data record` records it as it is now"),
    DataError::Absent { .. } => absent("`textum restore NAME@VERSION` brings a recorded version back"),
    DataError::ReferenceChanged { .. } => absent("bring the source back to what it was; Textum never had its bytes"),
    DataError::Folder(_) => wrong("name a table in it; `textum data diff` compares whole folders file by file"),
    DataError::Erased { .. } => absent("what was erased is not to be had again; `textum data versions` lists the others"),
    DataError::ErasedAgain { .. } => |said| Failure::new(UNSUCCESSFUL, said, "put a state without those rows there: `textum data versions` lists what there is, `textum restore NAME@VERSION` brings one back"),
    DataError::NotInFolder { .. } => absent("check the path; it is relative to the dataset's folder"),
    DataError::FileAndFolder(..) => wrong("compare a file with a file, a folder with a folder"),
    DataError::NotAdded { what, help } => |_| Failure::new(USAGE, what, help),
);
impl From<Box<NameError>> for Failure {
    fn from(error: Box<NameError>) -> Failure {
        (*error).into()
    }
}

impl From<Box<CheckpointError>> for Failure {
    fn from(error: Box<CheckpointError>) -> Failure {
        (*error).into()
    }
}

unwrapping!(FieldError { Ledger },
    FieldError::Unknown { .. } => absent("`textum runs --all` shows what runs are told apart by"),
    FieldError::Filter { text, source } => |_| pointed_at(&text, &source),
);
unwrapping!(ExecError { Name, Plan, Io, Scan, ParamFile, Store, Ledger, Receipt, Document, Put, Clear, Python, Workspace, Data },
    ExecError::RunTaken(_) => damaged("run the command again"),
    ExecError::MayBeAtWork(_) => damaged("run it again when the place answers, `textum place check` tells; until then its job could write here"),
    ExecError::NotBegun => |said| Failure::new(INTERRUPTED, said, "run it again"),
    ExecError::NotSelected { .. } => wrong("name the stage among those to run, or name none"),
    ExecError::NoCheckpoints { .. } => wrong("add `checkpoints = \"build/checkpoints\"` to the stage"),
);
unwrapping!(NameError { Ledger },
    NameError::NoRun { .. } | NameError::TooFar { .. } => absent("`textum runs` lists the runs"),
    NameError::NoRuns => absent("make one with `textum run`"),
    NameError::NoMetric { .. } => absent("`textum runs` shows the metrics that runs have"),
    NameError::NoDirection(_) => wrong("add to the manifest, for instance: [metric.auc] better = \"higher\""),
    NameError::Ambiguous { .. } => wrong("give more of it"),
    NameError::NoDigest(_) => absent("check the digits; `textum trace FILE` shows the digests behind a file"),
    NameError::NotADigest(_) => wrong("write it as in b3:91ac22"),
);
unwrapping!(TraceError { Checkpoint, Data, Name, Scan, Io, Ledger, Store, Receipt, Plan },
    TraceError::Elsewhere { .. } => absent("copy the folder .textum of whoever ran it here; or `textum run` makes it anew, and the digests say whether it is the same"),
    TraceError::NeverSeen { .. } => absent("it may be edited since, or come from another project; `textum runs` lists what this one made"),
    TraceError::NoPath { .. } => absent("`textum show RUN` lists what a run read and wrote"),
);
unwrapping!(RestoreError { Put, Receipt, Store, Ledger, Io, Scan, Tree },
    RestoreError::NoPath { .. } => absent("`textum show RUN` lists what a run read and wrote"),
    RestoreError::Gone { .. } => absent("outputs can be made again with `textum rebuild`; whoever has the data sends it with `textum sync`, or it is in another copy of the store"),
    RestoreError::Erased { .. } => absent("what was erased is not to be had again; `textum trace` still tells what it came from"),
    RestoreError::BadPath { .. } => wrong("restore it into a folder with -o, or under another name"),
    RestoreError::NoTreeReceipt(_) => absent("name what to restore, as in `textum restore last`; a run writes textum.receipt.json"),
    RestoreError::Exists(_) => wrong("choose a folder that does not hold it, or move it away: nothing is overwritten"),
);
unwrapping!(RebuildError { Trace, Exec, Environment, Put, Io, Store, Ledger, Receipt, Document, Python },
    RebuildError::Source(_) => wrong("`textum restore` brings a source back; rebuild an output of a stage"),
    RebuildError::Erased(_) => absent("what was erased is not to be had again, so that nothing can be made of it; the receipts stay"),
    RebuildError::NothingDone(_) => absent("choose a run that `textum runs` shows as done"),
    RebuildError::Stopped => |said| Failure::new(INTERRUPTED, said, "nothing was changed; run it again when you like"),
);
unwrapping!(UpkeepError { Io, Store, Ledger, Receipt, Tree, Name, Exec },
    UpkeepError::Damaged { .. } => damaged("`textum verify --repair` mends what can be mended; then run the command again"),
);
unwrapping!(ExaminationError { Data, Examine, Io },
    ExaminationError::Reference(_) => wrong("name the path instead of the version"),
);
unwrapping!(ExamineError { Table },
    ExamineError::Rule { source, .. } => |said: String| Failure::new(USAGE, said, source.help.as_str()),
    ExamineError::NoTable { .. } => wrong("name a path, a dataset or a version that is there"),
);
unwrapping!(WithoutError { Table },
    WithoutError::Filter(_) => wrong("`textum data profile` shows the columns"),
    WithoutError::Form { .. } => wrong("write the files without those rows yourself, and record them"),
    WithoutError::NotTheSame { .. } => damaged("write the file without those rows yourself, record it, and erase them then; nothing was changed"),
);
unwrapping!(EraseError { Data, Without, Io, Store, Ledger, Receipt, Document, Tree, Scan, Put, Workspace, Publish, Upkeep, Depots, Sync },
    EraseError::Folder(_) => wrong("declare the table in it as a dataset of its own, or let a stage take the rows out; `textum impact` tells what was made of a version"),
    EraseError::NoColumn(_) => wrong("name a column, as in --where 'loom = \"L07\"'; a text goes in quotes, a column does not"),
    EraseError::Reason(_) => wrong("say it in other words"),
    EraseError::AtWork(_) => |said| Failure::new(UNSUCCESSFUL, said, "they may be reading the rows: wait for them, or end them with `textum stop`; nothing was changed"),
    EraseError::Unsteady => |said| Failure::new(UNSUCCESSFUL, said, "wait until they are done, and run the command again; nothing was changed"),
    EraseError::Journal(_) => damaged("nothing was done of it; if you know what was to be erased, move the file away and erase it again"),
);
impl From<Box<ExecError>> for Failure {
    fn from(error: Box<ExecError>) -> Failure {
        (*error).into()
    }
}

unwrapping!(VerifyError { Io, Scan, Exec, Store, Ledger, Document });
