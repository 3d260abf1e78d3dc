//! Notices: who is told of an incident, once, whatever receivers do; read by Python's standard library.

use crate::server::{Served, get, post_form as post, server};
use crate::serving::SLUG;
use cadentis_answers::compute::Compute;
use cadentis_answers::{Answers, notices};
use cadentis_core::alert::Severity;
use cadentis_core::alert::incident::About;
use cadentis_core::alert::notice::Step;
use cadentis_standins::receivers::{Got, Manner, Receivers};
use cadentis_store::alert::KeptEvaluation;
use cadentis_store::notice::{NewNotice, Sent, Tells};
use cadentis_store::secret::Vault;
use cadentis_tell::{Settings, Teller};
use jiff::{SignedDuration, Timestamp};
use std::io::Write;
use std::process::{Command, Stdio};
use std::time::Duration;

struct World {
    s: Served,
    got: Receivers,
    answers: Answers,
    teller: Teller,
}

const SECRET: &str = "a secret of sixteen and more";

async fn world() -> World {
    let s = server().await;
    let got = Receivers::start(0, Vec::new()).await.expect("ports");
    let compute = Compute::start(1, 4, Duration::from_secs(30)).expect("threads");
    let vault = Vault::new(crate::serving::KEY).expect("a key");
    let answers = Answers::new(s.db.clone(), compute).with_keys(Some(vault), None);
    let teller = teller(&got, true);
    for (name, kind, address, secret) in [
        ("On call", "mail", "on-call@marram.example".to_string(), ""),
        ("Board", "webhook", format!("http://{}/hooks/board", got.http), SECRET),
        ("Room", "chat", format!("http://{}/chat/room", got.http), ""),
    ] {
        let fields = [("name", name), ("kind", kind), ("address", &address), ("secret", secret)];
        let (status, _, page) =
            post(&s, &format!("/{SLUG}/call-lists/destinations"), &fields).await;
        assert_eq!(status, 303, "{page}");
    }
    World { s, got, answers, teller }
}

fn teller(got: &Receivers, may_reach_private: bool) -> Teller {
    Teller::new(Settings {
        smtp_url: Some(format!("smtp://{}", got.smtp)),
        mail_from: Some("Cadentis <cadentis@marram.example>".into()),
        may_reach_private,
        pages: "https://pages.marram.example".into(),
    })
    .expect("settings")
}

impl World {
    /// An incident, and a notice of it to each of these destinations.
    async fn incident(&self, title: &str, tells: Tells, to: &[i32]) -> i32 {
        let now = Timestamp::now();
        let about = About::Site;
        let moments = (now, now, now);
        let opened =
            self.s.db.open_incident(1, (&about, title), Severity::Critical, moments, false).await;
        let id = opened.expect("opened");
        self.notice(id, tells, to, now, false).await;
        id
    }

    async fn notice(&self, id: i32, tells: Tells, to: &[i32], due_at: Timestamp, unless: bool) {
        let all = self.s.db.destinations(1).await.expect("rows");
        for to in to {
            let d = all.iter().find(|d| d.id == *to).expect("there");
            let new = NewNotice {
                site_id: 1,
                incident_id: Some(id),
                issue_id: None,
                destination: (d.id, &d.name),
                tells,
                severity: Severity::Critical,
                says: "Booking fails: share failed is 60 % <b>",
                at: due_at,
                due_at,
                unless_acknowledged: unless,
            };
            self.s.db.add_notice(&new).await.expect("written");
        }
    }

    async fn ids(&self) -> [i32; 3] {
        let all = self.s.db.destinations(1).await.expect("rows");
        ["On call", "Board", "Room"]
            .map(|name| all.iter().find(|d| d.name == name).expect("there").id)
    }

    async fn round(&self) -> usize {
        self.teller.round(&self.answers).await.expect("a round")
    }

    /// Lets what waits be due at once: nobody in a test waits for the next try.
    async fn hurry(&self) {
        let notices = self.s.db.newest_notices(1, 500).await.expect("rows");
        for n in notices.iter().filter(|n| n.sent == Sent::Waiting) {
            self.s.db.hurry_notice(n.id).await.expect("set");
        }
    }

    fn by(&self, way: &str) -> Vec<Got> {
        self.got.got().into_iter().filter(|g| g.way.contains(way)).collect()
    }
}

/// What a script of Python says of a text.
pub fn python(script: &str, input: &str) -> String {
    let mut python = Command::new("python3")
        .args(["-c", script])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("python3");
    python.stdin.take().expect("a pipe").write_all(input.as_bytes()).expect("written");
    let done = python.wait_with_output().expect("it ends");
    String::from_utf8(done.stdout).expect("text").trim().to_string()
}

