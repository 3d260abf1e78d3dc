//! `cadentis demo`: everything at once, in the foreground, gone when it ends.
//!
//! The parts are processes of their own, as they would be in earnest: PostgreSQL, the server, the
//! stand-ins, two runners. When one of them fails, or we are asked to end, all of them end.

use crate::seed::{DemoAccess, SITE_KEY, for_us_alone};
use crate::world::{COLLECT_HOST, Whereabouts};
use crate::{Failure, asked_to_end};
use cadentis_processes as children;
use cadentis_standins::places::{PLACES, Place};
use cadentis_standins::postgres::{Care, Cluster, free_port};
use cadentis_store::Db;
use cadentis_store::site::Site;
use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitCode};
use std::time::{Duration, Instant};

#[derive(clap::Args)]
pub struct Args {
    /// The port of the pages
    #[arg(long, env = "CADENTIS_PORT", default_value_t = 7070)]
    port: u16,
    /// Begin with new data
    #[arg(long)]
    fresh: bool,
    /// Use this database instead of a private one
    #[arg(long, env = "DATABASE_URL")]
    database_url: Option<String>,
    /// Where the data lie
    #[arg(long, default_value = ".cadentis")]
    folder: PathBuf,
    /// Days of history to write at the first start
    #[arg(long, default_value_t = 30)]
    days: i64,
    /// Page views to write at the first start
    #[arg(long, default_value_t = 1_500_000)]
    views: u64,
    /// Start no runners
    #[arg(long)]
    no_runners: bool,
}

struct Part {
    name: &'static str,
    process: Child,
}

/// Parts end together: all are asked, then waited for, then made to.
struct Parts(Vec<Part>);

impl Drop for Parts {
    fn drop(&mut self) {
        for part in &self.0 {
            children::signal(part.process.id() as i32, libc::SIGTERM);
        }
        let until = Instant::now() + Duration::from_secs(8);
        while Instant::now() < until
            && self.0.iter_mut().any(|p| matches!(p.process.try_wait(), Ok(None)))
        {
            std::thread::sleep(Duration::from_millis(20));
        }
        for part in &mut self.0 {
            let _ = part.process.kill();
            let _ = part.process.wait();
        }
    }
}

pub fn demo(args: Args) -> Result<ExitCode, Failure> {
    children::adopt_orphans();
    let done = run(args);
    children::end_all(Duration::from_secs(8));
    done
}

fn run(args: Args) -> Result<ExitCode, Failure> {
    fs::create_dir_all(&args.folder)?;
    let folder = fs::canonicalize(&args.folder)?;
    if args.fresh {
        if args.database_url.is_some() {
            return Err(
                "--fresh would have to empty a database that is not ours: empty it yourself".into(),
            );
        }
        remove_if_there(&folder.join("postgres"))?;
    }
    // Dropped, and so stopped, after all that use it.
    let (mut cluster, url) = match args.database_url {
        Some(url) => (None, url),
        None => {
            let cluster = Cluster::start(&folder.join("postgres"), Care::Durable)?;
            // One that is there already is just what we want.
            let url =
                cluster.create_database("cadentis").unwrap_or_else(|_| cluster.url("cadentis"));
            (Some(cluster), url)
        }
    };
    // A current-thread runtime: children are bound to the thread that started them, this one.
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let end = runtime.block_on(async {
        tokio::select! {
            end = parts(&folder, &url, args.port, args.days, args.views, !args.no_runners, &mut cluster) => end,
            () = asked_to_end() => Ok(()),
        }
    });
    end.map(|()| ExitCode::SUCCESS)
}

fn remove_if_there(folder: &Path) -> Result<(), Failure> {
    match fs::remove_dir_all(folder) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(e.into()),
        _ => Ok(()),
    }
}

/// The file, beside the database, with the made-up people and their passwords.
const PEOPLE: &str = "people.json";

/// What the parts of a demo are started with.
struct Starting<'a> {
    folder: &'a Path,
    url: &'a str,
    /// Where the server listens.
    address: String,
    port: u16,
    /// Where the outbox takes mail.
    smtp_port: u16,
}

