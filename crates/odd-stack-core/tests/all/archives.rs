//! Writers of archives for tests, which write whatever they are told to: hostile names, wrong sizes,
//! links that lead out.

use std::io::{Cursor, Write};

use sevenz_rust2::encoder_options::Lzma2Options;
use sevenz_rust2::{ArchiveEntry, ArchiveWriter, EncoderConfiguration};

/// Kinds of archive that tests write.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    Zip,
    SevenZ,
    Tar,
    TarGz,
    TarBz2,
    TarXz,
    TarZst,
    Rar4,
    Rar5,
}

pub const FORMATS: [Format; 9] = [
    Format::Zip,
    Format::SevenZ,
    Format::Tar,
    Format::TarGz,
    Format::TarBz2,
    Format::TarXz,
    Format::TarZst,
    Format::Rar4,
    Format::Rar5,
];

impl Format {
    pub fn ending(self) -> &'static str {
        match self {
            Self::Zip => "zip",
            Self::SevenZ => "7z",
            Self::Tar => "tar",
            Self::TarGz => "tar.gz",
            Self::TarBz2 => "tar.bz2",
            Self::TarXz => "tar.xz",
            Self::TarZst => "tar.zst",
            Self::Rar4 | Self::Rar5 => "rar",
        }
    }
}

#[derive(Debug, Clone)]
pub enum What {
    File(Vec<u8>),
    Folder,
    Link(&'static str),
    HardLink(&'static str),
}

/// One thing in an archive.
#[derive(Debug, Clone)]
pub struct Thing {
    pub name: Vec<u8>,
    pub what: What,
    /// The size and the checksum that are written down instead of the true ones.
    pub size: Option<u64>,
    pub checksum: Option<u32>,
    pub is_encrypted: bool,
}

impl Thing {
    fn new(name: impl AsRef<[u8]>, what: What) -> Self {
        Self { name: name.as_ref().to_vec(), what, size: None, checksum: None, is_encrypted: false }
    }

    fn content(&self) -> &[u8] {
        match &self.what {
            What::File(content) => content,
            What::Folder => &[],
            What::Link(target) | What::HardLink(target) => target.as_bytes(),
        }
    }

    fn told_size(&self) -> u64 {
        self.size.unwrap_or(self.content().len() as u64)
    }

    fn told_checksum(&self) -> u32 {
        self.checksum.unwrap_or_else(|| crc32fast::hash(self.content()))
    }
}

pub fn file(name: impl AsRef<[u8]>, content: impl AsRef<[u8]>) -> Thing {
    Thing::new(name, What::File(content.as_ref().to_vec()))
}

pub fn folder(name: impl AsRef<[u8]>) -> Thing {
    Thing::new(name, What::Folder)
}

pub fn link(name: impl AsRef<[u8]>, target: &'static str) -> Thing {
    Thing::new(name, What::Link(target))
}

pub fn hard_link(name: impl AsRef<[u8]>, target: &'static str) -> Thing {
    Thing::new(name, What::HardLink(target))
}

/// An archive of these things; contents are stored, or packed where the format has no other way.
pub fn archive(format: Format, things: &[Thing]) -> Vec<u8> {
    match format {
        Format::Zip => zip(things),
        Format::SevenZ => seven(things, Lzma2Options::from_level(1)),
        Format::Tar => tar(things),
        Format::TarGz => gzip(&tar(things)),
        Format::TarBz2 => {
            let mut writer = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::best());
            writer.write_all(&tar(things)).unwrap();
            writer.finish().unwrap()
        }
        Format::TarXz => {
            let mut writer = liblzma::write::XzEncoder::new(Vec::new(), 1);
            writer.write_all(&tar(things)).unwrap();
            writer.finish().unwrap()
        }
        Format::TarZst => zstd_checked(&tar(things)),
        Format::Rar4 => rar4(things),
        Format::Rar5 => rar5(things),
    }
}

pub fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    writer.write_all(bytes).unwrap();
    writer.finish().unwrap()
}

fn zstd_checked(bytes: &[u8]) -> Vec<u8> {
    let mut writer = zstd::Encoder::new(Vec::new(), 3).unwrap();
    writer.include_checksum(true).unwrap();
    writer.write_all(bytes).unwrap();
    writer.finish().unwrap()
}

