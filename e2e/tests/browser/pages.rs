//! The demo stack, looked at with a real browser.

use cadentis_e2e::{Demo, Looker};
use serde_json::{Value, json};
use std::time::{Duration, Instant};
use thirtyfour::{By, Key};

pub(crate) const AXE: &str = include_str!("../../vendor/axe.min.js");

async fn healthz(demo: &Demo) -> Value {
    let answer =
        reqwest::get(format!("{}/healthz", demo.address)).await.expect("the server answers");
    assert_eq!(answer.status(), 200);
    answer.json().await.expect("healthz is JSON")
}

/// One demo for all of it: it is the same stack that a person would look at.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_demo_shows_real_runs_and_real_visits_and_its_pages_can_be_used_by_everyone() {
    let mut demo = Demo::start(&[]);
    let health = healthz(&demo).await;
    assert_eq!((&health["status"], &health["database"]), (&json!("ok"), &json!("ok")));
    assert_eq!(health["last_run_age_s"].as_object().map(|o| o.len()), Some(8));

    let looker = Looker::start(&[]).await;
    looker.sign_in(&demo, "Ines").await;
    a_run_played_just_now_stands_on_the_journey_page_and_opens_with_its_waterfall(&demo, &looker)
        .await;
    the_time_strip_changes_the_stretch_and_the_stretch_stays_between_pages(&demo, &looker).await;
    hovering_reads_every_lane_at_that_moment(&demo, &looker).await;
    a_visit_in_a_real_browser_appears_under_visitors(&demo, &looker).await;
    a_filter_chosen_from_the_line_stays_between_pages_and_a_key_splits_phones_from_desktops(
        &demo, &looker,
    )
    .await;
    the_map_leads_into_a_country_and_back(&demo, &looker).await;
    a_file_is_brought_and_history_is_put_into_new_families(&demo, &looker).await;
    a_script_is_started_written_played_and_saved(&demo, &looker).await;
    what_the_server_refuses_is_told_where_it_was_asked_and_nothing_typed_is_lost(&demo, &looker)
        .await;
    a_journey_recorded_through_the_page_plays(&demo, &looker).await;
    somebody_is_let_in_by_a_link_and_a_program_by_a_token(&demo, &looker).await;
    looker.end().await;
    it_ends_with_everything_it_started(&mut demo);
}

async fn a_run_played_just_now_stands_on_the_journey_page_and_opens_with_its_waterfall(
    demo: &Demo,
    looker: &Looker,
) {
    // Any location whose newest run became younger has just played.
    let ages = |h: &Value| -> Vec<f64> {
        h["last_run_age_s"]
            .as_object()
            .map(|o| o.values().filter_map(Value::as_f64).collect())
            .unwrap_or_default()
    };
    let before = ages(&healthz(demo).await);
    let until = Instant::now() + Duration::from_secs(180);
    while ages(&healthz(demo).await).iter().zip(&before).all(|(now, then)| now >= then) {
        assert!(Instant::now() < until, "no run was played within three minutes");
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    looker
        .driver
        .goto(format!("{}/marram-ferries/journeys/check-the-timetable", demo.address))
        .await
        .expect("the page opens");
    // Only runs that were really played have pictures; history has none.
    let newest = "return [...document.querySelectorAll('a.run')].map(a => new URL(a.getAttribute('href'), location).href)";
    let links: Vec<String> = serde_json::from_value(looker.ask(newest).await).expect("links");
    assert!(links.len() > 100, "{} runs in the lanes", links.len());
    let until = Instant::now() + Duration::from_secs(120);
    'found: loop {
        for journey in ["check-the-timetable", "book-a-crossing"] {
            looker
                .driver
                .goto(format!("{}/marram-ferries/journeys/{journey}", demo.address))
                .await
                .expect("the page opens");
            let newest = "return [...document.querySelectorAll('.lane')].map(l => [...l.querySelectorAll('a.run')].pop()).filter(Boolean).map(a => new URL(a.getAttribute('href'), location).href)";
            let links: Vec<String> =
                serde_json::from_value(looker.ask(newest).await).expect("links");
            for link in links {
                looker.driver.goto(&link).await.expect("the run opens");
                if looker.ask("return document.querySelectorAll('.film img').length > 0").await
                    == true
                {
                    break 'found;
                }
            }
        }
        assert!(Instant::now() < until, "no run with pictures on the journey pages");
        tokio::time::sleep(Duration::from_secs(2)).await;
    }
    let requests =
        looker.ask("return document.querySelectorAll('.waterfall .request').length").await;
    assert!(requests.as_u64() >= Some(1), "a waterfall with requests");
    let connect =
        looker.ask("return document.querySelectorAll('.waterfall .part.waiting').length").await;
    assert!(connect.as_u64() >= Some(1), "real waiting in it");
    looker
        .wait_for(
            "the picture is a picture",
            "return document.querySelector('.film img').naturalWidth > 300",
            10,
        )
        .await;
}

