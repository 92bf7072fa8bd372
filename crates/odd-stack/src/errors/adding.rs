//! What stands against making a layer of a package, or of what lies in the game.

use odd_stack_core::fit::FitError;
use odd_stack_core::jobs::{AddError, FoundBy};

use super::{Exit, Failure};
use crate::shell::{in_quotes, quoted};

impl From<AddError> for Failure {
    fn from(error: AddError) -> Self {
        match error {
            AddError::Package(error) => error.into(),
            AddError::Check(error) => error.into(),
            AddError::Fit { package, source } => {
                let about_rules = matches!(
                    source,
                    FitError::BadPlace { .. } | FitError::BadPattern { .. } | FitError::Address(_)
                );
                let failure = Self::from(source);
                if about_rules { failure } else { failure.of_package(&package) }
            }
            AddError::Change(error) => error.into(),
            AddError::NotIntoContainer { .. } => Self::of(Exit::Failed, "into_container", &error).advising(
                "`oddstack trace` shows what is in a container; to bring the whole file, leave `!/` out",
            ),
            AddError::LikeSignature { ref container, ref folders } => {
                let away = |folder: &String| {
                    format!("--take-away {}", in_quotes(&format!("{container}!/{folder}/**")))
                };
                let away: Vec<String> = folders.iter().map(away).collect();
                Self::of(Exit::Undecided, "like_signature", &error)
                    .choice("take it away with the change, as games that check it want", away.join(" "))
                    .choice("leave it as it is", "--keep-signature")
            }
            AddError::NotLookedInto { .. } => Self::of(Exit::Failed, "not_looked_into", &error),
            AddError::NoContainer { .. } => Self::of(Exit::Failed, "no_container", &error)
                .advising("leave --as-members out to add its files as they are"),
            AddError::BadNeed { .. } => Self::of(Exit::Usage, "bad_need", &error),
            AddError::BadFact { .. } => Self::of(Exit::Usage, "bad_fact", &error),
            AddError::NothingLies { .. } | AddError::NoOriginal { .. } | AddError::OriginalsFound { .. } => {
                of_adopting(&error)
            }
            AddError::IsPatch { .. } => Self::of(Exit::Undecided, "is_patch", &error)
                .choice("put its files onto what the layer has", "--patch")
                .choice("it is the whole new version all the same", "--whole"),
            AddError::MayBePatch { ref present, .. } => {
                let onto = present.as_ref().map(|present| format!(" --onto {}", quoted(present)));
                Self::of(Exit::Undecided, "may_be_patch", &error)
                    .choice(
                        "put its files onto what the layer has",
                        format!("--patch{}", onto.unwrap_or_default()),
                    )
                    .choice("it is the whole new version; the rest goes", "--whole")
            }
            AddError::PatchOfOther { ref wanted, ref present, .. } => {
                let failure = Self::of(Exit::Undecided, "patch_of_other", &error);
                match (wanted, present) {
                    (None, Some(present)) => failure
                        .choice("it is for the version that is there", format!("--onto {}", quoted(present))),
                    _ => failure.choice("put it on all the same", "--despite"),
                }
            }
            AddError::Sheet { .. } => Self::of(Exit::Failed, "fit_sheet_unreadable", &error),
            AddError::BadName { .. } => Self::of(Exit::Usage, "bad_name", &error),
            AddError::NameTaken { ref free, .. } => Self::of(Exit::Undecided, "name_taken", &error)
                .choice("another name", format!("--name {}", quoted(free))),
            AddError::NoSuchLayer { .. } => Self::of(Exit::Undecided, "no_such_layer", &error),
            AddError::Twice { .. } => Self::of(Exit::Usage, "layer_twice", &error),
            AddError::LinksOut { ref links, .. } => Self::of(Exit::Undecided, "links_out", &error)
                .about(links.iter().map(|link| format!("{} -> {}", link.path, link.target)))
                .choice("leave these links out and go on", "--skip-links"),
        }
    }
}

/// What stands against taking up what somebody has put into the game by hand.
fn of_adopting(error: &AddError) -> Failure {
    match error {
            AddError::NothingLies { .. } => {
                Failure::of(Exit::Failed, "nothing_to_adopt", error).advising("`oddstack add` puts them there")
            }
            AddError::NoOriginal { container, .. } => Failure::of(Exit::Failed, "no_original", error).advising(
                &format!(
                    "put the original {container} beside it, with `.orig` after its name; or let the game's client \
                     repair its files, then `oddstack add` the package"
                ),
            ),
            AddError::OriginalsFound { found } => Failure::of(Exit::Undecided, "originals_found", error)
                .about(found.iter().map(|row| {
                    let by = if row.by == FoundBy::Name { "by its name" } else { "by its size and time" };
                    format!("{}  lies at {} ({by})", row.address, row.lies_at)
                }))
                .choice("keep them, to be put back when the layer is lifted", "--originals take")
                .choice("leave them where they are, as files of their own", "--originals leave"),
        _ => Failure::of(Exit::Failed, "nothing_to_adopt", error).advising("`oddstack add` puts them there"),
    }
}
