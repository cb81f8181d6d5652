//! HTTP and WebSocket over the workshop. Listens on loopback unless told otherwise; pages of other sites cannot drive it, and who
//! comes from beyond the machine needs its key.

mod failure;
mod guard;
mod library_routes;
mod page;
mod routes;
mod serving;
mod socket;
pub mod types;

pub use failure::Failure;
pub use guard::Door;
pub use serving::Limits;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::middleware;
use fault::Fault;
use std::net::{SocketAddr, TcpListener};
use std::sync::Arc;
use tokio::sync::{Semaphore, broadcast};
use tower_http::set_header::SetResponseHeaderLayer;
use tower_http::timeout::RequestBodyTimeoutLayer;
use workshop::Workshop;

/// Largest body that is held in memory; files stream to disk.
const MOST_BODY: usize = 4 << 20;

#[derive(Clone)]
pub(crate) struct App {
    pub workshop: Workshop,
    /// Events as JSON text.
    pub events: broadcast::Sender<Arc<str>>,
    pub address: SocketAddr,
    pub door: Arc<Door>,
    pub limits: Limits,
    /// Requests that may be worked on.
    pub at_work: Arc<Semaphore>,
    /// Pages that may listen.
    pub sockets: Arc<Semaphore>,
}

/// Takes an address to listen on. Whoever calls it waits until a server answers.
pub fn listen(address: SocketAddr) -> Result<TcpListener, Fault> {
    let place = address.to_string();
    let listener = TcpListener::bind(address).map_err(|e| match e.kind() {
        std::io::ErrorKind::AddrInUse => Fault::new(
            fault::Code::Busy,
            "another program listens there already",
            place.clone(),
            "end it, or choose another port with --listen 127.0.0.1:PORT",
        ),
        _ => Fault::io(place.clone(), &e),
    })?;
    listener.set_nonblocking(true).map_err(|e| Fault::io(place, &e))?;
    Ok(listener)
}

/// A server that is not yet answering.
pub struct Server {
    listener: TcpListener,
    app: App,
}

impl Server {
    pub fn new(workshop: Workshop, listener: TcpListener, door: Door, limits: Limits) -> Result<Server, Fault> {
        let address = listener.local_addr().map_err(|e| Fault::io("address", &e))?;
        let (events, _) = broadcast::channel(256);
        let sender = events.clone();
        workshop.listen(move |e| {
            if let Ok(text) = serde_json::to_string(e) {
                // Nobody listening is fine.
                let _ = sender.send(text.into());
            }
        });
        let (at_work, sockets) = (Arc::new(Semaphore::new(limits.at_work)), Arc::new(Semaphore::new(limits.sockets)));
        Ok(Server { listener, app: App { workshop, events, address, door: Arc::new(door), limits, at_work, sockets } })
    }

    pub fn address(&self) -> SocketAddr {
        self.app.address
    }

    /// Answers for as long as it is waited for.
    pub async fn run(self) -> Result<(), Fault> {
        let listener = tokio::net::TcpListener::from_std(self.listener).map_err(|e| Fault::io("server", &e))?;
        let limits = self.app.limits;
        let router: Router = routes::api()
            .merge(library_routes::api())
            .route("/api/events", axum::routing::get(socket::events))
            .fallback(page::serve)
            .method_not_allowed_fallback(failure::wrong_method)
            .layer(DefaultBodyLimit::max(MOST_BODY))
            .layer(RequestBodyTimeoutLayer::new(limits.piece))
            .layer(middleware::from_fn_with_state(self.app.clone(), guard::check))
            .layer(middleware::from_fn_with_state(limits, serving::hear_out))
            .layer(middleware::from_fn(serving::log))
            .with_state(self.app);
        let router = guard::headers()
            .into_iter()
            .fold(router, |router, (name, value)| router.layer(SetResponseHeaderLayer::overriding(name, value)));
        serving::serve(listener, router, limits).await
    }
}
