//! An alert is made or changed: one sentence to edit, tried on the past before it is kept.

use super::drawn::{Course, unit};
use super::{after, alert_of, length, tone};
use crate::State;
use crate::access::{After, By, InSite};
use crate::course::Chart;
use crate::error::PageError;
use crate::fields::{self, Fields, Hours, Wrong, number, says_of, sentence};
use crate::filters;
use crate::format;
use crate::frame::{Frame, base};
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html_with, redirect};
use crate::view::{Choice, Link};
use crate::words::capital;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::alerts::{self, TRIED_DAYS, Tried, WasIt};
use cadentis_answers::changes::alerts::{self as changes, LONGEST_INSTRUCTIONS, LONGEST_NAME};
use cadentis_answers::kept::{Alert, AlertSays, Site};
use cadentis_answers::{notices, teams};
use cadentis_core::alert::definition::{exact, level};
use cadentis_core::alert::{Definition, Evaluation, LAG, NoData, Rule, Verdict, usual};
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::definition::DAYS;
use cadentis_core::measure::{Measured, Subject, Unit, Worse};
use jiff::{SignedDuration, Timestamp};

#[derive(Template)]
#[template(path = "alert_form.html")]
struct Page {
    frame: Frame,
    id: Option<i32>,
    typed: Typed,
    wrong: Option<Wrong>,
    /// How it is judged, in the middle of the sentence.
    rules: Vec<Choice>,
    /// So many weeks tell what is usual, and so many at least.
    usual_weeks: usize,
    usual_least: usize,
    no_data: Vec<Choice>,
    days: Vec<Choice>,
    teams: Vec<Choice>,
    /// Call lists, with the one that each severity is told to.
    lists: [Vec<Choice>; 2],
    ready_made: Vec<Link>,
    trial: Option<Trial>,
}

impl Page {
    fn says_of(&self, field: &str) -> Option<&str> {
        says_of(self.wrong.as_ref(), field)
    }
}

/// What it would have done.
struct Trial {
    /// The sentence that it is.
    sentence: String,
    says: String,
    when: String,
    chart: Chart,
    rows: Vec<TrialRow>,
    missed: Vec<String>,
    /// Evaluations that decided nothing, in words.
    aside: String,
    /// Levels from its own past, in words, and where they are filled in.
    suggested: Option<(String, String)>,
}

struct TrialRow {
    opened: String,
    link: String,
    tone: &'static str,
    severity: &'static str,
    after: String,
    lasted: String,
    worst: String,
    was: String,
}

/// What was typed and chosen.
#[derive(Debug, Clone, Default)]
struct Typed {
    name: String,
    measure: String,
    rule: String,
    warning: String,
    critical: String,
    clear: String,
    window: String,
    every: String,
    running: String,
    least_samples: String,
    least_locations: String,
    no_data: String,
    hours: Hours,
    team: String,
    instructions: String,
    link: String,
    /// Ids of the call lists that a warning and a critical incident are told to.
    lists: [String; 2],
    based_on: i32,
}

/// A measure is at most so long as it is typed.
const LONGEST_MEASURE: usize = cadentis_core::measure::text::LONGEST + 1;

impl Typed {
    fn of(fields: &Fields) -> Typed {
        let one = |name: &str| fields::one(fields, name);
        let usual = |name: &str, usual: &str| fields::usual(fields, name, usual);
        let instructions = one("instructions");
        Typed {
            name: fields::line(fields, "name", LONGEST_NAME),
            measure: fields::line(fields, "measure", LONGEST_MEASURE),
            rule: usual("rule", "level"),
            warning: fields::line(fields, "warning", 40),
            critical: fields::line(fields, "critical", 40),
            clear: fields::line(fields, "clear", 40),
            window: usual("window", "5"),
            every: usual("every", "1"),
            running: usual("running", "1"),
            least_samples: usual("least_samples", "0"),
            least_locations: usual("least_locations", "0"),
            no_data: usual("no_data", "keep"),
            hours: Hours::of(fields),
            team: one("team"),
            instructions: cadentis_core::text::clean(
                &instructions,
                LONGEST_INSTRUCTIONS,
                Some('\n'),
            ),
            link: fields::line(fields, "link", 500),
            lists: [one("tells_warning"), one("tells_critical")],
            based_on: one("based_on").parse().unwrap_or_default(),
        }
    }

