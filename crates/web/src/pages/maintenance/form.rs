//! A window is planned or changed: when it comes is shown on every clock, and what it would have taken out of goals.

use super::planned_of;
use super::when::{Clocks, When, viewer};
use crate::State;
use crate::access::{After, By, InSite};
use crate::error::PageError;
use crate::fields::{self, Fields, Wrong, number, says_of, sentence};
use crate::format;
use crate::frame::{Frame, base};
use crate::respond::{TWELVE_HOURS, html_with, redirect};
use crate::view::Choice;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::maintenance::{
    self as changes, LONGEST_DETAIL, LONGEST_NAME, NotPlanned,
};
use cadentis_answers::kept::{Journey, Location, Planned, Site};
use cadentis_answers::{AnswerError, maintenance, sites};
use cadentis_core::calendar::maintenance::NoMaintenance;
use cadentis_core::calendar::{Clock, Length, Maintenance, Reach, Repeat, Rule, Window};
use cadentis_core::goal::definition::DAYS;
use cadentis_core::stats::share_text;
use jiff::civil::{Date, Time, Weekday};
use jiff::tz::{AmbiguousOffset, TimeZone};
use jiff::{SignedDuration, Timestamp};

#[derive(Template)]
#[template(path = "maintenance_form.html")]
struct Page {
    frame: Frame,
    /// The window that is changed.
    id: Option<i32>,
    typed: Typed,
    wrong: Option<Wrong>,
    repeats: Vec<Choice>,
    days: Vec<Choice>,
    lasts: Vec<Choice>,
    clocks: Vec<Choice>,
    journeys: Vec<Choice>,
    locations: Vec<Choice>,
    runs: Vec<Choice>,
    when: Option<When>,
    tried: Vec<String>,
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
    detail: String,
    repeats: String,
    rule: String,
    days: Vec<String>,
    day: String,
    from: String,
    lasts: String,
    to: String,
    many: String,
    clock: String,
    journeys: Vec<String>,
    locations: Vec<String>,
    runs: String,
    until: String,
    based_on: i32,
}

impl Typed {
    fn of(fields: &Fields) -> Typed {
        let one = |name: &str| fields::one(fields, name);
        let usual = |name: &str, usual: &str| fields::usual(fields, name, usual);
        Typed {
            name: fields::line(fields, "name", LONGEST_NAME),
            detail: fields::line(fields, "detail", LONGEST_DETAIL),
            repeats: usual("repeats", "once"),
            rule: fields::line(fields, "rule", 200),
            days: fields::all(fields, "on"),
            day: one("day"),
            from: one("begins"),
            lasts: usual("lasts", "until"),
            to: one("ends"),
            many: one("many"),
            clock: usual("clock", "site"),
            journeys: fields::all(fields, "journey"),
            locations: fields::all(fields, "location"),
            runs: usual("runs", "counted"),
            until: one("until"),
            based_on: one("based_on").parse().unwrap_or_default(),
        }
    }

    /// What a form for something new begins with: no time, which would be that of some zone.
    fn usual() -> Typed {
        Typed {
            repeats: "once".into(),
            lasts: "until".into(),
            clock: "site".into(),
            runs: "counted".into(),
            ..Typed::default()
        }
    }

