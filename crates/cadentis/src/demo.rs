//! `cadentis demo`: everything at once, in the foreground, gone when it ends.
//!
//! The parts are processes of their own, as they would be in earnest: PostgreSQL, the server, the
//! stand-ins, two runners. When one of them fails, or we are asked to end, all of them end.

use crate::seed::SITE_KEY;
use crate::world::{COLLECT_HOST, Whereabouts};
use crate::{Failure, asked_to_end};
use cadentis_processes as children;
use cadentis_standins::places::PLACES;
use cadentis_standins::postgres::{Care, Cluster};
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

async fn parts(
    folder: &Path,
    url: &str,
    port: u16,
    days: i64,
    views: u64,
    runners: bool,
    cluster: &mut Option<Cluster>,
) -> Result<(), Failure> {
    let us = std::env::current_exe()?;
    let start = |name: &'static str, args: &[&str]| -> Result<Part, Failure> {
        let mut command = Command::new(&us);
        command.args(args).env("DATABASE_URL", url);
        if name != "server" && name != "seed" {
            command.env_remove("DATABASE_URL");
        }
        children::bind_to_us(&mut command);
        Ok(Part {
            name,
            process: command.spawn().map_err(|e| format!("cannot start {name}: {e}"))?,
        })
    };
    let address = format!("127.0.0.1:{port}");
    let (say, tokens) = (folder.join("world.json"), folder.join("tokens.json"));
    let key = folder.join("secret.key");
    remove_if_there_file(&say)?;
    // Taken ports are found before the long work, not after it.
    drop(
        std::net::TcpListener::bind(&address)
            .map_err(|e| format!("cannot listen on {address}: {e}; choose another with --port"))?,
    );

    let (days, views) = (days.to_string(), views.to_string());
    let key_file = key.to_string_lossy().into_owned();
    // Made once: what was sealed with it must open again.
    let mut sealed = vec!["--secret-key-file", &key_file];
    if !key.exists() {
        sealed.push("--new-key");
    }
    let seed = ["seed", "--days", &days, "--views", &views, "--tokens", &tokens.to_string_lossy()];
    let mut seeding = Parts(vec![start("seed", &[seed.as_slice(), &sealed].concat())?]);
    loop {
        match seeding.0[0].process.try_wait()? {
            Some(end) if end.success() => break,
            Some(end) => return Err(format!("seeding ended with {end}").into()),
            None => tokio::time::sleep(Duration::from_millis(50)).await,
        }
    }
    let mut parts = Parts(vec![
        start(
            "server",
            &[
                ["serve", "--listen", &address, "--secret-key-file", &key_file].as_slice(),
                // Pages of the made-up site know it by a made-up name; stand-ins write whom they forward for.
                &[
                    "--public-url",
                    &format!("http://{address}"),
                    "--public-url",
                    &format!("http://localhost:{port}"),
                ],
                &[
                    "--public-url",
                    &format!("http://{COLLECT_HOST}"),
                    "--trusted-proxy",
                    "127.0.0.0/8",
                ],
            ]
            .concat(),
        )?,
        start(
            "stand-ins",
            &["world", "--server", &address, "--key", SITE_KEY, "--say", &say.to_string_lossy()],
        )?,
    ]);
    while !say.exists() {
        check(&mut parts.0, cluster)?;
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let there: Whereabouts = serde_json::from_str(&fs::read_to_string(&say)?)?;
    // The made-up back end shows its traces on a port that it chose just now.
    let db = Db::connect(url)?;
    for site in db.sites().await? {
        let trace_link = format!("http://{}/traces/{{trace}}", there.booking);
        db.set_site(&Site { trace_link, ..site }).await?;
    }
    db.close().await;
    if runners {
        let tokens: HashMap<String, String> = serde_json::from_str(&fs::read_to_string(&tokens)?)?;
        for (name, kind) in
            [("runner of the public locations", "public"), ("runner of the terminals", "in-house")]
        {
            let places: Vec<_> = PLACES
                .iter()
                .filter(|p| p.kind == kind)
                .map(|p| serde_json::json!({"name": p.slug, "token": tokens.get(p.slug), "proxy": there.proxies.get(p.slug)}))
                .collect();
            let file = folder.join(format!("runner-{kind}.json"));
            fs::write(&file, serde_json::to_string_pretty(&places)?)?;
            parts.0.push(start(
                name,
                &[
                    "runner",
                    "--server",
                    &format!("http://{address}"),
                    "--locations",
                    &file.to_string_lossy(),
                ],
            )?);
        }
    }
    let client = reqwest::Client::new();
    let until = Instant::now() + Duration::from_secs(60);
    loop {
        check(&mut parts.0, cluster)?;
        let answer = client
            .get(format!("http://{address}/healthz"))
            .timeout(Duration::from_secs(2))
            .send()
            .await;
        if answer.is_ok_and(|a| a.status().is_success()) {
            break;
        }
        if Instant::now() > until {
            return Err("the server did not get well within a minute".into());
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    println!("Cadentis is ready: http://{address}");
    loop {
        check(&mut parts.0, cluster)?;
        tokio::time::sleep(Duration::from_millis(300)).await;
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
