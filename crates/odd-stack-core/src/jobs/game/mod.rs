//! The games: registering, settings, finding, letting go.

pub(super) mod find;
pub(super) mod forget;
pub(super) mod learn_program;
pub(super) mod move_home;
pub(super) mod move_ledger;
pub(super) mod overview;
pub(super) mod register;
pub(super) mod roots;
pub(super) mod settings;
