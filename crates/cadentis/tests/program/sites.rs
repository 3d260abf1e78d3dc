//! Several sites side by side: nothing of one is found on another, and each can be registered, changed and archived.

use crate::server::{Served, record, server};
use crate::serving::{self, SESSION, beacons, signed_in_as};
use cadentis_core::access::Scope;
use cadentis_core::calendar::{Maintenance, Pace, Stretch};
use cadentis_core::marker::Said;
use cadentis_core::run::Outcome;
use cadentis_store::journey::{NewJourney, PlaceAndPace};
use cadentis_store::script_version::Status;
use cadentis_web::routes::{OF_SITE, all};
use jiff::{SignedDuration, Timestamp};
use reqwest::Response;
use serde_json::json;
use sha2::{Digest, Sha256};
use uuid::Uuid;

/// What the second site has, and nothing of which is the first one's.
struct Theirs {
    site: i32,
    run: Uuid,
    trial: Uuid,
    recording: Uuid,
    visit: Uuid,
    token: Uuid,
    marker: i32,
    maintenance: i32,
}

const SCRIPT: &str = "script \"F\"\nstep \"Open\"\n  open http://freight.example/\n";

async fn theirs(s: &Served) -> Theirs {
    let site = serving::another_site(&s.db).await;
    let run = theirs_of(s, site).await;
    let now = Timestamp::now();
    let trial = s.db.ask_trial(site, 1, SCRIPT, "desktop", now).await.expect("a trial");
    let opened = "http://freight.example/";
    let recording = s.db.ask_recording(site, 1, opened, now).await.expect("a recording");
    let visit = Uuid::new_v4();
    let mut view = beacons::beacon(visit);
    view["visit"] = json!(visit);
    view["url"] = json!("http://freight.example/quote");
    let (address, own) = (&s.server.address, "http://freight.example");
    let sent = beacons::send(address, "other", view.to_string(), own, beacons::BROWSER).await;
    assert_eq!(sent.0, 204, "{}", sent.1);
    let hash = Sha256::digest(b"theirs");
    s.db.add_api_token(&hash, site, "theirs", &[Scope::Read], "Ada", 9).await.expect("a token");
    let token = s.db.api_tokens(site).await.expect("rows")[0].id;
    let said = Said { title: "Release of theirs".into(), ..Said::default() };
    let marker = s.db.add_marker(Some(site), now, &said, "Ada").await.expect("a marker");
    let work = Maintenance::once(Stretch::last(3_600, now + SignedDuration::from_hours(9)), "work");
    let maintenance = s.db.plan(site, &work, "", "Ada").await.expect("a window");
    Theirs { site, run, trial, recording, visit, token, marker, maintenance }
}

/// The route below the name of a site, with what the second site has in the place of each parameter.
fn path(of: &str, path: &str, t: &Theirs) -> String {
    let id = match path {
        p if p.contains("/visits/") => t.visit.to_string(),
        p if p.contains("/api/recordings/") => t.recording.to_string(),
        p if p.contains("trials/{id}") => t.trial.to_string(),
        p if p.contains("/programs/") => t.token.to_string(),
        p if p.contains("/markers/") => t.marker.to_string(),
        p if p.contains("/maintenance/") => t.maintenance.to_string(),
        _ => t.run.to_string(),
    };
    path.replace("{site}", of)
        .replace("{what:runs|trials}", "runs")
        .replace("{id}", &id)
        .replace("{slug}", "freight")
        .replace("{journey}", "freight")
        .replace("{step}/{nth}", "0/0")
        .replace("{step}/{frame}", "0/end")
}

async fn ask(client: &reqwest::Client, method: &str, to: String) -> Response {
    let method = method.parse().expect("a method");
    let asked =
        client.request(method, to).header("content-type", "application/x-www-form-urlencoded");
    asked.body("").send().await.expect("an answer")
}

#[tokio::test]
async fn nothing_of_one_site_is_found_under_the_name_of_another_on_any_route() {
    let s = server().await;
    let t = theirs(&s).await;
    let browser = signed_in_as(SESSION);
    let of_site = || {
        all().into_iter().filter(|r| r.path.contains(OF_SITE) || r.path.contains("/sites/{site}"))
    };
    let (mut closed, mut open) = (0, 0);
    for route in of_site() {
        let about = format!("{} {}", route.method, route.path);
        // What takes a name or an id is asked for what the other site has; locations belong to all.
        let named = route.path.matches('{').count() > 1 && !route.path.contains("/locations/");
        let to = format!("{}{}", s.server.address, path(serving::SLUG, &route.path, &t));
        let answer = ask(&browser, route.method, to).await;
        let (status, text) = (answer.status().as_u16(), answer.text().await.unwrap_or_default());
        if named && route.method == "GET" {
            assert_eq!(status, 404, "{about}: {text}");
            closed += 1;
        }
        assert!(status < 500, "{about}: {status}");
        for theirs in ["Freight of theirs", "freight.example", "Release of theirs"] {
            assert!(!text.contains(theirs), "{about} tells of {theirs}");
        }
        // And all of it is there under its own name, so that the ids were right.
        if named && route.method == "GET" {
            let to = format!("{}{}", s.server.address, path("freight", &route.path, &t));
            open += usize::from(ask(&browser, route.method, to).await.status() == 200);
        }
    }
    assert!(closed >= 15 && open >= 11, "{closed} closed, {open} open");
    // Whatever was posted under the wrong name changed nothing.
    let trial = s.db.trial(t.trial).await.expect("rows").expect("a trial");
    let recording = s.db.recording(t.site, t.recording, Timestamp::now()).await.expect("rows");
    assert!(!trial.cancelled && !recording.expect("a recording").ended);
    assert_eq!(s.db.api_tokens(t.site).await.expect("rows").len(), 1);
    let journey = s.db.journey(t.site, "freight").await.expect("rows").expect("a journey");
    assert_eq!((journey.status.as_str(), journey.version), ("active", 1));
}

