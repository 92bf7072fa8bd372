//! What goes on running of all that was started.

use super::Running;

#[cfg(windows)]
use crate::files::windows::Job;

/// All that this process starts from now on, and what that starts in its turn: an installer that unpacks another and ends,
/// a launcher. Only Windows can tell, by a job object; elsewhere nothing is known.
#[derive(Debug)]
pub struct Started {
    #[cfg(windows)]
    job: Option<Job>,
}

impl Started {
    /// Begins to note what is started. This process is noted itself, so that no child can be quicker. Where the system
    /// refuses that, nothing is known.
    #[cfg(windows)]
    pub fn from_now_on() -> Self {
        Self { job: Job::of_this_process() }
    }

    /// Begins to note what is started; see the type.
    #[cfg(not(windows))]
    pub fn from_now_on() -> Self {
        Self {}
    }

    /// What of it runs, this process apart.
    #[cfg(windows)]
    pub fn running(&self) -> Vec<Running> {
        self.job.iter().flat_map(Job::others).filter_map(Running::of).collect()
    }

    /// What of it runs, this process apart.
    #[cfg(not(windows))]
    pub fn running(&self) -> Vec<Running> {
        Vec::new()
    }
}
