//! The one place that writes to the terminal.
//!
//! Primary results go to standard output, status, hints and errors to standard error. A closed pipe
//! ends quietly. Width and colour are settled here once.

use std::io::{self, IsTerminal, Write};
use std::process::ExitCode;

use anstream::{AutoStream, ColorChoice};
use serde::Serialize;
use serde_json::{Value, json};

use crate::args::{ColorWhen, Common};
use crate::errors::Failure;
use crate::show::safe::{self, for_terminal};
use crate::show::style::{BAD, DIM, WARN, paint};
use crate::show::wrap::wrapped;

/// Width when the terminal does not tell one, and for pipes.
const USUAL_WIDTH: usize = 100;

/// Where a command writes, and how.
pub struct Output {
    result: AutoStream<io::Stdout>,
    status: AutoStream<io::Stderr>,
    /// Columns of the terminal.
    pub width: usize,
    /// One JSON object instead of text.
    pub json: bool,
    /// No hints, no progress.
    pub quiet: bool,
    /// Every address.
    pub verbose: bool,
    warnings: Vec<String>,
    is_closed: bool,
    written: Option<(Option<String>, Value)>,
}

impl Output {
    pub fn new(common: &Common) -> Self {
        let choice = match common.color {
            _ if common.is_plain() => ColorChoice::Never,
            ColorWhen::Always => ColorChoice::Always,
            ColorWhen::Never => ColorChoice::Never,
            ColorWhen::Auto => ColorChoice::Auto,
        };
        let width = std::env::var("COLUMNS").ok().and_then(|text| text.parse().ok()).or_else(terminal_width);
        Self {
            result: AutoStream::new(io::stdout(), choice),
            status: AutoStream::new(io::stderr(), choice),
            width: width.unwrap_or(USUAL_WIDTH).max(40),
            json: common.json,
            quiet: common.quiet,
            verbose: common.verbose,
            warnings: Vec::new(),
            is_closed: false,
            written: None,
        }
    }

    /// Writes a result: `data` as JSON or `text`, whichever was asked for.
    pub fn result(&mut self, game: Option<&str>, data: &impl Serialize, text: &str) {
        if self.json {
            let data = serde_json::to_value(data).unwrap_or(Value::Null);
            self.written = Some((game.map(str::to_owned), data));
        } else {
            self.text(text);
        }
    }

    /// Writes text to standard output; nothing when JSON was asked for. For a person it is broken between words.
    pub fn text(&mut self, text: &str) {
        if !self.json {
            self.write(|output| {
                let text = for_terminal(text);
                let text = if io::stdout().is_terminal() { wrapped(&text, output.width) } else { text };
                output.result.write_all(text.as_bytes()).and_then(|()| output.result.flush())
            });
        }
    }

    /// Writes bytes to standard output as they are.
    pub fn raw(&mut self, bytes: &[u8]) {
        self.write(|_| {
            let mut stdout = io::stdout().lock();
            stdout.write_all(bytes).and_then(|()| stdout.flush())
        });
    }

    /// Whether nobody reads any more.
    pub fn is_closed(&self) -> bool {
        self.is_closed
    }

    /// Writes, unless nobody reads any more. A command goes on all the same: it was asked for.
    fn write(&mut self, write: impl FnOnce(&mut Self) -> io::Result<()>) {
        if self.is_closed {
            return;
        }
        if let Err(error) = write(self) {
            self.is_closed = true;
            if error.kind() != io::ErrorKind::BrokenPipe {
                self.status(&format!("can't write to standard output: {error}"));
            }
        }
    }

    /// Says something beside the result.
    pub fn status(&mut self, text: &str) {
        let text = for_terminal(text);
        let text = if io::stderr().is_terminal() { wrapped(&text, self.width) } else { text };
        // Nobody is left to be told when standard error is closed.
        let _ = writeln!(self.status, "{text}");
    }

    /// Says what to do next, unless told to be quiet or to write JSON.
    pub fn hint(&mut self, text: &str) {
        if !self.quiet && !self.json && !self.is_closed {
            self.status(&paint(DIM, text));
        }
    }

    /// Says something that the user should know; JSON carries it too.
    pub fn warn(&mut self, text: String) {
        if !self.json {
            let line = format!("{} {text}", paint(WARN, "note:"));
            self.status(&line);
        }
        self.warnings.push(text);
    }

    /// Whether colours reach the reader.
    pub fn uses_color(&self) -> bool {
        self.result.current_choice() != ColorChoice::Never
    }

    /// Whether a person can be asked.
    pub fn can_ask(&self) -> bool {
        !self.json && io::stdin().is_terminal() && io::stderr().is_terminal()
    }

    /// Ends the output of `command`; writes the JSON object.
    pub fn close(mut self, command: &str, failure: Option<&Failure>) {
        match failure {
            Some(failure) if self.json => {
                let object =
                    json!({ "command": command, "error": failure.to_json(), "warnings": self.warnings });
                self.raw_line(&object);
            }
            Some(failure) => {
                let text = failure.to_text();
                let line = format!("{} {text}", paint(BAD, "error:"));
                self.status(&line);
            }
            None => {
                if let Some((game, data)) = self.written.take() {
                    let object =
                        json!({ "command": command, "game": game, "data": data, "warnings": self.warnings });
                    self.raw_line(&object);
                }
            }
        }
    }

    fn raw_line(&mut self, object: &Value) {
        let mut text = safe::json(&serde_json::to_string_pretty(object).unwrap_or_default());
        text.push('\n');
        self.raw(text.as_bytes());
    }
}

fn terminal_width() -> Option<usize> {
    let (_, columns) = console::Term::stdout().size_checked()?;
    Some(usize::from(columns))
}

/// Says how the work goes to whoever looks on, from any thread.
pub fn tell_at_once(text: &str) {
    // It is worth nothing afterwards.
    let _ = writeln!(io::stderr(), "{}", for_terminal(text));
}

/// Reports a failure from before there was an [`Output`], as JSON or text.
pub fn report_early(command: Option<&str>, failure: &Failure, as_json: bool) -> ExitCode {
    // When nobody reads any more there is nobody to tell that.
    let _ = if as_json {
        let object = json!({ "command": command, "error": failure.to_json(), "warnings": [] });
        writeln!(io::stdout(), "{}", safe::json(&serde_json::to_string_pretty(&object).unwrap_or_default()))
    } else {
        writeln!(io::stderr(), "{}", for_terminal(&format!("error: {}", failure.to_text())))
    };
    failure.exit.into()
}
