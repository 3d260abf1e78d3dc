//! What a runner that ended badly left behind: profiles and files in the folder for temporary files, and browsers that still
//! use them. Each name tells which process made it.

use std::fs;
use std::path::{Path, PathBuf};
use uuid::Uuid;

const PREFIX: &str = "cadentis-";

/// A new folder's path, not yet made, that says whose it is.
pub fn folder(what: &str) -> PathBuf {
    std::env::temp_dir().join(format!("{PREFIX}{what}-{}-{}", std::process::id(), Uuid::new_v4()))
}

/// The process that made this folder, if it is one of ours.
fn maker(path: &Path) -> Option<u32> {
    let name = path.file_name()?.to_str()?.strip_prefix(PREFIX)?;
    let (_, rest) =
        name.split_once('-').filter(|(what, _)| matches!(*what, "profile" | "upload"))?;
    let (pid, id) = rest.split_once('-')?;
    id.parse::<Uuid>().ok()?;
    pid.parse().ok()
}

fn is_alive(pid: u32) -> bool {
    Path::new("/proc").join(pid.to_string()).exists()
}

/// Removes what processes that are gone left in `place`, and ends browsers that still use it. Answers how many folders
/// left.
pub fn sweep(place: &Path) -> usize {
    let left = |path: &PathBuf| maker(path).is_some_and(|pid| !is_alive(pid));
    let folders: Vec<PathBuf> = fs::read_dir(place)
        .into_iter()
        .flatten()
        .flatten()
        .map(|f| f.path())
        .filter(left)
        .collect();
    for pid in users_of(&folders) {
        cadentis_processes::signal(pid, libc::SIGKILL);
    }
    folders.iter().filter(|folder| fs::remove_dir_all(folder).is_ok()).count()
}

/// Processes whose command line names one of these folders as a browser's profile.
fn users_of(folders: &[PathBuf]) -> Vec<i32> {
    if folders.is_empty() {
        return Vec::new();
    }
    let named: Vec<String> =
        folders.iter().map(|f| format!("--user-data-dir={}", f.display())).collect();
    let uses = |pid: &i32| {
        let line = fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
        let line = String::from_utf8_lossy(&line);
        line.split('\0').any(|word| named.iter().any(|n| n == word))
    };
    let pids = fs::read_dir("/proc").into_iter().flatten().flatten();
    pids.filter_map(|entry| entry.file_name().to_str()?.parse::<i32>().ok()).filter(uses).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_dead_process_left_is_swept_and_what_lives_or_is_not_ours_stays() {
        let place = std::env::temp_dir().join(format!("sweep-{}", Uuid::new_v4()));
        let mut child = std::process::Command::new("true").spawn().expect("there is one");
        let dead = child.id();
        child.wait().expect("ended");
        let of = |name: String| place.join(name);
        let gone = of(format!("cadentis-profile-{dead}-{}", Uuid::new_v4()));
        let ours = of(format!("cadentis-profile-{}-{}", std::process::id(), Uuid::new_v4()));
        let strange = of(format!("cadentis-profile-{dead}-notes"));
        for folder in [&gone, &ours, &strange] {
            fs::create_dir_all(folder).expect("made");
        }
        let user = format!("sleep 60 # --user-data-dir={}", gone.display());
        let mut browser = std::process::Command::new("sh")
            .args(["-c", "sleep 60; :", &format!("--user-data-dir={}", gone.display())])
            .spawn()
            .expect(&user);
        // A process is there a moment before its command line is.
        let line = format!("/proc/{}/cmdline", browser.id());
        let until = std::time::Instant::now() + std::time::Duration::from_secs(10);
        while !fs::read(&line).is_ok_and(|l| l.windows(9).any(|w| w == b"sleep 60;")) {
            assert!(std::time::Instant::now() < until, "it starts");
            std::thread::sleep(std::time::Duration::from_millis(5));
        }
        assert_eq!(sweep(&place), 1);
        assert!(!gone.exists() && ours.exists() && strange.exists());
        assert!(!browser.wait().expect("ended").success(), "the browser that used it was ended");
        let _ = fs::remove_dir_all(&place);
    }
}
