//! The command line as a whole: which forms each command prints in, and options that all commands share told last.

use clap::builder::PossibleValue;
use clap::{Arg, ArgMatches, Args, CommandFactory, FromArgMatches, ValueEnum};

use crate::args::{Arguments, Format};

const TEXT: &[Format] = &[Format::Text];
const TEXT_JSON: &[Format] = &[Format::Text, Format::Json];
const TABLES: &[Format] = &[Format::Text, Format::Json, Format::Csv, Format::Md];

/// Forms that each command prints in, by its words; `plan` draws `dot` and `mermaid` with `--graph` only.
const FORMS: &[(&str, &[Format])] = &[
    ("new", TEXT),
    ("demo", TEXT),
    ("place", TEXT_JSON),
    ("place list", TEXT_JSON),
    ("place check", TEXT_JSON),
    ("place release", TEXT_JSON),
    ("plan", &[Format::Text, Format::Json, Format::Dot, Format::Mermaid]),
    ("draft", TEXT_JSON),
    ("adopt", TEXT_JSON),
    ("run", TEXT_JSON),
    ("resume", TEXT_JSON),
    ("stop", TEXT_JSON),
    ("emit", TEXT),
    ("data", TABLES),
    ("data add", TEXT_JSON),
    ("data record", TEXT_JSON),
    ("data versions", TABLES),
    ("data diff", &[Format::Text, Format::Json, Format::Csv, Format::Md, Format::Html]),
    ("data find", TABLES),
    ("data erase", TEXT_JSON),
    ("data examine", TABLES),
    ("data propose", TEXT_JSON),
    ("data profile", &[Format::Text, Format::Json, Format::Csv, Format::Md, Format::Html]),
    ("runs", TABLES),
    ("show", TEXT_JSON),
    ("compare", TABLES),
    ("plot", &[Format::Text, Format::Json, Format::Csv]),
    ("follow", TEXT),
    ("report", &[Format::Text, Format::Md, Format::Html]),
    ("note", TEXT_JSON),
    ("label", TEXT_JSON),
    (
        "trace",
        &[
            Format::Text,
            Format::Json,
            Format::Dot,
            Format::Mermaid,
            Format::Prov,
            Format::Intoto,
            Format::Cyclonedx,
            Format::RoCrate,
        ],
    ),
    ("impact", &[Format::Text, Format::Json, Format::Dot, Format::Html]),
    ("restore", TEXT_JSON),
    ("rebuild", TEXT_JSON),
    ("publish", TEXT_JSON),
    ("alias", TEXT_JSON),
    ("retire", TEXT_JSON),
    ("card", TEXT_JSON),
    ("fetch", TEXT_JSON),
    ("snippet", TEXT),
    ("registry", TABLES),
    ("registry list", TABLES),
    ("registry show", TABLES),
    ("registry history", TABLES),
    ("registry check", TEXT_JSON),
    ("registry section", TEXT_JSON),
    ("registry role", TEXT_JSON),
    ("registry approve", TEXT_JSON),
    ("registry watch", TEXT_JSON),
    ("depot", TEXT_JSON),
    ("depot add", TEXT_JSON),
    ("depot list", TABLES),
    ("depot check", TEXT_JSON),
    ("depot remove", TEXT_JSON),
    ("sync", TEXT_JSON),
    ("verify", TEXT_JSON),
    ("prune", TEXT_JSON),
    ("stats", TABLES),
    ("completions", TEXT),
    ("manual", TEXT),
];

/// The forms that a command prints in.
pub fn of(words: &str) -> &'static [Format] {
    FORMS.iter().find(|(name, _)| *name == words).map_or(TEXT, |(_, forms)| forms)
}

/// The words of the command that was given.
pub fn words_of(matches: &ArgMatches) -> String {
    let mut words = Vec::new();
    let mut at = matches;
    while let Some((name, inner)) = at.subcommand() {
        words.push(name);
        at = inner;
    }
    words.join(" ")
}

/// The arguments of one command, which are not told to the grammar before this command is the one that was given (or all
/// are asked for, by [`clap::Command::build`]): to tell those of all commands is half of a short command's time.
#[derive(Debug)]
pub struct Deferred<T>(pub T);

impl<T: FromArgMatches> FromArgMatches for Deferred<T> {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        T::from_arg_matches(matches).map(Deferred)
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        self.0.update_from_arg_matches(matches)
    }
}

impl<T: Args> Args for Deferred<T> {
    fn augment_args(command: clap::Command) -> clap::Command {
        command.defer(|command| {
            let words = command.get_name().to_string();
            // What all commands share is told to each before its own.
            let format = command.get_arguments().find(|a| a.get_id() == "format").cloned();
            let about = command.get_about().cloned();
            let command = T::augment_args(command).about(about.unwrap_or_default());
            match format {
                Some(format) => below(command.mut_arg("format", |own| told(own, of(&words))), &words, &format),
                None => command,
            }
        })
    }

