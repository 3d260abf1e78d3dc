//! Scripts, secrets, trials and runners over HTTP, on a real PostgreSQL.

use crate::serving;
use crate::serving::Server;
use cadentis_core::access::Role;
use cadentis_core::calendar::Pace;
use cadentis_core::run::{Outcome, RunRecord};
use cadentis_store::Db;
use cadentis_store::journey::{NewJourney, PlaceAndPace};
use cadentis_store::person::Given;
use cadentis_store::run::Run;
use jiff::Timestamp;
use serde_json::{Value, json};
use uuid::Uuid;

const SCRIPT: &str = "script \"Sign in\"\nstep \"S\"\n  open http://book.marram.example/sign-in\n  type \"{secret desk_password}\" into field \"Password\"\n";
const SECRET: &str = "sea & sand";

struct World {
    db: Db,
    server: Server,
    site: i32,
    client: reqwest::Client,
}

async fn world() -> World {
    let (db, url) = serving::database().await;
    let server = Server::start(&url);
    assert_eq!(server.up().await, 200);
    let site = serving::site(&db).await;
    let bergen = serving::location(&db, "bergen", "Bergen", "token").await;
    let (pace, places) = (Pace::Every(300), [bergen]);
    let journey = NewJourney {
        site_id: site,
        slug: "sign-in",
        name: "Sign in",
        script: SCRIPT,
        apdex_t_s: 1.0,
        author: "Ada",
        plays: PlaceAndPace::usual(&pace, &places),
        status: cadentis_store::script_version::Status::Active,
    };
    db.add_journey(&journey).await.expect("a journey");
    // Redirects are looked at, not followed.
    let client = serving::page_of_its_own();
    World { db, server, site, client }
}

impl World {
    fn at(&self, path: &str) -> String {
        format!("{}{path}", self.server.address)
    }

    async fn post(&self, path: &str, body: Value) -> (u16, Value) {
        self.post_as(&self.client, path, body).await
    }

    /// An editor of the site, signed in.
    async fn editor(&self, name: &str) -> reqwest::Client {
        let session =
            format!("{:0>64}", format!("{:x}", name.len() * 7 + name.as_bytes()[0] as usize));
        let given = Given {
            is_administrator: false,
            sees_people: false,
            roles: vec![(self.site, Role::Editor)],
        };
        serving::sign_in(&self.db, name, given, &session).await;
        serving::signed_in_as(&session)
    }

    async fn post_as(&self, client: &reqwest::Client, path: &str, body: Value) -> (u16, Value) {
        let answer = client.post(self.at(path)).json(&body).send().await.expect("an answer");
        (answer.status().as_u16(), answer.json().await.unwrap_or(Value::Null))
    }

    async fn form(&self, path: &str, body: &str) -> (u16, String) {
        let request = self
            .client
            .post(self.at(path))
            .header("content-type", "application/x-www-form-urlencoded");
        let answer = request.body(body.to_string()).send().await.expect("an answer");
        (answer.status().as_u16(), answer.text().await.unwrap_or_default())
    }

    async fn page(&self, path: &str) -> String {
        self.client
            .get(self.at(path))
            .send()
            .await
            .expect("an answer")
            .text()
            .await
            .expect("a page")
    }

    async fn runner(&self, path: &str, body: Value) -> (u16, Value) {
        let answer = self
            .client
            .post(self.at(path))
            .bearer_auth("token")
            .json(&body)
            .send()
            .await
            .expect("an answer");
        (answer.status().as_u16(), answer.json().await.unwrap_or(Value::Null))
    }
}

fn asking() -> Value {
    json!({ "runner": "r", "program": "0.1.0", "protocol": 4, "can_record": true })
}

fn save(script: &str, based_on: i32) -> Value {
    json!({ "script": script, "based_on": based_on, "note": "why" })
}

