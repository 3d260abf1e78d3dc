//! Limits on any measure, as rows of their own with a form each, and one for another.

use super::Besides;
use crate::State;
use crate::access::{By, InSite};
use crate::error::PageError;
use crate::fields::{self, Fields, sentence};
use crate::format;
use crate::frame::{Frame, base, named_link, tone};
use crate::respond::redirect;
use crate::view::Working;
use crate::words::capital;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::budgets::MeasuredRow;
use cadentis_answers::changes::budgets::{self as changes, NotLimited};
use cadentis_core::alert::definition::{exact, level};
use cadentis_core::measure::{Measured, Unit};

/// A measure is at most so long as it is typed: a little more than can be read, so that whoever goes beyond is told.
const LONGEST: usize = cadentis_core::measure::text::LONGEST + 1;

/// A limit that can be typed, and what it is held against.
pub struct Row {
    pub measure: String,
    /// What is asked to see it by what tells apart.
    pub query: String,
    pub reading: String,
    pub samples: String,
    pub tone: &'static str,
    pub value: String,
    pub was: String,
    pub margin: String,
    /// Who set it, and when.
    pub set: String,
    pub watched: Vec<Watching>,
    /// A new alert with this measure and level.
    pub watch: String,
    pub wrong: Option<String>,
}

/// An alert that watches the same.
#[derive(Clone)]
pub struct Watching {
    pub name: String,
    pub link: String,
}

pub fn watching(frame: &Frame, alerts: &[(i32, String)]) -> Vec<Watching> {
    let one = |(id, name): &(i32, String)| Watching {
        name: name.clone(),
        link: format!("{}/alerts/{id}", frame.base),
    };
    alerts.iter().map(one).collect()
}

/// What is typed for a limit: of what, what it was, what it is to be.
#[derive(Default, Clone)]
pub struct Typed {
    pub measure: String,
    pub was: String,
    pub limit: String,
}

impl Typed {
    pub fn of(fields: &Fields) -> Typed {
        Typed {
            measure: fields::line(fields, "measure", LONGEST),
            was: fields::line(fields, "was", 40),
            limit: fields::line(fields, "limit", 40),
        }
    }
}

/// How much of a limit is left, in words.
fn margin(unit: Unit, margin: f64) -> String {
    let (by, ends) = (margin.abs(), if margin >= 0.0 { "left" } else { "over" });
    match unit {
        Unit::Share => format!("{:.2} points {ends}", by * 100.0),
        // A state is no amount.
        Unit::State if margin >= 0.0 => "as it should be".into(),
        Unit::State => "worse than it should be".into(),
        _ => format!("{} {ends}", unit.text(by)),
    }
}

pub(super) fn row(frame: &Frame, r: &MeasuredRow, besides: &Besides) -> Row {
    let (limit, zone) = (&r.kept.limit, &frame.site.zone);
    let (unit, measure) = (limit.measured.measure.unit(), limit.measured.to_string());
    let kept = exact(unit, limit.level);
    let typed = besides.measured.as_ref().filter(|(t, _)| t.measure == measure);
    let since = match r.since {
        Some(at) => format!(" since {}", format::day_clock(at, zone)),
        None => String::new(),
    };
    let wrong = match (&r.proof, typed) {
        (_, Some((_, wrong))) => Some(wrong.clone()),
        (Err(not_there), None) => Some(capital(&format!("{not_there}."))),
        (Ok(_), None) => None,
    };
    Row {
        query: named_link(&format!("{}/queries", frame.base), &[("q", &measure)])
            + "&"
            + &frame.query,
        reading: r.reading.value.map_or(format::NO_DATA.into(), |v| unit.text(v)),
        samples: format!(
            "{} {}",
            format::thousands(r.reading.samples),
            limit.measured.measure.samples_words()
        ),
        tone: tone(r.judged.state),
        value: typed.map_or(kept.clone(), |(t, _)| t.limit.clone()),
        margin: r.judged.margin.map_or(String::new(), |m| margin(unit, m) + &since),
        set: format!("{}, {}", r.kept.author, format::day_clock(r.kept.set_at, zone)),
        watched: watching(frame, &r.watched),
        watch: named_link(
            &format!("{}/alerts/new", frame.base),
            &[("measure", &measure), ("warning", &kept)],
        ),
        was: kept,
        measure,
        wrong,
    }
}

