//! A goal is made or changed: what it says is tried on the past before it is kept.

use super::goal_of;
use crate::State;
use crate::access::{After, By, InSite};
use crate::error::PageError;
use crate::fields::{self, Fields, Hours, Wrong, number, says_of, sentence};
use crate::format;
use crate::frame::{Frame, base, tone};
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html_with, redirect};
use crate::view::Choice;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::goals::{self as changes, NotPromised, Promise};
use cadentis_answers::goals::{self, TriedWindow};
use cadentis_answers::kept::{Goal, GoalVersion, Journey, Location, Site};
use cadentis_answers::sites;
use cadentis_core::goal::definition::{BEGINNING, DAYS, Impossible};
use cadentis_core::goal::{Combine, Definition, FailedRuns, Measure, Period, Standing};
use cadentis_core::measure::Measured;
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// A name has at most so many characters.
const LONGEST_NAME: usize = 80;
/// What is written of page views has at most so many.
const LONGEST_MEASURE: usize = 2_000;

#[derive(Template)]
#[template(path = "goal_form.html")]
struct Page {
    frame: Frame,
    /// The goal that is changed, and the version that was read.
    id: Option<i32>,
    typed: Typed,
    /// The field that is wrong, and how.
    wrong: Option<Wrong>,
    kinds: Vec<Choice>,
    failed: Vec<Choice>,
    journeys: Vec<Choice>,
    together: Vec<Choice>,
    locations: Vec<Choice>,
    days: Vec<Choice>,
    periods: Vec<Choice>,
    from: Vec<Choice>,
    trial: Option<Trial>,
    versions: Vec<VersionRow>,
}

impl Page {
    fn says_of(&self, field: &str) -> Option<&str> {
        says_of(self.wrong.as_ref(), field)
    }
}

/// How it would have been.
struct Trial {
    says: String,
    rows: Vec<TrialRow>,
}

struct TrialRow {
    window: String,
    /// Where the goal stood then.
    link: String,
    share: String,
    tone: &'static str,
    word: &'static str,
    left: String,
    counted: String,
    left_out: String,
    spent_by: String,
}

struct VersionRow {
    version: i32,
    from: String,
    made: String,
    author: String,
    says: String,
}

/// What was typed and chosen.
#[derive(Debug, Clone, Default)]
struct Typed {
    name: String,
    kind: String,
    /// Of an experience goal, as measures are written.
    share: String,
    limit: String,
    failed: String,
    journeys: Vec<String>,
    together: String,
    locations: Vec<String>,
    hours: Hours,
    period: String,
    rolling: String,
    promised: String,
    from: String,
    based_on: i32,
}

impl Typed {
    fn of(fields: &Fields) -> Typed {
        let all = |name: &str| fields::all(fields, name);
        let one = |name: &str| fields::one(fields, name);
        // What is not said is the usual.
        let usual = |name: &str, usual: &str| fields::usual(fields, name, usual);
        Typed {
            name: fields::line(fields, "name", LONGEST_NAME),
            kind: usual("kind", "availability"),
            share: fields::line(fields, "share", LONGEST_MEASURE),
            limit: one("limit"),
            failed: one("failed"),
            journeys: all("journey"),
            together: one("together"),
            locations: all("location"),
            hours: Hours::of(fields),
            period: usual("period", "month"),
            rolling: one("rolling"),
            promised: one("promised"),
            from: one("from_when"),
            based_on: one("based_on").parse().unwrap_or_default(),
        }
    }

    /// What a form for something new begins with.
    fn usual() -> Typed {
        Typed {
            kind: "availability".into(),
            together: "pooled".into(),
            failed: "bad".into(),
            period: "month".into(),
            rolling: "28".into(),
            promised: "99.5".into(),
            from: "beginning".into(),
            ..Typed::default()
        }
    }

