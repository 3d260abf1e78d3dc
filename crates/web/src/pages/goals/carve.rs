//! Time is taken out of a goal, and put back.

use super::goal_of;
use crate::State;
use crate::access::{After, By, InSite};
use crate::error::PageError;
use crate::fields::moment;
use crate::frame::base;
use crate::respond::redirect;
use actix_web::{HttpResponse, web};
use cadentis_answers::changes::goals::{self as changes, LONGEST_WHY};
use cadentis_answers::kept::{Goal, Site};
use cadentis_core::calendar::Stretch;
use cadentis_core::text;
use jiff::tz::TimeZone;
use serde::Deserialize;

#[derive(Deserialize)]
pub struct Typed {
    from: String,
    to: String,
    #[serde(default)]
    why: String,
}

impl Typed {
    fn read(&self, zone: &TimeZone) -> Result<(Stretch, String), String> {
        let (from, to) = (moment(&self.from, zone)?, moment(&self.to, zone)?);
        let stretch = Stretch::new(from, to).map_err(|e| e.to_string())?;
        let why = text::clean(self.why.trim(), LONGEST_WHY, None);
        match why.is_empty() {
            true => Err("say why: whoever reads the report will ask".into()),
            false => Ok((stretch, why)),
        }
    }
}

fn back(site: &Site, goal: &Goal) -> HttpResponse {
    redirect(&format!("{}/goals#goal-{}", base(site), goal.id))
}

/// `POST /goals/{id}/carve-outs`
pub async fn carve_out(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let goal = goal_of(&state, &site, id.0).await?;
    let (stretch, why) = typed.read(&site.zone).map_err(|says| {
        PageError::Refused(format!(
            "Nothing was taken out: {says}. Go back: what you typed is there."
        ))
    })?;
    changes::carve_out(&state.answers, &by, &site, &goal, (stretch, &why)).await?;
    Ok(back(&site, &goal))
}

/// `POST /goals/{id}/carve-outs/{carve_out}/revoke`
pub async fn revoke(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    path: web::Path<(String, i32, i32)>,
) -> Result<HttpResponse, PageError> {
    let (_, id, carve_out) = path.into_inner();
    let goal = goal_of(&state, &site, id).await?;
    match changes::revoke(&state.answers, &by, &site, &goal, carve_out).await? {
        true => Ok(back(&site, &goal)),
        false => Err(PageError::NotFound("this carve-out, or it was put back already".into())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_taken_out_has_a_length_and_a_reason() {
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        let typed = |from: &str, to: &str, why: &str| {
            Typed { from: from.into(), to: to.into(), why: why.into() }.read(&zone)
        };
        assert!(
            typed("2026-11-20T22:30", "2026-11-20T22:00", "w").is_err(),
            "it ends before it begins"
        );
        assert!(
            typed("2026-11-20T22:30", "2026-11-20T23:00", " ").unwrap_err().contains("say why")
        );
        assert!(typed("2026-11-20T22:30", "2026-11-20T23:00", "our test").is_ok());
    }
}
