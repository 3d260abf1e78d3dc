//! What is reported of the demo's site: who gets what and when, and an issue of before, of which a figure has changed since.

use super::SITE_KEY;
use crate::Failure;
use cadentis_answers::Answers;
use cadentis_answers::changes::Author;
use cadentis_answers::changes::reports::{self as changes, Wanted};
use cadentis_answers::compute::Compute;
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::Period;
use cadentis_core::report::schedule::On;
use cadentis_core::report::{Definition, Kind, Schedule};
use cadentis_standins::story::Story;
use cadentis_store::Db;
use jiff::SignedDuration;
use std::time::Duration;

/// Name, what it tells of, over what, when, and who keeps it.
const REPORTS: [(&str, Kind, Period, On, &str); 4] = [
    ("Service levels of booking", Kind::GoalsFull, Period::Days(28), On::Weekday(1), "Ines"),
    ("Every promise", Kind::GoalsShort, Period::Month, On::DayOfMonth(1), "Ines"),
    ("Incidents of the week", Kind::Incidents, Period::Week, On::Weekday(1), "Tor"),
    ("Who uses what", Kind::Usage, Period::Week, On::DayOfMonth(31), "Ines"),
];

/// Reports of booking, and an issue each of the first and the third.
pub async fn report_history(db: &Db, story: &Story) -> Result<(), Failure> {
    let site = db.site_by_key(SITE_KEY).await?.ok_or("the site of the demo is gone")?;
    let compute = Compute::start(2, 64, Duration::from_secs(120))?;
    let answers = Answers::new(db.clone(), compute);
    let goals = db.goals(site.id).await?;
    let first = goals.first().ok_or("the goal of the demo is gone")?;
    let list = db.call_lists(site.id).await?.iter().find(|l| l.is_usual).map(|l| l.id);
    for (name, kind, period, on, who) in REPORTS {
        let by = Author::named(who).ok_or("nobody keeps it")?;
        let at = jiff::civil::time(6, 0, 0, 0);
        let definition = Definition {
            kind,
            period,
            goals: if kind == Kind::GoalsFull { vec![first.id] } else { Vec::new() },
            journeys: Vec::new(),
            locations: Vec::new(),
            hours: None,
            filter: String::new(),
            query: String::new(),
            view: None,
            schedule: Some(Schedule { on, at }),
        };
        let wanted = Wanted { known: None, name: name.into(), definition, list };
        let id = changes::save(&answers, &by, &site, wanted).await??;
        if matches!(kind, Kind::GoalsFull | Kind::Incidents) {
            let report = db.report(site.id, id).await?.ok_or("the report just kept is gone")?;
            changes::issue(&answers, &by, &site, &report, 0).await?;
        }
    }
    // What was found out after the issue was written: of the outage, unless a month has begun since, which the issue then told of.
    let today = site.zone.to_datetime(story.now).date();
    let end = today.to_zoned(site.zone.clone())?.timestamp();
    let (_, judged) = first.judged_at(end - SignedDuration::from_secs(1), &site.zone);
    let outage = story.outage.from;
    let is_told = outage >= judged.from && outage < end;
    let from = if is_told { outage } else { end - SignedDuration::from_hours(3) };
    let late = Stretch { from, to: from + SignedDuration::from_mins(18) };
    db.add_carve_out(first.id, late, "release announced late", "Ines").await?;
    Ok(())
}
