//! Who is let in, by what, and who may do what: the whole list of routes, asked as each kind of person.

use crate::door::path;
use crate::serving::{self, CLUSTER, SESSION, Server, signed_in_as};
use cadentis_core::access::{IDLE_S, LONGEST_S, PROVED_S, Permission, Role, Scope};
use cadentis_store::Db;
use cadentis_store::audit::Deed;
use cadentis_store::person::Given;
use cadentis_web::routes::{Route, all};
use reqwest::{Client, Response};
use sha2::{Digest, Sha256};
use std::fmt::Write;
use uuid::Uuid;

const PASSWORD: &str = "four fern ferries fog";

struct World {
    db: Db,
    server: Server,
    site: i32,
}

async fn world() -> World {
    let (db, url) = serving::database().await;
    let server = Server::start(&url);
    assert_eq!(server.up().await, 200);
    let site = serving::site(&db).await;
    World { db, server, site }
}

/// A session that nobody has yet.
fn session() -> String {
    format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple())
}

fn kept(token: &str) -> Vec<u8> {
    Sha256::digest(token.as_bytes()).to_vec()
}

/// A browser without a session, on a page of the server's own.
fn stranger() -> Client {
    signed_in_as("")
}

fn header<'a>(answer: &'a Response, name: &str) -> &'a str {
    answer.headers().get(name).and_then(|v| v.to_str().ok()).unwrap_or("")
}

/// The session that an answer gives.
fn given_session(answer: &Response) -> String {
    let cookie = header(answer, "set-cookie");
    assert!(
        cookie.contains("HttpOnly") && cookie.contains("SameSite=Lax") && cookie.contains("Path=/"),
        "{cookie}"
    );
    let value = cookie.split(';').next().unwrap_or("");
    value.strip_prefix("cadentis_session=").expect("a session").to_string()
}

fn posted(client: &Client, to: String, form: &[(&str, &str)]) -> reqwest::RequestBuilder {
    let body = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(form).finish();
    let request = client.post(to).header("content-type", "application/x-www-form-urlencoded");
    request.body(body)
}

impl World {
    fn at(&self, path: &str) -> String {
        format!("{}{path}", self.server.address)
    }

    fn given(&self, role: Option<Role>, is_administrator: bool, sees_people: bool) -> Given {
        Given {
            is_administrator,
            sees_people,
            roles: role.map(|r| (self.site, r)).into_iter().collect(),
        }
    }

    async fn form(&self, client: &Client, path: &str, form: &[(&str, &str)]) -> Response {
        posted(client, self.at(path), form).send().await.expect("an answer")
    }

    /// Somebody with a password, by a link as an administrator makes them.
    async fn somebody(&self, name: &str, given: Given) -> (i32, String) {
        let email = format!("{}@marram.example", name.to_lowercase());
        let id = self.db.add_person(&email, name, &given).await.expect("rows").expect("a new one");
        let link = session();
        self.db.add_link(&kept(&link), Some(id), 60).await.expect("a link");
        let to = format!("/welcome/{link}");
        let answer = self.form(&stranger(), &to, &[("password", PASSWORD)]).await;
        assert_eq!(answer.status(), 303, "{name}");
        (id, given_session(&answer))
    }

    /// A token of a program for this site.
    async fn token(&self, site: i32, scopes: &[Scope]) -> String {
        let token = session();
        let hash = kept(&token);
        let add = self.db.add_api_token(&hash, site, "a test", scopes, "Ada", 1);
        add.await.expect("a token");
        token
    }

    async fn sign_in(&self, email: &str, password: &str, from: &str) -> Response {
        let form =
            [("email", email), ("password", password), ("to", "/marram-ferries/journeys?by=x")];
        let request = posted(&stranger(), self.at("/sign-in"), &form);
        request.header("x-forwarded-for", from).send().await.expect("an answer")
    }
}

/// Whether somebody was let through to what stands behind the door.
async fn is_let_in(w: &World, client: &Client, route: &Route) -> bool {
    let method = route.method.parse().expect("a method");
    let asked = client.request(method, w.at(&path(route))).send().await.expect("an answer");
    let to_sign_in = header(&asked, "location").starts_with("/sign-in?to=");
    let closed = matches!(asked.status().as_u16(), 401 | 403) || to_sign_in;
    // Whoever may not see a site is told what everybody hears of one that is not there.
    !closed && !asked.text().await.expect("a text").contains("is no site that you may see")
}

