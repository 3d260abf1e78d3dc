//! A report is made or changed.

use super::report_of;
use crate::State;
use crate::access::{After, By, InSite};
use crate::error::PageError;
use crate::fields::{self, Fields, Hours, Wrong, says_of, sentence};
use crate::frame::{Frame, all_of, base};
use crate::respond::{TWELVE_HOURS, html_with, redirect};
use crate::view::Choice;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::reports::{self as changes, LONGEST_NAME, Wanted};
use cadentis_answers::kept::{Report, Site};
use cadentis_answers::reports;
use cadentis_core::goal::Period;
use cadentis_core::goal::definition::DAYS;
use cadentis_core::report::schedule::On;
use cadentis_core::report::{Definition, Kind, Schedule};
use cadentis_core::text::capital;
use jiff::civil::Time;

/// A query has so many characters at most.
const LONGEST_QUERY: usize = 2_000;

#[derive(Template)]
#[template(path = "report_form.html")]
struct Page {
    frame: Frame,
    id: Option<i32>,
    typed: Typed,
    wrong: Option<Wrong>,
    kinds: Vec<Choice>,
    periods: Vec<Choice>,
    goals: Vec<Choice>,
    journeys: Vec<Choice>,
    locations: Vec<Choice>,
    queries: Vec<Choice>,
    views: Vec<Choice>,
    rules: Vec<Choice>,
    lists: Vec<Choice>,
    days: Vec<Choice>,
}

impl Page {
    fn says_of(&self, field: &str) -> Option<&str> {
        says_of(self.wrong.as_ref(), field)
    }
}

/// What was typed and chosen.
#[derive(Debug, Clone, Default)]
struct Typed {
    name: String,
    kind: String,
    period: String,
    days: String,
    goals: Vec<String>,
    journeys: Vec<String>,
    locations: Vec<String>,
    hours: Hours,
    filter: String,
    query: String,
    view: String,
    rule: String,
    day: String,
    at: String,
    list: String,
    version: i32,
}

const RULES: [(&str, &str); 5] = [
    ("", "only when asked"),
    ("each_day", "each day"),
    ("weekday", "each week"),
    ("day_of_month", "each month"),
    ("day_of_quarter", "in January, April, July and October"),
];

const PERIODS: [(&str, &str); 4] = [
    ("month", "the calendar month that is over"),
    ("week", "the week that is over"),
    ("quarter", "the quarter of a year that is over"),
    ("rolling", "the last whole days"),
];

fn choices(of: &[(&str, &str)], chosen: &str) -> Vec<Choice> {
    of.iter().map(|(value, name)| Choice::new(*value, *name, *value == chosen)).collect()
}

impl Typed {
    fn of(fields: &Fields) -> Typed {
        let one = |name: &str| fields::one(fields, name);
        Typed {
            name: fields::line(fields, "name", LONGEST_NAME + 1),
            kind: fields::usual(fields, "kind", Kind::GoalsFull.word()),
            period: fields::usual(fields, "period", "month"),
            days: one("days"),
            goals: fields::all(fields, "goal"),
            journeys: fields::all(fields, "journey"),
            locations: fields::all(fields, "location"),
            hours: Hours::ending(fields, "_of_week"),
            filter: fields::line(fields, "filter", LONGEST_QUERY),
            query: fields::line(fields, "query", LONGEST_QUERY),
            view: one("view"),
            rule: one("rule"),
            day: one("day"),
            at: one("at"),
            list: one("list"),
            version: one("version").parse().unwrap_or_default(),
        }
    }

    fn usual(kind: Option<Kind>, query: String, view: String) -> Typed {
        Typed {
            view,
            kind: kind.unwrap_or(Kind::GoalsFull).word().into(),
            period: "month".into(),
            rule: "day_of_month".into(),
            day: "1".into(),
            at: "06:00".into(),
            query,
            ..Typed::default()
        }
    }

    fn from(report: &Report) -> Typed {
        let d = &report.definition;
        let ids = |all: &[i32]| all.iter().map(ToString::to_string).collect();
        let (rule, day) = match d.schedule.map(|s| s.on) {
            None => ("", String::new()),
            Some(On::EachDay) => ("each_day", String::new()),
            Some(On::Weekday(day)) => ("weekday", day.to_string()),
            Some(On::DayOfMonth(day)) => ("day_of_month", day.to_string()),
            Some(On::DayOfQuarter(day)) => ("day_of_quarter", day.to_string()),
        };
        Typed {
            name: report.name.clone(),
            kind: d.kind.word().into(),
            period: d.period.word().into(),
            days: match d.period {
                Period::Days(days) => days.to_string(),
                _ => String::new(),
            },
            goals: ids(&d.goals),
            journeys: ids(&d.journeys),
            locations: ids(&d.locations),
            hours: Hours::from(d.hours.as_ref()),
            filter: d.filter.clone(),
            query: d.query.clone(),
            view: d.view.map_or(String::new(), |id| id.to_string()),
            rule: rule.into(),
            day,
            at: d.schedule.map_or(String::new(), |s| s.at.strftime("%H:%M").to_string()),
            list: report.list_id.map_or(String::new(), |id| id.to_string()),
            version: report.version,
        }
    }

