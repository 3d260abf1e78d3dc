//! Hours of the week, as programs write them and are told them.

use crate::problem::Problem;
use cadentis_core::goal::definition::{DAYS, ServiceHours};
use jiff::civil::Time;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Hours of the week in which something counts, by the clock of the site.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct HoursShape {
    /// `mon` to `sun`, by the day that they begin on.
    days: Vec<String>,
    /// Such as `06:00`.
    from: String,
    /// Such as `22:00`; over midnight when it is not later.
    until: String,
}

impl HoursShape {
    /// The hours, or where in them, of what stands at a pointer, what is wrong.
    pub(super) fn read(
        given: Option<&HoursShape>,
        pointer: &str,
    ) -> Result<Option<ServiceHours>, Box<Problem>> {
        let Some(given) = given else { return Ok(None) };
        let invalid =
            |at: &str, says: &str| Box::new(Problem::invalid(&format!("{pointer}/{at}"), says));
        let time = |at: &str, text: &str| {
            Time::strptime("%H:%M", text).map_err(|_| invalid(at, "A time of day such as 06:00."))
        };
        if let Some(nth) = given.days.iter().position(|d| DAYS.iter().all(|(word, _)| word != d)) {
            let says = "A day is one of mon, tue, wed, thu, fri, sat, sun.";
            return Err(invalid(&format!("days/{nth}"), says));
        }
        let days = DAYS.map(|(word, _)| given.days.iter().any(|given| given == word));
        let (from, until) = (time("from", &given.from)?, time("until", &given.until)?);
        Ok(Some(ServiceHours { days, from, until }))
    }

    /// As programs are told them.
    pub(super) fn of(hours: &ServiceHours) -> HoursShape {
        let named = DAYS.iter().zip(hours.days).filter(|(_, counts)| *counts);
        let clock = |t: Time| t.strftime("%H:%M").to_string();
        HoursShape {
            days: named.map(|((word, _), _)| (*word).to_string()).collect(),
            from: clock(hours.from),
            until: clock(hours.until),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn hours_are_told_as_they_were_written(days in prop::array::uniform7(any::<bool>()), from in 0i8..24, until in 0i8..24, minute in 0i8..60) {
            let hours = ServiceHours {
                days,
                from: Time::constant(from, minute, 0, 0),
                until: Time::constant(until, 0, 0, 0),
            };
            let told = HoursShape::of(&hours);
            let read = HoursShape::read(Some(&told), "/at").map_err(|_| "refused");
            prop_assert_eq!(read, Ok(Some(hours)));
        }

        #[test]
        fn nothing_that_is_written_for_hours_does_harm(day in ".{0,8}", from in ".{0,8}") {
            let given = HoursShape { days: vec![day], from, until: "22:00".into() };
            let _ = HoursShape::read(Some(&given), "/service_hours");
        }
    }
}
