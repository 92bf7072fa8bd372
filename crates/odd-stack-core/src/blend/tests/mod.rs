//! What blending promises, for every format.

mod cases;
mod law;
mod lua;
mod places;

use proptest::prelude::*;

use super::*;

const ALL: [Format; 5] = [Format::Ini, Format::Json, Format::Toml, Format::Xml, Format::Lua];

/// A file of the format that holds `values` in two sections, with comments, as people write them.
fn file(format: Format, values: &[(usize, u8)]) -> String {
    let of = |section: usize| values.iter().filter(move |(key, _)| key % 2 == section);
    let mut text = String::new();
    match format {
        Format::Ini => {
            for section in 0..2 {
                text.push_str(&format!("; part {section}\n[Part{section}]\n"));
                of(section).for_each(|(key, value)| text.push_str(&format!("Key{key} = {value} ; note\n")));
                text.push('\n');
            }
        }
        Format::Toml => {
            for section in 0..2 {
                text.push_str(&format!("# part {section}\n[part{section}]\n"));
                of(section).for_each(|(key, value)| text.push_str(&format!("key{key} = {value} # note\n")));
                text.push('\n');
            }
        }
        Format::Json => {
            let parts: Vec<String> = (0..2)
                .map(|section| {
                    let keys: Vec<String> = of(section)
                        .map(|(key, value)| format!("    \"key{key}\": {value} /* note */"))
                        .collect();
                    format!("  // part {section}\n  \"part{section}\": {{\n{}\n  }}", keys.join(",\n"))
                })
                .collect();
            text = format!("{{\n{}\n}}\n", parts.join(",\n"));
        }
        Format::Xml => {
            text.push_str("<?xml version=\"1.0\"?>\n<Root>\n");
            for section in 0..2 {
                text.push_str(&format!("  <!-- part {section} -->\n  <Part name=\"{section}\">\n"));
                of(section).for_each(|(key, value)| {
                    text.push_str(&format!("    <Key{key} loud='no' value='{value}'/>\n"));
                });
                text.push_str("  </Part>\n");
            }
            text.push_str("</Root>\n");
        }
        Format::Lua => {
            text.push_str("-- harbour\nreturn {\n");
            for section in 0..2 {
                text.push_str(&format!("  --[[ part {section} ]]\n  part{section} = {{\n"));
                of(section)
                    .for_each(|(key, value)| text.push_str(&format!("    key{key} = {value}; -- note\n")));
                text.push_str("  },\n");
            }
            text.push_str("}\n");
        }
        Format::Lines | Format::ByContent => {}
    }
    text
}

fn key(format: Format, key: usize) -> String {
    let section = key % 2;
    match format {
        Format::Ini => format!("Part{section}.Key{key}"),
        Format::Json | Format::Lua => format!("/part{section}/key{key}"),
        Format::Toml => format!("part{section}.key{key}"),
        Format::Xml => format!("/Root/Part[@name='{section}']/Key{key}/@value"),
        Format::Lines | Format::ByContent => String::new(),
    }
}

fn values_of(format: Format, content: &[u8], most: usize) -> Vec<Option<String>> {
    (0..most).map(|at| look_up(format, content, &KeyEdit::new(key(format, at), None)).unwrap().1).collect()
}

/// Whether a refusal is right: some file drops more than a third of the base, by the naive model.
fn drops_much(base: &[(usize, u8)], tables: &[Vec<(usize, u8)>]) -> bool {
    tables.iter().any(|table| {
        let dropped = base.iter().filter(|(key, _)| !table.iter().any(|(own, _)| own == key)).count();
        dropped * 3 > base.len()
    })
}

/// The naive model: a table of keys.
fn changed(base: &[(usize, u8)], changes: &[(usize, Option<u8>)]) -> Vec<(usize, u8)> {
    let mut values = base.to_vec();
    for (key, value) in changes {
        values.retain(|(own, _)| own != key);
        values.extend(value.map(|value| (*key, value)));
    }
    values.sort_unstable();
    values
}

