//! Small cases, each of which once lost, moved or bent a change: the game's own file, the lower layer's and the upper's.

use End::{Both, Contest, Whole};

use super::*;

/// What comes of a case.
pub(super) enum End {
    /// Both changes, in this file.
    Both(&'static str),
    /// A contest, which the upper wins with this.
    Contest(&'static str),
    /// The files count as a whole.
    Whole,
}

pub(super) fn check(format: Format, cases: &[(&str, [&[u8]; 3], End)]) {
    for (name, [base, lower, upper], end) in cases {
        let made = combine(format, Some(base), &[lower, upper], &[]);
        let told = made
            .as_ref()
            .map(|made| (String::from_utf8_lossy(&made.content).into_owned(), made.clashes.clone()));
        match end {
            Both(text) => assert_eq!(told, Ok(((*text).to_owned(), vec![])), "{name}"),
            Contest(text) => assert_eq!(told, Ok(((*text).to_owned(), vec![(0, 1)])), "{name}"),
            Whole => assert!(made.is_err(), "{name}: {told:?}"),
        }
    }
}

#[test]
fn in_ini() {
    check(
        Format::Ini,
        &[
            (
                "all behind the separator counts",
                [
                    b"msg=Room #1\nbind=\"F1\" \"help\"\ns='a ; b'\nx=1\n",
                    b"msg=Room #2\nbind=\"F1\" \"quit\"\ns='a ; c'\nx=1\n",
                    b"msg=Room #1\nbind=\"F1\" \"help\"\ns='a ; b'\nx=2\n",
                ],
                Both("msg=Room #2\nbind=\"F1\" \"quit\"\ns='a ; c'\nx=2\n"),
            ),
            (
                "bare words are lines of their section",
                [
                    b"[Mods]\na=1\nb=1\nc=1\nd=1\ne=1\nf=1\ng=1\nh=1\ni=1\nj=1\nk=1\nmod_a\n",
                    b"[Mods]\na=1\nb=1\nc=1\nd=1\ne=1\nf=1\ng=1\nh=1\ni=1\nj=1\nk=1\nl=1\nm=1\nmod_a\nmod_x\n",
                    b"[Mods]\na=2\nb=1\nc=1\nd=1\ne=1\nf=1\ng=1\nh=1\ni=1\nj=1\nk=1\nl=1\nm=1\nmod_a\nmod_y\n",
                ],
                Both(
                    "[Mods]\na=2\nb=1\nc=1\nd=1\ne=1\nf=1\ng=1\nh=1\ni=1\nj=1\nk=1\nl=1\nm=1\nmod_a\nmod_x\nmod_y\n",
                ),
            ),
            (
                "two lists of words that grow in one place are no settings",
                [b"mod_a\nmod_b\n", b"mod_a\nmod_b\nmod_x\n", b"mod_a\nmod_b\nmod_y\n"],
                Whole,
            ),
            (
                "words that change apart are merged by lines",
                [b"mod_a\nmod_b\nmod_c\nmod_d\n", b"mod_x\nmod_b\nmod_c\nmod_d\n", b"mod_a\nmod_b\nmod_c\nmod_y\n"],
                Both("mod_x\nmod_b\nmod_c\nmod_y\n"),
            ),
            (
                "one element that two call otherwise is one",
                [
                    b"[unit]\nid=a\nhp=1\nxp=2\n[unit]\nid=b\nhp=1\nxp=3\n",
                    b"[unit]\nid=c\nhp=1\nxp=2\n[unit]\nid=b\nhp=1\nxp=3\n",
                    b"[unit]\nid=d\nhp=1\nxp=2\n[unit]\nid=b\nhp=1\nxp=3\n",
                ],
                Whole,
            ),
            (
                "an exclamation mark begins a comment or a form of a key",
                [
                    b"! by hand\na=1\n!List=x\n",
                    b"! by hand\na=2\n!List=x\n",
                    b"! by machine\na=1\n!List=x\n!List=y\n",
                ],
                Both("! by hand\na=2\n!List=x\n!List=y\n"),
            ),
            (
                "sections of one name are told by a key",
                [
                    b"[unit]\nid=a\nhp=1\n[unit]\nid=b\nhp=1\n",
                    b"[unit]\nid=a\nhp=5\n[unit]\nid=b\nhp=1\n",
                    b"[unit]\nid=a\nhp=1\n[unit]\nid=b\nhp=7\n",
                ],
                Both("[unit]\nid=a\nhp=5\n[unit]\nid=b\nhp=7\n"),
            ),
            (
                "one of them goes and another is changed",
                [
                    b"[unit]\nid=a\nhp=1\n[unit]\nid=b\nhp=1\n[unit]\nid=c\nhp=1\n",
                    b"[unit]\nid=b\nhp=1\n[unit]\nid=c\nhp=1\n",
                    b"[unit]\nid=a\nhp=1\n[unit]\nid=b\nhp=7\n[unit]\nid=c\nhp=1\n",
                ],
                Both("[unit]\nid=b\nhp=7\n[unit]\nid=c\nhp=1\n"),
            ),
            (
                "sections that lie in one another are merged by lines",
                [
                    b"[unit]\nid=a\n[w]\nx=1\n[/w]\n[/unit]\n[unit]\nid=b\n[/unit]\n",
                    b"[unit]\nid=a\n[w]\nx=2\n[/w]\n[/unit]\n[unit]\nid=b\n[/unit]\n",
                    b"[unit]\nid=a\n[w]\nx=1\n[/w]\n[/unit]\n[unit]\nid=b\nhp=3\n[/unit]\n",
                ],
                Both("[unit]\nid=a\n[w]\nx=2\n[/w]\n[/unit]\n[unit]\nid=b\nhp=3\n[/unit]\n"),
            ),
            (
                "indented lines lie in what stands above them",
                [
                    b"one=\n  hp=1\n  mp=1\ntwo=\n  hp=1\n  mp=1\n",
                    b"one=\n  hp=2\n  mp=1\ntwo=\n  hp=1\n  mp=1\n",
                    b"one=\n  hp=1\n  mp=1\ntwo=\n  hp=1\n  mp=3\n",
                ],
                Both("one=\n  hp=2\n  mp=1\ntwo=\n  hp=1\n  mp=3\n"),
            ),
            (
                "lists grow in the order of the layers",
                [b"p=a\np=b\n", b"p=a\np=b\np=y\n", b"p=a\np=b\np=c\n"],
                Both("p=a\np=b\np=y\np=c\n"),
            ),
            (
                "an item changed in place stays in its place",
                [b"p=a\np=b\np=c\n", b"p=a\np=x\np=c\n", b"p=a\np=b\np=c\np=d\n"],
                Both("p=a\np=x\np=c\np=d\n"),
            ),
            ("two changes of one item", [b"p=a\np=b\n", b"p=a\np=x\n", b"p=a\np=y\n"], Contest("p=a\np=y\n")),
            (
                "marks before keys keep their meaning",
                [
                    b"[S]\n+P=a\n+P=b\n.Q=1\nx=1\n",
                    b"[S]\n!P=Clear\n+P=a\n+P=b\n.Q=1\nx=1\n",
                    b"[S]\n+P=a\n+P=b\n+P=c\n.Q=2\nx=1\n",
                ],
                Both("[S]\n!P=Clear\n+P=a\n+P=b\n+P=c\n.Q=2\nx=1\n"),
            ),
            (
                "keys and values apart by blanks",
                [
                    b"// own\nfog 1\nseta name \"Keeper\"\nbind F1 \"help\"\nbind F2 \"map\"\n",
                    b"// own\nfog 3\nseta name \"Keeper\"\nbind F1 \"help\"\nbind F2 \"map\"\nbind F3 \"x\"\n",
                    b"// own\nfog 1\nseta name \"Gull\"\nbind F1 \"help\"\nbind F2 \"quit\"\n",
                ],
                Both("// own\nfog 3\nseta name \"Gull\"\nbind F1 \"help\"\nbind F2 \"quit\"\nbind F3 \"x\"\n"),
            ),
            (
                "values of several lines",
                [
                    b"a=\"one\ntwo\"\nb=1\\\n  2\nc=(x=1,\n y=2)\nd=1\n",
                    b"a=\"one\nthree\"\nb=1\\\n  2\nc=(x=1,\n y=3)\nd=1\n",
                    b"a=\"one\ntwo\"\nb=1\\\n  5\nc=(x=1,\n y=2)\nd=2\n",
                ],
                Both("a=\"one\nthree\"\nb=1\\\n  5\nc=(x=1,\n y=3)\nd=2\n"),
            ),
            (
                "lines that go on with the value above",
                [
                    b"a=1\n  2\nlist =\n    x>=1\n    y\nb=1\n",
                    b"a=1\n  3\nlist =\n    x>=1\n    y\nb=1\n",
                    b"a=1\n  2\nlist =\n    x>=2\n    y\nb=2\n",
                ],
                Both("a=1\n  3\nlist =\n    x>=2\n    y\nb=2\n"),
            ),
            (
                "brackets with something behind them are no section",
                [
                    b"[a] x\nb=1\nc=1\nd=1\ne=1\n",
                    b"[a] y\nb=1\nc=1\nd=1\ne=1\n",
                    b"[a] x\nb=1\nc=2\nd=1\ne=1\n",
                ],
                Both("[a] y\nb=1\nc=2\nd=1\ne=1\n"),
            ),
            (
                "line ends are no change, and carriage returns alone are line ends",
                [b"a=1\nb=1\nc=1\n", b"a=1\rb=2\rc=1\r", b"a=2\r\nb=1\r\nc=1\r\n"],
                Both("a=2\nb=2\nc=1\n"),
            ),
            (
                "an emptied section stays, and one that is taken out goes",
                [b"[a]\nx=1\n[b]\ny=1\n[c]\nz=1\n", b"[a]\n[b]\ny=1\n[c]\nz=1\n", b"[a]\nx=1\n[c]\nz=1\n"],
                Both("[a]\n[c]\nz=1\n"),
            ),
            (
                "comments of a new section come along",
                [b"[a]\nx=1\n", b"[a]\nx=1\n\n; the sea\n[sea]\n; high\nwaves=1\n", b"[a]\nx=2\n"],
                Both("[a]\nx=2\n; the sea\n[sea]\n; high\nwaves=1\n"),
            ),
            (
                "a code page that can't be told stays byte for byte",
                [b"; \xd4\xe0\xe9\xeb\nx=1\ny=1\n", b"; \xd4\xe0\xe9\xeb\nx=2\ny=1\n", b"; \xd4\xe0\xe9\xeb\nx=1\ny=2\n"],
                Both("; \u{fffd}\u{fffd}\u{fffd}\u{fffd}\nx=2\ny=2\n"),
            ),
            (
                "and takes no letters of another encoding",
                [
                    b"; \xd4\xe0\xe9\xeb\nx=1\ny=1\n",
                    "; \u{424}\u{430}\nx=\u{439}\ny=1\n".as_bytes(),
                    b"; \xd4\xe0\xe9\xeb\nx=1\ny=2\n",
                ],
                Whole,
            ),
            (
                "nor does Windows-1252 what it can't hold",
                [b"; \xfcber\nx=1\ny=1\n", "; \u{fc}ber\nx=\u{439}\ny=1\n".as_bytes(), b"; \xfcber\nx=1\ny=2\n"],
                Whole,
            ),
            ("sentences are no settings", [b"just words\nand more of them\n", b"just word\nand more of them\n", b"x"], Whole),
        ],
    );
}

#[test]
fn in_json() {
    check(
        Format::Json,
        &[
            (
                "objects are swapped, and one is changed",
                [
                    b"{\"o\": [{\"a\": 1, \"b\": 1}, {\"a\": 2, \"b\": 2}]}",
                    b"{\"o\": [{\"a\": 2, \"b\": 2}, {\"a\": 1, \"b\": 1}]}",
                    b"{\"o\": [{\"a\": 1, \"b\": 5}, {\"a\": 2, \"b\": 2}]}",
                ],
                Contest("{\"o\": [{\"a\": 1, \"b\": 5}, {\"a\": 2, \"b\": 2}]}"),
            ),
            (
                "the first goes, and another is changed",
                [
                    b"{\"o\": [{\"id\": 1, \"b\": 1}, {\"id\": 2, \"b\": 1}, {\"id\": 3, \"b\": 1}]}",
                    b"{\"o\": [{\"id\": 2, \"b\": 1}, {\"id\": 3, \"b\": 1}]}",
                    b"{\"o\": [{\"id\": 1, \"b\": 1}, {\"id\": 2, \"b\": 7}, {\"id\": 3, \"b\": 1}]}",
                ],
                Both("{\"o\": [{\"id\": 2, \"b\": 7}, {\"id\": 3, \"b\": 1}]}"),
            ),
            (
                "both add an element",
                [b"{\"m\": [\"a\"]}", b"{\"m\": [\"a\", \"b\"]}", b"{\"m\": [\"a\", \"c\"]}"],
                Both("{\"m\": [\"a\", \"b\", \"c\"]}"),
            ),
            (
                "the outermost may be an array",
                [
                    b"[\n  {\"id\": \"a\", \"x\": 1},\n  {\"id\": \"b\", \"x\": 1}\n]\n",
                    b"[\n  {\"id\": \"a\", \"x\": 2},\n  {\"id\": \"b\", \"x\": 1}\n]\n",
                    b"[\n  {\"id\": \"a\", \"x\": 1},\n  {\"id\": \"b\", \"x\": 1},\n  {\"id\": \"c\", \"x\": 1}\n]\n",
                ],
                Both("[\n  {\"id\": \"a\", \"x\": 2},\n  {\"id\": \"b\", \"x\": 1},\n  {\"id\": \"c\", \"x\": 1}\n]\n"),
            ),
            (
                "a value meets what lies beneath",
                [b"{\"v\": 1}", b"{\"v\": 1, \"u\": 7}", b"{\"v\": 1, \"u\": {\"a\": 1, \"b\": 2}}"],
                Contest("{\"v\": 1, \"u\": {\"a\": 1, \"b\": 2}}"),
            ),
            (
                "and the other way round",
                [b"{\"v\": 1}", b"{\"v\": 1, \"u\": {\"a\": 1, \"b\": 2}}", b"{\"v\": 1, \"u\": 7}"],
                Contest("{\"v\": 1, \"u\": 7}"),
            ),
            (
                "integers of any size",
                [
                    b"{\"id\": 76561198000000001, \"x\": 1}",
                    b"{\"id\": 76561198000000002, \"x\": 1}",
                    b"{\"id\": 76561198000000001, \"x\": 2}",
                ],
                Both("{\"id\": 76561198000000002, \"x\": 2}"),
            ),
            (
                "what is empty stays",
                [b"{\"a\": {\"x\": 1}, \"b\": 1}", b"{\"a\": {}, \"b\": 1, \"c\": {}}", b"{\"a\": {\"x\": 1}, \"b\": 2}"],
                Both("{\"a\": {}, \"b\": 2, \"c\": {}}"),
            ),
            (
                "an array emptied is not one taken out",
                [
                    b"{\"m\": [\"a\"], \"n\": [\"b\"], \"x\": 1}",
                    b"{\"m\": [], \"x\": 1}",
                    b"{\"m\": [\"a\"], \"n\": [\"b\"], \"x\": 2}",
                ],
                Both("{\"m\": [], \"x\": 2}"),
            ),
            (
                "what is new comes with its form",
                [
                    b"{\n  \"a\": 1\n}\n",
                    b"{\n  \"a\": 1,\n  \"sea\": {\n    // high\n    \"waves\": [1,2]\n  }\n}\n",
                    b"{\n  \"a\": 2\n}\n",
                ],
                Both("{\n  \"a\": 2,\n  \"sea\": {\n    // high\n    \"waves\": [1,2]\n  }\n}\n"),
            ),
            (
                "the comment at the beginning stays when the first key goes",
                [
                    b"{\n  // harbour\n  \"a\": 1,\n  \"b\": 1,\n  \"c\": 1\n}\n",
                    b"{\n  // harbour\n  \"b\": 1,\n  \"c\": 1\n}\n",
                    b"{\n  // harbour\n  \"a\": 1,\n  \"b\": 1,\n  \"c\": 2\n}\n",
                ],
                Both("{\n  // harbour\n  \"b\": 1,\n  \"c\": 2\n}\n"),
            ),
        ],
    );
}

#[test]
fn in_toml() {
    check(
        Format::Toml,
        &[
            (
                "a value meets what lies beneath",
                [b"v = 1\n", b"v = 1\nu = 7\n", b"v = 1\n[u]\na = 1\nb = 2\n"],
                Contest("v = 1\n[u]\na = 1\nb = 2\n"),
            ),
            (
                "an emptied table stays, and comments of a new one come along",
                [
                    b"# harbour\nv = 1\n\n[a]\nx = 1\n",
                    b"# harbour\nv = 1\n\n[a]\n",
                    b"# harbour\nv = 1\n\n[a]\nx = 1\n\n# the sea\n[sea]\n# high\nwaves = 1 # yes\n",
                ],
                Both("# harbour\nv = 1\n\n[a]\n\n# the sea\n[sea]\n# high\nwaves = 1 # yes\n"),
            ),
            (
                "the comment at the beginning stays when the first key goes",
                [
                    b"# harbour\nv = 1\nw = 1\nx = 1\n",
                    b"# harbour\nw = 1\nx = 1\n",
                    b"# harbour\nv = 1\nw = 1\nx = 2\n",
                ],
                Both("# harbour\nw = 1\nx = 2\n"),
            ),
        ],
    );
}

#[test]
fn in_xml() {
    check(
        Format::Xml,
        &[
            (
                "the first goes, and the second is changed",
                [
                    b"<r><o a='1' c='1'/><o a='2' c='1'/><o a='3' c='1'/></r>",
                    b"<r><o a='2' c='1'/><o a='3' c='1'/></r>",
                    b"<r><o a='1' c='1'/><o a='2' c='5'/><o a='3' c='1'/></r>",
                ],
                Both("<r><o a='2' c='5'/><o a='3' c='1'/></r>"),
            ),
            (
                "told by a child",
                [
                    b"<r><o><id>a</id><v>1</v></o><o><id>b</id><v>1</v></o></r>",
                    b"<r><o><id>b</id><v>1</v></o></r>",
                    b"<r><o><id>a</id><v>1</v></o><o><id>b</id><v>4</v></o></r>",
                ],
                Both("<r><o><id>b</id><v>4</v></o></r>"),
            ),
            (
                "both add an element",
                [b"<r><o>a</o></r>", b"<r><o>a</o><o>b</o></r>", b"<r><o>a</o><o>c</o></r>"],
                Both("<r><o>a</o><o>b</o><o>c</o></r>"),
            ),
            (
                "an element comes where it stood",
                [
                    b"<r>\n  <a/>\n  <c/>\n  <d v='1'/>\n</r>\n",
                    b"<r>\n  <a/>\n  <b/>\n  <c/>\n  <d v='1'/>\n</r>\n",
                    b"<r>\n  <a/>\n  <c/>\n  <d v='2'/>\n</r>\n",
                ],
                Both("<r>\n  <a/>\n  <b/>\n  <c/>\n  <d v='2'/>\n</r>\n"),
            ),
            (
                "what is new comes with its form",
                [
                    b"<r>\n  <a v='1'/>\n</r>\n",
                    b"<r>\n  <sea b='2' a='1'>\n    <!-- high -->\n    <waves>3</waves>\n  </sea>\n  <a v='1'/>\n</r>\n",
                    b"<r>\n  <a v='2'/>\n</r>\n",
                ],
                Both("<r>\n  <sea b='2' a='1'>\n    <!-- high -->\n    <waves>3</waves>\n  </sea>\n  <a v='2'/>\n</r>\n"),
            ),
            (
                "a declared encoding is written as declared",
                [
                    b"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><r><a>x</a><b>y</b></r>",
                    b"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><r><a>\xe9</a><b>y</b></r>",
                    "<?xml version=\"1.0\" encoding=\"UTF-8\"?><r><a>x</a><b>\u{20ac}</b></r>".as_bytes(),
                ],
                Both("<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><r><a>\u{fffd}</a><b>&#8364;</b></r>"),
            ),
            (
                "document types that differ",
                [
                    b"<!DOCTYPE r [<!ENTITY e 'x'>]><r><a>1</a><b>1</b></r>",
                    b"<!DOCTYPE r [<!ENTITY e 'y'>]><r><a>2</a><b>1</b></r>",
                    b"<!DOCTYPE r [<!ENTITY e 'x'>]><r><a>1</a><b>&e;</b></r>",
                ],
                Whole,
            ),
            (
                "line ends and comments in a text are no change",
                [
                    b"<r><a>x\ny</a><b>1</b></r>",
                    b"<r><a>x<!-- why -->\r\ny</a><b>2</b></r>",
                    b"<r><a>z\ny</a><b>1</b></r>",
                ],
                Both("<r><a>z\ny</a><b>2</b></r>"),
            ),
            (
                "texts between elements are one value",
                [
                    b"<r><a>x <b/> y</a><c>1</c></r>",
                    b"<r><a>x <b/> z</a><c>1</c></r>",
                    b"<r><a>x <b/> y</a><c>2</c></r>",
                ],
                Both("<r><a>x <b/> z</a><c>2</c></r>"),
            ),
        ],
    );
}

#[test]
fn in_lines() {
    let own = b"one\ntwo\nthree\nfour\n";
    check(
        Format::Lines,
        &[
            (
                "apart",
                [own, b"1\ntwo\nthree\nfour\n", b"one\r\ntwo\r\nthree\r\n4\r\n"],
                Both("1\ntwo\nthree\n4\n"),
            ),
            ("beside each other", [own, b"1\ntwo\nthree\nfour\n", b"one\n2\nthree\nfour\n"], Whole),
            (
                "added at one place",
                [own, b"one\ntwo\nthree\nfour\n5\n", b"one\ntwo\nthree\nfour\nV\n"],
                Whole,
            ),
        ],
    );
    assert!(combine(Format::Lines, None, &[b"a\n", b"b\n"], &[]).is_err());
    assert!(look_up(Format::Lines, own, &KeyEdit::new("one", None)).unwrap_err().contains("no keys"));
    assert!(lie_apart(own, b"1\ntwo\nthree\nfour\n", b"one\ntwo\nthree\n4\n"));
}

#[test]
fn what_is_nested_too_deep_is_told() {
    let deep = |open: &str, close: &str| [open.repeat(20_000), close.repeat(20_000)].concat();
    let files = [
        (Format::Xml, deep("<a>", "</a>")),
        (Format::Json, deep("{\"a\":", "}").replace(":}", ":1}")),
        (Format::Json, deep("[", "]")),
        (Format::Toml, format!("{} = 1", vec!["a"; 20_000].join("."))),
        (Format::Toml, format!("x = {}", deep("[", "]"))),
        (Format::Toml, format!("[{}]\nx = 1", vec!["a"; 20_000].join("."))),
        (Format::Toml, format!("x = {{ {} = 1 }}", vec!["a"; 20_000].join(" . "))),
    ];
    for (format, file) in files {
        assert!(combine(format, None, &[file.as_bytes()], &[]).is_err());
        assert!(look_up(format, file.as_bytes(), &KeyEdit::new("/a/a", None)).is_err());
    }
}

#[test]
fn what_rows_print_can_be_tweaked() {
    let files: [(Format, &str, &str); 6] = [
        (
            Format::Ini,
            "[a]\nx=1\np=1\np=2\n[e]\n[u]\nid=a\nv=1\n[u]\nid=b\nv=1\n",
            "[a]\np=1\np=3\np=4\n[u]\nid=a\nv=1\n[u]\nid=b\nv=2\n[u]\nid=c\nv=3\n",
        ),
        (Format::Ini, "fog 1\nseta a 2\nbind F1 \"x\"\n", "fog 2\nseta a 3\nbind F1 \"y z\"\n"),
        (
            Format::Json,
            "{\"a\": {\"x\": 1}, \"r\": [{\"to\": \"a\"}], \"m\": [\"q\"]}",
            "{\"a\": {}, \"r\": [{\"to\": \"a\"}, {\"to\": \"b\"}], \"m\": [\"q\", \"w\"]}",
        ),
        (Format::Json, "[{\"id\": \"a/b\", \"v\": 1}]", "[{\"id\": \"a/b\", \"v\": 2}]"),
        (Format::Toml, "[a]\nx = 1\n[b.\"c d\"]\ny = 1\n", "[a]\n[b.\"c d\"]\ny = 2\n"),
        (
            Format::Xml,
            "<r><o id='a' v='1'/><p>x</p><p>y</p></r>",
            "<r><o id='a' v='2'/><p>x</p><p>z</p><p>q</p></r>",
        ),
    ];
    for (format, old, new) in files {
        let rows = key_rows(format, Some(old.as_bytes()), &[new.as_bytes()], &[]).unwrap();
        assert!(!rows.is_empty());
        for row in rows {
            let (shown, found) = look_up(format, new.as_bytes(), &KeyEdit::new(&row.key, None)).unwrap();
            let value = row.files[0].clone().unwrap();
            if !row.key.ends_with("/-") {
                assert_eq!((&shown, &found), (&row.key, &value), "{new}");
            }
            let edit = KeyEdit::new(&row.key, None);
            let made = combine(format, None, &[new.as_bytes()], &[&[edit]]).unwrap();
            assert_eq!(made.undone, [""; 0], "{}", row.key);
        }
    }
}