#[tokio::test]
async fn mail_chat_and_signed_events_say_what_happened_and_lead_to_that_very_moment() {
    let w = world().await;
    let id = w.incident("Booking fails", Tells::Opened, &w.ids().await).await;
    assert_eq!(w.round().await, 3);
    assert_eq!(w.round().await, 0, "nothing is told twice");

    // Mail as Python's standard library reads it.
    let mail = &w.by("mail")[0];
    assert_eq!(mail.to, "on-call@marram.example");
    let told = python(
        "import sys, email, email.policy, json\n\
         m = email.message_from_string(sys.stdin.read(), policy=email.policy.default)\n\
         print(json.dumps([m['subject'], m['from'], m['message-id'], m.get_content_type(), m.defects == [],\n\
           m.get_body(('plain',)).get_content(), m.get_body(('html',)).get_content()]))",
        &mail.body,
    );
    let told: serde_json::Value = serde_json::from_str(&told).expect("JSON");
    assert_eq!(told[0], format!("Critical: Booking fails (incident {id}) · Marram Ferries"));
    assert_eq!(
        (told[1].as_str(), told[3].as_str()),
        (Some("Cadentis <cadentis@marram.example>"), Some("multipart/alternative"))
    );
    assert_eq!(told[4], true);
    let link = format!("https://pages.marram.example/{SLUG}/incidents/{id}?from=");
    assert!(told[5].as_str().expect("text").contains(&link), "{told}");
    let html = told[6].as_str().expect("html");
    assert!(html.contains("60 % &lt;b&gt;") && !html.contains("<b>"), "{html}");

    // The event's signature, by Python's standard library.
    let hook = &w.by("hooks")[0];
    let header = |name: &str| {
        hook.headers.iter().find(|(n, _)| n == name).map(|(_, v)| v.clone()).expect(name)
    };
    let signed = python(
        "import sys, hmac, hashlib\nkey, sent, body = sys.stdin.read().split('\\n', 2)\n\
         print(hmac.new(key.encode(), (sent + '.' + body).encode(), hashlib.sha256).hexdigest())",
        &format!("{SECRET}\n{}\n{}", header("cadentis-sent"), hook.body),
    );
    assert_eq!(header("cadentis-signature"), signed);
    assert!(header("content-type").starts_with("application/cloudevents+json"));
    let event: serde_json::Value = serde_json::from_str(&hook.body).expect("JSON");
    assert_eq!(
        (event["specversion"].as_str(), event["type"].as_str()),
        (Some("1.0"), Some("cadentis.incident.opened"))
    );
    assert_eq!(
        (event["id"].as_str(), event["data"]["incident"]["id"].as_i64()),
        (Some(header("cadentis-notice").as_str()), Some(i64::from(id)))
    );
    let chat: serde_json::Value = serde_json::from_str(&w.by("chat")[0].body).expect("JSON");
    assert!(chat["text"].as_str().expect("text").contains("Critical: Booking fails"));

    let page = get(&w.s, &format!("/{SLUG}/incidents/{id}")).await.1;
    assert!(page.contains("delivered at the first try: 250") && page.contains("On call"), "{page}");
    let page = get(&w.s, &format!("/{SLUG}/call-lists")).await.1;
    assert!(page.contains("webhook, signed") && !page.contains(SECRET), "{page}");
}

#[tokio::test]
async fn what_is_refused_is_tried_again_in_order_and_given_up_through_somebody_else() {
    let w = world().await;
    let [mail, board, _] = w.ids().await;
    let id = w.incident("Booking fails", Tells::Opened, &[board]).await;
    w.notice(id, Tells::Cleared, &[board], Timestamp::now(), false).await;
    for manner in [Manner::Refuses, Manner::Leads] {
        w.got.behave(manner);
        assert_eq!(w.round().await, 0);
        assert_eq!(w.round().await, 0, "not before its time");
        w.hurry().await;
    }
    assert!(
        w.by("hooks").iter().all(|g| g.body.contains("opened")),
        "the clearing waits for its opening"
    );
    assert!(w.by("elsewhere").is_empty(), "nobody is followed elsewhere");
    let key =
        |g: &Got| g.headers.iter().find(|(n, _)| n == "cadentis-notice").map(|(_, v)| v.clone());
    let keys: std::collections::BTreeSet<_> = w.by("hooks").iter().map(key).collect();
    assert_eq!(keys.len(), 1, "the same key each time");
    w.got.behave(Manner::Takes);
    assert_eq!(w.round().await, 1);
    assert_eq!(w.round().await, 1);
    let told: Vec<bool> = w
        .by("hooks")
        .iter()
        .filter(|g| g.answered == 200)
        .map(|g| g.body.contains("cleared\""))
        .collect();
    assert_eq!(told, [false, true], "opening, then clearing");
    let page = get(&w.s, &format!("/{SLUG}/incidents/{id}")).await.1;
    assert!(
        page.contains("delivered at the 3th try") || page.contains("delivered at the 3rd try"),
        "{page}"
    );

    // A day of refusals: given up, and told through another destination.
    w.got.behave(Manner::Refuses);
    let old = Timestamp::now() - SignedDuration::from_hours(25);
    w.notice(id, Tells::Reopened, &[board], old, false).await;
    assert_eq!(w.round().await, 0);
    w.got.behave(Manner::Takes);
    w.hurry().await;
    assert_eq!(w.round().await, 1);
    let last = w.by("mail").pop().expect("a mail");
    assert!(
        last.to.contains("on-call") && last.body.contains("Board was not told"),
        "{}",
        last.body
    );
    let given_up = w.s.db.newest_notices(1, 9).await.expect("rows");
    assert!(given_up.iter().any(|n| n.sent == Sent::GivenUp && n.destination == "Board"));
    let _ = mail;
}

