//! From an empty database to the first run and the first page view, as the pages say and with nothing else.

use super::pages::{fill, press};
use cadentis_e2e::{Looker, program};
use cadentis_standins::network::{Path, Proxy};
use cadentis_standins::places::by_slug;
use cadentis_standins::postgres::{Cluster, free_port};
use cadentis_standins::site::{Ports, Site};
use std::collections::HashMap;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use thirtyfour::By;

/// A process of ours, ended with what it started.
pub struct Part(Child);

impl Drop for Part {
    fn drop(&mut self) {
        let below = cadentis_processes::below(self.0.id() as i32);
        cadentis_processes::signal(self.0.id() as i32, libc::SIGTERM);
        let until = Instant::now() + Duration::from_secs(8);
        while matches!(self.0.try_wait(), Ok(None)) && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(50));
        }
        let _ = self.0.kill();
        let _ = self.0.wait();
        cadentis_processes::end_these(&below);
    }
}

/// Starts a server on an empty database; the link for its first administrator, from its log.
pub fn serve(url: &str, address: &str, more: &[&str]) -> (Part, String) {
    let mut command = Command::new(program());
    command.args(["serve", "--listen", address, "--database-url", url]).args(more);
    // Stand-ins write whom they forward for; the site's pages know the server by a made-up name.
    command.args([
        "--public-url",
        &format!("http://{address}"),
        "--public-url",
        "http://collect.cadentis.example",
    ]);
    command
        .args(["--trusted-proxy", "127.0.0.0/8"])
        .env("NO_COLOR", "1")
        .env_remove("DATABASE_URL");
    let mut process =
        command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("it starts");
    let (said, told) = std::sync::mpsc::channel();
    let streams: [Box<dyn std::io::Read + Send>; 2] = [
        Box::new(process.stdout.take().expect("piped")),
        Box::new(process.stderr.take().expect("piped")),
    ];
    for stream in streams {
        let said = said.clone();
        std::thread::spawn(move || {
            BufReader::new(stream).lines().map_while(Result::ok).for_each(|line| {
                let _ = said.send(line);
            });
        });
    }
    let until = Instant::now() + Duration::from_secs(60);
    let link = loop {
        let line = told.recv_timeout(until.saturating_duration_since(Instant::now()));
        let line = line.expect("the log says how the first administrator comes in");
        if let Some(from) = line.find("http").filter(|_| line.contains("/welcome/")) {
            let link: String = line[from..].chars().take_while(|c| !c.is_whitespace()).collect();
            break link;
        }
    };
    // Somebody has to go on reading, or the server would wait for room to write.
    std::thread::spawn(move || told.into_iter().for_each(drop));
    (Part(process), link)
}

pub async fn text_of(looker: &Looker, css: &str) -> String {
    let script = format!("return document.querySelector(\"{css}\").textContent.trim()");
    looker.ask(&script).await.as_str().expect(css).to_string()
}