#[tokio::test]
async fn a_secret_goes_to_the_runner_that_types_it_and_nowhere_else() {
    let w = world().await;
    // Forms of other sites are refused; names and secrets that cannot be used are told.
    let stranger = reqwest::Client::new();
    let request = stranger
        .post(w.at("/marram-ferries/settings/secrets"))
        .header("origin", "http://evil.example");
    let request = request.header("content-type", "application/x-www-form-urlencoded");
    let answer = request.body("name=a&secret=abcd").send().await.expect("an answer");
    assert_eq!(answer.status(), 403);
    let (status, page) =
        w.form("/marram-ferries/settings/secrets", "name=Desk&secret=abcdef").await;
    assert!(status == 200 && page.contains("A name is a small letter"));
    let (_, page) =
        w.form("/marram-ferries/settings/secrets", "name=desk_password&secret=ab").await;
    assert!(page.contains("at least three characters"));
    let (status, _) =
        w.form("/marram-ferries/settings/secrets", "name=desk_password&secret=sea+%26+sand").await;
    assert_eq!(status, 303);
    // For which hosts it is can be said, and what is no host is told.
    let to = "/marram-ferries/settings/secrets";
    let (status, page) = w.form(to, "name=quay&secret=abcdef&hosts=http://a.example").await;
    assert!(status == 200 && page.contains("is no domain: a host name alone"), "{status}");
    assert_eq!(w.form(to, "name=quay&secret=abcdef&hosts=a.example,+b.example").await.0, 303);
    let kept = w.db.secrets(w.site).await.expect("rows");
    let quay = kept.iter().find(|s| s.name == "quay").expect("kept");
    assert_eq!(quay.hosts, ["a.example", "b.example"]);
    assert!(w.page("/marram-ferries/settings").await.contains("<td>a.example, b.example</td>"));
    // Where it may be typed is told before and after.
    assert_eq!(w.form(to, "name=quay&secret=ghijkl&hosts=c.example").await.0, 303);
    let told = w.db.done(1).await.expect("rows").remove(0);
    assert!(told.was.starts_with("for: a.example, b.example; at: "), "{told:?}");
    assert!(told.became.starts_with("for: c.example; at: "), "{told:?}");

    let dumped: Vec<String> = w.db.text_of_every_table().await.expect("rows");
    assert!(dumped.iter().any(|row| row.contains("desk_password")));
    assert!(!dumped.iter().any(|row| row.contains(SECRET)), "the database does not hold it");
    for path in [
        "/marram-ferries/settings",
        "/marram-ferries/journeys/sign-in/script",
        "/marram-ferries/journeys/sign-in/export",
        "/marram-ferries/journeys/sign-in",
    ] {
        assert!(!w.page(path).await.contains("sea &"), "{path}");
    }
    w.db.make_due(Timestamp::now()).await.expect("due");
    let (status, work) = w.runner("/api/runner/lease", asking()).await;
    assert_eq!((status, &work["secrets"]), (200, &json!({ "desk_password": SECRET })));
    assert_eq!(work["secret_hosts"], json!({ "desk_password": ["marram.example"] }), "the site's");
    // Another key, the same database: the secret is not opened, the work is given out all the same.
    let (id, other) = (work["id"].clone(), Server::start_with_key(&w.server.url, &"7".repeat(64)));
    assert_eq!(other.up().await, 200);
    let (_, answer) = w
        .post("/marram-ferries/api/trials", json!({ "script": SCRIPT, "location": "bergen" }))
        .await;
    let request = w.client.post(format!("{}/api/runner/lease", other.address)).bearer_auth("token");
    let work: Value =
        request.json(&asking()).send().await.expect("an answer").json().await.expect("work");
    assert_eq!(
        (&work["id"], &work["trial"], &work["secrets"]),
        (&answer["id"], &json!(true), &json!({}))
    );
    assert_ne!(id, work["id"]);
}

#[tokio::test]
async fn a_script_is_saved_as_its_next_version_unless_it_is_wrong_or_somebody_was_quicker() {
    let w = world().await;
    let better = SCRIPT.replace("step \"S\"", "step \"Sign in\"");
    let path = "/marram-ferries/journeys/sign-in/script";
    let (status, says) = w.post(path, save(&better.replace("open", "opn"), 1)).await;
    assert!(
        status == 422
            && says["detail"].as_str().is_some_and(|s| s.contains("did you mean `open`?")),
        "{says}"
    );
    assert_eq!(
        w.post(path, save(&better, 1)).await,
        (200, json!({ "version": 2, "says": "Saved as version 2." }))
    );
    assert_eq!(w.post(path, save(&better, 2)).await.1["says"], "That is version 2 already.");
    let bo = w.editor("Bo").await;
    let (status, says) = w.post_as(&bo, path, save(SCRIPT, 1)).await;
    assert!(
        status == 409
            && says["detail"].as_str().is_some_and(|s| s.contains("Ada saved version 2 meanwhile")),
        "{says}"
    );
    let page = w.page(&format!("{path}?compare=1")).await;
    assert!(
        page.contains("− step &#34;S&#34;") && page.contains("+ step &#34;Sign in&#34;"),
        "{page}"
    );
    // A run remembers what it played, whatever is saved afterwards.
    w.db.make_due(Timestamp::now()).await.expect("due");
    let (_, work) = w.runner("/api/runner/lease", asking()).await;
    assert_eq!(w.post_as(&bo, path, save(SCRIPT, 2)).await.1["version"], 3);
    let id = work["id"].as_str().expect("an id");
    let record = json!({ "id": id, "started_at": Timestamp::now(), "outcome": "failed", "duration_ms": 900.0,
        "trouble": { "line": 3, "says": "It was <b>not</b> reached." }, "steps": [], "browser": "Chromium 156", "runner": "r" });
    assert_eq!(w.runner("/api/runner/record", record).await.0, 204);
    let page = w.page(&format!("/marram-ferries/runs/{id}")).await;
    assert!(page.contains("version 2") && page.contains("step &#34;Sign in&#34;"), "{page}");
    assert!(
        page.contains(
            "<li class=\"failing\"><code>  open http://book.marram.example/sign-in</code>"
        ),
        "{page}"
    );
    let har: Value = serde_json::from_str(&w.page(&format!("/marram-ferries/runs/{id}/har")).await)
        .expect("HAR is JSON");
    assert_eq!(har["log"]["version"], "1.2");
    assert!(
        w.page(&format!("/marram-ferries/runs/{id}/log"))
            .await
            .contains(" failed on Chromium 156 by r")
    );
}

