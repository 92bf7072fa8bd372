//! Numbers as people read them.

use unicode_width::UnicodeWidthStr;

/// A size with the units of the usual file managers (powers of 1024).
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 4] = ["KB", "MB", "GB", "TB"];
    if bytes < 1024 {
        return format!("{bytes} B");
    }
    let mut value = bytes as f64 / 1024.0;
    let mut unit = 0;
    while value >= 1023.95 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    if value < 9.95 { format!("{value:.1} {}", UNITS[unit]) } else { format!("{value:.0} {}", UNITS[unit]) }
}

/// `1 file`, `1,204 files`.
pub fn files(count: u64) -> String {
    counted(count, "file", "files")
}

/// `1 layer`, `3 layers`.
pub fn layers(count: u64) -> String {
    counted(count, "layer", "layers")
}

/// A number with the word that fits it.
pub fn counted(count: u64, one: &str, many: &str) -> String {
    format!("{} {}", number(count), if count == 1 { one } else { many })
}

/// A number with a comma between thousands.
pub fn number(count: u64) -> String {
    let digits = count.to_string();
    let mut text = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// A value on one line, cut where it is long.
pub fn short(value: &str) -> String {
    const MOST: usize = 40;
    let line = value.split_whitespace().collect::<Vec<_>>().join(" ");
    if line.width() <= MOST {
        return line;
    }
    format!("{}...", line.chars().take(MOST - 3).collect::<String>())
}

/// The last part of a path, as people know a package by.
pub fn file_name(path: &str) -> &str {
    path.rsplit(['/', '\\']).find(|part| !part.is_empty()).unwrap_or(path)
}

/// The text with a capital letter to begin with.
pub fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_and_counts() {
        let sizes = [0, 1023, 1024, 10_700, 1_048_575, 1_048_576, 1_610_612_736].map(size);
        assert_eq!(sizes, ["0 B", "1023 B", "1.0 KB", "10 KB", "1.0 MB", "1.0 MB", "1.5 GB"]);
        assert_eq!(files(1), "1 file");
        assert_eq!(files(1_234_567), "1,234,567 files");
    }
}
