//! Lua: what is data in it, and how it is written.

use End::{Both, Contest, Whole};

use super::cases::{End, check};
use super::*;

#[test]
fn small_cases() {
    check(
        Format::Lua,
        &[
            (
                "values in tables in one another",
                [
                    b"-- harbour\nreturn {\n  fog = { thick = 1, high = 2 }; -- both\n  name = 'Quill',\n}\n",
                    b"-- harbour\nreturn {\n  fog = { thick = 7, high = 2 };\n  name = 'Quill',\n}\n",
                    b"return {\n  fog = { thick = 1, high = 2, [\"end\"] = 3 }; -- both\n  name = \"Haven\",\n}\n",
                ],
                Both(
                    "-- harbour\nreturn {\n  fog = { thick = 7, high = 2, [\"end\"] = 3 }; -- both\n  name = \"Haven\",\n}\n",
                ),
            ),
            (
                "statements, some of which come and go",
                [
                    b"local M = {}\nM.fog = 1\nM.rain = 0 -- none\nM.name = 'a'\nreturn M\n",
                    b"local M = {}\nM.fog = 2\nM.name = 'a'\nreturn M\n",
                    b"local M = {}\nM.fog = 1\nM.rain = 0\nM.name = 'a'\nM.sun = { 1, 2 }\nreturn M\n",
                ],
                Both("local M = {}\nM.fog = 2\nM.name = 'a'\nM.sun = { 1, 2 }\nreturn M\n"),
            ),
            (
                "elements are told by name",
                [
                    b"units = {\n  { id = 'a', hp = 1 },\n  { id = 'b', hp = 1 },\n}\n",
                    b"units = {\n  { id = 'b', hp = 1 },\n}\n",
                    b"units = {\n  { id = 'a', hp = 1 },\n  { id = 'b', hp = 5 },\n  { id = 'c', hp = 9 },\n}\n",
                ],
                Both("units = {\n  { id = 'b', hp = 5 },\n  { id = 'c', hp = 9 },\n}\n"),
            ),
            (
                "a list that is emptied, and one that grows",
                [b"a = { 'x' }\nb = {}\n", b"a = {}\nb = {}\n", b"a = { 'x' }\nb = { 'y' }\n"],
                Both("a = {}\nb = {\n  'y'\n}\n"),
            ),
            (
                "two that fill an empty list",
                [b"a = {}\nb = 1\n", b"a = { 'x' }\nb = 1\n", b"a = { 'y' }\nb = 1\n"],
                Both("a = {\n  'x',\n  'y'\n}\nb = 1\n"),
            ),
            (
                "exact numbers",
                [
                    b"a = 76561198000000001\nb = 0x10\nc = 1.0\n",
                    b"a = 76561198000000002\nb = 0x10\nc = 1.0\n",
                    b"a = 76561198000000001\nb = 0x11\nc = 1\n",
                ],
                Both("a = 76561198000000002\nb = 0x11\nc = 1.0\n"),
            ),
            (
                "numbers as keys are no texts",
                [
                    b"t = { [1] = 'a', [\"1\"] = 'b' }\n",
                    b"t = { [1] = 'c', [\"1\"] = 'b' }\n",
                    b"t = { [1] = 'a', [\"1\"] = 'd', [2] = 'e' }\n",
                ],
                Both("t = { [1] = 'c', [\"1\"] = 'd', [2] = 'e' }\n"),
            ),
            (
                "a value and a table",
                [b"a = 1\n", b"a = 1\nu = 7\n", b"a = 1\nu = { x = 1 }\n"],
                Contest("a = 1\nu = { x = 1 }\n"),
            ),
            (
                "names and places in one table",
                [b"t = { 1, 2, x = 3 }\n", b"t = { 1, 5, x = 3 }\n", b"t = { 1, 2, x = 4 }\n"],
                Contest("t = { 1, 2, x = 4 }\n"),
            ),
            ("code in a file", [b"a = 1\nb = 2\n", b"a = f(1)\nb = 2\n", b"a = 1\nb = 3\n"], Whole),
            ("code in the game's own", [b"a = 1 + 1\nb = 2\n", b"a = 3\nb = 2\n", b"a = 1 + 1\nb = 3\n"], Whole),
            ("one name set twice", [b"a = 1\na = 2\n", b"a = 1\na = 3\n", b"a = 4\na = 2\n"], Whole),
            (
                "a name that only one makes local",
                [b"a = 1\nb = 1\n", b"local a = 1\nb = 1\n", b"a = 1\nb = 2\n"],
                Whole,
            ),
            (
                "a table given back and one that is set",
                [b"return { a = 1 }\n", b"return { a = 2 }\n", b"a = 1\nb = 1\n"],
                Whole,
            ),
        ],
    );
}

#[test]
fn what_is_typed_is_written_as_lua() {
    let own = "local speed = 2\r\nnames = { 'a\\tb', \"c\" } -- two\r\nA.b = { on = true }\r\n";
    let rows = [
        ("/names/1=it's", Ok("names = { 'a\\tb', \"it's\" } -- two")),
        ("/names/-=d", Ok("names = { 'a\\tb', \"c\", \"d\" } -- two")),
        ("/A.b/on=false", Ok("A.b = { on = false }")),
        ("/A.b/far={ 1, 2 }", Ok("A.b = { on = true, far = { 1, 2 } }")),
        ("/A.b/odd name=f()", Ok("A.b = { on = true, [\"odd name\"] = \"f()\" }")),
        ("/local speed=3", Ok("local speed = 3")),
        ("/fast=nil", Ok("A.b = { on = true }\r\nfast = nil\r\n")),
        ("/speed=3", Err("its key is `/local speed`")),
        ("/a b=3", Err("can't be the name")),
    ];
    for (edit, wanted) in rows {
        let (key, value) = edit.split_once('=').unwrap();
        let asked = [KeyEdit::new(key, Some(value.to_owned()))];
        let made = combine(Format::Lua, None, &[own.as_bytes()], &[&asked]).unwrap();
        let content = String::from_utf8(made.content).unwrap();
        match wanted {
            Ok(line) => assert!(
                content.contains(line) && made.undone.is_empty(),
                "{edit}: {content} {:?}",
                made.undone
            ),
            Err(reason) => {
                assert!(content == own && made.undone[0].contains(reason), "{edit}: {:?}", made.undone);
            }
        }
    }
    assert!(
        look_up(Format::Lua, b"a = 1\nif b then c = 2 end", &KeyEdit::new("/a", None))
            .unwrap_err()
            .contains("line 2")
    );
    let deep = format!("a = {}{}", "{".repeat(20_000), "}".repeat(20_000));
    assert!(look_up(Format::Lua, deep.as_bytes(), &KeyEdit::new("/a", None)).unwrap_err().contains("nested"));
}
