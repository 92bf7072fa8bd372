//! Running what is written for any format for one.

/// Runs a generic function for the format.
macro_rules! with_format {
    ($format:expr, $function:ident ( $($argument:expr),* )) => {
        match $format {
            $crate::blend::Format::Ini => $function::<$crate::blend::ini::Ini>($($argument),*),
            $crate::blend::Format::Json => $function::<$crate::blend::nested::Json>($($argument),*),
            $crate::blend::Format::Toml => $function::<$crate::blend::toml::Toml>($($argument),*),
            $crate::blend::Format::Xml => $function::<$crate::blend::xml::Xml>($($argument),*),
            $crate::blend::Format::Lua => $function::<$crate::blend::nested::Lua>($($argument),*),
            $crate::blend::Format::Lines => $function::<$crate::blend::no_keys::NoKeys<true>>($($argument),*),
            $crate::blend::Format::ByContent => $function::<$crate::blend::no_keys::NoKeys<false>>($($argument),*),
        }
    };
}

pub(super) use with_format;