/// How the reading of a limited measure was come by.
pub(super) fn working(r: &MeasuredRow) -> Option<Working> {
    let proof = r.proof.as_ref().ok()?;
    Some(Working::of(capital(&r.kept.limit.measured.to_string()), proof))
}

/// What was typed, or what is wrong with it.
fn read(typed: &Typed) -> Result<(Measured, Option<f64>, Option<f64>), String> {
    let measured: Measured = typed.measure.parse().map_err(|e| sentence(&e))?;
    let unit = measured.measure.unit();
    let of = |text: &str| match text.trim() {
        "" => Ok(None),
        text => level(unit, text).map(Some).map_err(|e| sentence(&capital(&e))),
    };
    Ok((measured.clone(), of(&typed.was)?, of(&typed.limit)?))
}

/// `POST /{site}/budgets/measured`: a limit on any measure, set or taken away.
pub async fn save(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let typed = Typed::of(&fields);
    let wrong = match read(&typed) {
        // There is nothing to take away of what never was.
        Ok((_, None, None)) => "What may it be at most, or at least?".to_string(),
        Ok((measured, was, limit)) => {
            let set = changes::set_measured(&state.answers, &by, &site, &measured, (was, limit));
            match set.await? {
                Ok(()) => return Ok(redirect(&format!("{}/budgets#measured", base(&site)))),
                Err(NotLimited::Overtaken(now, measured)) => {
                    let says = NotLimited::Overtaken(now, measured.clone()).to_string();
                    let unit = measured.measure.unit();
                    let typed = Typed {
                        measure: measured.to_string(),
                        was: now.map_or(String::new(), |now| exact(unit, now)),
                        limit: typed.limit,
                    };
                    let says = sentence(&capital(&says)) + " Save again to set what you typed.";
                    return super::show(&state, &request, Besides::measured(typed, says)).await;
                }
                Err(why) => sentence(&capital(&why.to_string())),
            }
        }
        Err(wrong) => wrong,
    };
    super::show(&state, &request, Besides::measured(typed, wrong)).await
}

#[cfg(test)]
mod tests {
    use super::*;

    fn typed(measure: &str, limit: &str) -> Typed {
        Typed { measure: measure.into(), was: String::new(), limit: limit.into() }
    }

    #[test]
    fn a_limit_is_read_in_the_unit_of_its_measure_and_what_is_none_is_told() {
        let limit = |measure, text| read(&typed(measure, text)).map(|(_, _, limit)| limit);
        assert_eq!(limit("p95 of request time", "0,8 s"), Ok(Some(800.0)));
        assert_eq!(limit("share with errors", "2.5 %"), Ok(Some(0.025)));
        assert_eq!(limit("count of errors", "0"), Ok(Some(0.0)));
        assert_eq!(limit("count of errors", ""), Ok(None), "taken away");
        for (measure, text, says) in [
            ("p95 of request time", "800", "a time with its unit"),
            ("share with errors", "2.5", "a share such as 2.5 %"),
            ("count of errors", "few", "a number"),
            ("p95 of gladness", "1 s", "Column 8"),
            ("", "1 s", "Column 1"),
        ] {
            let wrong = limit(measure, text).unwrap_err();
            assert!(wrong.contains(says), "{measure} {text}: {wrong}");
        }
    }

    #[test]
    fn what_is_left_is_told_in_the_unit_and_points_of_a_share() {
        assert_eq!(margin(Unit::Ms, -1_500.0), "1.50 s over");
        assert_eq!(margin(Unit::Share, 0.021), "2.10 points left");
        assert_eq!(margin(Unit::Count, -3.0), "3 over");
        assert_eq!(margin(Unit::State, 0.0), "as it should be");
    }
}