#[tokio::test]
async fn every_route_lets_in_whom_the_table_in_this_folder_says_and_nobody_else() {
    let w = world().await;
    let other = serving::another_site(&w.db).await;
    let (reader, editor) = (Some(Role::Reader), Some(Role::Editor));
    let elsewhere = Given { roles: vec![(other, Role::Editor)], ..w.given(None, false, true) };
    let people = [
        ("of-another-site", elsewhere),
        ("member-of-none", w.given(None, false, true)),
        ("reader", w.given(reader, false, false)),
        ("reader-who-sees-people", w.given(reader, false, true)),
        ("editor", w.given(editor, false, false)),
        ("administrator", w.given(None, true, false)),
    ];
    let mut ids = Vec::new();
    for (name, given) in people {
        let email = format!("{name}@marram.example");
        ids.push((name, w.db.add_person(&email, name, &given).await.expect("rows").expect("new")));
    }
    let mut tokens = Vec::new();
    for scope in Scope::ALL {
        tokens.push((scope.word(), w.token(w.site, &[scope]).await));
    }
    tokens.push(("all-of-another-site", w.token(other, &Scope::ALL).await));
    let mut table = String::new();
    for route in all().iter().filter(|r| r.needs != Permission::Runner) {
        let mut who = Vec::new();
        if is_let_in(&w, &stranger(), route).await {
            who.push("anybody".to_string());
        } else {
            for (name, id) in &ids {
                // Each has a session of their own: one of the routes ends it.
                let theirs = session();
                let from = "127.0.0.1".parse().expect("an address");
                w.db.begin_session(&kept(&theirs), *id, "", from, 0).await.expect("a session");
                if is_let_in(&w, &signed_in_as(&theirs), route).await {
                    who.push(name.to_string());
                }
            }
            for (name, token) in &tokens {
                if is_let_in(&w, &serving::program(token), route).await {
                    who.push(format!("token:{name}"));
                }
            }
            // Somebody who has a link to just this address, if any link is one.
            let link = session();
            let at = path(route);
            let below = at.strip_prefix("/marram-ferries").unwrap_or(&at);
            let hash = kept(&link);
            let add = w.db.add_share_link(&hash, w.site, (below, ""), "Ada", 1);
            add.await.expect("a link");
            let has_it = serving::client_with(&format!("cadentis_share={link}"));
            if is_let_in(&w, &has_it, route).await {
                who.push("link".into());
            }
        }
        let _ = writeln!(table, "{:<6} {:<50} {}", route.method, route.path, who.join(" "));
    }
    let wanted = include_str!("access.table");
    if std::env::var_os("CADENTIS_SHOW_TABLE").is_some() {
        println!("{table}");
    }
    for (now, then) in table.lines().zip(wanted.lines()) {
        assert_eq!(now, then);
    }
    assert_eq!(table, wanted, "whoever adds a route says here whom it lets in");
}

#[tokio::test]
async fn what_is_grave_asks_for_the_password_again_and_sessions_end() {
    let w = world().await;
    let (_, session) = w.somebody("Ines", w.given(None, true, false)).await;
    let ines = signed_in_as(&session);
    let add = [("name", "Bo"), ("email", "bo@marram.example"), ("role.1", "reader")];
    w.db.age_sessions(PROVED_S + 1).await.expect("older");
    let answer = w.form(&ines, "/setup/people", &add).await;
    assert_eq!(answer.status(), 403);
    assert!(answer.text().await.expect("a page").contains("password is asked for again"));
    let page = ines.get(w.at("/setup/people")).send().await.expect("an answer");
    assert!(page.text().await.expect("a page").contains("<fieldset class=\"bare\" disabled>"));
    let wrong = w.form(&ines, "/confirm", &[("password", "another one entirely")]).await;
    assert_eq!(wrong.status(), 401);
    let right = [("password", PASSWORD), ("to", "/setup/people")];
    let answer = w.form(&ines, "/confirm", &right).await;
    assert_eq!((answer.status().as_u16(), header(&answer, "location")), (303, "/setup/people"));
    assert_eq!(w.form(&ines, "/setup/people", &add).await.status(), 200);
    // Used every eleven hours it goes on, but not for ever.
    for _ in 0..(LONGEST_S / (IDLE_S - 3_600)) {
        assert_eq!(ines.get(w.at("/me")).send().await.expect("an answer").status(), 200);
        w.db.age_sessions(IDLE_S - 3_600).await.expect("older");
    }
    w.db.age_sessions(IDLE_S - 3_600).await.expect("older");
    let answer = ines.get(w.at("/me?x=1")).send().await.expect("an answer");
    assert_eq!(
        (answer.status().as_u16(), header(&answer, "location")),
        (303, "/sign-in?to=%2Fme%3Fx%3D1")
    );
}

