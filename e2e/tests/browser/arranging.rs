//! Saved views and tables with a real browser: pieces put in an order by keys and by dragging, a wall that says when it is old, every
//! table as a file and every chart as a table.

use super::acts::{go, press, says, type_into};
use cadentis_e2e::{Demo, Looker};
use serde_json::{Value, json};
use thirtyfour::{By, Key};

/// What kind of piece stands where.
const ORDER: &str =
    "return [...document.querySelectorAll('.pieces [name=piece]')].map(e => e.value)";
/// What was shown, as far as it has come.
const SHOWN: &str = "return [...document.querySelectorAll('.piece')].map(e => e.textContent.includes('Reading…') ? '' : e.textContent)";

async fn add(looker: &Looker, what: &str) {
    let script = format!(
        "const e = document.querySelector('[name=what]'); e.value = [...e.options].find(o => o.textContent === {}).value; return e.value",
        json!(what)
    );
    assert_ne!(looker.ask(&script).await, json!(""), "{what}");
    press(looker, "Add").await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_view_is_put_together_by_keys_and_by_dragging_and_hangs_on_a_wall() {
    let demo = Demo::start(&["--no-runners"]);
    let looker = Looker::start(&[]).await;
    looker.sign_in(&demo, "Tor").await;
    // From a query that was asked, into a new view.
    go(&demo, &looker, "/queries").await;
    press(&looker, "Put it in a view").await;
    type_into(&looker, "name", "What I look at").await;
    add(&looker, "A text").await;
    looker
        .wait_for("two pieces", "return document.querySelectorAll('.pieces li').length === 2", 10)
        .await;
    let text = looker.driver.find(By::Css(".pieces textarea")).await.expect("a text");
    text.send_keys("Look here first.").await.expect("typed");
    add(&looker, "Crossings can be booked").await;
    looker
        .wait_for("three pieces", "return document.querySelectorAll('.pieces li').length === 3", 10)
        .await;
    assert_eq!(looker.ask(ORDER).await, json!(["query", "text", "goal"]));
    assert_eq!(
        looker.ask("return document.querySelector('.pieces textarea').value").await,
        json!("Look here first.")
    );
    // Alt and an arrow move the piece that has the focus, which keeps it.
    let text = looker.driver.find(By::Css(".pieces textarea")).await.expect("a text");
    text.send_keys(Key::Alt + Key::Up).await.expect("pressed");
    assert_eq!(looker.ask(ORDER).await, json!(["text", "query", "goal"]));
    let focus = "return document.activeElement.matches('.pieces textarea') && document.querySelector('[data-said]').textContent";
    assert_eq!(looker.ask(focus).await, json!("Piece 1 of 3 now."));
    // The goal is dragged to the top.
    let drag = "const all = [...document.querySelectorAll('.pieces li')], data = new DataTransfer();\
        const send = (on, type, y) => on.dispatchEvent(new DragEvent(type, { bubbles: true, cancelable: true, dataTransfer: data, clientY: y }));\
        send(all[2], 'dragstart', 0); send(all[0], 'dragover', all[0].getBoundingClientRect().top + 1); send(all[0], 'drop', 0); send(all[2], 'dragend', 0);\
        return [...document.querySelectorAll('.pieces [name=up]')].map(e => e.value)";
    assert_eq!(looker.ask(drag).await, json!(["0", "1", "2"]), "and is numbered anew");
    assert_eq!(looker.ask(ORDER).await, json!(["goal", "text", "query"]));
    // Without a script the arrows ask the server, which says the same.
    let asked = "const form = document.querySelector('[data-pieces]'), data = new URLSearchParams(new FormData(form));\
        data.append('down', '0');\
        return fetch(form.action, { method: 'POST', body: data }).then(r => r.text()).then(t => \
          [...new DOMParser().parseFromString(t, 'text/html').querySelectorAll('.pieces [name=piece]')].map(e => e.value))";
    assert_eq!(looker.ask(asked).await, json!(["text", "goal", "query"]));
    press(&looker, "Keep it").await;
    says(&looker, "it is kept", "3 pieces").await;
    looker.wait_for("each piece has come", &format!("{}.every(t => t)", SHOWN), 60).await;
    let shown = looker.ask(SHOWN).await;
    for (nth, has) in ["error budget left", "Look here first.", "p75 of LCP"].iter().enumerate() {
        assert!(shown[nth].as_str().is_some_and(|t| t.contains(has)), "{has}: {shown}");
    }
    // One begins with it.
    press(&looker, "Begin with it").await;
    says(&looker, "one begins with it", "Begin with it no more").await;
    looker.driver.goto(&format!("{}/", demo.address)).await.expect("opened");
    says(&looker, "it is where one begins", "What I look at").await;
    // On a wall it is read anew; what cannot be read any more is said to be old, and stays.
    press(&looker, "On a wall").await;
    looker.wait_for("each piece has come", &format!("{}.every(t => t)", SHOWN), 60).await;
    assert_eq!(
        looker.ask("return document.querySelector('[data-stale]').hidden").await,
        json!(true)
    );
    let old = "document.querySelectorAll('[data-piece]').forEach(e => { e.dataset.piece += '0'; e.dataset.at = Date.now() - 200000; }); return 1";
    looker.ask(old).await;
    looker.wait_for("it says so", "return !document.querySelector('[data-stale]').hidden && document.querySelector('[data-stale]').textContent.startsWith('Not read anew since ')", 20).await;
    assert!(looker.ask(SHOWN).await[1].as_str().is_some_and(|t| t.contains("Look here first.")));
    // What is taken away is put back with one press.
    go(&demo, &looker, "/views").await;
    press(&looker, "What I look at").await;
    looker.wait_for("its page", "return !!document.querySelector('.piece')", 20).await;
    press(&looker, "Take away").await;
    says(&looker, "it is gone", "“What I look at” is taken away.").await;
    press(&looker, "Undo").await;
    looker.wait_for("it is back", "return !!document.querySelector('.piece')", 20).await;
}

/// A file as another reader finds it.
fn read(file: &Value) -> Vec<Vec<String>> {
    let file = file.as_str().expect("a file");
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(file.as_bytes());
    let row = |row: Result<csv::StringRecord, csv::Error>| {
        row.expect("rows of one width").iter().map(str::to_string).collect()
    };
    reader.records().map(row).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_table_is_a_file_and_every_chart_a_table() {
    let demo = Demo::start(&["--no-runners"]);
    let looker = Looker::start(&[]).await;
    looker.sign_in(&demo, "Tor").await;
    go(&demo, &looker, "/journeys/book-a-crossing").await;
    looker
        .wait_for(
            "steps by location",
            "return document.querySelectorAll('table.heat').length > 0",
            60,
        )
        .await;
    let steps =
        read(&looker.ask("return cadentis.csv(document.querySelector('table.plain'))").await);
    assert_eq!(steps[0][..3], ["Step", "median s", "p75 s"]);
    assert_eq!(
        (steps.len(), steps[1][0].as_str()),
        (6, "Open the timetable"),
        "and no link besides"
    );
    assert!(steps[1][1].parse::<f64>().is_ok(), "{steps:?}");
    // A press saves it.
    let pressed = "let saved; const made = URL.createObjectURL; URL.createObjectURL = blob => { saved = blob; return made(blob); };\
        let name; const click = HTMLAnchorElement.prototype.click; HTMLAnchorElement.prototype.click = function () { name = this.download; };\
        document.querySelector('.table-file').click(); HTMLAnchorElement.prototype.click = click; URL.createObjectURL = made;\
        return saved.text().then(text => [name, text])";
    let saved = looker.ask(pressed).await;
    assert_eq!(saved[0], json!("book-a-crossing-steps-over-all-locations.csv"));
    assert_eq!(read(&saved[1]), steps);
    // What a page of visitors wrote is no formula, and what looks like a field's end is none.
    let hostile = "const t = document.createElement('table'); t.innerHTML = '<thead><tr><td></td><th colspan=2>Of</th></tr><tr><th>A</th><th>B</th><th>C</th><td></td></tr></thead><tbody></tbody>';\
        const row = t.tBodies[0].insertRow(); ['=SUM(A1)', 'a \"b\", c', '-2.5'].forEach(v => row.insertCell().textContent = v); row.insertCell().innerHTML = '<button>Press</button>'; return cadentis.csv(t)";
    assert_eq!(
        read(&looker.ask(hostile).await),
        [["A", "Of: B", "Of: C"], ["'=SUM(A1)", "a \"b\", c", "-2.5"]]
    );
    // The line-up as a table says each run that the lanes show.
    let twin = "document.querySelector('.twin summary').click(); \
        return new Promise(done => { const look = () => { const table = document.querySelector('.twin table'); table ? done(cadentis.csv(table)) : setTimeout(look, 50); }; look(); })";
    let rows = read(&looker.ask(twin).await);
    assert_eq!(rows[0], ["When", "Lane", "Reads"]);
    let of = |lane: &str| rows.iter().filter(|r| r[1] == lane).count();
    let bars = "return [...document.querySelectorAll('.lineup.wide-only .lane')].filter(l => l.querySelector('.title').textContent === 'Bergen')[0].querySelectorAll('a.run').length";
    let bars = looker.ask(bars).await.as_u64().expect("a number") as usize;
    assert!(bars > 50 && of("Bergen") >= bars, "{bars} bars, {} rows", of("Bergen"));
    // Every other page with a chart has one, too; lanes that are read at the same moments stand side by side.
    for (path, first) in [("/goals", "Error budget left"), ("/queries", "")] {
        go(&demo, &looker, path).await;
        looker.wait_for("a chart", "return !!document.querySelector('.twin')", 30).await;
        let rows = read(&looker.ask(twin).await);
        assert!(rows.len() > 10 && rows[0][0] == "When", "{path}: {:?}", rows[0]);
        assert!(rows[0][1].contains(first), "{path}: {:?}", rows[0]);
        assert!(rows[1][0].len() == "2026-11-22 05:00".len(), "{:?}", rows[1]);
    }
    // What is drawn of no time has its parts as rows: each page view lies in one piece of the distribution.
    go(&demo, &looker, "/visitors").await;
    let there = "return !!document.querySelector('.histogram + .twin')";
    looker.wait_for("the distribution", there, 60).await;
    let spread = "const twin = document.querySelector('.histogram + .twin'); twin.querySelector('summary').click(); \
        return new Promise(done => { const look = () => { const table = twin.querySelector('table'); table ? done(cadentis.csv(table)) : setTimeout(look, 50); }; look(); })";
    let rows = read(&looker.ask(spread).await);
    assert_eq!(rows[0], ["LCP from", "to", "page views"]);
    assert_eq!((rows.len(), rows[1][0].as_str(), rows[56][1].as_str()), (57, "less", "more"));
    let sum: u64 = rows[1..].iter().map(|r| number(&r[2])).sum();
    // A piece that is drawn holds something; one of few beside one of many is too low to be seen.
    let heights = "return [...document.querySelectorAll('.histogram [data-row]')].map(b => +b.getAttribute('height'))";
    let heights = looker.ask(heights).await;
    let heights = heights.as_array().expect("a list");
    assert_eq!(heights.len(), rows.len() - 1, "a row for each");
    for (height, row) in heights.iter().zip(&rows[1..]) {
        let is_drawn = height.as_f64().is_some_and(|h| h > 0.0);
        assert!(!is_drawn || number(&row[2]) > 0, "{height} {row:?}");
    }
    assert!(sum > 100, "{sum}");
}

/// A number as pages write it, with spaces between thousands.
fn number(text: &str) -> u64 {
    text.chars().filter(char::is_ascii_digit).collect::<String>().parse().expect("a number")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn parts_of_a_query_are_picked_by_pressing_and_what_it_measures_is_promised_from_there() {
    let demo = Demo::start(&["--no-runners"]);
    let looker = Looker::start(&[]).await;
    looker.sign_in(&demo, "Tor").await;
    go(&demo, &looker, "/queries?q=share+of+LCP+within+2.5+s+by+device").await;
    let asks =
        |text: &str| format!("return document.querySelector('[name=q]').value === {}", json!(text));
    let pick = async |what: &str, then: &str| {
        let summary = looker.driver.find(By::Css("details.picks > summary")).await.expect("picks");
        summary.click().await.expect("opened");
        press(&looker, what).await;
        looker.wait_for(then, &asks(then), 20).await;
    };
    pick("count of page views", "share of LCP within 2.5 s, count of page views by device").await;
    pick("top 5", "share of LCP within 2.5 s, count of page views by device top 5").await;
    // A row narrows it, and the same is let go of by pressing it.
    press(&looker, "phone").await;
    let narrowed = "share of LCP within 2.5 s, count of page views for device \"phone\" top 5";
    looker.wait_for("narrowed", &asks(narrowed), 20).await;
    says(&looker, "beside the others", "that are bad to").await;
    pick("device \"phone\"", "share of LCP within 2.5 s, count of page views top 5").await;
    // A number opens to what stands out in it, in its place, and closes there.
    go(&demo, &looker, "/queries?q=p75+of+LCP+by+family+and+device").await;
    let numbers = "table.heat tbody tr:nth-child(3) td a[hx-get]";
    looker.driver.find(By::Css(numbers)).await.expect("a number").click().await.expect("pressed");
    let opened = "const part = document.querySelector('table.heat tr:nth-child(4).opened details[open]'); \
        return part !== null && part.checkVisibility() && part.textContent.includes('surely more of than') \
        && part.querySelectorAll('.by-key dd').length > 3 && document.querySelectorAll('.opened details').length === 1";
    looker.wait_for("what stands out in it", opened, 20).await;
    let alone = "return document.querySelector('.opened details a').href.includes('device+%22')";
    assert_eq!(looker.ask(alone).await, json!(true), "it leads to the query of these alone");
    go(&demo, &looker, "/queries?q=share+of+LCP+within+2.5+s,+count+of+page+views+top+5").await;
    press(&looker, "Promise it").await;
    let filled =
        "return document.querySelector('main [name=share]')?.value === 'share of LCP within 2.5 s'";
    looker.wait_for("the form of a goal holds it", filled, 20).await;
    let shown = "return document.querySelector('main [name=share]').checkVisibility()";
    assert_eq!(looker.ask(shown).await, json!(true), "an experience goal is chosen");
    // What a query measures becomes a limit, which says that nobody is told, and leads to an alert that would tell somebody.
    go(&demo, &looker, "/queries?q=p95+of+request+time+by+request").await;
    press(&looker, "Limit it").await;
    let held = "return document.querySelector('#measured [name=measure]')?.value === 'p95 of request time'";
    looker.wait_for("the form of a limit holds it", held, 20).await;
    let limit =
        looker.driver.find(By::Css("#measured form.stack [name=limit]")).await.expect("a field");
    limit.send_keys("one second").await.expect("typed");
    press(&looker, "Set the limit").await;
    says(&looker, "what is none", "a time with its unit").await;
    let limit =
        looker.driver.find(By::Css("#measured form.stack [name=limit]")).await.expect("a field");
    limit.clear().await.expect("cleared");
    limit.send_keys("1 ms").await.expect("typed");
    press(&looker, "Set the limit").await;
    says(&looker, "it is over", "s over").await;
    press(&looker, "watch it").await;
    let watched = "return document.querySelector('main [name=measure]')?.value === 'p95 of request time' \
        && document.querySelector('main [name=warning]')?.value === '1 ms'";
    looker.wait_for("an alert with it", watched, 20).await;
    // All goals as a file, and back from it what is there already.
    go(&demo, &looker, "/goals/openslo").await;
    let file =
        "return fetch(document.querySelector('main a[href$=yaml]').href).then(r => r.text())";
    let file = looker.ask(file).await.as_str().expect("a text").to_string();
    assert!(file.contains("displayName: Crossings can be booked"), "{file}");
    let set = format!("document.querySelector('main textarea').value = {}; return 1", json!(file));
    looker.ask(&set).await;
    press(&looker, "Promise it").await;
    says(&looker, "what became of each", "0 of 3 documents became goals.").await;
    says(&looker, "why", "Another goal has this name.").await;
}
