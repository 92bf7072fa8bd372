//! Reading a version out of a program or a text.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use editpe::{Image, ResourceDirectory, VersionInfo};
use object::LittleEndian;
use object::pe::IMAGE_DIRECTORY_ENTRY_RESOURCE;
use object::read::{Object, ObjectSection, ReadCache};

use crate::blend::Text;
use crate::files::open_below;
use crate::version::first_version_in;

/// How much of a text is searched.
const SEARCHED_BYTES: u64 = 64 * 1024;

/// The version that the file at `path` in the folder `root` tells: of a Windows program its version resource (product
/// version, else file version), of anything else the first text that reads as one. With a `pattern`, such as
/// `build {}` or `Version = {}`, it is a text, and what stands in place of `{}`.
///
/// # Errors
/// When the file can't be read, is no regular one, or lies outside `root`. A file that tells nothing is `None`.
pub fn version_of_file(root: &Path, path: &Path, pattern: Option<&str>) -> io::Result<Option<String>> {
    let mut head = Vec::new();
    open_below(root, path)?.take(SEARCHED_BYTES).read_to_end(&mut head)?;
    if pattern.is_none() && head.starts_with(b"MZ") {
        return Ok(version_of_program(path));
    }
    Ok(version_in(&head, pattern))
}

/// The version that the beginning of a file tells which is no program.
pub(crate) fn version_in(head: &[u8], pattern: Option<&str>) -> Option<String> {
    let head = &head[..head.len().min(SEARCHED_BYTES as usize)];
    if let Some(pattern) = pattern {
        let text = Text::decode(head).map(|text| text.text);
        let text = text.unwrap_or_else(|| String::from_utf8_lossy(head).into_owned());
        return version_by_pattern(&text, pattern);
    }
    first_version_in(&String::from_utf8_lossy(head)).map(str::to_owned)
}

fn version_of_program(path: &Path) -> Option<String> {
    let info = version_resource(path)?;
    let string = |wanted: &str| string_of(&info, wanted).map(|value| value.replace(", ", "."));
    string("ProductVersion").or_else(|| string("FileVersion")).or_else(|| {
        let (high, low) = (info.info.product_version.major, info.info.product_version.minor);
        let packed = [high >> 16, high & 0xffff, low >> 16, low & 0xffff];
        packed.iter().any(|part| *part != 0).then(|| packed.map(|part| part.to_string()).join("."))
    })
}

/// What a Windows program says it is called, by its version resource.
pub(super) fn product_name(path: &Path) -> Option<String> {
    string_of(&version_resource(path)?, "ProductName")
}

fn version_resource(path: &Path) -> Option<VersionInfo> {
    match resources_of(path) {
        Some(resources) => resources.get_version_info().ok()?,
        // Packed programs have them elsewhere.
        None => Image::parse_file(path).ok()?.resource_directory()?.get_version_info().ok()?,
    }
}

fn string_of(info: &VersionInfo, wanted: &str) -> Option<String> {
    info.strings.iter().find_map(|table| {
        let (_, value) = table.strings.iter().find(|(key, _)| key.as_str() == wanted)?;
        let tidy = value.trim().trim_end_matches('\0').trim().to_owned();
        (!tidy.is_empty()).then_some(tidy)
    })
}

/// The resources of a program, of which no more is read than the section that holds them: programs may be big.
fn resources_of(path: &Path) -> Option<ResourceDirectory> {
    const MOST_BYTES: u64 = 64 << 20;
    let cache = ReadCache::new(File::open(path).ok()?);
    let program = object::File::parse(&cache).ok()?;
    let directories = match &program {
        object::File::Pe32(program) => program.data_directories(),
        object::File::Pe64(program) => program.data_directories(),
        _ => return None,
    };
    let at = directories.get(IMAGE_DIRECTORY_ENTRY_RESOURCE)?.virtual_address.get(LittleEndian);
    let begin =
        |section: &object::Section<'_, '_, _>| section.address().checked_sub(program.relative_address_base());
    let section = program.sections().find(|section| {
        begin(section).is_some_and(|begin| (begin..begin + section.size()).contains(&u64::from(at)))
    })?;
    let below = u64::from(at) - begin(&section)?;
    let data = section.data().ok().filter(|_| section.size() <= MOST_BYTES)?;
    ResourceDirectory::parse(data, u32::try_from(below).ok()?, at).ok()
}

/// What stands in `text` where `pattern` has `{}`; case and how many blanks there are do not matter.
fn version_by_pattern(text: &str, pattern: &str) -> Option<String> {
    let plain = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    let (before, after) = pattern.split_once("{}").unwrap_or((pattern, ""));
    let (before, after) = (plain(before).to_lowercase(), plain(after).to_lowercase());
    let text = plain(text);
    // Byte places must be the same in both.
    let lower = text.to_ascii_lowercase();
    let is_part = |c: char| c.is_alphanumeric() || matches!(c, '.' | '-' | '_' | '+');
    lower.match_indices(before.as_str()).find_map(|(at, found)| {
        let rest = text[at + found.len()..].trim_start_matches([' ', '"', '\'']);
        let end = rest.find(|c| !is_part(c)).unwrap_or(rest.len());
        let version = rest[..end].trim_end_matches(['.', '-', '_']);
        let behind = rest[version.len()..].trim_start_matches([' ', '"', '\'']).to_lowercase();
        let has_digit = version.contains(|c: char| c.is_ascii_digit());
        (has_digit && behind.starts_with(after.as_str())).then(|| version.to_owned())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use editpe::VersionStringTable;

    #[test]
    fn a_program_tells_its_version_by_its_resources() {
        let program = include_bytes!("../../../../demo/game/bin/quillhaven.exe");
        let mut image = Image::parse(&program[..]).unwrap();
        let mut info = VersionInfo::default();
        let strings = [("FileVersion", "1, 7, 0, 0"), ("ProductVersion", "1.7.2b ")];
        let strings = strings.map(|(key, value)| (key.to_owned(), value.to_owned()));
        let table = VersionStringTable { key: "040904b0".to_owned(), strings: strings.into_iter().collect() };
        info.strings.push(table);
        let mut resources = image.resource_directory().cloned().unwrap_or_default();
        resources.set_version_info(&info).unwrap();
        image.set_resource_directory(resources).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("quillhaven.exe");
        std::fs::write(&path, image.data()).unwrap();
        assert!(resources_of(&path).is_some(), "no more is read than it takes");
        let told = version_of_file(folder.path(), &path, None).unwrap();
        assert_eq!(told.as_deref(), Some("1.7.2b"));
    }

    #[test]
    fn versions_by_pattern() {
        let text = "; Quillhaven 3\n[App]\nName = harbour\nVersion   =  \"1.7.2b\" ; spring\nBuild=4711\n";
        let found = |pattern: &str| version_by_pattern(text, pattern);
        assert_eq!(found("version = {}").as_deref(), Some("1.7.2b"));
        assert_eq!(found("Build={}").as_deref(), Some("4711"));
        assert_eq!(found("{} ; spring").as_deref(), Some("1.7.2b"));
        assert_eq!(found("version = {} ; spring").as_deref(), Some("1.7.2b"));
        assert_eq!(found("release {}"), None);
        assert_eq!(found("Name = {}"), None, "a version has a digit");
    }
}
