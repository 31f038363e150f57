//! The command line as a whole: which forms each command prints in, and options that all commands share told last.

use clap::builder::PossibleValue;
use clap::{Arg, ArgMatches, CommandFactory, ValueEnum};

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

/// The grammar with all its help.
pub fn command() -> clap::Command {
    dressed(Arguments::command(), "", None)
}

/// The grammar for a command line that begins with this word. Where it names a command no other needs its help.
pub fn command_for(first: Option<&str>) -> clap::Command {
    let only = first.filter(|word| FORMS.iter().any(|(name, _)| name == word));
    dressed(Arguments::command(), "", only)
}

fn name_of(form: Format) -> String {
    form.to_possible_value().as_ref().map(PossibleValue::get_name).unwrap_or_default().to_string()
}

/// A command has its own `--format`, which tells the forms of this command alone; where there is but one, it need not be
/// told of.
fn dressed(command: clap::Command, words: &str, only: Option<&str>) -> clap::Command {
    let names = command.get_subcommands().map(|c| c.get_name().to_string());
    let names: Vec<String> = names.filter(|name| only.is_none_or(|only| only == name)).collect();
    let format = command.get_arguments().find(|a| a.get_id() == "format").cloned();
    names.into_iter().fold(command, |command, name| {
        let words = if words.is_empty() { name.clone() } else { format!("{words} {name}") };
        let format = format.clone();
        command.mut_subcommand(name, |sub| {
            let sub = match format {
                Some(format) => sub.arg(told(format, of(&words))),
                None => sub,
            };
            dressed(sub, &words, None)
        })
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
        every(&command(), "", &mut found);
        found.sort_unstable();
        let mut listed: Vec<&str> = FORMS.iter().map(|(name, _)| *name).collect();
        listed.sort_unstable();
        assert_eq!(found, listed);
        command().debug_assert();
    }

    #[test]
    fn a_command_has_the_same_help_whichever_others_have_none() {
        for (name, _) in FORMS.iter().filter(|(name, _)| !name.contains(' ')) {
            let help = |mut command: clap::Command| command.find_subcommand_mut(name).unwrap().render_long_help().to_string();
            assert_eq!(help(command_for(Some(name))), help(command()), "{name}");
        }
        for other in [None, Some("help"), Some("--quiet"), Some("rnu")] {
            assert_eq!(command_for(other).render_long_help().to_string(), command().render_long_help().to_string());
        }
    }
}
