//! Journeys played in a real Chromium against the stand-in site.

use crate::{ALONE, World, world};
use cadentis_core::journey::parse;
use cadentis_core::run::{DeviceProfile, Outcome, RunRecord};
use cadentis_runner::film::Film;
use cadentis_runner::{News, Setting, play};
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

async fn played(world: &World, script: &str) -> RunRecord {
    let setting = Setting {
        proxy: Some(world.proxy.address),
        patience: Duration::from_secs(3),
        ..Setting::default()
    };
    play(&parse(script).expect("a script"), &setting, |_| {}).await
}

const SEARCH: &str = r##"script "Search"
step "Open the timetable"
  open http://book.marram.example/
  expect status 200
  expect text "Departures today"
  within 10 s
step "Search sailings"
  choose "Skarholm" in field "From"
  choose "Lunnasay" in field "To"
  press button "Find sailings"
  mark "map in place" when css "#map img"
  expect element list "Sailings"
  expect address "/sailings"
  within 10 s
step "Hold"
  press link "Choose the 08:15"
  type "Ada Holm" into field "Lead passenger"
  press button "Hold the booking"
  expect text "Your booking is held"
"##;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_leaves_steps_vitals_marks_requests_with_phases_and_pictures() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let filmed = Setting {
        proxy: Some(w.proxy.address),
        film: Some(Film::of_width(400)),
        ..Setting::default()
    };
    let r = play(&parse(SEARCH).expect("a script"), &filmed, |_| {}).await;
    assert_eq!(r.outcome, Outcome::Passed, "{:?}", r.trouble);
    assert_eq!(r.steps.len(), 3);
    // The film shows the page as it came, small, and in order.
    for s in &r.steps {
        assert!(
            s.film.iter().all(|f| f.picture.len() > 500 && f.at_ms >= 0.0),
            "{}: {}",
            s.name,
            s.film.len()
        );
        assert!(s.film.is_sorted_by(|a, b| a.at_ms <= b.at_ms));
    }
    let (open, small) = (&r.steps[0], &r.steps[0].film);
    assert!(
        small.iter().any(|f| open.vitals.fcp_ms.is_some_and(|fcp| f.at_ms + 20.0 >= fcp)),
        "{:?}",
        open.vitals
    );
    assert!(small.iter().all(|f| open.picture.as_ref().is_some_and(|p| p.len() > f.picture.len())));
    let total: f64 = r.steps.iter().map(|s| s.duration_ms).sum();
    assert!((total - r.duration_ms).abs() < 0.01);
    let open = &r.steps[0];
    let document = open.requests.iter().find(|q| q.kind == "document").expect("a document");
    // Half a round trip there and half back, and the server's thinking.
    assert!(document.phases.wait_ms >= 18.0 + 36.0, "{:?}", document.phases);
    assert_eq!(document.trace.as_ref().map(String::len), Some(32));
    assert!(open.vitals.fcp_ms.is_some_and(|ms| ms > 0.0), "{:?}", open.vitals);
    assert!(
        open.picture
            .as_ref()
            .is_some_and(|p| p.starts_with("data:image/jpeg;base64,") && p.len() > 5_000)
    );
    let search = &r.steps[1];
    assert_eq!(search.marks.len(), 1);
    assert!(search.marks[0].at_ms > 0.0 && search.marks[0].at_ms <= search.duration_ms);
    // The first request to another host has to wait for its connection: a round trip in the proxy.
    let map = search
        .requests
        .iter()
        .find(|q| q.host() == "tiles.isles-map.example")
        .expect("the map supplier");
    assert!(map.phases.connect_ms + map.phases.queue_ms >= 15.0, "{:?}", map.phases);
    assert!(
        search
            .requests
            .iter()
            .any(|q| q.kind == "fetch" && q.path().starts_with("/api/sailings?from=Skarholm"))
    );
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_the_site_does_wrong_fails_the_run_with_its_line_and_what_is_ours_never_does() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    w.site.change(|s| s.failing_api = 1.0);
    let failed = played(&w, SEARCH).await;
    assert_eq!(failed.outcome, Outcome::Failed);
    let trouble = failed.trouble.clone().expect("trouble");
    assert_eq!(trouble.line, 12, "{trouble:?}");
    let step = &failed.steps[1];
    assert!(
        step.requests.iter().any(|q| q.status == 503 && q.trace.is_some()),
        "the 503 with its trace"
    );
    assert!(step.console.iter().any(|c| c.text.contains("sailings: 503")), "{:?}", step.console);
    assert!(step.picture.is_some(), "a picture at the failure");
    assert_eq!(failed.steps.len(), 2, "nothing is played after a failure");

    // The site cannot be reached from here: failed. Our own proxy is gone: unmeasured.
    w.proxy.change(|p| p.out = true);
    let out = played(&w, SEARCH).await;
    assert_eq!(out.outcome, Outcome::Failed);
    assert!(
        out.trouble.as_ref().is_some_and(|t| t.line == 3 && t.says.contains("net::ERR_")),
        "{:?}",
        out.trouble
    );
    let nobody = cadentis_standins::postgres::free_port().expect("a port");
    let setting = Setting { proxy: Some(([127, 0, 0, 1], nobody).into()), ..Setting::default() };
    let ours = play(&parse(SEARCH).expect("a script"), &setting, |_| {}).await;
    assert_eq!(ours.outcome, Outcome::Unmeasured);
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_browser_killed_in_mid_run_leaves_an_unmeasured_run_and_the_next_one_is_played() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let never = "script \"N\"\nstep \"S\"\n  open http://book.marram.example/\n  expect text \"never there\"\n";
    let setting = Setting { proxy: Some(w.proxy.address), ..Setting::default() };
    let killer = |news: News<'_>| {
        let News::Browser(Some(driver)) = news else { return };
        std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(1_500));
            for pid in cadentis_processes::below(driver as i32) {
                cadentis_processes::signal(pid, libc::SIGKILL);
            }
        });
    };
    let killed = play(&parse(never).expect("a script"), &setting, killer).await;
    assert_eq!(killed.outcome, Outcome::Unmeasured, "{:?}", killed.trouble);
    assert!(killed.trouble.is_some());
    let next = played(
        &w,
        "script \"N\"\nstep \"S\"\n  open http://book.marram.example/\n  expect status 200\n",
    )
    .await;
    assert_eq!(next.outcome, Outcome::Passed, "{:?}", next.trouble);
    w.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_that_is_stuck_is_broken_off_unmeasured_and_its_browser_ends_with_it() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let never = "script \"N\"\nstep \"S\"\n  open http://book.marram.example/\n  expect text \"never there\" up to 60 s\n";
    let longest = Duration::from_secs(4);
    let setting = Setting { proxy: Some(w.proxy.address), longest, ..Setting::default() };
    let driver = AtomicU32::new(0);
    let told = |news: News<'_>| {
        if let News::Browser(Some(pid)) = news {
            driver.store(pid, Ordering::Relaxed);
        }
    };
    let begun = Instant::now();
    let stuck = play(&parse(never).expect("a script"), &setting, told).await;
    assert!((longest..Duration::from_secs(50)).contains(&begun.elapsed()), "{:?}", begun.elapsed());
    assert_eq!(stuck.outcome, Outcome::Unmeasured);
    let says = stuck.trouble.map(|t| t.says);
    assert_eq!(says.as_deref(), Some("The run was stuck for 4 s and was broken off."));
    // The driver is gone, or about to be.
    let driver = driver.into_inner();
    assert!(driver > 0, "the browser had started");
    let until = Instant::now() + Duration::from_secs(20);
    while runs(driver) {
        assert!(Instant::now() < until, "the driver of a run that was broken off still runs");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    w.site.stop().await;
}