proptest! {
    #[test]
    fn disjoint_changes_give_the_same_in_any_order_and_all_of_them(
        format in proptest::sample::select(&ALL),
        base in proptest::option::of(proptest::collection::btree_map(0..8usize, 0..9u8, 1..8)),
        changes in proptest::collection::btree_map(0..12usize, (0..3usize, proptest::option::of(10..19u8)), 0..12),
    ) {
        let own: Vec<(usize, u8)> = base.clone().unwrap_or_default().into_iter().collect();
        // Each key belongs to one of three layers.
        let of = |layer: usize| -> Vec<(usize, Option<u8>)> {
            changes.iter().filter(|(_, (whose, _))| *whose == layer).map(|(key, (_, value))| (*key, *value)).collect()
        };
        let tables: Vec<Vec<(usize, u8)>> = (0..3).map(|layer| changed(&own, &of(layer))).collect();
        let files: Vec<String> = tables.iter().map(|table| file(format, table)).collect();
        let base_text = base.map(|_| file(format, &own));
        let content = base_text.as_ref().map(String::as_bytes);
        let one: Vec<&[u8]> = files.iter().map(String::as_bytes).collect();
        let Ok(made) = combine(format, content, &one, &[]) else {
            // What drops most of the game's own settings is no change of these.
            prop_assert!(drops_much(&own, &tables));
            return Ok(());
        };
        for order in [[0, 2, 1], [1, 0, 2], [2, 1, 0]] {
            let other: Vec<&[u8]> = order.iter().map(|at| one[*at]).collect();
            prop_assert_eq!(&combine(format, content, &other, &[]).unwrap().content, &made.content);
        }
        let all: Vec<(usize, Option<u8>)> = changes.iter().map(|(key, (_, value))| (*key, *value)).collect();
        let wanted = changed(&own, &all);
        for (at, found) in values_of(format, &made.content, 12).into_iter().enumerate() {
            let value = wanted.iter().find(|(key, _)| *key == at).map(|(_, value)| value.to_string());
            prop_assert_eq!(found, value, "{}", String::from_utf8_lossy(&made.content));
        }
        if content.is_some() {
            prop_assert_eq!(made.clashes, []);
        }
    }

    #[test]
    fn of_what_several_set_the_upper_counts_and_clashes_are_those_of_all_pairs(
        format in proptest::sample::select(&ALL),
        base in proptest::collection::btree_map(0..6usize, 0..5u8, 1..6),
        layers in proptest::collection::vec(proptest::collection::btree_map(0..6usize, proptest::option::of(0..5u8), 0..5), 1..4),
    ) {
        let own: Vec<(usize, u8)> = base.into_iter().collect();
        let tables: Vec<Vec<(usize, u8)>> = layers
            .iter()
            .map(|layer| changed(&own, &layer.iter().map(|(key, value)| (*key, *value)).collect::<Vec<_>>()))
            .collect();
        let texts: Vec<String> = tables.iter().map(|table| file(format, table)).collect();
        let files: Vec<&[u8]> = texts.iter().map(String::as_bytes).collect();
        let Ok(made) = combine(format, Some(file(format, &own).as_bytes()), &files, &[]) else {
            prop_assert!(drops_much(&own, &tables));
            return Ok(());
        };
        let value = |table: &[(usize, u8)], at: usize| table.iter().find(|(key, _)| *key == at).map(|(_, value)| *value);
        for (at, found) in values_of(format, &made.content, 6).into_iter().enumerate() {
            let before = value(&own, at);
            let last = tables.iter().map(|table| value(table, at)).rfind(|own| *own != before);
            prop_assert_eq!(found, last.unwrap_or(before).map(|value| value.to_string()));
        }
        for upper in 0..files.len() {
            for lower in 0..upper {
                let clash = (0..6).any(|at| {
                    let (one, two, before) = (value(&tables[lower], at), value(&tables[upper], at), value(&own, at));
                    one != before && two != before && one != two
                });
                prop_assert_eq!(made.clashes.contains(&(lower, upper)), clash);
            }
        }
    }

    #[test]
    fn one_layer_gives_its_own_file_and_no_edits_change_nothing(
        format in proptest::sample::select(&ALL),
        base in proptest::collection::btree_map(0..8usize, 0..9u8, 0..8),
        own in proptest::collection::btree_map(0..8usize, 0..9u8, 0..8),
    ) {
        let text = |map: &std::collections::BTreeMap<usize, u8>| {
            file(format, &map.iter().map(|(key, value)| (*key, *value)).collect::<Vec<_>>())
        };
        let (base, own) = (text(&base), text(&own));
        let made = combine(format, Some(base.as_bytes()), &[own.as_bytes()], &[]).unwrap();
        if base != own {
            prop_assert_eq!(&made.content, own.as_bytes());
        }
        let none: &[KeyEdit] = &[];
        prop_assert_eq!(combine(format, None, &[own.as_bytes()], &[none]).unwrap().content, own.as_bytes());
    }

    #[test]
    fn edits_set_just_their_keys(
        format in proptest::sample::select(&ALL),
        own in proptest::collection::btree_map(0..8usize, 0..9u8, 0..8),
        edits in proptest::collection::btree_map(0..10usize, proptest::option::of(10..99u8), 1..6),
    ) {
        let own: Vec<(usize, u8)> = own.into_iter().collect();
        let changes: Vec<(usize, Option<u8>)> = edits.into_iter().collect();
        let list: Vec<KeyEdit> = changes
            .iter()
            .map(|(at, value)| KeyEdit::new(key(format, *at), value.map(|value| value.to_string())))
            .collect();
        let text = file(format, &own);
        let made = combine(format, None, &[text.as_bytes()], &[&list]).unwrap();
        prop_assert_eq!(made.undone, Vec::<String>::new());
        let wanted = changed(&own, &changes);
        for (at, found) in values_of(format, &made.content, 10).into_iter().enumerate() {
            let value = wanted.iter().find(|(key, _)| *key == at).map(|(_, value)| value.to_string());
            prop_assert_eq!(found, value, "{}", String::from_utf8_lossy(&made.content));
        }
    }

    #[test]
    fn the_edits_between_two_files_give_the_settings_of_the_second(
        format in proptest::sample::select(&ALL),
        old in proptest::collection::btree_map(0..8usize, 0..9u8, 0..8),
        new in proptest::collection::btree_map(0..8usize, 0..9u8, 0..8),
    ) {
        let text = |map: &std::collections::BTreeMap<usize, u8>| {
            file(format, &map.iter().map(|(key, value)| (*key, *value)).collect::<Vec<_>>())
        };
        let (old, new) = (text(&old), text(&new));
        let edits = edits_between(format, old.as_bytes(), new.as_bytes()).unwrap();
        let made = combine(format, None, &[old.as_bytes()], &[&edits]).unwrap();
        prop_assert_eq!(values_of(format, &made.content, 8), values_of(format, new.as_bytes(), 8));
    }

    #[test]
    fn no_text_makes_a_format_fail_other_than_by_saying_so(
        format in proptest::sample::select(&ALL),
        one in "[\\[\\]{}<>/=a-c\"' \n:,#;0-9.-]{0,40}",
        two in "[\\[\\]{}<>/=a-c\"' \n:,#;0-9.-]{0,40}",
    ) {
        // Neither panics, and what is made can be read again.
        if let Ok(made) = combine(format, None, &[one.as_bytes(), two.as_bytes()], &[]) {
            prop_assert!(combine(format, None, &[&made.content], &[]).is_ok());
        }
    }
}