#[tokio::test]
async fn escalation_stops_with_whoever_acknowledges_and_a_storm_is_one_message() {
    let w = world().await;
    let [mail, board, room] = w.ids().await;
    let id = w.incident("Booking fails", Tells::Opened, &[board]).await;
    let later = Timestamp::now() + SignedDuration::from_mins(10);
    w.notice(id, Tells::Opened, &[mail], later, true).await;
    assert_eq!(w.round().await, 1, "the later one waits");
    w.s.db.acknowledge(id, "Ada", Timestamp::now()).await.expect("acknowledged");
    w.hurry().await;
    assert_eq!(w.round().await, 0);
    assert!(w.by("mail").is_empty());
    let page = get(&w.s, &format!("/{SLUG}/incidents/{id}")).await.1;
    assert!(page.contains("not sent: somebody had acknowledged"), "{page}");

    for nth in 0..10_000 / 500 {
        w.incident(&format!("Storm {nth}"), Tells::Opened, &[room]).await;
    }
    assert_eq!(w.round().await, 1, "one message");
    let chat: Vec<Got> = w.by("chat");
    assert!(
        chat.len() == 1 && chat[0].body.contains("20 incidents, told together"),
        "{:?}",
        chat[0].body
    );
    assert!(chat[0].body.contains("Storm 19") && w.round().await == 0);
}

#[tokio::test]
async fn whoever_hangs_or_dies_is_a_try_that_failed_and_private_networks_are_not_reached() {
    let w = world().await;
    let [mail, board, _] = w.ids().await;
    let id = w.incident("Booking fails", Tells::Opened, &[mail, board]).await;
    // Not allowed to reach this machine: said, and nothing is sent.
    let outside = teller(&w.got, false);
    w.got.behave(Manner::Dies);
    assert_eq!(outside.round(&w.answers).await.expect("a round"), 0);
    assert!(w.by("hooks").is_empty());
    let page = get(&w.s, &format!("/{SLUG}/incidents/{id}")).await.1;
    assert!(
        page.contains("must not be reached from here")
            && page.contains("1 tries failed, more come"),
        "{page}"
    );
    w.got.behave(Manner::Takes);
    w.hurry().await;
    assert_eq!(w.round().await, 2, "mail that was cut off comes, too");
}