    fn from(goal: &Goal, journeys: &[Journey], locations: &[Location]) -> Typed {
        let newest = goal.newest();
        let says = &newest.definition;
        let slug = |id: &i32| journeys.iter().find(|j| j.id == *id).map(|j| j.slug.clone());
        let place = |id: &i32| locations.iter().find(|l| l.id == *id).map(|l| l.slug.clone());
        let (limit, failed) = match &says.measure {
            Measure::Performance { limit_ms, failed } => (
                (limit_ms / 1000.0).to_string(),
                if *failed == FailedRuns::CountAsBad { "bad" } else { "out" },
            ),
            _ => (String::new(), "bad"),
        };
        let share = says.measure.of_page_views().map(Measured::to_string).unwrap_or_default();
        Typed {
            name: goal.name.clone(),
            kind: says.measure.word().into(),
            share,
            limit,
            failed: failed.into(),
            journeys: says.journeys.iter().filter_map(slug).collect(),
            together: says.combine.word().into(),
            locations: says.locations.iter().filter_map(place).collect(),
            hours: Hours::from(says.service_hours.as_ref()),
            period: says.period.word().into(),
            rolling: match says.period {
                Period::Days(n) => n.to_string(),
                _ => "28".into(),
            },
            promised: cadentis_core::stats::share::share_text(says.promised, 4, None)
                .trim_end_matches('0')
                .trim_end_matches('.')
                .into(),
            from: "period".into(),
            based_on: newest.version,
        }
    }

    /// What it says, or the field that is wrong and how.
    fn read(&self, journeys: &[Journey], locations: &[Location]) -> Result<Definition, Wrong> {
        let wrong = |field, says: &str| Err((field, says.to_string()));
        let measure = match self.kind.as_str() {
            "availability" => Measure::Availability,
            "uptime" => Measure::Uptime,
            "performance" => match number(&self.limit) {
                Some(s) => Measure::Performance {
                    limit_ms: s * 1000.0,
                    failed: match self.failed.as_str() {
                        "out" => FailedRuns::LeftOut,
                        _ => FailedRuns::CountAsBad,
                    },
                },
                None => return wrong("limit", "A limit is a number of seconds, such as 4.5."),
            },
            "experience" => match self.share.parse() {
                Ok(of) => Measure::Experience(of),
                Err(e) => return Err(("share", sentence(&e))),
            },
            _ => {
                return wrong(
                    "kind",
                    "There are availability, uptime, performance and experience.",
                );
            }
        };
        let Some(percent) = number(self.promised.trim_end_matches('%')) else {
            return wrong("promised", "A promise is a number of per cent, such as 99.5.");
        };
        let period = match (self.period.as_str(), self.rolling.trim().parse::<u16>()) {
            ("week", _) => Period::Week,
            ("month", _) => Period::Month,
            ("quarter", _) => Period::Quarter,
            ("rolling", Ok(days)) => Period::Days(days),
            ("rolling", Err(_)) => {
                return wrong("period", "A rolling window has a number of days, such as 28.");
            }
            _ => return wrong("period", "There are week, month, quarter and rolling days."),
        };
        let id = |slug: &String| journeys.iter().find(|j| j.slug == *slug).map(|j| j.id);
        let place = |slug: &String| locations.iter().find(|l| l.slug == *slug).map(|l| l.id);
        // What was chosen of runs before it became one of page views is nothing to it.
        let of_runs = measure.of_page_views().is_none();
        let chosen = |slugs: &'_ [String]| if of_runs { slugs.to_vec() } else { Vec::new() };
        let definition = Definition {
            measure,
            combine: Combine::of_word(&self.together).unwrap_or(Combine::Pooled),
            journeys: chosen(&self.journeys).iter().filter_map(id).collect(),
            locations: chosen(&self.locations).iter().filter_map(place).collect(),
            service_hours: self.hours.read()?,
            period,
            promised: percent / 100.0,
        };
        match definition.check() {
            Ok(()) => Ok(definition),
            Err(why) => Err((field_of(&why), sentence(&why))),
        }
    }

    /// When it begins to hold.
    fn begins(&self, definition: &Definition, now: Timestamp, zone: &TimeZone) -> Timestamp {
        let here = definition.period.around(now, zone);
        match (self.from.as_str(), definition.period) {
            ("beginning", _) => BEGINNING,
            // A rolling window has neither: it holds from now on.
            (_, Period::Days(_)) => now,
            ("next", _) => here.to,
            _ => here.from,
        }
    }
}

fn field_of(why: &Impossible) -> &'static str {
    match why {
        Impossible::NoJourney | Impossible::ManyJourneys => "journeys",
        Impossible::Promise => "promised",
        Impossible::Limit => "limit",
        Impossible::NoDay | Impossible::NoHours => "hours",
        Impossible::Days => "period",
        Impossible::NoShare(_) | Impossible::NotOfRuns => "share",
    }
}

