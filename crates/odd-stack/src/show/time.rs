//! Times as people tell them, in the zone of the system.

use chrono::{DateTime, Days, Local, LocalResult, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, TimeZone};

/// `2026-11-29 18:00`; what is no time as it is.
pub fn local(rfc3339: &str) -> String {
    match DateTime::parse_from_rfc3339(rfc3339) {
        Ok(time) => time.with_timezone(&Local).format("%Y-%m-%d %H:%M").to_string(),
        Err(_) => rfc3339.to_owned(),
    }
}

/// Reads a time as people write it: `18:00` and `yesterday 18:00`, `2026-11-28 18:00`, a day alone, which means its end, or RFC 3339.
/// Gives RFC 3339; nothing when it is none of these.
pub fn read(text: &str, now: &str) -> Option<String> {
    let text = text.trim();
    if let Ok(time) = DateTime::parse_from_rfc3339(text) {
        return Some(time.to_rfc3339());
    }
    let today = DateTime::parse_from_rfc3339(now).ok()?.with_timezone(&Local).date_naive();
    let (day, rest) = match text.split_once([' ', 'T']) {
        Some((day, rest)) => (day, rest.trim()),
        None if text.contains(':') => ("today", text),
        None => (text, ""),
    };
    let day = match day.to_lowercase().as_str() {
        "today" => today,
        "yesterday" => today.checked_sub_days(Days::new(1))?,
        day => NaiveDate::parse_from_str(day, "%Y-%m-%d").ok()?,
    };
    let time = match rest {
        "" => NaiveTime::from_hms_opt(23, 59, 59)?,
        rest => {
            let read = NaiveTime::parse_from_str(rest, "%H:%M:%S");
            read.or_else(|_| NaiveTime::parse_from_str(rest, "%H:%M")).ok()?
        }
    };
    // An hour that the clocks pass twice is the later one; one that they skip is none.
    match Local.from_local_datetime(&NaiveDateTime::new(day, time)) {
        LocalResult::Single(time) | LocalResult::Ambiguous(_, time) => Some(time.to_rfc3339()),
        LocalResult::None => None,
    }
}

/// The time so many hours, days or weeks ago: `12h`, `30d`, `2w`. Gives RFC 3339; nothing when it is no such age.
pub fn ago(text: &str, now: &str) -> Option<String> {
    let (count, unit) = text.trim().split_at_checked(text.trim().len().checked_sub(1)?)?;
    let count: i64 = count.trim().parse().ok().filter(|count| *count >= 0)?;
    let age = match unit {
        "h" => TimeDelta::try_hours(count),
        "d" => TimeDelta::try_days(count),
        "w" => TimeDelta::try_weeks(count),
        _ => None,
    };
    let now = DateTime::parse_from_rfc3339(now).ok()?;
    now.checked_sub_signed(age?).map(|time| time.to_rfc3339())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The same moment, whatever zone the system is in.
    fn of_local(day: &str, time: &str) -> Option<String> {
        let text = format!("{day} {time}");
        let time = NaiveDateTime::parse_from_str(&text, "%Y-%m-%d %H:%M:%S").unwrap();
        Local.from_local_datetime(&time).single().map(|time| time.to_rfc3339())
    }

    #[test]
    fn times_are_read_as_people_write_them() {
        let now = of_local("2026-11-29", "12:00:00").unwrap();
        let table = [
            ("18:00", of_local("2026-11-29", "18:00:00")),
            ("today 9:05", of_local("2026-11-29", "09:05:00")),
            ("yesterday 18:00:30", of_local("2026-11-28", "18:00:30")),
            ("Yesterday", of_local("2026-11-28", "23:59:59")),
            ("2026-11-01", of_local("2026-11-01", "23:59:59")),
            ("2026-11-01 07:30", of_local("2026-11-01", "07:30:00")),
            ("2026-11-01T07:30", of_local("2026-11-01", "07:30:00")),
            ("2026-11-01T07:30:00Z", Some("2026-11-01T07:30:00+00:00".to_owned())),
            ("last week", None),
            ("25:00", None),
            ("2026-13-01", None),
            ("", None),
        ];
        for (text, expected) in table {
            assert_eq!(read(text, &now), expected, "{text}");
        }
        assert_eq!(local(&now), "2026-11-29 12:00");
        assert_eq!(local("no time"), "no time");
    }
}