#[tokio::test]
async fn destinations_and_lists_are_checked_tested_and_warned_about() {
    let w = world().await;
    let at = format!("/{SLUG}/call-lists");
    let add = |fields: [(&'static str, &'static str); 4]| {
        let at = format!("{at}/destinations");
        let s = &w.s;
        async move { post(s, &at, &fields).await }
    };
    for (fields, says) in [
        (
            [("name", ""), ("kind", "mail"), ("address", "a@b.c"), ("secret", "")],
            "A name has 1 to 80 characters.",
        ),
        (
            [("name", "On call"), ("kind", "mail"), ("address", "a@b.c"), ("secret", "")],
            "Another destination of this site has the name.",
        ),
        (
            [("name", "x"), ("kind", "mail"), ("address", "a@b.c, d@e.f"), ("secret", "")],
            "An address of this kind is one address such as",
        ),
        (
            [("name", "x"), ("kind", "webhook"), ("address", "ftp://x"), ("secret", "")],
            "an address that begins with https://",
        ),
        (
            [
                ("name", "x"),
                ("kind", "gateway"),
                ("address", "http://x@127.0.0.1/"),
                ("secret", SECRET),
            ],
            "its secret could be read on the way",
        ),
        (
            [("name", "x"), ("kind", "webhook"), ("address", "https://x"), ("secret", "short")],
            "What messages are signed with has 16 to 200 characters.",
        ),
    ] {
        let (status, _, page) = add(fields).await;
        assert!(status == 422 && page.contains(says), "{says}: {status} {page}");
    }
    let own = [
        ("name", "Own"),
        ("kind", "chat"),
        ("address", "https://chat.marram.example/x"),
        ("secret", ""),
    ];
    assert_eq!(add(own).await.0, 303);
    let page = get(&w.s, &at).await.1;
    assert!(page.contains("Own is reached by way of a host of this site"), "{page}");
    assert!(page.contains("No call list is the usual one"), "{page}");

    let ids = w.ids().await.map(|id| id.to_string());
    let list = [
        ("list", "Team"),
        ("to-0", ids[0].as_str()),
        ("to-1", ids[2].as_str()),
        ("after-1", "15"),
        ("usual", "yes"),
        ("least-1", "critical"),
        ("day-1", "mon"),
        ("day-1", "tue"),
        ("open-1", "22:00"),
        ("closed-1", "06:00"),
    ];
    assert_eq!(post(&w.s, &at, &list).await.0, 303);
    let page = get(&w.s, &at).await.1;
    assert!(
        page.contains("At once: On call")
            && page
                .contains("After 15 min, if nobody has acknowledged it, when critical, Mon Tue 22:00–06:00: Room"),
        "{page}"
    );
    // It is filled in to be changed, with one more step.
    let all = w.s.db.call_lists(1).await.expect("rows");
    let filled = get(&w.s, &format!("{at}?change={}", all[0].id)).await.1;
    for says in [
        "name=\"after-1\" value=\"15\"",
        "value=\"22:00\"",
        "Step 3",
        "name=\"usual\" value=\"yes\" checked",
    ] {
        let flat = filled.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(flat.contains(says), "{says}: {flat}");
    }
    for (name, value) in [("closed-0", "late"), ("day-0", "mon")] {
        let half = [("list", "x"), ("to-0", ids[0].as_str()), ("open-0", "22:00"), (name, value)];
        let (status, _, page) = post(&w.s, &at, &half).await;
        assert!(status == 422 && page.contains("Service hours have days, and two times"), "{page}");
    }
    let (status, _, page) = post(&w.s, &at, &[("list", "Nobody")]).await;
    assert!(status == 422 && page.contains("A call list has one step at least"), "{page}");
    let (status, _, page) =
        post(&w.s, &at, &[("list", "x"), ("to-0", &ids[0]), ("after-0", "soon")]).await;
    assert!(status == 422 && page.contains("a whole number from 0 to 1440"), "{page}");

    assert_eq!(post(&w.s, &format!("{at}/destinations/{}/test", ids[0]), &[]).await.0, 303);
    assert_eq!(w.round().await, 1);
    assert!(w.by("mail")[0].body.contains("Subject: Test"), "{}", w.by("mail")[0].body);
    assert_eq!(notices::due(&w.answers).await.expect("due").len(), 0);
    assert_eq!(post(&w.s, &format!("{at}/destinations/{}/remove", ids[0]), &[]).await.0, 303);
    assert!(get(&w.s, &at).await.1.contains("At once: nobody any more"));
}

#[tokio::test]
async fn whoever_is_told_acknowledges_by_a_signed_link_and_nobody_by_looking_at_it() {
    let w = world().await;
    let [mail, ..] = w.ids().await;
    let id = w.incident("Booking fails", Tells::Opened, &[mail]).await;
    assert_eq!(w.round().await, 1);
    let text = python(
        "import sys, email, email.policy\n\
         m = email.message_from_string(sys.stdin.read(), policy=email.policy.default)\n\
         print(m.get_body(('plain',)).get_content())",
        &w.by("mail")[0].body,
    );
    let line = text.lines().find_map(|l| l.strip_prefix("Acknowledge: ")).expect("a link");
    let path = line.strip_prefix("https://pages.marram.example").expect("ours").to_string();
    // Nobody is signed in here.
    let client = reqwest::Client::new();
    let at = |path: &str| format!("{}{path}", w.s.server.address);
    let looked = client.get(at(&path)).send().await.expect("an answer");
    assert_eq!(looked.status(), 200);
    let page = looked.text().await.expect("a page");
    assert!(
        page.contains("Booking fails") && page.contains("Nobody looks after it yet."),
        "{page}"
    );
    let acknowledged =
        async || w.s.db.incident(1, id).await.expect("asked").expect("there").acknowledged;
    assert_eq!(acknowledged().await, None, "looking says nothing");
    let mut other = path.clone();
    other.pop();
    for wrong in
        [format!("{other}0"), format!("{other}g"), path.replace("-", "0-"), "/acknowledge/x".into()]
    {
        if wrong == path {
            continue;
        }
        let answer = client.get(at(&wrong)).send().await.expect("an answer");
        assert_eq!(answer.status(), 404, "{wrong}");
    }
    let press = client.post(at(&path)).header("sec-fetch-site", "same-origin");
    let pressed = press.send().await.expect("an answer");
    assert_eq!(pressed.status(), 200);
    let page = pressed.text().await.expect("a page");
    assert!(page.contains("On call (by link) looks after it."), "{page}");
    assert_eq!(acknowledged().await.expect("acknowledged").1, "On call (by link)");
    let foreign = client.post(at(&path)).header("sec-fetch-site", "cross-site");
    assert_eq!(
        foreign.send().await.expect("an answer").status(),
        403,
        "no page of others presses it"
    );
}