/// What a form is shown with.
struct Shown<'a> {
    goal: Option<&'a Goal>,
    typed: Typed,
    wrong: Option<Wrong>,
    /// Whether what was typed is tried.
    tries: bool,
}

async fn show(
    state: &web::Data<State>,
    request: &HttpRequest,
    shown: Shown<'_>,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Goals", TWELVE_HOURS).await?;
    let journeys = sites::journeys(&state.answers, frame.site.id).await?;
    let locations = sites::locations(&state.answers).await?;
    let Shown { goal, typed, mut wrong, tries } = shown;
    let mut trial = None;
    if tries && wrong.is_none() {
        match typed.read(&journeys, &locations) {
            Ok(definition) => {
                let id = goal.map(|g| g.id);
                let tried =
                    goals::tried(&state.answers, &frame.site, id, &definition, frame.now).await?;
                trial = Some(in_words(&frame, &definition, &tried));
            }
            Err(why) => wrong = Some(why),
        }
    }
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let choice = |value: &str, name: &str, now: &str| Choice::new(value, name, value == now);
    let zone = frame.site.zone.clone();
    html_with(
        status,
        &Page {
            id: goal.map(|g| g.id),
            kinds: [
                ("availability", "availability: runs that get through"),
                ("uptime", "uptime: time in which some location gets through"),
                ("performance", "performance: runs within a limit"),
                ("experience", "experience: a share of page views"),
            ]
            .map(|(v, n)| choice(v, n, &typed.kind))
            .to_vec(),
            failed: [("bad", "count as too slow"), ("out", "are left out")]
                .map(|(v, n)| choice(v, n, &typed.failed))
                .to_vec(),
            journeys: Choice::among(
                journeys.iter().map(|j| (j.slug.as_str(), j.name.as_str())),
                &typed.journeys,
            ),
            together: Combine::ALL.map(|c| choice(c.word(), c.words(), &typed.together)).to_vec(),
            locations: Choice::among(
                locations.iter().map(|l| (l.slug.as_str(), l.name.as_str())),
                &typed.locations,
            ),
            days: Choice::among(DAYS, &typed.hours.days),
            periods: [
                ("month", "calendar month"),
                ("week", "calendar week, from Monday"),
                ("quarter", "quarter of a year"),
                ("rolling", "the last days, rolling"),
            ]
            .map(|(v, n)| choice(v, n, &typed.period))
            .to_vec(),
            from: [
                ("period", "the period at hand"),
                ("next", "the next period"),
                ("beginning", "the beginning: all periods are judged by it"),
            ]
            .map(|(v, n)| choice(v, n, &typed.from))
            .to_vec(),
            versions: goal.map_or(Vec::new(), |g| {
                let row = |v: &GoalVersion| VersionRow {
                    version: v.version,
                    from: match v.from <= BEGINNING {
                        true => "the beginning".into(),
                        false => format::day_clock(v.from, &zone),
                    },
                    made: format::day_clock(v.made_at, &zone),
                    author: v.author.clone(),
                    says: format!(
                        "{} % of {}, {}",
                        v.definition.promised * 100.0,
                        v.definition.measure.words(),
                        v.definition.period.words()
                    ),
                };
                g.versions.iter().map(row).collect()
            }),
            typed,
            wrong,
            trial,
            frame,
        },
    )
}

