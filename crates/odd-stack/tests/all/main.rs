//! The built program, driven in a closed environment.

mod closed;
mod demo;
mod failures;
mod laws;
mod main_job;
