//! Judging with a real browser: a goal is tried and promised, maintenance is planned on every clock, a marker is pinned from a
//! chart.

use super::acts::{go, press, says, set, type_into};
use cadentis_e2e::{Demo, Looker};
use thirtyfour::By;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_promised_planned_and_pinned_is_tried_first_and_can_be_taken_back() {
    let demo = Demo::start(&["--no-runners"]);
    let looker = Looker::start(&[]).await;
    looker.sign_in(&demo, "Tor").await;
    a_goal_is_tried_then_promised_then_changed(&demo, &looker).await;
    maintenance_shows_its_clocks_while_it_is_typed_and_is_called_off(&demo, &looker).await;
    a_marker_is_pinned_where_the_cursor_is_and_deleted_and_put_back(&demo, &looker).await;
    a_page_family_is_given_a_t_of_its_own_and_limits_show_how_they_were_come_by(&demo, &looker)
        .await;
    // What was refused on purpose is told there, too.
    let mut errors = looker.console_errors().await;
    errors.retain(|e| !e.contains("status of 422"));
    assert!(errors.is_empty(), "{errors:?}");
    looker.end().await;
}

async fn a_goal_is_tried_then_promised_then_changed(demo: &Demo, looker: &Looker) {
    go(demo, looker, "/goals").await;
    press(looker, "New goal").await;
    type_into(looker, "name", "Quick by day").await;
    type_into(looker, "promised", "90").await;
    set(looker, "kind", "performance").await;
    type_into(looker, "limit", "6").await;
    let journey = looker.driver.find(By::Css("main [name=journey][value=book-a-crossing]")).await;
    journey.expect("a journey").click().await.expect("chosen");
    press(looker, "Try it on the past").await;
    says(looker, "the trial", "Tried on the past").await;
    says(looker, "what would have held", "in which something was counted").await;
    // What was typed is still there, and what is wrong is told at its field.
    type_into(looker, "promised", "100").await;
    press(looker, "Promise it").await;
    says(looker, "a promise of all", "above 0 % and below 100 %").await;
    type_into(looker, "promised", "90").await;
    press(looker, "Promise it").await;
    looker.wait_for("the list", "return location.pathname.endsWith('/goals')", 20).await;
    says(looker, "the goal", "Quick by day").await;
    let change =
        "//section[.//h1[contains(., 'Quick by day')]]//a[contains(., 'Change or try it')]";
    let change = looker.driver.find(By::XPath(change)).await.expect("a way to change it");
    change.click().await.expect("pressed");
    type_into(looker, "promised", "80").await;
    press(looker, "Keep it as version 2").await;
    says(looker, "the new promise", "80.000 %").await;
    // What visitors saw is promised in the words of measures, which are offered while they are typed; runs are nothing to it.
    go(demo, looker, "/goals/new").await;
    let seen = |css: &str| format!("return document.querySelector('{css}').offsetHeight > 0");
    let hidden = |css: &str| format!("return document.querySelector('{css}').offsetHeight === 0");
    looker.wait_for("no share yet", &hidden(".of-views"), 10).await;
    type_into(looker, "name", "Seen in time").await;
    set(looker, "kind", "experience").await;
    looker.wait_for("the share", &seen(".of-views"), 10).await;
    looker.wait_for("no journeys", &hidden(".of-runs"), 10).await;
    type_into(looker, "share", "share of LCP w").await;
    let offered = "return [...document.querySelectorAll('#measure-next option')].some(o => o.value.includes('within'))";
    looker.wait_for("what comes next", offered, 10).await;
    type_into(looker, "share", "share of LCP within 2.5 s").await;
    type_into(looker, "promised", "75").await;
    press(looker, "Try it on the past").await;
    says(looker, "the trial", "in which something was counted").await;
    press(looker, "Promise it").await;
    says(looker, "the goal", "experience: share of LCP within 2.5 s").await;
    says(looker, "what spent it", "beyond what may be").await;
}

async fn maintenance_shows_its_clocks_while_it_is_typed_and_is_called_off(
    demo: &Demo,
    looker: &Looker,
) {
    go(demo, looker, "/maintenance").await;
    says(looker, "what is planned", "Database backup").await;
    press(looker, "New window").await;
    type_into(looker, "name", "Router renewed").await;
    set(looker, "day", "2030-03-24").await;
    set(looker, "begins", "22:30").await;
    set(looker, "ends", "00:30").await;
    // Nothing was pressed: it is told on every clock as it is typed, the person's own among them.
    says(looker, "the site's clock", "Sun 24 Mar 22:30 – Mon 00:30").await;
    says(looker, "UTC", "Sun 24 Mar 21:30 – 23:30").await;
    let you = "return [...document.querySelectorAll('#when th')].some(th => th.textContent.includes('you'))";
    looker.wait_for("the person's own clock", you, 10).await;
    set(looker, "ends", "22:30").await;
    says(looker, "what is wrong", "It would last no time").await;
    set(looker, "ends", "00:30").await;
    set(looker, "runs", "held").await;
    // The whole site is other teams', too.
    press(looker, "Plan it").await;
    says(looker, "whose journeys they are", "choose journeys of your own team").await;
    let journey = looker.driver.find(By::Css("main [name=journey][value=book-a-crossing]")).await;
    journey.expect("a journey").click().await.expect("chosen");
    press(looker, "Plan it").await;
    looker.wait_for("the list", "return location.pathname.endsWith('/maintenance')", 20).await;
    says(looker, "the window", "Router renewed").await;
    let drawn = "return document.querySelectorAll('.calendar .window').length >= 5";
    looker.wait_for("the weeks ahead are drawn", drawn, 10).await;
    let off = "//tr[contains(., 'Router renewed')]//button[normalize-space()='Call off']";
    looker.driver.find(By::XPath(off)).await.expect("a button").click().await.expect("pressed");
    let gone = "return location.pathname.endsWith('/maintenance') && !document.querySelector('main').textContent.includes('Router renewed')";
    looker.wait_for("it is called off", gone, 20).await;
    // A calendar comes in by its text, and the address of ours opens without signing in.
    type_into(looker, "calendar", "BEGIN:VCALENDAR").await;
    press(looker, "Import").await;
    says(looker, "what is no calendar", "no iCalendar text").await;
    press(looker, "Give it an address").await;
    let address = looker.ask("return document.querySelector('.told-once code').textContent").await;
    let calendar = reqwest::get(address.as_str().expect("an address")).await.expect("an answer");
    let text = calendar.text().await.expect("a text");
    assert!(
        text.starts_with("BEGIN:VCALENDAR") && text.contains("SUMMARY:Database backup"),
        "{text}"
    );
}

