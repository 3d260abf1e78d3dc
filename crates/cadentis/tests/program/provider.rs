//! Signing in by a provider of OpenID Connect: a stand-in that other code signs for, and that gives false tokens too.

use crate::serving::{self, Server, client_with, signed_in_as};
use cadentis_core::access::{PROVED_S, Role};
use cadentis_core::groups::{Grant, Rule};
use cadentis_standins::provider::{CLIENT_ID, CLIENT_SECRET, Fault, Known, Provider};
use cadentis_store::Db;
use cadentis_store::person::Person;
use reqwest::{Client, Response, Url};

struct World {
    db: Db,
    server: Server,
    provider: Provider,
    site: i32,
}

fn known(subject: &str, groups: &[&str]) -> Known {
    Known {
        subject: subject.into(),
        email: Some(format!("{subject}@Marram.example")),
        email_verified: true,
        name: Some(format!("{} Holm", subject.to_uppercase())),
        groups: groups.iter().map(ToString::to_string).collect(),
    }
}

async fn world(more: &[&str]) -> World {
    let (db, url) = serving::database().await;
    world_on(db, url, more).await
}

async fn world_on(db: Db, url: String, more: &[&str]) -> World {
    let site = serving::site(&db).await;
    let provider = Provider::start(Vec::new()).expect("a provider");
    let (issuer, secret) = (provider.issuer(), CLIENT_SECRET);
    let mut words = vec!["--provider", &issuer, "--provider-client-id", CLIENT_ID];
    words.extend(["--provider-client-secret", secret, "--provider-name", "Marram account"]);
    words.extend(more);
    let server = Server::start_with(&url, serving::KEY, &words);
    assert_eq!(server.up().await, 200);
    World { db, server, provider, site }
}

/// The cookie of this name that an answer gives.
fn cookie(answer: &Response, name: &str) -> String {
    let all = answer.headers().get_all("set-cookie").iter().filter_map(|v| v.to_str().ok());
    let mut found = all.filter_map(|c| c.split(';').next()?.strip_prefix(&format!("{name}=")));
    found.next().unwrap_or_default().to_string()
}

fn location(answer: &Response) -> String {
    let shown = answer.headers().get("location").and_then(|v| v.to_str().ok());
    shown.unwrap_or_default().to_string()
}

async fn get(client: &Client, address: &str) -> Response {
    client.get(address).send().await.expect("an answer")
}

/// A browser that went to the provider: the cookie of ours that it has, and the answer that it comes back with.
struct Away {
    cookie: String,
    back: String,
}

impl World {
    fn at(&self, path: &str) -> String {
        format!("{}{path}", self.server.address)
    }

    /// Somebody goes to the provider by this way and says there who they are.
    async fn go(&self, browser: &str, way: &str, subject: &str) -> Away {
        let away = get(&client_with(browser), &self.at(way)).await;
        assert_eq!(away.status(), 303, "{}", away.text().await.unwrap_or_default());
        let cookie = format!("cadentis_away={}", cookie(&away, "cadentis_away"));
        let asked = Url::parse(&location(&away)).expect("an address");
        let page = get(&signed_in_as(""), asked.as_str()).await;
        assert_eq!(page.status(), 200, "{}", page.text().await.unwrap_or_default());
        let says = format!("{}/as/{subject}?{}", self.provider.issuer(), asked.query().unwrap());
        let back = location(&get(&signed_in_as(""), &says).await);
        Away { cookie, back }
    }

    /// Signs somebody in, wherever that leads.
    async fn comes(&self, subject: &str) -> Response {
        let away = self.go("", "/sign-in/provider?to=/marram-ferries/journeys", subject).await;
        get(&client_with(&away.cookie), &away.back).await
    }

    async fn somebody(&self, subject: &str) -> Person {
        let all = self.db.people().await.expect("rows");
        all.into_iter().find(|p| p.subject.as_deref() == Some(subject)).expect("somebody")
    }

    async fn rule(&self, group: &str, grant: Grant) {
        let rule = Rule { group: group.into(), grant };
        assert!(self.db.add_group_rule(&rule).await.expect("rows"));
    }
}

