//! Words as the shell takes them in which a person is shown them.

use std::sync::OnceLock;

use clap::ValueEnum;

use crate::errors::{Exit, Failure};

/// The shells that words are quoted for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Shell {
    /// bash, zsh, dash and others of the kind
    Posix,
    /// The command prompt of Windows
    Cmd,
    /// PowerShell up to 5, which comes with Windows
    Powershell,
    /// PowerShell from 7 on
    Pwsh,
}

static CHOSEN: OnceLock<Shell> = OnceLock::new();

/// Notes for which shell words are to be quoted; else that is told by what started this program.
pub fn choose(shell: Option<Shell>) {
    if let Some(shell) = shell {
        // It is said once.
        let _ = CHOSEN.set(shell);
    }
}

/// The shell in which a person sees what is written.
pub fn current() -> Shell {
    *CHOSEN.get_or_init(|| match cfg!(windows) {
        false => Shell::Posix,
        true => told_by(
            |name| std::env::var_os(name).is_some(),
            &odd_stack_core::game::parents().iter().map(String::as_str).collect::<Vec<_>>(),
        ),
    })
}

/// On Windows the nearest of the programs that started this one which is a shell.
/// Keeps a console open until a key is pressed, where it is the program's own: started by a double click, or by files
/// dragged onto the program. Without that it would be gone before anybody could read.
pub fn hold_own_console() {
    let is_own = || {
        let parents = odd_stack_core::game::parents();
        parents.first().is_some_and(|parent| parent.eq_ignore_ascii_case("explorer.exe"))
    };
    let term = console::Term::stdout();
    if cfg!(windows) && term.is_term() && is_own() {
        // Nobody is left to be told when the console is gone.
        let _ = term.write_line("\nPress a key to close.").and_then(|()| term.read_key());
    }
}

fn told_by(is_set: impl Fn(&str) -> bool, parents: &[&str]) -> Shell {
    let shell = |parent: &&str| match parent.to_lowercase().trim_end_matches(".exe") {
        "cmd" => Some(Shell::Cmd),
        "powershell" | "powershell_ise" => Some(Shell::Powershell),
        "pwsh" => Some(Shell::Pwsh),
        "bash" | "sh" | "zsh" | "dash" | "fish" => Some(Shell::Posix),
        _ => None,
    };
    // Systems that bring a POSIX shell to Windows set this.
    let posix = || is_set("MSYSTEM").then_some(Shell::Posix);
    parents.iter().find_map(shell).or_else(posix).unwrap_or(Shell::Cmd)
}

/// The line that sets a variable of the environment.
pub fn setting(name: &str, value: &str) -> String {
    match current() {
        Shell::Posix => format!("export {name}={}", in_quotes(value)),
        Shell::Cmd => format!("set \"{name}={value}\""),
        Shell::Powershell | Shell::Pwsh => format!("$env:{name} = {}", in_quotes(value)),
    }
}

/// The line that goes into a folder.
pub fn going_to(folder: &str) -> String {
    let drive = if current() == Shell::Cmd { "/d " } else { "" };
    format!("cd {drive}{}", quoted(folder))
}

/// As a shell takes it as one word, in quotes where it must be.
pub fn quoted(text: &str) -> String {
    let is_plain = !text.is_empty()
        && text.chars().all(|c| {
            c.is_alphanumeric()
                || matches!(c, '-' | '_' | '=' | '.' | ':' | '/')
                || c == '\\' && current() != Shell::Posix
        });
    if is_plain { text.to_owned() } else { in_quotes(text) }
}

/// In quotes, so that the shell takes it as it is.
pub fn in_quotes(text: &str) -> String {
    quoted_for(current(), text)
}

fn quoted_for(shell: Shell, text: &str) -> String {
    match shell {
        // Within double quotes these mean something.
        Shell::Posix if text.contains(['$', '`', '\\', '!', '"']) => {
            format!("'{}'", text.replace('\'', "'\\''"))
        }
        Shell::Posix => format!("\"{text}\""),
        Shell::Cmd => for_cmd(text),
        // The curly ones are quotes for PowerShell, too (learn.microsoft.com, about_Quoting_Rules).
        Shell::Powershell | Shell::Pwsh
            if text.contains(['$', '`', '"', '\u{201c}', '\u{201d}', '\u{201e}']) =>
        {
            let is_old = shell == Shell::Powershell;
            let text = if is_old { for_program(text) } else { text.to_owned() };
            let quotes = ['\'', '\u{2018}', '\u{2019}', '\u{201a}', '\u{201b}'];
            let inner =
                text.chars().flat_map(|c| std::iter::repeat_n(c, 1 + usize::from(quotes.contains(&c))));
            format!("'{}'", inner.collect::<String>())
        }
        Shell::Powershell => format!("\"{}\"", for_program(text)),
        Shell::Pwsh => format!("\"{text}\""),
    }
}

/// What stands within the quotes of one word of a program's command line (learn.microsoft.com, Parsing C command-line
/// arguments): `\` before a quote counts twice, and a quote needs one.
fn for_program(text: &str) -> String {
    let mut written = String::new();
    let mut backslashes = 0;
    for c in text.chars() {
        match c {
            '\\' => backslashes += 1,
            '"' => written.push_str(&"\\".repeat(backslashes * 2 + 1)),
            _ => written.push_str(&"\\".repeat(backslashes)),
        }
        if c != '\\' {
            written.push(c);
            backslashes = 0;
        }
    }
    written.push_str(&"\\".repeat(backslashes * 2));
    written
}

