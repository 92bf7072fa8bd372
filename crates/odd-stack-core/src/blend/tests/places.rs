//! Edits of elements that only their place tells, in other versions of the file.

use super::*;

/// An edit made in one version of a file, and what it gives in another: the file, or `-` where it can't be made.
#[test]
fn an_edit_by_place_means_the_element_that_stood_there() {
    use Format::{Ini, Json, Xml};
    let rows: [(Format, &str, &str, &str, &str); 22] = [
        (Ini, "p=a\np=b\n", "p[2]=z", "p=x\np=a\np=b\n", "p=x\np=a\np=z\n"),
        (Ini, "p=a\np=b\n", "p[2]=z", "p=b\n", "p=z\n"),
        (Ini, "p=a\np=b\n", "p[1]=z", "p=b\n", "-"),
        (Ini, "p=a\np=b\np=c\n", "p[2]=z", "p=b\np=c\n", "p=z\np=c\n"),
        (Ini, "p=a\np=b\n", "p[3]=z", "p=a\np=b\np=c\n", "p=a\np=b\np=c\np=z\n"),
        (
            Ini,
            "[u]\nh=1\n[u]\nh=2\n",
            "u[2].h=9",
            "[u]\nh=0\nk=0\n[u]\nh=1\n[u]\nh=2\n",
            "[u]\nh=0\nk=0\n[u]\nh=1\n[u]\nh=9\n",
        ),
        (
            Ini,
            "[u]\nh=1\n[u]\nh=2\n",
            "u.h=9",
            "[u]\nh=0\nk=0\n[u]\nh=1\n[u]\nh=2\n",
            "[u]\nh=0\nk=0\n[u]\nh=9\n[u]\nh=2\n",
        ),
        (Ini, "[u]\nh=1\n[u]\nh=2\n", "u.n=9", "[u]\nh=2\n", "-"),
        (Json, r#"["a", "b"]"#, "/1=z", r#"["x", "a", "b"]"#, r#"["x", "a", "z"]"#),
        (Json, r#"["a", "b"]"#, "/1=z", r#"["b", "a"]"#, "-"),
        (Json, r#"["a", "b"]"#, "/-=z", r#"["b", "a"]"#, r#"["b", "a", "z"]"#),
        (Json, r#"["a", "b"]"#, "/2=z", r#"["a", "b", "c"]"#, r#"["a", "b", "c", "z"]"#),
        (Json, r#"{"n": [1, 2]}"#, "/n/1=5", r#"{"n": [1, 2], "k": 1}"#, r#"{"n": [1, 5], "k": 1}"#),
        (Json, r#"{"n": [1, 2]}"#, "/n/1=5", r#"{"n": [0, 1, 2]}"#, "-"),
        (
            Json,
            r#"[{"v": 1}, {"v": 2}]"#,
            "/0/v=5",
            r#"[{"v": 0, "w": 0}, {"v": 1}, {"v": 2}]"#,
            r#"[{"v": 0, "w": 0}, {"v": 5}, {"v": 2}]"#,
        ),
        (Json, r#"[{"v": 1}, {"v": 2}]"#, "/0/v=5", r#"[{"v": 2}]"#, "-"),
        (
            Json,
            r#"[{"id": "a", "v": [{"x": 1}, {"x": 2}]}]"#,
            "/0/v/1/x=5",
            r#"[{"id": "b"}, {"id": "a", "v": [{"x": 2}]}]"#,
            r#"[{"id": "b"}, {"id": "a", "v": [{"x": 5}]}]"#,
        ),
        (
            Xml,
            "<r><p v='1'/><p v='2'/></r>",
            "/r/p[2]/@v=9",
            "<r><p v='0' w='0'/><p v='1'/><p v='2'/></r>",
            "<r><p v='0' w='0'/><p v='1'/><p v='9'/></r>",
        ),
        (
            Xml,
            "<r><p v='1'/><p v='2'/></r>",
            "/r/p[1]/@v=9",
            "<r><p v='0' w='0'/><p v='1'/><p v='2'/></r>",
            "<r><p v='0' w='0'/><p v='9'/><p v='2'/></r>",
        ),
        (Xml, "<r><p v='1'/><p v='2'/></r>", "/r/p[2]/@w=9", "<r><p v='1'/></r>", "-"),
        (
            Xml,
            "<r>t<p>1</p><p>2</p></r>",
            "/r/p[2]=9",
            "<r>t<p>1</p><p>2</p></r>",
            "<r>t<p>1</p><p>9</p></r>",
        ),
        (Xml, "<r>t<p>1</p><p>2</p></r>", "/r/p[2]=9", "<r>t<p>0</p><p>1</p><p>2</p></r>", "-"),
    ];
    for (format, seen, edit, now, wanted) in rows {
        let (key, value) = edit.split_once('=').unwrap();
        let asked = [KeyEdit::new(key, Some(value.to_owned()))];
        let made: Vec<KeyEdit> = resolve_edits(format, seen.as_bytes(), &asked, &LastRead::default())
            .unwrap_or_else(|why| panic!("{edit} in {seen}: {why:?}"))
            .into_iter()
            .map(|(edit, _)| edit)
            .collect();
        let kept = read_edits(&write_edits(&made).unwrap()).unwrap();
        assert_eq!(kept, made);
        let combined = combine(format, None, &[now.as_bytes()], &[&kept]).unwrap();
        let found = match combined.undone.as_slice() {
            [] => String::from_utf8(combined.content).unwrap(),
            [_] => "-".to_owned(),
            more => panic!("{more:?}"),
        };
        assert_eq!(found, wanted, "{edit} of {seen} in {now}: {:?}", combined.undone);
        // What an author sets by place is meant for the game's own file.
        let author = combine(format, Some(seen.as_bytes()), &[now.as_bytes()], &[&asked]);
        if let Ok(author) = author {
            let is_there = author.undone.is_empty();
            assert_eq!(is_there, wanted != "-", "{edit} of {seen} in {now}: {:?}", author.undone);
            assert!(!is_there || author.content == wanted.as_bytes());
        }
        if wanted != "-" && !key.ends_with('-') {
            let [now_called] = renewed(format, now.as_bytes(), kept).try_into().unwrap();
            let plain = KeyEdit { seen: None, ..now_called };
            let again = combine(format, None, &[now.as_bytes()], &[&[plain]]).unwrap();
            assert_eq!(String::from_utf8(again.content).unwrap(), wanted, "the key it has now");
        }
    }
}

#[test]
fn rows_name_elements_by_their_place_in_what_comes_of_it() {
    use Format::{Ini, Json, Xml};
    type Case<'c> = (Format, [&'c str; 3], &'c [(&'c str, &'c str)]);
    let cases: [Case<'_>; 3] = [
        (
            Ini,
            ["p=a\np=b\n", "p=x\np=a\np=c\n", "p=a\np=b\np=y\n"],
            &[("p[1]", "x"), ("p[3]", "c"), ("p[4]", "y")],
        ),
        (
            Json,
            [r#"["a", "b"]"#, r#"["x", "a", "c"]"#, r#"["a", "b", "y"]"#],
            &[("/0", "\"x\""), ("/2", "\"c\""), ("/3", "\"y\"")],
        ),
        (
            Xml,
            ["<r><p>a</p></r>", "<r><p>a</p><p>x</p></r>", "<r><p>a</p><p>y</p></r>"],
            &[("/r/p[2]", "<p>x</p>"), ("/r/p[3]", "<p>y</p>")],
        ),
    ];
    for (format, [base, lower, upper], wanted) in cases {
        let files = [lower.as_bytes(), upper.as_bytes()];
        let rows = key_rows(format, Some(base.as_bytes()), &files, &[]).unwrap();
        let told: Vec<(String, Option<String>)> = rows
            .into_iter()
            .map(|row| (row.key, row.files.into_iter().rev().flatten().next().flatten()))
            .collect();
        let made = combine(format, Some(base.as_bytes()), &files, &[]).unwrap().content;
        let mut told: Vec<(&str, &str)> =
            told.iter().map(|(key, value)| (key.as_str(), value.as_deref().unwrap_or("-"))).collect();
        told.sort_unstable();
        assert_eq!(told, wanted, "{}", String::from_utf8_lossy(&made));
        for (key, _) in told {
            assert!(look_up(format, &made, &KeyEdit::new(key, None)).unwrap().1.is_some(), "{key}");
        }
    }
}

#[test]
fn a_value_and_what_another_has_beneath_it_are_one_row() {
    let rows: [(Format, [&str; 3], &str, [&str; 2]); 3] = [
        (
            Format::Json,
            ["{\"x\": 1}", "{\"x\": 1, \"u\": 7}", "{\"x\": 1, \"u\": {\"a\": 1}}"],
            "/u",
            ["7", "{\"a\": 1}"],
        ),
        (Format::Toml, ["x = 1\n", "x = 1\nu = 7\n", "x = 1\nu.a = 1\n"], "u", ["7", "a = 1"]),
        (
            Format::Xml,
            ["<r><x/></r>", "<r><x/><u>7</u></r>", "<r><x/><u><a>1</a></u></r>"],
            "/r/u",
            ["7", "<a>1</a>"],
        ),
    ];
    for (format, [base, lower, upper], key, wanted) in rows {
        let files = [lower.as_bytes(), upper.as_bytes()];
        let rows = key_rows(format, Some(base.as_bytes()), &files, &[]).unwrap();
        let row = rows.iter().find(|row| row.key == key).unwrap();
        let values: Vec<Option<&str>> =
            row.files.iter().map(|value| value.as_ref().and_then(|value| value.as_deref())).collect();
        assert_eq!(values, wanted.map(Some), "{rows:?}");
    }
}

fn list_of(format: Format, values: &[u32]) -> String {
    let all = |before: &str, after: &str, between: &str| {
        let each: Vec<String> = values.iter().map(|value| format!("{before}{value}{after}")).collect();
        each.join(between)
    };
    match format {
        Format::Ini => format!("[L]\nown=1\n{}\n", all("p=", "", "\n")),
        Format::Json => format!("{{\"own\": 1, \"p\": [{}]}}", all("\"", "\"", ", ")),
        Format::Lua => format!("own = 1\np = {{ {} }}\n", all("'", "'", ", ")),
        _ => format!("<r own='1'>{}</r>", all("<p>", "</p>", "")),
    }
}

/// The values of the list, by whatever stands between digits.
fn values_in(text: &str) -> Vec<u32> {
    text.split(|c: char| !c.is_ascii_digit())
        .filter_map(|digits| digits.parse().ok())
        .filter(|value| *value > 9)
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(800))]
    #[test]
    fn an_edit_by_place_changes_no_other_element(
        format in proptest::sample::select(&[Format::Ini, Format::Json, Format::Lua, Format::Xml]),
        count in 2..6u32,
        place in any::<proptest::sample::Index>(),
        is_gone in any::<bool>(),
        deeds in proptest::collection::vec((0..3u8, any::<proptest::sample::Index>()), 0..4),
    ) {
        let own: Vec<u32> = (0..count).map(|at| 100 + at).collect();
        let place = place.index(own.len());
        let key = match format {
            Format::Ini => format!("L.p[{}]", place + 1),
            Format::Xml => format!("/r/p[{}]", place + 1),
            _ => format!("/p/{place}"),
        };
        let base = list_of(format, &own);
        let asked = [KeyEdit::new(key, (!is_gone).then(|| "900".to_owned()))];
        let made = resolve_edits(format, base.as_bytes(), &asked, &LastRead::default()).unwrap();
        let edits: Vec<KeyEdit> = made.into_iter().map(|(edit, _)| edit).collect();
        // A layer changes the list beneath.
        let mut layer = own.clone();
        for (at, (deed, index)) in (200..).zip(deeds) {
            match deed {
                0 => layer.insert(index.index(layer.len() + 1), at),
                1 if layer.len() > 1 => drop(layer.remove(index.index(layer.len()))),
                _ => *index.get_mut(&mut layer) = at,
            }
        }
        let file = list_of(format, &layer);
        let made = combine(format, Some(base.as_bytes()), &[file.as_bytes()], &[&edits]).unwrap();
        let (content, meant) = (String::from_utf8(made.content).unwrap(), own[place]);
        let found = values_in(&content);
        let told = format!("{edits:?}\n{base}\n{file}\n{content}\n{:?}", made.undone);
        if !made.undone.is_empty() {
            prop_assert_eq!(&found, &layer, "{}", told);
            return Ok(());
        }
        // All else is as the layer has it; what the layer left alone is what is set.
        let set = layer.iter().position(|value| *value == meant);
        let changed: Vec<u32> = layer.iter().copied().filter(|value| !found.contains(value)).collect();
        prop_assert!(changed.len() == 1 && (set.is_none() || changed == [meant]), "{}", told);
        prop_assert!(changed[0] == meant || !own.contains(&changed[0]), "{}", told);
        let mut wanted = layer.clone();
        wanted.retain(|value| *value != changed[0]);
        prop_assert_eq!(found.iter().copied().filter(|value| *value != 900).collect::<Vec<_>>(), wanted, "{}", told);
        prop_assert_eq!(found.contains(&900), !is_gone, "{}", told);
    }
}
