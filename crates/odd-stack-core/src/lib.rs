//! The core of Odd Stack: packages kept as tracked layers over a game's own files.
//!
//! The law everything rests on: what is on disk is a pure function of the base and the ordered, laid
//! layers. Every command changes the stack; then the disk is brought to agree with it, all or
//! nothing.
//!
//! [`OddStack`] is the front door. A program adds a game, adds a package, looks at the stack, and takes the
//! layer out again:
//!
//! ```
//! # let folder = tempfile::tempdir()?;
//! # let (game_folder, package) = (folder.path().join("quillhaven"), folder.path().join("brass-lamps-1.2"));
//! # for (file, text) in [(game_folder.join("data/lamps/brass.qtx"), "plain"), (package.join("data/lamps/brass.qtx"), "bright")] {
//! #     std::fs::create_dir_all(file.parent().unwrap())?;
//! #     std::fs::write(file, text)?;
//! # }
//! use odd_stack_core::change::ChangeOptions;
//! use odd_stack_core::OddStack;
//! use odd_stack_core::jobs::{AddRequest, RegisterRequest, Reorder};
//!
//! let odd_stack = OddStack::open(folder.path().join("home"));
//! let request = RegisterRequest { name: "Quillhaven".into(), folder: game_folder.clone(), ..RegisterRequest::default() };
//! odd_stack.register(&request, false)?;
//! let game = odd_stack.game("quillhaven")?;
//!
//! let adding = game.add(&AddRequest::of(&package), ChangeOptions::default())?;
//! assert_eq!(adding.change.plan().effects.len(), 1);
//! game.apply(adding.change)?;
//! assert_eq!(std::fs::read_to_string(game_folder.join("data/lamps/brass.qtx"))?, "bright");
//!
//! let layers = game.layers()?;
//! assert_eq!(game.stack()?.layers[0].name, "brass-lamps");
//!
//! let remove = Reorder::Remove(vec![layers[0].id]);
//! if let Some(change) = game.reorder(&remove, "remove brass-lamps", ChangeOptions::default(), false)? {
//!     game.apply(change)?;
//! }
//! assert_eq!(std::fs::read_to_string(game_folder.join("data/lamps/brass.qtx"))?, "plain");
//! # Ok::<_, Box<dyn std::error::Error>>(())
//! ```
//!
//! From the bottom to the top; a room imports only what lies beneath it:
//!
//! | room | what it holds | kind |
//! |---|---|---|
//! | [`address`] | [`address::Address`]: which file of which root; refused names; folding | pure |
//! | [`version`], [`members`] | names and versions on file names; what a package holds, as values | pure |
//! | [`stack`] | [`stack::Column`], [`stack::Arrangement`]: who wins where | pure |
//! | [`fit`] | [`fit::fit`]: where a package's files go | pure |
//! | [`blend`] | [`blend::combine`], [`blend::carry_over`]: configuration and texts made of several | pure |
//! | [`files`] | [`files::Seam`]: the way to the file system; looking, walking, hashing | edge |
//! | [`package`], [`game`] | folders and archives as members and streams; what a game is | edge |
//! | [`ledger`] | [`ledger::Ledger`]: catalogue, stored contents, lock | edge |
//! | [`expected`] | what should lie at an address, and how a file compares with it | edge |
//! | [`check`] | what has become of each file | edge |
//! | [`change`] | request, plan, decision, steps, journal, recovery | edge |
//! | [`jobs`] | what the door does, in folders by what it is for: requests and reports | joins them |
//! | [`front`] | all that a face does: [`OddStack`], [`OpenGame`] | the door |
//!
//! The core knows no terminal: it tells progress, and what a person should know ([`notice::Notice`]), to an
//! [`observer::Observer`], and takes the time as a [`Moment`].

#![deny(missing_docs)]
#![cfg_attr(test, allow(clippy::too_many_lines, reason = "a table of cases is as long as it is"))]

pub mod address;
pub mod blend;
pub mod change;
pub mod check;
mod container;
pub mod expected;
pub mod files;
pub mod fit;
pub mod front;
pub mod game;
mod hash;
pub mod jobs;
pub mod ledger;
pub mod members;
mod moment;
pub mod notice;
pub mod observer;
pub mod package;
pub mod stack;
pub mod version;
mod version_order;
mod version_range;

pub use front::{OddStack, OpenGame};
pub use hash::ContentHash;
pub use moment::{Moment, NoMoment};
pub use version_order::compare_versions;
pub use version_range::VersionRange;