#[tokio::test]
async fn the_first_administrator_comes_in_by_a_link_that_is_used_up_and_nothing_else_answers_before()
 {
    let url =
        CLUSTER.create_database(&format!("t{}", Uuid::new_v4().simple())).expect("a database");
    let db = Db::connect(&url).expect("an address");
    db.migrate().await.expect("migrations");
    let server = Server::start(&url);
    assert_eq!(server.up().await, 200);
    let w = World { db, server, site: 0 };
    let answer = stranger().get(w.at("/marram-ferries/journeys")).send().await.expect("an answer");
    assert_eq!(header(&answer, "location"), "/sign-in?to=%2Fmarram-ferries%2Fjourneys");
    let page = crate::serving::get(w.at("/sign-in")).await.expect("an answer").text().await;
    assert!(page.expect("a page").contains("Nobody looks after this installation yet."));
    // The server has made one already; the newest is good.
    let link = session();
    w.db.add_link(&kept(&link), None, 60).await.expect("a link");
    let to = format!("/welcome/{link}");
    let tried = [
        (
            [("name", ""), ("email", "ines@marram.example"), ("password", PASSWORD)],
            "You have a name",
        ),
        ([("name", "Ines"), ("email", "ines"), ("password", PASSWORD)], "You have a name"),
        (
            [("name", "Ines"), ("email", "ines@marram.example"), ("password", "short")],
            "10 characters",
        ),
        (
            [("name", "Ines"), ("email", "ines@marram.example"), ("password", "ines marram")],
            "guessed",
        ),
    ];
    for (form, says) in &tried {
        let answer = w.form(&stranger(), &to, form).await;
        assert_eq!(answer.status(), 422);
        let page = answer.text().await.expect("a page");
        assert!(page.contains(says), "{says}: {page}");
    }
    let good = [("name", "Ines"), ("email", "Ines@Marram.example"), ("password", PASSWORD)];
    let stranger_to_it = stranger();
    let press = || w.form(&stranger_to_it, &to, &good);
    let both = futures::join!(press(), press());
    let mut became = [both.0.status().as_u16(), both.1.status().as_u16()];
    became.sort_unstable();
    assert_eq!(became, [303, 410], "two who press at once make one");
    assert_eq!(stranger().get(w.at(&to)).send().await.expect("an answer").status(), 410);
    let people = w.db.people().await.expect("rows");
    assert_eq!((people.len(), people[0].is_administrator), (1, true));
    assert_eq!(people[0].email, "ines@marram.example");
    let answer = w.sign_in("ines@marram.example", PASSWORD, "198.51.100.1").await;
    assert_eq!(
        (answer.status().as_u16(), header(&answer, "location")),
        (303, "/marram-ferries/journeys?by=x")
    );
}

