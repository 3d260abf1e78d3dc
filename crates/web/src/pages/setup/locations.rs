//! Locations with their runners, and how this server is.

use crate::State;
use crate::access::{By, who};
use crate::around::Around;
use crate::error::PageError;
use crate::ops;
use crate::respond::{html, redirect, with_header};
use crate::view::Wrong;
use actix_web::http::header::CACHE_CONTROL;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes;
use cadentis_answers::changes::installation::{Located, Token};
use cadentis_answers::kept::Runner;
use cadentis_answers::setup::{self, Manned, Presence};
use cadentis_core::calendar;
use cadentis_core::run::reach::Denied;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use std::net::SocketAddr;

#[derive(Template)]
#[template(path = "locations.html")]
struct Page {
    around: Around,
    says: String,
    locations: Vec<LocationRow>,
    wrong: Option<Wrong>,
    /// A new runner's token: shown once.
    told: Option<Token>,
    address: String,
    typed: Typed,
    /// How this server is: sentence, tone.
    server: Vec<ops::Sentence>,
}

impl Page {
    /// What is wrong with the form of this name, if anything is.
    fn wrong_in(&self, form: &str) -> Option<&str> {
        Wrong::of(self.wrong.as_ref(), form)
    }
}

struct LocationRow {
    name: String,
    slug: String,
    kind: String,
    country: String,
    zone: String,
    at: String,
    proxy: String,
    denied: String,
    runners: Vec<String>,
    tone: &'static str,
    state: String,
}

/// What was typed into the form for a new location.
#[derive(Default, Deserialize)]
pub struct Typed {
    name: String,
    country: String,
    kind: String,
    zone: String,
    #[serde(default)]
    latitude: String,
    #[serde(default)]
    longitude: String,
    #[serde(default)]
    proxy: String,
    /// Networks that must not be reached; nothing said: what is usual for its kind.
    denied: Option<String>,
}

/// Where a location is and what may be reached from it.
struct Place {
    /// In degrees.
    at: Option<(f64, f64)>,
    proxy: Option<String>,
    denied: Denied,
}

/// Reads the fields of a place; those left empty are nothing.
fn place(latitude: &str, longitude: &str, proxy: &str, denied: &str) -> Result<Place, String> {
    let degrees =
        |text: &str, most: f64| text.trim().parse::<f64>().ok().filter(|d| d.abs() <= most);
    let at =
        match (latitude.trim(), longitude.trim()) {
            ("", "") => None,
            _ => Some(degrees(latitude, 90.0).zip(degrees(longitude, 180.0)).ok_or(
                "Coordinates are degrees: latitude -90 to 90, longitude -180 to 180, such as 60.39 and 5.32.",
            )?),
        };
    let proxy = Some(proxy.trim()).filter(|p| !p.is_empty());
    if proxy.is_some_and(|p| p.parse::<SocketAddr>().is_err()) {
        return Err(
            "A proxy is the address and port of a SOCKS5 server, such as 10.0.0.5:1080.".into()
        );
    }
    let denied = Denied::parse(denied.split_whitespace())
        .map_err(|says| format!("Denied networks: {says}."))?;
    Ok(Place { at, proxy: proxy.map(String::from), denied })
}

fn ago(at: Timestamp, now: Timestamp) -> String {
    match now.duration_since(at).as_secs() {
        s if s < 90 => format!("{} s ago", s.max(0)),
        s if s < 5_400 => format!("{} min ago", s / 60),
        s if s < 172_800 => format!("{} h ago", s / 3_600),
        s => format!("{} days ago", s / 86_400),
    }
}

fn runner_says(r: &Runner, now: Timestamp) -> String {
    let program = if r.program.is_empty() {
        "unknown version".into()
    } else {
        format!("version {}", r.program)
    };
    // Whoever plays does not ask: being busy and silent for a while belong together.
    let busy = r.busy_since.filter(|at| now.duration_since(*at) < SignedDuration::from_secs(120));
    let doing = busy.map_or(String::new(), |at| {
        format!(", playing for {} s", now.duration_since(at).as_secs().max(0))
    });
    let kept = match r.kept {
        0 => String::new(),
        1 => ", keeps one record that was not taken".into(),
        n => format!(", keeps {n} records that were not taken"),
    };
    format!(
        "{}: {program}, protocol {}, asked for work {}{doing}{kept}",
        r.name,
        r.protocol,
        ago(r.seen_at, now)
    )
}

fn location_row(manned: Manned, now: Timestamp) -> LocationRow {
    let l = manned.location;
    let (tone, words) = match manned.presence {
        Presence::Never => ("nodata", "no runner has asked for work yet".to_string()),
        Presence::Away(at) => ("broken", format!("away: last asked {}", ago(at, now))),
        Presence::There(at) => ("within", format!("there: asked {}", ago(at, now))),
    };
    let at = l.latitude.zip(l.longitude);
    LocationRow {
        name: l.name,
        slug: l.slug,
        kind: l.kind,
        country: l.country,
        zone: l.zone,
        at: at.map_or(String::new(), |(lat, lon)| format!("{lat:.2}, {lon:.2}")),
        proxy: l.proxy.unwrap_or_default(),
        denied: l.denied.join(" "),
        runners: manned.runners.iter().map(|r| runner_says(r, now)).collect(),
        tone,
        state: words,
    }
}

