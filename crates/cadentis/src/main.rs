//! The `cadentis` command.

mod asking;
mod demo;
mod gate;
mod marker;
mod play;
mod rekey;
mod runner;
mod scripts;
mod seed;
mod serve;
mod settings;
mod stats;
mod world;

use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};
use std::process::ExitCode;

// A beacon and a page are thousands of small pieces of memory each.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

#[derive(Parser)]
#[command(
    name = "cadentis",
    version,
    about = "Scripted journeys and real users' timings, judged against budgets and goals"
)]
struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Pages, API and intake
    Serve(Box<serve::Args>),
    /// Make a key that secrets are sealed with
    NewKey(rekey::NewKey),
    /// Seal every secret anew, with a new key
    Rekey(rekey::Rekey),
    /// Play journeys for one or more locations, for ever
    Runner(runner::Args),
    /// Play one script and say what happened
    Play(play::Args),
    /// Pin a release, a change or a note to a site's time axis
    Marker(marker::Args),
    /// Say whether what is to be released is surely slower than what is live
    Gate(gate::Args),
    /// Write a site's scripts into a folder
    Pull(scripts::Args),
    /// Save what was changed in a folder of scripts as next versions
    Push(scripts::PushArgs),
    /// Percentiles with intervals, Apdex and a histogram of numbers from a file or standard input
    Stats(stats::Args),
    /// The whole made-up ferry line: database, server, site, networks, visitors, runners
    Demo(demo::Args),
    /// Write the demo's thirty days of history into an empty database
    Seed(seed::Args),
    /// The stand-ins of the demo: booking site, networks, visitors
    World(world::Args),
}

fn main() -> ExitCode {
    let filter = tracing_subscriber::EnvFilter::try_from_env("CADENTIS_LOG")
        .unwrap_or_else(|_| "info,sqlx=warn,thirtyfour=warn,actix_server=warn".into());
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).init();
    // Two providers end up in the tree and rustls will not choose between them.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let done = settings::settled(std::env::args_os().collect()).and_then(run);
    done.unwrap_or_else(|e| {
        eprintln!("cadentis: {e}");
        ExitCode::FAILURE
    })
}

fn run(settled: settings::Settled) -> Result<ExitCode, Failure> {
    let matches = Cli::command().get_matches_from(&settled.line);
    let cli = Cli::from_arg_matches(&matches).unwrap_or_else(|e| e.exit());
    match cli.command {
        Command::Serve(args) => {
            args.check()?;
            if let Some(matches) = matches.subcommand_matches("serve").filter(|_| args.print_config)
            {
                print!("{}", settings::printed(matches, &settled.from_file));
                return Ok(ExitCode::SUCCESS);
            }
            runtime().block_on(serve::serve(*args)).map(|()| ExitCode::SUCCESS)
        }
        Command::NewKey(args) => rekey::make(&args).map(|()| ExitCode::SUCCESS),
        Command::Rekey(args) => runtime().block_on(rekey::rekey(args)).map(|()| ExitCode::SUCCESS),
        Command::Seed(args) => runtime().block_on(seed::seed(args)).map(|()| ExitCode::SUCCESS),
        Command::World(args) => runtime().block_on(world::world(args)).map(|()| ExitCode::SUCCESS),
        Command::Runner(args) => {
            runtime().block_on(runner::runner(args)).map(|()| ExitCode::SUCCESS)
        }
        Command::Play(args) => runtime().block_on(play::play(args)),
        Command::Marker(args) => runtime().block_on(marker::marker(args)),
        Command::Gate(args) => runtime().block_on(gate::gate(args)),
        Command::Pull(args) => runtime().block_on(scripts::pull(args)),
        Command::Push(args) => runtime().block_on(scripts::push(args)),
        Command::Stats(args) => stats::stats(args),
        Command::Demo(args) => demo::demo(args),
    }
}

/// What a command may fail with; it ends as one line on standard error.
type Failure = Box<dyn std::error::Error + Send + Sync>;

fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_multi_thread()
        .worker_threads(2)
        .enable_all()
        .build()
        .expect("threads can be started at the beginning of a program")
}

/// Ends on Ctrl-C or SIGTERM.
async fn asked_to_end() {
    use tokio::signal::unix::{SignalKind, signal};
    match (signal(SignalKind::terminate()), signal(SignalKind::interrupt())) {
        (Ok(mut term), Ok(mut int)) => {
            tokio::select! { _ = term.recv() => {}, _ = int.recv() => {} }
        }
        _ => std::future::pending().await,
    }
}
