//! A fit in words.

/// `data to game:data`, or `the contents of its only folder to game:`.
pub fn place_words(from: &str, to: &str) -> String {
    let stars = from.split('/').filter(|part| *part == "*").count();
    match stars {
        _ if from == "." => format!("all of it to {to}"),
        stars if stars > 0 && stars == from.split('/').count() => {
            let folder = if stars == 1 { "its only folder" } else { "the only folder in its only folder" };
            format!("the contents of {folder} to {to}")
        }
        _ => format!("{from} to {to}"),
    }
}
