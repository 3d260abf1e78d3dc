//! What a run costs: our runner beside a bare WebDriver script of the same steps on the same site, runs a minute, and
//! memory over many runs. `cadentis-bench-runs [rounds] [runs for memory]`.

use cadentis_core::journey::{Journey, parse};
use cadentis_core::run::Outcome;
use cadentis_runner::film::Film;
use cadentis_runner::{Setting, play};
use cadentis_standins::network::{Path, Proxy};
use cadentis_standins::site::{Ports, Site};
use std::collections::HashMap;
use std::io::{BufRead, BufReader};
use std::net::SocketAddr;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use thirtyfour::prelude::*;

type Failure = Box<dyn std::error::Error + Send + Sync>;

const BOOK: &str = include_str!("../../../crates/cadentis/journeys/book-a-crossing.cadentis");

#[tokio::main(flavor = "multi_thread", worker_threads = 2)]
async fn main() -> Result<(), Failure> {
    let number = |nth: usize, usual: usize| {
        std::env::args().nth(nth).and_then(|a| a.parse().ok()).unwrap_or(usual)
    };
    let (rounds, many) = (number(1, 20), number(2, 0));
    let _ = rustls::crypto::ring::default_provider().install_default();
    cadentis_processes::adopt_orphans();
    let site = Site::start(Ports::default(), None)?;
    // No network between: what is measured is ours.
    let near = Path {
        round_trip_ms: 0.0,
        jitter_ms: 0.0,
        kb_per_s: 1e6,
        loss: 0.0,
        out: false,
        slow_to_connect: HashMap::new(),
    };
    let proxy = Proxy::start(near, site.hosts()).await?;
    let journey = parse(BOOK)?;
    let slim = cadentis_processes::chromium::slim();
    let (mut ours, mut bare, mut bare_slim) = (Vec::new(), Vec::new(), Vec::new());
    // In turns, so that a machine that slows down slows all.
    for round in 0..=rounds {
        let a = run(&journey, proxy.address).await?;
        let b = script(proxy.address, None).await?;
        let c = script(proxy.address, slim).await?;
        if round > 0 {
            ours.push(a.as_secs_f64());
            bare.push(b.as_secs_f64());
            bare_slim.push(c.as_secs_f64());
        }
    }
    let (a, b, c) = (median(&mut ours), median(&mut bare), median(&mut bare_slim));
    println!("a run, from starting the browser to its end, s\t{a:.2}");
    println!(
        "bare WebDriver script in the driver's own choice of Chromium, s\t{b:.2}\ttimes\t{:.2}",
        a / b
    );
    println!(
        "bare WebDriver script in the Chromium that runs are played in, s\t{c:.2}\ttimes\t{:.2}",
        a / c
    );
    for players in [1usize, 2] {
        let begun = Instant::now();
        let mut tasks = Vec::new();
        for _ in 0..players {
            let journey = journey.clone();
            let address = proxy.address;
            tasks.push(std::thread::spawn(move || -> Result<u32, String> {
                let runtime = tokio::runtime::Builder::new_current_thread()
                    .enable_all()
                    .build()
                    .map_err(|e| e.to_string())?;
                let mut runs = 0;
                while begun.elapsed() < Duration::from_secs(60) {
                    runtime.block_on(run(&journey, address)).map_err(|e| e.to_string())?;
                    runs += 1;
                }
                Ok(runs)
            }));
        }
        let mut runs = 0;
        for task in tasks {
            runs += task.join().map_err(|_| "a player panicked")??;
        }
        let minutes = begun.elapsed().as_secs_f64() / 60.0;
        println!("five-step runs a minute, {players} at a time\t{:.1}", f64::from(runs) / minutes);
    }
    for nth in 1..=many {
        run(&journey, proxy.address).await?;
        if nth.is_multiple_of((many / 10).max(1)) {
            println!("resident after {nth} runs, MB\t{:.1}", resident_mb());
        }
    }
    site.stop().await;
    Ok(())
}

