//! Names that an add-on's own files tell.

use super::super::input::ToldName;

/// Keys under which small files name the add-on they belong to, the surest first.
const KEYS: [&str; 7] = ["folder", "id", "identifier", "slug", "mod_id", "modid", "name"];

/// The name that a small text tells under a usual key, as `key = value`, `"key": "value"` or
/// `<key>value</key>`; of several keys the surest. Understands no format, only how lines are written.
pub(crate) fn name_told(file: &str, text: &str) -> Option<ToldName> {
    let mut best: Option<(usize, String)> = None;
    for line in text.lines().take(400).flat_map(cut_at_commas) {
        let Some((key, value)) = key_and_value(line) else { continue };
        let rank = KEYS.iter().position(|known| key.eq_ignore_ascii_case(known));
        if let Some(rank) = rank.filter(|rank| best.as_ref().is_none_or(|(known, _)| rank < known)) {
            best = Some((rank, value.to_owned()));
        }
    }
    best.map(|(rank, name)| ToldName { file: file.to_owned(), name, is_id: rank + 1 < KEYS.len() })
}

/// The pieces of a line between commas that stand outside quotes.
fn cut_at_commas(line: &str) -> Vec<&str> {
    let (mut pieces, mut from, mut in_quotes) = (Vec::new(), 0, false);
    for (at, letter) in line.char_indices() {
        match letter {
            '"' => in_quotes = !in_quotes,
            ',' if !in_quotes => {
                pieces.push(&line[from..at]);
                from = at + 1;
            }
            _ => {}
        }
    }
    pieces.push(&line[from..]);
    pieces
}

fn key_and_value(line: &str) -> Option<(&str, &str)> {
    let line = line.trim().trim_start_matches(['{', ' ']).trim_end_matches([',', '}', ' ']);
    if let Some(rest) = line.strip_prefix('<') {
        let (key, rest) = rest.split_once('>')?;
        let (value, _) = rest.split_once('<')?;
        return usable(key, value);
    }
    let (key, value) = line.split_once(['=', ':'])?;
    let value = value.trim();
    let value = match value.strip_prefix('"') {
        Some(rest) => rest.split_once('"')?.0,
        None => value.trim_matches('\''),
    };
    usable(key.trim().trim_matches(['"', '\'']), value.trim())
}

fn usable<'a>(key: &'a str, value: &'a str) -> Option<(&'a str, &'a str)> {
    let fits = !value.is_empty() && value.len() <= 64 && !value.contains(['/', '\\', '{', '[']);
    fits.then_some((key, value))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_surest_key_tells() {
        let told = |text| name_told("addon.json", text).map(|told| told.name);
        assert_eq!(told("{\n  \"name\": \"Lamp Oil\",\n  \"id\": \"lamp_oil\"\n}"), Some("lamp_oil".into()));
        assert_eq!(told("{ \"name\": \"Oil, Lamp\", \"id\": \"oil\" }"), Some("oil".into()));
        assert_eq!(told("[addon]\nname = Lamp Oil\n"), Some("Lamp Oil".into()));
        assert_eq!(told("<mod>\n  <id>oil</id>\n</mod>"), Some("oil".into()));
        assert_eq!(told("{\"id\": {\"a\": 1}}\nversion = 3"), None);
    }
}