    /// What it defines, or the field that is wrong.
    fn read(&self) -> Result<(Definition, Option<i32>), Wrong> {
        let kind = Kind::of_word(&self.kind)
            .ok_or(("kind", "Choose one of the kinds that are offered.".to_string()))?;
        let period = match self.period.as_str() {
            "month" => Period::Month,
            "week" => Period::Week,
            "quarter" => Period::Quarter,
            "rolling" => Period::Days(self.days.trim().parse().map_err(|_| {
                ("days", "A whole number of days from 1 to 366 belongs here.".to_string())
            })?),
            _ => return Err(("period", "Choose one of the periods that are offered.".into())),
        };
        let ids = |field: &'static str, all: &[String]| -> Result<Vec<i32>, Wrong> {
            let id = |text: &String| {
                text.parse().map_err(|_| (field, format!("“{text}” is none of these.")))
            };
            all.iter().map(id).collect()
        };
        let day = || -> Result<i8, Wrong> {
            self.day.trim().parse().map_err(|_| {
                let says = "A day of the month from 1 to 31, or of the week from 1 for Monday to 7 for Sunday, belongs here.";
                ("day", says.to_string())
            })
        };
        let on = match self.rule.as_str() {
            "" => None,
            "each_day" => Some(On::EachDay),
            "weekday" => Some(On::Weekday(day()?)),
            "day_of_month" => Some(On::DayOfMonth(day()?)),
            "day_of_quarter" => Some(On::DayOfQuarter(day()?)),
            _ => return Err(("rule", "Choose one of the rules that are offered.".into())),
        };
        let schedule = match on {
            None => None,
            Some(on) => {
                let at: Time =
                    self.at.trim().parse().map_err(|_| {
                        ("at", "A time of day such as 06:00 belongs here.".to_string())
                    })?;
                Some(Schedule { on, at })
            }
        };
        let definition = Definition {
            kind,
            period,
            goals: ids("goals", &self.goals)?,
            journeys: ids("journeys", &self.journeys)?,
            locations: ids("locations", &self.locations)?,
            hours: self.hours.read()?,
            filter: self.filter.clone(),
            query: self.query.clone(),
            view: self.view.parse().ok(),
            schedule,
        };
        let list = match self.list.as_str() {
            "" => None,
            id => Some(id.parse().map_err(|_| ("list", "Choose one of the lists.".to_string()))?),
        };
        Ok((definition, list))
    }
}

async fn show(
    state: &State,
    frame: Frame,
    (id, typed): (Option<i32>, Typed),
    wrong: Option<Wrong>,
) -> Result<HttpResponse, PageError> {
    let offered = reports::offered(&state.answers, &frame.site).await?;
    let of = |all: Vec<(i32, String)>, chosen: &[String]| -> Vec<Choice> {
        let one = |(id, name): (i32, String)| {
            let value = id.to_string();
            Choice { chosen: chosen.contains(&value), name, value }
        };
        all.into_iter().map(one).collect()
    };
    let kinds: Vec<(&str, &str)> = Kind::ALL.iter().map(|k| (k.word(), k.says())).collect();
    let mut queries: Vec<Choice> = offered
        .queries
        .iter()
        .map(|q| Choice::new(q.says.clone(), q.name.clone(), q.says == typed.query))
        .collect();
    // One that was asked and is kept under no name can be reported all the same.
    if !typed.query.is_empty() && !queries.iter().any(|c| c.chosen) {
        queries.push(Choice::new(typed.query.clone(), typed.query.clone(), true));
    }
    let none = Choice::new("", "nobody: it waits here", typed.list.is_empty());
    let lists = of(offered.lists, std::slice::from_ref(&typed.list));
    let status = match wrong {
        Some(_) => StatusCode::UNPROCESSABLE_ENTITY,
        None => StatusCode::OK,
    };
    html_with(
        status,
        &Page {
            kinds: choices(&kinds, &typed.kind),
            periods: choices(&PERIODS, &typed.period),
            goals: of(offered.goals, &typed.goals),
            journeys: of(offered.journeys, &typed.journeys),
            locations: of(offered.locations, &typed.locations),
            queries,
            views: of(offered.views, std::slice::from_ref(&typed.view)),
            rules: choices(&RULES, &typed.rule),
            days: Choice::among(DAYS, &typed.hours.days),
            lists: [none].into_iter().chain(lists).collect(),
            id,
            typed,
            wrong,
            frame,
        },
    )
}

