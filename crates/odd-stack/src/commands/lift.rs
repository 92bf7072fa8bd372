//! `oddstack lift`

use odd_stack_core::jobs::Reorder;

use super::standing::{LayersArgs, set_laid};
use crate::Ended;
use crate::errors::Failure;
use crate::session::Session;

pub fn run(session: &mut Session, args: &LayersArgs) -> Result<Ended, Failure> {
    set_laid(
        session,
        args,
        Reorder::Lift,
        ("lift", "Lifted", "All layers are lifted: the game is itself again."),
    )
}