fn in_words(frame: &Frame, definition: &Definition, tried: &goals::Tried) -> Trial {
    let counted = tried.windows.iter().filter(|w| w.judged.is_held.is_some()).count();
    let held = tried.windows.iter().filter(|w| w.judged.is_held == Some(true)).count();
    let promised = definition.promised;
    let could = match tried.would_have_held {
        Some(could) if counted > 0 => format!(
            " To have held all of them it could have been {} %.",
            cadentis_core::stats::share::share_text(could, 2, None)
        ),
        _ => String::new(),
    };
    let says = match counted {
        0 => "Nothing was counted in any of these periods.".to_string(),
        n if held == n => {
            format!("Held in all of {n} periods in which something was counted.{could}")
        }
        n => format!("Held in {held} of {n} periods in which something was counted.{could}"),
    };
    let row = |w: &TriedWindow| {
        let (judged, zone) = (&w.judged, &frame.site.zone);
        let share = judged.score.share();
        let standing = Standing::of_share(share, promised);
        let spent = w.spent_by.iter().map(|(whence, bad)| format!("{whence}: {bad}"));
        TrialRow {
            window: definition.period.name(judged.window, zone),
            link: format!(
                "{}?from={}&to={}",
                base(&frame.site),
                cadentis_core::calendar::Stretch::moment(judged.past.from),
                cadentis_core::calendar::Stretch::moment(judged.past.to)
            ),
            share: format::percent(share, 3, Some(promised)),
            tone: if judged.is_held.is_none() { "nodata" } else { tone(standing) },
            word: match judged.is_held {
                None => "nothing counted",
                Some(true) if judged.past.to < judged.window.to => "held so far",
                Some(true) => "held",
                Some(false) => "missed",
            },
            left: match share {
                Some(_) => judged.budget.part_text(&definition.measure, judged.budget.left_ms()),
                None => "–".into(),
            },
            counted: format::thousands(judged.score.counted()),
            left_out: format::thousands(judged.score.left_out),
            spent_by: spent.collect::<Vec<_>>().join("; "),
        }
    };
    Trial { says, rows: tried.windows.iter().map(row).collect() }
}

/// `GET /goals/new`, with what was typed so far to be tried.
pub async fn new(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let fields: Fields = query(&request)?;
    let tries = fields.iter().any(|(n, _)| n == "promised");
    let typed = if tries { Typed::of(&fields) } else { Typed::usual() };
    // What it begins with, where it is come from something that is shown: a journey, a share of page views.
    let given = |name: &str| fields.iter().find(|(n, _)| n == name).map(|(_, value)| value.clone());
    let typed = match (given("journey"), given("share")) {
        (Some(slug), _) if !tries => Typed { journeys: vec![slug], ..typed },
        (None, Some(_)) if !tries => {
            let share = fields::line(&fields, "share", LONGEST_MEASURE);
            Typed { kind: "experience".into(), share, promised: "75".into(), ..typed }
        }
        _ => typed,
    };
    show(&state, &request, Shown { goal: None, typed, wrong: None, tries }).await
}

/// `GET /goals/{id}/change`, with what was typed so far to be tried; without it what the goal says is.
pub async fn change(
    state: web::Data<State>,
    InSite(site): InSite,
    id: After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let goal = goal_of(&state, &site, id.0).await?;
    let fields: Fields = query(&request)?;
    let typed = match fields.iter().any(|(n, _)| n == "promised") {
        true => Typed::of(&fields),
        false => {
            let journeys = sites::journeys(&state.answers, site.id).await?;
            Typed::from(&goal, &journeys, &sites::locations(&state.answers).await?)
        }
    };
    show(&state, &request, Shown { goal: Some(&goal), typed, wrong: None, tries: true }).await
}

fn not_promised(why: &NotPromised) -> Wrong {
    match why {
        NotPromised::Impossible(why) => (field_of(why), sentence(why)),
        NotPromised::NoJourney => ("journeys", "One of these journeys is not there.".into()),
        NotPromised::Taken => ("name", "Another goal of this site has the name.".into()),
        NotPromised::Overtaken => (
            "form",
            "Somebody changed this goal meanwhile. What you typed is here; what they made of it is below, and on a fresh page.".into(),
        ),
    }
}

/// What was typed, read; or the page again.
async fn read(
    state: &State,
    site: &Site,
    typed: &Typed,
    now: Timestamp,
) -> Result<Result<(Definition, Timestamp), Wrong>, PageError> {
    if typed.name.is_empty() {
        return Ok(Err(("name", "A goal has a name.".into())));
    }
    let journeys = sites::journeys(&state.answers, site.id).await?;
    let locations = sites::locations(&state.answers).await?;
    Ok(typed.read(&journeys, &locations).map(|definition| {
        let from = typed.begins(&definition, now, &site.zone);
        (definition, from)
    }))
}