    fn from(alert: &Alert) -> Typed {
        let AlertSays { name, definition, team_id, instructions, link, lists } = &alert.says;
        let text = |id: &Option<i32>| id.map_or(String::new(), |id| id.to_string());
        Typed {
            name: name.clone(),
            team: team_id.map_or(String::new(), |id| id.to_string()),
            instructions: instructions.clone(),
            link: link.clone(),
            lists: lists.each_ref().map(text),
            based_on: alert.revision,
            ..Typed::says(definition)
        }
    }

    fn says(definition: &Definition) -> Typed {
        let unit = definition.level_unit();
        let rule = match definition.rule {
            Rule::Burns => "burns",
            Rule::Unusual { .. } => "unusual",
            Rule::Level { .. } => "level",
        };
        let [warning, critical, clear] = definition.rule.levels();
        let text = |value: Option<f64>| value.map_or(String::new(), |v| exact(unit, v));
        Typed {
            measure: definition.measured.to_string(),
            rule: rule.into(),
            warning: text(warning),
            critical: text(critical),
            clear: text(clear),
            window: (definition.window_s / 60).to_string(),
            every: (definition.every_s / 60).to_string(),
            running: definition.running.to_string(),
            least_samples: definition.least_samples.to_string(),
            least_locations: definition.least_places.to_string(),
            no_data: definition.no_data.word().into(),
            hours: Hours::from(definition.service_hours.as_ref()),
            ..Typed::default()
        }
    }

    /// The fields of an address that fills the form in.
    fn query(&self) -> String {
        let fields = [
            ("name", &self.name),
            ("measure", &self.measure),
            ("rule", &self.rule),
            ("warning", &self.warning),
            ("critical", &self.critical),
            ("clear", &self.clear),
            ("window", &self.window),
            ("every", &self.every),
            ("running", &self.running),
            ("least_samples", &self.least_samples),
            ("least_locations", &self.least_locations),
            ("no_data", &self.no_data),
        ];
        let said = fields.into_iter().filter(|(_, value)| !value.is_empty());
        url::form_urlencoded::Serializer::new(String::new()).extend_pairs(said).finish()
    }

    /// What it says, or the field that is wrong and how.
    fn read(&self) -> Result<Definition, Wrong> {
        let measured: Measured = self.measure.parse().map_err(|e| ("measure", sentence(&e)))?;
        let unit = match self.rule.as_str() {
            "unusual" => Unit::Plain,
            _ => measured.measure.unit(),
        };
        let of = |field: &'static str, text: &str| match text.trim() {
            "" => Ok(None),
            text => level(unit, text).map(Some).map_err(|e| (field, sentence(&capital(&e)))),
        };
        let levels = || -> Result<_, Wrong> {
            let warning = of("warning", &self.warning)?;
            Ok((warning, of("critical", &self.critical)?, of("clear", &self.clear)?))
        };
        let rule = match self.rule.as_str() {
            "burns" => Rule::Burns,
            "unusual" => {
                let (warning, critical, clear) = levels()?;
                Rule::Unusual { warning, critical, clear }
            }
            _ => {
                let (warning, critical, clear) = levels()?;
                Rule::Level { warning, critical, clear }
            }
        };
        let whole = |field: &'static str, text: &str, most: f64| {
            let read = number(text).filter(|n| n.fract() == 0.0 && *n >= 0.0 && *n <= most);
            read.ok_or_else(|| (field, format!("A whole number from 0 to {most}.")))
        };
        let definition = Definition {
            measured,
            rule,
            window_s: whole("window", &self.window, 1_440.0)? as i64 * 60,
            every_s: whole("every", &self.every, 60.0)? as i64 * 60,
            running: whole("running", &self.running, 60.0)? as u32,
            least_samples: whole("least_samples", &self.least_samples, 1e6)? as u64,
            least_places: whole("least_locations", &self.least_locations, 1e3)? as u32,
            no_data: NoData::of_word(&self.no_data).unwrap_or_default(),
            service_hours: self.hours.read()?,
        };
        match definition.check() {
            Ok(()) => Ok(definition),
            Err(why) => Err((why.field(), sentence(&why))),
        }
    }

    fn whole(&self) -> Result<AlertSays, Wrong> {
        Ok(AlertSays {
            name: self.name.clone(),
            definition: self.read()?,
            team_id: self.team.parse().ok(),
            instructions: self.instructions.clone(),
            link: self.link.clone(),
            lists: self.lists.each_ref().map(|id| id.parse().ok()),
        })
    }
}

