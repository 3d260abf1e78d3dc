use cadentis_core::run::{Har, Outcome, Request, RunRecord, StepRecord};
use cadentis_core::timing::Phases;
use jsonschema::{Registry, Resource};
use serde_json::Value;

macro_rules! schemas {
    ($($name:literal),*) => { [$(($name, include_str!(concat!("../../har-schema/", $name)))),*] };
}

/// har-schema 2.0.0 of npm: `har.json` and what it refers to.
fn problems(har: &str) -> Vec<String> {
    let schemas = schemas![
        "afterRequest.json",
        "beforeRequest.json",
        "browser.json",
        "cache.json",
        "content.json",
        "cookie.json",
        "creator.json",
        "entry.json",
        "har.json",
        "header.json",
        "log.json",
        "page.json",
        "pageTimings.json",
        "postData.json",
        "query.json",
        "request.json",
        "response.json",
        "timings.json"
    ];
    let mut whole = None;
    let resources = schemas.map(|(name, text)| {
        let mut schema: Value = serde_json::from_str(text).unwrap();
        let address = format!("https://har.example/{name}");
        schema["$id"] = address.clone().into();
        if name == "har.json" {
            whole = Some(schema.clone());
        }
        (address, schema)
    });
    let mut options = Registry::new();
    for (address, schema) in resources {
        options = options.add(address, Resource::from_contents(schema)).unwrap();
    }
    let registry = options.prepare().unwrap();
    let validator = jsonschema::options().with_registry(&registry).build(&whole.unwrap()).unwrap();
    let instance: Value = serde_json::from_str(har).unwrap();
    validator.iter_errors(&instance).map(|e| format!("{}: {e}", e.instance_path())).collect()
}

fn run() -> RunRecord {
    let request = |url: &str, status, tls_ms, failed: Option<&str>| Request {
        url: url.into(),
        method: "GET".into(),
        kind: "script".into(),
        status,
        start_ms: 12.5,
        phases: Phases {
            queue_ms: 1.0,
            connect_ms: 20.0,
            tls_ms,
            wait_ms: 80.0,
            receive_ms: 4.0,
            ..Phases::default()
        },
        bytes: 12_000,
        protocol: String::new(),
        from_cache: status == 304,
        failed: failed.map(Into::into),
        trace: None,
        asked: Default::default(),
    };
    let step = |name: &str, start_ms, requests| StepRecord {
        duration_ms: 900.0,
        requests,
        ..StepRecord::begun(name, start_ms, None)
    };
    RunRecord {
        id: uuid::Uuid::nil(),
        started_at: "2026-11-22T08:30:00Z".parse().unwrap(),
        outcome: Outcome::Passed,
        duration_ms: 1_800.0,
        trouble: None,
        steps: vec![
            step(
                "Open the site",
                0.0,
                vec![request("https://fjordline.example/?a=1&b", 200, 31.5, None)],
            ),
            step(
                "Search",
                900.0,
                vec![
                    request("https://fjordline.example/app.js", 304, 0.0, None),
                    request("https://maps.example/", 0, 0.0, Some("net::ERR_CONNECTION_REFUSED")),
                ],
            ),
        ],
        browser: "Chromium 156.0".into(),
        runner: "Bergen".into(),
        device: "desktop".into(),
        trial: false,
    }
}

#[test]
fn every_archive_that_we_write_validates_against_har_schema() {
    let written = Har::of_run(&run()).write();
    assert_eq!(problems(&written), Vec::<String>::new());
    let back = Har::read(&written).unwrap();
    assert_eq!(back.remarks, Vec::<String>::new());
    assert_eq!((back.pages.len(), back.entries.len()), (2, 3));
    assert_eq!(back.entries[1].request.start_ms, 12.5);
    assert_eq!(back.entries[0].request.phases, run().steps[0].requests[0].phases);
    assert_eq!(back.entries[2].request.failed.as_deref(), Some("net::ERR_CONNECTION_REFUSED"));
}

#[test]
fn the_schema_would_tell_a_broken_archive() {
    let written = Har::of_run(&run()).write().replace("\"startedDateTime\"", "\"began\"");
    assert!(!problems(&written).is_empty());
}