#[tokio::test]
async fn a_site_is_registered_renamed_and_archived_and_what_is_no_name_is_told_beside_what_was_typed()
 {
    let s = server().await;
    let browser = signed_in_as(SESSION);
    let form = async |path: &str, fields: &[(&str, &str)]| {
        let body =
            url::form_urlencoded::Serializer::new(String::new()).extend_pairs(fields).finish();
        let request = browser.post(format!("{}{path}", s.server.address)).body(body);
        let request = request.header("content-type", "application/x-www-form-urlencoded");
        let answer = request.send().await.expect("an answer");
        let to = answer.headers().get("location").and_then(|v| v.to_str().ok()).unwrap_or("");
        (answer.status().as_u16(), to.to_string(), answer.text().await.unwrap_or_default())
    };
    let get = async |path: &str| {
        let answer = browser.get(format!("{}{path}", s.server.address)).send().await;
        let answer = answer.expect("an answer");
        let to = answer.headers().get("location").and_then(|v| v.to_str().ok()).unwrap_or("");
        (answer.status().as_u16(), to.to_string(), answer.text().await.unwrap_or_default())
    };
    // The only site stands for all; of two each has its row, and what needs somebody first.
    assert_eq!(get("/").await.1, "/marram-ferries");
    let (domains, zone) = (("domains", "freight.example"), ("zone", "Europe/Oslo"));
    let (status, to, _) = form("/setup/sites", &[("name", "Setup"), domains, zone]).await;
    assert_eq!((status, to.as_str()), (303, "/setup-site/start"), "its own name is taken");
    let all = get("/").await.2;
    assert!(
        all.contains("href=\"/marram-ferries\"") && all.contains("href=\"/setup-site\""),
        "{all}"
    );
    assert!(all.contains("Nothing is measured yet."), "{all}");
    let switch = get("/marram-ferries/journeys").await.2;
    assert!(switch.contains("<a href=\"/setup-site/journeys?from="), "{switch}");

    let id = s.db.site_by_slug("setup-site").await.expect("rows").expect("the site").id;
    let own = format!("/setup/sites/{id}");
    let named = |slug: &'static str| [("name", "Marram Freight"), ("slug", slug), domains, zone];
    for (slug, says) in [
        ("setup", "is the address of something else here"),
        ("marram-ferries", "Another site is at /marram-ferries already."),
        ("Marram Freight", "is small letters from a to z"),
        ("", "is small letters from a to z"),
    ] {
        let (status, _, page) = form(&own, &named(slug)).await;
        assert!(status == 422 && page.contains(says), "{slug}: {status} {page}");
        assert!(page.contains("value=\"Marram Freight\""), "what was typed is still there: {page}");
    }
    assert_eq!(form(&own, &named("freight")).await.0, 303);
    assert_eq!(get("/freight/journeys").await.0, 200);
    // What was kept of its old name leads there, with all that it asks for, until another site has that name; who is not
    // signed in is not told that it ever was.
    let kept = "/setup-site/journeys?from=2026-11-22T05:00Z&to=2026-11-22T06:00Z";
    let (status, to, _) = get(kept).await;
    assert_eq!((status, to.as_str()), (308, kept.replace("setup-site", "freight").as_str()));
    let nobody =
        signed_in_as("nobody").get(format!("{}/setup-site", s.server.address)).send().await;
    let nobody = nobody.expect("an answer");
    assert!(nobody.headers()["location"].to_str().is_ok_and(|to| to.starts_with("/sign-in?to=")));
    assert_eq!(form(&own, &named("cargo")).await.0, 303);
    assert_eq!(get("/setup-site").await.1, "/cargo");
    assert_eq!(get("/freight").await.1, "/cargo");
    assert_eq!(form(&own, &named("freight")).await.0, 303);
    assert_eq!((get("/freight").await.0, get("/cargo").await.1.as_str()), (200, "/freight"));

    // Archived it can be read, is in no list, takes no page view, and nothing is due.
    let pace = Pace::Every(300);
    let journey = NewJourney {
        site_id: id,
        slug: "quote",
        name: "Quote",
        script: SCRIPT,
        apdex_t_s: 1.0,
        author: "Ada",
        plays: PlaceAndPace::usual(&pace, &[1]),
        status: Status::Active,
    };
    let journey = s.db.add_journey(&journey).await.expect("a journey");
    assert_eq!(form(&format!("{own}/archived"), &[("archived", "1")]).await.0, 303);
    assert_eq!(get("/").await.1, "/marram-ferries", "one is left");
    assert_eq!(get("/freight/journeys").await.0, 200);
    let now = Timestamp::now();
    s.db.make_due(now).await.expect("due");
    while let Some(work) = s.db.lease(1, "r", now, now).await.expect("asked") {
        assert_ne!(work.journey_id, journey);
        s.db.finish(1, record(work.id, Outcome::Passed)).await.expect("stored");
    }
    let key = s.db.site_by_slug("freight").await.expect("rows").expect("the site").key;
    let mut view = beacons::beacon(Uuid::new_v4());
    view["url"] = json!("http://freight.example/");
    let send = async || {
        let own = "http://freight.example";
        beacons::send(&s.server.address, &key, view.to_string(), own, beacons::BROWSER).await.0
    };
    assert_eq!(send().await, 404);
    assert_eq!(form(&format!("{own}/archived"), &[]).await.0, 303);
    // Servers know of sites for two seconds.
    let mut taken = send().await;
    for _ in 0..80 {
        if taken == 204 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        taken = send().await;
    }
    assert_eq!(taken, 204);
    assert!(s.db.make_due(now).await.expect("due") > 0);
    assert_eq!(form("/setup/sites", &[("name", "Cargo"), domains, zone]).await.0, 303);
    assert_eq!(get("/cargo/journeys").await.0, 200, "a site of today comes before one that was");
}

