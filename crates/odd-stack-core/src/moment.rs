//! A point in time, as the face tells it: the core has no clock.

use std::fmt;

use thiserror::Error;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// A point in time, to the second.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Moment {
    seconds_since_1970: i64,
}

/// What is given is no point in time.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{text}` is no time; write it like 2026-01-02T03:04:05Z")]
pub struct NoMoment {
    text: String,
}

impl Moment {
    /// Reads a time of the years 1970 to 9999 as RFC 3339 has it.
    ///
    /// # Errors
    /// [`NoMoment`].
    pub fn parse(text: &str) -> Result<Self, NoMoment> {
        let read = OffsetDateTime::parse(text, &Rfc3339).ok().map(OffsetDateTime::unix_timestamp);
        match read.filter(|seconds| *seconds >= 0) {
            Some(seconds_since_1970) => Ok(Self { seconds_since_1970 }),
            None => Err(NoMoment { text: text.to_owned() }),
        }
    }

    /// The time that the system's clock shows.
    pub fn of_clock() -> Self {
        Self { seconds_since_1970: OffsetDateTime::now_utc().unix_timestamp() }
    }

    /// In seconds since 1970, made even: the coarsest disks keep no more.
    pub(crate) fn even_seconds(self) -> i64 {
        self.seconds_since_1970 & !1
    }

    /// So many seconds after the beginning of 1970.
    pub const fn after_1970(seconds: u32) -> Self {
        Self { seconds_since_1970: seconds as i64 }
    }
}

/// As RFC 3339 has it, in UTC.
impl fmt::Display for Moment {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let time = OffsetDateTime::from_unix_timestamp(self.seconds_since_1970).map_err(|_| fmt::Error)?;
        formatter.write_str(&time.format(&Rfc3339).map_err(|_| fmt::Error)?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_read_as_they_are_written() {
        assert_eq!(Moment::after_1970(1_767_323_045).to_string(), "2026-01-02T03:04:05Z");
        for (given, shown) in [
            ("2026-01-02T03:04:05Z", "2026-01-02T03:04:05Z"),
            ("2026-01-02T03:04:05.9Z", "2026-01-02T03:04:05Z"),
            ("2026-01-02T05:04:05+02:00", "2026-01-02T03:04:05Z"),
            ("1970-01-01T00:00:00Z", "1970-01-01T00:00:00Z"),
            ("9999-12-31T23:59:59Z", "9999-12-31T23:59:59Z"),
        ] {
            assert_eq!(Moment::parse(given).unwrap().to_string(), shown);
        }
        for wrong in ["", "yesterday", "2026-01-02", "2026-13-02T03:04:05Z", "1969-12-31T23:59:59Z", "0"] {
            assert!(Moment::parse(wrong).is_err(), "{wrong}");
        }
    }
}