    fn from(planned: &Planned, site: &Site, journeys: &[Journey], locations: &[Location]) -> Typed {
        let says = &planned.says;
        let window = &says.window;
        let clock = |t: Time| t.strftime("%H:%M").to_string();
        let (lasts, to, many) = match window.length {
            Length::UntilTime(end) => ("until", clock(end), String::new()),
            Length::Days(n) => ("days", String::new(), n.to_string()),
            Length::Exact(length) => {
                let hours = format!("{:.3}", length.as_secs_f64() / 3_600.0);
                ("hours", String::new(), hours.trim_end_matches('0').trim_end_matches('.').into())
            }
        };
        let (repeats, rule, days) = match &window.repeat {
            Repeat::Once => ("once", String::new(), vec![]),
            Repeat::Daily => ("daily", String::new(), vec![]),
            Repeat::Weekly(days) => ("weekly", String::new(), days.clone()),
            Repeat::Rule(rule) => ("rule", rule.to_string(), vec![]),
        };
        let own = clock_zone(&window.clock, &site.zone);
        let last = |until: Timestamp| {
            own.to_datetime(until - SignedDuration::from_secs(1)).date().to_string()
        };
        let slug = |id: &i32| journeys.iter().find(|j| j.id == *id).map(|j| j.slug.clone());
        let place = |id: &i32| locations.iter().find(|l| l.id == *id).map(|l| l.slug.clone());
        Typed {
            name: window.why.clone(),
            detail: planned.detail.clone(),
            repeats: repeats.into(),
            rule,
            days: days.iter().map(|d| DAYS[d.to_monday_zero_offset() as usize].0.into()).collect(),
            // The first day that is still to come, where that is later.
            day: begins(window, &own).max(window.first.date()).to_string(),
            from: clock(window.first.time()),
            lasts: lasts.into(),
            to,
            many,
            clock: match &window.clock {
                Clock::Zone(zone) if *zone == site.zone => "site".into(),
                clock => clock.word().to_string(),
            },
            journeys: says.reach.journeys.iter().filter_map(slug).collect(),
            locations: says.reach.locations.iter().filter_map(place).collect(),
            runs: if says.holds { "held" } else { "counted" }.into(),
            until: window.in_force.1.map(last).unwrap_or_default(),
            based_on: planned.version,
        }
    }

    /// What it says, or the field that is wrong and how. What was left out of a repetition, or put in besides, stays.
    fn read(
        &self,
        zone: &TimeZone,
        journeys: &[Journey],
        locations: &[Location],
        was: Option<&Window>,
    ) -> Result<Maintenance, Wrong> {
        let wrong = |field, says: &str| Err((field, says.to_string()));
        let clock = match self.clock.as_str() {
            "site" => Clock::Zone(zone.clone()),
            word => Clock::of_word(word).map_err(|e| ("clock", sentence(&e)))?,
        };
        let Ok(day) = self.day.trim().parse::<Date>() else {
            return wrong("day", "Say from which day on, such as 2026-11-29.");
        };
        let time = |text: &str| Time::strptime("%H:%M", text.trim()).ok();
        let (length, from) = self.lasting(time(&self.from), time(&self.to))?;
        let first = day.to_datetime(from);
        let own = clock_zone(&clock, zone);
        let repeat = self.repeating(first, &own)?;
        if repeat == Repeat::Once
            && clock != Clock::Location
            && let AmbiguousOffset::Gap { .. } = own.to_ambiguous_timestamp(first).offset()
        {
            let (time, day, zone) =
                (from.strftime("%H:%M"), day.strftime("%-d %B %Y"), clock.word());
            return Err((
                "times",
                format!("Clocks in {zone} skip {time} on {day}: type a time that is there."),
            ));
        }
        let until = match self.until.trim() {
            "" => None,
            text => match text.parse::<Date>() {
                Ok(last) if last < day => {
                    return Err((
                        "until",
                        format!("It would be over on {last}, before it begins on {day}."),
                    ));
                }
                Ok(last) => {
                    let after = last.tomorrow().ok().and_then(|d| d.to_zoned(own.clone()).ok());
                    after.map(|z| z.timestamp())
                }
                Err(_) => {
                    return wrong(
                        "until",
                        "A last day is one such as 2027-03-31; for good, leave it empty.",
                    );
                }
            },
        };
        if self.name.is_empty() {
            return wrong("name", "Say what it is: whoever finds the gap in a chart will ask.");
        }
        let journey = |slug: &String| journeys.iter().find(|j| j.slug == *slug).map(|j| j.id);
        let place = |slug: &String| locations.iter().find(|l| l.slug == *slug).map(|l| l.id);
        let reach = Reach {
            journeys: self.journeys.iter().filter_map(journey).collect(),
            locations: self.locations.iter().filter_map(place).collect(),
        };
        // What was ended early does not begin again because its name was changed.
        let from = was.and_then(|w| w.in_force.0.filter(|_| begins(w, &own) == day));
        let window = Window {
            in_force: (from, until),
            except: was.map(|w| w.except.clone()).unwrap_or_default(),
            besides: was.map(|w| w.besides.clone()).unwrap_or_default(),
            ..Window::once(first, length, clock, &self.name).repeating(repeat)
        };
        let says = Maintenance { window, reach, holds: self.runs == "held" };
        says.window.check().map_err(|e| ("times", sentence(&e)))?;
        says.check().map_err(|e| (field_of(&e), sentence(&e)))?;
        Ok(says)
    }