#[tokio::test]
async fn whoever_the_provider_knows_is_in_with_what_their_groups_give_each_time_they_come() {
    let w = world(&["--provider-administrators", "bridge"]).await;
    let team = w.db.add_team("Desk").await.expect("rows").expect("a new one");
    w.rule("crew", Grant::Role(w.site, Role::Reader)).await;
    w.rule("desk", Grant::Role(w.site, Role::Editor)).await;
    w.rule("desk", Grant::Team(team)).await;
    w.provider.knows(known("ida", &["crew", "desk"]));
    let page = get(&signed_in_as(""), &w.at("/sign-in?to=/marram-ferries/journeys")).await;
    let page = page.text().await.expect("a text");
    assert!(page.contains("Sign in by Marram account"), "{page}");
    assert!(page.contains("/sign-in/provider?to=%2Fmarram-ferries%2Fjourneys"), "{page}");

    let came = w.comes("ida").await;
    assert_eq!((came.status().as_u16(), location(&came)), (303, "/marram-ferries/journeys".into()));
    assert_eq!(cookie(&came, "cadentis_away"), "", "what was away is back");
    let session = cookie(&came, "cadentis_session");
    let inside = get(&signed_in_as(&session), &w.at("/marram-ferries/journeys")).await;
    assert_eq!(inside.status(), 200);
    let ida = w.somebody("ida").await;
    assert_eq!((ida.email.as_str(), ida.name.as_str()), ("ida@marram.example", "IDA Holm"));
    assert_eq!(ida.roles, [(w.site, Role::Editor)]);
    assert!(!ida.is_administrator && !ida.has_password);
    let members = async || w.db.teams().await.expect("rows")[0].members.clone();
    assert_eq!(members().await, [ida.id]);
    let me = get(&signed_in_as(&session), &w.at("/me")).await.text().await.expect("a text");
    assert!(me.contains("You sign in by Marram account, and came with the groups crew, desk"));
    assert!(!me.contains("Another password"), "there is none to change");

    // She has left the desk, and looks after the installation.
    w.provider.knows(known("ida", &["crew", "bridge"]));
    assert_eq!(w.comes("ida").await.status(), 303);
    let ida = w.somebody("ida").await;
    assert_eq!((ida.roles.as_slice(), ida.is_administrator), (&[(w.site, Role::Reader)][..], true));
    assert!(members().await.is_empty());
    let done = w.db.done(10).await.expect("rows");
    let told = done.iter().find(|d| d.what.starts_with("came with other rights")).expect("told");
    assert_eq!(
        told.became,
        "administrator: true; groups: crew, bridge; roles: reader of Marram Ferries"
    );
    // Whom an administrator shuts out the provider lets in no more; and what it knows them by is not the address.
    w.db.set_gone(ida.id, true).await.expect("rows");
    let came = w.comes("ida").await;
    assert_eq!(came.status(), 403);
    assert!(came.text().await.expect("a text").contains("You may sign in here no more."));
}

#[tokio::test]
async fn somebody_invited_is_found_by_an_address_that_is_surely_theirs_and_once() {
    let w = world(&[]).await;
    let given = cadentis_store::person::Given {
        is_administrator: false,
        sees_people: false,
        roles: vec![(w.site, Role::Editor)],
    };
    let add = w.db.add_person("ida@marram.example", "Ida", &given);
    let invited = add.await.expect("rows").expect("a new one");
    w.provider.knows(Known { email_verified: false, ..known("ida", &[]) });
    let came = w.comes("ida").await;
    assert_eq!(came.status(), 403, "anybody may say so");
    assert!(came.text().await.expect("a text").contains("has not made sure that it is yours"));
    w.provider.knows(known("ida", &["anything"]));
    assert_eq!(w.comes("ida").await.status(), 303);
    let ida = w.somebody("ida").await;
    assert_eq!((ida.id, ida.name.as_str()), (invited, "Ida"));
    assert_eq!(ida.roles, [(w.site, Role::Editor)], "no rule names it: it was given by hand");
    // Somebody else there with the same address is not her; she is herself with another address.
    w.provider.knows(Known { email: Some("ida@marram.example".into()), ..known("eve", &[]) });
    let came = w.comes("eve").await;
    assert_eq!(came.status(), 403);
    assert!(came.text().await.expect("a text").contains("belongs to somebody else"));
    w.provider.knows(Known { email: None, name: None, ..known("ida", &[]) });
    assert_eq!(w.comes("ida").await.status(), 303);
    // Of somebody new without rules nothing is known but who they are.
    w.provider.knows(Known { name: None, ..known("tor", &["crew"]) });
    let session = cookie(&w.comes("tor").await, "cadentis_session");
    let tor = w.somebody("tor").await;
    assert!(tor.roles.is_empty() && !tor.is_administrator && tor.name == "tor@Marram.example");
    let inside = get(&signed_in_as(&session), &w.at("/marram-ferries/journeys")).await;
    assert_eq!(inside.status(), 404, "no site that he may see");
}

