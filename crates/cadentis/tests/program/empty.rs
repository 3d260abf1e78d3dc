//! An installation that has nothing yet says what to do, and can do it.

use crate::serving::{self, Server};
use cadentis_core::calendar::Pace;
use cadentis_store::Db;
use cadentis_store::journey::{NewJourney, PlaceAndPace};
use cadentis_store::script_version::Status;

struct Empty {
    db: Db,
    server: Server,
    client: reqwest::Client,
}

impl Empty {
    async fn get(&self, path: &str) -> (u16, String, String) {
        let answer = self
            .client
            .get(format!("{}{path}", self.server.address))
            .send()
            .await
            .expect("an answer");
        let to = answer
            .headers()
            .get("location")
            .and_then(|v| v.to_str().ok())
            .unwrap_or("")
            .to_string();
        (answer.status().as_u16(), to, answer.text().await.expect("a page"))
    }

    async fn form(&self, path: &str, form: &[(&str, &str)]) -> (u16, String) {
        let body: Vec<String> = form
            .iter()
            .map(|(n, v)| format!("{n}={}", v.replace(' ', "+").replace('%', "%25")))
            .collect();
        let request = self.client.post(format!("{}{path}", self.server.address));
        let request = request
            .header("content-type", "application/x-www-form-urlencoded")
            .body(body.join("&"));
        let answer = request.send().await.expect("an answer");
        (answer.status().as_u16(), answer.text().await.expect("a page"))
    }
}

#[tokio::test]
async fn every_page_leads_to_the_first_site_then_to_a_journey_and_a_goal() {
    let (db, url) = serving::database().await;
    let s = Empty { db, server: Server::start(&url), client: serving::page_of_its_own() };
    assert_eq!(s.server.up().await, 200);
    let (status, to, _) = s.get("/").await;
    assert_eq!((status, to.as_str()), (303, "/setup/sites"));
    for page in ["/setup", "/setup/people"] {
        assert_eq!(s.get(page).await.0, 200, "{page}");
    }
    assert!(s.get("/setup/sites").await.2.contains("It begins with a site"));

    let domains = ("domains", "book.marram.example");
    for (form, says) in [
        ([("name", " "), domains, ("zone", "UTC")], "A site has a name."),
        ([("name", "Marram"), domains, ("zone", "Marram/Skarholm")], "is no time zone"),
        ([("name", "Marram"), ("domains", "http://a"), ("zone", "UTC")], "is no domain"),
        ([("name", "Marram"), ("domains", ""), ("zone", "UTC")], "at least one domain"),
    ] {
        let (status, page) = s.form("/setup/sites", &form).await;
        assert!(status == 422 && page.contains(says), "{says}: {page}");
    }
    assert!(s.db.sites().await.expect("rows").is_empty(), "nothing is kept of what was wrong");
    let good = [("name", "Marram Ferries"), domains, ("zone", "Europe/Oslo")];
    assert_eq!(s.form("/setup/sites", &good).await.0, 303);
    let sites = s.db.sites().await.expect("rows");
    assert_eq!(
        (sites.len(), sites[0].name.as_str(), sites[0].domains.len()),
        (1, "Marram Ferries", 1)
    );
    for page in ["", "/start", "/journeys", "/visitors", "/settings", "/settings/visitors"] {
        assert_eq!(s.get(&format!("/marram-ferries{page}")).await.0, 200, "{page}");
    }

    let now = s.get("/marram-ferries").await.2;
    assert!(
        now.contains("Nothing is measured yet.") && now.contains("/marram-ferries/start"),
        "{now}"
    );
    assert!(
        !now.contains("Every journey gets through"),
        "nothing is said of what nobody has measured: {now}"
    );
    assert!(s.get("/marram-ferries/journeys").await.2.contains("/marram-ferries/journeys/new"));

    let goals = s.get("/marram-ferries/goals").await.2;
    assert!(goals.contains("No goal yet") && goals.contains("First there has to be <a"), "{goals}");
    let pace = Pace::Every(300);
    let journey = NewJourney {
        site_id: sites[0].id,
        slug: "book",
        name: "Book a crossing",
        script: "script \"Book\"\nstep \"Open\"\n  open http://book.marram.example/\n",
        apdex_t_s: 1.0,
        author: "Ada",
        plays: PlaceAndPace::usual(&pace, &[]),
        status: Status::Paused,
    };
    s.db.add_journey(&journey).await.expect("a journey");
    assert!(s.get("/marram-ferries/goals").await.2.contains("/marram-ferries/goals/new"));
    let form = s.get("/marram-ferries/goals/new").await.2;
    assert!(form.contains("value=\"book\"") && form.contains("Book a crossing"), "{form}");
    for (promised, says) in [
        ("100", "below 100 %"),
        ("0", "above 0 %"),
        ("most", "a number of per cent"),
        ("", "a number of per cent"),
    ] {
        let (status, page) = s
            .form(
                "/marram-ferries/goals",
                &[("journey", "book"), ("name", "Bookable"), ("promised", promised)],
            )
            .await;
        assert!(status == 422 && page.contains(says), "{promised}: {page}");
        assert!(page.contains("value=\"Bookable\""), "nothing that was typed is lost");
    }
    let goal = [("journey", "book"), ("name", "Bookable"), ("promised", "99.5 %")];
    assert_eq!(s.form("/marram-ferries/goals", &goal).await.0, 303);
    let goals = s.get("/marram-ferries/goals").await.2;
    assert!(
        goals.contains("Bookable")
            && goals.contains("goal 99.50 %")
            && !goals.contains("No goal yet"),
        "{goals}"
    );
}
