//! Goals on their pages: tried, promised, changed by two at once, with time taken out and put back.

use crate::server::{get, play, post_form as post, server};
use crate::serving::{self, SLUG, Server, program};
use cadentis_core::access::Scope;
use cadentis_core::calendar::{Clock, Length, Maintenance, Pace, Reach, Repeat, Stretch, Window};
use cadentis_core::run::Outcome;
use cadentis_store::Db;
use cadentis_store::journey::{NewJourney, PlaceAndPace};
use cadentis_store::run::Run;
use cadentis_store::script_version::Status;
use jiff::civil::{Weekday, date, time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use uuid::Uuid;

fn query(fields: &[(&str, &str)]) -> String {
    url::form_urlencoded::Serializer::new(String::new()).extend_pairs(fields).finish()
}

const QUICK: [(&str, &str); 9] = [
    ("name", "Quick by day"),
    ("kind", "performance"),
    ("limit", "2,0"),
    ("failed", "out"),
    ("journey", "book"),
    ("promised", "90"),
    ("period", "rolling"),
    ("rolling", "7"),
    ("from_when", "beginning"),
];

#[tokio::test]
async fn a_goal_is_tried_on_the_past_before_it_is_promised_and_says_then_what_was_tried() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Slow, Outcome::Passed]).await;
    let form = get(&s, "/marram-ferries/goals/new?journey=book").await.1;
    assert!(form.contains("value=\"book\" checked") || form.contains("value=\"book\"\n  checked"));
    // Failed ones left out three are counted, as quick as the tests play them.
    let (status, tried) = get(&s, &format!("/marram-ferries/goals/new?{}", query(&QUICK))).await;
    assert_eq!(status, 200, "{tried}");
    assert!(tried.contains("Held in all of 1 periods in which something was counted."), "{tried}");
    assert!(tried.contains("it could have been 100.00 %"), "{tried}");
    assert!(tried.contains("value=\"2,0\"") && tried.contains("value=\"Quick by day\""));
    assert!(s.db.goals(1).await.expect("rows").iter().all(|g| g.name == "Bookable"), "not kept");
    // Counted as bad, the failed one is told with its place.
    let mut bad = QUICK.to_vec();
    bad[3].1 = "bad";
    bad[5].1 = "99.9";
    let tried = get(&s, &format!("/marram-ferries/goals/new?{}", query(&bad))).await.1;
    assert!(tried.contains("Held in 0 of 1 periods") && tried.contains(">75.000 %<"), "{tried}");
    assert!(tried.contains("missed") && tried.contains(" 1</td>"), "who spent it: {tried}");

    let (status, to, _) = post(&s, "/marram-ferries/goals", &QUICK).await;
    assert_eq!((status, to.as_str()), (303, "/marram-ferries/goals"));
    let page = get(&s, "/marram-ferries/goals").await.1;
    assert!(page.contains("90.000 % over the last 7 days; performance"), "{page}");
    assert!(page.contains("within 2 s, failed ones left out"), "{page}");
    assert!(page.contains("Held over 7 days up to"), "{page}");
    let (status, _, again) = post(&s, "/marram-ferries/goals", &QUICK).await;
    assert!(status == 422 && again.contains("Another goal of this site has the name."));
    let goals = s.db.goals(1).await.expect("rows");
    assert_eq!((goals.len(), goals[1].newest().author.as_str()), (2, "Ada"));
}

