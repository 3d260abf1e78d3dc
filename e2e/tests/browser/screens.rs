//! Every page, at the size of a desk and of a phone, light and dark: nothing covered, cut or sideways, nothing that
//! axe-core finds, no error on the console.

use super::pages::AXE;
use cadentis_e2e::{Demo, Looker};
use cadentis_web::routes::all;
use serde_json::{Value, json};
use std::collections::BTreeMap;

const SIZES: [(u32, u32); 2] = [(1280, 800), (390, 844)];

/// The addresses of all pages: every route that is asked for without changing anything, with real ids, as far as it answers
/// with a whole page. Parts of pages stand on the pages that ask for them.
async fn pages(demo: &Demo, looker: &Looker) -> Vec<String> {
    looker
        .driver
        .goto(&format!("{}/marram-ferries/journeys/book-a-crossing", demo.address))
        .await
        .expect("the page opens");
    let run = looker
        .ask("return document.querySelector('a.run.failed, a.run').getAttribute('href')")
        .await;
    let run = run.as_str().expect("a run").split(['?', '#']).next().unwrap_or("").to_string();
    looker
        .driver
        .goto(&format!("{}/marram-ferries/visitors", demo.address))
        .await
        .expect("the page opens");
    looker
        .wait_for("the newest page views", "return !!document.querySelector('#arrivals a')", 60)
        .await;
    let visit =
        looker.ask("return document.querySelector('#arrivals a').getAttribute('href')").await;
    let visit = visit.as_str().expect("a visit").to_string();
    let cookie = demo.cookie_of("administrator").await;
    let mut found = vec![
        visit,
        "/nowhere".into(),
        "/marram-ferries/visitors?only=device:phone&vital=INP".into(),
        "/marram-ferries/visitors/family?family=Timetable".into(),
        "/marram-ferries/journeys/book-a-crossing/script?compare=1".into(),
        "/marram-ferries/journeys?trouble=on".into(),
        "/marram-freight".into(),
        "/marram-ferries/goals/1/change".into(),
        "/marram-ferries/maintenance/2/change".into(),
        "/marram-ferries/markers/1".into(),
        "/marram-ferries/alerts/1".into(),
        "/marram-ferries/alerts/3/change".into(),
        "/marram-ferries/incidents/1".into(),
        "/marram-ferries/reports/1".into(),
        "/marram-ferries/reports/4".into(),
        "/marram-ferries/reports/1/change".into(),
        "/marram-ferries/reports/issues/1".into(),
        "/marram-ferries/reports/issues/2".into(),
        "/marram-ferries/find?for=book".into(),
        "/marram-ferries/views/1".into(),
        "/marram-ferries/views/1/change".into(),
        "/marram-ferries/views/2?wall=1".into(),
        "/marram-ferries/measures?of=p75+of+LCP+for+device+%22phone%22".into(),
    ];
    for route in all().into_iter().filter(|r| r.method == "GET") {
        let path = route.path.replacen("{site}", "marram-ferries", 1);
        let path = match path.as_str() {
            p if p.contains("{what")
                || p.contains("/trials/")
                || p.contains("{key}")
                || p.contains("{file}") =>
            {
                continue;
            }
            p if p.contains("/runs/{id}") => {
                p.replace("/marram-ferries/runs/{id}", &run).replace("{step}/{nth}", "0/0")
            }
            p if p.contains("/locations/") => p.replace("{slug}", "bergen"),
            p if p.contains("/journeys/") => p.replace("{slug}", "book-a-crossing"),
            p if p.contains('{') => continue,
            p => p.to_string(),
        };
        let asked = reqwest::Client::new().get(format!("{}{path}", demo.address));
        let answer = asked.header("cookie", &cookie).send().await.expect("an answer");
        let kind = answer
            .headers()
            .get("content-type")
            .and_then(|v| v.to_str().ok())
            .unwrap_or("")
            .to_string();
        if answer.status() == 200
            && kind.starts_with("text/html")
            && answer.text().await.is_ok_and(|t| t.contains("<!doctype html>"))
        {
            found.push(path);
        }
    }
    found
}

/// What is wrong with the page as it is shown now.
const LOOK: &str = r#"
const wrong = [], root = document.scrollingElement;
const name = e => e.tagName.toLowerCase() + (e.id ? '#' + e.id : '') + (e.getAttribute('class') ? '.' + e.getAttribute('class').trim().split(/\s+/)[0] : '')
  + ' “' + (e.textContent || e.value || e.getAttribute('aria-label') || '').trim().slice(0, 30) + '”';