/// `POST /goals`
pub async fn make(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let typed = Typed::of(&fields);
    let wrong = match read(&state, &site, &typed, Timestamp::now()).await? {
        Ok((definition, from)) => {
            let promise = Promise { name: &typed.name, definition: &definition, from };
            match changes::add(&state.answers, &by, &site, &promise).await? {
                Ok(_) => return Ok(redirect(&format!("{}/goals", base(&site)))),
                Err(why) => not_promised(&why),
            }
        }
        Err(wrong) => wrong,
    };
    show(&state, &request, Shown { goal: None, typed, wrong: Some(wrong), tries: false }).await
}

/// `POST /goals/{id}`: another version.
pub async fn changed(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let goal = goal_of(&state, &site, id.0).await?;
    let typed = Typed::of(&fields);
    let wrong = match read(&state, &site, &typed, Timestamp::now()).await? {
        Ok((definition, from)) => {
            let promise = Promise { name: &typed.name, definition: &definition, from };
            let which = (&goal, typed.based_on);
            match changes::set(&state.answers, &by, &site, which, &promise).await? {
                Ok(_) => return Ok(redirect(&format!("{}/goals#goal-{}", base(&site), goal.id))),
                Err(why) => not_promised(&why),
            }
        }
        Err(wrong) => wrong,
    };
    show(&state, &request, Shown { goal: Some(&goal), typed, wrong: Some(wrong), tries: false })
        .await
}

/// `POST /goals/{id}/remove`
pub async fn remove(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
) -> Result<HttpResponse, PageError> {
    let goal = goal_of(&state, &site, id.0).await?;
    changes::remove(&state.answers, &by, &site, &goal).await?;
    Ok(redirect(&format!("{}/goals", base(&site))))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fields(more: &[(&str, &str)]) -> Fields {
        let usual = [
            ("name", "Bookable"),
            ("kind", "performance"),
            ("limit", "4,5"),
            ("promised", "99.9 %"),
            ("period", "quarter"),
            ("day", "mon"),
            ("day", "fri"),
            ("open", "06:00"),
            ("closed", "22:00"),
        ];
        let kept = usual.iter().filter(|(n, _)| !more.iter().any(|(m, _)| m == n));
        kept.chain(more).map(|(n, v)| (n.to_string(), v.to_string())).collect()
    }

    #[test]
    fn what_is_typed_is_read_as_people_write_it_and_what_is_wrong_is_told_at_its_field() {
        let typed = Typed::of(&fields(&[]));
        assert_eq!(number(&typed.limit), Some(4.5));
        let hours = typed.hours.read().unwrap().unwrap();
        assert_eq!(hours.days, [true, false, false, false, true, false, false]);
        let read = |more: &[(&str, &str)]| Typed::of(&fields(more)).read(&[], &[]).unwrap_err().0;
        assert_eq!(read(&[]), "journeys", "all else is right");
        assert_eq!(read(&[("limit", "soon")]), "limit");
        assert_eq!(read(&[("limit", "")]), "limit");
        assert_eq!(read(&[("promised", "all")]), "promised");
        assert_eq!(read(&[("kind", "magic")]), "kind");
        let share = |of: &'static str| [("kind", "experience"), ("share", of), ("journey", "book")];
        assert_eq!(read(&share("")), "share");
        assert_eq!(read(&share("p75 of LCP")), "share", "that is no share");
        let of_views = Typed::of(&fields(&share("share of LCP within 2.5 s"))).read(&[], &[]);
        assert!(of_views.unwrap().journeys.is_empty());
        assert_eq!(read(&[("period", "rolling"), ("rolling", "soon")]), "period");
        assert_eq!(read(&[("open", "")]), "hours");
        assert_eq!(read(&[("open", "25:00")]), "hours");
    }

    #[test]
    fn a_goal_holds_from_the_beginning_from_its_period_or_from_the_next() {
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        let now: Timestamp = "2026-11-20T12:00:00Z".parse().unwrap();
        let goal = |period| Definition { period, ..Definition::monthly(1, 0.99) };
        let of = |from: &str, period| {
            let typed = Typed { from: from.into(), ..Typed::default() };
            typed.begins(&goal(period), now, &zone).to_string()
        };
        assert_eq!(of("period", Period::Month), "2026-10-31T23:00:00Z");
        assert_eq!(of("next", Period::Month), "2026-11-30T23:00:00Z");
        assert_eq!(of("beginning", Period::Month), BEGINNING.to_string());
        assert_eq!(of("next", Period::Days(28)), now.to_string());
    }
}