#[tokio::test]
async fn who_guesses_waits_and_hears_the_same_whether_there_is_such_an_account_or_not() {
    let w = world().await;
    let (_, first) = w.somebody("Tor", w.given(Some(Role::Editor), false, false)).await;
    let mut said = Vec::new();
    for email in ["tor@marram.example", "nobody@marram.example", "no address"] {
        let answer = w.sign_in(email, "a wrong password", "198.51.100.2").await;
        assert_eq!(answer.status(), 401);
        said.push(answer.text().await.expect("a page").replace(email, ""));
    }
    assert!(said.windows(2).all(|two| two[0] == two[1]), "{said:?}");
    // Twelve more: from the fifth on nothing is looked at for a while, not even what is right.
    let tries =
        (0..12).map(|_| w.sign_in("tor@marram.example", "a wrong password", "198.51.100.3"));
    let answers = futures::future::join_all(tries).await;
    assert!(answers.iter().any(|a| a.status() == 429 && !header(a, "retry-after").is_empty()));
    for _ in 0..12 {
        w.db.take_try("account tor@marram.example", 1_000).await.expect("counted");
    }
    let held = w.sign_in("tor@marram.example", PASSWORD, "198.51.100.4").await;
    assert_eq!(held.status(), 429, "wherever it comes from");
    assert_eq!(w.sign_in("nobody@marram.example", "x", "198.51.100.5").await.status(), 401);
    // Whoever was signed in before is so still, and can end it.
    let tor = signed_in_as(&first);
    assert_eq!(tor.get(w.at("/me")).send().await.expect("an answer").status(), 200);
    assert_eq!(w.form(&tor, "/sign-out", &[]).await.status(), 303);
    assert_eq!(tor.get(w.at("/me")).send().await.expect("an answer").status(), 303);
    // A session of another installation is none here.
    let foreign = signed_in_as(&session()).get(w.at("/")).send().await.expect("an answer");
    assert_eq!(header(&foreign, "location"), "/sign-in?to=%2F");
    let dumped = w.db.text_of_every_table().await.expect("rows");
    assert!(!dumped.iter().any(|row| row.contains(PASSWORD) || row.contains(&first)));
}

#[tokio::test]
async fn two_administrators_who_shut_each_other_out_leave_one_and_whoever_is_shut_out_is_so_at_once()
 {
    let w = world().await;
    let (ines, hers) = w.somebody("Ines", w.given(None, true, false)).await;
    let (tor, his) = w.somebody("Tor", w.given(None, true, false)).await;
    let ada =
        w.db.people().await.expect("rows").into_iter().find(|p| p.name == "Ada").expect("Ada");
    let gone = [("gone", "1")];
    let first = signed_in_as(SESSION);
    // The one that every test begins with goes first; then the two are alone.
    let answer =
        w.form(&signed_in_as(&hers), &format!("/setup/people/{}/gone", ada.id), &gone).await;
    assert_eq!(answer.status(), 303);
    assert_eq!(first.get(w.at("/me")).send().await.expect("an answer").status(), 303);
    let (a, b) = (signed_in_as(&hers), signed_in_as(&his));
    let (of_tor, of_ines) =
        (format!("/setup/people/{tor}/gone"), format!("/setup/people/{ines}/gone"));
    futures::join!(w.form(&a, &of_tor, &gone), w.form(&b, &of_ines, &gone));
    let left: Vec<_> = w.db.people().await.expect("rows");
    let left: Vec<_> = left.iter().filter(|p| p.is_administrator && p.gone_at.is_none()).collect();
    assert_eq!(left.len(), 1);
    // The last one can neither go nor give it up, and is told so.
    let (own, last) = if left[0].id == ines { (ines, &a) } else { (tor, &b) };
    for (to, form) in [("/gone", &gone[..]), ("", &[("role.1", "reader")])] {
        let answer = w.form(last, &format!("/setup/people/{own}{to}"), form).await;
        assert_eq!(answer.status(), 422);
        let page = answer.text().await.expect("a page");
        assert!(page.contains("make somebody else an administrator first"), "{page}");
    }
}

