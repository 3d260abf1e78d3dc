//! Sites, locations, secrets, common parts.

use super::{Author, noted, noted_change, told};
use crate::{Answers, Result};
use cadentis_core::journey::{self, ScriptError};
use cadentis_core::run::reach::Denied;
use cadentis_core::text::slug;
use cadentis_store::location::NewLocation;
use cadentis_store::script_version::Status;
use cadentis_store::site::{NewSite, Site};
use jiff::Timestamp;
use uuid::Uuid;

/// Who waits this long at most for the largest paint is satisfied: where the good values of LCP end (web.dev, "Largest
/// Contentful Paint"). It can be changed on Collecting.
const SATISFIED_S: f64 = 2.5;

/// Adds a site, and gives it; what it is called in addresses of beacons is drawn by lot.
///
/// # Errors
/// When the database does not answer.
pub async fn add_site(
    answers: &Answers,
    by: &Author,
    name: &str,
    zone: &str,
    domains: &[String],
) -> Result<Option<Site>> {
    let key = Uuid::new_v4().simple().to_string();
    let families = &[];
    let new = NewSite { key: &key, name, zone, domains, families, apdex_t_s: SATISFIED_S };
    let one = answers.one().await?;
    one.db.add_site(&new).await?;
    noted(one, by, "added the site", name).await?;
    Ok(answers.db.site_by_key(&key).await?)
}

/// Changes what a site is called, its zone and its domains; `false` when another one has that name in addresses.
///
/// # Errors
/// When the database does not answer.
pub async fn rename_site(answers: &Answers, by: &Author, site: &Site) -> Result<bool> {
    let one = answers.one().await?;
    let before = told::site_now(&one, site.id).await?;
    let done = one.db.rename_site(site).await?;
    if done {
        let after = told::site_now(&one, site.id).await?;
        noted_change(one, by, "changed the site", &site.name, (&before, &after)).await?;
    }
    Ok(done)
}

/// Lets a site rest: nothing is played there and no page view is taken, and what was measured stays. Or lets it go on.
///
/// # Errors
/// When the database does not answer.
pub async fn set_archived(
    answers: &Answers,
    by: &Author,
    site: &Site,
    archived: bool,
) -> Result<()> {
    let one = answers.one().await?;
    one.db.set_archived(site.id, archived).await?;
    let what = if archived { "archived the site" } else { "took up again the site" };
    noted(one, by, what, &site.name).await
}

/// Changes environments of a site, how long evidence is kept, where traces are.
///
/// # Errors
/// When the database does not answer.
pub async fn set_site(answers: &Answers, by: &Author, site: &Site) -> Result<()> {
    let one = answers.one().await?;
    let before = told::site_now(&one, site.id).await?;
    one.db.set_site(site).await?;
    let after = told::site_now(&one, site.id).await?;
    noted_change(one, by, "changed the site", &site.name, (&before, &after)).await
}

/// Why common parts are not kept.
pub enum NotKept {
    /// They cannot be read.
    Unreadable(ScriptError),
    /// A journey that plays would lose what it follows: its name, and what would be wrong with its script.
    Needed(String, ScriptError),
}

/// Keeps the common parts of a site's scripts.
///
/// # Errors
/// When the database does not answer.
pub async fn set_parts(
    answers: &Answers,
    by: &Author,
    site: &Site,
    text: &str,
) -> Result<std::result::Result<(), NotKept>> {
    let shared = match journey::parts(text) {
        Ok(shared) => shared,
        Err(e) => return Ok(Err(NotKept::Unreadable(e))),
    };
    let one = answers.one().await?;
    let journeys = one.db.journeys(site.id).await?;
    let playing = journeys.iter().filter(|j| j.status != Status::Archived.word());
    for j in playing {
        if let Some(e) = journey::problems(&j.script, &shared).into_iter().next() {
            return Ok(Err(NotKept::Needed(j.name.clone(), e)));
        }
    }
    let before = told::site_now(&one, site.id).await?;
    one.db.set_parts(site.id, text).await?;
    let after = told::site_now(&one, site.id).await?;
    let parts = (&before, &after);
    noted_change(one, by, "changed the common parts of", &site.name, parts).await?;
    Ok(Ok(()))
}

