//! How the demo ends.

use cadentis_e2e::Demo;
use cadentis_standins::postgres::Cluster;
use std::time::{Duration, Instant};

fn command_line(pid: i32) -> String {
    std::fs::read_to_string(format!("/proc/{pid}/cmdline")).unwrap_or_default().replace('\0', " ")
}

#[test]
fn a_failing_part_ends_everything_the_demo_started_and_nothing_else() {
    let mut cluster = Cluster::scratch().expect("PostgreSQL is installed");
    let url = cluster.create_database("demo").expect("a database");
    let mut demo = Demo::start_on(Some(&url), &["--no-runners"]);
    let started = cadentis_processes::below(demo.process.id() as i32);
    assert!(
        !started.iter().any(|p| command_line(*p).contains("postgres -D")),
        "it was given a database"
    );
    let server =
        started.iter().copied().find(|p| command_line(*p).contains(" serve ")).expect("a server");
    cadentis_processes::signal(server, libc::SIGKILL);
    let until = Instant::now() + Duration::from_secs(20);
    let end = loop {
        if let Ok(Some(end)) = demo.process.try_wait() {
            break end;
        }
        assert!(Instant::now() < until, "the demo goes on without its server");
        std::thread::sleep(Duration::from_millis(50));
    };
    assert!(!end.success());
    let left: Vec<String> =
        started.into_iter().map(command_line).filter(|c| c.contains("cadentis")).collect();
    assert!(left.is_empty(), "{left:?}");
    assert!(cluster.is_running(), "the database was not the demo's to end");
}