#[tokio::test]
async fn whoever_comes_first_by_the_provider_takes_nothing_from_the_first_administrator() {
    let name = format!("t{}", uuid::Uuid::new_v4().simple());
    let url = serving::CLUSTER.create_database(&name).expect("a database");
    let db = Db::connect(&url).expect("an address");
    db.migrate().await.expect("migrations");
    let w = world_on(db, url, &[]).await;
    assert!(w.db.has_nobody().await.expect("rows"));
    w.provider.knows(known("tor", &[]));
    assert_eq!(w.comes("tor").await.status(), 303);
    let page = get(&signed_in_as(""), &w.at("/sign-in")).await.text().await.expect("a text");
    assert!(page.contains("Nobody looks after this installation yet."), "{page}");
    // The link is for whoever has it, also when they have come before.
    let link = "2".repeat(64);
    let hash = <sha2::Sha256 as sha2::Digest>::digest(link.as_bytes()).to_vec();
    w.db.add_link(&hash, None, 60).await.expect("a link");
    let body = "name=Tor&email=tor%40marram.example&password=four+fern+ferries+fog";
    let request = signed_in_as("").post(w.at(&format!("/welcome/{link}"))).body(body);
    let request = request.header("content-type", "application/x-www-form-urlencoded");
    assert_eq!(request.send().await.expect("an answer").status(), 303);
    let tor = w.somebody("tor").await;
    assert!(tor.is_administrator && tor.has_password);
    assert!(!w.db.has_nobody().await.expect("rows"));
}

#[tokio::test]
async fn an_answer_is_good_once_in_the_browser_that_began_and_for_a_while() {
    let w = world(&[]).await;
    w.provider.knows(known("ida", &[]));
    let away = w.go("", "/sign-in/provider?to=//evil.example/", "ida").await;
    let came = get(&client_with(&away.cookie), &away.back).await;
    assert_eq!((came.status().as_u16(), location(&came)), (303, "/".into()), "nobody is led away");
    // The same answer again, in the same browser.
    let stale = |answer: Response| async {
        assert_eq!(answer.status(), 401);
        assert_eq!(cookie(&answer, "cadentis_session"), "");
        let says = answer.text().await.expect("a text");
        assert!(says.contains("used already, came too late, or belongs to another browser"));
    };
    stale(get(&client_with(&away.cookie), &away.back).await).await;
    // Somebody lets another's browser come back with their answer.
    let away = w.go("", "/sign-in/provider", "ida").await;
    stale(get(&client_with("cadentis_away=00"), &away.back).await).await;
    stale(get(&client_with(&away.cookie), &away.back).await).await;
    // What nobody began, and what was begun long ago.
    stale(get(&signed_in_as(""), &w.at("/sign-in/answer?state=0000&code=1")).await).await;
    stale(get(&signed_in_as(""), &w.at("/sign-in/answer")).await).await;
    let away = w.go("", "/sign-in/provider", "ida").await;
    w.db.age_sign_ins(601).await.expect("rows");
    stale(get(&client_with(&away.cookie), &away.back).await).await;
    // Its code is spent, though what was begun is not.
    let (first, second) =
        (w.go("", "/sign-in/provider", "ida").await, w.go("", "/sign-in/provider", "ida").await);
    let code = |back: &str| {
        let url = Url::parse(back).expect("an address");
        url.query_pairs().find(|(n, _)| n == "code").expect("a code").1.into_owned()
    };
    assert_eq!(get(&client_with(&first.cookie), &first.back).await.status(), 303);
    let mixed = second.back.replace(&code(&second.back), &code(&first.back));
    let refused = get(&client_with(&second.cookie), &mixed).await;
    assert_eq!(refused.status(), 401);
    assert!(refused.text().await.expect("a text").contains("invalid_grant"));
    // An answer of another provider, and one without a code.
    for (with, says) in [
        (vec![("code", "1"), ("iss", "https://id.example")], "the answer comes from somebody else"),
        (vec![("error", "access_denied <b>")], "access_denied &#60;b&#62;"),
        (vec![], "no code came"),
    ] {
        let away = w.go("", "/sign-in/provider", "ida").await;
        let mut back = Url::parse(&away.back).expect("an address");
        let state = back.query_pairs().find(|(n, _)| n == "state").expect("a state").1.into_owned();
        back.query_pairs_mut().clear().append_pair("state", &state).extend_pairs(with);
        let answer = get(&client_with(&away.cookie), back.as_str()).await;
        assert_eq!(answer.status(), 401);
        let told = answer.text().await.expect("a text");
        assert!(told.contains(says), "{says}: {told}");
    }
}

