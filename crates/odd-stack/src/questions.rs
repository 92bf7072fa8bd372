//! What a person is asked on a terminal. Whoever leaves a question gets the terminal back as it was.

use std::io::{self, Write};
use std::sync::OnceLock;
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

use console::{Key, Term};

use crate::errors::{Exit, Failure};
use crate::progress::was_interrupted;
use crate::show::safe::one_line;

static PLAIN: OnceLock<bool> = OnceLock::new();

/// Settles, once for all questions, whether they are lines that are answered by a line.
pub fn ask_plainly(plain: bool) {
    // A demo asks in one process for several commands, all alike.
    let _ = PLAIN.set(plain);
}

fn is_plain() -> bool {
    PLAIN.get().copied().unwrap_or(false)
}

/// Which of `choices` a person picks; nothing when they pick none. Unless `first_is_likely` nothing is taken by Enter alone.
pub fn select(question: &str, choices: &[String], first_is_likely: bool) -> Result<Option<usize>, Failure> {
    if is_plain() {
        return select_plainly(question, choices, first_is_likely);
    }
    let select = dialoguer::Select::new()
        .with_prompt(one_line(question))
        .items(choices.iter().map(|choice| one_line(choice)));
    let select = if first_is_likely { select.default(0) } else { select };
    select.interact_opt().map_err(no_answer)
}

/// Lets a person type a text; nothing when none is given.
pub fn text(question: &str) -> Result<Option<String>, Failure> {
    if is_plain() {
        return Ok(Some(line(&format!("{}: ", one_line(question)))?).filter(|text| !text.is_empty()));
    }
    let asked: dialoguer::Result<String> =
        dialoguer::Input::new().with_prompt(one_line(question)).allow_empty(true).interact_text();
    let text = asked.map_err(no_answer)?;
    Ok(Some(text.trim().to_owned()).filter(|text| !text.is_empty()))
}

/// Asks a person for yes or no.
pub fn confirm(question: &str, usual: bool) -> Result<bool, Failure> {
    if is_plain() {
        let keys = if usual { "Y/n" } else { "y/N" };
        loop {
            match line(&format!("{} [{keys}] ", one_line(question)))?.to_lowercase().as_str() {
                "" => return Ok(usual),
                "y" | "yes" => return Ok(true),
                "n" | "no" => return Ok(false),
                _ => say("Type y or n."),
            }
        }
    }
    let asked = dialoguer::Confirm::new().with_prompt(one_line(question)).default(usual).interact();
    asked.map_err(no_answer)
}

/// What a person answers with one key.
pub enum Answer {
    /// The side of that number, counted from 0.
    Number(usize),
    Keep,
    Skip,
    Done,
    Quit,
}

/// Waits for one of the keys that answer: a number up to `most`, `k`, `s`, `d`, `q`.
pub fn key(most: usize) -> Result<Answer, Failure> {
    loop {
        let key = if is_plain() {
            line("Your answer: ")?.chars().next().map_or(Key::Enter, Key::Char)
        } else {
            Term::stdout().read_key().map_err(|error| no_answer(dialoguer::Error::IO(error)))?
        };
        match key {
            Key::Char('k') | Key::Enter => return Ok(Answer::Keep),
            Key::Char('s') => return Ok(Answer::Skip),
            Key::Char('d') => return Ok(Answer::Done),
            Key::Char('q') | Key::Escape | Key::CtrlC => return Ok(Answer::Quit),
            Key::Char(c) => {
                let number = c.to_digit(10).and_then(|digit| (digit as usize).checked_sub(1));
                if let Some(number) = number.filter(|number| *number < most) {
                    return Ok(Answer::Number(number));
                }
            }
            _ => {}
        }
    }
}

fn select_plainly(
    question: &str,
    choices: &[String],
    first_is_likely: bool,
) -> Result<Option<usize>, Failure> {
    say(&one_line(question));
    for (number, choice) in (1..).zip(choices) {
        say(&format!("  {number}  {}", one_line(choice)));
    }
    let usual = if first_is_likely { "Enter for 1, q for none" } else { "q for none" };
    loop {
        let typed = line(&format!("Number ({usual}): "))?;
        match typed.parse::<usize>() {
            Ok(number) if (1..=choices.len()).contains(&number) => return Ok(Some(number - 1)),
            _ if typed.is_empty() && first_is_likely => return Ok(Some(0)),
            _ if typed == "q" => return Ok(None),
            _ => say(&format!("Type a number from 1 to {}, or q.", choices.len())),
        }
    }
}

fn say(text: &str) {
    // Nobody is left to be told when standard error is closed.
    let _ = writeln!(io::stderr(), "{text}");
}

/// A line that a person types, without spaces around it. Ctrl-C leaves it.
fn line(prompt: &str) -> Result<String, Failure> {
    const LOOKS_AGAIN: Duration = Duration::from_millis(50);
    let mut status = io::stderr();
    let _ = write!(status, "{prompt}").and_then(|()| status.flush());
    // Reading can't be ended from here, so that is left behind when nothing more is wanted.
    let (to, typed) = channel();
    std::thread::spawn(move || {
        let mut text = String::new();
        let read = io::stdin().read_line(&mut text);
        // Nobody waits for it any more when that fails.
        let _ = to.send(read.map(|count| (count, text)));
    });
    loop {
        match typed.recv_timeout(LOOKS_AGAIN) {
            Ok(Ok((0, _))) => {
                return Err(no_answer(dialoguer::Error::IO(io::ErrorKind::UnexpectedEof.into())));
            }
            Ok(Ok((_, text))) => return Ok(text.trim().to_owned()),
            Ok(Err(error)) => return Err(no_answer(dialoguer::Error::IO(error))),
            Err(RecvTimeoutError::Timeout) if !was_interrupted() => {}
            Err(_) => return Err(no_answer(dialoguer::Error::IO(io::ErrorKind::Interrupted.into()))),
        }
    }
}

/// A question that nobody answers; it has hidden the cursor.
fn no_answer(error: dialoguer::Error) -> Failure {
    if !is_plain() {
        let _ = Term::stderr().show_cursor();
    }
    let dialoguer::Error::IO(error) = error;
    match error.kind() {
        io::ErrorKind::Interrupted => {
            Failure::new(Exit::Failed, "stopped", "stopped by Ctrl-C at a question; it was not answered")
        }
        _ => Failure::new(Exit::Failed, "no_answer", format!("no answer: {error}")),
    }
}