/// What a form is shown with.
struct Shown<'a> {
    alert: Option<&'a Alert>,
    typed: Typed,
    wrong: Option<Wrong>,
    tries: bool,
}

async fn show(
    state: &web::Data<State>,
    request: &HttpRequest,
    shown: Shown<'_>,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Alerts", TWELVE_HOURS).await?;
    let Shown { alert, typed, mut wrong, tries } = shown;
    let mut trial = None;
    if tries && wrong.is_none() {
        match typed.read() {
            Ok(definition) => {
                let to = frame.now - LAG;
                let past = Stretch { from: to - SignedDuration::from_hours(24 * TRIED_DAYS), to };
                match alerts::tried(&state.answers, &frame.site, &definition, past).await? {
                    Ok(tried) => trial = Some(in_words(&frame, alert, &typed, &definition, &tried)),
                    Err(not_there) => {
                        wrong = Some(("measure", sentence(&capital(&not_there.to_string()))))
                    }
                }
            }
            Err(why) => wrong = Some(why),
        }
    }
    let measured: Option<Measured> = typed.measure.parse().ok();
    let ready_made = match alert {
        None => alerts::ready_made(&state.answers, &frame.site).await?,
        Some(_) => Vec::new(),
    };
    let offered = |(name, definition): (String, Definition)| {
        let typed = Typed { name: name.clone(), ..Typed::says(&definition) };
        Link::new(format!("{}/alerts/new?{}", frame.base, typed.query()), name)
    };
    let theirs = teams::all(&state.answers).await?;
    let teams = std::iter::once(Choice::new("", "nobody in particular", typed.team.is_empty()))
        .chain(theirs.iter().map(|t| Choice::new(t.id, &t.name, typed.team == t.id.to_string())));
    let kept = notices::ask(&state.answers, &frame.site).await?.lists;
    let lists = typed.lists.each_ref().map(|chosen| {
        let usual = Choice::new("", "the usual call list", chosen.is_empty());
        let others = kept.iter().map(|l| Choice::new(l.id, &l.name, *chosen == l.id.to_string()));
        std::iter::once(usual).chain(others).collect()
    });
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let page = Page {
        lists,
        id: alert.map(|a| a.id),
        rules: rules(measured.as_ref(), &typed.rule),
        usual_weeks: usual::WEEKS,
        usual_least: usual::LEAST_WEEKS,
        no_data: NoData::ALL
            .map(|n| Choice::new(n.word(), n.words(), typed.no_data == n.word()))
            .to_vec(),
        days: Choice::among(DAYS, &typed.hours.days),
        teams: teams.collect(),
        ready_made: ready_made.into_iter().map(offered).collect(),
        typed,
        wrong,
        trial,
        frame,
    };
    html_with(status, &page)
}

/// How a measure can be judged.
fn rules(measured: Option<&Measured>, chosen: &str) -> Vec<Choice> {
    let worse = measured.map_or("above", |m| m.measure.worse().word());
    let is_of_goal = measured.is_some_and(|m| m.measure.subject() == Subject::Goals);
    let mut all = vec![
        ("level", format!("is {worse}")),
        ("unusual", format!("is unlike its usual, in spreads {worse} it:")),
    ];
    if is_of_goal {
        all[1] = ("burns", "burns too fast, by paired windows".into());
    }
    all.into_iter().map(|(value, name)| Choice::new(value, name, chosen == value)).collect()
}

fn was(tried: &Tried) -> String {
    let says = |was: &WasIt| match was {
        WasIt::Marker(title) => title.clone(),
        WasIt::Failing { runs, places } => match places.as_slice() {
            [one] => format!("{runs} runs failed from {one}"),
            many => format!("{runs} runs failed from {} locations", many.len()),
        },
        WasIt::Maintenance(why) => format!("maintenance: {why}"),
    };
    match tried.was.is_empty() {
        true => "nothing beside it tells".into(),
        false => tried.was.iter().map(says).collect::<Vec<_>>().join("; "),
    }
}