    /// How long it lasts, and at what time of day it begins.
    fn lasting(&self, from: Option<Time>, to: Option<Time>) -> Result<(Length, Time), Wrong> {
        let wrong = |says: &str| Err(("times", says.to_string()));
        if self.lasts == "days" {
            return match self.many.trim().parse::<u16>() {
                Ok(n) if (1..=366).contains(&n) => Ok((Length::Days(n), Time::midnight())),
                _ => wrong("Whole days are 1 to 366."),
            };
        }
        let Some(from) = from else {
            return wrong("Say at what time of day it begins, such as 22:30.");
        };
        if self.lasts == "hours" {
            return match number(&self.many) {
                Some(hours) if hours > 0.0 && hours <= 24.0 * 366.0 => Ok((
                    Length::Exact(SignedDuration::from_secs((hours * 3_600.0).round() as i64)),
                    from,
                )),
                _ => wrong("It lasts a number of hours above 0, such as 1.5."),
            };
        }
        match to {
            None => wrong("Say at what time of day it ends, such as 00:30."),
            Some(to) if to == from => wrong(
                "It would last no time: it begins and ends at the same time of day. For a whole day choose days.",
            ),
            Some(to) => Ok((Length::UntilTime(to), from)),
        }
    }

    fn repeating(&self, first: jiff::civil::DateTime, zone: &TimeZone) -> Result<Repeat, Wrong> {
        Ok(match self.repeats.as_str() {
            "once" => Repeat::Once,
            "daily" => Repeat::Daily,
            "weekly" => {
                let of = |(n, (word, _)): (i8, (&str, &str))| {
                    let on = self.days.iter().any(|d| d == word);
                    on.then(|| Weekday::from_monday_zero_offset(n).ok()).flatten()
                };
                let days: Vec<Weekday> = (0i8..).zip(DAYS).filter_map(of).collect();
                if days.is_empty() {
                    return Err(("repeats", "Every week on which days?".into()));
                }
                Repeat::Weekly(days)
            }
            "rule" if self.rule.is_empty() => {
                return Err((
                    "repeats",
                    "A rule is one of RFC 5545, such as FREQ=MONTHLY;BYDAY=1WE.".into(),
                ));
            }
            "rule" => Repeat::Rule(
                Rule::parse(&self.rule, first, zone).map_err(|e| ("repeats", sentence(&e)))?,
            ),
            _ => {
                return Err((
                    "repeats",
                    "It comes once, every day, every week, or by a rule.".into(),
                ));
            }
        })
    }
}

fn field_of(why: &NoMaintenance) -> &'static str {
    match why {
        NoMaintenance::Overlaps(_) => "times",
        NoMaintenance::TooOften(_) | NoMaintenance::Never => "repeats",
    }
}

/// The day from which a window is in force.
fn begins(window: &Window, own: &TimeZone) -> Date {
    window.in_force.0.map_or(Date::MIN, |at| own.to_datetime(at).date())
}

/// The zone that days of a window are read in; where each location has its own, the site's.
fn clock_zone(clock: &Clock, site: &TimeZone) -> TimeZone {
    match clock {
        Clock::Utc => TimeZone::UTC,
        Clock::Zone(zone) => zone.clone(),
        Clock::Location => site.clone(),
    }
}

