//! Finding and reporting with a real browser: the box on every page by keyboard alone, a report from its form to its PDF.

use super::acts::{go, press, says, set, type_into};
use cadentis_e2e::{Demo, Looker};
use serde_json::json;
use thirtyfour::{By, Key, TypingData};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_has_a_name_is_found_by_keyboard_alone_from_any_page() {
    let demo = Demo::start(&["--no-runners"]);
    let looker = Looker::start(&[]).await;
    looker.sign_in(&demo, "Ines").await;
    go(&demo, &looker, "/goals").await;
    let keys = async |keys: TypingData| {
        let here = looker.driver.active_element().await.expect("something has the focus");
        here.send_keys(keys).await.expect("typed");
    };
    keys("/".into()).await;
    keys("book a cr".into()).await;
    let first = "return (document.querySelector('#found a')?.textContent ?? '').replace(/\\s+/g, ' ').startsWith('journey Book a crossing')";
    looker.wait_for("the journey first", first, 20).await;
    // Arrows go through what was found and back to the box; Escape puts it away.
    keys(Key::Down.into()).await;
    keys(Key::Down.into()).await;
    let second = "return document.activeElement === document.querySelectorAll('#found a')[1]";
    looker.wait_for("the second has the focus", second, 5).await;
    keys(Key::Escape.into()).await;
    let away = "return !document.querySelector('#found a') && document.activeElement.matches('[data-find]')";
    looker.wait_for("it is put away", away, 5).await;
    let field = looker.driver.find(By::Css("[data-find]")).await.expect("the box");
    field.clear().await.expect("empty");
    field.send_keys("timetable").await.expect("typed");
    looker.wait_for("a family among it", "return [...document.querySelectorAll('#found .what')].some(e => e.textContent === 'page family')", 20).await;
    let kinds = "return [...document.querySelectorAll('#found .what')].map(e => e.textContent)";
    let kinds = looker.ask(kinds).await;
    for kind in ["journey", "page family", "person"] {
        assert!(kinds.as_array().is_some_and(|k| k.contains(&json!(kind))), "{kind}: {kinds}");
    }
    // What a page is made of comes from hosts, which are found, too.
    let field = looker.driver.find(By::Css("[data-find]")).await.expect("the box");
    field.clear().await.expect("empty");
    field.send_keys("isles-map").await.expect("typed");
    let host = "return [...document.querySelectorAll('#found a')].find(a => a.textContent.replace(/\\s+/g, ' ').startsWith('host tiles.isles-map.example'))?.href";
    looker.wait_for("a host among it", &host.replace("return ", "return !!"), 20).await;
    let host = looker.ask(host).await.as_str().expect("a link").to_string();
    assert!(host.contains("host=tiles.isles-map.example"), "{host}");
    let field = looker.driver.find(By::Css("[data-find]")).await.expect("the box");
    field.clear().await.expect("empty");
    field.send_keys("timetable").await.expect("typed");
    looker.wait_for("a family among it", "return [...document.querySelectorAll('#found .what')].some(e => e.textContent === 'page family')", 20).await;
    keys(Key::Enter.into()).await;
    looker
        .wait_for("the first is opened", "return !location.pathname.endsWith('/goals')", 20)
        .await;
    // Whoever may not see people is offered none.
    let reader = Looker::start(&[]).await;
    reader.sign_in(&demo, "Ada").await;
    go(&demo, &reader, "/find?for=timetable").await;
    says(&reader, "the same as a page", "What has “timetable” in its name").await;
    let person = reader
        .ask("return document.querySelector('main .hits')?.textContent.includes('person')")
        .await;
    assert_eq!(person, json!(false));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_report_is_made_on_its_form_looked_at_before_it_is_issued_and_taken_home_as_a_pdf() {
    let demo = Demo::start(&["--no-runners"]);
    let looker = Looker::start(&[]).await;
    looker.sign_in(&demo, "Tor").await;
    go(&demo, &looker, "/reports").await;
    says(&looker, "what is issued, and when", "each Monday at 06:00").await;
    press(&looker, "New report").await;
    // What a kind does not take is not asked for.
    let shows = |what: &str| {
        format!("return getComputedStyle(document.querySelector('.{what}')).display !== 'none'")
    };
    looker.wait_for("goals are asked for", &shows("of-goals"), 10).await;
    assert_eq!(looker.ask(&shows("of-places")).await, json!(false));
    set(&looker, "kind", "timings").await;
    looker.wait_for("places are asked for", &shows("of-places"), 5).await;
    assert_eq!(looker.ask(&shows("of-goals")).await, json!(false));
    type_into(&looker, "name", "How quick we are").await;
    set(&looker, "period", "week").await;
    press(&looker, "Keep it").await;
    says(&looker, "a draft", "Not issued: what this report would say now").await;
    let week = "return document.querySelector('.document h1').textContent.startsWith('How quick we are, the week from')";
    looker.wait_for("of the week that is over", week, 10).await;
    let issue = "//main//button[starts-with(normalize-space(), 'Issue ')]";
    looker.driver.find(By::XPath(issue)).await.expect("a button").click().await.expect("pressed");
    says(&looker, "it is issued", "Nothing has changed since: the report would say the same now")
        .await;
    let fetched = "const link = [...document.querySelectorAll('main a')].find(a => a.textContent === 'PDF, A4');\
        return fetch(link.href).then(r => r.arrayBuffer().then(b => [r.status, r.headers.get('content-type'),\
          String.fromCharCode(...new Uint8Array(b.slice(0, 4)))]))";
    assert_eq!(looker.ask(fetched).await, json!([200, "application/pdf", "%PDF"]));
    // An issue of before, of which something was carved out since, says which figures.
    go(&demo, &looker, "/reports/issues/1").await;
    says(&looker, "what has changed", "Since it was issued,").await;
    let which = looker.driver.find(By::Css(".since summary")).await.expect("a list");
    which.click().await.expect("opened");
    says(&looker, "by how much", "Left out, and why, Carve-out").await;
}
