//! The rooms of the house, read off its imports: arrows point down, and files don't import each other in circles.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs;
use std::path::Path;

use syn::visit::Visit;
use syn::{Attribute, File, Item, ItemMod, ItemUse, UseTree, Visibility};

/// Rooms from the bottom to the top; a room imports only from floors beneath it. What is pure may import what is pure.
const FLOORS: [&[&str]; 10] = [
    &[
        "address",
        "version",
        "version_order",
        "version_range",
        "hash",
        "moment",
        "notice",
        "observer",
        "members",
        "blend",
        "stack",
        "fit",
    ],
    &["files"],
    &["container"],
    &["game", "package"],
    &["ledger"],
    &["expected"],
    &["check"],
    &["change"],
    &["jobs"],
    &["front"],
];

/// Files of one room that import each other must be a pair: what belongs together and is long.
const MOST_IN_A_CIRCLE: usize = 2;

type Module = Vec<String>;

/// What a file takes from elsewhere, and which names it passes on.
#[derive(Default)]
struct Imports {
    paths: BTreeSet<Module>,
    passed_on: HashMap<String, Module>,
}

struct Reader<'m> {
    module: &'m Module,
    imports: Imports,
}

impl Reader<'_> {
    /// A path below the crate's top, where it is one of this crate's.
    fn absolute(&self, path: &[String]) -> Option<Module> {
        let mut from = self.module.clone();
        let mut rest = path;
        match rest.first().map(String::as_str) {
            Some("crate") => return Some(rest[1..].to_vec()),
            Some("self") => rest = &rest[1..],
            Some("super") => {
                while rest.first().is_some_and(|part| part == "super") {
                    from.pop();
                    rest = &rest[1..];
                }
            }
            _ => {}
        }
        from.extend(rest.iter().cloned());
        Some(from)
    }

    fn take(&mut self, path: &[String], passes_on_as: Option<&str>) {
        let Some(absolute) = self.absolute(path) else { return };
        match passes_on_as {
            Some(name) => drop(self.imports.passed_on.insert(name.to_owned(), absolute)),
            None => drop(self.imports.paths.insert(absolute)),
        }
    }

    fn take_tree(&mut self, tree: &UseTree, above: &mut Vec<String>, passes_on: bool) {
        match tree {
            UseTree::Path(path) => {
                above.push(path.ident.to_string());
                self.take_tree(&path.tree, above, passes_on);
                above.pop();
            }
            UseTree::Name(name) => self.take_named(&name.ident.to_string(), None, above, passes_on),
            UseTree::Rename(renamed) => {
                let new = renamed.rename.to_string();
                self.take_named(&renamed.ident.to_string(), Some(&new), above, passes_on);
            }
            UseTree::Glob(_) => self.take(above, None),
            UseTree::Group(group) => {
                group.items.iter().for_each(|tree| self.take_tree(tree, above, passes_on));
            }
        }
    }

    fn take_named(&mut self, name: &str, new: Option<&str>, above: &[String], passes_on: bool) {
        let path: Vec<String> = match name {
            "self" => above.to_vec(),
            name => above.iter().cloned().chain([name.to_owned()]).collect(),
        };
        self.take(&path, passes_on.then_some(new.unwrap_or(name)));
    }
}

fn is_for_tests(attributes: &[Attribute]) -> bool {
    let is_test = |attribute: &Attribute| {
        attribute.path().is_ident("cfg")
            && attribute.parse_args::<syn::Ident>().is_ok_and(|only| only == "test")
    };
    attributes.iter().any(is_test)
}

impl<'ast> Visit<'ast> for Reader<'_> {
    fn visit_item_mod(&mut self, inner: &'ast ItemMod) {
        if !is_for_tests(&inner.attrs) {
            syn::visit::visit_item_mod(self, inner);
        }
    }

    fn visit_item_use(&mut self, item: &'ast ItemUse) {
        // A file that only passes names on does not need them.
        let passes_on = !matches!(item.vis, Visibility::Inherited);
        self.take_tree(&item.tree, &mut Vec::new(), passes_on);
    }

    fn visit_visibility(&mut self, _who_may_see_it: &'ast Visibility) {}

    fn visit_path(&mut self, path: &'ast syn::Path) {
        let parts: Vec<String> = path.segments.iter().map(|part| part.ident.to_string()).collect();
        if matches!(parts[0].as_str(), "crate" | "super") {
            self.take(&parts, None);
        }
        syn::visit::visit_path(self, path);
    }
}

