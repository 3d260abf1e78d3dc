//! Goals out and in as OpenSLO: what is written, as another reader of YAML reads it; what is read, and what is told of the rest.

use crate::goals::forty_days;
use crate::server::{Served, get, post_form as post};
use crate::serving::{self, SLUG, Server, program};
use cadentis_core::access::Scope;
use cadentis_core::goal::definition::ServiceHours;
use cadentis_core::goal::{Combine, Definition, FailedRuns, Measure, Period};
use jiff::Timestamp;
use jiff::civil::time;
use serde_json::{Value, json};
use std::io::Write;
use std::process::{Command, Stdio};

/// Forty days of runs, and a goal of each kind.
async fn world() -> (Served, Vec<(String, Definition)>) {
    let (db, url) = serving::database().await;
    let (site, _) = forty_days(&db).await;
    let journeys: Vec<i32> = db.journeys(site).await.expect("rows").iter().map(|j| j.id).collect();
    let quay = db.locations().await.expect("rows").into_iter().find(|l| l.slug == "quay");
    let of = |measure: Measure, period: Period| Definition {
        measure,
        period,
        ..Definition::monthly(journeys[0], 0.98)
    };
    let hours = ServiceHours {
        days: [true, true, true, true, true, false, false],
        from: time(6, 0, 0, 0),
        until: time(22, 30, 0, 0),
    };
    let quick = Measure::Performance { limit_ms: 3_500.0, failed: FailedRuns::LeftOut };
    let seen = "share of LCP within 2.5 s for device \"phone\"".parse().expect("a measure");
    let goals = [
        ("Bookable: yes", of(Measure::Availability, Period::Month)),
        (
            "Quick \"enough\"",
            Definition {
                locations: vec![quay.expect("a location").id],
                service_hours: Some(hours),
                combine: Combine::All,
                journeys: journeys.iter().copied().take(2).collect(),
                ..of(quick, Period::Week)
            },
        ),
        ("Reached", of(Measure::Uptime, Period::Days(28))),
        (
            "Seen in time",
            Definition {
                journeys: vec![],
                promised: 0.75,
                ..of(Measure::Experience(seen), Period::Quarter)
            },
        ),
    ];
    for (name, says) in &goals {
        let said = (says, Timestamp::UNIX_EPOCH);
        db.add_goal(site, name, said, "Ada").await.expect("answered").expect("a goal");
    }
    let server = Server::start(&url);
    assert_eq!(server.up().await, 200);
    let goals = goals.into_iter().map(|(name, says)| (name.to_string(), says)).collect();
    (Served { server, db }, goals)
}

/// The documents of a file, as PyYAML reads them.
fn read_by_another(text: &str) -> Vec<Value> {
    let read = "import sys, json, yaml\nprint(json.dumps(list(yaml.safe_load_all(sys.stdin)), default=str))";
    let mut python = Command::new("/usr/bin/python3");
    python.args(["-c", read]).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut python = python.spawn().expect("python3");
    python.stdin.take().expect("a pipe").write_all(text.as_bytes()).expect("written");
    let told = python.wait_with_output().expect("it ends");
    serde_json::from_slice(&told.stdout).unwrap_or_else(|e| panic!("{e}: {text}"))
}

#[tokio::test]
async fn goals_are_written_as_another_reader_reads_them_and_promised_again_from_the_same_file() {
    let (s, goals) = world().await;
    let file = get(&s, &format!("/{SLUG}/goals/openslo.yaml")).await.1;
    let documents = read_by_another(&file);
    assert_eq!(documents.len(), goals.len(), "{file}");
    let of = |name: &str| {
        let found = documents.iter().find(|d| d["metadata"]["displayName"] == name);
        found.unwrap_or_else(|| panic!("{name}: {file}"))
    };
    for document in &documents {
        assert_eq!(
            (&document["apiVersion"], &document["kind"], &document["spec"]["service"]),
            (&json!("openslo/v1"), &json!("SLO"), &json!(SLUG))
        );
    }
    // Shapes of the specification, and ours where it leaves them to each program.
    let first = &of("Bookable: yes")["spec"];
    assert_eq!(first["objectives"], json!([{"target": 0.98}]));
    assert_eq!(first["budgetingMethod"], json!("Occurrences"));
    let calendar = &first["timeWindow"][0]["calendar"];
    assert_eq!(first["timeWindow"][0]["duration"], json!("1M"));
    assert_eq!(calendar["timeZone"], json!("Europe/Oslo"));
    let total = &first["indicator"]["spec"]["ratioMetric"]["total"]["metricSource"];
    assert_eq!(
        (&total["type"], &total["spec"]["journeys"]),
        (&json!("Cadentis"), &json!(["book"]))
    );
    let quick = of("Quick \"enough\"");
    let spec = &quick["spec"]["indicator"]["spec"]["ratioMetric"]["good"]["metricSource"]["spec"];
    assert_eq!(spec["serviceHours"]["until"], json!("22:30"), "a text, not minutes: {spec}");
    assert_eq!((&spec["limitMs"], &spec["together"]), (&json!(3500.0), &json!("all")));
    let unsaid = quick["metadata"]["annotations"]["cadentis/unsaid"].as_str().expect("a text");
    assert!(unsaid.contains("service hours") && unsaid.contains("carve-outs"), "{unsaid}");
    assert_eq!(
        of("Reached")["spec"]["timeWindow"],
        json!([{"duration": "28d", "isRolling": true}])
    );
    assert_eq!(of("Reached")["spec"]["budgetingMethod"], json!("Timeslices"));

    // They are there already; gone, they are promised again, and say the same.
    let take =
        async |text: &str| post(&s, &format!("/{SLUG}/goals/openslo"), &[("text", text)]).await;
    let (status, _, page) = take(&file).await;
    assert!(status == 200 && page.contains("0 of 4 documents became goals."), "{page}");
    assert_eq!(page.matches("Another goal has this name.").count(), 4, "{page}");
    for goal in s.db.goals(1).await.expect("rows") {
        s.db.remove_goal(goal.id).await.expect("removed");
    }
    let (status, _, page) = take(&file).await;
    assert!(status == 200 && page.contains("4 of 4 documents became goals."), "{page}");
    let mut kept: Vec<(String, Definition)> =
        s.db.goals(1)
            .await
            .expect("rows")
            .into_iter()
            .map(|g| (g.name.clone(), g.newest().definition.clone()))
            .collect();
    let mut goals = goals;
    kept.sort_by(|(a, _), (b, _)| a.cmp(b));
    goals.sort_by(|(a, _), (b, _)| a.cmp(b));
    assert_eq!(kept, goals);
    assert_eq!(s.db.done(1).await.expect("rows")[0].what, "promised");
}