#[tokio::test]
async fn of_two_who_change_a_goal_the_second_is_told_and_loses_nothing() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed]).await;
    let change = get(&s, "/marram-ferries/goals/1/change").await.1;
    assert!(change.contains("name=\"based_on\" value=\"1\"") && change.contains("value=\"90\""));
    assert!(change.contains("Held in 0 of 1 periods"), "it is tried as it is: {change}");
    let fields = |promised: &'static str, based_on: &'static str| {
        [
            ("name", "Bookable"),
            ("journey", "book"),
            ("promised", promised),
            ("from_when", "next"),
            ("based_on", based_on),
        ]
    };
    let (status, to, _) = post(&s, "/marram-ferries/goals/1", &fields("80", "1")).await;
    assert_eq!((status, to.as_str()), (303, "/marram-ferries/goals#goal-1"));
    let (status, _, page) = post(&s, "/marram-ferries/goals/1", &fields("70", "1")).await;
    assert!(status == 422 && page.contains("Somebody changed this goal meanwhile."), "{page}");
    assert!(page.contains("value=\"70\"") && page.contains("80 % of availability"), "{page}");
    // It holds from the next month on: this one is judged by what was promised for it.
    let goals = get(&s, "/marram-ferries/goals").await.1;
    assert!(goals.contains("goal 90.00 %") && !goals.contains("goal 80.00 %"), "{goals}");
    let ahead = Timestamp::now() + SignedDuration::from_hours(24 * 40);
    let goal = s.db.goals(1).await.expect("rows").remove(0);
    assert_eq!((goal.at(ahead).definition.promised, goal.at(Timestamp::now()).version), (0.8, 1));
    let told = s.db.done(1).await.expect("rows").remove(0);
    assert_eq!(told.what, "changed the goal");
    assert!(told.was.contains("promised: 90.0000 %") && told.became.contains("80.0000 %"));
    assert_eq!(post(&s, "/marram-ferries/goals/1/remove", &[]).await.0, 303);
    assert!(s.db.goals(1).await.expect("rows").is_empty());
    assert_eq!(post(&s, "/marram-ferries/goals/1/remove", &[]).await.0, 404);
}