#[tokio::test]
async fn a_journey_is_paused_copied_and_archived_and_plays_only_while_it_is_active() {
    let w = world().await;
    assert!(
        w.page("/marram-ferries/journeys/sign-in/script")
            .await
            .contains("Waiting for its first run: it plays every 5 min from 1 location.")
    );
    assert_eq!(w.form("/marram-ferries/journeys/sign-in/status", "status=paused").await.0, 303);
    w.db.make_due(Timestamp::now()).await.expect("due");
    assert_eq!(w.runner("/api/runner/lease", asking()).await.0, 204);
    assert_eq!(w.form("/marram-ferries/journeys/sign-in/duplicate", "").await.0, 303);
    let copy = w.page("/marram-ferries/journeys/copy-of-sign-in/script").await;
    assert!(
        copy.contains("Paused: it would play every 5 min")
            && copy.contains("copy of Sign in, version 1"),
        "{copy}"
    );
    assert!(copy.contains("script &#34;Copy of Sign in&#34;"));
    assert_eq!(w.form("/marram-ferries/journeys/sign-in/status", "status=archived").await.0, 303);
    assert!(w.page("/marram-ferries/journeys/sign-in/script").await.contains(">Restore<"));
    // For good only what is archived, by its name, and what no goal counts.
    assert_eq!(
        w.form("/marram-ferries/journeys/copy-of-sign-in/delete", "name=Copy+of+Sign+in").await.0,
        409,
        "not archived"
    );
    assert_eq!(
        w.form("/marram-ferries/journeys/copy-of-sign-in/status", "status=archived").await.0,
        303
    );
    assert_eq!(
        w.form("/marram-ferries/journeys/copy-of-sign-in/delete", "name=copy").await.0,
        409,
        "another name"
    );
    assert_eq!(
        w.form("/marram-ferries/journeys/copy-of-sign-in/delete", "name=Copy+of+Sign+in").await.0,
        303
    );
    assert!(w.db.journey(w.site, "copy-of-sign-in").await.expect("rows").is_none());
    assert_eq!(w.form("/marram-ferries/journeys/sign-in/status", "status=dead").await.0, 404);
    let desk = w.db.add_team("Team Desk").await.expect("rows").expect("a new one");
    assert_eq!(
        w.form(
            "/marram-ferries/journeys/sign-in/about",
            &format!("team={desk}&tags=desk%2C+sign+in&essential=on")
        )
        .await
        .0,
        303
    );
    let journey = w.db.journey(w.site, "sign-in").await.expect("rows").expect("a journey");
    assert_eq!(
        (journey.owner.as_str(), journey.tags, journey.essential),
        ("Team Desk", vec!["desk".into(), "sign in".into()], true)
    );
}

#[tokio::test]
async fn a_starter_becomes_a_paused_journey_and_a_wrong_field_keeps_what_was_typed() {
    let w = world().await;
    let fields = "starter=page&page.address=ADDRESS&page.text=Departures+today&name=One+page&every=10&location=bergen";
    let (status, page) = w
        .form("/marram-ferries/journeys/new", &fields.replace("ADDRESS", "book.marram.example"))
        .await;
    assert!(
        status == 200
            && page.contains("write `https://book.marram.example`")
            && page.contains("value=\"Departures today\""),
        "{page}"
    );
    let (status, _) = w
        .form(
            "/marram-ferries/journeys/new",
            &fields.replace("ADDRESS", "http://book.marram.example/"),
        )
        .await;
    assert_eq!(status, 303);
    let journey = w.db.journey(w.site, "one-page").await.expect("rows").expect("a journey");
    assert_eq!((journey.status.as_str(), journey.every_s), ("paused", 600));
    assert!(journey.script.contains("expect text \"Departures today\""));
}