#[tokio::test]
async fn what_cannot_be_promised_of_a_file_is_told_for_each_document_and_all_else_is() {
    let (s, _) = world().await;
    let client = program(&serving::token(&s.db, 1, &[Scope::Read, Scope::Write]).await);
    let at = format!("{}/api/v1/sites/{SLUG}/openslo", s.server.address);
    let file = client.get(&at).send().await.expect("an answer");
    assert_eq!(file.headers()["content-type"], "application/yaml");
    let file = file.text().await.expect("a file");
    let bookable = file.split("---\n").find(|d| d.contains("Bookable")).expect("a document");
    let named = |name: &str| bookable.replace("Bookable: yes", name);
    let documents = [
        named("New one"),
        named("Elsewhere").replace("type: Cadentis", "type: Abacus"),
        named("Gone").replace("- book", "- nowhere"),
        named("Too much").replace("target: 0.98", "target: 1.0"),
        named(&"long ".repeat(30)),
        "apiVersion: openslo/v1\nkind: Service\nmetadata:\n  name: ferries\nspec: {}\n".into(),
        ": [".into(),
    ];
    let text = documents.join("---\n");
    let take = async |body: &Value| {
        let answer = client.post(&at).json(body).send().await.expect("an answer");
        (answer.status().as_u16(), answer.json::<Value>().await.expect("JSON"))
    };
    let (status, told) = take(&json!({ "text": text })).await;
    assert_eq!(status, 200, "{told}");
    let why = |nth: usize| told[nth]["why"].as_str().unwrap_or_default().to_string();
    assert!(told[0]["goal"].is_i64() && why(0).is_empty(), "{told}");
    for (nth, says) in [
        (1, "It is measured by “Abacus”: what that is here cannot be known."),
        (2, "There is no journey nowhere."),
        (3, "100 % leaves no error budget"),
        (4, "A name has 1 to 80 characters."),
        (5, "A “Service” is no goal and is passed over."),
        (6, "It cannot be read: "),
    ] {
        assert!(why(nth).contains(says) && told[nth]["goal"].is_null(), "{nth}: {told}");
    }
    assert_eq!(told[5]["document"], json!("ferries"));
    for (text, says) in
        [(String::new(), "There is no document in it."), ("x".repeat(1_100_000), "bytes")]
    {
        let (status, told) = take(&json!({ "text": text })).await;
        assert!(
            [413, 422].contains(&status) && told.to_string().contains(says),
            "{status}: {told}"
        );
    }
    // What was not taken on the page is still there to be mended; markup in it is a text.
    let text = named("<b>").replace("openslo/v1", "openslo/v9");
    let (status, _, page) = post(&s, &format!("/{SLUG}/goals/openslo"), &[("text", &text)]).await;
    assert!(
        status == 200 && page.contains("It is of “openslo/v9”, and openslo/v1 is read."),
        "{page}"
    );
    assert!(
        page.contains("displayName: &#34;&#60;b&#62;&#34;") && !page.contains("<b>\""),
        "{page}"
    );
    let reader = serving::token(&s.db, 1, &[Scope::Read]).await;
    let refused = program(&reader).post(&at).json(&json!({"text": "a: 1"})).send().await;
    assert_eq!(refused.expect("an answer").status(), 403);
}