fn combined(format: Format, base: &str, files: &[&str]) -> String {
    let files: Vec<&[u8]> = files.iter().map(|file| file.as_bytes()).collect();
    String::from_utf8(combine(format, Some(base.as_bytes()), &files, &[]).unwrap().content).unwrap()
}

fn tweaked(format: Format, content: &str, edits: &[(&str, Option<&str>)]) -> String {
    let edits: Vec<KeyEdit> =
        edits.iter().map(|(key, value)| KeyEdit::new(*key, value.map(str::to_owned))).collect();
    let made = combine(format, None, &[content.as_bytes()], &[&edits]).unwrap();
    assert_eq!(made.undone, [""; 0]);
    String::from_utf8(made.content).unwrap()
}

#[test]
fn ini_keeps_its_form() {
    let base =
        "; harbour\r\n[Gulls]\r\ncount = 40 ; many\r\npath=a\r\npath=b\r\n\r\n[Fog]\r\nthick=\"2\"\r\n";
    let gulls = base.replace("40", "200").replace("path=b\r\n", "path=b\r\npath=c\r\n");
    let fog =
        base.replace("\"2\"", "\"3\"").replace("path=b\r\n", "path=b\r\npath=d\r\n") + "[Sea]\r\nwaves=1\r\n";
    let made = combined(Format::Ini, base, &[&gulls, &fog]);
    // Values of a repeated key are a list, to which both add.
    assert!(
        made.starts_with("; harbour\r\n[Gulls]\r\ncount = 200 ; many\r\npath=a\r\npath=b\r\npath="),
        "{made}"
    );
    assert!(made.contains("path=c\r\n") && made.contains("path=d\r\n"));
    assert!(made.ends_with("\r\n\r\n[Fog]\r\nthick=\"3\"\r\n[Sea]\r\nwaves=1\r\n"), "{made}");
    assert_eq!(
        tweaked(
            Format::Ini,
            base,
            &[("fog.THICK", Some("5")), ("Gulls.loud", Some("yes")), ("top", Some("1"))]
        ),
        "top = 1\r\n; harbour\r\n[Gulls]\r\ncount = 40 ; many\r\npath=a\r\npath=b\r\nloud = yes\r\n\r\n[Fog]\r\nthick=\"5\"\r\n"
    );
    assert_eq!(tweaked(Format::Ini, "[a.b]\nx=1", &[("a.b.y", Some("2"))]), "[a.b]\nx=1\ny=2\n");
    assert!(
        look_up(Format::Ini, base.as_bytes(), &KeyEdit::new("Gulls.path", None))
            .unwrap_err()
            .contains("several times")
    );
}