fn not_planned(why: &NotPlanned) -> Wrong {
    let field = match why {
        NotPlanned::Window(_) => "times",
        NotPlanned::Maintenance(why) => field_of(why),
        NotPlanned::Over => "day",
        NotPlanned::Overtaken | NotPlanned::TooMany | NotPlanned::NotNow => "form",
    };
    (field, sentence(why))
}

/// What a form is shown with.
struct Shown<'a> {
    planned: Option<&'a Planned>,
    typed: Typed,
    wrong: Option<Wrong>,
    /// Whether there is something typed that could be tried.
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
    let Shown { planned, typed, mut wrong, tries } = shown;
    let zone = frame.site.zone.clone();
    let (mut when, mut tried) = (None, Vec::new());
    let was = planned.map(|p| &p.says.window);
    if tries && wrong.is_none() {
        match typed.read(&zone, &journeys, &locations, was) {
            Ok(says) => {
                let viewer = viewer(request);
                let clocks = Clocks { site: &zone, viewer: viewer.as_ref(), locations: &locations };
                when = Some(clocks.when(&says, frame.now));
                let id = planned.map(|p| p.id);
                let found =
                    maintenance::tried(&state.answers, &frame.site, id, &says, frame.now).await?;
                tried = in_words(&says, &found, &zone);
            }
            Err(why) => wrong = Some(why),
        }
    }
    // What is only tried is shown in its place, whatever is wrong with it.
    let status =
        if wrong.is_some() && !tries { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let choice = |value: &str, name: &str, now: &str| Choice::new(value, name, value == now);
    let mut clocks = vec![
        choice("site", &format!("the site, {}", frame.zone), &typed.clock),
        choice("UTC", "UTC", &typed.clock),
        choice("location", "each location, its own", &typed.clock),
    ];
    if !clocks.iter().any(|c| c.chosen) && !typed.clock.is_empty() {
        clocks.push(Choice::new(&typed.clock, &typed.clock, true));
    }
    html_with(
        status,
        &Page {
            id: planned.map(|p| p.id),
            repeats: [
                ("once", "once"),
                ("daily", "every day"),
                ("weekly", "every week on"),
                ("rule", "by a rule (RFC 5545)"),
            ]
            .map(|(v, n)| choice(v, n, &typed.repeats))
            .to_vec(),
            days: Choice::among(DAYS, &typed.days),
            lasts: [("until", "until"), ("hours", "for hours"), ("days", "for whole days")]
                .map(|(v, n)| choice(v, n, &typed.lasts))
                .to_vec(),
            clocks,
            journeys: Choice::among(
                journeys.iter().map(|j| (j.slug.as_str(), j.name.as_str())),
                &typed.journeys,
            ),
            locations: Choice::among(
                locations.iter().map(|l| (l.slug.as_str(), l.name.as_str())),
                &typed.locations,
            ),
            runs: [("counted", "go on and do not count"), ("held", "are held: none is made")]
                .map(|(v, n)| choice(v, n, &typed.runs))
                .to_vec(),
            typed,
            wrong,
            when,
            tried,
            frame,
        },
    )
}

/// What it would have done, and what it meets.
fn in_words(says: &Maintenance, tried: &maintenance::Tried, zone: &TimeZone) -> Vec<String> {
    let mut all = Vec::new();
    let weeks = maintenance::WEEKS_TRIED;
    match says.as_before(tried.stretch.to, weeks) {
        None => all.push(
            "What comes once, or so many times, has nothing in the past to be tried on."
                .to_string(),
        ),
        Some(_) => {
            let times = match tried.comings {
                1 => "once".to_string(),
                n => format!("{n} times"),
            };
            all.push(format!("In the last {weeks} weeks it would have come {times}."));
        }
    }
    for goal in &tried.goals {
        let percent = |score: &cadentis_core::goal::Score| {
            score.share().map_or("no data".into(), |s| {
                format!("{} %", share_text(s, 3, Some(goal.promised)))
            })
        };
        let (before, after) = (&goal.before, &goal.after);
        let taken = before.counted().saturating_sub(after.counted());
        let bad = before.bad.saturating_sub(after.bad);
        all.push(match taken {
            0 => {
                format!("Of “{}” it would have taken out nothing: {}.", goal.name, percent(before))
            }
            n => format!(
                "Of “{}” it would have taken out {} that counted, {} of them bad: {} → {}.",
                goal.name,
                format::thousands(n),
                format::thousands(bad),
                percent(before),
                percent(after)
            ),
        });
    }
    for (name, at) in &tried.overlaps {
        all.push(format!(
            "It overlaps “{name}” on {}; time is taken out once.",
            format::occurrence_text(at, zone)
        ));
    }
    all
}

