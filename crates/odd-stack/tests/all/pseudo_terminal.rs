//! Commands on a pseudo-terminal, as a person has them.

use std::fs::File;
use std::io::{ErrorKind, Read, Write};
use std::process::Stdio;
use std::thread::sleep;
use std::time::{Duration, Instant};

use rustix::io::ioctl_fionbio;
use rustix::process::{Pid, Signal, kill_process};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

use crate::sandbox::Sandbox;

pub const ENTER: &str = "\r";
pub const DOWN: &str = "\u{1b}[B";
pub const CTRL_C: &str = "\u{3}";
/// What the terminal makes of that key for its own processes, which the command is not here.
pub const INTERRUPT: &str = "(interrupted)";
/// The terminal is closed.
pub const HANG_UP: &str = "(hung up)";

/// What came of a command on a terminal.
pub struct OnTerminal {
    /// All that it sent.
    pub sent: String,
    /// Its exit code; none if a signal ended it.
    pub code: Option<i32>,
}

/// Runs a command on a terminal. Whenever it has sent something and is silent for a while it waits for an answer: `answer` is
/// given how often it has answered before and all that was sent, and types what it returns; nothing when it waits on.
pub fn on_terminal(
    sandbox: &Sandbox,
    words: &[&str],
    mut answer: impl FnMut(usize, &str) -> Option<String>,
) -> OnTerminal {
    const SILENT: Duration = Duration::from_millis(400);
    const HANGS: Duration = Duration::from_secs(30);
    let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
    grantpt(&master).unwrap();
    unlockpt(&master).unwrap();
    let name = ptsname(&master, Vec::new()).unwrap();
    let slave = || Stdio::from(File::options().read(true).write(true).open(name.to_str().unwrap()).unwrap());
    let mut command = sandbox.command("", words, &[("TERM", "xterm-256color")]);
    command.stdin(slave()).stdout(slave()).stderr(slave());
    let mut child = command.spawn().unwrap();
    // Else the terminal stays open for us as well.
    drop(command);
    let mut master = Some(File::from(master));
    master.iter().for_each(|master| ioctl_fionbio(master, true).unwrap());
    let (mut all, mut buffer, mut asked, mut answered) = (Vec::new(), [0; 4096], 0, 0);
    let (begun, mut last) = (Instant::now(), Instant::now());
    while let Some(terminal) = master.as_mut() {
        match terminal.read(&mut buffer) {
            Ok(count @ 1..) => {
                all.extend(&buffer[..count]);
                last = Instant::now();
                continue;
            }
            Err(error) if error.kind() == ErrorKind::WouldBlock => {}
            // On Linux the end of the other side is an error.
            _ => break,
        }
        if child.try_wait().unwrap().is_some() {
            break;
        }
        if last.elapsed() > SILENT && all.len() > answered {
            last = Instant::now();
            if let Some(typed) = answer(asked, &String::from_utf8_lossy(&all)) {
                (asked, answered) = (asked + 1, all.len());
                if typed == HANG_UP {
                    master = None;
                } else if typed == INTERRUPT {
                    let process = Pid::from_child(&child);
                    // It may have ended meanwhile.
                    let _ = kill_process(process, Signal::INT);
                } else {
                    // It may have ended meanwhile.
                    let _ = terminal.write_all(typed.as_bytes());
                }
            }
        }
        if begun.elapsed() > HANGS {
            child.kill().unwrap();
            panic!("{words:?} hangs: {}", String::from_utf8_lossy(&all));
        }
        sleep(Duration::from_millis(10));
    }
    while child.try_wait().unwrap().is_none() {
        assert!(begun.elapsed() < HANGS, "{words:?} does not end: {}", String::from_utf8_lossy(&all));
        sleep(Duration::from_millis(10));
    }
    OnTerminal { code: child.wait().unwrap().code(), sent: String::from_utf8_lossy(&all).into_owned() }
}

/// The same, with these answers one after the other, the first when it has asked that.
pub fn answered(sandbox: &Sandbox, words: &[&str], asks: &str, answers: &[&str]) -> OnTerminal {
    on_terminal(sandbox, words, |asked, sent| {
        answers.get(asked).filter(|_| sent.contains(asks)).map(|typed| (*typed).to_owned())
    })
}