/// PKWARE APPNOTE 6.3, sections 4.3.7, 4.3.12 and 4.3.16.
fn zip(things: &[Thing]) -> Vec<u8> {
    let (mut whole, mut directory) = (Vec::new(), Vec::new());
    for thing in things {
        let mut name = thing.name.clone();
        if matches!(thing.what, What::Folder) {
            name.push(b'/');
        }
        let mode: u32 = match thing.what {
            What::File(_) | What::HardLink(_) => 0o100_644,
            What::Folder => 0o040_755,
            What::Link(_) => 0o120_777,
        };
        let content = thing.content();
        let mut fields = Vec::new();
        let flags: u16 = 1 << 11 | u16::from(thing.is_encrypted);
        fields.extend([20, 0]);
        fields.extend(flags.to_le_bytes());
        fields.extend([0, 0, 0, 0, 0x21, 0x5a]);
        fields.extend(thing.told_checksum().to_le_bytes());
        fields.extend((content.len() as u32).to_le_bytes());
        fields.extend((thing.told_size() as u32).to_le_bytes());
        fields.extend((name.len() as u16).to_le_bytes());
        fields.extend([0, 0]);
        let at = whole.len() as u32;
        whole.extend(b"PK\x03\x04");
        whole.extend(&fields);
        whole.extend(&name);
        whole.extend(content);
        directory.extend(b"PK\x01\x02\x14\x03");
        directory.extend(&fields);
        directory.extend([0; 6]);
        directory.extend((mode << 16).to_le_bytes());
        directory.extend(at.to_le_bytes());
        directory.extend(&name);
    }
    let (start, count) = (whole.len() as u32, things.len() as u16);
    whole.extend(&directory);
    whole.extend(b"PK\x05\x06\0\0\0\0");
    whole.extend(count.to_le_bytes());
    whole.extend(count.to_le_bytes());
    whole.extend((directory.len() as u32).to_le_bytes());
    whole.extend(start.to_le_bytes());
    whole.extend([0, 0]);
    whole
}

/// A solid 7z archive, so that damage to any of it concerns what follows.
pub fn seven(things: &[Thing], method: impl Into<EncoderConfiguration>) -> Vec<u8> {
    let method = method.into();
    seven_with(things, &mut |writer| {
        writer.set_content_methods(vec![method.clone()]);
    })
}

type SevenWriter = ArchiveWriter<Cursor<Vec<u8>>>;

