//! Zip-based containers: which members a file has, what is in them, and the file with some of them changed.
//!
//! Many games keep their files in zip archives under other endings (PKWARE APPNOTE 6.3). A container is never unpacked and packed
//! again: a changed one is the old one's bytes, member by member as they lie there, without those that go, and with the new ones
//! in their places or after them ([`arrange`]). The same old bytes and changes give the same new bytes on every machine.
//!
//! What is not plainly a container, or says one thing here and another there, is none ([`NotContainer`]): it is a file like
//! any other. Only its directory is believed, and only as far as it agrees with itself.

mod arrange;
mod deflate;
mod directory;
mod hashing;
mod incoming;
mod layout;
mod plan;
mod read;
mod rebuild;
mod records;
mod signature;
mod spans;
#[cfg(test)]
mod tests;

pub(crate) use directory::{Directory, NotContainer, Packed};
pub(crate) use hashing::Tree;
pub(crate) use incoming::Contents;
pub(crate) use layout::lay_out;
pub(crate) use plan::Change;
pub(crate) use read::open_member;
pub(crate) use rebuild::{Old, rebuild};
pub(crate) use signature::{like_signatures, signature_of};
