//! The headless Chromium of ours, and the flags that each is started with.

/// Chromium without a desktop around it, if it is installed: the same engine and network, and it starts in a fifth
/// of the time and CPU of the one with windows, toolbars and extensions.
const SLIM: &str = "/usr/lib/chromium/chromium-headless-shell";

/// What a driver calls it.
pub const SLIM_NAME: &str = "chrome-headless-shell";

/// The browser to play runs in, when it is not the driver's own choice.
pub fn slim() -> Option<&'static str> {
    std::path::Path::new(SLIM).exists().then_some(SLIM)
}

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