/// `GET /maintenance/new`
pub async fn new(
    state: web::Data<State>,
    request: HttpRequest,
    fields: web::Query<Fields>,
) -> Result<HttpResponse, PageError> {
    let tries = fields.iter().any(|(name, _)| name == "repeats");
    let typed = if tries { Typed::of(&fields) } else { Typed::usual() };
    show(&state, &request, Shown { planned: None, typed, wrong: None, tries }).await
}

/// `GET /maintenance/{id}/change`
pub async fn change(
    state: web::Data<State>,
    InSite(site): InSite,
    id: After<i32>,
    request: HttpRequest,
    fields: web::Query<Fields>,
) -> Result<HttpResponse, PageError> {
    let planned = planned_of(&state, &site, id.0).await?;
    let typed = match fields.iter().any(|(name, _)| name == "repeats") {
        true => Typed::of(&fields),
        false => {
            let journeys = sites::journeys(&state.answers, site.id).await?;
            let locations = sites::locations(&state.answers).await?;
            Typed::from(&planned, &site, &journeys, &locations)
        }
    };
    show(&state, &request, Shown { planned: Some(&planned), typed, wrong: None, tries: true }).await
}

async fn read(
    state: &State,
    site: &Site,
    typed: &Typed,
    was: Option<&Window>,
) -> Result<Result<Maintenance, Wrong>, PageError> {
    let journeys = sites::journeys(&state.answers, site.id).await?;
    let locations = sites::locations(&state.answers).await?;
    Ok(typed.read(&site.zone, &journeys, &locations, was))
}

/// What came of a change; that it is for journeys of a team that whoever it is is not in is told at the field.
fn theirs<T>(done: Result<T, AnswerError>) -> Result<Result<T, Wrong>, PageError> {
    match done {
        Ok(done) => Ok(Ok(done)),
        Err(AnswerError::NotTheirs { what, team }) => {
            let says = format!(
                "“{what}” is looked after by {team}: choose journeys of your own team, or ask an administrator."
            );
            Ok(Err(("journeys", says)))
        }
        Err(other) => Err(other.into()),
    }
}

/// `POST /maintenance`
pub async fn make(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let typed = Typed::of(&fields);
    let now = Timestamp::now();
    let wrong = match read(&state, &site, &typed, None).await? {
        Ok(says) => {
            let what = (&says, typed.detail.as_str());
            match theirs(changes::plan(&state.answers, &by, &site, what, now).await)? {
                Ok(Ok(_)) => return Ok(redirect(&format!("{}/maintenance", base(&site)))),
                Ok(Err(why)) => not_planned(&why),
                Err(wrong) => wrong,
            }
        }
        Err(wrong) => wrong,
    };
    show(&state, &request, Shown { planned: None, typed, wrong: Some(wrong), tries: false }).await
}

