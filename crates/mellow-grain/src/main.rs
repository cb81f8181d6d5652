//! The program: serves the bench, renders, lists knobs and compares pictures.

mod ending;
mod headless;
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

fn main() -> ExitCode {
    let done = match Arguments::parse().command {
        Command::Serve { demo, data, listen } => serve(demo, data, listen),
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
fn serve(demo: bool, data: PathBuf, listen: SocketAddr) -> Result<(), Fault> {
    let listener = server::listen(listen)?;
    let workshop = workshop::Workshop::open(&data)?;
    let serving = workshop.clone();
    ending::work_until_asked(&workshop, move || {
        if demo {
            serving.prepare_demo(workshop::DemoSize::Full, &mut |line| println!("{line}"))?;
        }
        let server = server::Server::new(serving, listener)?;
        println!("Mellow Grain is ready at http://{}", server.address());
        tokio::runtime::Handle::current().block_on(server.run())
    })
    .map(|_| ())
}