fn median(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// Memory of this process, which holds runner, site and network.
fn resident_mb() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|l| l.strip_prefix("VmRSS:")).unwrap_or("");
    line.trim().trim_end_matches(" kB").parse::<f64>().unwrap_or(0.0) / 1024.0
}

async fn run(journey: &Journey, proxy: SocketAddr) -> Result<Duration, Failure> {
    let setting =
        Setting { proxy: Some(proxy), film: Some(Film::of_width(400)), ..Setting::default() };
    let begun = Instant::now();
    let record = play(journey, &setting, |_| {}).await;
    match record.outcome {
        Outcome::Passed | Outcome::Slow => Ok(begun.elapsed()),
        _ => Err(format!("{:?}", record.trouble).into()),
    }
}

/// The same steps as a person would write them who only has WebDriver: no evidence, no pictures, waiting by asking.
async fn script(proxy: SocketAddr, binary: Option<&str>) -> Result<Duration, Failure> {
    let begun = Instant::now();
    let mut process = Command::new("chromedriver")
        .arg("--port=0")
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()?;
    let mut said = BufReader::new(process.stdout.take().ok_or("it says nothing")?).lines();
    let port = said
        .by_ref()
        .map_while(Result::ok)
        .filter(|l| l.contains("successfully"))
        .find_map(|l| l.split("on port ").nth(1)?.trim_end_matches('.').parse::<u16>().ok())
        .ok_or("no port")?;
    std::thread::spawn(move || said.for_each(drop));
    let slim = binary.map_or("", |_| "-slim");
    let profile = std::env::temp_dir().join(format!("cadentis-bench-{}{slim}", std::process::id()));
    let mut caps = DesiredCapabilities::chrome();
    if let Some(binary) = binary {
        caps.set_binary(binary)?;
        caps.set("browserName", cadentis_processes::chromium::SLIM_NAME)?;
    }
    let more = [
        "--window-size=1280,800".to_string(),
        format!("--user-data-dir={}", profile.display()),
        format!("--proxy-server=socks5://{proxy}"),
        "--proxy-bypass-list=<-loopback>".to_string(),
    ];
    for flag in cadentis_processes::chromium::flags().into_iter().map(String::from).chain(more) {
        caps.add_arg(&flag)?;
    }
    let driver = WebDriver::new(&format!("http://127.0.0.1:{port}"), caps).await?;
    let there = async |css: &str| {
        let patience = (Duration::from_secs(10), Duration::from_millis(20));
        driver.query(By::Css(css)).wait(patience.0, patience.1).first().await
    };
    let shows = async |text: &str| {
        let path = format!("//*[contains(text(), '{text}')]");
        driver
            .query(By::XPath(path))
            .wait(Duration::from_secs(10), Duration::from_millis(20))
            .first()
            .await
    };
    driver.goto("http://book.marram.example/").await?;
    shows("Departures today").await?;
    there("#from option:nth-child(1)").await?.click().await?;
    there("#to option:nth-child(2)").await?.click().await?;
    there("form button").await?.click().await?;
    there("#map img").await?;
    there("[aria-label=Sailings]").await?;
    driver
        .query(By::PartialLinkText("08:15"))
        .wait(Duration::from_secs(10), Duration::from_millis(20))
        .first()
        .await?
        .click()
        .await?;
    shows("Cabin and passengers").await?;
    there("#lead").await?.send_keys("Ada Holm").await?;
    there("#count option:nth-child(2)").await?.click().await?;
    there("form button").await?.click().await?;
    shows("Your booking is held").await?;
    driver.query(By::LinkText("Boarding pass")).first().await?.click().await?;
    there("img[alt='Boarding code']").await?;
    driver.quit().await?;
    let took = begun.elapsed();
    process.kill()?;
    process.wait()?;
    let _ = std::fs::remove_dir_all(&profile);
    Ok(took)
}
