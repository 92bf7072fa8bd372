//! What stands against placing a package: what is asked, with an option for each answer.

use odd_stack_core::fit::{FitError, NothingReason, Unclear};

use super::{Exit, Failure};
use crate::commands::placing::{does_words, options_of};
use crate::shell::quoted;

impl From<FitError> for Failure {
    fn from(error: FitError) -> Self {
        fit_failure(error, "")
    }
}

/// A package that can't be placed. Of several packages `scope` is what the words of options for this one begin with.
#[expect(clippy::too_many_lines, reason = "one arm for each error")]
pub fn fit_failure(error: FitError, scope: &str) -> Failure {
    let (exit, code) = match &error {
        FitError::OnlyPacked { candidates, .. } | FitError::Unclear(Unclear { candidates, .. }) => {
            let code = if matches!(error, FitError::Unclear(_)) { "unclear_fit" } else { "only_packed" };
            let mut asked = Failure::of(Exit::Undecided, code, &error);
            if let FitError::Unclear(unclear) = &error {
                asked.message = question_words(unclear);
            }
            return candidates.iter().fold(asked, |failure, candidate| {
                failure
                    .choice(&does_words(&candidate.evidence, candidate.effect), options_of(candidate, scope))
            });
        }
        FitError::ChoiceNeeded { choices, parts } => {
            let asked = Failure::of(Exit::Undecided, "choice_needed", &error);
            let options =
                choices.iter().flat_map(|choice| choice.options.iter().map(move |option| (choice, option)));
            let chosen = options.fold(asked, |failure, (choice, option)| {
                failure.choice(
                    &format!("take {option}"),
                    format!("--choose {}", quoted(&format!("{scope}{}={option}", choice.id))),
                )
            });
            // With a part every choice must be made, too.
            let words =
                |id: &str, option: &str| format!("--choose {}", quoted(&format!("{scope}{id}={option}")));
            let firsts = choices.iter().filter_map(|choice| Some((choice, choice.options.first()?)));
            let (made, first): (Vec<String>, Vec<&str>) =
                firsts.map(|(choice, first)| (words(&choice.id, first), first.as_str())).unzip();
            return parts.iter().filter(|part| !part.on).fold(chosen, |failure, part| {
                let also = format!(
                    "take {}, and `{}`, which is left out otherwise",
                    first.join(" and "),
                    part.folder
                );
                failure.choice(&also, format!("{} {}", made.join(" "), words(&part.id, "on")))
            });
        }
        FitError::NoSuchOption { id, options, .. } => {
            let asked = Failure::of(Exit::Undecided, "no_such_option", &error);
            return options.iter().fold(asked, |failure, option| {
                let choose = quoted(&format!("{scope}{id}={option}"));
                failure.choice(&format!("take {option}"), format!("--choose {choose}"))
            });
        }
        FitError::NoSuchChoice { .. } => (Exit::Failed, "no_such_choice"),
        FitError::PartNeedsPlace { .. } => (Exit::Undecided, "part_needs_place"),
        FitError::NoSheet => (Exit::Failed, "no_fit_sheet"),
        FitError::BadSheet { .. } => (Exit::Failed, "bad_fit_sheet"),
        FitError::BadPlace { .. } => (Exit::Usage, "bad_place"),
        FitError::BadPattern { .. } => (Exit::Usage, "bad_pattern"),
        FitError::Address(_) => (Exit::Failed, "bad_address"),
        FitError::FromMissing { .. } => (Exit::Failed, "from_missing"),
        FitError::TwoToOne { .. } => (Exit::Failed, "two_to_one"),
        FitError::FileAgainstFolder { .. } => (Exit::Failed, "file_against_folder"),
        FitError::Reserved { .. } => (Exit::Failed, "reserved_place"),
        FitError::NothingPlaced { .. } => (Exit::Failed, "nothing_placed"),
    };
    let failure = Failure::of(exit, code, &error);
    match &error {
        FitError::PartNeedsPlace { folder, .. } => {
            failure.advising(&format!("say it with --place \"{folder}=ADDRESS\""))
        }
        FitError::TwoToOne { .. } => failure.advising("leave one out with --skip"),
        FitError::Reserved { .. } => failure.advising("leave it out with --skip"),
        FitError::NothingPlaced { reason: NothingReason::Skipped } => Failure {
            message: "none of the package's files is placed: --skip leaves out all of them".to_owned(),
            ..failure
        },
        FitError::NothingPlaced { reason: NothingReason::NotAmongOnly } => Failure {
            message: "none of the package's files is placed: --only meets none of them".to_owned(),
            ..failure
        },
        _ => failure,
    }
}

/// What is not clear, with what to do first where a root is missing.
pub fn question_words(unclear: &Unclear) -> String {
    let Unclear { question, root_missing, .. } = unclear;
    match root_missing {
        Some(usual) => format!("{question} (`oddstack game set --root {usual}=DIR`)"),
        None => question.clone(),
    }
}
