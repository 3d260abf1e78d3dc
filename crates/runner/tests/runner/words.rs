//! Every word of the language, played against the stand-in site in Chromium.

use crate::{ALONE, World, world};
use cadentis_core::journey::{Journey, grammar, parse, read_lines, repaired};
use cadentis_core::run::reach::Denied;
use cadentis_core::run::{Outcome, RunRecord};
use cadentis_runner::Setting;
use cadentis_runner::wire::Wire;
use std::collections::{BTreeSet, HashMap};
use std::time::Duration;
use tokio_rustls::rustls::pki_types::CertificateDer;

const DESK: &str = include_str!("words/desk.cadentis");
const WIRE: &str = include_str!("words/wire.cadentis");
/// Names and certificates are looked at from here: behind a proxy nothing is looked up.
const NAMES: &str = r#"script "Names"
step "Name"
  look up localhost
  expect answer "127.0.0.1"
  secure localhost:PORT up to 5 s
  expect certificate for 14 days
"#;
/// Vitals that are only known where a page is loaded and pressed.
const OTHERS: &str = r#"script "Others"
step "Load"
  open http://book.marram.example/
  expect FCP under 1 ms
  expect TTFB under 60 s
  expect text "08:15" in any table
"#;

fn setting(world: &World) -> Setting {
    Setting {
        proxy: Some(world.proxy.address),
        patience: Duration::from_secs(5),
        pictures: false,
        secrets: HashMap::from([("desk_key".to_string(), SECRET.to_string())]),
        ..Setting::default()
    }
}

const SECRET: &str = "sea & sand 100%";

fn script(text: &str) -> Journey {
    let journey = parse(text).unwrap_or_else(|e| panic!("{e}"));
    journey.with_parts(&[]).unwrap_or_else(|e| panic!("{e}"))
}

/// Plays it, and again where this machine was too busy for the browser to answer: that says nothing about the language.
async fn play(journey: &Journey, setting: &Setting) -> RunRecord {
    for _ in 0..2 {
        let record = cadentis_runner::play(journey, setting, |_| {}).await;
        let is_silent =
            |t: &cadentis_core::run::Trouble| t.says.starts_with("The browser did not answer");
        if !record.trouble.as_ref().is_some_and(is_silent) {
            return record;
        }
    }
    cadentis_runner::play(journey, setting, |_| {}).await
}

fn passed(record: &RunRecord) {
    let lines: Vec<_> =
        record.steps.iter().map(|s| (&s.name, s.outcome.word(), &s.trouble)).collect();
    assert_eq!(record.outcome, Outcome::Passed, "{:?}\n{lines:#?}", record.trouble);
}