#[test]
fn json_keeps_its_form() {
    let base =
        "{\n\t// harbour\n\t\"gulls\": { \"count\": 40, \"loud\": true }, // many\n\t\"fog\": [1, 2],\n}\n";
    assert_eq!(
        tweaked(
            Format::Json,
            base,
            &[
                ("/gulls/count", Some("200")),
                ("/gulls/name", Some("Herring")),
                ("/fog/1", Some("3")),
                ("/sea/waves", Some("1.50"))
            ]
        ),
        "{\n\t// harbour\n\t\"gulls\": { \"count\": 200, \"loud\": true, \"name\": \"Herring\" }, // many\n\t\"fog\": [1, 3],\n\t\"sea\": {\n\t\t\"waves\": 1.50\n\t},\n}\n"
    );
    assert_eq!(
        tweaked(Format::Json, base, &[("/gulls/count", None), ("/gulls/loud", None)]),
        "{\n\t// harbour\n\t\"fog\": [1, 2],\n}\n"
    );
    assert_eq!(
        look_up(Format::Json, base.as_bytes(), &KeyEdit::new("/fog/1", None)).unwrap().1.as_deref(),
        Some("2")
    );
    assert_eq!(tweaked(Format::Json, "{\"a\": \"1\"}", &[("/a", Some("2"))]), "{\"a\": \"2\"}");
    assert_eq!(
        tweaked(Format::Json, "{}", &[("/a/b", Some("x"))]),
        "{\n  \"a\": {\n    \"b\": \"x\"\n  }\n}"
    );
    assert_eq!(
        combined(Format::Json, "{\"a\":1,\"b\":1}", &["{\"a\":1.0,\"b\":2}", "{\"c\":3,\"a\":1,\"b\":1}"]),
        "{\"a\":1,\"b\":2, \"c\": 3}"
    );
    // Objects in arrays are told by what they say; arrays of numbers are one value.
    let routes =
        "{\"routes\": [{\"to\": \"a\", \"every\": 20}, {\"to\": \"b\", \"every\": 35}], \"sizes\": [1, 2]}";
    let (one, two) = (routes.replace("20", "40"), routes.replace("35", "70"));
    assert_eq!(combined(Format::Json, routes, &[&one, &two]), one.replace("35", "70"));
    let longer = routes.replace("35}", "35}, {\"to\": \"c\"}");
    assert_eq!(combined(Format::Json, routes, &[&longer, &one]), longer.replace("20", "40"));
    let sizes = (routes.replace("[1, 2]", "[1, 3]"), routes.replace("[1, 2]", "[1, 2, 3]"));
    let rows =
        key_rows(Format::Json, Some(routes.as_bytes()), &[sizes.0.as_bytes(), sizes.1.as_bytes()], &[]);
    assert_eq!(rows.unwrap().iter().map(|row| row.key.as_str()).collect::<Vec<_>>(), ["/sizes"]);
    let other =
        combine(Format::Json, Some(b"{\"a\":1,\"b\":1,\"c\":1,\"d\":1}"), &[b"{\"e\":1}", b"{\"a\":2}"], &[]);
    assert!(other.unwrap_err().reason.contains("little in common"));
    let twice = combine(Format::Json, None, &[b"{\"a\":1,\"a\":2}"], &[]).unwrap_err();
    assert!(twice.reason.contains("`a` stands there twice"), "{}", twice.reason);
}

