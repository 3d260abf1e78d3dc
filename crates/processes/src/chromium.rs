//! The flags that every headless Chromium of ours is started with.

/// Quiet, headless, without calls to anywhere; without its sandbox only as root, to whom Chromium
/// refuses it.
pub fn flags() -> Vec<&'static str> {
    let mut flags = vec![
        "--headless=new",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--disable-dev-shm-usage",
    ];
    // SAFETY: geteuid cannot fail.
    if unsafe { libc::geteuid() } == 0 {
        flags.push("--no-sandbox");
    }
    flags
}