impl Starting<'_> {
    fn start(&self, name: &'static str, args: &[&str]) -> Result<Part, Failure> {
        let mut command = Command::new(std::env::current_exe()?);
        command.args(args).env("DATABASE_URL", self.url);
        if name != "server" && name != "seed" {
            command.env_remove("DATABASE_URL");
        }
        children::bind_to_us(&mut command);
        let process = command.spawn().map_err(|e| format!("cannot start {name}: {e}"))?;
        Ok(Part { name, process })
    }

    fn key_file(&self) -> String {
        self.folder.join("secret.key").to_string_lossy().into_owned()
    }

    fn tokens(&self) -> std::path::PathBuf {
        self.folder.join("tokens.json")
    }

    /// Fills the database, and waits until it is full.
    async fn seed(&self, days: i64, views: u64) -> Result<(), Failure> {
        let (days, views) = (days.to_string(), views.to_string());
        let (key_file, tokens) = (self.key_file(), self.tokens());
        // Made once: what was sealed with it must open again.
        let mut sealed = vec!["--secret-key-file", &key_file];
        if !Path::new(&key_file).exists() {
            sealed.push("--new-key");
        }
        let tokens = tokens.to_string_lossy();
        let people = self.folder.join(PEOPLE);
        let people = people.to_string_lossy();
        let seed = ["seed", "--days", &days, "--views", &views, "--tokens", &tokens];
        sealed.extend(["--people", &people]);
        let mut seeding = Parts(vec![self.start("seed", &[seed.as_slice(), &sealed].concat())?]);
        loop {
            match seeding.0[0].process.try_wait()? {
                Some(end) if end.success() => return Ok(()),
                Some(end) => return Err(format!("seeding ended with {end}").into()),
                None => tokio::time::sleep(Duration::from_millis(50)).await,
            }
        }
    }

    /// Writes down where the server is and how its people sign in, for us alone.
    fn write_access(&self) -> Result<(), Failure> {
        let access = match fs::read_to_string(self.folder.join(PEOPLE)) {
            Ok(text) => text,
            // Its people were made by somebody else.
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(()),
            Err(e) => return Err(e.into()),
        };
        let DemoAccess { token, people } = serde_json::from_str(&access)?;
        let address = format!("http://{}", self.address);
        let access = serde_json::json!({ "address": address, "token": token, "people": people });
        let text = serde_json::to_string_pretty(&access)?;
        for_us_alone(&self.folder.join("access.json"), &text)?;
        Ok(())
    }

    fn server(&self) -> Result<Part, Failure> {
        let (address, key_file) = (&self.address, self.key_file());
        let public = [
            format!("http://{address}"),
            format!("http://localhost:{}", self.port),
            // Pages of the made-up site know it by a made-up name.
            format!("http://{COLLECT_HOST}"),
        ];
        let mut args = vec!["serve", "--listen", address, "--secret-key-file", &key_file];
        for url in &public {
            args.extend(["--public-url", url]);
        }
        // Stand-ins write whom they forward for.
        args.extend(["--trusted-proxy", "127.0.0.0/8", "--demo-sign-in"]);
        let smtp = format!("smtp://127.0.0.1:{}", self.smtp_port);
        args.extend(["--smtp-url", &smtp, "--mail-from", "Cadentis <cadentis@marram.example>"]);
        args.push("--notices-may-reach-private");
        self.start("server", &args)
    }

    /// Starts the made-up world, and waits until it says where everything is.
    async fn world(
        &self,
        parts: &mut Parts,
        cluster: &mut Option<Cluster>,
    ) -> Result<Whereabouts, Failure> {
        let say = self.folder.join("world.json");
        remove_if_there_file(&say)?;
        let told = say.to_string_lossy();
        let smtp = self.smtp_port.to_string();
        let args = [
            "world",
            "--server",
            &self.address,
            "--key",
            SITE_KEY,
            "--smtp-port",
            &smtp,
            "--say",
            &told,
        ];
        parts.0.push(self.start("stand-ins", &args)?);
        while !say.exists() {
            check(&mut parts.0, cluster)?;
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        Ok(serde_json::from_str(&fs::read_to_string(&say)?)?)
    }

    fn runner(&self, name: &'static str, kind: &str, there: &Whereabouts) -> Result<Part, Failure> {
        let tokens = fs::read_to_string(self.tokens())?;
        let tokens: HashMap<String, String> = serde_json::from_str(&tokens)?;
        let place = |p: &Place| {
            let (token, proxy) = (tokens.get(p.slug), there.proxies.get(p.slug));
            serde_json::json!({"name": p.slug, "token": token, "proxy": proxy})
        };
        let places: Vec<_> = PLACES.iter().filter(|p| p.kind == kind).map(place).collect();
        let file = self.folder.join(format!("runner-{kind}.json"));
        fs::write(&file, serde_json::to_string_pretty(&places)?)?;
        let (server, file) = (format!("http://{}", self.address), file.to_string_lossy());
        self.start(name, &["runner", "--server", &server, "--locations", &file])
    }
}

