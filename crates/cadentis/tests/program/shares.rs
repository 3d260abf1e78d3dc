//! Links that show one page to whoever has them.

use crate::server::{Served, play, server};
use crate::serving::{self, SESSION, client_with, signed_in_as};
use cadentis_core::access::Role;
use cadentis_core::run::Outcome;
use cadentis_store::person::Given;
use reqwest::{Client, Response};

/// Asks for a link to a page below the site's name, as the administrator; the answer's status and the link it shows.
async fn share(s: &Served, to: &str, days: &str) -> (u16, String) {
    let body = url::form_urlencoded::Serializer::new(String::new())
        .extend_pairs([("to", to), ("days", days)])
        .finish();
    let request =
        signed_in_as(SESSION).post(format!("{}/marram-ferries/settings/shares", s.server.address));
    let request = request.header("content-type", "application/x-www-form-urlencoded").body(body);
    let answer = request.send().await.expect("an answer");
    let (status, page) = (answer.status().as_u16(), answer.text().await.expect("a page"));
    let link = page.split("<code>").nth(1).and_then(|rest| rest.split("</code>").next());
    (status, link.unwrap_or(&page).replace("&#38;", "&"))
}

async fn get(client: &Client, to: &str) -> Response {
    client.get(to).send().await.expect("an answer")
}

/// Whether somebody is led to signing in.
fn is_closed(answer: &Response) -> bool {
    let to = answer.headers().get("location").and_then(|v| v.to_str().ok()).unwrap_or("");
    to.starts_with("/sign-in") || answer.status() == 401
}

const AT: &str = "from=2026-11-22T05:00Z&to=2026-11-22T11:00Z&against=week";

#[tokio::test]
async fn a_link_shows_its_page_at_its_stretch_with_its_parts_and_nothing_else_until_it_is_taken_back()
 {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed]).await;
    let (status, link) = share(&s, &format!("/journeys/book?{AT}"), "7").await;
    assert_eq!(status, 200, "{link}");
    assert!(link.contains("/marram-ferries/journeys/book?from=2026-11-22T05"), "{link}");
    let nobody = client_with("a=b");
    let shown = get(&nobody, &link).await;
    assert_eq!(shown.status(), 200);
    let head = |name: &str| shown.headers()[name].to_str().expect("text").to_string();
    assert_eq!(
        (head("x-robots-tag"), head("cache-control"), head("referrer-policy")),
        ("noindex".into(), "no-store".into(), "no-referrer".into())
    );
    let cookie = head("set-cookie");
    assert!(
        cookie.contains("HttpOnly")
            && cookie.contains("SameSite=Lax")
            && cookie.contains("Path=/marram-ferries"),
        "{cookie}"
    );
    let page = shown.text().await.expect("a page");
    assert!(page.contains("shared by Ada") && !page.contains("href=\"/me\""), "{page}");
    assert!(!page.contains("data-strip ") && !page.contains("settings/shares"), "{page}");
    let token = link.split("share=").nth(1).expect("a token");
    assert!(!page.contains(token), "the page does not pass the link on");

    // Parts come with the cookie, for the same stretch alone.
    let own = &s.server.address;
    let has_it = client_with(cookie.split(';').next().expect("a cookie"));
    let part = |path: &str, at: &str| format!("{own}/marram-ferries/{path}?{at}");
    assert_eq!(get(&has_it, &part("journeys/book/weeks", AT)).await.status(), 200);
    let other = AT.replace("05:00", "04:00");
    for to in [
        part("journeys/book/weeks", &other),
        part("journeys/book", &other),
        part("journeys/book/script", AT),
        part("journeys/book/runs", AT),
        part("journeys", AT),
        part("visitors", AT),
        part("settings/shares", ""),
        format!("{own}/me"),
        format!("{own}/"),
        format!("{own}/api/v1/sites/marram-ferries/journeys"),
    ] {
        assert!(is_closed(&get(&has_it, &to).await), "{to}");
    }
    let press = has_it.post(part("journeys/book/status", "")).body("status=archived");
    let press = press.header("content-type", "application/x-www-form-urlencoded");
    assert!(is_closed(&press.send().await.expect("an answer")), "nothing is changed by a link");

    // Whoever is signed in and no member here sees it by the link, too, and only so.
    let elsewhere = serving::another_site(&s.db).await;
    let (given, session) = (
        Given {
            is_administrator: false,
            sees_people: true,
            roles: vec![(elsewhere, Role::Editor)],
        },
        format!("{:0>64}", "7"),
    );
    serving::sign_in(&s.db, "Runa", given, &session).await;
    let runa = signed_in_as(&session);
    let page = get(&runa, &link).await.text().await.expect("a page");
    assert!(page.contains("shared by Ada"), "{page}");
    assert_eq!(get(&runa, &part("journeys/book", AT)).await.status(), 404);
    // It is a link to a page of this site, whatever name stands before it.
    let there = link.replace("/marram-ferries/", "/freight/");
    assert_eq!(get(&runa, &there).await.status(), 404);

    // Taken back it opens nothing, and says so; what is kept of it opens nothing either.
    let dumped = s.db.text_of_every_table().await.expect("rows");
    assert!(!dumped.iter().any(|row| row.contains(token)));
    let id = s.db.share_links(1).await.expect("rows")[0].id;
    let list = get(&signed_in_as(SESSION), &part("settings/shares", ""))
        .await
        .text()
        .await
        .expect("a page");
    assert!(list.contains("/journeys/book") && list.contains(&format!("{id}/remove")), "{list}");
    let back = signed_in_as(SESSION).post(part(&format!("settings/shares/{id}/remove"), ""));
    let back = back.header("content-type", "application/x-www-form-urlencoded");
    assert_eq!(back.send().await.expect("an answer").status(), 303);
    let gone = get(&nobody, &link).await;
    assert_eq!(gone.status(), 410);
    assert!(gone.text().await.expect("a page").contains("This link is good no more."));
    assert!(is_closed(&get(&has_it, &part("journeys/book/weeks", AT)).await));
    let done: Vec<String> =
        s.db.done(5)
            .await
            .expect("rows")
            .into_iter()
            .map(|d| format!("{} {}", d.what, d.which))
            .collect();
    assert_eq!(done[0], "took back the link to /marram-ferries/journeys/book");
    assert_eq!(done[1], "shared /marram-ferries/journeys/book");
}

