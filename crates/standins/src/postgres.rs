//! A private PostgreSQL server from Debian's packages, on a free loopback port.
//!
//! PostgreSQL refuses to run as root; as root it runs as the user `postgres`, which the package
//! makes.

use cadentis_processes as children;
use std::ffi::CString;
use std::fs;
use std::io::{Error, ErrorKind, Result};
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::LazyLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

pub struct Cluster {
    server: Child,
    port: u16,
    /// Removed at the end when it was only lent.
    scratch: Option<PathBuf>,
}

/// What a cluster is for.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Care {
    /// The data matters: every commit reaches the disk.
    Durable,
    /// For tests that do not pull the plug: quicker.
    Scratch,
}

fn programs() -> Result<PathBuf> {
    let mut versions: Vec<PathBuf> = fs::read_dir("/usr/lib/postgresql")
        .map_err(|_| {
            Error::new(
                ErrorKind::NotFound,
                "PostgreSQL is not installed (Debian package postgresql)",
            )
        })?
        .flatten()
        .map(|e| e.path().join("bin"))
        .filter(|p| p.join("initdb").exists())
        .collect();
    versions.sort();
    versions
        .pop()
        .ok_or_else(|| Error::new(ErrorKind::NotFound, "no initdb under /usr/lib/postgresql"))
}

/// The user to run as when we are root.
fn other_user() -> Result<Option<(u32, u32)>> {
    // SAFETY: geteuid has no failure; getpwnam's answer is copied before any other call.
    unsafe {
        if libc::geteuid() != 0 {
            return Ok(None);
        }
        let name = CString::new("postgres")?;
        let user = libc::getpwnam(name.as_ptr());
        if user.is_null() {
            return Err(Error::new(ErrorKind::NotFound, "no user postgres"));
        }
        Ok(Some(((*user).pw_uid, (*user).pw_gid)))
    }
}

/// Where the ports begin that are looked at; what the system gives to outgoing connections begins above.
const PORTS_FROM: u16 = 10_000;

/// The first port that the system gives to outgoing connections.
fn first_outgoing() -> u16 {
    fs::read_to_string("/proc/sys/net/ipv4/ip_local_port_range")
        .ok()
        .and_then(|range| range.split_whitespace().next()?.parse().ok())
        .unwrap_or(32_768)
}

/// A loopback port that nothing listens on now, that this process was not given before, and that no outgoing connection
/// gets meanwhile: whoever asks may listen on it half a minute later.
pub fn free_port() -> Result<u16> {
    static NEXT: LazyLock<AtomicU32> = LazyLock::new(|| {
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
        AtomicU32::new(now.map_or(0, |n| n.subsec_nanos()) ^ std::process::id().rotate_left(16))
    });
    let many = u32::from(first_outgoing().saturating_sub(PORTS_FROM));
    for _ in 0..many {
        let at = NEXT.fetch_add(1, Ordering::Relaxed) % many;
        let port = PORTS_FROM + u16::try_from(at).map_err(Error::other)?;
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return Ok(port);
        }
    }
    // A machine that gives away all of them.
    Ok(TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}

impl Cluster {
    /// Starts the cluster whose data lie in `folder`, making it first if it is not there.
    ///
    /// # Errors
    /// When PostgreSQL is not installed, the folder cannot be written, or the server does not
    /// answer within a minute; its last words are part of the error.
    pub fn start(folder: &Path, care: Care) -> Result<Cluster> {
        let bin = programs()?;
        let user = other_user()?;
        fs::create_dir_all(folder)?;
        if let Some((uid, gid)) = user {
            chown(folder, Some(uid), Some(gid))?;
            open_the_way(folder)?;
        }
        let as_user = |program: &str| {
            let mut c = Command::new(bin.join(program));
            if let Some((uid, gid)) = user {
                c.uid(uid).gid(gid);
            }
            c.current_dir(folder).stdin(Stdio::null()).env("LC_ALL", "C.UTF-8");
            c
        };
        let data = folder.join("data");
        if !data.join("PG_VERSION").exists() {
            let made = as_user("initdb")
                .args([
                    "--no-sync",
                    "--auth=trust",
                    "--encoding=UTF8",
                    "--locale=C.UTF-8",
                    "-U",
                    "cadentis",
                    "-D",
                ])
                .arg(&data)
                .output()?;
            if !made.status.success() {
                return Err(Error::other(format!(
                    "initdb: {}",
                    String::from_utf8_lossy(&made.stderr)
                )));
            }
        }
        let port = free_port()?;
        let log_path = folder.join("server.log");
        let log = fs::File::create(&log_path)?;
        if let Some((uid, gid)) = user {
            chown(&log_path, Some(uid), Some(gid))?;
        }
        let mut command = as_user("postgres");
        command.arg("-D").arg(&data).args(["-p", &port.to_string(), "-h", "127.0.0.1", "-k", ""]);
        let mut settings = vec![
            "shared_buffers=512MB",
            "max_wal_size=4GB",
            "work_mem=32MB",
            "jit=off",
            "max_connections=60",
            "random_page_cost=1.1",
        ];
        if care == Care::Scratch {
            settings.extend([
                "fsync=off",
                "synchronous_commit=off",
                "full_page_writes=off",
                "shared_buffers=64MB",
            ]);
        }
        for setting in settings {
            command.args(["-c", setting]);
        }
        command.stdout(log.try_clone()?).stderr(log);
        children::bind_to_us(&mut command);
        let mut cluster = Cluster { server: command.spawn()?, port, scratch: None };
        cluster.wait_until_ready(&bin, &log_path)?;
        Ok(cluster)
    }