async fn a_script_is_started_written_played_and_saved(demo: &Demo, looker: &Looker) {
    let type_into = async |css: &str, text: &str| {
        let field = looker.driver.find(By::Css(css)).await.expect("a field");
        field.clear().await.expect("it can be emptied");
        field.send_keys(text).await.expect("it can be typed into");
    };
    let press = async |css: &str| {
        looker.driver.find(By::Css(css)).await.expect("a button").click().await.expect("pressed")
    };
    looker
        .driver
        .goto(format!("{}/marram-ferries/journeys/new", demo.address))
        .await
        .expect("the page opens");
    type_into("input[name='page.address']", "http://book.marram.example/tomorrow").await;
    type_into("input[name='page.text']", "Departures tomorrow").await;
    type_into("input[name=name]", "Look at tomorrow").await;
    let cost = "return document.querySelector('[data-cost]').textContent.startsWith('2,304 runs a day, 69,120 in 30 days')";
    looker.wait_for("the cost", cost, 10).await;
    press("form[data-start] button").await;
    looker.wait_for("the editor", "return !!document.querySelector('.cm-content')", 20).await;
    // What is wrong stands under its line while it is typed, and what could come next is offered.
    press(".cm-content").await;
    looker
        .driver
        .action_chain()
        .key_down(Key::Control)
        .send_keys(Key::End)
        .key_up(Key::Control)
        .perform()
        .await
        .expect("keys");
    looker.driver.action_chain().send_keys("\n  pres ").perform().await.expect("keys");
    let complaint = "return [...document.querySelectorAll('.complaint')].some(c => c.textContent.includes('did you mean `press`?'))";
    looker.wait_for("the complaint", complaint, 10).await;
    looker
        .driver
        .action_chain()
        .send_keys(Key::Backspace)
        .send_keys("s link \"Timetable")
        .send_keys(Key::End)
        .perform()
        .await
        .expect("keys");
    looker
        .wait_for(
            "the script can be played",
            "return document.querySelector('[data-verdict]').textContent === 'can be played'",
            10,
        )
        .await;
    // A card changes the text.
    let card =
        "const i = [...document.querySelectorAll('.cards input')].find(i => i.value.includes('Departures tomorrow'));
        i.value = 'expect text \"Departures\"'; i.dispatchEvent(new Event('change')); return true";
    looker.ask(card).await;
    let text = "return document.querySelector('[data-script]').cadentisText()";
    let written = looker.ask(text).await;
    let written = written.as_str().expect("a text");
    assert!(
        written.contains("  expect text \"Departures\"\n")
            && written.trim_end().ends_with("press link \"Timetable\""),
        "{written}"
    );
    // Played before it is saved: steps, and a film.
    press("[data-play]").await;
    each_step_of_the_trial_holds(looker).await;
    let film = "return document.querySelectorAll('[data-trial-room] .film img').length";
    assert!(looker.ask(film).await.as_u64().is_some_and(|n| n >= 1));
    type_into("[data-note]", "follow the link, too").await;
    press("[data-save]").await;
    looker
        .wait_for(
            "saved",
            "return document.querySelector('[data-saved]').textContent === 'Saved as version 2.'",
            10,
        )
        .await;
    looker
        .driver
        .goto(format!("{}/marram-ferries/journeys/look-at-tomorrow/script?compare=1", demo.address))
        .await
        .expect("the page opens");
    let came = "return [...document.querySelectorAll('.diff .new')].map(l => l.textContent.trim()).join('|')";
    assert_eq!(
        looker.ask(came).await,
        json!("+   expect text \"Departures\"|+|+   press link \"Timetable\"")
    );
}