/// A 7z archive whose writer is set up first.
pub fn seven_with(things: &[Thing], set: &mut dyn FnMut(&mut SevenWriter)) -> Vec<u8> {
    let mut writer = ArchiveWriter::new(Cursor::new(Vec::new())).unwrap();
    set(&mut writer);
    let entry = |thing: &Thing| {
        let name = String::from_utf8_lossy(&thing.name).into_owned();
        let mut entry = match thing.what {
            What::Folder => ArchiveEntry::new_directory(&name),
            _ => ArchiveEntry::new_file(&name),
        };
        if matches!(thing.what, What::Link(_)) {
            entry.has_windows_attributes = true;
            entry.windows_attributes = 0x8000 | 0o120_777 << 16;
        }
        entry
    };
    let (full, empty): (Vec<&Thing>, Vec<&Thing>) =
        things.iter().partition(|thing| !thing.content().is_empty());
    if !full.is_empty() {
        let entries = full.iter().map(|thing| entry(thing)).collect();
        let contents: Vec<_> =
            full.iter().map(|thing| Cursor::new(thing.content().to_vec()).into()).collect();
        writer.push_archive_entries(entries, contents).unwrap();
    }
    for thing in empty {
        let mut entry = entry(thing);
        entry.has_stream = false;
        writer.push_archive_entry(entry, None::<Cursor<Vec<u8>>>).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

/// POSIX ustar, with GNU's record for long names.
fn tar(things: &[Thing]) -> Vec<u8> {
    let mut whole = Vec::new();
    let mut push = |name: &[u8], kind: u8, target: &[u8], size: u64, content: &[u8]| {
        let mut header = [0u8; 512];
        let most = name.len().min(100);
        header[..most].copy_from_slice(&name[..most]);
        header[100..108].copy_from_slice(b"0000644\0");
        header[108..116].copy_from_slice(b"0000000\0");
        header[116..124].copy_from_slice(b"0000000\0");
        header[124..136].copy_from_slice(format!("{size:011o}\0").as_bytes());
        header[136..148].copy_from_slice(b"14000000000\0");
        header[148..156].copy_from_slice(b"        ");
        header[156] = kind;
        header[157..157 + target.len()].copy_from_slice(target);
        header[257..265].copy_from_slice(b"ustar\x0000");
        let sum: u32 = header.iter().map(|byte| u32::from(*byte)).sum();
        header[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
        whole.extend(header);
        whole.extend(content);
        whole.resize(whole.len().next_multiple_of(512), 0);
    };
    for thing in things {
        if thing.name.len() > 100 {
            push(
                b"././@LongLink",
                b'L',
                b"",
                thing.name.len() as u64 + 1,
                &[&thing.name[..], b"\0"].concat(),
            );
        }
        match &thing.what {
            What::File(content) => push(&thing.name, b'0', b"", thing.told_size(), content),
            What::Folder => push(&thing.name, b'5', b"", 0, b""),
            What::Link(target) => push(&thing.name, b'2', target.as_bytes(), 0, b""),
            What::HardLink(target) => push(&thing.name, b'1', target.as_bytes(), 0, b""),
        }
    }
    whole.extend([0; 1024]);
    whole
}

/// RAR 5.0 technote: stored members; links as redirections.
fn rar5(things: &[Thing]) -> Vec<u8> {
    let mut whole = b"Rar!\x1a\x07\x01\0".to_vec();
    let mut push = |fields: Vec<u8>, content: &[u8]| {
        let mut header = number(fields.len() as u64);
        header.extend(fields);
        whole.extend(crc32fast::hash(&header).to_le_bytes());
        whole.extend(header);
        whole.extend(content);
    };
    push(vec![1, 0, 0], &[]);
    for thing in things {
        let content: &[u8] = match &thing.what {
            What::File(content) => content,
            _ => &[],
        };
        let mut extra = Vec::new();
        if let What::Link(target) | What::HardLink(target) = &thing.what {
            let kind = if matches!(thing.what, What::Link(_)) { 1 } else { 4 };
            let mut record = vec![5, kind, 0];
            record.extend(number(target.len() as u64));
            record.extend(target.as_bytes());
            extra.extend(number(record.len() as u64));
            extra.extend(record);
        }
        if thing.is_encrypted {
            // Version 0, flags 0, a count of rounds, salt and initial vector.
            let mut record = vec![1, 0, 0, 15];
            record.extend([7; 32]);
            extra.extend(number(record.len() as u64));
            extra.extend(record);
        }
        let has_extra = u64::from(!extra.is_empty());
        let mut fields = number(2);
        fields.extend(number(2 | has_extra));
        if has_extra == 1 {
            fields.extend(number(extra.len() as u64));
        }
        fields.extend(number(content.len() as u64));
        let is_folder = matches!(thing.what, What::Folder);
        fields.extend(number(if is_folder { 1 } else { 4 }));
        fields.extend(number(if is_folder { 0 } else { thing.size.unwrap_or(content.len() as u64) }));
        fields.extend(number(0o100_644));
        if !is_folder {
            fields.extend(thing.checksum.unwrap_or_else(|| crc32fast::hash(content)).to_le_bytes());
        }
        // Stored; from a Unix system.
        fields.extend([0, 1]);
        fields.extend(number(thing.name.len() as u64));
        fields.extend(&thing.name);
        fields.extend(extra);
        push(fields, content);
    }
    push(vec![5, 0, 0], &[]);
    whole
}

/// One whose headers are encrypted: the archive begins with a key record.
pub fn rar5_locked() -> Vec<u8> {
    let mut whole = b"Rar!\x1a\x07\x01\0".to_vec();
    let mut header = vec![4, 0, 0, 0, 15];
    header.extend([7; 16]);
    let mut sized = number(header.len() as u64);
    sized.extend(header);
    whole.extend(crc32fast::hash(&sized).to_le_bytes());
    whole.extend(sized);
    whole.extend([0x5a; 64]);
    whole
}

/// Seven bits a byte, the lowest first.
fn number(mut value: u64) -> Vec<u8> {
    let mut bytes = Vec::new();
    while value >= 0x80 {
        bytes.push(value as u8 | 0x80);
        value >>= 7;
    }
    bytes.push(value as u8);
    bytes
}

/// RAR 4 technote: stored members. It has no hard links.
fn rar4(things: &[Thing]) -> Vec<u8> {
    let mut whole = b"Rar!\x1a\x07\0".to_vec();
    let mut push = |kind: u8, flags: u16, fields: &[u8], content: &[u8]| {
        let mut header = vec![kind];
        header.extend(flags.to_le_bytes());
        header.extend((fields.len() as u16 + 7).to_le_bytes());
        header.extend(fields);
        whole.extend((crc32fast::hash(&header) as u16).to_le_bytes());
        whole.extend(header);
        whole.extend(content);
    };
    push(0x73, 0, &[0; 6], &[]);
    for thing in things {
        let content = thing.content();
        let (kind, mode): (u16, u32) = match thing.what {
            What::Folder => (0xe0, 0o040_755),
            What::Link(_) => (0, 0o120_777),
            _ => (0, 0o100_644),
        };
        let mut fields = Vec::new();
        fields.extend((content.len() as u32).to_le_bytes());
        fields.extend((thing.told_size() as u32).to_le_bytes());
        // From a Unix system.
        fields.push(3);
        fields.extend(thing.told_checksum().to_le_bytes());
        fields.extend([0, 0, 0x21, 0x5a]);
        // For version 2.9, stored.
        fields.extend([29, 0x30]);
        fields.extend((thing.name.len() as u16).to_le_bytes());
        fields.extend(mode.to_le_bytes());
        fields.extend(&thing.name);
        push(0x74, 0x8000 | kind | if thing.is_encrypted { 4 } else { 0 }, &fields, content);
    }
    push(0x7b, 0x4000, &[], &[]);
    whole
}
