//! The records of the zip format, field by field (PKWARE APPNOTE 6.3, sections 4.3 and 4.5).

/// "PK" and two numbers, as the bytes stand.
pub(super) const LOCAL: [u8; 4] = *b"PK\x03\x04";
pub(super) const CENTRAL: [u8; 4] = *b"PK\x01\x02";
pub(super) const END: [u8; 4] = *b"PK\x05\x06";
pub(super) const END_64: [u8; 4] = *b"PK\x06\x06";
pub(super) const LOCATOR_64: [u8; 4] = *b"PK\x06\x07";
pub(super) const DESCRIPTOR: [u8; 4] = *b"PK\x07\x08";

pub(super) const LOCAL_BYTES: usize = 30;
pub(super) const CENTRAL_BYTES: usize = 46;
pub(super) const END_BYTES: usize = 22;
pub(super) const END_64_BYTES: usize = 56;
pub(super) const LOCATOR_64_BYTES: usize = 20;

/// General purpose flags.
pub(super) const ENCRYPTED: u16 = 1;
pub(super) const HAS_DESCRIPTOR: u16 = 1 << 3;
pub(super) const IS_UTF8: u16 = 1 << 11;
pub(super) const MASKED: u16 = 1 << 13;

/// How the format packs (APPNOTE 4.4.5): not at all, or as RFC 1951 has it.
pub(super) const STORED: u16 = 0;
pub(super) const DEFLATED: u16 = 8;

/// Stands in a short field for one that is in the 64-bit extra field or record.
pub(super) const IN_64: u32 = u32::MAX;
/// The extra field of sizes and places beyond 4 GiB.
pub(super) const EXTRA_64: u16 = 1;
/// The extra field that keeps room (APPNOTE 4.6.10), the mark in it, and the least that it takes.
const ROOM: u16 = 0xa220;
const ROOM_MARK: u16 = 0xa028;
pub(super) const LEAST_ROOM_BYTES: u64 = 8;
/// The most that all extra fields of a header take.
pub(super) const MOST_EXTRA_BYTES: u64 = u16::MAX as u64;

pub(super) fn u16_at(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(bytes.get(at..at + 2)?.try_into().ok()?))
}

pub(super) fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

pub(super) fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_le_bytes(bytes.get(at..at + 8)?.try_into().ok()?))
}

/// Where the field's content begins and ends within `extra`.
pub(super) fn extra_field(extra: &[u8], wanted: u16) -> Option<(usize, usize)> {
    let mut at = 0;
    while let (Some(id), Some(size)) = (u16_at(extra, at), u16_at(extra, at + 2)) {
        let (start, end) = (at + 4, at + 4 + usize::from(size));
        if end > extra.len() {
            return None;
        }
        if id == wanted {
            return Some((start, end));
        }
        at = end;
    }
    None
}

/// A record being written.
#[derive(Default)]
pub(super) struct Record(pub Vec<u8>);

impl Record {
    pub(super) fn bytes(mut self, bytes: &[u8]) -> Self {
        self.0.extend_from_slice(bytes);
        self
    }

    pub(super) fn u16(self, number: u16) -> Self {
        self.bytes(&number.to_le_bytes())
    }

    pub(super) fn u32(self, number: u32) -> Self {
        self.bytes(&number.to_le_bytes())
    }

    pub(super) fn u64(self, number: u64) -> Self {
        self.bytes(&number.to_le_bytes())
    }

    /// The number, or what stands for one that does not fit.
    pub(super) fn short(self, number: u64) -> Self {
        self.u32(u32::try_from(number).unwrap_or(IN_64))
    }
}

/// An extra field that takes so many bytes and says nothing.
pub(super) fn room(bytes: u16) -> Vec<u8> {
    let mut field = Record::default().u16(ROOM).u16(bytes.saturating_sub(4)).u16(ROOM_MARK).u16(0).0;
    field.resize(usize::from(bytes), 0);
    field
}

/// A time in seconds since 1970 as the format keeps it, clock and date, in UTC and from 1980 to 2107.
pub(super) fn dos_time(seconds: i64) -> (u16, u16) {
    let Ok(time) = time::OffsetDateTime::from_unix_timestamp(seconds) else { return (0, 0x21) };
    let Ok(year) = u16::try_from(time.year() - 1980) else { return (0, 0x21) };
    if year > 127 {
        return (0xbf7d, 0xff9f);
    }
    let date = year << 9 | u16::from(u8::from(time.month())) << 5 | u16::from(time.day());
    let clock = u16::from(time.hour()) << 11 | u16::from(time.minute()) << 5 | (u16::from(time.second()) / 2);
    (clock, date)
}