#[tokio::test]
async fn a_rehearsal_goes_through_the_whole_chain_marked_and_counts_nowhere() {
    let w = world().await;
    let ids = w.ids().await;
    let s = &w.s;
    let step = |after_min, destinations| Step {
        after_min,
        least: Severity::Warning,
        hours: None,
        destinations,
    };
    let steps = [step(0, vec![ids[0], ids[1]]), step(30, vec![ids[2]])];
    s.db.put_call_list(1, ("Duty", &steps, true), "Ada").await.expect("kept");
    let from = Timestamp::now() - SignedDuration::from_mins(20);
    let alert = crate::alerts::watched(s, from).await;
    let at = format!("/{SLUG}/alerts/{alert}");
    let page = get(s, &at).await.1;
    let whom = "A critical incident would be told to Board, On call at once; to Room after 30 min if nobody has acknowledged.";
    assert!(page.contains(whom), "{page}");

    // It takes as long as the alert takes, asks for a level that there is, and goes on once at a time.
    let rehearse = async |minutes: &str, severity: &str| {
        let fields = [("minutes", minutes), ("severity", severity)];
        post(s, &format!("{at}/rehearse"), &fields).await
    };
    for minutes in ["1", "241", "-3", "2.5", "soon", ""] {
        let (status, _, page) = rehearse(minutes, "critical").await;
        let says = "It opens after 2 min at the earliest and is acted out for 240 at most.";
        assert!(status == 422 && page.contains(says), "{minutes}: {page}");
    }
    assert_eq!(rehearse("5", "critical").await.0, 303);
    let (status, _, page) = rehearse("5", "critical").await;
    assert!(status == 422 && page.contains("It is being acted out already."), "{page}");
    assert_eq!(post(s, &format!("{at}/rehearse"), &[("end", "yes")]).await.0, 303);

    // Acted out from a quarter of an hour ago: it opens by the second evaluation, as any other.
    let begun = from + SignedDuration::from_mins(5);
    let until = begun + SignedDuration::from_mins(8);
    let times = (begun, begun, until);
    let id = s.db.add_rehearsal(alert, Severity::Critical, times, "Ada").await.expect("added");
    let turn = async |after_min: i64| {
        let now = begun + SignedDuration::from_mins(after_min) + cadentis_core::alert::LAG;
        cadentis_answers::watch::turn(&w.answers, now).await.expect("a turn")
    };
    turn(1).await;
    assert_eq!(s.db.open_in_rehearsal(id.expect("new")).await.expect("asked"), None);
    turn(3).await;
    let open = s.db.open_in_rehearsal(id.expect("new")).await.expect("asked").expect("open");
    assert_eq!((open.alert_id, open.severity), (None, Severity::Critical));
    assert!(open.opened_at <= begun + SignedDuration::from_mins(2), "{open:?}");
    assert_eq!(w.round().await, 2, "the third waits for whether anybody acknowledges");
    let mail = &w.by("mail")[0].body;
    assert!(
        mail.contains("Subject: Rehearsal, nothing is wrong") && mail.contains("Booking fails"),
        "{mail}"
    );
    let board: serde_json::Value = serde_json::from_str(&w.by("board")[0].body).expect("JSON");
    assert_eq!(board["data"]["incident"]["is_rehearsal"], true, "{board}");
    assert!(
        board["data"]["says"].as_str().is_some_and(|t| t.contains("acted out, nothing is wrong"))
    );

    // Meanwhile something is really wrong: that is an incident of its own, and the only one that counts.
    let failed = [cadentis_core::run::Outcome::Failed; 4];
    crate::alerts::played(s, crate::alerts::begin(19), &failed).await;
    turn(6).await;
    let whole = cadentis_core::calendar::Stretch {
        from: from - SignedDuration::from_hours(1),
        to: Timestamp::now(),
    };
    let real = s.db.incidents(1, whole).await.expect("rows");
    assert_eq!(real.len(), 1);
    assert!(real[0].id != open.incident_id && !real[0].is_rehearsal);

    // It clears by itself once it is over; whoever was told hears of that too.
    turn(12).await;
    assert_eq!(s.db.open_in_rehearsal(id.expect("new")).await.expect("asked"), None);
    let acted = s.db.incident(1, open.incident_id).await.expect("asked").expect("there");
    assert!(acted.is_rehearsal && acted.cleared_at.is_some_and(|at| at > until), "{acted:?}");
    w.hurry().await;
    w.round().await;
    let told =
        w.by("mail").iter().filter(|g| g.body.contains("Rehearsal, nothing is wrong")).count();
    assert_eq!(told, 2, "opened and cleared");
    assert!(!w.by("room").iter().any(|g| g.body.contains("Rehearsal")), "it was over before");

    // Counted nowhere: not an opening, not an evaluation, not on Now, nor in the list of incidents.
    assert_eq!(s.db.openings_of(alert, whole).await.expect("rows").len(), 1);
    let evaluations = s.db.evaluations(alert, whole).await.expect("rows");
    let measured = |v: f64| v == 1.0;
    let is_measured = |e: &KeptEvaluation| e.evaluation.value.is_none_or(measured);
    assert!(
        evaluations.iter().all(is_measured),
        "every run failed: what was acted is no such share"
    );
    let number = format!("/incidents/{}?", open.incident_id);
    for list in ["now", "incidents", "alerts"] {
        assert!(!get(s, &format!("/{SLUG}/{list}")).await.1.contains(&number), "{list}");
    }
    let page = get(s, &at).await.1;
    assert!(page.contains(&number) && page.contains("On call, opened: delivered after "), "{page}");
    let page = get(s, &format!("/{SLUG}/incidents/{}", open.incident_id)).await.1;
    assert!(page.contains("rehearsal, cleared"), "{page}");
}