#[tokio::test]
async fn programs_try_promise_and_take_away_and_are_told_which_field_is_wrong() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed, Outcome::Passed]).await;
    let token = async |scopes: &[Scope]| program(&serving::token(&s.db, 1, scopes).await);
    let (reads, writes) = (token(&[Scope::Read]).await, token(&[Scope::Write]).await);
    let at = |path: &str| format!("{}/api/v1/sites/marram-ferries/{path}", s.server.address);
    let send = async |client: &reqwest::Client, path: &str, body: Value| {
        let request = client.post(at(path)).header("content-type", "application/json");
        let answer = request.body(body.to_string()).send().await.expect("an answer");
        let status = answer.status().as_u16();
        let text = answer.text().await.expect("a text");
        (status, serde_json::from_str::<Value>(&text).expect("JSON"))
    };
    let asked = json!({"promised": 0.7, "measure": "availability", "journeys": ["book"], "period": "rolling", "days": 2});
    let (status, told) = send(&reads, "goals/try", asked.clone()).await;
    assert_eq!((status, &told["would_have_held"]), (200, &json!(0.75)), "{told}");
    assert_eq!(told["periods"].as_array().expect("a list").len(), 6);
    let newest = &told["periods"][0];
    assert_eq!(
        (&newest["good"], &newest["bad"], &newest["is_held"]),
        (&json!(3), &json!(1), &json!(true))
    );
    assert_eq!(
        (&told["periods"][1]["share"], &told["periods"][1]["is_held"]),
        (&Value::Null, &Value::Null)
    );
    for (field, value, pointer) in [
        ("promised", json!(1), "/promised"),
        ("journeys", json!(["book", "nowhere"]), "/journeys/1"),
        ("journeys", json!([]), "/journeys"),
        ("locations", json!(["nowhere"]), "/locations/0"),
        ("days", json!(0), "/days"),
        ("measure", json!("performance"), "/limit_ms"),
        (
            "service_hours",
            json!({"days": ["mon", "monday"], "from": "06:00", "until": "22:00"}),
            "/service_hours/days/1",
        ),
        (
            "service_hours",
            json!({"days": ["mon"], "from": "6 am", "until": "22:00"}),
            "/service_hours/from",
        ),
        ("service_hours", json!({"days": [], "from": "06:00", "until": "22:00"}), "/service_hours"),
    ] {
        let mut wrong = asked.clone();
        wrong[field] = value;
        let (status, told) = send(&reads, "goals/try", wrong).await;
        assert_eq!((status, &told["errors"][0]["pointer"]), (422, &json!(pointer)), "{told}");
    }
    let mut new = asked;
    new["name"] = json!("Two days");
    assert_eq!(send(&reads, "goals", new.clone()).await.0, 403);
    let (status, made) = send(&writes, "goals", new.clone()).await;
    assert_eq!(status, 201, "{made}");
    let (status, told) = send(&writes, "goals", new.clone()).await;
    assert_eq!((status, &told["errors"][0]["pointer"]), (422, &json!("/name")), "{told}");
    // It is changed by whoever has read the newest version; what began before is judged as it was.
    let change = async |client: &reqwest::Client, body: Value| {
        let request = client.put(at(&format!("goals/{}", made["id"]))).json(&body);
        let answer = request.send().await.expect("an answer");
        let status = answer.status().as_u16();
        (status, answer.json::<Value>().await.expect("JSON"))
    };
    let mut stricter = new;
    stricter["promised"] = json!(0.8);
    stricter["version"] = json!(1);
    stricter["from"] = json!("2090-01-01T00:00:00Z");
    assert_eq!(change(&reads, stricter.clone()).await.0, 403);
    assert_eq!(change(&writes, stricter.clone()).await, (200, json!({"version": 2})));
    let (status, told) = change(&writes, stricter.clone()).await;
    assert_eq!(status, 409, "{told}");
    stricter["version"] = json!(2);
    stricter["promised"] = json!(1.5);
    let (status, told) = change(&writes, stricter).await;
    assert_eq!((status, &told["errors"][0]["pointer"]), (422, &json!("/promised")), "{told}");
    let kept = s.db.goals(1).await.expect("rows");
    let kept = kept.iter().find(|g| g.name == "Two days").expect("there");
    assert_eq!((kept.newest().version, kept.at(Timestamp::now()).definition.promised), (2, 0.7));
    let listed =
        reads.get(at("goals")).send().await.expect("an answer").text().await.expect("a text");
    let listed: Value = serde_json::from_str(&listed).expect("JSON");
    assert_eq!(
        (&listed[1]["period"], &listed[1]["days"], &listed[1]["share"]),
        (&json!("rolling"), &json!(2), &json!(0.75))
    );
    let gone = async || {
        let answer = writes.delete(at(&format!("goals/{}", made["id"]))).send().await;
        answer.expect("an answer").status().as_u16()
    };
    assert_eq!((gone().await, gone().await), (204, 404));
    assert_eq!(s.db.done(1).await.expect("rows")[0].what, "took away the goal");
}

#[tokio::test]
async fn time_is_taken_out_of_a_goal_and_put_back_and_both_stay_in_the_record() {
    let s = server().await;
    let ids = play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed, Outcome::Passed]).await;
    let failed = s.db.run(ids[1]).await.expect("rows").expect("the failure").due_at;
    let zone = TimeZone::get("Europe/Oslo").expect("a zone");
    let minute = SignedDuration::from_mins(1);
    let (before_it, after_it) = (failed - minute, failed + minute);
    let clock = |t: Timestamp| t.to_zoned(zone.clone()).strftime("%Y-%m-%dT%H:%M").to_string();
    let share = async || {
        let page = get(&s, "/marram-ferries/goals").await.1;
        (page.contains(">75.00 %<"), page.contains(">100.00 %<"), page)
    };
    assert!(share().await.0);
    // What if: the stretch that holds the failure is the one that is chosen.
    let chosen = format!("from={}&to={}", Stretch::moment(before_it), Stretch::moment(after_it));
    let page = get(&s, &format!("/marram-ferries/goals?{chosen}")).await.1;
    assert!(page.contains("the share would be 100.000 % instead of 75.000 %"), "{page}");
    let outs = "/marram-ferries/goals/1/carve-outs";
    let (from, to) = (clock(before_it), clock(after_it));
    for (fields, says) in [
        ([("from", to.as_str()), ("to", &from), ("why", "x")], "Nothing was taken out"),
        ([("from", from.as_str()), ("to", &to), ("why", " ")], "say why"),
        ([("from", "soon"), ("to", &to), ("why", "x")], "“soon” is no moment"),
    ] {
        let (status, _, page) = post(&s, outs, &fields).await;
        assert!(matches!(status, 400..500) && page.contains(says), "{says}: {status} {page}");
    }
    let why = "our <b>own</b> firewall";
    let fields = [("from", from.as_str()), ("to", &to), ("why", why)];
    assert_eq!(post(&s, outs, &fields).await.0, 303);
    let (_, whole, page) = share().await;
    assert!(whole, "{page}");
    // Beside the share and beside uptime it is told that one run does not count.
    assert!(page.matches("Left out: 1 (runs outside service hours").count() >= 2, "{page}");
    assert!(page.contains("our &#60;b&#62;own&#60;/b&#62; firewall") && !page.contains(why));
    let told = s.db.done(1).await.expect("rows").remove(0);
    assert_eq!(told.what, "took out of the goal");
    let id = s.db.record_of_carve_outs(1).await.expect("rows")[0].id;
    let back = format!("{outs}/{id}/revoke");
    assert_eq!((post(&s, &back, &[]).await.0, post(&s, &back, &[]).await.0), (303, 404));
    let (before, _, page) = share().await;
    assert!(before && page.contains("Put back by Ada"), "{page}");
}

