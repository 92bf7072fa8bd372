//! The law of blending, on files and changes that nobody thought of, read back by readers that are not blending's own:
//! a change that a layer makes is in the result, in the part that it was made in, or it is a contest, or the files count
//! as a whole.
//!
//! Every value in a file differs from all others, so that it tells where it comes from.

use std::collections::{BTreeMap, BTreeSet};

use super::*;

/// A part of a file: values by key, parts by key, lists of parts by key.
#[derive(Debug, Clone, Default, PartialEq)]
struct Part {
    values: BTreeMap<String, u32>,
    parts: BTreeMap<String, Part>,
    lists: BTreeMap<String, Vec<Part>>,
}

/// What is done to a file: the kind of change, and where.
type Deed = (u8, u8, u8, u8);

fn base() -> impl Strategy<Value = Part> {
    let part = |most| proptest::collection::btree_set(0..5u8, 1..most);
    let list = proptest::collection::vec(part(4), 0..5);
    (
        part(4),
        proptest::collection::btree_map(0..3u8, part(4), 0..3),
        proptest::collection::btree_map(0..2u8, (list, any::<bool>()), 0..3),
    )
        .prop_map(|(own, parts, lists)| {
            let mut next = 100;
            let mut fresh = |keys: BTreeSet<u8>, id: Option<u32>| {
                let mut part = Part::default();
                part.values.extend(id.map(|id| ("id".to_owned(), id)));
                for key in keys {
                    next += 1;
                    part.values.insert(format!("k{key}"), next);
                }
                part
            };
            let mut root = fresh(own, None);
            for (name, keys) in parts {
                let part = fresh(keys, None);
                root.parts.insert(format!("s{name}"), part);
            }
            for (name, (elements, has_ids)) in lists {
                let ids = (1u32..).map(|id| has_ids.then_some(u32::from(name) * 20 + id));
                let list = elements.into_iter().zip(ids).map(|(keys, id)| fresh(keys, id)).collect();
                root.lists.insert(format!("l{name}"), list);
            }
            root
        })
}

/// The file with the deeds done; new values come from `first` on.
fn done(base: &Part, deeds: &[Deed], first: u32) -> Part {
    let mut root = base.clone();
    for (at, (kind, one, two, three)) in deeds.iter().enumerate() {
        let new = first + u32::try_from(at).unwrap();
        let (one, two, three) = (usize::from(*one), usize::from(*two), usize::from(*three));
        let list = |root: &Part| root.lists.keys().nth(one % root.lists.len().max(1)).cloned();
        match kind % 7 {
            0..3 => {
                // A value is set or taken out, in the file itself, a part or an element.
                let mut places: Vec<&mut Part> = vec![];
                let mut rest = &mut root;
                let key = format!("k{}", two % 5);
                if one % 3 != 0 {
                    let Part { parts, lists, .. } = rest;
                    places.extend(parts.values_mut().chain(lists.values_mut().flatten()));
                } else {
                    places.push(&mut rest);
                }
                let count = places.len().max(1);
                let Some(place) = places.into_iter().nth(three % count) else { continue };
                if *kind % 7 == 2 && place.values.keys().filter(|key| *key != "id").count() > 1 {
                    place.values.remove(&key);
                } else {
                    place.values.insert(key, new);
                }
            }
            3 => {
                let Some(name) = list(&root) else { continue };
                let list = root.lists.get_mut(&name).unwrap();
                if list.len() > 1 {
                    list.remove(two % list.len());
                }
            }
            4 => {
                let Some(name) = list(&root) else { continue };
                let list = root.lists.get_mut(&name).unwrap();
                let mut element = Part::default();
                if list.first().is_some_and(|element| element.values.contains_key("id")) {
                    element.values.insert("id".to_owned(), new);
                }
                element.values.insert(format!("k{}", three % 5), new);
                list.insert(two % (list.len() + 1), element);
            }
            5 => {
                let Some(name) = list(&root) else { continue };
                let list = root.lists.get_mut(&name).unwrap();
                if list.len() > 1 {
                    let (a, b) = (two % list.len(), three % list.len());
                    list.swap(a, b);
                }
            }
            _ if two % 2 == 0 => {
                root.parts.remove(&format!("s{}", one % 3));
            }
            _ => {
                root.parts
                    .entry(format!("s{}", one % 4))
                    .or_default()
                    .values
                    .insert(format!("k{}", three % 5), new);
            }
        }
    }
    root
}

