//! Events to pages over a WebSocket: JSON text, one event a message.

use crate::{App, Failure};
use axum::extract::State;
use axum::extract::ws::rejection::WebSocketUpgradeRejection;
use axum::extract::ws::{Message, WebSocket, WebSocketUpgrade};
use axum::response::Response;
use fault::{Code, Fault};
use tokio::sync::broadcast::error::RecvError;

pub async fn events(
    State(app): State<App>,
    upgrade: Result<WebSocketUpgrade, WebSocketUpgradeRejection>,
) -> Result<Response, Failure> {
    let place = app.sockets.clone().try_acquire_owned().map_err(|_| {
        Fault::new(Code::Busy, "too many pages of this bench are open", "events", "close some of them, then reload")
    })?;
    Ok(upgrade?.on_upgrade(move |socket| async move {
        forward(app, socket).await;
        drop(place);
    }))
}

async fn forward(app: App, mut socket: WebSocket) {
    let mut events = app.events.subscribe();
    // A page that comes back in the middle of a test sees it at once.
    if let Some(text) = app.workshop.test_progress().and_then(|e| serde_json::to_string(&e).ok())
        && socket.send(Message::text(text)).await.is_err()
    {
        return;
    }
    loop {
        tokio::select! {
            event = events.recv() => match event {
                Ok(text) => {
                    if socket.send(Message::text(text.as_ref())).await.is_err() {
                        return;
                    }
                }
                // A page that has missed something is hung up on: it comes back and reads everything anew.
                Err(RecvError::Lagged(_) | RecvError::Closed) => return,
            },
            message = socket.recv() => match message {
                Some(Ok(_)) => {}
                _ => return,
            },
        }
    }
}