/// Whether a process runs: one that has ended and that nobody has asked about yet does not.
fn runs(pid: u32) -> bool {
    let status = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
    status.rsplit(") ").next().is_some_and(|rest| !rest.is_empty() && !rest.starts_with('Z'))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_phone_is_small_slow_and_says_what_it_is() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    let script = "script \"Phone\"\nstep \"Look\"\n  open http://book.marram.example/desk\n  expect text \"Booking M7 found\"\n";
    let played = async |device: &str| {
        let device = DeviceProfile::of(device).expect("a profile");
        let setting = Setting { proxy: Some(w.proxy.address), device, ..Setting::default() };
        play(&parse(script).expect("a script"), &setting, |_| {}).await
    };
    let (desktop, phone) = (played("desktop").await, played("slow-phone").await);
    assert_eq!(phone.outcome, Outcome::Passed, "{:?}", phone.trouble);
    assert_eq!((desktop.device.as_str(), phone.device.as_str()), ("desktop", "slow-phone"));
    // No answer comes in less than 200 ms.
    let took = |r: &RunRecord| r.steps[0].requests[0].phases.total_ms();
    assert!(took(&phone) > 195.0, "{}", took(&phone));
    // A desktop's comes sooner, if not at once: other work may hold a run up, but what is held back by its device never
    // comes sooner, however often it is played.
    let mut quickest = took(&desktop);
    for _ in 0..4 {
        if quickest >= 190.0 {
            quickest = quickest.min(took(&played("desktop").await));
        }
    }
    assert!(quickest < 190.0, "{quickest}");
    // The page is asked what it knows: the stand-in says it in its console.
    let said = phone.steps[0]
        .console
        .iter()
        .find(|c| c.text.starts_with("seen by"))
        .expect("the page says it");
    assert!(
        said.text.contains("Mobile Safari") && said.text.ends_with("390 wide, touch 5"),
        "{}",
        said.text
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_step_over_its_budget_is_slow_and_the_nearer_place_is_quicker() {
    let _alone = ALONE.lock().await;
    let far = world("auckland").await;
    let near = world("bergen").await;
    let script = "script \"T\"\nstep \"Open\"\n  open http://book.marram.example/\n  expect status 200\n  within 700 ms\n";
    let (far_run, near_run) = (played(&far, script).await, played(&near, script).await);
    // 276 ms a round trip, two at least: connection and answer.
    assert_eq!(far_run.outcome, Outcome::Slow);
    assert!(far_run.trouble.is_some_and(|t| t.says.contains("the budget is 0.7 s")));
    // Of two locations the one with the smaller round trip is the quicker (common practice, no
    // published source).
    assert!(near_run.duration_ms < far_run.duration_ms);
    far.site.stop().await;
    near.site.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_way_the_site_can_misbehave_shows_in_the_evidence() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    w.site.change(|s| {
        s.script_error = true;
        s.missing_image = true;
        s.late_shift = true;
        s.heavy_interaction_ms = 400;
    });
    let script = "script \"M\"\nstep \"Open\"\n  open http://book.marram.example/\n  expect text \"Winter timetable\"\n\
        step \"Press\"\n  press heading \"Departures today\"\n  expect text \"Departures today\"\n";
    let r = played(&w, script).await;
    assert_eq!(r.outcome, Outcome::Passed, "{:?}", r.trouble);
    let open = &r.steps[0];
    assert!(
        open.console.iter().any(|c| c.uncaught && c.text.contains("undefined")),
        "{:?}",
        open.console
    );
    assert!(
        open.requests.iter().any(|q| q.status == 404 && q.kind == "image"),
        "the missing image"
    );
    assert!(
        open.vitals.cls.is_some_and(|cls| cls > 0.01),
        "the notice pushed the page down: {:?}",
        open.vitals
    );
    // The press keeps the main thread busy, and what is expected next has to wait for it.
    assert!(r.steps[1].duration_ms >= 350.0, "{} ms", r.steps[1].duration_ms);

    w.site.change(|s| {
        *s = Default::default();
        s.blank = true;
    });
    let blank = played(&w, script).await;
    assert_eq!(blank.outcome, Outcome::Failed);
    assert_eq!(blank.steps[0].vitals.fcp_ms, None, "nothing was painted");
    w.site.stop().await;
}