/// `GET /reports/new`: of a query or a saved view when one is given with `query` or `view`.
pub async fn new(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Reports", TWELVE_HOURS).await?;
    let query = all_of(&request, "query").pop().unwrap_or_default();
    let query = cadentis_core::text::clean(query.trim(), LONGEST_QUERY, None);
    let view = all_of(&request, "view").pop().unwrap_or_default();
    let kind = match (query.is_empty(), view.is_empty()) {
        (false, _) => Some(Kind::Query),
        (true, false) => Some(Kind::View),
        (true, true) => None,
    };
    show(&state, frame, (None, Typed::usual(kind, query, view)), None).await
}

/// `GET /reports/{id}/change`
pub async fn change(
    state: web::Data<State>,
    id: After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Reports", TWELVE_HOURS).await?;
    let (report, _) = report_of(&state, &frame.site, id.0).await?;
    show(&state, frame, (Some(report.id), Typed::from(&report)), None).await
}

async fn save(
    state: &State,
    (site, by): (Site, cadentis_answers::changes::Author),
    id: Option<i32>,
    request: &HttpRequest,
    fields: &Fields,
) -> Result<HttpResponse, PageError> {
    let typed = Typed::of(fields);
    let wrong = match typed.read() {
        Err(wrong) => wrong,
        Ok((definition, list)) => {
            let known = id.map(|id| (id, typed.version));
            let wanted = Wanted { known, name: typed.name.clone(), definition, list };
            match changes::save(&state.answers, &by, &site, wanted).await? {
                Ok(id) => return Ok(redirect(&format!("{}/reports/{id}", base(&site)))),
                Err(not) => (not.field(), sentence(&capital(&not.to_string()))),
            }
        }
    };
    let frame = Frame::load(state, request, "Reports", TWELVE_HOURS).await?;
    show(state, frame, (id, typed), Some(wrong)).await
}

/// `POST /reports`
pub async fn make(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    save(&state, (site, by), None, &request, &fields).await
}

/// `POST /reports/{id}`
pub async fn changed(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    report_of(&state, &site, id.0).await?;
    save(&state, (site, by), Some(id.0), &request, &fields).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::made_up;
    use proptest::prelude::*;

    /// As a browser sends what stands in the form.
    fn sent(t: &Typed) -> Fields {
        let mut fields = Fields::new();
        let mut put = |name: &str, value: &str| fields.push((name.to_string(), value.to_string()));
        for (name, value) in [
            ("name", &t.name),
            ("kind", &t.kind),
            ("period", &t.period),
            ("days", &t.days),
            ("filter", &t.filter),
            ("query", &t.query),
            ("view", &t.view),
            ("rule", &t.rule),
            ("day", &t.day),
            ("at", &t.at),
            ("list", &t.list),
            ("version", &t.version.to_string()),
            ("open_of_week", &t.hours.open),
            ("closed_of_week", &t.hours.closed),
        ] {
            put(name, value);
        }
        for (name, all) in [
            ("goal", &t.goals),
            ("journey", &t.journeys),
            ("location", &t.locations),
            ("day_of_week", &t.hours.days),
        ] {
            all.iter().for_each(|value| put(name, value));
        }
        fields
    }

    proptest! {
        #[test]
        fn what_a_report_is_about_is_what_its_form_shows_and_sends_back(
            report in made_up::reports(),
        ) {
            let typed = Typed::from(&report);
            let again = Typed::of(&sent(&typed));
            prop_assert_eq!(again.version, report.version);
            prop_assert_eq!(again.read().map_err(|e| e.1), Ok((report.definition, report.list_id)));
        }
    }

    #[test]
    fn what_is_wrong_is_told_at_its_field() {
        let with = |changed: &[(&str, &str)]| {
            let mut fields: Fields = [
                ("name", "Usage"),
                ("kind", "usage"),
                ("period", "month"),
                ("rule", "day_of_month"),
                ("day", "1"),
                ("at", "06:00"),
            ]
            .map(|(name, value)| (name.to_string(), value.to_string()))
            .to_vec();
            for (name, value) in changed {
                fields.retain(|(n, _)| n != name);
                fields.push((name.to_string(), value.to_string()));
            }
            Typed::of(&fields).read()
        };
        assert!(with(&[]).is_ok());
        assert_eq!(with(&[("rule", "")]).unwrap().0.schedule, None, "only when asked");
        for (changed, at) in [
            ([("kind", "gladness"), ("list", "")], "kind"),
            ([("period", "year"), ("list", "")], "period"),
            ([("period", "rolling"), ("days", "some")], "days"),
            ([("goal", "x"), ("list", "")], "goals"),
            ([("journey", "-"), ("list", "")], "journeys"),
            ([("location", "1.5"), ("list", "")], "locations"),
            ([("rule", "sometimes"), ("list", "")], "rule"),
            ([("day", "first"), ("list", "")], "day"),
            ([("at", "noon"), ("list", "")], "at"),
            ([("list", "everybody"), ("day", "1")], "list"),
            ([("open_of_week", "06:00"), ("list", "")], "hours"),
        ] {
            let (field, says) = with(&changed).unwrap_err();
            assert_eq!(field, at, "{changed:?}: {says}");
            assert!(says.ends_with('.'), "{says}");
        }
    }
}