/// After the script of "Look at tomorrow" was saved as version 2.
async fn what_the_server_refuses_is_told_where_it_was_asked_and_nothing_typed_is_lost(
    demo: &Demo,
    looker: &Looker,
) {
    let script = format!("{}/marram-ferries/journeys/look-at-tomorrow/script", demo.address);
    looker.driver.goto(&script).await.expect("the page opens");
    looker.wait_for("the editor", "return !!document.querySelector('.cm-content')", 20).await;
    let press = async |css: &str| {
        looker.driver.find(By::Css(css)).await.expect("a button").click().await.expect("pressed")
    };
    let fill = async |css: &str, text: &str| {
        let fill = format!(
            "const f = document.querySelector({css:?}); f.value = {text:?}; f.dispatchEvent(new Event('input', {{ bubbles: true }})); return true"
        );
        assert_eq!(looker.ask(&fill).await, true);
    };
    let wait_for = async |css: &str, says: &str| {
        let seen = format!("return document.querySelector({css:?}).textContent.includes({says:?})");
        looker.wait_for(says, &seen, 10).await;
    };
    let type_at_the_end = async |text: &str| {
        press(".cm-content").await;
        let end = looker
            .driver
            .action_chain()
            .key_down(Key::Control)
            .send_keys(Key::End)
            .key_up(Key::Control);
        end.send_keys(text).perform().await.expect("keys");
    };
    let written = async || {
        looker
            .ask("return document.querySelector('[data-script]').cadentisText()")
            .await
            .to_string()
    };

    // A version that somebody else was quicker with: the text stays.
    type_at_the_end("\n  expect status 200").await;
    let text = looker.ask("return document.querySelector('[data-text]').value + '\\n'").await;
    let body = json!({ "script": text, "based_on": 2, "note": "" });
    let saved = reqwest::Client::new().post(&script).json(&body);
    let saved = saved.header("sec-fetch-site", "same-origin");
    let saved = saved.header("cookie", demo.cookie_of("editor").await).send().await;
    assert_eq!(saved.expect("an answer").status(), 200, "Tor saves meanwhile");
    press("[data-save]").await;
    wait_for("[data-saved]", "Not saved: Tor saved version 3 meanwhile").await;
    assert!(written().await.contains("expect status 200"));
    // A script that cannot be played is neither saved nor played, and both say where it is wrong.
    type_at_the_end("\n  pres").await;
    press("[data-save]").await;
    wait_for("[data-saved]", "did you mean `press`?").await;
    press("[data-play]").await;
    wait_for("[data-trial-says]", "The script cannot be played yet: line ").await;
    // A schedule that is none says so beside it, and what it would cost is not made up.
    fill("[data-plays] [name=pace]", "cron").await;
    fill("[data-plays] [name=cron]", "0 25 * * *").await;
    wait_for("[data-plays] [data-next]", "hour").await;
    let broken = "return document.querySelector('[data-plays] [data-next]').classList.contains('broken') && document.querySelector('[data-cost]').textContent === ''";
    looker.wait_for("no cost", broken, 10).await;
    looker.ask("onbeforeunload = null; document.querySelector('[data-text]').value = document.querySelector('[data-script]').cadentisText(); return true").await;

    // Files: each is told about, the good one is there.
    looker
        .driver
        .goto(format!("{}/marram-ferries/journeys/new", demo.address))
        .await
        .expect("the page opens");
    let brought = "const files = new DataTransfer(); \
        files.items.add(new File(['script \"Good\"\\nstep \"S\"\\n  open http://book.marram.example/\\n'], 'good.cadentis')); \
        files.items.add(new File(['script \"Bad\"\\nstep \"S\"\\n  pres\\n'], 'bad.cadentis')); \
        files.items.add(new File([new Uint8Array([0x50, 0x4b, 3, 4, 9])], 'torn.zip')); \
        const form = document.querySelector('[data-import]'); form.elements.files.files = files.files; \
        form.requestSubmit(); return true";
    assert_eq!(looker.ask(brought).await, true);
    for says in [
        "good.cadentis: is there as “Good”, paused.",
        "bad.cadentis: line 3",
        "torn.zip: The archive cannot be read",
    ] {
        wait_for("[data-brought]", says).await;
    }
    // A recording of what is no address says what is right.
    looker
        .driver
        .goto(format!("{}/marram-ferries/journeys/record", demo.address))
        .await
        .expect("the page opens");
    let ask = "const form = document.querySelector('[data-record-ask]'); form.elements.address.removeAttribute('type'); \
        form.elements.address.value = 'file:///etc/passwd'; form.requestSubmit(); return true";
    assert_eq!(looker.ask(ask).await, true);
    wait_for("[data-record-says]", "Address: expected").await;
}

