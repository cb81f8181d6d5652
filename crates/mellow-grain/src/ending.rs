//! How the program ends: the first SIGTERM or SIGINT asks it to, and renders are stopped and put away; the second one ends it at
//! once.

use fault::Fault;
use std::time::Duration;
use tokio::signal::unix::{Signal, SignalKind, signal};
use workshop::Workshop;

/// Putting away may take so long; with the rest the program ends within 5 s.
const LEAVE: Duration = Duration::from_millis(4500);

struct Signals(Signal, Signal);

impl Signals {
    fn listen() -> std::io::Result<Signals> {
        Ok(Signals(signal(SignalKind::terminate())?, signal(SignalKind::interrupt())?))
    }

    async fn next(&mut self) {
        tokio::select! { _ = self.0.recv() => {}, _ = self.1.recv() => {} }
    }
}

/// Works until it is done, or until the program is asked to end: then the bench is closed. True if the work was done.
pub fn work_until_asked(
    workshop: &Workshop,
    work: impl FnOnce() -> Result<(), Fault> + Send + 'static,
) -> Result<bool, Fault> {
    let runtime = tokio::runtime::Runtime::new().map_err(|e| Fault::io("runtime", &e))?;
    let worked = runtime.block_on(async {
        let mut asked = Signals::listen().map_err(|e| Fault::io("signals", &e))?;
        tokio::select! {
            done = tokio::task::spawn_blocking(work) => {
                done.map_err(|e| Fault::internal(e.to_string(), "thread"))??;
                return Ok(true);
            }
            () = asked.next() => {}
        }
        eprintln!("\nmellow-grain: ending, what renders is put away; a second signal ends at once");
        let closing = workshop.clone();
        tokio::select! {
            closed = tokio::task::spawn_blocking(move || closing.close(LEAVE)) => {
                if !closed.map_err(|e| Fault::internal(e.to_string(), "thread"))?? {
                    eprintln!("mellow-grain: not all could be put away in time; it is as it was put away last");
                }
            }
            () = asked.next() => std::process::exit(130),
        }
        Ok(false)
    });
    // Whatever still runs is not waited for.
    runtime.shutdown_background();
    worked
}
