//! Who is told: destinations, call lists, and what was told lately.

use crate::State;
use crate::access::{After, By, InSite};
use crate::error::PageError;
use crate::fields::{self, Fields, Hours, Wrong, number, says_of, sentence};
use crate::format;
use crate::frame::{Frame, base};
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html_with, redirect};
use crate::view::Choice;
use crate::words::capital;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::notices::{self as changes, NewList};
use cadentis_answers::kept::{Attempt, CallList, Destination, Notice, Sent, Site, Tells};
use cadentis_answers::notices::{self, Warning};
use cadentis_answers::teams;
use cadentis_core::alert::Severity;
use cadentis_core::alert::notice::{Kind, MOST_STEPS, Step};
use cadentis_core::goal::definition::DAYS;

#[derive(Template)]
#[template(path = "call_lists.html")]
struct Page {
    frame: Frame,
    says: String,
    warnings: Vec<String>,
    destinations: Vec<DestinationRow>,
    lists: Vec<ListRow>,
    /// Teams that could own the one that is written.
    owners: Vec<Choice>,
    newest: Vec<NoticeRow>,
    kinds: Vec<Choice>,
    /// The steps of the call list that is written.
    steps: Vec<StepFields>,
    typed: Typed,
    wrong: Option<Wrong>,
    /// Which of the two forms is wrong.
    wrong_form: &'static str,
}

impl Page {
    fn says_of(&self, form: &str, field: &str) -> Option<&str> {
        says_of(self.wrong.as_ref(), field).filter(|_| self.wrong_form == form)
    }
}

struct DestinationRow {
    id: i32,
    name: String,
    kind: &'static str,
    address: String,
    is_signed: bool,
}

struct ListRow {
    id: i32,
    name: String,
    steps: Vec<String>,
    is_usual: bool,
    owner: String,
}

/// A notice with its tries.
pub(super) struct NoticeRow {
    pub at: String,
    pub to: String,
    pub says: String,
    pub tone: &'static str,
    pub became: String,
    /// The incident; none for a test.
    pub incident: Option<i32>,
}

impl NoticeRow {
    pub(super) fn of(frame: &Frame, (notice, attempts): &(Notice, Vec<Attempt>)) -> NoticeRow {
        let zone = &frame.site.zone;
        let last = attempts.last().map_or(String::new(), |a| a.says.clone());
        let tries = match attempts.len() {
            0 => String::new(),
            1 => "at the first try".into(),
            2 => "at the 2nd try".into(),
            3 => "at the 3rd try".into(),
            n => format!("at try {n}"),
        };
        let (tone, became) = match notice.sent {
            Sent::Delivered => ("within", format!("delivered {tries}: {last}")),
            Sent::Dropped => {
                ("nodata", "not sent: somebody had acknowledged, or it was over".into())
            }
            Sent::GivenUp => ("broken", format!("given up after {} tries: {last}", attempts.len())),
            Sent::Waiting if attempts.is_empty() => {
                ("nodata", format!("waits until {}", format::clock(notice.due_at, zone)))
            }
            Sent::Waiting => {
                ("strained", format!("{} tries failed, more come: {last}", attempts.len()))
            }
        };
        NoticeRow {
            at: format::day_clock(notice.at, zone),
            to: notice.destination.clone(),
            says: match notice.tells {
                Tells::Report => "a report".into(),
                Tells::Test => "a test".into(),
                tells => format!("{}: {}", tells.word(), notice.says),
            },
            tone,
            became,
            incident: notice.incident_id,
        }
    }
}

/// What was typed into either form.
#[derive(Default)]
struct Typed {
    name: String,
    kind: String,
    address: String,
    list: String,
    is_usual: bool,
    /// The team that owns it, by its id.
    team: String,
    steps: Vec<TypedStep>,
}

/// A step of a call list as it is typed: fields that end with its place.
#[derive(Default)]
struct TypedStep {
    after: String,
    least: String,
    to: Vec<String>,
    hours: Hours,
}