fn read_all(folder: &Path, module: &Module, all: &mut BTreeMap<Module, Imports>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let stem = path.file_stem().unwrap().to_str().unwrap().to_owned();
        let inner: Module = module.iter().cloned().chain([stem.clone()]).collect();
        if path.is_dir() {
            if stem != "tests" {
                read_all(&path, &inner, all);
            }
            continue;
        }
        let name = match stem.as_str() {
            "mod" | "lib" => module.clone(),
            _ => inner,
        };
        let file: File = syn::parse_file(&fs::read_to_string(&path).unwrap()).unwrap();
        let mut reader = Reader { module: &name, imports: Imports::default() };
        file.items
            .iter()
            .filter(|item| !matches!(item, Item::Macro(_)))
            .for_each(|item| reader.visit_item(item));
        all.insert(name.clone(), reader.imports);
    }
}

/// The file that a path leads to: the one that has the thing, not those that pass its name on.
fn file_of(path: &[String], all: &BTreeMap<Module, Imports>) -> Option<Module> {
    let at = (0..=path.len()).rev().find(|length| all.contains_key(&path[..*length]))?;
    let (module, rest) = path.split_at(at);
    match rest.first().and_then(|name| all[module].passed_on.get(name)) {
        Some(target) if target != path => {
            file_of(&[&target[..], &rest[1..]].concat(), all).or_else(|| Some(module.to_vec()))
        }
        _ => Some(module.to_vec()),
    }
}

fn arrows() -> BTreeMap<Module, BTreeSet<Module>> {
    let mut all = BTreeMap::new();
    read_all(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src"), &Vec::new(), &mut all);
    let arrows = all.iter().map(|(module, imports)| {
        let files = imports.paths.iter().filter_map(|path| file_of(path, &all));
        (module.clone(), files.filter(|file| file != module && !file.is_empty()).collect())
    });
    arrows.collect()
}

/// Everything that can be reached from a file along the arrows.
fn reached(from: &Module, arrows: &BTreeMap<Module, BTreeSet<Module>>) -> BTreeSet<Module> {
    let mut reached = BTreeSet::new();
    let mut waiting = vec![from];
    while let Some(at) = waiting.pop() {
        for next in arrows.get(at).into_iter().flatten() {
            if reached.insert(next.clone()) {
                waiting.push(next);
            }
        }
    }
    reached
}

#[test]
fn arrows_point_down() {
    let arrows = arrows();
    let floor = |module: &Module| {
        let floor = FLOORS.iter().position(|rooms| rooms.contains(&module[0].as_str()));
        floor.unwrap_or_else(|| panic!("`{}` has no floor: say in FLOORS where it belongs", module[0]))
    };
    let mut back = Vec::new();
    for (from, to) in arrows.iter().flat_map(|(from, to)| to.iter().map(move |to| (from, to))) {
        if from.is_empty() || from[0] == to[0] {
            continue;
        }
        let (upper, lower) = (floor(from), floor(to));
        if lower > upper || (lower == upper && lower > 0) {
            back.push(format!("{} -> {}", from.join("/"), to.join("/")));
        }
    }
    // That the imports are seen at all.
    assert!(arrows.values().map(BTreeSet::len).sum::<usize>() > 500);
    assert!(back.is_empty(), "arrows that point up or aside:\n{}", back.join("\n"));
}

#[test]
fn files_do_not_import_each_other_in_circles() {
    let arrows = arrows();
    let reach: BTreeMap<&Module, BTreeSet<Module>> =
        arrows.keys().map(|module| (module, reached(module, &arrows))).collect();
    let mut circles = BTreeSet::new();
    for (module, reached) in &reach {
        let circle: BTreeSet<Module> =
            reached.iter().filter(|other| reach[other].contains(*module)).cloned().collect();
        let rooms: BTreeSet<&String> = circle.iter().map(|module| &module[0]).collect();
        if circle.len() > MOST_IN_A_CIRCLE || rooms.len() > 1 {
            circles.insert(circle);
        }
    }
    let mut told = Vec::new();
    for circle in &circles {
        for (from, to) in
            circle.iter().flat_map(|from| arrows[from].intersection(circle).map(move |to| (from, to)))
        {
            told.push(format!("{} -> {}", from.join("/"), to.join("/")));
        }
        told.push(String::new());
    }
    assert!(told.is_empty(), "circles:\n{}", told.join("\n"));
}

/// What the face may call by name beside the front door: functions of values alone, the reading of a sheet that a person
/// names, and which programs have started this one.
const BESIDE: [&str; 7] =
    ["parents", "plain_name", "plain_path", "read_sheet", "select", "select_all", "select_game"];

/// The paths that a `use` leads to.
fn leaves(tree: &UseTree, above: &Module, into: &mut Vec<Module>) {
    let with = |name: String| above.iter().cloned().chain([name]).collect::<Module>();
    match tree {
        UseTree::Path(path) => leaves(&path.tree, &with(path.ident.to_string()), into),
        UseTree::Name(name) => into.push(with(name.ident.to_string())),
        UseTree::Rename(renamed) => into.push(with(renamed.ident.to_string())),
        UseTree::Glob(_) => into.push(with("*".to_owned())),
        UseTree::Group(group) => group.items.iter().for_each(|tree| leaves(tree, above, into)),
    }
}

#[derive(Default)]
struct FaceReader(Vec<Module>);

impl<'ast> Visit<'ast> for FaceReader {
    fn visit_item_use(&mut self, item: &'ast ItemUse) {
        leaves(&item.tree, &Vec::new(), &mut self.0);
    }

    fn visit_path(&mut self, path: &'ast syn::Path) {
        self.0.push(path.segments.iter().map(|part| part.ident.to_string()).collect());
        syn::visit::visit_path(self, path);
    }
}

fn read_face(folder: &Path, into: &mut FaceReader) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            read_face(&path, into);
        } else {
            let file: File = syn::parse_file(&fs::read_to_string(&path).unwrap()).unwrap();
            into.visit_file(&file);
        }
    }
}

