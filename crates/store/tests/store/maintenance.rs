//! Maintenance in the database: runs that are held, windows that are parted, and rows of before.

use super::*;
use cadentis_core::calendar::{Clock, Length, Maintenance, Reach, Repeat, Window};
use jiff::civil::{date, time};

fn daily(clock: Clock, hour: i8) -> Maintenance {
    let until = Length::UntilTime(time(hour + 1, 0, 0, 0));
    let window = Window::once(date(2020, 1, 1).at(hour, 0, 0, 0), until, clock, "backup");
    let window = window.repeating(Repeat::Daily);
    Maintenance { window, reach: Reach::default(), holds: true }
}

#[tokio::test]
async fn a_run_that_falls_into_maintenance_is_not_made_where_runs_are_held_and_only_there() {
    let (db, location) = db().await;
    let hour = SignedDuration::from_hours(1);
    let around = Stretch { from: now() - hour, to: now() + hour };
    let once = Maintenance::once(around, "moved");
    // Runs that go on are made; those of another location or journey are not held.
    db.plan(1, &once, "", "Ada").await.expect("kept");
    let elsewhere = Reach { journeys: vec![], locations: vec![location + 1] };
    db.plan(1, &Maintenance { reach: elsewhere, holds: true, ..once.clone() }, "", "Ada")
        .await
        .expect("kept");
    let other = Reach { journeys: vec![99], locations: vec![] };
    db.plan(1, &Maintenance { reach: other, holds: true, ..once.clone() }, "", "Ada")
        .await
        .expect("kept");
    assert_eq!(db.make_due(now()).await.expect("due"), 1);
    let id = db.plan(1, &Maintenance { holds: true, ..once }, "", "Ada").await.expect("kept");
    let later = now() + SignedDuration::from_mins(10);
    assert_eq!(db.make_due(later).await.expect("due"), 0, "held");
    assert_eq!(db.make_due(now() + hour * 2).await.expect("due"), 1, "it is over");
    // Called off, nothing is held.
    assert_eq!(db.replan(1, (id, 1), None, None, "Ada").await.expect("asked"), Some(()));
    assert_eq!(
        db.make_due(later + SignedDuration::from_mins(5)).await.expect("due"),
        0,
        "a later run is there"
    );
    assert!(db.planned(1).await.expect("rows").iter().all(|p| p.id != id));
}

#[tokio::test]
async fn a_window_on_each_locations_own_clock_holds_each_at_its_own_time() {
    let (db, location) = db().await;
    let zones = db.zones().await.expect("zones");
    let zone = zones.iter().find(|(id, _)| *id == location).expect("the location").1.clone();
    let here = zone.to_datetime(now()).hour().min(22);
    db.plan(1, &daily(Clock::Location, here), "", "Ada").await.expect("kept");
    let at = |h: i8| {
        zone.to_timestamp(zone.to_datetime(now()).date().at(h, 30, 0, 0)).expect("a moment")
    };
    assert_eq!(db.make_due(at(here)).await.expect("due"), 0);
    let outside = if here < 20 { here + 2 } else { here - 2 };
    assert_eq!(db.make_due(at(outside)).await.expect("due"), 1);
    let found = db
        .maintenance(1, Stretch { from: at(here), to: at(here) + SignedDuration::from_mins(1) })
        .await;
    let found = found.expect("rows");
    assert_eq!(found.len(), 1);
    assert!(found[0].is_held && found[0].reach.locations.contains(&location), "{found:?}");
}

#[tokio::test]
async fn of_two_who_change_a_window_one_is_told_and_what_has_been_stays() {
    let (db, _) = db().await;
    let says = daily(Clock::Utc, 3);
    let id = db.plan(1, &says, "of bookings", "Ada").await.expect("kept");
    let parted = says.parted(now(), &[]);
    let next = Maintenance {
        holds: false,
        window: parted.after.clone().expect("it comes again"),
        ..says.clone()
    };
    let one = Some((&next.window, &next, "of all"));
    let change = || db.replan(1, (id, 1), parted.before.as_ref(), one, "Tor");
    assert_eq!(change().await.expect("asked"), Some(()));
    assert_eq!(change().await.expect("asked"), None, "it is version 2 by now");
    let kept = db.planned(1).await.expect("rows");
    assert_eq!(kept.len(), 2);
    assert_eq!(
        (kept[0].says.window.in_force.1, kept[0].version, kept[0].author.as_str()),
        (Some(now()), 2, "Ada")
    );
    assert_eq!(
        (&kept[1].says, kept[1].detail.as_str(), kept[1].author.as_str()),
        (&next, "of all", "Tor")
    );
    // Another site's is not found by its number.
    assert_eq!(db.replan(2, (kept[1].id, 1), None, None, "Ada").await.expect("asked"), None);
}

#[tokio::test]
async fn an_address_of_a_calendar_is_one_of_a_site_and_opens_nothing_once_it_is_closed() {
    let (db, _) = db().await;
    db.set_maintenance_feed(1, b"first", "Ada").await.expect("kept");
    db.set_maintenance_feed(1, b"second", "Tor").await.expect("kept");
    assert_eq!(db.site_of_feed(b"first").await.expect("asked"), None);
    assert_eq!(db.site_of_feed(b"second").await.expect("asked"), Some(1));
    assert_eq!(db.maintenance_feed(1).await.expect("asked").expect("one").0, "Tor");
    assert!(db.remove_maintenance_feed(1).await.expect("asked"));
    assert_eq!(db.site_of_feed(b"second").await.expect("asked"), None);
    assert!(!db.remove_maintenance_feed(1).await.expect("asked"));
}