#[tokio::test]
async fn where_and_how_often_can_be_changed_and_says_what_is_wrong_and_when_it_plays_next() {
    let w = world().await;
    let fields = "pace=cron&cron=0+6+*+*+1-5&cron_zone=Europe/Oslo&device=phone&environment=production&retry=on";
    let (status, page) = w.form("/marram-ferries/journeys/sign-in/plays", fields).await;
    assert!(status == 200 && page.contains("Choose at least one location."), "{status}");
    let (status, _) = w
        .form("/marram-ferries/journeys/sign-in/plays", &format!("{fields}&location=bergen"))
        .await;
    assert_eq!(status, 303);
    let j = w.db.journey(w.site, "sign-in").await.expect("rows").expect("a journey");
    let kept = (j.pace_kept.as_str(), j.every_s, j.device.as_str(), j.retry);
    assert_eq!(kept, ("cron Europe/Oslo 0 6 * * 1-5", 86_400, "phone", true));
    let page = w.page("/marram-ferries/journeys/sign-in/script").await;
    assert!(page.contains("by the cron line 0 6 * * 1-5 (Europe/Oslo)"), "the sentence says it");
    let means = async |q: &str| {
        let answer = w
            .client
            .get(w.at(&format!("/marram-ferries/api/pace?{q}")))
            .send()
            .await
            .expect("an answer");
        (answer.status().as_u16(), answer.json::<Value>().await.expect("JSON"))
    };
    let (status, says) = means("pace=cron&cron=0+25+*+*+*&cron_zone=UTC").await;
    assert!(
        status == 422
            && says["detail"].as_str().is_some_and(|s| s.starts_with("Cron: hour: \"25\"")),
        "{says}"
    );
    let (_, says) = means("pace=every&every=5").await;
    assert_eq!((&says["runs"], says["next"].as_array().map(Vec::len)), (&json!(8_640), Some(3)));
}