/// Keeps a secret, or replaces it, for these hosts or, without any, the domains of the site; `false` when this server has no key to seal it with.
///
/// # Errors
/// When the database does not answer.
pub async fn set_secret(
    answers: &Answers,
    by: &Author,
    site: &Site,
    name: &str,
    secret: &str,
    hosts: &[String],
) -> Result<bool> {
    let Some(vault) = &answers.vault else { return Ok(false) };
    let one = answers.one().await?;
    let before = told::secret_now(&one, site.id, name).await?;
    one.db.set_secret(vault, site.id, (name, secret), hosts, by.name(), Timestamp::now()).await?;
    let after = told::secret_now(&one, site.id, name).await?;
    noted_change(one, by, "set the secret", name, (&before, &after)).await?;
    Ok(true)
}

/// Removes a secret.
///
/// # Errors
/// When the database does not answer.
pub async fn remove_secret(answers: &Answers, by: &Author, site: &Site, name: &str) -> Result<()> {
    let one = answers.one().await?;
    let before = told::secret_now(&one, site.id, name).await?;
    one.db.remove_secret(site.id, name).await?;
    noted_change(one, by, "removed the secret", name, (&before, &Vec::new())).await
}

/// A location that is to be.
pub struct Located<'a> {
    /// Its name.
    pub name: &'a str,
    /// ISO 3166 code of its country.
    pub country: &'a str,
    /// `public` or `in-house`.
    pub kind: &'a str,
    /// Its time zone.
    pub zone: &'a str,
    /// Latitude and longitude, in degrees.
    pub at: Option<(f64, f64)>,
    /// SOCKS5 proxy that leads out of it.
    pub proxy: Option<&'a str>,
    /// Networks that its runner must not reach.
    pub denied: Denied,
}

/// A location and what its runners show; the token is told this once.
pub struct Token {
    /// The location's name.
    pub name: String,
    /// Its name in addresses.
    pub slug: String,
    /// What its runners show.
    pub token: String,
}

fn new_token() -> String {
    Uuid::new_v4().simple().to_string() + &Uuid::new_v4().simple().to_string()
}

/// Adds a location; `None` when there is one of that name already, or the name has no letter that an address could have.
///
/// # Errors
/// When the database does not answer.
pub async fn add_location(answers: &Answers, by: &Author, l: Located<'_>) -> Result<Option<Token>> {
    let wanted = slug(l.name);
    let one = answers.one().await?;
    let known = one.db.locations().await?;
    if wanted.is_empty() || known.iter().any(|k| k.slug == wanted) {
        return Ok(None);
    }
    let token = new_token();
    let new = NewLocation {
        slug: &wanted,
        name: l.name,
        country: l.country,
        kind: l.kind,
        zone: l.zone,
        token: &token,
        at: l.at,
        proxy: l.proxy,
        denied: l.denied,
    };
    one.db.add_location(&new).await?;
    noted(one, by, "added the location", &wanted).await?;
    Ok(Some(Token { name: l.name.into(), slug: wanted, token }))
}

/// Changes where a location is, which proxy leads out of it, what must not be reached from there.
///
/// # Errors
/// When the database does not answer.
pub async fn move_location(
    answers: &Answers,
    by: &Author,
    slug: &str,
    at: Option<(f64, f64)>,
    proxy: Option<&str>,
    denied: &Denied,
) -> Result<()> {
    let one = answers.one().await?;
    let before = told::location_now(&one, slug).await?;
    one.db.set_where(slug, at, proxy, denied).await?;
    let after = told::location_now(&one, slug).await?;
    noted_change(one, by, "moved the location", slug, (&before, &after)).await
}

/// Gives a location a new token; the old one is worth nothing from now on. `None` when there is no such location.
///
/// # Errors
/// When the database does not answer.
pub async fn renew_token(answers: &Answers, by: &Author, slug: &str) -> Result<Option<Token>> {
    let one = answers.one().await?;
    let locations = one.db.locations().await?;
    let Some(location) = locations.into_iter().find(|l| l.slug == slug) else { return Ok(None) };
    let token = new_token();
    one.db.set_token(&location.slug, &token).await?;
    noted(one, by, "renewed the token of", &location.slug).await?;
    Ok(Some(Token { name: location.name, slug: location.slug, token }))
}
