//! Watching and telling with a real browser: a measure is asked, an alert is tried and kept, an incident looked after, and
//! whoever is to be told is told.

use super::acts::{go, press, says, set, type_into};
use cadentis_e2e::{Demo, Looker, Quiet};
use std::time::{Duration, Instant};
use thirtyfour::By;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_watched_is_tried_first_and_who_is_told_is_told() {
    let demo = Demo::start(&["--no-runners"]);
    let looker = Looker::start(&[]).await;
    looker.sign_in(&demo, "Tor").await;
    a_measure_is_completed_while_it_is_typed(&demo, &looker).await;
    an_alert_is_tried_kept_silenced_and_taken_away(&demo, &looker).await;
    an_incident_is_read_written_about_and_closed(&demo, &looker).await;
    a_destination_is_tested_and_gets_what_it_is_told(&demo, &looker).await;
    what_is_unlike_its_usual_is_drawn_beside_it(&demo, &looker).await;
    a_destination_is_told_in_words_of_ones_own(&demo, &looker).await;
    an_alert_is_acted_out_and_told_as_a_rehearsal(&demo, &looker).await;
    // What was refused on purpose is told there, too.
    let mut errors = looker.console_errors().await;
    errors.retain(|e| !e.contains("status of 422"));
    assert!(errors.is_empty(), "{errors:?}");
    looker.end().await;
}

async fn a_measure_is_completed_while_it_is_typed(demo: &Demo, looker: &Looker) {
    go(demo, looker, "/measures").await;
    type_into(looker, "of", "availability for journey ").await;
    let offered = "return [...document.querySelectorAll('#measure-next option')].some(o => o.value === 'availability for journey \"book-a-crossing\"')";
    looker.wait_for("names that are there are offered", offered, 10).await;
    type_into(looker, "of", "availability for journey nowhere").await;
    press(looker, "Measure").await;
    says(looker, "what is wrong", "is not there; there is").await;
    type_into(looker, "of", "availability for journey book-a-crossing").await;
    press(looker, "Measure").await;
    says(looker, "the proof", "How it was come by").await;
    looker.wait_for("a line", "return !!document.querySelector('.course-line[d^=M]')", 10).await;
}

async fn an_alert_is_tried_kept_silenced_and_taken_away(demo: &Demo, looker: &Looker) {
    go(demo, looker, "/alerts").await;
    press(looker, "New alert").await;
    type_into(looker, "measure", "share of LCP w").await;
    let offered = "return [...document.querySelectorAll('#measure-next option')].some(o => o.value === 'share of LCP within')";
    looker.wait_for("how it could go on is offered", offered, 10).await;
    // A ready-made one fills the sentence in and is tried at once.
    press(looker, "Book a crossing fails from two places").await;
    says(looker, "the trial", "Tried on the past").await;
    says(looker, "what it would have done", "in these 30 days").await;
    type_into(looker, "name", "Fails from two").await;
    type_into(looker, "critical", "a lot").await;
    press(looker, "Save and watch").await;
    says(looker, "what is wrong", "is no level: write a number").await;
    let kept = "return document.querySelector('main [name=name]').value === 'Fails from two'";
    looker.wait_for("what was typed is there", kept, 5).await;
    type_into(looker, "critical", "1").await;
    press(looker, "Save and watch").await;
    says(looker, "the alert", "It is quiet.").await;
    set(looker, "until", "2030-03-24T10:00").await;
    type_into(looker, "why", "too long").await;
    press(looker, "Silence").await;
    says(looker, "a silence that is too long", "within 90 days").await;
    // What was typed is still there; an hour from now is what the form begins with.
    let soon = "const e = document.querySelector('main [name=until]'), d = new Date(Date.now() + 86400000);\
      e.value = d.toISOString().slice(0, 16); return document.querySelector('main [name=why]').value === 'too long'";
    looker.wait_for("what was typed", soon, 10).await;
    type_into(looker, "why", "the pier is renewed").await;
    press(looker, "Silence").await;
    says(looker, "the silence", "It is silenced until").await;
    press(looker, "Let it tell again").await;
    says(looker, "the alert again", "It is quiet.").await;
    press(looker, "Switch off").await;
    says(looker, "that it is off", "It is switched off.").await;
    // What cannot be taken back asks once more.
    press(looker, "Take away").await;
    looker.driver.dismiss_alert().await.expect("it asks");
    says(looker, "that it is still there", "It is switched off.").await;
    press(looker, "Take away").await;
    looker.driver.accept_alert().await.expect("it asks");
    looker.wait_for("the list", "return location.pathname.endsWith('/alerts')", 20).await;
    let gone = "return !document.querySelector('main').textContent.includes('Fails from two')";
    looker.wait_for("it is gone", gone, 5).await;
}

