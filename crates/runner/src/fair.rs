//! Whether this machine could measure fairly: CPU taken away, waking up late, a network of our own
//! that is out, a clock that is off.
//!
//! A run that could not be measured fairly is unmeasured: our own trouble is never held against the
//! site.

use crate::wire::Wire;
use cadentis_core::run::reach::Denied;
use cadentis_core::run::{Outcome, RunRecord, Trouble};
use jiff::{SignedDuration, Timestamp};
use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// From this share of CPU time on that the host gave to others, nothing here can be timed.
const STEAL: f64 = 0.10;
/// Something that sleeps 20 ms and is woken this much later, one time in twenty, cannot time a page.
const LATE: Duration = Duration::from_millis(60);
const NAP: Duration = Duration::from_millis(20);
/// Fewer naps say nothing.
const LEAST_NAPS: usize = 20;

/// CPU time since the machine started, in ticks: all of it, and what the host gave to others.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Cpu {
    all: u64,
    stolen: u64,
}

impl Cpu {
    /// Reads the first line of `/proc/stat`: user nice system idle iowait irq softirq steal (proc_stat(5)).
    pub fn read(stat: &str) -> Option<Cpu> {
        let line = stat.lines().next()?.strip_prefix("cpu ")?;
        let ticks: Vec<u64> =
            line.split_whitespace().take(8).map_while(|t| t.parse().ok()).collect();
        (ticks.len() == 8).then(|| Cpu { all: ticks.iter().sum(), stolen: ticks[7] })
    }

    fn now() -> Option<Cpu> {
        Cpu::read(&std::fs::read_to_string("/proc/stat").ok()?)
    }

    /// The share that was taken away since `before`.
    pub fn stolen_since(self, before: Cpu) -> f64 {
        let all = self.all.saturating_sub(before.all);
        if all == 0 { 0.0 } else { self.stolen.saturating_sub(before.stolen) as f64 / all as f64 }
    }
}

/// Watches the machine from its beginning until [`Watch::verdict`].
pub struct Watch {
    before: Option<Cpu>,
    stop: Arc<AtomicBool>,
    late: Arc<Mutex<Vec<Duration>>>,
}

impl Watch {
    pub fn begin() -> Watch {
        let (stop, late) = (Arc::new(AtomicBool::new(false)), Arc::new(Mutex::new(Vec::new())));
        let (until, noted) = (stop.clone(), late.clone());
        // A thread of its own: what is measured is the machine, not our own tasks.
        std::thread::spawn(move || {
            while !until.load(Ordering::Relaxed) {
                let begun = Instant::now();
                std::thread::sleep(NAP);
                if let Ok(mut noted) = noted.lock() {
                    noted.push(begun.elapsed().saturating_sub(NAP));
                }
            }
        });
        Watch { before: Cpu::now(), stop, late }
    }