fn written(format: Format, root: &Part) -> String {
    fn json(part: &Part) -> String {
        let values = part.values.iter().map(|(key, value)| format!("\"{key}\": {value}"));
        let parts = part.parts.iter().map(|(key, part)| format!("\"{key}\": {}", json(part)));
        let list = |list: &Vec<Part>| list.iter().map(json).collect::<Vec<_>>().join(",\n");
        let lists = part.lists.iter().map(|(key, elements)| format!("\"{key}\": [{}]", list(elements)));
        format!("{{{}}}", values.chain(parts).chain(lists).collect::<Vec<_>>().join(",\n "))
    }
    fn xml(name: &str, part: &Part) -> String {
        let values = part.values.iter().map(|(key, value)| format!(" {key}='{value}'")).collect::<String>();
        let parts = part.parts.iter().map(|(key, part)| format!("\n {}", xml(key, part)));
        let lists = part
            .lists
            .iter()
            .flat_map(|(key, list)| list.iter().map(move |part| format!("\n {}", xml(key, part))));
        format!("<{name}{values}>{}</{name}>", parts.chain(lists).collect::<String>())
    }
    fn lua(part: &Part) -> String {
        format!(
            "{{{}}}",
            part.values.iter().map(|(key, value)| format!("{key} = {value}, ")).collect::<String>()
        )
    }
    let lines = |part: &Part, is: &str| {
        part.values.iter().map(|(key, value)| format!("{key}{is}{value}\n")).collect::<String>()
    };
    let sections = |open: &str, close: &str, is: &str| {
        let mut text = lines(root, is);
        for (name, part) in &root.parts {
            text.push_str(&format!("[{name}]\n{}", lines(part, is)));
        }
        for (name, part) in
            root.lists.iter().flat_map(|(name, list)| list.iter().map(move |part| (name, part)))
        {
            text.push_str(&format!("{open}{name}{close}\n{}", lines(part, is)));
        }
        text
    };
    match format {
        Format::Json => json(root),
        Format::Xml => xml("root", root),
        Format::Ini => sections("[", "]", "="),
        Format::Toml => sections("[[", "]]", " = "),
        Format::Lua => {
            let values = root.values.iter().map(|(key, value)| format!("{key} = {value}\n"));
            let parts = root.parts.iter().map(|(key, part)| format!("local {key} = {}\n", lua(part)));
            let list = |list: &Vec<Part>| list.iter().map(lua).collect::<Vec<_>>().join(",\n");
            let lists =
                root.lists.iter().map(|(key, elements)| format!("A.{key} = {{{}}};\n", list(elements)));
            values.chain(parts).chain(lists).collect()
        }
        Format::Lines | Format::ByContent => String::new(),
    }
}

/// The values of each part of a file, in its order, by a reader of its own.
fn read(format: Format, content: &str) -> Vec<BTreeMap<String, u32>> {
    fn json(value: &serde_json::Value, found: &mut Vec<BTreeMap<String, u32>>) {
        match value {
            serde_json::Value::Object(object) => {
                let number =
                    |value: &serde_json::Value| value.as_u64().map(|number| u32::try_from(number).unwrap());
                found.push(
                    object.iter().filter_map(|(key, value)| Some((key.clone(), number(value)?))).collect(),
                );
                object.values().for_each(|value| json(value, found));
            }
            serde_json::Value::Array(elements) => elements.iter().for_each(|value| json(value, found)),
            _ => {}
        }
    }
    /// By the parser of whole programs.
    fn lua(content: &str, found: &mut Vec<BTreeMap<String, u32>>) {
        use full_moon::ast::{Expression, Field, Stmt};
        fn go_into(value: &Expression, name: &str, part: usize, found: &mut Vec<BTreeMap<String, u32>>) {
            match value {
                Expression::Number(number) => {
                    let twice =
                        found[part].insert(name.to_owned(), number.token().to_string().parse().unwrap());
                    assert_eq!(twice, None);
                }
                Expression::TableConstructor(table) => {
                    let part = found.len();
                    found.push(BTreeMap::new());
                    for field in table.fields() {
                        match field {
                            Field::NameKey { key, value, .. } => {
                                go_into(value, &key.token().to_string(), part, found);
                            }
                            Field::NoKey(value) => go_into(value, "", part, found),
                            other => panic!("{other}"),
                        }
                    }
                }
                other => panic!("{other}"),
            }
        }
        found.push(BTreeMap::new());
        let file = full_moon::parse(content).unwrap();
        for statement in file.nodes().stmts() {
            let (name, values) = match statement {
                Stmt::Assignment(set) => (set.variables().to_string(), set.expressions()),
                Stmt::LocalAssignment(set) => (set.names().to_string(), set.expressions()),
                other => panic!("{other}"),
            };
            values.iter().for_each(|value| go_into(value, name.trim(), 0, found));
        }
    }
    let mut found = Vec::new();
    match format {
        Format::Json => json(&serde_json::from_str(content).unwrap(), &mut found),
        Format::Toml => {
            let table: ::toml::Table = content.parse().unwrap();
            json(&serde_json::to_value(table).unwrap(), &mut found);
        }
        Format::Xml => {
            let document = roxmltree::Document::parse(content).unwrap();
            let values = |node: roxmltree::Node<'_, '_>| {
                node.attributes().map(|own| (own.name().to_owned(), own.value().parse().unwrap())).collect()
            };
            found.extend(document.descendants().filter(roxmltree::Node::is_element).map(values));
        }
        Format::Lua => lua(content, &mut found),
        Format::Lines | Format::ByContent => {}
        Format::Ini => {
            found.push(BTreeMap::new());
            for line in content.lines().filter(|line| !line.is_empty()) {
                match line.split_once('=') {
                    None => found.push(BTreeMap::new()),
                    Some((key, value)) => {
                        let twice = found.last_mut().unwrap().insert(key.to_owned(), value.parse().unwrap());
                        assert_eq!(twice, None, "{content}");
                    }
                }
            }
        }
    }
    found
}