/// Waits for the trial on the page of a script. On a machine short of CPU the runner rightly calls the whole
/// unmeasured; each of its steps must have held all the same.
async fn each_step_of_the_trial_holds(looker: &Looker) {
    let said = "return document.querySelector('[data-trial-says]').textContent";
    looker.wait_for("the trial", &format!("{said}.startsWith('It ')"), 120).await;
    let outcome = looker.ask(said).await;
    let room = looker.ask("return document.querySelector('[data-trial-room]').innerText").await;
    let outcome = outcome.as_str().unwrap_or_default();
    let measured = ["It passed", "It was slow"].iter().any(|t| outcome.starts_with(t));
    let short_of_cpu =
        ["is short of CPU", "CPU time to others"].iter().any(|t| room.to_string().contains(t));
    assert!(
        measured || outcome.starts_with("It was not measured") && short_of_cpu,
        "{outcome} {room}"
    );
    let steps = looker
        .ask("return [...document.querySelectorAll('.trial-steps li')].map(l => l.innerText)")
        .await;
    let steps: Vec<String> = serde_json::from_value(steps).expect("texts");
    let held = |s: &String| s.contains("passed in") || s.contains("slow in");
    assert!(!steps.is_empty() && steps.iter().all(held), "{outcome} {room}");
}

async fn the_time_strip_changes_the_stretch_and_the_stretch_stays_between_pages(
    demo: &Demo,
    looker: &Looker,
) {
    looker
        .driver
        .goto(&format!("{}/marram-ferries/journeys", demo.address))
        .await
        .expect("the page opens");
    let words = "return document.querySelector('.when b').textContent";
    let before = looker.ask(words).await;
    looker
        .ask(
            "const s = document.querySelector('[data-strip] svg'), b = s.getBoundingClientRect();
             const at = (type, part, target) => target.dispatchEvent(new PointerEvent(type, { bubbles: true, button: 0,
                 clientX: b.left + b.width * part, clientY: b.top + 10 }));
             at('pointerdown', .85, s); at('pointermove', .9, window); at('pointermove', .95, window); at('pointerup', .95, window);",
        )
        .await;
    looker
        .wait_for("the address carries the stretch", "return location.search.includes('from=')", 10)
        .await;
    let chosen = looker.ask(words).await;
    assert_ne!(before, chosen);
    let hours = looker
        .ask("const p = new URL(location.href).searchParams; return (Date.parse(p.get('to')) - Date.parse(p.get('from'))) / 3600e3")
        .await;
    // A tenth of two weeks.
    assert!((hours.as_f64().unwrap_or(0.0) - 33.6).abs() < 1.5, "{hours} h");
    looker
        .ask("document.querySelector('.top nav a[href^=\"/marram-ferries/visitors\"]').click()")
        .await;
    looker.wait_for("the visitors page", "return document.title.startsWith('Visitors')", 20).await;
    assert_eq!(looker.ask(words).await, chosen);
    looker.ask("document.body.dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowLeft', bubbles: true }))").await;
    let other = format!("return document.querySelector('.when b').textContent !== {chosen}");
    looker.wait_for("an arrow key moves it", &other, 20).await;
}