#[tokio::test]
async fn whoever_changes_something_or_looks_for_a_person_is_kept_and_whom_they_looked_for_is_not() {
    let w = world().await;
    let (_, session) = w.somebody("Ines", w.given(None, true, true)).await;
    let ines = signed_in_as(&session);
    let funnel =
        [("name", "Way in"), ("step1", "Timetable"), ("step2", "Sailings"), ("minutes", "60")];
    assert_eq!(w.form(&ines, "/marram-ferries/visitors/funnels", &funnel).await.status(), 303);
    let find = w.at("/marram-ferries/visitors/find?who=passenger@marram.example");
    let find = ines.get(find).header("x-forwarded-for", "198.51.100.9");
    assert_eq!(find.send().await.expect("an answer").status(), 200);
    let done = w.db.done(10).await.expect("rows");
    let said: Vec<(&str, String)> =
        done.iter().map(|d| (d.name.as_str(), format!("{} {}", d.what, d.which))).collect();
    assert_eq!(said[0], ("Ines", "looked for a person and found 0 visits".into()));
    assert_eq!(said[1], ("Ines", "saved the funnel Way in".into()));
    assert_eq!(done[0].address, "198.51.100.9".parse().ok());
    assert!(said.iter().any(|(_, what)| what == "signed in "), "{said:?}");
    // Lists that are read anew every few seconds are noted once.
    for list in ["arrivals", "arrivals", "slowest", "trouble", "arrivals"] {
        let list = w.at(&format!("/marram-ferries/visitors/{list}"));
        assert_eq!(ines.get(list).send().await.expect("an answer").status(), 200);
    }
    let looks =
        w.db.done(10).await.expect("rows").into_iter().filter(|d| d.what.starts_with("looked at"));
    let looks: Vec<String> = looks.map(|d| format!("{} {}", d.what, d.which)).collect();
    assert_eq!(
        looks,
        [
            "looked at who had the most trouble at Marram Ferries",
            "looked at the slowest page views of Marram Ferries",
            "looked at the newest page views of Marram Ferries",
        ]
    );
    let page = ines.get(w.at("/setup/audit")).send().await.expect("an answer");
    let page = page.text().await.expect("a page");
    assert!(page.contains("<td>saved the funnel Way in</td>"), "{page}");
    let dumped = w.db.text_of_every_table().await.expect("rows");
    assert!(!dumped.iter().any(|row| row.contains("passenger@")));
}

#[tokio::test]
async fn a_password_is_changed_by_who_knows_the_old_one_and_every_other_session_ends_with_it() {
    let w = world().await;
    let (_, first) = w.somebody("Tor", w.given(Some(Role::Editor), false, false)).await;
    let other = given_session(&w.sign_in("tor@marram.example", PASSWORD, "198.51.100.1").await);
    let third = given_session(&w.sign_in("tor@marram.example", PASSWORD, "198.51.100.1").await);
    let is_in = async |session: &str| {
        let me = signed_in_as(session).get(w.at("/me")).send().await.expect("an answer");
        me.status() == 200
    };
    // One of one's own is ended where it is listed; somebody else's is not.
    let tor = signed_in_as(&first);
    let id = w.db.signed(&kept(&third)).await.expect("rows").expect("signed in").session;
    let stranger_of_it = signed_in_as(SESSION);
    w.form(&stranger_of_it, "/me/sessions/end", &[("id", &id.to_string())]).await;
    assert!(is_in(&third).await);
    let page = tor.get(w.at("/me")).send().await.expect("an answer").text().await.expect("a page");
    assert!(page.contains(&id.to_string()) && page.contains("this one"), "{page}");
    assert_eq!(w.form(&tor, "/me/sessions/end", &[("id", &id.to_string())]).await.status(), 303);
    assert!(!is_in(&third).await && is_in(&other).await);

    let new = "quay lamp herring drizzle";
    for (old, new, says) in [
        ("another one", new, "The old password is another one."),
        (PASSWORD, "tor marram", "would be guessed"),
        (PASSWORD, "short", "10 characters"),
    ] {
        let answer = w.form(&tor, "/me/password", &[("old", old), ("new", new)]).await;
        assert_eq!(answer.status(), 422, "{says}");
        assert!(answer.text().await.expect("a page").contains(says), "{says}");
    }
    let answer = w.form(&tor, "/me/password", &[("old", PASSWORD), ("new", new)]).await;
    assert_eq!(answer.status(), 303);
    let again = given_session(&answer);
    assert!(is_in(&again).await && !is_in(&first).await && !is_in(&other).await);
    let old = w.sign_in("tor@marram.example", PASSWORD, "198.51.100.1").await;
    assert_eq!(old.status(), 401);
    assert_eq!(w.sign_in("TOR@marram.example", new, "198.51.100.1").await.status(), 303);
}

