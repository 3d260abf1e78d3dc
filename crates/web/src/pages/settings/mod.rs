//! Settings of a site: environments and evidence, secrets, common parts, tokens of programs.

mod programs;
mod shares;

use crate::State;
use crate::access::{By, InSite};
use crate::error::PageError;
use crate::frame::{Frame, base};
use crate::respond::{TWELVE_HOURS, html, redirect};
use crate::view::Wrong;
use crate::words::{domains_of, when};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes;
use cadentis_answers::changes::installation::NotKept;
use cadentis_answers::kept::{Secret, Site};
use cadentis_answers::setup;
use cadentis_core::journey;
use serde::Deserialize;

crate::routes::routes! {
    Edit get "/settings" => page,
    Grave post "/settings/secrets" => secret,
    Edit post "/settings/parts" => parts,
    Grave post "/settings/site" => site,
    Edit get "/settings/shares" => shares::page,
    Edit post "/settings/shares" => shares::make,
    Edit post "/settings/shares/{id}/remove" => shares::remove,
    Administer get "/settings/programs" => programs::page,
    Grave post "/settings/programs" => programs::make,
    Grave post "/settings/programs/{id}/remove" => programs::remove,
}

#[derive(Template)]
#[template(path = "settings.html")]
struct Page {
    frame: Frame,
    secrets: Vec<SecretRow>,
    vault: bool,
    parts: String,
    wrong: Option<Wrong>,
    environments: String,
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

    /// A host that a secret could be for.
    fn usual_host(&self) -> &str {
        self.frame.site.domains.first().map_or("", String::as_str)
    }

    /// What is wrong with the form of this name, if anything is.
    fn wrong_in(&self, form: &str) -> Option<&str> {
        Wrong::of(self.wrong.as_ref(), form)
    }
}

/// A secret of the site, without what it is.
struct SecretRow {
    name: String,
    /// Where it may be typed or sent.
    hosts: String,
    author: String,
    at: String,
}

async fn show(
    state: &State,
    request: &HttpRequest,
    wrong: Option<Wrong>,
    parts: Option<String>,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Settings", TWELVE_HOURS).await?;
    let (zone, domains) = (frame.site.zone.clone(), frame.site.domains.clone());
    let secret = |s: Secret| SecretRow {
        hosts: match s.hosts.as_slice() {
            [] => domains.join(", "),
            hosts => hosts.join(", "),
        },
        name: s.name,
        author: s.author,
        at: when(s.set_at, &zone),
    };
    let secrets = setup::secrets(&state.answers, frame.site.id).await?;
    let environments: Vec<String> =
        frame.site.environments.iter().map(|(n, a)| format!("{n} {a}")).collect();
    html(&Page {
        environments: environments.join("\n"),
        secrets: secrets.into_iter().map(secret).collect(),
        vault: state.answers.has_vault(),
        parts: parts.unwrap_or_else(|| frame.site.parts.clone()),
        wrong,
        frame,
    })
}

/// `GET /{site}/settings`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    show(&state, &request, None, None).await
}

#[derive(Deserialize)]
pub struct Kept {
    name: String,
    #[serde(default)]
    secret: String,
    #[serde(default)]
    hosts: String,
    remove: Option<String>,
}

/// `POST /{site}/settings/secrets`: keeps, replaces or removes a secret. What it is, is never shown again.
pub async fn secret(
    state: web::Data<State>,
    By(by): By,
    InSite(site): InSite,
    request: HttpRequest,
    kept: web::Form<Kept>,
) -> Result<HttpResponse, PageError> {
    let wrong = |says: &str| Some(Wrong { form: "secret", says: says.to_string() });
    if kept.remove.is_some() {
        changes::installation::remove_secret(&state.answers, &by, &site, &kept.name).await?;
        return Ok(redirect(&format!("{}/settings#secrets", base(&site))));
    }
    let no_key = wrong(
        "This server was started without a key: give it --secret-key-file or CADENTIS_SECRET_KEY.",
    );
    let hosts = match kept.hosts.trim() {
        "" => Ok(Vec::new()),
        text => domains_of(&text.replace([',', ' '], "\n")),
    };
    let complaint = if !state.answers.has_vault() {
        no_key
    } else if !journey::text::is_name(&kept.name) {
        wrong("A name is a small letter, then small letters, digits and _; 40 characters at most.")
    } else if kept.secret.chars().count() < 3 {
        wrong(
            "A secret has at least three characters: a shorter one could not be told from other text, and masked.",
        )
    } else if let Err(says) = &hosts {
        wrong(says)
    } else {
        let (answers, secret, hosts) = (&state.answers, &kept.secret, hosts.unwrap_or_default());
        match changes::installation::set_secret(answers, &by, &site, &kept.name, secret, &hosts)
            .await?
        {
            true => return Ok(redirect(&format!("{}/settings#secrets", base(&site)))),
            false => no_key,
        }
    };
    show(&state, &request, complaint, None).await
}

#[derive(Deserialize)]
pub struct Parts {
    parts: String,
}

/// `POST /{site}/settings/parts`: the common parts of the site; refused as long as they cannot be read, or when a
/// script that plays would lose what it follows.
pub async fn parts(
    state: web::Data<State>,
    By(by): By,
    InSite(site): InSite,
    request: HttpRequest,
    given: web::Form<Parts>,
) -> Result<HttpResponse, PageError> {
    let text = given.into_inner().parts.replace("\r\n", "\n");
    let answers = &state.answers;
    let complaint = match changes::installation::set_parts(answers, &by, &site, &text).await? {
        Ok(()) => return Ok(redirect(&format!("{}/settings#parts", base(&site)))),
        Err(NotKept::Unreadable(e)) => format!("Not kept: {e}."),
        Err(NotKept::Needed(journey, e)) => {
            format!("Not kept: {journey} would not play any more: {e}.")
        }
    };
    let wrong = Some(Wrong { form: "parts", says: complaint });
    show(&state, &request, wrong, Some(text)).await
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

/// `POST /{site}/settings/site`: environments, how long evidence is kept, where traces are.
pub async fn site(
    state: web::Data<State>,
    By(by): By,
    InSite(site): InSite,
    request: HttpRequest,
    given: web::Form<About>,
) -> Result<HttpResponse, PageError> {
    match about(site, &given) {
        Ok(site) => {
            changes::installation::set_site(&state.answers, &by, &site).await?;
            Ok(redirect(&format!("{}/settings#site", base(&site))))
        }
        Err(says) => show(&state, &request, Some(Wrong { form: "site", says }), None).await,
    }
}
