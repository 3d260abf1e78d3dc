//! Saved views: put together, changed by one at a time, shown piece by piece, on a wall, and begun with.

use crate::server::{Served, get, play, post_form as post, server};
use crate::serving::{self, SESSION, SLUG, client_with, signed_in_as};
use cadentis_core::run::Outcome;

fn path(of: &str) -> String {
    format!("/{SLUG}/views{of}")
}

const PIECES: [(&str, &str); 10] = [
    ("piece", "text"),
    ("of", "What to look at.\n\nThen & there <b>."),
    ("piece", "goal"),
    ("of", "1"),
    ("piece", "query"),
    ("of", "count of runs, availability   by journey"),
    ("piece", "line_up"),
    ("of", "1 2"),
    ("piece", "journey"),
    ("of", "1"),
];

fn form<'a>(name: &'a str, version: &'a str) -> Vec<(&'a str, &'a str)> {
    let mut all = vec![("name", name), ("span", "86400"), ("version", version)];
    all.extend(PIECES);
    all
}

async fn piece(s: &Served, nth: usize, version: i32) -> (u16, String) {
    get(s, &path(&format!("/1/pieces/{nth}?version={version}"))).await
}

#[tokio::test]
async fn a_view_shows_its_pieces_in_their_order_over_one_time_and_says_what_was_taken_away() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed]).await;
    // Adding, moving and dropping keeps nothing yet.
    let mut arranging = form("Mornings", "0");
    arranging.extend([("up", "1")]);
    let (status, _, says) = post(&s, &path(""), &arranging).await;
    assert_eq!(status, 200, "{says}");
    let (goal, text) = (says.find("value=\"goal\""), says.find("value=\"text\""));
    assert!(goal < text && goal.is_some(), "the goal stands first now: {says}");
    assert!(get(&s, &path("")).await.1.contains("None yet"));

    let (status, to, says) = post(&s, &path(""), &form("Mornings", "0")).await;
    assert_eq!((status, to.as_str()), (303, path("/1").as_str()), "{says}");
    let page = get(&s, &path("/1")).await.1;
    let at = |nth: usize| page.find(&format!("/views/1/pieces/{nth}?version=1&"));
    assert!((0..5).all(|nth| at(nth).is_some()) && at(5).is_none(), "{page}");
    assert!((0..4).all(|nth| at(nth) < at(nth + 1)), "in their order");
    let text = piece(&s, 0, 1).await.1;
    assert!(text.contains("<p>What to look at.</p><p>Then &#38; there &#60;b&#62;.</p>"), "{text}");
    let goal = piece(&s, 1, 1).await.1;
    assert!(goal.contains("Bookable") && goal.contains("Error budget left"), "{goal}");
    let query = piece(&s, 2, 1).await.1;
    assert!(query.contains("3 runs") && query.contains("66.67 %"), "{query}");
    let lanes = piece(&s, 3, 1).await.1;
    assert!(lanes.contains("halifax") && !lanes.contains("bergen"), "of one location: {lanes}");
    let journey = piece(&s, 4, 1).await.1;
    assert!(
        journey.contains("availability") && !journey.contains("<svg class=\"lineup"),
        "{journey}"
    );
    assert_eq!(piece(&s, 5, 1).await.0, 404);
    // What could not be made of a part stands in its place, not a page within the page; whoever is signed out is led to the door.
    let part = async |client: reqwest::Client| {
        let to = format!("{}{}", s.server.address, path("/1/pieces/5?version=1"));
        client.get(to).header("hx-request", "true").send().await.expect("an answer")
    };
    let told = part(signed_in_as(SESSION)).await;
    assert_eq!(told.status(), 404);
    let told = told.text().await.expect("a part");
    assert!(
        told.starts_with(
            "<p class=\"field-wrong\" role=\"alert\">There is no such page here: piece 5"
        ),
        "{told}"
    );
    assert_eq!(part(client_with("a=b")).await.headers()["hx-redirect"], "/sign-in");

    // What a piece shows is taken away: it says so, and all others stay.
    s.db.remove_goal(1).await.expect("taken away");
    let (status, gone) = piece(&s, 1, 1).await;
    assert!(status == 200 && gone.contains("What this piece showed was taken away"), "{gone}");
    let (status, _, says) = post(&s, &path("/1"), &form("Mornings", "1")).await;
    assert!(
        status == 422 && says.contains("Piece 2: what it shows is not there any more"),
        "{says}"
    );
    assert!(says.contains("class=\"is-wrong\"") && says.contains("What to look at."), "{says}");
}

