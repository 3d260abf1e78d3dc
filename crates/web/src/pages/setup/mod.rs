//! Setup: locations with their runners, secrets, common parts.

pub mod first_site;

use crate::State;
use crate::access::By;
use crate::error::PageError;
use crate::frame::Frame;
use crate::ops;
use crate::respond::{TWELVE_HOURS, html, redirect, with_header};
use actix_web::http::header::CACHE_CONTROL;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes;
use cadentis_answers::changes::installation::{Located, NotKept, Token};
use cadentis_answers::kept::{Runner, Secret, Site};
use cadentis_answers::setup::{self, Manned, Presence};
use cadentis_core::calendar;
use cadentis_core::journey;
use cadentis_core::run::reach::Denied;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use std::net::SocketAddr;

#[derive(Template)]
#[template(path = "setup.html")]
struct Page {
    frame: Frame,
    says: String,
    locations: Vec<LocationRow>,
    secrets: Vec<SecretRow>,
    vault: bool,
    parts: String,
    wrong: Option<Wrong>,
    /// A new runner's token: shown once.
    told: Option<Token>,
    address: String,
    typed: Typed,
    environments: String,
    /// How this server is: sentence, tone.
    server: Vec<ops::Sentence>,
}

/// What is wrong with one of the forms.
struct Wrong {
    form: &'static str,
    says: String,
}

impl Page {
    /// Whether what is grave can be changed now.
    fn is_open(&self) -> bool {
        self.frame.who.administers() && !self.frame.who.has_to_prove()
    }

    /// What the field of common parts could be filled in with.
    fn parts_example(&self) -> &'static str {
        "part \"Sign in\"\n  type \"ada\" into field \"User\"\n  type \"{secret desk_password}\" into field \"Password\"\n  press button \"Sign in\""
    }

    /// What is wrong with the form of this name, if anything is.
    fn wrong_in(&self, form: &str) -> Option<&str> {
        self.wrong.as_ref().filter(|w| w.form == form).map(|w| w.says.as_str())
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

/// A secret of the site, without what it is.
struct SecretRow {
    name: String,
    author: String,
    at: String,
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
    format!(
        "{}: {program}, protocol {}, asked for work {}{doing}",
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
    parts: Option<String>,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Setup", TWELVE_HOURS).await?;
    let now = frame.now;
    let set_up = setup::ask(&state.answers, frame.site.id, now).await?;
    let locations: Vec<LocationRow> =
        set_up.locations.into_iter().map(|l| location_row(l, now)).collect();
    let says = absent_says(&locations);
    let zone = frame.site.zone.clone();
    let secret = |s: Secret| SecretRow {
        name: s.name,
        author: s.author,
        at: s.set_at.to_zoned(zone.clone()).strftime("%-d %b %Y %H:%M %Z").to_string(),
    };
    let secrets = set_up.secrets.into_iter().map(secret).collect();
    let address = state.door.address(request);
    let parts = parts.unwrap_or_else(|| frame.site.parts.clone());
    let vault = state.answers.has_vault();
    let server = ops::sentences(&ops::Pulse::of(state).await);
    let environments: Vec<String> =
        frame.site.environments.iter().map(|(n, a)| format!("{n} {a}")).collect();
    let environments = environments.join("\n");
    let secret = told.is_some();
    let page = html(&Page {
        server,
        environments,
        says,
        locations,
        secrets,
        vault,
        parts,
        wrong,
        told,
        address: address.clone(),
        typed,
        frame,
    })?;
    // A token is shown once: nobody who goes back later finds it.
    Ok(if secret { with_header(page, CACHE_CONTROL, "no-store") } else { page })
}

/// `GET /setup`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    show(&state, &request, None, None, Typed::default(), None).await
}

#[derive(Deserialize)]
pub struct Kept {
    name: String,
    #[serde(default)]
    secret: String,
    remove: Option<String>,
}

/// `POST /setup/secrets`: keeps, replaces or removes a secret. What it is, is never shown again.
pub async fn secret(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
    kept: web::Form<Kept>,
) -> Result<HttpResponse, PageError> {
    let wrong = |says: &str| Some(Wrong { form: "secret", says: says.to_string() });
    let site = state.site().await?;
    if kept.remove.is_some() {
        changes::installation::remove_secret(&state.answers, &by, &site, &kept.name).await?;
        return Ok(redirect("/setup#secrets"));
    }
    let no_key = wrong(
        "This server was started without a key: give it --secret-key-file or CADENTIS_SECRET_KEY.",
    );
    let complaint = if !state.answers.has_vault() {
        no_key
    } else if !journey::text::is_name(&kept.name) {
        wrong("A name is a small letter, then small letters, digits and _; 40 characters at most.")
    } else if kept.secret.chars().count() < 3 {
        wrong(
            "A secret has at least three characters: a shorter one could not be told from other text, and masked.",
        )
    } else {
        let (answers, secret) = (&state.answers, &kept.secret);
        match changes::installation::set_secret(answers, &by, &site, &kept.name, secret).await? {
            true => return Ok(redirect("/setup#secrets")),
            false => no_key,
        }
    };
    show(&state, &request, complaint, None, Typed::default(), None).await
}

#[derive(Deserialize)]
pub struct Parts {
    parts: String,
}

/// `POST /setup/parts`: the common parts of the site; refused as long as they cannot be read, or when a
/// script that plays would lose what it follows.
pub async fn parts(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
    given: web::Form<Parts>,
) -> Result<HttpResponse, PageError> {
    let text = given.into_inner().parts.replace("\r\n", "\n");
    let site = state.site().await?;
    let answers = &state.answers;
    let complaint = match changes::installation::set_parts(answers, &by, &site, &text).await? {
        Ok(()) => return Ok(redirect("/setup#parts")),
        Err(NotKept::Unreadable(e)) => format!("Not kept: {e}."),
        Err(NotKept::Needed(journey, e)) => {
            format!("Not kept: {journey} would not play any more: {e}.")
        }
    };
    let wrong = Some(Wrong { form: "parts", says: complaint });
    show(&state, &request, wrong, None, Typed::default(), Some(text)).await
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
            None,
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
        Some(told) => show(&state, &request, None, Some(told), Typed::default(), None).await,
        None => {
            let says = format!("There is a location of that name already: {name}.");
            show(&state, &request, Some(Wrong { form: "location", says }), None, typed, None).await
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
            show(
                &state,
                &request,
                Some(Wrong { form: "place", says }),
                None,
                Typed::default(),
                None,
            )
            .await
        }
    }
}