async fn hovering_reads_every_lane_at_that_moment(demo: &Demo, looker: &Looker) {
    looker
        .driver
        .goto(&format!("{}/marram-ferries/journeys/book-a-crossing", demo.address))
        .await
        .expect("the page opens");
    // At several moments: in the quiet of the night there may be nobody to read of.
    let read = looker
        .ask(
            "const s = document.querySelector('[data-lineup]'), b = s.getBoundingClientRect();
             return [.25, .35, .45, .55, .65, .75, .85].map(part => {
                 s.dispatchEvent(new PointerEvent('pointermove', { bubbles: true, clientX: b.left + b.width * part, clientY: b.top + 200 }));
                 return [...s.querySelectorAll('.read')].map(t => t.textContent);
             })",
        )
        .await;
    let read: Vec<Vec<String>> = serde_json::from_value(read).expect("texts");
    // Visitors, eight locations and the error budget; happenings have nothing to read.
    let lanes = |texts: &&Vec<String>| texts.iter().filter(|t| !t.is_empty()).count();
    assert!(read.iter().all(|texts| lanes(&texts) >= 9), "{read:?}");
    let full = read.iter().find(|texts| lanes(texts) == 10);
    let full = full.unwrap_or_else(|| panic!("no moment at which every lane is read: {read:?}"));
    assert!(
        full.iter().any(|t| t.contains("views")) && full.iter().any(|t| t.ends_with("left")),
        "{full:?}"
    );
}

async fn a_visit_in_a_real_browser_appears_under_visitors(demo: &Demo, looker: &Looker) {
    let there = demo.said("world.json");
    let proxy = there["proxies"]["bergen"].as_str().expect("a proxy for Bergen");
    let visitor = Looker::start(&[
        format!("--proxy-server=socks5://{proxy}"),
        "--proxy-bypass-list=<-loopback>".into(),
        "--disable-blink-features=AutomationControlled".into(),
        // A name of its own, so that this visit can be told from the generator's.
        "--user-agent=Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 Chrome/156.0 Safari/537.36 OPR/99.0".into(),
    ])
    .await;
    visitor
        .driver
        .goto("http://book.marram.example/cabin?sailing=m1")
        .await
        .expect("the site opens");
    assert_eq!(
        visitor.ask("return navigator.webdriver === true").await,
        false,
        "the snippet leaves driven pages out"
    );
    let sent =
        "return performance.getEntriesByType('resource').some(r => r.name.includes('/beacons/'))";
    visitor.wait_for("the snippet has sent a beacon", sent, 15).await;
    // Leaving the page sends the rest.
    visitor.driver.goto("http://book.marram.example/").await.expect("the site opens");
    looker
        .driver
        .goto(&format!("{}/marram-ferries/visitors", demo.address))
        .await
        .expect("the page opens");
    let arrived = "return [...document.querySelectorAll('#arrivals tr')].some(r => r.textContent.includes('/cabin') && r.textContent.includes('Opera'))";
    looker.wait_for("the visit stands under the newest page views", arrived, 30).await;
    visitor.end().await;
}

async fn a_filter_chosen_from_the_line_stays_between_pages_and_a_key_splits_phones_from_desktops(
    demo: &Demo,
    looker: &Looker,
) {
    let find = async |css: &str| {
        looker.driver.find(By::Css(css)).await.unwrap_or_else(|e| panic!("{css}: {e}"))
    };
    looker
        .driver
        .goto(&format!("{}/marram-ferries/visitors?vital=INP", demo.address))
        .await
        .expect("the page opens");
    let views = "return document.querySelector('.readings dd').textContent";
    let all = looker.ask(views).await;
    find(".filter-attribute:nth-of-type(3) summary").await.click().await.expect("it opens");
    let offered = "return [...document.querySelectorAll('.filter-attribute[open] a')].some(a => a.textContent.trim() === 'NO')";
    looker.wait_for("the countries", offered, 15).await;
    looker
        .ask("[...document.querySelectorAll('.filter-attribute[open] a')].find(a => a.textContent.trim() === 'NO').click()")
        .await;
    let chip = "return [...document.querySelectorAll('.filter .chip')].map(c => c.textContent.trim()).join()";
    looker.wait_for("the filter", &chip.replace("return ", "return 'country NO ×' === "), 15).await;
    assert_eq!(
        looker.ask("return new URL(location).searchParams.get('vital')").await,
        "INP",
        "the page stays what it was"
    );
    assert_ne!(looker.ask(views).await, all, "fewer page views");
    looker.driver.action_chain().send_keys("d").perform().await.expect("pressed");
    looker
        .wait_for(
            "phones only",
            &chip.replace("return ", "return 'device phone ×,country NO ×' === "),
            15,
        )
        .await;
    find(".subnav a[href^='/marram-ferries/visitors/requests']")
        .await
        .click()
        .await
        .expect("pressed");
    looker.wait_for("the requests", "return document.title.startsWith('Requests')", 15).await;
    assert_eq!(looker.ask(chip).await, "device phone ×,country NO ×");
    find(".filter .chip").await.click().await.expect("pressed");
    looker.wait_for("one less", &chip.replace("return ", "return 'country NO ×' === "), 15).await;
}

