//! Alerts that are acted out.

use super::{CATCHES_UP, Watching};
use crate::{Answers, Result};
use cadentis_core::alert::LAG;
use cadentis_core::calendar::Stretch;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use std::collections::HashMap;

/// Acts out what is rehearsed, in one transaction: what an alert would be told goes through the very steps of the watch.
pub(super) async fn follow(
    answers: &Answers,
    sites: &HashMap<i32, Site>,
    now: Timestamp,
) -> Result<()> {
    let up_to = now - LAG;
    let (db, change) = answers.db.in_one().await?;
    for (mut r, alert) in db.claim_rehearsals().await? {
        let Some(site) = sites.get(&alert.site_id) else { continue };
        let definition = &alert.says.definition;
        let lately = Stretch { from: up_to - SignedDuration::from_hours(2), to: now };
        let known = db.evaluations(alert.id, lately).await?;
        let usual = known.iter().rev().find_map(|e| e.evaluation.usual);
        let by = Watching {
            db: &db,
            alert: &alert,
            zone: site.zone.clone(),
            noticed: now,
            tells: true,
            rehearsal: Some(r.id),
        };
        let mut open = by.is_open().await?;
        for at in definition.moments(r.evaluated_to.max(up_to - CATCHES_UP), up_to) {
            let as_bad = Some(r.severity).filter(|_| at <= r.until);
            // An alert that has lost the level meanwhile has nothing more to act.
            let acted = definition.acted(at, as_bad, usual);
            let Some(e) = acted.or_else(|| definition.acted(at, None, usual)) else { break };
            r.state.step(definition, &e);
            open = by.follow(r.state.open, open, (&e, false, r.state.since)).await?;
            r.incident_id = open.as_ref().map(|o| o.incident_id).or(r.incident_id);
            r.evaluated_to = at;
            if at > r.until && r.state.open.is_none() {
                r.ended_at = Some(now);
                break;
            }
        }
        db.keep_rehearsal(&r).await?;
    }
    Ok(change.commit().await?)
}