/// `POST /maintenance/{id}`
pub async fn changed(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let planned = planned_of(&state, &site, id.0).await?;
    let typed = Typed::of(&fields);
    let now = Timestamp::now();
    let wrong = match read(&state, &site, &typed, Some(&planned.says.window)).await? {
        Ok(says) => {
            let (which, what) = ((&planned, typed.based_on), (&says, typed.detail.as_str()));
            match theirs(changes::replan(&state.answers, &by, &site, which, what, now).await)? {
                Ok(Ok(())) => return Ok(redirect(&format!("{}/maintenance", base(&site)))),
                Ok(Err(why)) => not_planned(&why),
                Err(wrong) => wrong,
            }
        }
        Err(wrong) => wrong,
    };
    show(
        &state,
        &request,
        Shown { planned: Some(&planned), typed, wrong: Some(wrong), tries: false },
    )
    .await
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(more: &[(&str, &str)]) -> Result<Maintenance, Wrong> {
        let usual = [
            ("name", "Backup"),
            ("repeats", "weekly"),
            ("on", "sun"),
            ("day", "2026-11-27"),
            ("begins", "22:30"),
            ("ends", "00:30"),
            ("clock", "site"),
        ];
        let kept = usual.iter().filter(|(n, _)| !more.iter().any(|(m, _)| m == n));
        let fields: Fields =
            kept.chain(more).map(|(n, v)| (n.to_string(), v.to_string())).collect();
        Typed::of(&fields).read(&TimeZone::get("Europe/Oslo").unwrap(), &[], &[], None)
    }

    #[test]
    fn a_window_is_read_as_it_was_typed() {
        let says = read(&[]).unwrap();
        let now = "2026-11-27T12:00:00Z".parse().unwrap();
        let next = says.window.next(now, 1, &TimeZone::UTC)[0];
        assert_eq!(
            (next.from.to_string().as_str(), next.seconds()),
            ("2026-11-29T21:30:00Z", 7_200)
        );
        let until = read(&[("until", "2026-12-06")]).unwrap();
        assert_eq!(
            until.window.next(now, 9, &TimeZone::UTC).len(),
            2,
            "the last day is one of them"
        );
        assert_eq!(
            read(&[("clock", "UTC")]).unwrap().window.next(now, 1, &TimeZone::UTC)[0]
                .from
                .to_string(),
            "2026-11-29T22:30:00Z"
        );
        let days =
            read(&[("repeats", "once"), ("lasts", "days"), ("many", "2"), ("begins", "")]).unwrap();
        assert_eq!(days.window.next(now, 1, &TimeZone::UTC)[0].seconds(), 2 * 86_400);
        assert!(read(&[("runs", "held")]).unwrap().holds);
    }

    #[test]
    fn what_is_wrong_is_told_at_its_field() {
        let wrong = |more: &[(&str, &str)]| read(more).unwrap_err().0;
        assert_eq!(wrong(&[("name", " ")]), "name");
        assert_eq!(wrong(&[("day", "soon")]), "day");
        assert_eq!(wrong(&[("begins", "25:00")]), "times");
        assert_eq!(wrong(&[("ends", "22:30")]), "times", "it lasts no time");
        assert_eq!(wrong(&[("ends", "")]), "times");
        assert_eq!(wrong(&[("lasts", "hours"), ("many", "-1")]), "times");
        assert_eq!(wrong(&[("lasts", "days"), ("many", "400")]), "times");
        assert_eq!(wrong(&[("on", "")]), "repeats");
        assert_eq!(wrong(&[("until", "2026-11-01")]), "until", "it ends before it begins");
        assert_eq!(wrong(&[("clock", "Mars/Olympus")]), "clock");
        let rule = |rule: &str| read(&[("repeats", "rule"), ("rule", rule)]);
        assert_eq!(rule("FREQ=SOON").unwrap_err().0, "repeats");
        // Hourly for ever.
        assert_eq!(rule("FREQ=HOURLY").unwrap_err().0, "repeats");
        assert!(rule("FREQ=MONTHLY;BYDAY=1WE").is_ok());
        let long = [("repeats", "daily"), ("lasts", "hours"), ("many", "30")];
        assert!(read(&long).unwrap_err().1.contains("begin again before it ends"));
        // EU summer time begins on 28 March 2027 at 01:00 UTC (IANA tz database): 02:30 is not there.
        let skipped = read(&[
            ("repeats", "once"),
            ("day", "2027-03-28"),
            ("begins", "02:30"),
            ("ends", "04:00"),
        ]);
        assert_eq!(
            skipped.unwrap_err(),
            (
                "times",
                "Clocks in Europe/Oslo skip 02:30 on 28 March 2027: type a time that is there."
                    .into()
            )
        );
    }
}