async fn a_marker_is_pinned_where_the_cursor_is_and_deleted_and_put_back(
    demo: &Demo,
    looker: &Looker,
) {
    go(demo, looker, "").await;
    let chart = looker.driver.find(By::Css("svg.lineup[data-lineup]")).await.expect("a chart");
    looker.driver.action_chain().move_to_element_center(&chart).perform().await.expect("moved");
    let read = "return !document.querySelector('svg.lineup [data-cursor]').hasAttribute('hidden')";
    looker.wait_for("the cursor", read, 10).await;
    looker.driver.action_chain().send_keys("m").perform().await.expect("pressed");
    looker.wait_for("the form", "return location.pathname.endsWith('/markers/new')", 20).await;
    let chosen = "return Math.abs(new Date(new URLSearchParams(location.search).get('at')) - Date.now()) > 3600e3";
    assert_eq!(looker.ask(chosen).await, true, "the moment under the cursor, not now");
    type_into(looker, "title", "Prices changed").await;
    press(looker, "Pin it").await;
    let one = "return /\\/markers\\/\\d+$/.test(location.pathname)";
    looker.wait_for("its page", one, 20).await;
    says(looker, "what was before and after", "LCP at p75").await;
    go(demo, looker, "").await;
    let flag = "return [...document.querySelectorAll('a.pin')].some(a => a.getAttribute('aria-label') === 'Marker: Prices changed')";
    looker.wait_for("it is on the chart", flag, 20).await;
    go(demo, looker, "/markers").await;
    let row = "//tr[contains(., 'Prices changed')]//a";
    looker.driver.find(By::XPath(row)).await.expect("its row").click().await.expect("pressed");
    looker.wait_for("its page again", one, 20).await;
    looker
        .driver
        .find(By::Css("details.pinning summary"))
        .await
        .expect("more")
        .click()
        .await
        .expect("opened");
    press(looker, "Delete").await;
    says(looker, "it is deleted", "“Prices changed” is deleted.").await;
    press(looker, "Undo").await;
    looker.wait_for("it is back", one, 20).await;
}

async fn a_page_family_is_given_a_t_of_its_own_and_limits_show_how_they_were_come_by(
    demo: &Demo,
    looker: &Looker,
) {
    go(demo, looker, "/budgets").await;
    let field = looker.driver.find(By::Css("input[name^='T:']")).await.expect("a family");
    let family = field.attr("name").await.expect("asked").expect("a name");
    let family = family.trim_start_matches("T:").to_string();
    let held = field.attr("placeholder").await.expect("asked").expect("the T of all pages");
    assert_eq!(held, "1.5");
    // What is none is told at its field, and nothing is lost; then it is one.
    type_into(looker, &format!("T:{family}"), "61").await;
    press(looker, "Save limits").await;
    says(looker, "what would be right", "T is from 0.1 to 60 seconds").await;
    type_into(looker, &format!("T:{family}"), "3").await;
    press(looker, "Save limits").await;
    let kept = format!(
        "return document.querySelector('input[name=\"T:{family}\"]')?.defaultValue === '3'"
    );
    looker.wait_for("it is kept", &kept, 20).await;
    // Its page counts by it, and the change stands on its time axis.
    let link = looker.driver.find(By::LinkText(&family)).await.expect("its page");
    link.click().await.expect("pressed");
    says(looker, "its Apdex", "Apdex [3.0] by LCP").await;
    let flag = "return [...document.querySelectorAll('a.pin')].some(a => (a.getAttribute('aria-label') || '').includes('1.5 s → 3 s'))";
    looker.wait_for("the marker", flag, 20).await;
    // A limit on another measure says how its reading was come by.
    go(demo, looker, "/budgets").await;
    type_into(looker, "measure", "mean of LCP").await;
    let limit = looker.driver.find(By::Css("#measured form.stack input[name=limit]")).await;
    limit.expect("a field").send_keys("9 s").await.expect("typed");
    press(looker, "Set the limit").await;
    looker
        .wait_for("its row", "return !!document.querySelector('#measured details.proof')", 20)
        .await;
    let proof =
        looker.driver.find(By::Css("#measured details.proof summary")).await.expect("a proof");
    proof.click().await.expect("opened");
    says(looker, "how it was come by", "Mean of LCP").await;
}
