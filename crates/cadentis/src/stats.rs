//! `cadentis stats`: what the core says about a plain list of numbers.

use crate::Failure;
use cadentis_core::stats::proof::{counted, plain};
use cadentis_core::stats::summary::SAID;
use cadentis_core::stats::{Reading, Summary};
use serde_json::{Map, Value, json};
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::num::NonZeroUsize;
use std::path::PathBuf;
use std::process::ExitCode;

#[derive(clap::Args)]
pub struct Args {
    /// One number a line, or CSV with --column; without it, or with -, standard input
    file: Option<PathBuf>,
    /// Read CSV: the column of that name in the first line, or that number from 1
    #[arg(long, value_name = "NAME or NUMBER")]
    column: Option<String>,
    /// Target of the Apdex score, in the unit of the numbers
    #[arg(long, value_name = "T", allow_negative_numbers = true)]
    apdex: Option<f64>,
    /// Say it as JSON
    #[arg(long)]
    json: bool,
    /// Constant memory, percentiles within 1 %; for numbers from 0 up
    #[arg(long)]
    sketch: bool,
    /// Stop at the first line that is no number
    #[arg(long)]
    strict: bool,
}

/// Lines that are no numbers are told one by one up to this many, then only counted.
const TOLD: u64 = 10;

/// 0 when the numbers could be read, 1 when not, or when --strict met a bad line.
pub fn stats(args: Args) -> Result<ExitCode, Failure> {
    if let Some(t) = args.apdex.filter(|t| !t.is_finite() || *t <= 0.0) {
        return Err(format!(
            "--apdex {t}: the target is a number above 0, in the unit of the numbers"
        )
        .into());
    }
    let input: Box<dyn Read> = match args.file.as_deref().filter(|f| f.as_os_str() != "-") {
        Some(path) => Box::new(File::open(path).map_err(|e| format!("{}: {e}", path.display()))?),
        None => Box::new(io::stdin().lock()),
    };
    let summary =
        if args.sketch { Summary::sketched(args.apdex) } else { Summary::exact(args.apdex) };
    let mut counting = Counting { summary, bad: 0, strict: args.strict };
    let read = match &args.column {
        Some(column) => counting.csv(input, column),
        None => counting.lines(input),
    };
    // What went wrong with a line says so itself; where reading failed, the file is worth naming.
    read.map_err(|e| match (e.downcast_ref::<io::Error>(), &args.file) {
        (Some(failed), Some(path)) => format!("{}: {failed}", path.display()).into(),
        _ => e,
    })?;
    let Counting { summary, bad, .. } = counting;
    if bad > TOLD {
        eprintln!("{} more lines are no numbers", counted(bad - TOLD));
    }
    let said =
        if args.json { format!("{}\n", as_json(&summary, bad)) } else { as_text(&summary, bad) };
    match io::stdout().write_all(said.as_bytes()) {
        // Whoever reads has seen enough.
        Err(e) if e.kind() == io::ErrorKind::BrokenPipe => Ok(ExitCode::SUCCESS),
        done => Ok(done.map(|()| ExitCode::SUCCESS)?),
    }
}

struct Counting {
    summary: Summary,
    bad: u64,
    strict: bool,
}

impl Counting {
    /// Counts what one line says, or the line as bad.
    fn take(&mut self, line: u64, text: &[u8]) -> Result<(), Failure> {
        let text = text.trim_ascii();
        let number = std::str::from_utf8(text).ok().and_then(|t| t.parse::<f64>().ok());
        let why = match number {
            Some(value) => match self.summary.add(value) {
                Ok(()) => return Ok(()),
                Err(e) => e.to_string(),
            },
            None => "not a number".to_string(),
        };
        self.bad += 1;
        let shown: String = String::from_utf8_lossy(text).chars().take(40).collect();
        let says = format!("line {line}: {shown:?} is {why}");
        if self.strict {
            return Err(says.into());
        }
        if self.bad <= TOLD {
            eprintln!("{says}");
        }
        Ok(())
    }

    fn lines(&mut self, input: impl Read) -> Result<(), Failure> {
        let mut input = BufReader::with_capacity(1 << 20, input);
        // The beginning of a line whose end has not been read yet.
        let mut begun: Vec<u8> = Vec::new();
        let mut line = 0;
        loop {
            let block = input.fill_buf()?;
            if block.is_empty() {
                break;
            }
            let mut rest = block;
            while let Some(end) = memchr::memchr(b'\n', rest) {
                line += 1;
                if begun.is_empty() {
                    self.take(line, &rest[..end])?;
                } else {
                    begun.extend_from_slice(&rest[..end]);
                    self.take(line, &begun)?;
                    begun.clear();
                }
                rest = &rest[end + 1..];
            }
            begun.extend_from_slice(rest);
            let read = block.len();
            input.consume(read);
        }
        if begun.is_empty() { Ok(()) } else { self.take(line + 1, &begun) }
    }