impl TypedStep {
    fn of(fields: &Fields, nth: usize) -> TypedStep {
        TypedStep {
            after: fields::line(fields, &format!("after-{nth}"), 10),
            least: fields::one(fields, &format!("least-{nth}")),
            to: fields::all(fields, &format!("to-{nth}")),
            hours: Hours::ending(fields, &format!("-{nth}")),
        }
    }

    fn from(step: &Step) -> TypedStep {
        TypedStep {
            after: step.after_min.to_string(),
            least: step.least.word().into(),
            to: step.destinations.iter().map(i32::to_string).collect(),
            hours: Hours::from(step.hours.as_ref()),
        }
    }

    /// The step; none where nobody was chosen.
    fn read(&self) -> Result<Option<Step>, String> {
        if self.to.is_empty() {
            return Ok(None);
        }
        let after = match self.after.as_str() {
            "" => Some(0.0),
            text => number(text).filter(|n| n.fract() == 0.0 && (0.0..=1_440.0).contains(n)),
        };
        let after = after.ok_or("After so many minutes: a whole number from 0 to 1440.")?;
        Ok(Some(Step {
            after_min: after as u32,
            least: Severity::of_word(&self.least).unwrap_or(Severity::Warning),
            hours: self.hours.read().map_err(|(_, says)| says)?,
            destinations: self.to.iter().filter_map(|id| id.parse().ok()).collect(),
        }))
    }
}

/// A step of a call list as it is written.
struct StepFields {
    nth: usize,
    /// Such as “Step 2”.
    name: String,
    after: String,
    to: Vec<Choice>,
    severities: Vec<Choice>,
    days: Vec<Choice>,
    open: String,
    closed: String,
}

fn step_fields(nth: usize, typed: &TypedStep, destinations: &[Destination]) -> StepFields {
    let chosen = |d: &Destination| typed.to.contains(&d.id.to_string());
    StepFields {
        nth,
        name: format!("Step {}", nth + 1),
        after: typed.after.clone(),
        to: destinations.iter().map(|d| Choice::new(d.id, &d.name, chosen(d))).collect(),
        severities: Severity::ALL
            .map(|s| Choice::new(s.word(), s.word(), s.word() == typed.least))
            .to_vec(),
        days: Choice::among(DAYS, &typed.hours.days),
        open: typed.hours.open.clone(),
        closed: typed.hours.closed.clone(),
    }
}

fn step_words(step: &Step, destinations: &[Destination]) -> String {
    let name = |id: &i32| destinations.iter().find(|d| d.id == *id).map(|d| d.name.clone());
    let whom: Vec<String> = step.destinations.iter().filter_map(name).collect();
    let whom = if whom.is_empty() { "nobody any more".into() } else { whom.join(", ") };
    let when = match step.after_min {
        0 => "At once".to_string(),
        n => format!("After {n} min, if nobody has acknowledged it"),
    };
    let least = if step.least == Severity::Critical { ", when critical" } else { "" };
    let hours = step.hours.as_ref().map_or(String::new(), |h| format!(", {}", h.words()));
    format!("{when}{least}{hours}: {whom}")
}