async fn parts(
    folder: &Path,
    url: &str,
    port: u16,
    days: i64,
    views: u64,
    runners: bool,
    cluster: &mut Option<Cluster>,
) -> Result<(), Failure> {
    let address = format!("127.0.0.1:{port}");
    // Taken ports are found before the long work, not after it.
    drop(
        std::net::TcpListener::bind(&address)
            .map_err(|e| format!("cannot listen on {address}: {e}; choose another with --port"))?,
    );
    let starting = Starting { folder, url, address, port, smtp_port: free_port()? };
    starting.seed(days, views).await?;
    let mut parts = Parts(vec![starting.server()?]);
    let there = starting.world(&mut parts, cluster).await?;
    // The made-up back end shows its traces on a port that it chose just now.
    let db = Db::connect(url)?;
    if let Some(site) = db.site_by_key(SITE_KEY).await? {
        let trace_link = format!("http://{}/traces/{{trace}}", there.booking);
        let site_id = site.id;
        db.set_site(&Site { trace_link, ..site }).await?;
        // And so does whoever takes what is told.
        for (name, path) in crate::seed::RECEIVERS {
            let address = format!("http://{}/{path}", there.outbox);
            db.move_destination(site_id, name, &address).await?;
        }
    }
    db.close().await;
    if runners {
        for (name, kind) in
            [("runner of the public locations", "public"), ("runner of the terminals", "in-house")]
        {
            parts.0.push(starting.runner(name, kind, &there)?);
        }
    }
    until_well(&starting.address, &mut parts, cluster).await?;
    starting.write_access()?;
    println!("What it tells is shown at http://{}", there.outbox);
    println!("Cadentis is ready: http://{}", starting.address);
    loop {
        check(&mut parts.0, cluster)?;
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
}

/// Waits until the server says that it is well.
async fn until_well(
    address: &str,
    parts: &mut Parts,
    cluster: &mut Option<Cluster>,
) -> Result<(), Failure> {
    let client = reqwest::Client::new();
    let until = Instant::now() + Duration::from_secs(60);
    loop {
        check(&mut parts.0, cluster)?;
        let asked = client.get(format!("http://{address}/healthz")).timeout(Duration::from_secs(2));
        if asked.send().await.is_ok_and(|a| a.status().is_success()) {
            return Ok(());
        }
        if Instant::now() > until {
            return Err("the server did not get well within a minute".into());
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

fn remove_if_there_file(file: &Path) -> Result<(), Failure> {
    match fs::remove_file(file) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(e.into()),
        _ => Ok(()),
    }
}

/// An error as soon as a part has ended.
fn check(parts: &mut [Part], cluster: &mut Option<Cluster>) -> Result<(), Failure> {
    for part in parts {
        if let Some(end) = part.process.try_wait()? {
            return Err(
                format!("the {} ended with {end}; ending everything else", part.name).into()
            );
        }
    }
    if cluster.as_mut().is_some_and(|c| !c.is_running()) {
        return Err("PostgreSQL ended; ending everything else".into());
    }
    Ok(())
}