#[test]
fn no_word_of_the_language_is_left_unplayed() {
    let forms = |text: &str| read_lines(text).into_iter().filter_map(|l| l.form);
    let played: BTreeSet<String> = [DESK, WIRE, NAMES, OTHERS]
        .iter()
        .flat_map(|text| forms(&text.replace("PORT", "1")).collect::<Vec<_>>())
        .collect();
    let all: BTreeSet<String> = grammar::FORMS.iter().map(grammar::Form::written).collect();
    let left: Vec<&String> = all.difference(&played).collect();
    assert!(left.is_empty(), "{left:#?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_person_does_on_a_page_is_done() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let r = play(&script(DESK), &setting(&w)).await;
    passed(&r);
    assert_eq!(r.steps.len(), 9);
    assert_eq!(
        r.steps[0].marks.iter().map(|m| m.name.as_str()).collect::<Vec<_>>(),
        ["desk ready", "mark fetched", "heading there"]
    );
    // The page marks itself ready 150 ms after its script ran.
    assert!(r.steps[0].marks[0].at_ms >= 150.0, "{:?}", r.steps[0].marks);
    let counted: f64 = r.counted_steps().map(|s| s.duration_ms).sum();
    assert!((counted - r.duration_ms).abs() < 0.01 && r.steps[8].clean_up);
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_stands_in_open_shadow_roots_is_found_read_and_used_like_the_rest_of_a_page() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let gifts = r#"script "Gift cards"
step "Look"
  open http://book.marram.example/gifts
  expect text "Balance 400 kr"
  expect no text "Nobody sees this"
  expect element button "Take the card"
  expect exactly 3 of any button in css "gift-card"
  expect text "400" in css "gift-card"
step "Use"
  type "M-77" into field "Card number"
  choose "The café" in field "For"
  tick checkbox "Keep the rest"
  expect value "M-77" in test id "card-number"
  press button "Use the card"
  expect text "M-77 pays for The café, the rest is kept"
  press button "Ask again" in css "card-balance"
  expect text "Balance 380 kr"
  let left be text of css "[role=status]"
  expect text "{left}" in css "card-balance"
"#;
    passed(&play(&script(gifts), &setting(&w)).await);
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_but_the_web_leaves_a_runner_and_no_network_that_is_denied_to_it() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let says = async |steps: &str, setting: &Setting| {
        let r = play(&script(&format!("script \"Out\"\nstep \"Look\"\n{steps}")), setting).await;
        (r.outcome, r.trouble.map_or(String::new(), |t| t.says))
    };
    // Whatever a variable holds.
    for address in [
        "file:///etc/hostname",
        "FILE:///etc/hostname",
        "chrome://version",
        "view-source:http://book.marram.example/",
    ] {
        let (outcome, trouble) =
            says(&format!("  let x be \"{address}\"\n  open {{x}}\n"), &setting(&w)).await;
        assert_eq!(outcome, Outcome::Failed, "{address}");
        assert!(trouble.contains("is no web address: only http and https are opened"), "{trouble}");
    }
    let (outcome, trouble) =
        says("  let x be \"file:///etc/hostname\"\n  send GET {x}\n", &setting(&w)).await;
    assert_eq!(outcome, Outcome::Failed, "{trouble}");

    // The site by its address, without a proxy: reached where nothing is denied, not where this machine is.
    let here = w.site.hosts()["book.marram.example"];
    let free = Setting { proxy: None, ..setting(&w) };
    let denied = Denied::parse(["127.0.0.0/8", "::1"]).expect("networks");
    let bound = Setting { denied, ..free.clone() };
    for steps in [
        format!("  open http://{here}/\n"),
        format!("  send GET http://{here}/\n"),
        format!("  open http://localhost:{}/\n", here.port()),
        format!("  send GET http://localhost:{}/\n", here.port()),
    ] {
        assert_eq!(says(&steps, &free).await, (Outcome::Passed, String::new()), "{steps}");
        let (outcome, trouble) = says(&steps, &bound).await;
        assert_eq!(outcome, Outcome::Failed, "{steps}: {trouble}");
    }
    // A run that got through, but not within its time.
    let late = script(
        "script \"Late\"\n  within 1 ms\nstep \"Look\"\n  send GET http://book.marram.example/\n",
    );
    assert_eq!(play(&late, &setting(&w)).await.outcome, Outcome::Slow);
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn requests_without_a_browser_have_phases_and_hide_what_is_secret() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let r = play(&script(WIRE), &setting(&w)).await;
    passed(&r);
    assert_eq!(r.browser, "no browser");
    let sent = &r.steps[0].requests[0];
    // One round trip of 18 ms for the connection, half of one each way and 88 ms of thinking for the answer.
    assert!(sent.phases.connect_ms >= 15.0 && sent.phases.wait_ms >= 88.0, "{:?}", sent.phases);
    assert_eq!((sent.status, sent.trace.as_ref().map(String::len)), (200, Some(32)));
    assert!(r.steps[0].duration_ms >= sent.phases.total_ms());
    assert!(!serde_json::to_string(&r).expect("JSON").contains("sea & sand"));
    // The secret is not stored: our trouble. The site says something else: the site's.
    let mut nobody = setting(&w);
    nobody.secrets.clear();
    let r = play(&script(WIRE), &nobody).await;
    assert_eq!(r.outcome, Outcome::Unmeasured);
    assert_eq!(r.trouble.map(|t| t.says).as_deref(), Some("The secret desk_key is not stored."));
    let wrong = script(&WIRE.replace("at least 10", "at least 1000"));
    let r = play(&wrong, &setting(&w)).await;
    let trouble = r.trouble.expect("trouble");
    assert_eq!((r.outcome, trouble.line), (Outcome::Failed, 11), "{}", trouble.says);
    assert_eq!(trouble.says, "Expected $.sailings[0].price to be at least 1000; it was \"38\".");
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_link_is_looked_at_once_and_those_that_lead_nowhere_are_told_with_where_they_stand() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let crawl = |what: &str| {
        script(&format!(
            "script \"Links\"\nstep \"Links\"\n  crawl {what}\n  expect no broken links\n"
        ))
    };
    let r = play(&crawl("40 links 1 deep 1 hosts from http://book.marram.example/"), &setting(&w))
        .await;
    passed(&r);
    let links = &r.steps[0].links;
    let mut addresses: Vec<&str> = links.iter().map(|l| l.address.as_str()).collect();
    addresses.sort_unstable();
    addresses.dedup();
    assert!(addresses.len() == links.len() && links.len() >= 5, "{addresses:#?}");
    let tomorrow = links.iter().find(|l| l.address.ends_with("/tomorrow")).expect("a link");
    assert_eq!(
        (tomorrow.text.as_str(), tomorrow.on.as_str(), tomorrow.depth),
        ("Tomorrow", "http://book.marram.example/", 1)
    );
    w.site.change(|s| s.missing_image = true);
    let r = play(
        &crawl("40 links 2 deep 1 hosts from http://book.marram.example/tomorrow"),
        &setting(&w),
    )
    .await;
    let says = r.trouble.expect("trouble").says;
    assert!(says.contains("links are broken: http://book.marram.example/static/gone.svg (status 404) on http://book.marram.example/tomorrow"), "{says}");
    let r = play(
        &crawl("3 links 2 deep 1 hosts from http://book.marram.example/circles"),
        &setting(&w),
    )
    .await;
    let says = r.trouble.expect("trouble").says;
    assert!(says.contains("http://book.marram.example/circles (more than 10 redirects)"), "{says}");
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_page_that_is_not_as_it_was_accepted_fails_and_what_is_left_out_does_not_count() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let look = |what: &str| {
        let text = format!(
            "script \"Look\"\nstep \"Page\"\n  open http://book.marram.example/\n  expect unchanged {what} up to 1 s\n"
        );
        script(&text)
    };
    let accepted = |r: &RunRecord| -> HashMap<String, String> {
        r.steps[0].looked.iter().map(|l| (l.key.clone(), l.seen.clone())).collect()
    };
    let kinds = ["text", "structure", "hosts", "picture"];
    let mut before = HashMap::new();
    for kind in kinds {
        let r = play(&look(kind), &setting(&w)).await;
        passed(&r);
        before.extend(accepted(&r));
    }
    assert_eq!(before.len(), 4);
    let text = &before["Page: text"];
    assert!(
        text.contains("Departures today") && text.contains("08:15") && !text.contains("function"),
        "{text}"
    );
    let with =
        |accepted: &HashMap<String, String>| Setting { accepted: accepted.clone(), ..setting(&w) };
    for kind in kinds {
        passed(&play(&look(kind), &with(&before)).await);
    }
    // Another page stands there now.
    w.site.change(|s| s.blank = true);
    for kind in ["text", "structure", "picture"] {
        let r = play(&look(kind), &with(&before)).await;
        let says = r.trouble.clone().expect("trouble").says;
        assert!(
            r.outcome == Outcome::Failed && says.starts_with(&format!("The {kind} has changed")),
            "{says}"
        );
        assert_eq!(r.steps[0].looked[0].changed.as_ref(), Some(&says));
    }
    // All of it is left out: nothing to compare.
    let without = play(&look("text without css \"body\""), &setting(&w)).await;
    passed(&play(&look("text without css \"body\""), &with(&accepted(&without))).await);
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn circles_floods_of_windows_and_endless_downloads_end() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let open = |path: &str, then: &str| {
        script(&format!(
            "script \"Bad\"\nstep \"Open\"\n  open http://book.marram.example{path}\n  {then}\n"
        ))
    };
    let r = play(&open("/circles", "expect status 200"), &setting(&w)).await;
    let says = r.trouble.expect("trouble").says;
    assert!(r.outcome == Outcome::Failed && says.contains("ERR_TOO_MANY_REDIRECTS"), "{says}");
    let r = play(
        &open("/flood", "press button \"Open them\"\n  expect text \"never there\""),
        &setting(&w),
    )
    .await;
    let says = r.trouble.expect("trouble").says;
    assert!(
        r.outcome == Outcome::Failed && says.starts_with("The page opened more than"),
        "{says}"
    );
    // A download is refused: the page stays, and nothing comes to lie on the disk.
    let r =
        play(&open("/flood", "press link \"Everything\"\n  expect text \"A flood\""), &setting(&w))
            .await;
    assert_eq!(r.outcome, Outcome::Passed, "{:?}", r.trouble);
    let bytes: u64 = r.steps[0].requests.iter().map(|q| q.bytes).sum();
    assert!(bytes < 50_000_000, "{bytes} bytes of an endless download");
    w.site.stop().await;
}

/// A server with a certificate of its own making, valid for so many days.
async fn secure_server(days: i64) -> (u16, CertificateDer<'static>) {
    use tokio_rustls::rustls::{ServerConfig, pki_types::PrivateKeyDer};
    let key = rcgen::KeyPair::generate().expect("a key");
    let mut params = rcgen::CertificateParams::new(vec!["localhost".to_string()]).expect("a name");
    let now = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date();
    let end = now.checked_add(jiff::Span::new().days(days)).expect("a day");
    params.not_before = rcgen::date_time_ymd(2020, 1, 1);
    params.not_after = rcgen::date_time_ymd(end.year().into(), end.month() as u8, end.day() as u8);
    let certificate = params.self_signed(&key).expect("a certificate");
    let der = certificate.der().clone();
    let key = PrivateKeyDer::try_from(key.serialize_der()).expect("a key");
    let config = ServerConfig::builder()
        .with_no_client_auth()
        .with_single_cert(vec![der.clone()], key)
        .expect("a server");
    let acceptor = tokio_rustls::TlsAcceptor::from(std::sync::Arc::new(config));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let port = listener.local_addr().expect("an address").port();
    tokio::spawn(async move {
        while let Ok((tcp, _)) = listener.accept().await {
            let _ = acceptor.accept(tcp).await;
        }
    });
    (port, der)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn names_are_looked_up_and_certificates_are_read_and_distrusted() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let (port, certificate) = secure_server(30).await;
    let names = NAMES.replace("PORT", &port.to_string());
    let trusting = Setting { roots: vec![certificate], ..Setting::default() };
    let record = play(&script(&names), &trusting).await;
    passed(&record);
    assert_eq!(record.certificate_days(), Some(29));
    let says = |r: RunRecord| (r.outcome, r.trouble.map(|t| t.says).unwrap_or_default());
    // 30 days are not 60.
    let (outcome, words) =
        says(play(&script(&names.replace("14 days", "60 days")), &trusting).await);
    assert_eq!(outcome, Outcome::Failed);
    assert!(words == "Expected a certificate for 60 more days; it has 29 left.", "{words}");
    // Nobody we trust vouches for it; and one that has ended is worth nothing.
    let (outcome, words) = says(play(&script(&names), &Setting::default()).await);
    assert!(
        outcome == Outcome::Failed && words.starts_with("No secure connection to localhost"),
        "{words}"
    );
    let (port, ended) = secure_server(-3).await;
    let names = NAMES.replace("PORT", &port.to_string());
    let (outcome, words) =
        says(play(&script(&names), &Setting { roots: vec![ended], ..Setting::default() }).await);
    assert!(outcome == Outcome::Failed && words.contains("expired"), "{words}");
    let (outcome, words) = says(
        play(&script("script \"N\"\nstep \"S\"\n  look up nowhere.invalid\n"), &Setting::default())
            .await,
    );
    assert_eq!((outcome, words.as_str()), (Outcome::Failed, "Nowhere.invalid was not found."));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn hosts_whose_pages_a_browser_opened_are_asked_for_how_long_their_certificates_are_good() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let (port, certificate) = secure_server(30).await;
    let (later, other) = secure_server(60).await;
    let (ended, of_before) = secure_server(-3).await;
    let wire = Wire {
        proxy: None,
        roots: vec![certificate, other, of_before],
        denied: Denied::parse([]).expect("networks"),
    };
    let mut record =
        play(&script("script \"N\"\nstep \"S\"\n  look up localhost\n"), &Setting::default()).await;
    passed(&record);
    let page = |port: u16, kind: &str| {
        let url = format!("https://localhost:{port}/");
        serde_json::from_value(serde_json::json!({
            "url": url, "method": "GET", "kind": kind, "status": 200, "start_ms": 0.0,
            "phases": cadentis_core::timing::phases::Phases::default(), "bytes": 0, "protocol": "h2", "from_cache": false,
        }))
        .expect("a request")
    };
    let mut look = async |pages: Vec<cadentis_core::run::Request>| {
        record.steps[0].certificate_days = None;
        record.steps[0].requests = pages;
        wire.look_at_certificates(&mut record).await;
        record.certificate_days()
    };
    assert_eq!(look(vec![page(later, "document"), page(port, "document")]).await, Some(29));
    assert_eq!(look(vec![page(later, "document"), page(port, "image")]).await, Some(59));
    // One that has ended is believed by nobody, so that its pages have failed; nobody listens at port 1.
    assert_eq!(look(vec![page(ended, "document"), page(1, "document")]).await, None);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_limit_that_does_not_hold_is_slow_and_what_nobody_sees_is_failed_and_then_cleaned_up() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let r = play(&script(OTHERS), &setting(&w)).await;
    assert_eq!(r.outcome, Outcome::Slow, "{:?}", r.trouble);
    assert!(r.trouble.is_some_and(|t| t.line == 4 && t.says.starts_with("FCP took")));
    let script = script(
        "script \"J\"\nstep \"S\"\n  open http://book.marram.example/desk\n  expect text \"Booking M7 found\"\n  press button \"How many berths?\"\n  expect text \"Berths\"\n\
         step \"T\"\n  reload\nclean up \"C\"\n  answer dialog \"None\"\n  expect text \"Berths: None\"\n",
    );
    let r = play(&script, &setting(&w)).await;
    assert_eq!(r.outcome, Outcome::Failed);
    let says = r.trouble.map(|t| (t.line, t.says));
    let want = "A dialog is in the way: \"How many berths?\". Say accept dialog or dismiss dialog.";
    assert_eq!(says, Some((6, want.to_string())));
    let played: Vec<_> = r.steps.iter().map(|s| (s.name.as_str(), s.outcome)).collect();
    assert_eq!(
        played,
        [("S", Outcome::Failed), ("C", Outcome::Passed)],
        "{:?}",
        r.steps[1].trouble
    );
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_that_needed_a_lower_rung_passes_says_so_and_its_time_is_the_pages() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let text = "script \"J\"\n\nstep \"S\"\n  open http://book.marram.example/desk\n\
                \x20 expect text \"Booking M7 found\"\n\
                \nstep \"T\"\n  press button \"Insure us\" or css \"#more\" or button \"More\"\n  expect text \"Timetables as a file\"\n";
    let r = play(&script(text), &setting(&w)).await;
    passed(&r);
    let fell = &r.steps[1].fell_back;
    assert_eq!(fell.len(), 1, "{fell:?}");
    assert_eq!((fell[0].line, fell[0].rung, fell[0].found_by.as_str()), (8, 1, "css \"#more\""));
    assert!(
        r.steps[1].duration_ms < 900.0,
        "the second of grace is ours: {}",
        r.steps[1].duration_ms
    );
    let better = repaired(&script(text), fell);
    assert!(
        better
            .to_string()
            .contains("press css \"#more\" or button \"Insure us\" or button \"More\""),
        "{better}"
    );
    passed(&play(&better, &setting(&w)).await);
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_secret_is_kept_back_from_hosts_that_it_is_not_for_however_the_script_leads_there() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let typed = "script \"T\"\nstep \"Sign in\"\n  open http://book.marram.example/sign-in\n  type \"{secret desk_key}\" into field \"Password\"\n";
    let sent = "script \"S\"\nstep \"Ask\"\n  send POST http://book.marram.example/api/echo\n    with header \"Authorization\" \"Bearer {secret desk_key}\"\n  expect status 201\n";
    let with = |hosts: &[&str]| Setting {
        secret_hosts: HashMap::from([(
            "desk_key".to_string(),
            hosts.iter().map(ToString::to_string).collect(),
        )]),
        ..setting(&w)
    };
    for (name, text) in [("typed", typed), ("sent", sent)] {
        // A host of the same name with something before it is another one, and so is what it is below of.
        for elsewhere in [&["desk.marram.example", "ook.marram.example"][..], &[]] {
            let r = play(&script(text), &with(elsewhere)).await;
            assert_eq!(r.outcome, Outcome::Unmeasured, "{name}: {:?}", r.trouble);
            let says = &r.trouble.as_ref().expect("why").says;
            assert!(says.contains("The secret desk_key was kept back"), "{name}: {says}");
            assert!(says.contains("not for book.marram.example"), "{name}: {says}");
            let asked = r.steps.iter().flat_map(|s| &s.requests).filter(|q| q.method == "POST");
            assert_eq!(asked.count(), 0, "{name}: nothing was sent");
        }
        passed(&play(&script(text), &with(&["marram.example"])).await);
    }
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_secret_is_in_no_evidence_though_the_page_shows_it_everywhere() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let text = "script \"J\"\nstep \"S\"\n  open http://book.marram.example/sign-in\n  type \"Ada\" into field \"User\"\n\
                \x20 type \"{secret desk_key}\" into field \"Password\"\n  press button \"Sign in\"\n  expect text \"signed in as Ada\"\n\
                \x20 expect no script errors\n  expect address \"never\"\n";
    let mut setting = setting(&w);
    setting.pictures = true;
    setting.patience = Duration::from_secs(2);
    let r = play(&script(text), &setting).await;
    assert_eq!(r.outcome, Outcome::Failed);
    let step = &r.steps[0];
    assert!(
        step.requests.iter().any(|q| q.url.contains("password=•••")),
        "{:?}",
        step.requests.iter().map(|q| &q.url).collect::<Vec<_>>()
    );
    assert!(
        step.console.iter().any(|c| c.text.contains("signed in with •••")),
        "{:?}",
        step.console
    );
    let all = serde_json::to_string(&r).expect("JSON");
    let har = cadentis_core::run::Har::of_run(&r).write();
    for shown in ["sea & sand", "sea+%26+sand", "sea%20%26%20sand", "sea \\u0026"] {
        assert!(!all.contains(shown) && !har.contains(shown), "{shown}");
    }
    w.site.stop().await;
}
