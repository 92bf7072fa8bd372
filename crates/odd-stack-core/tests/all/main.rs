//! The core driven from outside, on real files in temporary folders.

#![allow(clippy::too_many_lines, reason = "a table or a story is as long as it is")]

mod acts;
mod after_stop;
#[allow(dead_code, reason = "the tests of the command line use all of it")]
mod archives;
mod building;
mod changes;
mod container_life;
mod containers;
mod corners;
mod crash;
mod failing;
mod faulty;
mod fits;
// Steps are counted and sources are read: that is the same everywhere.
#[cfg(not(windows))]
mod growth;
#[cfg(not(windows))]
mod house;
mod linking;
mod mending;
mod model;
mod moving;
mod over_time;
mod packages;
mod packing;
mod readers;
mod registering;
mod second_copies;
mod stored;
mod tidying;
mod world;