/// Which locations have nobody who plays there.
fn absent_says(locations: &[LocationRow]) -> String {
    let away: Vec<&str> =
        locations.iter().filter(|l| l.tone != "within").map(|l| l.name.as_str()).collect();
    match away.as_slice() {
        [] => "Every location has a runner that asks for work.".into(),
        [one] => format!("{one} has no runner that asks for work: its runs are missing."),
        [others @ .., last] if away.len() <= 3 => format!(
            "{} and {last} have no runner that asks for work: their runs are missing.",
            others.join(", ")
        ),
        _ => format!(
            "{} of {} locations have no runner that asks for work: their runs are missing.",
            away.len(),
            locations.len()
        ),
    }
}

async fn show(
    state: &State,
    request: &HttpRequest,
    wrong: Option<Wrong>,
    told: Option<Token>,
    typed: Typed,
) -> Result<HttpResponse, PageError> {
    let who = who(request).ok_or(PageError::SignedOut)?;
    let now = Timestamp::now();
    let manned = setup::locations(&state.answers, now).await?;
    let locations: Vec<LocationRow> = manned.into_iter().map(|l| location_row(l, now)).collect();
    let secret = told.is_some();
    let page = html(&Page {
        around: Around::new(who, "/setup"),
        says: absent_says(&locations),
        locations,
        wrong,
        told,
        address: state.door.address(request),
        typed,
        server: ops::sentences(&ops::Pulse::of(state).await),
    })?;
    // A token is shown once: nobody who goes back later finds it.
    Ok(if secret { with_header(page, CACHE_CONTROL, "no-store") } else { page })
}

/// `GET /setup`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    show(&state, &request, None, None, Typed::default()).await
}

/// `POST /setup/locations`: a new location and the token of its runner, shown once.
pub async fn location(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let typed = typed.into_inner();
    let (name, country) = (typed.name.trim(), typed.country.trim().to_uppercase());
    let denied = typed.denied.clone().unwrap_or_else(|| {
        let usual = if typed.kind == "public" { Denied::to_public() } else { Denied::default() };
        usual.texts().join(" ")
    });
    let place = place(&typed.latitude, &typed.longitude, &typed.proxy, &denied);
    let complaint = if name.is_empty() || name.chars().count() > 60 {
        Some("A location needs a name of at most 60 characters.".to_string())
    } else if country.len() != 2 || !country.bytes().all(|b| b.is_ascii_uppercase()) {
        Some("A country is two letters, as ISO 3166 has them: NO, CA, JP.".into())
    } else if !["public", "in-house"].contains(&typed.kind.as_str()) {
        Some("A location is public or in-house.".into())
    } else if let Err(e) = calendar::zone(&typed.zone) {
        Some(format!("{e}."))
    } else {
        place.as_ref().err().cloned()
    };
    let (None, Ok(place)) = (&complaint, place) else {
        return show(
            &state,
            &request,
            Some(Wrong { form: "location", says: complaint.unwrap_or_default() }),
            None,
            typed,
        )
        .await;
    };
    let new = Located {
        name,
        country: &country,
        kind: &typed.kind,
        zone: &typed.zone,
        at: place.at,
        proxy: place.proxy.as_deref(),
        denied: place.denied,
    };
    match changes::installation::add_location(&state.answers, &by, new).await? {
        Some(told) => show(&state, &request, None, Some(told), Typed::default()).await,
        None => {
            let says = format!("There is a location of that name already: {name}.");
            show(&state, &request, Some(Wrong { form: "location", says }), None, typed).await
        }
    }
}

#[derive(Deserialize)]
pub struct Moved {
    slug: String,
    latitude: String,
    longitude: String,
    proxy: String,
    #[serde(default)]
    denied: String,
}

/// `POST /setup/place`: where a location is, which proxy leads out of it, what must not be reached from there.
pub async fn move_location(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
    moved: web::Form<Moved>,
) -> Result<HttpResponse, PageError> {
    match place(&moved.latitude, &moved.longitude, &moved.proxy, &moved.denied) {
        Ok(Place { at, proxy, denied }) => {
            let proxy = proxy.as_deref();
            changes::installation::move_location(
                &state.answers,
                &by,
                &moved.slug,
                at,
                proxy,
                &denied,
            )
            .await?;
            Ok(redirect("/setup"))
        }
        Err(says) => {
            show(&state, &request, Some(Wrong { form: "place", says }), None, Typed::default())
                .await
        }
    }
}

#[derive(Deserialize)]
pub struct Renewed {
    slug: String,
}

/// `POST /setup/token`: a new token for a location; the old one is worth nothing from now on.
pub async fn token(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
    renewed: web::Form<Renewed>,
) -> Result<HttpResponse, PageError> {
    let told = changes::installation::renew_token(&state.answers, &by, &renewed.slug).await?;
    let told = told.ok_or_else(|| PageError::NotFound(format!("the location {}", renewed.slug)))?;
    show(&state, &request, None, Some(told), Typed::default()).await
}