/// The part in which each value stands.
fn places(parts: &[BTreeMap<String, u32>]) -> BTreeMap<u32, usize> {
    let mut places = BTreeMap::new();
    for (at, part) in parts.iter().enumerate() {
        for (_, value) in part.iter().filter(|(key, _)| *key != "id") {
            assert_eq!(places.insert(*value, at), None, "{value} stands there twice");
        }
    }
    places
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]
    #[test]
    fn changes_are_there_where_they_were_made_or_told(
        format in proptest::sample::select(&ALL),
        base in base(),
        has_base in proptest::bool::weighted(0.8),
        lower in proptest::collection::vec(any::<Deed>(), 0..4),
        upper in proptest::collection::vec(any::<Deed>(), 0..4),
    ) {
        let texts = [&base, &done(&base, &lower, 1000), &done(&base, &upper, 2000)].map(|part| written(format, part));
        let [base, lower, upper] = texts.each_ref().map(|text| read(format, text));
        let files = [texts[1].as_bytes(), texts[2].as_bytes()];
        let own = has_base.then_some(texts[0].as_bytes());
        let Ok(made) = combine(format, own, &files, &[]) else { return Ok(()) };
        let content = String::from_utf8(made.content).unwrap();
        let found = read(format, &content);
        let [mut was, low, up, is] = [&base, &lower, &upper, &found].map(|parts| places(parts));
        was.retain(|_, _| has_base);
        let told = format!("{}\n--- lower\n{}\n--- upper\n{}\n--- made\n{content}", texts[0], texts[1], texts[2]);
        // The upper's changes are there in any case; the lower's where nothing was contested.
        let mut sides = vec![(&upper, &up, &low)];
        if made.clashes.is_empty() {
            sides.push((&lower, &low, &up));
            for value in is.keys() {
                prop_assert!(low.contains_key(value) || up.contains_key(value), "{value} comes from nowhere\n{told}");
            }
            for value in was.keys().filter(|value| low.contains_key(value) && up.contains_key(value)) {
                prop_assert!(is.contains_key(value), "{value} is lost\n{told}");
            }
        }
        for (parts, own, other) in sides {
            for value in was.keys().filter(|value| !own.contains_key(value)) {
                prop_assert!(!is.contains_key(value), "{value} came back\n{told}");
            }
            for (value, place) in own.iter().filter(|(value, _)| !was.contains_key(value)) {
                let Some(at) = is.get(value) else { return Err(TestCaseError::fail(format!("{value} is lost\n{told}"))) };
                for (key, beside) in &parts[*place] {
                    // A section that is the only one of its name is that one, whatever it calls itself.
                    let is_name = *key == "id" && format != Format::Ini;
                    let is_theirs_too = is_name || other.contains_key(beside);
                    prop_assert!(
                        !is_theirs_too || found[*at].get(key) == Some(beside),
                        "{value} is beside another than {beside}\n{told}"
                    );
                }
            }
            // Of two that it put into another order, the order counts.
            if made.clashes.is_empty() {
                let both: Vec<(&u32, &usize)> = own.iter().filter(|(value, _)| was.contains_key(value) && is.contains_key(value)).collect();
                for (one, at) in &both {
                    for (two, to) in &both {
                        let is_turned = was[*one] < was[*two] && at > to;
                        prop_assert!(!is_turned || is[*one] > is[*two], "{one} and {two} are turned back\n{told}");
                    }
                }
            }
        }
    }
}