#[tokio::test]
async fn gateways_tickets_and_repairs_get_what_they_ask_for_and_what_they_answer_is_kept() {
    let w = world().await;
    let add = async |name: &str, kind: &str, path: &str| -> i32 {
        let address = format!("http://{}/{path}", w.got.http);
        let fields = [("name", name), ("kind", kind), ("address", &address), ("secret", SECRET)];
        let at = format!("/{SLUG}/call-lists/destinations");
        assert_eq!(post(&w.s, &at, &fields).await.0, 303, "{name}");
        let all = w.s.db.destinations(1).await.expect("rows");
        all.iter().find(|d| d.name == name).expect("there").id
    };
    let sms = add("SMS", "gateway", "sms").await;
    let tickets = add("Desk", "ticket", "tickets").await;
    let repair = add("Restart", "repair", "repair").await;
    w.got.answer("/tickets", "{\"ticket\": \"OPS-12 <b>\", \"link\": \"https://desk.example/12\"}");
    w.got.answer("/repair", "{\"says\": \"restarted the booking service\"}");
    let id = w.incident("Booking fails", Tells::Opened, &[sms, tickets, repair]).await;
    assert_eq!(w.round().await, 3);

    // A gateway is shown its secret, and gets JSON in the usual words.
    let got = &w.by("sms")[0];
    let header = |got: &Got, name: &str| {
        got.headers.iter().find(|(n, _)| n == name).map(|(_, value)| value.clone())
    };
    assert_eq!(header(got, "authorization"), Some(format!("Bearer {SECRET}")));
    let text: serde_json::Value = serde_json::from_str(&got.body).expect("JSON");
    assert!(
        text["text"].as_str().is_some_and(|t| t.contains("share failed is 60 % <b>")),
        "{text}"
    );
    // A ticket's name is kept, stands on the incident, and is told with whatever comes later of it.
    let page = get(&w.s, &format!("/{SLUG}/incidents/{id}")).await.1;
    assert!(
        page.contains("href=\"https://desk.example/12\"") && page.contains("OPS-12 &#60;b&#62;"),
        "{page}"
    );
    assert!(page.contains("restarted the booking service"), "what was done is on the incident");
    w.got.answer(
        "/tickets",
        "{\"ticket\": \"OPS-12 <b>\", \"acknowledged_by\": \"Kim\", \"closed\": true}",
    );
    w.notice(id, Tells::Worsened, &[tickets, repair], Timestamp::now(), false).await;
    assert_eq!(w.round().await, 2);
    let second: serde_json::Value = serde_json::from_str(&w.by("tickets")[1].body).expect("JSON");
    assert_eq!(second["data"]["ticket"], "OPS-12 <b>", "{second}");
    let incident = w.s.db.incident(1, id).await.expect("asked").expect("there");
    assert_eq!(incident.acknowledged.map(|(_, who)| who).as_deref(), Some("Kim"));
    assert!(incident.closed.is_none(), "what goes on is closed by nobody");
    // Answers that are none of this say nothing and harm nothing.
    for answer in [
        "",
        "null",
        "[1]",
        "{\"ticket\": 7}",
        "{\"link\": \"javascript:alert(1)\", \"ticket\": \"x\"}",
        &"x".repeat(70_000),
    ] {
        w.got.answer("/tickets", answer);
        w.notice(id, Tells::Worsened, &[tickets], Timestamp::now(), false).await;
        w.round().await;
        w.hurry().await;
    }
    let page = get(&w.s, &format!("/{SLUG}/incidents/{id}")).await.1;
    assert!(!page.contains("javascript:"), "{page}");

    // A storm is one short message that names them all, and is JSON still.
    let before = w.by("sms").len();
    for nth in 0..4 {
        w.incident(&format!("Storm {nth}"), Tells::Opened, &[sms]).await;
    }
    w.round().await;
    let storm = w.by("sms").split_off(before);
    assert_eq!(storm.len(), 1);
    let text: serde_json::Value = serde_json::from_str(&storm[0].body).expect("JSON");
    let text = text["text"].as_str().expect("a text");
    assert!(
        text.starts_with("4 incidents told together: ")
            && (0..4).all(|n| text.contains(&format!("Storm {n}"))),
        "{text}"
    );

    // Nothing is mended in a rehearsal, and nobody mends what is over.
    let step = Step {
        after_min: 0,
        least: Severity::Warning,
        hours: None,
        destinations: vec![repair, sms],
    };
    w.s.db.put_call_list(1, ("Duty", &[step], true), "Ada").await.expect("kept");
    let from = Timestamp::now() - SignedDuration::from_mins(20);
    let alert = crate::alerts::watched(&w.s, from).await;
    let times = (from, from, from + SignedDuration::from_mins(4));
    w.s.db
        .add_rehearsal(alert, Severity::Critical, times, "Ada")
        .await
        .expect("added")
        .expect("new");
    let before = (w.by("repair").len(), w.by("sms").len());
    for minutes in [4, 12] {
        let at = from + SignedDuration::from_mins(minutes);
        cadentis_answers::watch::turn(&w.answers, at).await.expect("a turn");
        w.hurry().await;
        w.round().await;
    }
    assert_eq!((w.by("repair").len(), w.by("sms").len()), (before.0, before.1 + 2));
}