#[tokio::test]
async fn what_a_team_owns_its_members_change_and_other_editors_look_at() {
    let w = world().await;
    let form = async |client: &reqwest::Client, path: &str, body: &str| {
        let request = client.post(w.at(path)).body(body.to_string());
        let request = request.header("content-type", "application/x-www-form-urlencoded");
        request.send().await.expect("an answer").status().as_u16()
    };
    let (cy, eve) = (w.editor("Cy").await, w.editor("Eve").await);
    assert_eq!(w.form("/setup/teams", "name=Desk").await.0, 303);
    let (status, page) = w.form("/setup/teams", "name=Desk").await;
    assert!(status == 422 && page.contains("There is a team Desk already."), "{page}");
    assert_eq!(w.form("/setup/teams", "name=+").await.0, 422);
    let team = w.db.teams().await.expect("rows").remove(0).id;
    let people = w.db.people().await.expect("rows");
    let of = |name: &str| people.iter().find(|p| p.name == name).expect("somebody").id;
    let members = format!("name=Desk&member={}&member=999", of("Cy"));
    assert_eq!(w.form(&format!("/setup/teams/{team}"), &members).await.0, 303);
    assert_eq!(w.db.teams().await.expect("rows")[0].members, [of("Cy")]);
    assert_eq!(w.form("/setup/teams/999", "name=Quay").await.0, 404);

    // As long as nobody owns it every editor changes it; then whoever is in the team, and administrators.
    let own = "/marram-ferries/journeys/sign-in";
    assert_eq!(form(&eve, &format!("{own}/about"), &format!("team={team}&tags=")).await, 303);
    let goal = "journey=sign-in&name=Bookable&promised=99";
    for (path, body) in [
        (format!("{own}/status"), "status=paused"),
        (format!("{own}/about"), "team=&tags="),
        (
            format!("{own}/plays"),
            "pace=every&every=10&device=phone&environment=production&location=bergen",
        ),
        (format!("{own}/delete"), "name=Sign+in"),
        ("/marram-ferries/goals".into(), goal),
    ] {
        assert_eq!(form(&eve, &path, body).await, 403, "{path}");
    }
    // The same of a view that its members put together.
    let view = |name: &str, version: i32, team: i32| {
        format!("name={name}&span=86400&version={version}&team={team}&piece=text&of=Look")
    };
    let views = "/marram-ferries/views";
    assert_eq!(form(&eve, views, &view("Theirs", 0, team)).await, 403, "to a team of others");
    assert_eq!(form(&cy, views, &view("Theirs", 0, team)).await, 303);
    assert_eq!(form(&eve, &format!("{views}/1"), &view("Mine", 1, 0)).await, 422, "no such team");
    let taken = "name=Mine&span=86400&version=1&piece=text&of=Look";
    assert_eq!(form(&eve, &format!("{views}/1"), taken).await, 403);
    assert_eq!(form(&eve, &format!("{views}/1/remove"), "").await, 403);
    assert_eq!(form(&eve, &format!("{views}/1/start"), "").await, 303, "who looks begins with it");
    assert_eq!(w.db.saved_view(w.site, 1).await.expect("rows").expect("there").name, "Theirs");
    assert_eq!(form(&cy, &format!("{views}/1"), &view("Ours", 1, team)).await, 303);
    let script = |words: &str| json!({ "script": format!("{SCRIPT}  # {words}\n"), "based_on": 1, "note": "" });
    let save = format!("{own}/script");
    let (status, says) = w.post_as(&eve, &save, script("Eve")).await;
    let says = says["detail"].as_str().expect("a sentence");
    assert!(status == 403 && says.contains("belongs to Desk"), "{says}");
    let page = eve.get(w.at(&save)).send().await.expect("an answer").text().await.expect("a page");
    assert!(page.contains("Of Desk: its members save the script."), "{page}");
    let kept = w.db.journey(w.site, "sign-in").await.expect("rows").expect("a journey");
    assert_eq!((kept.version, kept.status.as_str(), kept.owner.as_str()), (1, "active", "Desk"));
    assert!(w.db.goals(w.site).await.expect("rows").is_empty());
    assert_eq!(form(&eve, &format!("{own}/duplicate"), "").await, 303, "a copy of their own");

    assert_eq!(w.post_as(&cy, &save, script("Cy")).await.0, 200);
    assert_eq!(form(&cy, "/marram-ferries/goals", goal).await, 303);
    assert_eq!(form(&cy, &format!("{own}/status"), "status=paused").await, 303);
    assert_eq!(w.form(&format!("{own}/status"), "status=active").await.0, 303, "an administrator");
    // New journeys of the site are the team's; a team that is gone owns nothing.
    let site = format!(
        "name=Marram+Ferries&slug=marram-ferries&zone=Europe/Oslo&domains=marram.example&team={team}"
    );
    assert_eq!(w.form(&format!("/setup/sites/{}", w.site), &site).await.0, 303);
    let fields = "starter=page&page.address=http://book.marram.example/&page.text=x&name=One+page&every=10&location=bergen";
    assert_eq!(w.form("/marram-ferries/journeys/new", fields).await.0, 303);
    let new = w.db.journey(w.site, "one-page").await.expect("rows").expect("a journey");
    assert_eq!(new.owner, "Desk");
    assert_eq!(w.form(&format!("/setup/teams/{team}/remove"), "").await.0, 303);
    assert_eq!(form(&eve, &format!("{own}/status"), "status=paused").await, 303);
    assert_eq!(w.form(&format!("/setup/teams/{team}/remove"), "").await.0, 404);
}

#[tokio::test]
async fn all_scripts_go_out_as_one_archive_and_come_back_in_and_what_cannot_be_read_is_told() {
    let w = world().await;
    let archive = w
        .client
        .get(w.at("/marram-ferries/journeys/export"))
        .send()
        .await
        .expect("an answer")
        .bytes()
        .await
        .expect("a zip");
    let import = async |query: &str, body: Vec<u8>| {
        let answer = w
            .client
            .post(w.at(&format!("/marram-ferries/journeys/import?{query}")))
            .body(body)
            .send()
            .await
            .expect("an answer");
        (answer.status().as_u16(), answer.json::<Value>().await.expect("JSON"))
    };
    let (status, says) = import("file=x.zip", archive.to_vec()).await;
    let file = &says["files"][0];
    assert_eq!(
        (status, &file["file"], &file["slug"]),
        (200, &json!("sign-in.cadentis"), &json!("sign-in-2")),
        "{says}"
    );
    let original = w.db.journey(w.site, "sign-in").await.expect("rows").expect("a journey");
    let copy = w.db.journey(w.site, "sign-in-2").await.expect("rows").expect("a copy");
    assert_eq!((copy.script, copy.status.as_str()), (original.script, "paused"));
    let (_, says) =
        import("file=bad.cadentis", b"script \"J\"\nstep \"S\"\n  pres button \"x\"\n".to_vec())
            .await;
    assert!(
        says["files"][0]["says"]
            .as_str()
            .is_some_and(|s| s.contains("line 3") && s.contains("`press`")),
        "{says}"
    );
    let (status, says) = import("file=cut.zip", archive[..archive.len() / 2].to_vec()).await;
    assert!(
        status == 422
            && says["detail"].as_str().is_some_and(|s| s.starts_with("The archive cannot be read")),
        "{says}"
    );
    let (_, says) = import("file=x.cadentis", vec![0xff, 0xfe, 0x00]).await;
    assert_eq!(says["files"][0]["says"], "It is no text in UTF-8.");
}

