//! `oddstack tweak`

use clap::Args;
use odd_stack_core::blend::KeyEdit;
use odd_stack_core::change::ChangeError;
use odd_stack_core::front::Refused;
use odd_stack_core::jobs::OwnEdit;
use odd_stack_core::jobs::{ChangeReport, Tweak, TweakError, TweakRow};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

use super::standing::MOST_EFFECTS;
use crate::Ended;
use crate::args::ChangeArgs;
use crate::errors::{Exit, Failure, clash_lines};
use crate::session::{Session, change_options};
use crate::show::change::{edits, effects, verdict};
use crate::show::table::{Look, cell, table};
use crate::show::units::{counted, short};

/// Keys are written as the file's format has them: Section.key (INI), /section/key (JSON), table.key (TOML),
/// /Root/Element/@attribute (XML).
#[derive(Debug, Args)]
#[command(after_help = "oddstack tweak ADDRESS KEY=VALUE...     set keys\n\
                        oddstack tweak ADDRESS --unset KEY      take a key out\n\
                        oddstack tweak list                     list your edits\n\
                        oddstack tweak drop ADDRESS [KEY...]    drop edits of a file\n\
                        oddstack tweak drop --all               drop them all")]
pub struct TweakArgs {
    /// The file's address; or `list`, or `drop`
    #[arg(value_name = "ADDRESS")]
    pub address: String,
    /// Keys with their values; with `drop`, the address and keys
    #[arg(value_name = "KEY=VALUE")]
    pub words: Vec<String>,
    /// Take this key out
    #[arg(long, value_name = "KEY")]
    pub unset: Vec<String>,
    /// With `drop`: all edits of all files
    #[arg(long)]
    pub all: bool,
    #[command(flatten)]
    pub change: ChangeArgs,
}

impl TweakArgs {
    /// The command's name, as JSON output and the lock tell it.
    pub fn name(&self) -> &'static str {
        match self.address.as_str() {
            "list" => "tweak list",
            "drop" => "tweak drop",
            _ => "tweak",
        }
    }

    fn tweak(&self) -> Result<Tweak, Failure> {
        let usage = |message: &str| Failure::new(Exit::Usage, "usage", message);
        if self.address == "drop" {
            return match (self.words.split_first(), self.all) {
                (None, true) => Ok(Tweak::DropAll),
                (Some((address, keys)), false) => {
                    Ok(Tweak::Drop { address: address.clone(), keys: keys.to_vec() })
                }
                _ => Err(usage("say which edits to drop: `oddstack tweak drop ADDRESS [KEY...]`, or --all")),
            };
        }
        let mut edits = Vec::new();
        for word in &self.words {
            // The value begins behind the first `=` outside of brackets, since XML paths hold some.
            let mut depth = 0;
            let cut = word.char_indices().find(|(_, c)| {
                depth += match c {
                    '[' => 1,
                    ']' => -1,
                    _ => 0,
                };
                *c == '=' && depth == 0
            });
            let Some((cut, _)) = cut.filter(|(cut, _)| *cut > 0) else {
                return Err(usage(&format!("`{word}` is not KEY=VALUE")));
            };
            let (key, value) = (word[..cut].trim().to_owned(), word[cut + 1..].to_owned());
            edits.push(KeyEdit::new(key, Some(value)));
        }
        edits.extend(self.unset.iter().map(|key| KeyEdit::new(key, None)));
        if edits.is_empty() || self.all {
            return Err(usage("say what to change: `oddstack tweak ADDRESS KEY=VALUE...`, or --unset KEY"));
        }
        Ok(Tweak::Set(vec![(self.address.clone(), edits)]))
    }
}

/// What JSON tells of `tweak` and `tweak drop`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct TweakReport {
    /// The edits that are made, or dropped.
    pub edits: Vec<TweakRow>,
    /// What changes on disk.
    pub change: ChangeReport,
}

/// What JSON tells of `tweak list`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub struct TweakList {
    /// All of the user's own edits, by address.
    pub edits: Vec<TweakRow>,
}

pub fn run(session: &mut Session, args: &TweakArgs) -> Result<Ended, Failure> {
    let game = session.open()?;
    if args.address == "list" {
        let edits = game.tweaks()?;
        let text =
            if edits.is_empty() { "You have no edits of your own.\n".to_owned() } else { rows(&edits) };
        session.out.result(Some(&game.about().name), &TweakList { edits }, &text);
        return Ok(Ended::Well);
    }
    let tweak = args.tweak()?;
    let command = match &tweak {
        Tweak::Set(_) => format!("tweak {}", args.address),
        Tweak::Drop { address, .. } => format!("tweak drop {address}"),
        Tweak::DropAll => "tweak drop --all".to_owned(),
    };
    let tweaking = game.tweak(&tweak, &command, change_options(&args.change), args.change.dry_run);
    let tweaking = tweaking.map_err(of_edits)?;
    let edited = tweaking.rows;
    let change = match tweaking.change {
        Some(change) => session.carry_out(&game, change, &args.change, |out, report| {
            out.text(&format!(
                "{}{}{}",
                rows(&edited),
                effects(report, MOST_EFFECTS),
                edits(report, MOST_EFFECTS)
            ));
        })?,
        None => ChangeReport { dry_run: args.change.dry_run, ..ChangeReport::default() },
    };
    let count = counted(edited.len() as u64, "edit", "edits");
    let done = match tweak {
        Tweak::Set(_) => format!("{count} of yours kept, on top of all layers."),
        _ => format!("{count} dropped."),
    };
    let text = verdict(&change, &done);
    session.out.result(Some(&game.about().name), &TweakReport { edits: edited, change }, &text);
    Ok(Ended::Well)
}

/// Where the file on disk was changed by hand in the very keys, there is no other version to choose from.
fn of_edits(error: Refused<TweakError>) -> Failure {
    let Refused::Job(TweakError::Change(ChangeError::EditsClash { files })) = &error else {
        return error.into();
    };
    let message = "the file was changed by hand where this would change it; nothing was changed:";
    Failure::new(Exit::Undecided, "edits_clash", message)
        .about(files.iter().flat_map(|file| clash_lines(file, "now to be")))
        .choice("save the file as it is on disk now and go on", "--keep-edits")
        .choice("discard what is on disk now and go on", "--discard-edits")
}

fn rows(edits: &[TweakRow]) -> String {
    let header =
        [("file", Look::Plain), ("key", Look::Plain), ("yours", Look::Plain), ("beneath", Look::Plain)];
    let value = |value: &Option<String>, none: &str| value.as_deref().map_or(none.to_owned(), short);
    let rows = edits.iter().map(|edit| {
        vec![
            cell(edit.address.clone(), Look::Plain),
            cell(edit.key.clone(), Look::Name),
            match edit.what {
                OwnEdit::File => cell("the whole file", Look::Good),
                OwnEdit::Gone => cell("no file there", Look::Good),
                _ => cell(value(&edit.value, "(taken out)"), Look::Good),
            },
            match edit.what {
                OwnEdit::Key => cell(value(&edit.beneath, "(not there)"), Look::Dim),
                _ => cell("", Look::Dim),
            },
        ]
    });
    table(&header, rows.collect())
}
