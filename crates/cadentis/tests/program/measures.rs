//! Measures as people and programs ask for them.

use crate::server::{get, play, server};
use crate::serving::{self, program};
use cadentis_core::access::Scope;
use cadentis_core::measure::forms::forms;
use cadentis_core::run::Outcome;
use serde_json::Value;

fn query(of: &str) -> String {
    url::form_urlencoded::byte_serialize(of.as_bytes()).collect()
}

#[tokio::test]
async fn any_form_of_a_measure_is_read_told_and_drawn_and_names_that_are_not_there_are_said() {
    use Outcome::*;
    let s = server().await;
    play(&s, &[Passed, Failed, Passed, Slow, Passed, Failed]).await;
    let client = program(&serving::token(&s.db, 1, &[Scope::Read]).await);
    let ask = async |measure: &str| -> (u16, Value) {
        let at = format!(
            "{}/api/v1/sites/marram-ferries/measures?measure={}",
            s.server.address,
            query(measure)
        );
        let answer = client.get(at).send().await.expect("an answer");
        (answer.status().as_u16(), answer.json().await.expect("JSON"))
    };
    for (measure, value, samples) in [
        ("availability", Some(4.0 / 6.0), 6),
        ("share failed for location bergen", Some(2.0 / 6.0), 6),
        ("share slow for journey book", Some(1.0 / 6.0), 6),
        ("share failed for location halifax", None, 0),
        ("count of runs", Some(6.0), 6),
        ("failing locations", Some(1.0), 6),
        ("p95 of run duration", Some(1_250.0), 4),
        ("p75 of step duration for journey book and step Open", Some(1_250.0), 4),
        ("share of run duration within 1 s", Some(0.0), 4),
        ("error budget left for goal Bookable", None, 6),
        ("burn rate over 1 h and 30 min for goal Bookable", Some(10.0 / 3.0), 6),
        ("count of page views", Some(0.0), 0),
        ("p75 of LCP", None, 0),
        ("count of errors", Some(0.0), 0),
    ] {
        let (status, told) = ask(measure).await;
        assert_eq!((status, told["samples"].as_u64()), (200, Some(samples)), "{measure}: {told}");
        if measure.starts_with("error budget") {
            // A third failed where a tenth may: what is left depends on how much of the month has passed.
            assert!(told["value"].as_f64().is_some_and(|left| left < 1.0), "{told}");
            continue;
        }
        let near = |v: f64| told["value"].as_f64().is_some_and(|is| (is - v).abs() < 1e-9);
        assert!(value.map_or(told["value"].is_null(), near), "{measure}: {told}");
    }
    let silence = ask("silence of runs").await.1["value"].as_f64().expect("a run was played");
    assert!((290_000.0..900_000.0).contains(&silence), "{silence}");

    // Every example of the reference is answered, or told that what it names is not there.
    let page = get(&s, "/marram-ferries/measures").await.1;
    let mut answered = 0;
    for form in forms() {
        assert!(page.contains(&query(form.example)), "{}", form.example);
        let (status, told) =
            get(&s, &format!("/marram-ferries/measures?of={}", query(form.example))).await;
        let is_missing = told.contains("is not there; there is ");
        assert_eq!(status == 200, !is_missing, "{}: {status}", form.example);
        answered += usize::from(status == 200);
    }
    assert!(answered > 30, "{answered}");

    for (measure, says) in [
        ("availability for journey boko", "journey “boko” is not there; there is “book”."),
        (
            "p75 of step duration for journey book and step Pay",
            "step “Pay” is not there; there is “Open”.",
        ),
        ("error budget left for goal x", "goal “x” is not there; there is “Bookable”."),
        ("state for dependency x", "dependency “x” is not there; there is none."),
        ("p75 of LPC", "column 8: “LPC”, where "),
    ] {
        let (status, told) = ask(measure).await;
        let error = &told["errors"][0];
        assert_eq!((status, error["pointer"].as_str()), (400, Some("?measure")), "{told}");
        assert!(error["detail"].as_str().expect("a text").contains(says), "{told}");
        let (status, page) =
            get(&s, &format!("/marram-ferries/measures?of={}", query(measure))).await;
        assert_eq!(status, 422);
        assert!(page.contains("role=\"alert\"") && page.contains("value=\""), "{page}");
    }
    let hostile =
        get(&s, &format!("/marram-ferries/measures?of={}", query("<script>alert(1)"))).await;
    assert!(hostile.0 == 422 && !hostile.1.contains("<script>alert"));
}

#[tokio::test]
async fn what_is_typed_of_a_measure_is_completed_with_names_that_are_there() {
    let s = server().await;
    let next = async |typed: &str| {
        get(&s, &format!("/marram-ferries/measures/next?of={}", query(typed))).await.1
    };
    assert!(next("avail").await.contains("value=\"availability\""));
    let keys = next("availability for ").await;
    assert!(keys.contains("value=\"availability for journey\"") && !keys.contains("device"));
    let names = next("availability for journey ").await;
    assert!(names.contains("value=\"availability for journey &#34;book&#34;\""), "{names}");
    let steps = next("p75 of step duration for journey \"book\" and step ").await;
    assert!(steps.contains("and step &#34;Open&#34;"), "{steps}");
    assert!(next("availability for location ha").await.contains("&#34;halifax&#34;"));
    assert!(next("error budget left for goal ").await.contains("&#34;Bookable&#34;"));
    assert_eq!(next("nonsense ").await.trim(), "");
}