fn in_words(
    frame: &Frame,
    alert: Option<&Alert>,
    typed: &Typed,
    definition: &Definition,
    tried: &alerts::Trial,
) -> Trial {
    let (unit, _) = unit(definition);
    let span = |t: &Tried| {
        let to = t.opening.cleared.unwrap_or(tried.stretch.to);
        let stretch = Stretch { from: t.opening.opened, to };
        let says = format!("{} for {}", t.opening.severity.word(), length(t.opening.opened, to));
        (stretch, says, tone(Some(t.opening.severity)))
    };
    let course = Course {
        definition,
        stretch: tried.stretch,
        every_s: definition.every_s,
        sub: "worst of each piece",
        spans: tried.openings.iter().map(span).collect(),
        left_out: &tried.left_out,
    };
    let chart = course.chart(frame, tried.evaluations.iter().copied());
    let row = |t: &Tried| {
        let to = t.opening.cleared.unwrap_or(tried.stretch.to);
        let hour = SignedDuration::from_hours(1);
        let around = Stretch { from: t.opening.since - hour, to: to + hour };
        TrialRow {
            opened: format::day_clock(t.opening.opened, &frame.site.zone),
            link: format!("{}?{}", frame.base, frame.query_of(&around)),
            tone: tone(Some(t.opening.severity)),
            severity: t.opening.severity.word(),
            after: after(t.opening.opened.duration_since(t.opening.since).as_secs_f64() * 1e3),
            lasted: match t.opening.cleared {
                Some(to) => length(t.opening.opened, to),
                None => "it would still be open".into(),
            },
            worst: t.opening.worst.map_or(format::NO_DATA.into(), |v| unit.text(v)),
            was: was(t),
        }
    };
    let missed = tried.missed.iter().map(|(stretch, places, runs)| {
        format!(
            "{}: {runs} runs failed from {}",
            stretch.words(&frame.site.zone),
            match places.as_slice() {
                [one] => one.clone(),
                many => format!("{} locations", many.len()),
            }
        )
    });
    let unknown = tried.openings.iter().filter(|t| t.was.is_empty()).count();
    let says = match tried.openings.len() {
        0 => format!("It would not have opened in these {TRIED_DAYS} days."),
        1 => format!("It would have opened once in these {TRIED_DAYS} days."),
        n => format!("It would have opened {n} times in these {TRIED_DAYS} days."),
    };
    let says = match unknown {
        0 => says,
        n => format!("{says} Of {n} nothing beside it tells what it was."),
    };
    let of = |v: Verdict| tried.evaluations.iter().filter(|e| e.verdict == v).count() as u64;
    let is_unknown = |e: &&Evaluation| e.verdict == Verdict::TooFew && e.usual.is_none();
    let unknown_usual = match definition.rule {
        Rule::Unusual { .. } => tried.evaluations.iter().filter(is_unknown).count() as u64,
        Rule::Level { .. } | Rule::Burns => 0,
    };
    let aside: Vec<String> = [
        (of(Verdict::TooFew) - unknown_usual, "had too few samples"),
        (unknown_usual, "had too few weeks before them to tell their usual"),
        (of(Verdict::NoData), "had no data"),
        (of(Verdict::NotJudged), "lay in maintenance or outside service hours"),
    ]
    .into_iter()
    .filter(|(n, _)| *n > 0)
    .map(|(n, what)| format!("{} {what}", format::thousands(n)))
    .collect();
    let all = format::thousands(tried.evaluations.len() as u64);
    let aside = match aside.is_empty() {
        true => String::new(),
        false => format!("Of {all} evaluations {}.", aside.join(", ")),
    };
    let level_text = |v: f64| match definition.rule {
        Rule::Unusual { .. } => format!("{v:.1} spreads beyond its usual"),
        _ => definition.level_unit().text(v),
    };
    let suggested = tried.suggested.map(|s| {
        let again = Typed {
            warning: exact(definition.level_unit(), rounded(s.warning)),
            critical: exact(definition.level_unit(), rounded(s.critical)),
            clear: String::new(),
            ..typed.clone()
        };
        let says = format!(
            "Half of its evaluations came to {} at most, all but one in a hundred to {}, all but one in a thousand to {}. With the last two as levels it would have opened {}.",
            level_text(s.median),
            level_text(s.warning),
            level_text(s.critical),
            match s.openings { 1 => "once".into(), n => format!("{n} times") }
        );
        let says = match definition.side() {
            Worse::Above => says,
            Worse::Below => says.replace(" at most", " at least"),
        };
        let to = match alert {
            Some(a) => format!("{}/alerts/{}/change?based_on={}&{}", frame.base, a.id, typed.based_on, again.query()),
            None => format!("{}/alerts/new?{}", frame.base, again.query()),
        };
        (says, to)
    });
    Trial {
        sentence: definition.sentence(),
        says: format!("{says} {:.1} notices a week.", tried.notices_a_week),
        when: tried.stretch.words(&frame.site.zone),
        rows: tried.openings.iter().rev().map(row).collect(),
        missed: missed.collect(),
        aside,
        suggested,
        chart,
    }
}