#[tokio::test]
async fn what_a_destination_is_told_is_tried_on_the_last_incident_before_it_is_kept() {
    let w = world().await;
    let [mail, board, room] = w.ids().await;
    let id = w.incident("Booking fails", Tells::Opened, &[room]).await;
    w.round().await;
    let at = |to: i32| format!("/{SLUG}/call-lists/destinations/{to}");
    let save = async |to: i32, fields: &[(&str, &str)]| {
        post(&w.s, &format!("{}/text", at(to)), fields).await
    };
    let own = "{{ severity|upper }} {{ about }}: {{ says }}\n{{ link }}";
    let preview = save(room, &[("text", own), ("preview", "yes")]).await;
    assert!(
        preview.0 == 200
            && preview
                .2
                .contains("CRITICAL the site: Booking fails: share failed is 60 % &#60;b&#62;"),
        "{}",
        preview.2
    );
    assert!(
        get(&w.s, &at(room)).await.1.contains("It is told in the usual words."),
        "nothing is kept yet"
    );
    for (text, says) in [
        ("{{ nothing }}", "Line 1: it names what is not there; there is site, tells, severity"),
        (
            "{% for x in [says ~ says] %}{{ x }}{% endfor %}",
            "line 1: “for” is not taken: there is if, elif",
        ),
        ("{{ title", "line 1"),
    ] {
        let (status, _, page) = save(room, &[("text", text)]).await;
        assert!(
            status == 422 && page.to_lowercase().contains(&says.to_lowercase()),
            "{text}: {page}"
        );
    }
    let (status, _, page) = save(board, &[("text", own)]).await;
    assert!(status == 422 && page.contains("It gets a CloudEvent"), "{page}");

    assert_eq!(save(room, &[("text", own)]).await.0, 303);
    assert_eq!(save(mail, &[("text", "Own words & {{ title }}")]).await.0, 303);
    w.notice(id, Tells::Worsened, &[mail, room], Timestamp::now(), false).await;
    assert_eq!(w.round().await, 2);
    let chat: serde_json::Value = serde_json::from_str(&w.by("chat")[1].body).expect("JSON");
    assert!(
        chat["text"].as_str().is_some_and(|t| t.starts_with("CRITICAL the site: Booking")),
        "{chat}"
    );
    let script = "import sys, email, email.policy\nm = email.message_from_string(sys.stdin.read(), policy=email.policy.default)\nprint(m.get_body(('plain',)).get_content(), m.get_body(('html',)).get_content())";
    let read = python(script, &w.by("mail")[0].body);
    assert!(
        read.starts_with("Own words & Worse: Booking fails")
            && read.contains("Own words &amp; Worse"),
        "{read}"
    );
    assert_eq!(save(room, &[("usual", "yes")]).await.0, 303);
    assert!(get(&w.s, &at(room)).await.1.contains("It is told in the usual words."));
}

#[tokio::test]
async fn an_alert_that_is_taken_away_or_stopped_while_it_is_acted_out_leaves_nothing_open() {
    let w = world().await;
    let from = Timestamp::now() - SignedDuration::from_mins(20);
    let act = async |alert: i32| -> i32 {
        let times = (from, from, from + SignedDuration::from_mins(60));
        let added = w.s.db.add_rehearsal(alert, Severity::Critical, times, "Ada").await;
        let id = added.expect("added").expect("new");
        cadentis_answers::watch::turn(&w.answers, Timestamp::now()).await.expect("a turn");
        w.s.db.open_in_rehearsal(id).await.expect("asked").expect("open").incident_id
    };
    let alert = crate::alerts::watched(&w.s, from).await;
    let stopped = act(alert).await;
    let (status, ..) =
        post(&w.s, &format!("/{SLUG}/alerts/{alert}/rehearse"), &[("end", "yes")]).await;
    assert_eq!(status, 303);
    let gone = act(alert).await;
    assert_eq!(post(&w.s, &format!("/{SLUG}/alerts/{alert}/remove"), &[]).await.0, 303);
    for id in [stopped, gone] {
        let incident = w.s.db.incident(1, id).await.expect("asked").expect("there");
        assert!(incident.cleared_at.is_some() && incident.is_rehearsal, "{incident:?}");
    }
    // A silenced alert would tell nobody, so there is nothing to act.
    let alert = crate::alerts::watched(&w.s, from).await;
    let at = format!("/{SLUG}/alerts/{alert}");
    let until =
        (Timestamp::now() + SignedDuration::from_hours(5)).strftime("%Y-%m-%dT%H:%M").to_string();
    assert_eq!(
        post(&w.s, &format!("{at}/silence"), &[("until", &until), ("why", "quiet")]).await.0,
        303
    );
    let (status, _, page) =
        post(&w.s, &format!("{at}/rehearse"), &[("minutes", "5"), ("severity", "critical")]).await;
    assert!(status == 422 && page.contains("It is silenced: nobody would be told."), "{page}");
}