    /// What was unfair about the machine, if anything was.
    pub fn verdict(self) -> Option<String> {
        let stolen =
            Cpu::now().zip(self.before).map_or(0.0, |(now, before)| now.stolen_since(before));
        let late = self.late.lock().map(|l| l.clone()).unwrap_or_default();
        unfair(stolen, late)
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}

fn unfair(stolen: f64, mut late: Vec<Duration>) -> Option<String> {
    if stolen > STEAL {
        return Some(format!(
            "The host gave {:.0} % of this machine's CPU time to others",
            stolen * 100.0
        ));
    }
    late.sort_unstable();
    let p95 = late
        .get((late.len() * 95).div_ceil(100).saturating_sub(1))
        .filter(|_| late.len() >= LEAST_NAPS)?;
    (*p95 > LATE).then(|| {
        format!(
            "This machine is short of CPU: it woke up {} ms late, one time in twenty",
            p95.as_millis()
        )
    })
}

/// Makes a run unmeasured that this machine could not measure fairly. A failed run is one, too, when the
/// control address cannot be reached either.
pub async fn judge(
    record: &mut RunRecord,
    watch: Watch,
    control: Option<&str>,
    proxy: Option<SocketAddr>,
) {
    let mut verdict = watch.verdict();
    if let (None, Outcome::Failed, Some(control)) = (&verdict, record.outcome, control) {
        let wire = Wire { proxy, roots: Vec::new(), denied: Denied::default() };
        if let Err(e) = wire.open(control, false, Duration::from_secs(5)).await {
            verdict = Some(format!(
                "The network of this location is out: the control address is not reached either ({e})"
            ));
        }
    }
    if let (Some(says), true) = (verdict, record.outcome != Outcome::Unmeasured) {
        let was = record
            .trouble
            .take()
            .map(|t| format!(" It would have been {}: {}", record.outcome.word(), t.says));
        record.trouble =
            Some(Trouble { line: 0, says: format!("{says}.{}", was.unwrap_or_default()) });
        record.outcome = Outcome::Unmeasured;
    }
}

/// How far the server's clock is ahead of ours, from the moments we asked and were answered. Half the
/// round trip is taken for each way.
pub fn clock_offset(asked: Timestamp, answered: Timestamp, server: Timestamp) -> SignedDuration {
    let middle = asked + answered.duration_since(asked) / 2;
    server.duration_since(middle)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stolen_time_is_read_from_the_kernels_own_figures() {
        let read = |steal: u64, idle: u64| {
            Cpu::read(&format!("cpu  100 0 50 {idle} 0 0 0 {steal} 0 0\ncpu0 1 2 3"))
                .expect("figures")
        };
        assert_eq!(read(30, 920).stolen_since(read(10, 840)), 0.2);
        assert_eq!(read(10, 840).stolen_since(read(10, 840)), 0.0);
        assert_eq!(Cpu::read("cpu 1 2 three"), None);
    }

    #[test]
    fn a_machine_that_wakes_up_late_is_short_of_cpu_and_a_single_hiccup_is_not() {
        let ms = Duration::from_millis;
        let naps = |late: usize| [vec![ms(1); 100 - late], vec![ms(200); late]].concat();
        assert_eq!(unfair(0.0, naps(4)), None);
        assert!(unfair(0.0, naps(10)).is_some_and(|s| s.contains("200 ms late")));
        assert!(unfair(0.11, naps(0)).is_some_and(|s| s.contains("11 %")));
        assert_eq!(unfair(0.0, vec![ms(500); 5]), None, "five naps say nothing");
    }

    #[test]
    fn the_clock_is_compared_in_the_middle_of_the_round_trip() {
        let at = |ms: i64| Timestamp::from_millisecond(ms).expect("a moment");
        assert_eq!(
            clock_offset(at(1_000), at(1_400), at(3_200)),
            SignedDuration::from_millis(2_000)
        );
        assert_eq!(clock_offset(at(1_000), at(1_400), at(1_200)), SignedDuration::ZERO);
    }

    #[tokio::test]
    async fn a_failed_run_is_ours_when_the_control_address_is_not_reached_either() {
        let record = || RunRecord {
            id: uuid::Uuid::nil(),
            started_at: Timestamp::UNIX_EPOCH,
            outcome: Outcome::Failed,
            duration_ms: 0.0,
            trouble: Some(Trouble { line: 3, says: "Not reached.".into() }),
            steps: Vec::new(),
            browser: String::new(),
            runner: String::new(),
            device: "desktop".into(),
            trial: false,
        };
        let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
        let there = listener.local_addr().expect("an address").to_string();
        let mut reached = record();
        judge(&mut reached, Watch::begin(), Some(&there), None).await;
        assert_eq!(reached.outcome, Outcome::Failed);
        drop(listener);
        let mut out = record();
        judge(&mut out, Watch::begin(), Some(&there), None).await;
        assert_eq!(out.outcome, Outcome::Unmeasured);
        let says = out.trouble.expect("trouble").says;
        assert!(
            says.contains("control address")
                && says.ends_with("It would have been failed: Not reached."),
            "{says}"
        );
    }
}