async fn the_map_leads_into_a_country_and_back(demo: &Demo, looker: &Looker) {
    looker
        .driver
        .goto(&format!("{}/marram-ferries/visitors?against=none", demo.address))
        .await
        .expect("the page opens");
    let norway = "[...document.querySelectorAll('.map a title')].find(t => t.textContent.startsWith('Norway: '))";
    looker.wait_for("Norway on the map", &format!("return !!{norway}"), 20).await;
    assert!(
        looker.ask("return document.querySelectorAll('.map .runner').length").await.as_u64()
            >= Some(8)
    );
    looker
        .ask(&format!(
            "{norway}.closest('a').dispatchEvent(new MouseEvent('click', {{ bubbles: true }}))"
        ))
        .await;
    let inside = "return new URL(location).searchParams.getAll('only').join() === 'country:NO' && [...document.querySelectorAll('.breakdown-room th a')].some(a => a.textContent === 'Vestland')";
    looker.wait_for("its regions", inside, 20).await;
    let drawn = "return document.querySelector('.map').viewBox.baseVal.width";
    assert!(looker.ask(drawn).await.as_f64() < Some(5_000.0), "it is drawn larger");
    looker
        .ask("[...document.querySelectorAll('.breakdown-room th a')].find(a => a.textContent === 'Vestland').click()")
        .await;
    let cities = "return [...document.querySelectorAll('.breakdown-room th a')].some(a => a.textContent === 'Bergen')";
    looker.wait_for("its cities", cities, 20).await;
    let crumbs = "return [...document.querySelectorAll('.breakdown-room .small-print a')].map(a => a.textContent).slice(0, 2).join()";
    assert_eq!(looker.ask(crumbs).await, "World,Norway (NO)");
    looker.ask("document.querySelector('.breakdown-room .small-print a').click()").await;
    looker
        .wait_for(
            "the world",
            "return document.querySelector('.map')?.viewBox.baseVal.width === 10000",
            20,
        )
        .await;
}

async fn a_file_is_brought_and_history_is_put_into_new_families(demo: &Demo, looker: &Looker) {
    let find = async |css: &str| {
        looker.driver.find(By::Css(css)).await.unwrap_or_else(|e| panic!("{css}: {e}"))
    };
    let file = std::env::temp_dir().join(format!("cadentis-{}.csv", std::process::id()));
    let at = jiff::Timestamp::now() - jiff::SignedDuration::from_hours(24 * 60);
    let table = format!(
        "url,at,lcp\nhttp://book.marram.example/harbour,{at},900\nhttp://book.marram.example/,soon,1\n"
    );
    std::fs::write(&file, table).expect("a file");
    looker
        .driver
        .goto(&format!("{}/marram-ferries/settings/visitors", demo.address))
        .await
        .expect("the page opens");
    find("input[name=files]").await.send_keys(file.to_string_lossy()).await.expect("chosen");
    find("[data-measured] button").await.click().await.expect("pressed");
    let says = "const t = document.querySelector('[data-measured-room]').textContent; return t.includes('1 page views are there now.') && t.includes('line 3.at: no moment')";
    looker.wait_for("what became of it", says, 20).await;
    let _ = std::fs::remove_file(&file);
    find("textarea[name=families]").await.send_keys("\n/harbour Harbour").await.expect("typed");
    // The page that is left says the same as the one that comes, until it is left.
    looker.ask("window.isLeft = true; document.querySelector('form.stack').requestSubmit()").await;
    looker
        .wait_for("it is kept", "return !window.isLeft && document.querySelector('textarea[name=families]')?.value.includes('/harbour Harbour') && document.readyState === 'complete'", 20)
        .await;
    find("form[action='/marram-ferries/settings/visitors/history'] button")
        .await
        .click()
        .await
        .expect("pressed");
    let done = "return document.body.textContent.includes('1 page views changed their family')";
    looker.wait_for("history is in its families", done, 180).await;
}