#[test]
fn the_face_goes_through_the_front_door() {
    let mut face = FaceReader::default();
    read_face(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../odd-stack/src"), &mut face);
    let of_core: BTreeSet<Module> = face.0.into_iter().filter(|path| path[0] == "odd_stack_core").collect();
    assert!(of_core.len() > 100, "its imports are seen");
    let is_behind = |path: &&Module| {
        let name = path.last().unwrap();
        let is_type = name.starts_with(|first: char| first.is_ascii_uppercase());
        path.iter().any(|part| part == "steps" || part == "for_tests")
            || !is_type && path.len() > 1 && !BESIDE.contains(&name.as_str())
    };
    let behind: Vec<String> = of_core.iter().filter(is_behind).map(|path| path.join("::")).collect();
    assert!(behind.is_empty(), "the face reaches behind the door:\n{}", behind.join("\n"));
}

/// The texts of a file that is no test.
#[derive(Default)]
struct TextReader(Vec<String>);

impl<'ast> Visit<'ast> for TextReader {
    fn visit_item_mod(&mut self, inner: &'ast ItemMod) {
        if !is_for_tests(&inner.attrs) {
            syn::visit::visit_item_mod(self, inner);
        }
    }

    // Documentation may name what it likes; texts of errors stand in attributes as well.
    fn visit_attribute(&mut self, attribute: &'ast Attribute) {
        if attribute.path().is_ident("error")
            && let syn::Meta::List(list) = &attribute.meta
        {
            self.0.push(list.tokens.to_string());
        }
    }

    fn visit_lit_str(&mut self, text: &'ast syn::LitStr) {
        self.0.push(text.value());
    }

    fn visit_macro(&mut self, inner: &'ast syn::Macro) {
        self.0.push(inner.tokens.to_string());
    }
}

fn read_texts(folder: &Path, into: &mut BTreeMap<String, Vec<String>>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            if path.file_name().unwrap() != "tests" {
                read_texts(&path, into);
            }
            continue;
        }
        let file: File = syn::parse_file(&fs::read_to_string(&path).unwrap()).unwrap();
        let mut reader = TextReader::default();
        reader.visit_file(&file);
        into.insert(path.display().to_string(), reader.0);
    }
}

/// `--keep`, or `oddstack add`.
fn names_a_command(text: &str) -> bool {
    let is_option = |(at, _): (usize, &str)| {
        let before = text[..at].chars().next_back();
        let after = text[at + 2..].chars().next();
        before.is_none_or(|c| !c.is_alphanumeric() && c != '-' && c != '<')
            && after.is_some_and(|c| c.is_ascii_lowercase())
    };
    text.match_indices("--").any(is_option) || text.contains("oddstack ")
}

#[test]
fn no_text_of_the_core_names_a_command_or_an_option() {
    assert!(names_a_command("say it with --place") && names_a_command("`oddstack add` puts it there"));
    let mut texts = BTreeMap::new();
    read_texts(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src"), &mut texts);
    assert!(texts.values().map(Vec::len).sum::<usize>() > 1000, "the texts are seen");
    let naming: Vec<String> = texts
        .iter()
        .flat_map(|(file, texts)| texts.iter().map(move |text| (file, text)))
        .filter(|(_, text)| names_a_command(text))
        .map(|(file, text)| format!("{file}: {text}"))
        .collect();
    assert!(naming.is_empty(), "these belong to a face:\n{}", naming.join("\n"));
}