#[tokio::test]
async fn a_site_says_its_environments_and_a_copy_for_another_one_looks_there() {
    let w = world().await;
    let site = "keep_days=10&keep_failed_days=20&trace_link=&environments=";
    let (_, page) = w.form("/marram-ferries/settings/site", &format!("{site}production")).await;
    assert!(page.contains("Environment 1: a name and an address"), "it says what is wrong");
    let two = "production+http://book.marram.example%0Apre-release+http://next.marram.example";
    assert_eq!(w.form("/marram-ferries/settings/site", &format!("{site}{two}")).await.0, 303);
    assert_eq!(
        w.form("/marram-ferries/journeys/sign-in/duplicate", "environment=pre-release").await.0,
        303
    );
    let copy = w.db.journey(w.site, "sign-in-pre-release").await.expect("rows").expect("a copy");
    assert_eq!((copy.environment.as_str(), copy.status.as_str()), ("pre-release", "paused"));
    let narrowed = w.page("/marram-ferries/journeys?environment=pre-release").await;
    assert!(
        narrowed.contains("/marram-ferries/journeys/sign-in-pre-release?")
            && !narrowed.contains("/marram-ferries/journeys/sign-in?"),
        "{narrowed}"
    );
    assert!(
        copy.script.contains("http://next.marram.example/") && !copy.script.contains("book.marram"),
        "{}",
        copy.script
    );
}

#[tokio::test]
async fn what_is_done_at_a_recorded_page_goes_to_its_runner_and_comes_back_as_a_script() {
    let w = world().await;
    let wish = |address: &str| json!({ "address": address, "location": "bergen" });
    let (status, says) =
        w.post("/marram-ferries/api/recordings", wish("book.marram.example")).await;
    assert!(
        status == 422 && says["detail"].as_str().is_some_and(|s| s.contains("write `https://book")),
        "{says}"
    );
    let (_, asked) =
        w.post("/marram-ferries/api/recordings", wish("http://book.marram.example/")).await;
    let (_, work) = w.runner("/api/runner/lease", asking()).await;
    assert_eq!(
        (&work["id"], &work["record"]),
        (&asked["id"], &json!("http://book.marram.example/"))
    );
    let id = asked["id"].as_str().expect("an id");
    let press = json!([{ "do": "down", "x": 4.0, "y": 5.0 }, { "do": "up", "x": 4.0, "y": 5.0 }]);
    assert_eq!(
        w.post(&format!("/marram-ferries/api/recordings/{id}/inputs"), press.clone()).await.0,
        204
    );
    let told = |acts: Value| json!({ "id": id, "acts": acts, "about": {}, "picture": "data:image/jpeg;base64,AA" });
    let pressed =
        json!([{ "act": "press", "what": [{ "by": "role", "role": "link", "name": "Tomorrow" }] }]);
    assert_eq!(
        w.runner("/api/runner/recording", told(pressed)).await,
        (200, json!({ "inputs": press }))
    );
    assert_eq!(
        w.runner("/api/runner/recording", told(json!([]))).await.1["inputs"],
        json!([]),
        "once"
    );
    let look = async || {
        let answer = w
            .client
            .get(w.at(&format!("/marram-ferries/api/recordings/{id}")))
            .send()
            .await
            .expect("an answer");
        answer.json::<Value>().await.expect("JSON")
    };
    let seen = look().await;
    assert_eq!((&seen["nth"], &seen["steps"][1]["name"]), (&json!(2), &json!("Tomorrow")));
    let name = json!({ "add": { "act": "name", "step": 1, "name": "Next day" } });
    assert_eq!(w.post(&format!("/marram-ferries/api/recordings/{id}/acts"), name).await.0, 204);
    let page = w.page(&format!("/marram-ferries/journeys/new?recorded={id}")).await;
    assert!(
        page.contains("step &#34;Next day&#34;") || page.contains("step &quot;Next day&quot;"),
        "{page}"
    );
    let ended = w
        .client
        .delete(w.at(&format!("/marram-ferries/api/recordings/{id}")))
        .send()
        .await
        .expect("an answer");
    assert_eq!(ended.status(), 204);
    assert_eq!(
        w.runner("/api/runner/recording", told(json!([]))).await,
        (200, json!({ "ended": true }))
    );
    assert_eq!(look().await["ended"], true);
}

