//! The core's own times, one line a measure: name, median of several rounds in milliseconds.
//!
//! `bench/run` sets them beside numpy, sort and wc in the same run. With a folder as argument, the
//! numbers that all of them read are written there first.

use cadentis_core::calendar::stretch::at_second;
use cadentis_core::calendar::{Cover, Stretch};
use cadentis_core::goal::burn::PAIRS;
use cadentis_core::goal::{Combine, Measure, Minutes, Period, Promise, Track, Verdict, measure};
use cadentis_core::run::Har;
use cadentis_core::stats::{Sketch, readings, select};
use jiff::tz::TimeZone;
use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};
use rand_distr::{Distribution, LogNormal};
use std::fmt::Write as _;
use std::hint::black_box;
use std::io::Write as _;
use std::time::Instant;

const MANY: usize = 10_000_000;

/// Median of seven rounds, the first thrown away.
fn timed<T>(name: &str, mut work: impl FnMut() -> T) -> f64 {
    black_box(work());
    let mut rounds: Vec<f64> = (0..7)
        .map(|_| {
            let begun = Instant::now();
            black_box(work());
            begun.elapsed().as_secs_f64() * 1000.0
        })
        .collect();
    rounds.sort_by(f64::total_cmp);
    println!("{name}\t{:.4}", rounds[3]);
    rounds[3]
}

fn times() -> Vec<f64> {
    let mut random = SmallRng::seed_from_u64(1);
    let spread = LogNormal::new(6.5, 0.7).expect("a spread");
    (0..MANY).map(|_| spread.sample(&mut random)).collect()
}

fn main() -> std::io::Result<()> {
    let data = times();
    if let Some(folder) = std::env::args().nth(1) {
        let bytes: Vec<u8> = data.iter().flat_map(|v| v.to_le_bytes()).collect();
        std::fs::write(format!("{folder}/times.f64"), bytes)?;
        let mut lines =
            std::io::BufWriter::new(std::fs::File::create(format!("{folder}/times.txt"))?);
        for v in &data {
            writeln!(lines, "{v:.3}")?;
        }
        return lines.flush();
    }
    let ps = [0.5, 0.75, 0.95, 0.99];
    timed("four percentiles of 10 million", || {
        select::at_ranks(&data, |n| {
            ps.iter().map(|p| cadentis_core::stats::percentile::rank(n, *p)).collect()
        })
    });
    timed("the same with their intervals", || readings(&data, &ps));
    timed("10 million into a sketch", || {
        let mut sketch = Sketch::default();
        sketch.add_all(&data);
        sketch
    });
    sketches(&data);
    month();
    archive();
    Ok(())
}

/// 720 hours, each with its own level and 2,000 page views.
fn sketches(data: &[f64]) {
    let hours: Vec<Sketch> = data
        .chunks_exact(2_000)
        .take(720)
        .enumerate()
        .map(|(i, chunk)| {
            Sketch::of(chunk.iter().map(|v| v * (1.0 + 0.3 * (i as f64 / 24.0).sin())))
        })
        .collect();
    let merged = || {
        let mut all = Sketch::default();
        hours.iter().for_each(|h| all.merge(h));
        [0.5, 0.75, 0.95, 0.99].map(|p| all.percentile(p))
    };
    timed("merge 720 sketches, four percentiles", merged);
    let bytes: Vec<Vec<u8>> = hours.iter().map(Sketch::to_bytes).collect();
    timed("the same from their bytes", || {
        let mut all = Sketch::default();
        bytes.iter().filter_map(|b| Sketch::from_bytes(b).ok()).for_each(|h| all.merge(&h));
        [0.5, 0.75, 0.95, 0.99].map(|p| all.percentile(p))
    });
    let mut sizes: Vec<usize> = bytes.iter().map(Vec::len).collect();
    sizes.sort_unstable();
    println!("bytes of an hour's sketch, median\t{}", sizes[360]);
}

/// Thirty days, every minute, from twenty locations.
fn month() {
    let mut random = SmallRng::seed_from_u64(2);
    let runs: Vec<Vec<_>> = (0..20)
        .map(|l| {
            let verdict = |random: &mut SmallRng| match random.random_range(0..1_000) {
                0..3 => Verdict::Bad,
                3..5 => Verdict::Unmeasured,
                _ => Verdict::Good,
            };
            (0..43_200).map(|m| (at_second(m * 60 + l * 3), verdict(&mut random))).collect()
        })
        .collect();
    let tracks: Vec<Track> = runs
        .iter()
        .enumerate()
        .map(|(l, runs)| Track { journey: 1, location: l as i32, runs })
        .collect();
    let stretch = Stretch { from: at_second(0), to: at_second(43_200 * 60) };
    let nights = (0..30).map(|d| Stretch {
        from: at_second(d * 86_400 + 7_200),
        to: at_second(d * 86_400 + 9_000),
    });
    let counted = Cover::from(stretch).without(&Cover::of(nights));
    let zone = TimeZone::UTC;
    timed(
        "a month of 864,000 runs: availability, uptime, error budget, burn rates, forecast",
        || {
            let availability =
                measure::score(&Measure::Availability, Combine::Pooled, &tracks, 60, &counted);
            let uptime = measure::score(&Measure::Uptime, Combine::Pooled, &tracks, 60, &counted);
            let promise = Promise {
                promised: 0.995,
                period: Period::Days(30),
                zone: &zone,
                counted: &counted,
            };
            let budget = promise.budget(stretch.to, availability);
            let minutes = Minutes::of(&tracks, &counted, stretch);
            let burns = minutes.burns(&PAIRS, 0.995, stretch.to);
            (uptime.share(), budget.left_ms(), burns, minutes.forecast(&budget, stretch.to, 86_400))
        },
    );
}

/// An archive of 1,000 entries as another program writes it, headers and all.
fn archive() {
    let mut entries = String::new();
    for i in 0..1_000 {
        let comma = if i == 0 { "" } else { "," };
        let headers: Vec<String> = (0..12)
            .map(|h| {
                format!(r#"{{"name":"x-header-{h}","value":"value of header {h} of entry {i}"}}"#)
            })
            .collect();
        let headers = headers.join(",");
        let _ = write!(
            entries,
            r#"{comma}{{"pageref":"p1","startedDateTime":"2026-11-22T08:30:{:02}.{:03}Z","time":103,"_own":{{"a":[1,2,3]}},
            "request":{{"method":"GET","url":"https://host{}.example/part/{i}?v=1","httpVersion":"h2","headers":[{headers}],"cookies":[],"queryString":[],"headersSize":-1,"bodySize":0}},
            "response":{{"status":200,"statusText":"","httpVersion":"h2","headers":[{headers}],"cookies":[],"content":{{"size":5120,"mimeType":"text/javascript"}},"redirectURL":"","headersSize":-1,"bodySize":4096}},
            "cache":{{}},"timings":{{"blocked":3,"dns":-1,"connect":40,"ssl":25,"send":0,"wait":50,"receive":10}}}}"#,
            i / 1_000 + i % 60,
            i % 1_000,
            i % 20
        );
    }
    let text = format!(
        r#"{{"log":{{"version":"1.2","creator":{{"name":"x","version":"1"}},"pages":[{{"startedDateTime":"2026-11-22T08:30:00Z","id":"p1","title":"t","pageTimings":{{}}}}],"entries":[{entries}]}}}}"#
    );
    println!("bytes of the archive\t{}", text.len());
    timed("an archive of 1,000 entries, read and analysed", || {
        let har = Har::read(&text).expect("it is one");
        har.hosts()
    });
}