#[tokio::test]
async fn a_token_that_is_false_lets_nobody_in_and_new_keys_are_found() {
    let w = world(&[]).await;
    w.provider.knows(known("ida", &[]));
    for fault in [
        Fault::Nonce,
        Fault::Audience,
        Fault::Issuer,
        Fault::Expired,
        Fault::ForeignKey,
        Fault::Unsigned,
        Fault::Shared,
        Fault::SparingOfAnother,
    ] {
        w.provider.fail(fault);
        let came = w.comes("ida").await;
        assert_eq!(came.status(), 401, "{fault:?}");
        assert_eq!(cookie(&came, "cadentis_session"), "", "{fault:?}");
        let says = came.text().await.expect("a text");
        assert!(says.contains("Marram account did not say who you are"), "{fault:?}: {says}");
    }
    assert!(w.db.people().await.expect("rows").iter().all(|p| p.subject.is_none()));
    // What the token leaves out is asked for.
    w.provider.fail(Fault::Sparing);
    assert_eq!(w.comes("ida").await.status(), 303);
    assert_eq!(w.somebody("ida").await.email, "ida@marram.example");
    // Keys change, here to the kind that every provider has: one that is not known is asked for, now and then.
    w.provider.fail(Fault::None);
    w.provider.change_key(true);
    assert_eq!(w.comes("ida").await.status(), 303);
    w.provider.change_key(false);
    let came = w.comes("ida").await;
    assert_eq!(came.status(), 401, "nobody makes the server ask all the time");
    assert!(came.text().await.expect("a text").contains("by a key that it does not tell"));
}

#[tokio::test]
async fn a_provider_that_is_away_is_told_and_passwords_let_in_meanwhile() {
    let w = world(&[]).await;
    w.provider.knows(known("ida", &[]));
    w.provider.fail(Fault::Down);
    let away = get(&signed_in_as(""), &w.at("/sign-in/provider?to=/me")).await;
    assert_eq!(away.status(), 502);
    let says = away.text().await.expect("a text");
    assert!(says.contains("Marram account does not answer as it should"), "{says}");
    assert!(says.contains("name=\"password\""), "there is another way in");
    // It comes back, and is away again while somebody is there.
    w.provider.fail(Fault::None);
    tokio::time::sleep(std::time::Duration::from_millis(5_100)).await;
    let away = w.go("", "/sign-in/provider", "ida").await;
    w.provider.fail(Fault::Down);
    assert_eq!(get(&client_with(&away.cookie), &away.back).await.status(), 502);
    w.provider.fail(Fault::None);
    assert_eq!(w.comes("ida").await.status(), 303);
}