#[tokio::test]
async fn a_trial_comes_first_tells_how_it_goes_can_be_cancelled_and_is_counted_nowhere() {
    let w = world().await;
    w.db.make_due(Timestamp::now()).await.expect("due");
    let (status, says) = w
        .post(
            "/marram-ferries/api/trials",
            json!({ "script": "script \"J\"", "location": "bergen" }),
        )
        .await;
    assert!(status == 422 && says["errors"][0]["line"] == 1, "{says}");
    let (_, asked) = w
        .post("/marram-ferries/api/trials", json!({ "script": SCRIPT, "location": "bergen" }))
        .await;
    let id = asked["id"].as_str().expect("an id").to_string();
    let stands = || async {
        let answer = w
            .client
            .get(w.at(&format!("/marram-ferries/api/trials/{id}")))
            .send()
            .await
            .expect("an answer");
        answer.json::<Value>().await.expect("JSON")
    };
    assert_eq!(stands().await["waiting"], true);
    let (_, work) = w.runner("/api/runner/lease", asking()).await;
    assert_eq!((&work["id"], &work["trial"]), (&asked["id"], &json!(true)));
    let progress = json!({ "id": id, "progress": { "step": 0, "line": 3, "steps": [] } });
    assert_eq!(
        w.runner("/api/runner/progress", progress.clone()).await,
        (200, json!({ "cancelled": false }))
    );
    assert_eq!(
        (&stands().await["progress"]["line"], &stands().await["waiting"]),
        (&json!(3), &json!(false))
    );
    w.client
        .delete(w.at(&format!("/marram-ferries/api/trials/{id}")))
        .send()
        .await
        .expect("an answer");
    assert_eq!(w.runner("/api/runner/progress", progress).await.1, json!({ "cancelled": true }));
    let record = RunRecord {
        id: Uuid::parse_str(&id).expect("an id"),
        started_at: Timestamp::now(),
        outcome: Outcome::Unmeasured,
        duration_ms: 0.0,
        trouble: None,
        steps: vec![],
        browser: "Chromium".into(),
        runner: "r".into(),
        device: "desktop".into(),
        trial: true,
    };
    assert_eq!(w.runner("/api/runner/record", json!(record)).await.0, 204);
    assert_eq!(stands().await["outcome"], "unmeasured");
    assert!(w.db.run(record.id).await.expect("rows").is_none(), "no run came of it");
    assert!(w.page(&format!("/marram-ferries/trials/{id}")).await.contains("Sign in (trial)"));
}

#[tokio::test]
async fn a_runner_that_speaks_another_protocol_is_told_so_and_loses_no_work() {
    let w = world().await;
    w.db.make_due(Timestamp::now()).await.expect("due");
    for old in
        [json!({ "runner": "old" }), json!({ "runner": "old", "program": "9.0.0", "protocol": 5 })]
    {
        let (status, says) = w.runner("/api/runner/lease", old).await;
        assert!(
            status == 426
                && says["detail"].as_str().is_some_and(|s| s.contains("this server speaks 4 to 4")),
            "{says}"
        );
    }
    assert!(w.page("/setup").await.contains("old: version 9.0.0, protocol 5"));
    assert_eq!(w.runner("/api/runner/lease", asking()).await.0, 200);
    // A new location, and a new token for an old one: each shown once.
    let (status, page) = w
        .form(
            "/setup/locations",
            "name=Terminal+Vetterey&country=no&kind=in-house&zone=Europe%2FOslo",
        )
        .await;
    assert!(
        status == 200
            && page.contains("--location terminal-vetterey<")
            && page.contains("CADENTIS_TOKEN="),
        "{page}"
    );
    let (_, page) = w
        .form("/setup/locations", "name=Nowhere&country=NO&kind=public&zone=Europe%2FAtlantis")
        .await;
    assert!(
        page.contains("is no time zone: write one as Europe/Oslo or UTC.")
            && page.contains("value=\"Nowhere\"")
    );
    assert_eq!(w.form("/setup/token", "slug=bergen").await.0, 200);
    assert_eq!(
        w.runner("/api/runner/lease", asking()).await.0,
        401,
        "the old token is worth nothing"
    );
}

