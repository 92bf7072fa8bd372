//! The built program, driven in a closed environment.

#[path = "../../../odd-stack-core/tests/all/archives.rs"]
mod archives;
mod closed;
mod damage;
#[cfg(unix)]
mod deeds;
mod demo;
mod facts;
mod failures;
mod fits;
mod hostile;
mod laws;
mod living;
mod main_job;
mod meeting;
mod places;
mod rescue;
mod sharing;
#[cfg(unix)]
mod terminal;
mod versions;
#[cfg(windows)]
mod windows;