/// To three digits: a level is a choice, not a measurement.
fn rounded(value: f64) -> f64 {
    if value == 0.0 {
        return 0.0;
    }
    let digits = 10f64.powf(2.0 - value.abs().log10().floor());
    (value * digits).round() / digits
}

/// `GET /alerts/new`: with what its address says filled in, and tried.
pub async fn new(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let fields = query::<Fields>(&request)?;
    let tries = fields.iter().any(|(name, value)| name == "measure" && !value.trim().is_empty());
    show(&state, &request, Shown { alert: None, typed: Typed::of(&fields), wrong: None, tries })
        .await
}

/// `POST /alerts`: watched from now on, or kept switched off.
pub async fn make(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let typed = Typed::of(&fields);
    let says = match typed.whole() {
        Ok(says) => says,
        Err(wrong) => return again(&state, &request, None, typed, wrong).await,
    };
    let is_on = fields::one(&fields, "off").is_empty();
    let made = changes::add(&state.answers, &by, &site, (&says, is_on), Timestamp::now()).await?;
    match made {
        Ok(id) => Ok(redirect(&at(&site, id))),
        Err(why) => {
            let wrong = (why.field(), sentence(&capital(&why.to_string())));
            again(&state, &request, None, typed, wrong).await
        }
    }
}

fn at(site: &Site, id: i32) -> String {
    format!("{}/alerts/{id}", base(site))
}

async fn again(
    state: &web::Data<State>,
    request: &HttpRequest,
    alert: Option<&Alert>,
    typed: Typed,
    wrong: Wrong,
) -> Result<HttpResponse, PageError> {
    show(state, request, Shown { alert, typed, wrong: Some(wrong), tries: false }).await
}

/// `GET /alerts/{id}/change`: as it is, or with what its address says.
pub async fn change(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let alert = alert_of(&state, &site, id).await?;
    let fields = query::<Fields>(&request)?;
    let typed = match fields.iter().any(|(name, _)| name == "measure") {
        true => {
            let typed = Typed::of(&fields);
            // Levels that are offered say nothing of what stands beside them.
            match fields.iter().any(|(name, _)| name == "instructions") {
                true => typed,
                false => {
                    let kept = Typed::from(&alert);
                    Typed {
                        team: kept.team,
                        instructions: kept.instructions,
                        link: kept.link,
                        ..typed
                    }
                }
            }
        }
        false => Typed::from(&alert),
    };
    show(&state, &request, Shown { alert: Some(&alert), typed, wrong: None, tries: true }).await
}