async fn show(
    state: &web::Data<State>,
    request: &HttpRequest,
    typed: Typed,
    (wrong_form, wrong): (&'static str, Option<Wrong>),
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Alerts", TWELVE_HOURS).await?;
    let told = notices::ask(&state.answers, &frame.site).await?;
    let warning = |w: &Warning| match w {
        Warning::DependsOnSite(name) => format!(
            "{name} is reached by way of a host of this site: when that is down, nobody hears of it."
        ),
        Warning::OnlyOne(name) => {
            format!("{name} is the only destination: when it fails, nobody hears that it does.")
        }
        Warning::NoUsual => {
            "No call list is the usual one: alerts that name none tell nobody.".into()
        }
    };
    let destination = |d: &Destination| DestinationRow {
        id: d.id,
        name: d.name.clone(),
        kind: d.kind.words(),
        address: d.address.clone(),
        is_signed: d.is_signed,
    };
    let list = |l: &CallList| ListRow {
        id: l.id,
        name: l.name.clone(),
        steps: l.steps.iter().map(|s| step_words(s, &told.destinations)).collect(),
        is_usual: l.is_usual,
        owner: l.owner.clone(),
    };
    let theirs = teams::all(&state.answers).await?;
    let nobody = Choice::new("", "nobody in particular", typed.team.is_empty());
    let owners = theirs.iter().map(|t| Choice::new(t.id, &t.name, typed.team == t.id.to_string()));
    let owners = std::iter::once(nobody).chain(owners).collect();
    let says = match (told.destinations.len(), told.lists.len()) {
        (0, _) => "Nobody is told of anything yet: begin with a destination.".to_string(),
        (_, 0) => {
            "Nobody is told of anything yet: a call list says who is told, and in what order."
                .into()
        }
        (d, l) => {
            let lists = if l == 1 { "one call list".into() } else { format!("{l} call lists") };
            let told = if d == 1 { "One destination".into() } else { format!("{d} destinations") };
            format!("{told}, {lists}.")
        }
    };
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    html_with(
        status,
        &Page {
            says,
            warnings: told.warnings.iter().map(warning).collect(),
            destinations: told.destinations.iter().map(destination).collect(),
            lists: told.lists.iter().map(list).collect(),
            owners,
            newest: told.newest.iter().map(|n| NoticeRow::of(&frame, n)).collect(),
            kinds: Kind::ALL
                .map(|k| Choice::new(k.word(), k.words(), typed.kind == k.word()))
                .to_vec(),
            // One more than there are, to be filled in.
            steps: typed
                .steps
                .iter()
                .chain([&TypedStep::default()])
                .take(MOST_STEPS)
                .enumerate()
                .map(|(nth, step)| step_fields(nth, step, &told.destinations))
                .collect(),
            typed,
            wrong,
            wrong_form,
            frame,
        },
    )
}

/// `GET /call-lists`: with `change` the call list of that id is filled in.
pub async fn page(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let wanted = fields::one(&query::<Fields>(&request)?, "change");
    let lists = notices::ask(&state.answers, &site).await?.lists;
    let list = lists.iter().find(|l| l.id.to_string() == wanted);
    let typed = Typed {
        kind: "mail".into(),
        list: list.map_or(String::new(), |l| l.name.clone()),
        is_usual: list.is_some_and(|l| l.is_usual),
        team: list.and_then(|l| l.team_id).map_or(String::new(), |id| id.to_string()),
        steps: list.map_or(Vec::new(), |l| l.steps.iter().map(TypedStep::from).collect()),
        ..Typed::default()
    };
    show(&state, &request, typed, ("", None)).await
}

fn here(site: &Site) -> HttpResponse {
    redirect(&format!("{}/call-lists", base(site)))
}

/// `POST /call-lists/destinations`
pub async fn add_destination(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let typed = Typed {
        name: fields::line(&fields, "name", changes::LONGEST_NAME + 1),
        kind: fields::one(&fields, "kind"),
        address: fields::line(&fields, "address", 500),
        ..Typed::default()
    };
    let secret = fields::line(&fields, "secret", 201);
    let Some(kind) = Kind::of_word(&typed.kind) else {
        let wrong = ("address", {
            let all = Kind::ALL.map(Kind::word).join(", ");
            format!("A destination is one of {all}.")
        });
        return show(&state, &request, typed, ("destination", Some(wrong))).await;
    };
    let new = (typed.name.as_str(), kind, typed.address.as_str());
    match changes::add_destination(&state.answers, &by, &site, new, &secret).await? {
        Ok(_) => Ok(here(&site)),
        Err(why) => {
            let wrong = (why.field(), sentence(&capital(&why.to_string())));
            show(&state, &request, typed, ("destination", Some(wrong))).await
        }
    }
}

/// `POST /call-lists/destinations/{id}/test`
pub async fn test(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
) -> Result<HttpResponse, PageError> {
    match changes::test(&state.answers, &by, &site, id).await? {
        true => Ok(here(&site)),
        false => Err(PageError::NotFound(format!("the destination {id}"))),
    }
}

/// `POST /call-lists/destinations/{id}/remove`
pub async fn remove_destination(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
) -> Result<HttpResponse, PageError> {
    changes::remove_destination(&state.answers, &by, &site, id).await?;
    Ok(here(&site))
}

/// `POST /call-lists`: who is told at once, and who later if nobody has acknowledged it, step by step.
pub async fn put_list(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let typed = Typed {
        list: fields::line(&fields, "list", changes::LONGEST_NAME + 1),
        kind: "mail".into(),
        is_usual: !fields::one(&fields, "usual").is_empty(),
        team: fields::one(&fields, "team"),
        steps: (0..MOST_STEPS)
            .map(|nth| TypedStep::of(&fields, nth))
            .filter(|step| !step.to.is_empty())
            .collect(),
        ..Typed::default()
    };
    let steps: Result<Vec<Option<Step>>, String> =
        typed.steps.iter().map(TypedStep::read).collect();
    let steps: Vec<Step> = match steps {
        Ok(steps) => steps.into_iter().flatten().collect(),
        Err(says) => return show(&state, &request, typed, ("list", Some(("steps", says)))).await,
    };
    let team = match typed.team.trim() {
        "" => None,
        // What is no number is no team.
        team => Some(team.parse().unwrap_or(-1)),
    };
    let list = NewList { name: &typed.list, steps: &steps, is_usual: typed.is_usual, team };
    match changes::put_list(&state.answers, &by, &site, list).await? {
        Ok(()) => Ok(here(&site)),
        Err(why) => {
            let wrong = (why.field(), sentence(&capital(&why.to_string())));
            show(&state, &request, typed, ("list", Some(wrong))).await
        }
    }
}

/// `POST /call-lists/{id}/remove`
pub async fn remove_list(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
) -> Result<HttpResponse, PageError> {
    changes::remove_list(&state.answers, &by, &site, id).await?;
    Ok(here(&site))
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::goal::definition::ServiceHours;
    use jiff::civil::time;
    use proptest::prelude::*;

    /// As a browser sends a step that stands in the form at this place.
    fn sent(step: &TypedStep, nth: usize) -> Fields {
        let field = |name: &str, value: &str| (format!("{name}-{nth}"), value.to_string());
        let mut fields = vec![
            field("after", &step.after),
            field("least", &step.least),
            field("open", &step.hours.open),
            field("closed", &step.hours.closed),
        ];
        fields.extend(step.to.iter().map(|id| field("to", id)));
        fields.extend(step.hours.days.iter().map(|day| field("day", day)));
        fields
    }

    proptest! {
        #[test]
        fn a_step_is_what_its_fields_show_and_send_back_wherever_it_stands(
            after_min in 0u32..=1_440, critical in any::<bool>(), nth in 0..10usize,
            destinations in prop::collection::vec(1..99i32, 1..5), days in prop::array::uniform7(any::<bool>()),
        ) {
            let hours = ServiceHours { days, from: time(22, 0, 0, 0), until: time(6, 15, 0, 0) };
            let least = if critical { Severity::Critical } else { Severity::Warning };
            let step = Step { after_min, least, hours: days.contains(&true).then_some(hours), destinations };
            let fields = sent(&TypedStep::from(&step), nth);
            prop_assert_eq!(TypedStep::of(&fields, nth).read(), Ok(Some(step)));
            prop_assert_eq!(TypedStep::of(&fields, nth + 1).read(), Ok(None), "another place has none");
        }
    }

    #[test]
    fn a_step_that_comes_at_no_time_is_told_and_one_of_nobody_is_none() {
        let step = |after: &str, to: &[&str]| TypedStep {
            after: after.into(),
            to: to.iter().map(ToString::to_string).collect(),
            ..TypedStep::default()
        };
        assert_eq!(step("5", &[]).read(), Ok(None));
        assert_eq!(step("", &["1"]).read().unwrap().unwrap().after_min, 0, "at once");
        for wrong in ["soon", "-1", "1.5", "1441"] {
            let says = step(wrong, &["1"]).read().unwrap_err();
            assert!(says.contains("a whole number from 0 to 1440"), "{wrong}: {says}");
        }
        let half = TypedStep {
            hours: Hours { open: "08:00".into(), ..Hours::default() },
            ..step("5", &["1"])
        };
        assert!(half.read().unwrap_err().contains("two times of day"));
    }
}
