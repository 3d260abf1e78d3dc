//! Processes that must not outlive us.
//!
//! A child is told by the kernel (`PR_SET_PDEATHSIG`) when the thread that started it ends, so
//! children are started from a thread that lives as long as the program. Grandchildren, such as the
//! browser under its driver, come to us when their parent dies because we are their subreaper, and
//! [`end_all`] finds them below us in the process tree.

pub mod chromium;

use std::collections::HashMap;
use std::io;
use std::os::unix::process::CommandExt;
use std::process::Command;
use std::time::{Duration, Instant};

/// Makes the child end with us: a SIGTERM arrives when the starting thread is gone.
///
/// Call it after `uid` and `gid` are set: the kernel forgets the wish when credentials change.
pub fn bind_to_us(command: &mut Command) -> &mut Command {
    // SAFETY: prctl and getppid are async-signal-safe and touch no memory of ours.
    unsafe {
        let parent = libc::getpid();
        command.pre_exec(move || {
            if libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGTERM) != 0 {
                return Err(io::Error::last_os_error());
            }
            // We may have died before the wish was made.
            if libc::getppid() != parent {
                libc::_exit(1);
            }
            Ok(())
        })
    }
}

/// Orphans below this process come to it instead of to init, so that they can be found and ended.
pub fn adopt_orphans() {
    // SAFETY: sets one flag of this process.
    unsafe {
        libc::prctl(libc::PR_SET_CHILD_SUBREAPER, 1);
    }
}

/// Every process below `root`, nearest first.
pub fn below(root: i32) -> Vec<i32> {
    let mut children: HashMap<i32, Vec<i32>> = HashMap::new();
    for entry in std::fs::read_dir("/proc").into_iter().flatten().flatten() {
        let Some(pid) = entry.file_name().to_str().and_then(|n| n.parse::<i32>().ok()) else {
            continue;
        };
        // "pid (name) state ppid …": the name may hold anything, so look behind its last bracket.
        let parent = std::fs::read_to_string(entry.path().join("stat")).ok().and_then(|s| {
            s.rsplit_once(')')
                .and_then(|(_, rest)| rest.split_whitespace().nth(1)?.parse::<i32>().ok())
        });
        if let Some(parent) = parent {
            children.entry(parent).or_default().push(pid);
        }
    }
    let mut found = Vec::new();
    let mut next = vec![root];
    while let Some(pid) = next.pop() {
        for child in children.remove(&pid).unwrap_or_default() {
            found.push(child);
            next.push(child);
        }
    }
    found
}

/// Sends a signal; a process that is gone already is no error.
pub fn signal(pid: i32, signal: i32) {
    // SAFETY: kill takes two numbers; pids come from processes of ours.
    unsafe {
        libc::kill(pid, signal);
    }
}

/// Asks every process below us to end, and ends those that have not after `patience`.
pub fn end_all(patience: Duration) {
    let us = std::process::id() as i32;
    let until = Instant::now() + patience;
    below(us).into_iter().for_each(|pid| signal(pid, libc::SIGTERM));
    loop {
        reap();
        let left = below(us);
        if left.is_empty() {
            return;
        }
        if Instant::now() > until {
            left.into_iter().for_each(|pid| signal(pid, libc::SIGKILL));
        }
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// Ends these processes, and takes note of those that came to us as orphans.
pub fn end_these(pids: &[i32]) {
    pids.iter().for_each(|pid| signal(*pid, libc::SIGKILL));
    for _ in 0..20 {
        let gone = |pid: &i32| {
            // SAFETY: waitpid with no status to write to; on a stranger it only fails.
            unsafe { libc::waitpid(*pid, std::ptr::null_mut(), libc::WNOHANG) != 0 }
        };
        if pids.iter().all(gone) {
            return;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// Takes note of children that have ended.
pub fn reap() {
    // SAFETY: waitpid with no status to write to.
    unsafe { while libc::waitpid(-1, std::ptr::null_mut(), libc::WNOHANG) > 0 {} }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::process::Stdio;

    fn runs(pid: i32) -> bool {
        let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
        // What has ended and waits for somebody to take note of it runs no more.
        let state = stat.rsplit_once(')').map_or("", |(_, rest)| rest.trim_start());
        !stat.is_empty() && !state.starts_with('Z')
    }

    fn wait_until(says: &str, is: impl Fn() -> bool) {
        let until = Instant::now() + Duration::from_secs(20);
        while !is() {
            assert!(Instant::now() < until, "{says}");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// A shell that has a child of its own; both sleep.
    fn family() -> (std::process::Child, i32) {
        let mut command = Command::new("sh");
        command.args(["-c", "sleep 300 & wait"]).stdout(Stdio::null());
        let parent = bind_to_us(&mut command).spawn().expect("a shell");
        let id = parent.id() as i32;
        wait_until("the shell has begun its child", || !below(id).is_empty());
        let child = below(id)[0];
        (parent, child)
    }

    // One test: whoever asks for all processes below this one would find those of others.
    #[test]
    fn what_is_below_a_process_is_found_and_ended_with_it_and_orphans_are_not_lost() {
        let us = std::process::id() as i32;
        let (mut parent, child) = family();
        let id = parent.id() as i32;
        assert!(below(us).contains(&id) && below(us).contains(&child), "nearest first");
        assert!(!below(child).contains(&id), "nobody is below their child");
        end_these(&[child]);
        wait_until("the child has ended", || !runs(child));
        wait_until("the shell has noticed", || !runs(id));
        parent.wait().expect("ended");
        // It is gone already: no error.
        signal(id, libc::SIGTERM);

        // A child whose parent dies comes to us, and is found there.
        adopt_orphans();
        let (mut parent, child) = family();
        parent.kill().expect("killed");
        parent.wait().expect("ended");
        wait_until("it is ours", || below(us).contains(&child));
        assert!(runs(child));
        end_all(Duration::from_millis(200));
        assert!(!runs(child) && below(us).is_empty());
    }

    #[test]
    fn nothing_is_below_what_is_not_there() {
        assert!(below(i32::MAX).is_empty());
    }
}
