//! `oddstack lay`

use odd_stack_core::jobs::Reorder;

use super::standing::{LayersArgs, set_laid};
use crate::Ended;
use crate::desk::Desk;
use crate::errors::Failure;

pub fn run(desk: &mut Desk, args: &LayersArgs) -> Result<Ended, Failure> {
    set_laid(desk, args, Reorder::Lay, ("lay", "Laid", "All layers are laid."))
}