if (root.scrollWidth > innerWidth + 1) {
  const wide = [...document.querySelectorAll('body *')].filter(e => e.getBoundingClientRect().right > innerWidth + 1
    && ![...function* () { for (let p = e.parentElement; p; p = p.parentElement) yield p; }()].some(p => ['auto', 'scroll', 'hidden', 'clip'].includes(getComputedStyle(p).overflowX)));
  wrong.push('sideways by ' + (root.scrollWidth - innerWidth) + ': ' + wide.slice(0, 3).map(name).join(', '));
}
const shown = e => e.checkVisibility({ checkOpacity: true, checkVisibilityCSS: true }) && e.getBoundingClientRect().width > 1;
let n = 0;
for (const e of document.querySelectorAll('a, button, input, select, textarea, summary')) {
  if (e.ownerSVGElement || !shown(e) || e.disabled || e.classList.contains('skip') || e.type === 'hidden' || ++n > 250) continue;
  e.scrollIntoView({ block: 'center', inline: 'center', behavior: 'instant' });
  const r = e.getClientRects()[0];
  if (!r || r.width < 1) continue;
  const x = r.left + r.width / 2, y = r.top + r.height / 2, at = document.elementFromPoint(x, y);
  if (!at) { wrong.push('out of reach: ' + name(e)); continue; }
  const label = e.closest('label');
  if (at !== e && !e.contains(at) && !(label && label.contains(at))) wrong.push('covered: ' + name(e) + ' by ' + name(at));
}
root.scrollTo(0, 0);
for (const e of document.querySelectorAll('body *')) {
  if (e.ownerSVGElement || e.namespaceURI !== 'http://www.w3.org/1999/xhtml' || !shown(e) || e.classList.contains('visually-hidden')) continue;
  const style = getComputedStyle(e), text = [...e.childNodes].some(c => c.nodeType === 3 && c.data.trim());
  if (text && ['hidden', 'clip'].includes(style.overflowX) && e.scrollWidth > e.clientWidth + 1 && !e.closest('[title]'))
    wrong.push('cut: ' + name(e));
  // A word that is broken letter by letter.
  const box = e.getBoundingClientRect(), letters = e.textContent.trim().length;
  if (text && letters > 3 && box.width < 26 && box.height > 70 && !style.writingMode.startsWith('vertical'))
    wrong.push('squeezed: ' + name(e));
}
return wrong.slice(0, 12);
"#;

/// Rules of axe-core that say nothing here, each with why.
const NOT_HERE: [&str; 0] = [];

async fn violations(looker: &Looker) -> Vec<String> {
    looker.ask(AXE).await;
    let script = format!(
        "const done = arguments[arguments.length - 1];
        axe.run(document, {{ resultTypes: ['violations'] }}).then(r => done(r.violations
            .filter(v => !{}.includes(v.id))
            .map(v => v.id + ' (' + v.impact + '): ' + v.nodes.slice(0, 2).map(n => n.html.slice(0, 140)).join(' | '))));",
        json!(NOT_HERE)
    );
    let found = looker.driver.execute_async(&script, vec![]).await.expect("axe runs");
    found.json().as_array().map(|a| a.iter().map(Value::to_string).collect()).unwrap_or_default()
}

/// Goes to a page, waits until its parts are there, and tells what is wrong with it.
async fn wrong_with(demo: &Demo, looker: &Looker, path: &str) -> Vec<String> {
    looker.driver.goto(&format!("{}{path}", demo.address)).await.expect("the page opens");
    // Parts that come after the page.
    let settled = "return document.readyState === 'complete' && !document.querySelector('.htmx-request')
        && ![...document.querySelectorAll('[hx-trigger=load]')].some(e => /^Reading/.test(e.textContent.trim()))";
    looker.wait_for(&format!("{path} is there"), settled, 30).await;
    let mut found: Vec<String> = serde_json::from_value(looker.ask(LOOK).await).expect("texts");
    found.extend(violations(looker).await);
    // A page that is not there says so on the console.
    let noise = looker.console_errors().await.into_iter().filter(|_| path != "/nowhere");
    found.extend(noise.map(|e| format!("console: {e}")));
    found
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn on_every_page_at_both_sizes_and_in_both_themes_nothing_is_covered_cut_sideways_or_in_error()
 {
    let demo = Demo::start(&["--no-runners"]);
    let looker = Looker::start(&[]).await;
    let mut wrong: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let found = wrong_with(&demo, &looker, "/sign-in").await;
    wrong.extend((!found.is_empty()).then(|| ("/sign-in".into(), found)));
    // A reader is offered nothing that she may not do, and nothing waits for what never comes.
    looker.sign_in(&demo, "Ada").await;
    for path in [
        "/",
        "/marram-ferries",
        "/marram-ferries/journeys",
        "/marram-ferries/journeys/book-a-crossing/script",
        "/marram-ferries/visitors",
        "/marram-ferries/visitors/funnels",
        "/marram-ferries/goals",
        "/marram-ferries/maintenance",
        "/marram-ferries/markers",
        "/marram-ferries/markers/1",
        "/me",
    ] {
        let mut found = wrong_with(&demo, &looker, path).await;
        let offered = "return [...document.querySelectorAll('form[method=post] button, [data-save], [data-play], [href*=\"/setup\"], [href*=\"/settings\"], [href*=\"/journeys/new\"]')]
            .filter(e => !e.matches(':disabled') && e.textContent !== 'Sign out' && e.textContent !== 'Change it').map(e => 'offered: ' + e.textContent)";
        found.extend(
            serde_json::from_value::<Vec<String>>(looker.ask(offered).await).expect("texts"),
        );
        wrong.extend((!found.is_empty()).then(|| (format!("{path} for a reader"), found)));
    }
    looker.sign_in_anew(&demo, "Ines").await;
    let pages = pages(&demo, &looker).await;
    assert!(pages.len() >= 24, "{pages:?}");
    for (width, height) in SIZES {
        // Not as a phone that zooms out until everything fits: what does not fit is to be seen.
        let metrics =
            json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false});
        looker.tell("Emulation.setDeviceMetricsOverride", metrics).await;
        for theme in ["light", "dark"] {
            let media = json!({"features": [{"name": "prefers-color-scheme", "value": theme}]});
            looker.tell("Emulation.setEmulatedMedia", media).await;
            for path in &pages {
                let found = wrong_with(&demo, &looker, path).await;
                for what in found {
                    wrong
                        .entry(format!("{path}: {what}"))
                        .or_default()
                        .push(format!("{width} {theme}"));
                }
            }
        }
    }
    looker.end().await;
    let told: Vec<String> =
        wrong.iter().map(|(what, at)| format!("{what} [{}]", at.join(", "))).collect();
    assert!(told.is_empty(), "{} things:\n{}", told.len(), told.join("\n"));
}
