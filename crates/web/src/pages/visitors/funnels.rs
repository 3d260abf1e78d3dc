//! Funnels: which visits go on from page to page, where the others stop, and how it was for them there.

use super::filter::FilterLine;
use super::lanes::{self, Lanes, Words};
use super::{Tabs, tabs};
use crate::State;
use crate::access::{By, InSite};
use crate::error::PageError;
use crate::filters;
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, base};
use crate::respond::{TWELVE_HOURS, html, redirect};
use crate::view::Working;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes;
use cadentis_answers::funnels::{self, Followed};
use cadentis_answers::kept::SavedFunnel;
use cadentis_answers::visitors;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::stats::{Reading, share};
use cadentis_core::visitor::funnel::Step;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "funnels.html")]
struct Page {
    frame: Frame,
    tabs: Tabs,
    filter: FilterLine,
    says: String,
    funnels: Vec<Drawn>,
    families: Vec<String>,
    wrong: Option<String>,
    typed: Typed,
    proof: Vec<Working>,
}

struct Drawn {
    name: String,
    says: String,
    within: String,
    steps: Vec<StepRow>,
    lanes: Lanes,
}

struct StepRow {
    family: String,
    reached: String,
    people: String,
    of_all: String,
    of_step: String,
    against: String,
    w: f64,
    lost: String,
    /// Widths of those who left before it had loaded, who waited or met errors, and of the others.
    losses: [f64; 3],
    loss_says: String,
    onwards: String,
    went_on: String,
    left: String,
    /// What share of those who left and of those who went on had waited long or met an error, when it tells.
    tells: Option<String>,
    last: bool,
}

#[derive(Debug, Default, Deserialize)]
pub struct Typed {
    #[serde(default)]
    name: String,
    #[serde(default)]
    minutes: String,
    #[serde(default)]
    step1: String,
    #[serde(default)]
    step2: String,
    #[serde(default)]
    step3: String,
    #[serde(default)]
    step4: String,
    #[serde(default)]
    step5: String,
    #[serde(default)]
    step6: String,
}

impl Typed {
    fn steps(&self) -> [&str; 6] {
        [&self.step1, &self.step2, &self.step3, &self.step4, &self.step5, &self.step6]
            .map(|s| s.trim())
    }
}

pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    show(&state, &request, None, Typed::default()).await
}

async fn show(
    state: &State,
    request: &HttpRequest,
    wrong: Option<String>,
    typed: Typed,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Visitors", TWELVE_HOURS).await?;
    let (site_id, range, past) = (frame.site.id, frame.range(), frame.past());
    let (found, attributes) = futures::try_join!(
        funnels::ask(&state.answers, site_id, &range),
        visitors::attributes(&state.answers, site_id, past),
    )?;
    let words = Words {
        title: "The funnel over time",
        count: "Began",
        failed: "Lost on the way",
        time: "To the end",
        of_what: "visits that began",
    };
    let drawn = |f: &Followed| {
        let before = f.before.as_ref().map_or(&[][..], |t| &t.over);
        drawn(f, lanes::of_buckets(&frame, &words, &f.now.over, before, found.bucket_s))
    };
    let funnels: Vec<Drawn> = found.funnels.iter().map(drawn).collect();
    let mut families: Vec<String> =
        frame.site.patterns.iter().map(|(_, name)| name.clone()).collect();
    families.dedup();
    let says = match funnels.first() {
        None => "No funnel yet: say below which page families follow one another.".to_string(),
        Some(f) => format!("{}: {}", f.name, f.says),
    };
    let proof = vec![Working::new(
        "Funnels",
        vec![
            format!("{} {}, {} to {}.", frame.words, frame.zone, past.from, past.to),
            "A visit counts once, from its first page view of the first family; other pages between are allowed, the order is not. Whoever is not at the next page within the time is lost at this one.".into(),
            "Shares refer to all who began; beside them from step to step. Completions and losses add up to all who began.".into(),
            "Timeline time each visit stands where it began. Those that began less than the funnel’s time before the end may still come to its end: until then they count as lost.".into(),
            "Left before it had loaded: the page view was abandoned. Waited or met an error: LCP was poor (over 4 s), the page stayed blank, or a script error happened. The rest stopped on a page that worked.".into(),
            "Shares of those in trouble stand there when the share of those who waited long or met an error is surely higher among those who left a page that had loaded than among those who went on (95 % interval of the difference, Newcombe).".into(),
        ],
    )];
    html(&Page {
        tabs: tabs(&frame, "/visitors/funnels"),
        filter: FilterLine::of(&frame, &attributes),
        says,
        funnels,
        families,
        wrong,
        typed,
        proof,
        frame,
    })
}

