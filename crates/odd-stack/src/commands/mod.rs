//! One file a command: its arguments, and the way from them to the core and back.

pub mod add;
pub mod adopt;
pub mod capture;
pub mod check;
pub mod completions;
pub mod conflicts;
pub mod demo;
pub mod fit;
pub mod game;
pub mod inspect;
pub mod lay;
pub mod lift;
pub mod man;
pub mod mend;
pub mod patchday;
pub mod placing;
pub mod play;
pub mod remove;
pub mod reorder;
pub mod settle;
pub mod show;
pub mod stack;
pub mod standing;
pub mod trace;
pub mod tweak;
pub mod upgrade;