async fn an_incident_is_read_written_about_and_closed(demo: &Demo, looker: &Looker) {
    go(demo, looker, "/incidents").await;
    let first = looker.driver.find(By::Css("main tbody a")).await.expect("an incident");
    first.click().await.expect("pressed");
    says(looker, "whose doing", "Why we think so").await;
    says(looker, "what happened", "What happened").await;
    type_into(looker, "says", "Rolled back at 14:20").await;
    press(looker, "Add").await;
    says(looker, "the note", "Rolled back at 14:20").await;
    let close = "return !!document.evaluate(\"//main//button[normalize-space()='Close']\", document, null, 9, null).singleNodeValue";
    if looker.ask(close).await == true {
        press(looker, "Close").await;
        says(looker, "that it is closed", "closed by Tor").await;
    }
    // It stands on the time strip of every page, and in the events of the line-up.
    let strip = "return document.querySelectorAll('.strip rect.incident').length > 0";
    go(demo, looker, "").await;
    looker.wait_for("incidents on the strip", strip, 10).await;
}

async fn a_destination_is_tested_and_gets_what_it_is_told(demo: &Demo, looker: &Looker) {
    go(demo, looker, "/call-lists").await;
    says(looker, "the list", "At once: Booking team, on call").await;
    let row = "//tr[contains(., 'Booking room')]//button[normalize-space()='Test']";
    looker.driver.find(By::XPath(row)).await.expect("a button").click().await.expect("pressed");
    says(looker, "what was told", "a test").await;
    let outbox = demo.said("world.json")["outbox"].as_str().expect("an address").to_string();
    let came = "return document.body.textContent.includes('Tor tries whether this destination can be told')";
    for _ in 0..20 {
        looker.driver.goto(&format!("http://{outbox}/")).await.expect("the outbox opens");
        if looker.ask(came).await == true {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    }
    assert_eq!(looker.ask(came).await, true, "what was told came");
    go(demo, looker, "/call-lists").await;
    says(looker, "what became of it", "delivered at the first try").await;
}

async fn what_is_unlike_its_usual_is_drawn_beside_it(demo: &Demo, looker: &Looker) {
    go(demo, looker, "/alerts/new").await;
    press(looker, "Page views unlike their usual").await;
    says(looker, "the sentence", "is unlike its usual: more than 8 spreads below it").await;
    let band = "return (document.querySelector('path.usual[d^=M]')?.getBBox().width ?? 0) > 100";
    looker.wait_for("its usual as an area", band, 10).await;
    type_into(looker, "warning", "0.5").await;
    press(looker, "Try it on the past").await;
    says(looker, "what is wrong", "Levels beyond the usual are 1 to 100 spreads").await;
    let chosen = "return document.querySelector('main [name=rule]').value === 'unusual'";
    looker.wait_for("what was chosen is there", chosen, 5).await;
}

async fn a_destination_is_told_in_words_of_ones_own(demo: &Demo, looker: &Looker) {
    go(demo, looker, "/call-lists").await;
    press(looker, "Booking room").await;
    says(looker, "how it is told", "It is told in the usual words.").await;
    type_into(looker, "text", "{{ nothing }}").await;
    press(looker, "Preview").await;
    says(looker, "what is wrong", "Line 1: it names what is not there").await;
    type_into(looker, "text", "Look here: {{ title }} {{ link }}").await;
    press(looker, "Preview").await;
    says(looker, "what it would be told", "Look here: ").await;
    press(looker, "Save").await;
    says(looker, "that it is kept", "It is told in words of one’s own.").await;
}

async fn an_alert_is_acted_out_and_told_as_a_rehearsal(demo: &Demo, looker: &Looker) {
    go(demo, looker, "/alerts").await;
    press(looker, "The timetable does not answer somewhere").await;
    says(looker, "whom it would tell", "A critical incident would be told to").await;
    type_into(looker, "minutes", "20").await;
    press(looker, "Rehearse").await;
    looker.driver.accept_alert().await.expect("it asks, since it wakes people");
    says(looker, "that it goes on", "It is being acted out.").await;
    let outbox = demo.said("world.json")["outbox"].as_str().expect("an address").to_string();
    let about = "Look here: Rehearsal, nothing is wrong · Critical: The timetable does not answer";
    comes(&outbox, "chat", about, Duration::from_secs(150)).await;
    comes(&outbox, "sms", "Rehearsal, nothing is wrong", Duration::from_secs(30)).await;
    looker.driver.refresh().await.expect("again");
    says(looker, "how it went", "opened after").await;
    press(looker, "End it").await;
    says(looker, "that it is over", "cleared after").await;
    // Nothing of it is open anywhere.
    go(demo, looker, "/alerts").await;
    let open = "return document.querySelector('main').textContent.includes('Rehearsal')";
    assert_eq!(looker.ask(open).await, false, "a rehearsal is in no list");
}

/// What came to the outbox of the demo by this way and has this in it, the oldest first.
async fn told(outbox: &str, way: &str, about: &str) -> Vec<String> {
    let answer = reqwest::get(format!("http://{outbox}/got")).await.expect("the outbox answers");
    let got = answer.text().await.expect("a list");
    let got: Vec<serde_json::Value> = serde_json::from_str(&got).expect("a list");
    let of = |g: &serde_json::Value, part: &str| g[part].as_str().unwrap_or_default().to_string();
    let here = got.iter().filter(|g| of(g, "way").contains(way)).map(|g| of(g, "body"));
    let about_it =
        |body: &String| body.split_whitespace().collect::<Vec<_>>().join(" ").contains(about);
    here.filter(about_it).collect()
}

async fn comes(outbox: &str, way: &str, about: &str, within: Duration) -> Duration {
    let begun = Instant::now();
    while told(outbox, way, about).await.is_empty() {
        assert!(begun.elapsed() < within, "no {way} about {about} came");
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
    begun.elapsed()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_location_that_is_cut_off_is_told_as_its_own_doing_and_told_again_when_it_is_back() {
    const ALERT: &str = "The timetable does not answer somewhere";
    const CLEARED: &str = "Cleared: The timetable does not answer somewhere";
    let demo = Demo::start(&[]);
    let looker = Looker::start(&[]).await;
    looker.sign_in(&demo, "Tor").await;
    // Whoever never ran cannot be missed: the place answers first.
    go(&demo, &looker, "/journeys/timetable-answers").await;
    let ran = format!("{}/marram-ferries/journeys/timetable-answers", demo.address);
    let passes = "return document.querySelector('main').textContent.includes('Bergen') && !!document.querySelector('main a[href*=\"/runs/\"]')";
    for _ in 0..60 {
        if looker.ask(passes).await == true {
            break;
        }
        tokio::time::sleep(Duration::from_secs(2)).await;
        looker.driver.goto(&ran).await.expect("the page opens");
    }
    let outbox = demo.said("world.json")["outbox"].as_str().expect("an address").to_string();
    looker.driver.goto(format!("http://{outbox}/")).await.expect("the outbox opens");
    // Elsewhere runs have to get through meanwhile.
    let quiet = Quiet::now().await;
    press(&looker, "Cut bergen").await;
    let limit = Duration::from_secs(240);
    let mail = comes(&outbox, "mail", ALERT, limit).await;
    println!("a mail came {} s after the location was cut off", mail.as_secs());
    comes(&outbox, "chat", ALERT, Duration::from_secs(60)).await;

    go(&demo, &looker, "/incidents").await;
    let newest = looker.driver.find(By::PartialLinkText(ALERT)).await.expect("the incident");
    newest.click().await.expect("pressed");
    says(&looker, "whose doing it is", "The doing of Bergen alone").await;
    drop(quiet);

    looker.driver.goto(format!("http://{outbox}/")).await.expect("the outbox opens");
    press(&looker, "Mend bergen").await;
    let limit = Duration::from_secs(360);
    let mail = comes(&outbox, "mail", CLEARED, limit).await;
    println!("a mail came {} s after the location was mended", mail.as_secs());
    comes(&outbox, "chat", CLEARED, Duration::from_secs(60)).await;
    looker.end().await;
}