#[tokio::test]
async fn two_people_who_change_one_view_notice_and_what_is_wrong_is_told_beside_what_was_typed() {
    let s = server().await;
    assert_eq!(post(&s, &path(""), &form("Mornings", "0")).await.0, 303);
    let (status, _, says) = post(&s, &path(""), &form("Mornings", "0")).await;
    assert!(status == 422 && says.contains("Another view has this name."), "{says}");
    let wrong = |field: (&'static str, &'static str)| {
        let mut all: Vec<_> = form("Other", "0");
        all.retain(|(name, _)| *name != field.0);
        all.push(field);
        all
    };
    let typed = [
        (wrong(("name", " ")), "A name has 1 to 80 characters."),
        (wrong(("span", "17")), "Choose one of the times that are offered."),
        (wrong(("team", "99")), "Choose one of the teams."),
        (wrong(("piece", "goal")), "A view has at least one piece"),
        (
            [form("Other", "0"), vec![("piece", "query"), ("of", "p75 of LPC")]].concat(),
            "Piece 6: ",
        ),
        (
            [form("Other", "0"), vec![("piece", "journey"), ("of", "77")]].concat(),
            "Piece 6: what it shows",
        ),
    ];
    for (fields, says) in typed {
        let (status, _, page) = post(&s, &path(""), &fields).await;
        assert!(status == 422 && page.contains(says), "{says}: {page}");
    }
    // Whoever comes second is told, and sees what they typed.
    let (status, to, _) = post(&s, &path("/1"), &form("Evenings", "1")).await;
    assert_eq!((status, to.as_str()), (303, path("/1").as_str()));
    let (status, _, says) = post(&s, &path("/1"), &form("Nights", "1")).await;
    assert!(status == 422 && says.contains("Somebody changed this view while you did"), "{says}");
    assert!(says.contains("value=\"Nights\"") && get(&s, &path("/1")).await.1.contains("Evenings"));
    // A page that was loaded before asks for pieces of a view that is another one now.
    assert_eq!(piece(&s, 0, 1).await.0, 410);
    assert_eq!(piece(&s, 0, 2).await.0, 200);
    // A query is put in from where it was asked.
    let put = get(&s, &path("/new?query=count+of+errors+by+error")).await.1;
    assert!(put.contains("value=\"count of errors by error\""), "{put}");
    assert!(put.contains("/views/1/change?query=count+of+errors+by+error&"), "{put}");
    let put = get(&s, &path("/1/change?query=count+of+errors")).await.1;
    assert!(put.contains("value=\"count of errors\"") && put.contains("piece 6"), "{put}");
    let (status, to, _) = post(&s, &path("/1/remove"), &[]).await;
    assert_eq!((status, to.as_str()), (303, path("?removed=1").as_str()));
    assert_eq!(post(&s, &path("/1/remove"), &[]).await.0, 404);
    assert_eq!(get(&s, &path("/1")).await.0, 404);

    // It can be put back as it was, unless another one has its name by now.
    let list = get(&s, &to).await.1;
    assert!(list.contains("is taken away.") && list.contains("/views/1/restore"), "{list}");
    assert!(!get(&s, &path("")).await.1.contains("/views/1/restore"), "only just afterwards");
    assert_eq!(post(&s, &path(""), &form("Evenings", "0")).await.0, 303, "its name is free");
    let (status, _, says) = post(&s, &path("/1/restore"), &[]).await;
    assert!(status == 409 && says.contains("Another view has this name."), "{status} {says}");
    assert_eq!(post(&s, &path("/2/remove"), &[]).await.0, 303);
    assert_eq!(post(&s, &path("/1/restore"), &[]).await.0, 303);
    let back = get(&s, &path("/1")).await;
    assert!(back.0 == 200 && back.1.contains("Evenings"), "{}", back.1);
    assert_eq!(post(&s, &path("/1/restore"), &[]).await.0, 404, "it is there");
    assert_eq!(post(&s, &path("/99/restore"), &[]).await.0, 404);
}