#[test]
fn toml_keeps_its_form() {
    let base = "# harbour\r\ntitle = 'x' # name\r\n\r\n[gulls]\r\ncount = 40   # many\r\nsizes = [1, 2]\r\n\r\n[[ferry]]\r\nname = \"a\"";
    assert_eq!(
        tweaked(
            Format::Toml,
            base,
            &[("gulls.count", Some("200")), ("title", Some("y")), ("gulls.loud", Some("true"))]
        ),
        base.replace("40", "200").replace("'x'", "\"y\"").replace("2]\r\n", "2]\r\nloud = true\r\n")
    );
    let fog = base.replace("[[ferry]]", "[fog]\r\nthick = 2\r\n\r\n[[ferry]]");
    let many = base.replace("40", "50");
    assert_eq!(combined(Format::Toml, base, &[&fog, &many]).matches("thick = 2").count(), 1);
    assert!(combined(Format::Toml, base, &[&fog, &many]).contains("count = 50   # many\r\n"));
}

#[test]
fn xml_keeps_its_form() {
    let base = "<?xml version=\"1.0\"?>\n<Root>\n  <!-- gulls -->\n  <Set name='gulls' count='40'>\n    <Loud>yes</Loud>\n  </Set>\n  <Set name='fog' count='2'/>\n</Root>\n";
    assert_eq!(
        tweaked(
            Format::Xml,
            base,
            &[
                ("/Root/Set[@name='gulls']/@count", Some("200 & \"more\"")),
                ("/Root/Set[@name=\"gulls\"]/Loud", Some("no")),
                ("/Root/Set[@name='fog']/Thick", Some("3")),
                ("/Root/Set[@name='sea']/@waves", Some("1")),
            ]
        ),
        "<?xml version=\"1.0\"?>\n<Root>\n  <!-- gulls -->\n  <Set name='gulls' count='200 &amp; &quot;more&quot;'>\n    <Loud>no</Loud>\n  </Set>\n  <Set name='fog' count='2'>\n    <Thick>3</Thick>\n  </Set>\n  <Set name=\"sea\" waves=\"1\"/>\n</Root>\n"
    );
    assert_eq!(
        tweaked(
            Format::Xml,
            base,
            &[("/Root/Set[@name='gulls']/Loud", None), ("/Root/Set[@name='gulls']/@count", None)]
        ),
        base.replace("\n  <Set name='gulls' count='40'>\n    <Loud>yes</Loud>\n  </Set>", "")
    );
    // The second of its name is told by number.
    let twice = "<r><i>1</i><i>2</i></r>";
    assert_eq!(tweaked(Format::Xml, twice, &[("/r/i[2]", Some("3"))]), "<r><i>1</i><i>3</i></r>");
    for bad in ["<r>", "<r/><r/>", "words", "<r a=1/>"] {
        assert!(combine(Format::Xml, None, &[bad.as_bytes()], &[]).is_err(), "{bad}");
    }
}

#[test]
fn encodings_stay_and_files_of_other_kinds_are_refused() {
    let utf16 = |text: &str| {
        let units = std::iter::once(0xfeffu16).chain(text.encode_utf16());
        units.flat_map(u16::to_le_bytes).collect::<Vec<u8>>()
    };
    let (base, one, two) = ("[a]\r\nx=1\r\ny=1\r\n", "[a]\r\nx=2\r\ny=1\r\n", "[a]\r\nx=1\r\ny=\u{fc}\r\n");
    let made = combine(Format::Ini, Some(&utf16(base)), &[&utf16(one), two.as_bytes()], &[]).unwrap();
    assert_eq!(made.content, utf16("[a]\r\nx=2\r\ny=\u{fc}\r\n"));
    let western = combine(
        Format::Ini,
        Some(b"x=1\ny=\xfc\nz=1\n"),
        &[b"x=2\ny=\xfc\nz=1\n", b"x=1\ny=\xfc\nz=2\n"],
        &[],
    );
    assert_eq!(western.unwrap().content, b"x=2\ny=\xfc\nz=2\n");
    let marked = combine(
        Format::Json,
        Some(b"\xef\xbb\xbf{\"a\":1,\"b\":1}"),
        &[b"{\"a\":2,\"b\":1}", b"{\"a\":1,\"b\":2}"],
        &[],
    );
    assert_eq!(marked.unwrap().content, b"\xef\xbb\xbf{\"a\":2,\"b\":2}");
    let broken = combine(Format::Json, Some(b"{}"), &[b"{\"a\":1}", b"{\"a\":"], &[]).unwrap_err();
    assert_eq!(broken.culprit, Culprit::File(1));
    assert!(broken.reason.contains("line 1"), "{}", broken.reason);
    assert!(combine(Format::Ini, None, &[b"just words\nand more of them\n"], &[]).is_err());
    assert!(combine(Format::Ini, None, &[b"\0\x01\x02"], &[]).is_err());
}