    fn csv(&mut self, input: impl Read, column: &str) -> Result<(), Failure> {
        let mut reader = csv::ReaderBuilder::new()
            .has_headers(false)
            .flexible(true)
            .buffer_capacity(1 << 20)
            .from_reader(input);
        let mut record = csv::ByteRecord::new();
        let mut place = column.parse::<usize>().ok().and_then(|n| n.checked_sub(1));
        let by_name = place.is_none();
        let mut first = true;
        while reader.read_byte_record(&mut record)? {
            let line = record.position().map_or(0, csv::Position::line);
            if std::mem::take(&mut first) {
                let names: Vec<String> =
                    record.iter().map(|f| String::from_utf8_lossy(f).trim().to_string()).collect();
                if by_name {
                    let name =
                        names.iter().position(|n| n.trim_start_matches('\u{feff}') == column);
                    place = Some(name.ok_or_else(|| {
                        format!(
                            "line 1: no column is called {column:?}; there are {}",
                            names.join(", ")
                        )
                    })?);
                    continue;
                }
                // A first line of names is no mistake.
                if place.and_then(|p| names.get(p)).is_some_and(|n| n.parse::<f64>().is_err()) {
                    continue;
                }
            }
            let place = place.unwrap_or(0);
            self.take(line, record.get(place).unwrap_or(b""))?;
        }
        Ok(())
    }
}

fn names() -> [String; 5] {
    SAID.map(|p| format!("p{:.0}", p * 100.0))
}

fn as_json(summary: &Summary, bad: u64) -> Value {
    let readings = summary.readings();
    let mut said = Map::new();
    said.insert("count".into(), json!(summary.count()));
    said.insert("bad_lines".into(), json!(bad));
    said.insert("min".into(), json!(summary.min()));
    said.insert("max".into(), json!(summary.max()));
    said.insert("mean".into(), json!(summary.mean()));
    let mut intervals = Map::new();
    for (name, reading) in names().into_iter().zip(&readings) {
        intervals.insert(name.clone(), json!(reading.interval.map(|i| [i.low, i.high])));
        said.insert(name, json!(reading.value));
    }
    said.insert("method".into(), json!(summary.method()));
    said.insert("intervals".into(), Value::Object(intervals));
    let apdex = summary.apdex().map(|(t, a)| {
        json!({
            "t": t, "score": a.score(), "satisfied": a.satisfied, "tolerating": a.tolerating,
            "frustrated": a.frustrated, "small_group": a.is_small_group(),
        })
    });
    said.insert("apdex".into(), json!(apdex));
    Value::Object(said)
}

fn as_text(summary: &Summary, bad: u64) -> String {
    let shown = |v: Option<f64>| v.map_or("no data".into(), plain);
    let mut said = format!("count   {}\n", counted(summary.count()));
    if bad > 0 {
        said += &format!("bad     {} lines that are no numbers, left out\n", counted(bad));
    }
    said += &format!("mean    {}\nmin     {}\n", shown(summary.mean()), shown(summary.min()));
    let readings = summary.readings();
    let width = readings.iter().map(|r| shown(r.value).len()).max().unwrap_or(0);
    for (name, reading) in names().iter().zip(&readings) {
        said += &format!("{name}     {:<width$}{}\n", shown(reading.value), interval(reading));
    }
    said += &format!("max     {}\n", shown(summary.max()));
    if let Some((t, apdex)) = summary.apdex() {
        let score = apdex.score().map_or("NS".into(), |s| format!("{s:.2}"));
        said += &format!(
            "Apdex   {score} [{t}]{}   {} satisfied, {} tolerating, {} frustrated\n",
            if apdex.is_small_group() { "*" } else { "" },
            counted(apdex.satisfied),
            counted(apdex.tolerating),
            counted(apdex.frustrated)
        );
    }
    said += &format!("method  {}\n", summary.method());
    let bins = summary.histogram(NonZeroUsize::new(12).unwrap_or(NonZeroUsize::MIN));
    let most = bins.iter().map(|b| b.2).max().unwrap_or(0).max(1);
    let edges: Vec<(String, String)> =
        bins.iter().map(|(a, b, _)| (plain(*a), plain(*b))).collect();
    let wide = edges.iter().flat_map(|(a, b)| [a.len(), b.len()]).max().unwrap_or(0);
    if !bins.is_empty() {
        said.push('\n');
    }
    for ((from, to), (.., n)) in edges.iter().zip(&bins) {
        let bar = "█".repeat(((*n as f64 / most as f64) * 40.0).ceil() as usize);
        said += &format!("{from:>wide$} – {to:>wide$}  {bar:<40}  {}\n", counted(*n));
    }
    said
}

fn interval(reading: &Reading) -> String {
    match reading.interval {
        Some(i) => format!("   95 % interval {} to {}", plain(i.low), plain(i.high)),
        None if reading.value.is_some() => "   * too few samples for an interval".into(),
        None => String::new(),
    }
}
