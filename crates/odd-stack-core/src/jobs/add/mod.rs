//! Packages become layers: looking into them, placing them, adding, upgrading, adopting what lies in the game.

pub(super) mod adopt;
pub(super) mod adopt_elsewhere;
pub(super) mod adopt_originals;
pub(super) mod answered;
pub(super) mod arrival;
pub(super) mod arriving;
pub(super) mod as_members;
pub(super) mod content_at;
pub(super) mod contents;
pub(super) mod error;
pub(super) mod fit_sheet;
pub(super) mod game_links;
pub(super) mod game_tree;
pub(super) mod inspect;
pub(super) mod into_containers;
pub(super) mod new_layer;
pub(super) mod placing;
pub(super) mod placing_again;
pub(super) mod placing_request;
pub(super) mod remembered;
pub(super) mod report;
pub(super) mod request;
pub(super) mod runs_code;
pub(super) mod start_wishes;
pub(super) mod take_in;
pub(super) mod taken_away;