    fn augment_args_for_update(command: clap::Command) -> clap::Command {
        Deferred::<T>::augment_args(command)
    }
}

/// The grammar of the command line.
pub fn command() -> clap::Command {
    Arguments::command()
}

/// The grammar for completing a word: a shell is offered one group of options, in the order that help has, those of every
/// command last.
pub fn command_to_complete() -> clap::Command {
    let mut whole = command();
    whole.build();
    whole.mut_subcommands(|sub| sub.mut_args(|arg| arg.help_heading(None)))
}

fn name_of(form: Format) -> String {
    form.to_possible_value().as_ref().map(PossibleValue::get_name).unwrap_or_default().to_string()
}

/// Each command has its own `--format`, which tells the forms of this command alone; where there is but one, it need not be
/// told of. This is for the commands below one.
fn below(command: clap::Command, words: &str, format: &Arg) -> clap::Command {
    let names: Vec<String> = command.get_subcommands().map(|c| c.get_name().to_string()).collect();
    names.into_iter().fold(command, |command, name| {
        let words = format!("{words} {name}");
        command.mut_subcommand(name, |sub| below(sub.arg(told(format.clone(), of(&words))), &words, format))
    })
}

fn told(format: Arg, forms: &[Format]) -> Arg {
    let names: Vec<String> = forms.iter().map(|f| name_of(*f)).collect();
    let (last, first) = names.split_last().map_or(("", &[][..]), |(last, first)| (last.as_str(), first));
    let help = if first.is_empty() { last.to_string() } else { format!("Print as {} or {last}", first.join(", ")) };
    format.help(help).hide(first.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn every(command: &clap::Command, words: &str, found: &mut Vec<String>) {
        for sub in command.get_subcommands() {
            let words = if words.is_empty() { sub.get_name().to_string() } else { format!("{words} {}", sub.get_name()) };
            every(sub, &words, found);
            found.push(words);
        }
    }

    #[test]
    fn every_command_has_its_forms_and_no_other_is_listed() {
        let mut found = Vec::new();
        let mut all = command().disable_help_subcommand(true);
        all.build();
        every(&all, "", &mut found);
        found.sort_unstable();
        let mut listed: Vec<&str> = FORMS.iter().map(|(name, _)| *name).collect();
        listed.sort_unstable();
        assert_eq!(found, listed);
        command().debug_assert();
    }

    #[test]
    fn a_command_is_told_to_the_grammar_where_it_is_given_and_no_other_is() {
        let mut grammar = command();
        grammar.try_get_matches_from_mut(["textum", "data", "diff", "a", "b", "--format", "csv"]).unwrap();
        let told = |name: &str| {
            let known = grammar.find_subcommand(name).unwrap();
            known.has_subcommands() || known.get_arguments().any(|a| a.get_help_heading() != Some(crate::args::SHARED))
        };
        let given = FORMS.iter().map(|(name, _)| *name).filter(|name| !name.contains(' ') && told(name)).collect::<Vec<_>>();
        assert_eq!(given, ["data"]);
    }

    #[test]
    fn a_shell_is_offered_what_all_commands_share_last() {
        let words = ["textum", "data", "diff", "--"].map(Into::into).to_vec();
        let offered = clap_complete::engine::complete(&mut command_to_complete(), words, 3, None).unwrap();
        let offered: Vec<&str> = offered.iter().filter_map(|c| c.get_value().to_str()).collect();
        assert_eq!(offered[0], "--key");
        assert_eq!(offered[offered.len() - 5..], ["--format", "--color", "--quiet", "--verbose", "--help"]);
    }

    #[test]
    fn what_is_told_late_is_told_alike_in_help_in_lists_and_in_errors() {
        let mut whole = command();
        whole.build();
        for (name, forms) in FORMS.iter().filter(|(name, _)| !name.contains(' ')) {
            let help = command().try_get_matches_from(["textum", name, "--help"]).unwrap_err().to_string();
            let known = whole.find_subcommand_mut(name).unwrap();
            assert!(help.contains(&known.get_about().unwrap().to_string()), "{name}: {help}");
            for arg in known.get_arguments().filter(|a| !a.is_hide_set() && a.get_long().is_some()) {
                assert!(help.contains(&format!("--{}", arg.get_long().unwrap())), "{name}: {help}");
            }
            assert_eq!(help.contains("--format"), forms.len() > 1, "{name}: {help}");
            let listed = command().render_long_help().to_string();
            assert!(listed.lines().any(|line| line.trim_start().starts_with(&format!("{name} "))), "{name}: {listed}");
        }
        let slip = command().try_get_matches_from(["textum", "run", "--vray", "a=1"]).unwrap_err().to_string();
        assert!(slip.contains("--vary"), "{slip}");
        let slip = command().try_get_matches_from(["textum", "rnu"]).unwrap_err().to_string();
        assert!(slip.contains("'runs'"), "{slip}");
    }
}