#[tokio::test]
async fn what_cannot_be_shared_is_told_and_a_link_of_yesterday_is_good_no_more() {
    let s = server().await;
    let run = play(&s, &[Outcome::Failed]).await[0];
    let page = format!("/runs/{run}?{AT}");
    for (to, days, says) in [
        (format!("/visitors/find?who=x&{AT}"), "7", "cannot be shared"),
        (format!("/runs/{run}/har?{AT}"), "7", "cannot be shared"),
        (format!("/settings?{AT}"), "7", "cannot be shared"),
        (format!("https://evil.example/?{AT}"), "7", "cannot be shared"),
        (format!("/runs/{run}"), "7", "has a stretch of its own"),
        (page.clone(), "0", "1 to 90 days"),
        (page.clone(), "91", "1 to 90 days"),
        (page.clone(), "a week", "1 to 90 days"),
    ] {
        let (status, told) = share(&s, &to, days).await;
        assert!(status == 422 && told.contains(says), "{to}: {status} {told}");
    }
    let (status, link) = share(&s, &page, "1").await;
    assert_eq!(status, 200, "{link}");
    let nobody = client_with("a=b");
    let shown = get(&nobody, &link).await;
    assert_eq!(shown.status(), 200);
    assert_eq!(
        get(&nobody, &format!("{link}&step=0")).await.status(),
        200,
        "its steps are looked at"
    );
    s.db.age_share_links(86_401).await.expect("older");
    assert_eq!(get(&nobody, &link).await.status(), 410);
    // Readers look, and share nothing.
    let session = format!("{:0>64}", "8");
    let reader =
        Given { is_administrator: false, sees_people: false, roles: vec![(1, Role::Reader)] };
    serving::sign_in(&s.db, "Bo", reader, &session).await;
    let bo = signed_in_as(&session);
    let own = format!("{}/marram-ferries", s.server.address);
    assert!(!get(&bo, &own).await.text().await.expect("a page").contains("settings/shares"));
    let ada = signed_in_as(SESSION);
    assert!(
        get(&ada, &own)
            .await
            .text()
            .await
            .expect("a page")
            .contains("settings/shares?to=%3Ffrom%3D")
    );
}

#[tokio::test]
async fn a_link_to_a_query_answers_that_query_and_shows_none_of_what_else_people_keep() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed]).await;
    s.db.save_query(1, ("Nobody else’s", "count of visits"), "Ada").await.expect("kept");
    let at = "q=availability+by+location&from=2026-11-22T05:00Z&to=2026-11-22T11:00Z";
    let (status, link) = share(&s, &format!("/queries?{at}"), "7").await;
    assert_eq!(status, 200, "{link}");
    let nobody = client_with("a=b");
    let shown = get(&nobody, &link).await;
    assert_eq!(shown.status(), 200);
    let cookie = shown.headers()["set-cookie"].to_str().expect("text").to_string();
    let page = shown.text().await.expect("a page");
    assert!(page.contains("availability by location"), "{page}");
    assert!(!page.contains("Nobody else") && !page.contains("name=\"q\""), "{page}");
    let has_it = client_with(cookie.split(';').next().expect("a cookie"));
    let own = &s.server.address;
    for other in ["queries?q=count+of+runs", "queries/csv", "queries/apart", "queries/next"] {
        let and = if other.contains('?') { '&' } else { '?' };
        let to = format!("{own}/marram-ferries/{other}{and}{}", at.split_once('&').expect("two").1);
        assert!(is_closed(&get(&has_it, &to).await), "{to}");
    }
}
