//! What a person does on pages of the booking site.

use cadentis_e2e::{Demo, Looker};
use serde_json::json;
use thirtyfour::By;

pub async fn go(demo: &Demo, looker: &Looker, path: &str) {
    let address = format!("{}/marram-ferries{path}", demo.address);
    looker.driver.goto(address).await.expect("the page opens");
}

pub async fn press(looker: &Looker, label: &str) {
    let button = format!(
        "//main//button[normalize-space()='{label}'] | //main//a[normalize-space()='{label}']"
    );
    let found = looker.driver.find(By::XPath(button)).await.expect(label);
    found.click().await.expect("pressed");
}

pub async fn type_into(looker: &Looker, name: &str, text: &str) {
    // A name may have spaces and colons in it.
    let field = By::Css(format!("main [name={}]", json!(name)));
    let field = looker.driver.find(field).await.expect(name);
    field.clear().await.expect("it can be emptied");
    field.send_keys(text).await.expect("it can be typed into");
}

/// Chooses or types what has parts of its own, such as a date, as a person would in the end.
pub async fn set(looker: &Looker, name: &str, value: &str) {
    let script = format!(
        "const e = document.querySelector('main [name={name}]'); e.value = {}; e.dispatchEvent(new Event('change', {{ bubbles: true }})); return e.value",
        json!(value)
    );
    assert_eq!(looker.ask(&script).await, json!(value), "{name}");
}

pub async fn says(looker: &Looker, what: &str, text: &str) {
    let script = format!(
        "return (document.querySelector('main')?.textContent ?? '').replace(/\\s+/g, ' ').includes({})",
        json!(text)
    );
    looker.wait_for(&format!("{what}: {text}"), &script, 20).await;
}
