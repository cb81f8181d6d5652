//! The program: serves the bench, renders, lists knobs and compares pictures.

mod ending;
mod headless;
mod logging;
mod render;
mod show;

use clap::{Parser, Subcommand};
use fault::Fault;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;

#[derive(Parser)]
#[command(name = "mellow-grain", version, about = "A bench for tuning path-traced stills to a time budget")]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Serve the bench to a browser on this machine.
    Serve {
        /// Prepare the Tarnfell scenes and shots if they are not there yet.
        #[arg(long)]
        demo: bool,
        /// Folder for shots, proofs, finals and scenes.
        #[arg(long, default_value = "data")]
        data: PathBuf,
        /// Address to listen on; port 0 takes a free one.
        #[arg(long, default_value = "127.0.0.1:7420")]
        listen: SocketAddr,
        /// A name by which browsers reach this machine, where it listens beyond it; may be given more than once.
        #[arg(long)]
        host: Vec<String>,
        /// Make a new access key; the old one opens nothing any more.
        #[arg(long)]
        new_key: bool,
        /// How much of its work the program writes to stderr; the files in the data folder's `logs` always hold a line a request.
        #[arg(long, default_value = "warn")]
        log: logging::Level,
    },
    /// Render a picture from a scene.
    Render(Box<render::Options>),
    /// Render the finals of an exported shot; the same command goes on where it was broken off.
    Final(Box<headless::Options>),
    /// List all knobs with range, default and help.
    Knobs {
        #[arg(long)]
        json: bool,
    },
    /// Differences between two pictures of one size: RMSE, relative MSE, PSNR, SSIM, FLIP.
    Compare {
        a: PathBuf,
        b: PathBuf,
        #[arg(long)]
        json: bool,
    },
}

/// Whether the processor has the instructions that the program is built for (`.cargo/config.toml`). Asked by itself, since the
/// library takes for granted what it was built for.
fn processor_suffices() -> bool {
    #[cfg(all(target_arch = "x86_64", target_feature = "avx2"))]
    {
        use std::arch::x86_64::__cpuid_count;
        // Bits of leaf 7 (AVX2, BMI1, BMI2) and of leaf 1 (FMA, MOVBE, F16C) that x86-64-v3 asks for beside what comes with them.
        const OF_7: u32 = 1 << 5 | 1 << 3 | 1 << 8;
        const OF_1: u32 = 1 << 12 | 1 << 22 | 1 << 29;
        __cpuid_count(0, 0).eax >= 7 && __cpuid_count(7, 0).ebx & OF_7 == OF_7 && __cpuid_count(1, 0).ecx & OF_1 == OF_1
    }
    #[cfg(not(all(target_arch = "x86_64", target_feature = "avx2")))]
    true
}

fn main() -> ExitCode {
    if !processor_suffices() {
        eprintln!(
            "mellow-grain: the program was built for processors with AVX2 (x86-64-v3), which this one lacks: build it with RUSTFLAGS=\"\""
        );
        return ExitCode::FAILURE;
    }
    let command = Arguments::parse().command;
    if !matches!(command, Command::Serve { .. }) {
        logging::begin_plain();
    }
    let done = match command {
        Command::Serve { demo, data, listen, host, new_key, log } => serve(demo, data, listen, host, new_key, log),
        Command::Render(options) => render::run(&options),
        Command::Final(options) => headless::run(&options),
        Command::Knobs { json } => show::knobs(json),
        Command::Compare { a, b, json } => show::compare(&a, &b, json),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(f) => {
            eprintln!("mellow-grain: {}: {}\n  remedy: {}", f.place, f.what, f.remedy);
            ExitCode::FAILURE
        }
    }
}

/// The port is taken before the folder is touched.
fn serve(
    demo: bool,
    data: PathBuf,
    listen: SocketAddr,
    hosts: Vec<String>,
    new_key: bool,
    log: logging::Level,
) -> Result<(), Fault> {
    let listener = server::listen(listen)?;
    let workshop = workshop::Workshop::open(&data)?;
    let _log = logging::begin(&data, log)?;
    let name = hosts.first().cloned();
    let (door, query) = door(&workshop, listen, hosts, new_key)?;
    let serving = workshop.clone();
    ending::work_until_asked(&workshop, move || {
        if demo {
            serving.prepare_demo(workshop::DemoSize::Full, &mut |line| println!("{line}"))?;
        }
        let server = server::Server::new(serving, listener, door, server::Limits::default())?;
        let address = server.address();
        let shown = match name {
            Some(name) => name,
            None if address.ip().is_unspecified() => format!("localhost:{}", address.port()),
            None => address.to_string(),
        };
        println!("Mellow Grain is ready at http://{shown}{query}");
        tokio::runtime::Handle::current().block_on(server.run())
    })
    .map(|_| ())
}

/// Who may come in, and what the address ends in: the access key, once, where the bench can be reached from beyond this machine,
/// by its address or through a proxy under another name.
fn door(
    workshop: &workshop::Workshop,
    listen: SocketAddr,
    hosts: Vec<String>,
    new_key: bool,
) -> Result<(server::Door, String), Fault> {
    const KEPT: &str = "access.cookie";
    if listen.ip().is_loopback() && hosts.is_empty() {
        return Ok((server::Door::default(), String::new()));
    }
    if !listen.ip().is_loopback() {
        eprintln!(
            "mellow-grain: the way to {listen} is not encrypted: whoever listens in on it can read along and use the key. Put a proxy \
         with TLS in front, give its name with --host and let this program listen on 127.0.0.1 (see docs/guide.md, \"Beyond this \
         machine\")."
        );
    }
    let kept = workshop.note(KEPT).and_then(|text| text.parse().ok()).filter(|_| !new_key);
    if kept.is_some() {
        println!("The access key is the one that was printed before; --new-key makes another.");
        return Ok((server::Door { hosts, cookie: kept }, String::new()));
    }
    let (key, cookie) = server::Door::new_key()?;
    workshop.set_note(KEPT, cookie.to_hex().as_str())?;
    Ok((server::Door { hosts, cookie: Some(cookie) }, format!("/?key={key}")))
}