#[tokio::test]
async fn a_change_that_cannot_be_told_of_is_not_made() {
    let w = world().await;
    let ada = signed_in_as(SESSION);
    // A table without room for a line: every note fails, as on a disk that is full.
    let room = |sql: &str| {
        let mut psql = std::process::Command::new(CLUSTER.program("psql"));
        let done = psql.args(["--quiet", "--command", sql]).arg(&w.server.url).status();
        assert!(done.expect("it starts").success());
    };
    let team = async || w.form(&ada, "/setup/teams", &[("name", "Desk")]).await.status().as_u16();
    room("ALTER TABLE audit ADD CONSTRAINT no_room CHECK (false) NOT VALID");
    assert!(team().await >= 500);
    assert!(w.db.teams().await.expect("rows").is_empty(), "nothing of it stays");
    let site = [("name", "Other"), ("slug", "other"), ("zone", "UTC"), ("domains", "b.example")];
    assert!(
        w.form(&ada, &format!("/setup/sites/{}", w.site), &site).await.status().is_server_error()
    );
    assert_eq!(w.db.sites().await.expect("rows")[0].name, "Marram Ferries");
    room("ALTER TABLE audit DROP CONSTRAINT no_room");
    assert_eq!(team().await, 303, "and it can be made again");
    assert_eq!(w.db.done(1).await.expect("rows")[0].what, "added the team");
}

#[tokio::test]
async fn a_change_is_kept_with_what_was_before_and_after_and_all_of_it_goes_out_as_a_file() {
    let w = world().await;
    let (tor, _) = w.somebody("Tor", w.given(Some(Role::Reader), false, false)).await;
    let ada = signed_in_as(SESSION);
    let role = format!("role.{}", w.site);
    let rights = [(role.as_str(), "editor"), ("people", "on")];
    assert_eq!(w.form(&ada, &format!("/setup/people/{tor}"), &rights).await.status(), 303);
    let site = [
        ("name", "Marram Ferries"),
        ("slug", "marram-ferries"),
        ("zone", "UTC"),
        ("domains", "marram.example\nb.example"),
    ];
    assert_eq!(w.form(&ada, &format!("/setup/sites/{}", w.site), &site).await.status(), 303);
    let done = w.db.done(5).await.expect("rows");
    assert_eq!(
        (done[0].what.as_str(), done[0].was.as_str(), done[0].became.as_str()),
        (
            "changed the site",
            "zone: Europe/Oslo; domains: marram.example",
            "zone: UTC; domains: marram.example, b.example"
        )
    );
    assert_eq!(
        (done[1].what.as_str(), done[1].was.as_str(), done[1].became.as_str()),
        (
            "changed the rights of",
            "sees people: false; roles: reader of Marram Ferries",
            "sees people: true; roles: editor of Marram Ferries"
        )
    );
    // A token: what it may and until when, when it is made and when it is taken away; never what it is.
    let programs = "/marram-ferries/settings/programs";
    let token = [("name", "Nightly"), ("scope", "read"), ("scope", "play"), ("days", "9")];
    let page = w.form(&ada, programs, &token).await.text().await.expect("a page");
    let id = w.db.api_tokens(w.site).await.expect("rows")[0].id;
    assert_eq!(w.form(&ada, &format!("{programs}/{id}/remove"), &[]).await.status(), 303);
    let done = w.db.done(2).await.expect("rows");
    for (deed, what, told, other) in [
        (&done[1], "made the token", &done[1].became, &done[1].was),
        (&done[0], "took away the token", &done[0].was, &done[0].became),
    ] {
        assert_eq!((deed.what.as_str(), deed.which.as_str()), (what, "Nightly"));
        assert!(
            told.starts_with("may: read, play; good until: 20") && other.is_empty(),
            "{deed:?}"
        );
        assert!(told.ends_with("made by: Ada"), "{deed:?}");
        assert!(!told.split(' ').any(|word| word.len() == 64 && page.contains(word)), "{deed:?}");
    }
    // A formula in a name stays a text; the list goes on page by page and the file has everything once.
    for nth in 0..205 {
        let deed = Deed { what: "tried", which: "=1+1", was: &nth.to_string(), ..Deed::default() };
        w.db.note_done((None, "=Runa"), None, deed).await.expect("noted");
    }
    let get = async |path: &str| {
        ada.get(w.at(path)).send().await.expect("an answer").text().await.expect("a text")
    };
    let (mut path, mut seen) = ("/setup/audit?who=runa".to_string(), 0);
    for _ in 0..5 {
        let page = get(&path).await;
        seen += page.matches("<td>tried =1+1</td>").count();
        let Some(next) = page.split("href=\"/setup/audit?").nth(1) else { break };
        path = format!(
            "/setup/audit?{}",
            next.split('"').next().expect("an end").replace("&#38;", "&")
        );
    }
    assert_eq!(seen, 205);
    let file = get("/setup/audit.csv?who=Runa").await;
    let mut table = csv::Reader::from_reader(file.as_bytes());
    let rows: Vec<csv::StringRecord> = table.records().map(|r| r.expect("a row")).collect();
    let numbers: Vec<usize> = rows.iter().map(|r| r[5].parse().expect("a number")).collect();
    assert_eq!(numbers, (0..205).rev().collect::<Vec<_>>());
    assert!(rows.iter().all(|r| &r[1] == "'=Runa" && &r[4] == "'=1+1"), "{:?}", rows[0]);
    assert_eq!(
        ada.get(w.at("/setup/audit?before=9223372036854775807"))
            .send()
            .await
            .expect("an answer")
            .status(),
        400
    );
}

