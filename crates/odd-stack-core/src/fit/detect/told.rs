//! Names that an add-on's own files tell.

/// Keys under which small files name the add-on they belong to, the surest first.
const KEYS: [&str; 7] = ["folder", "id", "identifier", "slug", "mod_id", "modid", "name"];

/// The name that a small text tells under a usual key, as `key = value`, `"key": "value"` or
/// `<key>value</key>`; of several keys the surest. Understands no format, only how lines are written.
pub(crate) fn names_told(text: &str) -> Option<String> {
    let mut best: Option<(usize, String)> = None;
    for line in text.lines().take(400) {
        let Some((key, value)) = key_and_value(line) else { continue };
        let rank = KEYS.iter().position(|known| key.eq_ignore_ascii_case(known));
        if let Some(rank) = rank.filter(|rank| best.as_ref().is_none_or(|(known, _)| rank < known)) {
            best = Some((rank, value.to_owned()));
        }
    }
    best.map(|(_, name)| name)
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
        let told = |text| names_told(text);
        assert_eq!(told("{\n  \"name\": \"Lamp Oil\",\n  \"id\": \"lamp_oil\"\n}"), Some("lamp_oil".into()));
        assert_eq!(told("[addon]\nname = Lamp Oil\n"), Some("Lamp Oil".into()));
        assert_eq!(told("<mod>\n  <id>oil</id>\n</mod>"), Some("oil".into()));
        assert_eq!(told("{\"id\": {\"a\": 1}}\nversion = 3"), None);
    }
}