#[test]
fn names_and_rules_say_what_blends() {
    let rule = |pattern: &str, format| BlendRule { pattern: pattern.to_owned(), format };
    let usual = BlendRules::default();
    assert_eq!(usual.format_of("config/Harbour.INI"), Some(Format::Ini));
    assert_eq!(usual.format_of("data/a.qtx"), None);
    let rules = [
        rule("*.qset", Some(Format::Toml)),
        rule("config/*", None),
        rule("CONFIG/keep.ini", Some(Format::Ini)),
    ];
    let rules = BlendRules::new(&rules).unwrap();
    assert_eq!(rules.format_of("deep/a.qset"), Some(Format::Toml));
    assert_eq!(rules.format_of("config/a.ini"), None);
    assert_eq!(rules.format_of("config/keep.ini"), Some(Format::Ini), "the last rule counts");
    assert!(BlendRules::new(&[rule("[", None)]).unwrap_err().contains("no pattern"));
    assert_eq!(Format::Ini.of_content(b"\xef\xbb\xbf <r/>"), Format::Xml);
    assert_eq!(Format::Ini.of_content(b"{}"), Format::Json);
    // Where the name tells nothing the content may.
    assert_eq!(usual.may_blend_as("data/a.qtx", false), Some(Format::ByContent));
    assert_eq!(rules.may_blend_as("config/a.qtx", true), None);
    assert!(["a.js", "a.CPP", "a.html"].iter().all(|name| usual.may_blend_as(name, false).is_none()));
    let told: [(&[u8], Format); 9] = [
        (b"[Fog]\nthick=1\nhigh=\"a\nb\"\n", Format::Ini),
        (b"; own\na = 1\nb.c = 2\n", Format::Ini),
        (b"{\"a\": 1}", Format::Json),
        (b"<?xml version=\"1.0\"?><a/>", Format::Xml),
        (b"x = 1;\ny = 2;\n", Format::ByContent),
        (b"if (x == 1) {\n  y = 2\n}\n", Format::ByContent),
        (b"one=1\n", Format::ByContent),
        (b"a letter\nof two lines\n", Format::ByContent),
        (b"a=1\nb=\0\n", Format::ByContent),
    ];
    for (content, format) in told {
        assert_eq!(Format::ByContent.of_content(content), format, "{}", String::from_utf8_lossy(content));
    }
}

#[test]
fn what_another_separator_would_hide_is_not_written() {
    let colons = "fog: 1\ngulls: 2\n";
    let other = "fog: 1\ngulls: 2\nquay: 4\n";
    let combine_with =
        |file: &str| combine(Format::Ini, Some(colons.as_bytes()), &[other.as_bytes(), file.as_bytes()], &[]);
    let made = combine_with("fog=1\ngulls=2\nferries=3\n").unwrap().content;
    assert_eq!(String::from_utf8(made).unwrap(), "fog: 1\ngulls: 2\nferries: 3\nquay: 4\n");
    for file in ["fog=1\ngulls=2\na:b=3\n", "fog=1\ngulls=a=b\n", "fog=1\ngulls=2\nferries=a=b\n"] {
        assert!(combine_with(file).is_err(), "{file}");
    }
    let typed = [KeyEdit::new("fog", Some("a=b".to_owned()))];
    let made = combine(Format::Ini, Some(colons.as_bytes()), &[], &[&typed]).unwrap();
    assert_eq!((made.content.as_slice(), made.undone.len()), (colons.as_bytes(), 1));
}