#[tokio::test]
async fn who_is_told_is_changed_by_the_team_that_owns_the_call_list_and_kept_before_and_after() {
    let w = world().await;
    let ada = signed_in_as(SESSION);
    let (tor_id, session) = w.somebody("Tor", w.given(Some(Role::Editor), false, false)).await;
    let tor = signed_in_as(&session);
    let at = "/marram-ferries/call-lists";
    let quay = [("name", "Quay"), ("kind", "mail"), ("address", "quay@marram.example")];
    let added = w.form(&ada, &format!("{at}/destinations"), &quay).await;
    assert_eq!(added.status(), 303);
    let to = w.db.destinations(w.site).await.expect("rows")[0].id.to_string();
    let desk = w.db.add_team("Desk").await.expect("rows").expect("a new one");
    let (owner, nobody) = (desk.to_string(), String::new());
    let keep = async |who: &Client, name: &str, team: &str, after: &str| {
        let list = [
            ("list", name),
            ("to-0", to.as_str()),
            ("after-0", after),
            ("least-0", "warning"),
            ("team", team),
        ];
        let answer = w.form(who, at, &list).await;
        (answer.status().as_u16(), answer.text().await.expect("a page"))
    };
    let (status, page) = keep(&ada, "Duty", "99", "0").await;
    assert!(status == 422 && page.contains("There is no such team."), "{page}");
    assert_eq!(keep(&ada, "Duty", &owner, "0").await.0, 303);
    // Whoever is not in the team changes nothing of it, and gives it nothing.
    assert_eq!(keep(&tor, "Duty", &nobody, "5").await.0, 403);
    assert_eq!(keep(&tor, "Duty", &owner, "5").await.0, 403);
    assert_eq!(keep(&tor, "Other", &owner, "5").await.0, 403);
    let id = w.db.call_lists(w.site).await.expect("rows")[0].id;
    let remove = format!("{at}/{id}/remove");
    assert_eq!(w.form(&tor, &remove, &[]).await.status(), 403);
    assert_eq!(keep(&tor, "Open to all", &nobody, "5").await.0, 303);
    assert!(w.db.set_team(desk, "Desk", &[tor_id]).await.expect("rows"));
    assert_eq!(keep(&tor, "Duty", &owner, "5").await.0, 303);
    let told = w.db.done(1).await.expect("rows").remove(0);
    assert_eq!((told.name.as_str(), told.which.as_str()), ("Tor", "Duty"));
    assert_eq!(
        (told.was.as_str(), told.became.as_str()),
        ("tells: after 0 min Quay", "tells: after 5 min Quay")
    );
    let page = tor.get(w.at(at)).send().await.expect("an answer").text().await.expect("a page");
    assert!(page.contains(">of Desk</div>"), "{page}");
    assert_eq!(w.form(&tor, &remove, &[]).await.status(), 303);
}