async fn a_journey_recorded_through_the_page_plays(demo: &Demo, looker: &Looker) {
    looker
        .driver
        .goto(format!("{}/marram-ferries/journeys/record", demo.address))
        .await
        .expect("the page opens");
    let press = async |css: &str| {
        looker.driver.find(By::Css(css)).await.expect("a button").click().await.expect("pressed")
    };
    press("select[name=location] option[value=bergen]").await;
    press("form[data-record-ask] button").await;
    looker
        .wait_for(
            "the page's picture",
            "return !!document.querySelector('[data-record]').dataset.shown",
            90,
        )
        .await;
    let shows = |part: &str| {
        format!("return document.querySelector('[data-address]').textContent.includes('{part}')")
    };
    let says = |part: &str| {
        format!("return document.querySelector('[data-recorded]').innerText.includes('{part}')")
    };
    // Places of the page, as fractions of its window of 1280 × 800.
    let canvas = looker.driver.find(By::Css("[data-screen]")).await.expect("a canvas");
    let at = async |x: f64, y: f64| {
        tokio::time::sleep(Duration::from_millis(800)).await;
        let (width, height) = canvas.rect().await.map(|r| (r.width, r.height)).expect("a place");
        let (x, y) = ((x / 1280.0 - 0.5) * width, (y / 800.0 - 0.5) * height);
        let chain = looker.driver.action_chain();
        chain
            .move_to_element_with_offset(&canvas, x as i64, y as i64)
            .click()
            .perform()
            .await
            .expect("pressed");
    };
    // A machine with runners at work takes its time to load the page that is pressed.
    looker.wait_for("the address", &shows("book.marram.example"), 60).await;
    let options = "return document.querySelectorAll('.options button').length === 4";
    'pressed: for _ in 0..6 {
        at(438.0, 441.0).await;
        for _ in 0..20 {
            tokio::time::sleep(Duration::from_millis(200)).await;
            if looker.ask(options).await == true {
                break 'pressed;
            }
        }
    }
    looker.wait_for("the options", options, 1).await;
    press(".options li:nth-child(3) button").await;
    looker.wait_for("the choice", &says("choose \"Vetterey\" in field \"To\""), 20).await;
    at(589.0, 438.0).await;
    looker.wait_for("the next page", &shows("/sailings?from=Skarholm&to=Vetterey"), 20).await;
    tokio::time::sleep(Duration::from_secs(1)).await;
    press("[data-point]").await;
    at(290.0, 353.0).await;
    looker
        .wait_for("what was pointed at", "return !document.querySelector('[data-over]').hidden", 20)
        .await;
    press("[data-over] button").await;
    looker.wait_for("the expectation", &says("expect text \"Sailings\""), 20).await;
    press("[data-stop]").await;
    looker
        .wait_for("the form", "return !!document.querySelector('textarea[name=script]')", 20)
        .await;
    let field = looker.driver.find(By::Css("input[name=name]")).await.expect("a field");
    field.clear().await.expect("it can be emptied");
    field.send_keys("Recorded by the sea").await.expect("it can be typed into");
    press("form[data-start] button.main").await;
    looker.wait_for("the editor", "return !!document.querySelector('.cm-content')", 20).await;
    press("[data-location] option[value=bergen]").await;
    press("[data-play]").await;
    each_step_of_the_trial_holds(looker).await;
}

pub(crate) async fn fill(looker: &Looker, css: &str, text: &str) {
    let field = looker.driver.find(By::Css(css)).await.expect(css);
    field.clear().await.expect("it can be emptied");
    field.send_keys(text).await.expect("it can be typed into");
}

pub(crate) async fn press(looker: &Looker, words: &str) {
    let button = format!("//button[normalize-space()='{words}']");
    let button = looker.driver.find(By::XPath(button)).await.expect(words);
    button.click().await.expect("pressed");
}