#[derive(Deserialize)]
pub struct About {
    environments: String,
    keep_days: String,
    keep_failed_days: String,
    trace_link: String,
}

/// The site as the form says it should be, or what is wrong with the form.
fn about(site: Site, about: &About) -> Result<Site, String> {
    let mut environments = Vec::new();
    for (nth, line) in
        about.environments.lines().map(str::trim).filter(|l| !l.is_empty()).enumerate()
    {
        let wrong = || {
            format!(
                "Environment {}: a name and an address, such as production https://book.marram.example",
                nth + 1
            )
        };
        let (name, address) = line.rsplit_once(' ').ok_or_else(wrong)?;
        if !address.starts_with("http://") && !address.starts_with("https://")
            || name.trim().is_empty()
        {
            return Err(wrong());
        }
        environments
            .push((name.trim().chars().take(40).collect(), address.chars().take(200).collect()));
    }
    let days = |text: &str, most: i32, what: &str| {
        let days = text.trim().parse::<i32>().ok().filter(|d| (1..=most).contains(d));
        days.ok_or_else(|| format!("{what}: a whole number of days from 1 to {most}."))
    };
    let keep_days = days(&about.keep_days, 400, "Evidence")?;
    let keep_failed_days = days(&about.keep_failed_days, 800, "Evidence of failed runs")?;
    if keep_failed_days < keep_days {
        return Err("Evidence of failed runs is kept at least as long as the rest.".into());
    }
    let trace_link: String = about.trace_link.trim().chars().take(300).collect();
    let is_link = trace_link.starts_with("http") && trace_link.contains("{trace}");
    if !(trace_link.is_empty() || is_link) {
        return Err("A link to traces is an address with {trace} where the id goes.".into());
    }
    Ok(Site { environments, keep_days, keep_failed_days, trace_link, ..site })
}

/// `POST /setup/site`: environments, how long evidence is kept, where traces are.
pub async fn site(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
    given: web::Form<About>,
) -> Result<HttpResponse, PageError> {
    let site = state.site().await?;
    match about(site, &given) {
        Ok(site) => {
            changes::installation::set_site(&state.answers, &by, &site).await?;
            Ok(redirect("/setup#site"))
        }
        Err(says) => {
            show(&state, &request, Some(Wrong { form: "site", says }), None, Typed::default(), None)
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
    show(&state, &request, None, Some(told), Typed::default(), None).await
}