#[tokio::test]
async fn who_leaves_while_on_call_is_told_of_to_somebody_else_and_a_mail_server_may_be_away() {
    let w = world().await;
    let [mail, board, room] = w.ids().await;
    // The board is taken away with a notice on its way.
    let id = w.incident("Booking fails", Tells::Opened, &[board]).await;
    let at = format!("/{SLUG}/call-lists/destinations/{board}/remove");
    assert_eq!(post(&w.s, &at, &[]).await.0, 303);
    assert_eq!(w.round().await, 0, "there is nobody to send it to");
    assert_eq!(w.round().await, 1, "somebody else hears of that, once");
    assert_eq!(w.round().await, 0);
    let heard: Vec<Got> = w.got.got();
    assert_eq!(heard.len(), 1);
    assert!(
        heard[0].body.contains("Board was not told") && heard[0].body.contains("taken away"),
        "{heard:?}"
    );
    let of = async |to: i32| {
        let all = w.s.db.newest_notices(1, 50).await.expect("rows");
        all.into_iter().find(|n| n.destination_id == Some(to) && n.tells == Tells::Opened)
    };

    // Nobody takes mail at this port; when somebody does again it is the same mail, under the same key.
    let closed =
        std::net::TcpListener::bind("127.0.0.1:0").expect("a port").local_addr().expect("bound");
    let away = Teller::new(Settings {
        smtp_url: Some(format!("smtp://{closed}")),
        mail_from: Some("Cadentis <cadentis@marram.example>".into()),
        may_reach_private: true,
        pages: "https://pages.marram.example".into(),
    });
    let away = away.expect("settings");
    w.notice(id, Tells::Opened, &[mail, room], Timestamp::now(), false).await;
    for _ in 0..3 {
        away.round(&w.answers).await.expect("a round");
        w.hurry().await;
    }
    let waiting = of(mail).await.expect("there");
    assert_eq!((waiting.sent, waiting.failed), (Sent::Waiting, 3));
    assert_eq!(of(room).await.expect("there").sent, Sent::Delivered, "others are told meanwhile");
    assert_eq!(w.round().await, 1);
    let told = of(mail).await.expect("there");
    assert_eq!((told.sent, told.key), (Sent::Delivered, waiting.key));
    let came =
        w.by("mail").into_iter().filter(|g| g.body.contains(&waiting.key.to_string())).count();
    assert_eq!(came, 1);
}

#[tokio::test]
async fn hundreds_of_alerts_about_one_outage_are_one_incident_and_wake_once() {
    let w = world().await;
    let [mail, ..] = w.ids().await;
    let step =
        Step { after_min: 0, least: Severity::Warning, hours: None, destinations: vec![mail] };
    w.s.db.put_call_list(1, ("Duty", &[step], true), "Ada").await.expect("kept");
    let from = crate::alerts::begin(20);
    let first = crate::alerts::watched(&w.s, from).await;
    let says = w.s.db.alert(1, first).await.expect("asked").expect("there").says;
    // More than are taken in one go.
    for nth in 0..260 {
        let name = format!("{} {nth}", says.name);
        let says = cadentis_store::alert::Says { name, ..says.clone() };
        w.s.db.add_alert(1, &says, (true, from), "Ada").await.expect("added").expect("new");
    }
    let failed = [cadentis_core::run::Outcome::Failed; 4];
    crate::alerts::played(&w.s, from, &failed).await;
    let turn = cadentis_answers::watch::turn(&w.answers, Timestamp::now()).await.expect("a turn");
    assert_eq!((turn.alerts, turn.failed), (261, 0));
    let whole = cadentis_core::calendar::Stretch { from, to: Timestamp::now() };
    let all = w.s.db.incidents(1, whole).await.expect("rows");
    assert_eq!(all.len(), 1, "one outage");
    assert_eq!(w.s.db.alerts_of(&[all[0].id]).await.expect("rows").len(), 261);
    let told = w.s.db.newest_notices(1, 500).await.expect("rows");
    assert_eq!(told.len(), 1, "who is on duty is woken once");
    let page = get(&w.s, &format!("/{SLUG}/incidents/{}", all[0].id)).await;
    assert_eq!(page.0, 200);
}
