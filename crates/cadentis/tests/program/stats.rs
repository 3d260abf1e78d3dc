//! `cadentis stats` as one uses it.

use serde_json::Value;
use std::io::Write;
use std::process::{Command, Output, Stdio};

fn stats(args: &[&str], input: &str) -> Output {
    let mut process = Command::new(env!("CARGO_BIN_EXE_cadentis"))
        .arg("stats")
        .args(args)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("it starts");
    // It may end before it has read everything.
    let _ = process.stdin.take().expect("piped").write_all(input.as_bytes());
    process.wait_with_output().expect("it ends")
}

fn json(args: &[&str], input: &str) -> Value {
    let done = stats(&[&["--json"], args].concat(), input);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    serde_json::from_slice(&done.stdout).expect("JSON")
}

fn up_to(n: u32) -> String {
    (1..=n).map(|i| format!("{i}\n")).collect()
}

#[test]
fn numbers_one_a_line_give_percentiles_with_intervals_and_apdex() {
    let said = json(&["--apdex", "500"], &up_to(1_000));
    // Nearest rank of 1 to 1,000; ranks of the intervals from scipy's binomial.
    for (key, want) in [
        ("count", 1_000.0),
        ("bad_lines", 0.0),
        ("min", 1.0),
        ("max", 1_000.0),
        ("mean", 500.5),
        ("p50", 500.0),
        ("p75", 750.0),
        ("p90", 900.0),
        ("p95", 950.0),
        ("p99", 990.0),
    ] {
        assert_eq!(said[key].as_f64(), Some(want), "{key}");
    }
    assert_eq!(said["intervals"]["p95"], serde_json::json!([936.0, 964.0]));
    assert_eq!(said["method"], "nearest rank over all samples, exact");
    assert_eq!(
        (said["apdex"]["score"].as_f64(), said["apdex"]["t"].as_f64()),
        (Some(0.75), Some(500.0))
    );
    assert_eq!(said["apdex"]["satisfied"], 500);
}

#[test]
fn bad_lines_are_told_by_number_and_do_not_stop_it_unless_strict() {
    let text = "12\r\nfast\n 7.5 \n\nnan\n3e2";
    let done = stats(&["--json"], text);
    let said: Value = serde_json::from_slice(&done.stdout).expect("JSON");
    assert_eq!(
        (said["count"].as_u64(), said["bad_lines"].as_u64(), said["max"].as_f64()),
        (Some(3), Some(3), Some(300.0))
    );
    let told = String::from_utf8_lossy(&done.stderr);
    assert_eq!(
        told.lines().collect::<Vec<_>>(),
        [
            "line 2: \"fast\" is not a number",
            "line 4: \"\" is not a number",
            "line 5: \"nan\" is not a finite number"
        ]
    );
    let strict = stats(&["--strict"], text);
    assert_eq!(strict.status.code(), Some(1));
    assert_eq!(
        String::from_utf8_lossy(&strict.stderr).trim(),
        "cadentis: line 2: \"fast\" is not a number"
    );
    assert!(strict.stdout.is_empty());
}

#[test]
fn a_csv_column_is_found_by_name_or_number() {
    let csv = "page,\"time, ms\",size\nhome,120,4\n\"a\nb\",80,5\nbook,slow,6\n";
    for column in ["time, ms", "2"] {
        let said = json(&["--column", column], csv);
        assert_eq!(
            (said["count"].as_u64(), said["bad_lines"].as_u64(), said["mean"].as_f64()),
            (Some(2), Some(1), Some(100.0))
        );
    }
    let wrong = stats(&["--column", "speed"], csv);
    assert_eq!(wrong.status.code(), Some(1));
    let says = String::from_utf8_lossy(&wrong.stderr).into_owned();
    assert_eq!(
        says.trim(),
        "cadentis: line 1: no column is called \"speed\"; there are page, time, ms, size"
    );
    // The line of a bad number is counted in the file, not in records.
    assert!(
        String::from_utf8_lossy(&stats(&["--column", "2"], csv).stderr)
            .contains("line 5: \"slow\"")
    );
}

#[test]
fn a_sketch_says_the_same_within_a_hundredth_and_turns_negative_numbers_away() {
    let said = json(&["--sketch"], &(up_to(20_000) + "-4\n"));
    assert_eq!(
        (said["count"].as_u64(), said["bad_lines"].as_u64(), said["max"].as_f64()),
        (Some(20_000), Some(1), Some(20_000.0))
    );
    let p95 = said["p95"].as_f64().expect("a number");
    assert!((p95 - 19_000.0).abs() <= 190.0, "{p95}");
}

#[test]
fn nothing_is_no_data_and_a_file_that_is_not_there_is_named() {
    let said = json(&["--apdex", "1"], "");
    assert_eq!(
        (said["count"].as_u64(), &said["p50"], &said["apdex"]["score"]),
        (Some(0), &Value::Null, &Value::Null)
    );
    assert!(String::from_utf8_lossy(&stats(&[], "").stdout).contains("no data"));
    let gone = stats(&["no/such/file"], "");
    assert_eq!(gone.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&gone.stderr).contains("no/such/file: "));
    let folder = stats(&[env!("CARGO_MANIFEST_DIR")], "");
    assert!(
        String::from_utf8_lossy(&folder.stderr).contains("crates/cadentis: "),
        "a folder is no file"
    );
    assert_eq!(stats(&["--apdex", "-1"], "").status.code(), Some(1));
}

#[test]
fn the_text_names_its_method_marks_small_samples_and_draws_a_histogram() {
    let text = String::from_utf8(stats(&["--apdex", "20"], &up_to(40)).stdout).expect("text");
    for part in [
        "count   40",
        "p50     20.0   95 % interval 14.0 to 27.0",
        "p99     40.0   * too few samples",
        "Apdex   0.75 [20]*",
        "nearest rank",
        "█",
    ] {
        assert!(text.contains(part), "{part} in\n{text}");
    }
}
