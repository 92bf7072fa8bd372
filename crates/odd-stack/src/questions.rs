//! What a person is asked on a terminal. Whoever leaves a question gets the terminal back as it was.

use std::io;

use console::{Key, Term};

use crate::errors::{Exit, Failure};
use crate::show::safe::one_line;

/// Which of `choices` a person picks; nothing when they pick none. Unless `first_is_likely` nothing is taken by Enter alone.
pub fn select(question: &str, choices: &[String], first_is_likely: bool) -> Result<Option<usize>, Failure> {
    let select = dialoguer::Select::new()
        .with_prompt(one_line(question))
        .items(choices.iter().map(|choice| one_line(choice)));
    let select = if first_is_likely { select.default(0) } else { select };
    select.interact_opt().map_err(no_answer)
}

/// Lets a person type a text; nothing when none is given.
pub fn text(question: &str) -> Result<Option<String>, Failure> {
    let asked: dialoguer::Result<String> =
        dialoguer::Input::new().with_prompt(one_line(question)).allow_empty(true).interact_text();
    let text = asked.map_err(no_answer)?;
    Ok(Some(text.trim().to_owned()).filter(|text| !text.is_empty()))
}

/// Asks a person for yes or no.
pub fn confirm(question: &str, usual: bool) -> Result<bool, Failure> {
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
        let read = Term::stdout().read_key();
        match read.map_err(|error| no_answer(dialoguer::Error::IO(error)))? {
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

/// A question that nobody answers; it has hidden the cursor.
fn no_answer(error: dialoguer::Error) -> Failure {
    let _ = Term::stderr().show_cursor();
    let dialoguer::Error::IO(error) = error;
    match error.kind() {
        io::ErrorKind::Interrupted => {
            Failure::new(Exit::Failed, "stopped", "stopped by Ctrl-C at a question; it was not answered")
        }
        _ => Failure::new(Exit::Failed, "no_answer", format!("no answer: {error}")),
    }
}