pub async fn follow(looker: &Looker, words: &str) {
    let link = By::XPath(format!("//a[normalize-space()='{words}']"));
    looker.driver.find(link).await.expect(words).click().await.expect("followed");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_first_pages_of_an_empty_installation_lead_to_a_run_and_a_page_view() {
    let cluster = Cluster::scratch().expect("PostgreSQL is installed");
    let url = cluster.create_database("empty").expect("a database");
    let address = format!("127.0.0.1:{}", free_port().expect("a port"));
    let (_server, link) = serve(&url, &address, &["--longer-after-ms", "0"]);
    let looker = Looker::start(&[]).await;

    looker.driver.goto(&link).await.expect("the page opens");
    fill(&looker, "input[name=name]", "Ines").await;
    fill(&looker, "input[name=email]", "ines@marram.example").await;
    fill(&looker, "input[name=password]", "quay lamp herring drizzle").await;
    press(&looker, "Go on").await;
    looker.wait_for("the first site", "return location.pathname === '/setup/sites'", 20).await;
    fill(&looker, "form.stack input[name=name]", "Marram Ferries").await;
    fill(&looker, "form.stack textarea[name=domains]", "book.marram.example").await;
    fill(&looker, "form.stack input[name=zone]", "Europe/Oslo").await;
    press(&looker, "Add the site").await;
    looker
        .wait_for("the first steps", "return location.pathname === '/marram-ferries/start'", 20)
        .await;
    assert_eq!(text_of(&looker, ".first-steps p").await, "4 steps are left.");
    let tag = text_of(&looker, "pre.copy code").await;

    // A site that has the line in its pages, and the network between it and a location.
    let key = tag.rsplit('/').nth(1).and_then(|file| file.strip_suffix(".js\"><"));
    let collect = "http://collect.cadentis.example/snippet.js";
    let site =
        Site::start(Ports::default(), Some((collect, key.expect("a key")))).expect("it starts");
    let mut hosts = site.hosts();
    hosts.insert("collect.cadentis.example".into(), address.parse().expect("an address"));
    let bergen = by_slug("bergen").expect("a place");
    let proxy =
        Proxy::start(Path::from(bergen), HashMap::from_iter(hosts)).await.expect("it starts");

    follow(&looker, "Locations").await;
    looker.wait_for("locations", "return location.pathname === '/setup'", 20).await;
    looker
        .driver
        .find(By::XPath("//summary[.='Add a location']"))
        .await
        .expect("a form")
        .click()
        .await
        .expect("open");
    fill(&looker, "form[action='/setup/locations'] input[name=name]", "Bergen").await;
    fill(&looker, "form[action='/setup/locations'] input[name=country]", "NO").await;
    fill(&looker, "form[action='/setup/locations'] input[name=zone]", "Europe/Oslo").await;
    press(&looker, "Add").await;
    looker.wait_for("the token", "return !!document.querySelector('.told-once code')", 20).await;
    // The command as it stands there, and what stands there of proxies.
    let told = text_of(&looker, ".told-once code").await;
    let mut words = told.split_whitespace();
    let token = words.next().and_then(|w| w.strip_prefix("CADENTIS_TOKEN=")).expect("a token");
    assert_eq!(words.next(), Some("cadentis"), "{told}");
    let kept = std::env::temp_dir().join(format!("cadentis-kept-{}", uuid::Uuid::new_v4()));
    let mut runner = Command::new(program());
    runner.args(words).args(["--proxy", &proxy.address.to_string(), "--keep"]).arg(&kept);
    runner.env("CADENTIS_TOKEN", token).stdout(Stdio::null()).stderr(Stdio::null());
    let _runner = Part(runner.spawn().expect("the runner starts"));

    looker.driver.goto(format!("http://{address}/marram-ferries/start")).await.expect("a page");
    let there = "return document.querySelector('.first-steps').textContent.includes('Bergen asked for work just now.')";
    looker.wait_for("the runner", there, 60).await;
    follow(&looker, "Make it").await;
    looker.wait_for("a starter", "return !!document.querySelector('form[data-start]')", 20).await;
    fill(&looker, "input[name='page.address']", "http://book.marram.example/").await;
    fill(&looker, "input[name='page.text']", "Departures today").await;
    fill(&looker, "form[data-start] input[name=name]", "Open the timetable").await;
    fill(&looker, "input[name=every]", "1").await;
    press(&looker, "Write the script").await;
    looker.wait_for("the editor", "return !!document.querySelector('.cm-content')", 20).await;
    press(&looker, "Start").await;
    let plays =
        "return [...document.querySelectorAll('button')].some(b => b.textContent === 'Pause')";
    looker.wait_for("it plays", plays, 20).await;

    let visitor = Looker::start(&[
        format!("--proxy-server=socks5://{}", proxy.address),
        "--proxy-bypass-list=<-loopback>".into(),
        "--disable-blink-features=AutomationControlled".into(),
        "--user-agent=Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 Chrome/156.0 Safari/537.36".into(),
    ])
    .await;
    visitor.driver.goto("http://book.marram.example/").await.expect("the site opens");
    let sent =
        "return performance.getEntriesByType('resource').some(r => r.name.includes('/beacons/'))";
    visitor.wait_for("the snippet has sent a beacon", sent, 20).await;
    visitor.driver.goto("http://book.marram.example/tomorrow").await.expect("the site opens");

    looker.driver.goto(format!("http://{address}/marram-ferries/start")).await.expect("a page");
    let done = "return document.querySelector('.first-steps').textContent.includes('Marram Ferries is measured from both sides.')";
    looker.wait_for("a run and a page view", done, 400).await;
    follow(&looker, "the run").await;
    looker
        .wait_for(
            "the run",
            "return /Passed/.test(document.querySelector('h1, .verdict, main').textContent)",
            20,
        )
        .await;
    // This server shows how far each query is, without waiting for it: what it came to follows by itself.
    let asked = format!("http://{address}/marram-ferries/queries?q=availability,+count+of+runs");
    looker.driver.goto(&asked).await.expect("a page");
    let told = "return location.search.includes('ticket=') && !!document.querySelector('table.heat') && !document.querySelector('progress')";
    looker.wait_for("the answer", told, 30).await;
    visitor.end().await;
    looker.end().await;
    site.stop().await;
    let _ = std::fs::remove_dir_all(&kept);
}