    /// A cluster for one test program, in a folder of its own that goes with it.
    ///
    /// # Errors
    /// As [`Cluster::start`].
    pub fn scratch() -> Result<Cluster> {
        sweep();
        let folder =
            std::env::temp_dir().join(format!("{SCRATCH}{}-{}", std::process::id(), free_port()?));
        let (say, hear) = std::sync::mpsc::channel();
        // The server ends with the thread that started it, and a test's thread ends with its test.
        std::thread::spawn(move || {
            let started = Cluster::start(&folder, Care::Scratch).map(|mut c| {
                c.scratch = Some(folder);
                c
            });
            let _ = say.send(started);
            loop {
                std::thread::park();
            }
        });
        hear.recv().map_err(Error::other)?
    }

    fn wait_until_ready(&mut self, bin: &Path, log: &Path) -> Result<()> {
        let until = Instant::now() + Duration::from_secs(60);
        loop {
            let ready = TcpStream::connect(("127.0.0.1", self.port)).is_ok()
                && Command::new(bin.join("pg_isready"))
                    .args(["-q", "-h", "127.0.0.1", "-p", &self.port.to_string()])
                    .status()?
                    .success();
            if ready {
                return Ok(());
            }
            let ended = self.server.try_wait()?;
            if ended.is_some() || Instant::now() > until {
                let words = fs::read_to_string(log).unwrap_or_default();
                let last: Vec<&str> = words.lines().rev().take(5).collect();
                return Err(Error::other(format!(
                    "PostgreSQL did not start: {}",
                    last.join(" | ")
                )));
            }
            std::thread::sleep(Duration::from_millis(40));
        }
    }

    /// A program of the same version, such as `pg_dump`.
    pub fn program(&self, name: &str) -> PathBuf {
        programs().unwrap_or_default().join(name)
    }

    /// The address of a database in this cluster; `postgres` is there from the beginning.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://cadentis@127.0.0.1:{}/{database}", self.port)
    }

    /// Kills one of its processes the hard way: the server throws all sessions out and recovers from its log by itself,
    /// as after a crash. Answers whether one was there.
    pub fn crash(&self) -> bool {
        let below = children::below(self.server.id() as i32);
        let victim = below.first().copied();
        victim.inspect(|pid| children::signal(*pid, libc::SIGKILL)).is_some()
    }

    pub fn pid(&self) -> u32 {
        self.server.id()
    }

    /// Whether the server process still runs.
    pub fn is_running(&mut self) -> bool {
        matches!(self.server.try_wait(), Ok(None))
    }

    /// Makes an empty database and gives its address.
    ///
    /// # Errors
    /// When `createdb` fails.
    pub fn create_database(&self, name: &str) -> Result<String> {
        let made = Command::new(programs()?.join("createdb"))
            .args(["-h", "127.0.0.1", "-U", "cadentis", "-p", &self.port.to_string(), name])
            .output()?;
        if made.status.success() {
            Ok(self.url(name))
        } else {
            Err(Error::other(format!("createdb: {}", String::from_utf8_lossy(&made.stderr))))
        }
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        // Fast shutdown: open sessions are ended, nothing committed is lost.
        children::signal(self.server.id() as i32, libc::SIGINT);
        let until = Instant::now() + Duration::from_secs(10);
        while Instant::now() < until {
            if !matches!(self.server.try_wait(), Ok(None)) {
                break;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.server.kill();
        let _ = self.server.wait();
        if let Some(folder) = &self.scratch {
            let _ = fs::remove_dir_all(folder);
        }
    }
}

const SCRATCH: &str = "cadentis-pg-";

/// Removes what test programs that are gone have left behind.
fn sweep() {
    for entry in fs::read_dir(std::env::temp_dir()).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let pid =
            name.strip_prefix(SCRATCH).and_then(|rest| rest.split('-').next()).map(str::to_string);
        if pid.is_some_and(|pid| !Path::new("/proc").join(pid).exists()) {
            let _ = fs::remove_dir_all(entry.path());
        }
    }
}

/// The other user must be able to walk down to the folder.
fn open_the_way(folder: &Path) -> Result<()> {
    for ancestor in folder.ancestors().skip(1) {
        let Ok(meta) = fs::metadata(ancestor) else { continue };
        let mode = meta.permissions().mode();
        if mode & 0o001 == 0 {
            eprintln!("letting the user postgres pass through {} (mode o+x)", ancestor.display());
            fs::set_permissions(ancestor, fs::Permissions::from_mode(mode | 0o001)).map_err(
                |e| {
                    Error::new(
                        e.kind(),
                        format!(
                            "{} cannot be entered by the user postgres: {e}",
                            ancestor.display()
                        ),
                    )
                },
            )?;
        }
    }
    Ok(())
}
