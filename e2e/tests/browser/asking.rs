//! Asking with a real browser: a query is typed with what is offered, turned, looked into, kept and found again.

use super::acts::{go, press, says, type_into};
use cadentis_e2e::{Demo, Looker};
use thirtyfour::{By, Key};

async fn asked(looker: &Looker) -> String {
    let text = looker.ask("return document.querySelector('main [name=q]').value").await;
    text.as_str().expect("a text").to_string()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_query_is_typed_turned_looked_into_kept_and_made_an_alert() {
    let demo = Demo::start(&["--no-runners"]);
    let looker = Looker::start(&[]).await;
    looker.sign_in(&demo, "Tor").await;
    go(&demo, &looker, "/queries").await;
    says(&looker, "what is asked when nothing is said", "exact: each sample was looked at").await;
    type_into(&looker, "q", "p75 of LCP by fam").await;
    let offered = "return [...document.querySelectorAll('#query-next option')].some(o => o.value === 'p75 of LCP by family')";
    looker.wait_for("how it could go on is offered", offered, 10).await;
    type_into(&looker, "q", "p75 of LCP, count of page views by family and device top 4").await;
    press(&looker, "Ask").await;
    let drawn = "return document.querySelectorAll('.lines .course-line[d^=M]').length === 4";
    looker.wait_for("a line for each row", drawn, 20).await;
    let dark = "const c = document.querySelector('td.heat-6'); return !!c && getComputedStyle(c).backgroundColor !== 'rgba(0, 0, 0, 0)'";
    looker.wait_for("the highest is the darkest", dark, 10).await;
    press(&looker, "Flip").await;
    looker
        .wait_for(
            "it is turned",
            "return document.querySelector('main [name=q]').value.includes('by device and family')",
            20,
        )
        .await;
    // A thing more or less is a press; a row's name goes on with it alone.
    press(&looker, "device").await;
    looker
        .wait_for(
            "one thing less",
            "return !document.querySelector('main [name=q]').value.includes('device')",
            20,
        )
        .await;
    let row = looker.driver.find(By::Css(".heat tbody th a")).await.expect("a row");
    row.click().await.expect("pressed");
    looker
        .wait_for(
            "the row alone",
            "return document.querySelector('main [name=q]').value.includes('for family')",
            20,
        )
        .await;
    let alone = asked(&looker).await;
    // What is wrong is told beside what was typed.
    type_into(&looker, "q", "p75 of LCP by person").await;
    press(&looker, "Ask").await;
    says(&looker, "what is wrong", "only by time, family, device").await;
    assert_eq!(asked(&looker).await, "p75 of LCP by person");
    type_into(&looker, "q", &alone).await;
    press(&looker, "Ask").await;
    type_into(&looker, "name", "One family alone").await;
    press(&looker, "Keep this query").await;
    looker
        .wait_for(
            "it has its name",
            "return document.querySelector('h1').textContent.includes('One family alone')",
            20,
        )
        .await;
    go(&demo, &looker, "/queries").await;
    says(&looker, "it is found again", "One family alone").await;
    press(&looker, "One family alone").await;
    looker
        .wait_for(
            "it is asked again",
            "return document.querySelector('h1').textContent.includes('One family alone')",
            20,
        )
        .await;
    let field = looker.driver.find(By::Css("main [name=q]")).await.expect("the sentence");
    field.send_keys(Key::End + "").await.expect("it is reached by keys");
    press(&looker, "Make an alert").await;
    looker
        .wait_for(
            "the alert",
            "return document.querySelector('main [name=measure]')?.value.includes('for family')",
            20,
        )
        .await;
    let mut errors = looker.console_errors().await;
    errors.retain(|e| !e.contains("status of 422"));
    assert!(errors.is_empty(), "{errors:?}");
    looker.end().await;
}
