//! A page becomes a PDF in a browser of ours, which reaches nothing; the page's own policy lets no script run.

use cadentis_processes::chromium;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;
use tokio::process::Command;
use tokio::sync::Semaphore;
use uuid::Uuid;

/// One browser at a time: a PDF is made in half a second, and a browser takes memory.
static PRINTER: Semaphore = Semaphore::const_new(1);
/// Whoever waits for a PDF does so for so long, with all that are before.
const PATIENCE: Duration = Duration::from_secs(30);
/// A page is so large at most.
const LARGEST: usize = 8 << 20;

/// Why there is no PDF.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum PrintError {
    #[error(
        "no Chromium could be started on this server ({0}): print the page from your browser instead"
    )]
    NoBrowser(std::io::Error),
    #[error("the PDF was not ready within {} s: try again, or print the page from your browser", PATIENCE.as_secs())]
    Late,
    #[error("a document of more than {} MB is not printed", LARGEST >> 20)]
    TooLarge,
    #[error("the browser made no PDF: print the page from your browser instead")]
    Nothing,
    #[error("a folder to print in: {0}")]
    Folder(std::io::Error),
}

/// A folder that is gone when its owner is.
struct Folder(PathBuf);

impl Drop for Folder {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.0);
    }
}

/// The PDF of a page that asks for nothing else: tagged, with its headings as an outline.
///
/// # Errors
/// When no browser is there, or it takes too long.
pub async fn pdf(html: &str) -> Result<Vec<u8>, PrintError> {
    if html.len() > LARGEST {
        return Err(PrintError::TooLarge);
    }
    let printing = async {
        let Ok(_turn) = PRINTER.acquire().await else { return Err(PrintError::Nothing) };
        printed(html, chromium::slim().unwrap_or("chromium")).await
    };
    tokio::time::timeout(PATIENCE, printing).await.map_err(|_| PrintError::Late)?
}

async fn printed(html: &str, browser: &str) -> Result<Vec<u8>, PrintError> {
    let folder = Folder(std::env::temp_dir().join(format!(
        "cadentis-paper-{}-{}",
        std::process::id(),
        Uuid::new_v4()
    )));
    make_private(&folder.0).map_err(PrintError::Folder)?;
    let (page, paper) = (folder.0.join("page.html"), folder.0.join("page.pdf"));
    tokio::fs::write(&page, html).await.map_err(PrintError::Folder)?;
    let mut command = Command::new(browser);
    command
        .args(chromium::flags())
        .arg(format!("--user-data-dir={}", folder.0.join("profile").display()))
        .args([
            "--no-pdf-header-footer",
            "--generate-pdf-document-outline",
            "--host-resolver-rules=MAP * ~NOTFOUND",
        ])
        .arg(format!("--print-to-pdf={}", paper.display()))
        .arg(format!("file://{}", page.display()))
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .kill_on_drop(true);
    cadentis_processes::bind_to_us(command.as_std_mut());
    let mut browser = command.spawn().map_err(PrintError::NoBrowser)?;
    browser.wait().await.map_err(PrintError::NoBrowser)?;
    match tokio::fs::read(&paper).await {
        Ok(pdf) if pdf.starts_with(b"%PDF") => Ok(pdf),
        _ => Err(PrintError::Nothing),
    }
}

/// A folder that nobody else reads: what is printed is not everybody's.
fn make_private(folder: &std::path::Path) -> std::io::Result<()> {
    use std::os::unix::fs::DirBuilderExt;
    std::fs::DirBuilder::new().mode(0o700).create(folder)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn without_a_browser_or_with_one_that_makes_nothing_it_is_said_why_and_no_folder_stays() {
        let no = printed("<p>", "/nowhere/chromium").await.expect_err("no browser");
        assert!(no.to_string().contains("print the page from your browser"), "{no}");
        let nothing = printed("<p>", "true").await.expect_err("no PDF");
        assert!(matches!(nothing, PrintError::Nothing), "{nothing}");
        assert!(matches!(pdf(&"x".repeat(LARGEST + 1)).await, Err(PrintError::TooLarge)));
        let ours = format!("cadentis-paper-{}-", std::process::id());
        let left = std::fs::read_dir(std::env::temp_dir()).expect("a folder").flatten();
        assert!(!left.into_iter().any(|f| f.file_name().to_string_lossy().starts_with(&ours)));
    }
}
