//! Names in JSON pointers (RFC 6901).

pub(super) fn escaped(name: &str) -> String {
    name.replace('~', "~0").replace('/', "~1")
}

pub(super) fn unescaped(name: &str) -> String {
    name.replace("~1", "/").replace("~0", "~")
}