const BAR: f64 = 420.0;

fn drawn(followed: &Followed, lanes: Lanes) -> Drawn {
    let (now, then) = (&followed.now, followed.before.as_ref());
    let began = now.began();
    let worst = now.steps.iter().max_by_key(|s| s.lost).filter(|s| s.lost > 0);
    let done = format::percent(share(now.completed(), began), 0, None);
    let says = match worst {
        _ if began == 0 => "no visit began in this stretch.".to_string(),
        None => format!("all {} visits came to the end.", format::thousands(began)),
        Some(w) => format!(
            "{done} of {} visits came to the end; most were lost on “{}”: {}, {} of them in trouble.",
            format::thousands(began),
            w.family,
            format::thousands(w.lost),
            format::thousands(w.abandoned + w.troubled)
        ),
    };
    let reading = |r: &Option<Reading>| {
        r.as_ref()
            .and_then(|r| r.value)
            .map_or(NO_DATA.into(), |v| format!("{} s", format::seconds(v)))
    };
    let mut before: Option<&Step> = None;
    let mut steps = Vec::new();
    for (nth, s) in now.steps.iter().enumerate() {
        let was = then.and_then(|t| t.steps.get(nth).and_then(|s| s.of_all(t.began())));
        let of = |n: u64| BAR * share(n, began).unwrap_or(0.0);
        let calm = s.lost - s.abandoned - s.troubled;
        steps.push(StepRow {
            family: s.family.clone(),
            reached: format::thousands(s.reached),
            people: format::thousands(s.people),
            of_all: format::percent(s.of_all(began), 1, None),
            of_step: before.map_or("–".into(), |b| format::percent(share(s.reached, b.reached), 1, None)),
            against: was.map_or("–".into(), |w| format::percent(Some(w), 1, None)),
            w: of(s.reached),
            lost: format::thousands(s.lost),
            losses: [of(s.abandoned), of(s.troubled), of(calm)],
            loss_says: format!(
                "{} left before it had loaded, {} waited long or met an error, {calm} stopped on a page that worked",
                s.abandoned, s.troubled
            ),
            onwards: s.onwards.and_then(|r| r.value).map_or("–".into(), length_text),
            went_on: reading(&s.went_on),
            left: reading(&s.left),
            tells: s.trouble_tells.then(|| {
                let of = |n: u64, all: u64| format::percent(share(n, all), 1, None);
                format!(
                    "{} of them in trouble, {} of those who went on",
                    of(s.troubled, s.lost - s.abandoned),
                    of(s.troubled_on, s.reached - s.lost)
                )
            }),
            last: nth + 1 == now.steps.len(),
        });
        before = Some(s);
    }
    Drawn {
        name: followed.name.clone(),
        says,
        within: length_text(f64::from(followed.within_s) * 1_000.0),
        steps,
        lanes,
    }
}

/// `POST /visitors/funnels`: keeps a funnel.
pub async fn save(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let typed = typed.into_inner();
    let steps: Vec<String> =
        typed.steps().iter().filter(|s| !s.is_empty()).map(|s| s.to_string()).collect();
    let minutes = typed.minutes.trim().parse::<i32>().ok().filter(|m| (1..=1_440).contains(m));
    let twice = steps.iter().enumerate().any(|(i, s)| steps[..i].contains(s));
    let wrong = match (typed.name.trim(), steps.len(), minutes) {
        ("", ..) => Some("A funnel needs a name."),
        (name, ..) if name.chars().count() > 60 => Some("A name has at most 60 characters."),
        (_, 0..=1, _) => Some("A funnel has at least two page families."),
        (_, _, None) => Some("The time is from 1 to 1440 minutes."),
        _ if twice => Some("A page family stands in a funnel once."),
        _ => None,
    };
    if let Some(wrong) = wrong {
        return show(&state, &request, Some(wrong.into()), typed).await;
    }
    let name = typed.name.trim().to_string();
    let funnel = SavedFunnel { name, steps, within_s: minutes.unwrap_or(60) * 60 };
    changes::visitors::save_funnel(&state.answers, &by, &site, &funnel).await?;
    Ok(redirect(&format!("{}/visitors/funnels?{}", base(&site), request.query_string())))
}

#[derive(Debug, Deserialize)]
pub struct Named {
    name: String,
}

/// `POST /visitors/funnels/delete`
pub async fn delete(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    named: web::Form<Named>,
) -> Result<HttpResponse, PageError> {
    changes::visitors::delete_funnel(&state.answers, &by, &site, &named.name).await?;
    Ok(redirect(&format!("{}/visitors/funnels?{}", base(&site), request.query_string())))
}
