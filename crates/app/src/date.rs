//! Days and times as a person counts them.

use chrono::NaiveDate;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// The day it is here.
pub fn today() -> NaiveDate {
    chrono::Local::now().date_naive()
}

/// Seconds since 1970, as what is kept between runs counts them.
pub fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs())
}

/// A time gone by, as a person says it.
pub fn ago(time: Duration) -> String {
    let seconds = time.as_secs();
    let (count, unit) = match seconds {
        0..60 => (seconds, "second"),
        60..3600 => (seconds / 60, "minute"),
        3600..86_400 => (seconds / 3600, "hour"),
        _ => (seconds / 86_400, "day"),
    };
    format!("{count} {unit}{} ago", if count == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_said_in_one_unit() {
        assert_eq!(ago(Duration::from_secs(59)), "59 seconds ago");
        assert_eq!(ago(Duration::from_mins(1)), "1 minute ago");
        assert_eq!(ago(Duration::from_secs(3 * 86_400 + 5)), "3 days ago");
    }
}