/// `POST /alerts/{id}`
pub async fn changed(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let alert = alert_of(&state, &site, id).await?;
    let typed = Typed::of(&fields);
    let says = match typed.whole() {
        Ok(says) => says,
        Err(wrong) => return again(&state, &request, Some(&alert), typed, wrong).await,
    };
    let set = changes::set(&state.answers, &by, &site, (&alert, typed.based_on), &says).await?;
    match set {
        Ok(()) => Ok(redirect(&at(&site, id))),
        Err(changes::NotKept::Overtaken) => {
            let says = format!(
                "Somebody changed this alert meanwhile: it says now: {} What you typed is here; save again to set it.",
                alert.says.definition.sentence()
            );
            let typed = Typed { based_on: alert.revision, ..typed };
            again(&state, &request, Some(&alert), typed, ("form", says)).await
        }
        Err(why) => {
            let wrong = (why.field(), sentence(&capital(&why.to_string())));
            again(&state, &request, Some(&alert), typed, wrong).await
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::made_up;
    use proptest::prelude::*;

    /// As a browser sends what stands in the form.
    fn sent(typed: &Typed) -> Fields {
        let query = typed.query();
        let named = url::form_urlencoded::parse(query.as_bytes());
        let mut fields: Vec<(String, String)> = named.into_owned().collect();
        let text = |name: &str, value: &str| (name.to_string(), value.to_string());
        fields.extend(typed.hours.days.iter().map(|day| text("day", day)));
        fields.extend([text("open", &typed.hours.open), text("closed", &typed.hours.closed)]);
        fields
    }

    proptest! {
        #[test]
        fn what_an_alert_says_is_what_its_form_shows_and_sends_back(definition in made_up::alerts()) {
            prop_assume!(definition.check().is_ok());
            let typed = Typed::says(&definition);
            prop_assert_eq!(Typed::of(&sent(&typed)).read().map_err(|e| e.1), Ok(definition));
        }

        #[test]
        fn whatever_is_typed_is_read_or_told_at_a_field_of_the_form(
            measure in "[a-zA-Z0-9 \"%.]{0,30}", level in "[0-9a-z %.,-]{0,10}", number in "[0-9.-]{0,6}",
            rule in prop::sample::select(vec!["level", "unusual", "burns", "other"]),
        ) {
            let field = |name: &str, value: &str| (name.to_string(), value.to_string());
            let fields = vec![
                field("measure", &measure), field("critical", &level), field("window", &number),
                field("every", &number), field("running", &number), field("rule", rule),
            ];
            if let Err((at, says)) = Typed::of(&fields).read() {
                let known = ["measure", "critical", "window", "every", "running", "warning", "clear"];
                prop_assert!(known.contains(&at), "{at}");
                prop_assert!(says.ends_with('.') && says.chars().next().is_some_and(|c| !c.is_lowercase()), "{says}");
            }
        }
    }

    #[test]
    fn what_is_wrong_is_told_at_its_field_as_a_sentence() {
        let with = |changed: &[(&str, &str)]| {
            let mut fields: Vec<(String, String)> = [
                ("measure", "p75 of LCP"),
                ("warning", "2.5 s"),
                ("critical", "4 s"),
                ("window", "15"),
                ("every", "5"),
            ]
            .map(|(name, value)| (name.to_string(), value.to_string()))
            .to_vec();
            for (name, value) in changed {
                fields.retain(|(n, _)| n != name);
                fields.push((name.to_string(), value.to_string()));
            }
            Typed::of(&fields).read()
        };
        let fine = with(&[]).unwrap();
        assert_eq!((fine.window_s, fine.every_s, fine.running), (900, 300, 1));
        assert_eq!(
            fine.rule,
            Rule::Level { warning: Some(2_500.0), critical: Some(4_000.0), clear: None }
        );
        for (changed, at, says) in [
            (vec![("measure", "p75 of LPC")], "measure", "Column 8"),
            (vec![("warning", "2500")], "warning", "a time with its unit"),
            (vec![("warning", ""), ("critical", "")], "critical", "An alert has a level"),
            (vec![("critical", "2 s")], "critical", "worse than the warning"),
            (vec![("clear", "3 s")], "clear", "good side"),
            (vec![("window", "1.5")], "window", "A whole number"),
            (vec![("window", "4")], "window", "no shorter than"),
            (vec![("every", "61")], "every", "A whole number from 0 to 60."),
            (vec![("running", "0")], "running", "1 to"),
            (vec![("least_locations", "2")], "least_locations", "only what runs tell"),
            (vec![("open", "06:00")], "hours", "two times of day"),
            (vec![("rule", "burns")], "measure", "that of a goal"),
            (
                vec![("rule", "unusual"), ("warning", ""), ("critical", "0.5")],
                "critical",
                "1 to 100 spreads",
            ),
        ] {
            let (field, told) = with(&changed).unwrap_err();
            assert_eq!(field, at, "{changed:?}: {told}");
            assert!(told.to_lowercase().contains(&says.to_lowercase()), "{says}: {told}");
        }
    }
}
