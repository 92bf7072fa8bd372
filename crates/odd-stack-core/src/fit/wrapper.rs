//! The folder around everything.

use crate::address::RelPath;
use crate::members::{Folder, Member};

/// The one folder that holds everything, if there is one.
pub fn wrapper_of<'a>(members: &[Member], folders: &'a [Folder]) -> Option<&'a RelPath> {
    let own = folders.iter().filter(|folder| folder.inner.is_none()).map(|folder| &folder.path);
    let mut tops = own.filter(|path| path.parent().is_root());
    let top = tops.next()?;
    let mut own = members.iter().filter(|member| member.inner.is_none());
    (tops.next().is_none() && own.all(|member| member.path.below(top).is_some())).then_some(top)
}