#[tokio::test]
async fn whoever_wants_to_begins_with_a_view_and_with_all_sites_again_once_it_is_gone() {
    let s = server().await;
    serving::another_site(&s.db).await;
    assert_eq!(post(&s, &path(""), &form("Mornings", "0")).await.0, 303);
    assert_eq!(get(&s, "/").await.0, 200);
    assert_eq!(post(&s, &path("/1/start"), &[]).await.0, 303);
    assert!(get(&s, &path("")).await.1.contains("you begin with it"));
    let begun = async || {
        let me = signed_in_as(SESSION).get(format!("{}/", s.server.address));
        let me = me.send().await.expect("an answer");
        let to =
            me.headers().get("location").and_then(|v| v.to_str().ok()).unwrap_or("").to_string();
        (me.status().as_u16(), to)
    };
    assert_eq!(begun().await, (303, path("/1")));
    assert_eq!(get(&s, "/?all=1").await.0, 200, "all sites are still found");
    assert_eq!(post(&s, &path("/1/start"), &[("none", "1")]).await.0, 303);
    assert_eq!(begun().await.0, 200);
    assert_eq!(post(&s, &path("/1/start"), &[]).await.0, 303);
    assert_eq!(post(&s, &path("/1/remove"), &[]).await.0, 303);
    assert_eq!(begun().await.0, 200, "it is gone, and nobody is led to nothing");
}

#[tokio::test]
async fn a_link_for_a_wall_shows_the_view_over_a_time_that_goes_on_and_nothing_else() {
    let s = server().await;
    play(&s, &[Outcome::Passed]).await;
    assert_eq!(post(&s, &path(""), &form("Mornings", "0")).await.0, 303);
    let share = async |to: &str| {
        let fields = [("to", to), ("days", "30")];
        let (status, _, page) = post(&s, &format!("/{SLUG}/settings/shares"), &fields).await;
        let link = page.split("<code>").nth(1).and_then(|rest| rest.split("</code>").next());
        (status, link.unwrap_or(&page).replace("&#38;", "&"))
    };
    assert_eq!(share("/views/1").await.0, 422, "a page is shared at a stretch");
    let (status, link) = share("/views/1?wall=1").await;
    assert_eq!(status, 200, "{link}");
    let nobody = client_with("a=b");
    let shown = nobody.get(&link).send().await.expect("an answer");
    let cookie = shown.headers()["set-cookie"].to_str().expect("a cookie").to_string();
    let wall = shown.text().await.expect("a page");
    assert!(wall.contains("class=\"wall\"") && !wall.contains("data-strip"), "{wall}");
    assert!(!wall.contains(">Back<"), "it leads nowhere");
    let has_it = client_with(cookie.split(';').next().expect("a cookie"));
    let ask = async |of: &str| {
        let asked = has_it.get(format!("{}{}", s.server.address, path(of)));
        asked.send().await.expect("an answer")
    };
    let piece = ask("/1/pieces/2?version=1").await;
    assert_eq!(piece.status(), 200);
    assert!(
        !piece
            .text()
            .await
            .expect("a part")
            .contains("href=\"/marram-ferries/queries?q=count+of+runs%2C+availability+by+journey")
    );
    for of in
        ["/1", "", "/1/change", "/1/pieces/2?version=1&from=2026-01-01T00:00Z&to=2026-01-02T00:00Z"]
    {
        assert_eq!(ask(of).await.status(), 303, "{of} leads to signing in");
    }
}