#[tokio::test]
async fn the_first_steps_say_what_is_there_and_what_is_missing_and_why_page_views_were_turned_away()
{
    let s = server().await;
    let site = serving::another_site(&s.db).await;
    let steps = async || {
        let to = format!("{}/freight/start/steps", s.server.address);
        serving::get(to).await.expect("an answer").text().await.expect("a part")
    };
    let first = steps().await;
    assert!(first.contains("4 steps are left.") && first.contains("every 2s"), "{first}");
    assert!(
        first.contains("bergen has no runner yet") || first.contains("has no runner yet"),
        "{first}"
    );
    let view = beacons::beacon(Uuid::new_v4()).to_string();
    let address = &s.server.address;
    let own = "http://book.marram.example";
    assert_eq!(beacons::send(address, "other", view, own, beacons::BROWSER).await.0, 403);
    let mut told = String::new();
    for _ in 0..200 {
        told = steps().await;
        if told.contains("were turned away") {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert!(told.contains("book.marram.example"), "it says which host it was: {told}");
    let (journey, begun) = (freight(&s, site).await, Timestamp::now());
    let own_doing = played(&s, journey, begun, Outcome::Unmeasured).await;
    let told = steps().await;
    assert!(told.contains("steps are left."), "{told}");
    assert!(
        told.contains("measured nothing") && told.contains(&format!("/freight/runs/{own_doing}")),
        "a run in whose way our own runner was is not the first that counts: {told}"
    );
    let later = begun + jiff::SignedDuration::from_mins(5);
    let t = played(&s, journey, later, Outcome::Failed).await;
    their_page_view(&s).await;
    let done = steps().await;
    assert!(
        done.contains("Freight of theirs.") && done.contains(&format!("/freight/runs/{t}")),
        "{done}"
    );
    assert!(done.contains("The newest arrived at"), "{done}");
}

/// A journey of that site that has played, and a page view.
async fn theirs_of(s: &Served, site: i32) -> Uuid {
    let journey = freight(s, site).await;
    let run = played(s, journey, Timestamp::now(), Outcome::Failed).await;
    their_page_view(s).await;
    run
}

/// A journey of that site.
async fn freight(s: &Served, site: i32) -> i32 {
    let pace = Pace::Every(300);
    let freight = NewJourney {
        site_id: site,
        slug: "freight",
        name: "Freight of theirs",
        script: SCRIPT,
        apdex_t_s: 1.0,
        author: "Ada",
        plays: PlaceAndPace::usual(&pace, &[1]),
        status: Status::Active,
    };
    s.db.add_journey(&freight).await.expect("a journey")
}

/// A run of a journey that came to that.
async fn played(s: &Served, journey: i32, at: Timestamp, outcome: Outcome) -> Uuid {
    s.db.make_due(at).await.expect("due");
    loop {
        let work = s.db.lease(1, "r", at, at).await.expect("asked").expect("work of freight");
        let come = if work.journey_id == journey { outcome } else { Outcome::Passed };
        s.db.finish(1, record(work.id, come)).await.expect("stored");
        if work.journey_id == journey {
            break work.id;
        }
    }
}

async fn their_page_view(s: &Served) {
    let mut view = beacons::beacon(Uuid::new_v4());
    view["url"] = json!("http://freight.example/quote");
    let (address, own) = (&s.server.address, "http://freight.example");
    let sent = beacons::send(address, "other", view.to_string(), own, beacons::BROWSER).await;
    assert_eq!(sent.0, 204, "{}", sent.1);
}
