//! A fit in words.

/// `data to game:data`, or `what is in its one folder to game:`.
pub fn place_words(from: &str, to: &str) -> String {
    let stars = from.split('/').filter(|part| *part == "*").count();
    match stars {
        _ if from == "." => format!("all of it to {to}"),
        stars if stars > 0 && stars == from.split('/').count() => {
            let folder = if stars == 1 { "its one folder" } else { "its one folder in a folder" };
            format!("what is in {folder} to {to}")
        }
        _ => format!("{from} to {to}"),
    }
}