async fn somebody_is_let_in_by_a_link_and_a_program_by_a_token(demo: &Demo, looker: &Looker) {
    // Long after signing in what is grave is closed, until the password is typed again.
    let access = demo.said("access.json");
    let people = access["people"].as_array().expect("people");
    let ines = people.iter().find(|p| p["role"] == "administrator").expect("Ines");
    looker.sign_in_anew(demo, "Ines").await;
    looker.driver.goto(format!("{}/confirm?to=/setup/people", demo.address)).await.expect("a page");
    fill(looker, "input[name=password]", "not hers at all").await;
    press(looker, "Go on").await;
    looker
        .wait_for(
            "told",
            "return document.body.textContent.includes('This is not your password.')",
            20,
        )
        .await;
    fill(looker, "input[name=password]", ines["password"].as_str().expect("a password")).await;
    press(looker, "Go on").await;
    looker.wait_for("people", "return location.pathname === '/setup/people'", 20).await;

    fill(looker, "input[name=name]", "Runa").await;
    fill(looker, "form.stack input[name=email]", "runa@marram.example").await;
    let on_ferries = "const role = document.querySelector('form.stack select'); role.value = 'reader'; return role.closest('label').textContent.includes('Marram Ferries')";
    assert_eq!(looker.ask(on_ferries).await, true);
    press(looker, "Make a link").await;
    looker.wait_for("the link", "return !!document.querySelector('.told-once code')", 20).await;
    let link = looker.ask("return document.querySelector('.told-once code').textContent").await;
    let link = link.as_str().expect("a link").to_string();

    let runa = Looker::start(&[]).await;
    runa.driver.goto(&link).await.expect("the page opens");
    fill(&runa, "input[name=password]", "runa marram").await;
    press(&runa, "Go on").await;
    runa.wait_for(
        "told",
        "return document.body.textContent.includes('This one would be guessed.')",
        20,
    )
    .await;
    fill(&runa, "input[name=password]", "quay lamp herring drizzle").await;
    press(&runa, "Go on").await;
    runa.wait_for(
        "in",
        "return location.pathname === '/marram-ferries' && document.querySelector('.me').textContent === 'Runa'",
        20,
    )
    .await;
    let closed = "return !document.querySelector('nav [href*=\"/settings\"], header details.site')";
    assert_eq!(runa.ask(closed).await, true, "one site alone, and nothing to set up");
    runa.driver.goto(&link).await.expect("the page opens");
    let used = "return document.body.textContent.includes('This link is good no more.')";
    runa.wait_for("used up", used, 20).await;
    // Shut out by whoever let her in: the next page is the way to sign in.
    looker.driver.goto(format!("{}/setup/people", demo.address)).await.expect("the page opens");
    let out = "//tr[.//td[contains(., 'runa@')]]//button[normalize-space()='Shut out']";
    looker.driver.find(By::XPath(out)).await.expect("a button").click().await.expect("pressed");
    looker.wait_for("shut out", "return document.body.textContent.includes('shut out')", 20).await;
    runa.driver
        .goto(format!("{}/marram-ferries/journeys", demo.address))
        .await
        .expect("the page opens");
    runa.wait_for("out", "return location.pathname === '/sign-in'", 20).await;
    runa.end().await;

    looker
        .driver
        .goto(format!("{}/marram-ferries/settings/programs", demo.address))
        .await
        .expect("the page opens");
    fill(looker, "form.stack input[name=name]", "Releases").await;
    press(looker, "Make it").await;
    looker.wait_for("the token", "return !!document.querySelector('.told-once code')", 20).await;
    let says = looker.ask("return document.querySelector('.told-once code').textContent").await;
    let token = says.as_str().and_then(|s| s.split("Bearer ").nth(1)?.split('"').next());
    let asked = reqwest::Client::new().get(format!("{}/api/v1/sites", demo.address));
    let answer = asked.bearer_auth(token.expect("a token")).send().await.expect("an answer");
    let sites: Value = answer.json().await.expect("JSON");
    assert_eq!(sites[0]["name"], "Marram Ferries");
}

fn it_ends_with_everything_it_started(demo: &mut Demo) {
    let started = cadentis_processes::below(demo.process.id() as i32);
    assert!(started.len() >= 5, "database, server, stand-ins and two runners: {started:?}");
    demo.end();
    let alive = |pid: &&i32| {
        std::fs::read_to_string(format!("/proc/{pid}/stat")).is_ok_and(|s| !s.contains(") Z "))
    };
    let left: Vec<&i32> = started.iter().filter(alive).collect();
    assert!(left.is_empty(), "still running: {left:?}");
}