#[tokio::test]
async fn without_passwords_the_provider_is_the_only_way_and_proves_who_does_what_is_grave() {
    let w = world(&["--no-passwords", "--provider-administrators", "bridge"]).await;
    w.provider.knows(known("ines", &["bridge"]));
    w.provider.knows(known("eve", &[]));
    let page = get(&signed_in_as(""), &w.at("/sign-in")).await.text().await.expect("a text");
    assert!(!page.contains("name=\"password\""), "{page}");
    // Somebody with a password, and a link for another one.
    let link = "1".repeat(64);
    let hash = <sha2::Sha256 as sha2::Digest>::digest(link.as_bytes()).to_vec();
    let ada = w.db.people().await.expect("rows")[0].id;
    w.db.add_link(&hash, Some(ada), 60).await.expect("a link");
    let post = |client: Client, path: &str, body: &'static str| {
        let form = ("content-type", "application/x-www-form-urlencoded");
        client.post(w.at(path)).header(form.0, form.1).body(body).send()
    };
    let answer =
        post(signed_in_as(""), &format!("/welcome/{link}"), "password=four+fern+ferries+fog");
    assert_eq!(answer.await.expect("an answer").status(), 410);
    let typed = "email=ada%40marram.example&password=four+fern+ferries+fog";
    let answer = post(signed_in_as(""), "/sign-in", typed).await.expect("an answer");
    assert_eq!(answer.status(), 401);

    // Whom the provider remembered has proved nothing lately.
    w.provider.fail(Fault::Remembers);
    let session = cookie(&w.comes("ines").await, "cadentis_session");
    let browser = format!("cadentis_session={session}");
    let invite = "name=Tor&email=tor%40marram.example";
    let tried = async || {
        let answer = post(client_with(&browser), "/setup/people", invite);
        answer.await.expect("an answer").status().as_u16()
    };
    assert_eq!(tried().await, 403);
    let page = get(&client_with(&browser), &w.at("/confirm?to=/setup/people")).await;
    let page = page.text().await.expect("a text");
    assert!(page.contains("Prove it by Marram account") && !page.contains("name=\"password\""));
    let prove = async |as_whom: &str| {
        let away = w.go(&browser, "/confirm/provider?to=/setup/people", as_whom).await;
        get(&client_with(&format!("{browser}; {}", away.cookie)), &away.back).await
    };
    let answer = prove("ines").await;
    assert_eq!(answer.status(), 403, "it says when she did: yesterday");
    assert!(answer.text().await.expect("a text").contains("proved anew"));
    w.provider.fail(Fault::None);
    assert_eq!(prove("eve").await.status(), 403, "somebody else proved it");
    assert_eq!(tried().await, 403);
    let answer = prove("ines").await;
    assert_eq!((answer.status().as_u16(), location(&answer)), (303, "/setup/people".into()));
    assert_eq!(tried().await, 303, "Tor is let in, and comes by the provider");
    w.db.age_sessions(PROVED_S + 1).await.expect("rows");
    assert_eq!(tried().await, 403);
    // Nobody proves it for a session that is another one's.
    let away = w.go(&browser, "/confirm/provider?to=/setup/people", "ines").await;
    let other = cookie(&w.comes("ines").await, "cadentis_session");
    let shown = format!("cadentis_session={other}; {}", away.cookie);
    assert_eq!(get(&client_with(&shown), &away.back).await.status(), 401);
}

#[tokio::test]
async fn groups_are_given_and_taken_on_a_page_that_says_what_is_wrong() {
    let w = world(&["--provider-administrators", "bridge"]).await;
    let client = signed_in_as(serving::SESSION);
    let add = async |body: String| {
        let request = client.post(w.at("/setup/groups")).body(body);
        let request = request.header("content-type", "application/x-www-form-urlencoded");
        request.send().await.expect("an answer")
    };
    let editor = format!("group=desk%3Cb%3E&gives=editor.{}", w.site);
    assert_eq!(add(editor.clone()).await.status(), 303);
    for (body, says) in [
        (editor, "The group gives this already."),
        ("group=+&gives=people".into(), "A rule has the name of a group"),
        ("group=desk&gives=editor.99".into(), "A rule has the name of a group"),
        ("group=desk&gives=team.1".into(), "A rule has the name of a group"),
    ] {
        let answer = add(body.clone()).await;
        assert_eq!(answer.status(), 422, "{body}");
        assert!(answer.text().await.expect("a text").contains(says), "{body}");
    }
    let page = async || get(&client, &w.at("/setup/groups")).await.text().await.expect("a text");
    let told = page().await;
    assert!(
        told.contains("desk&#60;b&#62;") && told.contains("editor of Marram Ferries"),
        "{told}"
    );
    assert!(told.contains("bridge") && told.contains("in the settings of the server"), "{told}");
    let id = w.db.group_rules().await.expect("rows")[0].id;
    let remove = async || {
        let to = w.at(&format!("/setup/groups/{id}/remove"));
        client.post(to).send().await.expect("an answer").status().as_u16()
    };
    assert_eq!((remove().await, remove().await), (303, 404));
    assert!(!page().await.contains("desk"));
    let done = w.db.done(5).await.expect("rows");
    let which: Vec<String> = done.iter().map(|d| format!("{} {}", d.what, d.which)).collect();
    assert!(
        which.contains(&"lets a group give no more desk<b>: editor of Marram Ferries".into()),
        "{which:?}"
    );
}