#[tokio::test]
async fn common_parts_are_kept_only_if_every_journey_still_plays() {
    let w = world().await;
    let parts = "parts=part+%22Sign+in%22%0A++reload%0A";
    assert_eq!(w.form("/marram-ferries/settings/parts", parts).await.0, 303);
    let follows = SCRIPT.replace("  type", "  follow \"Sign in\"\n  type");
    assert_eq!(w.post("/marram-ferries/journeys/sign-in/script", save(&follows, 1)).await.0, 200);
    let (status, page) = w.form("/marram-ferries/settings/parts", "parts=").await;
    assert!(
        status == 200 && page.contains("Not kept: Sign in would not play any more: line 4"),
        "{page}"
    );
    let (_, page) =
        w.form("/marram-ferries/settings/parts", "parts=part+%22Sign+in%22%0A++relod%0A").await;
    assert!(
        page.contains("did you mean `reload`?") && page.contains("relod"),
        "what was written is still there"
    );
    let (_, read) = w.post("/marram-ferries/api/script/read", json!({ "script": follows })).await;
    assert_eq!(
        (&read["problems"], &read["steps"][0]["sentences"][1]["says"]),
        (&json!([]), &json!("follow \"Sign in\""))
    );
    let (_, next) = w
        .post(
            "/marram-ferries/api/script/next",
            json!({ "before": "script \"J\"\nstep \"S\"", "line": "  pre" }),
        )
        .await;
    assert_eq!(next, json!({ "next": ["press"] }));
}

#[tokio::test]
async fn the_runs_of_a_journey_are_narrowed_paged_and_downloaded_and_its_bad_hour_is_a_period() {
    let w = world().await;
    let now = Timestamp::now();
    w.db.ensure_days_around(now).await.expect("days");
    let location = w.db.locations().await.expect("rows")[0].id;
    let journey = w.db.journey(w.site, "sign-in").await.expect("rows").expect("a journey");
    let runs = (1..=130i64).map(|n| {
        let failed = (40..52).contains(&n);
        let run = Run {
            split_ms: None,
            counts: None,
            id: Uuid::new_v4(),
            site_id: w.site,
            journey_id: journey.id,
            location_id: location,
            due_at: now - jiff::SignedDuration::from_mins(5 * n),
            outcome: if failed { Outcome::Failed } else { Outcome::Passed },
            duration_ms: 1_000.0 + n as f64,
            steps_ms: [1_000.0 + n as f32].into_iter().collect(),
            trouble: failed.then(|| "Expected \"<i>\", twice".to_string()),
        };
        (run, "r".to_string(), None)
    });
    w.db.copy_runs(runs).await.expect("stored");
    let page = w.page("/marram-ferries/journeys/sign-in/runs").await;
    assert!(
        page.contains("130 of its runs in this stretch; 1 to 100 are shown")
            && page.contains("older →"),
        "{page}"
    );
    assert!(
        w.page("/marram-ferries/journeys/sign-in/runs?page=1")
            .await
            .contains("101 to 130 are shown")
    );
    let failed =
        w.page("/marram-ferries/journeys/sign-in/runs?outcome=failed&location=bergen").await;
    assert!(
        failed.contains("12 of its runs") && failed.contains("twice<") && !failed.contains("<i>"),
        "{failed}"
    );
    assert!(
        w.page("/marram-ferries/journeys/sign-in/runs?longer=1.1").await.contains("31 of its runs")
    );
    let file = w.page("/marram-ferries/journeys/sign-in/runs?outcome=failed&csv=1").await;
    let mut rows = csv::Reader::from_reader(file.as_bytes());
    let rows: Vec<csv::StringRecord> =
        rows.records().map(|r| r.expect("a row as RFC 4180 has it")).collect();
    assert_eq!((rows.len(), &rows[0][2], &rows[0][6]), (12, "Bergen", "Expected \"<i>\", twice"));
    let page = w.page("/marram-ferries/journeys/sign-in/places").await;
    assert!(
        page.contains("down from every location: 12 failed runs") && page.contains("1 h"),
        "{page}"
    );
    assert!(w.page("/marram-ferries/journeys/sign-in/changes").await.contains("in 21 days ("));
    let place = w.page("/marram-ferries/locations/bergen").await;
    assert!(
        place.contains("whose it was: not sure (1)")
            && place.contains("no other location to compare with"),
        "{place}"
    );
    // Journeys by what the address says.
    let desk = w.db.add_team("Desk").await.expect("rows");
    w.db.set_about(journey.id, desk, &["booking".into()], true).await.expect("kept");
    for (query, there) in [
        ("tag=booking", true),
        ("tag=other", false),
        ("owner=Desk&find=SIGN", true),
        ("status=paused", false),
        ("location=bergen", true),
    ] {
        let page = w.page(&format!("/marram-ferries/journeys?{query}")).await;
        assert_eq!(page.contains("href=\"/marram-ferries/journeys/sign-in?"), there, "{query}");
    }
}
