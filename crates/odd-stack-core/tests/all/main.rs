//! The core driven from outside, on real files in temporary folders.

mod care;
mod changes;
mod corners;
mod crash;
mod faulty;
mod model;
mod packages;
mod world;
