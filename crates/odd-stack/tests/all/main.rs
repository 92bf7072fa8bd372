//! The built program, driven in a closed environment.

#![allow(clippy::too_many_lines, reason = "a table or a story is as long as it is")]

#[path = "../../../odd-stack-core/tests/all/archives.rs"]
mod archives;
mod building;
mod containers;
mod contests;
mod culprit;
mod damage;
#[cfg(unix)]
mod deeds;
mod demo;
mod facts;
mod failures;
mod first_words;
mod fits;
#[path = "../../../odd-stack-core/tests/all/stored.rs"]
mod stored;
// The ledgers name folders as Unix writes them.
#[cfg(unix)]
mod formats;
mod history;
mod hostile;
mod laws;
mod main_job;
mod over_time;
mod places;
#[cfg(unix)]
mod pseudo_terminal;
#[cfg(unix)]
mod questions;
mod rescue;
mod sandbox;
mod sharing;
#[cfg(unix)]
mod terminal;
mod versions;
#[cfg(windows)]
mod windows;
mod words;