/// The command prompt fills in `%NAME%` within quotes, too, and knows no `\"`: both stand outside of them, behind `^`.
fn for_cmd(text: &str) -> String {
    let mut written = String::from("\"");
    for c in for_program(text).chars() {
        match c {
            '%' => written.push_str("\"^%\""),
            '"' => {
                // Its `\` went before it.
                written.pop();
                written.push_str("\"\\^\"\"");
            }
            c => written.push(c),
        }
    }
    written.push('"');
    written
}

/// Refuses words that a shell of Windows has passed on otherwise than they were meant.
///
/// # Errors
/// What is wrong with them, and how to write them.
pub fn check_words(words: &[String]) -> Result<(), Failure> {
    let own = &words[..words.iter().position(|word| word == "--").unwrap_or(words.len())];
    let refused = |message: String| Err(Failure::new(Exit::Usage, "quotes", message));
    if let Some(first) = own.iter().position(|word| word.starts_with('\''))
        && let Some(last) = own[first..].iter().position(|word| word.len() > 1 && word.ends_with('\''))
    {
        let said = own[first..=first + last].join(" ");
        let meant = said.trim_matches('\'');
        return refused(format!(
            "{said} came with its quotes: this shell takes only double ones. Write \"{meant}\""
        ));
    }
    if let Some(swallowed) = own.iter().find(|word| begins_like_a_path(word) && word.contains('"')) {
        let path = swallowed.split('"').next().unwrap_or_default();
        return refused(format!(
            "{swallowed} has a quote in it: a `\\` just before the closing quote makes that a part of the name. Write \
             \"{path}\", without a `\\` at its end"
        ));
    }
    Ok(())
}

/// Whether a word, or what an option in it says, is a path from the top of a drive or of a share.
fn begins_like_a_path(word: &str) -> bool {
    let text = word.rsplit('=').next().unwrap_or(word);
    let mut letters = text.chars();
    text.starts_with(r"\\")
        || letters.next().is_some_and(|c| c.is_ascii_alphabetic())
            && letters.next() == Some(':')
            && letters.next().is_some_and(|c| matches!(c, '\\' | '/'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_quoted_for_each_shell() {
        // The text, then as POSIX, cmd, PowerShell 5 and 7 take it.
        let rows = [
            ("a b", "\"a b\"", "\"a b\"", "\"a b\"", "\"a b\""),
            ("50%", "\"50%\"", "\"50\"^%\"\"", "\"50%\"", "\"50%\""),
            ("$x", "'$x'", "\"$x\"", "'$x'", "'$x'"),
            ("a`b", "'a`b'", "\"a`b\"", "'a`b'", "'a`b'"),
            ("it's $x", "'it'\\''s $x'", "\"it's $x\"", "'it''s $x'", "'it''s $x'"),
            ("wow!", "'wow!'", "\"wow!\"", "\"wow!\"", "\"wow!\""),
            ("a\"b", "'a\"b'", "\"a\"\\^\"\"b\"", "'a\\\"b'", "'a\"b'"),
            ("D:\\a b\\", "'D:\\a b\\'", "\"D:\\a b\\\\\"", "\"D:\\a b\\\\\"", "\"D:\\a b\\\""),
        ];
        for (text, posix, cmd, powershell, pwsh) in rows {
            let all = [Shell::Posix, Shell::Cmd, Shell::Powershell, Shell::Pwsh];
            for (shell, wanted) in all.into_iter().zip([posix, cmd, powershell, pwsh]) {
                assert_eq!(quoted_for(shell, text), wanted, "{shell:?}");
            }
        }
    }

    #[test]
    fn what_posix_is_given_is_one_word_again() {
        for text in ["a b", "it's", "$HOME `x` \"q\" \\ !", "", "'", "a'b$"] {
            assert_eq!(shlex::split(&quoted_for(Shell::Posix, text)).unwrap(), [text]);
        }
    }

    #[test]
    fn the_nearest_shell_is_the_one() {
        let unset = |_: &str| false;
        assert_eq!(told_by(unset, &["oddstack.exe", "PowerShell.exe", "cmd.exe"]), Shell::Powershell);
        assert_eq!(told_by(unset, &["cmd.exe", "pwsh.exe"]), Shell::Cmd);
        assert_eq!(told_by(unset, &["terminal.exe", "pwsh.exe"]), Shell::Pwsh);
        assert_eq!(told_by(unset, &["terminal.exe"]), Shell::Cmd);
        assert_eq!(told_by(|name| name == "MSYSTEM", &[]), Shell::Posix);
    }

    #[test]
    fn words_that_came_with_quotes_are_explained() {
        let says = |words: &[&str]| {
            let words: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
            check_words(&words).err().map(|failure| failure.message).unwrap_or_default()
        };
        assert!(says(&["add", "'my", "package.zip'"]).contains("Write \"my package.zip\""));
        assert!(says(&["settle", "'data/*'"]).contains("Write \"data/*\""));
        let swallowed = "C:\\Games\\Quill Haven\" --exe x";
        assert!(says(&["game", "add", "Q", swallowed]).contains("Write \"C:\\Games\\Quill Haven\""));
        for fine in [&["add", "it's"][..], &["tweak", "a.ini", "Title=\"x\""], &["capture", "X", "--", "'a'"]]
        {
            assert_eq!(says(fine), "");
        }
    }
}