/// Forty days of two journeys at three places, the last of which has another clock: failures, slow runs and trouble of our own without a pattern.
pub async fn forty_days(db: &Db) -> (i32, i32) {
    let site = serving::site(db).await;
    let mut places = Vec::new();
    for (slug, name) in [("bergen", "Bergen"), ("quay", "Quay")] {
        places.push(serving::location(db, slug, name, slug).await);
    }
    let pier = serving::location_in(db, "pier", "Pier", "pier", "America/Halifax").await;
    places.push(pier);
    let now = Timestamp::now();
    let first =
        Timestamp::from_second(now.as_second() / 900 * 900 - 40 * 86_400).expect("a moment");
    db.ensure_days(first, now).await.expect("days");
    let mut runs = Vec::new();
    for (nth, slug) in ["book", "load"].into_iter().enumerate() {
        let pace = Pace::Every(900);
        let journey = NewJourney {
            site_id: site,
            slug,
            name: slug,
            script: "script \"Book\"\nstep \"Open\"\n  open http://book.marram.example/\n\
                     step \"Search\"\n  open http://book.marram.example/sailings\n",
            apdex_t_s: 1.0,
            author: "Ada",
            plays: PlaceAndPace::usual(&pace, &places),
            status: Status::Active,
        };
        let journey_id = db.add_journey(&journey).await.expect("a journey");
        for (place, location_id) in places.iter().enumerate() {
            for due in 0..40 * 96 {
                // Spread as a hash spreads: no two of them follow each other.
                let luck = (due as u64 * 8 + nth as u64 * 4 + place as u64)
                    .wrapping_mul(0x9e37_79b9_7f4a_7c15)
                    >> 40;
                let outcome = match luck % 97 {
                    0 => Outcome::Failed,
                    1 | 2 => Outcome::Slow,
                    3 => Outcome::Unmeasured,
                    _ => Outcome::Passed,
                };
                runs.push(Run {
                    id: Uuid::new_v4(),
                    site_id: site,
                    journey_id,
                    location_id: *location_id,
                    due_at: first + SignedDuration::from_secs(due * 900 + place as i64 * 60),
                    outcome,
                    duration_ms: 300.0 + (luck % 4_000) as f64,
                    steps_ms: [90.0 + (luck % 1_700) as f32, 110.0 + (luck % 900) as f32]
                        .into_iter()
                        .take(if outcome == Outcome::Failed { 1 + nth } else { 2 })
                        .collect(),
                    trouble: None,
                    split_ms: None,
                    counts: None,
                });
            }
        }
    }
    let rows = runs.into_iter().map(|r| (r, "r".to_string(), None));
    db.copy_runs(rows).await.expect("copied");
    (site, pier)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn goals_drawn_at_random_are_judged_as_a_script_in_another_language_judges_the_exported_runs()
{
    let (db, url) = serving::database().await;
    let (site, pier) = forty_days(&db).await;
    let hour = |ago: i64| Timestamp::now() - SignedDuration::from_hours(ago);
    let window = Stretch { from: hour(75), to: hour(70) };
    db.plan(site, &Maintenance::once(window, "Database moved"), "", "").await.expect("kept");
    // One for a journey alone, and one for a location alone on its own clock, which is not the site's.
    let journeys = db.journeys(site).await.expect("rows");
    let week = |clock, days: Vec<Weekday>| {
        let first = date(2020, 1, 1).at(22, 30, 0, 0);
        Window::once(first, Length::UntilTime(time(4, 30, 0, 0)), clock, "backup")
            .repeating(Repeat::Weekly(days))
    };
    let oslo = Clock::Zone(TimeZone::get("Europe/Oslo").expect("a zone"));
    let of_journey = Maintenance {
        window: week(oslo, vec![Weekday::Tuesday, Weekday::Saturday]),
        reach: Reach { journeys: vec![journeys[0].id], locations: vec![] },
        holds: false,
    };
    let of_place = Maintenance {
        window: week(Clock::Location, vec![Weekday::Monday, Weekday::Saturday]),
        reach: Reach { journeys: vec![], locations: vec![pier] },
        holds: true,
    };
    db.plan(site, &of_journey, "", "").await.expect("kept");
    db.plan(site, &of_place, "", "").await.expect("kept");
    let token = format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
    let hash = Sha256::digest(token.as_bytes());
    db.add_api_token(&hash, site, "a test", &[Scope::Read], "Ada", 1).await.expect("a token");
    let server = Server::start(&url);
    assert_eq!(server.up().await, 200);
    let seconds = |at: Timestamp| at.as_microsecond() as f64 / 1e6;
    let once = json!({"from": seconds(window.from), "to": seconds(window.to)});
    let weekly = json!({"days": ["tue", "sat"], "from": "22:30", "until": "04:30", "zone": "Europe/Oslo",
        "journeys": [journeys[0].slug]});
    let local =
        json!({"days": ["mon", "sat"], "from": "22:30", "until": "04:30", "locations": ["pier"]});
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/goals_by_hand");
    let mut python = tokio::process::Command::new("python3");
    python.args([script, &server.address, &token, SLUG, "5", "11", "900"]);
    python.args([once, weekly, local].map(|window| window.to_string()));
    let end = python.output().await.expect("python3 is installed");
    let said = String::from_utf8_lossy(&[end.stdout, end.stderr].concat()).into_owned();
    assert!(end.status.success() && said.lines().count() == 5, "{said}");
}

#[tokio::test]
async fn what_is_promised_and_in_danger_stands_first_on_now_and_journeys_with_whose_doing_it_is() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Passed]).await;
    for page in ["/marram-ferries", "/marram-ferries/journeys"] {
        let page = get(&s, page).await.1;
        assert!(!page.contains("error budget burns"), "nothing is in danger: {page}");
    }
    let s = server().await;
    play(&s, &[Outcome::Failed, Outcome::Passed, Outcome::Failed, Outcome::Passed]).await;
    // Half of the runs are bad where a tenth may be: the slowest pair of windows burns.
    let burns = "its error budget burns 5.0 times as fast as it may";
    for page in ["/marram-ferries", "/marram-ferries/journeys"] {
        let page = get(&s, page).await.1;
        let first = page.split("<li class=\"finding").nth(1).expect("a finding");
        assert!(first.contains("“Bookable”"), "before what fails: {first}");
        assert!(first.contains(burns) && first.starts_with(" broken"), "{first}");
        assert!(first.contains("Since") && first.contains("100 % of what was bad is"), "{first}");
        assert!(first.contains("/marram-ferries/goals?"), "{first}");
    }
    let goals = get(&s, "/marram-ferries/goals").await.1;
    assert!(goals.contains("burns</span>"), "{goals}");
}
